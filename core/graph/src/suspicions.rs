//! Suspicious data that violates nothing.

use std::collections::{BTreeMap, HashSet};
use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;

use crate::finding_query::{elements_with, without_edges};
use crate::observed::{ASK_EVERY, Finding, MOST_EXAMPLES};
use crate::properties::Properties;
use crate::{
    Dense, Direction, Element, GraphError, GraphType, LabelSet, PropertyType, Snapshot, Value, ValueType,
    parse_text,
};

/// A property that differs between this many elements is worth being a key.
const KEY_AT_LEAST: u64 = 20;
/// Distinct values are remembered for label sets of up to this many elements.
const REMEMBERED: u64 = 2_000_000;

/// What the values of one property of one label set have in common.
struct PropertyValues {
    count: u64,
    examples: Vec<Dense>,
    /// Hashes of the values, for as long as none came twice.
    distinct: Option<HashSet<u64>>,
    /// For as long as every value is a text that reads as one.
    number: bool,
    date: bool,
}

impl PropertyValues {
    fn new() -> PropertyValues {
        PropertyValues {
            count: 0,
            examples: vec![],
            distinct: Some(HashSet::new()),
            number: true,
            date: true,
        }
    }

    fn add(&mut self, element: Dense, value: &Value, state: &RandomState) {
        self.count += 1;
        if self.examples.len() < MOST_EXAMPLES {
            self.examples.push(element);
        }
        let reads_as = |wanted: &[ValueType]| matches!(value, Value::Text(t) if wanted.iter().any(|w| parse_text(w, t).is_ok()));
        // A leading zero is part of a code, not of a number.
        let coded = matches!(value, Value::Text(t) if t.len() > 1 && t.starts_with('0') && !t.contains('.'));
        self.number = self.number && !coded && reads_as(&[ValueType::Int(64), ValueType::Float(64)]);
        self.date = self.date && reads_as(&[ValueType::Date]);
        let keyed = matches!(value, Value::Text(_) | Value::Int(_));
        if let Some(known) = &mut self.distinct
            && (!keyed || self.count > REMEMBERED || !known.insert(state.hash_one(value)))
        {
            self.distinct = None;
        }
    }
}

#[derive(Default)]
struct LabelSetValues {
    total: u64,
    properties: BTreeMap<Arc<str>, PropertyValues>,
}

impl LabelSetValues {
    fn add(&mut self, element: Dense, properties: &Properties, state: &RandomState) {
        self.total += 1;
        for (name, value) in properties.iter() {
            self.properties
                .entry(name.clone())
                .or_insert_with(PropertyValues::new)
                .add(element, value, state);
        }
    }
}

fn finding(element: Element, labels: &LabelSet, property: Option<&Arc<str>>, message: String) -> Finding {
    let (labels, property) = (labels.clone(), property.cloned());
    Finding { element, labels, property, message, query: None, count: 1, examples: vec![] }
}

/// Types that nothing is of, properties that are always null, names that differ in case only, nodes
/// without edges, keys that could be declared, texts that are numbers or dates.
pub fn suspicions(
    snapshot: &Snapshot, graph_type: &GraphType, go_on: &dyn Fn() -> Result<(), GraphError>,
) -> Result<Vec<Finding>, GraphError> {
    let state = RandomState::new();
    let mut nodes: BTreeMap<LabelSet, LabelSetValues> = BTreeMap::new();
    let mut lonely: BTreeMap<LabelSet, (u64, Vec<Dense>)> = BTreeMap::new();
    let all = snapshot.edge_test(None);
    for node in (0..snapshot.node_bound()).filter(|&n| snapshot.node_exists(n)) {
        if node % ASK_EVERY == 0 {
            go_on()?;
        }
        let labels = snapshot.node_labels(node);
        nodes.entry(labels.clone()).or_default().add(node, &snapshot.node_properties(node), &state);
        let mut any = false;
        snapshot.for_each_adjacent(node, Direction::Any, &all, |_, _| {
            any = true;
            std::ops::ControlFlow::Break(())
        });
        if !any {
            let (count, examples) = lonely.entry(labels).or_default();
            *count += 1;
            if examples.len() < MOST_EXAMPLES {
                examples.push(node);
            }
        }
    }
    let mut edges: BTreeMap<LabelSet, LabelSetValues> = BTreeMap::new();
    for edge in (0..snapshot.edge_bound()).filter(|&e| snapshot.edge_exists(e)) {
        if edge % ASK_EVERY == 0 {
            go_on()?;
        }
        let seen = edges.entry(snapshot.edge_labels(edge)).or_default();
        seen.add(edge, &snapshot.edge_properties(edge), &state);
    }
    let mut found = vec![];
    types_without_elements(graph_type, &nodes, &edges, &mut found);
    for (element, seen) in [(Element::Node, &nodes), (Element::Edge, &edges)] {
        same_but_for_case(element, seen, &mut found);
    }
    for (labels, (count, examples)) in lonely {
        let takes_part =
            graph_type.edges.iter().any(|t| t.source.accepts(&labels) || t.target.accepts(&labels));
        if takes_part {
            let message = format!("node :{} without an edge, though its type has some", labels.join("&"));
            let query = Some(without_edges(&labels));
            found.push(Finding { query, count, examples, ..finding(Element::Node, &labels, None, message) });
        }
    }
    for t in &graph_type.nodes {
        if let Some(seen) = nodes.get(&t.labels) {
            let keyed = !t.key.is_empty() || has_key(snapshot, Element::Node, &t.labels);
            properties(Element::Node, &t.labels, &t.properties, keyed, seen, &mut found);
        }
    }
    let mut told: Vec<&LabelSet> = vec![];
    for t in &graph_type.edges {
        if let Some(seen) = edges.get(&t.labels)
            && !told.contains(&&t.labels)
        {
            told.push(&t.labels);
            // Edges are known by their ends; a key of their own is seldom missed.
            properties(Element::Edge, &t.labels, &t.properties, true, seen, &mut found);
        }
    }
    Ok(found)
}

