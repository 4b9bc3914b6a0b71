//! Whether an element is let into a closed graph, against a plain reading of the graph type.

#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use graphodrome_graph::{
    Cardinality, Code, Decimal, EdgeType, Endpoint, GraphType, LabelSet, NewEdge, NewNode, NodeType,
    PropertyType, Snapshot, Transaction, Value, ValueType, label_set,
};
use proptest::prelude::*;

const LABELS: [&str; 3] = ["A", "B", "C"];
const PROPERTIES: [&str; 3] = ["p", "q", "r"];

fn labels() -> impl Strategy<Value = LabelSet> {
    prop::collection::btree_set(prop::sample::select(&LABELS[..]), 1..3).prop_map(label_set)
}

fn value_type() -> impl Strategy<Value = ValueType> {
    prop_oneof![
        Just(ValueType::Any),
        Just(ValueType::Bool),
        Just(ValueType::Int(8)),
        Just(ValueType::Int(64)),
        Just(ValueType::Uint(8)),
        Just(ValueType::Float(64)),
        Just(ValueType::Decimal { precision: 4, scale: 2 }),
        Just(ValueType::Text { min: 2, max: Some(3) }),
        Just(ValueType::List(Box::new(ValueType::Int(8)))),
    ]
}

fn value() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::Bool),
        (-300i64..300).prop_map(Value::Int),
        (-9i64..9).prop_map(|i| Value::Float(i as f64 / 2.0)),
        (-20_000i64..20_000, 0u32..4).prop_map(|(n, s)| Value::Decimal(Decimal::of(n.into(), s).unwrap())),
        "[a-c]{0,4}".prop_map(|t| Value::text(t.as_str())),
        prop::collection::vec((-200i64..200).prop_map(Value::Int), 0..3).prop_map(Value::list),
    ]
}

fn properties() -> impl Strategy<Value = Vec<PropertyType>> {
    let one = (value_type(), any::<bool>());
    prop::collection::vec(prop::option::of(one), 3).prop_map(|types| {
        let named = PROPERTIES.iter().zip(types);
        let property = |(name, found): (&&str, Option<(ValueType, bool)>)| {
            let (value_type, not_null) = found?;
            Some(PropertyType { name: Arc::from(*name), value_type, not_null, default: None })
        };
        named.filter_map(property).collect()
    })
}

fn graph_type() -> impl Strategy<Value = GraphType> {
    let node = (labels(), properties(), any::<bool>());
    let edge = (labels(), labels(), labels(), properties(), any::<bool>());
    let cardinality = (labels(), prop::sample::select(&LABELS[..]), 0u32..3);
    (
        prop::collection::vec(node, 1..4),
        prop::collection::vec(edge, 0..4),
        prop::collection::vec(cardinality, 0..2),
    )
        .prop_map(|(nodes, edges, cardinalities)| {
            let mut made = GraphType { name: "t".into(), ..GraphType::default() };
            for (labels, properties, keyed) in nodes {
                if made.nodes.iter().any(|t| t.labels == labels) {
                    continue;
                }
                let key = properties.iter().find(|p| p.not_null && keyed).map(|p| p.name.clone());
                made.nodes.push(NodeType {
                    name: None,
                    key_labels: labels.clone(),
                    labels,
                    properties,
                    key: key.into_iter().collect(),
                });
            }
            for (labels, source, target, properties, directed) in edges {
                let (source, target) = (Endpoint(vec![source]), Endpoint(vec![target]));
                made.edges.push(EdgeType {
                    name: None,
                    labels,
                    directed,
                    source,
                    target,
                    properties,
                    key: vec![],
                });
            }
            let rule =
                |(node, edge, most): (LabelSet, &str, u32)| Cardinality { node, edge: edge.into(), most };
            made.cardinalities = cardinalities.into_iter().map(rule).collect();
            made
        })
}

type Properties = Vec<(Arc<str>, Value)>;

fn given() -> impl Strategy<Value = Properties> {
    prop::collection::vec(value(), 3)
        .prop_map(|values| PROPERTIES.iter().map(|p| Arc::from(*p)).zip(values).collect())
}

#[derive(Clone, Debug)]
enum Element {
    Node(LabelSet, Properties),
    Edge(LabelSet, Properties, bool, usize, usize),
}

fn element() -> impl Strategy<Value = Element> {
    prop_oneof![
        (labels(), given()).prop_map(|(l, p)| Element::Node(l, p)),
        (labels(), given(), any::<bool>(), 0usize..99, 0usize..99)
            .prop_map(|(l, p, d, a, b)| Element::Edge(l, p, d, a, b)),
    ]
}

