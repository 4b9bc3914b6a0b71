//! Measures over subgraphs, beside plain loops over arrays in this file and, where Python has them, beside scipy and igraph
//! (bench/measures_peers.py) over the same edges. `cargo bench --workspace --bench measures`; SCALE is the power of two of the
//! nodes (18; sixteen edges a node), BETWEEN and GRID the sizes of two smaller graphs, ONLY=TEXT takes rows with that text.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;

use graphodrome_algorithms::*;
use graphodrome_bench::graphs::r_mat;
use graphodrome_bench::{milliseconds, setting, shown};
use graphodrome_engine::{Limits, Parameters, prepare, set_external};
use graphodrome_graph::{
    Base, Created, NewEdge, NewNode, Schema, Snapshot, Transaction, ViewDefinition, label_set,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use graphodrome_modules::{Module, ModuleLimits};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

type Ends = Vec<(u32, u32)>;

/// Edges drawn with a skew (R-MAT, 0.57, 0.19, 0.19).
fn skewed(scale: u32, edges: usize) -> Ends {
    let mut random = ChaCha8Rng::seed_from_u64(7);
    (0..edges).map(|_| r_mat(&mut random, scale)).collect()
}

/// A square of so many nodes a side, with the capacities of its edges.
fn grid(side: u32) -> (Ends, Vec<f64>) {
    let mut random = ChaCha8Rng::seed_from_u64(3);
    let mut ends = vec![];
    for y in 0..side {
        for x in 0..side {
            let node = y * side + x;
            ends.extend((x + 1 < side).then_some((node, node + 1)));
            ends.extend((y + 1 < side).then_some((node, node + side)));
        }
    }
    let capacities = ends.iter().map(|_| random.random_range(1..100) as f64).collect();
    (ends, capacities)
}

const GO_ON: Ask<'static> = &|_| Ok(());

/// Compressed sparse rows, as a plain loop has them.
struct Plain {
    starts: Vec<u32>,
    to: Vec<u32>,
}

impl Plain {
    fn of(nodes: usize, arcs: impl Iterator<Item = (u32, u32)> + Clone) -> Plain {
        let mut starts = vec![0u32; nodes + 1];
        arcs.clone().for_each(|(a, _)| starts[a as usize + 1] += 1);
        (0..nodes).for_each(|i| starts[i + 1] += starts[i]);
        let (mut next, mut to) = (starts.clone(), vec![0; starts[nodes] as usize]);
        for (a, b) in arcs {
            to[next[a as usize] as usize] = b;
            next[a as usize] += 1;
        }
        Plain { starts, to }
    }

    fn row(&self, node: usize) -> &[u32] {
        &self.to[self.starts[node] as usize..self.starts[node + 1] as usize]
    }
}

/// One row of the table: ours, the plain loop, peers by name.
struct Row {
    what: &'static str,
    ours: f64,
    plain: Option<f64>,
    peers: BTreeMap<String, f64>,
    note: String,
}

struct Bench {
    only: String,
    rows: Vec<Row>,
    /// What each peer's row took and came to, by its name.
    peers: serde_json::Value,
}

impl Bench {
    fn wants(&self, what: &str) -> bool {
        what.contains(&self.only)
    }

    fn add(&mut self, what: &'static str, ours: f64, plain: Option<f64>, answer: f64, note: String) {
        let mut peers = BTreeMap::new();
        for (peer, found) in self.peers[what].as_object().into_iter().flatten() {
            peers.insert(peer.clone(), found["ms"].as_f64().unwrap());
            if let Some(theirs) = found["answer"].as_f64() {
                let close = (theirs - answer).abs() <= 1e-6 * theirs.abs().max(1.0);
                assert!(close || what == "Louvain", "{what}: {answer}, and {peer} says {theirs}");
            }
        }
        let told = self.peers[what]["igraph"]["answer"].as_f64();
        let note = match (what, told) {
            ("Louvain", Some(theirs)) => format!("modularity {answer:.4}, igraph {theirs:.4}"),
            _ => note,
        };
        println!("{what}: {}", shown(ours));
        self.rows.push(Row { what, ours, plain, peers, note });
    }

    fn table(&self) -> String {
        let names = ["scipy", "igraph"];
        let mut out = String::from(
            "| measure | ours | a plain loop | scipy | igraph | |\n|---|---:|---:|---:|---:|---|\n",
        );
        for row in &self.rows {
            let beside = |ms: Option<f64>| match ms {
                Some(ms) => format!("{} ({:.1} x)", shown(ms), ms / row.ours),
                None => "-".into(),
            };
            let peers: Vec<String> = names.iter().map(|name| beside(row.peers.get(*name).copied())).collect();
            let (ours, plain) = (shown(row.ours), beside(row.plain));
            out += &format!("| {} | {ours} | {plain} | {} | {} |\n", row.what, peers.join(" | "), row.note);
        }
        out
    }
}

fn page_rank_plain(nodes: usize, ends: &Ends) -> (f64, f64) {
    let into = Plain::of(nodes, ends.iter().map(|&(a, b)| (b, a)));
    let mut degree = vec![0u32; nodes];
    ends.iter().for_each(|(a, _)| degree[*a as usize] += 1);
    milliseconds(|| {
        let (mut scores, mut next) = (vec![1.0 / nodes as f64; nodes], vec![0.0; nodes]);
        for _ in 0..20 {
            let lost: f64 = (0..nodes).filter(|n| degree[*n] == 0).map(|n| scores[n]).sum();
            let share: Vec<f64> = (0..nodes).map(|n| scores[n] / f64::from(degree[n].max(1))).collect();
            let base = (0.15 + 0.85 * lost) / nodes as f64;
            for (node, score) in next.iter_mut().enumerate() {
                let sum: f64 = into.row(node).iter().map(|from| share[*from as usize]).sum();
                *score = base + 0.85 * sum;
            }
            std::mem::swap(&mut scores, &mut next);
        }
        scores.into_iter().fold(0.0, f64::max)
    })
}

fn components_plain(nodes: usize, ends: &Ends) -> (f64, f64) {
    milliseconds(|| {
        let mut parent: Vec<u32> = (0..nodes as u32).collect();
        let find = |parent: &mut [u32], mut node: u32| {
            while parent[node as usize] != node {
                parent[node as usize] = parent[parent[node as usize] as usize];
                node = parent[node as usize];
            }
            node
        };
        for &(a, b) in ends {
            let (a, b) = (find(&mut parent, a), find(&mut parent, b));
            parent[a as usize] = b;
        }
        (0..nodes as u32).filter(|n| find(&mut parent, *n) == *n).count() as f64
    })
}

fn triangles_plain(nodes: usize, ends: &Ends) -> (f64, f64) {
    let both = ends.iter().chain(ends.iter()).enumerate();
    let half = ends.len();
    let both = both.map(move |(i, &(a, b))| if i < half { (a, b) } else { (b, a) }).filter(|(a, b)| a != b);
    milliseconds(|| {
        let rows = Plain::of(nodes, both.clone());
        let simple: Vec<Vec<u32>> = (0..nodes)
            .map(|n| {
                let mut row = rows.row(n).to_vec();
                row.sort_unstable();
                row.dedup();
                row
            })
            .collect();
        let rank = |n: u32| (simple[n as usize].len(), n);
        let above: Vec<Vec<u32>> = (0..nodes as u32)
            .map(|n| simple[n as usize].iter().copied().filter(|m| rank(*m) > rank(n)).collect())
            .collect();
        let (mut mark, mut count) = (vec![u32::MAX; nodes], 0u64);
        for n in 0..nodes {
            above[n].iter().for_each(|m| mark[*m as usize] = n as u32);
            for m in &above[n] {
                count += above[*m as usize].iter().filter(|o| mark[**o as usize] == n as u32).count() as u64;
            }
        }
        count as f64
    })
}

fn hops_plain(nodes: usize, ends: &Ends, from: u32) -> (f64, f64) {
    let rows = Plain::of(nodes, ends.iter().copied());
    milliseconds(|| {
        let mut hops = vec![-1i64; nodes];
        let mut order = vec![from];
        hops[from as usize] = 0;
        let mut at = 0;
        while at < order.len() {
            let node = order[at] as usize;
            at += 1;
            for next in rows.row(node) {
                if hops[*next as usize] < 0 {
                    hops[*next as usize] = hops[node] + 1;
                    order.push(*next);
                }
            }
        }
        order.len() as f64
    })
}

/// Peers over the same edges, in a process of their own; nothing where Python has none.
fn peers(folder: &Path, only: &str) -> serde_json::Value {
    let script = graphodrome_tests::root().join("bench/measures_peers.py");
    let mut python = Command::new("python3");
    graphodrome_tests::as_from_a_shell(&mut python);
    let run = python.arg(script).arg(folder).arg(only).output();
    match run {
        Ok(run) if run.status.success() => serde_json::from_slice(&run.stdout).unwrap(),
        Ok(run) => {
            println!("no peers: {}", String::from_utf8_lossy(&run.stderr).lines().last().unwrap_or_default());
            serde_json::json!({})
        }
        Err(error) => {
            println!("no peers: {error}");
            serde_json::json!({})
        }
    }
}

fn write(folder: &Path, name: &str, ends: &Ends) {
    let bytes: Vec<u8> = ends.iter().flat_map(|(a, b)| [a.to_le_bytes(), b.to_le_bytes()].concat()).collect();
    std::fs::write(folder.join(name), bytes).unwrap();
}

/// The node with the most edges, from which most is reached.
fn busiest(nodes: usize, ends: &Ends) -> u32 {
    let mut degree = vec![0u32; nodes];
    ends.iter().for_each(|(a, _)| degree[*a as usize] += 1);
    (0..nodes).max_by_key(|n| degree[*n]).unwrap() as u32
}

/// The same edges as a graph, with a view of all and one of a part.
fn snapshot(nodes: usize, ends: &Ends) -> Arc<Snapshot> {
    let view = |name: &str, nodes: Option<&str>, edges: Option<&str>| {
        let text = |text: Option<&str>| text.map(Arc::from);
        Arc::new(ViewDefinition { name: name.into(), nodes: text(nodes), edges: text(edges), weight: None })
    };
    let views = vec![
        view("whole", None, None),
        view("part", Some("(n:N WHERE n.x < 900)"), Some("-[e:R WHERE e.w < 500]->")),
    ];
    let schema = Schema::new(None, Created { views, ..Created::default() });
    let mut transaction = Transaction::new(Snapshot::empty_with(schema.clone()).unwrap());
    let ids: Vec<u32> = (0..nodes)
        .map(|n| {
            let properties = vec![
                ("x".into(), graphodrome_graph::Value::Int((n * 7919 % 1000) as i64)),
                ("n".into(), graphodrome_graph::Value::Int(n as i64)),
            ];
            transaction.insert_node(NewNode { labels: label_set(["N"]), properties }).unwrap()
        })
        .collect();
    for (i, (a, b)) in ends.iter().enumerate() {
        let properties = vec![("w".into(), graphodrome_graph::Value::Int((i * 104_729 % 1000) as i64))];
        let (source, target) = (ids[*a as usize], ids[*b as usize]);
        let edge = NewEdge { labels: label_set(["R"]), properties, directed: true, source, target };
        transaction.insert_edge(edge).unwrap();
    }
    let made = transaction.finish().unwrap().0;
    let base = Base::build(made.fold(), &schema).unwrap();
    Arc::new(Snapshot::new(Arc::new(base), schema, 1))
}

/// Milliseconds of a query, and its only number.
fn asked(snapshot: &Arc<Snapshot>, text: &str) -> (f64, f64) {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { unreachable!() };
    let prepared = prepare(&query, text, snapshot, &Parameters::new()).unwrap();
    let limits = || Limits { memory_bytes: 16 << 30, ..Limits::default() };
    milliseconds(|| {
        let mut execution = prepared.run(snapshot.clone(), &Parameters::new(), limits());
        let mut answer = f64::NAN;
        while let Some(batch) = execution.next_batch().unwrap() {
            answer = batch.columns[0].get(0).as_f64().unwrap();
        }
        answer
    })
}

fn whole_graph(bench: &mut Bench, nodes: usize, ends: &Ends) {
    let graph = Subgraph::of_ends(nodes, ends, false, None);
    // Rows are made once for all measures.
    for arcs in [Arcs::Out, Arcs::In, Arcs::Both] {
        graph.rows(arcs);
    }
    if bench.wants("PageRank") {
        let options = PageRank { damping: 0.85, iterations: 20, tolerance: 0.0, begin: None };
        let (ours, found) = milliseconds(|| page_rank(&graph, &options, GO_ON).unwrap());
        let answer = found.scores.iter().copied().fold(0.0, f64::max);
        let (plain, theirs) = page_rank_plain(nodes, ends);
        assert!((answer - theirs).abs() < 1e-9, "{answer} {theirs}");
        bench.add("PageRank, 20 iterations", ours, Some(plain), answer, String::new());
    }
    if bench.wants("weak components") {
        let (ours, (_, count)) = milliseconds(|| weak_components(&graph, GO_ON).unwrap());
        let (plain, theirs) = components_plain(nodes, ends);
        assert_eq!(count as f64, theirs);
        bench.add("weak components", ours, Some(plain), count as f64, format!("{count} components"));
    }
    if bench.wants("strong components") {
        let (ours, (_, count)) = milliseconds(|| strong_components(&graph, GO_ON).unwrap());
        bench.add("strong components", ours, None, count as f64, format!("{count} components"));
    }
    if bench.wants("k-cores") {
        let (ours, cores) = milliseconds(|| core_numbers(&graph, GO_ON).unwrap());
        let greatest = cores.iter().copied().max().unwrap();
        bench.add("k-cores", ours, None, f64::from(greatest), format!("up to {greatest}"));
    }
    if bench.wants("triangles") {
        let (ours, found) = milliseconds(|| triangles(&graph, GO_ON).unwrap());
        let count = found.total;
        let (plain, theirs) = triangles_plain(nodes, ends);
        assert_eq!(count as f64, theirs);
        bench.add("triangles", ours, Some(plain), count as f64, format!("{count}"));
    }
    if bench.wants("Louvain") {
        let (ours, found) = milliseconds(|| louvain(&graph, 1.0, 1, GO_ON).unwrap());
        bench.add("Louvain", ours, None, found.modularity, format!("modularity {:.4}", found.modularity));
    }
}

fn smaller_graphs(bench: &mut Bench, small: &Ends, small_nodes: usize, side: u32) {
    if bench.wants("betweenness") {
        let graph = Subgraph::of_ends(small_nodes, small, false, None);
        let (ours, found) = milliseconds(|| betweenness(&graph, None, GO_ON).unwrap());
        let greatest = found.scores.iter().copied().fold(0.0, f64::max);
        let note = format!("{small_nodes} nodes, {} edges", small.len());
        bench.add("betweenness, exact", ours, None, greatest, note);
    }
    if bench.wants("maximum flow") {
        let (ends, capacities) = grid(side);
        let graph = Subgraph::of_ends((side * side) as usize, &ends, false, Some(&capacities));
        let (ours, found) = milliseconds(|| maximum_flow(&graph, 0, side * side - 1, GO_ON).unwrap());
        bench.add("maximum flow", ours, None, found.value, format!("a grid of {side} x {side}"));
    }
}

fn in_the_engine(bench: &mut Bench, nodes: usize, ends: &Ends) {
    if !bench.wants("subgraph") && !bench.wants("breadth-first") {
        return;
    }
    let snapshot = snapshot(nodes, ends);
    for (what, view) in [("subgraph of all", "whole"), ("subgraph of a part", "part")] {
        let text = format!("CALL degree({{view: '{view}'}}) YIELD degree RETURN SUM(degree) AS n");
        let (first, answer) = asked(&snapshot, &text);
        let (second, again) = asked(&snapshot, &text);
        assert_eq!(answer, again);
        let note = format!("{} edges; the measure over it, kept: {}", answer as u64 / 2, shown(second));
        bench.add(what, (first - second).max(0.001), None, answer, note);
    }
    let module = std::fs::read(graphodrome_tests::root().join("docs/procedures/c/hops.wasm")).unwrap();
    set_external(vec![Arc::new(Module::read(&module, ModuleLimits::default()).unwrap())]);
    let from = busiest(nodes, ends);
    let call = |name: &str| {
        format!(
            "MATCH (a:N {{n: {from}}}) CALL {name}({{from: a, view: 'whole'}}) YIELD node RETURN COUNT(node) AS n"
        )
    };
    // Both read the view that is kept by now, with its rows.
    asked(&snapshot, &call("distances"));
    let (native, reached) = asked(&snapshot, &call("distances"));
    asked(&snapshot, &call("hops"));
    let (ours, same) = asked(&snapshot, &call("hops"));
    let (plain, theirs) = hops_plain(nodes, ends, from);
    assert_eq!((reached, reached), (same, theirs));
    let note = format!("in a module; the measure distances takes {}; {reached} nodes", shown(native));
    bench.add("breadth-first search in a module", ours, Some(plain), reached, note);
}

fn main() {
    // `cargo test --benches` only builds it.
    if std::env::args().any(|a| a == "--test") || !std::env::args().any(|a| a == "--bench") {
        return;
    }
    let scale = setting("SCALE", 18) as u32;
    let (nodes, side) = (1usize << scale, setting("GRID", 300) as u32);
    let ends = skewed(scale, 16 * nodes);
    let small_nodes = 1usize << setting("BETWEEN", 13);
    let small = skewed(small_nodes.trailing_zeros(), 8 * small_nodes);
    let only = std::env::var("ONLY").unwrap_or_default();
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), "whole.bin", &ends);
    write(folder.path(), "small.bin", &small);
    let (grid_ends, capacities) = grid(side);
    write(folder.path(), "grid.bin", &grid_ends);
    let bytes: Vec<u8> = capacities.iter().flat_map(|c| c.to_le_bytes()).collect();
    std::fs::write(folder.path().join("capacities.bin"), bytes).unwrap();
    std::fs::write(folder.path().join("sizes"), format!("{nodes} {small_nodes} {}", side * side)).unwrap();
    let mut bench = Bench { peers: peers(folder.path(), &only), only, rows: vec![] };
    whole_graph(&mut bench, nodes, &ends);
    smaller_graphs(&mut bench, &small, small_nodes, side);
    in_the_engine(&mut bench, nodes, &ends);
    println!("\nR-MAT of {nodes} nodes and {} edges\n\n{}", ends.len(), bench.table());
}
