//! Compares a new model with the old one, type by type.

use std::sync::Arc;

use super::change_of_types::{Difference, Lost, TypeMap};
use crate::graph_type::show_labels;
use crate::{EdgeType, Element, GraphType, LabelSet, NodeType, PropertyType};

/// What is compared of a type of nodes or edges.
struct ComparedType<'t> {
    labels: &'t LabelSet,
    properties: &'t [PropertyType],
    key: &'t [Arc<str>],
    ends: Option<(String, String)>,
}

impl ComparedType<'_> {
    fn of_node(t: &NodeType) -> ComparedType<'_> {
        ComparedType { labels: &t.labels, properties: &t.properties, key: &t.key, ends: None }
    }

    fn of_edge(t: &EdgeType) -> ComparedType<'_> {
        let ends = Some((t.source.to_string(), t.target.to_string()));
        ComparedType { labels: &t.labels, properties: &t.properties, key: &t.key, ends }
    }
}

/// One old type, and where what is found of it goes.
struct OneType<'t> {
    element: Element,
    place: usize,
    before: ComparedType<'t>,
    /// As it was before the renamings: in its words the elements are still found.
    given: (&'t LabelSet, &'t [PropertyType]),
    lost: &'t Lost,
    found: Vec<Difference>,
}

impl OneType<'_> {
    fn say(&mut self, property: Option<&Arc<str>>, message: impl std::fmt::Display) {
        let message = format!("{} type {}{message}", self.element, show_labels(self.before.labels));
        let lost = self.lost.get(&(self.element, self.place, property.cloned())).copied().unwrap_or(0);
        let place = property.and_then(|p| self.before.properties.iter().position(|known| known.name == *p));
        let named = place.map(|place| &self.given.1[place].name);
        let query =
            (lost > 0).then(|| crate::finding_query::elements_with(self.element, self.given.0, named));
        let (labels, property) = (self.before.labels.clone(), property.cloned());
        self.found.push(Difference { element: self.element, labels, property, message, lost, query });
    }

    fn compare(&mut self, after: Option<ComparedType<'_>>) {
        let Some(after) = after else {
            let ends = self.before.ends.take().map(|(a, b)| format!(" from {a} to {b}")).unwrap_or_default();
            return self.say(None, format_args!("{ends} is dropped"));
        };
        if self.lost.contains_key(&(self.element, self.place, None)) {
            self.say(None, ": edges go with the nodes at their ends");
        }
        if self.before.labels != after.labels {
            self.say(None, format_args!(" gets the labels {}", show_labels(after.labels)));
        }
        if self.before.ends != after.ends
            && let Some((a, b)) = &after.ends
        {
            self.say(None, format_args!(" connects {a} to {b}"));
        }
        for p in self.before.properties {
            match after.properties.iter().find(|n| n.name == p.name) {
                Some(now) => self.compare_property(p, now),
                None => self.say(Some(&p.name), format_args!(": property {} is dropped", p.name)),
            }
        }
        for p in after.properties {
            if self.before.properties.iter().any(|known| known.name == p.name) {
                continue;
            }
            let default = p.default.as_ref();
            let fills = default.map(|d| format!(", {} where it was not", d.literal())).unwrap_or_default();
            let null = if p.not_null { " NOT NULL" } else { "" };
            let message = format!(": property {} {}{null} is new{fills}", p.name, p.value_type);
            self.say(Some(&p.name), message);
        }
        if self.before.key != after.key {
            let key = |names: &[Arc<str>]| {
                if names.is_empty() { "none".into() } else { format!("({})", names.join(", ")) }
            };
            let (now, was) = (key(after.key), key(self.before.key));
            self.say(None, format_args!(": the key becomes {now} (it is {was})"));
        }
    }

    fn compare_property(&mut self, was: &PropertyType, now: &PropertyType) {
        let (name, property) = (&was.name, Some(&was.name));
        if was.value_type != now.value_type {
            let (was, now) = (&was.value_type, &now.value_type);
            self.say(property, format_args!(": property {name} becomes {now} (it is {was})"));
        }
        if was.not_null != now.not_null {
            let how = if now.not_null { "may no more be null" } else { "may be null" };
            let fills = match &now.default {
                Some(default) if now.not_null => format!("; nulls become {}", default.literal()),
                _ => String::new(),
            };
            self.say(property, format_args!(": property {name} {how}{fills}"));
        }
        if was.default != now.default {
            let default = now.default.as_ref().map_or("none".into(), |d| d.literal());
            self.say(property, format_args!(": the default of {name} becomes {default}"));
        }
    }
}

/// How the new model differs from the old one; `given` is the old one before the renamings.
pub(super) fn compare(
    (given, old): (&GraphType, &GraphType), new: &GraphType, map: &TypeMap, lost: &Lost,
) -> Vec<Difference> {
    let mut found = vec![];
    for (place, (t, mapped)) in old.nodes.iter().zip(&map.nodes).enumerate() {
        let given = (&given.nodes[place].labels, &*given.nodes[place].properties);
        let before = ComparedType::of_node(t);
        let mut one = OneType { element: Element::Node, place, before, given, lost, found };
        one.compare(mapped.map(|n| ComparedType::of_node(&new.nodes[n])));
        found = one.found;
    }
    for (place, (t, mapped)) in old.edges.iter().zip(&map.edges).enumerate() {
        let given = (&given.edges[place].labels, &*given.edges[place].properties);
        let before = ComparedType::of_edge(t);
        let mut one = OneType { element: Element::Edge, place, before, given, lost, found };
        one.compare(mapped.map(|n| ComparedType::of_edge(&new.edges[n])));
        found = one.found;
    }
    let mut say = |element, labels: &LabelSet, message: String| {
        let labels = labels.clone();
        found.push(Difference { element, labels, property: None, message, lost: 0, query: None });
    };
    for (_, t) in new.nodes.iter().enumerate().filter(|(n, _)| !map.nodes.contains(&Some(*n))) {
        let message = format!("{} type {} is new", Element::Node, show_labels(&t.labels));
        say(Element::Node, &t.labels, message);
    }
    for (_, t) in new.edges.iter().enumerate().filter(|(n, _)| !map.edges.contains(&Some(*n))) {
        let (labels, ends) = (show_labels(&t.labels), format!("from {} to {}", t.source, t.target));
        say(Element::Edge, &t.labels, format!("{} type {labels} {ends} is new", Element::Edge));
    }
    for (list, other, how) in [
        (&old.cardinalities, &new.cardinalities, "is dropped"),
        (&new.cardinalities, &old.cardinalities, "is new"),
    ] {
        for cardinality in list.iter().filter(|c| !other.contains(c)) {
            say(Element::Node, &cardinality.node, format!("{cardinality} {how}"));
        }
    }
    found
}
