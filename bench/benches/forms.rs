//! Each question in the forms a user may give it, beside SQL in a columnar engine (DuckDB, where Python has it) over the same tables
//! in the same run, in the best of the forms of bench/forms_peers.py; the slowest of ours counts. Answers are compared.
//! `cargo bench --workspace --bench forms`; SCALE is the power of two of the nodes (16), sixteen edges a node, skewed;
//! ONLY=TEXT takes the questions with that text in their name; FORMS=1 tells each form's time; LIMIT_MS ends a form (20000);
//! FOLDER keeps the tables.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::io::Write;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use graphodrome_bench::graphs::r_mat;
use graphodrome_bench::{in_memory, median, milliseconds, setting, shown};
use graphodrome_engine::{Limits, Parameters, prepare};
use graphodrome_graph::{Snapshot, Value};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

const MODEL: &str = "CREATE GRAPH TYPE forms AS {
  (Person :Thing&Person { id INT64 NOT NULL, kind STRING NOT NULL, town STRING NOT NULL, score FLOAT64 NOT NULL } KEY (id)),
  (Document :Thing&Document { id INT64 NOT NULL, kind STRING NOT NULL, town STRING NOT NULL, score FLOAT64 NOT NULL } KEY (id)),
  (:Thing)-[:LINK { n INT64 NOT NULL, day DATE NOT NULL }]->(:Thing)
};";

const MAPPING: &str = r#"graph = "forms"
[[table]]
file = "persons.csv"
[[table.node]]
labels = ["Thing", "Person"]
properties = { id = "id", kind = "kind", town = "town", score = "score" }
[[table]]
file = "documents.csv"
[[table.node]]
labels = ["Thing", "Document"]
properties = { id = "id", kind = "kind", town = "town", score = "score" }
[[table]]
file = "edges.csv"
[[table.edge]]
label = "LINK"
source = { labels = ["Person", "Document"], key = { id = "source" } }
target = { labels = ["Person", "Document"], key = { id = "target" } }
properties = { n = "n", day = "day" }
same = "keep-parallel"
"#;

/// Tables of a skewed graph (R-MAT, 0.57, 0.19, 0.19) with texts, numbers and dates.
fn tables(folder: &Path, scale: u32) {
    let mut random = ChaCha8Rng::seed_from_u64(7);
    let create = |name: &str| std::io::BufWriter::new(std::fs::File::create(folder.join(name)).unwrap());
    std::fs::write(folder.join("model.gql"), MODEL).unwrap();
    std::fs::write(folder.join("load.toml"), MAPPING).unwrap();
    let mut files = [create("persons.csv"), create("documents.csv")];
    files.iter_mut().for_each(|file| writeln!(file, "id,kind,town,score").unwrap());
    for node in 0..1u32 << scale {
        let document = random.random_range(0..4) == 0;
        let kind = if document { "document" } else { "person" };
        let (town, score) = (random.random_range(0..1000), random.random_range(0..10_000));
        let score = f64::from(score) / 10_000.0;
        writeln!(files[usize::from(document)], "{node},{kind},town-{town},{score}").unwrap();
    }
    let mut edges = create("edges.csv");
    writeln!(edges, "source,target,n,day").unwrap();
    for _ in 0..16usize << scale {
        let (a, b) = r_mat(&mut random, scale);
        let (n, day) = (random.random_range(0..100), random.random_range(1..=28));
        writeln!(edges, "{a},{b},{n},2025-{:02}-{day:02}", random.random_range(1..=12)).unwrap();
    }
}

