//! Neighbourhoods, recursion and shortest paths in the engine, beside plain searches over arrays in this file: the limit. Each
//! question is asked in several forms; the slowest counts. `cargo bench --workspace --bench paths`; SCALE is the power of two of the
//! skewed graph's nodes (20; sixteen edges a node), SIDE the grid's (1000), PAIRS how many pairs, ONLY=TEXT takes rows with
//! that text in their name; FORMS=1 tells each form's time.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use graphodrome_bench::arrays::{Marks, Rows, cheapest, near, passed_on, rings, share, walks, within};
use graphodrome_bench::graphs::{Edges, downhill, grid, skewed};
use graphodrome_bench::{Pair, engine, in_memory, median, milliseconds, setting, shown};
use graphodrome_graph::{BoundDefinition, BoundSource, Direction, Schema, Snapshot};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

const MODEL: &str = "CREATE GRAPH TYPE paths AS {
  (Place :Place { id INT64 NOT NULL } KEY (id)),
  (Place)-[:LINK { weight INT64, share FLOAT64 }]->(Place)
};";
const MAPPING: &str = r#"graph = "paths"
[[table]]
file = "nodes.csv"
[[table.node]]
labels = ["Place"]
properties = { id = "id" }
[[table]]
file = "edges.csv"
[[table.edge]]
label = "LINK"
source = { labels = ["Place"], key = { id = "source" } }
target = { labels = ["Place"], key = { id = "target" } }
properties = { weight = "weight", share = "share" }
same = "keep-parallel"
"#;

fn graph(nodes: u32, edges: &Edges) -> Snapshot {
    let folder = tempfile::tempdir().unwrap();
    let create =
        |name: &str| std::io::BufWriter::new(std::fs::File::create(folder.path().join(name)).unwrap());
    std::fs::write(folder.path().join("model.gql"), MODEL).unwrap();
    std::fs::write(folder.path().join("load.toml"), MAPPING).unwrap();
    let mut out = create("nodes.csv");
    writeln!(out, "id").unwrap();
    (0..nodes).for_each(|node| writeln!(out, "{node}").unwrap());
    drop(out);
    let mut out = create("edges.csv");
    writeln!(out, "source,target,weight,share").unwrap();
    for (source, target, weight) in edges {
        writeln!(out, "{source},{target},{weight},{}", share(*weight)).unwrap();
    }
    drop(out);
    in_memory(Path::new(folder.path()))
}

/// A graph as the engine has it and as arrays.
struct Both {
    name: &'static str,
    snapshot: Snapshot,
    out: Rows,
    into: Rows,
    /// How the engine's edges are written.
    arrow: &'static str,
    pairs: Vec<(u32, u32)>,
}

/// The fewest steps between two nodes, searched from both ends, from the smaller side each time; -1 where there is no way.
fn steps(both: &Both, (from, to): (u32, u32), marks: &mut [Marks; 2]) -> i64 {
    if from == to {
        return 0;
    }
    let mut sides = [vec![from], vec![to]];
    for (marks, start) in marks.iter_mut().zip([from, to]) {
        marks.search += 1;
        marks.first(start);
    }
    let mut length = 0;
    while !sides[0].is_empty() && !sides[1].is_empty() {
        length += 1;
        let side = usize::from(sides[1].len() < sides[0].len());
        let rows = [&both.out, &both.into][side];
        let mut next = vec![];
        let other_search = marks[1 - side].search;
        for node in std::mem::take(&mut sides[side]) {
            for (other, _) in rows.row(node) {
                if marks[1 - side].seen[*other as usize] == other_search {
                    return length;
                }
                if marks[side].first(*other) {
                    next.push(*other);
                }
            }
        }
        sides[side] = next;
    }
    -1
}

/// How many nodes are reached at all, direction switched when the newest level has more edges than a share of what is left.
fn reached(both: &Both, from: u32) -> i64 {
    let nodes = both.out.nodes();
    let mut seen = vec![false; nodes];
    seen[from as usize] = true;
    let (mut newest, mut found) = (vec![from], 0);
    while !newest.is_empty() {
        let edges: usize = newest.iter().map(|node| both.out.row(*node).len()).sum();
        let mut next = vec![];
        if edges > both.out.to.len() / 20 {
            let mut is_newest = vec![false; nodes];
            newest.iter().for_each(|node| is_newest[*node as usize] = true);
            for node in 0..nodes as u32 {
                if !seen[node as usize] && both.into.row(node).iter().any(|(o, _)| is_newest[*o as usize]) {
                    next.push(node);
                }
            }
            next.iter().for_each(|node| seen[*node as usize] = true);
        } else {
            for node in &newest {
                for (other, _) in both.out.row(*node) {
                    if !std::mem::replace(&mut seen[*other as usize], true) {
                        next.push(*other);
                    }
                }
            }
        }
        found += next.len() as i64;
        newest = next;
    }
    found
}

