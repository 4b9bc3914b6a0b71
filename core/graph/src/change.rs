//! Changes: what a commit does to a snapshot. A [`Transaction`] makes them, checks them against the
//! graph type and the keys, and yields both the new snapshot and the log entry that replays it.

use std::collections::{BTreeSet, HashMap};
use std::ops::ControlFlow;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::counted::counted;
use crate::overlay::{EdgeRecord, NodeRecord};
use crate::properties::Properties;
use crate::{
    Code, Dense, Direction, Element, ElementId, GraphError, GraphType, LabelSet, MAX_VALUE_DEPTH, Snapshot,
    Value,
};

/// One element's new state, by stable ids: replaying it needs no knowledge of dense numbers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Change {
    Node {
        id: ElementId,
        labels: LabelSet,
        properties: Properties,
    },
    Edge {
        id: ElementId,
        labels: LabelSet,
        properties: Properties,
        directed: bool,
        source: ElementId,
        target: ElementId,
    },
    DeleteNode(ElementId),
    DeleteEdge(ElementId),
}

pub struct NewNode {
    pub labels: LabelSet,
    pub properties: Vec<(Arc<str>, Value)>,
}

pub struct NewEdge {
    pub labels: LabelSet,
    pub properties: Vec<(Arc<str>, Value)>,
    pub directed: bool,
    pub source: Dense,
    pub target: Dense,
}

/// A snapshot being changed. [`Self::settle`] after each statement checks what it touched; nothing
/// outside sees any of it before [`Self::finish`].
pub struct Transaction {
    before: Snapshot,
    snapshot: Snapshot,
    /// Touched since the last settling.
    nodes: BTreeSet<Dense>,
    edges: BTreeSet<Dense>,
    /// Touched since the start.
    all_nodes: BTreeSet<Dense>,
    all_edges: BTreeSet<Dense>,
    /// Stable ids of what was deleted.
    deleted_nodes: HashMap<Dense, ElementId>,
    deleted_edges: HashMap<Dense, ElementId>,
    /// Elements touched since the last settling by their values of a key, by the key's number: kept for
    /// the keys that [`Self::find_by_key`] was asked for.
    unsettled: HashMap<usize, HashMap<Vec<Value>, Dense>>,
}

/// Names are stored where none with this character can be.
fn check_name(what: &str, name: &str) -> Result<(), GraphError> {
    match name.contains('\0') {
        true => Err(GraphError::new(
            Code::DATA,
            format!("the {what} '{}' may not hold the character U+0000", name.replace('\0', "\\u0000")),
        )),
        false => Ok(()),
    }
}

fn check_labels(labels: &LabelSet) -> Result<(), GraphError> {
    labels.iter().try_for_each(|label| check_name("label", label))
}

fn sorted(mut properties: Vec<(Arc<str>, Value)>) -> Result<Properties, GraphError> {
    properties.retain(|(_, v)| !v.is_null());
    properties.sort_by(|a, b| a.0.cmp(&b.0));
    for (name, value) in &properties {
        check_name("property name", name)?;
        if !value.is_within_depth(MAX_VALUE_DEPTH) {
            return Err(GraphError::new(
                Code::DATA,
                format!(
                    "property {name}: lists and records lie more than {MAX_VALUE_DEPTH} levels deep in each other"
                ),
            ));
        }
        if !value.is_storable() {
            return Err(GraphError::new(
                Code::WRONG_TYPE,
                format!("property {name} cannot hold a {}", value.type_name()),
            )
            .hint("store a key property of the element instead"));
        }
    }
    Ok(properties.into())
}

impl Transaction {
    pub fn new(snapshot: Snapshot) -> Self {
        Transaction {
            before: snapshot.clone(),
            snapshot,
            nodes: BTreeSet::new(),
            edges: BTreeSet::new(),
            all_nodes: BTreeSet::new(),
            all_edges: BTreeSet::new(),
            deleted_nodes: HashMap::new(),
            deleted_edges: HashMap::new(),
            unsettled: HashMap::new(),
        }
    }

    /// The state with everything done so far.
    pub fn snapshot(&self) -> &Snapshot {
        &self.snapshot
    }

    fn declared_node(&self, labels: &LabelSet, properties: &mut Vec<(Arc<str>, Value)>) {
        if let Some(node_type) = self.snapshot.graph_type.as_ref().and_then(|t| t.node_type(labels)) {
            GraphType::complete(&node_type.properties, properties);
        }
    }

    fn declared_edge(&self, edge: &mut NewEdge) {
        let ends = (self.snapshot.node_labels(edge.source), self.snapshot.node_labels(edge.target));
        let Some(graph_type) = &self.snapshot.graph_type else { return };
        if let Some(edge_type) = graph_type.edge_type(&edge.labels, edge.directed, (&ends.0, &ends.1)) {
            GraphType::complete(&edge_type.properties, &mut edge.properties);
        }
    }

