//! The client of a request, as recorded in the history of graphs.

use std::sync::Arc;

use axum::http::{HeaderMap, header};

use crate::traces::TraceParent;

/// Characters of a name that are kept.
const MOST: usize = 80;

tokio::task_local! {
    static CLIENT: Arc<str>;
    static TRACE: Option<TraceParent>;
}

/// The person that a request names (From, RFC 9110), otherwise its program.
pub fn named_by(headers: &HeaderMap) -> Arc<str> {
    let text = |name: &header::HeaderName| headers.get(name).and_then(|h| h.to_str().ok()).map(str::trim);
    let person = text(&header::FROM).filter(|from| !from.is_empty());
    let program = || text(&header::USER_AGENT).and_then(|agent| agent.split_whitespace().next());
    let name = match person.or_else(program) {
        // What every browser says of itself.
        Some(name) if name.starts_with("Mozilla/") => "browser",
        Some(name) => name,
        None => "",
    };
    name.chars().take(MOST).collect::<String>().into()
}

/// Answers a request as one of this client.
pub async fn asked_by<T>(client: Arc<str>, answer: impl Future<Output = T>) -> T {
    CLIENT.scope(client, answer).await
}

/// Answers a request as a part of this trace.
pub async fn traced<T>(trace: Option<TraceParent>, answer: impl Future<Output = T>) -> T {
    TRACE.scope(trace, answer).await
}

/// The trace that this request is a part of.
pub fn trace() -> Option<TraceParent> {
    TRACE.try_with(|trace| *trace).ok().flatten()
}

/// The client whose request this is.
pub fn client() -> Arc<str> {
    CLIENT.try_with(Arc::clone).unwrap_or_default()
}

/// The client, and what changes the graph for it.
pub fn with(what: &str) -> String {
    match &*client() {
        "" => what.into(),
        client => format!("{client}, {what}"),
    }
}

/// A task of its own that works for the same client.
pub fn spawn<T: Send + 'static>(
    work: impl Future<Output = T> + Send + 'static,
) -> tokio::task::JoinHandle<T> {
    tokio::spawn(asked_by(client(), work))
}
