//! Models: what a graph's type is or would be, what breaks one, and drafts from tables.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Multipart, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_formats::{DraftTable, Flow, Source, TableFormat, draft};
use graphodrome_graph::{GraphError, observed_type, suspicions, violations};
use graphodrome_records::JobState;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use crate::extract;
use crate::models::evolve::{self, ModelApplication, ModelApplied, ModelDiff, declared};
use crate::models::findings::{ModelFinding, model_finding, soft_finding};
use crate::models::form::{ModelAnswer, ModelTypes, answer, types};
use crate::models::picture::picture;
use crate::problem::Problem;
use crate::state::App;

/// Bytes of all tables of a draft together.
const DRAFT_BYTES: usize = 1 << 30;

/// A graph's model: the declared type of a closed graph; for an open one what is in it, in the same form.
#[utoipa::path(get, path = "/v1/graphs/{graph}/model", tag = "models", params(("graph" = String, Path)),
    responses((status = 200, content((ModelAnswer = "application/json"), (String = "image/svg+xml"))), (status = 404, body = Problem)))]
pub async fn show_model(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>, headers: HeaderMap,
) -> Result<Response, Problem> {
    let snapshot = app.graph(&name)?.snapshot();
    let (go_on, entry) = app.look(&name, "what is in the graph");
    let found = tokio::task::spawn_blocking(move || match &snapshot.graph_type {
        Some(declared) => Ok(answer(&name, &snapshot, declared)),
        None => observed_type(&snapshot, &format!("{name}_type"), &*go_on)
            .map(|observed| answer(&name, &snapshot, &observed)),
    });
    let found = found.await?.map_err(stopped)?;
    entry.finish();
    let accepted = headers.get(header::ACCEPT).and_then(|a| a.to_str().ok()).unwrap_or_default();
    if accepted.starts_with("image/svg+xml") {
        let title = format!("Model of the graph {}", found.graph);
        let picture = picture(&title, &found.types, Flow::Right);
        return Ok(([(header::CONTENT_TYPE, "image/svg+xml")], picture).into_response());
    }
    Ok(Json(found).into_response())
}

/// What to check a graph against.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelCheck {
    /// A text with a CREATE GRAPH TYPE; without it the graph's own type.
    #[serde(default)]
    pub model: Option<String>,
}

#[derive(Serialize, ToSchema)]
pub struct ModelReport {
    pub graph: String,
    pub version: u64,
    pub nodes: u64,
    pub edges: u64,
    /// What breaks the model.
    pub violations: Vec<ModelFinding>,
    /// What breaks nothing and may not be meant.
    pub findings: Vec<ModelFinding>,
}

fn stopped(error: GraphError) -> Problem {
    if error.code.0 == "R0001" {
        return Problem::new(StatusCode::SERVICE_UNAVAILABLE, error.message);
    }
    let mut problem = Problem::new(StatusCode::UNPROCESSABLE_ENTITY, error.message);
    problem.code = Some(error.code.0.into());
    problem.hint = error.hint;
    problem
}

/// A new model to look at.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewModelText {
    /// A text with a CREATE GRAPH TYPE; ALTER GRAPH ... RENAME statements before it are followed first.
    pub model: String,
}

