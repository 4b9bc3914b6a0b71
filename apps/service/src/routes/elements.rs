//! Single elements by label and key, without a query: read, create, change, delete; a node's
//! neighbours by edge label and direction.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use graphodrome_formats::element_json;
use graphodrome_graph::{
    Dense, Direction, Element, GraphError, LabelExpression, LabelSet, NewEdge, NewNode, PropertyType,
    Snapshot, Transaction, Value, label_set,
};
use graphodrome_store::GraphHandle;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json_};
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::problem::Problem;
use crate::state::App;
use crate::values;
use crate::who;

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNodeRequest {
    pub labels: Vec<String>,
    #[serde(default)]
    #[schema(value_type = Object)]
    pub properties: Map<String, Json_>,
}

/// A node by label and key.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NodeReference {
    pub label: String,
    /// The key's value; for a key of several properties an object.
    #[schema(value_type = Object)]
    pub key: Json_,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewEdgeRequest {
    pub label: String,
    pub source: NodeReference,
    pub target: NodeReference,
    #[serde(default)]
    pub undirected: bool,
    #[serde(default)]
    #[schema(value_type = Object)]
    pub properties: Map<String, Json_>,
}

#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PropertyChange {
    /// Properties to set; null removes one. The others stay.
    #[schema(value_type = Object)]
    pub properties: Map<String, Json_>,
}

#[derive(Deserialize, IntoParams)]
pub struct NeighbourParameters {
    /// Label of the edges; all without it.
    pub edge: Option<String>,
    /// `out`, `in` or `any` (the default).
    pub direction: Option<String>,
    /// At most 10,000; 100 without it.
    pub limit: Option<usize>,
}

#[derive(Deserialize, IntoParams)]
pub struct DeleteParameters {
    /// Delete the node's edges with it.
    #[serde(default)]
    pub detach: bool,
}

#[derive(Serialize, ToSchema)]
pub struct Neighbour {
    /// Whether the edge leads `out` of the node, `in` to it, or is `undirected`.
    pub direction: &'static str,
    #[schema(value_type = Object)]
    pub edge: Json_,
    #[schema(value_type = Object)]
    pub node: Json_,
}

#[derive(Serialize, ToSchema)]
pub struct NeighbourCount {
    pub edge: String,
    pub direction: &'static str,
    pub count: u64,
}

#[derive(Serialize, ToSchema)]
pub struct Neighbours {
    /// How many edges there are, by label and direction, whatever the limit.
    pub counts: Vec<NeighbourCount>,
    pub neighbours: Vec<Neighbour>,
    pub truncated: bool,
}

/// The element with this label and key. A key of several properties is written with commas.
pub(super) fn seek(
    snapshot: &Snapshot, element: Element, label: &str, key: &Json_,
) -> Result<Dense, Problem> {
    let place =
        snapshot.keys.iter().position(|k| k.element == element && *k.label == *label).ok_or_else(|| {
            let known: Vec<&str> =
                snapshot.keys.iter().filter(|k| k.element == element).map(|k| &*k.label).collect();
            let hint = if known.is_empty() {
                "the graph declares no key".into()
            } else {
                format!("there are keys on {}", known.join(", "))
            };
            Problem::not_found(format!("there is no {element} key on {label}")).hint(hint)
        })?;
    let definition = &snapshot.keys[place];
    let texts: Vec<Json_> = match key {
        Json_::Object(fields) => {
            definition.properties.iter().map(|p| fields.get(&**p).cloned().unwrap_or_default()).collect()
        }
        Json_::String(text) if definition.properties.len() > 1 => {
            text.split(',').map(|t| Json_::String(t.into())).collect()
        }
        other => vec![other.clone()],
    };
    let mut values = vec![];
    for (property, json) in definition.properties.iter().zip(&texts) {
        let declared = declared(snapshot, element, label, property);
        values.push(
            values::property(json, declared.as_ref().map(|p| &p.value_type)).map_err(Problem::bad_request)?,
        );
    }
    let found = snapshot.seek(place, &values).or_else(|| {
        // In an open graph nothing says what type a key in a path has: a whole number may be meant.
        let numbers: Option<Vec<Value>> = values
            .iter()
            .zip(&definition.properties)
            .map(|(value, property)| match value {
                Value::Text(text) if declared(snapshot, element, label, property).is_none() => {
                    text.parse().ok().map(Value::Int)
                }
                other => Some(other.clone()),
            })
            .collect();
        numbers.and_then(|numbers| snapshot.seek(place, &numbers))
    });
    found.ok_or_else(|| {
        let shown: Vec<String> = values.iter().map(Value::excerpt).collect();
        Problem::not_found(format!(
            "there is no {element} :{label} with {} = {}",
            definition.properties.join(", "),
            shown.join(", ")
        ))
    })
}

