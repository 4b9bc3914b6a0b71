//! Models: what a graph's type is or would be, what breaks one, and drafts from tables.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Multipart, State};
use axum::http::StatusCode;
use graphodrome_formats::{DraftTable, Source, TableFormat, draft};
use graphodrome_graph::{
    Dense, EdgeType, Element, Finding, GraphError, GraphType, NodeType, PropertyType, Snapshot,
    observed_type, violations,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::extract;
use crate::problem::Problem;
use crate::state::App;

/// Bytes of all tables of a draft together.
const DRAFT_BYTES: usize = 1 << 30;

#[derive(Serialize, ToSchema)]
pub struct ModelProperty {
    pub name: String,
    #[serde(rename = "type")]
    pub value_type: String,
    pub not_null: bool,
    /// As a literal of the language.
    pub default: Option<String>,
}

#[derive(Serialize, ToSchema)]
pub struct ModelNodeType {
    pub name: Option<String>,
    pub labels: Vec<String>,
    /// The labels its key holds for.
    pub key_labels: Vec<String>,
    pub properties: Vec<ModelProperty>,
    pub key: Vec<String>,
    /// Nodes with exactly these labels.
    pub count: u64,
}

#[derive(Serialize, ToSchema)]
pub struct ModelEdgeType {
    pub name: Option<String>,
    pub labels: Vec<String>,
    pub directed: bool,
    /// Label sets of which the source has at least one whole.
    pub source: Vec<Vec<String>>,
    pub target: Vec<Vec<String>>,
    pub properties: Vec<ModelProperty>,
    pub key: Vec<String>,
    /// Edges with exactly these labels, whatever their ends.
    pub count: u64,
}

/// A graph's model.
#[derive(Serialize, ToSchema)]
pub struct ModelAnswer {
    pub graph: String,
    pub version: u64,
    /// Whether the graph type is declared; otherwise it says what is in the graph now.
    pub closed: bool,
    /// The graph type as text of the language.
    pub text: String,
    pub node_types: Vec<ModelNodeType>,
    pub edge_types: Vec<ModelEdgeType>,
}

fn texts<'t>(names: impl IntoIterator<Item = &'t Arc<str>>) -> Vec<String> {
    names.into_iter().map(|n| n.to_string()).collect()
}

fn properties(types: &[PropertyType]) -> Vec<ModelProperty> {
    types
        .iter()
        .map(|p| ModelProperty {
            name: p.name.to_string(),
            value_type: p.value_type.to_string(),
            not_null: p.not_null,
            default: p.default.as_ref().map(|d| d.literal()),
        })
        .collect()
}

fn answer(graph: &str, snapshot: &Snapshot, graph_type: &GraphType) -> ModelAnswer {
    let (nodes, edges) = (snapshot.node_label_counts(), snapshot.edge_label_counts());
    let node = |t: &NodeType| ModelNodeType {
        name: t.name.as_ref().map(|n| n.to_string()),
        labels: texts(t.labels.iter()),
        key_labels: texts(t.key_labels.iter()),
        properties: properties(&t.properties),
        key: texts(&t.key),
        count: nodes.iter().find(|(labels, _)| *labels == t.labels).map_or(0, |(_, n)| *n),
    };
    let edge = |t: &EdgeType| ModelEdgeType {
        name: t.name.as_ref().map(|n| n.to_string()),
        labels: texts(t.labels.iter()),
        directed: t.directed,
        source: t.source.0.iter().map(|set| texts(set.iter())).collect(),
        target: t.target.0.iter().map(|set| texts(set.iter())).collect(),
        properties: properties(&t.properties),
        key: texts(&t.key),
        count: edges.iter().find(|(labels, _)| *labels == t.labels).map_or(0, |(_, n)| *n),
    };
    ModelAnswer {
        graph: graph.to_string(),
        version: snapshot.version,
        closed: snapshot.graph_type.is_some(),
        text: format!("{graph_type};"),
        node_types: graph_type.nodes.iter().map(node).collect(),
        edge_types: graph_type.edges.iter().map(edge).collect(),
    }
}

/// A look at the whole graph ends when the service stops.
fn go_on(app: &App) -> impl Fn() -> Result<(), GraphError> + '_ {
    || {
        if app.is_stopping() {
            return Err(GraphError::new(graphodrome_graph::Code("R0001"), "the service is stopping"));
        }
        Ok(())
    }
}

fn stopped(error: GraphError) -> Problem {
    Problem::new(StatusCode::SERVICE_UNAVAILABLE, error.message)
}

