//! Rows that are merged, counted once a node or filtered by answers that are kept, against the same questions asked
//! the plain way: on graphs with enough edges that it happens, and full of loops, parallel and undirected ones.

#![allow(clippy::unwrap_used)]

mod asked;
mod folded;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, prepare_by};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::asked::{Rows, run_as};
use crate::folded::folded;

fn graph(rng: &mut ChaCha8Rng) -> Snapshot {
    let nodes = rng.random_range(4..12usize);
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    for x in 0..nodes {
        let kind = ["document", "person", "place"][rng.random_range(0..3)];
        let mut properties = vec![("x".into(), Value::Int(x as i64)), ("kind".into(), Value::text(kind))];
        match rng.random_range(0..5) {
            0 => {}
            1 => properties.push(("score".into(), Value::Int(1))),
            _ => properties.push(("score".into(), Value::Float(f64::from(rng.random_range(0..8)) / 4.0))),
        }
        let labels = if rng.random_bool(0.8) { label_set(["A"]) } else { label_set(["A", "B"]) };
        transaction.insert_node(NewNode { labels, properties }).unwrap();
    }
    let add = |transaction: &mut Transaction, rng: &mut ChaCha8Rng, count: usize| {
        for _ in 0..count {
            // Crowded at the first nodes, so that there are loops, and edges beside and against each other.
            let end = |rng: &mut ChaCha8Rng| {
                let all = transaction.snapshot().node_bound();
                rng.random_range(0..all).min(rng.random_range(0..all))
            };
            let (source, target) = (end(rng), end(rng));
            let mut properties = vec![];
            match rng.random_range(0..8) {
                0 => {}
                1 => properties.push(("w".into(), Value::Float(0.1))),
                2 => properties.push(("w".into(), Value::Decimal("0.25".parse().unwrap()))),
                _ => properties.push(("w".into(), Value::Int(rng.random_range(0..5)))),
            }
            let labels = label_set([["R", "S"][rng.random_range(0..4usize) / 3]]);
            let directed = rng.random_bool(0.75);
            transaction.insert_edge(NewEdge { labels, properties, directed, source, target }).unwrap();
        }
    };
    let edges = rng.random_range(20..45usize);
    let later = if rng.random_bool(0.4) { rng.random_range(0..6) } else { 0 };
    let made = transaction.finish().unwrap().0;
    let mut transaction = Transaction::new(folded(&made));
    add(&mut transaction, rng, edges - later);
    let made = transaction.finish().unwrap().0;
    let mut transaction = Transaction::new(folded(&made));
    add(&mut transaction, rng, later);
    transaction.finish().unwrap().0
}

