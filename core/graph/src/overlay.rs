//! Changes since the base, in persistent maps: a commit costs as much as its changes, and an untouched node is read
//! at base speed.

use std::sync::Arc;

use hashbrown::DefaultHashBuilder;
use imbl::{HashMap, OrdMap, OrdSet};

use crate::keys::hash_values;
use crate::properties::Properties;
use crate::range_index::Entry;
use crate::{Dense, ElementId, LabelSet, Schema, Value};

/// The whole state of a node that the overlay holds.
#[derive(Clone, Debug, PartialEq)]
pub struct NodeRecord {
    pub id: ElementId,
    pub labels: LabelSet,
    pub properties: Properties,
}

#[derive(Clone, Debug, PartialEq)]
pub struct EdgeRecord {
    pub id: ElementId,
    pub labels: LabelSet,
    pub properties: Properties,
    pub directed: bool,
    /// For an undirected edge the two ends in the order they were written.
    pub source: Dense,
    pub target: Dense,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Role {
    Source,
    Target,
    Undirected,
}

/// An edge in the overlay's adjacency of one of its ends.
#[derive(Clone, Debug)]
pub(crate) struct Adjacent {
    pub edge: Dense,
    pub other: Dense,
    pub role: Role,
    pub labels: LabelSet,
}

/// Which elements were touched: a bit each, in leaves that are there where something was. A look is two steps in
/// memory however much was touched, and a commit copies the leaves that it changes.
#[derive(Clone, Debug, Default)]
pub(crate) struct TouchMarks(Arc<[Option<Arc<Leaf>>]>);

/// The bits of a leaf, and how a number is divided: into leaf, word and bit.
const LEAF_BITS: u32 = 15;
type Leaf = [u64; 1 << (LEAF_BITS - 6)];

impl TouchMarks {
    #[inline]
    fn place(element: Dense) -> (usize, usize, u64) {
        let leaf = (element >> LEAF_BITS) as usize;
        (leaf, (element as usize >> 6) & ((1 << (LEAF_BITS - 6)) - 1), 1 << (element & 63))
    }

    #[inline]
    pub fn has(&self, element: Dense) -> bool {
        let (leaf, word, bit) = TouchMarks::place(element);
        self.0.get(leaf).is_some_and(|leaf| leaf.as_ref().is_some_and(|words| words[word] & bit != 0))
    }

    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    fn add(&mut self, element: Dense) {
        if self.has(element) {
            return;
        }
        let (leaf, word, bit) = TouchMarks::place(element);
        if leaf >= self.0.len() {
            let more = std::iter::repeat_n(None, leaf + 1 - self.0.len());
            self.0 = self.0.iter().cloned().chain(more).collect();
        }
        let leaf =
            Arc::make_mut(&mut self.0)[leaf].get_or_insert_with(|| Arc::new([0; 1 << (LEAF_BITS - 6)]));
        Arc::make_mut(leaf)[word] |= bit;
    }
}

/// The elements of the overlay that have a key, by the hash of its values, which the elements hold.
#[derive(Clone, Debug, Default)]
pub(crate) struct KeyEntries {
    state: DefaultHashBuilder,
    entries: OrdMap<u64, OfHash>,
}

/// The elements of one hash: one, unless hashes fall together.
#[derive(Clone, Debug)]
enum OfHash {
    One(Dense),
    Several(Arc<[Dense]>),
}

impl OfHash {
    fn elements(&self) -> &[Dense] {
        match self {
            OfHash::One(id) => std::slice::from_ref(id),
            OfHash::Several(ids) => ids,
        }
    }
}

impl KeyEntries {
    pub fn insert(&mut self, values: &[Value], id: Dense) {
        let hash = hash_values(&self.state, values);
        let more = match self.entries.get(&hash).map(OfHash::elements) {
            None => OfHash::One(id),
            Some(known) if known.contains(&id) => return,
            Some(known) => OfHash::Several(known.iter().copied().chain([id]).collect()),
        };
        self.entries.insert(hash, more);
    }

    pub fn remove(&mut self, values: &[Value], id: Dense) {
        let hash = hash_values(&self.state, values);
        let Some(known) = self.entries.get(&hash).map(OfHash::elements) else { return };
        let left: Vec<Dense> = known.iter().copied().filter(|other| *other != id).collect();
        match left[..] {
            [] => self.entries.remove(&hash),
            [one] => self.entries.insert(hash, OfHash::One(one)),
            _ => self.entries.insert(hash, OfHash::Several(left.into())),
        };
    }

