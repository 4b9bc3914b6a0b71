//! Groups, keys and aggregates over columns of one type, against the same questions evaluated row by row: on tables of
//! one type and of several, with nulls, on elements that were changed since, with overflows and mixed numbers.

#![allow(clippy::unwrap_used)]

mod folded;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, TextOptions, prepare_by, render_plan};
use graphodrome_graph::{
    Dense, NewEdge, NewNode, Snapshot, Transaction, Value, ValueType, label_set, parse_text,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::folded::folded;

fn date(days: u32) -> Value {
    parse_text(&ValueType::Date, &format!("2024-01-{:02}", days % 28 + 1)).unwrap()
}

/// Kinds of columns.
const KINDS: u32 = 11;

/// Multiples of one unit, and now and then of another: of a scale, or at an offset, of their own.
fn multiple(rng: &mut ChaCha8Rng, kind: u32) -> Value {
    let odd = rng.random_bool(0.04);
    let (value_type, text) = match kind {
        6 => {
            let fraction = if odd { "5" } else { ["25", "50"][rng.random_range(0..2)] };
            let value_type = ValueType::Decimal { precision: 38, scale: 2 };
            (value_type, format!("{}.{fraction}", rng.random_range(-3..5)))
        }
        // Products of these are out of range for 64 bits, and sums of many too.
        7 => (
            ValueType::Decimal { precision: 38, scale: 6 },
            format!("{}.000001", i64::from(rng.random_range(1..4)) * 2_900_000_000_000),
        ),
        8 => (
            ValueType::LocalDateTime,
            format!("2024-01-{:02}T12:00:0{}", rng.random_range(10..17), if odd { "0.25" } else { "1" }),
        ),
        9 => (
            ValueType::ZonedDateTime,
            format!(
                "2024-01-{}T{}",
                rng.random_range(13..16),
                if odd { "13:00:00+01:00" } else { "12:00:00Z" }
            ),
        ),
        _ => (ValueType::LocalTime, format!("{}:30:00", rng.random_range(10..14))),
    };
    parse_text(&value_type, &text).unwrap()
}

/// A value of the kind that a column mostly has.
fn value(rng: &mut ChaCha8Rng, kind: u32) -> Value {
    let int = |rng: &mut ChaCha8Rng| Value::Int(rng.random_range(-3..6));
    let float = |rng: &mut ChaCha8Rng| match rng.random_range(0..30) {
        0 => Value::Float(f64::NAN),
        1 => Value::Float(-0.0),
        _ => Value::Float(f64::from(rng.random_range(-8..9)) / 4.0),
    };
    match (kind, rng.random_range(0..12)) {
        (_, 0) => Value::Null,
        (0, 1) => Value::Int([i64::MAX, i64::MIN, i64::MAX / 2][rng.random_range(0..3)]),
        (0 | 1, _) => int(rng),
        (2, _) => float(rng),
        (3, _) => date(rng.random_range(0..40)),
        (4, _) => Value::text(["x", "y", "z"][rng.random_range(0..3)]),
        (6.., _) => multiple(rng, kind),
        // Mixed: no column of one type.
        (_, 1..4) => float(rng),
        (_, 4) => Value::Decimal("2.50".parse().unwrap()),
        _ => int(rng),
    }
}

fn properties(rng: &mut ChaCha8Rng, kinds: &[(&str, u32)]) -> Vec<(std::sync::Arc<str>, Value)> {
    let made = kinds.iter().map(|(name, kind)| ((*name).into(), value(rng, *kind)));
    made.filter(|(_, value): &(_, Value)| !value.is_null()).collect()
}

fn graph(rng: &mut ChaCha8Rng) -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let kinds: Vec<(&str, u32)> =
        [("p", rng.random_range(0..KINDS)), ("q", rng.random_range(0..KINDS)), ("t", 4), ("i", 1)].into();
    // Sometimes a property has another type in another table.
    let others: Vec<(&str, u32)> = kinds
        .iter()
        .map(|(name, kind)| (*name, if rng.random_bool(0.2) { rng.random_range(0..KINDS) } else { *kind }))
        .collect();
    let mut nodes = vec![];
    for _ in 0..rng.random_range(1..14) {
        let first = rng.random_bool(0.6);
        let labels = if first { label_set(["A"]) } else { label_set(["A", "B"]) };
        let properties = properties(rng, if first { &kinds } else { &others });
        nodes.push(transaction.insert_node(NewNode { labels, properties }).unwrap());
    }
    for _ in 0..rng.random_range(0..40) {
        let (source, target) =
            (nodes[rng.random_range(0..nodes.len())], nodes[rng.random_range(0..nodes.len())]);
        let first = rng.random_bool(0.7);
        let labels = label_set([if first { "R" } else { "S" }]);
        let properties = properties(rng, if first { &kinds } else { &others });
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    }
    let made = transaction.finish().unwrap().0;
    if rng.random_bool(0.2) {
        return made;
    }
    let base = folded(&made);
    if rng.random() {
        return base;
    }
    // Changed, new and deleted elements above the base.
    let mut transaction = Transaction::new(base.clone());
    let live: Vec<Dense> = (0..base.node_bound()).collect();
    for _ in 0..rng.random_range(1..4) {
        let node = live[rng.random_range(0..live.len())];
        if !transaction.snapshot().node_exists(node) {
            continue;
        }
        match rng.random_range(0..4) {
            0 => transaction.delete_node(node, true),
            1 => {
                let (labels, properties) = (label_set(["A"]), properties(rng, &others));
                let new = transaction.insert_node(NewNode { labels, properties }).unwrap();
                let labels = label_set(["R"]);
                let edge = NewEdge { labels, properties: vec![], directed: true, source: node, target: new };
                transaction.insert_edge(edge).unwrap();
            }
            _ => {
                let labels = transaction.snapshot().node_labels(node);
                let properties = properties(rng, &others);
                transaction.change_node(node, labels, properties).unwrap();
            }
        }
    }
    transaction.finish().unwrap().0
}