fn keys(pairs: &[(u32, u32)]) -> Vec<Pair> {
    pairs.iter().map(|(a, b)| (serde_json::json!(a), serde_json::json!(b))).collect()
}

struct Bench {
    only: String,
}

impl Bench {
    /// One row: our forms, the slowest of which counts, beside the plain search; answers equal unless nothing can be compared.
    fn row(
        &self, both: &Both, what: &str, forms: &[&str], pairs: &[(u32, u32)], aim: &str,
        plain: Option<&mut dyn FnMut((u32, u32)) -> i64>,
    ) {
        let name = format!("{}: {what}", both.name);
        if !name.contains(&self.only) {
            return;
        }
        let asked = keys(pairs);
        let (mut times, mut answers): (Vec<f64>, Vec<Vec<i64>>) = Default::default();
        for form in forms {
            let text = form.replace("-->", both.arrow);
            let (ms, found) = engine(&both.snapshot, &text, &asked);
            if std::env::var("FORMS").is_ok() {
                eprintln!("{}: {text}", shown(ms));
            }
            times.push(ms);
            answers.push(found);
        }
        let same = |found: &Vec<i64>| assert_eq!(*found, answers[0], "{name}: other answers");
        answers.iter().for_each(same);
        let (best, worst) =
            (times.iter().copied().fold(f64::MAX, f64::min), times.iter().copied().fold(0.0, f64::max));
        let beside = plain.map(|search| {
            let (mut times, mut found) = (vec![], vec![]);
            for pair in pairs {
                let (ms, answer) = milliseconds(|| search(*pair));
                times.push(ms);
                found.push(answer);
            }
            same(&found);
            median(times)
        });
        let (plain, ratio) = match beside {
            Some(ms) => (shown(ms), format!("{:.2} x", worst / ms)),
            None => ("-".into(), "-".into()),
        };
        println!("| {name} | {} | {} | {plain} | {ratio} | {aim} |", shown(best), shown(worst));
    }
}

fn of_neighbourhoods(bench: &Bench, both: &Both) {
    let mut marks = Marks::of(both.out.nodes());
    for hops in 1..=3u32 {
        let quantified =
            format!("MATCH (a:Place {{id: $a}})-->{{1,{hops}}}(b:Place) RETURN COUNT(DISTINCT b) AS n");
        let open =
            format!("MATCH (a {{id: $a}})-->{{1,{hops}}}(b) RETURN DISTINCT b NEXT RETURN COUNT(*) AS n");
        let grouped = format!(
            "MATCH (a:Place WHERE a.id = $a)-->{{1,{hops}}}(b) RETURN b GROUP BY b NEXT RETURN COUNT(*) AS n"
        );
        let union: Vec<String> = (1..=hops)
            .map(|n| {
                format!(
                    "MATCH (a:Place {{id: $a}}){}(b) RETURN DISTINCT b",
                    "-->()".repeat(n as usize - 1) + "-->"
                )
            })
            .collect();
        let union = format!("{} NEXT RETURN COUNT(*) AS n", union.join(" UNION "));
        let forms = [&quantified[..], &open, &grouped, &union];
        let back = both.arrow.ends_with('>');
        let mut plain = |(a, _)| within((&both.out, back), a, hops, &mut marks);
        bench.row(
            both,
            &format!("distinct nodes within {hops} hops"),
            &forms,
            &both.pairs,
            "1.3 x",
            Some(&mut plain),
        );
    }
}

