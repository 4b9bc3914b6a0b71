//! Backups of graphs, piece by piece: a version is retained while its backup is taken, segments and log are read as
//! stored, and a restore builds a graph from them.

use std::sync::Arc;
use std::time::Instant;

use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use futures::{StreamExt, TryStreamExt};
use graphodrome_store::{BackupManifest, LogEntry, Moment};
use http_body_util::{BodyExt, Limited};
use serde::{Deserialize, Serialize};
use tokio::io::AsyncBufReadExt;
use utoipa::{IntoParams, ToSchema};

use super::versions::Restored;
use crate::backups::{Making, Taking};
use crate::extract;
use crate::problem::Problem;
use crate::run::moment;
use crate::state::App;

/// Bytes of a segment, and of entries sent at once.
const MOST_BYTES: usize = 1 << 30;

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BackupRequest {
    pub graph: String,
    /// The version; the newest where neither this nor a time is given.
    #[serde(default)]
    pub version: Option<u64>,
    #[serde(default)]
    pub timestamp: Option<String>,
}

#[derive(Serialize, ToSchema)]
pub struct BackupView {
    pub id: u64,
    /// What the version is made of: the base with its segments, and the entries of the log above it.
    #[schema(value_type = Object)]
    pub manifest: BackupManifest,
}

/// Begins a backup of a version of a graph: what it is made of stays until the backup is ended, or for ten minutes after
/// the last request for it.
#[utoipa::path(post, path = "/v1/backups", tag = "backups", request_body = BackupRequest,
    responses((status = 201, body = BackupView), (status = 404, body = Problem)))]
pub async fn begin_backup(
    State(app): State<Arc<App>>, extract::Json(asked): extract::Json<BackupRequest>,
) -> Result<(StatusCode, Json<BackupView>), Problem> {
    let graph = app.graph(&asked.graph)?;
    let id = app.backups.number()?;
    let newest = Moment::Version(graph.snapshot().version);
    let moment = moment(asked.version, asked.timestamp.as_deref())?.unwrap_or(newest);
    let kept = Arc::new(graph.keep_version(moment).await?);
    let manifest = Arc::new(app.catalog.backup_manifest(&graph, &kept).await?);
    let taking = Taking { graph, kept, manifest: manifest.clone(), used: Instant::now() };
    app.backups.taking.lock().insert(id, taking);
    Ok((StatusCode::CREATED, Json(BackupView { id, manifest: (*manifest).clone() })))
}

/// The bytes of a segment as they are stored; the last four are the CRC-32 of those before.
#[utoipa::path(get, path = "/v1/backups/{backup}/segments/{segment}", tag = "backups",
    params(("backup" = u64, Path), ("segment" = i64, Path)),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 404, body = Problem)))]
pub async fn backup_segment(
    State(app): State<Arc<App>>, extract::Path((id, segment)): extract::Path<(u64, i64)>,
) -> Result<Response, Problem> {
    let Taking { graph, kept: _kept, manifest, .. } = app.backups.taken(id)?;
    if !manifest.segments.contains(&segment) {
        return Err(Problem::not_found(format!("segment {segment} does not belong to backup {id}")));
    }
    let data = graph.stored_segment(segment).await?;
    Ok(([(header::CONTENT_TYPE, "application/octet-stream")], data).into_response())
}

#[derive(Deserialize, IntoParams)]
pub struct LogParameters {
    /// Only entries after this version; those above the base where it is not given.
    pub after_version: Option<u64>,
}

/// The entries of the log up to the version, as JSON Lines: `version`, `format`, `at`, `origin`, `nodes`, `edges`, `checksum`
/// (CRC-32) and `changes` in Base64.
#[utoipa::path(get, path = "/v1/backups/{backup}/log", tag = "backups", params(("backup" = u64, Path), LogParameters),
    responses((status = 200, content_type = "application/x-ndjson", body = String), (status = 404, body = Problem)))]
pub async fn backup_log(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<u64>,
    extract::Query(asked): extract::Query<LogParameters>,
) -> Result<Response, Problem> {
    let Taking { graph, kept, manifest, .. } = app.backups.taken(id)?;
    let after = asked.after_version.unwrap_or(0).max(manifest.base.version);
    let lines = futures::stream::try_unfold((graph, kept, after), |(graph, kept, after)| async move {
        let entries = graph.log_entries(after, kept.version).await.map_err(std::io::Error::other)?;
        let Some(last) = entries.last().map(|entry| entry.version) else { return Ok(None) };
        let mut lines = vec![];
        for entry in &entries {
            serde_json::to_writer(&mut lines, entry)?;
            lines.push(b'\n');
        }
        Ok::<_, std::io::Error>(Some((Bytes::from(lines), (graph, kept, last))))
    });
    Ok(([(header::CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(lines.fuse())).into_response())
}

/// Ends a backup: what its version needs may go when its time has come.
#[utoipa::path(delete, path = "/v1/backups/{backup}", tag = "backups", params(("backup" = u64, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn end_backup(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<u64>,
) -> Result<StatusCode, Problem> {
    app.backups.taken(id)?;
    app.backups.taking.lock().remove(&id);
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RestoreBegin {
    /// The name that the graph is to have.
    pub graph: String,
    #[schema(value_type = Object)]
    pub manifest: BackupManifest,
}

#[derive(Serialize, ToSchema)]
pub struct RestoreView {
    pub id: u64,
}

/// Begins to make a graph out of a backup. Nothing of it is seen before it is finished.
#[utoipa::path(post, path = "/v1/restores", tag = "backups", request_body = RestoreBegin,
    responses((status = 201, body = RestoreView), (status = 409, body = Problem)))]
