//! Queries run with some of the rules.

#![allow(clippy::unwrap_used)]

use std::time::Duration;

use graphodrome_engine::{Limits, Parameters, Rules, TextOptions, prepare_by, render_plan};
use graphodrome_graph::{Snapshot, Value};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;

pub type Rows = Result<Vec<Vec<String>>, String>;

/// Rows in an order of their own, each value as `cell` writes it, and the plan.
pub fn run_as(
    cell: fn(&Value) -> String, snapshot: &Snapshot, text: &str, rules: Rules, threads: bool,
) -> (Rows, String) {
    let statements = parse(text).unwrap_or_else(|e| panic!("{text}: {}", e.0[0].message));
    let [Statement::Query(query)] = &statements[..] else { panic!("{text} is no query") };
    let none = Parameters::new();
    let prepared = match prepare_by(query, text, snapshot, &none, rules) {
        Ok(prepared) => prepared,
        Err(errors) => return (Err(errors.0[0].message.clone()), String::new()),
    };
    let plan = render_plan(&prepared.plan(), &[], &TextOptions::default());
    let spread_after = if threads { Duration::ZERO } else { Duration::MAX };
    let mut execution = prepared.run(snapshot.clone(), &none, Limits { spread_after, ..Limits::default() });
    let mut rows = vec![];
    loop {
        match execution.next_batch() {
            Err(error) => return (Err(error.code.to_string()), plan),
            Ok(None) => break,
            Ok(Some(batch)) => rows.extend(
                (0..batch.len).map(|row| batch.columns.iter().map(|c| cell(&c.get(row))).collect::<Vec<_>>()),
            ),
        }
    }
    rows.sort();
    (Ok(rows), plan)
}
