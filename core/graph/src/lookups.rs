//! Keys and indexes of a snapshot: changed, searched, and kept right as elements change.

use std::cmp::Ordering;
use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::sync::Arc;

use crate::counted::counted;
use crate::graph_type::show_labels;
use crate::properties::Properties;
use crate::range_index::Entry;
use crate::{
    Cardinality, Code, Collision, Dense, Direction, Element, GraphError, IndexSearch, KeyDefinition,
    LabelExpression, LabelSet, Schema, Snapshot, Value,
};

impl Snapshot {
    pub fn schema(&self) -> Schema {
        Schema {
            graph_type: self.graph_type.clone(),
            keys: self.keys.clone(),
            indexes: self.indexes.clone(),
            views: self.views.clone(),
            bounds: self.bounds.clone(),
        }
    }

    /// The same elements under another schema, whose type they are not checked against. A key that is new
    /// must hold for the base alone too: fold first where the overlay may have mended it.
    pub fn with_schema(
        &self, schema: Schema, go_on: &(dyn Fn() -> Result<(), GraphError> + Sync),
    ) -> Result<Snapshot, GraphError> {
        self.under(schema, true, go_on)
    }

    /// [`Self::with_schema`] of a graph that is being opened: what takes its time is left to [`crate::Base::make_ready`].
    pub fn reopened_with_schema(&self, schema: Schema) -> Result<Snapshot, GraphError> {
        self.under(schema, false, &|| Ok(()))
    }

    fn under(
        &self, schema: Schema, bounds_at_once: bool, go_on: &(dyn Fn() -> Result<(), GraphError> + Sync),
    ) -> Result<Snapshot, GraphError> {
        let base = Arc::new(self.base.with_lookups(&schema, bounds_at_once, go_on)?);
        let mut next = self.clone();
        next.base = base;
        next.overlay.keys = vec![Default::default(); schema.keys.len()];
        next.overlay.indexes = vec![Default::default(); schema.indexes.len()];
        let Schema { graph_type, keys, indexes, views, bounds } = schema;
        (next.graph_type, next.keys, next.indexes) = (graph_type, keys, indexes);
        (next.views, next.bounds) = (views, bounds);
        next.index_overlay()?;
        Ok(next)
    }

    /// The elements that an index finds, in no order; `index` is an index into [`Self::indexes`].
    pub fn search(&self, index: usize, search: &IndexSearch, mut found: impl FnMut(Dense)) {
        if search.is_empty() {
            return;
        }
        let definition = &self.indexes[index];
        let node = definition.element == Element::Node;
        let value = |id: Dense, property: usize| {
            let name = &definition.properties[property];
            if node { self.base.node_value(id, name) } else { self.base.edge_value(id, name) }
        };
        for id in self.base.indexes[index].find(|id| search.place(|p| value(id, p))) {
            let untouched = if node { self.node_is_base(id) } else { self.edge_record(id).is_none() };
            if untouched {
                found(id);
            }
        }
        // From the first value on; before a range without a lower bound lie values of other kinds.
        let mut first = search.equal.clone();
        first.extend(search.range.as_ref().and_then(|r| r.lower.clone()).map(|(bound, _)| bound));
        for entry in self.overlay.indexes[index].range(Entry(first, 0)..) {
            match search.place(|p| entry.0[p].clone()) {
                Ordering::Less => {}
                Ordering::Equal => found(entry.1),
                Ordering::Greater => break,
            }
        }
    }

    fn exists(&self, element: Element, id: Dense) -> bool {
        match element {
            Element::Node => id < self.node_bound() && self.node_exists(id),
            Element::Edge => id < self.edge_bound() && self.edge_exists(id),
        }
    }

    /// Values of an element under a key or an index, null where it lacks a property; `None` where the
    /// element is not there or not of its kind.
    fn entry_values(&self, definition: &KeyDefinition, element: Element, id: Dense) -> Option<Vec<Value>> {
        if definition.element != element || !self.exists(element, id) {
            return None;
        }
        let (labels, properties) = match element {
            Element::Node => (self.node_labels(id), self.node_properties(id)),
            Element::Edge => (self.edge_labels(id), self.edge_properties(id)),
        };
        labels.binary_search(&definition.label).ok()?;
        let value = |p| properties.iter().find(|(n, _)| n == p).map_or(Value::Null, |(_, v)| v.clone());
        Some(definition.properties.iter().map(value).collect())
    }

    /// Values of an element under a key, or `None` where it has no such key.
    pub(crate) fn key_values(&self, key: &KeyDefinition, element: Element, id: Dense) -> Option<Vec<Value>> {
        self.entry_values(key, element, id).filter(|values| !values.iter().any(Value::is_null))
    }

    /// The element of the overlay with these values of a key.
    pub(crate) fn seek_overlay(&self, key: usize, values: &[Value]) -> Option<Dense> {
        let definition = &self.keys[key];
        let agrees = |labels: &LabelSet, properties: &Properties| {
            labels.binary_search(&definition.label).is_ok()
                && definition.properties.iter().zip(values).all(|(name, wanted)| {
                    properties.iter().any(|(known, value)| known == name && value == wanted)
                })
        };
        self.overlay.keys[key].candidates(values).iter().copied().find(|id| match definition.element {
            Element::Node => match self.overlay.nodes.get(id) {
                Some(Some(record)) => agrees(&record.labels, &record.properties),
                _ => false,
            },
            Element::Edge => match self.overlay.edges.get(id) {
                Some(Some(record)) => agrees(&record.labels, &record.properties),
                _ => false,
            },
        })
    }

