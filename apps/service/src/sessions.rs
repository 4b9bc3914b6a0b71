//! Sessions: what one client keeps between its requests: a graph, parameters, a time zone, and at most
//! one open transaction. One that is idle for too long is closed, and its transaction rolled back.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::http::StatusCode;
use graphodrome_engine::Parameters;
use graphodrome_graph::{Change, Snapshot, Touched, Zone, rebase};
use graphodrome_store::GraphHandle;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::Problem;
use crate::who;

/// Sessions that may be open at once.
const MOST_SESSIONS: usize = 1000;

/// A transaction of several statements: the state it sees, and what it changed.
pub struct OpenTransaction {
    pub read_only: bool,
    /// The graph it is about, from its first statement on.
    part: Option<Part>,
}

struct Part {
    graph: Arc<GraphHandle>,
    /// The state it began with.
    began: Arc<Snapshot>,
    /// With its own changes.
    now: Arc<Snapshot>,
    changes: Vec<Change>,
}

fn transaction_problem(code: &str, status: StatusCode, detail: impl Into<String>) -> Problem {
    let mut problem = Problem::new(status, detail);
    problem.code = Some(code.into());
    problem
}

impl OpenTransaction {
    pub fn new(read_only: bool) -> OpenTransaction {
        OpenTransaction { read_only, part: None }
    }

    /// The state of a graph as the transaction sees it: that of its first look, and its own changes.
    pub fn snapshot(&mut self, graph: &Arc<GraphHandle>) -> Result<Arc<Snapshot>, Problem> {
        match &self.part {
            Some(part) if part.graph.id == graph.id => Ok(part.now.clone()),
            Some(part) => Err(transaction_problem(
                "25G04",
                StatusCode::CONFLICT,
                format!("the transaction is about the graph {}, not {}", part.graph.name, graph.name),
            )
            .hint("COMMIT it first: a transaction is about one graph")),
            None => {
                let began = graph.snapshot();
                self.part = Some(Part {
                    graph: graph.clone(),
                    now: began.clone(),
                    began: began.clone(),
                    changes: vec![],
                });
                Ok(began)
            }
        }
    }

    pub fn may_change(&self) -> Result<(), Problem> {
        if !self.read_only {
            return Ok(());
        }
        Err(transaction_problem("25G03", StatusCode::CONFLICT, "the transaction was started READ ONLY")
            .hint("COMMIT it, and START TRANSACTION READ WRITE"))
    }

    pub fn add(&mut self, snapshot: Snapshot, changes: Vec<Change>) {
        if let Some(part) = &mut self.part {
            part.now = Arc::new(snapshot);
            part.changes.extend(changes);
        }
    }

    /// Makes its changes durable, put on what others committed meanwhile. Returns how many elements
    /// were changed, and the version.
    pub async fn commit(self) -> Result<Committed, Problem> {
        let Some(Part { graph, began, now, changes }) = self.part else { return Ok(Committed::default()) };
        if changes.is_empty() {
            return Ok(Committed { graph: None, changes: 0, version: began.version });
        }
        let turn = graph.turn().await?;
        let head = turn.snapshot();
        let alone = head.version == began.version && Arc::ptr_eq(&head.base, &began.base);
        let (snapshot, changes) = if alone {
            let mut snapshot = (*now).clone();
            snapshot.version = began.version + 1;
            (snapshot, changes)
        } else {
            let Some(commits) = graph.commits_since(began.version).await? else {
                return Err(transaction_problem(
                    "40001",
                    StatusCode::CONFLICT,
                    "the transaction was rolled back: the graph was loaded or its model changed meanwhile",
                )
                .hint("begin it again"));
            };
            tokio::task::spawn_blocking(move || {
                let mut since = Touched::default();
                commits.iter().for_each(|(_, changes)| since.add(changes));
                rebase(began.next_ids(), &head, &changes, &since)
            })
            .await?
            .map_err(|error| {
                let conflict = error.code == graphodrome_graph::Code::CONFLICT;
                let mut problem = Problem::from_graph(error);
                if conflict {
                    problem.status = StatusCode::CONFLICT.as_u16();
                    problem.title = "Conflict".into();
                }
                problem
            })?
        };
        let (version, count) = (snapshot.version, changes.len());
        turn.by(&who::with("transaction")).commit(snapshot, changes).await?;
        Ok(Committed { graph: Some(graph), changes: count, version })
    }
}

