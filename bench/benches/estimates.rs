//! Quality of the planner's estimates: `cargo bench --bench estimates`. Compares estimated and actual rows for
//! every operator of many queries on the demo's graph, a skewed graph, a grid and a graph with a hub. A factor of 1
//! is exact, 10 is ten times too many or too few. ASK selects graphs by name.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::collections::BTreeMap;
use std::time::Duration;

use graphodrome_bench::in_memory;
use graphodrome_engine::{Limits, Parameters, PlanTree, prepare};
use graphodrome_generator::{Shape, Style, random_graph};
use graphodrome_graph::Snapshot;
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use graphodrome_tests::{folder, root};

/// What an operator was estimated to give, and gave.
struct Seen {
    operator: String,
    factor: f64,
    basis: String,
    text: String,
}

fn profile(snapshot: &Snapshot, text: &str) -> Option<(PlanTree, Duration)> {
    let Statement::Query(query) = parse(text).ok()?.remove(0) else { return None };
    let none = Parameters::new();
    let prepared = prepare(&query, text, snapshot, &none).unwrap_or_else(|e| panic!("{text}\n{:?}", e.0));
    let limits = Limits { time: Some(Duration::from_secs(20)), memory_bytes: 4 << 30, ..Limits::default() };
    let mut execution = prepared.run(snapshot.clone(), &none, limits);
    while execution.next_batch().ok()?.is_some() {}
    Some((execution.profile(), prepared.plan_time))
}

fn see(tree: &PlanTree, text: &str, seen: &mut Vec<Seen>) {
    if let Some(actual) = &tree.actual {
        seen.push(Seen {
            operator: tree.operator.clone(),
            factor: actual.estimate_factor.abs(),
            basis: format!("{:?}", tree.estimate.basis).to_lowercase(),
            text: text.into(),
        });
    }
    tree.inputs.iter().for_each(|input| see(input, text, seen));
}

fn at(sorted: &[f64], share: f64) -> f64 {
    sorted.get(((sorted.len() as f64 - 1.0) * share).round() as usize).copied().unwrap_or(f64::NAN)
}

fn line(name: &str, factors: &mut [f64]) {
    factors.sort_by(f64::total_cmp);
    println!(
        "{name:<28} {:>9} {:>8.2} {:>8.1} {:>8.1} {:>10.0}",
        factors.len(),
        at(factors, 0.5),
        at(factors, 0.9),
        at(factors, 0.95),
        at(factors, 1.0)
    );
}

/// Questions to any of the random graphs: from nodes near and far, over one, two and three hops, in both directions, counted,
/// grouped and returned; paths to all ends and to one.
fn questions(nodes: u32) -> Vec<String> {
    let mut all = vec![];
    for id in [nodes / 7, nodes / 3, nodes / 2 + 5, nodes - 3] {
        for hops in 1..=3 {
            all.push(format!(
                "MATCH (a:Place {{id: {id}}})-[:LINK]->{{1,{hops}}}(b) RETURN DISTINCT b.id AS id"
            ));
            all.push(format!(
                "MATCH (a:Place {{id: {id}}})<-[:LINK]-{{1,{hops}}}(b) RETURN COUNT(DISTINCT b) AS n"
            ));
        }
        all.push(format!("MATCH (a:Place {{id: {id}}})-[:LINK]->(b)-[:LINK]->(c) RETURN c.id AS id"));
        all.push(format!(
            "MATCH (a:Place {{id: {id}}})-[:LINK]->(b)<-[:LINK]-(c) RETURN c.id AS id, COUNT(*) AS n"
        ));
        all.push(format!("MATCH p = ANY SHORTEST (a:Place {{id: {id}}})-[:LINK]->+(b:Place {{id: 1}}) RETURN PATH_LENGTH(p) AS n"));
        all.push(format!(
            "MATCH p = ANY SHORTEST (a:Place {{id: {id}}})-[:LINK]-{{1,4}}(b) RETURN MAX(PATH_LENGTH(p)) AS n"
        ));
        all.push(format!("MATCH (a:Place WHERE a.id < {id})-[:LINK]->(b) RETURN COUNT(*) AS n"));
    }
    for text in [
        "MATCH (a:Place)-[:LINK]->(b) RETURN b.id AS id, COUNT(*) AS n ORDER BY n DESC LIMIT 10",
        "MATCH (a:Place)-[:LINK]->(b)-[:LINK]->(c) RETURN COUNT(*) AS n",
        "MATCH (a:Place)-[:LINK]->(b)<-[:LINK]-(c) WHERE a.id < c.id RETURN COUNT(*) AS n",
        "MATCH (a:Place)-[:LINK]->(b) WHERE a.id BETWEEN 10 AND 60 RETURN DISTINCT b.id AS id",
        "MATCH (a:Place)-[:LINK]->(b)-[:LINK]->(c)-[:LINK]->(a) RETURN COUNT(*) AS n",
        "MATCH (a:Place WHERE a.id IN [3, 5, 900])-[:LINK]->{1,2}(b) RETURN a.id AS a, COUNT(DISTINCT b) AS n",
    ] {
        all.push(text.into());
    }
    all
}

