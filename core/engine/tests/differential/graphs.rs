//! Random graphs: loops, parallel edges, directed and undirected ones, nulls, values of several types.

use graphodrome_graph::{
    Base, Element, KeyDefinition, NewEdge, NewNode, Schema, Snapshot, Transaction, Value, label_set,
};
use rand::Rng;
use rand_chacha::ChaCha8Rng;

use crate::reference::{self, Datum};

#[derive(Clone, Debug)]
pub struct Node {
    labels: Vec<&'static str>,
    x: Option<i64>,
    m: Value,
}

#[derive(Clone, Debug)]
pub struct Edge {
    from: usize,
    to: usize,
    label: &'static str,
    directed: bool,
    w: Value,
}

#[derive(Clone, Debug)]
pub struct Graph {
    nodes: Vec<Node>,
    edges: Vec<Edge>,
}

fn mixed(rng: &mut ChaCha8Rng) -> Value {
    match rng.random_range(0..12) {
        0..=3 => Value::Int(rng.random_range(0..3)),
        4 => Value::Float(rng.random_range(0..3) as f64),
        5 => Value::Decimal(format!("{}.0", rng.random_range(0..3)).parse().unwrap()),
        6 => Value::list(vec![Value::Int(rng.random_range(0..2)), Value::Null]),
        7 => Value::Float(0.5),
        _ => Value::Null,
    }
}

impl Graph {
    pub fn random(rng: &mut ChaCha8Rng) -> Graph {
        let count = rng.random_range(1..5);
        let nodes = (0..count)
            .map(|_| Node {
                labels: [vec!["A"], vec!["B"], vec!["A", "B"], vec![]][rng.random_range(0..4)].clone(),
                x: rng.random_bool(0.85).then(|| rng.random_range(0..3)),
                m: mixed(rng),
            })
            .collect();
        let edges = (0..[0, 2, 4, 5, 6, 7, 8][rng.random_range(0..7)])
            .map(|_| Edge {
                from: rng.random_range(0..count),
                to: rng.random_range(0..count),
                label: ["R", "S"][rng.random_range(0..2)],
                directed: rng.random_bool(0.75),
                w: match rng.random_range(0..8) {
                    0 => Value::Null,
                    1 => Value::Decimal("0.5".parse().unwrap()),
                    _ => Value::Int(rng.random_range(0..4)),
                },
            })
            .collect();
        Graph { nodes, edges }
    }

    /// The same graph as the reference takes it.
    pub fn for_reference(&self) -> reference::Graph {
        let datum = |value: &Value| Datum::of(value).unwrap();
        let number = |i: usize| ("id", Datum::whole(i as i64));
        let node = |(i, n): (usize, &Node)| reference::Node {
            labels: n.labels.clone(),
            properties: vec![number(i), ("x", n.x.map_or(Datum::Null, Datum::whole)), ("m", datum(&n.m))],
        };
        let edge = |(i, e): (usize, &Edge)| reference::Edge {
            from: e.from,
            to: e.to,
            label: e.label,
            directed: e.directed,
            properties: vec![number(i), ("w", datum(&e.w))],
        };
        reference::Graph {
            nodes: self.nodes.iter().enumerate().map(node).collect(),
            edges: self.edges.iter().enumerate().map(edge).collect(),
        }
    }

    /// The graph with so many of its elements in the base, and the others as changes above it; with or without
    /// keys and indexes.
    pub fn snapshot(&self, folded: usize, with_keys: bool) -> Snapshot {
        let mut schema = Schema::default();
        if with_keys {
            let on = |name: &str, element, label: &str, property: &str| {
                std::sync::Arc::new(KeyDefinition {
                    name: name.into(),
                    element,
                    label: label.into(),
                    properties: vec![property.into()],
                })
            };
            schema.keys = vec![on("a", Element::Node, "A", "id"), on("r", Element::Edge, "R", "id")];
            schema.indexes = vec![on("x", Element::Node, "A", "x"), on("w", Element::Edge, "S", "w")];
        }
        let mut snapshot = Snapshot::empty_with(schema.clone()).unwrap();
        let first_edges = folded.saturating_sub(self.nodes.len());
        snapshot = self.add(snapshot, 0..folded.min(self.nodes.len()), 0..first_edges.min(self.edges.len()));
        if folded > 0 {
            let base = Base::build(snapshot.fold(), &schema).unwrap();
            let (nodes, edges) = snapshot.next_ids();
            snapshot = Snapshot::new(base.into(), schema, snapshot.version);
            snapshot.reserve_ids(nodes, edges);
        }
        self.add(
            snapshot,
            folded.min(self.nodes.len())..self.nodes.len(),
            first_edges.min(self.edges.len())..self.edges.len(),
        )
    }

    fn add(
        &self, snapshot: Snapshot, nodes: std::ops::Range<usize>, edges: std::ops::Range<usize>,
    ) -> Snapshot {
        let mut transaction = Transaction::new(snapshot);
        for (i, node) in self.nodes.iter().enumerate().take(nodes.end).skip(nodes.start) {
            let mut properties = vec![("id".into(), Value::Int(i as i64)), ("m".into(), node.m.clone())];
            properties.push(("x".into(), node.x.map_or(Value::Null, Value::Int)));
            let new = NewNode { labels: label_set(node.labels.iter().copied()), properties };
            transaction.insert_node(new).unwrap();
        }
        for (i, edge) in self.edges.iter().enumerate().take(edges.end).skip(edges.start) {
            // Stable numbers are given in the order of insertion.
            let end =
                |n: usize| transaction.snapshot().node_by_id(self.first_id(&transaction) + n as u64).unwrap();
            let (source, target) = (end(edge.from), end(edge.to));
            let properties = vec![("id".into(), Value::Int(i as i64)), ("w".into(), edge.w.clone())];
            let labels = label_set([edge.label]);
            let new = NewEdge { labels, properties, directed: edge.directed, source, target };
            transaction.insert_edge(new).unwrap();
        }
        transaction.finish().unwrap().0
    }

    fn first_id(&self, transaction: &Transaction) -> u64 {
        transaction.snapshot().next_ids().0 - self.nodes.len() as u64
    }
}
