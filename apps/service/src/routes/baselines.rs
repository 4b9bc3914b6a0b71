//! Saved queries with an accepted run, and whether they have become worse since.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use graphodrome_engine::{Comparison, PlanTree, compare};
use graphodrome_store::{BaselineRecord, RunRecord};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Js};
use utoipa::{IntoParams, ToSchema};

use super::runs::{find, plan_of, profile_of};
use super::saved;
use crate::extract;
use crate::problem::Problem;
use crate::run::{self, Keep, PlanRequest, ProfileRequest, QueryRequest};
use crate::state::App;

/// A saved query is held against a run of its own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BaselineInfo {
    pub saved_query: String,
    pub graph: String,
    /// The number of the accepted run.
    pub run: i64,
    /// How many times the accepted work it may become.
    pub allow: f64,
    /// RFC 3339.
    pub accepted: String,
}

impl From<BaselineRecord> for BaselineInfo {
    fn from(r: BaselineRecord) -> BaselineInfo {
        BaselineInfo {
            saved_query: r.saved_query,
            graph: r.graph,
            run: r.run,
            allow: r.allow,
            accepted: r.accepted,
        }
    }
}

/// Which baselines are wanted.
#[derive(Debug, Deserialize, IntoParams)]
pub struct BaselineParameters {
    pub graph: Option<String>,
}

/// The baselines, by saved query and graph.
#[utoipa::path(get, path = "/v1/baselines", tag = "runs", params(BaselineParameters),
    responses((status = 200, body = Vec<BaselineInfo>)))]
pub async fn list_baselines(
    State(app): State<Arc<App>>, extract::Query(asked): extract::Query<BaselineParameters>,
) -> Result<Json<Vec<BaselineInfo>>, Problem> {
    let all = app.catalog.baselines(asked.graph.as_deref()).await?;
    Ok(Json(all.into_iter().map(BaselineInfo::from).collect()))
}

/// What is accepted: a run that is kept, or one that is made now.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewBaseline {
    /// By its number or name. Without one the query is run now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
    /// The values to run it with; defaults need not be given.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub parameters: Map<String, Js>,
    /// How many times the accepted work it may become: 1.1 unless given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allow: Option<f64>,
}

const ALLOW: f64 = 1.1;

/// The tag of runs that were made as a baseline.
const TAG: &str = "baseline";

/// Holds a saved query on a graph against a run from now on.
#[utoipa::path(put, path = "/v1/graphs/{graph}/baselines/{name}", tag = "runs",
    params(("graph" = String, Path), ("name" = String, Path)), request_body = NewBaseline,
    responses((status = 200, body = BaselineInfo), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn accept_baseline(
    State(app): State<Arc<App>>, extract::Path((graph, name)): extract::Path<(String, String)>,
    extract::Json(new): extract::Json<NewBaseline>,
) -> Result<Json<BaselineInfo>, Problem> {
    let query = saved::find(&app, &name).await?;
    app.graph(&graph)?;
    let allow = new.allow.unwrap_or(ALLOW);
    if !(1.0..=1e6).contains(&allow) {
        return Err(Problem::bad_request(format!("allow is {allow}: it is a factor from 1 up")));
    }
    let id = match &new.run {
        Some(which) => {
            let run = find(&app, which).await?;
            let summary = &run.summary;
            if summary.graph != graph || summary.text.trim() != query.text.trim() {
                let text = format!("run {} is not of {name} on {graph}", summary.id);
                return Err(Problem::bad_request(text).hint("leave the run out to have the query run now"));
            }
            if !profile_of(&run)?["error"].is_null() {
                return Err(Problem::bad_request(format!("run {} ended with an error", summary.id)));
            }
            summary.id
        }
        None => {
            let parameters = saved::arguments_of(&query, &new.parameters)?;
            let query = QueryRequest {
                text: query.text,
                graph: Some(graph.clone()),
                parameters,
                ..Default::default()
            };
            let keep = Some(Keep { name: None, tags: vec![TAG.into()] });
            let answer =
                run::profile(app.clone(), ProfileRequest { query, keep, ..Default::default() }).await?;
            if let Some(error) = answer.error {
                return Err(Problem::bad_request(format!("the run ended early: {}", error.message)));
            }
            answer.run.unwrap_or_default()
        }
    };
    app.catalog.accept_baseline(&name, &graph, id, allow).await?;
    Ok(Json(baseline(&app, &graph, &name).await?.into()))
}

async fn baseline(app: &App, graph: &str, name: &str) -> Result<BaselineRecord, Problem> {
    let all = app.catalog.baselines(Some(graph)).await?;
    all.into_iter().find(|b| b.saved_query == name).ok_or_else(|| {
        Problem::not_found(format!("the saved query {name} has no accepted run on {graph}"))
            .hint("accept one: PUT /v1/graphs/{graph}/baselines/{name}")
    })
}

/// Holds a saved query against nothing any more; the run stays.
#[utoipa::path(delete, path = "/v1/graphs/{graph}/baselines/{name}", tag = "runs",
    params(("graph" = String, Path), ("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove_baseline(
    State(app): State<Arc<App>>, extract::Path((graph, name)): extract::Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    if !app.catalog.remove_baseline(&name, &graph).await? {
        baseline(&app, &graph, &name).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// How to check.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckRequest {
    /// Run the query, and compare its work; otherwise it is only planned.
    #[serde(default)]
    pub run: bool,
    /// In the place of the baseline's own factor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allow: Option<f64>,
}

/// What has become of a query.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// The same plan and, where it was run, no more work than is allowed.
    Same,
    /// Another plan, or other rows, without more work than is allowed.
    Changed,
    /// Less work than the factor says.
    Better,
    /// More work than is allowed; of a plan: another one, at more than the allowed cost.
    Worse,
    /// It cannot be planned or run any more.
    Failed,
}

/// A query against its baseline.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckAnswer {
    pub saved_query: String,
    pub graph: String,
    /// The accepted run.
    pub run: i64,
    pub verdict: Verdict,
    /// What there is to say, a sentence each.
    pub reasons: Vec<String>,
    /// Microseconds it took, where it was run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub execute_us: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub comparison: Option<Comparison>,
}

/// Plans a saved query anew, or runs it, and says whether it has become worse than its accepted run.
#[utoipa::path(post, path = "/v1/graphs/{graph}/baselines/{name}/check", tag = "runs",
    params(("graph" = String, Path), ("name" = String, Path)), request_body = CheckRequest,
    responses((status = 200, body = CheckAnswer), (status = 404, body = Problem)))]
