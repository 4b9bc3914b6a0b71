//! An open graph: its newest snapshot, its writers in turn, its commits grouped.
//!
//! A write takes its turn, runs and is checked against the newest state (published or not), queues its log entry,
//! and passes the turn on. One task writes all queued entries in one transaction and publishes the last state.
//! Commits that wait together share a transaction, and no client is answered before its entry is durable.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Duration;

use arc_swap::ArcSwap;
use graphodrome_graph::{Change, Snapshot};
use parking_lot::Mutex;
use sea_orm::{ColumnTrait, DatabaseConnection, EntityTrait, QueryFilter};
use tokio::sync::{Notify, oneshot, watch};

use crate::StoreError;
use crate::entities::segment;
use crate::entries::{encode_changes, read_commits};
use crate::fence::Fence;
use crate::head::Head;
use crate::lent::Lent;
use crate::opening::{Bases, Opened};
use crate::pages::remove_segments;
use crate::segments::Layout;
use crate::versions::Keeping;

pub(crate) struct Pending {
    pub snapshot: Arc<Snapshot>,
    pub changes: Vec<u8>,
    pub origin: Arc<str>,
    pub done: oneshot::Sender<Result<(), StoreError>>,
}

/// Whether the graph may be written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Standing {
    Open,
    /// It is not known whether PostgreSQL kept the last write: nothing may be built on it, nor beside it.
    InDoubt,
    /// Something else has written to it.
    Closed(String),
}

pub(crate) struct State {
    pub standing: Standing,
    /// The newest state, commits in the queue included.
    pub head: Arc<Snapshot>,
    pub queue: Vec<Pending>,
    /// What became of writes whose answer did not arrive, by their tickets; `None` where that is not known yet.
    pub outcomes: VecDeque<(i64, Option<bool>)>,
    /// The newest commits, those in the queue included, in order.
    recent: VecDeque<(u64, Arc<Vec<Change>>)>,
    /// Changes in them.
    recent_changes: usize,
    /// Whether a task writes the queue, and goes on until it is empty.
    pub writing: bool,
}

/// How long those who wait for what is not known yet are kept waiting; then they are told so.
pub(crate) const PATIENCE: Duration = Duration::from_secs(10);

/// Changes of the newest commits that are kept in memory.
const RECENT_CHANGES: usize = 200_000;

impl State {
    fn remember(&mut self, version: u64, changes: Arc<Vec<Change>>) {
        self.recent_changes += changes.len() + 1;
        self.recent.push_back((version, changes));
        while self.recent_changes > RECENT_CHANGES && self.recent.len() > 1 {
            if let Some((_, gone)) = self.recent.pop_front() {
                self.recent_changes -= gone.len() + 1;
            }
        }
    }

    /// An error where the graph may not be written.
    pub fn may_write(&self) -> Result<(), StoreError> {
        match &self.standing {
            Standing::Open => Ok(()),
            Standing::InDoubt => Err(StoreError::Away(
                "PostgreSQL went away before it said whether the last change was written: nothing else is written before that is known".into(),
            )),
            Standing::Closed(why) => Err(StoreError::Closed(why.clone())),
        }
    }

    /// Goes back to what is published, which nobody has built on.
    pub fn reset(&mut self, published: Arc<Snapshot>) {
        self.forget_after(published.version);
        self.head = published;
    }

    fn forget_after(&mut self, version: u64) {
        while self.recent.back().is_some_and(|(v, _)| *v > version) {
            if let Some((_, gone)) = self.recent.pop_back() {
                self.recent_changes -= gone.len() + 1;
            }
        }
    }
}

/// How long a log is.
pub(crate) struct LogSize {
    pub commits: usize,
    pub bytes: usize,
}

/// Commits with their versions, the oldest first.
pub type Commits = Vec<(u64, Arc<Vec<Change>>)>;

pub struct GraphHandle {
    pub id: i64,
    pub name: String,
    published: ArcSwap<Snapshot>,
    pub(crate) state: Mutex<State>,
    turn: tokio::sync::Mutex<()>,
    /// Held by the load that is made, or prepared.
    loading: tokio::sync::Mutex<()>,
    pub(crate) log: tokio::sync::Mutex<()>,
    /// The connection over which commits are written.
    pub(crate) lent: Arc<Lent>,
    /// Where the log ends in PostgreSQL.
    pub(crate) row: Head,
    pub(crate) fence: Arc<Fence>,
    /// Where the tables of the newest base are stored.
    pub(crate) layout: Mutex<Layout>,
    pub(crate) folding: tokio::sync::Mutex<()>,
    /// Bases in memory, for those who read earlier versions.
    pub(crate) bases: Arc<Bases>,
    /// What earlier versions need is kept while they are read.
    pub(crate) keeping: Keeping,
    /// The version of the newest base.
    base_version: AtomicU64,
    /// Bytes of the log after it, more or less.
    log_bytes: AtomicUsize,
    /// Told when the standing changes.
    cleared: Notify,
    /// The newest version that is published.
    news: watch::Sender<u64>,
    pub(crate) database: DatabaseConnection,
}

