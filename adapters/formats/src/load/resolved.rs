//! Resolved rows of a load: new nodes and edges, and changes of existing ones.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use graphodrome_graph::{Column, Dense, LabelSet, Snapshot, Value, label_set};
use parking_lot::Mutex;

use crate::load::Progress;
use crate::load::existing::Changed;
use crate::load::index::{Index, NewEdge, NewNode};
use crate::load::plan::{KeySpace, LabelSource, TablePlan};
use crate::load::rows::{RawReject, RuleRead};

/// The new edges of a chunk: their ends, and their rows, which mostly are all of the chunk's.
#[derive(Debug, Default)]
pub(crate) struct ChunkEdges {
    pub chunk: u32,
    pub ends: Vec<(Dense, Dense)>,
    /// Absent where each edge's row is its place here.
    rows: Option<Vec<u32>>,
}

impl ChunkEdges {
    pub fn with_capacity(chunk: u32, rows: usize) -> ChunkEdges {
        ChunkEdges { chunk, ends: Vec::with_capacity(rows), rows: None }
    }

    pub fn len(&self) -> usize {
        self.ends.len()
    }

    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    #[inline]
    pub fn push(&mut self, ends: (Dense, Dense), row: u32) {
        let place = self.ends.len() as u32;
        if row != place || self.rows.is_some() {
            self.rows.get_or_insert_with(|| (0..place).collect()).push(row);
        }
        self.ends.push(ends);
    }

    #[inline]
    pub fn row(&self, place: usize) -> u32 {
        self.rows.as_ref().map_or(place as u32, |rows| rows[place])
    }

    pub fn edge(&self, place: usize) -> NewEdge {
        let (from, to) = self.ends[place];
        NewEdge { from, to, chunk: self.chunk, row: self.row(place) }
    }

    pub fn edges(&self) -> impl Iterator<Item = NewEdge> {
        (0..self.len()).map(|place| self.edge(place))
    }
}

/// The new edges of one rule that have one label set, chunk by chunk.
pub(crate) struct NewEdges {
    pub table: usize,
    pub rule: usize,
    pub labels: LabelSet,
    pub chunks: Vec<ChunkEdges>,
}

pub(crate) struct Resolved {
    /// New nodes are numbered from here on.
    pub existing: Dense,
    pub nodes: Vec<NewNode>,
    pub label_sets: Vec<LabelSet>,
    pub edges: Vec<NewEdges>,
    pub changed: Changed,
    /// Edges of the graph that rows have been found to be, where each row is an edge of its own.
    pub taken: Taken,
}

impl Resolved {
    pub fn place_of(&mut self, labels: LabelSet) -> u32 {
        match self.label_sets.iter().position(|s| *s == labels) {
            Some(place) => place as u32,
            None => {
                self.label_sets.push(labels);
                self.label_sets.len() as u32 - 1
            }
        }
    }
}

pub(crate) type Indexes = BTreeMap<KeySpace, Index>;

/// Rows between two questions whether to go on.
pub(super) const ASK_EVERY: usize = 1 << 14;

/// What all rows of a load are resolved in.
#[derive(Clone, Copy)]
pub(super) struct Within<'a> {
    pub plans: &'a [TablePlan],
    pub snapshot: &'a Snapshot,
    pub progress: &'a Progress,
}

/// What a rule's rows came to, kept apart while the tables are being looked at.
#[derive(Default)]
pub(super) struct Counts {
    pub made: u64,
    pub changed: u64,
    pub unchanged: u64,
    pub duplicates: u64,
    pub rejects: Vec<RawReject>,
}

impl Counts {
    pub fn add_to(self, read: &mut RuleRead) {
        read.made += self.made;
        read.changed += self.changed;
        read.unchanged += self.unchanged;
        read.duplicates += self.duplicates;
        self.rejects.into_iter().for_each(|r| read.reject(r));
    }
}

/// A rule's labels with those that a row gives.
pub(super) fn labels_of(fixed: &LabelSet, source: Option<&LabelSource>, own: Option<&str>) -> LabelSet {
    let split = source.and_then(|s| s.split.as_deref());
    let parts: Vec<&str> = match (own, split) {
        (None, _) => vec![],
        // Several labels out of a list; see `take_labels`.
        (Some(text), _) if text.contains('\0') => text.split('\0').collect(),
        (Some(text), Some(split)) => text.split(split).map(str::trim).filter(|p| !p.is_empty()).collect(),
        (Some(text), None) => vec![text],
    };
    label_set(fixed.iter().cloned().chain(parts.into_iter().map(Arc::from)))
}

/// Values of a row, for messages.
pub(super) fn shown(columns: &[&Column], row: usize) -> String {
    let values: Vec<String> = columns.iter().map(|c| c.value(row)).map(|v: Value| v.to_string()).collect();
    values.join(", ")
}

/// Edges of the graph that a row has been found to be already, where each row is an edge of its own. Rows that
/// look for the same one are the same: it does not matter which of them gets it.
pub(super) type Taken = Mutex<HashSet<Dense>>;
