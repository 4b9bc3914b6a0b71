//! Paths between two nodes, counted from their prefixes, against enumeration: in every mode and direction, on
//! graphs with loops, parallel and undirected edges and changes since the last fold.

#![allow(clippy::unwrap_used)]

mod asked;
mod folded;

use graphodrome_engine::{Rule, Rules};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::asked::{Rows, run_as};
use crate::folded::folded;

fn graph(rng: &mut ChaCha8Rng) -> Snapshot {
    let count = rng.random_range(2..7usize);
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let nodes: Vec<u32> = (0..count)
        .map(|x| {
            let labels = if rng.random_bool(0.8) { label_set(["A"]) } else { label_set(["A", "B"]) };
            let properties = vec![("x".into(), Value::Int(x as i64))];
            transaction.insert_node(NewNode { labels, properties }).unwrap()
        })
        .collect();
    let directed = [1.0, 0.8, 0.0].choose(rng).copied().unwrap();
    let edge = |rng: &mut ChaCha8Rng| NewEdge {
        labels: label_set([if rng.random_bool(0.85) { "R" } else { "S" }]),
        properties: vec![("w".into(), Value::Int(rng.random_range(0..3)))],
        directed: rng.random_bool(directed),
        source: *nodes.choose(rng).unwrap(),
        target: *nodes.choose(rng).unwrap(),
    };
    for _ in 0..rng.random_range(count..2 * count + 2) {
        transaction.insert_edge(edge(rng)).unwrap();
    }
    let made = transaction.finish().unwrap().0;
    if rng.random_bool(0.5) {
        return made;
    }
    let base = folded(&made);
    let mut transaction = Transaction::new(base.clone());
    transaction.insert_edge(edge(rng)).unwrap();
    transaction.delete_edge(rng.random_range(0..base.edge_bound()));
    transaction.finish().unwrap().0
}

fn question(rng: &mut ChaCha8Rng) -> String {
    let pick = |rng: &mut ChaCha8Rng, all: &[&str]| all.choose(rng).unwrap().to_string();
    let edge = pick(
        rng,
        &["-[:R]->", "-[:R]->", "<-[]-", "-[]-", "~[]~", "~[:R]~>", "<-[]->", "-[e:R WHERE e.w > 0]->"],
    );
    let repeatable = pick(rng, &["", "", "", "REPEATABLE ELEMENTS "]);
    let mode = pick(rng, &["", "", "TRAIL ", "SIMPLE ", "SIMPLE ", "ACYCLIC "]);
    let (x, y) = (rng.random_range(0..3), rng.random_range(0..3));
    let bound = pick(rng, &["{3}", "{4}", "{5}", "{3,5}", "{0,6}", "{1,4}", "{2,3}", "{2,6}", "{1,7}"]);
    let (first, last) = match rng.random_range(0..4) {
        0 => (format!("(s:A {{x: {x}}})"), "(s)".to_string()),
        1 => ("(s:A)".into(), "(s)".into()),
        2 => (format!("(s:A {{x: {x}}})"), format!("(t:A {{x: {y}}})")),
        _ => ("(s:B)".into(), format!("(t {{x: {y}}})")),
    };
    let before = if mode.is_empty() { pick(rng, &["", "", "", "(z)-[d:R]->"]) } else { String::new() };
    let beside = pick(rng, &["", "", "", ", (s)-[f:R]->(z2)"]);
    let result = pick(
        rng,
        &[
            "COUNT(*) AS n",
            "s.x AS x, COUNT(*) AS n",
            "COUNT(p) AS n, MAX(s.x) AS m",
            "COUNT(p) AS n, COUNT(DISTINCT p) AS m",
            "PATH_LENGTH(p) AS l, COUNT(p)",
            "PATH_LENGTH(p) AS l, COUNT(*) AS n",
            "s.x AS x, PATH_LENGTH(p) AS l, COUNT(*) AS n",
            "SUM(PATH_LENGTH(p)) AS n, MAX(PATH_LENGTH(p)) AS m, AVG(PATH_LENGTH(p)) AS k",
            "COUNT(DISTINCT PATH_LENGTH(p)) AS n, SUM(s.x) AS m",
        ],
    );
    format!("MATCH {repeatable}p = {mode}{before}{first}{edge}{bound}{last}{beside} RETURN {result}")
}