    pub fn insert_node(&mut self, mut node: NewNode) -> Result<Dense, GraphError> {
        check_labels(&node.labels)?;
        self.declared_node(&node.labels, &mut node.properties);
        let overlay = &mut self.snapshot.overlay;
        let dense = overlay.next_node;
        if dense == Dense::MAX - 1 {
            return Err(GraphError::new(Code::DATA, "the graph is full: no node number is left"));
        }
        let record = NodeRecord {
            id: overlay.next_node_id,
            labels: node.labels,
            properties: sorted(node.properties)?,
        };
        overlay.next_node += 1;
        overlay.next_node_id += 1;
        overlay.live_nodes += 1;
        overlay.put_node(dense, Some(record));
        self.touch(Element::Node, dense);
        Ok(dense)
    }

    pub fn insert_edge(&mut self, mut edge: NewEdge) -> Result<Dense, GraphError> {
        check_labels(&edge.labels)?;
        self.declared_edge(&mut edge);
        for end in [edge.source, edge.target] {
            if !self.snapshot.node_exists(end) {
                return Err(GraphError::new(Code::DATA, "an end of the new edge has been deleted"));
            }
        }
        let overlay = &mut self.snapshot.overlay;
        let dense = overlay.next_edge;
        if dense == Dense::MAX - 1 {
            return Err(GraphError::new(Code::DATA, "the graph is full: no edge number is left"));
        }
        let record = EdgeRecord {
            id: overlay.next_edge_id,
            labels: edge.labels,
            properties: sorted(edge.properties)?,
            directed: edge.directed,
            source: edge.source,
            target: edge.target,
        };
        overlay.next_edge += 1;
        overlay.next_edge_id += 1;
        overlay.live_edges += 1;
        overlay.put_edge(dense, (edge.source, edge.target), Some(record), false);
        self.touch(Element::Edge, dense);
        Ok(dense)
    }

    /// Replaces a node's labels and properties.
    pub fn change_node(
        &mut self, id: Dense, labels: LabelSet, mut properties: Vec<(Arc<str>, Value)>,
    ) -> Result<(), GraphError> {
        if !self.snapshot.node_exists(id) {
            return Err(GraphError::new(Code::DATA, "the node has been deleted"));
        }
        check_labels(&labels)?;
        properties.retain(|(_, v)| !v.is_null());
        if let Some(node_type) = self.snapshot.graph_type.as_ref().and_then(|t| t.node_type(&labels)) {
            properties.iter_mut().for_each(|(name, value)| {
                if let Some(t) = node_type.properties.iter().find(|t| t.name == *name) {
                    *value = t.value_type.assign(value.clone());
                }
            });
        }
        let record = NodeRecord { id: self.snapshot.node_id(id), labels, properties: sorted(properties)? };
        self.snapshot.overlay.put_node(id, Some(record));
        self.touch(Element::Node, id);
        Ok(())
    }

    pub fn change_edge(
        &mut self, id: Dense, labels: LabelSet, properties: Vec<(Arc<str>, Value)>,
    ) -> Result<(), GraphError> {
        let Some((id_kept, directed, (source, target))) = self.snapshot.edge_identity(id) else {
            return Err(GraphError::new(Code::DATA, "the edge has been deleted"));
        };
        check_labels(&labels)?;
        let mut edge = NewEdge { labels, properties, directed, source, target };
        edge.properties.retain(|(_, v)| !v.is_null());
        self.declared_edge(&mut edge);
        let record = EdgeRecord {
            id: id_kept,
            labels: edge.labels,
            properties: sorted(edge.properties)?,
            directed,
            source,
            target,
        };
        put_edge(&mut self.snapshot, id, Some(record));
        self.touch(Element::Edge, id);
        Ok(())
    }

    pub fn delete_edge(&mut self, id: Dense) {
        if self.snapshot.edge_exists(id) {
            self.deleted_edges.insert(id, self.snapshot.edge_id(id));
            put_edge(&mut self.snapshot, id, None);
            self.snapshot.overlay.live_edges -= 1;
            self.touch(Element::Edge, id);
        }
    }

    /// Deletes a node; with `detach` its edges too, otherwise having any is error G1001 when the
    /// statement settles.
    pub fn delete_node(&mut self, id: Dense, detach: bool) {
        if !self.snapshot.node_exists(id) {
            return;
        }
        if detach {
            for edge in self.edges_at(id) {
                self.delete_edge(edge);
            }
        }
        self.deleted_nodes.insert(id, self.snapshot.node_id(id));
        self.snapshot.overlay.put_node(id, None);
        self.snapshot.overlay.live_nodes -= 1;
        self.touch(Element::Node, id);
    }