/// A graph's model: the declared type of a closed graph; for an open one what is in it, in the same form.
#[utoipa::path(get, path = "/v1/graphs/{graph}/model", tag = "models", params(("graph" = String, Path)),
    responses((status = 200, body = ModelAnswer), (status = 404, body = Problem)))]
pub async fn show_model(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
) -> Result<Json<ModelAnswer>, Problem> {
    let snapshot = app.graph(&name)?.snapshot();
    let found = tokio::task::spawn_blocking(move || match &snapshot.graph_type {
        Some(declared) => Ok(answer(&name, &snapshot, declared)),
        None => observed_type(&snapshot, &format!("{name}_type"), &go_on(&app))
            .map(|observed| answer(&name, &snapshot, &observed)),
    });
    Ok(Json(found.await?.map_err(stopped)?))
}

/// What to check a graph against.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelCheck {
    /// A text with a CREATE GRAPH TYPE; without it the graph's own type.
    #[serde(default)]
    pub model: Option<String>,
}

#[derive(Serialize, ToSchema)]
pub struct ModelFinding {
    /// `node` or `edge`.
    pub element: String,
    pub labels: Vec<String>,
    pub property: Option<String>,
    pub message: String,
    pub count: u64,
    /// The first few, as label and key.
    pub examples: Vec<String>,
}

#[derive(Serialize, ToSchema)]
pub struct ModelReport {
    pub graph: String,
    pub version: u64,
    pub nodes: u64,
    pub edges: u64,
    /// What breaks the model.
    pub violations: Vec<ModelFinding>,
    /// What breaks nothing and may not be meant.
    pub findings: Vec<ModelFinding>,
}

/// An element as a person knows it: its labels and its key, or all of its properties where it has none.
fn shown(snapshot: &Snapshot, element: Element, id: Dense) -> String {
    let (labels, properties) = match element {
        Element::Node => (snapshot.node_labels(id), snapshot.node_properties(id)),
        Element::Edge => (snapshot.edge_labels(id), snapshot.edge_properties(id)),
    };
    let key = snapshot.keys.iter().find(|k| k.element == element && labels.contains(&k.label));
    let told = properties.iter().filter(|(name, _)| key.is_none_or(|k| k.properties.contains(name)));
    let pairs: Vec<String> = told.take(3).map(|(n, v)| format!("{n}: {}", v.excerpt())).collect();
    format!(":{} {{{}}}", labels.join("&"), pairs.join(", "))
}

fn model_finding(snapshot: &Snapshot, finding: Finding) -> ModelFinding {
    let Finding { element, labels, property, message, count, examples } = finding;
    ModelFinding {
        message: format!("{element} :{}: {message}", labels.join("&")),
        element: element.to_string(),
        labels: texts(labels.iter()),
        property: property.map(|p| p.to_string()),
        count,
        examples: examples.into_iter().map(|id| shown(snapshot, element, id)).collect(),
    }
}

/// Types that nothing is of, and names that differ in case only.
fn softer(snapshot: &Snapshot, graph_type: &GraphType) -> Vec<ModelFinding> {
    let mut found = vec![];
    let mut say = |element: Element, labels: Vec<String>, message: String| {
        let (property, examples) = (None, vec![]);
        found.push(ModelFinding {
            element: element.to_string(),
            labels,
            property,
            message,
            count: 1,
            examples,
        });
    };
    let (nodes, edges) = (snapshot.node_label_counts(), snapshot.edge_label_counts());
    for t in graph_type.nodes.iter().filter(|t| nodes.iter().all(|(labels, _)| *labels != t.labels)) {
        let message = format!("there is no node with exactly the labels :{}", t.labels.join("&"));
        say(Element::Node, texts(t.labels.iter()), message);
    }
    for t in graph_type.edges.iter().filter(|t| edges.iter().all(|(labels, _)| *labels != t.labels)) {
        let message = format!("there is no edge :{}", t.labels.join("&"));
        say(Element::Edge, texts(t.labels.iter()), message);
    }
    for (element, counts) in [(Element::Node, &nodes), (Element::Edge, &edges)] {
        let mut names: Vec<&Arc<str>> = counts.iter().flat_map(|(labels, _)| labels.iter()).collect();
        names.sort();
        names.dedup();
        for (i, a) in names.iter().enumerate() {
            for b in names[i + 1..].iter().filter(|b| b.to_lowercase() == a.to_lowercase()) {
                let message = format!("the labels {a} and {b} differ in case only");
                say(element, vec![a.to_string(), b.to_string()], message);
            }
        }
    }
    found
}

