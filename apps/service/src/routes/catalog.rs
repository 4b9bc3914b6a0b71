//! Graphs and graph types.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use graphodrome_engine::known_names;
use graphodrome_store::{Contents, OpenMode, Outcome};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::problem::Problem;
use crate::state::App;
use crate::who;

#[derive(Serialize, ToSchema)]
pub struct GraphSummary {
    pub name: String,
    /// Name of the graph type, if it is closed and the type has a name.
    pub graph_type: Option<String>,
    /// Whether a graph type says what may be in it.
    pub closed: bool,
    pub version: u64,
    pub nodes: u64,
    pub edges: u64,
    /// Why it cannot be opened, where it cannot; its numbers are 0 then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub offline: Option<String>,
}

/// What became of a change whose answer was that it is not known.
#[derive(Serialize, ToSchema)]
pub struct ChangeOutcome {
    /// `written`, `not written`, `not known yet`, or `forgotten` where that is too long ago to tell.
    pub outcome: &'static str,
}

#[derive(Serialize, ToSchema)]
pub struct LabelCount {
    pub labels: Vec<String>,
    pub count: u64,
}

/// A graph with what is in it.
#[derive(Serialize, ToSchema)]
pub struct GraphDetail {
    #[serde(flatten)]
    pub summary: GraphSummary,
    pub node_labels: Vec<LabelCount>,
    pub edge_labels: Vec<LabelCount>,
    /// The graph type as text of the language, if the graph is closed.
    pub model: Option<String>,
    pub keys: Vec<String>,
    /// Bytes in memory.
    pub column_bytes: u64,
    pub adjacency_bytes: u64,
    pub index_bytes: u64,
    /// Elements changed since the base.
    pub overlay: u64,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewGraph {
    pub name: String,
    /// Name of a graph type; without it the graph is open.
    #[serde(default)]
    pub graph_type: Option<String>,
}

#[derive(Deserialize, IntoParams)]
pub struct DropParameters {
    /// The graph's name once more, so that no graph is dropped by a slip.
    pub confirm: Option<String>,
}

/// Labels and properties in use or declared: what an editor completes.
#[derive(Serialize, ToSchema)]
pub struct Names {
    pub node_labels: Vec<String>,
    pub edge_labels: Vec<String>,
    pub node_properties: Vec<String>,
    pub edge_properties: Vec<String>,
    /// By label, the properties of the types that have it; empty without a graph type.
    pub properties_of: std::collections::BTreeMap<String, Vec<String>>,
}

#[derive(Serialize, ToSchema)]
pub struct GraphTypeText {
    pub name: String,
    /// `CREATE GRAPH TYPE ...`.
    pub text: String,
}

/// All graphs.
#[utoipa::path(get, path = "/v1/graphs", tag = "graphs", responses((status = 200, body = Vec<GraphSummary>)))]
pub async fn list_graphs(State(app): State<Arc<App>>) -> Result<Json<Vec<GraphSummary>>, Problem> {
    let infos = app.catalog.graph_infos().await?;
    Ok(Json(
        infos
            .into_iter()
            .map(|g| GraphSummary {
                name: g.name,
                graph_type: g.graph_type,
                closed: g.closed,
                version: g.version,
                nodes: g.nodes,
                edges: g.edges,
                offline: g.offline,
            })
            .collect(),
    ))
}

/// Creates an empty graph.
#[utoipa::path(post, path = "/v1/graphs", tag = "graphs", request_body = NewGraph,
    responses((status = 201, body = GraphDetail), (status = 409, body = Problem)))]
pub async fn create_graph(
    State(app): State<Arc<App>>, extract::Json(new): extract::Json<NewGraph>,
) -> Result<(StatusCode, Json<GraphDetail>), Problem> {
    if new.name.is_empty() || !new.name.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '-') {
        return Err(Problem::bad_request(format!("'{}' cannot be a graph's name", new.name))
            .hint("use letters, digits, _ and -"));
    }
    let wanted = graphodrome_store::NewGraph { type_name: new.graph_type, ..Default::default() };
    app.catalog.create_graph(&new.name, wanted, OpenMode::Fail).await?;
    Ok((StatusCode::CREATED, Json(detail(&app, &new.name).await?)))
}

async fn detail(app: &App, name: &str) -> Result<GraphDetail, Problem> {
    let handle = app.graph(name)?;
    let snapshot = handle.snapshot();
    let info = app.catalog.graph_infos().await?.into_iter().find(|g| g.name == name);
    let info = info.ok_or_else(|| Problem::not_found(format!("there is no graph {name}")))?;
    let counts = |counts: Vec<(graphodrome_graph::LabelSet, u64)>| {
        counts
            .into_iter()
            .map(|(labels, count)| LabelCount {
                labels: labels.iter().map(|l| l.to_string()).collect(),
                count,
            })
            .collect()
    };
    let (columns, adjacency, indexes) = snapshot.base.bytes();
    Ok(GraphDetail {
        summary: GraphSummary {
            name: info.name,
            graph_type: info.graph_type,
            closed: info.closed,
            version: info.version,
            nodes: info.nodes,
            edges: info.edges,
            offline: info.offline,
        },
        node_labels: counts(snapshot.node_label_counts()),
        edge_labels: counts(snapshot.edge_label_counts()),
        model: snapshot.graph_type.as_ref().map(|t| t.to_string()),
        keys: snapshot
            .keys
            .iter()
            .map(|k| format!("{} {} ({})", k.element, k.label, k.properties.join(", ")))
            .collect(),
        column_bytes: columns as u64,
        adjacency_bytes: adjacency as u64,
        index_bytes: indexes as u64,
        overlay: snapshot.overlay_len() as u64,
    })
}

