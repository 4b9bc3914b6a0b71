//! Measures of a graph: what there is, and each of them as an operation with arguments of its own.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::HeaderMap;
use axum::response::Response;
use graphodrome_engine::{MeasureRequest, measure, measures};
use graphodrome_graph::Value;
use graphodrome_language::{Procedure, Takes};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Js, json};
use utoipa::ToSchema;

use crate::extract;
use crate::problem::Problem;
use crate::routes::query::accepted;
use crate::run::{self, QueryRequest};
use crate::state::App;

/// An argument of a measure.
#[derive(Debug, Serialize, ToSchema)]
pub struct MeasureArgument {
    pub name: &'static str,
    /// What it takes, in words.
    #[serde(rename = "type")]
    pub takes: &'static str,
    pub required: bool,
    /// What is taken where it is not given, in words.
    pub default: Option<&'static str>,
    pub description: &'static str,
}

/// A column of a measure's result.
#[derive(Debug, Serialize, ToSchema)]
pub struct MeasureColumn {
    pub name: &'static str,
    /// A value type of the language, `NODE` or `EDGE`.
    #[serde(rename = "type")]
    pub gives: &'static str,
    pub description: &'static str,
}

/// A measure that can be called.
#[derive(Debug, Serialize, ToSchema)]
pub struct MeasureInfo {
    pub name: &'static str,
    pub description: &'static str,
    pub signature: String,
    pub arguments: Vec<MeasureArgument>,
    pub columns: Vec<MeasureColumn>,
    /// Whether no node or edge has more than one row, so that its columns can become properties.
    pub once_an_element: bool,
    /// The paper or book it follows.
    pub source: &'static str,
    /// What it costs, with n nodes and m edges.
    pub cost: &'static str,
}

fn info(procedure: &Procedure) -> MeasureInfo {
    let argument = |a: &graphodrome_language::Argument| MeasureArgument {
        name: a.name,
        takes: a.takes.describe(),
        required: a.usual.is_none(),
        default: a.usual,
        description: a.about,
    };
    let column = |c: &graphodrome_language::YieldColumn| MeasureColumn {
        name: c.name,
        gives: c.gives.describe(),
        description: c.about,
    };
    MeasureInfo {
        name: procedure.name,
        description: procedure.about,
        signature: procedure.signature(),
        arguments: procedure.arguments.iter().map(argument).collect(),
        columns: procedure.yields.iter().map(column).collect(),
        once_an_element: procedure.once_an_element,
        source: procedure.source,
        cost: procedure.cost,
    }
}

/// All measures, by name.
#[utoipa::path(get, path = "/v1/measures", tag = "measures", responses((status = 200, body = Vec<MeasureInfo>)))]
pub async fn list_measures() -> Json<Vec<MeasureInfo>> {
    Json(measures().iter().map(info).collect())
}

/// How a measure is run.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MeasureCall {
    /// By name; a node is given by a node pattern: `(:Site {code: 'S-001'})`.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub arguments: Map<String, Js>,
    /// So many rows, the foremost first; all without it.
    pub top: Option<u64>,
    /// Columns that become properties of the rows' element, as `{"score": "rank"}`, in one commit; there are no rows
    /// then.
    #[serde(default)]
    pub set: BTreeMap<String, String>,
    /// Only say which query it is.
    #[serde(default)]
    pub text_only: bool,
    pub timeout_ms: Option<u64>,
    pub max_rows: Option<u64>,
}

fn value(name: &str, json: &Js) -> Result<Value, Problem> {
    Ok(match json {
        Js::Null => Value::Null,
        Js::Bool(b) => Value::Bool(*b),
        Js::String(text) => Value::text(text.as_str()),
        Js::Number(n) => match (n.as_i64(), n.as_f64()) {
            (Some(n), _) => Value::Int(n),
            (None, Some(f)) => Value::Float(f),
            _ => {
                return Err(Problem::bad_request(format!(
                    "{name} is {n}, which is no number of the language"
                )));
            }
        },
        other => {
            return Err(Problem::bad_request(format!("{name} is {other}"))
                .hint("an argument is a text, a number, or a node pattern as text"));
        }
    })
}

/// Runs a measure over a graph or a part of it. The result comes in the format that the Accept header names, as that of
/// a query.
#[utoipa::path(post, path = "/v1/graphs/{graph}/measures/{measure}", tag = "measures", request_body = MeasureCall,
    params(("graph" = String, Path), ("measure" = String, Path)),
    responses((status = 200, description = "As that of a query", body = Object), (status = 422, body = Problem)))]
