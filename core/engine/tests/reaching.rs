//! Reachability from one node and from many, against a plain search over lists of neighbours: on graphs large
//! enough for the search to pull.

#![allow(clippy::unwrap_used)]

mod folded;

use std::collections::{BTreeMap, BTreeSet};

use graphodrome_engine::{Limits, MemoryPool, Parameters, Rules, TextOptions, prepare_by, render_profile};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::folded::folded;

struct Made {
    snapshot: Snapshot,
    /// By node: where edges lead along their direction, against it, and both ways where they have none.
    out: Vec<Vec<usize>>,
    into: Vec<Vec<usize>>,
    both: Vec<Vec<usize>>,
}

fn graph(rng: &mut ChaCha8Rng) -> Made {
    let nodes = rng.random_range(1_500..4_000usize);
    let mut made = Made {
        snapshot: Snapshot::empty(None).unwrap(),
        out: vec![vec![]; nodes],
        into: vec![vec![]; nodes],
        both: vec![vec![]; nodes],
    };
    let mut transaction = Transaction::new(made.snapshot.clone());
    for x in 0..nodes {
        // All of one table, in which they keep their numbers.
        let labels = label_set(["N"]);
        let properties = vec![("x".into(), Value::Int(x as i64))];
        transaction.insert_node(NewNode { labels, properties }).unwrap();
    }
    let directed = [1.0, 0.8, 0.0][rng.random_range(0..3)];
    let degree = rng.random_range(1..4usize);
    let mut link = |transaction: &mut Transaction, rng: &mut ChaCha8Rng| {
        // The first nodes have most of the edges.
        let end = |rng: &mut ChaCha8Rng| rng.random_range(0..nodes).min(rng.random_range(0..nodes));
        let (a, b, one_way) = (end(rng), end(rng), rng.random_bool(directed));
        let (source, target) = (a as u32, b as u32);
        let edge =
            NewEdge { labels: label_set(["R"]), properties: vec![], directed: one_way, source, target };
        transaction.insert_edge(edge).unwrap();
        if one_way {
            made.out[a].push(b);
            made.into[b].push(a);
        } else {
            made.both[a].push(b);
            made.both[b].push(a);
        }
    };
    for _ in 0..nodes * degree {
        link(&mut transaction, rng);
    }
    let base = folded(&transaction.finish().unwrap().0);
    let mut transaction = Transaction::new(base);
    for _ in 0..[0, 0, 3][rng.random_range(0..3)] {
        link(&mut transaction, rng);
    }
    made.snapshot = transaction.finish().unwrap().0;
    made
}

/// The nodes at the ends of walks of `min` to `max` edges, `min` being 0 or 1.
fn reached(start: usize, (min, max): (usize, usize), next: &dyn Fn(usize) -> Vec<usize>) -> BTreeSet<usize> {
    let mut found = BTreeSet::new();
    if min == 0 {
        found.insert(start);
    }
    let mut level = vec![start];
    for _ in 0..max {
        if level.is_empty() {
            break;
        }
        let mut following = vec![];
        for node in level {
            following.extend(next(node).into_iter().filter(|other| found.insert(*other)));
        }
        level = following;
    }
    found
}

fn run(snapshot: &Snapshot, text: &str, rules: Rules) -> (Vec<Vec<i64>>, String) {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = prepare_by(&query, text, snapshot, &none, rules).unwrap();
    let pool = MemoryPool::new(1 << 40);
    let limits = Limits { pool: Some(pool.clone()), ..Limits::default() };
    let mut execution = prepared.run(snapshot.clone(), &none, limits);
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().unwrap() {
        let int = |value: Value| match value {
            Value::Int(n) => n,
            other => panic!("{text}: {other:?}"),
        };
        rows.extend(
            (0..batch.len).map(|row| batch.columns.iter().map(|c| int(c.get(row))).collect::<Vec<_>>()),
        );
    }
    rows.sort_unstable();
    let profile = render_profile(&execution.profile(), &[], &TextOptions::default());
    drop(execution);
    assert_eq!(pool.held(), 0, "{text}: memory is held after the end");
    (rows, profile)
}

#[test]
fn ends_are_those_of_a_plain_search() {
    let mut rng = ChaCha8Rng::seed_from_u64(20261201);
    let mut pulled = 0;
    for round in 0..60 {
        let made = graph(&mut rng);
        let Made { snapshot, out, into, both } = &made;
        let (arrow, ways): (&str, [bool; 3]) = [
            ("-[:R]->", [true, false, false]),
            ("<-[:R]-", [false, true, false]),
            ("~[:R]~", [false, false, true]),
            ("-[:R]-", [true, true, true]),
            ("~[:R]~>", [true, false, true]),
        ][rng.random_range(0..5)];
        let (quantifier, bounds) =
            [("+", (1, usize::MAX)), ("*", (0, usize::MAX)), ("{1,3}", (1, 3)), ("{0,4}", (0, 4))]
                [rng.random_range(0..4)];
        let next = |node: usize| {
            let lists = [out, into, both].into_iter().zip(ways).filter(|(_, way)| *way);
            lists.flat_map(|(list, _)| list[node].iter().copied()).collect::<Vec<_>>()
        };
        let few = [0, 97, 194, 970];
        let wanted: BTreeMap<usize, BTreeSet<usize>> =
            (0..out.len()).step_by(97).map(|start| (start, reached(start, bounds, &next))).collect();
        let ends = "(a WHERE MOD(a.x, 97) = 0)";
        // Over an edge that goes both ways a start is an end only where there is a ring.
        let text = format!(
            "MATCH {ends}{arrow}{quantifier}(b) WHERE b <> a RETURN a.x AS a, COUNT(DISTINCT b.x) AS n, SUM(DISTINCT b.x) AS s"
        );
        let (rows, profile) = run(snapshot, &text, Rules::all());
        let expected: Vec<Vec<i64>> = wanted
            .iter()
            .map(|(start, ends)| (*start, ends.iter().filter(|end| *end != start).collect::<Vec<_>>()))
            .filter(|(_, ends)| !ends.is_empty())
            .map(|(start, ends)| {
                vec![start as i64, ends.len() as i64, ends.into_iter().sum::<usize>() as i64]
            })
            .collect();
        assert_eq!(rows, expected, "round {round}: {text}\n{profile}");
        // One start, where a level is looked for from the nodes that are left.
        for start in few.into_iter().filter(|start| *start < out.len()) {
            let text = format!(
                "MATCH (a {{x: {start}}}){arrow}{quantifier}(b) WHERE b <> a RETURN COUNT(DISTINCT b) AS n"
            );
            let (rows, profile) = run(snapshot, &text, Rules::all());
            let count = wanted[&start].iter().filter(|end| **end != start).count() as i64;
            assert_eq!(rows, [[count]], "round {round}: {text}\n{profile}");
            let edges: usize = wanted[&start].iter().map(|node| next(*node).len()).sum();
            let looked: u64 = profile_edges(snapshot, &text);
            pulled += ((looked as usize) < edges / 2 && bounds.1 == usize::MAX) as usize;
        }
    }
    assert!(pulled > 5, "{pulled} from the other side");
}

fn profile_edges(snapshot: &Snapshot, text: &str) -> u64 {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = prepare_by(&query, text, snapshot, &none, Rules::all()).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    while execution.next_batch().unwrap().is_some() {}
    execution.profile().walk().iter().map(|(_, o)| o.actual.as_ref().unwrap().counters.edges_looked).sum()
}
