//! Differences between two states of a graph, element by element, by stable ids.

use std::collections::BTreeSet;
use std::mem::discriminant;
use std::sync::Arc;

use crate::{Dense, Element, ElementId, GraphError, Snapshot, Value};

/// An element that is not the same in both; `None` where it is not there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ElementDifference {
    pub element: Element,
    pub id: ElementId,
    pub before: Option<Dense>,
    pub after: Option<Dense>,
}

/// Elements between two questions whether to go on.
const ASK_AFTER: usize = 4096;

/// Equal, and of one type: 1 and 1.0 are equal, and still not the same.
pub fn same_value(a: &Value, b: &Value) -> bool {
    discriminant(a) == discriminant(b)
        && a == b
        && match a {
            Value::Null
            | Value::Bool(_)
            | Value::Int(_)
            | Value::Float(_)
            | Value::Text(_)
            | Value::Date(_) => true,
            // Equal in another zone or with another scale.
            _ => a.literal() == b.literal(),
        }
}

fn same_properties(a: &[(Arc<str>, Value)], b: &[(Arc<str>, Value)]) -> bool {
    a.len() == b.len() && a.iter().zip(b).all(|((a, x), (b, y))| a == b && same_value(x, y))
}

/// One side of a comparison: what nodes and edges have in common.
struct ComparedState<'s> {
    state: &'s Snapshot,
    element: Element,
}

impl ComparedState<'_> {
    fn exists(&self, dense: Dense) -> bool {
        match self.element {
            Element::Node => self.state.node_exists(dense),
            Element::Edge => self.state.edge_exists(dense),
        }
    }

    fn id(&self, dense: Dense) -> ElementId {
        match self.element {
            Element::Node => self.state.node_id(dense),
            Element::Edge => self.state.edge_id(dense),
        }
    }

    fn find(&self, id: ElementId) -> Option<Dense> {
        match self.element {
            Element::Node => self.state.node_by_id(id),
            Element::Edge => self.state.edge_by_id(id),
        }
    }

    fn bound(&self) -> Dense {
        match self.element {
            Element::Node => self.state.node_bound(),
            Element::Edge => self.state.edge_bound(),
        }
    }

    /// Elements that a commit since the base has written or deleted.
    fn touched(&self) -> Vec<Dense> {
        match self.element {
            Element::Node => self.state.overlay.nodes.keys().copied().collect(),
            Element::Edge => self.state.overlay.edges.keys().copied().collect(),
        }
    }

    fn same(&self, dense: Dense, other: &ComparedState, of_other: Dense) -> bool {
        let (a, b) = (self.state, other.state);
        match self.element {
            Element::Node => {
                a.node_labels(dense) == b.node_labels(of_other)
                    && same_properties(&a.node_properties(dense), &b.node_properties(of_other))
            }
            Element::Edge => {
                let ends = |state: &Snapshot, edge: Dense| {
                    let (source, target) = state.edge_ends(edge);
                    (state.node_id(source), state.node_id(target))
                };
                a.edge_directed(dense) == b.edge_directed(of_other)
                    && ends(a, dense) == ends(b, of_other)
                    && a.edge_labels(dense) == b.edge_labels(of_other)
                    && same_properties(&a.edge_properties(dense), &b.edge_properties(of_other))
            }
        }
    }
}

/// Ranges of dense numbers whose elements both states have in the same tables.
fn shared_ranges(before: &Snapshot, after: &Snapshot, element: Element) -> Vec<std::ops::Range<Dense>> {
    let range = |first: Dense, len: usize| first..first + len as Dense;
    match element {
        Element::Node => {
            let both = before.base.nodes.iter().zip(after.base.nodes.iter());
            both.filter(|(a, b)| Arc::ptr_eq(a, b)).map(|(a, _)| range(a.first, a.len)).collect()
        }
        Element::Edge => {
            let both = before.base.edges.iter().zip(after.base.edges.iter());
            both.filter(|(a, b)| Arc::ptr_eq(a, b)).map(|(a, _)| range(a.first, a.len)).collect()
        }
    }
}

/// Visits what is different, nodes before edges: of each first what was changed or removed, then what was added.
/// Elements in tables that both states share are looked at only where something has touched them.
pub fn differences(
    before: &Snapshot, after: &Snapshot, go_on: &dyn Fn() -> Result<(), GraphError>,
    visit: &mut dyn FnMut(ElementDifference) -> Result<(), GraphError>,
) -> Result<(), GraphError> {
    for element in [Element::Node, Element::Edge] {
        let (old, new) = (ComparedState { state: before, element }, ComparedState { state: after, element });
        let shared = shared_ranges(before, after, element);
        let is_shared = |dense: Dense| shared.iter().any(|range| range.contains(&dense));
        let mut asked = 0;
        let mut ask = || {
            asked += 1;
            if asked % ASK_AFTER == 0 { go_on() } else { Ok(()) }
        };
        let touched: BTreeSet<Dense> =
            old.touched().into_iter().chain(new.touched()).filter(|dense| is_shared(*dense)).collect();
        for dense in touched {
            ask()?;
            let found = (old.exists(dense).then_some(dense), new.exists(dense).then_some(dense));
            let id = match found {
                (Some(_), _) => old.id(dense),
                (None, Some(_)) => new.id(dense),
                (None, None) => continue,
            };
            if found.0.is_none() || found.1.is_none() || !old.same(dense, &new, dense) {
                visit(ElementDifference { element, id, before: found.0, after: found.1 })?;
            }
        }
        for dense in own(&old, &shared) {
            ask()?;
            let id = old.id(dense);
            let other = new.find(id);
            if other.is_none_or(|other| !old.same(dense, &new, other)) {
                visit(ElementDifference { element, id, before: Some(dense), after: other })?;
            }
        }
        for dense in own(&new, &shared) {
            ask()?;
            let id = new.id(dense);
            if old.find(id).is_none() {
                visit(ElementDifference { element, id, before: None, after: Some(dense) })?;
            }
        }
    }
    Ok(())
}

/// Elements of a state that lie in no shared range.
fn own<'s>(
    side: &'s ComparedState<'s>, shared: &'s [std::ops::Range<Dense>],
) -> impl Iterator<Item = Dense> + 's {
    let mut next = 0;
    let mut ranges = shared.iter().peekable();
    std::iter::from_fn(move || {
        loop {
            if let Some(range) = ranges.peek()
                && next >= range.start
            {
                next = next.max(range.end);
                ranges.next();
                continue;
            }
            if next >= side.bound() {
                return None;
            }
            let dense = next;
            next += 1;
            if side.exists(dense) {
                return Some(dense);
            }
        }
    })
}
