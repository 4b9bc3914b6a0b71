//! Saved drawings of a graph.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use graphodrome_store::{DrawingRecord, GraphHandle};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::extract;
use crate::problem::Problem;
use crate::state::App;

/// A saved drawing, without what it shows.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct DrawingInfo {
    pub name: String,
    /// How often it was saved.
    pub revision: i64,
    pub node_count: i32,
    /// RFC 3339.
    pub changed: String,
}

/// What a drawing shows, and how.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DrawingContent {
    /// The query that gives its nodes and edges, and perhaps edges of the same labels that are not drawn.
    pub query: String,
    /// Element ids.
    pub nodes: Vec<String>,
    pub edges: Vec<String>,
    /// `force`, `layered`, `rings`, `circle`, `groups`, `timeline` or `map`; without it, by the drawing's shape.
    #[serde(default)]
    pub layout: Option<String>,
    /// Properties that a timeline (one) or a map (two) is drawn along.
    #[serde(default)]
    pub fields: Vec<String>,
    /// A property, a measure as `measure:column`, or empty for the label.
    #[serde(default)]
    pub colour_by: String,
    /// A property, a measure, `#degree`, or empty for nodes all alike.
    #[serde(default)]
    pub size_by: String,
    /// By label the property that stands under a node.
    #[serde(default)]
    pub captions: BTreeMap<String, String>,
    #[serde(default)]
    pub edge_caption: String,
    /// Nodes of one colour are outlined together.
    #[serde(default)]
    pub outlined: bool,
    /// By element id, in pixels at scale 1.
    #[serde(default)]
    pub places: BTreeMap<String, [f64; 2]>,
}

/// A drawing as it was saved last.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct DrawingWhole {
    pub name: String,
    pub revision: i64,
    /// RFC 3339.
    pub changed: String,
    pub content: DrawingContent,
}

/// What is saved; the name is in the path.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDrawing {
    /// The revision that it was made from; 0 or none for a new drawing.
    #[serde(default)]
    pub revision: i64,
    pub content: DrawingContent,
}

const MOST_NODES: usize = 20_000;
const MOST_EDGES: usize = 100_000;
const LAYOUTS: [&str; 7] = ["force", "layered", "rings", "circle", "groups", "timeline", "map"];

impl DrawingContent {
    fn check(&self) -> Result<(), Problem> {
        let bound = |what: &str, n: usize, most: usize| match n > most {
            true => Err(Problem::bad_request(format!("{n} {what}; a drawing has at most {most}"))),
            false => Ok(()),
        };
        bound("nodes", self.nodes.len(), MOST_NODES)?;
        bound("edges", self.edges.len(), MOST_EDGES)?;
        bound("places", self.places.len(), MOST_NODES)?;
        bound("fields", self.fields.len(), 2)?;
        let strange = self.layout.as_deref().filter(|layout| !LAYOUTS.contains(layout));
        if let Some(strange) = strange {
            return Err(Problem::bad_request(format!("there is no layout {strange:?}"))
                .hint(format!("one of {}", LAYOUTS.join(", "))));
        }
        Ok(())
    }
}

impl From<DrawingRecord> for DrawingInfo {
    fn from(record: DrawingRecord) -> Self {
        let DrawingRecord { name, revision, node_count, changed, .. } = record;
        DrawingInfo { name, revision, node_count, changed }
    }
}

async fn find(app: &App, graph: &GraphHandle, name: &str) -> Result<DrawingRecord, Problem> {
    if let Some(record) = app.catalog.drawing(graph, name).await? {
        return Ok(record);
    }
    let all = app.catalog.drawings(graph).await?;
    let problem = Problem::not_found(format!("there is no drawing {name} of {}", graph.name));
    Err(match graphodrome_language::nearest(name, all.iter().map(|d| d.name.as_str())) {
        Some(near) => problem.hint(format!("did you mean {near}?")),
        None => problem.hint(format!("GET /v1/graphs/{}/drawings lists them", graph.name)),
    })
}

