//! Sums over paths without the paths, against the same questions asked the plain way: on networks without cycles and on
//! graphs full of them, with parallel and undirected edges, values of one kind, of several and nulls.

#![allow(clippy::unwrap_used)]

mod folded;

use graphodrome_engine::{
    Limits, Parameters, Rule, Rules, TextOptions, prepare_by, render_plan, render_profile,
};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::folded::folded;

fn graph(rng: &mut ChaCha8Rng) -> Snapshot {
    let nodes = rng.random_range(3..9usize);
    let acyclic = rng.random_bool(0.7);
    let kinds = rng.random_range(0..4);
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut ids = vec![];
    for x in 0..nodes {
        let properties = vec![("x".into(), Value::Int(x as i64))];
        let labels = if rng.random_bool(0.7) { label_set(["A"]) } else { label_set(["A", "B"]) };
        ids.push(transaction.insert_node(NewNode { labels, properties }).unwrap());
    }
    for _ in 0..rng.random_range(2..nodes * 2) {
        let (a, b) = (rng.random_range(0..nodes), rng.random_range(0..nodes));
        if acyclic && a == b {
            continue;
        }
        let (source, target) = if acyclic { (ids[a.min(b)], ids[a.max(b)]) } else { (ids[a], ids[b]) };
        let whole = Value::Int(rng.random_range(-2..4));
        let float = Value::Float(f64::from(rng.random_range(0..8)) / 4.0);
        let value = match (kinds, rng.random_range(0..6)) {
            (0, _) => whole,
            (1, _) => float,
            (2, 0) => float,
            (2, _) => whole,
            (_, 0) => Value::Null,
            _ => whole,
        };
        let properties = if value.is_null() { vec![] } else { vec![("w".into(), value)] };
        let labels = label_set([["R", "S"][rng.random_range(0..4usize) / 3]]);
        let directed = rng.random_bool(0.93);
        transaction.insert_edge(NewEdge { labels, properties, directed, source, target }).unwrap();
    }
    let made = transaction.finish().unwrap().0;
    if rng.random() { folded(&made) } else { made }
}

fn question(rng: &mut ChaCha8Rng) -> String {
    let pick = |rng: &mut ChaCha8Rng, all: &[&str]| all[rng.random_range(0..all.len())].to_string();
    let mode = pick(rng, &["", "", "TRAIL ", "ACYCLIC ", "SIMPLE ", "WALK "]);
    let bound = pick(rng, &["+", "*", "{2,}", "{1,2}", "{0,3}", "{2,3}", "{1,3}", "{0,4}", "{2,4}", "{3,5}"]);
    let endless = matches!(&bound[..], "+" | "*" | "{2,}");
    let repeatable = !endless && rng.random_bool(0.3);
    let elements = if repeatable { "REPEATABLE ELEMENTS " } else { "" };
    let mode = if mode == "WALK " && endless { String::new() } else { mode };
    let edge = pick(rng, &["-[e:R]->", "-[e]->", "<-[e:R]-", "-[e:R]-", "~[e]~>", "-[e:R WHERE e.w >= 0]->"]);
    let first = pick(rng, &["(a:A)", "(a:B)", "(a:A {x: 0})"]);
    let last = pick(rng, &["(b)", "(b:B)", "(b:A WHERE b.x > 1)", "(b {x: 2})", "(a)"]);
    let more = pick(rng, &["", "", "", "-[:S]->(c)", "-[f:R]->(c)"]);
    // Edges that the repetition must not take again: one, a list of them, and those of a part with two ways.
    let before =
        pick(rng, &["", "", "", "(z)-[d:R]->", "(z)-[d]->{1,2}", "(z)((:A)-[d]->(:A) | (:B)<-[]-())"]);
    let end = if last == "(a)" { "a" } else { "b" };
    let condition = match rng.random_range(0..5) {
        0 if last != "(a)" => " WHERE a.x <> b.x",
        _ => "",
    };
    let key = match rng.random_range(0..4) {
        0 => String::new(),
        1 => "a.x AS k, ".into(),
        2 => format!("{end}.x AS k, "),
        _ => format!("a.x AS k, {end}.x AS l, "),
    };
    let aggregates = [
        "COUNT(*) AS n".to_string(),
        "SUM(PRODUCT(e.w)) AS n".into(),
        "SUM(PRODUCT(e.w)) AS n, COUNT(*) AS m".into(),
        "SUM(SUM(e.w)) AS n, MIN(SUM(e.w)) AS m, MAX(SUM(e.w)) AS o".into(),
        "MIN(SUM(e.w + a.x)) AS n".into(),
        format!("SUM({end}.x) AS n, COUNT({end}) AS m, AVG({end}.x) AS o, MAX({end}.x) AS q"),
        format!("COUNT(DISTINCT {end}.x) AS n, SUM(SUM(e.w)) AS m"),
        "MAX(PRODUCT(e.w)) AS n, COUNT(*) AS m".into(),
        "SUM(DISTINCT SUM(e.w)) AS n".into(),
        "COUNT(*) AS n, MAX(SIZE(e)) AS m".into(),
        "SUM(SUM(e.w)) * 2 AS n, COUNT(*) + 1 AS m".into(),
    ];
    let aggregate = &aggregates[rng.random_range(0..aggregates.len())];
    let mode = if before.is_empty() { mode } else { String::new() };
    format!(
        "MATCH {elements}{mode}{before}{first}{edge}{bound}{last}{more}{condition} RETURN {key}{aggregate}"
    )
}

