//! Counted rows and edges filtered by columns, against enumerated rows: on graphs with many loops and parallel
//! edges, where an edge could easily count twice.

#![allow(clippy::unwrap_used)]

mod crowded;
mod folded;

use graphodrome_engine::{Limits, Parameters, TextOptions, prepare, render_plan};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::crowded::changed_a_little;
use crate::folded::folded;

struct Graph {
    snapshot: Snapshot,
    /// From, to and weight; null where an edge has none.
    edges: Vec<(i64, i64, Option<i64>)>,
    nodes: i64,
}

/// Nodes numbered by `x`, and edges of one kind; the last `later` edges stay in the overlay.
fn graph(random: &mut ChaCha8Rng, later: usize) -> Graph {
    let nodes = random.random_range(2..7i64);
    let edges: Vec<(i64, i64, Option<i64>)> = (0..random.random_range(1..24))
        .map(|_| {
            let weight = random.random_bool(0.9).then(|| random.random_range(0..6));
            // Crowded at the first nodes.
            let end = |r: &mut ChaCha8Rng| r.random_range(0..nodes).min(r.random_range(0..nodes));
            (end(random), end(random), weight)
        })
        .collect();
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    for x in 0..nodes {
        let properties = vec![("x".into(), Value::Int(x))];
        transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap();
    }
    let first = edges.len().saturating_sub(later);
    let add = |transaction: &mut Transaction, edges: &[(i64, i64, Option<i64>)]| {
        let ids: Vec<u32> = (0..transaction.snapshot().node_bound()).collect();
        let at = |x: i64| *ids.iter().find(|id| transaction_x(transaction.snapshot(), **id) == x).unwrap();
        let ends: Vec<(u32, u32)> = edges.iter().map(|(from, to, _)| (at(*from), at(*to))).collect();
        for ((source, target), (_, _, weight)) in ends.into_iter().zip(edges) {
            let properties = weight.map(|w| ("w".into(), Value::Int(w))).into_iter().collect();
            let labels = label_set(["R"]);
            transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
        }
    };
    add(&mut transaction, &edges[..first]);
    let (made, _) = transaction.finish().unwrap();
    let mut transaction = Transaction::new(folded(&made));
    add(&mut transaction, &edges[first..]);
    Graph { snapshot: transaction.finish().unwrap().0, edges, nodes }
}

fn transaction_x(snapshot: &Snapshot, id: u32) -> i64 {
    match snapshot.read_node(id, &snapshot.node_reader("x")) {
        Value::Int(x) => x,
        other => panic!("x is {other}"),
    }
}

/// The first column of every row.
fn numbers(snapshot: &Snapshot, text: &str, x: i64) -> Vec<i64> {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let parameters = Parameters::from([("x".to_string(), Value::Int(x))]);
    let prepared = prepare(&query, text, snapshot, &parameters).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &parameters, Limits::default());
    let mut found = vec![];
    while let Some(batch) = execution.next_batch().unwrap_or_else(|e| panic!("{text}: {}", e.message)) {
        for row in 0..batch.len {
            match batch.columns[0].get(row) {
                Value::Int(n) => found.push(n),
                other => panic!("{text}: {other}"),
            }
        }
    }
    found
}

/// Ways along edges that each pass, none twice, from `at`; closed ones end where they began.
fn ways(graph: &Graph, passes: &[&dyn Fn(Option<i64>) -> bool], start: Option<i64>, closed: bool) -> i64 {
    fn go(
        graph: &Graph, passes: &[&dyn Fn(Option<i64>) -> bool], first: i64, at: i64, used: &mut Vec<usize>,
        closed: bool,
    ) -> i64 {
        let Some((pass, rest)) = passes.split_first() else { return (!closed || at == first) as i64 };
        let mut count = 0;
        for (i, (from, to, weight)) in graph.edges.iter().enumerate() {
            if *from == at && pass(*weight) && !used.contains(&i) {
                used.push(i);
                count += go(graph, rest, first, *to, used, closed);
                used.pop();
            }
        }
        count
    }
    let starts = start.map_or(0..graph.nodes, |x| x..x + 1);
    starts.map(|x| go(graph, passes, x, x, &mut vec![], closed)).sum()
}