fn declared(snapshot: &Snapshot, element: Element, label: &str, property: &str) -> Option<PropertyType> {
    let graph_type = snapshot.graph_type.as_ref()?;
    let has = |labels: &LabelSet| labels.iter().any(|l| **l == *label);
    let lists: Vec<&Vec<PropertyType>> = match element {
        Element::Node => graph_type.nodes.iter().filter(|t| has(&t.labels)).map(|t| &t.properties).collect(),
        Element::Edge => graph_type.edges.iter().filter(|t| has(&t.labels)).map(|t| &t.properties).collect(),
    };
    lists.into_iter().flatten().find(|p| *p.name == *property).cloned()
}

fn read_properties(
    snapshot: &Snapshot, element: Element, labels: &[String], given: &Map<String, Json_>,
) -> Result<BTreeMap<Arc<str>, Value>, Problem> {
    let mut properties = BTreeMap::new();
    for (name, json) in given {
        let declared = labels.iter().find_map(|l| declared(snapshot, element, l, name));
        let value = values::property(json, declared.as_ref().map(|p| &p.value_type))
            .map_err(|e| Problem::bad_request(format!("property {name}: {e}")))?;
        properties.insert(Arc::from(name.as_str()), value);
    }
    Ok(properties)
}

fn graph_problem(error: GraphError) -> Problem {
    let mut problem = Problem::new(StatusCode::UNPROCESSABLE_ENTITY, error.message);
    problem.code = Some(error.code.0.into());
    problem.hint = error.hint;
    problem
}

/// Makes a change in a turn; answers when it is durable.
async fn change<T>(
    graph: &Arc<GraphHandle>, make: impl FnOnce(&mut Transaction) -> Result<T, Problem>,
) -> Result<(T, Arc<Snapshot>), Problem> {
    let turn = graph.turn().await?;
    let mut transaction = Transaction::new((*turn.snapshot()).clone());
    let made = make(&mut transaction)?;
    let (snapshot, changes) = transaction.finish().map_err(graph_problem)?;
    let after = Arc::new(snapshot.clone());
    if !changes.is_empty() {
        turn.by(&who::with("element route")).commit(snapshot, changes).await?;
    }
    Ok((made, after))
}

/// Reads a node.
#[utoipa::path(get, path = "/v1/graphs/{graph}/nodes/{label}/{key}", tag = "elements",
    params(("graph" = String, Path), ("label" = String, Path), ("key" = String, Path)),
    responses((status = 200, body = Object), (status = 404, body = Problem)))]
pub async fn read_node(
    State(app): State<Arc<App>>, extract::Path((graph, label, key)): extract::Path<(String, String, String)>,
) -> Result<Json<Json_>, Problem> {
    let snapshot = app.graph(&graph)?.snapshot();
    let node = seek(&snapshot, Element::Node, &label, &Json_::String(key))?;
    Ok(Json(element_json(Element::Node, node, &snapshot)))
}

/// Creates a node.
#[utoipa::path(post, path = "/v1/graphs/{graph}/nodes", tag = "elements", params(("graph" = String, Path)), request_body = NewNodeRequest,
    responses((status = 201, body = Object), (status = 422, body = Problem)))]
pub async fn create_node(
    State(app): State<Arc<App>>, extract::Path(graph): extract::Path<String>,
    extract::Json(new): extract::Json<NewNodeRequest>,
) -> Result<(StatusCode, Json<Json_>), Problem> {
    let graph = app.graph(&graph)?;
    let (node, after) = change(&graph, |t| {
        let properties = read_properties(t.snapshot(), Element::Node, &new.labels, &new.properties)?;
        let node = NewNode {
            labels: label_set(new.labels.iter().map(String::as_str)),
            properties: properties.into_iter().collect(),
        };
        t.insert_node(node).map_err(graph_problem)
    })
    .await?;
    Ok((StatusCode::CREATED, Json(element_json(Element::Node, node, &after))))
}

fn merged(old: &[(Arc<str>, Value)], given: BTreeMap<Arc<str>, Value>) -> Vec<(Arc<str>, Value)> {
    let mut properties: BTreeMap<Arc<str>, Value> = old.iter().cloned().collect();
    properties.extend(given);
    properties.into_iter().collect()
}