pub async fn check_baseline(
    State(app): State<Arc<App>>, extract::Path((graph, name)): extract::Path<(String, String)>,
    extract::Json(asked): extract::Json<CheckRequest>,
) -> Result<Json<CheckAnswer>, Problem> {
    let held = baseline(&app, &graph, &name).await?;
    let query = saved::find(&app, &name).await?;
    let accepted = find(&app, &held.run.to_string()).await?;
    let answer = CheckAnswer {
        saved_query: name,
        graph,
        run: held.run,
        verdict: Verdict::Same,
        reasons: vec![],
        execute_us: None,
        comparison: None,
    };
    let failed = |answer: CheckAnswer, reason: String| {
        Json(CheckAnswer { verdict: Verdict::Failed, reasons: vec![reason], ..answer })
    };
    let (tree, execute_us) = match planned(&app, &query.text, &answer.graph, &accepted, asked.run).await {
        Ok(Planned::Done(tree, execute_us)) => (*tree, execute_us),
        Ok(Planned::Stopped(reason)) => return Ok(failed(answer, reason)),
        Err(problem) if problem.status < 500 => return Ok(failed(answer, problem.detail)),
        Err(problem) => return Err(problem),
    };
    let before = plan_of(&accepted)?;
    let comparison = tokio::task::spawn_blocking(move || compare(&before, &tree)).await?;
    let mut reasons = vec![];
    if accepted.summary.text.trim() != query.text.trim() {
        reasons.push("its text has changed since the run was accepted".into());
    }
    let allow = asked.allow.unwrap_or(held.allow);
    let verdict = judge(&comparison, asked.run, allow, &mut reasons);
    Ok(Json(CheckAnswer { verdict, reasons, execute_us, comparison: Some(comparison), ..answer }))
}

enum Planned {
    /// The plan, and the microseconds where it was run.
    Done(Box<PlanTree>, Option<f64>),
    /// It ran into a limit.
    Stopped(String),
}

/// The query's plan as it is now, with what it did where it is run, for the values of the accepted run.
async fn planned(
    app: &Arc<App>, text: &str, graph: &str, accepted: &RunRecord, run: bool,
) -> Result<Planned, Problem> {
    let parameters = accepted.parameters.as_object().cloned().unwrap_or_default();
    let query =
        QueryRequest { text: text.into(), graph: Some(graph.into()), parameters, ..Default::default() };
    if !run {
        let answer = run::plan(app.clone(), PlanRequest { query, with: vec![] }).await?;
        return Ok(Planned::Done(Box::new(answer.plan), None));
    }
    let answer = run::profile(app.clone(), ProfileRequest { query, ..Default::default() }).await?;
    match answer.error {
        Some(error) => Ok(Planned::Stopped(error.message)),
        None => Ok(Planned::Done(Box::new(answer.plan), Some(answer.execute_us))),
    }
}

/// Counters that grow by less are not worth a word, whatever the factor.
const LEAST: u64 = 100;

/// What a comparison with the accepted run comes to.
pub fn judge(comparison: &Comparison, run: bool, allow: f64, reasons: &mut Vec<String>) -> Verdict {
    let (mut worse, mut better) = (false, false);
    if !comparison.same_plan {
        reasons.push("it has another plan".into());
    }
    let mut changed = !comparison.same_plan;
    if run {
        let counters = comparison.work.0.counters().into_iter().zip(comparison.work.1.counters());
        for ((name, before), (_, after)) in counters {
            if name == "rows" {
                if before != after {
                    changed = true;
                    reasons.push(format!("{after} rows, before {before}"));
                }
                continue;
            }
            if after as f64 > before as f64 * allow && after - before >= LEAST {
                worse = true;
                reasons.push(format!("{after} {name}, before {before}: more than {allow} times as many"));
            } else if before as f64 > after as f64 * allow && before - after >= LEAST {
                better = true;
                reasons.push(format!("{after} {name}, before {before}"));
            }
        }
    } else if !comparison.same_plan {
        let (before, after) = comparison.estimated_cost;
        worse = after > before * allow && after - before >= LEAST as f64;
        better = before > after * allow && before - after >= LEAST as f64;
        reasons.push(format!("it is estimated to cost {after:.0}, before {before:.0}"));
    }
    match (worse, better, changed) {
        (true, ..) => Verdict::Worse,
        (_, true, _) => Verdict::Better,
        (_, _, true) => Verdict::Changed,
        _ => Verdict::Same,
    }
}
