//! Jobs: what runs, what ran, cancel, rejects.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use futures::StreamExt;
use graphodrome_formats::{Account, Mapping};
use graphodrome_records::{Job, JobProgress, JobState, Rejects};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::loading::repair;
use crate::problem::Problem;
use crate::running_job::RunningJob;
use crate::state::App;

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

/// A file of rejected rows, ready to be repaired and loaded again.
#[derive(Serialize, ToSchema)]
pub struct RejectFile {
    /// The table the rows are from.
    pub table: String,
    /// What the mapping calls the file.
    pub file: String,
    pub rejects: i64,
}

#[derive(Serialize, ToSchema)]
pub struct RejectFiles {
    pub files: Vec<RejectFile>,
    /// A mapping of these files alone, as TOML.
    pub mapping: String,
}

#[derive(Deserialize, IntoParams)]
pub struct RejectFileParameters {
    /// The table whose rows are wanted.
    pub table: String,
}

/// With how far it is, where it runs.
pub(crate) fn with_progress(job: Job, running: Option<&Arc<RunningJob>>) -> Job {
    let progress = running.filter(|_| job.state == JobState::Running).map(|job| {
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
    Job { progress, ..job }
}

async fn find(app: &App, id: i64) -> Result<Job, Problem> {
    let running = app.jobs.lock().get(&id).cloned();
    let job =
        app.catalog.job(id).await?.ok_or_else(|| Problem::not_found(format!("there is no job {id}")))?;
    Ok(with_progress(job, running.as_ref()))
}

/// The newest 200 jobs.
#[utoipa::path(get, path = "/v1/jobs", tag = "jobs", responses((status = 200, body = Vec<Job>)))]
pub async fn list_jobs(State(app): State<Arc<App>>) -> Result<Json<Vec<Job>>, Problem> {
    let jobs = app.catalog.jobs(200).await?;
    let running = app.jobs.lock();
    let with_progress = |job: Job| {
        let running = running.get(&job.id);
        with_progress(job, running)
    };
    Ok(Json(jobs.into_iter().map(with_progress).collect()))
}

/// One job; waits for its end if asked to.
#[utoipa::path(get, path = "/v1/jobs/{job}", tag = "jobs", params(("job" = i64, Path), JobParameters),
    responses((status = 200, body = Job), (status = 404, body = Problem)))]