fn of_distances(bench: &Bench, both: &Both) {
    let nodes = both.out.nodes();
    let mut marks = [Marks::of(nodes), Marks::of(nodes)];
    let forms = [
        "MATCH p = ANY SHORTEST (a:Place {id: $a})-->*(b:Place {id: $b}) RETURN PATH_LENGTH(p) AS n",
        "MATCH (a:Place), (b:Place) WHERE a.id = $a AND b.id = $b MATCH p = ALL SHORTEST (a)-->*(b) RETURN MIN(PATH_LENGTH(p)) AS n",
        "MATCH p = ANY SHORTEST (a WHERE a.id = $a)-->*(b WHERE b.id = $b) RETURN SIZE(EDGES(p)) AS n",
    ];
    let reachable: Vec<(u32, u32)> =
        both.pairs.iter().copied().filter(|pair| steps(both, *pair, &mut marks) >= 0).collect();
    let mut plain = |pair| steps(both, pair, &mut marks);
    // On a grid there are more shortest paths between two nodes than can be listed, and that form lists them.
    let asked: Vec<&str> =
        forms.iter().copied().filter(|f| both.arrow.ends_with('>') || !f.contains("ALL SHORTEST")).collect();
    bench.row(both, "steps between two nodes", &asked, &reachable, "1.3 x", Some(&mut plain));
    let some = &reachable[..reachable.len().min(20)];
    let forms = [
        "MATCH p = ANY SHORTEST BY e.weight (a:Place {id: $a})-[e:LINK]->*(b:Place {id: $b}) RETURN SUM(e.weight) AS n",
        "MATCH (a:Place {id: $a}), (b:Place {id: $b}) MATCH p = ANY SHORTEST BY e.weight (a)(()-[e:LINK]->())*(b) RETURN SUM(e.weight) AS n",
    ];
    let forms = forms.map(|form| form.replace("-[e:LINK]->", &both.arrow.replace("[:", "[e:")));
    let mut plain = |pair| cheapest(&both.out, pair);
    let aim = if both.arrow.ends_with('>') { "0.67 x" } else { "0.33 x" };
    bench.row(
        both,
        "least sum of weights between two nodes",
        &[&forms[0], &forms[1]],
        some,
        aim,
        Some(&mut plain),
    );
    let ten = "MATCH p = SHORTEST 10 SIMPLE BY e.weight (a:Place {id: $a})-[e:LINK]->*(b:Place {id: $b}) RETURN MIN(SUM(e.weight)) AS n";
    let ten = ten.replace("-[e:LINK]->", &both.arrow.replace("[:", "[e:"));
    bench.row(both, "the ten cheapest simple paths", &[&ten], some, "15 x one", None);
}

/// The same with a distance bound of 16 landmarks, which a statement makes beforehand.
fn of_landmarks(bench: &Bench, both: &Both) {
    let what = "least sum of weights between two nodes, by landmarks";
    if !format!("{}: {what}", both.name).contains(&bench.only) {
        return;
    }
    let directed = both.arrow.ends_with('>');
    let bound = BoundDefinition {
        name: "landmarks".into(),
        labels: vec!["LINK".into()],
        direction: if directed { Direction::Out } else { Direction::Any },
        property: "weight".into(),
        source: BoundSource::Landmarks(16),
    };
    let mut created = both.snapshot.schema().created();
    created.bounds.push(Arc::new(bound));
    let (ms, bounded) = milliseconds(|| {
        let schema = Schema::new(both.snapshot.graph_type.clone(), created);
        both.snapshot.with_schema(schema, &|| Ok(())).expect("weights are numbers")
    });
    println!("| {}: 16 landmarks, made once | {} | | | | |", both.name, shown(ms));
    let bounded = Both {
        name: both.name,
        snapshot: bounded,
        out: both.out.clone(),
        into: Rows::of(0, std::iter::empty()),
        arrow: both.arrow,
        pairs: vec![],
    };
    let some = &both.pairs[..both.pairs.len().min(20)];
    let form = "MATCH p = ANY SHORTEST BY e.weight (a:Place {id: $a})-[e:LINK]->*(b:Place {id: $b}) RETURN COALESCE(SUM(e.weight), 0) AS n";
    let form = form.replace("-[e:LINK]->", &both.arrow.replace("[:", "[e:"));
    let two = "MATCH (a:Place {id: $a}), (b:Place {id: $b}) MATCH ANY SHORTEST BY e.weight (a)-[e:LINK]->*(b) RETURN COALESCE(SUM(e.weight), 0) AS n";
    let two = two.replace("-[e:LINK]->", &both.arrow.replace("[:", "[e:"));
    let aim = if directed { "" } else { "0.05 x" };
    let mut plain = |pair| cheapest(&both.out, pair).max(0);
    bench.row(&bounded, what, &[&form, &two], some, aim, Some(&mut plain));
}