/// A plain reading of a value type.
fn is_of(value: &Value, wanted: &ValueType) -> bool {
    match wanted {
        ValueType::Any => true,
        ValueType::Bool => matches!(value, Value::Bool(_)),
        ValueType::Int(8) => matches!(value, Value::Int(-128..=127)),
        ValueType::Int(_) => matches!(value, Value::Int(_)),
        ValueType::Uint(_) => matches!(value, Value::Int(0..=255)),
        // A whole number may be written for a FLOAT64 or a DECIMAL: it is the same number.
        ValueType::Float(_) => matches!(value, Value::Float(_) | Value::Int(_) | Value::Decimal(_)),
        ValueType::Decimal { .. } => match value {
            Value::Int(i) => i.abs() < 100,
            Value::Decimal(d) => {
                let cents = d.checked_mul(100.into()).unwrap();
                cents.is_whole() && cents.abs() < Decimal::from(10_000)
            }
            _ => false,
        },
        ValueType::Text { .. } => matches!(value, Value::Text(t) if (2..=3).contains(&t.len())),
        ValueType::List(item) => matches!(value, Value::List(items) if items.iter().all(|i| is_of(i, item))),
        _ => unreachable!("not made here"),
    }
}

fn fits(properties: &Properties, types: &[PropertyType]) -> bool {
    let declared = |name: &str| types.iter().find(|t| *t.name == *name);
    properties.iter().all(|(name, value)| match (declared(name), value) {
        (Some(t), Value::Null) => !t.not_null,
        (Some(t), value) => is_of(value, &t.value_type),
        (None, value) => value.is_null(),
    })
}

fn within(few: &LabelSet, many: &LabelSet) -> bool {
    few.iter().all(|l| many.contains(l))
}

/// What is in the graph so far, as the reference keeps it.
#[derive(Default)]
struct Kept {
    nodes: Vec<(LabelSet, Properties)>,
    edges: Vec<(LabelSet, usize, usize)>,
}

impl Kept {
    fn takes(&self, graph_type: &GraphType, element: &Element) -> bool {
        match element {
            Element::Node(labels, properties) => {
                let Some(t) = graph_type.nodes.iter().find(|t| t.labels == *labels) else { return false };
                // A key is unique among the nodes with its first label.
                let repeats = graph_type.nodes.iter().filter(|k| !k.key.is_empty()).any(|k| {
                    let label = &k.key_labels[0];
                    let value =
                        |all: &Properties| all.iter().find(|(n, _)| *n == k.key[0]).unwrap().1.clone();
                    let own = value(properties);
                    let others = self.nodes.iter().filter(|(l, _)| l.contains(label));
                    labels.contains(label)
                        && !own.is_null()
                        && others.into_iter().any(|(_, p)| value(p) == own)
                });
                fits(properties, &t.properties) && !repeats
            }
            Element::Edge(labels, properties, directed, from, to) => {
                let (a, b) = (&self.nodes[*from].0, &self.nodes[*to].0);
                let conforms = graph_type.edges.iter().any(|t| {
                    let forward = within(&t.source.0[0], a) && within(&t.target.0[0], b);
                    let backward = within(&t.source.0[0], b) && within(&t.target.0[0], a);
                    let connects = forward || (!directed && backward);
                    t.labels == *labels
                        && t.directed == *directed
                        && connects
                        && fits(properties, &t.properties)
                });
                let crowded = graph_type.cardinalities.iter().any(|c| {
                    let degree = |node: usize| {
                        let here = self
                            .edges
                            .iter()
                            .filter(|(l, x, y)| l.contains(&c.edge) && (*x == node || *y == node));
                        here.count() as u32 + 1
                    };
                    let over = |node: usize| within(&c.node, &self.nodes[node].0) && degree(node) > c.most;
                    labels.contains(&c.edge) && (over(*from) || over(*to))
                });
                conforms && !crowded
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn what_is_let_in_is_what_the_type_allows(
        graph_type in graph_type(), elements in prop::collection::vec(element(), 1..16),
    ) {
        let mut snapshot = Snapshot::empty(Some(Arc::new(graph_type.clone()))).unwrap();
        let (mut kept, mut dense) = (Kept::default(), vec![]);
        for mut element in elements {
            if let Element::Edge(_, _, _, from, to) = &mut element {
                if dense.is_empty() {
                    continue;
                }
                (*from, *to) = (*from % dense.len(), *to % dense.len());
            }
            let wanted = kept.takes(&graph_type, &element);
            let mut transaction = Transaction::new(snapshot.clone());
            let made = match element.clone() {
                Element::Node(labels, properties) => transaction.insert_node(NewNode { labels, properties }),
                Element::Edge(labels, properties, directed, from, to) => transaction.insert_edge(NewEdge {
                    labels, properties, directed, source: dense[from], target: dense[to],
                }),
            };
            let made = made.unwrap();
            match transaction.finish() {
                Ok((next, _)) => {
                    prop_assert!(wanted, "let in: {:?}", element);
                    snapshot = next;
                    match element {
                        Element::Node(labels, properties) => {
                            kept.nodes.push((labels, properties));
                            dense.push(made);
                        }
                        Element::Edge(labels, _, _, from, to) => kept.edges.push((labels, from, to)),
                    }
                }
                Err(error) => {
                    prop_assert!(!wanted, "refused: {:?}: {}", element, error.message);
                    prop_assert_eq!(error.code, Code::GRAPH_TYPE_VIOLATION);
                }
            }
        }
    }
}
