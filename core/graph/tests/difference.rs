//! Differences between two states, against a comparison of all elements: with shared tables, with an additional
//! level, and after a fold.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_graph::{
    Base, Element, ElementDifference, NewNode, Snapshot, Transaction, Value, differences, label_set,
    same_value,
};
use proptest::prelude::*;
use steps::{done, levelled, live, schema, step};

mod steps;

/// Every element as text, by what it is and its id.
fn elements(state: &Snapshot) -> BTreeMap<(bool, u64), String> {
    let (nodes, edges) = live(state);
    let mut all = BTreeMap::new();
    for node in nodes {
        let text = format!("{:?} {:?}", state.node_labels(node), state.node_properties(node));
        all.insert((false, state.node_id(node)), text);
    }
    for edge in edges {
        let (source, target) = state.edge_ends(edge);
        let text = format!(
            "{} {} {} {:?} {:?}",
            state.node_id(source),
            state.node_id(target),
            state.edge_directed(edge),
            state.edge_labels(edge),
            state.edge_properties(edge)
        );
        all.insert((true, state.edge_id(edge)), text);
    }
    all
}

fn expected(before: &Snapshot, after: &Snapshot) -> BTreeMap<(bool, u64), (bool, bool)> {
    let (old, new) = (elements(before), elements(after));
    let ids = old.keys().chain(new.keys());
    let changed = ids.filter(|id| old.get(id) != new.get(id));
    changed.map(|id| (*id, (old.contains_key(id), new.contains_key(id)))).collect()
}

fn found(before: &Snapshot, after: &Snapshot) -> BTreeMap<(bool, u64), (bool, bool)> {
    let mut all = BTreeMap::new();
    let mut visit = |d: ElementDifference| {
        if d.element == Element::Node {
            assert!(d.before.is_none_or(|dense| before.node_id(dense) == d.id));
            assert!(d.after.is_none_or(|dense| after.node_id(dense) == d.id));
        }
        let twice = all.insert((d.element == Element::Edge, d.id), (d.before.is_some(), d.after.is_some()));
        assert_eq!(twice, None, "{d:?} is told twice");
        Ok(())
    };
    differences(before, after, &|| Ok(()), &mut visit).unwrap();
    all
}

/// The same graph with one base.
fn folded(state: &Snapshot) -> Snapshot {
    let base = Base::build(state.fold(), &state.schema()).unwrap();
    let mut next = Snapshot::new(Arc::new(base), state.schema(), state.version);
    let ids = state.next_ids();
    next.reserve_ids(ids.0, ids.1);
    next
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn differences_are_those_of_all_elements_side_by_side(
        first in prop::collection::vec(step(), 0..30),
        second in prop::collection::vec(step(), 0..30),
        third in prop::collection::vec(step(), 0..20),
    ) {
        let start = folded(&done(&Snapshot::empty_with(schema()).unwrap(), &first));
        let middle = done(&start, &second);
        let end = done(&levelled(&middle), &third);
        for (before, after) in [(&start, &middle), (&middle, &end), (&start, &end)] {
            let wanted = expected(before, after);
            prop_assert_eq!(&found(before, after), &wanted);
            prop_assert_eq!(&found(&folded(before), after), &wanted);
            prop_assert_eq!(&found(before, &folded(after)), &wanted);
            // And the other way round.
            let turned: BTreeMap<_, _> = wanted.into_iter().map(|(id, (a, b))| (id, (b, a))).collect();
            prop_assert_eq!(&found(after, before), &turned);
        }
        prop_assert!(found(&end, &folded(&end)).is_empty());
    }
}

#[test]
fn equal_values_of_two_types_are_different() {
    assert!(!same_value(&Value::Int(1), &Value::Float(1.0)));
    assert!(same_value(&Value::Float(f64::NAN), &Value::Float(f64::NAN)));
    let with = |value: Value| {
        let mut t = Transaction::new(Snapshot::empty(None).unwrap());
        t.insert_node(NewNode { labels: label_set(["A"]), properties: vec![("p".into(), value)] }).unwrap();
        t.finish().unwrap().0
    };
    assert_eq!(found(&with(Value::Int(1)), &with(Value::Float(1.0))).len(), 1);
    assert_eq!(found(&with(Value::Int(1)), &with(Value::Int(1))).len(), 0);
    let list = |value| Value::list(vec![value]);
    assert_eq!(found(&with(list(Value::Int(1))), &with(list(Value::Float(1.0)))).len(), 1);
}

#[test]
fn a_comparison_can_be_ended() {
    let mut t = Transaction::new(Snapshot::empty(None).unwrap());
    for _ in 0..10_000 {
        t.insert_node(NewNode { labels: label_set(["A"]), properties: vec![] }).unwrap();
    }
    let many = t.finish().unwrap().0;
    let nothing = Snapshot::empty(None).unwrap();
    let refuse = || Err(graphodrome_graph::GraphError::new(graphodrome_graph::Code::DATA, "enough"));
    let mut seen = 0;
    let mut count = |_| {
        seen += 1;
        Ok(())
    };
    assert!(differences(&nothing, &many, &refuse, &mut count).is_err());
    assert!(seen < 10_000);
}
