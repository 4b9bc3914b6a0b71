//! Saved queries, and each of them under a path of each graph.

use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::procedures;
use graphodrome_formats::{SavedParameter, SavedQuery};
use graphodrome_graph::{Value, parse_text};
use graphodrome_language::ast::Statement;
use graphodrome_language::{Token, TokenKind, parse, tokenize};
use graphodrome_store::SavedRecord;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Js, json};
use utoipa::ToSchema;

use crate::called::{self, Known};
use crate::extract;
use crate::problem::Problem;
use crate::routes::query::accepted;
use crate::run::{self, QueryRequest};
use crate::state::App;
use crate::values;

/// A query kept under a name.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedInfo {
    pub name: String,
    /// Names with `/` between them; empty for none.
    pub folder: String,
    pub description: String,
    /// Each with `name`, `type`, `not_null` and `default`.
    #[schema(value_type = Vec<Object>)]
    pub parameters: Vec<SavedParameter>,
    pub text: String,
    /// It changes the graph: only POST calls it.
    pub changes: bool,
    /// RFC 3339.
    pub changed: String,
}

/// What is kept; the name is in the path.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSaved {
    #[serde(default)]
    pub folder: String,
    #[serde(default)]
    pub description: String,
    #[serde(default)]
    #[schema(value_type = Vec<Object>)]
    pub parameters: Vec<SavedParameter>,
    pub text: String,
}

/// Whether the present moment is part of the answer, which is another one each time then: `CURRENT_DATE`
/// and its kin, or `DATE()` and the like without an argument.
pub fn asks_the_time(text: &str) -> bool {
    let (tokens, _) = tokenize(text);
    let is = |at: usize, sign: &str| matches!(tokens.get(at), Some(Token { kind: TokenKind::Punctuation(p), .. }) if *p == sign);
    tokens.iter().enumerate().any(|(at, token)| {
        let TokenKind::Word(word) = &token.kind else { return false };
        let word = word.to_ascii_uppercase();
        let of_time = word.ends_with("DATE") || word.ends_with("TIME");
        word.starts_with("CURRENT_")
            || word.starts_with("LOCAL_TIME")
            || of_time && is(at + 1, "(") && is(at + 2, ")")
    })
}

fn info(record: SavedRecord, known: &Known) -> SavedInfo {
    SavedInfo {
        changes: called::changes(&record.text, known),
        parameters: serde_json::from_value(record.parameters).unwrap_or_default(),
        name: record.name,
        folder: record.folder,
        description: record.description,
        text: record.text,
        changed: record.changed,
    }
}

pub(super) async fn find(app: &App, name: &str) -> Result<SavedInfo, Problem> {
    if let Some(record) = app.catalog.saved_query(name).await? {
        let known = called::reached(app, &record.text).await?;
        return Ok(info(record, &known));
    }
    let all = app.catalog.saved_queries().await?;
    let near = graphodrome_language::nearest(name, all.iter().map(|q| q.name.as_str()));
    let problem = Problem::not_found(format!("there is no saved query {name}"));
    Err(match near {
        Some(near) => problem.hint(format!("did you mean {near}?")),
        None => problem.hint("GET /v1/saved-queries lists them"),
    })
}

async fn all_saved(app: &App) -> Result<Vec<SavedInfo>, Problem> {
    let all = app.catalog.saved_queries().await?;
    let known: Known = all.iter().map(|r| (r.name.clone(), r.clone())).collect();
    Ok(all.into_iter().map(|record| info(record, &known)).collect())
}

/// All saved queries, by folder and name.
#[utoipa::path(get, path = "/v1/saved-queries", tag = "saved queries", responses((status = 200, body = Vec<SavedInfo>)))]
pub async fn list_saved(State(app): State<Arc<App>>) -> Result<Json<Vec<SavedInfo>>, Problem> {
    Ok(Json(all_saved(&app).await?))
}

/// A saved query.
#[utoipa::path(get, path = "/v1/saved-queries/{name}", tag = "saved queries", params(("name" = String, Path)),
    responses((status = 200, body = SavedInfo), (status = 404, body = Problem)))]
pub async fn show_saved(
    State(app): State<Arc<App>>, Path(name): Path<String>,
) -> Result<Json<SavedInfo>, Problem> {
    Ok(Json(find(&app, &name).await?))
}

/// Keeps a query under a name; one that is there is replaced. Its text must be one query.
#[utoipa::path(put, path = "/v1/saved-queries/{name}", tag = "saved queries", params(("name" = String, Path)),
    request_body = NewSaved, responses((status = 200, body = SavedInfo), (status = 400, body = Problem), (status = 409, body = Problem)))]
