//! Groups and distinct rows by values that tell nodes apart: by a key that each node has, by one that some lack, by a key
//! of other nodes, and by values that several nodes share.

#![allow(clippy::unwrap_used)]

mod asked;
mod folded;

use std::sync::Arc;

use graphodrome_engine::{Rule, Rules};
use graphodrome_graph::{
    Created, Element, KeyDefinition, NewEdge, NewNode, Schema, Snapshot, Transaction, Value, label_set,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::asked::{Rows, run_as};
use crate::folded::folded;

const TYPE: &str = "CREATE GRAPH TYPE t AS {
    (:A { x INT64 NOT NULL, t STRING, y INT64 }), (:A&C { x INT64 NOT NULL, t STRING, y INT64 }),
    (:B { x INT64 NOT NULL, t STRING NOT NULL, y INT64 }), (:D { x INT64, t STRING, y INT64 }),
    (:A|:B|:D)-[:R { w INT64 }]->(:A|:B|:D) }";

fn key(label: &str, properties: &[&str]) -> Arc<KeyDefinition> {
    Arc::new(KeyDefinition {
        name: format!("{label}_key").into(),
        element: Element::Node,
        label: label.into(),
        properties: properties.iter().map(|p| Arc::from(*p)).collect(),
    })
}

fn graph(rng: &mut ChaCha8Rng) -> Snapshot {
    let graph_type = rng.random_bool(0.8).then(|| {
        let Statement::CreateGraphType { definition, .. } = parse(TYPE).unwrap().remove(0) else { panic!() };
        Arc::new(*definition)
    });
    let keys = vec![key("A", &["x"]), key("B", &["x", "t"]), key("D", &["x"])];
    let schema = Schema::new(graph_type.clone(), Created { keys, ..Created::default() });
    let empty = Snapshot::empty(graph_type).unwrap().with_schema(schema, &|| Ok(())).unwrap();
    let mut transaction = Transaction::new(empty);
    let mut made = vec![];
    for i in 0..rng.random_range(2..10i64) {
        let labels = [label_set(["A"]), label_set(["A", "C"]), label_set(["B"]), label_set(["D"])];
        let of = rng.random_range(0..4);
        let mut properties = vec![("y".into(), Value::Int(rng.random_range(0..2)))];
        if of < 3 || rng.random_bool(0.5) {
            // Of B two nodes have one number, and different texts.
            properties.push(("x".into(), Value::Int(if of == 2 { i / 2 } else { i })));
        }
        if of == 2 {
            properties.push(("t".into(), Value::text(["p", "q"][i as usize % 2])));
        }
        made.push(transaction.insert_node(NewNode { labels: labels[of].clone(), properties }).unwrap());
    }
    for w in 0..rng.random_range(0..14i64) {
        let end = |rng: &mut ChaCha8Rng| made[rng.random_range(0..made.len())];
        let (source, target) = (end(rng), end(rng));
        let properties = vec![("w".into(), Value::Int(w % 3))];
        let edge = NewEdge { labels: label_set(["R"]), properties, directed: true, source, target };
        transaction.insert_edge(edge).unwrap();
    }
    let made = transaction.finish().unwrap().0;
    if rng.random_bool(0.7) { folded(&made) } else { made }
}

fn one_of<'t>(rng: &mut ChaCha8Rng, of: &[&'t str]) -> &'t str {
    of[rng.random_range(0..of.len())]
}

fn question(rng: &mut ChaCha8Rng) -> String {
    let pattern = one_of(
        rng,
        &[
            "(a:A)-[e:R]->(b)",
            "(a)-[e:R]->(b:B)",
            "(a:A)-[e:R]-(b:A&C)",
            "(a:D)<-[e:R]-(b:B)",
            "(a:A), (b:B)-[e:R]->()",
            "(b:B)-[:R]->{1,2}(a:A)-[e:R]->()",
            "(a)-[e:R]->(b)-[:R]->(c:A)",
        ],
    );
    let keys =
        ["a.x AS k", "a.y AS k", "a AS k", "b.x AS k", "a.x + a.y AS k", "b.t AS k", "e.w AS k", "a.x AS a"];
    let others = [
        "b.x AS l, b.t AS m",
        "a.y AS l",
        "b.y + b.x AS l, b.x AS m",
        "e AS l, e.w AS m",
        "b AS l",
        "a.x + b.x AS l",
    ];
    let (key, other) = (one_of(rng, &keys), one_of(rng, &others));
    let count = one_of(
        rng,
        &["COUNT(*) AS n", "COUNT(*) AS n, SUM(e.w) AS s", "COUNT(DISTINCT b.x) AS n", "MAX(b.y) AS n"],
    );
    match rng.random_range(0..9) {
        0 => format!("MATCH {pattern} RETURN {key}, {count}"),
        1 => format!("MATCH {pattern} RETURN {key}, {other}, {count}"),
        2 => format!("MATCH {pattern} RETURN DISTINCT {key}, {other}"),
        3 => format!("MATCH {pattern} RETURN DISTINCT {key}"),
        4 if rng.random() => format!(
            "MATCH {pattern} RETURN a.x AS a, a.y AS b, b.x AS e, {count} ORDER BY a.x, b DESC, e, n, a LIMIT 3"
        ),
        4 => format!("MATCH {pattern} RETURN a.x AS k, {count} ORDER BY k, n LIMIT 3"),
        5 => format!(
            "MATCH {pattern} RETURN DISTINCT b.x AS k, b.t AS l, b.y AS m ORDER BY m DESC, k, l LIMIT 4"
        ),
        6 => format!(
            "MATCH {pattern} RETURN a.x AS k, a.y AS l, COUNT(*) AS n GROUP BY k, l NEXT RETURN k, SUM(n) AS n"
        ),
        7 => format!("MATCH {pattern} OPTIONAL MATCH (a)-[f:R]->(o:A) RETURN o.x AS k, {count}"),
        _ => format!(
            "SELECT a.x AS k, b.y AS l, COUNT(*) AS n FROM CURRENT_GRAPH MATCH {pattern} GROUP BY k, l HAVING k > 1 AND n > 0"
        ),
    }
}

