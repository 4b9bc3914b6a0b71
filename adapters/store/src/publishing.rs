//! New bases of a graph: what a load, a fold or a change of the model came to is built and stored at the same
//! time, and becomes the graph with one row, its manifest.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use graphodrome_graph::{Base, Change, Code, GraphError, Schema, Snapshot, StoredTables};
use parking_lot::Mutex;
use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, DatabaseTransaction, EntityTrait, TransactionTrait};
use tokio::sync::oneshot;

use crate::StoreError;
use crate::contents::Contents;
use crate::entities::manifest;
use crate::entries::{StoredSchema, read_commits};
use crate::graph_handle::{GraphHandle, Standing, Turn};
use crate::head::{Moves, is_there, lock_catalog};
use crate::log::after;
use crate::pages::{remove_segments, store};
use crate::schema_rows::{GoOn, SchemaRows};
use crate::segments::{Layout, Outline};
use crate::versions::VersionKind;

/// A graph is folded into a new base when its overlay holds this many elements and a quarter of the
/// base's.
const FOLD_AT_LEAST: usize = 50_000;
/// Or when its log has so many commits and an eighth of the base's edges, or so many at all, or so many bytes: a
/// start reads them one by one, however few elements they change.
const LOG_AT_LEAST: usize = 50_000;
const LOG_AT_MOST: usize = 1_000_000;
const LOG_BYTES: usize = 512 << 20;
/// A base with more levels than this is merged into one.
const MOST_LEVELS: usize = 8;

/// Where a base that is being built says what is to be stored of it, once.
pub(crate) struct Tell(Mutex<Option<oneshot::Sender<Result<Outline, StoreError>>>>);

impl Tell {
    fn tables(&self, tables: StoredTables, residue: &[Change]) {
        if let Some(sender) = self.0.lock().take() {
            let _ = sender.send(Outline::new(tables, residue));
        }
    }
}

impl GraphHandle {
    /// Whether enough lies above the base, or in levels of it, to make one new base of it.
    pub fn wants_fold(&self) -> bool {
        let snapshot = self.snapshot();
        let changed = snapshot.overlay_len();
        let edges = snapshot.base.edge_count() as usize;
        let log = self.log_since_base();
        snapshot.base.levels() > MOST_LEVELS
            || (changed >= FOLD_AT_LEAST && changed * 4 >= edges)
            || (log.commits >= LOG_AT_LEAST && log.commits * 8 >= edges)
            || log.commits >= LOG_AT_MOST
            || log.bytes >= LOG_BYTES
    }

    /// Makes one new base of everything, where that is wanted, beside readers and writers: the base is made and written of the
    /// state at the beginning, and only to put it below what was committed meanwhile a turn is taken. Gives
    /// up, leaving all as it is, where the base was replaced meanwhile.
    pub async fn fold(self: &Arc<Self>) -> Result<(), StoreError> {
        // Every commit asks while there is much to fold: one fold is enough for all of them.
        let Ok(_one) = self.folding.try_lock() else { return Ok(()) };
        if self.wants_fold() {
            self.fold_all(Arc::new(|| Ok(()))).await?;
        }
        Ok(())
    }

    /// Whether something lies above the base, or in levels of it, that its statistics were not taken of.
    pub fn is_folded(&self) -> bool {
        let snapshot = self.snapshot();
        snapshot.overlay_len() == 0 && snapshot.base.levels() <= 1
    }

    /// Makes one new base of everything now, whose statistics are taken anew. False where there is nothing to make it of,
    /// or another base came meanwhile.
    pub async fn fold_now(self: &Arc<Self>, go_on: GoOn) -> Result<bool, StoreError> {
        let _one = self.folding.lock().await;
        if self.is_folded() {
            return Ok(false);
        }
        self.fold_all(go_on).await
    }

    async fn fold_all(self: &Arc<Self>, go_on: GoOn) -> Result<bool, StoreError> {
        let before = self.snapshot();
        let folded = before.clone();
        let asking = go_on.clone();
        let build = move |tell: Tell| {
            let told = |tables| tell.tables(tables, &[]);
            Ok(Arc::new(Base::build_telling(folded.fold(), &folded.schema(), &*asking, told)?))
        };
        let (base, layout) = self.build_and_store(build, go_on).await?;
        let turn = self.turn().await?;
        let head = turn.settled().await?;
        if !Arc::ptr_eq(&head.base, &before.base) || head.schema() != before.schema() {
            drop(turn);
            let pool = self.database.get_postgres_connection_pool();
            remove_segments(pool, &layout.segment_ids()).await?;
            return Ok(false);
        }
        let mut snapshot = Snapshot::new(base, before.schema(), before.version);
        let ids = head.next_ids();
        snapshot.reserve_ids(ids.0, ids.1);
        for changes in read_commits(&self.database, (self.id, &self.name), before.version).await? {
            snapshot = snapshot.replay(&changes)?;
        }
        let base = NewBase {
            moves: Moves::Not,
            state: &before,
            ids,
            layout,
            rows: None,
            kind: VersionKind::Fold,
            origin: "",
        };
        self.write_manifest(base).await?;
        turn.show(Arc::new(snapshot));
        Ok(true)
    }

