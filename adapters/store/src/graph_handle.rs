//! A graph that is open: its newest snapshot, its writers in turn, its commits grouped.
//!
//! A write takes its turn, is made and checked against the newest state (published or not), queues its
//! log entry, and gives the turn on. Whoever gets the log next writes every entry queued by then in one
//! transaction and publishes the last state; so commits that wait together share one transaction, and
//! nobody is answered before the entry is durable.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use arc_swap::ArcSwap;
use graphodrome_graph::{Change, Snapshot};
use parking_lot::Mutex;
use sea_orm::sqlx;
use sea_orm::{ColumnTrait, DatabaseConnection, EntityTrait, QueryFilter, QueryOrder};
use tokio::sync::{oneshot, watch};

use crate::StoreError;
use crate::entities::{commit, manifest};
use crate::lent::Lent;
use crate::pages::remove_segments;
use crate::segments::Layout;

struct Pending {
    snapshot: Arc<Snapshot>,
    changes: Vec<u8>,
    done: oneshot::Sender<Result<(), String>>,
}

pub(crate) struct State {
    /// The newest state, commits in the queue included.
    head: Arc<Snapshot>,
    queue: Vec<Pending>,
    /// The newest commits, those in the queue included, in order.
    recent: VecDeque<(u64, Arc<Vec<Change>>)>,
    /// Changes in them.
    recent_changes: usize,
    /// Whether a task writes the queue, and goes on until it is empty.
    writing: bool,
}

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

    fn forget_after(&mut self, version: u64) {
        while self.recent.back().is_some_and(|(v, _)| *v > version) {
            if let Some((_, gone)) = self.recent.pop_back() {
                self.recent_changes -= gone.len() + 1;
            }
        }
    }
}

/// Commits with their versions, the oldest first.
pub type Commits = Vec<(u64, Arc<Vec<Change>>)>;

pub struct GraphHandle {
    pub id: i64,
    pub name: String,
    published: ArcSwap<Snapshot>,
    pub(crate) state: Mutex<State>,
    turn: tokio::sync::Mutex<()>,
    pub(crate) log: tokio::sync::Mutex<()>,
    /// The connection over which commits are written.
    lent: Arc<Lent>,
    /// Whether PostgreSQL may have kept commits that were answered as not written: its connection broke
    /// before it said so.
    doubtful: AtomicBool,
    /// The same of a base.
    pub(crate) doubtful_base: AtomicBool,
    /// Where the tables of the newest base are stored.
    pub(crate) layout: Mutex<Layout>,
    pub(crate) folding: tokio::sync::Mutex<()>,
    /// The newest version that is published.
    news: watch::Sender<u64>,
    pub(crate) database: DatabaseConnection,
}

/// The task that writes the queue; should it stop half way, the next commit begins another.
struct Writer(Arc<GraphHandle>);

impl Drop for Writer {
    fn drop(&mut self) {
        if std::thread::panicking() {
            self.0.state.lock().writing = false;
        }
    }
}

/// A turn to write: nobody else changes the graph while it is held.
pub struct Turn<'g> {
    pub(crate) graph: &'g Arc<GraphHandle>,
    _guard: tokio::sync::MutexGuard<'g, ()>,
}

pub(crate) fn encode_changes(changes: &[Change]) -> Result<Vec<u8>, StoreError> {
    postcard::to_stdvec(changes).map_err(|e| StoreError::Damaged(e.to_string()))
}

impl GraphHandle {
    pub(crate) fn new(
        id: i64, name: String, snapshot: Snapshot, layout: Layout, database: DatabaseConnection,
    ) -> Self {
        let snapshot = Arc::new(snapshot);
        let state = State {
            head: snapshot.clone(),
            queue: vec![],
            recent: VecDeque::new(),
            recent_changes: 0,
            writing: false,
        };
        GraphHandle {
            id,
            name,
            news: watch::channel(snapshot.version).0,
            published: ArcSwap::new(snapshot),
            state: Mutex::new(state),
            turn: tokio::sync::Mutex::new(()),
            log: tokio::sync::Mutex::new(()),
            lent: Arc::default(),
            doubtful: AtomicBool::new(false),
            doubtful_base: AtomicBool::new(false),
            layout: Mutex::new(layout),
            folding: tokio::sync::Mutex::new(()),
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
        let log = match read_commits(&self.database, self.id, &self.name, version).await {
            Ok(log) => log,
            // A gap: what filled it was no commit.
            Err(StoreError::Damaged(_)) => return Ok(None),
            Err(error) => return Err(error),
        };
        let whole = log.len() as u64 >= published.saturating_sub(version);
        Ok(whole.then(|| (version + 1..).zip(log.into_iter().map(Arc::new)).collect()))
    }

    fn publish_snapshot(&self, snapshot: Arc<Snapshot>) {
        let version = snapshot.version;
        self.published.store(snapshot);
        self.news.send_replace(version);
    }

    pub async fn turn(self: &Arc<Self>) -> Turn<'_> {
        Turn { graph: self, _guard: self.turn.lock().await }
    }

