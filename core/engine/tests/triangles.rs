//! Triangles whose edges are followed both ways: counted and listed by rank, against the same rows made one by one.

#![allow(clippy::unwrap_used)]

mod crowded;
mod folded;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, TextOptions, prepare, prepare_by, render_plan};
use graphodrome_graph::{
    Element, KeyDefinition, NewEdge, NewNode, Schema, Snapshot, Transaction, Value, label_set,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::crowded::changed_a_little;
use crate::folded::folded;

/// A ring of three in one path, in several, or in a MATCH for each edge, where edges may be the same.
fn worded(random: &mut ChaCha8Rng, label: &str, link: &str) -> String {
    match random.random_range(0..6) {
        0 => format!("MATCH (a{label}){link}(b{label}) MATCH (b){link}(c{label}) MATCH (c){link}(a)"),
        1 => format!("MATCH REPEATABLE ELEMENTS (a{label}){link}(b{label}){link}(c{label}){link}(a)"),
        2 => format!("MATCH (a{label}){link}(b{label}){link}(c{label}), (c){link}(a)"),
        _ => format!("MATCH (a{label}){link}(b{label}){link}(c{label}){link}(a)"),
    }
}

/// Triangles whose edges are followed both ways, with conditions that put their nodes in an order or tell them apart: as
/// many as are made.
#[test]
fn triangles_both_ways_are_as_many_as_are_made() {
    let mut random = ChaCha8Rng::seed_from_u64(12);
    let (mut ranked, mut some, mut one_way) = (0, 0, 0);
    for round in 0..600 {
        let snapshot = match round % 3 {
            0 => changed_a_little(&mut random),
            _ => values_of_all_kinds(&mut random),
        };
        let label = ["", ":A", ":B"][random.random_range(0..3)];
        let link =
            ["-[:R]-", "~[:R]~", "<-[:R]->", "-[]-", "-[:R|S]-", "<~[:R]~", "-[:R]->", "<-[:R]-", "-[:S]->"]
                [random.random_range(0..9)];
        let pattern = worded(&mut random, label, link);
        let condition = [
            "",
            " WHERE a.x < b.x AND b.x < c.x",
            " WHERE a.x > b.x AND c.x < b.x",
            " WHERE a.x < b.x AND a.x < c.x AND b.x <> c.x",
            " WHERE a.x < c.x AND b.x < c.x AND a.x <> b.x",
            " WHERE a <> b AND b <> c AND a <> c",
            " WHERE a.x < b.x",
            " WHERE a.x < b.x AND b.x < c.x AND c.x < a.x",
            " WHERE a.x < b.x AND b.x < c.x AND a <> c",
            " WHERE a.x <> b.x AND b.x <> c.x AND a.x <> c.x",
            " WHERE ELEMENT_ID(a) < ELEMENT_ID(b) AND ELEMENT_ID(b) < ELEMENT_ID(c)",
            " WHERE ELEMENT_ID(a) < ELEMENT_ID(b) AND b.x < c.x",
            " WHERE ALL_DIFFERENT(a, b, c)",
            " WHERE ALL_DIFFERENT(c, a) AND ALL_DIFFERENT(b, c, a)",
            " WHERE ALL_DIFFERENT(a, b)",
        ][random.random_range(0..15)];
        let text = format!("{pattern}{condition} RETURN COUNT(*) AS n");
        let is_ranked = plan_text(&snapshot, &text).contains("CountTriangles");
        ranked += is_ranked as usize;
        let is_one_way = ["-[:R]->", "<-[:R]-", "-[:S]->"].contains(&link);
        one_way += (is_ranked && is_one_way && !condition.is_empty()) as usize;
        let by = |rules: Rules| numbers_by(&snapshot, &text, rules);
        let (counted, made) = (by(Rules::all()), by(Rules::all().without(Rule::CountedTriangles)));
        assert_eq!(counted, made, "round {round}: {text}");
        some += counted.is_ok_and(|n| n > 0) as usize;
    }
    assert!(ranked > 200 && some > 150, "{ranked} of 600 were counted by rank, {some} were not zero");
    assert!(one_way > 60, "{one_way} with conditions");
}

/// DISTINCT rows of triangles are those without the rule, whatever is returned of their nodes.
#[test]
fn triangles_are_listed_once_where_rows_are_distinct() {
    let mut random = ChaCha8Rng::seed_from_u64(13);
    let (mut listed, mut some, mut apart) = (0, 0, 0);
    for round in 0..500 {
        let snapshot = match round % 3 {
            0 => changed_a_little(&mut random),
            1 => values_of_all_kinds(&mut random),
            _ => with_key(&mut random),
        };
        let label = ["", ":A", ":A", ":B"][random.random_range(0..4)];
        let link = ["-[:R]-", "~[:R]~", "<-[:R]->", "-[]-"][random.random_range(0..4)];
        let condition = [
            "a.x < b.x AND b.x < c.x",
            "a.x > b.x AND c.x < b.x",
            "a.x < b.x AND a.x < c.x AND b.x <> c.x",
            "a <> b AND b <> c AND a <> c",
            "ELEMENT_ID(a) > ELEMENT_ID(b) AND ELEMENT_ID(b) > ELEMENT_ID(c)",
        ][random.random_range(0..5)];
        let items = [
            "a.x AS a, b.x AS b, c.x AS c",
            "a.x AS k, c.x AS l, b.x AS m ORDER BY k, l, m",
            "a, b, c",
            "a, b.x AS b, c",
            "a.x AS a, b.x AS b",
            "a.x + b.x AS s, c",
            "LABELS(a) AS l, c.x AS c",
        ][random.random_range(0..7)];
        let pattern = worded(&mut random, label, link);
        let text = format!("{pattern} WHERE {condition} RETURN DISTINCT {items}");
        let plan = plan_text(&snapshot, &text);
        listed += plan.contains("ListTriangles") as usize;
        apart += (plan.contains("ListTriangles") && !plan.contains("Distinct")) as usize;
        let by = |rules: Rules| rows_by(&snapshot, &text, rules);
        let found = by(Rules::all());
        assert_eq!(found, by(Rules::all().without(Rule::TrianglesOnce)), "round {round}: {text}\n{plan}");
        some += found.is_ok_and(|rows| !rows.is_empty()) as usize;
    }
    assert!(
        listed > 200 && some > 150 && apart > 60,
        "{listed} listed, {some} not empty, {apart} distinct already"
    );
}

/// A crowded graph whose property is a key of one of its labels.
fn with_key(random: &mut ChaCha8Rng) -> Snapshot {
    let key = KeyDefinition {
        name: "x".into(),
        element: Element::Node,
        label: "A".into(),
        properties: vec!["x".into()],
    };
    let schema = Schema { keys: vec![key.into()], ..Schema::default() };
    let mut transaction = Transaction::new(Snapshot::empty_with(schema).unwrap());
    // In some graphs a key is of another kind, of a node that has edges or of one that has none.
    let odd = [None, None, Some(11), Some(12)][random.random_range(0..4)];
    for x in 0..13 {
        // Of the other label there are two of a value.
        let label = if x % 4 == 0 && odd != Some(x) { "B" } else { "A" };
        let value = if x % 8 == 0 { 100 } else { x };
        let value = if odd == Some(x) { Value::text("odd") } else { Value::Int(value) };
        let properties = vec![("x".into(), value)];
        transaction.insert_node(NewNode { labels: label_set([label]), properties }).unwrap();
    }
    for _ in 0..random.random_range(20..60) {
        let (source, target) = (random.random_range(0..12), random.random_range(0..12));
        let directed = random.random_bool(0.7);
        let edge = NewEdge { labels: label_set(["R"]), properties: vec![], directed, source, target };
        transaction.insert_edge(edge).unwrap();
    }
    transaction.finish().unwrap().0
}

fn rows_by(snapshot: &Snapshot, text: &str, rules: Rules) -> Result<Vec<String>, String> {
    let statements = parse(text).unwrap();
    let [Statement::Query(query)] = &statements[..] else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = prepare_by(query, text, snapshot, &none, rules).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().map_err(|e| e.code.to_string())? {
        for row in 0..batch.len {
            // 2 and 2.0 are one value, whichever stands for both.
            let shown = |value: Value| match value {
                Value::Float(f) if f.fract() == 0.0 => (f as i64).to_string(),
                other => other.literal(),
            };
            rows.push(batch.columns.iter().map(|c| shown(c.get(row))).collect::<Vec<_>>().join(" "));
        }
    }
    rows.sort();
    Ok(rows)
}

/// Values of many kinds among many nodes are put in no order.
#[test]
fn values_of_several_kinds_are_left_to_the_rows() {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    for x in 0..200i64 {
        let value =
            if x % 3 == 0 { Value::text(format!("t{}", x * 37 % 200)) } else { Value::Int(x * 71 % 200) };
        // Texts are beside numbers, but no edge joins the two.
        let node = NewNode { labels: label_set(["A"]), properties: vec![("x".into(), value)] };
        transaction.insert_node(node).unwrap();
    }
    for x in 0..200u32 {
        for step in [3, 6] {
            let (labels, properties) = (label_set(["R"]), vec![]);
            let (source, target) = (x, (x + step) % 198);
            transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
        }
    }
    let (snapshot, _) = transaction.finish().unwrap();
    for end in ["RETURN COUNT(*) AS n", "RETURN DISTINCT a, b, c NEXT RETURN COUNT(*) AS n"] {
        let text = format!("MATCH (a:A)-[:R]-(b:A)-[:R]-(c:A)-[:R]-(a) WHERE a.x < b.x AND b.x < c.x {end}");
        let counted = numbers_by(&snapshot, &text, Rules::all());
        assert!(counted.as_ref().is_ok_and(|n| *n > 100), "{counted:?}");
        assert_eq!(counted, numbers_by(&snapshot, &text, Rules::none()), "{text}");
    }
}

/// A crowded graph whose property is the same for several nodes, missing in some, and of several kinds in some graphs.
fn values_of_all_kinds(random: &mut ChaCha8Rng) -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let kinds = random.random_range(0..4);
    for _ in 0..14 {
        let x = random.random_range(0..9);
        let value = match random.random_range(0..12) {
            0 => Value::Null,
            1 if kinds > 0 => Value::Float(x as f64),
            2 if kinds > 1 => Value::Float(f64::NAN),
            3 if kinds > 2 => Value::text("x"),
            _ => Value::Int(x),
        };
        let labels = label_set([["A", "B"][random.random_range(0..2)]]);
        transaction.insert_node(NewNode { labels, properties: vec![("x".into(), value)] }).unwrap();
    }
    for _ in 0..random.random_range(20..70) {
        transaction
            .insert_edge(NewEdge {
                labels: label_set([["R", "R", "S"][random.random_range(0..3)]]),
                properties: vec![],
                directed: random.random_bool(0.7),
                source: random.random_range(0..14),
                target: random.random_range(0..14),
            })
            .unwrap();
    }
    let (made, _) = transaction.finish().unwrap();
    if random.random_bool(0.5) { folded(&made) } else { made }
}

/// A query's only number with these rules, or the code of its error.
fn numbers_by(snapshot: &Snapshot, text: &str, rules: Rules) -> Result<i64, String> {
    let statements = parse(text).unwrap();
    let [Statement::Query(query)] = &statements[..] else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = prepare_by(query, text, snapshot, &none, rules).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    let batch = execution.next_batch().map_err(|e| e.code.to_string())?.unwrap();
    let Value::Int(n) = batch.columns[0].get(0) else { panic!("{text}") };
    Ok(n)
}

fn plan_text(snapshot: &Snapshot, text: &str) -> String {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    render_plan(
        &prepare(&query, text, snapshot, &Parameters::new()).unwrap().plan(),
        &[],
        &TextOptions::default(),
    )
}
