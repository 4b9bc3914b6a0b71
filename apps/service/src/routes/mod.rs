//! Routes, each with its entry in the OpenAPI document: they are registered together, so that neither
//! can be without the other.

mod catalog;
mod console;
mod elements;
mod export;
mod jobs;
mod live;
mod loads;
mod models;
mod query;
mod saved;
mod sessions;
mod status;

use std::sync::Arc;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::http::{Method, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use tower::ServiceBuilder;
use tower_http::compression::CompressionLayer;
use tower_http::trace::TraceLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::guard;
use crate::problem::Problem;
use crate::state::App;

pub(crate) use query::{QUERY, accepted};

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Graphodrome",
        description = "A property graph service: models, bulk loads, pattern queries, plans and profiles. Errors are problem documents (RFC 9457)."
    ),
    components(schemas(Problem))
)]
struct Document;

fn api() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(status::health))
        .routes(routes!(status::ready))
        .routes(routes!(status::openapi_document))
        .routes(routes!(catalog::list_graphs, catalog::create_graph))
        .routes(routes!(catalog::show_graph, catalog::drop_graph))
        .routes(routes!(catalog::graph_names))
        .routes(routes!(catalog::list_graph_types))
        .routes(routes!(models::show_model))
        .routes(routes!(models::check_model))
        .routes(routes!(models::diff_model))
        .routes(routes!(models::apply_model))
        .routes(routes!(models::read_model))
        .routes(routes!(models::graph_type_schema))
        .routes(routes!(query::run_query))
        .routes(routes!(query::plan_query))
        .routes(routes!(query::profile_query))
        .routes(routes!(saved::list_saved))
        .routes(routes!(saved::show_saved, saved::save_query, saved::remove_saved))
        .routes(routes!(saved::call_saved, saved::run_saved))
        .routes(routes!(live::graph_changes))
        .routes(routes!(live::watch_query))
        .routes(routes!(sessions::open_session))
        .routes(routes!(sessions::show_session, sessions::close_session))
        .merge(uploads())
        .routes(routes!(jobs::list_jobs))
        .routes(routes!(jobs::show_job, jobs::cancel_job))
        .routes(routes!(jobs::all_job_events))
        .routes(routes!(jobs::job_events))
        .routes(routes!(jobs::job_rejects))
        .routes(routes!(jobs::reject_files))
        .routes(routes!(jobs::reject_rows))
        .routes(routes!(loads::load_mapping_schema))
        .routes(routes!(catalog::empty_graph))
        .routes(routes!(export::export_graph))
        .routes(routes!(loads::read_mapping))
        .routes(routes!(elements::create_node))
        .routes(routes!(elements::read_node, elements::change_node, elements::delete_node))
        .routes(routes!(elements::node_neighbours))
        .routes(routes!(elements::create_edge))
        .routes(routes!(elements::read_edge, elements::change_edge, elements::delete_edge))
}

/// Uploads count their bytes themselves.
fn uploads() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(loads::start_load))
        .routes(routes!(loads::preview_load))
        .routes(routes!(loads::look_at_tables))
        .routes(routes!(models::draft_model))
        .layer(DefaultBodyLimit::disable())
}

/// The OpenAPI document.
pub fn openapi() -> utoipa::openapi::OpenApi {
    api().into_openapi()
}

/// Every operation of the document: method and path.
pub fn route_list() -> Vec<(String, String)> {
    let document = serde_json::to_value(openapi()).unwrap_or_default();
    let mut found = vec![];
    for (path, operations) in document["paths"].as_object().into_iter().flatten() {
        for method in operations.as_object().into_iter().flatten().map(|(m, _)| m) {
            found.push((method.to_uppercase(), path.clone()));
        }
    }
    found
}

pub(crate) fn router(app: Arc<App>) -> Router {
    let body_bytes = app.limits.body_bytes;
    let (router, _) = api().split_for_parts();
    let routes = router
        .fallback(unknown)
        .method_not_allowed_fallback(wrong_method)
        .layer(DefaultBodyLimit::max(body_bytes))
        .with_state(app);
    // Around the routes as a whole: a layer of a router is made anew for every request.
    let around = ServiceBuilder::new()
        .layer(TraceLayer::new_for_http())
        .layer(axum::middleware::from_fn(guard::check))
        .layer(CompressionLayer::new());
    Router::new().fallback_service(around.service(routes))
}

async fn unknown(method: Method, uri: Uri) -> Response {
    if !uri.path().starts_with("/v1/") && (method == Method::GET || method == Method::HEAD) {
        return console::file(uri.path());
    }
    Problem::not_found(format!("there is nothing at {}", uri.path()))
        .hint("GET /v1/openapi.json lists every route")
        .into_response()
}

async fn wrong_method(method: Method, uri: Uri) -> Response {
    Problem::new(StatusCode::METHOD_NOT_ALLOWED, format!("{} does not take {method}", uri.path()))
        .hint("GET /v1/openapi.json lists every route with its methods")
        .into_response()
}