fn question(rng: &mut ChaCha8Rng) -> String {
    let steps = rng.random_range(2..4usize);
    let names = ["a", "b", "c", "d"];
    let pick = |rng: &mut ChaCha8Rng, from: &[&'static str]| from[rng.random_range(0..from.len())];
    let node = |rng: &mut ChaCha8Rng, i: usize| {
        let label = pick(rng, &["", ":A", ":A", ":B"]);
        let inside = pick(
            rng,
            &[
                "",
                "",
                "",
                " {kind: 'person'}",
                " {x: 1}",
                " WHERE NAME.score > 0.5",
                " WHERE NAME.kind <> 'place'",
            ],
        );
        format!("({}{label}{})", names[i], inside.replace("NAME", names[i]))
    };
    let mut text = node(rng, 0);
    let same_direction = rng.random_bool(0.5);
    let one = rng.random_range(0..4);
    for i in 0..steps {
        let direction = if same_direction { one } else { rng.random_range(0..4) };
        let (left, right) = [("-", "->"), ("<-", "-"), ("-", "-"), ("~", "~")][direction];
        let label = pick(rng, &[":R", ":R", ":R|S", ""]);
        if rng.random_bool(0.15) {
            // Written out by the planner.
            text += &format!("{left}[:R]{right}{{{}}}{}", rng.random_range(1..3), node(rng, i + 1));
            continue;
        }
        let inside = pick(rng, &["", "", "", " WHERE NAME.w > 1", " WHERE NAME.w IS NOT NULL"]);
        let name = format!("e{i}");
        text += &format!("{left}[{name}{label}{}]{right}{}", inside.replace("NAME", &name), node(rng, i + 1));
    }
    let mode = pick(rng, &["", "", "REPEATABLE ELEMENTS "]);
    let condition = pick(
        rng,
        &[
            "",
            "",
            "",
            " WHERE a.x <> b.x",
            " WHERE c.kind = 'document'",
            " WHERE b.score < 1.5",
            " WHERE a.x < c.x",
        ],
    );
    let last = names[steps];
    let key =
        pick(rng, &["", "LAST.x AS k, ", "LAST.kind AS k, ", "a.x AS k, ", "b.kind AS k, LAST.x AS l, "]);
    let key = key.replace("LAST", last);
    let aggregates = [
        "COUNT(*) AS n".to_string(),
        format!("COUNT({last}) AS n"),
        "COUNT(b) AS n, COUNT(*) AS m".into(),
        "COUNT(*) AS n, COUNT(DISTINCT a) AS m, COUNT(DISTINCT b) AS o".into(),
        format!("SUM({last}.score) AS n"),
        format!("AVG({last}.score) AS n, COUNT({last}.score) AS m"),
        format!("COUNT(DISTINCT {last}.kind) AS n, MIN({last}.x) AS m"),
        format!("SUM(DISTINCT {last}.score) AS n, COUNT(DISTINCT a) AS m, AVG(DISTINCT b.score) AS o"),
        "MAX(b.score) AS n, COUNT(*) AS m".into(),
        "COUNT(*) AS n, SUM(c.x) AS m, AVG(a.x) AS o".into(),
    ];
    let aggregate = &aggregates[rng.random_range(0..aggregates.len())];
    let aggregate = match text.contains("[e1") && rng.random_bool(0.3) {
        true => "SUM(e1.w) AS n, COUNT(e1) AS m, AVG(e1.w) AS o",
        false => aggregate,
    };
    // What only asks which rows there are, in the ways in which that is written.
    let column =
        pick(rng, &["LAST", "LAST.x", "LAST.kind", "a", "b.kind", "LAST.score"]).replace("LAST", last);
    let more = pick(rng, &["", "", ", a.x AS l", ", c.kind AS l"]);
    let more = if more.contains("c.") && !text.contains("(c") { "" } else { more };
    let whole = format!("MATCH {mode}{text}{condition} RETURN");
    match rng.random_range(0..9) {
        0 | 1 => format!("{whole} DISTINCT {column} AS k{more}"),
        2 => format!("{whole} DISTINCT {column} AS k{more} ORDER BY k NEXT RETURN COUNT(*) AS n"),
        3 if more.is_empty() => format!("{whole} {column} AS k GROUP BY k"),
        3 => format!("{whole} {column} AS k{more} GROUP BY k, l"),
        4 => {
            let operation = pick(rng, &["UNION", "EXCEPT", "INTERSECT"]);
            format!("{whole} {column} AS k {operation} MATCH (a)-[e]->(b)-[f]->(c) RETURN c.x AS k")
        }
        _ => format!("{whole} {key}{aggregate}"),
    }
}

/// Which of two equal numbers is the greatest is free.
fn canonical(value: &Value) -> String {
    match value {
        Value::Float(f) if f.fract() == 0.0 && f.abs() < 1e15 => (*f as i64).to_string(),
        Value::Decimal(d) => d.normalize().to_string(),
        other => other.to_string(),
    }
}

fn run(snapshot: &Snapshot, text: &str, rules: Rules, threads: bool) -> (Rows, String) {
    run_as(canonical, snapshot, text, rules, threads)
}

#[test]
fn merging_counting_and_keeping_answers_changes_no_answer() {
    let mut rng = ChaCha8Rng::seed_from_u64(31);
    let cases: u32 = std::env::var("CASES").ok().map_or(1500, |n| n.parse().unwrap());
    let (mut merged, mut ends, mut full) = (0, 0, 0);
    for case in 0..cases {
        let snapshot = graph(&mut rng);
        let text = question(&mut rng);
        let (plain, _) = run(&snapshot, &text, Rules::none(), false);
        full += plain.as_ref().is_ok_and(|rows| !rows.is_empty()) as u32;
        let only = |rules: &[Rule]| rules.iter().fold(Rules::none(), |all, rule| all.with(*rule));
        let sets = [
            Rules::all(),
            only(&[Rule::MergedRows, Rule::EarlyConditions]),
            only(&[Rule::MergedRows, Rule::MergedEnds, Rule::EarlyConditions]),
            only(&[Rule::MergedRows, Rule::CountedRows, Rule::KnownCounts, Rule::CountOfBound]),
            only(&[Rule::KnownNodes, Rule::EarlyConditions, Rule::FixedRepetition]),
            Rules::all().without(Rule::MergedRows),
            Rules::all().without(Rule::MergedEnds),
            Rules::all().without(Rule::PatternOrder),
        ];
        for rules in sets {
            let (rows, plan) = run(&snapshot, &text, rules, rng.random_bool(0.3));
            merged += plan.contains("MergeRows") as u32;
            ends += plan.contains("MergeEnds") as u32;
            if rows != plain {
                let on: Vec<&str> = Rule::ALL.iter().filter(|r| rules.has(**r)).map(|r| r.name()).collect();
                panic!("case {case}\n{text}\non {on:?}\n{plan}\nplain {plain:?}\nother {rows:?}");
            }
        }
    }
    let often = merged > cases / 8 && ends > cases / 8;
    assert!(often && full > cases / 3, "{merged} merged, {ends} by ends, {full} with rows of {cases}");
}

#[test]
fn a_value_added_so_many_times_is_added_as_often() {
    // Each of the ten ends comes a hundred times: 0.1 so often is what it is, not what rounding makes of it.
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut node = |x: i64| {
        let properties = vec![("x".into(), Value::Int(x)), ("tenth".into(), Value::Float(0.1))];
        transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
    };
    let ids: Vec<u32> = (0..30).map(&mut node).collect();
    for from in 0..10 {
        for (source, target) in [(from, 10 + from), (10 + from, 20 + from % 2)] {
            for _ in 0..10 {
                let edge = NewEdge {
                    labels: label_set(["R"]),
                    properties: vec![],
                    directed: true,
                    source: ids[source],
                    target: ids[target],
                };
                transaction.insert_edge(edge).unwrap();
            }
        }
    }
    let snapshot = folded(&transaction.finish().unwrap().0);
    let text =
        "MATCH (a:A)-[:R]->(b:A)-[:R]->(c:A) RETURN SUM(c.tenth) AS s, AVG(c.tenth) AS m, COUNT(c) AS n";
    let (plain, _) = run(&snapshot, text, Rules::none(), false);
    let (rows, plan) = run(&snapshot, text, Rules::all().without(Rule::PatternOrder), false);
    assert!(plan.contains("MergeEnds"), "{plan}");
    assert_eq!(rows, plain);
    assert_eq!(rows.unwrap(), [["100", "0.1", "1000"]]);
}

#[test]
fn counts_beyond_all_numbers_are_errors_and_do_not_wrap() {
    // Two nodes, a thousand edges each way: 10^21 walks of seven edges.
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut node = |x: i64| {
        let properties = vec![("x".into(), Value::Int(x))];
        transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
    };
    let ids = [node(0), node(1)];
    for i in 0..2_000 {
        let (source, target) = (ids[i % 2], ids[1 - i % 2]);
        let labels = label_set(["R"]);
        transaction
            .insert_edge(NewEdge { labels, properties: vec![], directed: true, source, target })
            .unwrap();
    }
    let snapshot = folded(&transaction.finish().unwrap().0);
    let walks = |hops: usize, returned: &str| {
        let steps = "-[:R]->(:A)".repeat(hops - 1);
        run(
            &snapshot,
            &format!("MATCH REPEATABLE ELEMENTS (a:A {{x: 0}}){steps}-[:R]->(z:A) RETURN {returned}"),
            Rules::all(),
            false,
        )
        .0
    };
    assert_eq!(walks(6, "COUNT(*) AS n").unwrap(), [["1000000000000000000"]]);
    assert_eq!(walks(6, "SUM(z.x + 1) AS n, AVG(z.x) AS m").unwrap(), [["1000000000000000000", "0"]]);
    for returned in ["COUNT(*) AS n", "COUNT(z) AS n", "SUM(z.x + 1) AS n", "AVG(z.x) AS n"] {
        for hops in [7, 8, 9, 14] {
            let out_of_range = walks(hops, returned).is_err();
            // A mean of what can be counted is one, whatever its sum.
            assert!(out_of_range || returned.starts_with("AVG") && hops == 7, "{hops} hops: {returned}");
        }
    }
    assert_eq!(walks(9, "MAX(z.x) AS n, COUNT(DISTINCT z) AS m").unwrap(), [["1", "1"]]);
}

/// A hub with loops and parallel edges: rows that have taken an edge of it begin there again and again.
#[test]
fn rows_that_begin_at_one_node_are_followed_together() {
    let mut rng = ChaCha8Rng::seed_from_u64(77);
    for round in 0..6 {
        let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
        let ids: Vec<u32> = (0..30)
            .map(|x| {
                let properties = vec![("x".into(), Value::Int(x))];
                transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
            })
            .collect();
        for i in 0..70 {
            let (a, b) = match i % 7 {
                0 | 1 => (0, 0),
                2 => (0, rng.random_range(0..30)),
                3 => (rng.random_range(0..30), 0),
                4 => (1, 1),
                _ => (rng.random_range(0..30), rng.random_range(0..6)),
            };
            let properties = vec![("w".into(), Value::Int(rng.random_range(0..3)))];
            let labels = label_set([if i % 5 == 0 { "S" } else { "R" }]);
            let directed = round % 2 == 0 || rng.random_bool(0.6);
            let (source, target) = (ids[a], ids[b]);
            transaction.insert_edge(NewEdge { labels, properties, directed, source, target }).unwrap();
        }
        let snapshot = folded(&transaction.finish().unwrap().0);
        for edge in ["-[:R]->", "-[]->", "<-[:R]-", "-[]-", "~[:R]~>", "-[f:R WHERE f.w > 0]->"] {
            for end in ["(z)", "(z WHERE z.x < 20)"] {
                for returned in
                    ["z.x AS k, COUNT(*) AS n", "DISTINCT z.x AS k", "COUNT(*) AS n, SUM(z.x) AS s"]
                {
                    let first = edge.replace("f:", "e:").replace("f.w", "e.w");
                    let text =
                        format!("MATCH (a {{x: {round}}}){first}(b)-[]->(c){edge}{end} RETURN {returned}");
                    let (plain, _) = run(&snapshot, &text, Rules::none(), false);
                    for rules in [Rules::all(), Rules::all().without(Rule::MergedEnds)] {
                        for threads in [false, true] {
                            let (rows, plan) = run(&snapshot, &text, rules, threads);
                            assert_eq!(rows, plain, "round {round}: {text}\n{plan}");
                        }
                    }
                }
            }
        }
    }
}

/// The last hop looks at the edges of each node once, however many rows begin there.
#[test]
fn no_node_is_followed_twice_in_the_last_hop() {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let ids: Vec<u32> = (0..30)
        .map(|x| {
            let properties = vec![("x".into(), Value::Int(x))];
            transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
        })
        .collect();
    // Forty loops at the hub, and an edge to and from every node.
    let loops = (0..40).map(|_| (0, 0));
    let edges: Vec<(usize, usize)> = loops.chain((1..30).flat_map(|i| [(0, i), (i, 0)])).collect();
    for (source, target) in &edges {
        let (source, target) = (ids[*source], ids[*target]);
        let new = NewEdge { labels: label_set(["R"]), properties: vec![], directed: true, source, target };
        transaction.insert_edge(new).unwrap();
    }
    let snapshot = folded(&transaction.finish().unwrap().0);
    let text = "MATCH (a {x: 0})-[:R]->()-[:R]->()-[:R]->(z) RETURN z.x AS k, COUNT(*) AS n";
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let prepared = prepare_by(&query, text, &snapshot, &Parameters::new(), Rules::all()).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &Parameters::new(), Limits::default());
    while execution.next_batch().unwrap().is_some() {}
    let profile = execution.profile();
    let all = profile.walk();
    let (_, last) = all.iter().find(|(_, o)| o.operator == "MergeEnds").unwrap();
    let looked = last.actual.as_ref().unwrap().counters.edges_looked;
    assert!(looked <= edges.len() as u64, "{looked} of {}", edges.len());
    assert_eq!(run(&snapshot, text, Rules::all(), false).0, run(&snapshot, text, Rules::none(), false).0);
}
