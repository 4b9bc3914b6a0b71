//! What can be called by name in a query: every measure of `graphodrome_algorithms` as a procedure over the graph
//! or a part of it.

mod given;
pub(crate) mod kept;
mod part;
mod registry;
mod text;

use std::sync::Arc;

use graphodrome_algorithms::{Ask, Stopped, Subgraph};
use graphodrome_language::Procedure;

use crate::batch::Vector;

pub(crate) use given::Given;
pub use text::{MeasureRequest, measure};

pub use part::check_view;
pub(crate) use part::{Part, PartRequest};

/// Columns, all of one length.
pub(crate) type Table = Vec<Vector>;

/// What a measure is run with.
pub(crate) struct Call<'a> {
    pub graph: &'a Subgraph,
    pub given: &'a Given,
    /// The subgraph's number of a node of the graph.
    pub number: &'a (dyn Fn(u32) -> Option<u32> + Sync),
    pub ask: Ask<'a>,
    /// Accounts for bytes of a result that grows; they are given back when the measure ends.
    pub hold: &'a (dyn Fn(usize) -> Result<(), Stopped> + Sync),
}

pub(crate) type Run = fn(&Call<'_>) -> Result<Table, Stopped>;

/// Bytes that a measure holds beside its subgraph, for each node and each edge.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Holds {
    pub node: usize,
    pub edge: usize,
}

#[derive(Debug)]
pub(crate) struct Entry {
    pub procedure: Procedure,
    pub holds: Holds,
    /// Steps for each node and edge, for a plan's estimate.
    pub work: f64,
    pub run: Run,
}

/// The measure of this name, in whatever capitals.
pub(crate) fn entry(name: &str) -> Option<&'static Entry> {
    registry::entries().iter().find(|e| e.procedure.name.eq_ignore_ascii_case(name))
}

/// All that can be called, by name.
pub fn procedures() -> Arc<[Procedure]> {
    registry::procedures().clone()
}
