//! Edges from bound nodes that are to meet at one node.

use crate::expression::Expr;
use crate::operators::{EdgeCheck, NodeCheck};
use crate::plan::Counting;

/// An edge between a bound node and the one that is looked for.
#[derive(Clone, Debug)]
pub(crate) struct Arm {
    /// Slot of the bound node.
    pub from: usize,
    pub edge: EdgeCheck,
    /// The first edge that is found is enough. Nothing but its labels is asked of it.
    pub once: bool,
}

#[derive(Clone, Debug)]
pub(crate) struct IntersectEdges {
    pub pattern: String,
    pub arms: Vec<Arm>,
    pub node: NodeCheck,
    /// No edge may stand for two of the arms.
    pub apart: bool,
    /// On the input row with the arms' edges and the node in the next slots.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
    /// Only how many there are.
    pub counting: Option<Counting>,
}
