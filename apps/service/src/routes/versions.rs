//! Versions of a graph: list, difference, restore.

use std::fmt::Display;
use std::sync::Arc;

use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use graphodrome_graph::{
    Code, Element, ElementDifference, GraphError, Properties, Snapshot, differences, same_value,
};
use graphodrome_records::JobState;
use graphodrome_store::{Moment, Retention, VersionInfo};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Js, json};
use tokio::sync::mpsc;
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::problem::Problem;
use crate::run::moment;
use crate::state::App;
use crate::who;

/// Versions that are listed at once, at most.
const MOST_LISTED: u64 = 1000;
/// Bytes of a difference that are sent at once.
const PIECE: usize = 64 << 10;

#[derive(Deserialize, IntoParams)]
pub struct VersionsParameters {
    /// Versions to list; 50 where it is not given, at most 1000.
    pub limit: Option<u64>,
    /// Only versions before this one: the last of the page before.
    pub before_version: Option<u64>,
}

/// A version of a graph.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct VersionView {
    pub version: u64,
    /// What made it: create, commit, load, model, restore, or fold where the commits themselves are no longer kept.
    pub kind: String,
    /// When, as RFC 3339.
    pub at: String,
    /// Who or what asked for it, as far as the request said so.
    pub origin: String,
    /// Elements of the version.
    pub nodes: Option<u64>,
    pub edges: Option<u64>,
    /// Elements that a commit wrote or deleted.
    pub changes: Option<u64>,
    /// Whether a base is stored for it: reading it, or one after it, begins there.
    pub base: bool,
}

impl From<VersionInfo> for VersionView {
    fn from(info: VersionInfo) -> VersionView {
        VersionView {
            version: info.version,
            kind: info.kind.as_str().into(),
            at: info.at.to_rfc3339_opts(chrono::SecondsFormat::Millis, true),
            origin: info.origin,
            nodes: info.nodes,
            edges: info.edges,
            changes: info.changes,
            base: info.base,
        }
    }
}

/// How long versions stay: those among so many of the newest, and those that were the newest within so many days.
#[derive(Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RetentionView {
    pub versions: u64,
    pub days: u64,
}

#[derive(Serialize, Deserialize, ToSchema)]
pub struct Versions {
    pub graph: String,
    /// The newest version, and the oldest that can be read.
    pub newest: u64,
    pub oldest: u64,
    pub retention: RetentionView,
    /// The newest first.
    pub versions: Vec<VersionView>,
}

/// The versions of a graph that can be read, the newest first.
#[utoipa::path(get, path = "/v1/graphs/{graph}/versions", tag = "versions", params(("graph" = String, Path), VersionsParameters),
    responses((status = 200, body = Versions), (status = 404, body = Problem)))]
pub async fn list_versions(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Query(asked): extract::Query<VersionsParameters>,
) -> Result<Json<Versions>, Problem> {
    let graph = app.graph(&name)?;
    let limit = asked.limit.unwrap_or(50).min(MOST_LISTED);
    let versions = graph.versions(asked.before_version, limit).await?;
    let Retention { versions: keep, days } = graph.retention().await?;
    Ok(Json(Versions {
        graph: name,
        newest: graph.snapshot().version,
        oldest: graph.oldest_version().await?,
        retention: RetentionView { versions: keep, days },
        versions: versions.into_iter().map(VersionView::from).collect(),
    }))
}

/// Says how long versions of a graph stay; those that no longer do are removed.
#[utoipa::path(put, path = "/v1/graphs/{graph}/retention", tag = "versions", params(("graph" = String, Path)),
    request_body = RetentionView,
    responses((status = 200, body = RetentionView), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn set_retention(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Json(wanted): extract::Json<RetentionView>,
) -> Result<Json<RetentionView>, Problem> {
    if wanted.versions == 0 {
        return Err(Problem::bad_request("versions is 0, and the newest version always stays")
            .hint("versions is at least 1"));
    }
    let retention = Retention { versions: wanted.versions, days: wanted.days };
    app.graph(&name)?.set_retention(retention).await?;
    Ok(Json(wanted))
}

/// A version, or the one that was the newest at a time.
#[derive(Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RestoreRequest {
    #[serde(default)]
    pub version: Option<u64>,
    /// RFC 3339, with an offset from UTC.
    #[serde(default)]
    pub timestamp: Option<String>,
}

