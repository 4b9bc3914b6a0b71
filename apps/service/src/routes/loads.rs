//! Starting a load: a mapping and its files as one multipart upload, run as a job. And what a mapping is
//! helped with: its schema, a preview of what rows become.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_formats::{
    ColumnLook, DraftTable, LoadError, Mapping, PreviewElement, TableFormat, TableLook, edit_mapping, look,
    preview,
};
use graphodrome_records::Job;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::loading::upload::{mapping_problem, receive};
use crate::loading::work::{Load, run};
use crate::problem::Problem;
use crate::routes::jobs::with_progress;
use crate::state::App;
use crate::who;

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

#[derive(Deserialize, IntoParams)]
pub struct LoadParameters {
    /// Do everything but publish.
    #[serde(default)]
    pub check: bool,
}

/// Loads tables into a graph. Answers at once with the job; nothing is visible before it is done.
#[utoipa::path(post, path = "/v1/graphs/{graph}/loads", tag = "loads", params(("graph" = String, Path), LoadParameters),
    request_body(content = LoadForm, content_type = "multipart/form-data"),
    responses((status = 202, body = Job), (status = 400, body = Problem), (status = 404, body = Problem), (status = 413, body = Problem)))]
pub async fn start_load(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Query(parameters): extract::Query<LoadParameters>, request: axum::extract::Request,
) -> Result<(StatusCode, Json<Job>), Problem> {
    let graph = app.graph(&name)?;
    let upload = receive(&app, request, &["mapping"]).await?;
    let mapping = upload.mapping()?;
    let title = mapping.files().join(", ");
    let kind = if parameters.check { "check" } else { "load" };
    let job = app.start_job(kind, &name, &title).await?;
    let answer = with_progress(job.record.clone(), Some(job.running()));
    let load = Load { mapping, sources: upload.sources, check: parameters.check };
    who::spawn(async move {
        let (state, detail) = run(&app, &graph, &job, load).await;
        job.finish(&app, state, detail).await;
    });
    Ok((StatusCode::ACCEPTED, Json(answer)))
}

#[derive(Deserialize, IntoParams)]
pub struct PreviewParameters {
    /// Rows of each table; 20 where it is not given, at most 200.
    pub rows: Option<usize>,
}

/// An element that a row would become.
#[derive(Serialize, ToSchema)]
pub struct ElementPreview {
    /// node or edge.
    pub kind: String,
    pub labels: Vec<String>,
    #[schema(value_type = Object)]
    pub properties: serde_json::Map<String, serde_json::Value>,
    /// Of an edge: how the row names its ends.
    pub source: Option<String>,
    pub target: Option<String>,
}

#[derive(Serialize, ToSchema)]
pub struct RowPreview {
    pub row: u64,
    pub elements: Vec<ElementPreview>,
    /// Why rules cannot take the row.
    pub rejects: Vec<String>,
}

#[derive(Serialize, ToSchema)]
pub struct TablePreview {
    pub table: String,
    pub columns: Vec<String>,
    pub rows: Vec<RowPreview>,
}

/// The first rows of tables as the elements they would become; nothing is loaded, keys are not looked up.
#[utoipa::path(post, path = "/v1/graphs/{graph}/loads/preview", tag = "loads", params(("graph" = String, Path), PreviewParameters),
    request_body(content = LoadForm, content_type = "multipart/form-data"),
    responses((status = 200, body = Vec<TablePreview>), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn preview_load(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Query(parameters): extract::Query<PreviewParameters>, request: axum::extract::Request,
) -> Result<Json<Vec<TablePreview>>, Problem> {
    let graph = app.graph(&name)?;
    let upload = receive(&app, request, &["mapping"]).await?;
    let mapping = upload.mapping()?;
    let (snapshot, limit) = (graph.snapshot(), app.limits.upload_bytes);
    let rows = parameters.rows.unwrap_or(20).min(200);
    let (_turn, memory) = (app.look_at_tables().await?, app.load_memory.clone());
    let looked = tokio::task::spawn_blocking(move || {
        preview(&mapping, &upload.sources, &snapshot, limit, rows, &memory)
    });
    let looked = looked.await?.map_err(|error| match error {
        LoadError::Mapping(error) => mapping_problem(error),
        other => Problem::bad_request(other.to_string()),
    })?;
    let element = |e: PreviewElement| ElementPreview {
        kind: e.kind.into(),
        labels: e.labels,
        properties: e.properties,
        source: e.source,
        target: e.target,
    };
    let tables = looked.into_iter().map(|table| TablePreview {
        table: table.table,
        columns: table.columns,
        rows: table
            .rows
            .into_iter()
            .map(|row| RowPreview {
                row: row.row,
                elements: row.elements.into_iter().map(element).collect(),
                rejects: row.rejects,
            })
            .collect(),
    });
    Ok(Json(tables.collect()))
}

/// A column of a table, as its values show it.
#[derive(Serialize, ToSchema)]
pub struct ColumnView {
    pub name: String,
    /// The value type that all its values can be read as.
    pub kind: String,
    pub nulls: u64,
    /// Different values, the first that were seen.
    pub samples: Vec<String>,
}

#[derive(Serialize, ToSchema)]
pub struct TableView {
    pub file: String,
    pub rows: u64,
    /// Where it is no comma.
    pub delimiter: Option<char>,
    /// Words for null that the table seems to have.
    pub null: Option<Vec<String>>,
    /// day-first or month-first, where it has dates that are no ISO dates.
    pub date_order: Option<String>,
    pub columns: Vec<ColumnView>,
}

/// Looks at tables: their columns with inferred types and samples. Nothing is kept.
#[utoipa::path(post, path = "/v1/columns", tag = "loads",
    request_body(content = Object, content_type = "multipart/form-data"),
    responses((status = 200, body = Vec<TableView>), (status = 413, body = Problem), (status = 422, body = Problem)))]
