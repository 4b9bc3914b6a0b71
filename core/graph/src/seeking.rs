//! Elements by their keys.

use std::sync::Arc;

use crate::properties::{Properties, get_property};
use crate::{Column, Dense, Element, LabelSet, Snapshot, Value};

impl Snapshot {
    /// The element with these key values; `key` is an index into [`Self::keys`].
    pub fn seek(&self, key: usize, values: &[Value]) -> Option<Dense> {
        if values.iter().any(Value::is_null) {
            return None;
        }
        if let Some(found) = self.seek_overlay(key, values) {
            return Some(found);
        }
        let definition = &self.keys[key];
        let index = &self.base.keys[key];
        match definition.element {
            Element::Node => {
                // Of several that levels of the base hold, the one that nothing overlies is there.
                index.find(values, |&id| {
                    let agrees = definition.properties.iter().zip(values).all(|(p, v)| {
                        let table = &self.base.nodes[self.base.node_table(id)];
                        matches_at(table.column(p), (id - table.first) as usize, v)
                    });
                    agrees && self.node_is_base(id)
                })
            }
            Element::Edge => index.find(values, |&id| {
                let agrees = definition.properties.iter().zip(values).all(|(p, v)| {
                    let table = &self.base.edges[self.base.edge_table(id)];
                    matches_at(table.column(p), (id - table.first) as usize, v)
                });
                agrees && self.edge_record(id).is_none()
            }),
        }
    }

    /// A value of this property, on an element with this label, that cannot be compared with `value`: what a
    /// key or an index does not find is an error for a look at each element.
    pub fn incomparable(
        &self, element: Element, label: &str, property: &str, value: &Value,
    ) -> Option<Value> {
        let other = |v: &Value| !v.is_null() && v.kind_order(value).is_ne();
        let has = |labels: &LabelSet| labels.iter().any(|l| **l == *label);
        let in_column = |column: Option<&Column>, first: Dense, len: usize| {
            let column = column?;
            // Columns of one type are told by their first value.
            let typed = !matches!(column, Column::Other(_));
            let there = |row: &usize| match element {
                Element::Node => self.node_is_base(first + *row as Dense),
                Element::Edge => self.edge_record(first + *row as Dense).is_none(),
            };
            for row in 0..len {
                let found = column.value(row);
                if typed && !found.is_null() && !other(&found) {
                    return None;
                }
                if other(&found) && there(&row) {
                    return Some(found);
                }
            }
            None
        };
        let in_base = match element {
            Element::Node => self
                .base
                .nodes
                .iter()
                .filter(|t| has(&t.labels))
                .find_map(|t| in_column(t.column(property), t.first, t.len)),
            Element::Edge => self
                .base
                .edges
                .iter()
                .filter(|t| has(&t.labels))
                .find_map(|t| in_column(t.column(property), t.first, t.len)),
        };
        let in_record = |labels: &LabelSet, properties: &Properties| {
            let found = get_property(properties, property);
            (has(labels) && other(&found)).then_some(found)
        };
        in_base.or_else(|| match element {
            Element::Node => {
                let mut records = self.overlay.nodes.iter().filter_map(|(_, r)| r.as_ref());
                records.find_map(|r| in_record(&r.labels, &r.properties))
            }
            Element::Edge => {
                let mut records = self.overlay.edges.iter().filter_map(|(_, r)| r.as_ref());
                records.find_map(|r| in_record(&r.labels, &r.properties))
            }
        })
    }

    /// The key of `element` on exactly this label whose properties are all among `bound`.
    pub fn key_for(&self, element: Element, label: &str, bound: &[Arc<str>]) -> Option<usize> {
        self.keys.iter().position(|k| {
            k.element == element && *k.label == *label && k.properties.iter().all(|p| bound.contains(p))
        })
    }
}

fn matches_at(column: Option<&Column>, row: usize, value: &Value) -> bool {
    match (column, value) {
        (None, _) => false,
        (Some(Column::Int(a)), Value::Int(i)) => !a.is_null(row) && a.value(row) == *i,
        (Some(c), Value::Text(t)) => c.text(row).is_some_and(|text| *text == **t),
        (Some(c), v) => c.value(row) == *v,
    }
}
