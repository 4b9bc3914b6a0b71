//! Queries that run now: who asked, what, since when, and how far they are.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, AtomicU64, Ordering};
use std::time::Instant;

use graphodrome_engine::{CancelToken, Limits, Seen, Watch};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::who;

/// What a running request is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum RunningKind {
    Query,
    Profile,
    Export,
    /// A long look at a graph: an observed type, a difference of versions.
    Look,
}

/// How far a request is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
#[repr(u8)]
pub enum Phase {
    /// It is read, checked and planned.
    Planning,
    /// It waits for a slot, or for its turn to change the graph.
    Waiting,
    Running,
}

/// A request that runs now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunningInfo {
    pub id: u64,
    pub kind: RunningKind,
    pub graph: String,
    pub text: String,
    /// Who asked: the From header, otherwise the program.
    pub client: String,
    pub age_ms: u64,
    pub phase: Phase,
    /// `operator`, `hop`, `work` (adjacency entries and rows handled), `rows` of the result, `memory_bytes`.
    #[schema(value_type = Object)]
    #[serde(flatten)]
    pub seen: Seen,
}

struct Running {
    kind: RunningKind,
    graph: Arc<str>,
    text: String,
    client: Arc<str>,
    began: Instant,
    shared: Arc<Shared>,
}

/// What the request and those who look at it share.
#[derive(Default)]
struct Shared {
    token: CancelToken,
    phase: AtomicU8,
    watch: Arc<Watch>,
}

/// The requests that run now.
#[derive(Default)]
pub struct Registry {
    running: Arc<Mutex<HashMap<u64, Running>>>,
    next: AtomicU64,
}

/// A running request's place in the registry. Dropped before [`Self::finish`] it cancels the request: a client that goes
/// away takes its query with it.
pub struct Entry {
    running: Arc<Mutex<HashMap<u64, Running>>>,
    shared: Arc<Shared>,
    graph: Arc<str>,
    id: u64,
    finished: bool,
}

impl Entry {
    /// The query came to its end by itself.
    pub fn finish(mut self) {
        self.finished = true;
    }

    /// Has it waited for from now on.
    pub fn waits(&self) {
        self.shared.phase.store(Phase::Waiting as u8, Ordering::Relaxed);
    }

    /// The limits with which the query runs from now on: it can be cancelled, and watched.
    pub fn runs(&self, limits: Limits) -> Limits {
        self.shared.phase.store(Phase::Running as u8, Ordering::Relaxed);
        Limits { watch: Some(self.shared.watch.clone()), ..self.cancellable(limits) }
    }

    /// The same for what is expected to be brief: nobody will watch it.
    pub fn cancellable(&self, limits: Limits) -> Limits {
        Limits { cancel: self.shared.token.clone(), graph: self.graph.clone(), ..limits }
    }

    pub fn token(&self) -> CancelToken {
        self.shared.token.clone()
    }
}

impl Drop for Entry {
    fn drop(&mut self) {
        if !self.finished {
            self.shared.token.cancel();
        }
        self.running.lock().remove(&self.id);
    }
}

impl Registry {
    pub fn enter(&self, kind: RunningKind, graph: &str, text: &str) -> Entry {
        let (shared, graph) = (Arc::new(Shared::default()), Arc::from(graph));
        let id = self.next.fetch_add(1, Ordering::Relaxed) + 1;
        let running = Running {
            kind,
            graph: Arc::clone(&graph),
            text: text.into(),
            client: who::client(),
            began: Instant::now(),
            shared: shared.clone(),
        };
        self.running.lock().insert(id, running);
        Entry { running: self.running.clone(), shared, graph, id, finished: false }
    }

    pub fn is_empty(&self) -> bool {
        self.running.lock().is_empty()
    }

    /// The oldest first.
    pub fn list(&self) -> Vec<RunningInfo> {
        let running = self.running.lock();
        let mut all: Vec<RunningInfo> = running
            .iter()
            .map(|(id, running)| RunningInfo {
                id: *id,
                kind: running.kind,
                graph: running.graph.to_string(),
                text: running.text.clone(),
                client: running.client.to_string(),
                age_ms: running.began.elapsed().as_millis() as u64,
                phase: match running.shared.phase.load(Ordering::Relaxed) {
                    0 => Phase::Planning,
                    1 => Phase::Waiting,
                    _ => Phase::Running,
                },
                seen: running.shared.watch.look(),
            })
            .collect();
        all.sort_by_key(|running| running.id);
        all
    }

    /// Whether there is such a request; it ends at its next look at the clock.
    pub fn cancel(&self, id: u64) -> bool {
        let running = self.running.lock();
        running.get(&id).map(|running| running.shared.token.cancel()).is_some()
    }

    pub fn cancel_all(&self) {
        self.running.lock().values().for_each(|running| running.shared.token.cancel());
    }
}
