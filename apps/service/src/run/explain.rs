//! Plans and profiles of a query, as data.

use std::sync::Arc;
use std::time::Instant;

use graphodrome_engine::{Execution, Limits, PLAN_FORMAT, parameter_findings, prepare_by};
use graphodrome_graph::{Change, Snapshot};
use graphodrome_language::ast::{Query, Statement};
use graphodrome_language::{Diagnostic, Diagnostics};
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::{Map, Value as Json};
use utoipa::ToSchema;

use super::answers::{Keep, PlanAnswer, ProfileAnswer, Timing};
use super::supposed::supposed;
use super::{Phases, QueryRequest, Terms, graph_of, microseconds, statements, terms};
use crate::problem::{Problem, QueryError};
use crate::running::RunningKind;
use crate::sessions::Session;
use crate::state::App;
use crate::who;
use crate::written::asked;

/// A request for a plan: that of a query, and keys and indexes to suppose.
#[derive(Clone, Debug, Default, Serialize, ToSchema)]
pub struct PlanRequest {
    #[serde(flatten)]
    pub query: QueryRequest,
    /// `CREATE` and `DROP` of keys and indexes: the plan is made as if they had been run. Nothing is changed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<String>,
}

/// A request for a profile: that of a query, what to suppose, how often to run it, and whether to keep it.
#[derive(Clone, Debug, Default, Serialize, ToSchema)]
pub struct ProfileRequest {
    #[serde(flatten)]
    pub query: QueryRequest,
    /// `CREATE` and `DROP` of keys and indexes: the query runs as if they had been run. Nothing is changed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<String>,
    /// Run it so many times, at most 1000; `timing` says how long they took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repeat: Option<u32>,
    /// Keep what the query changes, instead of rolling it back.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub commit: bool,
    /// Keep the profile as a run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keep: Option<Keep>,
}

/// A field of a request's own, taken out of those of the query.
fn taken<T: serde::de::DeserializeOwned, E: serde::de::Error>(
    fields: &mut Map<String, Json>, name: &str,
) -> Result<Option<T>, E> {
    let wrong = |e: serde_json::Error| E::custom(format!("{name}: {e}"));
    fields.remove(name).map(|value| serde_json::from_value(value).map_err(wrong)).transpose()
}

impl<'de> Deserialize<'de> for PlanRequest {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let mut fields = Map::deserialize(from)?;
        let with = taken(&mut fields, "with")?.unwrap_or_default();
        let query = serde_json::from_value(fields.into()).map_err(serde::de::Error::custom)?;
        Ok(PlanRequest { query, with })
    }
}

impl<'de> Deserialize<'de> for ProfileRequest {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let mut fields = Map::deserialize(from)?;
        let with = taken(&mut fields, "with")?.unwrap_or_default();
        let repeat = taken(&mut fields, "repeat")?.flatten();
        let commit = taken(&mut fields, "commit")?.unwrap_or_default();
        let keep = taken(&mut fields, "keep")?.flatten();
        let query = serde_json::from_value(fields.into()).map_err(serde::de::Error::custom)?;
        Ok(ProfileRequest { query, with, repeat, commit, keep })
    }
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

/// The snapshot with what is supposed.
fn with_supposed(
    snapshot: Arc<Snapshot>, with: &[String], limits: &Limits,
) -> Result<Arc<Snapshot>, Problem> {
    if with.is_empty() { Ok(snapshot) } else { supposed(&snapshot, with, limits).map(Arc::new) }
}

pub async fn plan(app: Arc<App>, request: PlanRequest) -> Result<PlanAnswer, Problem> {
    let PlanRequest { query: request, with } = request;
    let terms = terms(&app, &request)?;
    let (statements, text, parse_us) = statements(&app, &request.text).await?;
    let query = only_query(statements)?;
    let graph = graph_of(&app, &query, &request, &Session::default())?;
    let past = super::past::state(&app, &graph, &query, &request, &terms).await?;
    let snapshot = past.unwrap_or_else(|| graph.snapshot());
    let Terms { rules, parameters, limits, .. } = terms;
    let entry = app.running.enter(RunningKind::Look, &graph.name, &request.text);
    // Building what is supposed is work as a query's is.
    let slot = match with.is_empty() {
        true => None,
        false => Some(app.slot(limits.time.unwrap_or(app.limits.query_time)).await?),
    };
    let limits = entry.cancellable(limits);
    let answer = tokio::task::spawn_blocking(move || {
        let _slot = slot;
        let text = text.as_str();
        let snapshot = with_supposed(snapshot, &with, &limits)?;
        let prepared =
            prepare_by(&query, text, &snapshot, &parameters, rules).map_err(diagnostics_problem(text))?;
        Ok(PlanAnswer {
            format: PLAN_FORMAT,
            graph: graph.name.clone(),
            version: snapshot.version,
            parse_us,
            check_us: microseconds(prepared.check_time),
            plan_us: microseconds(prepared.plan_time),
            with,
            plan: prepared.plan(),
            findings: {
                let mut found = prepared.findings(&snapshot);
                found.extend(parameter_findings(&prepared, &query, text, &snapshot, &parameters));
                found
            },
            warnings: prepared.warnings.iter().map(|w| QueryError::new(w, text)).collect(),
        })
    })
    .await?;
    entry.finish();
    answer
}

/// The most that a profile is repeated.
const MOST_RUNS: u32 = 1000;

/// What a changing query has done, for its commit.
type Uncommitted = Option<(Snapshot, Vec<Change>)>;

