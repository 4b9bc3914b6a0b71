//! Live events of a graph: commits, and changes of a query's result.

use std::collections::BTreeSet;
use std::convert::Infallible;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;

use axum::extract::{Path, Query, State};
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use graphodrome_formats::ResultFormat;
use graphodrome_graph::{Change, Snapshot};
use graphodrome_language::ast::Statement;
use graphodrome_language::{parse, query_labels};
use graphodrome_store::GraphHandle;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Js, json};
use utoipa::{IntoParams, ToSchema};

use crate::called;
use crate::extract;
use crate::problem::Problem;
use crate::run::{self, QueryRequest};
use crate::state::App;

#[derive(Debug, Deserialize, IntoParams)]
pub struct Begin {
    /// The version after which to begin; without it from the next commit on. The header Last-Event-ID
    /// comes before it.
    pub after_version: Option<u64>,
}

/// A change as data: an element's new state, or that it is gone.
fn change_json(change: &Change, snapshot: &Snapshot) -> Js {
    let properties = |all: &[(Arc<str>, graphodrome_graph::Value)]| -> Js {
        all.iter()
            .map(|(name, value)| (name.to_string(), graphodrome_formats::value_json(value, snapshot)))
            .collect::<serde_json::Map<_, _>>()
            .into()
    };
    match change {
        Change::Node { id, labels, properties: p } => {
            json!({ "node": format!("n{id}"), "labels": labels.to_vec(), "properties": properties(p) })
        }
        Change::Edge { id, labels, properties: p, directed, source, target } => json!({
            "edge": format!("e{id}"), "labels": labels.to_vec(), "directed": directed,
            "source": format!("n{source}"), "target": format!("n{target}"), "properties": properties(p)
        }),
        Change::DeleteNode(id) => json!({ "node": format!("n{id}"), "deleted": true }),
        Change::DeleteEdge(id) => json!({ "edge": format!("e{id}"), "deleted": true }),
    }
}

/// What came after a version.
enum News {
    Commits(Vec<(u64, Arc<Vec<Change>>)>),
    /// So much changed that it is not told change by change.
    Replaced,
}

/// Waits until there is a version after `version`; `None` when the service stops or the graph is gone.
async fn next_news(app: &App, graph: &Arc<GraphHandle>, version: u64) -> Option<News> {
    let mut news = graph.news();
    loop {
        if app.is_stopping() || app.catalog.graph(&graph.name).is_none_or(|g| g.id != graph.id) {
            return None;
        }
        if *news.borrow_and_update() > version {
            break;
        }
        tokio::select! {
            told = news.changed() => told.ok()?,
            () = app.stopped() => return None,
            // A graph that is dropped tells nobody.
            () = tokio::time::sleep(std::time::Duration::from_secs(1)) => {}
        }
    }
    let published = graph.snapshot().version;
    match graph.commits_since(version).await {
        Ok(Some(mut commits)) => {
            // What is not durable yet is no news.
            commits.retain(|(v, _)| *v <= published);
            Some(News::Commits(commits))
        }
        Ok(None) => Some(News::Replaced),
        Err(error) => {
            tracing::warn!(%error, graph = graph.name, "the commits of a graph could not be read");
            None
        }
    }
}

/// The commits of a graph as server-sent events: `commit` with the version as its id and all changes, and
/// `replaced` where a load or a change of the model came in their place. Resumed by Last-Event-ID.
#[utoipa::path(get, path = "/v1/graphs/{graph}/changes", tag = "live", params(("graph" = String, Path), Begin),
    responses((status = 200, content_type = "text/event-stream", body = String), (status = 404, body = Problem)))]
pub async fn graph_changes(
    State(app): State<Arc<App>>, Path(name): Path<String>, Query(begin): Query<Begin>, headers: HeaderMap,
) -> Result<Response, Problem> {
    let graph = app.graph(&name)?;
    let last = headers.get("last-event-id").and_then(|h| h.to_str().ok()).and_then(|t| t.parse().ok());
    let begin = last.or(begin.after_version).unwrap_or_else(|| graph.snapshot().version);
    let stream = futures::stream::unfold((app, graph, begin), |(app, graph, version)| async move {
        let news = next_news(&app, &graph, version).await?;
        let snapshot = graph.snapshot();
        let (events, version) = match news {
            News::Replaced => {
                let event = Event::default().event("replaced").id(snapshot.version.to_string());
                (vec![event.data(json!({ "version": snapshot.version }).to_string())], snapshot.version)
            }
            News::Commits(commits) => {
                let newest = commits.last().map_or(version, |(v, _)| *v);
                let events = commits.iter().map(|(v, changes)| {
                    let changes: Vec<Js> = changes.iter().map(|c| change_json(c, &snapshot)).collect();
                    let data = json!({ "version": v, "changes": changes }).to_string();
                    Event::default().event("commit").id(v.to_string()).data(data)
                });
                (events.collect(), newest)
            }
        };
        let events: Vec<Result<Event, Infallible>> = events.into_iter().map(Ok).collect();
        Some((futures::stream::iter(events), (app, graph, version)))
    });
    Ok(Sse::new(futures::StreamExt::flatten(stream)).keep_alive(KeepAlive::default()).into_response())
}

