//! A crowded graph that has changed a little.

#![allow(clippy::unwrap_used)]

use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use rand::Rng;
use rand_chacha::ChaCha8Rng;

use crate::folded::folded;

/// A graph of a hundred nodes on its base, some edges without a direction, and after it a few changes of all kinds.
pub fn changed_a_little(random: &mut ChaCha8Rng) -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let node = |x: i64| NewNode {
        labels: label_set(if x % 5 == 0 { vec!["B"] } else { vec!["A"] }),
        properties: vec![("x".into(), Value::Int(x))],
    };
    for x in 0..100 {
        transaction.insert_node(node(x)).unwrap();
    }
    let edge = |random: &mut ChaCha8Rng, source: u32, target: u32, labels: &str| NewEdge {
        labels: label_set([labels]),
        properties: vec![],
        directed: random.random_bool(0.8),
        source,
        target,
    };
    for _ in 0..random.random_range(100..400) {
        // Crowded, so that there are rings, loops and parallel edges.
        let end = |r: &mut ChaCha8Rng| r.random_range(0..100u32).min(r.random_range(0..60));
        let (source, target) = (end(random), end(random));
        let edge = edge(random, source, target, "R");
        transaction.insert_edge(edge).unwrap();
    }
    let (made, _) = transaction.finish().unwrap();
    let mut transaction = Transaction::new(folded(&made));
    let crowd: Vec<u32> = (0..3).map(|_| random.random_range(0..40)).collect();
    for _ in 0..random.random_range(0..4) {
        let (source, target) = (crowd[random.random_range(0..3)], crowd[random.random_range(0..3)]);
        let labels = ["R", "S"][random.random_range(0..2)];
        let edge = edge(random, source, target, labels);
        transaction.insert_edge(edge).unwrap();
    }
    if random.random_bool(0.5) {
        let new = transaction.insert_node(node(1000)).unwrap();
        for _ in 0..random.random_range(0..4) {
            let ends = [new, crowd[random.random_range(0..3)]];
            let turn = random.random_range(0..2);
            let edge = edge(random, ends[turn], ends[1 - turn], "R");
            transaction.insert_edge(edge).unwrap();
        }
    }
    if random.random_bool(0.5) {
        let one = random.random_range(0..transaction.snapshot().base.edge_count());
        transaction.delete_edge(one);
    }
    if random.random_bool(0.2) {
        transaction.delete_node(random.random_range(60..100), true);
    }
    // What is no edge does not matter, of however many nodes.
    for id in (0..40).filter(|id| id % 3 == 0 && transaction.snapshot().node_exists(*id)).collect::<Vec<_>>()
    {
        let properties = vec![("x".into(), Value::Int(i64::from(id) + 500))];
        let labels = label_set([["A", "B"][random.random_range(0..2)]]);
        transaction.change_node(id, labels, properties).unwrap();
    }
    transaction.finish().unwrap().0
}