/// What a new model would change in a graph, and what in it stands in the way. Nothing is changed.
#[utoipa::path(post, path = "/v1/graphs/{graph}/model/diff", tag = "models", params(("graph" = String, Path)),
    request_body = NewModelText, responses((status = 200, body = ModelDiff), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn diff_model(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Json(request): extract::Json<NewModelText>,
) -> Result<Json<ModelDiff>, Problem> {
    let snapshot = app.graph(&name)?.snapshot();
    let new = declared(&request.model, Some(&name))?;
    let (go_on, entry) = app.look(&name, "what a new model would change");
    let work = move || evolve::prepare(&name, &snapshot, new, &go_on).map(|prepared| prepared.diff);
    let diff = tokio::task::spawn_blocking(work).await?.map_err(stopped)?;
    entry.finish();
    Ok(Json(diff))
}

/// Gives a graph a new model, elements included: in one transaction or not at all.
#[utoipa::path(post, path = "/v1/graphs/{graph}/model/apply", tag = "models", params(("graph" = String, Path)),
    request_body = ModelApplication,
    responses((status = 200, body = ModelApplied), (status = 400, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn apply_model(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Json(request): extract::Json<ModelApplication>,
) -> Result<Json<ModelApplied>, Problem> {
    // In a task of its own: a client that goes away must not leave it half done.
    let work = tokio::spawn(async move { evolve::apply(&app, &name, request).await });
    Ok(Json(work.await??))
}

/// A graph type to read: as text of the language, or as JSON.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelForm {
    #[serde(default)]
    pub text: Option<String>,
    #[serde(default)]
    pub types: Option<ModelTypes>,
    /// The graph whose elements are counted; without one there are none.
    #[serde(default)]
    pub graph: Option<String>,
}

/// A graph type in all forms.
#[derive(Serialize, ToSchema)]
pub struct ModelForms {
    pub text: String,
    pub types: ModelTypes,
    /// A picture (SVG), with the places of the types in `data-kind` and `data-places`.
    pub picture: String,
}

/// Reads a graph type in one form and answers with both. Nothing is kept. What is wrong with one given as
/// JSON is said of its text.
#[utoipa::path(post, path = "/v1/models", tag = "models", request_body = ModelForm,
    responses((status = 200, body = ModelForms), (status = 400, body = Problem)))]
pub async fn read_model(
    State(app): State<Arc<App>>, extract::Json(request): extract::Json<ModelForm>,
) -> Result<Json<ModelForms>, Problem> {
    let snapshot = request.graph.as_deref().map(|name| app.graph(name)).transpose()?.map(|g| g.snapshot());
    let text = match (request.text, request.types) {
        (Some(text), None) => text,
        (None, Some(types)) => types.text(),
        _ => return Err(Problem::bad_request("give the graph type as text or as types")),
    };
    let graph_type = declared(&text, None)?.graph_type;
    let types = types(&graph_type, snapshot.as_deref());
    let picture = picture(&format!("Graph type {}", types.name), &types, Flow::Down);
    Ok(Json(ModelForms { types, text, picture }))
}

/// The JSON Schema of a graph type as JSON.
#[utoipa::path(get, path = "/v1/schemas/graph-type", tag = "models", responses((status = 200, content_type = "application/schema+json", body = Object)))]
pub async fn graph_type_schema() -> impl axum::response::IntoResponse {
    let schema = include_str!("../../../../docs/graph-type.schema.json");
    ([(axum::http::header::CONTENT_TYPE, "application/schema+json")], schema)
}

/// Reports what a graph breaks of a model: counts, examples, what is wrong. Nothing is changed.
#[utoipa::path(post, path = "/v1/graphs/{graph}/model/check", tag = "models", params(("graph" = String, Path)),
    request_body = ModelCheck, responses((status = 200, body = ModelReport), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn check_model(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Json(request): extract::Json<ModelCheck>,
) -> Result<Json<ModelReport>, Problem> {
    let snapshot = app.graph(&name)?.snapshot();
    let graph_type = match (&request.model, &snapshot.graph_type) {
        (Some(text), _) => Arc::new(declared(text, None)?.graph_type),
        (None, Some(own)) => own.clone(),
        (None, None) => {
            return Err(Problem::bad_request(format!(
                "the graph {name} is open: it has no model of its own"
            ))
            .hint("give one to check it against"));
        }
    };
    let (go_on, entry) = app.look(&name, "whether the graph keeps to its model");
    let report = tokio::task::spawn_blocking(move || {
        let broken = violations(&snapshot, &graph_type, &*go_on)?;
        let soft = suspicions(&snapshot, &graph_type, &*go_on)?;
        Ok(ModelReport {
            graph: name,
            version: snapshot.version,
            nodes: snapshot.node_count(),
            edges: snapshot.edge_count(),
            violations: broken.into_iter().map(|finding| model_finding(&snapshot, finding)).collect(),
            findings: soft.into_iter().map(|finding| soft_finding(&snapshot, finding)).collect(),
        })
    });
    let report = report.await?.map_err(stopped)?;
    entry.finish();
    Ok(Json(report))
}

/// What the planner's statistics are of now.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct Analysis {
    pub graph: String,
    pub version: u64,
    /// Whether they were taken anew; false where they were of all elements already.
    pub refreshed: bool,
    /// Elements that had changed since they were taken.
    pub changed: u64,
    pub nodes: u64,
    pub edges: u64,
    pub milliseconds: f64,
}