pub async fn profile(app: Arc<App>, request: ProfileRequest) -> Result<ProfileAnswer, Problem> {
    let ProfileRequest { query: request, with, repeat, commit, keep } = request;
    if let Some(keep) = &keep {
        super::check_names(keep.name.as_deref(), &keep.tags)?;
    }
    let kept = keep.map(|keep| (keep, request.clone()));
    let terms = terms(&app, &request)?;
    let (statements, text, parse) = statements(&app, &request.text).await?;
    let query = only_query(statements)?;
    let changes = query.changes();
    let repeat = repeat.unwrap_or(1);
    if repeat == 0 || repeat > MOST_RUNS {
        return Err(Problem::bad_request(format!("repeat is {repeat}: it is from 1 to {MOST_RUNS}")));
    }
    if commit && (repeat > 1 || !with.is_empty()) {
        let text = "a profile whose changes are kept runs once, on the graph as it is";
        return Err(Problem::bad_request(text).hint("leave out repeat and with"));
    }
    let graph = graph_of(&app, &query, &request, &Session::default())?;
    let past = super::past::state(&app, &graph, &query, &request, &terms).await?;
    let Terms { rules, parameters, limits, .. } = terms;
    let waiting = Instant::now();
    let entry = app.running.enter(RunningKind::Profile, &graph.name, &request.text);
    entry.waits();
    let time = limits.time.unwrap_or(app.limits.query_time);
    let turn = match commit && changes {
        true => Some(tokio::time::timeout(time, graph.turn()).await.map_err(|_| super::time_is_up(time))??),
        false => None,
    };
    let slot = app.slot(time.saturating_sub(waiting.elapsed())).await?;
    let wait = microseconds(waiting.elapsed());
    let limits = entry.runs(limits);
    let snapshot = match (&turn, past) {
        (Some(turn), _) => turn.snapshot(),
        (None, Some(past)) => past,
        (None, None) => graph.snapshot(),
    };
    let name = graph.name.clone();
    let work = move || -> Result<(ProfileAnswer, Uncommitted), Problem> {
        let _slot = slot;
        let text = text.as_str();
        let snapshot = with_supposed(snapshot, &with, &limits)?;
        let prepared =
            prepare_by(&query, text, &snapshot, &parameters, rules).map_err(diagnostics_problem(text))?;
        let (check, plan) = (microseconds(prepared.check_time), microseconds(prepared.plan_time));
        let phases = Phases { parse, check, plan, wait, plan_cached: false };
        let mut times = vec![];
        loop {
            let mut execution = prepared.run(snapshot.clone(), &parameters, limits.clone());
            let stopped = run_through(&mut execution, text)?;
            times.push(execution.summary().execute_us);
            let error = stopped.map(|stopped| QueryError::new(&stopped, text));
            if error.is_none() && times.len() < repeat as usize {
                continue;
            }
            let mut answer = ProfileAnswer::of(&name, text, &phases, &prepared, &execution, error);
            answer.findings.extend(parameter_findings(&prepared, &query, text, &snapshot, &parameters));
            answer.timing = Timing::of(&times);
            answer.with = with;
            let made = match commit && answer.error.is_none() {
                true => execution.finish().map_err(|d| Problem::from_diagnostic(d, text))?,
                false => None,
            };
            return Ok((answer, made));
        }
    };
    let (mut answer, made) = tokio::task::spawn_blocking(work).await??;
    if let (Some(turn), Some((snapshot, changes))) = (turn, made) {
        answer.version = snapshot.version;
        if !changes.is_empty() {
            turn.by(&who::with("profile")).commit(snapshot, changes).await?;
        }
        answer.rolled_back = false;
    }
    entry.finish();
    if let Some((keep, request)) = kept {
        answer.run = Some(super::keeping::keep(&app, &graph, keep, &request, &answer).await?);
    }
    Ok(answer)
}

/// Runs a query to its end. A limit of the service ends it as well: what was done until then is what a profile is
/// for.
fn run_through(execution: &mut Execution<'_>, text: &str) -> Result<Option<Diagnostic>, Problem> {
    loop {
        match execution.next_batch() {
            Ok(Some(_)) => {}
            Ok(None) => return Ok(None),
            Err(stopped) if stopped.code.starts_with('R') => return Ok(Some(stopped)),
            Err(failed) => return Err(Problem::from_diagnostic(failed, text)),
        }
    }
}

impl super::Run {
    /// A run has come to its end: where it took long its profile is kept, and its spans are sent where somebody
    /// collects them.
    pub(super) fn ended(
        &self, ready: &super::Ready, execution: &Execution<'_>, wait: f64, error: Option<&Diagnostic>,
    ) {
        if !execution.has_profile() {
            return;
        }
        let App { limits, slow, traces, .. } = &*self.app;
        let graph = &self.graph.name;
        let took = execution.summary().execute_us;
        let is_slow = limits.slow_after.is_some_and(|after| took >= microseconds(after))
            && slow.admits(graph, limits.slow_per_minute, Instant::now());
        // Where the trace is somebody's, they say whether it is recorded.
        let traces = traces.as_ref().filter(|_| self.trace.is_none_or(|trace| trace.sampled));
        if !is_slow && traces.is_none() {
            return;
        }
        let phases = self.phases(ready, wait);
        let error = error.map(|error| QueryError::new(error, &self.text));
        let answer = ProfileAnswer::of(graph, &self.text, &phases, &ready.prepared, execution, error);
        if let Some(traces) = traces {
            traces.query(self.trace, asked(&self.text), &answer);
        }
        if is_slow {
            super::keeping::keep_slow(self, answer);
        }
    }
}