    fn touch(&mut self, element: Element, id: Dense) {
        match element {
            Element::Node => self.nodes.insert(id),
            Element::Edge => self.edges.insert(id),
        };
        for (key, known) in &mut self.unsettled {
            if let Some(values) = self.snapshot.key_values(&self.snapshot.keys[*key], element, id) {
                known.insert(values, id);
            }
        }
    }

    /// The element with these values of a key, as things are now: changes not yet settled included.
    pub fn find_by_key(&mut self, key: usize, values: &[Value]) -> Option<Dense> {
        let definition = self.snapshot.keys[key].clone();
        let element = definition.element;
        if !self.unsettled.contains_key(&key) {
            let touched = if element == Element::Node { &self.nodes } else { &self.edges };
            let known = touched
                .iter()
                .filter_map(|&id| Some((self.snapshot.key_values(&definition, element, id)?, id)));
            let known = known.collect();
            self.unsettled.insert(key, known);
        }
        let candidates = [self.snapshot.seek(key, values), self.unsettled[&key].get(values).copied()];
        let is_so = |id: &Dense| {
            self.snapshot.key_values(&definition, element, *id).is_some_and(|current| current == values)
        };
        candidates.into_iter().flatten().find(is_so)
    }

    /// How many edges of some kind a node may have.
    fn check_cardinalities(
        &self, nodes: &BTreeSet<Dense>, edges: &BTreeSet<Dense>,
    ) -> Result<(), GraphError> {
        let Some(graph_type) = &self.snapshot.graph_type else { return Ok(()) };
        for cardinality in &graph_type.cardinalities {
            let of_label = edges.iter().filter(|&&id| {
                self.snapshot.edge_exists(id) && self.snapshot.edge_labels(id).contains(&cardinality.edge)
            });
            let ends = of_label.map(|&id| self.snapshot.edge_ends(id)).flat_map(|(a, b)| [a, b]);
            let asked: BTreeSet<Dense> = ends.chain(nodes.iter().copied()).collect();
            for id in asked {
                if self.snapshot.exceeds(cardinality, id) {
                    return Err(GraphError::new(
                        Code::GRAPH_TYPE_VIOLATION,
                        format!("{}: {}", self.name_of(Element::Node, id), cardinality.exceeded()),
                    ));
                }
            }
        }
        Ok(())
    }

    fn edges_at(&self, id: Dense) -> Vec<Dense> {
        let mut edges = vec![];
        let all = self.snapshot.edge_test(None);
        self.snapshot.for_each_adjacent(id, Direction::Any, &all, |edge, _| {
            edges.push(edge);
            ControlFlow::Continue(())
        });
        edges
    }

    /// Checks everything touched since the last settling: the graph type, dangling edges, keys.
    pub fn settle(&mut self) -> Result<(), GraphError> {
        self.unsettled.clear();
        let nodes = std::mem::take(&mut self.nodes);
        let mut edges = std::mem::take(&mut self.edges);
        let graph_type = self.snapshot.graph_type.clone();
        for &id in &nodes {
            if !self.snapshot.node_exists(id) {
                let left = self.edges_at(id).len();
                if left > 0 {
                    return Err(GraphError::new(
                        Code::DEPENDENT_EDGES,
                        format!(
                            "{} still has {}",
                            self.name_of(Element::Node, id),
                            counted(left as u64, "edge")
                        ),
                    )
                    .hint("write DETACH DELETE to delete them with it"));
                }
                continue;
            }
            if let Some(graph_type) = &graph_type {
                let labels = self.snapshot.node_labels(id);
                graph_type
                    .check_node(&labels, &self.snapshot.node_properties(id))
                    .map_err(|v| v.into_error(&self.name_of(Element::Node, id)))?;
                // Its edges' types depend on its labels.
                if id < self.before.node_bound() && self.before.node_labels(id) != labels {
                    edges.extend(self.edges_at(id));
                }
            }
        }
        if let Some(graph_type) = &graph_type {
            for (id, e) in edges.iter().filter_map(|&id| Some((id, self.snapshot.edge_state(id)?))) {
                let ends = (self.snapshot.node_labels(e.source), self.snapshot.node_labels(e.target));
                graph_type
                    .check_edge(&e.labels, e.directed, (&ends.0, &ends.1), &e.properties)
                    .map_err(|v| v.into_error(&self.name_of(Element::Edge, id)))?;
            }
        }
        self.check_cardinalities(&nodes, &edges)?;
        self.snapshot.index_touched(&self.before, &nodes, &edges)?;
        self.all_nodes.extend(nodes);
        self.all_edges.extend(edges);
        // Key entries of the next statement are compared with the state after this one.
        self.before = self.snapshot.clone();
        Ok(())
    }

