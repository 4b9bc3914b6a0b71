//! One row of a batch, as expressions read it.

use graphodrome_graph::Value;

use crate::batch::{Batch, NO_ELEMENT, Vector};

/// A row of a batch, with values for slots beyond the batch's columns.
#[derive(Clone, Copy)]
pub(crate) struct Row<'a> {
    pub batch: &'a Batch,
    pub row: usize,
    pub locals: &'a [Value],
}

impl Row<'_> {
    #[inline]
    pub fn get(&self, slot: usize) -> Value {
        match self.batch.columns.get(slot) {
            Some(column) => column.get(self.row),
            None => self.locals.get(slot - self.batch.columns.len()).cloned().unwrap_or(Value::Null),
        }
    }
}

impl Row<'_> {
    /// The number of the node or edge in a slot.
    #[inline]
    pub fn element(&self, slot: usize) -> Option<u32> {
        match self.batch.columns.get(slot) {
            Some(Vector::Nodes(v) | Vector::Edges(v)) => Some(v[self.row]).filter(|id| *id != NO_ELEMENT),
            Some(Vector::Values(v)) => element_of(&v[self.row]),
            Some(Vector::Numbers(_)) => None,
            None => element_of(self.locals.get(slot - self.batch.columns.len())?),
        }
    }
}

fn element_of(value: &Value) -> Option<u32> {
    match value {
        Value::Node(id) | Value::Edge(id) => Some(*id),
        _ => None,
    }
}