/// Takes the statistics that plans rest on anew: what changed since they were taken becomes a part of the base. A job,
/// beside readers and writers; the graph's content and version stay as they are.
#[utoipa::path(post, path = "/v1/graphs/{graph}/analyze", tag = "models", params(("graph" = String, Path)),
    responses((status = 200, body = Analysis), (status = 404, body = Problem)))]
pub async fn analyze_graph(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
) -> Result<Json<Analysis>, Problem> {
    let graph = app.graph(&name)?;
    let started = std::time::Instant::now();
    let changed = graph.snapshot().overlay_len() as u64;
    let job = app.start_job("analyze", &name, "statistics").await?;
    job.progress.enter("building");
    let done = graph.fold_now(job.go_on(&app)).await;
    let (state, detail) = match &done {
        Ok(refreshed) => (JobState::Done, json!({ "changed": refreshed, "elements": changed })),
        Err(_) if job.progress.is_cancelled() => (JobState::Cancelled, json!({ "error": "cancelled" })),
        Err(error) => (JobState::Failed, json!({ "error": error.to_string() })),
    };
    job.finish(&app, state, detail).await;
    let refreshed = done?;
    let snapshot = graph.snapshot();
    Ok(Json(Analysis {
        graph: name,
        version: snapshot.version,
        refreshed,
        changed,
        nodes: snapshot.node_count(),
        edges: snapshot.edge_count(),
        milliseconds: started.elapsed().as_secs_f64() * 1e3,
    }))
}

/// A proposed model and load mapping.
#[derive(Serialize, ToSchema)]
pub struct DraftAnswer {
    /// A graph type and a graph of it, with comments.
    pub model: String,
    /// The load mapping (TOML), with comments.
    pub mapping: String,
    /// What a person should look at.
    pub remarks: Vec<String>,
    pub node_types: usize,
    pub edge_types: usize,
}

/// Proposes a model and a load mapping from tables: a field `name` with the graph's name, and a field per
/// table. Nothing is kept.
#[utoipa::path(post, path = "/v1/drafts", tag = "models",
    request_body(content = Object, content_type = "multipart/form-data"),
    responses((status = 200, body = DraftAnswer), (status = 413, body = Problem), (status = 415, body = Problem), (status = 422, body = Problem)))]
pub async fn draft_model(
    State(app): State<Arc<App>>, mut form: Multipart,
) -> Result<Json<DraftAnswer>, Problem> {
    let broken = |e: axum::extract::multipart::MultipartError| Problem::new(e.status(), e.body_text());
    let (mut name, mut tables, mut total) = ("draft".to_string(), vec![], 0);
    while let Some(mut field) = form.next_field().await.map_err(broken)? {
        let file = field.name().unwrap_or_default().to_string();
        if file == "name" {
            name = field.text().await.map_err(broken)?;
            continue;
        }
        let mut bytes = vec![];
        while let Some(chunk) = field.chunk().await.map_err(broken)? {
            total += chunk.len();
            if total > DRAFT_BYTES {
                let limit = DRAFT_BYTES >> 20;
                return Err(Problem::new(
                    StatusCode::PAYLOAD_TOO_LARGE,
                    format!("the tables are larger than {limit} MiB together"),
                )
                .hint("draft from them with the command line: graphodrome model draft"));
            }
            bytes.extend_from_slice(&chunk);
        }
        let format = TableFormat::of_name(&file).unwrap_or(TableFormat::Csv);
        tables.push(DraftTable { file, format, source: Arc::new(Source::Bytes(bytes)), declared: None });
    }
    if tables.is_empty() {
        return Err(Problem::bad_request("the upload has no table").hint("send a field per table"));
    }
    let (_turn, limit) = (app.look_at_tables().await?, app.limits.upload_bytes);
    let made = tokio::task::spawn_blocking(move || draft(&name, &tables, limit)).await?;
    let made = made.map_err(|e| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, e.to_string()))?;
    Ok(Json(DraftAnswer {
        model: made.model,
        mapping: made.mapping,
        remarks: made.remarks,
        node_types: made.node_types,
        edge_types: made.edge_types,
    }))
}
