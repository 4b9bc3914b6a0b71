//! Reads of unchanged parts of a graph after many small commits elsewhere, before and after a fold: in the engine
//! on a random graph in memory. `cargo bench --workspace --bench overlay`; NODES, EDGES, COMMITS and QUERIES change
//! its size, SKEWED=1 draws skewed edges.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::collections::HashSet;
use std::sync::Arc;

use graphodrome_bench::{Pair, engine, in_memory, milliseconds, setting, shown};
use graphodrome_generator::{Shape, Style};
use graphodrome_graph::{Base, NewEdge, Snapshot, Transaction, label_set};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

const QUESTIONS: [(&str, &str); 6] = [
    ("key lookup", "MATCH (a:Place {id: $a}) RETURN a.id AS n"),
    ("one hop", "MATCH (a:Place {id: $a})-[:LINK]->(b:Place) RETURN COUNT(b) AS n"),
    (
        "two hops along the edges, distinct ends",
        "MATCH (a:Place {id: $a})-[:LINK]->{1,2}(b:Place) RETURN COUNT(DISTINCT b) AS n",
    ),
    (
        "two hops written out",
        "MATCH (a:Place {id: $a})-[:LINK]->(:Place)-[:LINK]->(b:Place) RETURN COUNT(DISTINCT b) AS n",
    ),
    (
        "two hops, by the number of the end",
        "MATCH (a:Place {id: $a})-[:LINK]->()-[:LINK]->(b:Place) WHERE b.id > 1000 RETURN SUM(b.id) AS n",
    ),
    (
        "two hops in either direction, distinct ends",
        "MATCH (a:Place {id: $a})-[:LINK]-{1,2}(b:Place) WHERE b <> a RETURN COUNT(DISTINCT b) AS n",
    ),
];

/// The numbers of the nodes that are two steps or less from these, by their keys, which are their places from 1 on.
fn around(snapshot: &Snapshot, keys: &[u32]) -> HashSet<u32> {
    let test = snapshot.edge_test(None);
    let mut found: HashSet<u32> = keys.iter().map(|key| key - 1).collect();
    let mut newest: Vec<u32> = found.iter().copied().collect();
    for _ in 0..2 {
        let mut ends = vec![];
        snapshot.gather_adjacent(&newest, graphodrome_graph::Direction::Any, &test, &mut ends);
        newest = ends.into_iter().filter(|end| found.insert(*end)).collect();
    }
    found
}

fn main() {
    // `cargo test --benches` only builds it.
    if std::env::args().any(|a| a == "--test") || !std::env::args().any(|a| a == "--bench") {
        return;
    }
    let (nodes, edges) = (setting("NODES", 1_000_000) as u32, setting("EDGES", 10_000_000));
    let skewed = std::env::var("SKEWED").is_ok();
    let shape = if skewed { Shape::skewed(nodes, edges) } else { Shape::Even { nodes, edges } };
    let tables = tempfile::tempdir().unwrap();
    graphodrome_generator::random_graph(shape, 7, Style::default(), tables.path()).unwrap();
    let before = in_memory(tables.path());
    let mut random = ChaCha8Rng::seed_from_u64(11);
    let keys: Vec<u32> = (0..setting("QUERIES", 500)).map(|_| random.random_range(1..=nodes)).collect();
    let pairs: Vec<Pair> = keys.iter().map(|key| (serde_json::json!(key), serde_json::json!(key))).collect();
    let kept = around(&before, &keys);
    let commits = setting("COMMITS", 100_000);
    let mut elsewhere = || loop {
        let node = random.random_range(0..nodes);
        if !kept.contains(&node) {
            return node;
        }
    };
    let mut after = before.clone();
    let (ms, ()) = milliseconds(|| {
        for _ in 0..commits {
            let (source, target) = (elsewhere(), elsewhere());
            let mut transaction = Transaction::new(after.clone());
            let labels = label_set(["LINK"]);
            transaction
                .insert_edge(NewEdge { labels, properties: vec![], directed: true, source, target })
                .unwrap();
            after = transaction.finish().unwrap().0;
        }
    });
    println!("{commits} commits of an edge each: {} each", shown(ms / commits as f64));
    let parts = after.fold();
    let folded =
        Snapshot::new(Arc::new(Base::build(parts, &after.schema()).unwrap()), after.schema(), after.version);
    println!(
        "\n| search | before | after {commits} commits elsewhere | | folded | |\n|---|---:|---:|---:|---:|---:|"
    );
    for (name, text) in QUESTIONS {
        // Turn by turn, and the best of three, so that a busy machine is not taken for a slow state.
        let mut best = [f64::MAX; 3];
        let mut answers = vec![];
        for _ in 0..3 {
            for (place, state) in [&before, &after, &folded].into_iter().enumerate() {
                let (median, found) = engine(state, text, &pairs);
                best[place] = best[place].min(median);
                answers.push(found);
            }
        }
        assert!(answers.iter().all(|found| *found == answers[0]), "{name}: other answers");
        let [before, after, folded] = best;
        println!(
            "| {name} | {} | {} | {:.2} x | {} | {:.2} x |",
            shown(before),
            shown(after),
            after / before,
            shown(folded),
            folded / before
        );
    }
}
