//! Random changes of a graph, and the ways to store the result.

#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use graphodrome_graph::{
    Created, Dense, Element, KeyDefinition, NewEdge, NewNode, Schema, Snapshot, Transaction, Value, label_set,
};
use proptest::prelude::*;

#[derive(Clone, Debug)]
pub enum Step {
    Node { label: u8, key: i64, rank: i64 },
    Edge { from: usize, to: usize, label: u8, directed: bool, weight: i64 },
    Change { node: usize, rank: i64 },
    ChangeEdge { edge: usize, weight: i64 },
    Delete { node: usize },
    DeleteEdge { edge: usize },
}

pub fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        4 => (0u8..3, 0i64..40, 0i64..8).prop_map(|(label, key, rank)| Step::Node { label, key, rank }),
        5 => (0usize..60, 0usize..60, 0u8..2, any::<bool>(), 0i64..5)
            .prop_map(|(from, to, label, directed, weight)| Step::Edge { from, to, label, directed, weight }),
        2 => (0usize..60, 0i64..8).prop_map(|(node, rank)| Step::Change { node, rank }),
        1 => (0usize..60, 0i64..5).prop_map(|(edge, weight)| Step::ChangeEdge { edge, weight }),
        1 => (0usize..60).prop_map(|node| Step::Delete { node }),
        1 => (0usize..60).prop_map(|edge| Step::DeleteEdge { edge }),
    ]
}

pub fn schema() -> Schema {
    let definition = |name: &str, property: &str| {
        Arc::new(KeyDefinition {
            name: name.into(),
            element: Element::Node,
            label: "A".into(),
            properties: vec![property.into()],
        })
    };
    let created = Created {
        keys: vec![definition("by_key", "key")],
        indexes: vec![definition("by_rank", "rank")],
        views: vec![],
        bounds: vec![],
    };
    Schema::new(None, created)
}

pub fn live(snapshot: &Snapshot) -> (Vec<Dense>, Vec<Dense>) {
    let nodes = (0..snapshot.node_bound()).filter(|&n| snapshot.node_exists(n)).collect();
    let edges = (0..snapshot.edge_bound()).filter(|&e| snapshot.edge_exists(e)).collect();
    (nodes, edges)
}

/// Does the steps, leaving out what a key refuses.
pub fn done(before: &Snapshot, steps: &[Step]) -> Snapshot {
    let mut snapshot = before.clone();
    for step in steps {
        let mut t = Transaction::new(snapshot.clone());
        let (nodes, edges) = live(&snapshot);
        let node = |place: usize| nodes.get(place % nodes.len().max(1)).copied();
        let edge = |place: usize| edges.get(place % edges.len().max(1)).copied();
        match *step {
            Step::Node { label, key, rank } => {
                let labels = match label {
                    0 => label_set(["A"]),
                    1 => label_set(["A", "B"]),
                    _ => label_set(["C"]),
                };
                let properties = vec![("key".into(), Value::Int(key)), ("rank".into(), Value::Int(rank))];
                t.insert_node(NewNode { labels, properties }).unwrap();
            }
            Step::Edge { from, to, label, directed, weight } => {
                let (Some(source), Some(target)) = (node(from), node(to)) else { continue };
                let labels = label_set([["R", "S"][label as usize]]);
                let properties = vec![("weight".into(), Value::Int(weight))];
                t.insert_edge(NewEdge { labels, properties, directed, source, target }).unwrap();
            }
            Step::Change { node: place, rank } => {
                let Some(id) = node(place) else { continue };
                let mut properties = snapshot.node_properties(id).to_vec();
                properties.retain(|(name, _)| &**name != "rank");
                properties.push(("rank".into(), Value::Int(rank)));
                t.change_node(id, snapshot.node_labels(id), properties).unwrap();
            }
            Step::ChangeEdge { edge: place, weight } => {
                let Some(id) = edge(place) else { continue };
                t.change_edge(id, snapshot.edge_labels(id), vec![("weight".into(), Value::Int(weight))])
                    .unwrap();
            }
            Step::Delete { node: place } => {
                let Some(id) = node(place) else { continue };
                t.delete_node(id, true);
            }
            Step::DeleteEdge { edge: place } => {
                let Some(id) = edge(place) else { continue };
                t.delete_edge(id);
            }
        }
        if let Ok((next, _)) = t.finish() {
            snapshot = next;
        }
    }
    snapshot
}

/// The same graph with what was added as one more level of its base.
pub fn levelled(snapshot: &Snapshot) -> Snapshot {
    let (parts, renumbered) = snapshot.level_numbered();
    for (id, number) in renumbered.iter().enumerate() {
        assert!(
            (id as Dense) >= snapshot.base.node_count() || *number == id as Dense,
            "the base's numbers stay"
        );
    }
    let (base, collisions) = snapshot.base.extended(parts, &snapshot.schema(), &|| Ok(())).unwrap();
    let ids = snapshot.next_ids();
    let mut next = Snapshot::new(Arc::new(base), snapshot.schema(), snapshot.version);
    next.reserve_ids(ids.0, ids.1);
    let next = next.replay(&snapshot.residue()).unwrap();
    next.check_collisions(&collisions).unwrap();
    next
}
