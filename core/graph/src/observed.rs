//! The observed types of a graph, and the violations of a graph type.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use crate::finding_query;
use crate::properties::Properties;
use crate::{
    Dense, EdgeType, Element, Endpoint, GraphError, GraphType, LabelSet, MAX_DIGITS, NodeType, PropertyType,
    Snapshot, Value, ValueType, Violation,
};

/// Elements looked at between two questions whether to go on.
pub(crate) const ASK_EVERY: u32 = 4096;

/// The type of a value, and what holds both it and values of `known`.
fn join(known: Option<ValueType>, value: &Value) -> ValueType {
    let own = match value {
        Value::Decimal(d) => {
            let scale = d.scale() as u8;
            ValueType::Decimal { precision: (d.digits() as u8).max(scale), scale }
        }
        Value::List(items) => {
            let item = items.iter().filter(|v| !v.is_null()).fold(None, |t, v| Some(join(t, v)));
            ValueType::List(Box::new(item.unwrap_or(ValueType::Any)))
        }
        value => ValueType::of(value),
    };
    match known {
        None => own,
        Some(known) => join_types(known, own),
    }
}

/// What holds the values of both.
fn join_types(a: ValueType, b: ValueType) -> ValueType {
    match (a, b) {
        (a, b) if a == b => a,
        (ValueType::Decimal { precision: a, scale: b }, ValueType::Decimal { precision: c, scale: d }) => {
            let scale = b.max(d);
            let precision = (a - b).max(c - d) + scale;
            if u32::from(precision) > MAX_DIGITS {
                ValueType::DECIMAL
            } else {
                ValueType::Decimal { precision, scale }
            }
        }
        _ => ValueType::Any,
    }
}

#[derive(Default)]
struct Seen {
    count: u64,
    properties: BTreeMap<Arc<str>, (u64, Option<ValueType>)>,
}

impl Seen {
    fn add(&mut self, properties: &Properties) {
        self.count += 1;
        for (name, value) in properties.iter() {
            let (count, kind) = self.properties.entry(name.clone()).or_default();
            *count += 1;
            *kind = Some(join(kind.take(), value));
        }
    }

    /// Takes in what another kind of the same elements was seen to have.
    fn absorb(&mut self, other: Seen) {
        self.count += other.count;
        for (name, (count, kind)) in other.properties {
            let (own_count, own) = self.properties.entry(name).or_default();
            *own_count += count;
            *own = match (own.take(), kind) {
                (Some(a), Some(b)) => Some(join_types(a, b)),
                (a, b) => a.or(b),
            };
        }
    }

    fn types(self) -> Vec<PropertyType> {
        let total = self.count;
        self.properties
            .into_iter()
            .map(|(name, (count, kind))| PropertyType {
                name,
                value_type: kind.unwrap_or(ValueType::Any),
                not_null: count == total,
                default: None,
            })
            .collect()
    }
}

/// The labels of an edge, whether it is directed, the labels of its ends.
type Shape = (LabelSet, bool, LabelSet, LabelSet);

fn live_nodes(snapshot: &Snapshot) -> impl Iterator<Item = Dense> + '_ {
    (0..snapshot.node_bound()).filter(|&node| snapshot.node_exists(node))
}

fn live_edges(snapshot: &Snapshot) -> impl Iterator<Item = Dense> + '_ {
    (0..snapshot.edge_bound()).filter(|&edge| snapshot.edge_exists(edge))
}

fn shape(snapshot: &Snapshot, edge: Dense) -> Shape {
    let (from, to) = snapshot.edge_ends(edge);
    let (from, to) = (snapshot.node_labels(from), snapshot.node_labels(to));
    (snapshot.edge_labels(edge), snapshot.edge_directed(edge), from, to)
}

/// Whether an edge type for `wide` takes the edges of `narrow` as well: its ends ask for no more labels.
fn takes(wide: &Shape, narrow: &Shape) -> bool {
    let within = |few: &LabelSet, many: &LabelSet| few.iter().all(|l| many.contains(l));
    let forward = within(&wide.2, &narrow.2) && within(&wide.3, &narrow.3);
    let backward = !wide.1 && within(&wide.2, &narrow.3) && within(&wide.3, &narrow.2);
    wide.0 == narrow.0 && wide.1 == narrow.1 && (forward || backward)
}

/// One type for all edges that it takes.
fn merged(shapes: BTreeMap<Shape, Seen>) -> Vec<(Shape, Seen)> {
    let mut merged: Vec<(Shape, Seen)> = vec![];
    for (shape, mut seen) in shapes {
        // Those that this one takes, and the one that takes this one.
        let (taken, kept): (Vec<_>, Vec<_>) =
            merged.into_iter().partition(|(known, _)| takes(&shape, known) && !takes(known, &shape));
        merged = kept;
        taken.into_iter().for_each(|(_, other)| seen.absorb(other));
        match merged.iter_mut().find(|(known, _)| takes(known, &shape)) {
            Some((_, known)) => known.absorb(seen),
            None => merged.push((shape, seen)),
        }
    }
    merged
}

