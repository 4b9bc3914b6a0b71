//! Plans kept for the next request: which requests they serve, and when they are made anew.

#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use graphodrome_engine::{Limits, Parameters, PlanCache, Prepared, prepare};
use graphodrome_graph::{Snapshot, Value};
use graphodrome_language::ast::{Query, Statement};
use graphodrome_language::parse;

fn parsed(text: &str) -> Query {
    match parse(text).unwrap().remove(0) {
        Statement::Query(query) => query,
        other => panic!("not a query: {other:?}"),
    }
}

fn changed(snapshot: &Snapshot, text: &str) -> Snapshot {
    let none = Parameters::new();
    let prepared = prepare(&parsed(text), text, snapshot, &none).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    while execution.next_batch().unwrap().is_some() {}
    execution.finish().unwrap().unwrap().0
}

fn rows(prepared: &Prepared, snapshot: &Snapshot, parameters: &Parameters) -> Vec<Value> {
    let mut execution = prepared.run(snapshot.clone(), parameters, Limits::default());
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().unwrap() {
        rows.extend((0..batch.len).map(|row| batch.columns[0].get(row)));
    }
    rows
}

fn given(name: &str, value: i64) -> Parameters {
    Parameters::from([(name.to_string(), Value::Int(value))])
}

fn people() -> Snapshot {
    let empty = Snapshot::empty(None).unwrap();
    changed(
        &empty,
        "INSERT (a:P {n: 1})-[:KNOWS]->(b:P {n: 2})-[:KNOWS]->(c:P {n: 3}), (d:P {n: 4}), (e:P {n: 5})",
    )
}

fn kept(cache: &PlanCache, text: &str, snapshot: &Snapshot, parameters: &Parameters) -> Arc<Prepared> {
    assert!(cache.find(text, snapshot, parameters).is_none());
    cache.prepare(&parsed(text), text, snapshot, parameters, true).unwrap()
}

#[test]
fn one_plan_serves_other_parameters_and_gives_their_rows() {
    let (cache, snapshot) = (PlanCache::default(), people());
    let text = "MATCH (a:P {n: $x})-[:KNOWS]->(b) RETURN b.n AS n";
    let first = kept(&cache, text, &snapshot, &given("x", 1));
    assert_eq!(rows(&first, &snapshot, &given("x", 1)), [Value::Int(2)]);
    let second = cache.find(text, &snapshot, &given("x", 2)).unwrap().prepared;
    assert!(Arc::ptr_eq(&first, &second));
    assert_eq!(rows(&second, &snapshot, &given("x", 2)), [Value::Int(3)]);
    assert!(cache.find(text, &snapshot, &given("y", 2)).is_none(), "x has no value");
}

#[test]
fn a_plan_made_for_a_value_serves_that_value_alone() {
    let (cache, snapshot) = (PlanCache::default(), people());
    let text = "MATCH (a:P) RETURN a.n AS n ORDER BY n LIMIT $k";
    let two = kept(&cache, text, &snapshot, &given("k", 2));
    assert_eq!(rows(&two, &snapshot, &given("k", 2)), [Value::Int(1), Value::Int(2)]);
    let three = kept(&cache, text, &snapshot, &given("k", 3));
    assert_eq!(rows(&three, &snapshot, &given("k", 3)).len(), 3);
    assert!(Arc::ptr_eq(&two, &cache.find(text, &snapshot, &given("k", 2)).unwrap().prepared));
}

#[test]
fn a_plan_sees_later_commits_until_they_change_what_it_was_made_on() {
    let (cache, snapshot) = (PlanCache::default(), people());
    let text = "MATCH (a:P)-[x:KNOWS]->(b)-[y]->(c) RETURN c.n AS n";
    let first = kept(&cache, text, &snapshot, &Parameters::new());
    assert_eq!(rows(&first, &snapshot, &Parameters::new()), [Value::Int(3)]);
    // Elements with label sets that were there already: the plan stays, and sees them.
    let more = changed(&snapshot, "MATCH (c:P {n: 3}), (d:P {n: 4}) INSERT (c)-[:KNOWS]->(d)");
    let same = cache.find(text, &more, &Parameters::new()).unwrap().prepared;
    assert!(Arc::ptr_eq(&first, &same));
    let mut found = rows(&same, &more, &Parameters::new());
    found.sort_by(Value::order);
    assert_eq!(found, [Value::Int(3), Value::Int(4)]);
    // A new label set could be in both steps of a pattern, or in neither: planned anew.
    let labelled = changed(&more, "MATCH (d:P {n: 4}), (e:P {n: 5}) INSERT (d)-[:LIKES]->(e)");
    assert!(cache.find(text, &labelled, &Parameters::new()).is_none());
}

#[test]
fn a_plan_with_a_warning_is_not_kept() {
    let (cache, snapshot) = (PlanCache::default(), people());
    let text = "MATCH (a:Nobody) RETURN a";
    let prepared = kept(&cache, text, &snapshot, &Parameters::new());
    assert_eq!(prepared.warnings.len(), 1);
    assert!(cache.find(text, &snapshot, &Parameters::new()).is_none());
}

#[test]
fn texts_of_one_shape_share_a_plan_from_the_third_on() {
    let (cache, snapshot, none) = (PlanCache::default(), people(), Parameters::new());
    let text = |n: i64| format!("MATCH (a:P {{n: {n}}})-[:KNOWS]->(b) RETURN b.n AS n");
    kept(&cache, &text(7), &snapshot, &none);
    kept(&cache, &text(1), &snapshot, &none);
    // Written otherwise, with another literal: nothing is planned any more.
    let third = cache.find("MATCH (a:P {n:2}) -[:KNOWS]->(b)\nRETURN b.n AS n", &snapshot, &none).unwrap();
    assert_eq!(third.literals.len(), 1);
    let all: Parameters = third.literals.into_iter().collect();
    assert_eq!(rows(&third.prepared, &snapshot, &all), [Value::Int(3)]);
    // A text has another shape with a literal of another type, and its own plan where it had one.
    assert!(cache.find("MATCH (a:P {n: '2'})-[:KNOWS]->(b) RETURN b.n AS n", &snapshot, &none).is_none());
    assert!(cache.find(&text(7), &snapshot, &none).unwrap().literals.is_empty());
}

#[test]
fn columns_named_by_their_text_are_not_shared() {
    let (cache, snapshot, none) = (PlanCache::default(), people(), Parameters::new());
    for n in [1, 2, 3, 4] {
        let text = format!("MATCH (a:P) RETURN a.n = {n}");
        let own = kept(&cache, &text, &snapshot, &none);
        assert_eq!(own.columns.as_ref().unwrap()[0].name, format!("a.n = {n}"));
    }
}
