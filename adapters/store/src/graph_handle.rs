//! A graph that is open: its newest snapshot, its writers in turn, its commits grouped.
//!
//! A write takes its turn, is made and checked against the newest state (published or not), queues its
//! log entry, and gives the turn on. Whoever gets the log next writes every entry queued by then in one
//! transaction and publishes the last state; so commits that wait together share one transaction, and
//! nobody is answered before the entry is durable.

use std::sync::Arc;

use arc_swap::ArcSwap;
use graphodrome_graph::{Base, BaseParts, Change, Schema, Snapshot};
use parking_lot::Mutex;
use sea_orm::sqlx::postgres::PgPoolCopyExt;
use sea_orm::sqlx::{self, Row};
use sea_orm::{ActiveValue::Set, DatabaseConnection, EntityTrait, TransactionTrait};
use tokio::sync::oneshot;

use crate::StoreError;
use crate::entities::{commit, manifest};
use crate::schema::SchemaRows;
use crate::segments::{Segment, encode};

/// A graph is folded into a new base when its overlay holds this many elements and a quarter of the
/// base's.
const FOLD_AT_LEAST: usize = 50_000;

struct Pending {
    snapshot: Arc<Snapshot>,
    changes: Vec<u8>,
    done: oneshot::Sender<Result<(), String>>,
}

struct State {
    /// The newest state, commits in the queue included.
    head: Arc<Snapshot>,
    queue: Vec<Pending>,
}

pub struct GraphHandle {
    pub id: i64,
    pub name: String,
    published: ArcSwap<Snapshot>,
    state: Mutex<State>,
    turn: tokio::sync::Mutex<()>,
    log: tokio::sync::Mutex<()>,
    pub(crate) database: DatabaseConnection,
}

/// What a new base is made of: parts, or a base whose keys and indexes are still to be built.
pub enum Contents {
    Parts(BaseParts),
    Base(Arc<Base>),
}

/// A turn to write: nobody else changes the graph while it is held.
pub struct Turn<'g> {
    graph: &'g Arc<GraphHandle>,
    _guard: tokio::sync::MutexGuard<'g, ()>,
}

pub(crate) fn encode_changes(changes: &[Change]) -> Result<Vec<u8>, StoreError> {
    postcard::to_stdvec(changes).map_err(|e| StoreError::Damaged(e.to_string()))
}

impl GraphHandle {
    pub(crate) fn new(id: i64, name: String, snapshot: Snapshot, database: DatabaseConnection) -> Self {
        let snapshot = Arc::new(snapshot);
        GraphHandle {
            id,
            name,
            published: ArcSwap::new(snapshot.clone()),
            state: Mutex::new(State { head: snapshot, queue: vec![] }),
            turn: tokio::sync::Mutex::new(()),
            log: tokio::sync::Mutex::new(()),
            database,
        }
    }

    /// The newest state whose commit is durable.
    pub fn snapshot(&self) -> Arc<Snapshot> {
        self.published.load_full()
    }

    pub async fn turn(self: &Arc<Self>) -> Turn<'_> {
        Turn { graph: self, _guard: self.turn.lock().await }
    }

    /// Writes what is queued, in a task of its own: a client that goes away drops its request, and a
    /// log entry dropped half way would leave the newest state with a gap in the log behind it.
    async fn flush(self: &Arc<Self>) {
        let graph = self.clone();
        if let Err(error) = tokio::spawn(async move { graph.write_queue().await }).await {
            tracing::error!(%error, graph = self.name, "the commit log's writer stopped");
        }
    }

    /// Writes what is queued, unless somebody did so meanwhile.
    async fn write_queue(&self) {
        let _log = self.log.lock().await;
        let batch = std::mem::take(&mut self.state.lock().queue);
        let Some(last) = batch.last() else { return };
        let newest = last.snapshot.clone();
        let rows: Vec<commit::ActiveModel> = batch
            .iter()
            .map(|pending| commit::ActiveModel {
                graph_id: Set(self.id),
                version: Set(pending.snapshot.version as i64),
                checksum: Set(crc32fast::hash(&pending.changes) as i64),
                changes: Set(pending.changes.clone()),
                created: Set(chrono::Utc::now().fixed_offset()),
            })
            .collect();
        let written = commit::Entity::insert_many(rows).exec_without_returning(&self.database).await;
        match written {
            Ok(_) => {
                self.published.store(newest);
                for pending in batch {
                    let _ = pending.done.send(Ok(()));
                }
            }
            Err(error) => {
                // Nothing of it is durable, so nothing built on it may stay.
                let later = {
                    let mut state = self.state.lock();
                    state.head = self.published.load_full();
                    std::mem::take(&mut state.queue)
                };
                for pending in batch.into_iter().chain(later) {
                    let _ = pending.done.send(Err(error.to_string()));
                }
            }
        }
    }

    /// Whether enough has changed since the base to fold it.
    pub fn wants_fold(&self) -> bool {
        let snapshot = self.snapshot();
        let changed = snapshot.overlay_len();
        changed >= FOLD_AT_LEAST && changed * 4 >= snapshot.base.edge_count() as usize
    }

    /// Folds the overlay into a new base, in a turn of its own.
    pub async fn fold(self: &Arc<Self>) -> Result<(), StoreError> {
        let turn = self.turn().await;
        let snapshot = turn.snapshot();
        if snapshot.overlay_len() == 0 {
            return Ok(());
        }
        let parts = tokio::task::spawn_blocking(move || snapshot.fold())
            .await
            .map_err(|e| StoreError::Server(e.to_string()))?;
        turn.publish(parts).await.map(|_| ())
    }
}

