//! Searches with a prefix, in every mode, direction and measure, against all paths written down one by one: on
//! small graphs full of loops, parallel and undirected edges, equal and zero weights.

#![allow(clippy::unwrap_used)]

mod folded;

use std::collections::BTreeMap;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, prepare_by};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::folded::folded;

/// No walk of more edges is written down.
const LONGEST: usize = 6;

struct Edge {
    from: usize,
    to: usize,
    directed: bool,
    /// In quarters.
    weight: Option<u32>,
    value: Value,
    /// A property that conditions ask for.
    open: bool,
}

struct Graph {
    nodes: usize,
    edges: Vec<Edge>,
    snapshot: Snapshot,
}

/// Weights of one of several kinds, as a value and in quarters.
fn weight(kind: u32, rng: &mut ChaCha8Rng, zeros: bool) -> (Value, Option<u32>) {
    let quarters = rng.random_range(if zeros { 0 } else { 1 }..6u32);
    match (kind, rng.random_range(0..10)) {
        (_, 0) => (Value::Null, None),
        (0, _) => (Value::Int(quarters.into()), Some(quarters * 4)),
        (1, 1..6) => {
            let text = format!("{}.{:02}", quarters / 4, quarters % 4 * 25);
            (Value::Decimal(text.parse().unwrap()), Some(quarters))
        }
        // Whole numbers, of which many are equal, and seldom another.
        (3, 1) => (Value::Float(f64::from(quarters) / 4.0), Some(quarters)),
        (3, _) => (Value::Int(i64::from(quarters % 2) + 1), Some(quarters % 2 * 4 + 4)),
        (2, 1..6) => (Value::Float(f64::from(quarters) / 4.0), Some(quarters)),
        _ => (Value::Int(quarters.into()), Some(quarters * 4)),
    }
}

impl Graph {
    fn random(rng: &mut ChaCha8Rng, zeros: bool) -> Graph {
        let nodes = rng.random_range(1..6);
        let kind = rng.random_range(0..4);
        let edges: Vec<Edge> = (0..rng.random_range(0..9))
            .map(|_| {
                let (value, weight) = weight(kind, rng, zeros);
                Edge {
                    from: rng.random_range(0..nodes),
                    to: rng.random_range(0..nodes),
                    directed: rng.random_bool(0.7),
                    weight,
                    value,
                    open: rng.random_bool(0.8),
                }
            })
            .collect();
        let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
        let ids: Vec<u32> = (0..nodes)
            .map(|x| {
                let properties = vec![("x".into(), Value::Int(x as i64))];
                transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
            })
            .collect();
        let mut snapshot = transaction.finish().unwrap().0;
        let in_base = rng.random_bool(0.5);
        let ids = if in_base { (0..nodes as u32).collect() } else { ids };
        let mut transaction = Transaction::new(snapshot);
        for (i, edge) in edges.iter().enumerate() {
            let properties = vec![
                ("i".into(), Value::Int(i as i64)),
                ("w".into(), edge.value.clone()),
                ("open".into(), Value::Bool(edge.open)),
            ];
            let (source, target) = (ids[edge.from], ids[edge.to]);
            let labels = label_set(["R"]);
            transaction
                .insert_edge(NewEdge { labels, properties, directed: edge.directed, source, target })
                .unwrap();
        }
        snapshot = transaction.finish().unwrap().0;
        if in_base {
            snapshot = folded(&snapshot);
        }
        Graph { nodes, edges, snapshot }
    }

    /// The edges at a node that may be taken in a direction, with their other ends.
    fn at(&self, node: usize, direction: &str) -> Vec<(usize, usize)> {
        let mut found = vec![];
        for (i, edge) in self.edges.iter().enumerate() {
            let (out, into) = match (direction, edge.directed) {
                ("->", true) => (true, false),
                ("<-", true) => (false, true),
                ("-", _) | ("~", false) => (true, true),
                _ => (false, false),
            };
            if out && edge.from == node {
                found.push((i, edge.to));
            }
            if into && edge.to == node && !(out && edge.from == edge.to) {
                found.push((i, edge.from));
            }
        }
        found
    }
}

#[derive(Debug)]
struct Question {
    prefix: &'static str,
    mode: &'static str,
    direction: &'static str,
    min: usize,
    max: Option<usize>,
    weighted: bool,
    open_only: bool,
    start: Option<usize>,
    end: Option<usize>,
}

