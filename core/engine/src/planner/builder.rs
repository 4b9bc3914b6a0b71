//! State of a pattern during planning, and questions about its steps.

use graphodrome_graph::LabelExpression;
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::*;

use crate::outcome::Outcome;
use crate::plan::Schema;
use crate::planner::elements::{reversed, walkable};
use crate::planner::pattern_graph::{PatternGraph, PatternStep, StepKind};
use crate::planner::state::Use;

pub(super) struct Builder<'g> {
    pub graph: &'g mut PatternGraph,
    pub usage: &'g Use,
    /// Slots of the rows that the pattern begins with.
    pub outer: usize,
    /// Steps planned already.
    pub done: Vec<bool>,
    /// The order of the nodes, where it was chosen as a whole.
    pub order: Vec<usize>,
    /// What each step costs, before anything is bound.
    pub costs: Vec<StepCost>,
}

/// Whether a step can be walked from its left end and from its right.
pub(super) fn ways(step: &PatternStep) -> (bool, bool) {
    match &step.kind {
        StepKind::Edge { .. } => (true, true),
        StepKind::Search(search) => (walkable(&search.elements), walkable(&reversed(&search.elements))),
    }
}

pub(super) fn slot_of(schema: &Schema, name: &str) -> Outcome<usize> {
    schema.slot(name).ok_or_else(|| {
        Diagnostic::unknown(Default::default(), format!("{name} is not bound where the plan needs it"))
    })
}

/// A path with a search prefix is matched on its own.
pub(super) fn takes_part(step: &PatternStep) -> bool {
    match &step.kind {
        StepKind::Edge { .. } => true,
        StepKind::Search(search) => search.search == PathSearch::All,
    }
}

/// The labels of every edge in the elements.
pub(super) fn collect_edge_labels(elements: &[PathElement], found: &mut Vec<Option<LabelExpression>>) {
    for element in elements {
        match element {
            PathElement::Edge(edge, _) => found.push(edge.filter.labels.as_ref().map(|l| l.0.clone())),
            PathElement::Group(group) => collect_edge_labels(&group.term.elements, found),
            PathElement::Alternatives(a) => {
                a.branches.iter().for_each(|b| collect_edge_labels(&b.elements, found));
            }
            PathElement::Node(_) => {}
        }
    }
}

pub(super) fn edge_labels(step: &PatternStep) -> Vec<Option<LabelExpression>> {
    match &step.kind {
        StepKind::Edge { labels, .. } => vec![labels.clone()],
        StepKind::Search(search) => {
            let mut found = vec![];
            collect_edge_labels(&search.elements, &mut found);
            found
        }
    }
}

/// What a step costs and yields, from its left end and from its right: found once a pattern.
pub(super) struct StepCost {
    pub(super) from: usize,
    pub(super) to: usize,
    /// Rows per row and entries looked at; `None` where it cannot be walked from that end.
    pub(super) forward: Option<(f64, f64)>,
    pub(super) backward: Option<(f64, f64)>,
    /// Rows per row where both ends are bound.
    pub closing: f64,
    pub(super) is_edge: bool,
    /// Only between nodes that are bound.
    pub(super) once: bool,
}

impl StepCost {
    /// Whether it can be walked from its left end, and from its right.
    pub fn ways(&self) -> (bool, bool) {
        (self.forward.is_some(), self.backward.is_some())
    }

    /// From its left end or its right; where it cannot be walked from there, from the other.
    pub fn of(&self, from_right: bool) -> (f64, f64) {
        let (one, other) =
            if from_right { (self.backward, self.forward) } else { (self.forward, self.backward) };
        one.or(other).unwrap_or((f64::MAX, f64::MAX))
    }
}
