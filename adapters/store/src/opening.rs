//! Builds states of a graph from stored data: a base from its segments, and the log on top of it. Used to open the
//! newest version and to read earlier ones.

use std::sync::{Arc, Weak};

use futures::{StreamExt, TryStreamExt};
use graphodrome_graph::{Base, BaseParts, Schema, Snapshot};
use parking_lot::Mutex;
use sea_orm::{ColumnTrait, DatabaseConnection, EntityTrait, QueryFilter, QueryOrder};
use tokio::sync::mpsc;

use crate::StoreError;
use crate::entities::manifest;
use crate::entries::{LogEntry, StoredSchema, each_entry};
use crate::pages::{read_pages, read_segment};
use crate::segments::{Assembly, Layout, read_residue, read_rows};
use crate::versions::VersionKind;

/// Segments that are read and unpacked at once.
const READ_AT_ONCE: usize = 6;

/// Bases that are in memory, by the tables they were made of: another version on the same tables need not read them.
#[derive(Default)]
pub(crate) struct Bases(Mutex<Vec<(Layout, Weak<Base>)>>);

impl Bases {
    pub fn know(&self, layout: &Layout, base: &Arc<Base>) {
        let mut known = self.0.lock();
        known.retain(|(other, base)| base.strong_count() > 0 && !other.same_tables(layout));
        known.push((layout.clone(), Arc::downgrade(base)));
    }

    fn find(&self, layout: &Layout) -> Option<Arc<Base>> {
        self.0.lock().iter().find(|(known, _)| known.same_tables(layout)).and_then(|(_, base)| base.upgrade())
    }
}

/// A graph as it is stored.
pub(crate) struct StoredGraph<'s> {
    pub database: &'s DatabaseConnection,
    pub id: i64,
    pub name: &'s str,
    pub bases: &'s Bases,
}

/// A state that was read.
pub(crate) struct Opened {
    pub snapshot: Snapshot,
    pub layout: Layout,
    pub log: LogRead,
}

fn damaged(what: impl std::fmt::Display) -> StoreError {
    StoreError::Damaged(what.to_string())
}

pub(crate) fn layout_of(manifest: &manifest::Model) -> Result<Layout, StoreError> {
    serde_json::from_value(manifest.layout.clone()).map_err(damaged)
}

pub(crate) fn schema_of(manifest: &manifest::Model) -> Result<Schema, StoreError> {
    let stored: StoredSchema = serde_json::from_value(manifest.schema.clone()).map_err(damaged)?;
    Ok(stored.schema())
}

impl StoredGraph<'_> {
    /// The newest state, or that of a version. Where the base of a fold is damaged, which holds nothing that the base
    /// before it and the log do not, those are read; the versions of such bases come back.
    pub async fn open(&self, up_to: Option<u64>) -> Result<(Opened, Vec<i64>), StoreError> {
        let mut bases = manifest::Entity::find().filter(manifest::Column::GraphId.eq(self.id));
        if let Some(up_to) = up_to {
            bases = bases.filter(manifest::Column::Version.lte(up_to as i64));
        }
        let mut newest_first = bases.order_by_desc(manifest::Column::Version).stream(self.database).await?;
        let mut damaged_bases = vec![];
        let mut first_error = None;
        while let Some(base) = newest_first.try_next().await? {
            match self.open_on(&base, up_to).await {
                Ok(opened) => return Ok((opened, damaged_bases)),
                Err(error @ (StoreError::Damaged(_) | StoreError::Graph(_))) => {
                    tracing::warn!(%error, graph = self.name, version = base.version, "a base cannot be read");
                    first_error.get_or_insert(error);
                    if base.kind != VersionKind::Fold.as_str() {
                        break;
                    }
                    damaged_bases.push(base.version);
                }
                Err(error) => return Err(error),
            }
        }
        Err(first_error.unwrap_or_else(|| damaged(format!("graph {} has no base", self.name))))
    }

    /// The state that a base and the log after it, up to and with a version, come to.
    async fn open_on(&self, manifest: &manifest::Model, up_to: Option<u64>) -> Result<Opened, StoreError> {
        let layout = layout_of(manifest)?;
        let mut snapshot = self.open_base(manifest, &layout).await?;
        self.bases.know(&layout, &snapshot.base);
        let after = snapshot.version;
        let take = |entry| {
            let version = snapshot.version + 1;
            snapshot = match entry {
                LogEntry::Changes(changes) => snapshot.replay(&changes)?,
                LogEntry::Schema(schema) => snapshot.reopened_with_schema(schema)?,
            };
            snapshot.version = version;
            Ok(())
        };
        let bytes = each_entry(self.database, (self.id, self.name), (after, up_to), take).await?;
        Ok(Opened { snapshot, layout, log: LogRead { after, bytes } })
    }

    async fn open_base(&self, manifest: &manifest::Model, layout: &Layout) -> Result<Snapshot, StoreError> {
        let schema = schema_of(manifest)?;
        let version = manifest.version as u64;
        let next_ids = (manifest.next_node_id as u64, manifest.next_edge_id as u64);
        let residue = match layout.residue {
            Some(id) => read_residue(read_segment(self.database.get_postgres_connection_pool(), id).await?)?,
            None => vec![],
        };
        let known = self.bases.find(layout);
        let known = match known {
            Some(base) => {
                let schema = schema.clone();
                tokio::task::spawn_blocking(move || base.with_lookups(&schema, false, &|| Ok(())).ok())
                    .await?
            }
            None => None,
        };
        let parts = match known {
            Some(_) => BaseParts::default(),
            None => self.read_tables(layout).await?,
        };
        let made = tokio::task::spawn_blocking(move || {
            let (base, collisions) = match known {
                Some(base) => (base, vec![]),
                None => Base::reopened(parts, &schema)?,
            };
            let mut snapshot = Snapshot::new(Arc::new(base), schema, version);
            snapshot.reserve_ids(next_ids.0, next_ids.1);
            if !residue.is_empty() {
                snapshot = snapshot.replay(&residue)?;
                snapshot.version = version;
            }
            snapshot.check_collisions(&collisions)?;
            Ok::<_, StoreError>(snapshot)
        });
        made.await?
    }

    /// The parts of a base out of its segments: while some are read others are unpacked, and put in their place.
    async fn read_tables(&self, layout: &Layout) -> Result<BaseParts, StoreError> {
        let unpacked = |id: i64| {
            let pool = self.database.get_postgres_connection_pool().clone();
            // Tasks of their own, as what comes over the connections is work for more than one thread.
            let reading = tokio::spawn(async move { read_pages(&pool, id).await });
            async move {
                let pages = reading.await??;
                tokio::task::spawn_blocking(move || read_rows(pages.into_segment()?)).await?
            }
        };
        let (sender, mut receiver) = mpsc::channel(1);
        let ids = layout.table_segments();
        let layout = layout.clone();
        let putting = tokio::task::spawn_blocking(move || {
            let mut assembly = Assembly::new(&layout);
            while let Some(rows) = receiver.blocking_recv() {
                assembly.add(rows)?;
            }
            assembly.finish()
        });
        let mut segments = futures::stream::iter(ids.into_iter().map(unpacked)).buffered(READ_AT_ONCE);
        while let Some(rows) = segments.try_next().await? {
            // Where they are not taken, what came before was wrong, which is said at the end.
            if sender.send(rows).await.is_err() {
                break;
            }
        }
        drop(sender);
        putting.await?
    }
}

/// A log that was read: after which version, and its bytes.
#[derive(Default)]
pub(crate) struct LogRead {
    pub after: u64,
    pub bytes: usize,
}