#[derive(Default)]
pub struct Committed {
    /// `None` where nothing was changed.
    pub graph: Option<Arc<GraphHandle>>,
    pub changes: usize,
    pub version: u64,
}

/// What a session keeps.
#[derive(Default)]
pub struct Session {
    pub graph: Option<String>,
    pub parameters: Parameters,
    pub zone: Zone,
    pub transaction: Option<OpenTransaction>,
    pub closed: bool,
}

struct Entry {
    session: Arc<tokio::sync::Mutex<Session>>,
    used: Instant,
}

/// All sessions, by their ids.
pub struct Sessions {
    entries: Mutex<HashMap<String, Entry>>,
    pub idle: Duration,
}

/// A session as clients see it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionInfo {
    pub id: String,
    pub graph: Option<String>,
    /// Names of its parameters.
    pub parameters: Vec<String>,
    /// A displacement such as `+01:00`, or a region such as `Europe/London`.
    pub time_zone: String,
    /// Whether a transaction is open.
    pub in_transaction: bool,
    /// Milliseconds after its last request at which it is closed.
    pub idle_ms: u64,
}

fn new_id() -> String {
    // Seeded by the system for each state: nobody can guess another one's session.
    let part = || RandomState::new().hash_one(0);
    format!("{:016x}{:016x}", part(), part())
}

impl Sessions {
    pub fn new(idle: Duration) -> Sessions {
        Sessions { entries: Mutex::default(), idle }
    }

    pub fn open(&self, graph: Option<String>) -> Result<String, Problem> {
        self.close_idle();
        let mut entries = self.entries.lock();
        if entries.len() >= MOST_SESSIONS {
            return Err(Problem::new(
                StatusCode::TOO_MANY_REQUESTS,
                format!("there are {MOST_SESSIONS} sessions already"),
            )
            .hint("close those that are no longer needed: DELETE /v1/sessions/{id}"));
        }
        let id = new_id();
        let session = Session { graph, ..Session::default() };
        let session = Arc::new(tokio::sync::Mutex::new(session));
        entries.insert(id.clone(), Entry { session, used: Instant::now() });
        Ok(id)
    }

    /// For a statement: it is used from now on.
    pub fn get(&self, id: &str) -> Result<Arc<tokio::sync::Mutex<Session>>, Problem> {
        self.find(id, true)
    }

    fn find(&self, id: &str, uses: bool) -> Result<Arc<tokio::sync::Mutex<Session>>, Problem> {
        self.close_idle();
        let mut entries = self.entries.lock();
        match entries.get_mut(id) {
            Some(entry) => {
                if uses {
                    entry.used = Instant::now();
                }
                Ok(entry.session.clone())
            }
            None => Err(Problem::not_found(format!("there is no session {id}"))
                .hint("it was closed, or was idle for too long: POST /v1/sessions opens another")),
        }
    }

    /// Rolls back what it has open.
    pub fn close(&self, id: &str) -> bool {
        self.entries.lock().remove(id).is_some()
    }

    /// Closes what was not used for too long; a session that runs a statement is in use.
    pub fn close_idle(&self) {
        let idle = self.idle;
        self.entries.lock().retain(|_, entry| {
            let running = entry.session.try_lock().is_err();
            if running {
                entry.used = Instant::now();
            }
            running || entry.used.elapsed() < idle
        });
    }

    /// To look at it is no use of it.
    pub async fn info(&self, id: &str) -> Result<SessionInfo, Problem> {
        let session = self.find(id, false)?;
        let session = session.lock().await;
        Ok(SessionInfo {
            id: id.into(),
            graph: session.graph.clone(),
            parameters: session.parameters.keys().cloned().collect(),
            time_zone: session.zone.to_string(),
            in_transaction: session.transaction.is_some(),
            idle_ms: self.idle.as_millis() as u64,
        })
    }
}
