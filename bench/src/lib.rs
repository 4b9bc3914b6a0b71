//! Shared parts of the benches: graphs in memory, medians of several runs, and a table.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

pub mod arrays;
pub mod graphs;

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use graphodrome_engine::{Limits, Parameters, prepare};
use graphodrome_formats::{Mapping, Progress, Source, load};
use graphodrome_graph::{Base, GraphType, Snapshot, Value};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;

/// The command line's, for the client that asks and the one of PostgreSQL alike.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What an environment variable says, or the default.
pub fn setting<T: std::str::FromStr>(name: &str, default: T) -> T {
    std::env::var(name).ok().and_then(|v| v.parse().ok()).unwrap_or(default)
}

/// Middle of the samples.
pub fn median(mut samples: Vec<f64>) -> f64 {
    samples.sort_by(f64::total_cmp);
    samples.get(samples.len() / 2).copied().unwrap_or(f64::NAN)
}

/// Milliseconds that `work` takes.
pub fn milliseconds<T>(work: impl FnOnce() -> T) -> (f64, T) {
    let started = Instant::now();
    let result = work();
    (started.elapsed().as_secs_f64() * 1e3, result)
}

/// A line of the printed table.
pub struct Line {
    pub figure: String,
    pub ours: String,
    pub theirs: String,
    pub ratio: f64,
    pub target: String,
}

/// The table as Markdown.
pub fn table(lines: &[Line]) -> String {
    let mut out =
        String::from("| figure | Graphodrome | PostgreSQL | ratio | target |\n|---|---:|---:|---:|---:|\n");
    for line in lines {
        let met = if line.target.is_empty() { String::new() } else { format!("{} x", line.target) };
        out.push_str(&format!(
            "| {} | {} | {} | {:.1} x | {met} |\n",
            line.figure, line.ours, line.theirs, line.ratio
        ));
    }
    out
}

/// A duration in the unit that suits it.
pub fn shown(ms: f64) -> String {
    if ms < 1.0 {
        format!("{:.1} us", ms * 1e3)
    } else if ms < 1e3 {
        format!("{ms:.2} ms")
    } else {
        format!("{:.2} s", ms / 1e3)
    }
}

/// A folder with model, mapping and tables, loaded into the engine without service or storage.
pub fn in_memory(folder: &Path) -> Snapshot {
    let model = std::fs::read_to_string(folder.join("model.gql")).unwrap();
    let graph_type: GraphType = match parse(&model).unwrap().remove(0) {
        Statement::CreateGraphType { definition, .. } => *definition,
        _ => unreachable!("the model begins with its type"),
    };
    let empty = Snapshot::empty(Some(Arc::new(graph_type))).unwrap();
    let mapping = Mapping::parse(&std::fs::read_to_string(folder.join("load.toml")).unwrap()).unwrap();
    let sources: BTreeMap<String, Arc<Source>> = mapping
        .files()
        .into_iter()
        .map(|f| (f.to_string(), Arc::new(Source::Bytes(std::fs::read(folder.join(f)).unwrap()))))
        .collect();
    let outcome = load(&mapping, &sources, &empty, u64::MAX, &Progress::default()).unwrap();
    let account = &outcome.account;
    println!(
        "reading {}, resolving {}, building {}",
        shown(account.read_ms),
        shown(account.resolve_ms),
        shown(account.build_ms)
    );
    let (ms, base) = milliseconds(|| Base::build(outcome.parts.unwrap().0, &empty.schema()).unwrap());
    println!("rows both ways, key indexes and statistics {}", shown(ms));
    let (columns, adjacency, keys) = base.bytes();
    println!(
        "{} edges; adjacency {:.1} bytes an edge both ways; columns {} MiB, key indexes {} MiB",
        base.edge_count(),
        adjacency as f64 / base.edge_count() as f64,
        columns >> 20,
        keys >> 20
    );
    Snapshot::new(Arc::new(base), empty.schema(), 1)
}

/// The keys of two nodes: whole numbers or texts.
pub type Pair = (serde_json::Value, serde_json::Value);

fn key(key: &serde_json::Value) -> Value {
    key.as_i64().map_or_else(|| Value::text(key.as_str().unwrap()), Value::Int)
}

/// Median milliseconds of a query planned once and run for each pair, and the answers.
pub fn engine(snapshot: &Snapshot, text: &str, pairs: &[Pair]) -> (f64, Vec<i64>) {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { unreachable!() };
    let parameters = |(a, b): &Pair| Parameters::from([("a".to_string(), key(a)), ("b".to_string(), key(b))]);
    let prepared = prepare(&query, text, snapshot, &parameters(&pairs[0])).unwrap();
    let (mut times, mut answers) = (vec![], vec![]);
    for pair in pairs {
        let parameters = parameters(pair);
        let (ms, answer) = milliseconds(|| {
            let mut execution = prepared.run(snapshot.clone(), &parameters, Limits::default());
            let mut answer = -1;
            while let Some(batch) = execution.next_batch().unwrap() {
                if let Value::Int(n) = batch.columns[0].get(0) {
                    answer = n;
                }
            }
            answer
        });
        times.push(ms);
        answers.push(answer);
    }
    (median(times), answers)
}
