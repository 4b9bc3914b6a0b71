//! Rows that have been read, chunk by chunk: their columns, where they begin, and those that were refused.

use std::collections::BTreeMap;

use graphodrome_graph::Column;

use crate::load::offsets::Offsets;
use crate::load::{MAX_KEPT_REJECTS, RejectKind};

/// A row longer than this is a quote left open, not a row.
pub(super) const MAX_ROW: usize = 16 << 20;

/// What one rule took from one chunk.
#[derive(Default)]
pub(crate) struct RuleChunk {
    /// Per property.
    pub columns: Vec<Column>,
    /// Key columns of the two references, for edges.
    pub from: Vec<Column>,
    pub to: Vec<Column>,
    /// The labels out of a column.
    pub labels: Option<Column>,
    /// Where each row begins in the text.
    pub offsets: Offsets,
}

/// A reject with its place, before lines are counted.
#[derive(Clone)]
pub(crate) struct RawReject {
    pub offset: u64,
    pub column: Option<usize>,
    pub value: Option<String>,
    pub kind: RejectKind,
    pub reason: String,
}

#[derive(Default)]
pub(crate) struct RuleRead {
    pub chunks: Vec<RuleChunk>,
    pub rejects: Vec<RawReject>,
    pub rejected: BTreeMap<RejectKind, u64>,
    pub skipped: u64,
    pub made: u64,
    pub changed: u64,
    pub unchanged: u64,
    pub duplicates: u64,
    /// Nodes made because references of this edge rule lacked them.
    pub created: u64,
}

impl RuleRead {
    pub fn reject(&mut self, reject: RawReject) {
        *self.rejected.entry(reject.kind).or_default() += 1;
        if self.rejects.len() < MAX_KEPT_REJECTS {
            self.rejects.push(reject);
        }
    }
}

pub(crate) struct TableRead {
    pub rows: u64,
    pub nodes: Vec<RuleRead>,
    pub edges: Vec<RuleRead>,
}

/// What is read of a block of rows, its columns as they are kept: made beside the reading, while they are close
/// to the processor and their larger memory can be used again for the next block.
pub(super) struct Finished {
    pub(super) rows: u64,
    pub(super) rules: Vec<FinishedRule>,
}

pub(super) struct FinishedRule {
    pub(super) chunk: RuleChunk,
    pub(super) rejects: Vec<RawReject>,
    pub(super) rejected: BTreeMap<RejectKind, u64>,
    pub(super) skipped: u64,
}

/// Bytes of a reject besides its texts.
const REJECT: usize = size_of::<RawReject>();

impl RuleChunk {
    pub fn bytes(&self) -> usize {
        let columns = self.columns.iter().chain(&self.from).chain(&self.to).chain(&self.labels);
        columns.map(Column::bytes).sum::<usize>() + self.offsets.len() * size_of::<u32>()
    }
}

impl Finished {
    pub fn bytes(&self) -> usize {
        let reject = |r: &RawReject| REJECT + r.reason.len() + r.value.as_ref().map_or(0, String::len);
        let rule = |r: &FinishedRule| r.chunk.bytes() + r.rejects.iter().map(reject).sum::<usize>();
        self.rules.iter().map(rule).sum()
    }
}