type Rows = Result<Vec<Vec<Value>>, String>;

/// Rows in an order of their own, and the plan with what its operators noted.
fn run(snapshot: &Snapshot, text: &str, rules: Rules, threads: bool) -> (Rows, String) {
    let statements = parse(text).unwrap_or_else(|e| panic!("{text}: {}", e.0[0].message));
    let [Statement::Query(query)] = &statements[..] else { panic!("{text} is no query") };
    let none = Parameters::new();
    let prepared = match prepare_by(query, text, snapshot, &none, rules) {
        Ok(prepared) => prepared,
        Err(errors) => return (Err(errors.0[0].message.clone()), String::new()),
    };
    let spread_after = if threads { std::time::Duration::ZERO } else { std::time::Duration::MAX };
    let mut execution = prepared.run(snapshot.clone(), &none, Limits { spread_after, ..Limits::default() });
    let mut rows: Vec<Vec<Value>> = vec![];
    loop {
        match execution.next_batch() {
            Err(error) => {
                return (
                    Err(error.code.to_string()),
                    render_plan(&prepared.plan(), &[], &TextOptions::default()),
                );
            }
            Ok(None) => break,
            Ok(Some(batch)) => {
                rows.extend((0..batch.len).map(|row| batch.columns.iter().map(|c| c.get(row)).collect()));
            }
        }
    }
    rows.sort_by_key(|row| row.iter().map(|v| format!("{v:?}")).collect::<Vec<_>>());
    let plan = render_profile(&execution.profile(), &[], &TextOptions::default());
    (Ok(rows), plan)
}

/// Whole numbers are the same; of floats the last digits may differ.
fn alike(a: &Value, b: &Value) -> bool {
    match (a.as_f64(), b.as_f64()) {
        (Some(x), Some(y)) => {
            let floats = matches!((a, b), (Value::Float(_), Value::Float(_)));
            x == y || floats && (x - y).abs() <= 1e-12 * (1.0 + x.abs())
        }
        _ => a == b,
    }
}

fn same(plain: &Rows, other: &Rows) -> bool {
    match (plain, other) {
        (Ok(a), Ok(b)) => {
            // Ordered by keys first, and of equal keys there is one row.
            a.len() == b.len()
                && a.iter().all(|row| b.iter().any(|o| row.iter().zip(o).all(|(x, y)| alike(x, y))))
        }
        (a, b) => a == b,
    }
}

#[test]
fn folding_paths_changes_no_answer() {
    let cases: u32 = std::env::var("CASES").ok().map_or(4000, |n| n.parse().unwrap());
    let mut rng = ChaCha8Rng::seed_from_u64(77);
    let (mut planned, mut made, mut full) = (0, 0, 0);
    for case in 0..cases {
        let snapshot = graph(&mut rng);
        let text = question(&mut rng);
        let (plain, _) = run(&snapshot, &text, Rules::none(), false);
        full += plain.as_ref().is_ok_and(|rows| !rows.is_empty()) as u32;
        for rules in [
            Rules::all(),
            Rules::none().with(Rule::FoldedPaths),
            Rules::none().with(Rule::FoldedPaths).with(Rule::EarlyConditions),
            Rules::all().without(Rule::PatternOrder),
        ] {
            let (rows, plan) = run(&snapshot, &text, rules, rng.random_bool(0.3));
            planned += plan.contains("FoldPaths") as u32;
            made += plan.contains("paths were made") as u32;
            if !same(&plain, &rows) {
                panic!("case {case}\n{text}\n{plan}\nplain {plain:?}\nother {rows:?}");
            }
        }
    }
    println!("{planned} folded, {made} of them with paths, {full} with rows of {cases}");
    assert!(planned > cases / 2 && made > cases / 100 && made < planned && full > cases / 4);
}

