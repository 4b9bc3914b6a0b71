//! Running statements: catalog statements at once, reads on a snapshot in a stream, changes in a turn
//! and durable before they are answered.

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::body::{Body, Bytes};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::{ColumnInfo, ColumnKind, Limits, Parameters, PlanTree, Summary, prepare};
use graphodrome_formats::{ResultFormat, ResultWriter};
use graphodrome_graph::Snapshot;
use graphodrome_language::ast::{GraphSource, Query, Statement};
use graphodrome_language::{Diagnostic, Diagnostics, parse};
use graphodrome_store::{GraphHandle, OpenMode};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};
use tokio::sync::{mpsc, oneshot};
use utoipa::ToSchema;

use crate::problem::{Problem, QueryError};
use crate::state::App;
use crate::values;

/// A request for a query, a plan or a profile.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
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
}

/// Phases of a query, in microseconds.
#[derive(Clone, Debug, Default)]
struct Phases {
    parse: f64,
    check: f64,
    plan: f64,
    wait: f64,
}

fn microseconds(duration: Duration) -> f64 {
    duration.as_secs_f64() * 1e6
}

struct Prologue {
    statements: Vec<Statement>,
    parameters: Parameters,
    limits: Limits,
    max_rows: u64,
    parse: f64,
}

fn prologue(app: &App, request: &QueryRequest) -> Result<Prologue, Problem> {
    let started = Instant::now();
    let statements = parse(&request.text).map_err(|e| Problem::from_query(&e, &request.text))?;
    let parse = microseconds(started.elapsed());
    let parameters = values::parameters(&request.parameters).map_err(Problem::bad_request)?;
    let most = app.limits.query_time;
    let time = request.timeout_ms.map_or(most, |ms| Duration::from_millis(ms).min(most));
    let memory = request.max_memory_bytes.unwrap_or(u64::MAX).min(app.limits.query_memory_bytes);
    let limits = Limits { time: Some(time), memory_bytes: memory, ..Limits::default() };
    let max_rows = request.max_rows.unwrap_or(u64::MAX).min(app.limits.result_rows);
    Ok(Prologue { statements, parameters, limits, max_rows, parse })
}

