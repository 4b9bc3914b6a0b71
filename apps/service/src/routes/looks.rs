//! Colours and captions of labels in drawings.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::extract;
use crate::problem::Problem;
use crate::state::App;

/// How nodes of a label look.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LabelLook {
    /// `#rrggbb`; without it one of the palette, by the label's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub colour: Option<String>,
    /// The property whose value stands under a node; without it the key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub caption: Option<String>,
}

/// How the labels of a graph look in drawings, by label.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GraphLooks {
    pub labels: BTreeMap<String, LabelLook>,
}

/// Labels of one graph, and characters of a property's name.
const MOST_LABELS: usize = 1000;
const LONGEST: usize = 500;

impl GraphLooks {
    fn check(&self) -> Result<(), Problem> {
        if self.labels.len() > MOST_LABELS {
            let text = format!("{} labels have a look; {MOST_LABELS} may", self.labels.len());
            return Err(Problem::bad_request(text));
        }
        for (label, look) in &self.labels {
            if let Some(colour) = &look.colour {
                let digits = colour.strip_prefix('#').unwrap_or_default();
                if digits.len() != 6 || !digits.chars().all(|c| c.is_ascii_hexdigit()) {
                    let text = format!("the colour of {label} is written as #rrggbb, found {colour:?}");
                    return Err(Problem::bad_request(text).hint("six hexadecimal digits, such as #1d6f8c"));
                }
            }
            let longest = look.caption.as_ref().map_or(0, |c| c.chars().count()).max(label.chars().count());
            if longest > LONGEST {
                return Err(Problem::bad_request(format!("a name of {longest} characters is too long"))
                    .hint(format!("at most {LONGEST}")));
            }
        }
        Ok(())
    }
}

/// How the labels of a graph look in drawings.
#[utoipa::path(get, path = "/v1/graphs/{graph}/looks", tag = "graphs", params(("graph" = String, Path)),
    responses((status = 200, body = GraphLooks), (status = 404, body = Problem)))]
pub async fn show_looks(
    State(app): State<Arc<App>>, Path(graph): Path<String>,
) -> Result<Json<GraphLooks>, Problem> {
    let handle = app.graph(&graph)?;
    let Some(labels) = app.catalog.looks(&handle).await? else { return Ok(Json(GraphLooks::default())) };
    let labels = serde_json::from_str(&labels).map_err(|e| {
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, format!("the looks of {graph} cannot be read: {e}"))
    })?;
    Ok(Json(GraphLooks { labels }))
}

/// Keeps how the labels of a graph look; those that are left out look as they would by themselves.
#[utoipa::path(put, path = "/v1/graphs/{graph}/looks", tag = "graphs", params(("graph" = String, Path)),
    request_body = GraphLooks, responses((status = 200, body = GraphLooks), (status = 400, body = Problem),
    (status = 404, body = Problem)))]
pub async fn keep_looks(
    State(app): State<Arc<App>>, Path(graph): Path<String>, extract::Json(looks): extract::Json<GraphLooks>,
) -> Result<Json<GraphLooks>, Problem> {
    let handle = app.graph(&graph)?;
    looks.check()?;
    let labels = serde_json::to_string(&looks.labels).map_err(|e| Problem::bad_request(e.to_string()))?;
    app.catalog.keep_looks(&handle, labels).await?;
    Ok(Json(looks))
}
