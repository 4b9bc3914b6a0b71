//! Health, readiness, and the OpenAPI document.

use std::sync::Arc;

use axum::extract::State;
use axum::{Json, response::IntoResponse};
use serde::Serialize;
use utoipa::ToSchema;

use crate::problem::Problem;
use crate::state::App;

#[derive(Serialize, ToSchema)]
pub struct Health {
    pub status: &'static str,
    pub version: &'static str,
}

/// The process answers.
#[utoipa::path(get, path = "/v1/health", tag = "status", responses((status = 200, body = Health)))]
pub async fn health() -> Json<Health> {
    Json(Health { status: "ok", version: env!("CARGO_PKG_VERSION") })
}

/// PostgreSQL answers, and this service may write to it.
#[utoipa::path(get, path = "/v1/ready", tag = "status",
    responses((status = 200, body = Health), (status = 503, body = Problem)))]
pub async fn ready(State(app): State<Arc<App>>) -> Result<Json<Health>, Problem> {
    app.catalog.may_write()?;
    app.catalog.ping().await?;
    Ok(health().await)
}

/// This document.
#[utoipa::path(get, path = "/v1/openapi.json", tag = "status", responses((status = 200, description = "OpenAPI 3.1")))]
pub async fn openapi_document(State(app): State<Arc<App>>) -> Result<impl IntoResponse, Problem> {
    let mut document = serde_json::to_value(crate::routes::openapi()).unwrap_or_default();
    // Saved queries have entries of their own.
    if let Some(paths) = document["paths"].as_object_mut() {
        paths.extend(crate::routes::saved::endpoint_paths(&app).await?);
    }
    Ok(Json(document))
}
