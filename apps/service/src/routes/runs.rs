//! Kept profiles: listed, read, renamed, removed, and set side by side.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use graphodrome_engine::{Comparison, PlanTree, compare, read_kept};
use graphodrome_store::{RunFilter, RunKind, RunRecord, RunSummary};
use serde::{Deserialize, Serialize};
use serde_json::Value as Js;
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::problem::Problem;
use crate::run;
use crate::state::App;

/// A kept profile.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunInfo {
    pub id: i64,
    /// `profile`, or `slow`: it was kept by itself, as the query took long.
    #[schema(value_type = String)]
    pub kind: RunKind,
    pub name: Option<String>,
    pub tags: Vec<String>,
    pub graph: String,
    pub version: u64,
    /// The version whose statistics the planner had.
    pub statistics_version: u64,
    /// RFC 3339.
    pub made: String,
    /// Who asked.
    pub client: String,
    pub text: String,
    pub rows: u64,
    pub execute_us: f64,
    /// Adjacency entries that all operators looked at.
    pub edges_looked: u64,
}

/// A kept profile, whole.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WholeRun {
    #[serde(flatten)]
    pub info: RunInfo,
    #[schema(value_type = Object)]
    pub parameters: Js,
    /// Rules that were off, limits asked for, the service's version.
    #[schema(value_type = Object)]
    pub settings: Js,
    /// As `POST /v1/profile` answered it.
    #[schema(value_type = Object)]
    pub profile: Js,
}

impl From<RunSummary> for RunInfo {
    fn from(s: RunSummary) -> RunInfo {
        RunInfo {
            id: s.id,
            kind: s.kind,
            name: s.name,
            tags: s.tags,
            graph: s.graph,
            version: s.version,
            statistics_version: s.statistics_version,
            made: s.made,
            client: s.client,
            text: s.text,
            rows: s.rows,
            execute_us: s.execute_us,
            edges_looked: s.edges_looked,
        }
    }
}

impl TryFrom<RunRecord> for WholeRun {
    type Error = Problem;

    fn try_from(r: RunRecord) -> Result<WholeRun, Problem> {
        let profile = profile_of(&r)?;
        Ok(WholeRun { info: r.summary.into(), parameters: r.parameters, settings: r.settings, profile })
    }
}

/// Runs of a list that are sent at most, and where nothing else is asked for.
const MOST: u64 = 1000;
const USUAL: u64 = 100;

/// Which runs are wanted.
#[derive(Debug, Deserialize, IntoParams)]
pub struct RunParameters {
    pub graph: Option<String>,
    /// `profile` or `slow`.
    #[param(value_type = Option<String>)]
    pub kind: Option<RunKind>,
    pub name: Option<String>,
    pub tag: Option<String>,
    /// Part of the query's text, whatever its case.
    pub text: Option<String>,
    /// Only those with a smaller number: the next page of a list.
    pub before: Option<i64>,
    /// 100 unless given, 1000 at most.
    pub limit: Option<u64>,
}

/// Kept runs, the newest first.
#[utoipa::path(get, path = "/v1/runs", tag = "runs", params(RunParameters),
    responses((status = 200, body = Vec<RunInfo>)))]
pub async fn list_runs(
    State(app): State<Arc<App>>, extract::Query(asked): extract::Query<RunParameters>,
) -> Result<Json<Vec<RunInfo>>, Problem> {
    let RunParameters { graph, kind, name, tag, text, before, limit } = asked;
    let limit = limit.unwrap_or(USUAL).min(MOST);
    let filter = RunFilter { graph, kind, name, tag, text, before, limit };
    Ok(Json(app.catalog.runs(&filter).await?.into_iter().map(RunInfo::from).collect()))
}

/// A run by its number, or the newest of its name.
pub(super) async fn find(app: &App, which: &str) -> Result<RunRecord, Problem> {
    app.catalog.run(which).await?.ok_or_else(|| {
        let what = if which.parse::<i64>().is_ok() { "with the number" } else { "called" };
        Problem::not_found(format!("there is no run {what} {which}")).hint("GET /v1/runs lists them")
    })
}