/// A turn to write: nobody else changes the graph while it is held.
pub struct Turn<'g> {
    pub(crate) graph: &'g Arc<GraphHandle>,
    /// The newest state when the turn began: what is written in this turn follows it, or is not written.
    head: Arc<Snapshot>,
    /// Who or what writes, as the history names it.
    pub(crate) origin: Arc<str>,
    _guard: tokio::sync::MutexGuard<'g, ()>,
}

impl GraphHandle {
    pub(crate) fn new(
        row: Head, name: String, opened: Opened, bases: Arc<Bases>, fence: Arc<Fence>,
        database: DatabaseConnection,
    ) -> Self {
        let Opened { snapshot, layout, log } = opened;
        let snapshot = Arc::new(snapshot);
        let state = State {
            standing: Standing::Open,
            outcomes: VecDeque::new(),
            head: snapshot.clone(),
            queue: vec![],
            recent: VecDeque::new(),
            recent_changes: 0,
            writing: false,
        };
        GraphHandle {
            id: row.graph(),
            row,
            fence,
            name,
            news: watch::channel(snapshot.version).0,
            published: ArcSwap::new(snapshot),
            state: Mutex::new(state),
            turn: tokio::sync::Mutex::new(()),
            loading: tokio::sync::Mutex::new(()),
            log: tokio::sync::Mutex::new(()),
            lent: Arc::default(),
            layout: Mutex::new(layout),
            folding: tokio::sync::Mutex::new(()),
            bases,
            keeping: Keeping::default(),
            base_version: AtomicU64::new(log.after),
            log_bytes: AtomicUsize::new(log.bytes),
            cleared: Notify::new(),
            database,
        }
    }

    /// The newest state whose commit is durable.
    pub fn snapshot(&self) -> Arc<Snapshot> {
        self.published.load_full()
    }

    /// Tells the version each time a newer one is published.
    pub fn news(&self) -> watch::Receiver<u64> {
        self.news.subscribe()
    }

    /// The commits after a version up to the newest, those not yet durable included; `None` where a load
    /// or a change of the model came between, or they are no longer kept.
    pub async fn commits_since(&self, version: u64) -> Result<Option<Commits>, StoreError> {
        {
            let state = self.state.lock();
            if version >= state.head.version {
                return Ok(Some(vec![]));
            }
            let known: Commits = state.recent.iter().filter(|(v, _)| *v > version).cloned().collect();
            let whole = known.len() as u64 == state.head.version - version
                && known.iter().zip(version + 1..).all(|((v, _), wanted)| *v == wanted);
            if whole {
                return Ok(Some(known));
            }
        }
        let published = self.snapshot().version;
        let log = match read_commits(&self.database, (self.id, &self.name), version).await {
            Ok(log) => log,
            // A gap: what filled it was no commit.
            Err(StoreError::Damaged(_)) => return Ok(None),
            Err(error) => return Err(error),
        };
        let whole = log.len() as u64 >= published.saturating_sub(version);
        Ok(whole.then(|| (version + 1..).zip(log.into_iter().map(Arc::new)).collect()))
    }

    pub(crate) fn publish_snapshot(&self, snapshot: Arc<Snapshot>) {
        let version = snapshot.version;
        self.published.store(snapshot);
        self.news.send_replace(version);
    }