/// The narrowest graph type that everything in the graph conforms to; types in the order of their
/// labels. `go_on` is asked now and then and ends it with an error.
pub fn observed_type(
    snapshot: &Snapshot, name: &str, go_on: &dyn Fn() -> Result<(), GraphError>,
) -> Result<GraphType, GraphError> {
    let mut nodes: BTreeMap<LabelSet, Seen> = BTreeMap::new();
    for node in live_nodes(snapshot) {
        if node % ASK_EVERY == 0 {
            go_on()?;
        }
        nodes.entry(snapshot.node_labels(node)).or_default().add(&snapshot.node_properties(node));
    }
    let mut edges: BTreeMap<Shape, Seen> = BTreeMap::new();
    for edge in live_edges(snapshot) {
        if edge % ASK_EVERY == 0 {
            go_on()?;
        }
        edges.entry(shape(snapshot, edge)).or_default().add(&snapshot.edge_properties(edge));
    }
    let key_of = |element: Element, labels: &LabelSet| -> Vec<Arc<str>> {
        let known = snapshot.keys.iter().find(|k| k.element == element && labels.contains(&k.label));
        known.map(|k| k.properties.clone()).unwrap_or_default()
    };
    let node_types = nodes.into_iter().map(|(labels, seen)| NodeType {
        name: None,
        key_labels: labels.clone(),
        key: key_of(Element::Node, &labels),
        labels,
        properties: seen.types(),
    });
    let edge_types = merged(edges).into_iter().map(|((labels, directed, from, to), seen)| EdgeType {
        name: None,
        directed,
        source: Endpoint(vec![from]),
        target: Endpoint(vec![to]),
        properties: seen.types(),
        key: key_of(Element::Edge, &labels),
        labels,
    });
    Ok(GraphType {
        name: name.into(),
        nodes: node_types.collect(),
        edges: edge_types.collect(),
        cardinalities: vec![],
    })
}

/// One way in which elements break a graph type, or something to look at.
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    pub element: Element,
    pub labels: LabelSet,
    pub property: Option<Arc<str>>,
    /// Of the first such element.
    pub message: String,
    /// A query that finds all of them.
    pub query: Option<String>,
    pub count: u64,
    /// Element numbers of the first few.
    pub examples: Vec<Dense>,
}

pub(crate) const MOST_EXAMPLES: usize = 5;

#[derive(Default)]
struct Findings {
    found: BTreeMap<(bool, LabelSet, String), Finding>,
}

impl Findings {
    fn add(
        &mut self, element: Element, labels: LabelSet, dense: Dense, violation: Violation,
        query: impl FnOnce() -> String,
    ) {
        // The value differs from element to element, what is wrong does not.
        let kind = violation.message.split(", given").next().unwrap_or_default();
        let kind = kind.split(" (given").next().unwrap_or_default().to_string();
        let key = (element == Element::Edge, labels.clone(), kind);
        let finding = self.found.entry(key).or_insert_with(|| Finding {
            element,
            labels,
            property: violation.property,
            message: violation.message,
            query: Some(query()),
            count: 0,
            examples: vec![],
        });
        finding.count += 1;
        if finding.examples.len() < MOST_EXAMPLES {
            finding.examples.push(dense);
        }
    }
}

/// The query for what is wrong with a property; `None` where the labels are.
fn property_query(
    element: Element, labels: &LabelSet, violation: &Violation, types: Option<&[PropertyType]>,
) -> Option<String> {
    let property = violation.property.as_ref()?;
    Some(match types?.iter().find(|t| t.name == *property) {
        None => finding_query::elements_with(element, labels, Some(property)),
        Some(_) if violation.is_missing => {
            finding_query::lacking(element, labels, std::slice::from_ref(property))
        }
        Some(t) => finding_query::of_other_type(element, labels, property, &t.value_type),
    })
}

