//! State shared by the routes: catalog, limits, running queries and jobs.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use graphodrome_engine::{Code, MemoryPool, PlanCache};
use graphodrome_formats::LoadMemory;
use graphodrome_graph::GraphError;
use graphodrome_store::{Catalog, GoOn, GraphHandle, StoreError};
use parking_lot::Mutex;
use tokio::sync::{Notify, OwnedSemaphorePermit, Semaphore, broadcast};

use axum::http::StatusCode;

use crate::backups::Backups;
use crate::limits::ServiceLimits;
use crate::own_procedures::OwnProcedures;
use crate::problem::Problem;
use crate::running::{Entry, Registry, RunningKind};
use crate::running_job::RunningJob;
use crate::sessions::Sessions;
use crate::slow::SlowLog;
use crate::traces::Traces;

/// Looks at tables before there is a load, at once; more wait.
const LOOKS_AT_ONCE: usize = 2;

/// Between two looks whether anything still runs.
const DRAIN_LOOKS: Duration = Duration::from_millis(20);

/// News of jobs that a listener may be behind; it misses older ones.
const NEWS_KEPT: usize = 256;

pub(crate) fn ended(message: &str) -> GraphError {
    GraphError::new(graphodrome_graph::Code("R0001"), message)
}

pub struct App {
    pub catalog: Catalog,
    pub limits: ServiceLimits,
    slots: Arc<Semaphore>,
    load_slots: Arc<Semaphore>,
    look_slots: Arc<Semaphore>,
    /// What all queries hold.
    pub memory: Arc<MemoryPool>,
    /// What all loads hold.
    pub load_memory: Arc<LoadMemory>,
    pub sessions: Sessions,
    pub jobs: Mutex<HashMap<i64, Arc<RunningJob>>>,
    /// Numbers of jobs that began or ended.
    pub job_news: broadcast::Sender<i64>,
    /// By the graph's number: a graph replaced under its name is another.
    plans: Mutex<HashMap<i64, Arc<PlanCache>>>,
    /// Requests that run now.
    pub running: Registry,
    /// Profiles of queries that took long.
    pub slow: SlowLog,
    pub traces: Option<Traces>,
    pub backups: Backups,
    /// Procedures of one's own that can be called.
    pub own_procedures: OwnProcedures,
    stopped: Notify,
    draining: std::sync::atomic::AtomicBool,
    stopping: std::sync::atomic::AtomicBool,
}

impl App {
    pub fn new(catalog: Catalog, limits: ServiceLimits) -> App {
        App {
            catalog,
            slots: Arc::new(Semaphore::new(limits.concurrent_queries)),
            load_slots: Arc::new(Semaphore::new(limits.concurrent_loads)),
            look_slots: Arc::new(Semaphore::new(LOOKS_AT_ONCE)),
            memory: MemoryPool::new(limits.queries_memory_bytes),
            load_memory: LoadMemory::new(limits.loads_memory_bytes),
            sessions: Sessions::new(limits.session_idle),
            limits,
            jobs: Mutex::default(),
            job_news: broadcast::channel(NEWS_KEPT).0,
            plans: Mutex::default(),
            running: Registry::default(),
            slow: SlowLog::default(),
            traces: None,
            backups: Backups::default(),
            own_procedures: OwnProcedures::default(),
            stopped: Notify::new(),
            draining: Default::default(),
            stopping: Default::default(),
        }
    }

    pub fn graph(&self, name: &str) -> Result<Arc<GraphHandle>, Problem> {
        self.catalog.graph(name).ok_or_else(|| {
            if let Some(offline) = self.catalog.offline_graphs().into_iter().find(|g| g.name == name) {
                return StoreError::Offline { name: offline.name, reason: offline.reason }.into();
            }
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

    /// A slot for a query that is not brief: it is held until the query has ended. Waiting for it is part of
    /// the query's time.
    pub async fn slot(&self, time: Duration) -> Result<OwnedSemaphorePermit, Problem> {
        match tokio::time::timeout(time, self.slots.clone().acquire_owned()).await {
            Ok(Ok(permit)) => Ok(permit),
            Ok(Err(_)) => Err(Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping")),
            Err(_) => {
                let text = format!("no slot became free within the query's {:.1} s", time.as_secs_f64());
                let mut problem = Problem::new(StatusCode::SERVICE_UNAVAILABLE, text).hint(format!(
                    "{} long queries run at once; try again later",
                    self.limits.concurrent_queries
                ));
                problem.code = Some(Code::TIME_LIMIT.into());
                Err(problem)
            }
        }
    }

    /// A slot for a load or a check; `None` once the service has stopped.
    pub async fn load_slot(&self) -> Option<OwnedSemaphorePermit> {
        self.load_slots.clone().acquire_owned().await.ok()
    }

    /// A slot for a look at tables.
    pub async fn look_at_tables(&self) -> Result<OwnedSemaphorePermit, Problem> {
        let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping");
        self.look_slots.clone().acquire_owned().await.map_err(stopping)
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

    /// Forgets all plans that are kept.
    pub fn forget_plans(&self) {
        self.plans.lock().clear();
    }

    pub(crate) fn still_running(&self) -> Result<(), GraphError> {
        if self.is_stopping() { Err(ended("the service is stopping")) } else { Ok(()) }
    }

    /// Ends what it is asked by when the service stops.
    pub fn go_on(self: &Arc<Self>) -> GoOn {
        let app = self.clone();
        Arc::new(move || app.still_running())
    }

    /// For a long look at a graph: it ends with the service, and with the client that asked for it.
    pub fn look(&self, graph: &str, what: &str) -> (GoOn, Entry) {
        let entry = self.running.enter(RunningKind::Look, graph, what);
        let token = entry.token();
        let ask = move || if token.is_cancelled() { Err(ended("the look was cancelled")) } else { Ok(()) };
        (Arc::new(ask), entry)
    }

    /// Takes no new requests, and waits until what runs has come to its end, though no longer than `grace`.
    pub async fn drain(&self, grace: Duration) {
        self.draining.store(true, Ordering::Relaxed);
        let until = tokio::time::Instant::now() + grace;
        let mut looks = tokio::time::interval(DRAIN_LOOKS);
        while tokio::time::Instant::now() < until
            && !self.is_stopping()
            && !(self.running.is_empty() && self.jobs.lock().is_empty())
        {
            looks.tick().await;
        }
    }

    /// Whether new requests are refused, as the service is about to stop.
    pub fn is_draining(&self) -> bool {
        self.draining.load(Ordering::Relaxed)
    }

    /// Cancels what runs.
    pub fn stop(&self) {
        self.stopping.store(true, std::sync::atomic::Ordering::Relaxed);
        self.running.cancel_all();
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