fn graph_of(app: &App, query: &Query, request: &QueryRequest) -> Result<Arc<GraphHandle>, Problem> {
    match (&query.graph, &request.graph) {
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

/// Runs the statements in turn and answers with the last one's result.
pub async fn query(app: Arc<App>, request: QueryRequest, format: ResultFormat) -> Result<Response, Problem> {
    let prologue = prologue(&app, &request)?;
    let count = prologue.statements.len();
    let mut done: Vec<String> = vec![];
    for (i, statement) in prologue.statements.into_iter().enumerate() {
        let last = i + 1 == count;
        match statement {
            Statement::Query(query) => {
                let graph = graph_of(&app, &query, &request)?;
                let run = Run {
                    app: app.clone(),
                    graph,
                    query,
                    text: request.text.clone(),
                    parameters: prologue.parameters.clone(),
                    limits: prologue.limits.clone(),
                    max_rows: prologue.max_rows,
                    truncate: request.truncate,
                    parse: prologue.parse,
                };
                let response = run.answer(format, last).await?;
                if last {
                    return Ok(response);
                }
                done.push("done".into());
            }
            statement => done.push(catalog_statement(&app, statement).await?),
        }
    }
    Ok(message_result(&done, format))
}

/// A result for statements that have none: what was done, one row each.
fn message_result(done: &[String], format: ResultFormat) -> Response {
    let columns = vec![ColumnInfo { name: "done".into(), kind: ColumnKind::Value }];
    let mut writer = ResultWriter::new(format, columns);
    let values = done.iter().map(|d| graphodrome_graph::Value::text(d.as_str())).collect();
    let batch = graphodrome_engine::Batch {
        len: done.len(),
        columns: vec![graphodrome_engine::Vector::Values(values)],
    };
    let mut body = writer.start();
    let end = || -> Result<Vec<u8>, String> {
        let snapshot = Snapshot::empty(None).map_err(|e| e.to_string())?;
        body.extend(writer.rows(&batch, &snapshot)?);
        let mut more = Map::new();
        more.insert("summary".into(), json!({ "rows": done.len() }));
        more.insert("warnings".into(), json!([]));
        body.extend(writer.end(&more)?);
        Ok(body)
    };
    match end() {
        Ok(body) => ([(header::CONTENT_TYPE, format.media_type())], body).into_response(),
        Err(error) => Problem::new(StatusCode::INTERNAL_SERVER_ERROR, error).into_response(),
    }
}

async fn catalog_statement(app: &App, statement: Statement) -> Result<String, Problem> {
    let mode = |or_replace: bool, if_not_exists: bool| match (or_replace, if_not_exists) {
        (true, _) => OpenMode::Replace,
        (_, true) => OpenMode::KeepExisting,
        _ => OpenMode::Fail,
    };
    let say = |done: bool, yes: String, no: String| if done { yes } else { no };
    Ok(match statement {
        Statement::CreateGraphType { name, or_replace, if_not_exists, definition } => {
            let made = app.catalog.create_graph_type(&definition, mode(or_replace, if_not_exists)).await?;
            say(
                made,
                format!("graph type {} created", name.text),
                format!("graph type {} is there already", name.text),
            )
        }
        Statement::DropGraphType { name, if_exists } => {
            let made = app.catalog.drop_graph_type(&name.text, if_exists).await?;
            say(
                made,
                format!("graph type {} dropped", name.text),
                format!("there is no graph type {}", name.text),
            )
        }
        Statement::CreateGraph { name, or_replace, if_not_exists, source } => {
            let mode = mode(or_replace, if_not_exists);
            let made = match &source {
                GraphSource::Any => app.catalog.create_graph(&name.text, None, None, mode).await?,
                GraphSource::Typed(of) => {
                    app.catalog.create_graph(&name.text, Some(&of.text), None, mode).await?
                }
                GraphSource::Inline(own) => {
                    app.catalog.create_graph(&name.text, None, Some(own), mode).await?
                }
            };
            say(made, format!("graph {} created", name.text), format!("graph {} is there already", name.text))
        }
        Statement::DropGraph { name, if_exists } => {
            let made = app.catalog.drop_graph(&name.text, if_exists).await?;
            say(made, format!("graph {} dropped", name.text), format!("there is no graph {}", name.text))
        }
        Statement::Query(_) => String::new(),
    })
}

struct Run {
    app: Arc<App>,
    graph: Arc<GraphHandle>,
    query: Query,
    text: String,
    parameters: Parameters,
    limits: Limits,
    max_rows: u64,
    truncate: bool,
    parse: f64,
}

/// What a finished run says besides its rows.
fn epilogue(
    summary: &Summary, phases: &Phases, warnings: &[Diagnostic], text: &str, graph: &str, version: u64,
    truncated: bool,
) -> Map<String, Json> {
    let mut facts = serde_json::to_value(summary).unwrap_or_default();
    facts["graph"] = json!(graph);
    facts["version"] = json!(version);
    facts["truncated"] = json!(truncated);
    facts["parse_us"] = json!(phases.parse);
    facts["check_us"] = json!(phases.check);
    facts["plan_us"] = json!(phases.plan);
    facts["wait_us"] = json!(phases.wait);
    let warnings: Vec<QueryError> = warnings.iter().map(|w| QueryError::new(w, text)).collect();
    let mut more = Map::new();
    more.insert("summary".into(), facts);
    more.insert("warnings".into(), json!(warnings));
    more
}

fn too_many_rows(max_rows: u64) -> Diagnostic {
    Diagnostic::error(
        graphodrome_graph::Code(graphodrome_engine::Code::ROW_LIMIT),
        Default::default(),
        format!("the result has more than {max_rows} rows"),
    )
    .hint("add a LIMIT, aggregate, or ask for more rows")
}

impl Run {
    async fn answer(self, format: ResultFormat, last: bool) -> Result<Response, Problem> {
        let changes = self.query.clauses.iter().any(|c| {
            use graphodrome_language::ast::Clause::*;
            matches!(c, Insert { .. } | Set { .. } | Remove { .. } | Delete { .. })
        });
        if changes { self.change(format).await } else { self.read(format, last).await }
    }

    /// Streams: the first piece decides the status, the rest follows as it is made.
    async fn read(self, format: ResultFormat, last: bool) -> Result<Response, Problem> {
        let waiting = Instant::now();
        let app = self.app.clone();
        let (token, guard) = app.register_query();
        let permit = app
            .slots
            .acquire()
            .await
            .map_err(|_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping"))?;
        let wait = microseconds(waiting.elapsed());
        let (first_sender, first) = oneshot::channel::<Result<(Vec<u8>, bool), Problem>>();
        let (sender, receiver) = mpsc::channel::<Result<Bytes, std::io::Error>>(8);
        let limits = Limits { cancel: token, ..self.limits.clone() };
        let worker = tokio::task::spawn_blocking(move || {
            let mut first_sender = Some(first_sender);
            let result = self.stream(format, limits, wait, &mut |piece, ended| match first_sender.take() {
                Some(first) => first.send(Ok((piece, ended))).is_ok(),
                None => sender.blocking_send(Ok(piece.into())).is_ok(),
            });
            if let Err(problem) = result {
                match first_sender.take() {
                    Some(first) => {
                        let _ = first.send(Err(*problem));
                    }
                    // The status is sent; ending the stream badly is the only way to say so.
                    None => {
                        let _ = sender.blocking_send(Err(std::io::Error::other(problem.detail)));
                    }
                }
            }
        });
        let first = first.await.map_err(|_| {
            Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "the service made a mistake; its log says more")
        });
        drop(permit);
        let (piece, ended) = first??;
        if ended || !last {
            worker.await?;
            guard.finish();
            return Ok(([(header::CONTENT_TYPE, format.media_type())], piece).into_response());
        }
        let head = tokio_stream::once(Ok(Bytes::from(piece)));
        let rest = tokio_stream::wrappers::ReceiverStream::new(receiver);
        // The guard lives in the stream: a client that goes away drops both.
        let guarded = futures::stream::unfold(
            (Box::pin(futures::StreamExt::chain(head, rest)), guard),
            |(mut stream, guard)| async move {
                let item = futures::StreamExt::next(&mut stream).await?;
                Some((item, (stream, guard)))
            },
        );
        Ok(([(header::CONTENT_TYPE, format.media_type())], Body::from_stream(guarded)).into_response())
    }

    fn stream(
        &self, format: ResultFormat, limits: Limits, wait: f64, send: &mut dyn FnMut(Vec<u8>, bool) -> bool,
    ) -> Result<(), Box<Problem>> {
        const PIECE: usize = 64 << 10;
        let boxed = |d: Diagnostic| Box::new(Problem::from_diagnostic(d, &self.text));
        let failed = |e: String| Box::new(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, e));
        let snapshot = self.graph.snapshot();
        let prepared = prepare(&self.query, &self.text, &snapshot, &self.parameters)
            .map_err(|e| Box::new(Problem::from_query(&e, &self.text)))?;
        let phases = Phases {
            parse: self.parse,
            check: microseconds(prepared.check_time),
            plan: microseconds(prepared.plan_time),
            wait,
        };
        let version = snapshot.version;
        let mut execution = prepared.run((*snapshot).clone(), limits);
        let mut writer = ResultWriter::new(format, prepared.columns.clone().unwrap_or_default());
        let mut body = writer.start();
        let mut rows = 0;
        let mut truncated = false;
        while let Some(mut batch) = execution.next_batch().map_err(boxed)? {
            if rows + batch.len as u64 > self.max_rows {
                if !self.truncate {
                    return Err(boxed(too_many_rows(self.max_rows)));
                }
                let left: Vec<u32> = (0..(self.max_rows - rows) as u32).collect();
                batch = batch.gather(&left);
                truncated = true;
            }
            rows += batch.len as u64;
            body.extend(writer.rows(&batch, execution.snapshot()).map_err(failed)?);
            if truncated {
                break;
            }
            if body.len() >= PIECE && !send(std::mem::take(&mut body), false) {
                return Ok(());
            }
        }
        let mut warnings = prepared.warnings.clone();
        warnings.extend_from_slice(execution.warnings());
        let summary = Summary { rows, ..execution.summary() };
        let more = epilogue(&summary, &phases, &warnings, &self.text, &self.graph.name, version, truncated);
        body.extend(writer.end(&more).map_err(failed)?);
        send(body, true);
        Ok(())
    }

    /// A change takes its turn; it is answered when it is durable.
    async fn change(self, format: ResultFormat) -> Result<Response, Problem> {
        let waiting = Instant::now();
        let (token, guard) = self.app.register_query();
        let graph = self.graph.clone();
        let turn = graph.turn().await;
        let wait = microseconds(waiting.elapsed());
        let snapshot = turn.snapshot();
        let limits = Limits { cancel: token, ..self.limits.clone() };
        let run = move || -> Result<_, Box<Problem>> {
            let problem = |d: Diagnostic| Box::new(Problem::from_diagnostic(d, &self.text));
            let failed = |e: String| Box::new(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, e));
            let prepared = prepare(&self.query, &self.text, &snapshot, &self.parameters)
                .map_err(|e| Box::new(Problem::from_query(&e, &self.text)))?;
            let phases = Phases {
                parse: self.parse,
                check: microseconds(prepared.check_time),
                plan: microseconds(prepared.plan_time),
                wait,
            };
            let mut execution = prepared.run((*snapshot).clone(), limits);
            let mut writer = ResultWriter::new(format, prepared.columns.clone().unwrap_or_default());
            let mut body = writer.start();
            while let Some(batch) = execution.next_batch().map_err(problem)? {
                if execution.summary().rows > self.max_rows {
                    return Err(problem(too_many_rows(self.max_rows)));
                }
                body.extend(writer.rows(&batch, execution.snapshot()).map_err(failed)?);
            }
            let mut warnings = prepared.warnings.clone();
            warnings.extend_from_slice(execution.warnings());
            let summary = execution.summary();
            let made = execution.finish().map_err(problem)?;
            let version = made.as_ref().map_or(snapshot.version, |(s, _)| s.version);
            let more = epilogue(&summary, &phases, &warnings, &self.text, &self.graph.name, version, false);
            body.extend(writer.end(&more).map_err(failed)?);
            Ok((body, made))
        };
        let (body, made) = tokio::task::spawn_blocking(run).await?.map_err(|p| *p)?;
        guard.finish();
        if let Some((snapshot, changes)) = made
            && !changes.is_empty()
        {
            turn.commit(snapshot, &changes).await?;
            if graph.wants_fold() {
                tokio::spawn(async move {
                    if let Err(error) = graph.fold().await {
                        tracing::warn!(%error, graph = graph.name, "the graph could not be folded");
                    }
                });
            }
        }
        Ok(([(header::CONTENT_TYPE, format.media_type())], body).into_response())
    }
}

