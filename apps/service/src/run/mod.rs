//! Running statements: catalog statements at once, reads on a snapshot in a stream, changes in a turn
//! and durable before they are answered.

pub(crate) mod answers;
mod at_once;
mod bounds;
mod building;
mod catalog;
mod change;
pub(crate) mod epilogue;
pub(crate) mod explain;
mod keeping;
mod named;
mod past;
mod read;
mod session;
mod several;
mod supposed;
mod views;

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::{ColumnInfo, ColumnKind, Found, Limits, Parameters, Prepared, Rules, prepare_by};
use graphodrome_formats::{ResultFormat, ResultWriter};
use graphodrome_graph::Snapshot;
use graphodrome_language::ast::{At, Name, Query, Statement, same_moment};
use graphodrome_language::{Diagnostic, parse};
use graphodrome_store::GraphHandle;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};
use utoipa::ToSchema;

use crate::called;
use crate::problem::Problem;
use crate::running::RunningKind;
use crate::sessions::{OpenTransaction, Session};
use crate::state::App;
use crate::traces::TraceParent;
use crate::values;
use crate::who;

pub use answers::{Keep, Phases, PlanAnswer, ProfileAnswer};
pub use at_once::at_once;
pub use explain::{PlanRequest, ProfileRequest, plan, profile};
pub use keeping::check_names;
pub use past::moment;

/// A request for a query, a plan or a profile.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct QueryRequest {
    /// One or more statements, separated by semicolons; the result is the last one's.
    pub text: String,
    /// The graph to query; `USE g` in the text comes before it.
    #[serde(default)]
    pub graph: Option<String>,
    /// The version of that graph to read; `AT VERSION` in the text does the same.
    #[serde(default)]
    pub at_version: Option<u64>,
    /// The time (RFC 3339) whose newest version is to be read; `AT TIMESTAMP` in the text does the same.
    #[serde(default)]
    pub at_timestamp: Option<String>,
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
    /// Rules of the planner that are not used, by name; `all` for every one of them.
    #[serde(default)]
    pub rules_off: Vec<String>,
}

fn microseconds(duration: Duration) -> f64 {
    duration.as_secs_f64() * 1e6
}

/// Bytes of a text that is parsed and planned where it arrives: a longer one could hold up other requests.
const SHORT_TEXT: usize = 2048;

/// What a request asks for, whatever its text says.
struct Terms {
    rules: Rules,
    parameters: Parameters,
    limits: Limits,
    max_rows: u64,
}

/// Of a request of a session.
fn terms_in(app: &App, request: &QueryRequest, session: &Session) -> Result<Terms, Problem> {
    let mut terms = terms(app, request)?;
    for (name, value) in &session.parameters {
        terms.parameters.entry(name.clone()).or_insert_with(|| value.clone());
    }
    terms.limits.zone = session.zone;
    Ok(terms)
}

fn terms(app: &App, request: &QueryRequest) -> Result<Terms, Problem> {
    let parameters = values::parameters(&request.parameters).map_err(Problem::bad_request)?;
    let rules = Rules::all_but(&request.rules_off).map_err(|e| Problem::bad_request(e.to_string()))?;
    let most = app.limits.query_time;
    let time = request.timeout_ms.map_or(most, Duration::from_millis);
    if time > most {
        let text = format!(
            "timeout_ms {} is above the service's limit of {} ms",
            time.as_millis(),
            most.as_millis()
        );
        return Err(Problem::bad_request(text)
            .hint("ask for less, or start the service with a larger --query-seconds"));
    }
    let memory = request.max_memory_bytes.unwrap_or(u64::MAX).min(app.limits.query_memory_bytes);
    let pool = Some(app.memory.clone());
    let limits = Limits { time: Some(time), memory_bytes: memory, pool, ..Limits::default() };
    let max_rows = request.max_rows.unwrap_or(u64::MAX).min(app.limits.result_rows);
    Ok(Terms { rules, parameters, limits, max_rows })
}

/// The statements of a text, the saved queries that they call written out; the text that places in them are of, and
/// the microseconds it took to read it.
async fn statements(app: &App, text: &str) -> Result<(Vec<Statement>, String, f64), Problem> {
    let owned = text.to_string();
    let (statements, parse_us) = match text.len() <= SHORT_TEXT {
        true => statements_here(text)?,
        false => tokio::task::spawn_blocking(move || statements_here(&owned)).await??,
    };
    let (text, statements) = called::written_out(app, text.to_string(), statements).await?;
    Ok((statements, text, parse_us))
}

fn statements_here(text: &str) -> Result<(Vec<Statement>, f64), Problem> {
    let started = Instant::now();
    let statements = parse(text).map_err(|e| Problem::from_query(&e, text))?;
    Ok((statements, microseconds(started.elapsed())))
}