fn run(snapshot: &Snapshot, text: &str, rules: Rules, threads: bool) -> (Rows, String) {
    run_as(|value| format!("{value:?}"), snapshot, text, rules, threads)
}

#[test]
fn groups_by_a_key_are_groups_by_the_node() {
    let cases = std::env::var("CASES").map_or(4_000, |n| n.parse().unwrap());
    let seed: u64 = std::env::var("SEED").map_or(1, |n| n.parse().unwrap());
    let (mut full, mut told) = (0, 0);
    for case in 0..cases {
        let mut rng = ChaCha8Rng::seed_from_u64(seed.wrapping_mul(1_000_003).wrapping_add(case));
        let snapshot = graph(&mut rng);
        let text = question(&mut rng);
        let (plain, _) = run(&snapshot, &text, Rules::none(), false);
        full += u32::from(plain.as_ref().unwrap_or_else(|e| panic!("{text}: {e}")).len() > 1);
        let sets = [
            Rules::all(),
            Rules::all().without(Rule::ToldByNode),
            Rules::none().with(Rule::ToldByNode),
            Rules::none().with(Rule::ToldByNode).with(Rule::MergedRows).with(Rule::CountedRows),
        ];
        for (place, rules) in sets.into_iter().enumerate() {
            let (rows, plan) = run(&snapshot, &text, rules, place % 2 == 0);
            told += u32::from(plan.contains("told apart by"));
            assert_eq!(rows, plain, "case {case} of seed {seed}\n{text}\n{plan}");
        }
    }
    println!("{cases} cases: {full} with rows, {told} plans by nodes");
    if cases >= 1000 {
        assert!(full > 1000 && told > 1000, "the questions do not hit what is meant: {full} {told}");
    }
}

/// What a key does not tell apart is grouped by its values.
#[test]
fn only_keys_that_each_node_has_stand_for_it() {
    let mut rng = ChaCha8Rng::seed_from_u64(3);
    let snapshot = loop {
        let made = graph(&mut rng);
        if made.graph_type.is_some() {
            break made;
        }
    };
    let is_told = |text: &str| run(&snapshot, text, Rules::all(), false).1.contains("told apart by");
    for text in [
        "MATCH (a:A) RETURN a.x AS k, COUNT(*) AS n",
        "MATCH (a:A&C)-[:R]->(b) RETURN a.x AS k, a.y AS l, COUNT(*) AS n",
        "MATCH (b:B)-[:R]->(a) RETURN b.t AS t, b.x AS x, COUNT(a) AS n",
        "MATCH (a:D) RETURN a, a.x AS k, COUNT(*) AS n",
        // A name that is an item's, too.
        "MATCH (a:A)-[:R]->(b) RETURN a.x AS b, COUNT(*) AS n, a.x AS a",
    ] {
        assert!(is_told(text), "{text}");
    }
    for text in [
        // Some lack it; it is a part of a key; nodes of other types may have the same value.
        "MATCH (a:D) RETURN a.x AS k, COUNT(*) AS n",
        "MATCH (b:B) RETURN b.x AS k, COUNT(*) AS n",
        "MATCH (a:A|B) RETURN a.x AS k, COUNT(*) AS n",
        "MATCH (a) RETURN a.x AS k, COUNT(*) AS n",
        "MATCH (a:A) RETURN a.y AS k, COUNT(*) AS n",
    ] {
        assert!(!is_told(text), "{text}");
    }
}