impl Question {
    fn random(rng: &mut ChaCha8Rng, nodes: usize) -> Question {
        let mode = ["WALK", "TRAIL", "ACYCLIC", "SIMPLE"][rng.random_range(0..4)];
        let weighted = rng.random_bool(0.5);
        Question {
            prefix: ["ANY SHORTEST", "ALL SHORTEST", "SHORTEST 2", "SHORTEST 4", "SHORTEST 2 GROUPS"]
                [rng.random_range(0..5)],
            mode,
            direction: ["->", "<-", "-", "~"][rng.random_range(0..4)],
            min: rng.random_range(0..2),
            max: (!weighted && rng.random_bool(0.5)).then(|| rng.random_range(1..5)),
            weighted,
            open_only: rng.random_bool(0.3),
            start: rng.random_bool(0.8).then(|| rng.random_range(0..nodes)),
            end: rng.random_bool(0.6).then(|| rng.random_range(0..nodes)),
        }
    }

    fn text(&self) -> String {
        let node = |name: &str, x: Option<usize>| match x {
            Some(x) => format!("({name}:A {{x: {x}}})"),
            None => format!("({name}:A)"),
        };
        let condition = if self.open_only { " WHERE e.open" } else { "" };
        let (left, right) = match self.direction {
            "<-" => ("<-", "-"),
            "~" => ("~", "~"),
            "-" => ("-", "-"),
            _ => ("-", "->"),
        };
        let bounds = match (self.min, self.max) {
            (0, None) => "*".to_string(),
            (_, None) => "+".to_string(),
            (min, Some(max)) => format!("{{{min},{max}}}"),
        };
        let by = if self.weighted { " BY e.w" } else { "" };
        format!(
            "MATCH p = {} {}{by} {}{left}[e:R{condition}]{right}{bounds}{} RETURN a.x AS s, b.x AS t, p",
            self.prefix,
            self.mode,
            node("a", self.start),
            node("b", self.end)
        )
    }

    /// How many paths of a pair are wanted, or how many different costs.
    fn quota(&self) -> (Option<usize>, Option<usize>) {
        match self.prefix {
            "ANY SHORTEST" => (Some(1), None),
            "SHORTEST 2" => (Some(2), None),
            "SHORTEST 4" => (Some(4), None),
            "ALL SHORTEST" => (None, Some(1)),
            _ => (None, Some(2)),
        }
    }
}

/// A path as its cost, nodes and edges.
type Path = (u32, Vec<usize>, Vec<usize>);

/// Every path of at most [`LONGEST`] edges between each two nodes, in order of cost; and what a walk that is not
/// written down costs at least.
fn all_paths(graph: &Graph, question: &Question) -> (BTreeMap<(usize, usize), Vec<Path>>, u32) {
    fn go(graph: &Graph, question: &Question, path: &mut Path, all: &mut Vec<Path>) {
        let hops = path.2.len();
        if hops >= question.min {
            all.push(path.clone());
        }
        if hops >= question.max.unwrap_or(LONGEST).min(LONGEST) {
            return;
        }
        let here = path.1[hops];
        for (edge, node) in graph.at(here, question.direction) {
            let Edge { weight, open, .. } = &graph.edges[edge];
            let closed = hops > 0 && path.1[0] == here;
            let free = match question.mode {
                "TRAIL" => !path.2.contains(&edge),
                "ACYCLIC" => !path.1.contains(&node),
                "SIMPLE" => !closed && (!path.1.contains(&node) || path.1[0] == node),
                _ => true,
            };
            let cost = if question.weighted { *weight } else { Some(1) };
            let Some(cost) = cost.filter(|_| free && (*open || !question.open_only)) else { continue };
            path.0 += cost;
            path.1.push(node);
            path.2.push(edge);
            go(graph, question, path, all);
            path.0 -= cost;
            path.1.pop();
            path.2.pop();
        }
    }
    let mut pairs: BTreeMap<(usize, usize), Vec<Path>> = BTreeMap::new();
    for start in (0..graph.nodes).filter(|n| question.start.is_none_or(|s| s == *n)) {
        let mut all = vec![];
        go(graph, question, &mut (0, vec![start], vec![]), &mut all);
        for path in all {
            let end = *path.1.last().unwrap();
            if question.end.is_none_or(|e| e == end) {
                pairs.entry((start, end)).or_default().push(path);
            }
        }
    }
    pairs.values_mut().for_each(|paths| paths.sort());
    // A simple path has no more edges than nodes; the others may go on.
    let written_down = question.max.is_some_and(|max| max <= LONGEST)
        || matches!(question.mode, "ACYCLIC" | "SIMPLE")
        || question.mode == "TRAIL" && graph.edges.len() <= LONGEST;
    let cheapest =
        if question.weighted { graph.edges.iter().filter_map(|e| e.weight).min() } else { Some(1) };
    let beyond = if written_down { u32::MAX } else { cheapest.unwrap_or(0) * (LONGEST as u32 + 1) };
    (pairs, beyond)
}

