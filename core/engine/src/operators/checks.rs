//! Tests for an edge and for the node that it leads to.

use graphodrome_graph::{Dense, Direction, EdgeTest, NodeTest, Value};

use crate::batch::{Batch, Vector};

/// What an edge of a pattern must be: labels, conditions, and no edge that the same MATCH took already.
#[derive(Clone, Debug)]
pub(crate) struct EdgeCheck {
    pub test: EdgeTest,
    pub direction: Direction,
    /// Slots of edges, paths or lists of edges bound in the same MATCH.
    pub different_from: Vec<usize>,
}

#[derive(Clone, Debug)]
pub(crate) struct NodeCheck {
    pub test: NodeTest,
}

impl EdgeCheck {
    /// Whether the row has not taken `edge` yet.
    pub fn is_different(&self, edge: Dense, batch: &Batch, row: usize) -> bool {
        self.different_from.iter().all(|&slot| match &batch.columns[slot] {
            Vector::Edges(edges) => edges[row] != edge,
            Vector::Nodes(_) | Vector::Numbers(_) => true,
            Vector::Values(values) => match &values[row] {
                Value::Path(path) => !path.edges.contains(&edge),
                Value::List(items) => !items.contains(&Value::Edge(edge)),
                _ => true,
            },
        })
    }
}
