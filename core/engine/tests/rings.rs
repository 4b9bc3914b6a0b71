//! Paths between two known nodes, and rings through one: lookups near the end find the same paths in the same order
//! as full expansion, in every mode, with parallel edges and changes above the base.

#![allow(clippy::unwrap_used)]

mod folded;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, prepare_by};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::folded::folded;

fn graph(rng: &mut ChaCha8Rng) -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let count = rng.random_range(3..24usize);
    let nodes: Vec<u32> = (0..count)
        .map(|x| {
            let properties = vec![("x".into(), Value::Int(x as i64))];
            transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
        })
        .collect();
    // Some nodes have many edges, most have few.
    let end = |rng: &mut ChaCha8Rng| {
        let x = rng.random_range(0..count);
        nodes[if rng.random_bool(0.6) { x % 3 } else { x }]
    };
    for _ in 0..rng.random_range(count..5 * count) {
        let (source, target) = (end(rng), end(rng));
        let labels = label_set([if rng.random_bool(0.9) { "R" } else { "S" }]);
        let properties = vec![("w".into(), Value::Int(rng.random_range(0..4)))];
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    }
    let base = folded(&transaction.finish().unwrap().0);
    if rng.random_bool(0.7) {
        return base;
    }
    let mut transaction = Transaction::new(base.clone());
    for _ in 0..3 {
        let (source, target) = (end(rng), end(rng));
        let new = NewEdge { labels: label_set(["R"]), properties: vec![], directed: true, source, target };
        transaction.insert_edge(new).unwrap();
    }
    transaction.delete_edge(rng.random_range(0..base.edge_bound()));
    transaction.finish().unwrap().0
}

fn question(rng: &mut ChaCha8Rng) -> String {
    let mode = ["", "TRAIL ", "SIMPLE ", "ACYCLIC ", "SIMPLE "][rng.random_range(0..5)];
    let bound = ["{2}", "{3}", "{2,4}", "{3,4}", "{1,3}", "{0,4}"][rng.random_range(0..6)];
    let edge =
        ["-[e:R]->", "<-[e:R]-", "-[e]->", "-[e:R]-", "-[e:R WHERE e.w > 0]->"][rng.random_range(0..5)];
    let (x, y) = (rng.random_range(0..4), rng.random_range(0..6));
    match rng.random_range(0..3) {
        0 => format!("MATCH {mode}(s:A {{x: {x}}}){edge}{bound}(s) RETURN e"),
        1 => format!("MATCH (t:A {{x: {y}}}) MATCH {mode}(s:A {{x: {x}}}){edge}{bound}(t) RETURN e"),
        _ => format!("MATCH (t)-[f:S]->(s) MATCH {mode}(s){edge}{bound}(t) RETURN t.x AS t, s.x AS s, e"),
    }
}

fn run(snapshot: &Snapshot, text: &str, rules: Rules) -> Result<Vec<String>, String> {
    let statements = parse(text).unwrap_or_else(|e| panic!("{text}: {}", e.0[0].message));
    let [Statement::Query(query)] = &statements[..] else { panic!("{text} is no query") };
    let none = Parameters::new();
    let prepared = prepare_by(query, text, snapshot, &none, rules).map_err(|e| e.0[0].message.clone())?;
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().map_err(|e| e.code.to_string())? {
        for row in 0..batch.len {
            let cells: Vec<String> =
                batch.columns.iter().map(|column| format!("{:?}", column.get(row))).collect();
            rows.push(cells.join(" | "));
        }
    }
    Ok(rows)
}

#[test]
fn what_is_near_the_end_is_found_without_all_edges() {
    let number = |name: &str, usual: u64| std::env::var(name).map_or(usual, |n| n.parse().unwrap());
    let (cases, seed) = (number("CASES", 600), number("SEED", 1));
    let mut found = 0;
    for case in 0..cases {
        let mut rng = ChaCha8Rng::seed_from_u64(seed.wrapping_mul(1_000_003).wrapping_add(case));
        let graph = graph(&mut rng);
        for _ in 0..3 {
            let text = question(&mut rng);
            let wanted = run(&graph, &text, Rules::all().without(Rule::GuidedSearch));
            let answer = run(&graph, &text, Rules::all());
            assert_eq!(answer, wanted, "case {case} of seed {seed}\n{text}");
            found += answer.map_or(0, |rows| rows.len());
        }
    }
    println!("{cases} graphs, {found} paths");
    if cases >= 500 {
        assert!(found > 10 * cases as usize, "the questions find too little");
    }
}

/// What is kept for one search is given back before the next.
#[test]
fn many_searches_hold_no_more_than_one() {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut node = |labels: &[&str]| {
        let labels = label_set(labels.iter().copied());
        transaction.insert_node(NewNode { labels, properties: vec![] }).unwrap()
    };
    let starts: Vec<u32> = (0..400).map(|_| node(&["Start"])).collect();
    let middle: Vec<u32> = (0..2_000).map(|_| node(&["Middle"])).collect();
    let end = node(&["End"]);
    let mut edge = |source, target| {
        let new = NewEdge { labels: label_set(["R"]), properties: vec![], directed: true, source, target };
        transaction.insert_edge(new).unwrap();
    };
    for (i, start) in starts.iter().enumerate() {
        (0..12).for_each(|k| edge(*start, middle[(i * 5 + k * 7) % middle.len()]));
    }
    middle.iter().for_each(|m| edge(*m, end));
    let graph = folded(&transaction.finish().unwrap().0);
    let text = "MATCH (s:Start), (t:End) MATCH SIMPLE (s)-[e:R]->{1,2}(t) LET k = SIZE(e) RETURN COUNT(*) AS n, MAX(k) AS m";
    let statements = parse(text).unwrap();
    let [Statement::Query(query)] = &statements[..] else { panic!("no query") };
    let none = Parameters::new();
    let rules = Rules::all().without(Rule::FoldedPaths);
    let prepared = prepare_by(query, text, &graph, &none, rules).unwrap();
    let limits = Limits { memory_bytes: 1 << 20, ..Limits::default() };
    let mut execution = prepared.run(graph.clone(), &none, limits);
    let batch = execution.next_batch().unwrap_or_else(|e| panic!("{}", e.message)).unwrap();
    assert_eq!((batch.columns[0].get(0), batch.columns[1].get(0)), (Value::Int(4_800), Value::Int(2)));
}