#[test]
fn counted_rings_are_those_of_the_reference() {
    let mut random = ChaCha8Rng::seed_from_u64(7);
    for round in 0..300 {
        let graph = graph(&mut random, if round % 3 == 0 { 3 } else { 0 });
        let any = |_: Option<i64>| true;
        for n in 2..=5usize {
            // The longer the more ways there are.
            if n == 5 && graph.edges.len() > 16 {
                continue;
            }
            let names = ["a", "b", "c", "d", "e"];
            let links: Vec<String> =
                (1..=n).map(|i| format!("-[e{i}:R]->({})", if i < n { names[i] } else { "a" })).collect();
            let passes: Vec<&dyn Fn(Option<i64>) -> bool> = vec![&any; n];
            let whole = format!("MATCH (a:A){} RETURN COUNT(*) AS n", links.concat());
            assert_eq!(
                numbers(&graph.snapshot, &whole, 0),
                [ways(&graph, &passes, None, true)],
                "round {round}: {whole} on {:?}",
                graph.edges
            );
            let through = format!("MATCH (a:A {{x: $x}}){} RETURN COUNT(*) AS n", links.concat());
            let made = format!("MATCH (a:A {{x: $x}}){} RETURN a.x AS x, e1 AS e", links.concat());
            for x in 0..graph.nodes {
                let expected = ways(&graph, &passes, Some(x), true);
                let shown = || format!("round {round}: {through} at {x} on {:?}", graph.edges);
                assert_eq!(numbers(&graph.snapshot, &through, x), [expected], "{}", shown());
                assert_eq!(numbers(&graph.snapshot, &made, x).len() as i64, expected, "{}", shown());
            }
        }
    }
}

#[test]
fn common_neighbours_in_either_direction_are_counted_apart() {
    let mut random = ChaCha8Rng::seed_from_u64(8);
    for round in 0..400 {
        let graph = graph(&mut random, if round % 4 == 0 { 2 } else { 0 });
        // The same direction from both: one edge must not be both of the arms, also where a is b.
        let text = "MATCH (a:A)-[:R]->(b:A), (a)-[:R]->(c:A), (b)-[:R]->(c) RETURN COUNT(*) AS n";
        let mut expected = 0;
        let edges = &graph.edges;
        for (i, (a, b, _)) in edges.iter().enumerate() {
            for (j, (from, c, _)) in edges.iter().enumerate().filter(|(j, _)| *j != i) {
                let third = edges.iter().enumerate().filter(|(k, _)| *k != i && *k != j);
                expected += third.filter(|(_, e)| from == a && e.0 == *b && e.1 == *c).count() as i64;
            }
        }
        assert_eq!(numbers(&graph.snapshot, text, 0), [expected], "round {round} on {edges:?}");
    }
}

#[test]
fn triangles_of_all_directions_and_kinds_are_those_of_the_reference() {
    let mut random = ChaCha8Rng::seed_from_u64(9);
    let mut ranked = 0;
    for round in 0..400 {
        let mut graph = graph(&mut random, if round % 4 == 0 { 2 } else { 0 });
        let second = if round % 2 == 0 { "S" } else { "R" };
        let changed = round % 8 == 1;
        if second == "S" || changed {
            graph = with_more(&mut random, graph, second, changed);
        }
        let kinds: Vec<&str> = (0..3).map(|_| if random.random_bool(0.5) { "R" } else { second }).collect();
        let forward: Vec<bool> = (0..3).map(|_| random.random_bool(0.5)).collect();
        let label = ["A", "B"][random.random_range(0..2)];
        let link = |i: usize| {
            if forward[i] { format!("-[e{i}:{}]->", kinds[i]) } else { format!("<-[e{i}:{}]-", kinds[i]) }
        };
        let pattern = format!("(a:{label}){}(b:{label}){}(c:{label}){}(a)", link(0), link(1), link(2));
        let counted = format!("MATCH {pattern} RETURN COUNT(*) AS n");
        let count = numbers(&graph.snapshot, &counted, 0);
        ranked += plan_text(&graph.snapshot, &counted).contains("CountTriangles") as usize;
        // Read one by one.
        let made = numbers(&graph.snapshot, &format!("MATCH {pattern} RETURN a.x AS x, e0, e1, e2"), 0).len();
        assert_eq!(count, [made as i64], "round {round}: {pattern} on {:?}", graph.edges);
        // Edges of the first kind alone can be told from the list.
        if kinds == ["R"; 3] && label == "A" {
            let mut expected = 0;
            let edges = &graph.edges;
            let ends = |i: usize, edge: usize| {
                let (from, to, _) = edges[edge];
                if forward[i] { (from, to) } else { (to, from) }
            };
            for one in 0..edges.len() {
                for two in (0..edges.len()).filter(|two| *two != one && ends(0, one).1 == ends(1, *two).0) {
                    let closes = |three: &usize| {
                        ![one, two].contains(three) && ends(2, *three) == (ends(1, two).1, ends(0, one).0)
                    };
                    expected += (0..edges.len()).filter(closes).count() as i64;
                }
            }
            assert_eq!(count, [expected], "round {round}: {pattern} on {edges:?}");
        }
    }
    assert!(ranked > 200, "{ranked} of 400 were counted by rank");
}