    /// Builds a base on a thread of its own, and stores its tables as soon as they are there. Where one of the two
    /// fails nothing is stored: without a manifest that names them segments are nothing.
    async fn build_and_store<T: Send + 'static>(
        &self, build: impl FnOnce(Tell) -> Result<T, StoreError> + Send + 'static, go_on: GoOn,
    ) -> Result<(T, Layout), StoreError> {
        let (told, outline) = oneshot::channel();
        let failed = Arc::new(AtomicBool::new(false));
        let building = {
            let failed = failed.clone();
            tokio::task::spawn_blocking(move || {
                let built = build(Tell(Mutex::new(Some(told))));
                failed.store(built.is_err(), Ordering::Relaxed);
                built
            })
        };
        let asking: GoOn = Arc::new(move || match failed.load(Ordering::Relaxed) {
            true => Err(GraphError::new(Code::DATA, "the base could not be built")),
            false => go_on(),
        });
        let pool = self.database.get_postgres_connection_pool();
        let storing = async {
            let outline = outline.await.map_err(|_| StoreError::Server("nothing was built".into()))??;
            store(pool, self.id, outline, asking).await
        };
        let (built, stored) = tokio::join!(building, storing);
        match (built?, stored) {
            (Ok(built), Ok(layout)) => Ok((built, layout)),
            (Ok(_), Err(error)) => Err(error),
            (Err(error), stored) => {
                if let Ok(layout) = stored {
                    remove_segments(pool, &layout.segment_ids()).await.ok();
                }
                Err(error)
            }
        }
    }

    /// Makes a base the graph, with the schema's rows in the same transaction. What is no longer kept then is removed
    /// while nobody waits for it; a crash before that leaves it to the next start.
    async fn write_manifest(self: &Arc<Self>, base: NewBase<'_>) -> Result<(), StoreError> {
        let NewBase { moves, state, ids, layout, rows, kind, origin } = base;
        let described = |e: serde_json::Error| StoreError::Damaged(e.to_string());
        let row = manifest::ActiveModel {
            graph_id: Set(self.id),
            version: Set(state.version as i64),
            next_node_id: Set(ids.0 as i64),
            next_edge_id: Set(ids.1 as i64),
            layout: Set(serde_json::to_value(&layout).map_err(described)?),
            created: Set(chrono::Utc::now().fixed_offset()),
            kind: Set(kind.as_str().into()),
            schema: Set(serde_json::to_value(StoredSchema::of(&state.schema())).map_err(described)?),
            nodes: Set(Some(state.node_count() as i64)),
            edges: Set(Some(state.edge_count() as i64)),
            origin: Set(origin.into()),
        };
        self.write(moves, async |transaction, _| {
            if let Some(rows) = rows {
                rows.write(self.id, transaction).await?;
            }
            // A base written anew for the state that another was written for takes its place; who made the
            // version, and when, stays.
            let again = OnConflict::columns([manifest::Column::GraphId, manifest::Column::Version])
                .update_columns([
                    manifest::Column::NextNodeId,
                    manifest::Column::NextEdgeId,
                    manifest::Column::Layout,
                    manifest::Column::Schema,
                ])
                .to_owned();
            manifest::Entity::insert(row).on_conflict(again).exec_without_returning(transaction).await?;
            Ok(())
        })
        .await?;
        self.begin_log(state.version);
        let before = std::mem::replace(&mut *self.layout.lock(), layout).segment_ids();
        self.prune_later(before);
        Ok(())
    }
}

/// A base that is stored and about to become the graph.
struct NewBase<'b> {
    moves: Moves,
    /// The state that it is the base of.
    state: &'b Snapshot,
    /// The next ids of elements.
    ids: (u64, u64),
    layout: Layout,
    rows: Option<SchemaRows>,
    kind: VersionKind,
    origin: &'b str,
}