/// A question's name, as in bench/forms_peers.py, and its forms.
const QUESTIONS: &[(&str, &[&str])] = &[
    (
        "two kinds, two hops, grouped, top 20",
        &[
            "MATCH (a:Person)-[e:LINK WHERE e.n >= 50]->(b:Person)-[f:LINK WHERE f.n >= 50]->(c:Document) RETURN c.id AS id, COUNT(*) AS n ORDER BY n DESC, id LIMIT 20",
            "MATCH (a {kind: 'person'})-[e:LINK]->(b {kind: 'person'})-[f:LINK]->(c {kind: 'document'}) WHERE e.n >= 50 AND f.n >= 50 RETURN c.id AS id, COUNT(*) AS n ORDER BY n DESC, id LIMIT 20",
            "MATCH (c)<-[f]-(b)<-[e]-(a) WHERE a.kind = 'person' AND b.kind = 'person' AND c.kind = 'document' AND e.n >= 50 AND f.n >= 50 RETURN c.id AS id, COUNT(a) AS n ORDER BY n DESC, id LIMIT 20",
            "MATCH (a:Thing WHERE a.kind = 'person')-[e:LINK]->(b:Thing WHERE b.kind = 'person') MATCH (b)-[f:LINK]->(c:Thing WHERE c.kind = 'document') WHERE e.n >= 50 AND f.n >= 50 AND e <> f RETURN c.id AS id, COUNT(*) AS n ORDER BY n DESC, id LIMIT 20",
            "MATCH ((x WHERE x.kind = 'person')-[e:LINK WHERE e.n >= 50]->()){2}(c WHERE c.kind = 'document') RETURN c.id AS id, COUNT(*) AS n ORDER BY n DESC, id LIMIT 20",
            "MATCH (a:Person)-[e:LINK WHERE e.n >= 50]->(b:Person), (b)-[f:LINK WHERE f.n >= 50]->(c:Document) RETURN c, COUNT(f) AS n ORDER BY n DESC, c.id LIMIT 20 NEXT RETURN c.id AS id, n",
        ],
    ),
    (
        "two hops, a number on the far node",
        &[
            "MATCH (a:Person)-[e:LINK WHERE e.n >= 50]->(b)-[f:LINK]->(c WHERE c.score < 0.1) RETURN COUNT(*) AS n",
            "MATCH (a)-[e]->(b)-[f]->(c) WHERE a.kind = 'person' AND e.n >= 50 AND c.score < 0.1 RETURN COUNT(f) AS n",
            "MATCH (a:Person)-[e:LINK]->(b) WHERE e.n >= 50 MATCH (b)-[f:LINK]->(c) WHERE c.score < 0.1 AND f <> e RETURN COUNT(*) AS n",
            "MATCH (c WHERE c.score < 0.1)<-[f:LINK]-(b)<-[e:LINK WHERE e.n >= 50]-(a {kind: 'person'}) RETURN COUNT(c.id) AS n",
        ],
    ),
    (
        "two hops, sum along the edge",
        &[
            "MATCH (a:Person)-[e:LINK]->(b)-[f:LINK]->(c:Document) RETURN SUM(f.n) AS n",
            "MATCH (a)-[e]->(b)-[f]->(c) WHERE a.kind = 'person' AND c.kind = 'document' RETURN SUM(f.n) AS n",
            "MATCH (c:Document)<-[f:LINK]-(b)<-[e:LINK]-(a:Person) RETURN SUM(f.n) AS n",
            "MATCH (a {kind: 'person'})-[e:LINK]->(b), (b)-[f:LINK]->(c {kind: 'document'}) RETURN SUM(f.n) AS n",
        ],
    ),
    (
        "walks of three edges from a node by their end, top 10",
        &[
            "MATCH REPEATABLE ELEMENTS (a:Thing {id: 5})-[:LINK]->{3}(b) RETURN b.id AS id, COUNT(*) AS n ORDER BY n DESC, id LIMIT 10",
            "MATCH REPEATABLE ELEMENTS (a {id: 5})-[]->()-[]->()-[]->(b) RETURN b.id AS id, COUNT(*) AS n ORDER BY n DESC, id LIMIT 10",
            "MATCH (a:Thing WHERE a.id = 5)-[:LINK]->(x) MATCH (x)-[:LINK]->(y) MATCH (y)-[:LINK]->(b) RETURN b.id AS id, COUNT(*) AS n ORDER BY n DESC, id LIMIT 10",
            "MATCH (a:Thing {id: 5})-[:LINK]->(x) RETURN x, COUNT(*) AS n NEXT MATCH (x)-[:LINK]->(y) RETURN y, SUM(n) AS n NEXT MATCH (y)-[:LINK]->(b) RETURN b.id AS id, SUM(n) AS n ORDER BY n DESC, id LIMIT 10",
            "MATCH REPEATABLE ELEMENTS (b)<-[:LINK]-{3}(a:Thing) WHERE a.id = 5 RETURN b, COUNT(*) AS n ORDER BY n DESC, b.id LIMIT 10 NEXT RETURN b.id AS id, n",
        ],
    ),
    (
        "triangles in any direction, distinct",
        &[
            "MATCH (a:Thing)-[:LINK]-(b:Thing)-[:LINK]-(c:Thing)-[:LINK]-(a) WHERE a.id < b.id AND b.id < c.id RETURN DISTINCT a, b, c NEXT RETURN COUNT(*) AS n",
            "MATCH (a)-[]-(b)-[]-(c), (c)-[]-(a) WHERE a.id < b.id AND b.id < c.id RETURN DISTINCT a, b, c NEXT RETURN COUNT(*) AS n",
            "MATCH (a:Thing)-[:LINK]-(b:Thing) WHERE a.id < b.id RETURN DISTINCT a, b NEXT MATCH (b)-[:LINK]-(c:Thing) WHERE b.id < c.id AND EXISTS { (c)-[:LINK]-(a) } RETURN DISTINCT a, b, c NEXT RETURN COUNT(*) AS n",
            "MATCH (a)-[:LINK]-(b) MATCH (b)-[:LINK]-(c) MATCH (c)-[:LINK]-(a) WHERE a.id < b.id AND b.id < c.id RETURN a, b, c GROUP BY a, b, c NEXT RETURN COUNT(*) AS n",
        ],
    ),
    (
        "rings of 3 to 5 through a node",
        &[
            "MATCH SIMPLE (s:Thing {id: 4761})-[:LINK]->{3,5}(s) RETURN COUNT(*) AS n",
            "MATCH p = SIMPLE (s {id: 4761})-[]->{3,5}(s) RETURN COUNT(p) AS n",
            "MATCH (s:Thing {id: 4761})-[:LINK]->(a)-[:LINK]->(b)-[:LINK]->(s) WHERE ALL_DIFFERENT(s, a, b) RETURN COUNT(*) AS n UNION ALL MATCH (s:Thing {id: 4761})-[:LINK]->(a)-[:LINK]->(b)-[:LINK]->(c)-[:LINK]->(s) WHERE ALL_DIFFERENT(s, a, b, c) RETURN COUNT(*) AS n UNION ALL MATCH (s:Thing {id: 4761})-[:LINK]->(a)-[:LINK]->(b)-[:LINK]->(c)-[:LINK]->(d)-[:LINK]->(s) WHERE ALL_DIFFERENT(s, a, b, c, d) RETURN COUNT(*) AS n NEXT RETURN SUM(n) AS n",
            "MATCH p = SIMPLE (s)-[:LINK]->{3,5}(s) WHERE s.id = 4761 RETURN PATH_LENGTH(p) AS l, COUNT(*) AS n NEXT RETURN COALESCE(SUM(n), 0) AS n",
        ],
    ),
    (
        "neighbours that two share",
        &[
            "MATCH (a:Thing {id: 3})-[:LINK]-(x)-[:LINK]-(b:Thing) WHERE a <> b RETURN b.id AS id, COUNT(DISTINCT x) AS n ORDER BY n DESC, id LIMIT 10",
            "MATCH (a {id: 3})-[]-(x), (x)-[]-(b) WHERE a.id <> b.id RETURN b.id AS id, COUNT(DISTINCT x.id) AS n ORDER BY n DESC, id LIMIT 10",
            "MATCH (a:Thing {id: 3})-[:LINK]-(x) RETURN DISTINCT a, x NEXT MATCH (x)-[:LINK]-(b) WHERE b <> a RETURN DISTINCT x, b NEXT RETURN b.id AS id, COUNT(*) AS n ORDER BY n DESC, id LIMIT 10",
            "MATCH (b)-[:LINK]-(x)-[:LINK]-(a:Thing WHERE a.id = 3) WHERE b <> a RETURN b, COUNT(DISTINCT x) AS n ORDER BY n DESC, b.id LIMIT 10 NEXT RETURN b.id AS id, n",
        ],
    ),
    (
        "edges by the town of their end, top 10",
        &[
            "MATCH (a)-[e:LINK]->(b) RETURN b.town AS town, COUNT(*) AS n, SUM(e.n) AS s ORDER BY s DESC, town LIMIT 10",
            "MATCH (b:Thing)<-[e:LINK]-(:Thing) RETURN b.town AS town, COUNT(e) AS n, SUM(e.n) AS s ORDER BY s DESC, town LIMIT 10",
            "MATCH (a:Thing)-[e:LINK]->(b:Thing) LET town = b.town RETURN town, COUNT(a) AS n, SUM(e.n) AS s ORDER BY s DESC, town LIMIT 10",
            "MATCH ()-[e]->(b) RETURN b, COUNT(*) AS n, SUM(e.n) AS s NEXT RETURN b.town AS town, SUM(n) AS n, SUM(s) AS s ORDER BY s DESC, town LIMIT 10",
        ],
    ),
    (
        "edges by two columns",
        &[
            "MATCH (a)-[e:LINK]->(b) RETURN a.town AS town, b.kind AS kind, COUNT(*) AS n NEXT RETURN COUNT(*) AS n, MAX(n) AS most",
            "MATCH (b:Thing)<-[e:LINK]-(a:Thing) RETURN a.town AS town, b.kind AS kind, COUNT(e) AS n GROUP BY town, kind NEXT RETURN COUNT(*) AS n, MAX(n) AS most",
            "MATCH (a)-[e]->(b) LET town = a.town, kind = b.kind RETURN town, kind, COUNT(a) AS n NEXT RETURN COUNT(*) AS n, MAX(n) AS most",
        ],
    ),
    (
        "distinct days and ends",
        &[
            "MATCH ()-[e:LINK]->(b) RETURN COUNT(DISTINCT e.day) AS days, COUNT(DISTINCT b.town) AS towns, COUNT(DISTINCT b) AS ends",
            "MATCH (b:Thing)<-[e]-() RETURN COUNT(DISTINCT e.day) AS days, COUNT(DISTINCT b.town) AS towns, COUNT(DISTINCT b.id) AS ends",
        ],
    ),
    (
        "the hundred first edges by two properties",
        &[
            "MATCH (a)-[e:LINK]->(b) RETURN a.id AS a, b.id AS b, e.n AS n, e.day AS day ORDER BY n DESC, day, a, b LIMIT 100 NEXT RETURN COUNT(*) AS n, SUM(a) AS a, SUM(b) AS b",
            "MATCH (b:Thing)<-[e:LINK]-(a:Thing) ORDER BY e.n DESC, e.day, a.id, b.id LIMIT 100 RETURN COUNT(*) AS n, SUM(a.id) AS a, SUM(b.id) AS b",
        ],
    ),
    (
        "median of a number by town",
        &[
            "MATCH ()-[e:LINK]->(b) RETURN b.town AS town, PERCENTILE_CONT(e.n, 0.5) AS m ORDER BY m DESC, town LIMIT 5",
            "MATCH (b:Thing)<-[e]-() LET town = b.town, n = e.n RETURN town, PERCENTILE_CONT(n, 0.5) AS m ORDER BY m DESC, town LIMIT 5",
        ],
    ),
    (
        "filter and arithmetic over edges",
        &[
            "MATCH (a)-[e:LINK]->(b) WHERE e.n * 2 + 1 > 50 AND e.day >= DATE '2025-04-01' RETURN COUNT(*) AS n, SUM(e.n * 3 - 1) AS s",
            "MATCH ()-[e]->() LET x = e.n * 2 + 1 FILTER WHERE x > 50 AND e.day >= DATE '2025-04-01' RETURN COUNT(e) AS n, SUM(e.n * 3 - 1) AS s",
        ],
    ),
];