fn number(rng: &mut ChaCha8Rng, depth: u32) -> String {
    if depth > 0 && rng.random_bool(0.4) {
        let operator = ["+", "-", "*", "/"][rng.random_range(0..4)];
        return format!("({} {operator} {})", number(rng, depth - 1), number(rng, depth - 1));
    }
    let all =
        ["a.p", "b.p", "e.p", "a.q", "b.q", "e.q", "a.i", "b.i", "e.i", "2", "0.5e0", "-e.i", "x", "1.5"];
    all[rng.random_range(0..all.len())].into()
}

fn key(rng: &mut ChaCha8Rng) -> String {
    match rng.random_range(0..9) {
        0 => "a".into(),
        1 => "b.t".into(),
        2 => "b.t || a.t".into(),
        3 => "e.t".into(),
        4 => "CASE WHEN a.i > 1 THEN 'high' ELSE a.t END".into(),
        5 => "COALESCE(b.p, b.q)".into(),
        _ => number(rng, 1),
    }
}

fn aggregate(rng: &mut ChaCha8Rng) -> String {
    let all = [
        "COUNT",
        "SUM",
        "AVG",
        "MIN",
        "MAX",
        "SUM",
        "MIN",
        "MAX",
        "COLLECT_LIST",
        "STDDEV_POP",
        "PERCENTILE_CONT",
        "PERCENTILE_DISC",
        "COUNT(DISTINCT",
        "SUM(DISTINCT",
    ];
    let function = all[rng.random_range(0..all.len())];
    let argument = match rng.random_range(0..5) {
        0 => ["e.p", "b.q", "a.t", "e.q", "a.p"][rng.random_range(0..5)].to_string(),
        _ => number(rng, 2),
    };
    match function.strip_suffix("(DISTINCT") {
        Some(function) => format!("{function}(DISTINCT {argument})"),
        None if rng.random_bool(0.15) => "COUNT(*)".into(),
        None if function.starts_with("PERCENTILE") => {
            format!("{function}({argument}, {})", ["0", "0.25", "0.5", "0.9", "1"][rng.random_range(0..5)])
        }
        None => format!("{function}({argument})"),
    }
}