/// A plan: nothing is executed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanAnswer {
    pub graph: String,
    pub version: u64,
    pub parse_us: f64,
    pub check_us: f64,
    pub plan_us: f64,
    /// The operators, from the result down to where rows come from.
    #[schema(value_type = Object)]
    pub plan: PlanTree,
    pub warnings: Vec<QueryError>,
}

/// A profile: the query was run and its rows were counted, not sent.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ProfileAnswer {
    pub graph: String,
    pub version: u64,
    pub parse_us: f64,
    pub check_us: f64,
    pub plan_us: f64,
    pub wait_us: f64,
    pub execute_us: f64,
    pub first_row_us: f64,
    pub rows: u64,
    /// The operators with what they did.
    #[schema(value_type = Object)]
    pub plan: PlanTree,
    pub warnings: Vec<QueryError>,
}

fn only_query(statements: Vec<Statement>) -> Result<Query, Problem> {
    let mut statements = statements.into_iter();
    match (statements.next(), statements.next()) {
        (Some(Statement::Query(query)), None) => Ok(query),
        (Some(_), None) => Err(Problem::bad_request("a catalog statement has no plan")),
        _ => Err(Problem::bad_request("only one statement can be planned or profiled at a time")),
    }
}

fn diagnostics_problem(text: &str) -> impl Fn(Diagnostics) -> Problem + '_ {
    move |e| Problem::from_query(&e, text)
}

