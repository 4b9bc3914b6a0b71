//! Cost of counting: each question with and without the counters of a profile, in turns, in the engine on a skewed
//! graph in memory. `cargo bench --workspace --bench counting`; NODES, EDGES and TURNS change its size, ONLY=TEXT
//! selects questions by name.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::time::Duration;

use graphodrome_bench::{in_memory, median, milliseconds, setting, shown};
use graphodrome_engine::{Limits, Parameters, prepare};
use graphodrome_generator::{Shape, Style};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;

const QUESTIONS: [(&str, &str); 9] = [
    (
        "two hops, all rows",
        "MATCH (a:Place)-[e:LINK]->(b:Place)-[f:LINK]->(c:Place) WHERE a.id > 125000 AND e.weight <> f.weight RETURN COUNT(*) AS n",
    ),
    ("two hops, counted", "MATCH (a:Place)-[:LINK]->(b:Place)-[:LINK]->(c:Place) RETURN COUNT(*) AS n"),
    (
        "two hops, grouped",
        "MATCH (a:Place)-[e:LINK]->(b:Place)-[f:LINK]->(c:Place) WHERE a.id > 125000 RETURN c.id AS c, SUM(e.weight * f.weight) AS s ORDER BY s DESC LIMIT 10",
    ),
    (
        "an edge, filtered and sorted",
        "MATCH (a:Place)-[e:LINK]->(b:Place) WHERE e.weight > 90 RETURN a.id AS a, b.id AS b, e.weight AS w ORDER BY w, a, b LIMIT 100",
    ),
    ("all that is reached", "MATCH (a:Place {id: 1})-[:LINK]->+(b) RETURN COUNT(DISTINCT b) AS n"),
    (
        "shortest paths to all",
        "MATCH p = ANY SHORTEST (a:Place {id: 1})-[:LINK]->+(b) RETURN MAX(PATH_LENGTH(p)) AS n",
    ),
    (
        "cheapest paths to all",
        "MATCH p = ANY SHORTEST BY e.weight (a:Place {id: 1})-[e:LINK]->+(b) RETURN COUNT(*) AS n",
    ),
    ("triangles", "MATCH (a:Place)-[:LINK]->(b:Place)-[:LINK]->(c:Place)-[:LINK]->(a) RETURN COUNT(*) AS n"),
    (
        "a key's neighbours",
        "FOR i IN [1, 2, 3, 4, 5, 6, 7, 8] MATCH (a:Place {id: i})-[:LINK]->(b) RETURN COUNT(b) AS n",
    ),
];

fn main() {
    // `cargo test --benches` only builds it.
    if std::env::args().any(|a| a == "--test") || !std::env::args().any(|a| a == "--bench") {
        return;
    }
    let shape = Shape::skewed(setting("NODES", 1 << 17) as u32, setting("EDGES", 1 << 21));
    let tables = tempfile::tempdir().unwrap();
    graphodrome_generator::random_graph(shape, 7, Style::default(), tables.path()).unwrap();
    let snapshot = in_memory(tables.path());
    // On one thread: how threads share the work is not what is asked.
    let one_thread = Limits { spread_after: Duration::MAX, memory_bytes: 8 << 30, ..Limits::default() };
    let without = Limits { brief: Some(Duration::from_secs(3600)), ..one_thread.clone() };
    let only = std::env::var("ONLY").unwrap_or_default();
    println!("\n| question | without counting | with it | more |\n|---|---:|---:|---:|");
    let mut all = vec![];
    for (name, text) in QUESTIONS.iter().filter(|(name, _)| name.contains(&only)) {
        let Statement::Query(query) = parse(text).unwrap().remove(0) else { unreachable!() };
        let none = Parameters::new();
        let prepared = prepare(&query, text, &snapshot, &none).unwrap();
        let run = |limits: &Limits| {
            milliseconds(|| {
                let mut execution = prepared.run(snapshot.clone(), &none, limits.clone());
                let mut rows = 0;
                while let Some(batch) = execution.next_batch().unwrap() {
                    rows += batch.len;
                }
                rows
            })
        };
        let (first, _) = run(&one_thread);
        // Brief ones more often, so that each pair has something to measure.
        let often = (20.0 / first.max(0.01)).ceil() as usize;
        let (mut plain, mut counted, mut ratios) = (vec![], vec![], vec![]);
        for turn in 0..setting("TURNS", 11) {
            let mut sums = [0.0; 2];
            for _ in 0..often {
                for place in if turn % 2 == 0 { [0, 1] } else { [1, 0] } {
                    sums[place] += run([&without, &one_thread][place]).0;
                }
            }
            plain.push(sums[0] / often as f64);
            counted.push(sums[1] / often as f64);
            ratios.push(sums[1] / sums[0]);
        }
        let ratio = median(ratios);
        all.push(ratio);
        let more = (ratio - 1.0) * 100.0;
        println!("| {name} | {} | {} | {more:+.1} % |", shown(median(plain)), shown(median(counted)));
    }
    println!("\nin the middle {:+.1} %", (median(all) - 1.0) * 100.0);
}