    /// The elements that may have these values.
    pub fn candidates(&self, values: &[Value]) -> &[Dense] {
        self.entries.get(&hash_values(&self.state, values)).map_or(&[], OfHash::elements)
    }
}

#[derive(Clone, Debug)]
pub(crate) struct Overlay {
    /// New or changed nodes; `None` where a node was deleted.
    pub nodes: OrdMap<Dense, Option<Arc<NodeRecord>>>,
    pub edges: OrdMap<Dense, Option<Arc<EdgeRecord>>>,
    /// Edges that are new, or whose labels changed, by both ends.
    pub adjacency: HashMap<Dense, Arc<Vec<Adjacent>>>,
    /// Nodes that are new, changed or gone, or have such an edge.
    pub touched: TouchMarks,
    /// Edges that are new, changed or gone.
    pub touched_edges: TouchMarks,
    /// Per key of the snapshot: where the overlay's elements are. A base entry counts only where the
    /// overlay does not hold the element.
    pub keys: Vec<KeyEntries>,
    /// Per index of the snapshot: the overlay's elements in its order.
    pub indexes: Vec<OrdSet<Entry>>,
    /// Of new elements; the base knows its own.
    pub nodes_by_id: OrdMap<ElementId, Dense>,
    pub edges_by_id: OrdMap<ElementId, Dense>,
    /// The first numbers that are none of the base's.
    first_node: Dense,
    first_edge: Dense,
    pub next_node: Dense,
    pub next_edge: Dense,
    pub next_node_id: ElementId,
    pub next_edge_id: ElementId,
    /// Every label set that a node or an edge of the overlay has had.
    pub label_sets: Arc<Vec<LabelSet>>,
    /// Nodes and edges there are, base included.
    pub live_nodes: u64,
    pub live_edges: u64,
}

impl Overlay {
    pub fn new(
        nodes: Dense, edges: Dense, node_ids: ElementId, edge_ids: ElementId, schema: &Schema,
    ) -> Self {
        Overlay {
            nodes: OrdMap::new(),
            edges: OrdMap::new(),
            adjacency: HashMap::new(),
            touched: TouchMarks::default(),
            touched_edges: TouchMarks::default(),
            keys: vec![KeyEntries::default(); schema.keys.len()],
            indexes: vec![OrdSet::new(); schema.indexes.len()],
            nodes_by_id: OrdMap::new(),
            edges_by_id: OrdMap::new(),
            first_node: nodes,
            first_edge: edges,
            next_node: nodes,
            next_edge: edges,
            next_node_id: node_ids,
            next_edge_id: edge_ids,
            label_sets: Arc::new(vec![]),
            live_nodes: nodes as u64,
            live_edges: edges as u64,
        }
    }

    /// How many elements it holds: the measure by which it is folded.
    pub fn len(&self) -> usize {
        self.nodes.len() + self.edges.len()
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn know_labels(&mut self, labels: &LabelSet) {
        if !self.label_sets.iter().any(|known| Arc::ptr_eq(known, labels) || known == labels) {
            Arc::make_mut(&mut self.label_sets).push(labels.clone());
        }
    }

    pub fn put_node(&mut self, dense: Dense, record: Option<NodeRecord>) {
        self.touched.add(dense);
        if let Some(record) = &record {
            self.know_labels(&record.labels);
            if dense >= self.first_node {
                self.nodes_by_id.insert(record.id, dense);
            }
        }
        self.nodes.insert(dense, record.map(Arc::new));
    }

    /// Stores an edge's new state. `in_base` says that the base's rows still show it rightly (same
    /// labels, not new), so that it needs no entry in the overlay's adjacency.
    pub fn put_edge(
        &mut self, dense: Dense, ends: (Dense, Dense), record: Option<EdgeRecord>, in_base: bool,
    ) {
        for end in [ends.0, ends.1] {
            self.touched.add(end);
            if let Some(list) = self.adjacency.get(&end)
                && list.iter().any(|a| a.edge == dense)
            {
                let kept: Vec<Adjacent> = list.iter().filter(|a| a.edge != dense).cloned().collect();
                if kept.is_empty() {
                    self.adjacency.remove(&end);
                } else {
                    self.adjacency.insert(end, Arc::new(kept));
                }
            }
        }
        if let Some(record) = &record {
            self.know_labels(&record.labels);
            if dense >= self.first_edge {
                self.edges_by_id.insert(record.id, dense);
            }
            if !in_base {
                let roles = if record.directed {
                    [Role::Source, Role::Target]
                } else {
                    [Role::Undirected, Role::Undirected]
                };
                self.add_adjacent(record, dense, record.source, record.target, roles[0]);
                if record.directed || record.source != record.target {
                    self.add_adjacent(record, dense, record.target, record.source, roles[1]);
                }
            }
        }
        self.touched_edges.add(dense);
        self.edges.insert(dense, record.map(Arc::new));
    }

    fn add_adjacent(&mut self, record: &EdgeRecord, edge: Dense, at: Dense, other: Dense, role: Role) {
        let entry = Adjacent { edge, other, role, labels: record.labels.clone() };
        let list = self.adjacency.entry(at).or_default();
        Arc::make_mut(list).push(entry);
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_was_touched_is_what_was_added_and_copies_stay(
            numbers in prop::collection::vec(prop_oneof![0u32..200, 30_000u32..40_000, 0u32..3_000_000], 0..200),
            at in 0usize..200,
        ) {
            let mut touched = TouchMarks::default();
            prop_assert!(touched.is_empty());
            let mut before = (touched.clone(), BTreeSet::new());
            let mut added = BTreeSet::new();
            for (place, number) in numbers.iter().enumerate() {
                if place == at {
                    before = (touched.clone(), added.clone());
                }
                touched.add(*number);
                added.insert(*number);
            }
            for (touched, added) in [(&touched, &added), (&before.0, &before.1)] {
                let near = numbers.iter().flat_map(|n| [n.saturating_sub(1), *n, n + 1, n ^ (1 << 15)]);
                for number in near.chain([0, u32::MAX]) {
                    prop_assert_eq!(touched.has(number), added.contains(&number), "{}", number);
                }
            }
        }
    }
}