pub async fn show_job(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<i64>,
    extract::Query(parameters): extract::Query<JobParameters>,
) -> Result<Json<Job>, Problem> {
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
    responses((status = 200, body = Job), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn cancel_job(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<i64>,
) -> Result<Json<Job>, Problem> {
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
    let (total, rejects) = app.catalog.rejects(id, parameters.offset.unwrap_or(0), limit).await?;
    let wants_csv =
        headers.get(header::ACCEPT).and_then(|a| a.to_str().ok()).is_some_and(|a| a.contains("text/csv"));
    if wants_csv {
        let mut text = String::from("table,line,column,value,kind,reason,record\r\n");
        for r in rejects {
            let fields = [
                r.table,
                r.line.to_string(),
                r.column.unwrap_or_default(),
                r.value.unwrap_or_default(),
                r.kind.name().into(),
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
    Ok(Json(Rejects { total, rejects }).into_response())
}

/// The mapping and the account of a load that is over.
async fn finished_load(app: &App, id: i64) -> Result<(Mapping, Account), Problem> {
    let job = find(app, id).await?;
    let mapping = job.detail["mapping"].as_str().and_then(|text| Mapping::parse(text).ok());
    let account = serde_json::from_value(job.detail["account"].clone()).ok();
    mapping.zip(account).ok_or_else(|| {
        Problem::new(StatusCode::CONFLICT, format!("job {id} is no load that has read its tables"))
    })
}

/// The files in which a load's rejects come back, and the mapping to load them with.
#[utoipa::path(get, path = "/v1/jobs/{job}/rejects/files", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 200, body = RejectFiles), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn reject_files(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<i64>,
) -> Result<Json<RejectFiles>, Problem> {
    let (mapping, account) = finished_load(&app, id).await?;
    let counts = app.catalog.rejected_tables(id).await?;
    let tables = repair::tables(&mapping, &account.tables);
    let file = |(table, rejects): &(String, i64)| {
        let file = tables.get(table).and_then(|made| made.first()).map(|made| made.file.clone())?;
        Some(RejectFile { table: table.clone(), file, rejects: *rejects })
    };
    let files = counts.iter().filter_map(file).collect();
    let names: Vec<String> = counts.iter().map(|(table, _)| table.clone()).collect();
    Ok(Json(RejectFiles { files, mapping: repair::mapping(&mapping, &account.tables, &names) }))
}

/// The rejected rows of one table as they were, with what was wrong before them.
#[utoipa::path(get, path = "/v1/jobs/{job}/rejects/rows", tag = "jobs", params(("job" = i64, Path), RejectFileParameters),
    responses((status = 200, content_type = "text/csv", body = String), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn reject_rows(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<i64>,
    extract::Query(parameters): extract::Query<RejectFileParameters>,
) -> Result<Response, Problem> {
    let (mapping, account) = finished_load(&app, id).await?;
    let tables = repair::tables(&mapping, &account.tables);
    let made = tables
        .get(&parameters.table)
        .and_then(|made| made.first())
        .ok_or_else(|| Problem::not_found(format!("job {id} read no table {}", parameters.table)))?;
    let rejects = app.catalog.rejects_of(id, &parameters.table).await?;
    let kind = if made.file.ends_with(".jsonl") { "application/x-ndjson" } else { "text/csv; charset=utf-8" };
    let name = made.file.rsplit('/').next().unwrap_or(&made.file).replace('"', "_");
    let headers = [
        (header::CONTENT_TYPE, kind.to_string()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
    ];
    Ok((headers, repair::rows(made, &rejects)).into_response())
}

/// Between two events of a job that runs.
const EVENT_EVERY: Duration = Duration::from_millis(250);

fn event(name: &str, job: &Job) -> Event {
    Event::default().event(name).id(job.id.to_string()).json_data(job).unwrap_or_default()
}

/// A job as it runs, as server-sent events: `progress` while it does, `end` when it is over.
#[utoipa::path(get, path = "/v1/jobs/{job}/events", tag = "jobs", params(("job" = i64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = String), (status = 404, body = Problem)))]
pub async fn job_events(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<i64>,
) -> Result<Response, Problem> {
    let first = find(&app, id).await?;
    let stream = futures::stream::unfold(Some((app, Some(first))), move |state| async move {
        let (app, first) = state?;
        let job = match first {
            Some(job) => job,
            None => {
                let running = app.jobs.lock().get(&id).cloned();
                if let Some(running) = running {
                    let mut done = running.done.clone();
                    // Both outcomes are told as the job is then.
                    let _ = tokio::time::timeout(EVENT_EVERY, done.wait_for(|d| *d)).await;
                }
                find(&app, id).await.ok()?
            }
        };
        let over = job.state != JobState::Running || app.is_stopping();
        let told = event(if over { "end" } else { "progress" }, &job);
        Some((Ok::<_, std::convert::Infallible>(told), (!over).then_some((app, None))))
    });
    Ok(Sse::new(stream).keep_alive(KeepAlive::default()).into_response())
}

/// All jobs as they come, run and end, as server-sent events: `progress` and `end`, each with its job.
#[utoipa::path(get, path = "/v1/jobs/events", tag = "jobs",
    responses((status = 200, content_type = "text/event-stream", body = String)))]
pub async fn all_job_events(State(app): State<Arc<App>>) -> Response {
    let news = app.job_news.subscribe();
    let stream = futures::stream::unfold((app, news), |(app, mut news)| async move {
        // What begins and ends is told at once, what runs now and then.
        let told = tokio::time::timeout(EVENT_EVERY, news.recv()).await;
        if app.is_stopping() {
            return None;
        }
        let mut ids: Vec<i64> = app.jobs.lock().keys().copied().collect();
        if let Ok(Ok(id)) = told
            && !ids.contains(&id)
        {
            ids.push(id);
        }
        let mut events = vec![];
        for id in ids {
            if let Ok(job) = find(&app, id).await {
                let over = job.state != JobState::Running;
                events.push(Ok::<_, std::convert::Infallible>(event(
                    if over { "end" } else { "progress" },
                    &job,
                )));
            }
        }
        Some((futures::stream::iter(events), (app, news)))
    });
    Sse::new(stream.flatten()).keep_alive(KeepAlive::default()).into_response()
}
