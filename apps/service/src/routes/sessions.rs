//! Sessions.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::extract;
use crate::problem::Problem;
use crate::sessions::SessionInfo;
use crate::state::App;

#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSession {
    /// The graph of its queries, where they name no other.
    #[serde(default)]
    pub graph: Option<String>,
}

/// Opens a session: queries that name it share a graph, parameters and transactions.
#[utoipa::path(post, path = "/v1/sessions", tag = "sessions", request_body = NewSession,
    responses((status = 201, body = SessionInfo), (status = 404, body = Problem), (status = 429, body = Problem)))]
pub async fn open_session(
    State(app): State<Arc<App>>, extract::Json(new): extract::Json<NewSession>,
) -> Result<(StatusCode, Json<SessionInfo>), Problem> {
    if let Some(name) = &new.graph {
        app.graph(name)?;
    }
    let id = app.sessions.open(new.graph)?;
    Ok((StatusCode::CREATED, Json(app.sessions.info(&id).await?)))
}

/// What a session keeps.
#[utoipa::path(get, path = "/v1/sessions/{id}", tag = "sessions", params(("id" = String, Path)),
    responses((status = 200, body = SessionInfo), (status = 404, body = Problem)))]
pub async fn show_session(
    State(app): State<Arc<App>>, Path(id): Path<String>,
) -> Result<Json<SessionInfo>, Problem> {
    Ok(Json(app.sessions.info(&id).await?))
}

/// Closes a session; a transaction that is open is rolled back.
#[utoipa::path(delete, path = "/v1/sessions/{id}", tag = "sessions", params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn close_session(
    State(app): State<Arc<App>>, Path(id): Path<String>,
) -> Result<StatusCode, Problem> {
    app.sessions.info(&id).await?;
    app.sessions.close(&id);
    Ok(StatusCode::NO_CONTENT)
}