/// Changes properties of a node.
#[utoipa::path(patch, path = "/v1/graphs/{graph}/nodes/{label}/{key}", tag = "elements", request_body = PropertyChange,
    params(("graph" = String, Path), ("label" = String, Path), ("key" = String, Path)),
    responses((status = 200, body = Object), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn change_node(
    State(app): State<Arc<App>>, extract::Path((graph, label, key)): extract::Path<(String, String, String)>,
    extract::Json(wanted): extract::Json<PropertyChange>,
) -> Result<Json<Json_>, Problem> {
    let graph = app.graph(&graph)?;
    let (node, after) = change(&graph, |t| {
        let snapshot = t.snapshot().clone();
        let node = seek(&snapshot, Element::Node, &label, &Json_::String(key))?;
        let given =
            read_properties(&snapshot, Element::Node, std::slice::from_ref(&label), &wanted.properties)?;
        let properties = merged(&snapshot.node_properties(node), given);
        t.change_node(node, snapshot.node_labels(node), properties).map_err(graph_problem)?;
        Ok(node)
    })
    .await?;
    Ok(Json(element_json(Element::Node, node, &after)))
}

/// Deletes a node.
#[utoipa::path(delete, path = "/v1/graphs/{graph}/nodes/{label}/{key}", tag = "elements",
    params(("graph" = String, Path), ("label" = String, Path), ("key" = String, Path), DeleteParameters),
    responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn delete_node(
    State(app): State<Arc<App>>, extract::Path((graph, label, key)): extract::Path<(String, String, String)>,
    extract::Query(parameters): extract::Query<DeleteParameters>,
) -> Result<StatusCode, Problem> {
    let graph = app.graph(&graph)?;
    change(&graph, |t| {
        let node = seek(t.snapshot(), Element::Node, &label, &Json_::String(key))?;
        t.delete_node(node, parameters.detach);
        t.settle().map_err(|mut e| {
            if e.hint.is_some() {
                e.hint = Some("add ?detach=true to delete them with it".into());
            }
            graph_problem(e)
        })
    })
    .await?;
    Ok(StatusCode::NO_CONTENT)
}

pub(super) fn direction_named(name: Option<&str>) -> Result<Direction, Problem> {
    match name {
        None | Some("any") => Ok(Direction::Any),
        Some("out") => Ok(Direction::Out),
        Some("in") => Ok(Direction::In),
        Some(other) => {
            Err(Problem::bad_request(format!("the direction '{other}' is not known")).hint("out, in or any"))
        }
    }
}

/// A node's neighbours by edge label and direction, with counts of all its edges.
#[utoipa::path(get, path = "/v1/graphs/{graph}/nodes/{label}/{key}/neighbours", tag = "elements",
    params(("graph" = String, Path), ("label" = String, Path), ("key" = String, Path), NeighbourParameters),
    responses((status = 200, body = Neighbours), (status = 404, body = Problem)))]
pub async fn node_neighbours(
    State(app): State<Arc<App>>, extract::Path((graph, label, key)): extract::Path<(String, String, String)>,
    extract::Query(parameters): extract::Query<NeighbourParameters>,
) -> Result<Json<Neighbours>, Problem> {
    let snapshot = app.graph(&graph)?.snapshot();
    let node = seek(&snapshot, Element::Node, &label, &Json_::String(key))?;
    let direction = direction_named(parameters.direction.as_deref())?;
    let limit = parameters.limit.unwrap_or(100).min(10_000);
    let wanted = parameters.edge.as_deref().map(|l| LabelExpression::Name(l.into()));
    if let Some(edge) = &parameters.edge {
        let known = graphodrome_engine::known_names(&snapshot).edge_labels;
        if !known.iter().any(|l| **l == **edge) {
            let near = graphodrome_language::nearest(edge, known.iter().map(|l| &**l));
            let problem = Problem::not_found(format!("there is no edge label {edge} in this graph"));
            return Err(match near {
                Some(near) => problem.hint(format!("did you mean {near}?")),
                None => problem,
            });
        }
    }
    let mut counts: BTreeMap<(String, &'static str), u64> = BTreeMap::new();
    let direction_of = |edge: Dense| -> &'static str {
        if !snapshot.edge_directed(edge) {
            "undirected"
        } else if snapshot.edge_ends(edge).0 == node {
            "out"
        } else {
            "in"
        }
    };
    snapshot.for_each_adjacent(node, Direction::Any, &snapshot.edge_test(None), |edge, _| {
        let label = snapshot.edge_labels(edge).join("&");
        *counts.entry((label, direction_of(edge))).or_default() += 1;
        ControlFlow::Continue(())
    });
    let mut neighbours = vec![];
    let mut truncated = false;
    snapshot.for_each_adjacent(node, direction, &snapshot.edge_test(wanted.as_ref()), |edge, other| {
        if neighbours.len() == limit {
            truncated = true;
            return ControlFlow::Break(());
        }
        neighbours.push(Neighbour {
            direction: direction_of(edge),
            edge: element_json(Element::Edge, edge, &snapshot),
            node: element_json(Element::Node, other, &snapshot),
        });
        ControlFlow::Continue(())
    });
    let counts = counts
        .into_iter()
        .map(|((edge, direction), count)| NeighbourCount { edge, direction, count })
        .collect();
    Ok(Json(Neighbours { counts, neighbours, truncated }))
}

