//! Pattern matching against a slow, obviously correct reference: every assignment of edges is tried.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;

use graphodrome_engine::{Limits, Parameters, prepare};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use proptest::prelude::*;

#[derive(Clone, Debug)]
struct TestEdge {
    from: usize,
    to: usize,
    label: &'static str,
    directed: bool,
    weight: i64,
}

#[derive(Clone, Debug)]
struct TestGraph {
    /// Label and the property x.
    nodes: Vec<(&'static str, i64)>,
    edges: Vec<TestEdge>,
}

fn any_graph() -> impl Strategy<Value = TestGraph> {
    (2usize..6).prop_flat_map(|n| {
        let node = (prop_oneof![Just("A"), Just("B")], 0i64..4);
        let edge = (0..n, 0..n, prop_oneof![Just("R"), Just("S")], prop::bool::weighted(0.75), 0i64..4)
            .prop_map(|(from, to, label, directed, weight)| TestEdge { from, to, label, directed, weight });
        (prop::collection::vec(node, n), prop::collection::vec(edge, 0..8))
            .prop_map(|(nodes, edges)| TestGraph { nodes, edges })
    })
}

/// The graph as a snapshot: all in the base, all in the overlay, or some of each.
fn snapshot(graph: &TestGraph, folded: usize) -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut ids = vec![];
    for (label, x) in &graph.nodes {
        let new = NewNode { labels: label_set([*label]), properties: vec![("x".into(), Value::Int(*x))] };
        ids.push(transaction.insert_node(new).unwrap());
    }
    let add = |transaction: &mut Transaction, ids: &[u32], e: &TestEdge| {
        transaction
            .insert_edge(NewEdge {
                labels: label_set([e.label]),
                properties: vec![("w".into(), Value::Int(e.weight))],
                directed: e.directed,
                source: ids[e.from],
                target: ids[e.to],
            })
            .unwrap();
    };
    for edge in graph.edges.iter().take(folded) {
        add(&mut transaction, &ids, edge);
    }
    let (mut snapshot, _) = transaction.finish().unwrap();
    if folded > 0 {
        let stable: Vec<u64> = ids.iter().map(|id| snapshot.node_id(*id)).collect();
        let base = graphodrome_graph::Base::build(snapshot.fold(), &Default::default()).unwrap();
        let next = snapshot.next_ids();
        snapshot = Snapshot::new(base.into(), Default::default(), snapshot.version);
        snapshot.reserve_ids(next.0, next.1);
        ids = stable.iter().map(|id| snapshot.node_by_id(*id).unwrap()).collect();
    }
    let mut transaction = Transaction::new(snapshot);
    for edge in graph.edges.iter().skip(folded) {
        add(&mut transaction, &ids, edge);
    }
    transaction.finish().unwrap().0
}

#[derive(Clone, Copy, Debug)]
enum Way {
    Out,
    In,
    Any,
    Undirected,
}

impl Way {
    fn write(self, inner: &str) -> String {
        match self {
            Way::Out => format!("-[{inner}]->"),
            Way::In => format!("<-[{inner}]-"),
            Way::Any => format!("-[{inner}]-"),
            Way::Undirected => format!("~[{inner}]~"),
        }
    }

    /// The node at the other end, where the edge may be walked from `at` this way. A loop is one way.
    fn walk(self, e: &TestEdge, at: usize) -> Option<usize> {
        let out = e.directed && e.from == at;
        let into = e.directed && e.to == at;
        let undirected = !e.directed && (e.from == at || e.to == at);
        let other = if e.from == at { e.to } else { e.from };
        match self {
            Way::Out => out.then_some(e.to),
            Way::In => into.then_some(e.from),
            Way::Undirected => undirected.then_some(other),
            Way::Any => (out || into || undirected).then_some(other),
        }
    }
}

/// One part of a pattern: an edge, or one repeated.
#[derive(Clone, Debug)]
struct Part {
    way: Way,
    label: Option<&'static str>,
    /// Edges must have w below this.
    below: Option<i64>,
    repeat: Option<(usize, Option<usize>)>,
    /// Label of the node after it.
    node: Option<&'static str>,
}

fn any_part() -> impl Strategy<Value = Part> {
    (
        prop_oneof![Just(Way::Out), Just(Way::In), Just(Way::Any), Just(Way::Undirected)],
        prop_oneof![Just(None), Just(Some("R")), Just(Some("S"))],
        prop_oneof![3 => Just(None), 1 => (1i64..4).prop_map(Some)],
        prop_oneof![
            2 => Just(None),
            1 => (0usize..3, 0usize..3).prop_map(|(min, more)| Some((min, Some((min + more).max(1))))),
            1 => (0usize..2).prop_map(|min| Some((min, None))),
        ],
        prop_oneof![2 => Just(None), 1 => Just(Some("A")), 1 => Just(Some("B"))],
    )
        .prop_map(|(way, label, below, repeat, node)| Part { way, label, below, repeat, node })
}

