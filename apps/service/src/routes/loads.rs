//! Starting a load: a mapping and its files as one multipart upload, run as a job.

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Multipart, State};
use axum::http::StatusCode;
use graphodrome_formats::{LoadError, Mapping, Progress, Source, load};
use graphodrome_store::{GraphHandle, JobState, RejectRecord, StoreError};
use serde_json::json;
use utoipa::ToSchema;

use crate::extract;
use crate::problem::Problem;
use crate::routes::jobs::{JobView, view};
use crate::state::{App, Job};

/// Form fields of an upload.
#[derive(ToSchema)]
#[allow(dead_code)] // Describes the form; the fields are read one by one.
pub struct LoadForm {
    /// The mapping as TOML.
    mapping: String,
    /// Each source file in a field of its own, under the name by which the mapping calls it.
    #[schema(format = Binary, content_media_type = "application/octet-stream")]
    file: Vec<u8>,
}

/// Loads tables into a graph. Answers at once with the job; nothing is visible before it is done.
#[utoipa::path(post, path = "/v1/graphs/{graph}/loads", tag = "loads", params(("graph" = String, Path)),
    request_body(content = LoadForm, content_type = "multipart/form-data"),
    responses((status = 202, body = JobView), (status = 400, body = Problem), (status = 404, body = Problem), (status = 413, body = Problem)))]
pub async fn start_load(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>, request: axum::extract::Request,
) -> Result<(StatusCode, Json<JobView>), Problem> {
    let graph = app.graph(&name)?;
    let (mapping, sources) = receive(&app, request).await?;
    let title = mapping.files().join(", ");
    let job = app.start_job("load", &name, &title).await?;
    let answer = view(&job.record, Some(job.running()));
    tokio::spawn(async move {
        let (state, detail) = run(&app, &graph, &job, mapping, sources).await;
        job.finish(&app, state, detail).await;
    });
    Ok((StatusCode::ACCEPTED, Json(answer)))
}

/// Reads the form; files go to the temporary folder, unlinked, and are mapped into memory.
async fn receive(
    app: &App, request: axum::extract::Request,
) -> Result<(Mapping, BTreeMap<String, Arc<Source>>), Problem> {
    use axum::extract::FromRequest;
    let mut form = Multipart::from_request(request, &()).await.map_err(|e| {
        Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, e.body_text())
            .hint("send multipart/form-data with a field mapping and a field per file")
    })?;
    let broken = |e: axum::extract::multipart::MultipartError| Problem::new(e.status(), e.body_text());
    let mut mapping = None;
    let mut sources = BTreeMap::new();
    let mut total = 0u64;
    while let Some(mut field) = form.next_field().await.map_err(broken)? {
        let name = field.name().unwrap_or_default().to_string();
        if name == "mapping" {
            let text = field.text().await.map_err(broken)?;
            mapping = Some(Mapping::parse(&text).map_err(mapping_problem)?);
            continue;
        }
        let spool = |e: std::io::Error| {
            Problem::new(StatusCode::INSUFFICIENT_STORAGE, format!("the upload cannot be kept: {e}"))
        };
        let mut file = tempfile::tempfile().map_err(spool)?;
        let mut length = 0u64;
        while let Some(chunk) = field.chunk().await.map_err(broken)? {
            total += chunk.len() as u64;
            length += chunk.len() as u64;
            if total > app.limits.upload_bytes {
                return Err(Problem::new(
                    StatusCode::PAYLOAD_TOO_LARGE,
                    format!("the upload is larger than the limit of {} MiB", app.limits.upload_bytes >> 20),
                )
                .hint("load it in parts, or start the service with a larger --max-upload-mib"));
            }
            file.write_all(&chunk).map_err(spool)?;
        }
        let source = if length == 0 {
            Source::Bytes(vec![])
        } else {
            // SAFETY: the file is unlinked and ours alone, so nobody can change it under the map.
            Source::Mapped(unsafe { memmap2::Mmap::map(&file) }.map_err(spool)?)
        };
        sources.insert(name, Arc::new(source));
    }
    let mapping = mapping.ok_or_else(|| Problem::bad_request("the upload has no field mapping"))?;
    Ok((mapping, sources))
}

fn mapping_problem(error: graphodrome_formats::MappingError) -> Problem {
    let place = match (error.line, error.column) {
        (Some(line), Some(column)) => format!(" (line {line}, column {column})"),
        _ => String::new(),
    };
    Problem::bad_request(format!("{}{place}", error.message))
}

fn records(rejects: &[graphodrome_formats::Reject]) -> Vec<RejectRecord> {
    rejects
        .iter()
        .map(|r| RejectRecord {
            table: r.table.clone(),
            line: r.line,
            column: r.column.clone(),
            value: r.value.clone(),
            reason: format!("{}: {}", r.rule, r.reason),
            record: r.record.clone(),
        })
        .collect()
}

async fn run(
    app: &App, graph: &Arc<GraphHandle>, job: &Job, mapping: Mapping, sources: BTreeMap<String, Arc<Source>>,
) -> (JobState, serde_json::Value) {
    match work(app, graph, job.record.id, mapping, sources, &job.progress).await {
        Ok(account) => (JobState::Done, account),
        Err(Failure::Cancelled) => {
            (JobState::Cancelled, json!({ "error": "cancelled; nothing was published" }))
        }
        Err(Failure::Failed(message, account)) => {
            (JobState::Failed, json!({ "error": message, "account": account }))
        }
    }
}

enum Failure {
    Cancelled,
    Failed(String, serde_json::Value),
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Failure::Failed(error.to_string(), json!(null))
    }
}

async fn work(
    app: &App, graph: &Arc<GraphHandle>, id: i64, mapping: Mapping, sources: BTreeMap<String, Arc<Source>>,
    progress: &Arc<Progress>,
) -> Result<serde_json::Value, Failure> {
    // One writer a graph: another load or a change waits its turn here.
    let turn = graph.turn().await;
    let snapshot = turn.snapshot();
    let loading = progress.clone();
    let outcome = tokio::task::spawn_blocking(move || load(&mapping, &sources, &snapshot, &loading)).await;
    let outcome = match outcome {
        Ok(Ok(outcome)) => outcome,
        Ok(Err(LoadError::Cancelled)) => return Err(Failure::Cancelled),
        Ok(Err(LoadError::TooManyRejects { rejects, limit, kept, account })) => {
            app.catalog.add_rejects(id, &records(&kept)).await?;
            let message =
                format!("{rejects} rejects are more than the limit of {limit}; nothing was published");
            return Err(Failure::Failed(message, json!(account)));
        }
        Ok(Err(error)) => return Err(Failure::Failed(error.to_string(), json!(null))),
        Err(error) => {
            tracing::error!(%error, "a load stopped");
            return Err(Failure::Failed("the service made a mistake; its log says more".into(), json!(null)));
        }
    };
    if progress.is_cancelled() {
        return Err(Failure::Cancelled);
    }
    let mut account = outcome.account;
    app.catalog.add_rejects(id, &records(&outcome.rejects)).await?;
    progress.enter("writing");
    let started = std::time::Instant::now();
    let mut version = graph.snapshot().version;
    let changed = outcome.parts.is_some();
    if let Some(parts) = outcome.parts {
        version = turn.publish(parts).await?.version;
    }
    account.write_ms = started.elapsed().as_secs_f64() * 1e3;
    Ok(json!({ "account": account, "changed": changed, "version": version }))
}