    /// An element in words: its labels and key or id.
    fn name_of(&self, element: Element, id: Dense) -> String {
        let snapshot = if element == Element::Node && !self.snapshot.node_exists(id) {
            &self.before
        } else {
            &self.snapshot
        };
        snapshot.name_of(element, id)
    }

    /// The new snapshot, one version on, and the changes that lead to it. Without any change, the
    /// snapshot it began with.
    pub fn finish(mut self) -> Result<(Snapshot, Vec<Change>), GraphError> {
        self.settle()?;
        let s = &self.snapshot;
        let mut changes = vec![];
        // Nodes first, so that an edge's ends are there when it is replayed; deleted nodes last.
        let mut deleted = vec![];
        for &id in &self.all_nodes {
            if s.node_exists(id) {
                changes.push(Change::Node {
                    id: s.node_id(id),
                    labels: s.node_labels(id),
                    properties: s.node_properties(id),
                });
            } else if let Some(id) = self.deleted_nodes.get(&id) {
                deleted.push(Change::DeleteNode(*id));
            }
        }
        for &id in &self.all_edges {
            if let Some(edge) = s.changed_edge(id) {
                changes.push(Change::Edge {
                    id: edge.id,
                    labels: edge.labels.clone(),
                    properties: edge.properties.clone(),
                    directed: edge.directed,
                    source: s.node_id(edge.source),
                    target: s.node_id(edge.target),
                });
            } else if let Some(id) = self.deleted_edges.get(&id) {
                changes.push(Change::DeleteEdge(*id));
            }
        }
        changes.extend(deleted);
        if !changes.is_empty() {
            self.snapshot.version += 1;
        }
        Ok((self.snapshot, changes))
    }
}

fn put_edge(snapshot: &mut Snapshot, id: Dense, record: Option<EdgeRecord>) {
    let ends = snapshot.edge_ends(id);
    let in_base = id < snapshot.base.edge_count()
        && record
            .as_ref()
            .is_none_or(|r| r.labels == snapshot.base.edges[snapshot.base.edge_table(id)].labels);
    snapshot.overlay.put_edge(id, ends, record, in_base);
}

impl Snapshot {
    /// The snapshot one version on, with the changes of a log entry done. They were checked when they
    /// were made; ids that are not there are an error (a damaged log).
    pub fn replay(&self, changes: &[Change]) -> Result<Snapshot, GraphError> {
        let mut next = self.clone();
        let mut nodes = BTreeSet::new();
        let mut edges = BTreeSet::new();
        let missing = |what: &str, id: ElementId| {
            GraphError::new(Code::DATA, format!("the log names {what} {id}, which is not there"))
        };
        for change in changes {
            match change {
                Change::Node { id, labels, properties } => {
                    let dense = match next.node_by_id(*id) {
                        Some(dense) => dense,
                        None => {
                            let overlay = &mut next.overlay;
                            overlay.next_node += 1;
                            overlay.live_nodes += 1;
                            overlay.next_node_id = overlay.next_node_id.max(id + 1);
                            overlay.next_node - 1
                        }
                    };
                    let record =
                        NodeRecord { id: *id, labels: labels.clone(), properties: properties.clone() };
                    next.overlay.put_node(dense, Some(record));
                    nodes.insert(dense);
                }
                Change::Edge { id, labels, properties, directed, source, target } => {
                    let ends = (
                        next.node_by_id(*source).ok_or_else(|| missing("node", *source))?,
                        next.node_by_id(*target).ok_or_else(|| missing("node", *target))?,
                    );
                    let record = EdgeRecord {
                        id: *id,
                        labels: labels.clone(),
                        properties: properties.clone(),
                        directed: *directed,
                        source: ends.0,
                        target: ends.1,
                    };
                    let dense = match next.edge_by_id(*id) {
                        Some(dense) => {
                            put_edge(&mut next, dense, Some(record));
                            dense
                        }
                        None => {
                            let overlay = &mut next.overlay;
                            let dense = overlay.next_edge;
                            overlay.next_edge += 1;
                            overlay.live_edges += 1;
                            overlay.next_edge_id = overlay.next_edge_id.max(id + 1);
                            overlay.put_edge(dense, ends, Some(record), false);
                            dense
                        }
                    };
                    edges.insert(dense);
                }
                Change::DeleteNode(id) => {
                    // An element made and deleted in one commit was never there for the replay.
                    if let Some(dense) = next.node_by_id(*id) {
                        next.overlay.put_node(dense, None);
                        next.overlay.live_nodes -= 1;
                        nodes.insert(dense);
                    }
                }
                Change::DeleteEdge(id) => {
                    if let Some(dense) = next.edge_by_id(*id) {
                        put_edge(&mut next, dense, None);
                        next.overlay.live_edges -= 1;
                        edges.insert(dense);
                    }
                }
            }
        }
        next.index_touched(self, &nodes, &edges)?;
        next.version += 1;
        Ok(next)
    }
}
