//! Exports: a graph, labels of it, or what a query finds, in open formats, streamed from one snapshot.

use std::io::Write;
use std::sync::Arc;

use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use graphodrome_engine::{Limits, prepare};
use graphodrome_formats::{Export, ExportError, ExportFormat, Selection};
use graphodrome_graph::Snapshot;
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use serde::Deserialize;
use serde_json::Map;
use tokio::sync::{mpsc, oneshot};
use utoipa::ToSchema;

use crate::extract;
use crate::problem::Problem;
use crate::run::moment;
use crate::running::RunningKind;
use crate::state::App;
use crate::values;

/// What to export, and how.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExportRequest {
    /// csv, jsonl, graphml, parquet, arrow, nquads or dot.
    #[schema(value_type = String)]
    pub format: ExportFormat,
    /// Only what has one of these labels: nodes with the edges between them, or edges with their ends.
    #[serde(default)]
    pub labels: Vec<String>,
    /// Only the nodes, edges and paths that this query returns.
    #[serde(default)]
    pub query: Option<String>,
    /// The query's parameters.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub parameters: Map<String, serde_json::Value>,
    /// The version to export; the newest where neither this nor a time is given.
    #[serde(default)]
    pub at_version: Option<u64>,
    /// The time (RFC 3339) whose newest version is to be exported.
    #[serde(default)]
    pub at_timestamp: Option<String>,
    /// What the names of N-Quads begin with.
    #[serde(default)]
    pub base: Option<String>,
}

/// Bytes that are sent at once.
const PIECE: usize = 128 << 10;
/// The header that says what the format could not hold: a JSON list of sentences, in ASCII.
const LOSSES: &str = "export-losses";

/// Writes a graph or a part of it in an open format. Tables come as a ZIP archive with the mapping that
/// loads them again; what the format cannot hold is said in the header export-losses.
#[utoipa::path(post, path = "/v1/graphs/{graph}/export", tag = "graphs", params(("graph" = String, Path)),
    request_body = ExportRequest,
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn export_graph(
    State(app): State<Arc<App>>, extract::Path(name): extract::Path<String>,
    extract::Json(request): extract::Json<ExportRequest>,
) -> Result<Response, Problem> {
    let graph = app.graph(&name)?;
    let snapshot = match moment(request.at_version, request.at_timestamp.as_deref())? {
        Some(moment) => app.catalog.state_at(&graph, moment).await?,
        None => graph.snapshot(),
    };
    let format = request.format;
    if !request.labels.is_empty() && request.query.is_some() {
        return Err(Problem::bad_request("an export is of labels or of a query, not of both"));
    }
    let known = snapshot.node_label_counts().into_iter().chain(snapshot.edge_label_counts());
    let known: Vec<String> =
        known.flat_map(|(labels, _)| labels.iter().map(|l| l.to_string()).collect::<Vec<_>>()).collect();
    for label in &request.labels {
        if !known.contains(label) {
            let near = graphodrome_language::nearest(label, known.iter().map(String::as_str));
            let problem = Problem::bad_request(format!("nothing in {name} has the label {label}"));
            return Err(match near {
                Some(near) => problem.hint(format!("did you mean {near}?")),
                None => problem,
            });
        }
    }
    let entry = app.running.enter(RunningKind::Export, &name, "");
    let token = entry.token();
    let (first_sender, first) = oneshot::channel::<Result<Vec<String>, Problem>>();
    let (sender, receiver) = mpsc::channel::<Result<Bytes, std::io::Error>>(8);
    let limits =
        Limits { cancel: token.clone(), memory_bytes: app.limits.query_memory_bytes, ..Limits::default() };
    let limits = Limits { time: Some(app.limits.query_time), pool: Some(app.memory.clone()), ..limits };
    entry.waits();
    let slot = app.slot(app.limits.query_time).await?;
    let limits = entry.runs(limits);
    let graph_name = name.clone();
    tokio::task::spawn_blocking(move || {
        let _slot = slot;
        let ask = || !token.is_cancelled();
        let selection = match select(&request, &snapshot, limits, &ask) {
            Ok(selection) => selection,
            Err(problem) => return drop(first_sender.send(Err(problem))),
        };
        let export = match Export::new(&graph_name, &snapshot, &selection, request.base.as_deref(), &ask) {
            Ok(export) => export,
            Err(error) => return drop(first_sender.send(Err(Problem::bad_request(error.to_string())))),
        };
        if first_sender.send(Ok(export.losses(format))).is_err() {
            return;
        }
        let mut pieces = Pieces { sender: sender.clone(), buffer: Vec::with_capacity(PIECE) };
        let written = export.write(format, &mut pieces).and_then(|()| Ok(pieces.flush()?));
        // The status is sent; ending the stream badly is the only way to say so.
        if let Err(error) = written {
            let _ = sender.blocking_send(Err(std::io::Error::other(error.to_string())));
        }
    });
    let stopped = |_| {
        Problem::from_graph(graphodrome_graph::GraphError::new(
            graphodrome_graph::Code::DATA,
            "the export failed; see the service's log",
        ))
    };
    let losses = first.await.map_err(stopped)??;
    let stream = tokio_stream::wrappers::ReceiverStream::new(receiver);
    // The entry lives in the stream: a client that goes away ends the export.
    let guarded = futures::stream::unfold((stream, entry), |(mut stream, entry)| async move {
        let item = futures::StreamExt::next(&mut stream).await?;
        Some((item, (stream, entry)))
    });
    // Whoever compresses it may ask once more after its end.
    let guarded = futures::StreamExt::fuse(guarded);
    let file = format!("{name}.{}", format.suffix()).replace(['"', '/', '\\'], "_");
    let headers = [
        (header::CONTENT_TYPE.as_str(), format.media_type().to_string()),
        (header::CONTENT_DISPOSITION.as_str(), ascii(&format!("attachment; filename=\"{file}\""))),
        (LOSSES, ascii(&serde_json::Value::from(losses).to_string())),
    ];
    Ok((headers.map(|(name, value)| (name, value)), Body::from_stream(guarded)).into_response())
}

