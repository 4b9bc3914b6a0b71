//! Conditions, keys, counts and joins that read a text of an element, against the same questions evaluated row by row: texts
//! that repeat and texts that do not, nulls, columns of other types under the same name, several tables, and elements that
//! were changed since the base was made.

#![allow(clippy::unwrap_used)]

mod folded;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, prepare_by};
use graphodrome_graph::{Dense, NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::folded::folded;

/// What a property mostly holds.
#[derive(Clone, Copy, PartialEq)]
enum Held {
    /// One of few texts.
    Repeating,
    /// A text of its own, nearly.
    Different,
    Float,
    Int,
    /// Texts and numbers.
    Mixed,
}

const HELD: [Held; 8] = [
    Held::Repeating,
    Held::Repeating,
    Held::Repeating,
    Held::Repeating,
    Held::Different,
    Held::Float,
    Held::Int,
    Held::Mixed,
];

fn value(rng: &mut ChaCha8Rng, held: Held) -> Value {
    const TEXTS: [&str; 7] = ["", "x", "X", "xy", "North", "a_b", "z%"];
    match (held, rng.random_range(0..10)) {
        (_, 0) => Value::Null,
        (Held::Repeating, _) | (Held::Mixed, 1..5) => Value::text(TEXTS[rng.random_range(0..TEXTS.len())]),
        (Held::Different, _) => Value::text(format!("x{}", rng.random_range(0..100_000))),
        (Held::Float, _) => Value::Float([-0.0, 0.0, 1.5, -2.25, f64::NAN][rng.random_range(0..5)]),
        _ => Value::Int(rng.random_range(-2..4)),
    }
}

struct Kinds {
    node: [(&'static str, Held); 2],
    edge: [(&'static str, Held); 2],
}

fn properties(rng: &mut ChaCha8Rng, kinds: &[(&'static str, Held)]) -> Vec<(std::sync::Arc<str>, Value)> {
    let made = kinds.iter().map(|(name, held)| ((*name).into(), value(rng, *held)));
    made.filter(|(_, value): &(_, Value)| !value.is_null()).collect()
}

fn graph(rng: &mut ChaCha8Rng, (nodes, edges): (usize, usize)) -> Snapshot {
    let held = |rng: &mut ChaCha8Rng| HELD[rng.random_range(0..HELD.len())];
    let kinds = Kinds {
        node: [("s", held(rng)), ("t", Held::Repeating)],
        edge: [("s", held(rng)), ("t", Held::Repeating)],
    };
    // Another table may hold something else under the same names.
    let others = match rng.random_bool(0.5) {
        true => Kinds { node: kinds.node, edge: kinds.edge },
        false => {
            Kinds { node: [("s", held(rng)), ("t", held(rng))], edge: [("s", held(rng)), ("t", held(rng))] }
        }
    };
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut made = vec![];
    for _ in 0..nodes {
        let first = rng.random_bool(0.7);
        let properties = properties(rng, if first { &kinds.node } else { &others.node });
        let labels = label_set([if first { "A" } else { "B" }]);
        made.push(transaction.insert_node(NewNode { labels, properties }).unwrap());
    }
    for _ in 0..edges {
        let (source, target) = (made[rng.random_range(0..nodes)], made[rng.random_range(0..nodes)]);
        let first = rng.random_bool(0.7);
        let properties = properties(rng, if first { &kinds.edge } else { &others.edge });
        let labels = label_set([if first { "R" } else { "S" }]);
        let directed = rng.random_bool(0.9);
        transaction.insert_edge(NewEdge { labels, properties, directed, source, target }).unwrap();
    }
    let base = folded(&transaction.finish().unwrap().0);
    if rng.random_bool(0.6) {
        return base;
    }
    let mut transaction = Transaction::new(base.clone());
    for _ in 0..rng.random_range(1..6) {
        let node = rng.random_range(0..base.node_bound());
        let edge = rng.random_range(0..base.edge_bound().max(1));
        match rng.random_range(0..3) {
            0 if transaction.snapshot().edge_exists(edge) => {
                let labels = transaction.snapshot().edge_labels(edge);
                let properties = properties(rng, &others.edge);
                transaction.change_edge(edge, labels, properties).unwrap();
            }
            1 if transaction.snapshot().node_exists(node) => {
                let labels = transaction.snapshot().node_labels(node);
                let properties = properties(rng, &others.node);
                transaction.change_node(node, labels, properties).unwrap();
            }
            _ if transaction.snapshot().node_exists(node) => {
                let new = NewNode { labels: label_set(["A"]), properties: properties(rng, &kinds.node) };
                let target = transaction.insert_node(new).unwrap();
                let properties = properties(rng, &kinds.edge);
                let labels = label_set(["R"]);
                let edge = NewEdge { labels, properties, directed: true, source: node, target };
                transaction.insert_edge(edge).unwrap();
            }
            _ => {}
        }
    }
    transaction.finish().unwrap().0
}

fn one<'a>(rng: &mut ChaCha8Rng, of: &[&'a str]) -> &'a str {
    of[rng.random_range(0..of.len())]
}

const READ: [&str; 8] = ["e.t", "e.t", "e.s", "e.s", "a.t", "b.t", "a.s", "b.s"];

/// A text made of a property.
fn text(rng: &mut ChaCha8Rng) -> String {
    let read = one(rng, &READ);
    match rng.random_range(0..8) {
        0 => format!("UPPER({read})"),
        1 => format!("({read} || 'y')"),
        2 => format!("CASE {read} WHEN 'x' THEN 'one' ELSE {read} END"),
        3 => format!("COALESCE({read}, 'none')"),
        _ => read.into(),
    }
}

fn condition(rng: &mut ChaCha8Rng, depth: u32) -> String {
    if depth > 0 && rng.random_bool(0.35) {
        let (a, b) = (condition(rng, depth - 1), condition(rng, depth - 1));
        return match rng.random_range(0..3) {
            0 => format!("NOT ({a})"),
            1 => format!("({a} OR {b})"),
            _ => format!("({a} AND {b})"),
        };
    }
    let (a, constant) =
        (text(rng), one(rng, &["'x'", "''", "'xy'", "'North'", "'x5'", "NULL", "1", "1.5e0", "1.5"]));
    let operator = one(rng, &["=", "<>", "<", "<=", ">", ">=", "=", "="]);
    let not = one(rng, &["", "NOT "]);
    match rng.random_range(0..9) {
        0 => format!("{a} IS {not}NULL"),
        1 => format!("{a} {not}IN ['x', 'North', {constant}]"),
        2 => format!("{a} {not}LIKE {}", one(rng, &["'x%'", "'%o%'", "'_'", "'a!_b' ESCAPE '!'"])),
        3 => format!("{a} {not}BETWEEN 'a' AND {constant}"),
        4 => format!("{constant} {operator} {a}"),
        5 => format!("{a} {operator} {}", text(rng)),
        6 => format!("CHAR_LENGTH({}) > 1", one(rng, &["e.t", "a.t", "b.t"])),
        _ => format!("{a} {operator} {constant}"),
    }
}

fn question(rng: &mut ChaCha8Rng) -> String {
    let pattern = one(rng, &["(a)-[e:R]->(b)", "(a:A)-[e]->(b)", "(a)-[e]-(b:A)", "(a:A)-[e:R|S]->(b:B)"]);
    let condition = condition(rng, 2);
    match rng.random_range(0..9) {
        // Groups, and distinct values.
        0..3 => {
            let keys: Vec<String> =
                (0..rng.random_range(1..3)).map(|i| format!("{} AS k{i}", text(rng))).collect();
            let counted =
                one(rng, &["COUNT(*)", "COUNT(DISTINCT e.t)", "COUNT(DISTINCT b.s)", "MIN(e.t)", "MAX(a.s)"]);
            let filter = if rng.random() { format!(" WHERE {condition}") } else { String::new() };
            format!("MATCH {pattern}{filter} RETURN {}, {counted} AS n", keys.join(", "))
        }
        3 => format!("MATCH {pattern} RETURN DISTINCT {} AS d", text(rng)),
        // Parts that only a text joins.
        4 => {
            let (left, right) = (one(rng, &["e.t", "e.s", "b.t", "UPPER(e.t)"]), one(rng, &["c.t", "c.s"]));
            format!("MATCH {pattern}, (c:A) WHERE {left} = {right} RETURN a, b, c, e")
        }
        5 => format!("MATCH {pattern} FILTER {condition} RETURN a, e, b"),
        6 => format!("MATCH (a) WHERE {} RETURN a, a.t", condition.replace("e.", "a.").replace("b.", "a.")),
        // Along paths, where the condition reads an edge in its own place.
        7 => {
            let own = condition.replace("a.", "e.").replace("b.", "e.");
            format!("MATCH (a:A)-[e WHERE {own}]->{{1,2}}(b) RETURN a, b")
        }
        _ => format!("MATCH {pattern} WHERE {condition} RETURN a, e, b"),
    }
}

/// The rows in any order, or the code of the error.
fn run(snapshot: &Snapshot, text: &str, rules: Rules, threads: bool) -> Result<Vec<String>, String> {
    let statements = parse(text).unwrap_or_else(|e| panic!("{text}: {}", e.0[0].message));
    let [Statement::Query(query)] = &statements[..] else { panic!("{text} is no query") };
    let none = Parameters::new();
    let prepared = prepare_by(query, text, snapshot, &none, rules).map_err(|e| e.0[0].message.clone())?;
    let spread_after = if threads { std::time::Duration::ZERO } else { std::time::Duration::MAX };
    let mut execution = prepared.run(snapshot.clone(), &none, Limits { spread_after, ..Limits::default() });
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().map_err(|e| e.code.to_string())? {
        for row in 0..batch.len {
            let cells = batch.columns.iter().map(|column| format!("{:?}", column.get(row)));
            rows.push(cells.collect::<Vec<_>>().join(" | "));
        }
    }
    rows.sort();
    Ok(rows)
}

fn number_of(name: &str, usual: u64) -> u64 {
    std::env::var(name).map_or(usual, |n| n.parse().unwrap())
}

/// Graphs of a few edges, and of so many that answers are kept.
#[test]
fn texts_say_what_rows_say() {
    let (cases, seed) = (number_of("CASES", 900), number_of("SEED", 1));
    let plain = Rules::all().without(Rule::TypedReads).without(Rule::KnownNodes).without(Rule::KnownTexts);
    let only = plain.with(Rule::KnownTexts);
    let (mut failed, mut some) = (0, 0);
    for case in 0..cases {
        let mut rng = ChaCha8Rng::seed_from_u64(seed.wrapping_mul(1_000_003).wrapping_add(case));
        let size = if case.is_multiple_of(6) {
            (40, 700)
        } else {
            (rng.random_range(1..10), rng.random_range(0..30))
        };
        let graph = graph(&mut rng, size);
        for _ in 0..5 {
            let text = question(&mut rng);
            let wanted = run(&graph, &text, plain, false);
            for (rules, threads) in [(Rules::all(), false), (Rules::all(), true), (only, false)] {
                let found = run(&graph, &text, rules, threads);
                // Which of several conditions raises its error first is not defined, nor whether it is asked at all.
                if let (Err(_), _) | (_, Err(_)) = (&found, &wanted) {
                    assert!(
                        found.is_err() == wanted.is_err()
                            || text.contains(" AND ")
                            || text.contains(", (c:A)"),
                        "case {case} of seed {seed}, threads {threads}\n{text}\n{found:?}\n{wanted:?}"
                    );
                    continue;
                }
                assert_eq!(found, wanted, "case {case} of seed {seed}, threads {threads}\n{text}");
            }
            match &wanted {
                Err(_) => failed += 1,
                Ok(rows) => some += usize::from(!rows.is_empty()),
            }
        }
    }
    println!("{cases} graphs, {some} answers with rows, {failed} errors");
    assert!(some as u64 > cases, "{some} of {} answers have rows", cases * 5);
}

/// How often a property is read does not depend on how many different texts there are, nor on threads.
#[test]
fn what_is_read_is_counted_row_by_row() {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let nodes: Vec<Dense> = (0..50)
        .map(|_| transaction.insert_node(NewNode { labels: label_set(["A"]), properties: vec![] }).unwrap())
        .collect();
    for i in 0..4000 {
        let properties = vec![("t".into(), Value::text(["x", "y", "z"][i % 3]))];
        let (source, target) = (nodes[i % 50], nodes[i * 7 % 50]);
        let labels = label_set(["R"]);
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    }
    let graph = folded(&transaction.finish().unwrap().0);
    let text = "MATCH ()-[e:R]->() WHERE e.t LIKE '%y' RETURN COUNT(*) AS n";
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!() };
    let none = Parameters::new();
    let read = |rules: Rules, threads: bool| {
        let prepared = prepare_by(&query, text, &graph, &none, rules).unwrap();
        let spread_after = if threads { std::time::Duration::ZERO } else { std::time::Duration::MAX };
        let mut execution = prepared.run(graph.clone(), &none, Limits { spread_after, ..Limits::default() });
        while execution.next_batch().unwrap().is_some() {}
        let profile = execution.profile();
        let operators = profile.walk().into_iter();
        operators.map(|(_, o)| o.actual.as_ref().unwrap().counters.properties_read).sum::<u64>()
    };
    assert_eq!(read(Rules::all(), false), 4000);
    assert_eq!(read(Rules::all(), true), 4000);
    assert_eq!(read(Rules::all().without(Rule::KnownTexts), false), 4000);
}