fn declared(text: &str) -> Result<GraphType, Problem> {
    let statements = parse(text).map_err(|e| Problem::from_query(&e, text))?;
    let found = statements.into_iter().find_map(|statement| match statement {
        Statement::CreateGraphType { definition, .. } => Some(*definition),
        _ => None,
    });
    found.ok_or_else(|| {
        Problem::bad_request("the model has no CREATE GRAPH TYPE").hint("model show -g GRAPH prints one")
    })
}

/// Reports what a graph breaks of a model: counts, examples, what is wrong. Nothing is changed.
#[utoipa::path(post, path = "/v1/graphs/{graph}/model/check", tag = "models", params(("graph" = String, Path)),
    request_body = ModelCheck, responses((status = 200, body = ModelReport), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn check_model(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Json(request): extract::Json<ModelCheck>,
) -> Result<Json<ModelReport>, Problem> {
    let snapshot = app.graph(&name)?.snapshot();
    let graph_type = match (&request.model, &snapshot.graph_type) {
        (Some(text), _) => Arc::new(declared(text)?),
        (None, Some(own)) => own.clone(),
        (None, None) => {
            return Err(Problem::bad_request(format!(
                "the graph {name} is open: it has no model of its own"
            ))
            .hint("give one to check it against"));
        }
    };
    let report = tokio::task::spawn_blocking(move || {
        let broken = violations(&snapshot, &graph_type, &go_on(&app))?;
        Ok(ModelReport {
            graph: name,
            version: snapshot.version,
            nodes: snapshot.node_count(),
            edges: snapshot.edge_count(),
            violations: broken.into_iter().map(|finding| model_finding(&snapshot, finding)).collect(),
            findings: softer(&snapshot, &graph_type),
        })
    });
    Ok(Json(report.await?.map_err(stopped)?))
}

/// A proposed model and load mapping.
#[derive(Serialize, ToSchema)]
pub struct DraftAnswer {
    /// A graph type and a graph of it, with comments.
    pub model: String,
    /// The load mapping (TOML), with comments.
    pub mapping: String,
    /// What a person should look at.
    pub remarks: Vec<String>,
    pub node_types: usize,
    pub edge_types: usize,
}

/// Proposes a model and a load mapping from tables: a field `name` with the graph's name, and a field per
/// table. Nothing is kept.
#[utoipa::path(post, path = "/v1/drafts", tag = "models",
    request_body(content = Object, content_type = "multipart/form-data"),
    responses((status = 200, body = DraftAnswer), (status = 413, body = Problem), (status = 415, body = Problem), (status = 422, body = Problem)))]
pub async fn draft_model(mut form: Multipart) -> Result<Json<DraftAnswer>, Problem> {
    let broken = |e: axum::extract::multipart::MultipartError| Problem::new(e.status(), e.body_text());
    let (mut name, mut tables, mut total) = ("draft".to_string(), vec![], 0);
    while let Some(mut field) = form.next_field().await.map_err(broken)? {
        let file = field.name().unwrap_or_default().to_string();
        if file == "name" {
            name = field.text().await.map_err(broken)?;
            continue;
        }
        let mut bytes = vec![];
        while let Some(chunk) = field.chunk().await.map_err(broken)? {
            total += chunk.len();
            if total > DRAFT_BYTES {
                let limit = DRAFT_BYTES >> 20;
                return Err(Problem::new(
                    StatusCode::PAYLOAD_TOO_LARGE,
                    format!("the tables are larger than {limit} MiB together"),
                )
                .hint("draft from them with the command line: graphodrome model draft"));
            }
            bytes.extend_from_slice(&chunk);
        }
        let format = match file.rsplit('.').next() {
            Some("tsv" | "tab") => TableFormat::Tsv,
            Some("jsonl" | "ndjson") => TableFormat::Jsonl,
            Some("parquet") => TableFormat::Parquet,
            _ => TableFormat::Csv,
        };
        tables.push(DraftTable { file, format, source: Arc::new(Source::Bytes(bytes)) });
    }
    if tables.is_empty() {
        return Err(Problem::bad_request("the upload has no table").hint("send a field per table"));
    }
    let made = tokio::task::spawn_blocking(move || draft(&name, &tables)).await?;
    let made = made.map_err(|e| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, e.to_string()))?;
    Ok(Json(DraftAnswer {
        model: made.model,
        mapping: made.mapping,
        remarks: made.remarks,
        node_types: made.node_types,
        edge_types: made.edge_types,
    }))
}