fn graph_of(
    app: &App, query: &Query, request: &QueryRequest, session: &Session,
) -> Result<Arc<GraphHandle>, Problem> {
    let named = query.graphs();
    let differs =
        |(name, at): &&(&Name, Option<&At>)| name.text != named[0].0.text || !same_moment(*at, named[0].1);
    if let Some((other, _)) = named.iter().find(differs) {
        let text = "several graphs, or several versions of one, can be asked by the queries that NEXT, UNION and their kin join, not within one of these, and not planned or profiled together";
        let error = Diagnostic::syntax(other.span, text);
        return Err(Problem::from_diagnostic(error.hint("plan and profile each by itself"), &request.text));
    }
    graph_named(app, named.first().map(|(name, _)| *name), request, session)
}

/// The graph that a text names; otherwise that of the request, or of the session.
fn graph_named(
    app: &App, named: Option<&Name>, request: &QueryRequest, session: &Session,
) -> Result<Arc<GraphHandle>, Problem> {
    match (named, request.graph.as_ref().or(session.graph.as_ref())) {
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
    if let Some(graph) = request.graph.as_ref().and_then(|name| app.catalog.graph(name))
        && terms.rules == Rules::all()
        && !request.is_of_the_past()
    {
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
    let (statements, text, parse) = statements(app, &request.text).await?;
    let count = statements.len();
    let mut done: Vec<String> = vec![];
    for (i, statement) in statements.into_iter().enumerate() {
        let last = i + 1 == count;
        match statement {
            Statement::Query(query)
                if !query.reads_graph() && request.graph.is_none() && session.graph.is_none() =>
            {
                let terms = terms_in(app, request, session)?;
                let response = values_only(app, query, &text, request, terms, format).await?;
                if last {
                    return Ok(response);
                }
                done.push("done".into());
            }
            Statement::Query(query)
                if several::is_of_several(&query, request.graph.as_deref().or(session.graph.as_deref())) =>
            {
                let response = several::run(app, query, (&text, request), session, format, last).await?;
                if last {
                    return Ok(response);
                }
                done.push("done".into());
            }
            Statement::Query(query) => {
                let graph = graph_of(app, &query, request, session)?;
                let terms = terms_in(app, request, session)?;
                let changes = query.changes();
                let past = past::state(app, &graph, &query, request, &terms).await?;
                // A plan is found again by the text and the graph beside it.
                let keep = count == 1
                    && query.graphs().is_empty()
                    && session.transaction.is_none()
                    && past.is_none()
                    && terms.rules == Rules::all();
                let run = Run {
                    changes,
                    parse,
                    keep,
                    ..Run::new(app, graph, text.clone(), request.truncate, terms)
                };
                let run = Run { query: Some(query), ..run };
                let response = match &mut session.transaction {
                    _ if past.is_some() => run.of_the_past(past, format, last).await?,
                    Some(open) => run.in_transaction(open, format, last).await?,
                    None => run.answer(format, last).await?,
                };
                if last {
                    return Ok(response);
                }
                done.push("done".into());
            }
            Statement::Session(command) => {
                done.push(session::command(app, session, command, request).await?);
            }
            Statement::Transaction(command) => done.push(session::transaction(app, session, command).await?),
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
                let work = who::spawn(async move { catalog::statement(&app, statement, &request).await });
                done.push(work.await??);
            }
        }
    }
    Ok(message_result(&done, format))
}

/// A query that asks no graph, such as `RETURN 1 + 1`: it needs none.
async fn values_only(
    app: &Arc<App>, query: Query, text: &str, request: &QueryRequest, terms: Terms, format: ResultFormat,
) -> Result<Response, Problem> {
    let Terms { rules, parameters, limits, max_rows } = terms;
    let slot = app.slot(limits.time.unwrap_or(app.limits.query_time)).await?;
    let entry = app.running.enter(RunningKind::Query, "", &request.text);
    let limits = entry.runs(limits);
    let (text, mut share) = (text.to_string(), app.memory.share());
    let work = move || -> Result<Vec<u8>, Problem> {
        let _slot = slot;
        let snapshot = Arc::new(Snapshot::empty(None).map_err(Problem::from_graph)?);
        let failed = |d: Diagnostic| Problem::from_diagnostic(d, &text);
        let unwritable = |reason: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, reason);
        let prepared = prepare_by(&query, &text, &snapshot, &parameters, rules)
            .map_err(|e| Problem::from_query(&e, &text))?;
        let mut execution = prepared.run(snapshot.clone(), &parameters, limits);
        let mut writer = ResultWriter::new(format, prepared.columns.as_deref().unwrap_or_default());
        let mut body = writer.start().map_err(unwritable)?;
        let mut held = 0;
        while let Some(batch) = execution.next_batch().map_err(failed)? {
            if execution.summary().rows > max_rows {
                return Err(failed(too_many_rows(max_rows)));
            }
            writer.rows(&batch, &snapshot, &mut body).map_err(unwritable)?;
            share.grow(body.len() as u64 - held).map_err(failed)?;
            held = body.len() as u64;
        }
        let rows = execution.summary().rows;
        let more = |out: &mut Vec<u8>| {
            out.extend(format!(",\"summary\":{{\"rows\":{rows}}},\"warnings\":[]").as_bytes());
        };
        writer.end(more, &mut body).map_err(unwritable)?;
        Ok(body)
    };
    let body = tokio::task::spawn_blocking(work).await??;
    entry.finish();
    Ok(([(header::CONTENT_TYPE, format.media_type())], body).into_response())
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
    rules: Rules,
    parameters: Parameters,
    limits: Limits,
    max_rows: u64,
    truncate: bool,
    parse: f64,
    /// Whether the plan may serve other requests with the same text.
    keep: bool,
    /// On a state that only a transaction sees: nothing known of others is true of it.
    isolated: bool,
    /// Who asked, and the trace that it is a part of.
    client: Arc<str>,
    trace: Option<TraceParent>,
    runtime: tokio::runtime::Handle,
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
            rules: terms.rules,
            parameters: terms.parameters,
            limits: terms.limits,
            max_rows: terms.max_rows,
            truncate,
            parse: 0.0,
            keep: false,
            isolated: false,
            client: who::client(),
            trace: who::trace(),
            runtime: tokio::runtime::Handle::current(),
        }
    }

    /// Within a transaction: on the state that it sees, changes kept for its commit.
    async fn in_transaction(
        mut self, open: &mut OpenTransaction, format: ResultFormat, last: bool,
    ) -> Result<Response, Problem> {
        self.isolated = true;
        let snapshot = open.snapshot(&self.app.catalog, &self.graph)?;
        if self.changes {
            open.may_change()?;
            let graph = self.graph.clone();
            let (body, made) = self.execute_change(snapshot, 0.0, format).await?;
            if let Some((snapshot, changes)) = made {
                open.add(&graph, snapshot, changes);
            }
            return Ok(([(header::CONTENT_TYPE, format.media_type())], body).into_response());
        }
        let (mut run, ready) = self.prepared(snapshot).await?;
        run.ready = Some(ready);
        run.read(format, last).await
    }

    /// On an earlier version.
    async fn of_the_past(
        mut self, past: Option<Arc<Snapshot>>, format: ResultFormat, last: bool,
    ) -> Result<Response, Problem> {
        self.isolated = true;
        let snapshot = past.unwrap_or_else(|| self.graph.snapshot());
        let (mut run, ready) = self.prepared(snapshot).await?;
        run.ready = Some(ready);
        run.read(format, last).await
    }

    async fn answer(self, format: ResultFormat, last: bool) -> Result<Response, Problem> {
        if self.changes { self.change(format).await } else { self.read(format, last).await }
    }

    /// [`Self::prepare`], on a thread of its own where the text is long.
    async fn prepared(self, snapshot: Arc<Snapshot>) -> Result<(Run, Ready), Problem> {
        if self.text.len() <= SHORT_TEXT {
            let ready = self.prepare(snapshot)?;
            return Ok((self, ready));
        }
        tokio::task::spawn_blocking(move || {
            let ready = self.prepare(snapshot)?;
            Ok((self, ready))
        })
        .await?
    }

    /// The limits of what is left of the query's time; an error where nothing is.
    fn limits_after(&self, arrived: Instant, limits: &Limits) -> Result<Limits, Problem> {
        let Some(time) = limits.time else { return Ok(limits.clone()) };
        match time.checked_sub(arrived.elapsed()).filter(|left| !left.is_zero()) {
            Some(left) => Ok(Limits { time: Some(left), ..limits.clone() }),
            None => Err(time_is_up(time)),
        }
    }

    /// Whether its spans are wanted, so that it takes its times however brief it is.
    fn is_traced(&self) -> bool {
        self.app.traces.is_some() && self.trace.is_some_and(|trace| trace.sampled)
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
            None => match statements_here(&self.text)?.0.into_iter().next() {
                Some(Statement::Query(query)) => {
                    parsed = query;
                    &parsed
                }
                _ => return Err(Problem::bad_request("the text is not a query")),
            },
        };
        let prepared = match self.isolated || self.rules != Rules::all() {
            true => prepare_by(query, &self.text, &snapshot, &self.parameters, self.rules).map(Arc::new),
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

/// A query's time was over before it began: it waited for its turn, for a slot or for its plan.
fn time_is_up(time: Duration) -> Problem {
    let text =
        format!("the query waited longer than its limit of {:.1} s and was not begun", time.as_secs_f64());
    let mut problem =
        Problem::new(StatusCode::SERVICE_UNAVAILABLE, text).hint("try again, or ask for more time");
    problem.code = Some(graphodrome_engine::Code::TIME_LIMIT.into());
    problem
}

fn too_many_rows(max_rows: u64) -> Diagnostic {
    Diagnostic::error(
        graphodrome_graph::Code(graphodrome_engine::Code::ROW_LIMIT),
        Default::default(),
        format!("the result has more than {max_rows} rows"),
    )
    .hint("add a LIMIT, aggregate, or ask for more rows")
}
