//! Changes the model of a graph with elements: differences, losses, and the elements under the new model. Columns
//! are carried over whole; only data that the model changes is touched.

mod carry;
mod change_of_types;
mod compare;
mod fit;

use std::sync::Arc;

pub use change_of_types::Difference;
use change_of_types::{Lost, TypeMap};
use compare::compare;

use crate::renaming::Renaming;
use crate::{
    BaseParts, Created, Element, GraphError, GraphType, KeyDefinition, LabelSet, PropertyType, Snapshot,
    label_set,
};

/// Keys and indexes that still have their label and properties under a type; and those that have not.
pub fn kept_lookups(created: &Created, graph_type: &GraphType) -> (Created, Vec<Arc<KeyDefinition>>) {
    let fits = |key: &KeyDefinition| {
        let has = |labels: &LabelSet, types: &[PropertyType]| {
            labels.contains(&key.label) && key.properties.iter().all(|p| types.iter().any(|t| t.name == *p))
        };
        match key.element {
            Element::Node => graph_type.nodes.iter().any(|t| has(&t.labels, &t.properties)),
            Element::Edge => graph_type.edges.iter().any(|t| has(&t.labels, &t.properties)),
        }
    };
    let (keys, mut gone): (Vec<_>, Vec<_>) = created.keys.iter().cloned().partition(|k| fits(k));
    let (indexes, gone_indexes): (Vec<_>, Vec<_>) = created.indexes.iter().cloned().partition(|k| fits(k));
    gone.extend(gone_indexes);
    let (views, bounds) = (created.views.clone(), created.bounds.clone());
    (Created { keys, indexes, views, bounds }, gone)
}

/// What a new model makes of a graph.
pub struct Migration {
    pub differences: Vec<Difference>,
    /// The elements as they become; `None` where they stay as they are.
    pub parts: Option<BaseParts>,
}

struct Carrier<'s> {
    renamings: &'s [Renaming],
    lost: Lost,
    changed: bool,
}

/// Makes what is in a graph into what a new model wants of it. It is not checked here: what stands in the
/// way is found by looking for violations in the result.
pub fn migrate(
    snapshot: &Snapshot, new: &GraphType, renamings: &[Renaming],
) -> Result<Migration, GraphError> {
    let old = match &snapshot.graph_type {
        Some(old) => {
            let mut old = GraphType::clone(old);
            for renaming in renamings {
                old = renaming.of_type(&old)?;
            }
            Some(old)
        }
        None => None,
    };
    let map = old.as_ref().map(|old| TypeMap::new(old, new));
    let mut differences = renamed(renamings);
    let mut carrier = Carrier { renamings, lost: Lost::new(), changed: false };
    let parts = carrier.carry(snapshot.fold(), old.as_ref().zip(map.as_ref()), new);
    if let (Some(old), Some(map), Some(given)) = (&old, &map, &snapshot.graph_type) {
        differences.extend(compare((given, old), new, map, &carrier.lost));
    }
    Ok(Migration { differences, parts: carrier.changed.then_some(parts) })
}

/// Renames without any other change.
pub fn rename_elements(snapshot: &Snapshot, renamings: &[Renaming]) -> Option<BaseParts> {
    let mut carrier = Carrier { renamings, lost: Lost::new(), changed: false };
    let parts = carrier.carry(snapshot.fold(), None, &GraphType::default());
    carrier.changed.then_some(parts)
}

fn renamed(renamings: &[Renaming]) -> Vec<Difference> {
    let difference = |r: &Renaming| Difference {
        element: r.element,
        labels: label_set([r.label.clone().unwrap_or_else(|| r.from.clone())]),
        property: r.label.as_ref().map(|_| r.from.clone()),
        message: match &r.label {
            None => format!("{} label {} becomes {}", r.element, r.from, r.to),
            Some(label) => format!("{} :{label}: property {} becomes {}", r.element, r.from, r.to),
        },
        lost: 0,
        query: None,
    };
    renamings.iter().map(difference).collect()
}
