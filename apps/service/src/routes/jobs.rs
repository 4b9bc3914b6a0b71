//! Jobs: what runs, what ran, cancel, rejects.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use graphodrome_store::JobRecord;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::problem::Problem;
use crate::state::{App, RunningJob};

/// How far a running job is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobProgress {
    /// waiting, reading, resolving keys, building, writing.
    pub phase: String,
    pub bytes_read: u64,
    pub bytes_total: u64,
    pub rows_read: u64,
    pub elapsed_ms: u64,
    /// From the bytes read so far; absent before there are any.
    pub left_ms: Option<u64>,
}

#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobView {
    pub id: i64,
    pub kind: String,
    pub graph: String,
    /// running, done, failed or cancelled.
    pub state: String,
    /// What it works on: the files of a load.
    pub title: String,
    pub started: String,
    pub finished: Option<String>,
    /// While it runs.
    pub progress: Option<JobProgress>,
    /// Of a finished load: `account`, `changed`, `version`; of a failed one: `error`.
    #[schema(value_type = Object)]
    pub detail: serde_json::Value,
}

#[derive(Deserialize, IntoParams)]
pub struct JobParameters {
    /// Wait this long for the job to end before answering, at most 30,000 ms.
    pub wait_ms: Option<u64>,
}

#[derive(Deserialize, IntoParams)]
pub struct RejectParameters {
    pub offset: Option<u64>,
    /// At most 10,000.
    pub limit: Option<u64>,
}

#[derive(Serialize, ToSchema)]
pub struct RejectView {
    pub table: String,
    /// Line of the file, from 1.
    pub line: u64,
    pub column: Option<String>,
    pub value: Option<String>,
    pub reason: String,
    /// The row as it stood in the file.
    pub record: String,
}

#[derive(Serialize, ToSchema)]
pub struct Rejects {
    pub total: u64,
    pub rejects: Vec<RejectView>,
}

pub(crate) fn view(record: &JobRecord, running: Option<&Arc<RunningJob>>) -> JobView {
    let progress = running.map(|job| {
        let p = &job.progress;
        let (read, total) = (p.bytes_read.load(Ordering::Relaxed), p.bytes_total.load(Ordering::Relaxed));
        let elapsed_ms = job.started.elapsed().as_millis() as u64;
        JobProgress {
            phase: p.phase().into(),
            bytes_read: read,
            bytes_total: total,
            rows_read: p.rows_read.load(Ordering::Relaxed),
            elapsed_ms,
            left_ms: (read > 0).then(|| elapsed_ms * total.saturating_sub(read) / read),
        }
    });
    JobView {
        id: record.id,
        kind: record.kind.clone(),
        graph: record.graph.clone(),
        state: record.state.clone(),
        title: record.title.clone(),
        started: record.started.clone(),
        finished: record.finished.clone(),
        progress,
        detail: record.detail.clone(),
    }
}

async fn find(app: &App, id: i64) -> Result<JobView, Problem> {
    let running = app.jobs.lock().get(&id).cloned();
    let record =
        app.catalog.job(id).await?.ok_or_else(|| Problem::not_found(format!("there is no job {id}")))?;
    Ok(view(&record, running.as_ref().filter(|_| record.state == "running")))
}

/// The newest 200 jobs.
#[utoipa::path(get, path = "/v1/jobs", tag = "jobs", responses((status = 200, body = Vec<JobView>)))]
pub async fn list_jobs(State(app): State<Arc<App>>) -> Result<Json<Vec<JobView>>, Problem> {
    let records = app.catalog.jobs(200).await?;
    let running = app.jobs.lock();
    Ok(Json(records.iter().map(|r| view(r, running.get(&r.id).filter(|_| r.state == "running"))).collect()))
}

/// One job; waits for its end if asked to.
#[utoipa::path(get, path = "/v1/jobs/{job}", tag = "jobs", params(("job" = i64, Path), JobParameters),
    responses((status = 200, body = JobView), (status = 404, body = Problem)))]
pub async fn show_job(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<i64>,
    extract::Query(parameters): extract::Query<JobParameters>,
) -> Result<Json<JobView>, Problem> {
    let running = app.jobs.lock().get(&id).cloned();
    if let (Some(running), Some(wait)) = (running, parameters.wait_ms) {
        let mut done = running.done.clone();
        let wait = Duration::from_millis(wait.min(30_000));
        // Both outcomes are answered with the job as it is then.
        let _ = tokio::time::timeout(wait, done.wait_for(|d| *d)).await;
    }
    Ok(Json(find(&app, id).await?))
}

/// Cancels a running job; nothing of it is published.
#[utoipa::path(delete, path = "/v1/jobs/{job}", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 200, body = JobView), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn cancel_job(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<i64>,
) -> Result<Json<JobView>, Problem> {
    let running = app.jobs.lock().get(&id).cloned();
    let Some(running) = running else {
        let job = find(&app, id).await?;
        return Err(Problem::new(
            axum::http::StatusCode::CONFLICT,
            format!("job {id} is {} already", job.state),
        ));
    };
    running.progress.cancel();
    let mut done = running.done.clone();
    let _ = tokio::time::timeout(Duration::from_secs(10), done.wait_for(|d| *d)).await;
    Ok(Json(find(&app, id).await?))
}

/// The rows that a load could not take, as JSON or (`Accept: text/csv`) as CSV.
#[utoipa::path(get, path = "/v1/jobs/{job}/rejects", tag = "jobs", params(("job" = i64, Path), RejectParameters),
    responses((status = 200, body = Rejects), (status = 404, body = Problem)))]
pub async fn job_rejects(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<i64>,
    extract::Query(parameters): extract::Query<RejectParameters>, headers: HeaderMap,
) -> Result<Response, Problem> {
    find(&app, id).await?;
    let limit = parameters.limit.unwrap_or(1_000).min(10_000);
    let (total, records) = app.catalog.rejects(id, parameters.offset.unwrap_or(0), limit).await?;
    let wants_csv =
        headers.get(header::ACCEPT).and_then(|a| a.to_str().ok()).is_some_and(|a| a.contains("text/csv"));
    if wants_csv {
        let mut text = String::from("table,line,column,value,reason,record\r\n");
        for r in records {
            let fields = [
                r.table,
                r.line.to_string(),
                r.column.unwrap_or_default(),
                r.value.unwrap_or_default(),
                r.reason,
                r.record,
            ];
            let quoted: Vec<String> =
                fields.iter().map(|f| format!("\"{}\"", f.replace('"', "\"\""))).collect();
            text.push_str(&quoted.join(","));
            text.push_str("\r\n");
        }
        return Ok(([(header::CONTENT_TYPE, "text/csv; charset=utf-8")], text).into_response());
    }
    let rejects = records
        .into_iter()
        .map(|r| RejectView {
            table: r.table,
            line: r.line,
            column: r.column,
            value: r.value,
            reason: r.reason,
            record: r.record,
        })
        .collect();
    Ok(Json(Rejects { total, rejects }).into_response())
}