pub async fn plan(app: Arc<App>, request: QueryRequest) -> Result<PlanAnswer, Problem> {
    let prologue = prologue(&app, &request)?;
    let query = only_query(prologue.statements)?;
    let graph = graph_of(&app, &query, &request)?;
    let snapshot = graph.snapshot();
    tokio::task::spawn_blocking(move || {
        let text = &request.text;
        let prepared =
            prepare(&query, text, &snapshot, &prologue.parameters).map_err(diagnostics_problem(text))?;
        Ok(PlanAnswer {
            graph: graph.name.clone(),
            version: snapshot.version,
            parse_us: prologue.parse,
            check_us: microseconds(prepared.check_time),
            plan_us: microseconds(prepared.plan_time),
            plan: prepared.plan(),
            warnings: prepared.warnings.iter().map(|w| QueryError::new(w, text)).collect(),
        })
    })
    .await?
}

pub async fn profile(app: Arc<App>, request: QueryRequest) -> Result<ProfileAnswer, Problem> {
    let prologue = prologue(&app, &request)?;
    let query = only_query(prologue.statements)?;
    let graph = graph_of(&app, &query, &request)?;
    let waiting = Instant::now();
    let (token, guard) = app.register_query();
    let _permit = app
        .slots
        .acquire()
        .await
        .map_err(|_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping"))?;
    let wait_us = microseconds(waiting.elapsed());
    let limits = Limits { cancel: token, ..prologue.limits };
    let snapshot = graph.snapshot();
    let answer = tokio::task::spawn_blocking(move || {
        let text = &request.text;
        let prepared =
            prepare(&query, text, &snapshot, &prologue.parameters).map_err(diagnostics_problem(text))?;
        if prepared.changes {
            return Err(Problem::bad_request("a query that changes the graph cannot be profiled yet")
                .hint("plan it, or profile its MATCH with a RETURN"));
        }
        let mut execution = prepared.run((*snapshot).clone(), limits);
        while execution.next_batch().map_err(|d| Problem::from_diagnostic(d, text))?.is_some() {}
        let summary = execution.summary();
        let warnings = prepared.warnings.iter().chain(execution.warnings());
        Ok(ProfileAnswer {
            graph: graph.name.clone(),
            version: snapshot.version,
            parse_us: prologue.parse,
            check_us: microseconds(prepared.check_time),
            plan_us: microseconds(prepared.plan_time),
            wait_us,
            execute_us: summary.execute_us,
            first_row_us: summary.first_row_us,
            rows: summary.rows,
            plan: execution.profile(),
            warnings: warnings.map(|w| QueryError::new(w, text)).collect(),
        })
    })
    .await?;
    guard.finish();
    answer
}