#[test]
fn triangles_are_counted_by_rank_also_where_a_little_has_changed() {
    let mut random = ChaCha8Rng::seed_from_u64(21);
    let (mut ranked, mut found) = (0, 0);
    for round in 0..300 {
        let snapshot = changed_a_little(&mut random);
        let link = |random: &mut ChaCha8Rng, i: usize| match random.random_range(0..4) {
            0 => format!("<-[e{i}:R]-"),
            1 => format!("~[e{i}:R]~"),
            2 => format!("-[e{i}:R]-"),
            _ => format!("-[e{i}:R]->"),
        };
        let links = [0, 1, 2].map(|i| link(&mut random, i));
        let label = ["", ":A"][random.random_range(0..2)];
        let pattern = format!("(a{label}){}(b{label}){}(c{label}){}(a)", links[0], links[1], links[2]);
        let counted = format!("MATCH {pattern} RETURN COUNT(*) AS n");
        let count = numbers(&snapshot, &counted, 0);
        let made = numbers(&snapshot, &format!("MATCH {pattern} RETURN 1 AS one, e0, e1, e2"), 0).len();
        assert_eq!(count, [made as i64], "round {round}: {pattern}");
        let few = snapshot.nodes_with_other_edges().len() * 16 <= snapshot.node_bound() as usize;
        ranked += (few && plan_text(&snapshot, &counted).contains("CountTriangles")) as usize;
        found += (made > 0) as usize;
    }
    assert!(ranked > 40 && found > 150, "{ranked} of 300 were counted by rank, {found} have rings");
}

/// The graph with edges of another kind, and a second label at some nodes; folded, or as changes.
fn with_more(random: &mut ChaCha8Rng, graph: Graph, kind: &str, changed: bool) -> Graph {
    let mut transaction = Transaction::new(graph.snapshot);
    let bound = transaction.snapshot().node_bound();
    if kind != "R" {
        for _ in 0..random.random_range(1..20) {
            let (source, target) = (random.random_range(0..bound), random.random_range(0..bound));
            let labels = label_set([kind]);
            let edge = NewEdge { labels, properties: vec![], directed: true, source, target };
            transaction.insert_edge(edge).unwrap();
        }
    }
    for node in (0..bound).filter(|node| node % 3 != 0) {
        let x = transaction_x(transaction.snapshot(), node);
        let properties = vec![("x".into(), Value::Int(x))];
        transaction.change_node(node, label_set(["A", "B"]), properties).unwrap();
    }
    let (made, _) = transaction.finish().unwrap();
    if changed {
        return Graph { snapshot: made, ..graph };
    }
    Graph { snapshot: folded(&made), ..graph }
}

/// How many bindings of edges to distinct ones of the graph there are, so that these pairs of their ends are
/// the same node. An end is twice the edge's place, and one more where it is the edge's destination.
fn bindings(graph: &Graph, edges: usize, same: &[(usize, usize)], used: &mut Vec<usize>) -> i64 {
    let node = |end: usize, used: &[usize]| {
        let (from, to, _) = graph.edges[used[end / 2]];
        if end.is_multiple_of(2) { from } else { to }
    };
    let joined = |used: &[usize]| {
        let known = same.iter().filter(|(a, b)| a / 2 < used.len() && b / 2 < used.len());
        known.into_iter().all(|(a, b)| node(*a, used) == node(*b, used))
    };
    if used.len() == edges {
        return 1;
    }
    let mut count = 0;
    for edge in 0..graph.edges.len() {
        if !used.contains(&edge) {
            used.push(edge);
            if joined(used) {
                count += bindings(graph, edges, same, used);
            }
            used.pop();
        }
    }
    count
}

#[test]
fn ways_of_three_edges_are_counted_whatever_their_directions() {
    let mut random = ChaCha8Rng::seed_from_u64(12);
    let mut walked = 0;
    for round in 0..160 {
        let graph = graph(&mut random, if round % 4 == 0 { 2 } else { 0 });
        if graph.edges.len() > 14 {
            continue;
        }
        // A ring of four and one of five, each edge this way or that.
        for n in [4usize, 5] {
            let forward: Vec<bool> = (0..n).map(|_| random.random_bool(0.6)).collect();
            let names = ["a", "b", "c", "d", "e"];
            let (mut text, mut same) = ("MATCH (a:A)".to_string(), vec![]);
            for i in 0..n {
                let to = names[(i + 1) % n];
                text.push_str(&if forward[i] { format!("-[:R]->({to})") } else { format!("<-[:R]-({to})") });
                let next = (i + 1) % n;
                let (end, begin) = (2 * i + forward[i] as usize, 2 * next + !forward[next] as usize);
                same.push((end, begin));
            }
            text.push_str(" RETURN COUNT(*) AS n");
            let expected = bindings(&graph, n, &same, &mut vec![]);
            let shown = format!("round {round}: {text} on {:?}", graph.edges);
            assert_eq!(numbers(&graph.snapshot, &text, 0), [expected], "{shown}");
            walked += plan_text(&graph.snapshot, &text).contains("CountWalks") as usize;
            // Counted for each start.
            let each = text.replace("RETURN COUNT(*) AS n", "RETURN COUNT(*) AS n, a.x AS x GROUP BY x");
            let sum: i64 = numbers(&graph.snapshot, &each, 0).iter().sum();
            assert_eq!(sum, expected, "{shown}");
        }
    }
    assert!(walked > 100, "only {walked} of the plans count walks");
}

