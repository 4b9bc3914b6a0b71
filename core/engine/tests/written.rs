//! One question in many wordings: patterns split over MATCH clauses, parts repeated or written out, values named by LET or read
//! where they are wanted, edges said to be different or different by themselves. All of them, with every rule and with none,
//! have the rows of the plain one.

#![allow(clippy::unwrap_used)]

mod asked;
mod folded;

use std::sync::Arc;

use graphodrome_engine::{Rule, Rules};
use graphodrome_graph::{GraphType, NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::asked::{Rows, run_as};
use crate::folded::folded;

/// A small graph full of loops and parallel edges; some of it above the base.
fn graph(rng: &mut ChaCha8Rng, graph_type: Option<Arc<GraphType>>) -> Snapshot {
    let nodes = rng.random_range(3..8usize);
    let is_open = graph_type.is_none();
    let mut transaction = Transaction::new(Snapshot::empty(graph_type).unwrap());
    for x in 0..nodes {
        let mut properties = vec![("x".into(), Value::Int(x as i64))];
        if rng.random_bool(0.8) {
            properties.push(("y".into(), Value::Int(rng.random_range(0..3))));
        }
        let labels = if rng.random_bool(0.7) { label_set(["A"]) } else { label_set(["B"]) };
        transaction.insert_node(NewNode { labels, properties }).unwrap();
    }
    let made = transaction.finish().unwrap().0;
    let mut transaction = Transaction::new(folded(&made));
    let count = rng.random_range(4..14);
    let later = if rng.random_bool(0.4) { rng.random_range(0..4) } else { 0 };
    for i in 0..count {
        if i + later == count {
            transaction = Transaction::new(folded(&transaction.finish().unwrap().0));
        }
        let mut end = || rng.random_range(0..nodes).min(rng.random_range(0..nodes)) as u32;
        let (source, target) = (end(), end());
        let mut properties = vec![("w".into(), Value::Int(rng.random_range(0..4)))];
        if rng.random_bool(0.7) {
            properties.push(("v".into(), Value::Int(rng.random_range(0..3))));
        }
        let labels = label_set([["R", "S"][usize::from(rng.random_bool(0.2))]]);
        let directed = !is_open || rng.random_bool(0.8);
        transaction.insert_edge(NewEdge { labels, properties, directed, source, target }).unwrap();
    }
    transaction.finish().unwrap().0
}

/// An edge with the variable as it is written in the middle of a pattern.
fn edge(rng: &mut ChaCha8Rng, name: &str) -> String {
    let (left, right) = [("-", "->"), ("-", "->"), ("<-", "-"), ("-", "-")][rng.random_range(0..4)];
    let label = ["", ":R", ":R", ":R|S"][rng.random_range(0..4)];
    format!("{left}[{name}{label}]{right}")
}

fn pick(rng: &mut ChaCha8Rng, from: &[&'static str]) -> &'static str {
    from[rng.random_range(0..from.len())]
}

/// A chain or ring of nodes `a`, `b`, ... joined by edges `e`, `f`, ...: its pieces, and its wordings.
fn wordings(rng: &mut ChaCha8Rng) -> Vec<String> {
    let nodes = ["a", "b", "c", "d"];
    let edges = ["e", "f", "g"];
    let steps = rng.random_range(2..4usize);
    let is_ring = rng.random_bool(0.3);
    let repeats = !is_ring && rng.random_bool(0.35);
    let same = edge(rng, "");
    let written: Vec<String> = (0..steps)
        .map(|i| if repeats { same.replacen('[', &format!("[{}", edges[i]), 1) } else { edge(rng, edges[i]) })
        .collect();
    let end = |i: usize| if is_ring && i == steps { "a" } else { nodes[i] };
    // What each part asks for, in the same words where it is repeated.
    let near = pick(rng, &["", "", "NODE.x > 0", "NODE.y <> 1", "NODE.x + NODE.y < 6"]);
    let along = pick(rng, &["", "", "EDGE.w > 0", "EDGE.v IS NOT NULL", "EDGE.w <> EDGE.v"]);
    let own: Vec<String> = (0..steps)
        .flat_map(|i| [near.replace("NODE", nodes[i]), along.replace("EDGE", edges[i])])
        .filter(|c| !c.is_empty())
        .collect();
    let more = pick(rng, &["", "", "LAST.y = 1", "a.x <> LAST.x", "a.x < b.x"]).replace("LAST", end(steps));
    let all: Vec<String> = own.iter().cloned().chain((!more.is_empty()).then(|| more.clone())).collect();
    let filter = |all: &[String], word: &str| match all.is_empty() {
        true => String::new(),
        false => format!(" {word} {}", all.join(" AND ")),
    };
    let mut pairs = vec![];
    for i in 0..steps {
        (i + 1..steps).for_each(|j| pairs.push(format!("{} <> {}", edges[j], edges[i])));
    }
    let last = end(steps);
    let values = [
        (format!("{last}.x"), "k"),
        ("a.y".to_string(), "k"),
        ("b.y + a.x".to_string(), "k"),
        ("e.w".to_string(), "k"),
    ];
    let (value, _) = values[rng.random_range(0..values.len())].clone();
    let value = if repeats { format!("{last}.y") } else { value };
    let sums = [
        "COUNT(*) AS n",
        "COUNT(a) AS n",
        "COUNT(LAST.y) AS n, SUM(a.x) AS s",
        "MAX(LAST.x) AS n, COUNT(*) AS m",
    ];
    let edge_sums = [
        "SUM(EDGE.w) AS n, COUNT(*) AS m",
        "AVG(EDGE.w) AS n",
        "COUNT(DISTINCT EDGE) AS n, SUM(EDGE.v) AS s",
    ];
    let sum = match !repeats && rng.random_bool(0.5) {
        true => pick(rng, &edge_sums).replace("EDGE", edges[rng.random_range(0..steps)]),
        false => pick(rng, &sums).replace("LAST", last),
    };
    let grouped = rng.random_bool(0.6);
    let direct = match grouped {
        true => format!("RETURN {value} AS k, {sum}"),
        false => format!("RETURN {sum}"),
    };
    let named = match grouped {
        true => format!("LET k = {value} RETURN k, {sum}"),
        false => format!("LET k = {value} FILTER k IS NULL OR k > -1 RETURN {sum}"),
    };
    let chain =
        |upto: usize| (0..upto).map(|i| format!("{}({})", written[i], end(i + 1))).collect::<String>();
    let whole = format!("(a){}", chain(steps));
    let parts: Vec<String> =
        (0..steps).map(|i| format!("({}){}({})", nodes[i], written[i], end(i + 1))).collect();
    let mut texts = vec![format!("MATCH {whole}{} {direct}", filter(&all, "WHERE"))];
    texts.push(format!("MATCH {whole}{} {named}", filter(&all, "FILTER")));
    texts.push(format!("MATCH {}{} {direct}", parts.join(", "), filter(&all, "WHERE")));
    let apart = [all.clone(), pairs.clone()].concat();
    let clauses: Vec<String> = parts.iter().map(|part| format!("MATCH {part}")).collect();
    texts.push(format!("{}{} {direct}", clauses.join(" "), filter(&apart, "WHERE")));
    let mut backwards = clauses.clone();
    backwards.reverse();
    texts.push(format!("{}{} {named}", backwards.join(" "), filter(&apart, "FILTER")));
    texts.push(format!("MATCH REPEATABLE ELEMENTS {whole}{} {direct}", filter(&apart, "WHERE")));
    let different = format!("ALL_DIFFERENT({})", edges[..steps].join(", "));
    let apart = [all.clone(), vec![different]].concat();
    texts.push(format!("{}{} {direct}", clauses.join(" "), filter(&apart, "WHERE")));
    if repeats {
        let part = same.replacen('[', "[u", 1);
        let inside: Vec<String> = [near.replace("NODE", "m"), along.replace("EDGE", "u")]
            .into_iter()
            .filter(|c| !c.is_empty())
            .collect();
        let more: Vec<String> =
            (!more.is_empty() && !more.contains("b.")).then(|| more.clone()).into_iter().collect();
        let is_same = more.len() == usize::from(all.len() > own.len());
        let reads = |text: &str| {
            nodes[1..steps].iter().chain(&edges[..steps]).any(|n| text.contains(&format!("{n}.")))
        };
        if is_same && !reads(&direct) {
            let repeated = format!("(a)((m){part}(){}){{{steps}}}({last})", filter(&inside, "WHERE"));
            texts.push(format!("MATCH {repeated}{} {direct}", filter(&more, "WHERE")));
            texts.push(format!("MATCH {repeated}{} {named}", filter(&more, "FILTER")));
        }
    }
    texts
}

fn run(snapshot: &Snapshot, text: &str, rules: Rules, threads: bool) -> (Rows, String) {
    run_as(Value::to_string, snapshot, text, rules, threads)
}

fn asked_in_all_wordings(seed: u64, graph_type: Option<Arc<GraphType>>) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let cases: u32 = std::env::var("CASES").ok().map_or(250, |n| n.parse().unwrap());
    let (mut full, mut repeated) = (0, 0);
    for case in 0..cases {
        let snapshot = graph(&mut rng, graph_type.clone());
        let texts = wordings(&mut rng);
        let (plain, _) = run(&snapshot, &texts[0], Rules::none(), false);
        full +=
            plain.as_ref().is_ok_and(|rows| rows.len() > 1 || rows.iter().flatten().any(|c| c != "0")) as u32;
        repeated += texts.iter().any(|text| text.contains("){")) as u32;
        let few = [
            Rule::JoinedPatterns,
            Rule::DifferentEdges,
            Rule::LetInPlace,
            Rule::FixedRepetition,
            Rule::FilterIntoPattern,
            Rule::CountedRows,
            Rule::CountOfBound,
        ];
        let one = few[rng.random_range(0..few.len())];
        let only = |rules: &[Rule]| rules.iter().fold(Rules::none(), |all, rule| all.with(*rule));
        for text in &texts {
            let sets =
                [Rules::none(), Rules::all(), Rules::all().without(one), only(&few), Rules::none().with(one)];
            for rules in sets {
                let (rows, plan) = run(&snapshot, text, rules, rng.random_bool(0.3));
                if rows != plain {
                    let on: Vec<&str> =
                        Rule::ALL.iter().filter(|r| rules.has(**r)).map(|r| r.name()).collect();
                    panic!(
                        "case {case}\n{}\n{text}\non {on:?}\n{plan}\nplain {plain:?}\nother {rows:?}",
                        texts[0]
                    );
                }
            }
        }
    }
    assert!(full > cases / 3 && repeated > cases / 20, "{full} with rows, {repeated} repeated of {cases}");
}

#[test]
fn every_wording_has_the_same_rows() {
    asked_in_all_wordings(18, None);
}

fn small() -> Arc<GraphType> {
    let text = "CREATE GRAPH TYPE small AS { (:A { x INT64 NOT NULL, y INT64 }), (:B { x INT64 NOT NULL, y INT64 }),
        (:A|:B)-[:R { w INT64 NOT NULL, v INT64 }]->(:A|:B), (:A|:B)-[:S { w INT64 NOT NULL, v INT64 }]->(:A|:B) }";
    let Statement::CreateGraphType { definition, .. } = parse(text).unwrap().remove(0) else {
        unreachable!()
    };
    Arc::new(*definition)
}

#[test]
fn every_wording_has_the_same_rows_in_a_closed_graph() {
    asked_in_all_wordings(81, Some(small()));
}

/// The plan's operators, from the bottom up, without what they say.
fn operators(snapshot: &Snapshot, text: &str) -> String {
    run(snapshot, text, Rules::all(), false).1
}

#[test]
fn wordings_of_one_question_have_one_plan() {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    let snapshot = graph(&mut rng, None);
    let pairs = [
        (
            "MATCH (a:A)-[e:R]->(b)-[f:R]->(c) RETURN COUNT(*) AS n",
            "MATCH (a:A)-[e:R]->(b) MATCH (b)-[f:R]->(c) WHERE f <> e RETURN COUNT(*) AS n",
        ),
        (
            "MATCH (a:A)-[e:R]->(b)-[f:R]->(c) WHERE e.w > 1 AND f.w > 1 RETURN c.x AS x, COUNT(*) AS n",
            "MATCH (a:A)-[e:R]->(b) FILTER e.w > 1 MATCH (b)-[f:R]->(c) FILTER f.w > 1 AND ALL_DIFFERENT(e, f) LET x = c.x RETURN x, COUNT(*) AS n",
        ),
    ];
    for (one, other) in pairs {
        let shape = |text: &str| -> Vec<String> {
            let plan = operators(&snapshot, text);
            plan.lines()
                .filter_map(|l| {
                    l.split_whitespace().find(|w| w.starts_with(char::is_uppercase)).map(String::from)
                })
                .collect()
        };
        assert_eq!(shape(one), shape(other), "{one}\n{other}");
    }
    // What may be null is no property of the graph's type: it is counted as it is.
    let counted = |snapshot: &Snapshot, property: &str| {
        let text = format!("MATCH (a)-[e:R]->(b:A) RETURN COUNT({property}) AS n");
        operators(snapshot, &text).contains("counted")
    };
    assert!(!counted(&snapshot, "e.w") && counted(&snapshot, "e"));
    let closed = graph(&mut rng, Some(small()));
    assert!(counted(&closed, "e.w") && !counted(&closed, "e.v"));
}

/// Every node of a small graph leads to the next two of four; two more have no edges. One has an edge of another kind.
fn known() -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    for x in 0..6 {
        let properties = vec![("x".into(), Value::Int(x))];
        transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap();
    }
    let ends = (0..4u32).flat_map(|a| [(a, (a + 1) % 4, "R"), (a, (a + 2) % 4, "R")]);
    for (source, target, label) in ends.chain([(0, 5, "S")]) {
        let (labels, directed) = (label_set([label]), true);
        transaction.insert_edge(NewEdge { labels, properties: vec![], directed, source, target }).unwrap();
    }
    folded(&transaction.finish().unwrap().0)
}

