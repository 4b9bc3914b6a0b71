//! Routes with their entries in the OpenAPI document, registered together so that neither can be missing.

mod backups;
pub(crate) mod baselines;
mod catalog;
mod console;
mod drawings;
mod elements;
mod export;
mod jobs;
mod live;
mod loads;
mod looks;
mod measures;
mod models;
mod neighbourhood;
mod notebooks;
mod procedures;
mod query;
mod running;
mod runs;
pub(crate) mod saved;
mod sessions;
mod status;
mod versions;

use std::sync::Arc;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::http::{Method, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use tower::ServiceBuilder;
use tower_http::compression::CompressionLayer;
use tower_http::timeout::RequestBodyTimeoutLayer;
use tower_http::trace::TraceLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::guard;
use crate::problem::Problem;
use crate::stalled::STALLED;
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
        .routes(routes!(looks::show_looks, looks::keep_looks))
        .routes(routes!(drawings::list_drawings))
        .routes(routes!(drawings::show_drawing, drawings::save_drawing, drawings::remove_drawing))
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
        .routes(routes!(query::plan_schema))
        .routes(routes!(running::list_running))
        .routes(routes!(running::cancel_running))
        .routes(routes!(runs::list_runs))
        .routes(routes!(runs::show_run, runs::label_run, runs::remove_run))
        .routes(routes!(runs::compare_runs))
        .routes(routes!(baselines::list_baselines))
        .routes(routes!(baselines::accept_baseline, baselines::remove_baseline))
        .routes(routes!(baselines::check_baseline))
        .routes(routes!(saved::list_saved))
        .routes(routes!(saved::show_saved, saved::save_query, saved::remove_saved))
        .routes(routes!(saved::call_saved, saved::run_saved))
        .routes(routes!(notebooks::list_notebooks))
        .routes(routes!(notebooks::show_notebook, notebooks::save_notebook, notebooks::remove_notebook))
        .routes(routes!(notebooks::notebook_file))
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
        .routes(routes!(catalog::change_outcome))
        .routes(routes!(export::export_graph))
        .routes(routes!(versions::list_versions))
        .routes(routes!(versions::set_retention))
        .routes(routes!(versions::restore_graph))
        .routes(routes!(versions::verify_graph))
        .routes(routes!(models::analyze_graph))
        .routes(routes!(versions::show_difference))
        .routes(routes!(backups::begin_backup))
        .routes(routes!(backups::end_backup))
        .routes(routes!(backups::backup_segment))
        .routes(routes!(backups::backup_log))
        .routes(routes!(backups::begin_restore))
        .routes(routes!(backups::finish_restore, backups::give_up_restore))
        .routes(routes!(loads::read_mapping))
        .routes(routes!(procedures::list_procedures, procedures::add_procedure))
        .routes(routes!(procedures::show_procedure, procedures::remove_procedure))
        .routes(routes!(procedures::use_procedure))
        .routes(routes!(procedures::procedure_module))
        .routes(routes!(measures::list_measures))
        .routes(routes!(measures::run_measure))
        .routes(routes!(elements::create_node))
        .routes(routes!(elements::read_node, elements::change_node, elements::delete_node))
        .routes(routes!(elements::node_neighbours))
        .routes(routes!(neighbourhood::node_neighbourhood))
        .routes(routes!(elements::create_edge))
        .routes(routes!(elements::read_edge, elements::change_edge, elements::delete_edge))
}

/// Uploads count their bytes themselves.
fn uploads() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(loads::start_load))
        .routes(routes!(backups::restore_segment))
        .routes(routes!(backups::restore_log))
        .routes(routes!(loads::preview_load))
        .routes(routes!(loads::look_at_tables))
        .routes(routes!(models::draft_model))
        .layer(DefaultBodyLimit::disable())
}

/// The OpenAPI document.
pub fn openapi() -> utoipa::openapi::OpenApi {
    let mut document = api().into_openapi();
    for item in document.paths.paths.values_mut() {
        let operations = [&mut item.get, &mut item.put, &mut item.post, &mut item.delete, &mut item.patch];
        for operation in operations.into_iter().flatten() {
            describe_problems(operation);
        }
    }
    measures::describe(&mut document);
    document
}

/// Every operation may answer with a problem document; which statuses are to be expected follows from what it
/// takes.
fn describe_problems(operation: &mut utoipa::openapi::path::Operation) {
    use utoipa::openapi::{Ref, RefOr, Response, ResponseBuilder, content::ContentBuilder};
    let named = operation.parameters.iter().flatten().any(|p| match p {
        RefOr::T(p) => matches!(p.parameter_in, utoipa::openapi::path::ParameterIn::Path),
        RefOr::Ref(_) => false,
    });
    let body = operation.request_body.is_some();
    let content = || ContentBuilder::new().schema(Some(Ref::from_schema_name("Problem"))).build();
    let problem = |description: &str| -> RefOr<Response> {
        ResponseBuilder::new()
            .description(description)
            .content("application/problem+json", content())
            .build()
            .into()
    };
    let responses = &mut operation.responses.responses;
    for (status, response) in responses.iter_mut() {
        if let (true, RefOr::T(response)) = (status.starts_with(['4', '5']), response) {
            response.content.shift_remove("application/json");
            response.content.insert("application/problem+json".into(), content().into());
        }
    }
    let mut expect = |status: &str, description: &str| {
        responses.entry(status.into()).or_insert_with(|| problem(description));
    };
    expect("400", "The request is not one that this operation takes");
    if named {
        expect("404", "There is nothing of this name");
    }
    if body {
        expect("409", "It cannot be done in the state that things are in");
        expect("413", "The body is larger than the service takes");
        expect("415", "The body is of a type that the operation does not take");
        expect("422", "The values do not fit the graph or its model");
    }
    expect("default", "Any other problem");
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
        .layer(RequestBodyTimeoutLayer::new(STALLED))
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
