//! Matches the types of an old and a new model, and describes the differences.

use std::collections::HashMap;
use std::sync::Arc;

use crate::{EdgeType, Element, GraphType, LabelSet, NodeType};

/// Elements and values that are there no more, by element, type and property.
pub(super) type Lost = HashMap<(Element, usize, Option<Arc<str>>), u64>;

/// A way in which the new model differs from the old one.
#[derive(Clone, Debug, PartialEq)]
pub struct Difference {
    pub element: Element,
    /// Of the old type, as it is called after the renamings; of the new one where there is no old one.
    pub labels: LabelSet,
    pub property: Option<Arc<str>>,
    pub message: String,
    /// Elements or values that are there no more afterwards.
    pub lost: u64,
    /// What finds them before.
    pub query: Option<String>,
}

/// Which type of the new model each type of the old one becomes.
pub(super) struct TypeMap {
    pub nodes: Vec<Option<usize>>,
    pub edges: Vec<Option<usize>>,
}

impl TypeMap {
    pub fn new(old: &GraphType, new: &GraphType) -> TypeMap {
        let node = |t: &NodeType| {
            let by = |test: &dyn Fn(&NodeType) -> bool| new.nodes.iter().position(test);
            by(&|n| n.labels == t.labels)
                .or_else(|| by(&|n| n.name.is_some() && n.name == t.name))
                .or_else(|| by(&|n| n.key_labels == t.key_labels))
        };
        let nodes: Vec<Option<usize>> = old.nodes.iter().map(node).collect();
        let meets = |old_end: &crate::Endpoint, new_end: &crate::Endpoint| {
            old.nodes.iter().zip(&nodes).any(|(t, mapped)| {
                old_end.accepts(&t.labels) && mapped.is_some_and(|m| new_end.accepts(&new.nodes[m].labels))
            })
        };
        let edge = |t: &EdgeType| {
            let by = |test: &dyn Fn(&EdgeType) -> bool| new.edges.iter().position(test);
            let connects = |n: &EdgeType| meets(&t.source, &n.source) && meets(&t.target, &n.target);
            let same = |n: &EdgeType| n.labels == t.labels && n.directed == t.directed;
            by(&|n| same(n) && n.source == t.source && n.target == t.target)
                .or_else(|| by(&|n| n.name.is_some() && n.name == t.name && n.directed == t.directed))
                .or_else(|| by(&|n| same(n) && connects(n)))
        };
        TypeMap { edges: old.edges.iter().map(edge).collect(), nodes }
    }
}