impl Turn<'_> {
    /// The newest state, commits not yet durable included: what a write is made against.
    pub fn snapshot(&self) -> Arc<Snapshot> {
        self.graph.state.lock().head.clone()
    }

    /// Queues a commit and gives the turn on; returns when it is durable and published.
    pub async fn commit(self, snapshot: Snapshot, changes: &[Change]) -> Result<(), StoreError> {
        let (done, answer) = oneshot::channel();
        let changes = encode_changes(changes)?;
        let snapshot = Arc::new(snapshot);
        {
            let mut state = self.graph.state.lock();
            state.head = snapshot.clone();
            state.queue.push(Pending { snapshot, changes, done });
        }
        let graph = self.graph;
        drop(self);
        graph.flush().await;
        match answer.await {
            Ok(Ok(())) => Ok(()),
            Ok(Err(message)) => {
                Err(StoreError::Server(format!("the commit could not be written: {message}")))
            }
            Err(_) => Err(StoreError::Server("the commit was not written".into())),
        }
    }

    /// Makes a base of these parts the graph's next version: all of it or none.
    pub async fn publish(self, parts: BaseParts) -> Result<Arc<Snapshot>, StoreError> {
        let before = self.snapshot();
        self.publish_under(Contents::Parts(parts), before.next_ids(), before.schema(), None).await
    }

    /// Publishes a base under a schema, whose rows change in the transaction that makes the base the graph.
    pub(crate) async fn publish_under(
        self, contents: Contents, ids: (u64, u64), schema: Schema, rows: Option<SchemaRows>,
    ) -> Result<Arc<Snapshot>, StoreError> {
        // Commits made before this turn may still be on their way to the log.
        self.graph.flush().await;
        let before = self.snapshot();
        let next = before.next_ids();
        let ids = (ids.0.max(next.0), ids.1.max(next.1));
        let version = before.version + 1;
        let (snapshot, layout, segments) = tokio::task::spawn_blocking(move || {
            let base = match contents {
                Contents::Parts(parts) => Base::build(parts, &schema)?,
                Contents::Base(base) => base.with_lookups(&schema, &|| Ok(()))?,
            };
            let mut snapshot = Snapshot::new(Arc::new(base), schema, version);
            snapshot.reserve_ids(ids.0, ids.1);
            snapshot.check_all_cardinalities()?;
            let (layout, segments) = encode(&snapshot.base)?;
            Ok::<_, StoreError>((Arc::new(snapshot), layout, segments))
        })
        .await
        .map_err(|e| StoreError::Server(e.to_string()))??;
        self.write_base(&snapshot, layout, segments, rows).await?;
        self.show(snapshot.clone());
        Ok(snapshot)
    }

    /// Makes a state that is durable the one that everybody sees.
    pub(crate) fn show(&self, snapshot: Arc<Snapshot>) {
        let mut state = self.graph.state.lock();
        state.head = snapshot.clone();
        self.graph.published.store(snapshot);
    }

    /// Waits until every commit made before this turn is durable.
    pub(crate) async fn settled(&self) -> Arc<Snapshot> {
        self.graph.flush().await;
        self.snapshot()
    }

    pub(crate) fn graph(&self) -> &Arc<GraphHandle> {
        self.graph
    }

    async fn write_base(
        &self, snapshot: &Snapshot, mut layout: crate::segments::Layout, segments: Vec<Segment>,
        schema: Option<SchemaRows>,
    ) -> Result<(), StoreError> {
        let pool = self.graph.database.get_postgres_connection_pool();
        let rows = sqlx::query("SELECT nextval('segment_ids') FROM generate_series(1, $1)")
            .bind(segments.len() as i64)
            .fetch_all(pool)
            .await?;
        let ids: Vec<i64> = rows.iter().map(|row| row.try_get(0)).collect::<Result<_, _>>()?;
        layout.name_segments(&ids);
        // The segments first, over two connections: without a manifest that names them they are
        // nothing, and the next start removes them.
        let graph_id = self.graph.id;
        let mut halves: [Vec<(i64, Segment)>; 2] = [vec![], vec![]];
        for (place, segment) in ids.into_iter().zip(segments).enumerate() {
            halves[place % 2].push(segment);
        }
        let [first, second] = halves;
        let (a, b) =
            tokio::join!(copy_segments(pool, graph_id, first), copy_segments(pool, graph_id, second));
        a?;
        b?;
        let ids = snapshot.next_ids();
        let row = manifest::ActiveModel {
            graph_id: Set(graph_id),
            version: Set(snapshot.version as i64),
            next_node_id: Set(ids.0 as i64),
            next_edge_id: Set(ids.1 as i64),
            layout: Set(serde_json::to_value(&layout).map_err(|e| StoreError::Damaged(e.to_string()))?),
            created: Set(chrono::Utc::now().fixed_offset()),
        };
        let transaction = self.graph.database.begin().await?;
        if let Some(rows) = schema {
            rows.write(graph_id, &transaction).await?;
        }
        manifest::Entity::insert(row).exec_without_returning(&transaction).await?;
        transaction.commit().await?;
        // From here on the new version is the graph. What it replaces is removed; a crash before that
        // leaves it to the next start.
        clean(pool, graph_id, snapshot.version as i64, &layout.segment_ids()).await
    }
}