/// The saved drawings of a graph, by name.
#[utoipa::path(get, path = "/v1/graphs/{graph}/drawings", tag = "drawings", params(("graph" = String, Path)),
    responses((status = 200, body = Vec<DrawingInfo>), (status = 404, body = Problem)))]
pub async fn list_drawings(
    State(app): State<Arc<App>>, Path(graph): Path<String>,
) -> Result<Json<Vec<DrawingInfo>>, Problem> {
    let handle = app.graph(&graph)?;
    Ok(Json(app.catalog.drawings(&handle).await?.into_iter().map(DrawingInfo::from).collect()))
}

/// A drawing with what it shows.
#[utoipa::path(get, path = "/v1/graphs/{graph}/drawings/{name}", tag = "drawings",
    params(("graph" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = DrawingWhole), (status = 404, body = Problem)))]
pub async fn show_drawing(
    State(app): State<Arc<App>>, Path((graph, name)): Path<(String, String)>,
) -> Result<Json<DrawingWhole>, Problem> {
    let handle = app.graph(&graph)?;
    let DrawingRecord { name, revision, changed, content, .. } = find(&app, &handle, &name).await?;
    let content = serde_json::from_str(&content).map_err(|e| {
        let text = format!("the drawing {name} of {graph} cannot be read: {e}");
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, text)
    })?;
    Ok(Json(DrawingWhole { name, revision, changed, content }))
}

/// Saves a drawing. Where somebody else has saved it since the revision that is named, nothing is done.
#[utoipa::path(put, path = "/v1/graphs/{graph}/drawings/{name}", tag = "drawings",
    params(("graph" = String, Path), ("name" = String, Path)), request_body = NewDrawing,
    responses((status = 200, body = DrawingInfo), (status = 400, body = Problem), (status = 404, body = Problem),
    (status = 409, body = Problem)))]
pub async fn save_drawing(
    State(app): State<Arc<App>>, Path((graph, name)): Path<(String, String)>,
    extract::Json(new): extract::Json<NewDrawing>,
) -> Result<Json<DrawingInfo>, Problem> {
    let handle = app.graph(&graph)?;
    if name.trim().is_empty() || name.chars().count() > 200 || name.contains(|c: char| c.is_control()) {
        let shown = name.escape_debug();
        return Err(Problem::bad_request(format!("\"{shown}\" is no name for a drawing"))
            .hint("1 to 200 characters, none of them a control character"));
    }
    new.content.check()?;
    let nodes = i32::try_from(new.content.nodes.len()).unwrap_or(i32::MAX);
    let text = serde_json::to_string(&new.content).map_err(|e| Problem::bad_request(e.to_string()))?;
    if app.catalog.save_drawing(&handle, &name, new.revision, text, nodes).await? {
        return Ok(Json(find(&app, &handle, &name).await?.into()));
    }
    let conflict = |text: String| Problem::new(StatusCode::CONFLICT, text);
    Err(match app.catalog.drawing(&handle, &name).await? {
        Some(there) if new.revision == 0 => conflict(format!("there is a drawing {name} of {graph} already"))
            .hint(format!("open it, or save with revision {} to write over it", there.revision)),
        Some(there) => conflict(format!(
            "the drawing {name} was saved by somebody else since: it is at revision {}, yours was made from {}",
            there.revision, new.revision
        ))
        .hint(format!("open it again, or save with revision {} to write over it", there.revision)),
        None => conflict(format!("the drawing {name} was removed")).hint("save it with revision 0 to make it anew"),
    })
}

/// Forgets a drawing.
#[utoipa::path(delete, path = "/v1/graphs/{graph}/drawings/{name}", tag = "drawings",
    params(("graph" = String, Path), ("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove_drawing(
    State(app): State<Arc<App>>, Path((graph, name)): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    let handle = app.graph(&graph)?;
    if !app.catalog.remove_drawing(&handle, &name).await? {
        find(&app, &handle, &name).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}