impl GraphHandle {
    /// Does all of `write` in one transaction, or nothing of it: moves the graph's head with it, and where
    /// PostgreSQL went away before it said what became of it waits until it says so. Called in a turn whose
    /// commits are durable. `write` gets the transaction's ticket.
    pub(crate) async fn write(
        &self, moves: Moves, write: impl AsyncFnOnce(&DatabaseTransaction, i64) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        let _log = self.log.lock().await;
        self.state.lock().may_write()?;
        let ticket = self.row.next(&self.fence);
        let transaction = self.database.begin().await?;
        self.fence.hold(&transaction).await?;
        if let Moves::First(_) = moves {
            lock_catalog(&transaction).await?;
            write(&transaction, ticket.own).await?;
            self.row.move_in(ticket, moves, &transaction).await?;
        } else {
            // The head first: whoever settles waits for it.
            self.row.move_in(ticket, moves, &transaction).await?;
            write(&transaction, ticket.own).await?;
        }
        let Err(error) = transaction.commit().await else {
            self.row.kept(ticket);
            return Ok(());
        };
        tracing::warn!(%error, graph = self.name, "whether a new base was written is not known");
        if let Moves::First(_) = moves {
            let kept = is_there(self.id, &self.database).await;
            if !kept {
                return Err(error.into());
            }
            self.row.kept(ticket);
            return Ok(());
        }
        self.stand(Standing::InDoubt);
        let settled = self.settle(ticket, &mut |_| {}).await;
        self.stand(after(&settled));
        if settled? { Ok(()) } else { Err(error.into()) }
    }
}

impl Turn<'_> {
    /// Makes what a load came to the graph's next version: all of it or none. `go_on` ends it before that.
    pub async fn publish(self, contents: Contents, go_on: GoOn) -> Result<Arc<Snapshot>, StoreError> {
        let before = self.snapshot();
        let ids = before.next_ids();
        self.publish_asking((contents, VersionKind::Load), ids, (before.schema(), None), go_on).await
    }

    /// Publishes a base under a schema, whose rows change in the transaction that makes the base the graph.
    pub(crate) async fn publish_under(
        self, contents: Contents, ids: (u64, u64), schema: Schema, rows: SchemaRows, kind: VersionKind,
    ) -> Result<Arc<Snapshot>, StoreError> {
        self.publish_asking((contents, kind), ids, (schema, Some(rows)), Arc::new(|| Ok(()))).await
    }

    /// Makes the rows of a new graph without elements.
    pub(crate) async fn begin(self, rows: SchemaRows) -> Result<(), StoreError> {
        let state = self.snapshot();
        let base = NewBase {
            moves: Moves::First(0),
            state: &state,
            ids: state.next_ids(),
            layout: Layout::default(),
            rows: Some(rows),
            kind: VersionKind::Create,
            origin: &self.origin,
        };
        self.graph.write_manifest(base).await
    }

    /// [`Self::publish_under`]; `go_on` ends it before the base is the graph.
    pub(crate) async fn publish_asking(
        self, (contents, kind): (Contents, VersionKind), ids: (u64, u64),
        (schema, rows): (Schema, Option<SchemaRows>), go_on: GoOn,
    ) -> Result<Arc<Snapshot>, StoreError> {
        // Commits made before this turn may still be on their way to the log.
        let before = self.settled().await?;
        let next = before.next_ids();
        let ids = (ids.0.max(next.0), ids.1.max(next.1));
        let version = before.version + 1;
        let stored = self.graph.layout.lock().clone();
        let asking = go_on.clone();
        let build = move |tell: Tell| {
            let mut tables = (0, 0);
            let mut residue = vec![];
            let (base, collisions) = match contents {
                Contents::Parts(parts) => {
                    let told = |tables| tell.tables(tables, &[]);
                    (Base::build_telling(parts, &schema, &*asking, told)?, vec![])
                }
                Contents::Base(base) => {
                    tell.tables(base.stored(), &[]);
                    (base.with_lookups(&schema, true, &*asking)?, vec![])
                }
                Contents::Level(parts, changed) => {
                    tables = (before.base.nodes.len(), before.base.edges.len());
                    residue = changed.residue();
                    let told = |tables| tell.tables(tables, &residue);
                    before.base.extended_telling(parts, &schema, &*asking, told)?
                }
            };
            base.check_new_bounds(&before.base)?;
            let mut snapshot = Snapshot::new(Arc::new(base), schema, version);
            snapshot.reserve_ids(ids.0, ids.1);
            if !residue.is_empty() {
                snapshot = snapshot.replay(&residue)?;
                snapshot.version = version;
            }
            snapshot.check_collisions(&collisions)?;
            match tables.1 {
                0 => snapshot.check_all_cardinalities()?,
                first => snapshot.check_cardinalities_from(first)?,
            }
            Ok(Arc::new(snapshot))
        };
        let (snapshot, layout) = self.graph.build_and_store(build, go_on).await?;
        let is_level =
            layout.nodes.len() < snapshot.base.nodes.len() || layout.edges.len() < snapshot.base.edges.len();
        let layout = if is_level { stored.with_level(layout) } else { layout };
        let is_new = rows.as_ref().is_some_and(|rows| rows.new_graph.is_some());
        let moves = match is_new {
            true => Moves::First(version),
            false => Moves::To { before: version - 1, after: version },
        };
        let base = NewBase {
            moves,
            state: &snapshot,
            ids: snapshot.next_ids(),
            layout,
            rows,
            kind,
            origin: &self.origin,
        };
        self.graph.write_manifest(base).await?;
        self.show(snapshot.clone());
        Ok(snapshot)
    }
}