pub async fn begin_restore(
    State(app): State<Arc<App>>, extract::Json(asked): extract::Json<RestoreBegin>,
) -> Result<(StatusCode, Json<RestoreView>), Problem> {
    let id = app.backups.number()?;
    let restoring = app.catalog.begin_restoring(asked.manifest, &asked.graph).await?;
    let restoring = Arc::new(tokio::sync::Mutex::new(Some(restoring)));
    app.backups.making.lock().insert(id, Making { restoring, used: Instant::now() });
    Ok((StatusCode::CREATED, Json(RestoreView { id })))
}

fn over() -> Problem {
    Problem::new(StatusCode::CONFLICT, "the restore has ended")
}

/// Adds a segment, with the number that it has in the backup.
#[utoipa::path(put, path = "/v1/restores/{restore}/segments/{segment}", tag = "backups",
    params(("restore" = u64, Path), ("segment" = i64, Path)),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn restore_segment(
    State(app): State<Arc<App>>, extract::Path((id, segment)): extract::Path<(u64, i64)>,
    request: axum::extract::Request,
) -> Result<StatusCode, Problem> {
    let made = app.backups.made(id)?;
    let data = axum::body::to_bytes(request.into_body(), MOST_BYTES).await;
    let data = data.map_err(|e| Problem::bad_request(format!("the segment could not be read: {e}")))?;
    let mut restoring = made.lock().await;
    restoring.as_mut().ok_or_else(over)?.add_segment(&app.catalog, segment, data.into()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Adds entries of the log, in order, as JSON Lines as a backup has them.
#[utoipa::path(put, path = "/v1/restores/{restore}/log", tag = "backups", params(("restore" = u64, Path)),
    request_body(content = String, content_type = "application/x-ndjson"),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn restore_log(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<u64>, request: axum::extract::Request,
) -> Result<StatusCode, Problem> {
    let made = app.backups.made(id)?;
    let mut restoring = made.lock().await;
    let restoring = restoring.as_mut().ok_or_else(over)?;
    let body =
        Limited::new(request.into_body(), MOST_BYTES).into_data_stream().map_err(std::io::Error::other);
    let mut lines = tokio_util::io::StreamReader::new(body).lines();
    let unreadable =
        |e: &dyn std::fmt::Display| Problem::bad_request(format!("the log could not be read: {e}"));
    while let Some(line) = lines.next_line().await.map_err(|e| unreadable(&e))? {
        let entry: LogEntry = serde_json::from_str(&line).map_err(|e| unreadable(&e))?;
        restoring.add_entry(&app.catalog, entry).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Makes the graph out of what was added, and opens it.
#[utoipa::path(post, path = "/v1/restores/{restore}", tag = "backups", params(("restore" = u64, Path)),
    responses((status = 200, body = Restored), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn finish_restore(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<u64>,
) -> Result<Json<Restored>, Problem> {
    let made = app.backups.made(id)?;
    let restoring = made.lock().await.take().ok_or_else(over)?;
    app.backups.making.lock().remove(&id);
    // In a task of its own: a client that goes away must not leave it half done.
    let finishing = app.clone();
    let work = tokio::spawn(async move { finishing.catalog.finish_restoring(restoring).await });
    let graph = work.await??;
    let snapshot = graph.snapshot();
    Ok(Json(Restored {
        graph: graph.name.clone(),
        restored: snapshot.version,
        version: snapshot.version,
        nodes: snapshot.node_count(),
        edges: snapshot.edge_count(),
    }))
}

/// Gives a restore up: what was added of it is removed.
#[utoipa::path(delete, path = "/v1/restores/{restore}", tag = "backups", params(("restore" = u64, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn give_up_restore(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<u64>,
) -> Result<StatusCode, Problem> {
    let made = app.backups.made(id)?;
    app.backups.making.lock().remove(&id);
    if let Some(restoring) = made.lock().await.take() {
        restoring.give_up(&app.catalog).await;
    }
    Ok(StatusCode::NO_CONTENT)
}
