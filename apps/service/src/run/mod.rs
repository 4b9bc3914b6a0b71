//! Running statements: catalog statements at once, reads on a snapshot in a stream, changes in a turn
//! and durable before they are answered.

mod at_once;
mod catalog;
mod change;
mod epilogue;
mod explain;
mod read;
mod session;

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::{ColumnInfo, ColumnKind, Found, Limits, Parameters, Prepared};
use graphodrome_formats::{ResultFormat, ResultWriter};
use graphodrome_graph::Snapshot;
use graphodrome_language::ast::{Query, Statement};
use graphodrome_language::{Diagnostic, parse};
use graphodrome_store::GraphHandle;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};
use utoipa::ToSchema;

use crate::problem::Problem;
use crate::sessions::{OpenTransaction, Session};
use crate::state::App;
use crate::values;

pub use at_once::at_once;
pub use explain::{PlanAnswer, ProfileAnswer, plan, profile};

/// A request for a query, a plan or a profile.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct QueryRequest {
    /// One or more statements, separated by semicolons; the result is the last one's.
    pub text: String,
    /// The graph to query; `USE g` in the text comes before it.
    #[serde(default)]
    pub graph: Option<String>,
    /// By name without the `$`. JSON values, or `{"gql": "DATE '2024-05-31'"}` for any literal.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub parameters: Map<String, Json>,
    /// Milliseconds the query may run, at most the service's limit.
    #[serde(default)]
    pub timeout_ms: Option<u64>,
    /// Rows the result may have, at most the service's limit.
    #[serde(default)]
    pub max_rows: Option<u64>,
    /// Bytes the query may hold, at most the service's limit.
    #[serde(default)]
    pub max_memory_bytes: Option<u64>,
    /// With more rows than that, stop instead of failing: the summary then has `truncated`.
    #[serde(default)]
    pub truncate: bool,
    /// The session it belongs to: its graph, parameters and transaction.
    #[serde(default)]
    pub session: Option<String>,
}

/// Phases of a query, in microseconds.
#[derive(Clone, Debug, Default)]
struct Phases {
    parse: f64,
    check: f64,
    plan: f64,
    wait: f64,
    /// The plan was made for an earlier request: parsing, checking and planning fell away.
    plan_cached: bool,
}

fn microseconds(duration: Duration) -> f64 {
    duration.as_secs_f64() * 1e6
}

/// What a request asks for, whatever its text says.
struct Terms {
    parameters: Parameters,
    limits: Limits,
    max_rows: u64,
}

fn terms(app: &App, request: &QueryRequest) -> Result<Terms, Problem> {
    let parameters = values::parameters(&request.parameters).map_err(Problem::bad_request)?;
    let most = app.limits.query_time;
    let time = request.timeout_ms.map_or(most, |ms| Duration::from_millis(ms).min(most));
    let memory = request.max_memory_bytes.unwrap_or(u64::MAX).min(app.limits.query_memory_bytes);
    let limits = Limits { time: Some(time), memory_bytes: memory, ..Limits::default() };
    let max_rows = request.max_rows.unwrap_or(u64::MAX).min(app.limits.result_rows);
    Ok(Terms { parameters, limits, max_rows })
}

/// The statements of a text, and the microseconds it took to read them.
fn statements(text: &str) -> Result<(Vec<Statement>, f64), Problem> {
    let started = Instant::now();
    let statements = parse(text).map_err(|e| Problem::from_query(&e, text))?;
    Ok((statements, microseconds(started.elapsed())))
}

fn graph_of(
    app: &App, query: &Query, request: &QueryRequest, session: &Session,
) -> Result<Arc<GraphHandle>, Problem> {
    let named = query.graphs();
    if let Some(other) = named.iter().find(|n| n.text != named[0].text) {
        let text = "not supported: several graphs within one query (feature GQ01)";
        return Err(Problem::from_diagnostic(Diagnostic::syntax(other.span, text), &request.text));
    }
    match (named.first(), request.graph.as_ref().or(session.graph.as_ref())) {
        (Some(name), _) => app.graph(&name.text),
        (None, Some(name)) => app.graph(name),
        (None, None) => {
            let names = app.catalog.graph_names();
            let hint = if names.is_empty() {
                "there is none yet: CREATE GRAPH makes one".to_string()
            } else {
                format!("name it with -g, in the field graph, or with USE; there is {}", names.join(", "))
            };
            Err(Problem::bad_request("the query does not say which graph it is about").hint(hint))
        }
    }
}

