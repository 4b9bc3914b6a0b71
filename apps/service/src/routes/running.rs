//! Running queries and jobs.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;

use crate::extract;
use crate::problem::Problem;
use crate::running::RunningInfo;
use crate::state::App;

/// Queries, profiles, exports and other long requests that run now, the oldest first. Loads and other work in the
/// background are jobs: `GET /v1/jobs`.
#[utoipa::path(get, path = "/v1/running", tag = "runs", responses((status = 200, body = Vec<RunningInfo>)))]
pub async fn list_running(State(app): State<Arc<App>>) -> Json<Vec<RunningInfo>> {
    Json(app.running.list())
}

/// Cancels a running request: it ends at its next look at the clock, and its client is told.
#[utoipa::path(delete, path = "/v1/running/{id}", tag = "runs", params(("id" = u64, Path)),
    responses((status = 202), (status = 404, body = Problem)))]
pub async fn cancel_running(
    State(app): State<Arc<App>>, extract::Path(id): extract::Path<u64>,
) -> Result<StatusCode, Problem> {
    if app.running.cancel(id) {
        return Ok(StatusCode::ACCEPTED);
    }
    Err(Problem::not_found(format!("nothing runs under the number {id}"))
        .hint("it may have come to its end; GET /v1/running lists what runs"))
}