fn question(rng: &mut ChaCha8Rng) -> String {
    let pattern = ["(a:A)-[e:R]->(b)", "(a)-[e]->(b:A)", "(a:A)-[e]->()-[]->(b)", "(a:A)-[e:R]-(b:B)"];
    let pattern = pattern[rng.random_range(0..pattern.len())];
    let optional = if rng.random_bool(0.2) { "MATCH (a:A) OPTIONAL " } else { "" };
    let pattern = if optional.is_empty() { pattern.to_string() } else { pattern.replacen("(a:A)", "(a)", 1) };
    let constants = [
        "DATE '2024-01-14'",
        "1",
        "0.25e0",
        "0.5",
        "1.255",
        "DATETIME '2024-01-14T12:00:01'",
        "TIMESTAMP '2024-01-14T13:00:00+01:00'",
        "TIME '12:30:00'",
    ];
    let properties = ["e.p", "e.q", "b.p", "a.q", "a.i", "e.i + 1", "b.p + a.q", "e.p * e.q"];
    let compared: Vec<&str> = constants.into_iter().chain(properties).collect();
    let operator = ["<", "<=", ">", ">=", "=", "<>"][rng.random_range(0..6)];
    let mut one = || compared[rng.random_range(0..compared.len())];
    let condition = match one() {
        constant if constants.contains(&constant) => String::new(),
        _ if !optional.is_empty() => String::new(),
        first if operator == "=" => format!(" WHERE {first} BETWEEN {} AND {}", one(), one()),
        first => format!(" WHERE {first} {operator} {}", one()),
    };
    let start = format!("{optional}MATCH {pattern}{condition} LET x = a.i + b.i");
    if rng.random_bool(0.2) {
        let items: Vec<String> =
            (0..rng.random_range(1..6)).map(|i| format!("{} AS d{i}", key(rng))).collect();
        return format!("{start} RETURN DISTINCT {}", items.join(", "));
    }
    if rng.random_bool(0.3) {
        let order: Vec<String> = (0..rng.random_range(1..3))
            .map(|i| {
                let direction = ["", " DESC", " ASC NULLS FIRST", " DESC NULLS LAST"][rng.random_range(0..4)];
                format!("v{i}{direction}")
            })
            .collect();
        let limit = rng.random_range(0..6);
        return format!(
            "{start} RETURN {} AS v0, {} AS v1, a.i AS i ORDER BY {} LIMIT {limit}",
            number(rng, 1),
            number(rng, 2),
            order.join(", ")
        );
    }
    let keys: Vec<String> = (0..rng.random_range(0..4)).map(|i| format!("{} AS k{i}", key(rng))).collect();
    let values: Vec<String> =
        (0..rng.random_range(1..4)).map(|i| format!("{} AS v{i}", aggregate(rng))).collect();
    let items: Vec<String> = keys.into_iter().chain(values).collect();
    format!("{start} RETURN {}", items.join(", "))
}

type Rows = Result<Vec<String>, String>;

fn run(snapshot: &Snapshot, text: &str, rules: Rules, threads: bool) -> Rows {
    let statements = parse(text).unwrap_or_else(|e| panic!("{text}: {}", e.0[0].message));
    let [Statement::Query(query)] = &statements[..] else { panic!("{text} is no query") };
    let none = Parameters::new();
    let prepared = prepare_by(query, text, snapshot, &none, rules).map_err(|e| e.0[0].message.clone())?;
    let spread_after = if threads { std::time::Duration::ZERO } else { std::time::Duration::MAX };
    let limits = Limits { spread_after, ..Limits::default() };
    let mut execution = prepared.run(snapshot.clone(), &none, limits);
    let mut rows = vec![];
    // Which error comes first may differ, that there is one may not.
    while let Some(batch) = execution.next_batch().map_err(|_| "failed".to_string())? {
        for row in 0..batch.len {
            let cells = batch.columns.iter().map(|column| match column.get(row) {
                Value::Float(float) => format!("{float:?} float"),
                value => format!("{value:?}"),
            });
            rows.push(cells.collect::<Vec<_>>().join(" | "));
        }
    }
    Ok(rows)
}

fn plan(snapshot: &Snapshot, text: &str) -> String {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text} is no query") };
    let prepared = prepare_by(&query, text, snapshot, &Parameters::new(), Rules::all()).unwrap();
    render_plan(&prepared.plan(), &[], &TextOptions::default())
}

fn number_of(name: &str, usual: u64) -> u64 {
    std::env::var(name).map_or(usual, |n| n.parse().unwrap())
}

#[test]
fn columns_say_what_rows_say() {
    let (cases, seed) = (number_of("CASES", 3_000), number_of("SEED", 1));
    let (mut failed, mut grouped, mut long) = (0, 0, 0);
    let plain = Rules::all().without(Rule::TypedReads).without(Rule::KnownNodes);
    for case in 0..cases {
        let mut rng = ChaCha8Rng::seed_from_u64(seed.wrapping_mul(1_000_003).wrapping_add(case));
        let graph = graph(&mut rng);
        for _ in 0..4 {
            let text = question(&mut rng);
            let wanted = run(&graph, &text, plain, false);
            for threads in [false, true] {
                let found = run(&graph, &text, Rules::all(), threads);
                assert_eq!(found, wanted, "case {case} of seed {seed}, threads {threads}\n{text}");
            }
            match &wanted {
                Err(_) => failed += 1,
                Ok(rows) => {
                    grouped += usize::from(rows.len() > 1);
                    long += usize::from(rows.len() > 5);
                }
            }
        }
    }
    println!("{cases} graphs, {grouped} answers of several groups, {long} of many, {failed} errors");
    if cases >= 1000 {
        assert!(
            grouped > cases as usize && long > 100 && failed > 100,
            "the questions do not hit what is meant"
        );
    }
}