fn plan_text(snapshot: &Snapshot, text: &str) -> String {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    render_plan(
        &prepare(&query, text, snapshot, &Parameters::new()).unwrap().plan(),
        &[],
        &TextOptions::default(),
    )
}

#[test]
fn ranges_of_edge_properties_leave_what_the_reference_leaves() {
    let mut random = ChaCha8Rng::seed_from_u64(9);
    type Pass = fn(i64, i64) -> bool;
    let comparisons: [(&str, Pass); 10] = [
        ("e.w < $x", |w, x| w < x),
        ("e.w <= $x", |w, x| w <= x),
        ("e.w > $x", |w, x| w > x),
        ("e.w >= $x", |w, x| w >= x),
        ("e.w = $x", |w, x| w == x),
        ("$x < e.w", |w, x| x < w),
        ("$x <= e.w", |w, x| x <= w),
        ("$x > e.w", |w, x| x > w),
        ("$x >= e.w", |w, x| x >= w),
        ("e.w <> $x", |w, x| w != x),
    ];
    for round in 0..100 {
        let graph = graph(&mut random, round % 3);
        for (condition, pass) in comparisons {
            let x = random.random_range(-1..7);
            let passes = |w: Option<i64>| w.is_some_and(|w| pass(w, x));
            let low = |w: Option<i64>| w.is_some_and(|w| w < 5 && pass(w, x));
            for (text, expected) in [
                (
                    format!("MATCH (a:A)-[e:R]->(b:A) WHERE {condition} RETURN COUNT(*) AS n"),
                    ways(&graph, &[&passes], None, false),
                ),
                (
                    format!(
                        "MATCH (b:A)<-[e:R WHERE e.w < 5 AND {condition}]-(a:A)<-[:R]-(c) RETURN COUNT(*) AS n"
                    ),
                    ways(&graph, &[&|_| true, &low], None, false),
                ),
            ] {
                let shown = || format!("round {round}: {text} with x = {x} on {:?}", graph.edges);
                assert_eq!(numbers(&graph.snapshot, &text, x), [expected], "{}", shown());
            }
        }
    }
}

#[test]
fn ranges_at_the_ends_of_the_numbers_take_nothing_or_all() {
    let mut random = ChaCha8Rng::seed_from_u64(10);
    let graph = graph(&mut random, 0);
    let all = graph.edges.iter().filter(|e| e.2.is_some()).count() as i64;
    for (condition, x, expected) in [
        ("e.w < $x", i64::MIN, 0),
        ("e.w > $x", i64::MAX, 0),
        ("$x < e.w", i64::MAX, 0),
        ("e.w >= $x", i64::MIN, all),
        ("e.w <= $x", i64::MAX, all),
    ] {
        let text = format!("MATCH ()-[e:R]->() WHERE {condition} RETURN COUNT(*) AS n");
        assert_eq!(numbers(&graph.snapshot, &text, x), [expected], "{text}");
    }
}

#[test]
fn whether_there_is_an_edge_is_known_from_the_first() {
    let mut random = ChaCha8Rng::seed_from_u64(11);
    let graph = graph(&mut random, 0);
    let text = "MATCH (a:A) WHERE EXISTS { (a)-[:R]->() } RETURN COUNT(*) AS n";
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let prepared = prepare(&query, text, &graph.snapshot, &Parameters::new()).unwrap();
    let mut execution = prepared.run(graph.snapshot.clone(), &Parameters::new(), Limits::default());
    let batch = execution.next_batch().unwrap().unwrap();
    let sources: std::collections::BTreeSet<i64> = graph.edges.iter().map(|(from, ..)| *from).collect();
    assert_eq!(batch.columns[0].get(0), Value::Int(sources.len() as i64));
    let profile = execution.profile();
    let looked: u64 =
        profile.walk().iter().map(|(_, o)| o.actual.as_ref().unwrap().counters.edges_looked).sum();
    assert_eq!(looked, sources.len() as u64, "one edge a node");
    assert!(graph.edges.len() > sources.len(), "the graph is too small to tell");
}