fn of_bounds(bench: &Bench, both: &Both) {
    let most: u64 = if both.arrow.ends_with('>') { 12 } else { 5_000 };
    let arrow = both.arrow.replace("[:", "[e:");
    let forms = [
        format!(
            "MATCH (a:Place {{id: $a}}){arrow}+(b) WHERE b <> a AND SUM(e.weight) <= {most} RETURN COUNT(DISTINCT b) AS n"
        ),
        format!(
            "MATCH (a WHERE a.id = $a){arrow}+(b) FILTER NOT SUM(e.weight) > {most} AND b <> a RETURN DISTINCT b.id AS b NEXT RETURN COUNT(*) AS n"
        ),
        format!(
            "MATCH (a:Place {{id: $a}})(()-[e:LINK]{}())+(b:Place) WHERE SUM(e.weight) < {most} + 1 AND b <> a RETURN b GROUP BY b NEXT RETURN COUNT(*) AS n",
            &arrow[arrow.len() - usize::from(both.arrow.ends_with('>')) - 1..]
        ),
    ];
    let forms = [&forms[0][..], &forms[1], &forms[2]];
    let mut plain = |(a, _)| near(&both.out, a, most);
    bench.row(both, "other nodes within a sum of weights", &forms, &both.pairs, "", Some(&mut plain));
}

fn of_many_starts(bench: &Bench, both: &Both) {
    let forms = [
        "MATCH (a:Place WHERE a.id >= $a AND a.id < $a + 64)-->+(b) WHERE b <> a RETURN a.id AS a, COUNT(DISTINCT b) AS n NEXT RETURN SUM(n) AS n",
        "MATCH (a:Place)-->+(b) WHERE a.id BETWEEN $a AND $a + 63 AND a <> b RETURN DISTINCT a, b NEXT RETURN COUNT(*) AS n",
    ];
    let starts = [(0, 0), (64, 0), (128, 0)];
    let mut plain = |(a, _): (u32, u32)| (a..a + 64).map(|start| reached(both, start)).sum();
    bench.row(
        both,
        "all nodes that can be reached from each of 64",
        &forms,
        &starts,
        "0.2 x",
        Some(&mut plain),
    );
}

fn of_everything(bench: &Bench, both: &Both) {
    let some: Vec<(u32, u32)> = both.pairs.iter().copied().take(5).collect();
    let forms = [
        "MATCH (a:Place {id: $a})-->+(b) WHERE b <> a RETURN COUNT(DISTINCT b) AS n",
        "MATCH p = ANY SHORTEST (a:Place {id: $a})-->+(b WHERE b <> a) RETURN COUNT(*) AS n",
        "MATCH (a:Place {id: $a}), (b:Place) WHERE b <> a AND EXISTS { (a)-->+(b) } RETURN COUNT(*) AS n",
    ];
    let mut plain = |(a, _)| reached(both, a);
    bench.row(both, "all nodes that can be reached", &forms, &some, "1.3 x", Some(&mut plain));
    for steps in [3, 4, 6] {
        let grouped = format!(
            "MATCH (a:Place {{id: $a}})-->{{{steps}}}(b) RETURN b, COUNT(*) AS walks NEXT RETURN COUNT(*) AS n"
        );
        let written = format!(
            "MATCH REPEATABLE ELEMENTS (a:Place {{id: $a}}){}(b) RETURN b.id AS b, COUNT(*) AS walks NEXT RETURN COUNT(*) AS n",
            "-->()".repeat(steps - 1) + "-->"
        );
        let grouped = grouped.replace("MATCH", "MATCH REPEATABLE ELEMENTS");
        let mut plain = |(a, _)| walks(&both.out, a, steps as u32);
        bench.row(
            both,
            &format!("walks of {steps} edges by their ends"),
            &[&grouped, &written],
            &some,
            "1.5 x",
            Some(&mut plain),
        );
    }
    // Nodes at even distances; and one that was drawn by its edges, which has many, so that no search that makes its longer
    // rings comes to its end.
    let all = both.out.nodes();
    let used = |node: &u32| !both.out.row(*node).is_empty() && !both.into.row(*node).is_empty();
    let even = (0..all as u32).step_by((all / 97).max(1)).filter(used).map(|node| (node, node));
    let even: Vec<(u32, u32)> = even.take(7).collect();
    for length in [3usize, 4, 5, 6] {
        let simple = format!("MATCH SIMPLE (a:Place {{id: $a}})-->{{{length}}}(a) RETURN COUNT(*) AS n");
        let names: Vec<String> = (1..length).map(|i| format!("v{i}")).collect();
        let between = names.iter().map(|name| format!("({name})-->")).collect::<String>();
        let written = format!(
            "MATCH (a:Place {{id: $a}})-->{between}(a) WHERE ALL_DIFFERENT(a, {}) RETURN COUNT(a) AS n",
            names.join(", ")
        );
        let grouped = format!(
            "MATCH p = SIMPLE (a:Place {{id: $a}})-->{{1,{length}}}(a) RETURN PATH_LENGTH(p) AS l, COUNT(p) AS n NEXT FILTER l = {length} RETURN SUM(n) AS n"
        );
        let forms = [&*simple, &*written, &*grouped];
        let trails = format!("MATCH (a:Place {{id: $a}})-->{{{length}}}(a) RETURN COUNT(*) AS n");
        let mut plain = |(a, _)| rings(&both.out, &mut vec![a], length);
        // Longer ones take minutes so.
        let made: Option<&mut dyn FnMut((u32, u32)) -> i64> =
            if length <= 3 { Some(&mut plain) } else { None };
        // Those of six take seconds each.
        let through = if length <= 5 { &even[..] } else { &even[..even.len().min(1)] };
        bench.row(both, &format!("rings of {length} nodes through a node"), &forms, through, "", made);
        bench.row(
            both,
            &format!("closed trails of {length} edges from a node"),
            &[&trails],
            through,
            "",
            None,
        );
        if length <= 5 {
            let hub = &both.pairs[..1];
            bench.row(both, &format!("rings of {length} nodes through a hub"), &forms, hub, "", None);
        }
    }
}