/// JSON, or a text, without what a header cannot hold.
fn ascii(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if c.is_ascii_graphic() || c == ' ' {
            out.push(c);
        } else {
            let mut units = [0; 2];
            c.encode_utf16(&mut units).iter().for_each(|unit| out.push_str(&format!("\\u{unit:04x}")));
        }
    }
    out
}

fn select(
    request: &ExportRequest, snapshot: &Snapshot, limits: Limits, ask: &(dyn Fn() -> bool + Sync),
) -> Result<Selection, Problem> {
    let Some(text) = &request.query else {
        let selection = Selection::of_labels(snapshot, &request.labels, ask);
        return selection.map_err(|e: ExportError| Problem::bad_request(e.to_string()));
    };
    let parameters = values::parameters(&request.parameters).map_err(Problem::bad_request)?;
    let mut statements = parse(text).map_err(|e| Problem::from_query(&e, text))?;
    let query = match (statements.pop(), statements.is_empty()) {
        (Some(Statement::Query(query)), true) => query,
        _ => return Err(Problem::bad_request("an export takes one query")),
    };
    let prepared = prepare(&query, text, snapshot, &parameters).map_err(|e| Problem::from_query(&e, text))?;
    if prepared.changes {
        return Err(Problem::bad_request("an export's query must only read"));
    }
    let failed = |d: graphodrome_language::Diagnostic| Problem::from_diagnostic(d, text);
    let mut execution = prepared.run(snapshot.clone(), &parameters, limits);
    let mut selection = Selection::none();
    while let Some(batch) = execution.next_batch().map_err(failed)? {
        for column in &batch.columns {
            (0..batch.len).for_each(|row| selection.add(&column.get(row), snapshot));
        }
    }
    if selection.is_empty() {
        return Err(Problem::bad_request("the query returns no nodes, edges or paths").hint(
            "rows of values are written by a query in a format of its own: graphodrome query --format csv",
        ));
    }
    Ok(selection)
}

/// Sends what is written in pieces; an error once nobody reads any more.
struct Pieces {
    sender: mpsc::Sender<Result<Bytes, std::io::Error>>,
    buffer: Vec<u8>,
}

impl Write for Pieces {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.buffer.extend_from_slice(bytes);
        if self.buffer.len() >= PIECE {
            self.flush()?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        if self.buffer.is_empty() {
            return Ok(());
        }
        let piece = std::mem::replace(&mut self.buffer, Vec::with_capacity(PIECE));
        let gone = |_| std::io::Error::new(std::io::ErrorKind::BrokenPipe, "nobody reads the export");
        self.sender.blocking_send(Ok(Bytes::from(piece))).map_err(gone)
    }
}