/// Creates an edge between two nodes.
#[utoipa::path(post, path = "/v1/graphs/{graph}/edges", tag = "elements", params(("graph" = String, Path)), request_body = NewEdgeRequest,
    responses((status = 201, body = Object), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn create_edge(
    State(app): State<Arc<App>>, extract::Path(graph): extract::Path<String>,
    extract::Json(new): extract::Json<NewEdgeRequest>,
) -> Result<(StatusCode, Json<Json_>), Problem> {
    let graph = app.graph(&graph)?;
    let (edge, after) = change(&graph, |t| {
        let snapshot = t.snapshot().clone();
        let properties =
            read_properties(&snapshot, Element::Edge, std::slice::from_ref(&new.label), &new.properties)?;
        let edge = NewEdge {
            labels: label_set([new.label.as_str()]),
            properties: properties.into_iter().collect(),
            directed: !new.undirected,
            source: seek(&snapshot, Element::Node, &new.source.label, &new.source.key)?,
            target: seek(&snapshot, Element::Node, &new.target.label, &new.target.key)?,
        };
        t.insert_edge(edge).map_err(graph_problem)
    })
    .await?;
    Ok((StatusCode::CREATED, Json(element_json(Element::Edge, edge, &after))))
}

/// Reads an edge whose label has a key.
#[utoipa::path(get, path = "/v1/graphs/{graph}/edges/{label}/{key}", tag = "elements",
    params(("graph" = String, Path), ("label" = String, Path), ("key" = String, Path)),
    responses((status = 200, body = Object), (status = 404, body = Problem)))]
pub async fn read_edge(
    State(app): State<Arc<App>>, extract::Path((graph, label, key)): extract::Path<(String, String, String)>,
) -> Result<Json<Json_>, Problem> {
    let snapshot = app.graph(&graph)?.snapshot();
    let edge = seek(&snapshot, Element::Edge, &label, &Json_::String(key))?;
    Ok(Json(element_json(Element::Edge, edge, &snapshot)))
}

/// Changes properties of an edge.
#[utoipa::path(patch, path = "/v1/graphs/{graph}/edges/{label}/{key}", tag = "elements", request_body = PropertyChange,
    params(("graph" = String, Path), ("label" = String, Path), ("key" = String, Path)),
    responses((status = 200, body = Object), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn change_edge(
    State(app): State<Arc<App>>, extract::Path((graph, label, key)): extract::Path<(String, String, String)>,
    extract::Json(wanted): extract::Json<PropertyChange>,
) -> Result<Json<Json_>, Problem> {
    let graph = app.graph(&graph)?;
    let (edge, after) = change(&graph, |t| {
        let snapshot = t.snapshot().clone();
        let edge = seek(&snapshot, Element::Edge, &label, &Json_::String(key))?;
        let given =
            read_properties(&snapshot, Element::Edge, std::slice::from_ref(&label), &wanted.properties)?;
        let properties = merged(&snapshot.edge_properties(edge), given);
        t.change_edge(edge, snapshot.edge_labels(edge), properties).map_err(graph_problem)?;
        Ok(edge)
    })
    .await?;
    Ok(Json(element_json(Element::Edge, edge, &after)))
}

/// Deletes an edge.
#[utoipa::path(delete, path = "/v1/graphs/{graph}/edges/{label}/{key}", tag = "elements",
    params(("graph" = String, Path), ("label" = String, Path), ("key" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn delete_edge(
    State(app): State<Arc<App>>, extract::Path((graph, label, key)): extract::Path<(String, String, String)>,
) -> Result<StatusCode, Problem> {
    let graph = app.graph(&graph)?;
    change(&graph, |t| {
        let edge = seek(t.snapshot(), Element::Edge, &label, &Json_::String(key))?;
        t.delete_edge(edge);
        Ok(())
    })
    .await?;
    Ok(StatusCode::NO_CONTENT)
}
