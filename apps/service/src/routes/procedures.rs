//! User procedures: upload, list, and select the active version.

use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::measures;
use graphodrome_modules::ModuleLimits;
use graphodrome_store::{NewProcedure, ProcedureRecord};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::problem::Problem;
use crate::state::App;
use crate::who;

/// A version of a procedure.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ProcedureInfo {
    pub name: String,
    pub version: i64,
    /// Whether it is the one that is called.
    pub current: bool,
    /// What it says of itself: `name(argument TYPE, ...) YIELD column TYPE, ...`.
    pub signature: String,
    pub description: String,
    pub bytes: u64,
    /// What a call may use.
    pub steps: u64,
    pub memory_mib: u64,
    pub seconds: f64,
    /// The graphs that it may be called over; null: all.
    pub graphs: Option<Vec<String>>,
    /// RFC 3339.
    pub uploaded: String,
    pub uploaded_by: String,
}

impl From<ProcedureRecord> for ProcedureInfo {
    fn from(record: ProcedureRecord) -> Self {
        ProcedureInfo {
            name: record.name,
            version: record.version,
            current: record.current,
            signature: record.signature,
            description: record.about,
            bytes: record.bytes,
            steps: record.steps,
            memory_mib: record.memory_bytes >> 20,
            seconds: record.time_ms as f64 / 1e3,
            graphs: record.graphs,
            uploaded: record.uploaded,
            uploaded_by: record.uploaded_by,
        }
    }
}

#[derive(Debug, Deserialize, IntoParams)]
pub struct UploadParameters {
    /// Steps that a call may take, about one an instruction; 100,000,000,000 unless given.
    pub steps: Option<u64>,
    /// MiB that a call may hold; 1,024 unless given. The query's own limit holds as well.
    pub memory_mib: Option<u64>,
    /// Seconds that a call may run; 60 unless given. The query's own limit holds as well.
    pub seconds: Option<f64>,
    /// The graphs that it may be called over, with commas between; all unless given.
    pub graphs: Option<String>,
}

/// The longest time that can be given.
const MOST_SECONDS: f64 = 86_400.0;
/// The most memory that a module can address.
const MOST_MIB: u64 = 4_096;

fn limits(asked: &UploadParameters) -> Result<ModuleLimits, Problem> {
    let usual = ModuleLimits::default();
    let seconds = asked.seconds.unwrap_or(usual.time.as_secs_f64());
    if !(0.001..=MOST_SECONDS).contains(&seconds) {
        return Err(Problem::bad_request(format!(
            "seconds is {seconds}: it is from 0.001 to {MOST_SECONDS}"
        )));
    }
    let memory = asked.memory_mib.unwrap_or(usual.memory_bytes >> 20);
    if !(1..=MOST_MIB).contains(&memory) {
        return Err(Problem::bad_request(format!("memory_mib is {memory}: it is from 1 to {MOST_MIB}")));
    }
    let steps = asked.steps.unwrap_or(usual.steps);
    if steps == 0 || i64::try_from(steps).is_err() {
        return Err(Problem::bad_request(format!("steps is {steps}: it is from 1 to {}", i64::MAX)));
    }
    Ok(ModuleLimits { steps, memory_bytes: memory << 20, time: Duration::from_secs_f64(seconds) })
}

async fn versions(app: &App, name: &str) -> Result<Vec<ProcedureRecord>, Problem> {
    let found = app.catalog.procedure_versions(name).await?;
    if !found.is_empty() {
        return Ok(found);
    }
    let all = app.catalog.procedures().await?;
    let near = graphodrome_language::nearest(name, all.iter().map(|(p, _)| p.name.as_str()));
    let problem = Problem::not_found(format!("there is no procedure {name}"));
    Err(match near {
        Some(near) => problem.hint(format!("did you mean {near}?")),
        None => problem.hint("GET /v1/procedures lists them; GET /v1/measures lists the measures"),
    })
}

/// All procedures of one's own that can be called, by name.
#[utoipa::path(get, path = "/v1/procedures", tag = "procedures", responses((status = 200, body = Vec<ProcedureInfo>)))]
pub async fn list_procedures(State(app): State<Arc<App>>) -> Result<Json<Vec<ProcedureInfo>>, Problem> {
    Ok(Json(app.catalog.procedures().await?.into_iter().map(|(record, _)| record.into()).collect()))
}

/// Uploads a WebAssembly module as a procedure; its signature says its name. From then on this version is called.
#[utoipa::path(post, path = "/v1/procedures", tag = "procedures", params(UploadParameters),
    request_body(content = Vec<u8>, content_type = "application/wasm"),
    responses((status = 200, body = ProcedureInfo), (status = 400, body = Problem), (status = 409, body = Problem),
    (status = 413, body = Problem), (status = 422, body = Problem)))]