#[derive(Serialize, Deserialize, ToSchema)]
pub struct Restored {
    pub graph: String,
    /// The version whose elements, type, keys and indexes the graph has again.
    pub restored: u64,
    /// The version that it has them in.
    pub version: u64,
    pub nodes: u64,
    pub edges: u64,
}

/// Makes an earlier version the newest, in one commit. Opens a graph that is offline.
#[utoipa::path(post, path = "/v1/graphs/{graph}/restore", tag = "versions", params(("graph" = String, Path)),
    request_body = RestoreRequest,
    responses((status = 200, body = Restored), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn restore_graph(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Json(wanted): extract::Json<RestoreRequest>,
) -> Result<Json<Restored>, Problem> {
    let moment = moment(wanted.version, wanted.timestamp.as_deref())?.ok_or_else(|| {
        Problem::bad_request("which version is to be restored?").hint("give version or timestamp")
    })?;
    let offline = app.catalog.offline_graphs().into_iter().find(|g| g.name == name);
    let open = if offline.is_some() { None } else { Some(app.graph(&name)?) };
    let restored = match (&open, moment) {
        (Some(graph), moment) => graph.version_at(moment).await?,
        (None, Moment::Version(version)) => version,
        (None, Moment::Timestamp(_)) => {
            return Err(Problem::bad_request(
                "the versions of a graph that is offline are told apart by number only",
            )
            .hint("graph verify says up to which version it can be read"));
        }
    };
    let job = app.start_job("restore", &name, &format!("version {restored}")).await?;
    job.progress.enter("building");
    // In a task of its own: a client that goes away must not leave it half done.
    let work = who::spawn(async move {
        let origin = who::with(&format!("job {}", job.record.id));
        let go_on = job.go_on(&app);
        let made = match (&open, &offline) {
            (Some(graph), _) => app.catalog.restore(graph, Moment::Version(restored), &origin, go_on).await,
            (None, Some(offline)) => app.catalog.restore_offline(offline, restored, &origin, go_on).await,
            (None, None) => Err(graphodrome_store::StoreError::NoGraph(name.clone())),
        };
        let made = made.map(|snapshot| Restored {
            graph: name,
            restored,
            version: snapshot.version,
            nodes: snapshot.node_count(),
            edges: snapshot.edge_count(),
        });
        let (state, detail) = match &made {
            Ok(made) => {
                (JobState::Done, json!({ "changed": true, "version": made.version, "restored": restored }))
            }
            Err(_) if job.progress.is_cancelled() => {
                (JobState::Cancelled, json!({ "error": "cancelled; nothing was changed" }))
            }
            Err(error) => (JobState::Failed, json!({ "error": error.to_string() })),
        };
        job.finish(&app, state, detail).await;
        made
    });
    Ok(Json(work.await??))
}

/// What a look at everything stored of a graph found.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct VerificationView {
    pub graph: String,
    pub newest: u64,
    /// What was read: bases, their segments, entries of the log, and the bytes of both.
    pub bases: u64,
    pub segments: u64,
    pub commits: u64,
    pub bytes: u64,
    /// What is wrong, in sentences; empty where everything is as it should be.
    pub problems: Vec<String>,
    /// The newest version that can be read.
    pub readable: Option<u64>,
}

/// Reads every segment and every entry of the log of a graph, and compares what they come to with what is in memory.
#[utoipa::path(post, path = "/v1/graphs/{graph}/verify", tag = "versions", params(("graph" = String, Path)),
    responses((status = 200, body = VerificationView), (status = 404, body = Problem)))]
pub async fn verify_graph(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
) -> Result<Json<VerificationView>, Problem> {
    if !app.catalog.offline_graphs().iter().any(|g| g.name == name) {
        app.graph(&name)?;
    }
    let job = app.start_job("verify", &name, "segments, log and memory").await?;
    job.progress.enter("reading");
    let found = app.catalog.verify(&name, job.go_on(&app)).await;
    let (state, detail) = match &found {
        Ok(found) => (JobState::Done, json!({ "problems": found.problems, "readable": found.readable })),
        Err(_) if job.progress.is_cancelled() => (JobState::Cancelled, json!({ "error": "cancelled" })),
        Err(error) => (JobState::Failed, json!({ "error": error.to_string() })),
    };
    job.finish(&app, state, detail).await;
    let found = found?;
    Ok(Json(VerificationView {
        graph: found.graph,
        newest: found.newest,
        bases: found.bases,
        segments: found.segments,
        commits: found.commits,
        bytes: found.bytes,
        problems: found.problems,
        readable: found.readable,
    }))
}

