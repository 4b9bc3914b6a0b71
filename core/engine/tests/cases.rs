//! Small cases by the standard's feature codes: each line of `cases/*.txt` is a query and what comes of
//! it on one small graph. `ACCEPT=1` writes down what comes instead, to be read before it is kept.
//!
//! A line is `query => row ; row`, a row's values separated by commas, or `query => ! code message` for
//! an error, or `(none)`. Statements are separated by ` ;; `, each a transaction of its own; the last
//! one's result counts. Without ORDER BY rows are compared in no order.

#![allow(clippy::unwrap_used)]

use std::path::{Path, PathBuf};

use graphodrome_engine::{Limits, Parameters, prepare};
use graphodrome_graph::{GraphType, Snapshot, Value};
use graphodrome_language::ast::Statement;
use graphodrome_language::{Diagnostics, parse, parse_graph_type};

const GRAPH: &str = "
INSERT (s1:Site {code: 'S1', height: 120, name: 'Tarn'}),
       (s2:Site&Tank {code: 'S2', height: 80, name: 'Low'}),
       (j1:Junction {code: 'J1', height: 100}), (j2:Junction {code: 'J2', height: 90}),
       (j3:Junction {code: 'J3', height: 70}), (j4:Junction {code: 'J4'}),
       (m1:Meter {code: 'M1', read: DATE '2026-01-31', litres: 12.50}),
       (s1)-[:PIPE {code: 'P1', length: 10, material: 'iron'}]->(j1),
       (j1)-[:PIPE {code: 'P2', length: 20, material: 'steel'}]->(j2),
       (s1)-[:PIPE {code: 'P3', length: 50, material: 'iron'}]->(j2),
       (j2)-[:PIPE {code: 'P4', length: 5, material: 'steel'}]->(j3),
       (j3)-[:PIPE {code: 'P5', length: 7}]->(j1),
       (s2)-[:PIPE {code: 'P6', length: 30, material: 'iron'}]->(j3),
       (j4)-[:PIPE {code: 'P7', length: 1}]->(j4),
       (j3)-[:SERVES {code: 'V1', since: DATE '2020-02-29'}]->(m1),
       (j1)~[:NEAR {code: 'N1', metres: 3}]~(j2)";

const CLOSED: &str = "{
  (Site :Site { code STRING NOT NULL, height INT32, name STRING } KEY (code)),
  (Tank :Site&Tank { code STRING NOT NULL, height INT32, name STRING } KEY (code)),
  (Junction :Junction { code STRING NOT NULL, height INT32 } KEY (code)),
  (Meter :Meter { code STRING NOT NULL, read DATE, litres DECIMAL(10, 2) } KEY (code)),
  (:Site|:Junction)-[:PIPE { code STRING NOT NULL, length INT32, material STRING }]->(:Junction),
  (:Site&Tank)-[:PIPE { code STRING NOT NULL, length INT32, material STRING }]->(:Junction),
  (:Junction)-[:SERVES { code STRING, since DATE }]->(:Meter),
  (:Junction)~[:NEAR { code STRING, metres INT32 }]~(:Junction)
}";

fn parameters() -> Parameters {
    [
        ("n", Value::Int(2)),
        ("code", Value::text("J2")),
        ("codes", Value::list(vec![Value::text("J1"), Value::text("S1")])),
    ]
    .into_iter()
    .map(|(k, v)| (k.to_string(), v))
    .collect()
}

/// Runs one statement; the rows and the snapshot after it.
fn run(snapshot: &Snapshot, text: &str) -> Result<(Vec<Vec<Value>>, Snapshot), Diagnostics> {
    let mut statements = parse(text)?;
    let Statement::Query(query) = statements.remove(0) else { panic!("{text} is no query") };
    let prepared = prepare(&query, text, snapshot, &parameters())?;
    let mut execution = prepared.run(snapshot.clone(), &parameters(), Limits::default());
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch()? {
        for row in 0..batch.len {
            rows.push(batch.columns.iter().map(|c| c.get(row)).collect());
        }
    }
    let after = execution.finish()?.map_or_else(|| snapshot.clone(), |(after, _)| after);
    Ok((rows, after))
}

fn outcome(snapshot: &Snapshot, text: &str) -> String {
    let mut snapshot = snapshot.clone();
    let mut rows = vec![];
    let mut ordered = false;
    for statement in text.split(" ;; ") {
        ordered = statement.contains("ORDER BY");
        match run(&snapshot, statement) {
            Ok((found, after)) => {
                rows = found;
                snapshot = after;
            }
            Err(errors) => {
                let first = &errors.0[0];
                return format!("! {} {}", first.code, first.message);
            }
        }
    }
    if rows.is_empty() {
        return "(none)".into();
    }
    let shown = |row: &Vec<Value>| row.iter().map(Value::literal).collect::<Vec<_>>().join(", ");
    let mut rows: Vec<String> = rows.iter().map(shown).collect();
    if !ordered {
        rows.sort();
    }
    rows.join(" ; ")
}

/// The outcome; that of a panic is one too, so that the other cases are still run.
fn caught(snapshot: &Snapshot, text: &str) -> String {
    let run = std::panic::AssertUnwindSafe(|| outcome(snapshot, text));
    std::panic::catch_unwind(run).unwrap_or_else(|_| "! panic".into())
}

fn files() -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases");
    let mut files: Vec<PathBuf> = std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).collect();
    files.sort();
    files
}

#[test]
fn every_case_comes_out_as_it_is_written() {
    let accept = std::env::var("ACCEPT").is_ok();
    let open = run(&Snapshot::empty(None).unwrap(), GRAPH).unwrap().1;
    let graph_type: GraphType = parse_graph_type(CLOSED).unwrap();
    let closed = run(&Snapshot::empty(Some(graph_type.into())).unwrap(), GRAPH).unwrap().1;
    let (mut count, mut wrong) = (0, vec![]);
    for file in files() {
        let text = std::fs::read_to_string(&file).unwrap();
        let snapshot = if file.ends_with("closed.txt") { &closed } else { &open };
        let mut out = String::new();
        for line in text.lines() {
            if line.starts_with('#') || line.trim().is_empty() {
                out.push_str(line);
                out.push('\n');
                continue;
            }
            let (query, expected) = line.split_once(" => ").unwrap_or((line, "?"));
            let came = caught(snapshot, query.trim());
            count += 1;
            for statement in query.trim().split(" ;; ").filter(|s| parse(s).is_ok()) {
                let once = graphodrome_language::format(statement);
                assert_eq!(graphodrome_language::format(&once), once, "{statement}");
            }
            let laid_out: Vec<String> =
                query.trim().split(" ;; ").map(graphodrome_language::format).collect();
            let formatted = caught(snapshot, &laid_out.join(" ;; "));
            if formatted != came && !came.contains(" at ") {
                wrong.push(format!("{query}\n    laid out {laid_out:?}\n    came     {formatted}"));
            }
            // Of an error the code and a part of the message are enough.
            let same = came == expected || expected.starts_with("! ") && came.starts_with(expected);
            if !same {
                wrong.push(format!("{query}\n    expected {expected}\n    came     {came}"));
            }
            out.push_str(&format!("{query} => {}\n", if same { expected } else { &came }));
        }
        if accept {
            std::fs::write(&file, out).unwrap();
        }
    }
    println!("{count} cases");
    assert!(accept || wrong.is_empty(), "{} of {count} cases:\n{}", wrong.len(), wrong.join("\n"));
    assert!(count >= 600, "only {count} cases");
}
