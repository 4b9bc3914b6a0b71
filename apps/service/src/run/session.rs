//! Session and transaction commands.

use std::sync::Arc;

use axum::http::StatusCode;
use graphodrome_engine::{Limits, prepare};
use graphodrome_graph::{Snapshot, Value, Zone};
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::*;

use super::{QueryRequest, Terms, terms};
use crate::problem::Problem;
use crate::running::RunningKind;
use crate::sessions::{Committed, OpenTransaction, Session};
use crate::state::App;
use crate::who;

/// What the parameters of one session may hold.
const SESSION_BYTES: usize = 64 << 20;

fn state_problem(code: &str, detail: &str, hint: &str) -> Problem {
    let mut problem = Problem::new(StatusCode::CONFLICT, detail).hint(hint);
    problem.code = Some(code.into());
    problem
}

pub(super) async fn transaction(
    app: &Arc<App>, session: &mut Session, command: TransactionCommand,
) -> Result<String, Problem> {
    let none = || state_problem("25G01", "no transaction is open", "START TRANSACTION begins one");
    match command {
        TransactionCommand::Start { read_only } => {
            if session.transaction.is_some() {
                return Err(state_problem(
                    "25G01",
                    "a transaction is open already",
                    "COMMIT or ROLLBACK it first",
                ));
            }
            session.transaction = Some(OpenTransaction::new(read_only));
            Ok(if read_only { "transaction started, read only" } else { "transaction started" }.into())
        }
        TransactionCommand::Rollback => {
            session.transaction.take().ok_or_else(none)?;
            Ok("transaction rolled back".into())
        }
        TransactionCommand::Commit => {
            let open = session.transaction.take().ok_or_else(none)?;
            // In a task of its own: a client that goes away must not leave it half done.
            let app = app.clone();
            let committed = who::spawn(async move { open.commit(&app.catalog).await }).await??;
            let elements = |changes: usize| if changes == 1 { "element" } else { "elements" };
            Ok(match &committed[..] {
                [] => "transaction committed; nothing was changed".into(),
                [Committed { changes, version, .. }] => {
                    format!("transaction committed: {changes} {}, version {version}", elements(*changes))
                }
                several => {
                    let each = several.iter().map(|Committed { graph, changes, version }| {
                        format!("{changes} {} of {}, version {version}", elements(*changes), graph.name)
                    });
                    format!("transaction committed: {}", each.collect::<Vec<_>>().join("; "))
                }
            })
        }
    }
}

pub(super) async fn command(
    app: &Arc<App>, session: &mut Session, command: SessionCommand, request: &QueryRequest,
) -> Result<String, Problem> {
    Ok(match command {
        SessionCommand::SetGraph(name) => {
            app.graph(&name.text)?;
            session.graph = Some(name.text.to_string());
            format!("the session's graph is {}", name.text)
        }
        SessionCommand::SetParameter { name, if_not_exists, value_type, value } => {
            if if_not_exists && session.parameters.contains_key(&*name) {
                return Ok(format!("${name} already exists"));
            }
            let span = value.span;
            let value = evaluate(app, session, value, request).await?;
            let fits = value_type.as_ref().is_none_or(|t| value.is_null() || t.accepts(&value));
            if let (false, Some(wanted)) = (fits, value_type) {
                let text =
                    format!("${name} must be {wanted}, found {} {}", value.type_name(), value.excerpt());
                let wrong = Diagnostic::error(graphodrome_graph::Code::WRONG_TYPE, span, text);
                return Err(Problem::from_diagnostic(wrong, &request.text));
            }
            let shown = value.literal();
            session.parameters.insert(name.to_string(), value);
            format!("${name} = {shown}")
        }
        SessionCommand::SetTimeZone { text, span } => {
            session.zone = Zone::parse(&text).ok_or_else(|| {
                let wrong = Diagnostic::error(
                    graphodrome_graph::Code::INVALID_ZONE,
                    span,
                    format!("'{text}' is no time zone"),
                )
                .hint("write a region such as 'Europe/London', or hours and minutes from UTC as in '+01:00'");
                Problem::from_diagnostic(wrong, &request.text)
            })?;
            format!("the session's time zone is {text}")
        }
        SessionCommand::Reset(part) => {
            match &part {
                SessionPart::All => {
                    session.parameters.clear();
                    session.graph = None;
                    session.zone = Zone::default();
                }
                SessionPart::Parameters => session.parameters.clear(),
                SessionPart::Parameter(name) => {
                    session.parameters.remove(&**name);
                }
                SessionPart::Graph => session.graph = None,
                SessionPart::TimeZone => session.zone = Zone::default(),
            }
            "session reset".into()
        }
        SessionCommand::Close => {
            let rolled_back = session.transaction.take().is_some();
            session.closed = true;
            if rolled_back { "session closed; its transaction was rolled back" } else { "session closed" }
                .into()
        }
    })
}

/// The value of an expression, which may ask the session's graph.
async fn evaluate(
    app: &Arc<App>, session: &mut Session, value: Expression, request: &QueryRequest,
) -> Result<Value, Problem> {
    let name = request.graph.as_ref().or(session.graph.as_ref());
    let snapshot: Arc<Snapshot> = match name {
        Some(name) => {
            let graph = app.graph(name)?;
            match &mut session.transaction {
                Some(open) => open.snapshot(&app.catalog, &graph)?,
                None => graph.snapshot(),
            }
        }
        None => Arc::new(Snapshot::empty(None).map_err(Problem::from_graph)?),
    };
    let span = value.span;
    let item = ReturnItem { expression: value, name: "value".into(), named: true };
    let result = Return {
        distinct: false,
        items: vec![item],
        group_by: None,
        having: None,
        page: Page::default(),
        span,
    };
    let query = Query::of(Linear { graph: None, at: None, clauses: vec![Clause::Return(result)], span });
    let Terms { limits, .. } = terms(app, request)?;
    let slot = app.slot(limits.time.unwrap_or(app.limits.query_time)).await?;
    // A client that goes away takes the query with it.
    let entry =
        app.running.enter(RunningKind::Query, request.graph.as_deref().unwrap_or_default(), &request.text);
    let limits = Limits { zone: session.zone, ..entry.runs(limits) };
    let (text, parameters) = (request.text.clone(), session.parameters.clone());
    let work = move || -> Result<Value, Problem> {
        let _slot = slot;
        let prepared =
            prepare(&query, &text, &snapshot, &parameters).map_err(|e| Problem::from_query(&e, &text))?;
        let mut execution = prepared.run(snapshot, &parameters, limits);
        let batch = execution.next_batch().map_err(|d| Problem::from_diagnostic(d, &text))?;
        Ok(batch.filter(|batch| batch.len > 0).map_or(Value::Null, |batch| batch.columns[0].get(0)))
    };
    let value = tokio::task::spawn_blocking(work).await??;
    entry.finish();
    let failed = |d: Diagnostic| Problem::from_diagnostic(d, &request.text);
    let held: usize = session.parameters.values().chain([&value]).map(graphodrome_engine::value_bytes).sum();
    if held > SESSION_BYTES {
        let text = format!("a session's parameters hold at most {} MiB", SESSION_BYTES >> 20);
        return Err(failed(Diagnostic::error(graphodrome_graph::Code::DATA, span, text)));
    }
    if !value.is_storable() {
        let text = format!("a parameter cannot hold a {}", value.type_name());
        let wrong = Diagnostic::error(graphodrome_graph::Code::WRONG_TYPE, span, text);
        return Err(failed(wrong.hint("keep the element's key instead")));
    }
    Ok(value)
}