#[derive(Deserialize, IntoParams)]
pub struct DifferenceParameters {
    /// The earlier state, by version or by time.
    pub from_version: Option<u64>,
    pub from_timestamp: Option<String>,
    /// The later one; the newest where neither is given.
    pub to_version: Option<u64>,
    pub to_timestamp: Option<String>,
}

/// An element of a state, by the id that stays with it, and by what people know it by.
fn named(state: &Snapshot, element: Element, dense: u32) -> Map<String, Js> {
    let mut told = Map::new();
    let name = state.name_of(element, dense);
    if element == Element::Node {
        told.insert("name".into(), json!(name));
    } else {
        let (source, target) = state.edge_ends(dense);
        let end = |node: u32| {
            let name = state.name_of(Element::Node, node);
            name.strip_prefix("node ").unwrap_or(&name).to_string()
        };
        let arrow = if state.edge_directed(dense) { "->" } else { "~" };
        told.insert("name".into(), json!(format!("{name} ({}){arrow}({})", end(source), end(target))));
        told.insert("directed".into(), json!(state.edge_directed(dense)));
        told.insert("source".into(), json!(format!("n{}", state.node_id(source))));
        told.insert("target".into(), json!(format!("n{}", state.node_id(target))));
    }
    told
}

fn labels(state: &Snapshot, element: Element, dense: u32) -> Js {
    match element {
        Element::Node => json!(state.node_labels(dense).to_vec()),
        Element::Edge => json!(state.edge_labels(dense).to_vec()),
    }
}

fn properties(state: &Snapshot, element: Element, dense: u32) -> Properties {
    match element {
        Element::Node => state.node_properties(dense),
        Element::Edge => state.edge_properties(dense),
    }
}

fn property_json(of: &Properties, state: &Snapshot) -> Js {
    let pairs =
        of.iter().map(|(name, value)| (name.to_string(), graphodrome_formats::value_json(value, state)));
    Js::Object(pairs.collect())
}

/// What one side has that the other has not: labels where they differ, and properties, null where one is missing.
fn side((state, element, dense): (&Snapshot, Element, u32), other: (&Snapshot, u32), ends: bool) -> Js {
    let mut told = Map::new();
    let own_labels = labels(state, element, dense);
    if own_labels != labels(other.0, element, other.1) {
        told.insert("labels".into(), own_labels);
    }
    if ends {
        let mut named = named(state, element, dense);
        named.remove("name");
        told.extend(named);
    }
    let (own, of_other) = (properties(state, element, dense), properties(other.0, element, other.1));
    let mut differing = Map::new();
    for (name, value) in own.iter() {
        let same = of_other.iter().any(|(n, v)| n == name && same_value(v, value));
        if !same {
            differing.insert(name.to_string(), graphodrome_formats::value_json(value, state));
        }
    }
    for (name, _) in of_other.iter() {
        if !own.iter().any(|(n, _)| n == name) {
            differing.insert(name.to_string(), Js::Null);
        }
    }
    told.insert("properties".into(), Js::Object(differing));
    Js::Object(told)
}

fn difference_json(d: ElementDifference, before: &Snapshot, after: &Snapshot) -> Js {
    let (state, dense, change) = match (d.before, d.after) {
        (Some(_), Some(dense)) => (after, dense, "changed"),
        (None, Some(dense)) => (after, dense, "added"),
        (Some(dense), None) => (before, dense, "removed"),
        (None, None) => return Js::Null,
    };
    let letter = if d.element == Element::Node { 'n' } else { 'e' };
    let mut told = Map::new();
    told.insert("change".into(), json!(change));
    told.insert("element".into(), json!(d.element.to_string()));
    told.insert("id".into(), json!(format!("{letter}{}", d.id)));
    told.extend(named(state, d.element, dense));
    told.insert("labels".into(), labels(state, d.element, dense));
    match (d.before, d.after) {
        (Some(old), Some(new)) => {
            let ends = |state: &Snapshot, edge: u32| {
                let (source, target) = state.edge_ends(edge);
                (state.edge_directed(edge), state.node_id(source), state.node_id(target))
            };
            let moved = d.element == Element::Edge && ends(before, old) != ends(after, new);
            told.insert("before".into(), side((before, d.element, old), (after, new), moved));
            told.insert("after".into(), side((after, d.element, new), (before, old), moved));
        }
        _ => {
            told.insert("properties".into(), property_json(&properties(state, d.element, dense), state));
        }
    }
    Js::Object(told)
}