/// Runs the statements in turn and answers with the last one's result. A text that was asked before of
/// a graph named beside it is not even parsed: its plan is there.
pub async fn query(app: Arc<App>, request: QueryRequest, format: ResultFormat) -> Result<Response, Problem> {
    if let Some(id) = &request.session {
        let entry = app.sessions.get(id)?;
        let mut session = entry.lock().await;
        let answer = in_session(&app, &request, &mut session, format).await;
        if session.closed {
            app.sessions.close(id);
        }
        return answer;
    }
    let terms = terms(&app, &request)?;
    if let Some(graph) = request.graph.as_ref().and_then(|name| app.catalog.graph(name)) {
        let snapshot = graph.snapshot();
        if let Some(Found { prepared, literals }) =
            app.plans(&graph).find(&request.text, &snapshot, &terms.parameters)
        {
            let changes = prepared.changes;
            let of_shape = !literals.is_empty();
            let mut terms = terms;
            terms.parameters.extend(literals);
            let ready = Ready { prepared, snapshot, cached: true };
            let run = Run {
                ready: Some(ready),
                changes,
                keep: true,
                ..Run::new(&app, graph, request.text.clone(), request.truncate, terms)
            };
            match run.answer(format, true).await {
                // Where in the text it failed only a plan of the text itself can say.
                Err(problem) if of_shape && !problem.errors.is_empty() => {}
                answer => return answer,
            }
        }
    }
    // What a text sets or begins lasts as long as the text.
    let mut session = Session::default();
    let response = in_session(&app, &request, &mut session, format).await?;
    if session.transaction.is_some() {
        return Err(Problem::bad_request("the text ends within a transaction, which was rolled back")
            .hint("end it with COMMIT, or open a session: POST /v1/sessions"));
    }
    Ok(response)
}

async fn in_session(
    app: &Arc<App>, request: &QueryRequest, session: &mut Session, format: ResultFormat,
) -> Result<Response, Problem> {
    let (statements, parse) = statements(&request.text)?;
    let count = statements.len();
    let mut done: Vec<String> = vec![];
    for (i, statement) in statements.into_iter().enumerate() {
        let last = i + 1 == count;
        match statement {
            Statement::Query(query) => {
                let graph = graph_of(app, &query, request, session)?;
                let mut terms = terms(app, request)?;
                for (name, value) in &session.parameters {
                    terms.parameters.entry(name.clone()).or_insert_with(|| value.clone());
                }
                terms.limits.zone = session.zone;
                let changes = query.changes();
                // A plan is found again by the text and the graph beside it.
                let keep = count == 1 && query.graphs().is_empty() && session.transaction.is_none();
                let run = Run {
                    changes,
                    parse,
                    keep,
                    ..Run::new(app, graph, request.text.clone(), request.truncate, terms)
                };
                let run = Run { query: Some(query), ..run };
                let response = match &mut session.transaction {
                    Some(open) => run.in_transaction(open, format, last).await?,
                    None => run.answer(format, last).await?,
                };
                if last {
                    return Ok(response);
                }
                done.push("done".into());
            }
            Statement::Session(command) => done.push(session::command(app, session, command, request)?),
            Statement::Transaction(command) => done.push(session::transaction(session, command).await?),
            statement => {
                if session.transaction.is_some() {
                    let mut problem = Problem::new(
                        StatusCode::CONFLICT,
                        "graphs, types, keys and indexes are not created or dropped within a transaction",
                    )
                    .hint("COMMIT it first");
                    problem.code = Some("25G02".into());
                    return Err(problem);
                }
                // In a task of its own: a client that goes away must not leave it half done.
                let graph = request.graph.clone().or_else(|| session.graph.clone());
                let (app, request) = (app.clone(), QueryRequest { graph, ..request.clone() });
                let work = tokio::spawn(async move { catalog::statement(&app, statement, &request).await });
                done.push(work.await??);
            }
        }
    }
    Ok(message_result(&done, format))
}

/// Makes a new base of a graph in the background, where enough lies above the one it has.
fn fold_when_wanted(graph: Arc<GraphHandle>) {
    if !graph.wants_fold() {
        return;
    }
    tokio::spawn(async move {
        if let Err(error) = graph.fold().await {
            tracing::warn!(%error, graph = graph.name, "the graph could not be folded");
        }
    });
}