    /// Writes what is queued, in a task of its own: a client that goes away drops its request, and a
    /// log entry dropped half way would leave the newest state with a gap in the log behind it.
    pub(crate) async fn flush(self: &Arc<Self>) {
        let graph = self.clone();
        if let Err(error) = tokio::spawn(async move { graph.write_queue().await }).await {
            tracing::error!(%error, graph = self.name, "the commit log's writer stopped");
        }
    }

    /// Sees to it that what is queued is written: by the task that writes already, or by a new one. What is
    /// queued while that waits for PostgreSQL goes into one transaction after it.
    fn keep_writing(self: &Arc<Self>) {
        if std::mem::replace(&mut self.state.lock().writing, true) {
            return;
        }
        let writer = Writer(self.clone());
        tokio::spawn(async move {
            loop {
                // Whoever is about to queue something comes along.
                tokio::task::yield_now().await;
                writer.0.write_queue().await;
                let mut state = writer.0.state.lock();
                if state.queue.is_empty() {
                    state.writing = false;
                    return;
                }
            }
        });
    }

    /// Writes what is queued, unless somebody did so meanwhile.
    async fn write_queue(&self) {
        let _log = self.log.lock().await;
        let batch = std::mem::take(&mut self.state.lock().queue);
        let Some(last) = batch.last() else { return };
        let newest = last.snapshot.clone();
        let written = match self.settle_doubts().await {
            Ok(()) => self.log_commits(&batch).await.map_err(StoreError::from),
            Err(error) => Err(error),
        };
        match written {
            Ok(_) => {
                self.publish_snapshot(newest);
                for pending in batch {
                    let _ = pending.done.send(Ok(()));
                }
            }
            Err(error) => {
                self.doubtful.store(true, Ordering::SeqCst);
                let settled = self.settle_doubts().await.is_ok();
                // Nothing of it is durable, so nothing built on it may stay.
                let later = {
                    let mut state = self.state.lock();
                    state.head = self.published.load_full();
                    let version = state.head.version;
                    state.forget_after(version);
                    std::mem::take(&mut state.queue)
                };
                let doubt =
                    if settled { "" } else { "; whether it was is known when PostgreSQL answers again" };
                for pending in batch.into_iter().chain(later) {
                    let _ = pending.done.send(Err(format!("{error}{doubt}")));
                }
            }
        }
    }

    /// Makes true what was answered: takes back commits that PostgreSQL may have kept and nobody was told of.
    /// Called with the log held, before anything else is written. A base that it may have kept is not taken
    /// back, as its schema came with it: where it did, nothing is written before the graph is opened again.
    pub(crate) async fn settle_doubts(&self) -> Result<(), StoreError> {
        let version = self.published.load().version;
        if self.doubtful_base.load(Ordering::SeqCst) {
            if self.stored_base(version + 1).await?.is_some() {
                return Err(StoreError::Server(format!(
                    "graph {} was changed as a whole while PostgreSQL went away: start the service again to see it",
                    self.name
                )));
            }
            self.doubtful_base.store(false, Ordering::SeqCst);
        }
        if self.doubtful.load(Ordering::SeqCst) {
            sqlx::query("DELETE FROM commits WHERE graph_id = $1 AND version > $2")
                .bind(self.id)
                .bind(version as i64)
                .execute(self.database.get_postgres_connection_pool())
                .await?;
            self.doubtful.store(false, Ordering::SeqCst);
        }
        Ok(())
    }

    /// The manifest of this version that PostgreSQL has.
    pub(crate) async fn stored_base(&self, version: u64) -> Result<Option<manifest::Model>, StoreError> {
        Ok(manifest::Entity::find_by_id((self.id, version as i64)).one(&self.database).await?)
    }

    /// All of them or none: one statement for any number of commits, so that it is prepared once, and one
    /// more for each piece of what is more than PostgreSQL takes at once.
    async fn log_commits(&self, batch: &[Pending]) -> Result<(), sqlx::Error> {
        let pool = self.database.get_postgres_connection_pool();
        let pieces = pieces(batch);
        if let [all] = &pieces[..] {
            let mut connection = self.lent.take(pool).await?;
            self.log_piece(all).execute(&mut *connection).await?;
            self.lent.give_back(connection);
            return Ok(());
        }
        let mut transaction = pool.begin().await?;
        for piece in pieces {
            self.log_piece(piece).execute(&mut *transaction).await?;
        }
        transaction.commit().await
    }