fn run(graph: &Graph, text: &str, rules: Rules, threads: bool) -> Result<Vec<(usize, usize, Path)>, String> {
    let statements = parse(text).unwrap_or_else(|e| panic!("{text}: {}", e.0[0].message));
    let [Statement::Query(query)] = &statements[..] else { panic!("{text} is no query") };
    let none = Parameters::new();
    let prepared =
        prepare_by(query, text, &graph.snapshot, &none, rules).map_err(|e| e.0[0].message.clone())?;
    let spread_after = if threads { std::time::Duration::ZERO } else { std::time::Duration::MAX };
    let limits = Limits { spread_after, ..Limits::default() };
    let mut execution = prepared.run(graph.snapshot.clone(), &none, limits);
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().map_err(|e| e.message)? {
        for row in 0..batch.len {
            let number = |column: usize| match batch.columns[column].get(row) {
                Value::Int(n) => n as usize,
                other => panic!("{text}: {other}"),
            };
            let Value::Path(path) = batch.columns[2].get(row) else { panic!("{text}: no path") };
            let property = |properties: &[(std::sync::Arc<str>, Value)], name: &str| match properties
                .iter()
                .find(|(known, _)| **known == *name)
            {
                Some((_, Value::Int(n))) => *n as usize,
                other => panic!("{text}: {other:?}"),
            };
            let nodes =
                path.nodes.iter().map(|n| property(&graph.snapshot.node_properties(*n), "x")).collect();
            let edges: Vec<usize> =
                path.edges.iter().map(|e| property(&graph.snapshot.edge_properties(*e), "i")).collect();
            let weighted = text.contains(" BY ");
            let cost = edges.iter().map(|e| if weighted { graph.edges[*e].weight.unwrap() } else { 1 }).sum();
            rows.push((number(0), number(1), (cost, nodes, edges)));
        }
    }
    Ok(rows)
}

/// Asserts that `rows` are what the question asks for; whether the paths written down were enough to tell.
fn check(
    question: &Question, all: &BTreeMap<(usize, usize), Vec<Path>>, beyond: u32,
    rows: Vec<(usize, usize, Path)>,
) -> Result<bool, String> {
    let mut found: BTreeMap<(usize, usize), Vec<Path>> = BTreeMap::new();
    for (start, end, path) in rows {
        found.entry((start, end)).or_default().push(path);
    }
    let mut told = true;
    let pairs: std::collections::BTreeSet<_> = all.keys().chain(found.keys()).copied().collect();
    for pair in pairs {
        let none = vec![];
        let known = all.get(&pair).unwrap_or(&none);
        let mut got = found.get(&pair).cloned().unwrap_or_default();
        got.sort();
        let costs: Vec<u32> = known.iter().map(|path| path.0).collect();
        let wanted = match question.quota() {
            (Some(k), _) => costs.iter().copied().take(k).collect::<Vec<_>>(),
            (_, groups) => {
                let mut different = costs.clone();
                different.dedup();
                different.truncate(groups.unwrap_or(0));
                costs.iter().copied().filter(|c| different.contains(c)).collect()
            }
        };
        let enough = match question.quota() {
            (Some(k), _) => wanted.len() == k,
            (_, groups) => {
                let mut different = wanted.clone();
                different.dedup();
                Some(different.len()) == groups
            }
        };
        let least_unknown = if enough { wanted.last().copied().unwrap_or(0) } else { u32::MAX - 1 };
        if beyond != u32::MAX && least_unknown >= beyond {
            told = false;
            continue;
        }
        let got_costs: Vec<u32> = got.iter().map(|path| path.0).collect();
        if got_costs != wanted {
            return Err(format!("{pair:?}: costs {got_costs:?}, wanted {wanted:?}"));
        }
        if got.windows(2).any(|two| two[0] == two[1]) {
            return Err(format!("{pair:?}: a path twice in {got:?}"));
        }
        if let Some(path) = got.iter().find(|path| !known.contains(path)) {
            return Err(format!("{pair:?}: {path:?} is none of its paths"));
        }
    }
    Ok(told)
}