/// Removes what a graph's newest manifest has replaced.
pub(crate) async fn clean(
    pool: &sqlx::PgPool, graph_id: i64, version: i64, segments: &[i64],
) -> Result<(), StoreError> {
    let mut transaction = pool.begin().await?;
    for text in [
        "DELETE FROM commits WHERE graph_id = $1 AND version <= $2",
        "DELETE FROM manifests WHERE graph_id = $1 AND version < $2",
    ] {
        sqlx::query(text).bind(graph_id).bind(version).execute(&mut *transaction).await?;
    }
    sqlx::query("DELETE FROM segments WHERE graph_id = $1 AND NOT (id = ANY($2))")
        .bind(graph_id)
        .bind(segments)
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok(())
}

/// COPY in PostgreSQL's binary form: a header, a row a segment, a trailer.
async fn copy_segments(
    pool: &sqlx::PgPool, graph_id: i64, segments: Vec<(i64, Segment)>,
) -> Result<(), StoreError> {
    if segments.is_empty() {
        return Ok(());
    }
    let mut copy =
        pool.copy_in_raw("COPY segments (id, graph_id, data, checksum) FROM STDIN (FORMAT binary)").await?;
    let mut header = b"PGCOPY\n\xff\r\n\0".to_vec();
    header.extend_from_slice(&[0; 8]);
    copy.send(header).await?;
    for (id, segment) in segments {
        let mut row = Vec::with_capacity(segment.data.len() + 64);
        row.extend_from_slice(&4i16.to_be_bytes());
        for number in [id, graph_id] {
            row.extend_from_slice(&8i32.to_be_bytes());
            row.extend_from_slice(&number.to_be_bytes());
        }
        row.extend_from_slice(&(segment.data.len() as i32).to_be_bytes());
        row.extend_from_slice(&segment.data);
        row.extend_from_slice(&8i32.to_be_bytes());
        row.extend_from_slice(&segment.checksum.to_be_bytes());
        copy.send(row).await?;
    }
    copy.send((-1i16).to_be_bytes().to_vec()).await?;
    copy.finish().await?;
    Ok(())
}
