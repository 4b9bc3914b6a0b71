//! A level on a base, with what changes the base's own elements above it, is the same graph as the snapshot
//! it was made of: element by element, by key, by index and along every edge.

#![allow(clippy::unwrap_used)]

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Base, Direction, IndexSearch, LabelExpression, Snapshot, Value};
use proptest::prelude::*;
use rayon::prelude::*;
use steps::{Step, done, levelled, live, schema, step};

mod steps;

/// Everything there is to see of a graph, by the elements' own ids.
fn seen(snapshot: &Snapshot) -> Vec<String> {
    let (nodes, edges) = live(snapshot);
    let mut all = vec![format!("{} nodes, {} edges", snapshot.node_count(), snapshot.edge_count())];
    let any = snapshot.edge_test(None);
    let of_r = snapshot.edge_test(Some(&LabelExpression::Name("R".into())));
    for &id in &nodes {
        let mut around = vec![];
        for direction in [Direction::Out, Direction::In, Direction::Undirected, Direction::Any] {
            let mut found = vec![];
            for test in [&any, &of_r] {
                snapshot.for_each_adjacent(id, direction, test, |edge, other| {
                    found.push((snapshot.edge_id(edge), snapshot.node_id(other)));
                    ControlFlow::Continue(())
                });
            }
            found.sort_unstable();
            around.push(found);
        }
        all.push(format!(
            "n{} {:?} {:?} {around:?}",
            snapshot.node_id(id),
            snapshot.node_labels(id),
            snapshot.node_properties(id)
        ));
        assert_eq!(snapshot.node_by_id(snapshot.node_id(id)), Some(id));
    }
    // All nodes at once see what they see one by one.
    for direction in [Direction::Out, Direction::In, Direction::Undirected, Direction::Any] {
        for test in [&any, &of_r] {
            let (mut together, mut one_by_one, mut looked, mut most) = (vec![], vec![], 0, 0);
            for &id in &nodes {
                let degree = snapshot.for_each_adjacent(id, direction, test, |_, other| {
                    one_by_one.push(other);
                    ControlFlow::Continue(())
                });
                looked += degree;
                most = most.max(degree);
            }
            let (looked_together, (degree, _)) =
                snapshot.gather_adjacent(&nodes, direction, test, &mut together);
            assert_eq!((looked_together, degree), (looked, most));
            together.sort_unstable();
            one_by_one.sort_unstable();
            assert_eq!(together, one_by_one);
        }
    }
    for &id in &edges {
        let (a, b) = snapshot.edge_ends(id);
        let (labels, directed) = (snapshot.edge_labels(id), snapshot.edge_directed(id));
        all.push(format!(
            "e{} {labels:?} {directed} {}-{} {:?}",
            snapshot.edge_id(id),
            snapshot.node_id(a),
            snapshot.node_id(b),
            snapshot.edge_properties(id)
        ));
        let mut between = vec![];
        snapshot.for_each_between((a, b), &labels, directed, |edge| {
            between.push(edge);
            ControlFlow::Continue(())
        });
        assert!(between.contains(&id));
        between.iter().for_each(|&edge| {
            let ends = snapshot.edge_ends(edge);
            assert!(ends == (a, b) || (!directed && ends == (b, a)));
        });
    }
    for key in 0..40 {
        let found = snapshot.seek(0, &[Value::Int(key)]).map(|n| snapshot.node_id(n));
        all.push(format!("key {key}: {found:?}"));
    }
    for rank in 0..8 {
        let search = IndexSearch { equal: vec![Value::Int(rank)], range: None };
        let mut found = vec![];
        snapshot.search(0, &search, |id| found.push(snapshot.node_id(id)));
        found.sort_unstable();
        all.push(format!("rank {rank}: {found:?}"));
    }
    let mut counts = snapshot.node_label_counts();
    counts.extend(snapshot.edge_label_counts());
    counts.sort();
    all.push(format!("{counts:?}"));
    all.sort();
    all
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn a_level_shows_the_same_graph(
        first in prop::collection::vec(step(), 0..60),
        second in prop::collection::vec(step(), 0..40),
        third in prop::collection::vec(step(), 0..40),
    ) {
        let empty = Snapshot::empty_with(schema()).unwrap();
        let base = done(&empty, &first);
        let base = Snapshot::new(Arc::new(Base::build(base.fold(), &schema()).unwrap()), schema(), 1);
        let changed = done(&base, &second);
        let one = levelled(&changed);
        prop_assert_eq!(seen(&one), seen(&changed));
        let again = done(&one, &third);
        let two = levelled(&again);
        prop_assert_eq!(seen(&two), seen(&again));
        // All levels in one base again.
        let folded = Snapshot::new(Arc::new(Base::build(two.fold(), &schema()).unwrap()), schema(), 9);
        prop_assert_eq!(seen(&folded), seen(&two));
        prop_assert!(folded.base.levels() <= 1);
        // Opened again it shows the same, its reverse rows made by whoever asks first.
        let (base, collisions) = Base::reopened(two.fold(), &schema()).unwrap();
        prop_assert!(collisions.is_empty());
        prop_assert_eq!(&base.statistics.degrees, &folded.base.statistics.degrees);
        prop_assert_eq!(seen(&Snapshot::new(Arc::new(base), schema(), 9)), seen(&folded));
    }
}

#[test]
fn threads_of_the_pool_may_all_ask_for_reverse_rows_at_once() {
    let steps: Vec<Step> = (0..400)
        .map(|i| match i % 4 {
            0 => Step::Node { label: (i % 3) as u8, key: i, rank: i },
            _ => {
                let (from, to) = (i as usize * 7, i as usize * 13);
                Step::Edge { from, to, label: (i % 2) as u8, directed: true, weight: i }
            }
        })
        .collect();
    let built = done(&Snapshot::empty_with(schema()).unwrap(), &steps);
    for _ in 0..50 {
        let (base, _) = Base::reopened(built.fold(), &schema()).unwrap();
        let edges: usize = (0..64usize)
            .into_par_iter()
            .map(|i| {
                let table = &base.edges[i % base.edges.len()];
                table.reverse().owners().map(|node| table.reverse().neighbours(node).len()).sum::<usize>()
            })
            .sum();
        assert!(edges > 0);
        base.make_ready();
    }
}
