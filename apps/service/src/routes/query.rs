//! Query, plan, profile.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_formats::ResultFormat;

use crate::extract;
use crate::problem::Problem;
use crate::run::{self, PlanAnswer, PlanRequest, ProfileAnswer, ProfileRequest, QueryRequest};
use crate::state::App;

/// Where queries are asked.
pub(crate) const QUERY: &str = "/v1/query";

/// The format the client accepts first.
pub(crate) fn accepted(headers: &HeaderMap) -> Result<ResultFormat, Problem> {
    let Some(accept) = headers.get(header::ACCEPT).and_then(|a| a.to_str().ok()) else {
        return Ok(ResultFormat::Json);
    };
    for part in accept.split(',') {
        let found = match part.split(';').next().unwrap_or("").trim() {
            "application/json" | "application/*" | "*/*" | "" => ResultFormat::Json,
            "application/x-ndjson" => ResultFormat::Ndjson,
            "text/csv" => ResultFormat::Csv,
            "application/vnd.apache.arrow.stream" => ResultFormat::Arrow,
            _ => continue,
        };
        return Ok(found);
    }
    Err(Problem::new(StatusCode::NOT_ACCEPTABLE, format!("no result format for {accept}"))
        .hint("application/json, application/x-ndjson, text/csv or application/vnd.apache.arrow.stream"))
}

/// Runs a text of the language. The result comes in the format that the Accept header names.
#[utoipa::path(post, path = "/v1/query", tag = "queries", request_body = QueryRequest, responses(
    (status = 200, description = "Columns, rows, summary and warnings as JSON; rows alone in the other formats",
        content((Object = "application/json"), (String = "application/x-ndjson"), (String = "text/csv"), (Vec<u8> = "application/vnd.apache.arrow.stream"))),
    (status = 400, body = Problem), (status = 404, body = Problem), (status = 406, body = Problem),
    (status = 413, body = Problem), (status = 415, body = Problem), (status = 422, body = Problem)))]
pub async fn run_query(
    State(app): State<Arc<App>>, headers: HeaderMap, extract::Json(request): extract::Json<QueryRequest>,
) -> Result<Response, Problem> {
    let format = accepted(&headers)?;
    run::query(app, request, format).await
}

/// What a query would do, with estimates; nothing is executed.
#[utoipa::path(post, path = "/v1/plan", tag = "queries", request_body = PlanRequest,
    responses((status = 200, body = PlanAnswer), (status = 400, body = Problem)))]
pub async fn plan_query(
    State(app): State<Arc<App>>, extract::Json(request): extract::Json<PlanRequest>,
) -> Result<Json<PlanAnswer>, Problem> {
    Ok(Json(run::plan(app, request).await?))
}

/// Runs a query and says what every operator did; the rows are counted, not sent.
#[utoipa::path(post, path = "/v1/profile", tag = "queries", request_body = ProfileRequest,
    responses((status = 200, body = ProfileAnswer), (status = 400, body = Problem)))]
pub async fn profile_query(
    State(app): State<Arc<App>>, extract::Json(request): extract::Json<ProfileRequest>,
) -> Result<Json<ProfileAnswer>, Problem> {
    Ok(Json(run::profile(app, request).await?))
}

/// The JSON Schema of plans and profiles.
#[utoipa::path(get, path = "/v1/schemas/plan", tag = "queries",
    responses((status = 200, content_type = "application/schema+json", body = Object)))]
pub async fn plan_schema() -> Response {
    let schema = include_str!("../../../../docs/plan.schema.json");
    ([(header::CONTENT_TYPE, "application/schema+json")], schema).into_response()
}
