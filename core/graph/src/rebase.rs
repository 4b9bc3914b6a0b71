//! Putting changes made on an older state on the newest one: what a transaction of several statements
//! does when it commits after others did.

use std::collections::{BTreeSet, HashMap};

use crate::{Change, Code, Dense, ElementId, GraphError, NewEdge, NewNode, Snapshot, Transaction};

/// Nodes and edges by their stable ids.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Touched {
    pub nodes: BTreeSet<ElementId>,
    pub edges: BTreeSet<ElementId>,
}

impl Touched {
    pub fn add(&mut self, changes: &[Change]) {
        for change in changes {
            match change {
                Change::Node { id, .. } | Change::DeleteNode(id) => self.nodes.insert(*id),
                Change::Edge { id, .. } | Change::DeleteEdge(id) => self.edges.insert(*id),
            };
        }
    }
}

fn conflict(what: &str) -> GraphError {
    GraphError::new(Code::CONFLICT, format!("the transaction was rolled back: {what}"))
        .hint("begin it again: another transaction committed first")
}

/// The newest state `head` with `changes` that were made, one after the other, on the state whose next
/// ids were `began`. An element that was there then and that others have touched since (`since`) is a
/// conflict, as is what their changes leave no place for. Elements that are new get new ids.
pub fn rebase(
    began: (ElementId, ElementId), head: &Snapshot, changes: &[Change], since: &Touched,
) -> Result<(Snapshot, Vec<Change>), GraphError> {
    let mut ours = Touched::default();
    ours.add(changes);
    let named = |element: crate::Element, dense: Option<Dense>| match dense {
        Some(dense) => head.name_of(element, dense),
        None => format!("a {element} that is gone"),
    };
    if let Some(id) = ours.nodes.intersection(&since.nodes).find(|id| **id < began.0) {
        let name = named(crate::Element::Node, head.node_by_id(*id));
        return Err(conflict(&format!("another one changed {name}")));
    }
    if let Some(id) = ours.edges.intersection(&since.edges).find(|id| **id < began.1) {
        let name = named(crate::Element::Edge, head.edge_by_id(*id));
        return Err(conflict(&format!("another one changed {name}")));
    }
    let mut transaction = Transaction::new(head.clone());
    let mut new_nodes: HashMap<ElementId, Dense> = HashMap::new();
    let mut new_edges: HashMap<ElementId, Dense> = HashMap::new();
    // Our own new ids may be those that others gave to their elements meanwhile.
    let node = |id: ElementId, made: &HashMap<ElementId, Dense>| {
        if id >= began.0 { made.get(&id).copied() } else { head.node_by_id(id) }
    };
    let edge = |id: ElementId, made: &HashMap<ElementId, Dense>| {
        if id >= began.1 { made.get(&id).copied() } else { head.edge_by_id(id) }
    };
    for change in changes {
        match change {
            Change::Node { id, labels, properties } => {
                let (labels, properties) = (labels.clone(), properties.to_vec());
                match node(*id, &new_nodes) {
                    Some(dense) => transaction.change_node(dense, labels, properties)?,
                    None if *id >= began.0 => {
                        let dense = transaction.insert_node(NewNode { labels, properties })?;
                        new_nodes.insert(*id, dense);
                    }
                    None => return Err(conflict("a node it changes is gone")),
                }
            }
            Change::Edge { id, labels, properties, directed, source, target } => {
                let (labels, properties) = (labels.clone(), properties.to_vec());
                if let Some(dense) = edge(*id, &new_edges) {
                    transaction.change_edge(dense, labels, properties)?;
                    continue;
                }
                if *id < began.1 {
                    return Err(conflict("an edge it changes is gone"));
                }
                let end = |id: ElementId| {
                    node(id, &new_nodes).ok_or_else(|| conflict("a node that a new edge ends at is gone"))
                };
                let (source, target) = (end(*source)?, end(*target)?);
                let new = NewEdge { labels, properties, directed: *directed, source, target };
                new_edges.insert(*id, transaction.insert_edge(new)?);
            }
            Change::DeleteNode(id) => {
                if let Some(dense) = node(*id, &new_nodes) {
                    transaction.delete_node(dense, false);
                }
            }
            Change::DeleteEdge(id) => {
                if let Some(dense) = edge(*id, &new_edges) {
                    transaction.delete_edge(dense);
                }
            }
        }
    }
    transaction.finish().map_err(|error| match error.code {
        Code::DEPENDENT_EDGES => conflict("a node it deletes has got a new edge"),
        _ => error,
    })
}