    /// The graph's turn to be written, once everybody before has had theirs; an error where it cannot be written.
    pub async fn turn(self: &Arc<Self>) -> Result<Turn<'_>, StoreError> {
        let guard = self.turn.lock().await;
        let began = tokio::time::Instant::now();
        loop {
            let cleared = self.cleared.notified();
            self.fence.check()?;
            let refused = {
                let state = self.state.lock();
                match state.may_write() {
                    Ok(()) => {
                        let (head, origin) = (state.head.clone(), Arc::default());
                        return Ok(Turn { graph: self, head, origin, _guard: guard });
                    }
                    Err(refused) => refused,
                }
            };
            let in_doubt = matches!(refused, StoreError::Away(_));
            if !in_doubt || tokio::time::timeout_at(began + PATIENCE, cleared).await.is_err() {
                return Err(refused);
            }
        }
    }

    /// A load's place before all other loads of this graph.
    pub async fn loads(&self) -> tokio::sync::MutexGuard<'_, ()> {
        self.loading.lock().await
    }

    /// The turn, where nobody has it and the graph can be written now; `None` where it is to be waited for.
    pub(crate) fn turn_now(self: &Arc<Self>) -> Result<Option<Turn<'_>>, StoreError> {
        let Ok(guard) = self.turn.try_lock() else { return Ok(None) };
        self.fence.check()?;
        let state = self.state.lock();
        match state.may_write() {
            Ok(()) => {
                let (head, origin) = (state.head.clone(), Arc::default());
                Ok(Some(Turn { graph: self, head, origin, _guard: guard }))
            }
            Err(StoreError::Away(_)) => Ok(None),
            Err(refused) => Err(refused),
        }
    }

    /// Makes a commit that is durable what everybody sees.
    pub(crate) fn show_commit(&self, snapshot: Arc<Snapshot>, changes: Arc<Vec<Change>>) {
        let mut state = self.state.lock();
        state.head = snapshot.clone();
        state.remember(snapshot.version, changes);
        self.publish_snapshot(snapshot);
    }

    /// The version whose statistics the planner has: the newest base's.
    pub fn statistics_version(&self) -> u64 {
        self.base_version.load(Ordering::Relaxed)
    }

    /// The commits since the newest base.
    pub(crate) fn log_since_base(&self) -> LogSize {
        let commits = self.snapshot().version.saturating_sub(self.base_version.load(Ordering::Relaxed));
        LogSize { commits: commits as usize, bytes: self.log_bytes.load(Ordering::Relaxed) }
    }

    pub(crate) fn add_to_log(&self, bytes: usize) {
        self.log_bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    /// A base of this version is there: the log before it is not needed.
    pub(crate) fn begin_log(&self, version: u64) {
        self.base_version.store(version, Ordering::Relaxed);
        self.log_bytes.store(0, Ordering::Relaxed);
    }

    /// Says whether the graph may be written from now on.
    pub(crate) fn stand(&self, standing: Standing) {
        self.state.lock().standing = standing;
        self.cleared.notify_waiters();
    }

    /// Removes the segments of a graph that is gone, while nobody waits for it.
    pub(crate) fn forget(&self) {
        let (database, graph) = (self.database.clone(), self.id);
        tokio::spawn(async move {
            let found =
                segment::Entity::find().filter(segment::Column::GraphId.eq(graph)).all(&database).await;
            let removed = match found {
                Ok(found) => {
                    let ids: Vec<i64> = found.into_iter().map(|segment| segment.id).collect();
                    remove_segments(database.get_postgres_connection_pool(), &ids).await
                }
                Err(error) => Err(error.into()),
            };
            if let Err(error) = removed {
                tracing::warn!(%error, graph, "a dropped graph's segments are left for the next start to remove");
            }
        });
    }
}

impl Turn<'_> {
    /// The newest state, commits not yet durable included: what a write is made against.
    pub fn snapshot(&self) -> Arc<Snapshot> {
        self.head.clone()
    }

    /// An error where the state that this turn began with is not the newest any more: a commit that it includes
    /// could not be written.
    fn follows(&self, state: &State) -> Result<(), StoreError> {
        self.graph.fence.check()?;
        state.may_write()?;
        if Arc::ptr_eq(&state.head, &self.head) { Ok(()) } else { Err(StoreError::Lost) }
    }

    /// Says who or what writes, for the history.
    pub fn by(mut self, origin: &str) -> Self {
        self.origin = origin.into();
        self
    }

    /// Queues a commit and gives the turn on; returns when it is durable and published.
    pub async fn commit(self, snapshot: Snapshot, changes: Vec<Change>) -> Result<(), StoreError> {
        let (done, answer) = oneshot::channel();
        let made = Arc::new(changes);
        let changes = encode_changes(&made)?;
        let snapshot = Arc::new(snapshot);
        {
            let mut state = self.graph.state.lock();
            self.follows(&state)?;
            state.head = snapshot.clone();
            state.remember(snapshot.version, made);
            state.queue.push(Pending { snapshot, changes, origin: self.origin.clone(), done });
        }
        let graph = self.graph;
        drop(self);
        graph.keep_writing();
        match answer.await {
            Ok(written) => written,
            Err(_) => Err(StoreError::Server("the commit was not written".into())),
        }
    }

    /// Makes a state that is durable the one that everybody sees.
    pub(crate) fn show(&self, snapshot: Arc<Snapshot>) {
        self.graph.bases.know(&self.graph.layout.lock(), &snapshot.base);
        let mut state = self.graph.state.lock();
        state.head = snapshot.clone();
        self.graph.publish_snapshot(snapshot);
    }

    /// Makes the same elements under another schema, which is durable, the one that everybody sees.
    pub(crate) fn show_schema(&self, snapshot: Arc<Snapshot>) {
        self.graph.state.lock().remember(snapshot.version, Arc::default());
        self.show(snapshot);
    }

    /// Waits until every commit made before this turn is durable; an error where one could not be written.
    pub(crate) async fn settled(&self) -> Result<Arc<Snapshot>, StoreError> {
        self.graph.flush().await;
        self.follows(&self.graph.state.lock())?;
        if !Arc::ptr_eq(&self.graph.snapshot(), &self.head) {
            return Err(StoreError::Lost);
        }
        Ok(self.head.clone())
    }

    pub fn graph(&self) -> &Arc<GraphHandle> {
        self.graph
    }
}