pub async fn run_measure(
    State(app): State<Arc<App>>, Path((graph, name)): Path<(String, String)>, headers: HeaderMap,
    extract::Json(call): extract::Json<MeasureCall>,
) -> Result<Response, Problem> {
    use axum::response::IntoResponse;
    app.graph(&graph)?;
    let procedure = measure(&name).map_err(Problem::not_found)?;
    let arguments =
        call.arguments.iter().map(|(n, v)| Ok((n.clone(), value(n, v)?))).collect::<Result<_, Problem>>()?;
    let set = call.set.into_iter().collect();
    let request = MeasureRequest { name: procedure.name.into(), arguments, top: call.top, set };
    let text = request.query().map_err(Problem::bad_request)?;
    if call.text_only {
        return Ok(Json(json!({ "text": text })).into_response());
    }
    let request = QueryRequest {
        text,
        graph: Some(graph),
        timeout_ms: call.timeout_ms,
        max_rows: call.max_rows,
        ..QueryRequest::default()
    };
    let format = accepted(&headers)?;
    run::query(app, request, format).await
}

/// A JSON Schema of a measure's call, for the description of its operation.
pub(super) fn call_schema(procedure: &Procedure) -> Js {
    let argument = |a: &graphodrome_language::Argument| {
        let shape = match a.takes {
            Takes::Number => json!({ "type": "number" }),
            Takes::WholeNumber => json!({ "type": "integer", "minimum": 0 }),
            _ => json!({ "type": "string" }),
        };
        let usual = a.usual.map_or(String::new(), |usual| format!(" Without it: {usual}."));
        let mut shape = shape;
        shape["description"] = json!(format!("{}: {}.{usual}", a.takes.describe(), a.about));
        (a.name.to_string(), shape)
    };
    let needed: Vec<&str> =
        procedure.arguments.iter().filter(|a| a.usual.is_none()).map(|a| a.name).collect();
    let mut arguments = json!({
        "type": "object",
        "additionalProperties": false,
        "properties": procedure.arguments.iter().map(argument).collect::<Map<_, _>>(),
    });
    if !needed.is_empty() {
        arguments["required"] = json!(needed);
    }
    json!({
        "type": "object",
        "properties": {
            "arguments": arguments,
            "top": { "type": "integer", "minimum": 0, "description": "So many rows, the foremost first; all without it." },
            "set": { "type": "object", "additionalProperties": { "type": "string" },
                "description": "Columns that become properties of the rows' element, in one commit; there are no rows then." },
            "text_only": { "type": "boolean", "description": "Only say which query it is." },
            "timeout_ms": { "type": "integer", "minimum": 0 },
            "max_rows": { "type": "integer", "minimum": 0 },
        },
    })
}

/// Every measure as an operation of its own: the path that takes any name, with the name written out and the arguments
/// described.
pub(super) fn describe(document: &mut utoipa::openapi::OpenApi) {
    use utoipa::openapi::schema::Schema;
    use utoipa::openapi::{RefOr, path::Parameter};
    const ANY: &str = "/v1/graphs/{graph}/measures/{measure}";
    let Some(any) = document.paths.paths.get(ANY).cloned() else { return };
    for procedure in measures().iter() {
        let mut item = any.clone();
        let Some(operation) = &mut item.post else { continue };
        operation.operation_id = Some(format!("measure_{}", procedure.name));
        operation.summary = Some(procedure.about.into());
        operation.description = Some(format!(
            "{}\n\nSource: {}. Cost: {}.",
            procedure.signature(),
            procedure.source,
            procedure.cost
        ));
        operation.parameters = operation.parameters.take().map(|all| {
            let is_measure = |p: &RefOr<Parameter>| matches!(p, RefOr::T(p) if p.name == "measure");
            all.into_iter().filter(|p| !is_measure(p)).collect()
        });
        let schema: Result<RefOr<Schema>, _> = serde_json::from_value(call_schema(procedure));
        if let (Some(RefOr::T(body)), Ok(schema)) = (&mut operation.request_body, schema) {
            for content in body.content.values_mut() {
                let RefOr::T(content) = content else { continue };
                content.schema = Some(schema.clone());
            }
        }
        document.paths.paths.insert(ANY.replace("{measure}", procedure.name), item);
    }
}