    fn index_entry(&self, index: &KeyDefinition, element: Element, id: Dense) -> Option<Entry> {
        let values = self.entry_values(index, element, id)?;
        (!values.first().is_none_or(Value::is_null)).then_some(Entry(values, id))
    }

    /// Takes the touched elements' old entries out and puts their new ones in; an error where another
    /// element has a key's values.
    pub(crate) fn index_touched(
        &mut self, before: &Snapshot, nodes: &BTreeSet<Dense>, edges: &BTreeSet<Dense>,
    ) -> Result<(), GraphError> {
        let touched = |element: Element| if element == Element::Node { nodes } else { edges };
        for key in 0..self.keys.len() {
            let definition = self.keys[key].clone();
            let element = definition.element;
            for &id in touched(element) {
                if let Some(old) = before.key_values(&definition, element, id) {
                    self.overlay.keys[key].remove(&old, id);
                }
            }
            for &id in touched(element) {
                let Some(values) = self.key_values(&definition, element, id) else { continue };
                match self.seek(key, &values) {
                    Some(other) if other != id => return Err(definition.taken(&values)),
                    _ => {
                        self.overlay.keys[key].insert(&values, id);
                    }
                }
            }
        }
        for index in 0..self.indexes.len() {
            let definition = self.indexes[index].clone();
            let element = definition.element;
            for &id in touched(element) {
                if let Some(old) = before.index_entry(&definition, element, id) {
                    self.overlay.indexes[index].remove(&old);
                }
                if let Some(new) = self.index_entry(&definition, element, id) {
                    self.overlay.indexes[index].insert(new);
                }
            }
        }
        Ok(())
    }

    /// Enters everything that the overlay holds, for keys and indexes that have no entries yet.
    pub(crate) fn index_overlay(&mut self) -> Result<(), GraphError> {
        let nodes = self.overlay.nodes.keys().copied().collect();
        let edges = self.overlay.edges.keys().copied().collect();
        // Compared with nothing: there are no entries to take out.
        let before = self.clone();
        self.index_touched(&before, &nodes, &edges)
    }

    /// Whether a node has more edges than it may.
    pub fn exceeds(&self, cardinality: &Cardinality, node: Dense) -> bool {
        if !self.exists(Element::Node, node) || !cardinality.applies_to(&self.node_labels(node)) {
            return false;
        }
        let test = self.edge_test(Some(&LabelExpression::Name(cardinality.edge.clone())));
        let mut count = 0;
        self.for_each_adjacent(node, Direction::Any, &test, |_, _| {
            count += 1;
            if count > cardinality.most { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        count > cardinality.most
    }

    /// An error where a node has more edges than the graph type lets it have.
    pub fn check_all_cardinalities(&self) -> Result<(), GraphError> {
        let bound = self.node_bound();
        self.check_cardinalities_of(|| Box::new(0..bound))
    }

    /// [`Self::check_all_cardinalities`] of the nodes at the ends of edges in tables from `first` on.
    pub fn check_cardinalities_from(&self, first: usize) -> Result<(), GraphError> {
        self.check_cardinalities_of(|| {
            let tables = self.base.edges[first.min(self.base.edges.len())..].iter();
            let ends =
                tables.flat_map(|t| t.forward.owners().chain(t.reverse().owners()).collect::<Vec<_>>());
            let ends: BTreeSet<Dense> = ends.collect();
            Box::new(ends.into_iter())
        })
    }

    fn check_cardinalities_of(
        &self, nodes: impl Fn() -> Box<dyn Iterator<Item = Dense>>,
    ) -> Result<(), GraphError> {
        let Some(graph_type) = &self.graph_type else { return Ok(()) };
        for cardinality in &graph_type.cardinalities {
            let over: Vec<Dense> = nodes().filter(|&id| self.exceeds(cardinality, id)).collect();
            if over.is_empty() {
                continue;
            }
            let shown: Vec<String> = over.iter().take(5).map(|&id| self.name_of(Element::Node, id)).collect();
            let message = format!("{} with {}", counted(over.len() as u64, "node"), cardinality.exceeded());
            return Err(GraphError::new(Code::GRAPH_TYPE_VIOLATION, message).hint(shown.join("; ")));
        }
        Ok(())
    }

    /// An error where two elements that are both there have one key.
    pub fn check_collisions(&self, collisions: &[Collision]) -> Result<(), GraphError> {
        let untouched = |key: usize, id: Dense| match self.keys[key].element {
            Element::Node => self.node_is_base(id),
            Element::Edge => self.edge_record(id).is_none(),
        };
        let real: Vec<Collision> = collisions
            .iter()
            .copied()
            .filter(|&(key, a, b)| untouched(key, a) && untouched(key, b))
            .collect();
        match real.first() {
            None => Ok(()),
            Some((key, ..)) => Err(self.base.broken(&self.keys[*key], *key, &real)),
        }
    }

    /// An element in words: its labels and its key.
    pub fn name_of(&self, element: Element, id: Dense) -> String {
        let (labels, properties) = match element {
            Element::Node => (self.node_labels(id), self.node_properties(id)),
            Element::Edge => (self.edge_labels(id), self.edge_properties(id)),
        };
        let key = self.keys.iter().find(|k| k.element == element && labels.contains(&k.label));
        let shown: Vec<String> = key
            .map(|k| k.properties.as_slice())
            .unwrap_or_default()
            .iter()
            .filter_map(|p| properties.iter().find(|(n, _)| n == p))
            .map(|(n, v)| format!("{n}: {}", v.excerpt()))
            .collect();
        let labels = show_labels(&labels);
        if shown.is_empty() {
            format!("{element} {labels}")
        } else {
            format!("{element} {labels} {{{}}}", shown.join(", "))
        }
    }
}