/// Lines of a difference on their way to the client.
struct Lines {
    sender: mpsc::Sender<Result<Bytes, std::io::Error>>,
    buffer: Vec<u8>,
    added: u64,
    changed: u64,
    removed: u64,
}

impl Lines {
    fn line(&mut self, line: &Js) -> Result<(), GraphError> {
        let failed = |e: &dyn Display| GraphError::new(Code::DATA, e.to_string());
        serde_json::to_writer(&mut self.buffer, line).map_err(|e| failed(&e))?;
        self.buffer.push(b'\n');
        if self.buffer.len() < PIECE {
            return Ok(());
        }
        let piece = std::mem::replace(&mut self.buffer, Vec::with_capacity(PIECE));
        self.sender.blocking_send(Ok(piece.into())).map_err(|e| failed(&e))
    }
}

/// What is different between two versions, one JSON object a line: `change` (added, changed, removed), the element, and
/// its labels and properties; of a changed element only what differs, `before` and `after`. The last line is the
/// summary, with the counts, or the error that ended it.
#[utoipa::path(get, path = "/v1/graphs/{graph}/difference", tag = "versions",
    params(("graph" = String, Path), DifferenceParameters),
    responses((status = 200, content_type = "application/x-ndjson", body = String), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn show_difference(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Query(asked): extract::Query<DifferenceParameters>,
) -> Result<Response, Problem> {
    let graph = app.graph(&name)?;
    let from = moment(asked.from_version, asked.from_timestamp.as_deref())?.ok_or_else(|| {
        Problem::bad_request("from which version?").hint("give from_version or from_timestamp")
    })?;
    let to = moment(asked.to_version, asked.to_timestamp.as_deref())?;
    let before = app.catalog.state_at(&graph, from).await?;
    let after = match to {
        Some(to) => app.catalog.state_at(&graph, to).await?,
        None => graph.snapshot(),
    };
    let slot = app.slot(app.limits.query_time).await?;
    let (go_on, entry) = app.look(&name, "what differs between two versions");
    let (sender, receiver) = mpsc::channel(8);
    tokio::task::spawn_blocking(move || {
        let _slot = slot;
        let mut lines = Lines { sender, buffer: vec![], added: 0, changed: 0, removed: 0 };
        let told = differences(&before, &after, &*go_on, &mut |d| {
            match (d.before, d.after) {
                (Some(_), Some(_)) => lines.changed += 1,
                (None, _) => lines.added += 1,
                (_, None) => lines.removed += 1,
            }
            lines.line(&difference_json(d, &before, &after))
        });
        let last = match told {
            Ok(()) => json!({ "summary": {
                "from": before.version, "to": after.version,
                "added": lines.added, "changed": lines.changed, "removed": lines.removed,
            } }),
            Err(error) => json!({ "error": Problem::from_graph(error) }),
        };
        // Nobody reads it where it cannot be sent.
        if lines.line(&last).is_ok() {
            let rest = std::mem::take(&mut lines.buffer);
            let _ = lines.sender.blocking_send(Ok(rest.into()));
        }
    });
    let stream = tokio_stream::wrappers::ReceiverStream::new(receiver);
    // The entry lives in the stream: a client that goes away ends the comparison.
    let guarded = futures::stream::unfold((stream, entry), |(mut stream, entry)| async move {
        let item = futures::StreamExt::next(&mut stream).await?;
        Some((item, (stream, entry)))
    });
    let guarded = futures::StreamExt::fuse(guarded);
    Ok(([(header::CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(guarded)).into_response())
}