pub async fn save_query(
    State(app): State<Arc<App>>, Path(name): Path<String>, extract::Json(new): extract::Json<NewSaved>,
) -> Result<Json<SavedInfo>, Problem> {
    let NewSaved { folder, description, parameters, text } = new;
    let query = SavedQuery { name, folder, description, parameters, text };
    query.check().map_err(Problem::bad_request)?;
    let statements = parse(&query.text).map_err(|e| Problem::from_query(&e, &query.text))?;
    let [Statement::Query(parsed)] = &statements[..] else {
        return Err(Problem::bad_request("a saved query is one query").hint("save each of its statements"));
    };
    if !parsed.graphs().is_empty() {
        return Err(Problem::bad_request("a saved query names no graph: it is called for one")
            .hint("leave USE out of it"));
    }
    // CALL of the name means that one.
    if procedures().iter().any(|procedure| procedure.name.eq_ignore_ascii_case(&query.name)) {
        let text = format!("there is a procedure {}", query.name);
        return Err(Problem::new(StatusCode::CONFLICT, text).hint("give the query another name"));
    }
    let record = SavedRecord {
        name: query.name.clone(),
        folder: query.folder,
        description: query.description,
        parameters: json!(query.parameters),
        text: query.text,
        changed: String::new(),
    };
    app.catalog.save_query(record).await?;
    Ok(Json(find(&app, &query.name).await?))
}

