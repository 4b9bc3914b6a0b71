//! Plans and profiles of a query, as data.

use std::sync::Arc;
use std::time::Instant;

use graphodrome_engine::{Finding, Limits, PlanTree, prepare_by};
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
    /// What gives reason to change something: `rule`, `operator`, `message`, `advice`, and in `statement` one that does it.
    #[schema(value_type = Vec<Object>)]
    #[serde(default)]
    pub findings: Vec<Finding>,
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
    /// The query changes the graph: it was run to its end, and nothing of it was kept.
    #[serde(default)]
    pub rolled_back: bool,
    /// The operators with what they did.
    #[schema(value_type = Object)]
    pub plan: PlanTree,
    /// What gives reason to change something: `rule`, `operator`, `message`, `advice`, and in `statement` one that does it.
    #[schema(value_type = Vec<Object>)]
    #[serde(default)]
    pub findings: Vec<Finding>,
    pub warnings: Vec<QueryError>,
    /// Why it ended early: the operators have what was done until then.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub error: Option<QueryError>,
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
    let terms = terms(&app, &request)?;
    let (statements, parse_us) = statements(&request.text).await?;
    let query = only_query(statements)?;
    let graph = graph_of(&app, &query, &request, &Session::default())?;
    let past = super::past::state(&app, &graph, &query, &request, &terms).await?;
    let snapshot = past.unwrap_or_else(|| graph.snapshot());
    let Terms { rules, parameters, .. } = terms;
    tokio::task::spawn_blocking(move || {
        let text = &request.text;
        let prepared =
            prepare_by(&query, text, &snapshot, &parameters, rules).map_err(diagnostics_problem(text))?;
        Ok(PlanAnswer {
            graph: graph.name.clone(),
            version: snapshot.version,
            parse_us,
            check_us: microseconds(prepared.check_time),
            plan_us: microseconds(prepared.plan_time),
            plan: prepared.plan(),
            findings: prepared.findings(&snapshot),
            warnings: prepared.warnings.iter().map(|w| QueryError::new(w, text)).collect(),
        })
    })
    .await?
}

pub async fn profile(app: Arc<App>, request: QueryRequest) -> Result<ProfileAnswer, Problem> {
    let terms = terms(&app, &request)?;
    let (statements, parse_us) = statements(&request.text).await?;
    let query = only_query(statements)?;
    let graph = graph_of(&app, &query, &request, &Session::default())?;
    let past = super::past::state(&app, &graph, &query, &request, &terms).await?;
    let Terms { rules, parameters, limits, .. } = terms;
    let waiting = Instant::now();
    let (token, guard) = app.register_query();
    let slot = app.slot(limits.time.unwrap_or(app.limits.query_time)).await?;
    let wait_us = microseconds(waiting.elapsed());
    let limits = Limits { cancel: token, ..limits };
    let snapshot = past.unwrap_or_else(|| graph.snapshot());
    let answer = tokio::task::spawn_blocking(move || {
        let _slot = slot;
        let text = &request.text;
        let prepared =
            prepare_by(&query, text, &snapshot, &parameters, rules).map_err(diagnostics_problem(text))?;
        let mut execution = prepared.run((*snapshot).clone(), &parameters, limits);
        let mut error = None;
        loop {
            match execution.next_batch() {
                Ok(Some(_)) => {}
                Ok(None) => break,
                // A limit of the service: what was done until then is what the profile is for.
                Err(stopped) if stopped.code.starts_with('R') => {
                    error = Some(QueryError::new(&stopped, text));
                    break;
                }
                Err(failed) => return Err(Problem::from_diagnostic(failed, text)),
            }
        }
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
            findings: execution.findings(),
            rolled_back: prepared.changes,
            warnings: warnings.map(|w| QueryError::new(w, text)).collect(),
            error,
        })
    })
    .await?;
    guard.finish();
    answer
}
