//! Plans and profiles of a query, as data.

use std::sync::Arc;
use std::time::Instant;

use axum::http::StatusCode;
use graphodrome_engine::{Limits, PlanTree, prepare};
use graphodrome_language::Diagnostics;
use graphodrome_language::ast::{Query, Statement};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{QueryRequest, Terms, graph_of, microseconds, statements, terms};
use crate::problem::{Problem, QueryError};
use crate::sessions::Session;
use crate::state::App;

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
    let Terms { parameters, .. } = terms(&app, &request)?;
    let (statements, parse_us) = statements(&request.text)?;
    let query = only_query(statements)?;
    let graph = graph_of(&app, &query, &request, &Session::default())?;
    let snapshot = graph.snapshot();
    tokio::task::spawn_blocking(move || {
        let text = &request.text;
        let prepared = prepare(&query, text, &snapshot, &parameters).map_err(diagnostics_problem(text))?;
        Ok(PlanAnswer {
            graph: graph.name.clone(),
            version: snapshot.version,
            parse_us,
            check_us: microseconds(prepared.check_time),
            plan_us: microseconds(prepared.plan_time),
            plan: prepared.plan(),
            warnings: prepared.warnings.iter().map(|w| QueryError::new(w, text)).collect(),
        })
    })
    .await?
}

pub async fn profile(app: Arc<App>, request: QueryRequest) -> Result<ProfileAnswer, Problem> {
    let Terms { parameters, limits, .. } = terms(&app, &request)?;
    let (statements, parse_us) = statements(&request.text)?;
    let query = only_query(statements)?;
    let graph = graph_of(&app, &query, &request, &Session::default())?;
    let waiting = Instant::now();
    let (token, guard) = app.register_query();
    let _permit = app
        .slots
        .acquire()
        .await
        .map_err(|_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping"))?;
    let wait_us = microseconds(waiting.elapsed());
    let limits = Limits { cancel: token, ..limits };
    let snapshot = graph.snapshot();
    let answer = tokio::task::spawn_blocking(move || {
        let text = &request.text;
        let prepared = prepare(&query, text, &snapshot, &parameters).map_err(diagnostics_problem(text))?;
        if prepared.changes {
            return Err(Problem::bad_request("a query that changes the graph cannot be profiled yet")
                .hint("plan it, or profile its MATCH with a RETURN"));
        }
        let mut execution = prepared.run((*snapshot).clone(), &parameters, limits);
        while execution.next_batch().map_err(|d| Problem::from_diagnostic(d, text))?.is_some() {}
        let summary = execution.summary();
        let warnings = prepared.warnings.iter().chain(execution.warnings());
        Ok(ProfileAnswer {
            graph: graph.name.clone(),
            version: snapshot.version,
            parse_us,
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