fn has_key(snapshot: &Snapshot, element: Element, labels: &LabelSet) -> bool {
    snapshot.keys.iter().any(|k| k.element == element && labels.contains(&k.label))
}

fn types_without_elements(
    graph_type: &GraphType, nodes: &BTreeMap<LabelSet, LabelSetValues>,
    edges: &BTreeMap<LabelSet, LabelSetValues>, found: &mut Vec<Finding>,
) {
    for t in graph_type.nodes.iter().filter(|t| !nodes.contains_key(&t.labels)) {
        let message = format!("there is no node with exactly the labels :{}", t.labels.join("&"));
        found.push(finding(Element::Node, &t.labels, None, message));
    }
    for t in graph_type.edges.iter().filter(|t| !edges.contains_key(&t.labels)) {
        let message = format!("there is no edge :{}", t.labels.join("&"));
        found.push(finding(Element::Edge, &t.labels, None, message));
    }
}

fn same_but_for_case(element: Element, seen: &BTreeMap<LabelSet, LabelSetValues>, found: &mut Vec<Finding>) {
    let mut names: Vec<&Arc<str>> = seen.keys().flat_map(|labels| labels.iter()).collect();
    names.sort();
    names.dedup();
    for (i, a) in names.iter().enumerate() {
        for b in names[i + 1..].iter().filter(|b| b.to_lowercase() == a.to_lowercase()) {
            let labels: LabelSet = Arc::from([Arc::clone(a), Arc::clone(b)]);
            let message = format!("the {element} labels {a} and {b} differ in case only");
            found.push(finding(element, &labels, None, message));
        }
    }
}

fn properties(
    element: Element, labels: &LabelSet, types: &[PropertyType], keyed: bool, seen: &LabelSetValues,
    found: &mut Vec<Finding>,
) {
    let shown = format!("{element} :{}", labels.join("&"));
    for declared in types {
        let name = &declared.name;
        let Some(values) = seen.properties.get(name) else {
            let message = format!("{shown}: property {name} is null in all of them");
            found.push(Finding { count: seen.total, ..finding(element, labels, Some(name), message) });
            continue;
        };
        let reads = if values.number { "numbers" } else { "dates" };
        if values.number || values.date {
            let message = format!("{shown}: the texts of property {name} are all {reads}");
            found.push(Finding {
                query: Some(elements_with(element, labels, Some(name))),
                count: values.count,
                examples: values.examples.clone(),
                ..finding(element, labels, Some(name), message)
            });
        }
        let everywhere = values.count == seen.total && seen.total >= KEY_AT_LEAST;
        if !keyed && everywhere && values.distinct.is_some() {
            let message = format!("{shown}: property {name} could be its key, it differs in all of them");
            found.push(Finding { count: values.count, ..finding(element, labels, Some(name), message) });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{NewEdge, NewNode, Transaction, label_set};

    #[test]
    fn each_suspicion_is_found_and_nothing_else() {
        let mut transaction = Transaction::new(Snapshot::empty(None).expect("empty"));
        let mut made = vec![];
        for i in 0..KEY_AT_LEAST as i64 {
            let properties = vec![
                (Arc::from("code"), Value::text(format!("c{i}"))),
                (Arc::from("built"), Value::text(format!("{}", 1900 + i))),
                (Arc::from("since"), Value::text("2020-01-02")),
                (Arc::from("zip"), Value::text("01234")),
            ];
            let labels = label_set(["Pump"]);
            made.push(transaction.insert_node(NewNode { labels, properties }).expect("node"));
        }
        let labels = label_set(["pump"]);
        transaction.insert_node(NewNode { labels, properties: vec![] }).expect("node");
        for pair in made.windows(2).take(KEY_AT_LEAST as usize - 2) {
            let (labels, source, target) = (label_set(["FEEDS"]), pair[0], pair[1]);
            let edge = NewEdge { labels, properties: vec![], directed: true, source, target };
            transaction.insert_edge(edge).expect("edge");
        }
        transaction.settle().expect("settled");
        let snapshot = transaction.snapshot().clone();
        let text = |name: &str| PropertyType {
            name: name.into(),
            value_type: ValueType::TEXT,
            not_null: false,
            default: None,
        };
        let mut model = crate::observed_type(&snapshot, "seen", &|| Ok(())).expect("observed");
        let pumps = model.nodes.iter_mut().find(|t| *t.labels[0] == *"Pump").expect("pumps");
        pumps.properties.push(text("maker"));
        let mut gone = pumps.clone();
        gone.labels = label_set(["Valve"]);
        model.nodes.push(gone);
        let found = suspicions(&snapshot, &model, &|| Ok(())).expect("looked");
        let messages: Vec<(&str, u64)> = found.iter().map(|f| (f.message.as_str(), f.count)).collect();
        assert_eq!(
            messages,
            [
                ("there is no node with exactly the labels :Valve", 1),
                ("the node labels Pump and pump differ in case only", 1),
                ("node :Pump without an edge, though its type has some", 1),
                ("node :Pump: the texts of property built are all numbers", 20),
                ("node :Pump: property built could be its key, it differs in all of them", 20),
                ("node :Pump: property code could be its key, it differs in all of them", 20),
                ("node :Pump: the texts of property since are all dates", 20),
                ("node :Pump: property maker is null in all of them", 20),
            ]
        );
    }
}
