//! Notebooks: kept, listed, and written as files.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_formats::{Cell, Notebook};
use graphodrome_store::NotebookRecord;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::problem::Problem;
use crate::state::App;

/// A notebook, without its cells.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct NotebookInfo {
    pub name: String,
    /// How often it was saved.
    pub revision: i64,
    pub cell_count: i32,
    /// RFC 3339.
    pub changed: String,
}

/// A notebook as it was saved last.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct NotebookWhole {
    pub name: String,
    pub revision: i64,
    /// RFC 3339.
    pub changed: String,
    /// Each with `kind` (`text` or `query`), `text`, and for a query `parameters`, `view` (`table`, `drawing` or `chart`),
    /// `result` (`graph`, `version`, `at`, `row_count`, `columns`, `rows`) and `drawing` (SVG).
    #[schema(value_type = Vec<Object>)]
    pub cells: Vec<Cell>,
}

/// What is saved; the name is in the path.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNotebook {
    /// The revision that the cells were made from; 0 or none for a new notebook.
    #[serde(default)]
    pub revision: i64,
    #[schema(value_type = Vec<Object>)]
    pub cells: Vec<Cell>,
}

impl From<NotebookRecord> for NotebookInfo {
    fn from(record: NotebookRecord) -> Self {
        let NotebookRecord { name, revision, cell_count, changed, .. } = record;
        NotebookInfo { name, revision, cell_count, changed }
    }
}

async fn find(app: &App, name: &str) -> Result<NotebookRecord, Problem> {
    if let Some(record) = app.catalog.notebook(name).await? {
        return Ok(record);
    }
    let all = app.catalog.notebooks().await?;
    let near = graphodrome_language::nearest(name, all.iter().map(|n| n.name.as_str()));
    let problem = Problem::not_found(format!("there is no notebook {name}"));
    Err(match near {
        Some(near) => problem.hint(format!("did you mean {near}?")),
        None => problem.hint("GET /v1/notebooks lists them"),
    })
}

fn cells(record: &NotebookRecord) -> Result<Vec<Cell>, Problem> {
    serde_json::from_str(&record.cells).map_err(|e| {
        let text = format!("the cells of the notebook {} cannot be read: {e}", record.name);
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, text)
    })
}

/// All notebooks, by name.
#[utoipa::path(get, path = "/v1/notebooks", tag = "notebooks", responses((status = 200, body = Vec<NotebookInfo>)))]
pub async fn list_notebooks(State(app): State<Arc<App>>) -> Result<Json<Vec<NotebookInfo>>, Problem> {
    Ok(Json(app.catalog.notebooks().await?.into_iter().map(NotebookInfo::from).collect()))
}

/// A notebook with its cells.
#[utoipa::path(get, path = "/v1/notebooks/{name}", tag = "notebooks", params(("name" = String, Path)),
    responses((status = 200, body = NotebookWhole), (status = 404, body = Problem)))]
pub async fn show_notebook(
    State(app): State<Arc<App>>, Path(name): Path<String>,
) -> Result<Json<NotebookWhole>, Problem> {
    let record = find(&app, &name).await?;
    let cells = cells(&record)?;
    let NotebookRecord { name, revision, changed, .. } = record;
    Ok(Json(NotebookWhole { name, revision, changed, cells }))
}

/// Saves a notebook. Where somebody else has saved it since the revision that is named, nothing is done.
#[utoipa::path(put, path = "/v1/notebooks/{name}", tag = "notebooks", params(("name" = String, Path)),
    request_body = NewNotebook, responses((status = 200, body = NotebookInfo), (status = 400, body = Problem),
    (status = 409, body = Problem)))]
pub async fn save_notebook(
    State(app): State<Arc<App>>, Path(name): Path<String>, extract::Json(new): extract::Json<NewNotebook>,
) -> Result<Json<NotebookInfo>, Problem> {
    if name.trim().is_empty() || name.chars().count() > 200 || name.contains(|c: char| c.is_control()) {
        let shown = name.escape_debug();
        return Err(Problem::bad_request(format!("\"{shown}\" is no name for a notebook"))
            .hint("1 to 200 characters, none of them a control character"));
    }
    let notebook = Notebook { cells: new.cells };
    notebook.check().map_err(Problem::bad_request)?;
    let count = i32::try_from(notebook.cells.len()).unwrap_or(i32::MAX);
    let text = serde_json::to_string(&notebook.cells).map_err(|e| Problem::bad_request(e.to_string()))?;
    if !app.catalog.save_notebook(&name, new.revision, text, count).await? {
        let conflict = |text: String| Problem::new(StatusCode::CONFLICT, text);
        return Err(match app.catalog.notebook(&name).await? {
            Some(there) if new.revision == 0 => conflict(format!("there is a notebook {name} already"))
                .hint(format!("open it, or save with revision {} to write over it", there.revision)),
            Some(there) => conflict(format!(
                "the notebook {name} was saved by somebody else since: it is at revision {}, yours was made from {}",
                there.revision, new.revision
            ))
            .hint(format!("open it again, or save with revision {} to write over it", there.revision)),
            None => conflict(format!("the notebook {name} was removed"))
                .hint("save it with revision 0 to make it anew"),
        });
    }
    Ok(Json(find(&app, &name).await?.into()))
}

/// Forgets a notebook.
#[utoipa::path(delete, path = "/v1/notebooks/{name}", tag = "notebooks", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove_notebook(
    State(app): State<Arc<App>>, Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    if !app.catalog.remove_notebook(&name).await? {
        find(&app, &name).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Formats of a notebook's file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum NotebookFormat {
    #[default]
    Markdown,
    /// A notebook file, nbformat 4.5.
    Ipynb,
}

#[derive(Debug, Deserialize, IntoParams)]
pub struct FileParameters {
    /// `markdown` unless given.
    #[serde(default)]
    #[param(inline)]
    pub format: NotebookFormat,
}

/// A notebook as a file: Markdown, or a notebook file with its results.
#[utoipa::path(get, path = "/v1/notebooks/{name}/file", tag = "notebooks",
    params(("name" = String, Path), FileParameters),
    responses((status = 200, body = String, content_type = "text/markdown"), (status = 404, body = Problem)))]
pub async fn notebook_file(
    State(app): State<Arc<App>>, Path(name): Path<String>,
    extract::Query(asked): extract::Query<FileParameters>,
) -> Result<Response, Problem> {
    let notebook = Notebook { cells: cells(&find(&app, &name).await?)? };
    Ok(match asked.format {
        NotebookFormat::Markdown => {
            ([(header::CONTENT_TYPE, "text/markdown; charset=utf-8")], notebook.to_markdown()).into_response()
        }
        NotebookFormat::Ipynb => {
            let text = format!("{:#}\n", notebook.to_ipynb());
            ([(header::CONTENT_TYPE, "application/x-ipynb+json")], text).into_response()
        }
    })
}