type Rows = Vec<Vec<String>>;

/// Milliseconds of one run and its rows; the error where it has none.
fn asked(snapshot: &Snapshot, text: &str, limits: &Limits) -> Result<(f64, Rows), String> {
    let Statement::Query(query) = parse(text).map_err(|e| format!("{e:?}"))?.remove(0) else {
        unreachable!()
    };
    let none = Parameters::new();
    let (ms, rows) = milliseconds(|| -> Result<Rows, String> {
        let prepared = prepare(&query, text, snapshot, &none).map_err(|e| format!("{e:?}"))?;
        let mut execution = prepared.run(snapshot.clone(), &none, limits.clone());
        let mut rows = vec![];
        while let Some(batch) = execution.next_batch().map_err(|e| format!("{e:?}"))? {
            for row in 0..batch.len {
                rows.push(batch.columns.iter().map(|column| cell(&column.get(row))).collect());
            }
        }
        Ok(rows)
    });
    Ok((ms, rows?))
}

fn cell(value: &Value) -> String {
    match value {
        Value::Int(n) => n.to_string(),
        Value::Float(n) => format!("{n:.3}"),
        other => other.to_string(),
    }
}

fn peers(folder: &Path, only: &str) -> serde_json::Value {
    let script = graphodrome_tests::root().join("bench/forms_peers.py");
    let mut python = Command::new("python3");
    graphodrome_tests::as_from_a_shell(&mut python);
    let run = python.arg(script).arg(folder).arg(only).output().unwrap();
    serde_json::from_slice(&run.stdout).unwrap_or_else(|_| {
        println!("no peer: {}", String::from_utf8_lossy(&run.stderr).trim_end());
        serde_json::Value::Null
    })
}

