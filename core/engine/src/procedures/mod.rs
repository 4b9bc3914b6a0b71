//! Procedures callable in a query: every measure of `graphodrome_algorithms` over the graph or a part of it.

mod external;
mod given;
pub(crate) mod kept;
mod part;
mod registry;
mod text;

use std::sync::Arc;

use graphodrome_algorithms::{Ask, Stopped, Subgraph};
use graphodrome_language::Procedure;

use crate::batch::Vector;

pub use external::{ExternalCall, ExternalProcedure, set_external};
pub(crate) use given::Given;
pub use text::{MeasureRequest, measure};

pub use part::check_view;
pub(crate) use part::{Part, PartRequest};

/// Columns, all of one length.
pub type Table = Vec<Vector>;

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

/// How a measure is run.
pub(crate) type RunMeasure = fn(&Call<'_>) -> Result<Table, Stopped>;

#[derive(Debug)]
pub(crate) enum Run {
    Measure(RunMeasure),
    External(Arc<dyn ExternalProcedure>),
}

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

/// The procedure of this name, in whatever capitals: a measure before any other.
pub(crate) fn entry(name: &str) -> Option<Arc<Entry>> {
    let is_it = |e: &Arc<Entry>| e.procedure.name.eq_ignore_ascii_case(name);
    registry::entries().iter().find(|e| is_it(e)).cloned().or_else(|| external::all().into_iter().find(is_it))
}

/// All measures, by name.
pub fn measures() -> Arc<[Procedure]> {
    registry::procedures().clone()
}

/// All that can be called: the measures, and what was put beside them.
pub fn procedures() -> Arc<[Procedure]> {
    let external = external::all();
    if external.is_empty() {
        return measures();
    }
    measures().iter().cloned().chain(external.iter().map(|e| e.procedure.clone())).collect()
}