/// A kept run by its number, or the newest of that name.
#[utoipa::path(get, path = "/v1/runs/{run}", tag = "runs", params(("run" = String, Path)),
    responses((status = 200, body = WholeRun), (status = 404, body = Problem)))]
pub async fn show_run(
    State(app): State<Arc<App>>, extract::Path(which): extract::Path<String>,
) -> Result<Json<WholeRun>, Problem> {
    Ok(Json(find(&app, &which).await?.try_into()?))
}

/// Gives a run a name and tags in the place of those it has.
#[utoipa::path(patch, path = "/v1/runs/{run}", tag = "runs", params(("run" = String, Path)),
    request_body = run::Keep, responses((status = 200, body = RunInfo), (status = 404, body = Problem)))]
pub async fn label_run(
    State(app): State<Arc<App>>, extract::Path(which): extract::Path<String>,
    extract::Json(keep): extract::Json<run::Keep>,
) -> Result<Json<RunInfo>, Problem> {
    run::check_names(keep.name.as_deref(), &keep.tags)?;
    let id = find(&app, &which).await?.summary.id;
    app.catalog.label_run(id, keep.name.as_deref(), &keep.tags).await?;
    Ok(Json(find(&app, &id.to_string()).await?.summary.into()))
}

/// Removes a run. One that a saved query is held against stays.
#[utoipa::path(delete, path = "/v1/runs/{run}", tag = "runs", params(("run" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn remove_run(
    State(app): State<Arc<App>>, extract::Path(which): extract::Path<String>,
) -> Result<StatusCode, Problem> {
    let id = find(&app, &which).await?.summary.id;
    match app.catalog.remove_run(id).await? {
        Ok(_) => Ok(StatusCode::NO_CONTENT),
        Err(held) => {
            let text = format!(
                "run {id} is the baseline of the saved query {} on {}: it stays",
                held.saved_query, held.graph
            );
            Err(Problem::new(StatusCode::CONFLICT, text).hint("accept another run, or remove the baseline"))
        }
    }
}

/// Two runs side by side.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ComparisonAnswer {
    pub before: RunInfo,
    pub after: RunInfo,
    /// Both are of the same text.
    pub same_text: bool,
    /// Both are of the same version of the same graph.
    pub same_version: bool,
    /// `same_plan`, `same_work`, `estimated_cost`, `work`, `own_us`, and `operators` side by side.
    #[schema(value_type = Object)]
    pub comparison: Comparison,
}

fn unreadable(run: &RunRecord, error: &serde_json::Error) -> Problem {
    let text = format!("the profile of run {} cannot be read: {error}", run.summary.id);
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, text)
        .hint("it may have been kept by another version of the service")
}

/// A kept profile as data.
pub(super) fn profile_of(run: &RunRecord) -> Result<Js, Problem> {
    read_kept(&run.profile).map_err(|error| unreadable(run, &error))
}

/// The operators of a kept profile.
pub(super) fn plan_of(run: &RunRecord) -> Result<PlanTree, Problem> {
    let mut profile = profile_of(run)?;
    serde_json::from_value(profile["plan"].take()).map_err(|error| unreadable(run, &error))
}

/// Sets two runs beside each other, each by its number or name: operators by what they do, with what differs in plan,
/// rows, work and time.
#[utoipa::path(get, path = "/v1/runs/{run}/compare/{other}", tag = "runs",
    params(("run" = String, Path, description = "The one before"), ("other" = String, Path, description = "The one after")),
    responses((status = 200, body = ComparisonAnswer), (status = 404, body = Problem)))]
pub async fn compare_runs(
    State(app): State<Arc<App>>, extract::Path((before, after)): extract::Path<(String, String)>,
) -> Result<Json<ComparisonAnswer>, Problem> {
    let (before, after) = (find(&app, &before).await?, find(&app, &after).await?);
    let plans = (plan_of(&before)?, plan_of(&after)?);
    let comparison = tokio::task::spawn_blocking(move || compare(&plans.0, &plans.1)).await?;
    let (one, other) = (&before.summary, &after.summary);
    let same_version = one.graph == other.graph && one.version == other.version;
    Ok(Json(ComparisonAnswer {
        same_text: one.text == other.text,
        same_version,
        before: before.summary.into(),
        after: after.summary.into(),
        comparison,
    }))
}