/// Rings whose edges are written one by one.
fn written_out(rng: &mut ChaCha8Rng) -> String {
    let pick = |rng: &mut ChaCha8Rng, all: &[&str]| all.choose(rng).unwrap().to_string();
    let edge = pick(rng, &["-[:R]->", "<-[:R]-", "-[]-", "~[]~"]);
    let edges = rng.random_range(3..6);
    let inner = pick(rng, &["", "", ":A", ":B"]);
    let names: Vec<String> = (1..edges).map(|i| format!("v{i}")).collect();
    let first = pick(rng, &["(s:A {x: 0})", "(s:A)", "(s)", "(s:B)"]);
    let nodes: Vec<String> = names.iter().map(|name| format!("({name}{inner})")).collect();
    let between = nodes.join(&edge);
    let mut all = vec!["s".to_string()];
    all.extend(names.iter().cloned());
    let apart = match rng.random_range(0..5) {
        0 => String::new(),
        1 | 2 => format!(" WHERE ALL_DIFFERENT({})", all.join(", ")),
        3 => {
            let mut pairs = vec![];
            for (i, a) in all.iter().enumerate() {
                for b in &all[i + 1..] {
                    pairs.push(if rng.random_bool(0.5) {
                        format!("{a} <> {b}")
                    } else {
                        format!("{b} <> {a}")
                    });
                }
            }
            if rng.random_bool(0.3) {
                pairs.pop();
            }
            format!(" WHERE {}", pairs.join(" AND "))
        }
        _ => format!(" WHERE ALL_DIFFERENT({}) AND v1.x < 3", all.join(", ")),
    };
    let beside = pick(rng, &["", "", "", ", (s)-[f:R]->(z2)", ", (v1)-[f:S]->(z2)"]);
    let result =
        pick(rng, &["COUNT(*) AS n", "s.x AS x, COUNT(*) AS n", "COUNT(s) AS n", "v1.x AS x, COUNT(*) AS n"]);
    let repeatable = pick(rng, &["", "", "", "REPEATABLE ELEMENTS "]);
    format!("MATCH {repeatable}{first}{edge}{between}{edge}(s){beside}{apart} RETURN {result}")
}

fn run(snapshot: &Snapshot, text: &str, rules: Rules, threads: bool) -> (Rows, String) {
    run_as(|value| format!("{value:?}"), snapshot, text, rules, threads)
}

#[test]
fn paths_that_are_counted_are_those_that_are_made() {
    let cases: u32 = std::env::var("CASES").ok().map_or(2_000, |n| n.parse().unwrap());
    let seed: u64 = std::env::var("SEED").ok().map_or(5, |n| n.parse().unwrap());
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let (mut counted, mut by_length, mut rings, mut full) = (0, 0, 0, 0);
    for case in 0..cases {
        let snapshot = graph(&mut rng);
        let ring = case % 3 == 0;
        let text = if ring { written_out(&mut rng) } else { question(&mut rng) };
        let (plain, _) = run(&snapshot, &text, Rules::none(), false);
        full += plain.as_ref().is_ok_and(|rows| !rows.is_empty()) as u32;
        for rules in [
            Rules::all(),
            Rules::all().without(Rule::FoldedPaths),
            Rules::all().without(Rule::FixedRepetition),
            Rules::all().without(Rule::RingAsRepetition),
            Rules::all().without(Rule::PathsBetween),
            Rules::none().with(Rule::RingAsRepetition),
            Rules::none()
                .with(Rule::PathsBetween)
                .with(Rule::RepeatedEdge)
                .with(Rule::LengthsAlone)
                .with(Rule::UnreadPaths),
        ] {
            let (rows, plan) = run(&snapshot, &text, rules, rng.random_bool(0.3));
            counted += plan.contains("all with one beginning together") as u32;
            by_length += plan.contains("counted by their lengths") as u32;
            rings += (ring && plan.contains("FoldPaths")) as u32;
            assert_eq!(plain, rows, "case {case} of seed {seed}\n{text}\n{plan}");
        }
    }
    println!(
        "{counted} counted, {by_length} by length, {rings} written-out rings, {full} with rows of {cases}"
    );
    assert!(counted > cases && by_length > cases / 5 && rings > cases / 10 && full > cases / 2);
}