/// A query to watch.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WatchRequest {
    pub text: String,
    #[serde(default)]
    #[schema(value_type = Object)]
    pub parameters: serde_json::Map<String, Js>,
}

/// Whether a commit can change the result of a query with these labels: whether it touches an element that
/// has one of them, or had one before.
fn can_affect(changes: &[Change], before: &Snapshot, labels: &BTreeSet<Arc<str>>) -> bool {
    let named = |set: &[Arc<str>]| set.iter().any(|l| labels.contains(l));
    let had_node = |id| before.node_by_id(id).is_some_and(|n| named(&before.node_labels(n)));
    let had_edge = |id| before.edge_by_id(id).is_some_and(|e| named(&before.edge_labels(e)));
    changes.iter().any(|change| match change {
        Change::Node { id, labels, .. } => named(labels) || had_node(*id),
        Change::Edge { id, labels, .. } => named(labels) || had_edge(*id),
        Change::DeleteNode(id) => had_node(*id),
        Change::DeleteEdge(id) => had_edge(*id),
    })
}

/// A read query's result as server-sent events: `result` at once, and again whenever a commit has changed
/// it, with the graph's version as the event's id.
#[utoipa::path(post, path = "/v1/graphs/{graph}/watch", tag = "live", params(("graph" = String, Path)),
    request_body = WatchRequest,
    responses((status = 200, content_type = "text/event-stream", body = String), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn watch_query(
    State(app): State<Arc<App>>, Path(name): Path<String>, extract::Json(watch): extract::Json<WatchRequest>,
) -> Result<Response, Problem> {
    let graph = app.graph(&name)?;
    let statements = parse(&watch.text).map_err(|e| Problem::from_query(&e, &watch.text))?;
    // What a saved query reads that it calls is watched as well.
    let (_, statements) = called::written_out(&app, watch.text.clone(), statements).await?;
    let query = match &statements[..] {
        [Statement::Query(query)] if !query.changes() => query,
        [Statement::Query(_)] => {
            return Err(Problem::bad_request("a query that changes the graph cannot be watched"));
        }
        _ => return Err(Problem::bad_request("one query can be watched at a time")),
    };
    if !query.graphs().is_empty() {
        return Err(Problem::bad_request("a watched query names no graph: the address does")
            .hint("leave USE out of it"));
    }
    let labels = query_labels(query);
    // What is wrong with it is said before the stream begins.
    let before = graph.snapshot();
    let version = before.version;
    let (first, seen) = result(&app, &name, &watch).await?;
    let told = Event::default().event("result").id(version.to_string()).data(first);
    let begin = futures::stream::iter([Ok::<_, Infallible>(told)]);
    let state = (app, graph, watch, labels, before, seen);
    let rest = futures::stream::unfold(state, |(app, graph, watch, labels, before, seen)| async move {
        let (mut before, mut seen) = (before, seen);
        loop {
            let news = next_news(&app, &graph, before.version).await?;
            let snapshot = graph.snapshot();
            let touched = match (&news, &labels) {
                (News::Commits(commits), Some(labels)) => {
                    commits.iter().any(|(_, changes)| can_affect(changes, &before, labels))
                }
                _ => true,
            };
            before = snapshot;
            if !touched {
                continue;
            }
            let event = match result(&app, &graph.name, &watch).await {
                Ok((text, now)) if now != seen => {
                    seen = now;
                    Event::default().event("result").data(text)
                }
                Ok(_) => continue,
                Err(problem) => Event::default().event("problem").data(json!(problem).to_string()),
            };
            let event = Ok(event.id(before.version.to_string()));
            return Some((event, (app, graph, watch, labels, before, seen)));
        }
    });
    Ok(Sse::new(futures::StreamExt::chain(begin, rest)).keep_alive(KeepAlive::default()).into_response())
}

/// The result as JSON, and a number that tells its rows from others.
async fn result(app: &Arc<App>, graph: &str, watch: &WatchRequest) -> Result<(String, u64), Problem> {
    let request = QueryRequest {
        text: watch.text.clone(),
        graph: Some(graph.to_string()),
        parameters: watch.parameters.clone(),
        ..QueryRequest::default()
    };
    let response = run::query(app.clone(), request, ResultFormat::Json).await?;
    let body = axum::body::to_bytes(response.into_body(), usize::MAX)
        .await
        .map_err(|e| Problem::new(axum::http::StatusCode::INTERNAL_SERVER_ERROR, e.to_string()))?;
    let parsed: Js = serde_json::from_slice(&body).unwrap_or_default();
    let mut hasher = DefaultHasher::new();
    parsed["rows"].to_string().hash(&mut hasher);
    Ok((json!({ "columns": parsed["columns"], "rows": parsed["rows"] }).to_string(), hasher.finish()))
}