    fn log_piece<'p>(
        &self, piece: &'p [Pending],
    ) -> sqlx::query::Query<'p, sqlx::Postgres, sqlx::postgres::PgArguments> {
        let versions: Vec<i64> = piece.iter().map(|p| p.snapshot.version as i64).collect();
        let checksums: Vec<i64> = piece.iter().map(|p| crc32fast::hash(&p.changes) as i64).collect();
        let changes: Vec<&[u8]> = piece.iter().map(|p| &p.changes[..]).collect();
        sqlx::query(
            "INSERT INTO commits (graph_id, version, checksum, changes, created)
             SELECT $1, version, checksum, changes, now()
             FROM unnest($2::bigint[], $3::bigint[], $4::bytea[]) AS new (version, checksum, changes)",
        )
        .bind(self.id)
        .bind(versions)
        .bind(checksums)
        .bind(changes)
    }

    /// Removes the segments of a graph that is gone, while nobody waits for it.
    pub(crate) fn forget(&self) {
        let (pool, ids) =
            (self.database.get_postgres_connection_pool().clone(), self.layout.lock().segment_ids());
        let graph = self.id;
        tokio::spawn(async move {
            if let Err(error) = remove_segments(&pool, &ids).await {
                tracing::warn!(%error, graph, "a dropped graph's segments are left for the next start to remove");
            }
        });
    }
}

/// Changes of the commits after a version, one entry a commit.
pub(crate) async fn read_commits(
    database: &DatabaseConnection, graph_id: i64, name: &str, after: u64,
) -> Result<Vec<Vec<Change>>, StoreError> {
    let log = commit::Entity::find()
        .filter(commit::Column::GraphId.eq(graph_id))
        .filter(commit::Column::Version.gt(after as i64))
        .order_by_asc(commit::Column::Version)
        .all(database)
        .await?;
    let mut entries = vec![];
    for (entry, wanted) in log.into_iter().zip(after as i64 + 1..) {
        let damaged = |what: &str| StoreError::Damaged(format!("commit {wanted} of graph {name} {what}"));
        if entry.version != wanted {
            return Err(damaged("is missing"));
        }
        if crc32fast::hash(&entry.changes) as i64 != entry.checksum {
            return Err(damaged("has a wrong checksum"));
        }
        entries.push(postcard::from_bytes(&entry.changes).map_err(|e| damaged(&e.to_string()))?);
    }
    Ok(entries)
}

impl Turn<'_> {
    /// The newest state, commits not yet durable included: what a write is made against.
    pub fn snapshot(&self) -> Arc<Snapshot> {
        self.graph.state.lock().head.clone()
    }

    /// Queues a commit and gives the turn on; returns when it is durable and published.
    pub async fn commit(self, snapshot: Snapshot, changes: Vec<Change>) -> Result<(), StoreError> {
        let (done, answer) = oneshot::channel();
        let made = Arc::new(changes);
        let changes = encode_changes(&made)?;
        let snapshot = Arc::new(snapshot);
        {
            let mut state = self.graph.state.lock();
            state.head = snapshot.clone();
            state.remember(snapshot.version, made);
            state.queue.push(Pending { snapshot, changes, done });
        }
        let graph = self.graph;
        drop(self);
        graph.keep_writing();
        match answer.await {
            Ok(Ok(())) => Ok(()),
            Ok(Err(message)) => {
                Err(StoreError::Server(format!("the commit could not be written: {message}")))
            }
            Err(_) => Err(StoreError::Server("the commit was not written".into())),
        }
    }

    /// Makes a state that is durable the one that everybody sees.
    pub(crate) fn show(&self, snapshot: Arc<Snapshot>) {
        let mut state = self.graph.state.lock();
        state.head = snapshot.clone();
        self.graph.publish_snapshot(snapshot);
    }

    /// Waits until every commit made before this turn is durable.
    pub(crate) async fn settled(&self) -> Arc<Snapshot> {
        self.graph.flush().await;
        self.snapshot()
    }

    pub(crate) fn graph(&self) -> &Arc<GraphHandle> {
        self.graph
    }
}

/// Bytes of changes in one statement, where there is more than one commit in it: PostgreSQL takes less than
/// 1 GiB.
const PIECE: usize = 64 << 20;

/// Commits in their order, so many at once as are not too large together.
fn pieces(batch: &[Pending]) -> Vec<&[Pending]> {
    let (mut pieces, mut first, mut bytes) = (vec![], 0, 0);
    for (i, pending) in batch.iter().enumerate() {
        if i > first && bytes + pending.changes.len() > PIECE {
            pieces.push(&batch[first..i]);
            (first, bytes) = (i, 0);
        }
        bytes += pending.changes.len();
    }
    pieces.push(&batch[first..]);
    pieces
}