/// Twenty diamonds in a row have a million routes; sixty have more than can be made in the age of the world.
fn diamonds(count: i64) -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut node = |x: i64| {
        let properties = vec![("x".into(), Value::Int(x))];
        transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
    };
    let ids: Vec<u32> = (0..=3 * count).map(&mut node).collect();
    for d in 0..count as usize {
        let (top, bottom) = (ids[3 * d], ids[3 * d + 3]);
        for (source, target) in
            [(top, ids[3 * d + 1]), (top, ids[3 * d + 2]), (ids[3 * d + 1], bottom), (ids[3 * d + 2], bottom)]
        {
            let properties = vec![("share".into(), Value::Float(0.5)), ("m".into(), Value::Int(1))];
            let labels = label_set(["R"]);
            transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
        }
    }
    folded(&transaction.finish().unwrap().0)
}

#[test]
fn more_paths_than_could_be_made_are_counted() {
    let last = 3 * 50;
    let text = format!(
        "MATCH (a:A {{x: 0}})-[e:R]->+(b:A {{x: {last}}}) RETURN COUNT(*) AS n, SUM(PRODUCT(e.share)) AS s, MIN(SUM(e.m)) AS m, MAX(SUM(e.m)) AS o"
    );
    let (rows, plan) = run(&diamonds(50), &text, Rules::all(), false);
    let expected =
        vec![Value::Int(1 << 50), Value::Float(f64::powi(0.5, 50)), Value::Int(100), Value::Int(100)];
    assert_eq!(rows, Ok(vec![expected]), "{plan}");
    assert!(plan.contains("FoldPaths") && !plan.contains("paths were made"), "{plan}");
    // Beyond an INT64 it is said, with a way out.
    let last = 3 * 70;
    let text = format!("MATCH (a:A {{x: 0}})-[e:R]->+(b:A {{x: {last}}}) RETURN COUNT(*) AS n");
    assert_eq!(run(&diamonds(70), &text, Rules::all(), false).0, Err("22003".into()));
}

/// Rings in a row, each joined to the next by one edge: a trail goes round each ring or not.
#[test]
fn rings_in_a_row_are_folded_part_by_part() {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let count = 40i64;
    let mut node = |x: i64| {
        let properties = vec![("x".into(), Value::Int(x))];
        transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
    };
    let ids: Vec<u32> = (0..3 * count).map(&mut node).collect();
    let mut edge = |source: u32, target: u32| {
        let properties = vec![("m".into(), Value::Int(1))];
        let labels = label_set(["R"]);
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    };
    for ring in 0..count as usize {
        let [a, b, c] = [ids[3 * ring], ids[3 * ring + 1], ids[3 * ring + 2]];
        edge(a, b);
        edge(b, c);
        edge(c, a);
        if ring + 1 < count as usize {
            edge(a, ids[3 * ring + 3]);
        }
    }
    let snapshot = folded(&transaction.finish().unwrap().0);
    // To the last ring's first node: through each ring before it straight on or once round, and round the last or not.
    let last = 3 * (count - 1);
    let text = format!(
        "MATCH (a:A {{x: 0}})-[e:R]->+(b:A {{x: {last}}}) RETURN COUNT(*) AS n, MIN(SUM(e.m)) AS m, MAX(SUM(e.m)) AS o"
    );
    let (rows, plan) = run(&snapshot, &text, Rules::all(), false);
    let round = |n: i64| Value::Int(n);
    assert_eq!(
        rows,
        Ok(vec![vec![round(1 << count), round(count - 1), round(count - 1 + 3 * count)]]),
        "{plan}"
    );
    assert!(!plan.contains("paths were made"), "{plan}");
}
