//! What the routes share: the catalog, the limits, the queries and jobs that run.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use graphodrome_engine::{CancelToken, PlanCache};
use graphodrome_formats::Progress;
use graphodrome_store::{Catalog, GraphHandle};
use parking_lot::Mutex;
use tokio::sync::{Notify, Semaphore, watch};

use crate::problem::Problem;

#[derive(Clone, Debug)]
pub struct ServiceLimits {
    /// Bytes of a request other than an upload.
    pub body_bytes: usize,
    pub upload_bytes: u64,
    /// The longest a query may run; a request may ask for less.
    pub query_time: Duration,
    pub query_memory_bytes: u64,
    /// The most rows a result may have; a request may ask for fewer.
    pub result_rows: u64,
    pub concurrent_queries: usize,
}

impl Default for ServiceLimits {
    fn default() -> Self {
        ServiceLimits {
            body_bytes: 8 << 20,
            upload_bytes: 16 << 30,
            query_time: Duration::from_secs(60),
            query_memory_bytes: 2 << 30,
            result_rows: 5_000_000,
            concurrent_queries: 16,
        }
    }
}

/// A load that runs now.
pub struct RunningJob {
    pub progress: Arc<Progress>,
    pub started: std::time::Instant,
    pub done: watch::Receiver<bool>,
}

pub struct App {
    pub catalog: Catalog,
    pub limits: ServiceLimits,
    pub slots: Semaphore,
    pub jobs: Mutex<HashMap<i64, Arc<RunningJob>>>,
    /// By the graph's number: a graph replaced under its name is another.
    plans: Mutex<HashMap<i64, Arc<PlanCache>>>,
    queries: Mutex<HashMap<u64, CancelToken>>,
    next_query: std::sync::atomic::AtomicU64,
    stopped: Notify,
    stopping: std::sync::atomic::AtomicBool,
}

/// Cancels its query when it is dropped: a client that goes away takes its query with it.
pub struct QueryGuard {
    app: Arc<App>,
    id: u64,
    token: CancelToken,
    finished: bool,
}

impl QueryGuard {
    /// The query came to its end by itself.
    pub fn finish(mut self) {
        self.finished = true;
    }
}

impl Drop for QueryGuard {
    fn drop(&mut self) {
        if !self.finished {
            self.token.cancel();
        }
        self.app.queries.lock().remove(&self.id);
    }
}

impl App {
    pub fn new(catalog: Catalog, limits: ServiceLimits) -> App {
        App {
            catalog,
            slots: Semaphore::new(limits.concurrent_queries),
            limits,
            jobs: Mutex::default(),
            plans: Mutex::default(),
            queries: Mutex::default(),
            next_query: Default::default(),
            stopped: Notify::new(),
            stopping: Default::default(),
        }
    }

    pub fn graph(&self, name: &str) -> Result<Arc<GraphHandle>, Problem> {
        self.catalog.graph(name).ok_or_else(|| {
            let names = self.catalog.graph_names();
            let near = graphodrome_language::nearest(name, names.iter().map(String::as_str));
            let hint = match near {
                Some(near) => format!("did you mean {near}?"),
                None if names.is_empty() => "there is none yet: CREATE GRAPH makes one".into(),
                None => format!("there is {}", names.join(", ")),
            };
            Problem::not_found(format!("there is no graph {name}")).hint(hint)
        })
    }

    /// The plans kept for a graph's queries.
    pub fn plans(&self, graph: &GraphHandle) -> Arc<PlanCache> {
        let mut plans = self.plans.lock();
        if let Some(known) = plans.get(&graph.id) {
            return known.clone();
        }
        // A new graph comes seldom: the time to forget those that are gone.
        let live: Vec<i64> = self.catalog.graphs().iter().map(|g| g.id).collect();
        plans.retain(|id, _| live.contains(id));
        plans.entry(graph.id).or_default().clone()
    }

    pub fn register_query(self: &Arc<Self>) -> (CancelToken, QueryGuard) {
        let token = CancelToken::default();
        let id = self.next_query.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        self.queries.lock().insert(id, token.clone());
        (token.clone(), QueryGuard { app: self.clone(), id, token, finished: false })
    }

    /// Cancels what runs; new requests still get answers until the listener is closed.
    pub fn stop(&self) {
        self.stopping.store(true, std::sync::atomic::Ordering::Relaxed);
        self.queries.lock().values().for_each(CancelToken::cancel);
        self.jobs.lock().values().for_each(|job| job.progress.cancel());
        self.stopped.notify_waiters();
    }

    pub fn is_stopping(&self) -> bool {
        self.stopping.load(std::sync::atomic::Ordering::Relaxed)
    }

    pub async fn stopped(&self) {
        let notified = self.stopped.notified();
        if self.is_stopping() {
            return;
        }
        notified.await;
    }
}