/// The median of five runs of a form, fewer where they are long; infinite where it has an error, which is printed.
fn form(snapshot: &Snapshot, text: &str, limits: &Limits, answer: &mut Option<Rows>) -> f64 {
    let mut samples = vec![];
    while samples.len() < 5 && samples.iter().sum::<f64>() < 10_000.0 {
        match asked(snapshot, text, limits) {
            Ok((ms, rows)) => {
                samples.push(ms);
                let expected = answer.get_or_insert_with(|| rows.clone());
                if *expected != rows {
                    println!("OTHER ANSWER {rows:?} instead of {expected:?}: {text}");
                }
            }
            Err(error) => {
                println!("{text}: {}", error.chars().take(300).collect::<String>());
                return f64::INFINITY;
            }
        }
    }
    median(samples)
}

fn main() {
    // `cargo test --benches` only builds it.
    if std::env::args().any(|a| a == "--test") || !std::env::args().any(|a| a == "--bench") {
        return;
    }
    let only = setting("ONLY", String::new());
    let tell = std::env::var("FORMS").is_ok();
    let own = tempfile::tempdir().unwrap();
    let folder = setting("FOLDER", own.path().to_path_buf());
    tables(&folder, setting("SCALE", 16));
    let peers = peers(&folder, &only);
    let snapshot = in_memory(&folder);
    let time = Some(Duration::from_millis(setting("LIMIT_MS", 20_000)));
    let limits = Limits { time, memory_bytes: 8 << 30, ..Limits::default() };
    println!("\n| question | forms | the best | the slowest | DuckDB | DuckDB beside our slowest |");
    println!("|---|---:|---:|---:|---:|---:|");
    for (name, forms) in QUESTIONS.iter().filter(|(name, _)| name.contains(&only)) {
        let mut answer: Option<Rows> = serde_json::from_value(peers[name]["answer"].clone()).ok();
        let mut times = vec![];
        for text in *forms {
            let ms = form(&snapshot, text, &limits, &mut answer);
            if tell {
                eprintln!("{}: {text}", if ms.is_finite() { shown(ms) } else { "-".into() });
            }
            times.push(ms);
        }
        times.sort_by(f64::total_cmp);
        let (best, worst) = (times[0], times[times.len() - 1]);
        let told = |ms: f64| if ms.is_finite() { shown(ms) } else { "beyond the limit".into() };
        let (theirs, ratio) = peers[name]["ms"]
            .as_f64()
            .map_or(("-".into(), "-".into()), |ms| (shown(ms), format!("{:.2} x", ms / worst)));
        println!("| {name} | {} | {} | {} | {theirs} | {ratio} |", forms.len(), told(best), told(worst));
    }
}
