//! Searches in the engine alone, on a random graph in memory, without a peer: to see what a change to the
//! engine does. `cargo bench --workspace --bench search`; NODES, EDGES and QUERIES change its size,
//! ONLY=TEXT takes the searches with that text in their name, SKEWED=1 draws the edges with a skew.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use graphodrome_bench::{engine, in_memory, setting, shown};
use graphodrome_generator::{Shape, Style};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

const QUESTIONS: [(&str, &str); 5] = [
    ("key lookup", "MATCH (a:Place {id: $a}) RETURN a.id AS n"),
    ("one hop", "MATCH (a:Place {id: $a})-[:LINK]->(b:Place) RETURN COUNT(b) AS n"),
    (
        "two hops along the edges",
        "MATCH (a:Place {id: $a})-[:LINK]->{1,2}(b:Place) RETURN COUNT(DISTINCT b) AS n",
    ),
    (
        "two hops in either direction",
        "MATCH (a:Place {id: $a})-[:LINK]-{1,2}(b:Place) WHERE b <> a RETURN COUNT(DISTINCT b) AS n",
    ),
    (
        "shortest path",
        "MATCH (a:Place {id: $a}), (b:Place {id: $b}) MATCH p = ANY SHORTEST (a)-[:LINK]->*(b) RETURN PATH_LENGTH(p) AS n",
    ),
];

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
    let snapshot = in_memory(tables.path());
    let mut random = ChaCha8Rng::seed_from_u64(11);
    let mut place = move || serde_json::json!(random.random_range(1..=nodes));
    let pairs: Vec<(serde_json::Value, serde_json::Value)> =
        (0..setting("QUERIES", 2000)).map(|_| (place(), place())).collect();
    println!("\n| search | median |\n|---|---:|");
    let only = std::env::var("ONLY").unwrap_or_default();
    for (name, text) in QUESTIONS.iter().filter(|(name, _)| name.contains(&only)) {
        let (median, _) = engine(&snapshot, text, &pairs);
        println!("| {name} | {} |", shown(median));
    }
}