fn write_pattern(parts: &[Part], closed: bool) -> String {
    let mut text = "(n0)".to_string();
    for (i, part) in parts.iter().enumerate() {
        let label = part.label.map(|l| format!(":{l}")).unwrap_or_default();
        let below = part.below.map(|b| format!(" WHERE e{i}.w < {b}")).unwrap_or_default();
        text.push_str(&part.way.write(&format!("e{i}{label}{below}")));
        match part.repeat {
            None => {}
            Some((min, Some(max))) => text.push_str(&format!("{{{min},{max}}}")),
            Some((min, None)) => text.push_str(&format!("{{{min},}}")),
        }
        let last = i + 1 == parts.len();
        let name = if last && closed { "n0".to_string() } else { format!("n{}", i + 1) };
        let node = part.node.map(|l| format!(":{l}")).unwrap_or_default();
        text.push_str(&format!("({name}{node})"));
    }
    text
}

/// All matches as (node numbers, edges of each part), no edge twice.
fn reference(graph: &TestGraph, parts: &[Part], closed: bool) -> Vec<(Vec<usize>, Vec<Vec<usize>>)> {
    fn extend(
        graph: &TestGraph, parts: &[Part], closed: bool, nodes: &mut Vec<usize>, edges: &mut Vec<Vec<usize>>,
        at: usize, found: &mut Vec<(Vec<usize>, Vec<Vec<usize>>)>,
    ) {
        let i = nodes.len() - 1;
        let Some(part) = parts.get(i) else {
            found.push((nodes.clone(), edges.clone()));
            return;
        };
        let taken = edges.get(i).map_or(0, Vec::len);
        let (min, max) = part.repeat.map_or((1, Some(1)), |r| r);
        if taken == 0 && edges.len() == i {
            edges.push(vec![]);
        }
        if taken >= min {
            let fits = part.node.is_none_or(|l| graph.nodes[at].0 == l);
            let closes = !(closed && i + 1 == parts.len()) || at == nodes[0];
            if fits && closes {
                nodes.push(at);
                let mut rest = edges.clone();
                extend(graph, parts, closed, nodes, &mut rest, at, found);
                nodes.pop();
            }
        }
        if max.is_none_or(|max| taken < max) {
            for (e, edge) in graph.edges.iter().enumerate() {
                let used = edges.iter().flatten().any(|u| *u == e);
                let fits =
                    part.label.is_none_or(|l| edge.label == l) && part.below.is_none_or(|b| edge.weight < b);
                if let (false, true, Some(next)) = (used, fits, part.way.walk(edge, at)) {
                    edges[i].push(e);
                    extend(graph, parts, closed, nodes, edges, next, found);
                    edges[i].pop();
                }
            }
        }
    }
    let mut found = vec![];
    for start in 0..graph.nodes.len() {
        extend(graph, parts, closed, &mut vec![start], &mut vec![], start, &mut found);
    }
    found
}

fn run(snapshot: &Snapshot, text: &str) -> Vec<Vec<Value>> {
    let Statement::Query(query) = parse(text).unwrap_or_else(|e| panic!("{text}: {e}")).remove(0) else {
        panic!()
    };
    let prepared =
        prepare(&query, text, snapshot, &Parameters::new()).unwrap_or_else(|e| panic!("{text}: {e}"));
    let mut execution = prepared.run(snapshot.clone(), &Parameters::new(), Limits::default());
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().unwrap_or_else(|e| panic!("{text}: {}", e.message)) {
        for row in 0..batch.len {
            rows.push(batch.columns.iter().map(|c| c.get(row)).collect());
        }
    }
    rows
}

/// How often each answer comes.
fn bag(rows: impl IntoIterator<Item = String>) -> BTreeMap<String, usize> {
    let mut bag = BTreeMap::new();
    rows.into_iter().for_each(|row| *bag.entry(row).or_default() += 1);
    bag
}