/// One graph: its labels with counts, its type, its size.
#[utoipa::path(get, path = "/v1/graphs/{graph}", tag = "graphs", params(("graph" = String, Path)),
    responses((status = 200, body = GraphDetail), (status = 404, body = Problem)))]
pub async fn show_graph(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
) -> Result<Json<GraphDetail>, Problem> {
    Ok(Json(detail(&app, &name).await?))
}

/// What became of a change that was answered with status 504, by the ticket of that answer.
#[utoipa::path(get, path = "/v1/graphs/{graph}/outcomes/{ticket}", tag = "graphs",
    params(("graph" = String, Path), ("ticket" = i64, Path)),
    responses((status = 200, body = ChangeOutcome), (status = 404, body = Problem)))]
pub async fn change_outcome(
    State(app): State<Arc<App>>, extract::Path((name, ticket)): extract::Path<(String, i64)>,
) -> Result<Json<ChangeOutcome>, Problem> {
    let outcome = match app.graph(&name)?.outcome(ticket).await? {
        Outcome::Written => "written",
        Outcome::NotWritten => "not written",
        Outcome::NotKnownYet => "not known yet",
        Outcome::Forgotten => "forgotten",
    };
    Ok(Json(ChangeOutcome { outcome }))
}

/// Drops a graph with everything in it.
#[utoipa::path(delete, path = "/v1/graphs/{graph}", tag = "graphs", params(("graph" = String, Path), DropParameters),
    responses((status = 204), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn drop_graph(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Query(parameters): extract::Query<DropParameters>,
) -> Result<StatusCode, Problem> {
    if !app.catalog.offline_graphs().iter().any(|g| g.name == name) {
        app.graph(&name)?;
    }
    if parameters.confirm.as_deref() != Some(name.as_str()) {
        return Err(Problem::bad_request(format!("dropping {name} needs its name once more"))
            .hint(format!("add ?confirm={name}")));
    }
    app.catalog.drop_graph(&name, false).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Removes every element of a graph; its model stays.
#[utoipa::path(delete, path = "/v1/graphs/{graph}/elements", tag = "graphs", params(("graph" = String, Path), DropParameters),
    responses((status = 204), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn empty_graph(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Query(parameters): extract::Query<DropParameters>,
) -> Result<StatusCode, Problem> {
    let graph = app.graph(&name)?;
    if parameters.confirm.as_deref() != Some(name.as_str()) {
        return Err(Problem::bad_request(format!("emptying {name} needs its name once more"))
            .hint(format!("add ?confirm={name}")));
    }
    let nothing = Contents::Parts(Default::default());
    graph.turn().await?.by(&who::with("emptied")).publish(nothing, app.go_on()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Names that queries of a graph can use.
#[utoipa::path(get, path = "/v1/graphs/{graph}/names", tag = "graphs", params(("graph" = String, Path)),
    responses((status = 200, body = Names), (status = 404, body = Problem)))]
pub async fn graph_names(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
) -> Result<Json<Names>, Problem> {
    let snapshot = app.graph(&name)?.snapshot();
    let known = known_names(&snapshot);
    let mut properties_of = std::collections::BTreeMap::<String, std::collections::BTreeSet<String>>::new();
    if let Some(graph_type) = &snapshot.graph_type {
        let nodes = graph_type.nodes.iter().map(|t| (&t.labels, &t.properties));
        for (labels, properties) in nodes.chain(graph_type.edges.iter().map(|t| (&t.labels, &t.properties))) {
            for label in labels.iter() {
                let names = properties.iter().map(|p| p.name.to_string());
                properties_of.entry(label.to_string()).or_default().extend(names);
            }
        }
    }
    let texts = |names: Vec<Arc<str>>| {
        let mut names: Vec<String> = names.iter().map(|n| n.to_string()).collect();
        names.sort();
        names.dedup();
        names
    };
    Ok(Json(Names {
        node_labels: texts(known.node_labels),
        edge_labels: texts(known.edge_labels),
        node_properties: texts(known.node_properties),
        edge_properties: texts(known.edge_properties),
        properties_of: properties_of.into_iter().map(|(l, p)| (l, p.into_iter().collect())).collect(),
    }))
}

/// Graph types by name.
#[utoipa::path(get, path = "/v1/graph-types", tag = "graphs", responses((status = 200, body = Vec<GraphTypeText>)))]
pub async fn list_graph_types(State(app): State<Arc<App>>) -> Result<Json<Vec<GraphTypeText>>, Problem> {
    let types = app.catalog.graph_types().await?;
    Ok(Json(types.into_iter().map(|t| GraphTypeText { name: t.name, text: t.text }).collect()))
}