fn main() {
    let wanted = std::env::var("ASK").unwrap_or_default();
    let shapes = [
        ("skewed (R-MAT)", Shape::skewed(1 << 14, 1 << 18)),
        ("even", Shape::Even { nodes: 1 << 14, edges: 1 << 18 }),
        ("grid", Shape::Grid { width: 128, height: 128 }),
        ("power law with a hub", Shape::PowerLaw { nodes: 20_000, edges: 60_000, exponent: 2.1 }),
    ];
    let mut graphs: Vec<(String, Snapshot, Vec<String>)> = vec![];
    let demo: Vec<String> = std::fs::read_dir(root().join("demo/questions"))
        .unwrap()
        .map(|entry| std::fs::read_to_string(entry.unwrap().path()).unwrap())
        .collect();
    graphs.push(("demo".into(), in_memory(&root().join("demo")), demo));
    for (name, shape) in shapes {
        let tables = folder();
        random_graph(shape, 7, Style::default(), tables.path()).unwrap();
        let snapshot = in_memory(tables.path());
        let questions = questions(snapshot.node_count() as u32);
        graphs.push((name.into(), snapshot, questions));
    }
    println!("{:<28} {:>9} {:>8} {:>8} {:>8} {:>10}", "graph", "operators", "median", "90 %", "95 %", "most");
    let (mut all, mut planning) = (vec![], vec![]);
    for (name, snapshot, questions) in graphs.iter().filter(|(name, ..)| name.contains(&wanted)) {
        let mut seen = vec![];
        for text in questions {
            if let Some((tree, plan_time)) = profile(snapshot, text) {
                planning.push(plan_time.as_secs_f64() * 1e6);
                see(&tree, text, &mut seen);
            }
        }
        line(name, &mut seen.iter().map(|s| s.factor).collect::<Vec<_>>());
        all.extend(seen);
    }
    line("all", &mut all.iter().map(|s| s.factor).collect::<Vec<_>>());
    let mut by_basis: BTreeMap<&str, Vec<f64>> = BTreeMap::new();
    all.iter().for_each(|s| by_basis.entry(&s.basis).or_default().push(s.factor));
    println!("\nby what the estimate rests on");
    for (basis, mut factors) in by_basis {
        line(basis, &mut factors);
    }
    planning.sort_by(f64::total_cmp);
    println!(
        "\nplanning took {:.0} us in the middle, {:.0} us at most",
        at(&planning, 0.5),
        at(&planning, 1.0)
    );
    println!("\nfurthest off");
    all.sort_by(|a, b| b.factor.total_cmp(&a.factor));
    let mut shown: Vec<&str> = vec![];
    for one in &all {
        if shown.len() < 8 && !shown.contains(&one.text.as_str()) {
            let text = one.text.split_whitespace().collect::<Vec<_>>().join(" ");
            println!(
                "{:>9.0}x  {} ({}): {}",
                one.factor,
                one.operator,
                one.basis,
                text.chars().take(110).collect::<String>()
            );
            shown.push(&one.text);
        }
    }
}