pub async fn add_procedure(
    State(app): State<Arc<App>>, extract::Query(asked): extract::Query<UploadParameters>, body: Bytes,
) -> Result<Json<ProcedureInfo>, Problem> {
    let limits = limits(&asked)?;
    let names = asked.graphs.as_ref().map(|all| all.split(',').map(str::trim).filter(|g| !g.is_empty()));
    let graphs: Option<Vec<String>> = names.map(|all| all.map(str::to_string).collect());
    for graph in graphs.iter().flatten() {
        app.graph(graph)?;
    }
    let module = app.module(body.to_vec(), limits).await?;
    let signature = module.signature().clone();
    let name = signature.procedure.name;
    let conflict = |text: String| Problem::new(StatusCode::CONFLICT, text);
    if measures().iter().any(|measure| measure.name == name) {
        return Err(conflict(format!("there is a measure {name}")).hint("give the procedure another name"));
    }
    if app.catalog.saved_query(name).await?.is_some() {
        return Err(
            conflict(format!("there is a saved query {name}")).hint("give the procedure another name")
        );
    }
    let record = app
        .catalog
        .add_procedure(NewProcedure {
            name: name.into(),
            module: body.to_vec(),
            signature: signature.text.clone(),
            about: signature.procedure.about.into(),
            steps: limits.steps,
            memory_bytes: limits.memory_bytes,
            time_ms: limits.time.as_millis() as u64,
            graphs,
            uploaded_by: who::client().to_string(),
        })
        .await?;
    app.read_procedures().await?;
    Ok(Json(record.into()))
}

/// The versions of a procedure, the newest first.
#[utoipa::path(get, path = "/v1/procedures/{name}", tag = "procedures", params(("name" = String, Path)),
    responses((status = 200, body = Vec<ProcedureInfo>), (status = 404, body = Problem)))]
pub async fn show_procedure(
    State(app): State<Arc<App>>, Path(name): Path<String>,
) -> Result<Json<Vec<ProcedureInfo>>, Problem> {
    Ok(Json(versions(&app, &name).await?.into_iter().map(ProcedureInfo::from).collect()))
}

/// Forgets every version of a procedure.
#[utoipa::path(delete, path = "/v1/procedures/{name}", tag = "procedures", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove_procedure(
    State(app): State<Arc<App>>, Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    if !app.catalog.remove_procedure(&name).await? {
        versions(&app, &name).await?;
    }
    app.read_procedures().await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UseRequest {
    pub version: i64,
}

/// Makes a version the one that is called.
#[utoipa::path(put, path = "/v1/procedures/{name}/version", tag = "procedures", params(("name" = String, Path)),
    request_body = UseRequest, responses((status = 200, body = ProcedureInfo), (status = 404, body = Problem)))]
pub async fn use_procedure(
    State(app): State<Arc<App>>, Path(name): Path<String>, extract::Json(asked): extract::Json<UseRequest>,
) -> Result<Json<ProcedureInfo>, Problem> {
    let there = versions(&app, &name).await?;
    if !app.catalog.use_procedure(&name, asked.version).await? {
        let known: Vec<String> = there.iter().map(|record| record.version.to_string()).collect();
        return Err(Problem::not_found(format!("the procedure {name} has no version {}", asked.version))
            .hint(format!("it has {}", known.join(", "))));
    }
    app.read_procedures().await?;
    let record = versions(&app, &name).await?.into_iter().find(|record| record.current);
    record.map(|record| Json(record.into())).ok_or_else(|| Problem::not_found("the procedure is gone"))
}

#[derive(Debug, Deserialize, IntoParams)]
pub struct ModuleParameters {
    /// The one that is called unless given.
    pub version: Option<i64>,
}

/// The module as it was uploaded.
#[utoipa::path(get, path = "/v1/procedures/{name}/module", tag = "procedures",
    params(("name" = String, Path), ModuleParameters),
    responses((status = 200, body = Vec<u8>, content_type = "application/wasm"), (status = 404, body = Problem)))]
pub async fn procedure_module(
    State(app): State<Arc<App>>, Path(name): Path<String>,
    extract::Query(asked): extract::Query<ModuleParameters>,
) -> Result<Response, Problem> {
    let Some(module) = app.catalog.procedure_module(&name, asked.version).await? else {
        versions(&app, &name).await?;
        return Err(Problem::not_found(format!("the procedure {name} has no such version")));
    };
    Ok(([(header::CONTENT_TYPE, "application/wasm")], module).into_response())
}