/// More rows than are kept before the first of them are chosen.
#[test]
fn the_first_of_many_rows_are_the_first() {
    let mut rng = ChaCha8Rng::seed_from_u64(number_of("SEED", 1));
    let plain = Rules::all().without(Rule::TypedReads).without(Rule::KnownNodes).without(Rule::TopParts);
    for round in 0..KINDS {
        let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
        let kinds = [("p", round), ("q", (round + 2) % KINDS), ("t", 4), ("i", 1)];
        let nodes: Vec<Dense> = (0..120)
            .map(|_| {
                let new = NewNode { labels: label_set(["A"]), properties: properties(&mut rng, &kinds) };
                transaction.insert_node(new).unwrap()
            })
            .collect();
        for _ in 0..1_500 {
            let ends = (nodes[rng.random_range(0..120)], nodes[rng.random_range(0..120)]);
            let new = NewEdge {
                labels: label_set(["R"]),
                properties: properties(&mut rng, &kinds),
                directed: true,
                source: ends.0,
                target: ends.1,
            };
            transaction.insert_edge(new).unwrap();
        }
        let graph = folded(&transaction.finish().unwrap().0);
        let mut parts = 0;
        for expression in ["e.i * f.i", "e.p", "f.q", "e.p + 0.25e0", "e.i - c.i"] {
            for (items, order) in [
                ("a.i * 100 + b.i * 10 + c.i AS i, b.t AS t", "v DESC NULLS LAST, i"),
                ("a.i * 100 + b.i * 10 + c.i AS i, b.t AS t", "v, i DESC"),
                ("a.i AS i, b.t AS t", "v DESC"),
                ("a.i AS i, b.t AS t", "v NULLS LAST, e.i"),
                ("a.i AS i, f.q AS t", "v NULLS LAST, t DESC, c.t, i"),
                ("c.p AS i, b.t AS t", "t, v DESC, e.q NULLS FIRST"),
                ("c AS i, e AS t", "f.i DESC, b.q, v"),
            ] {
                let limit = [0, 1, 7, 100, 400][rng.random_range(0..5)];
                let text = format!(
                    "MATCH (a:A)-[e:R]->(b)-[f:R]->(c) RETURN {expression} AS v, {items} ORDER BY {order} LIMIT {limit}"
                );
                let wanted = run(&graph, &text, plain, false);
                for threads in [false, true] {
                    let found = run(&graph, &text, Rules::all(), threads);
                    assert_eq!(found, wanted, "round {round}, threads {threads}\n{text}");
                }
                parts += usize::from(plan(&graph, &text).contains("TopPart"));
            }
        }
        assert!(parts > 14, "{parts} of 35 in parts");
    }
}

/// Comparisons of what whole numbers make of an edge's property are the same as ranges of it as they are one by one: with
/// numbers that overflow, nulls, other types, and elements that were changed since.
#[test]
fn what_is_made_of_a_property_is_compared_as_the_property_is() {
    let mut rng = ChaCha8Rng::seed_from_u64(31);
    let mut some = 0;
    for round in 0..800 {
        let graph = graph(&mut rng);
        let mut made = ["e.i", "e.p", "e.q"][rng.random_range(0..3)].to_string();
        for _ in 0..rng.random_range(0..4) {
            let n = [-3, -2, -1, 0, 1, 2, 3, 7, 1 << 20, 1 << 31, i64::MAX][rng.random_range(0..11)];
            let operator = ["+", "-", "*"][rng.random_range(0..3)];
            made = match rng.random_bool(0.6) {
                true => format!("({made} {operator} {n})"),
                false => format!("({n} {operator} {made})"),
            };
        }
        let known = ["0", "1", "-5", "12", "9223372036854775807", "0.5", "NULL", "DATE '2024-01-09'"];
        let known = known[rng.random_range(0..known.len())];
        let comparison = ["<", "<=", ">", ">=", "=", "<>"][rng.random_range(0..6)];
        let condition = match rng.random_bool(0.5) {
            true => format!("{made} {comparison} {known}"),
            false => format!("{known} {comparison} {made}"),
        };
        let link = ["-[e]->", "-[e:R]->", "<-[e]-"][rng.random_range(0..3)];
        let text = format!("MATCH (a){link}(b) WHERE {condition} RETURN a.i AS a, {made} AS v, b.i AS b");
        let wanted = run(&graph, &text, Rules::all().without(Rule::TypedReads), false);
        let found = run(&graph, &text, Rules::all(), false);
        assert_eq!(found, wanted, "round {round}: {text}");
        some += usize::from(wanted.is_ok_and(|rows| !rows.is_empty()));
    }
    assert!(some > 150, "{some} of 800 had rows");
}
