//! The tables of a base: the nodes, and the edges, of one label set, in columns and compressed sparse rows.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use crate::extents::Extents;
use crate::{Adjacency, Column, Dense, Direction, ElementId, LabelSet};

/// Stable ids of a table's elements, in row order.
#[derive(Clone, Debug)]
pub enum Ids {
    /// `start`, `start + 1`, ...
    Sequence(ElementId),
    Listed(Arc<[ElementId]>),
}

impl Ids {
    pub fn get(&self, row: usize) -> ElementId {
        match self {
            Ids::Sequence(start) => start + row as ElementId,
            Ids::Listed(ids) => ids[row],
        }
    }

    /// As compact as the ids allow.
    pub fn from_vec(ids: Vec<ElementId>) -> Ids {
        match ids.first() {
            Some(&start) if ids.iter().zip(start..).all(|(a, b)| *a == b) => Ids::Sequence(start),
            None => Ids::Sequence(0),
            _ => Ids::Listed(ids.into()),
        }
    }

    /// One more than the greatest id among the first `len`.
    pub fn bound(&self, len: usize) -> ElementId {
        match self {
            Ids::Sequence(start) => start + len as ElementId,
            Ids::Listed(ids) => ids.iter().max().map_or(0, |id| id + 1),
        }
    }
}

#[derive(Debug)]
pub struct NodeTable {
    pub labels: LabelSet,
    pub first: Dense,
    pub len: usize,
    pub ids: Ids,
    pub columns: Vec<(Arc<str>, Column)>,
    pub(crate) rows_by_id: OnceLock<HashMap<ElementId, u32>>,
}

#[derive(Debug)]
pub struct EdgeTable {
    pub labels: LabelSet,
    pub directed: bool,
    pub first: Dense,
    pub len: usize,
    pub ids: Ids,
    pub forward: Arc<Adjacency>,
    pub(crate) reverse: OnceLock<Adjacency>,
    pub columns: Vec<(Arc<str>, Column)>,
    pub(crate) rows_by_id: OnceLock<HashMap<ElementId, u32>>,
    pub(crate) extents: Extents,
}

pub(crate) fn find_column<'c>(columns: &'c [(Arc<str>, Column)], name: &str) -> Option<&'c Column> {
    columns.binary_search_by(|(n, _)| (**n).cmp(name)).ok().map(|i| &columns[i].1)
}

pub(crate) fn row_of(
    ids: &Ids, len: usize, lazily: &OnceLock<HashMap<ElementId, u32>>, id: ElementId,
) -> Option<u32> {
    match ids {
        Ids::Sequence(start) => {
            let row = id.checked_sub(*start)?;
            (row < len as u64).then_some(row as u32)
        }
        Ids::Listed(ids) => lazily
            .get_or_init(|| ids.iter().enumerate().map(|(row, id)| (*id, row as u32)).collect())
            .get(&id)
            .copied(),
    }
}

impl NodeTable {
    pub fn column(&self, name: &str) -> Option<&Column> {
        find_column(&self.columns, name)
    }
}

impl EdgeTable {
    pub fn column(&self, name: &str) -> Option<&Column> {
        find_column(&self.columns, name)
    }

    /// The edges by their targets. Of a graph that was opened just now they are made here, once, while whoever
    /// asks waits: on threads of their own, as a thread of the pool that waited by taking up other work could come
    /// to wait for itself.
    #[inline]
    pub fn reverse(&self) -> &Adjacency {
        self.reverse.get_or_init(|| made_apart(&self.forward))
    }

    /// Whether the rows by targets are there without being made.
    pub fn has_reverse(&self) -> bool {
        self.reverse.get().is_some()
    }

    /// The rows that `direction` looks at: forward, reverse; `None` where it looks at neither.
    pub fn sides(&self, direction: Direction) -> Option<(Option<&Adjacency>, Option<&Adjacency>)> {
        let (out, into) = if self.directed {
            (direction.takes_out(), direction.takes_in())
        } else {
            (direction.takes_undirected(), direction.takes_undirected())
        };
        (out || into).then(|| (out.then_some(&*self.forward), into.then(|| self.reverse())))
    }

    /// Source and target of the edge in row `position`.
    pub fn ends(&self, position: usize) -> (Dense, Dense) {
        (self.forward.owner(position), self.forward.neighbour(position))
    }
}

#[cold]
fn made_apart(forward: &Adjacency) -> Adjacency {
    std::thread::scope(|scope| {
        let made = scope.spawn(|| match rayon::ThreadPoolBuilder::new().build() {
            Ok(pool) => pool.install(|| forward.reversed()),
            Err(_) => forward.reversed(),
        });
        made.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

/// All tables of a base.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Tables<'t> {
    pub nodes: &'t [Arc<NodeTable>],
    pub edges: &'t [Arc<EdgeTable>],
    pub node_count: Dense,
}
