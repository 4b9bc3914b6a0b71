//! Sessions: what one client keeps between its requests: a graph, parameters, a time zone, and at most
//! one open transaction. One that is idle for too long is closed, and its transaction rolled back.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::http::StatusCode;
use graphodrome_engine::Parameters;
use graphodrome_graph::{Change, Snapshot, Touched, Zone, rebase};
use graphodrome_store::{Catalog, GraphHandle, Part as Made};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::Problem;
use crate::who;

/// Sessions that may be open at once.
const MOST_SESSIONS: usize = 1000;

/// A transaction of several statements: the states it sees, and what it changed.
pub struct OpenTransaction {
    pub read_only: bool,
    /// The states of all graphs at its first look at one, by the graphs' ids: those of one moment.
    began: Option<HashMap<i64, Arc<Snapshot>>>,
    /// The graphs that it is about, in the order of its first look at each.
    parts: Vec<Part>,
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

fn rolled_back(detail: impl Into<String>) -> Problem {
    transaction_problem("40001", StatusCode::CONFLICT, detail).hint("begin it again")
}

impl OpenTransaction {
    pub fn new(read_only: bool) -> OpenTransaction {
        OpenTransaction { read_only, began: None, parts: vec![] }
    }

    /// The state of a graph as the transaction sees it: that of the transaction's first look at any, and its own changes.
    pub fn snapshot(
        &mut self, catalog: &Catalog, graph: &Arc<GraphHandle>,
    ) -> Result<Arc<Snapshot>, Problem> {
        if let Some(part) = self.parts.iter().find(|part| part.graph.id == graph.id) {
            return Ok(part.now.clone());
        }
        let began = self.began.get_or_insert_with(|| {
            let all = catalog.snapshots();
            all.into_iter().map(|(graph, snapshot)| (graph.id, snapshot)).collect()
        });
        let Some(began) = began.get(&graph.id).cloned() else {
            let text = format!("the graph {} was created after the transaction began", graph.name);
            return Err(
                transaction_problem("25G04", StatusCode::CONFLICT, text).hint("ROLLBACK, and begin it again")
            );
        };
        let now = began.clone();
        self.parts.push(Part { graph: graph.clone(), now, began: began.clone(), changes: vec![] });
        Ok(began)
    }

    pub fn may_change(&self) -> Result<(), Problem> {
        if !self.read_only {
            return Ok(());
        }
        Err(transaction_problem("25G03", StatusCode::CONFLICT, "the transaction was started READ ONLY")
            .hint("COMMIT it, and START TRANSACTION READ WRITE"))
    }

    pub fn add(&mut self, graph: &GraphHandle, snapshot: Snapshot, changes: Vec<Change>) {
        if let Some(part) = self.parts.iter_mut().find(|part| part.graph.id == graph.id) {
            part.now = Arc::new(snapshot);
            part.changes.extend(changes);
        }
    }

    /// Makes its changes durable, those of all graphs or none, put on what others committed meanwhile.
    pub async fn commit(self, catalog: &Catalog) -> Result<Vec<Committed>, Problem> {
        let changed: Vec<Part> = self.parts.into_iter().filter(|part| !part.changes.is_empty()).collect();
        let graphs: Vec<Arc<GraphHandle>> = changed.iter().map(|part| part.graph.clone()).collect();
        let turns = catalog.turns(&graphs).await?;
        let mut committed = vec![];
        let mut made = vec![];
        for (part, turn) in changed.into_iter().zip(turns) {
            let (snapshot, changes) = part.put_on(turn.snapshot()).await?;
            let (graph, version) = (turn.graph().clone(), snapshot.version);
            committed.push(Committed { graph, changes: changes.len(), version });
            made.push(Made { turn: turn.by(&who::with("transaction")), snapshot, changes });
        }
        if made.len() > 1 {
            catalog.commit_together(made).await?;
        } else if let Some(Made { turn, snapshot, changes }) = made.pop() {
            turn.commit(snapshot, changes).await?;
        }
        Ok(committed)
    }
}

impl Part {
    /// Its changes on the newest state, which others may have changed meanwhile.
    async fn put_on(self, head: Arc<Snapshot>) -> Result<(Snapshot, Vec<Change>), Problem> {
        let Part { graph, began, now, changes } = self;
        if head.version == began.version && Arc::ptr_eq(&head.base, &began.base) {
            let mut snapshot = (*now).clone();
            snapshot.version = began.version + 1;
            return Ok((snapshot, changes));
        }
        let Some(commits) = graph.commits_since(began.version).await? else {
            return Err(rolled_back(format!(
                "the transaction was rolled back: the graph {} was loaded or its model changed meanwhile",
                graph.name
            )));
        };
        let rebased = tokio::task::spawn_blocking(move || {
            let mut since = Touched::default();
            commits.iter().for_each(|(_, changes)| since.add(changes));
            rebase(began.next_ids(), &head, &changes, &since)
        });
        rebased.await?.map_err(|error| {
            let conflict = error.code == graphodrome_graph::Code::CONFLICT;
            let mut problem = Problem::from_graph(error);
            if conflict {
                problem.status = StatusCode::CONFLICT.as_u16();
                problem.title = "Conflict".into();
            }
            problem
        })
    }
}

/// What a transaction did to a graph.
pub struct Committed {
    pub graph: Arc<GraphHandle>,
    /// Elements that were changed.
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

struct OpenSession {
    session: Arc<tokio::sync::Mutex<Session>>,
    used: Instant,
}

/// All sessions, by their ids.
pub struct Sessions {
    entries: Mutex<HashMap<String, OpenSession>>,
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
        entries.insert(id.clone(), OpenSession { session, used: Instant::now() });
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