fn shown(row: &[Value]) -> String {
    row.iter().map(Value::to_string).collect::<Vec<_>>().join(" | ")
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 6000, ..ProptestConfig::default() })]

    #[test]
    fn matches_are_those_of_the_reference(
        graph in any_graph(),
        parts in prop::collection::vec(any_part(), 1..4),
        closed in prop::bool::weighted(0.2),
        folded in 0usize..9,
    ) {
        let snapshot = snapshot(&graph, folded);
        let pattern = write_pattern(&parts, closed);
        let matches = reference(&graph, &parts, closed);
        prop_assume!(matches.len() < 4000);
        let last = if closed { 0 } else { parts.len() };

        // Rows are a multiset; group variables are lists.
        let sums: Vec<String> = (0..parts.len())
            .map(|i| if parts[i].repeat.is_some() { format!("SUM(e{i}.w) AS s{i}") } else { format!("e{i}.w AS s{i}") })
            .collect();
        let text = format!("MATCH {pattern} RETURN n0.x AS a, n{last}.x AS b, {}", sums.join(", "));
        let ours = bag(run(&snapshot, &text).iter().map(|r| shown(r)));
        let theirs = bag(matches.iter().map(|(nodes, edges)| {
            let mut row = vec![Value::Int(graph.nodes[nodes[0]].1), Value::Int(graph.nodes[*nodes.last().unwrap()].1)];
            for list in edges {
                let sum: i64 = list.iter().map(|e| graph.edges[*e].weight).sum();
                row.push(if list.is_empty() { Value::Null } else { Value::Int(sum) });
            }
            shown(&row)
        }));
        prop_assert_eq!(&ours, &theirs, "{}", text);

        // The shortcut for distinct ends must not be told apart from enumerating.
        let distinct = format!("MATCH {pattern} RETURN DISTINCT n0 AS a, n{last} AS b");
        let count = run(&snapshot, &distinct).len();
        let pairs: std::collections::BTreeSet<(usize, usize)> =
            matches.iter().map(|(nodes, _)| (nodes[0], *nodes.last().unwrap())).collect();
        prop_assert_eq!(count, pairs.len(), "{}", distinct);

        // EXISTS sees a match wherever there is one; OPTIONAL keeps every row.
        let exists = format!("MATCH (n0) WHERE EXISTS {{ {pattern} }} RETURN COUNT(*) AS n");
        let starts: std::collections::BTreeSet<usize> = matches.iter().map(|(nodes, _)| nodes[0]).collect();
        prop_assert_eq!(shown(&run(&snapshot, &exists)[0]), starts.len().to_string(), "{}", exists);
        let optional = format!("MATCH (n0) OPTIONAL MATCH {pattern} RETURN COUNT(*) AS n");
        let expected = matches.len() + graph.nodes.len() - starts.len();
        prop_assert_eq!(shown(&run(&snapshot, &optional)[0]), expected.to_string(), "{}", optional);
    }

    #[test]
    fn shortest_paths_are_those_of_the_reference(
        graph in any_graph(),
        part in any_part(),
        folded in 0usize..9,
        bound in any::<bool>(),
    ) {
        let part = Part { repeat: part.repeat.or(Some((1, None))), ..part };
        let snapshot = snapshot(&graph, folded);
        let (min, max) = part.repeat.unwrap();
        let pattern = write_pattern(std::slice::from_ref(&part), false);
        // Walks level by level, edges repeated at will: counts of walks per pair and length.
        let most = 2 * graph.edges.len() + min + 2;
        let mut shortest: BTreeMap<(usize, usize), (usize, u64)> = BTreeMap::new();
        for start in 0..graph.nodes.len() {
            let mut level: BTreeMap<usize, u64> = BTreeMap::from([(start, 1)]);
            for length in 0..=max.unwrap_or(most).min(most) {
                if length >= min {
                    for (end, walks) in &level {
                        if part.node.is_none_or(|l| graph.nodes[*end].0 == l) {
                            shortest.entry((start, *end)).or_insert((length, *walks));
                        }
                    }
                }
                let mut next = BTreeMap::new();
                for (at, walks) in &level {
                    for edge in &graph.edges {
                        let fits = part.label.is_none_or(|l| edge.label == l) && part.below.is_none_or(|b| edge.weight < b);
                        if let (true, Some(to)) = (fits, part.way.walk(edge, *at)) {
                            *next.entry(to).or_insert(0u64) += walks;
                        }
                    }
                }
                level = next;
            }
        }
        let ends = if bound { "MATCH (n0), (n1) " } else { "" };
        let expected = bag(shortest.values().map(|(length, _)| length.to_string()));
        let any = format!("{ends}MATCH p = ANY SHORTEST {pattern} RETURN PATH_LENGTH(p) AS n");
        prop_assert_eq!(bag(run(&snapshot, &any).iter().map(|r| shown(r))), expected, "{}", any);
        let all = format!("{ends}MATCH p = ALL SHORTEST {pattern} RETURN COUNT(*) AS n");
        let total: u64 = shortest.values().map(|(_, walks)| walks).sum();
        prop_assert_eq!(shown(&run(&snapshot, &all)[0]), total.to_string(), "{}", all);
    }
}