fn main() {
    // `cargo test --benches` only builds it.
    if std::env::args().any(|a| a == "--test") || !std::env::args().any(|a| a == "--bench") {
        return;
    }
    let bench = Bench { only: std::env::var("ONLY").unwrap_or_default() };
    let (scale, side, count) =
        (setting("SCALE", 20) as u32, setting("SIDE", 1000) as u32, setting("PAIRS", 100));
    let mut random = ChaCha8Rng::seed_from_u64(11);
    let head = "\n| question | best form | slowest form | arrays | slowest beside arrays | aim |\n|---|---:|---:|---:|---:|---:|";

    let edges = skewed(scale);
    let nodes = 1u32 << scale;
    // Nodes that have an edge out of and into them, drawn by their edges' ends.
    let mut end = || edges[random.random_range(0..edges.len())];
    let pairs = (0..count).map(|_| (end().0, end().1)).collect();
    let both = Both {
        name: "skewed",
        snapshot: graph(nodes, &edges),
        out: Rows::of(nodes, edges.iter().copied()),
        into: Rows::of(nodes, edges.iter().map(|&(a, b, w)| (b, a, w))),
        arrow: "-[:LINK]->",
        pairs,
    };
    drop(edges);
    println!("{head}");
    of_neighbourhoods(&bench, &both);
    of_distances(&bench, &both);
    of_landmarks(&bench, &both);
    of_bounds(&bench, &both);
    of_everything(&bench, &both);
    of_many_starts(&bench, &both);
    drop(both);

    let edges = grid(side);
    let nodes = side * side;
    let arcs = edges.iter().flat_map(|&(a, b, w)| [(a, b, w), (b, a, w)]);
    let both = Both {
        name: "grid",
        snapshot: graph(nodes, &edges),
        out: Rows::of(nodes, arcs.clone()),
        into: Rows::of(nodes, arcs),
        arrow: "-[:LINK]-",
        pairs: (0..count).map(|_| (random.random_range(0..nodes), random.random_range(0..nodes))).collect(),
    };
    println!("{head}");
    of_neighbourhoods(&bench, &both);
    of_distances(&bench, &both);
    of_landmarks(&bench, &both);
    of_bounds(&bench, &both);
    of_everything(&bench, &both);
    drop(both);

    let nodes = 200_000;
    let edges = downhill(nodes, nodes / 25);
    let both = Both {
        name: "without cycles",
        snapshot: graph(nodes, &edges),
        out: Rows::of(nodes, edges.iter().copied()),
        into: Rows::of(nodes, edges.iter().map(|&(a, b, w)| (b, a, w))),
        arrow: "-[:LINK]->",
        pairs: vec![(0, 0); 3],
    };
    println!("{head}");
    let forms = [
        "MATCH (a:Place {id: $a})-[e:LINK]->+(b) RETURN b, SUM(PRODUCT(e.share)) AS part NEXT RETURN CAST(ROUND(SUM(part) * 1e6, 0) AS INT64) AS n",
        "MATCH (a:Place WHERE a.id = $a)-[e:LINK]->+(b) RETURN b.id AS b, SUM(PRODUCT(e.share)) AS part NEXT RETURN CAST(ROUND(SUM(part) * 1e6, 0) AS INT64) AS n",
    ];
    let mut plain = |_| (passed_on(&both.out) * 1e6).round() as i64;
    bench.row(&both, "sums of products over all ways", &forms, &both.pairs, "3 x", Some(&mut plain));
}