pub async fn look_at_tables(
    State(app): State<Arc<App>>, request: axum::extract::Request,
) -> Result<Json<Vec<TableView>>, Problem> {
    let upload = receive(&app, request, &[]).await?;
    let tables: Vec<DraftTable> = upload
        .sources
        .into_iter()
        .map(|(file, source)| {
            let format = TableFormat::of_name(&file).unwrap_or(TableFormat::Csv);
            DraftTable { file, format, source, declared: None }
        })
        .collect();
    let (_turn, limit) = (app.look_at_tables().await?, app.limits.upload_bytes);
    let looked = tokio::task::spawn_blocking(move || look(&tables, limit)).await?;
    let looked = looked.map_err(|e| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, e.to_string()))?;
    let column =
        |c: ColumnLook| ColumnView { name: c.name, kind: c.kind, nulls: c.nulls, samples: c.samples };
    let table = |t: TableLook| TableView {
        file: t.file,
        rows: t.rows,
        delimiter: t.delimiter,
        null: t.null,
        date_order: t.date_order.map(|order| order.name().to_string()),
        columns: t.columns.into_iter().map(column).collect(),
    };
    Ok(Json(looked.into_iter().map(table).collect()))
}

/// A mapping as text, as JSON, or as a text whose content is to become that of the JSON.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MappingRequest {
    #[serde(default)]
    pub text: Option<String>,
    #[serde(default)]
    #[schema(value_type = Object)]
    pub mapping: Option<serde_json::Value>,
}

#[derive(Serialize, ToSchema)]
pub struct MappingForms {
    pub text: String,
    #[schema(value_type = Object)]
    pub mapping: serde_json::Value,
}

/// Reads a mapping, or writes one: given a text and JSON, the text is changed to say what the JSON says, and
/// its comments stay.
#[utoipa::path(post, path = "/v1/mappings", tag = "loads", request_body = MappingRequest,
    responses((status = 200, body = MappingForms), (status = 400, body = Problem)))]
pub async fn read_mapping(
    extract::Json(request): extract::Json<MappingRequest>,
) -> Result<Json<MappingForms>, Problem> {
    let text = request.text.unwrap_or_default();
    let (text, mapping) = match request.mapping {
        None => {
            let mapping = Mapping::parse(&text).map_err(mapping_problem)?;
            (text, mapping)
        }
        Some(json) => {
            let mapping: Mapping = serde_json::from_value(json)
                .map_err(|e| Problem::bad_request(format!("the mapping is not valid: {e}")))?;
            (edit_mapping(&text, &mapping).map_err(mapping_problem)?, mapping)
        }
    };
    let mapping = serde_json::to_value(&mapping).map_err(|e| Problem::bad_request(e.to_string()))?;
    Ok(Json(MappingForms { text, mapping }))
}

/// The JSON Schema of load mappings; a mapping's TOML is read as the JSON it stands for.
#[utoipa::path(get, path = "/v1/schemas/load-mapping", tag = "loads",
    responses((status = 200, content_type = "application/schema+json", body = Object)))]
pub async fn load_mapping_schema() -> Response {
    let schema = include_str!("../../../../docs/load-mapping.schema.json");
    ([(header::CONTENT_TYPE, "application/schema+json")], schema).into_response()
}