fn rule_sets(rng: &mut ChaCha8Rng) -> Vec<Rules> {
    let without = |rules: &[Rule]| rules.iter().fold(Rules::all(), |all, rule| all.without(*rule));
    let of_searches =
        [Rule::GuidedSearch, Rule::BothEnds, Rule::ShortestByWalk, Rule::EndFirst, Rule::RepeatedEdge];
    let some: Vec<Rule> = of_searches.iter().copied().filter(|_| rng.random()).collect();
    vec![
        Rules::all(),
        without(&[Rule::EndFirst, Rule::PatternOrder]),
        without(&[Rule::TypedReads, Rule::BothEnds]),
        without(&some),
        Rules::none(),
    ]
}

#[test]
fn searches_find_what_all_paths_written_down_have() {
    let mut rng = ChaCha8Rng::seed_from_u64(20261129);
    let cases: u32 = std::env::var("CASES").ok().map_or(2500, |n| n.parse().unwrap());
    let (mut told, mut with_rows) = (0, 0);
    for case in 0..cases {
        let mut question = Question::random(&mut rng, 1);
        // Walks over edges of weight zero may have no end.
        let graph = Graph::random(&mut rng, question.mode != "WALK" && question.weighted);
        question.start = question.start.map(|_| rng.random_range(0..graph.nodes));
        question.end = question.end.map(|_| rng.random_range(0..graph.nodes));
        let text = question.text();
        let (all, beyond) = all_paths(&graph, &question);
        for rules in rule_sets(&mut rng) {
            let off: Vec<&str> = rules.off().map(Rule::name).collect();
            let shown = || {
                let edges = graph.edges.iter().enumerate();
                let edges: Vec<String> = edges
                    .map(|(i, e)| {
                        let arrow = if e.directed { "->" } else { "~" };
                        format!("{i}: {}{arrow}{} w {} open {}", e.from, e.to, e.value, e.open)
                    })
                    .collect();
                format!("case {case}\n{text}\n{}\noff {off:?}", edges.join("\n"))
            };
            let rows = run(&graph, &text, rules, rng.random_bool(0.2))
                .unwrap_or_else(|error| panic!("{error}\n{}", shown()));
            with_rows += !rows.is_empty() as u32;
            match check(&question, &all, beyond, rows) {
                Ok(enough) => told += enough as u32,
                Err(wrong) => panic!("{wrong}\n{}", shown()),
            }
        }
    }
    assert!(told > cases * 5 / 2 && with_rows > cases * 2, "{told} told, {with_rows} with rows of {cases}");
}

#[test]
fn a_circle_of_zero_weights_ends_all_cheapest_walks_with_an_error() {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut node = |x: i64| {
        let properties = vec![("x".into(), Value::Int(x))];
        transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap()
    };
    let ids = [node(0), node(1), node(2), node(3)];
    for (i, (from, to, w)) in [(0, 1, 0), (1, 0, 0), (1, 2, 1), (2, 3, 0), (3, 3, 0)].into_iter().enumerate()
    {
        let properties = vec![("i".into(), Value::Int(i as i64)), ("w".into(), Value::Int(w))];
        let (source, target) = (ids[from], ids[to]);
        let labels = label_set(["R"]);
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    }
    let edges = [(0, 1, 0), (1, 0, 0), (1, 2, 1), (2, 3, 0), (3, 3, 0)]
        .map(|(from, to, w)| Edge {
            from,
            to,
            directed: true,
            weight: Some(w * 4),
            value: Value::Int(w.into()),
            open: true,
        })
        .into();
    let graph = Graph { nodes: 4, edges, snapshot: transaction.finish().unwrap().0 };
    let ask = |prefix: &str, mode: &str, rules| {
        let text = format!(
            "MATCH p = {prefix} {mode} BY e.w (a:A {{x: 0}})-[e:R]->*(b:A {{x: 2}}) RETURN a.x AS s, b.x AS t, p"
        );
        run(&graph, &text, rules, false)
    };
    for rules in [Rules::all(), Rules::all().without(Rule::GuidedSearch), Rules::none()] {
        let error = ask("ALL SHORTEST", "WALK", rules).unwrap_err();
        assert!(error.contains("circle"), "{error}");
        // Those asked for by number come to an end, and so do modes that allow no circle.
        let costs = |rows: Result<Vec<(usize, usize, Path)>, String>| -> Vec<u32> {
            rows.unwrap().into_iter().map(|(_, _, path)| path.0).collect()
        };
        assert_eq!(costs(ask("SHORTEST 3", "WALK", rules)), [4, 4, 4]);
        assert_eq!(costs(ask("ALL SHORTEST", "TRAIL", rules)), [4]);
        assert_eq!(costs(ask("ALL SHORTEST", "ACYCLIC", rules)), [4]);
    }
}