#[test]
fn rows_that_stand_for_none_bring_nothing_to_any_aggregate() {
    let text = "MATCH (a:A)-[:R]->(b) RETURN COUNT(*) AS n, COUNT(DISTINCT a) AS m, MAX(a.x) AS k";
    let text_of_nodes = "MATCH (a:A)-[:R]->(b) RETURN COUNT(*) AS n, COUNT(DISTINCT a) AS m";
    for rules in [Rules::none(), Rules::all()] {
        assert_eq!(run(&known(), text, rules, false).0.unwrap(), [["8", "4", "3"]]);
        assert_eq!(run(&known(), text_of_nodes, rules, false).0.unwrap(), [["8", "4"]]);
    }
}

#[test]
fn a_part_is_written_out_beside_conditions_with_queries_of_their_own() {
    let text = "MATCH (a WHERE EXISTS { (a)-[:S]->() })((m)-[u:R]->(n)){2}(c WHERE c.x > 1) RETURN c.x AS x, COUNT(*) AS n";
    let (plain, _) = run(&known(), text, Rules::none(), false);
    assert_eq!(plain, Ok(vec![vec!["2".to_string(), "1".into()], vec!["3".into(), "2".into()]]));
    assert_eq!(run(&known(), text, Rules::all(), false).0, plain);
}