/// A result for statements that have none: what was done, one row each.
fn message_result(done: &[String], format: ResultFormat) -> Response {
    let columns = vec![ColumnInfo { name: "done".into(), kind: ColumnKind::Value }];
    let mut writer = ResultWriter::new(format, &columns);
    let values = done.iter().map(|d| graphodrome_graph::Value::text(d.as_str())).collect();
    let batch = graphodrome_engine::Batch {
        len: done.len(),
        columns: vec![graphodrome_engine::Vector::Values(values)],
    };
    let mut end = || -> Result<Vec<u8>, String> {
        let mut body = writer.start()?;
        let snapshot = Snapshot::empty(None).map_err(|e| e.to_string())?;
        writer.rows(&batch, &snapshot, &mut body)?;
        let more = format!(",\"summary\":{{\"rows\":{}}},\"warnings\":[]", done.len());
        writer.end(|out| out.extend(more.as_bytes()), &mut body)?;
        Ok(body)
    };
    match end() {
        Ok(body) => ([(header::CONTENT_TYPE, format.media_type())], body).into_response(),
        Err(error) => Problem::new(StatusCode::INTERNAL_SERVER_ERROR, error).into_response(),
    }
}

/// A plan with the snapshot it is for.
#[derive(Clone)]
struct Ready {
    prepared: Arc<Prepared>,
    snapshot: Arc<Snapshot>,
    cached: bool,
}

/// One query about to run.
struct Run {
    app: Arc<App>,
    graph: Arc<GraphHandle>,
    text: String,
    /// `None` where the text did not have to be parsed.
    query: Option<Query>,
    ready: Option<Ready>,
    changes: bool,
    parameters: Parameters,
    limits: Limits,
    max_rows: u64,
    truncate: bool,
    parse: f64,
    /// Whether the plan may serve other requests with the same text.
    keep: bool,
    /// On a state that only a transaction sees: nothing known of others is true of it.
    isolated: bool,
}

impl Run {
    fn new(app: &Arc<App>, graph: Arc<GraphHandle>, text: String, truncate: bool, terms: Terms) -> Run {
        Run {
            app: app.clone(),
            graph,
            text,
            query: None,
            ready: None,
            changes: false,
            parameters: terms.parameters,
            limits: terms.limits,
            max_rows: terms.max_rows,
            truncate,
            parse: 0.0,
            keep: false,
            isolated: false,
        }
    }

    /// Within a transaction: on the state that it sees, changes kept for its commit.
    async fn in_transaction(
        mut self, open: &mut OpenTransaction, format: ResultFormat, last: bool,
    ) -> Result<Response, Problem> {
        self.isolated = true;
        let snapshot = open.snapshot(&self.graph)?;
        if self.changes {
            open.may_change()?;
            let (body, made) = self.execute_change(snapshot, 0.0, format).await?;
            if let Some((snapshot, changes)) = made {
                open.add(snapshot, changes);
            }
            return Ok(([(header::CONTENT_TYPE, format.media_type())], body).into_response());
        }
        self.ready = Some(self.prepare(snapshot)?);
        self.read(format, last).await
    }

    async fn answer(self, format: ResultFormat, last: bool) -> Result<Response, Problem> {
        if self.changes { self.change(format).await } else { self.read(format, last).await }
    }

    /// A plan for this snapshot: one made before, or a new one.
    fn prepare(&self, snapshot: Arc<Snapshot>) -> Result<Ready, Problem> {
        let plans = self.app.plans(&self.graph);
        if self.keep
            && let Some(Found { prepared, literals }) = plans.find(&self.text, &snapshot, &self.parameters)
            && literals.iter().all(|(name, _)| self.parameters.contains_key(name))
        {
            return Ok(Ready { prepared, snapshot, cached: true });
        }
        let parsed;
        let query = match &self.query {
            Some(query) => query,
            None => match statements(&self.text)?.0.into_iter().next() {
                Some(Statement::Query(query)) => {
                    parsed = query;
                    &parsed
                }
                _ => return Err(Problem::bad_request("the text is not a query")),
            },
        };
        let prepared = match self.isolated {
            true => graphodrome_engine::prepare(query, &self.text, &snapshot, &self.parameters).map(Arc::new),
            false => plans.prepare(query, &self.text, &snapshot, &self.parameters, self.keep),
        }
        .map_err(|e| Problem::from_query(&e, &self.text))?;
        Ok(Ready { prepared, snapshot, cached: false })
    }

    fn phases(&self, ready: &Ready, wait: f64) -> Phases {
        if ready.cached {
            return Phases { parse: self.parse, wait, plan_cached: true, ..Phases::default() };
        }
        Phases {
            parse: self.parse,
            check: microseconds(ready.prepared.check_time),
            plan: microseconds(ready.prepared.plan_time),
            wait,
            plan_cached: false,
        }
    }
}

fn too_many_rows(max_rows: u64) -> Diagnostic {
    Diagnostic::error(
        graphodrome_graph::Code(graphodrome_engine::Code::ROW_LIMIT),
        Default::default(),
        format!("the result has more than {max_rows} rows"),
    )
    .hint("add a LIMIT, aggregate, or ask for more rows")
}