/// Forgets a saved query.
#[utoipa::path(delete, path = "/v1/saved-queries/{name}", tag = "saved queries", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove_saved(
    State(app): State<Arc<App>>, Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    if !app.catalog.remove_saved_query(&name).await? {
        find(&app, &name).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// The parameters of a call: those given, read as their types, and the defaults of the others.
fn arguments(query: &SavedInfo, given: BTreeMap<String, Value>) -> Result<Map<String, Js>, Problem> {
    let mut given = given;
    let mut all = Map::new();
    for parameter in &query.parameters {
        let value = match given.remove(&parameter.name) {
            Some(value) => parameter.check(value).map_err(Problem::bad_request)?,
            None => parameter.default_value().map_err(Problem::bad_request)?.ok_or_else(|| {
                Problem::bad_request(format!("the parameter ${} is not given", parameter.name))
                    .hint(format!("it is a {}", parameter.value_type))
            })?,
        };
        all.insert(parameter.name.clone(), json!({ "gql": value.literal() }));
    }
    match given.into_keys().next() {
        None => Ok(all),
        Some(unknown) => {
            let names: Vec<&str> = query.parameters.iter().map(|p| p.name.as_str()).collect();
            Err(Problem::bad_request(format!("{} has no parameter ${unknown}", query.name)).hint(match names
                .is_empty()
            {
                true => "it takes none".to_string(),
                false => format!("it takes {}", names.join(", ")),
            }))
        }
    }
}

/// The parameters of a call out of JSON values.
pub(super) fn arguments_of(query: &SavedInfo, body: &Map<String, Js>) -> Result<Map<String, Js>, Problem> {
    let mut given = BTreeMap::new();
    for (parameter, value) in body {
        let declared = query.parameters.iter().find(|p| p.name == *parameter);
        let declared = declared.map(SavedParameter::value_type).transpose().map_err(Problem::bad_request)?;
        let value = values::property(value, declared.as_ref())
            .map_err(|reason| Problem::bad_request(format!("the parameter ${parameter}: {reason}")))?;
        given.insert(parameter.clone(), value);
    }
    arguments(query, given)
}

/// Runs a saved query that changes nothing; its parameters are those of the URL, read as their types. The
/// entity tag is that of the graph's version: an answer that is still true is not sent again.
#[utoipa::path(get, path = "/v1/graphs/{graph}/saved-queries/{name}", tag = "saved queries",
    params(("graph" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = Object), (status = 304), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn call_saved(
    State(app): State<Arc<App>>, Path((graph, name)): Path<(String, String)>,
    Query(texts): Query<BTreeMap<String, String>>, headers: HeaderMap,
) -> Result<Response, Problem> {
    let query = find(&app, &name).await?;
    if query.changes {
        return Err(Problem::new(StatusCode::METHOD_NOT_ALLOWED, format!("{name} changes the graph"))
            .hint("call it with POST"));
    }
    let mut given = BTreeMap::new();
    for (parameter, text) in texts {
        let declared = query.parameters.iter().find(|p| p.name == parameter);
        let value =
            match declared.map(SavedParameter::value_type).transpose().map_err(Problem::bad_request)? {
                Some(value_type) => parse_text(&value_type, &text).map_err(|reason| {
                    Problem::bad_request(format!(
                        "the parameter ${parameter}: '{text}' is not a valid {value_type}: {reason}"
                    ))
                })?,
                None => Value::text(text),
            };
        given.insert(parameter, value);
    }
    let parameters = arguments(&query, given)?;
    let format = accepted(&headers)?;
    let handle = app.graph(&graph)?;
    let mut hasher = DefaultHasher::new();
    let whole = called::texts(&query.text, &called::reached(&app, &query.text).await?).join("\n");
    (handle.id, &whole, json!(parameters).to_string(), format.media_type()).hash(&mut hasher);
    let tag = format!("\"{}-{:016x}\"", handle.snapshot().version, hasher.finish());
    let known = headers.get(header::IF_NONE_MATCH).and_then(|h| h.to_str().ok()).unwrap_or("");
    let lasting = !asks_the_time(&whole);
    if lasting && known.split(',').any(|t| t.trim() == tag || t.trim() == "*") {
        return Ok((StatusCode::NOT_MODIFIED, [(header::ETAG, tag)]).into_response());
    }
    let request =
        QueryRequest { text: query.text, graph: Some(graph), parameters, ..QueryRequest::default() };
    let mut response = run::query(app, request, format).await?;
    if lasting && let Ok(tag) = HeaderValue::from_str(&tag) {
        response.headers_mut().insert(header::ETAG, tag);
        response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
        response.headers_mut().insert(header::VARY, HeaderValue::from_static("accept"));
    }
    Ok(response)
}

/// Runs a saved query with the parameters in the body.
#[utoipa::path(post, path = "/v1/graphs/{graph}/saved-queries/{name}", tag = "saved queries",
    params(("graph" = String, Path), ("name" = String, Path)), request_body = Object,
    responses((status = 200, body = Object), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn run_saved(
    State(app): State<Arc<App>>, Path((graph, name)): Path<(String, String)>, headers: HeaderMap,
    extract::Json(body): extract::Json<Map<String, Js>>,
) -> Result<Response, Problem> {
    let query = find(&app, &name).await?;
    let parameters = arguments_of(&query, &body)?;
    let format = accepted(&headers)?;
    let request =
        QueryRequest { text: query.text, graph: Some(graph), parameters, ..QueryRequest::default() };
    run::query(app, request, format).await
}

/// The saved queries as paths of the OpenAPI document, each with its parameters.
pub async fn endpoint_paths(app: &App) -> Result<Map<String, Js>, Problem> {
    let mut paths = Map::new();
    for query in all_saved(app).await? {
        let graph =
            json!({ "name": "graph", "in": "path", "required": true, "schema": { "type": "string" } });
        let schema = |p: &SavedParameter| {
            let kind = match p.value_type().unwrap_or(graphodrome_graph::ValueType::Any) {
                graphodrome_graph::ValueType::Int(_) | graphodrome_graph::ValueType::Uint(_) => "integer",
                graphodrome_graph::ValueType::Float(_) => "number",
                graphodrome_graph::ValueType::Bool => "boolean",
                _ => "string",
            };
            json!({ "type": kind, "description": p.value_type })
        };
        let mut operation = json!({
            "tags": ["saved queries"],
            "operationId": query.name,
            "description": query.description,
            "responses": { "200": { "description": "Columns, rows, summary and warnings" } }
        });
        let mut path = json!({});
        if !query.changes {
            let own = query.parameters.iter().map(|p| {
                json!({ "name": p.name, "in": "query", "required": p.default.is_none(), "schema": schema(p) })
            });
            operation["parameters"] = json!([graph].into_iter().chain(own).collect::<Vec<_>>());
            path["get"] = operation.clone();
            operation["operationId"] = json!(format!("{}_post", query.name));
        }
        operation["parameters"] =
            json!([{ "name": "graph", "in": "path", "required": true, "schema": { "type": "string" } }]);
        let properties: Map<String, Js> =
            query.parameters.iter().map(|p| (p.name.clone(), schema(p))).collect();
        let required: Vec<&str> =
            query.parameters.iter().filter(|p| p.default.is_none()).map(|p| p.name.as_str()).collect();
        operation["requestBody"] = json!({ "content": { "application/json": {
            "schema": { "type": "object", "properties": properties, "required": required } } } });
        path["post"] = operation;
        paths.insert(format!("/v1/graphs/{{graph}}/saved-queries/{}", query.name), path);
    }
    Ok(paths)
}