/// Everything that breaks `graph_type`, keys included, grouped by what is wrong.
pub fn violations(
    snapshot: &Snapshot, graph_type: &GraphType, go_on: &dyn Fn() -> Result<(), GraphError>,
) -> Result<Vec<Finding>, GraphError> {
    let mut findings = Findings::default();
    let keys = graph_type.keys();
    let mut taken: Vec<HashMap<Vec<Value>, Dense>> = vec![HashMap::new(); keys.len()];
    let mut check_keys = |element: Element,
                          dense: Dense,
                          labels: &LabelSet,
                          properties: &Properties,
                          findings: &mut Findings| {
        for (key, taken) in keys.iter().zip(&mut taken) {
            if key.element != element || !labels.contains(&key.label) {
                continue;
            }
            let value = |name: &Arc<str>| {
                properties.iter().find(|(n, _)| n == name).map_or(Value::Null, |(_, v)| v.clone())
            };
            let values: Vec<Value> = key.properties.iter().map(value).collect();
            if values.iter().any(Value::is_null) {
                let message = format!("the key ({}) is empty", key.properties.join(", "));
                let property = key.properties.first().cloned();
                let violation = Violation { property, message, hint: None, is_missing: false };
                findings.add(element, labels.clone(), dense, violation, || {
                    finding_query::lacking(element, labels, &key.properties)
                });
            } else if taken.insert(values.clone(), dense).is_some() {
                let shown: Vec<String> = values.iter().map(Value::excerpt).collect();
                let message = format!(
                    "another has the same key ({}), given {}",
                    key.properties.join(", "),
                    shown.join(", ")
                );
                let property = key.properties.first().cloned();
                let violation = Violation { property, message, hint: None, is_missing: false };
                findings.add(element, labels.clone(), dense, violation, || {
                    finding_query::repeated_key(element, &key.label, &key.properties)
                });
            }
        }
    };
    for node in live_nodes(snapshot) {
        if node % ASK_EVERY == 0 {
            go_on()?;
        }
        let (labels, properties) = (snapshot.node_labels(node), snapshot.node_properties(node));
        if let Err(violation) = graph_type.check_node(&labels, &properties) {
            let types = graph_type.node_type(&labels).map(|t| t.properties.as_slice());
            let query = property_query(Element::Node, &labels, &violation, types);
            findings.add(Element::Node, labels.clone(), node, violation, || {
                query.unwrap_or_else(|| finding_query::elements_with(Element::Node, &labels, None))
            });
        }
        check_keys(Element::Node, node, &labels, &properties, &mut findings);
        for cardinality in graph_type.cardinalities.iter().filter(|c| snapshot.exceeds(c, node)) {
            let violation =
                Violation { property: None, message: cardinality.exceeded(), hint: None, is_missing: false };
            findings.add(Element::Node, labels.clone(), node, violation, || {
                finding_query::too_many(&cardinality.node, &cardinality.edge, cardinality.most)
            });
        }
    }
    for edge in live_edges(snapshot) {
        if edge % ASK_EVERY == 0 {
            go_on()?;
        }
        let (labels, directed, from, to) = shape(snapshot, edge);
        let properties = snapshot.edge_properties(edge);
        if let Err(violation) = graph_type.check_edge(&labels, directed, (&from, &to), &properties) {
            let types =
                graph_type.edge_type(&labels, directed, (&from, &to)).map(|t| t.properties.as_slice());
            let query = property_query(Element::Edge, &labels, &violation, types);
            findings.add(Element::Edge, labels.clone(), edge, violation, || {
                query.unwrap_or_else(|| finding_query::between(&labels, directed, (&from, &to)))
            });
        }
        check_keys(Element::Edge, edge, &labels, &properties, &mut findings);
    }
    Ok(findings.found.into_values().collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{NewEdge, NewNode, Transaction, label_set};
    use proptest::prelude::*;

    fn go_on() -> Result<(), GraphError> {
        Ok(())
    }

    fn value() -> impl Strategy<Value = Value> {
        prop_oneof![
            Just(Value::Null),
            any::<i32>().prop_map(|i| Value::Int(i as i64)),
            any::<bool>().prop_map(Value::Bool),
            "[a-c]{0,2}".prop_map(|t| Value::text(t.as_str())),
            (0i64..999_999, 0u32..4)
                .prop_map(|(n, s)| Value::Decimal(crate::Decimal::of(n.into(), s).expect("short"))),
        ]
    }

    proptest! {
        #[test]
        fn everything_conforms_to_what_was_observed(
            nodes in prop::collection::vec((0usize..3, prop::collection::vec(value(), 2)), 1..12),
            edges in prop::collection::vec((0usize..99, 0usize..99, any::<bool>(), value()), 0..12),
        ) {
            let empty = Snapshot::empty(None).expect("empty");
            let mut transaction = Transaction::new(empty);
            let mut made = vec![];
            for (kind, values) in nodes {
                let labels = label_set([&["A"][..], &["B"], &["A", "B"]][kind].iter().map(|l| Arc::from(*l)));
                let named = ["p", "q"].iter().zip(values).filter(|(_, v)| !v.is_null());
                let properties = named.map(|(n, v)| (Arc::from(*n), v)).collect();
                made.push(transaction.insert_node(NewNode { labels, properties }).expect("node"));
            }
            for (from, to, directed, weight) in edges {
                let (source, target) = (made[from % made.len()], made[to % made.len()]);
                let properties = if weight.is_null() { vec![] } else { vec![(Arc::from("w"), weight)] };
                let labels = label_set([Arc::from("E")]);
                let edge = NewEdge { labels, properties, directed, source, target };
                transaction.insert_edge(edge).expect("edge");
            }
            transaction.settle().expect("settled");
            let snapshot = transaction.snapshot().clone();
            let observed = observed_type(&snapshot, "seen", &go_on).expect("observed");
            prop_assert_eq!(violations(&snapshot, &observed, &go_on).expect("checked"), vec![]);
            // What is narrower in one place is broken there.
            if let Some(first) = observed.nodes.first() {
                let mut narrower = observed.clone();
                let extra = PropertyType {
                    name: "missing".into(), value_type: ValueType::Bool, not_null: true, default: None,
                };
                narrower.nodes[0].properties.push(extra);
                let found = violations(&snapshot, &narrower, &go_on).expect("checked");
                prop_assert_eq!(found.len(), 1);
                prop_assert_eq!(&found[0].labels, &first.labels);
            }
        }
    }
}
