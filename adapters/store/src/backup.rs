//! Backups: a version of a graph as the segments of its base and the entries of its log, both as they are stored, and a
//! graph made again out of them.

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::{DateTime, FixedOffset};
use sea_orm::sqlx;
use sea_orm::{
    ActiveValue::Set, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder, QuerySelect,
    TransactionTrait,
};
use serde::{Deserialize, Serialize};

use crate::entities::{commit, graph, manifest};
use crate::entries::StoredSchema;
use crate::graph_handle::GraphHandle;
use crate::head::{is_there, lock_catalog};
use crate::history::KeptVersion;
use crate::json_rows::{parsed_type, to_json};
use crate::opening::layout_of;
use crate::pages::{read_segment, remove_segments, write_segment};
use crate::schema_rows::{SchemaRows, TypeRow};
use crate::segments::{Layout, checked};
use crate::{Catalog, StoreError};

/// The format of what is written down here.
pub const BACKUP_FORMAT: u32 = 1;

/// What a version of a graph is made of.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct BackupManifest {
    pub format: u32,
    /// The database that it comes from: its numbers of segments mean something there alone.
    pub database: String,
    pub graph: String,
    /// The graph's number there, which no other graph gets.
    pub graph_number: i64,
    pub version: u64,
    pub nodes: u64,
    pub edges: u64,
    /// The name of its graph type, where it has one of its own.
    pub graph_type: Option<String>,
    pub base: BackupBase,
    /// Segments of the base by number.
    pub segments: Vec<i64>,
    /// Entries of the log above the base.
    pub entries: u64,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct BackupBase {
    pub version: u64,
    pub kind: String,
    pub at: DateTime<FixedOffset>,
    pub origin: String,
    pub nodes: Option<i64>,
    pub edges: Option<i64>,
    pub next_node_id: i64,
    pub next_edge_id: i64,
    pub layout: serde_json::Value,
    pub schema: serde_json::Value,
}

/// An entry of a log, as it is stored.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LogEntry {
    pub version: u64,
    pub format: i16,
    pub at: DateTime<FixedOffset>,
    pub origin: String,
    pub nodes: Option<i64>,
    pub edges: Option<i64>,
    pub checksum: i64,
    #[serde(with = "as_base64")]
    pub changes: Vec<u8>,
}

mod as_base64 {
    use base64::Engine;
    use base64::prelude::BASE64_STANDARD;
    use serde::{Deserialize, Deserializer, Serializer, de};

    pub fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&BASE64_STANDARD.encode(bytes))
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        BASE64_STANDARD.decode(String::deserialize(from)?).map_err(de::Error::custom)
    }
}

impl From<commit::Model> for LogEntry {
    fn from(row: commit::Model) -> LogEntry {
        LogEntry {
            version: row.version as u64,
            format: row.format,
            at: row.created,
            origin: row.origin,
            nodes: row.nodes,
            edges: row.edges,
            checksum: row.checksum,
            changes: row.changes,
        }
    }
}

impl LogEntry {
    /// Whether it is as it was written.
    pub fn is_whole(&self) -> bool {
        crc32fast::hash(&self.changes) as i64 == self.checksum
    }
}

impl Catalog {
    /// What a version that is kept is made of.
    pub async fn backup_manifest(
        &self, graph: &Arc<GraphHandle>, kept: &KeptVersion,
    ) -> Result<BackupManifest, StoreError> {
        let version = kept.version;
        let row = graph::Entity::find_by_id(graph.id).one(&self.database).await?;
        let row = row.ok_or_else(|| StoreError::NoGraph(graph.name.clone()))?;
        let base = manifest::Entity::find()
            .filter(manifest::Column::GraphId.eq(graph.id))
            .filter(manifest::Column::Version.lte(version as i64))
            .order_by_desc(manifest::Column::Version)
            .one(&self.database)
            .await?
            .ok_or_else(|| StoreError::Damaged(format!("graph {} has no base", graph.name)))?;
        let entries = commit::Entity::find()
            .filter(commit::Column::GraphId.eq(graph.id))
            .filter(commit::Column::Version.gt(base.version))
            .filter(commit::Column::Version.lte(version as i64))
            .count(&self.database)
            .await?;
        let state = self.state_of(graph, kept).await?;
        let pool = self.database.get_postgres_connection_pool();
        let database: String =
            sqlx::query_scalar("SELECT identity::text FROM service").fetch_one(pool).await?;
        let graph_type = match row.graph_type_id {
            Some(id) => self.type_name(id).await?,
            None => None,
        };
        Ok(BackupManifest {
            format: BACKUP_FORMAT,
            database,
            graph: graph.name.clone(),
            graph_number: graph.id,
            version,
            nodes: state.node_count(),
            edges: state.edge_count(),
            graph_type,
            segments: layout_of(&base)?.segment_ids(),
            entries,
            base: BackupBase {
                version: base.version as u64,
                kind: base.kind,
                at: base.created,
                origin: base.origin,
                nodes: base.nodes,
                edges: base.edges,
                next_node_id: base.next_node_id,
                next_edge_id: base.next_edge_id,
                layout: base.layout,
                schema: base.schema,
            },
        })
    }

    /// Begins to make a graph out of a backup. Nothing of it is seen before [`Restoring::finish`].
    pub async fn begin_restoring(
        &self, manifest: BackupManifest, name: &str,
    ) -> Result<Restoring, StoreError> {
        if manifest.format > BACKUP_FORMAT {
            return Err(StoreError::Damaged(format!(
                "the backup is in format {}, which a newer release made; this one reads up to {BACKUP_FORMAT}",
                manifest.format
            )));
        }
        self.fence.check()?;
        self.refuse_taken(name)?;
        let pool = self.database.get_postgres_connection_pool();
        let id: i64 = sqlx::query_scalar("SELECT nextval('graphs_id_seq')").fetch_one(pool).await?;
        Ok(Restoring {
            id,
            name: name.into(),
            next: manifest.base.version + 1,
            manifest,
            segments: BTreeMap::new(),
            entries: vec![],
            bytes: 0,
            schema: None,
        })
    }

    fn refuse_taken(&self, name: &str) -> Result<(), StoreError> {
        let offline = self.offline_graphs().iter().any(|g| g.name == name);
        match offline || self.graph(name).is_some() {
            true => Err(StoreError::Exists { what: "graph", name: name.into() }),
            false => Ok(()),
        }
    }

    /// The graph that what was added makes: written in one transaction, and opened as at a start.
    pub async fn finish_restoring(&self, restoring: Restoring) -> Result<Arc<GraphHandle>, StoreError> {
        let id = restoring.id;
        let segments: Vec<i64> = restoring.segments.values().copied().collect();
        let made = self.write_restored(restoring).await;
        if made.is_err() && !is_there(id, &self.database).await {
            remove_parts(self, id, &segments).await;
        }
        made
    }

    async fn write_restored(&self, mut restoring: Restoring) -> Result<Arc<GraphHandle>, StoreError> {
        restoring.write_entries(self).await?;
        let Restoring { id, name, manifest, segments, next, schema, .. } = restoring;
        let damaged = |e: serde_json::Error| StoreError::Damaged(e.to_string());
        let layout: Layout = serde_json::from_value(manifest.base.layout.clone()).map_err(damaged)?;
        if let Some(missing) = layout.segment_ids().into_iter().find(|id| !segments.contains_key(id)) {
            return Err(StoreError::Damaged(format!("segment {missing} is missing in the backup")));
        }
        let layout = layout.renumbered(&segments);
        let _changing = self.changing.lock().await;
        self.refuse_taken(&name)?;
        let schema = match schema {
            Some(newest) => serde_json::from_slice(&newest).map_err(damaged)?,
            None => manifest.base.schema.clone(),
        };
        let newest: StoredSchema = serde_json::from_value(schema).map_err(damaged)?;
        let newest = newest.schema();
        let graph_type = match (&newest.graph_type, &manifest.graph_type) {
            (None, _) => TypeRow::Keep,
            (Some(own), type_name) => {
                let named = match type_name {
                    Some(type_name) => self.find_type(type_name).await?,
                    None => None,
                };
                match named {
                    Some(row) if parsed_type(row.definition.clone())? == **own => TypeRow::Use(row.id),
                    // Another type has the name: the graph's is its own.
                    Some(_) => TypeRow::Insert(None, to_json(&**own)?),
                    None => TypeRow::Insert(type_name.clone(), to_json(&**own)?),
                }
            }
        };
        let rows = SchemaRows {
            new_graph: Some(name.clone()),
            replaces: None,
            lookups: to_json(&newest.created())?,
            graph_type,
        };
        let version = next - 1;
        let base = manifest::ActiveModel {
            graph_id: Set(id),
            version: Set(manifest.base.version as i64),
            next_node_id: Set(manifest.base.next_node_id),
            next_edge_id: Set(manifest.base.next_edge_id),
            layout: Set(to_json(&layout)?),
            created: Set(manifest.base.at),
            kind: Set(manifest.base.kind),
            schema: Set(manifest.base.schema),
            nodes: Set(manifest.base.nodes),
            edges: Set(manifest.base.edges),
            origin: Set(manifest.base.origin),
        };
        let transaction = self.database.begin().await?;
        self.fence.hold(&transaction).await?;
        lock_catalog(&transaction).await?;
        rows.write(id, &transaction).await?;
        manifest::Entity::insert(base).exec_without_returning(&transaction).await?;
        let text = format!("INSERT INTO heads (graph_id, version, ticket) VALUES ({id}, {version}, 0)");
        sea_orm::ConnectionTrait::execute_unprepared(&transaction, &text).await?;
        transaction.commit().await?;
        let row = graph::Entity::find_by_id(id).one(&self.database).await?;
        let row = row.ok_or_else(|| StoreError::NoGraph(name.clone()))?;
        match self.open_graph(&row).await {
            Ok(handle) => {
                self.bring_back(handle.clone());
                Ok(handle)
            }
            Err(error) => {
                // What cannot be opened is not there.
                self.remove(id).await?;
                Err(error)
            }
        }
    }
}

/// Entries, or bytes of them, that are written in one statement.
const ENTRIES_AT_ONCE: usize = 2_000;
const BYTES_AT_ONCE: usize = 4 << 20;
/// Entries that are read at once.
const READ_AT_ONCE: u64 = 64;

/// A graph that is being made out of a backup.
pub struct Restoring {
    id: i64,
    name: String,
    manifest: BackupManifest,
    /// Their numbers here, by those of the backup.
    segments: BTreeMap<i64, i64>,
    /// Entries that are still to be written, and their bytes.
    entries: Vec<LogEntry>,
    bytes: usize,
    /// The schema of the newest entry that has one.
    schema: Option<Vec<u8>>,
    next: u64,
}

impl Restoring {
    pub fn manifest(&self) -> &BackupManifest {
        &self.manifest
    }

    /// Stores a segment; an error where it is not as it was written.
    pub async fn add_segment(
        &mut self, catalog: &Catalog, number: i64, data: Vec<u8>,
    ) -> Result<(), StoreError> {
        if !self.manifest.segments.contains(&number) || self.segments.contains_key(&number) {
            return Err(StoreError::Damaged(format!("segment {number} does not belong to the backup")));
        }
        checked(data.clone()).map_err(|_| {
            StoreError::Damaged(format!("segment {number} of the backup has a wrong checksum"))
        })?;
        let pool = catalog.database.get_postgres_connection_pool();
        let id = write_segment(pool, self.id, data).await?;
        self.segments.insert(number, id);
        Ok(())
    }

    /// Takes the next entry of the log.
    pub async fn add_entry(&mut self, catalog: &Catalog, entry: LogEntry) -> Result<(), StoreError> {
        let wrong =
            |what: &str| Err(StoreError::Damaged(format!("entry {} of the backup {what}", entry.version)));
        if entry.version != self.next {
            return wrong(&format!("comes where {} is expected", self.next));
        }
        if !entry.is_whole() {
            return wrong("has a wrong checksum");
        }
        self.next += 1;
        if entry.format == crate::entries::SCHEMA {
            self.schema = Some(entry.changes.clone());
        }
        self.bytes += entry.changes.len();
        self.entries.push(entry);
        match self.entries.len() >= ENTRIES_AT_ONCE || self.bytes >= BYTES_AT_ONCE {
            true => self.write_entries(catalog).await,
            false => Ok(()),
        }
    }

    /// Writes what there is of entries: without a graph they are nothing yet.
    async fn write_entries(&mut self, catalog: &Catalog) -> Result<(), StoreError> {
        self.bytes = 0;
        let rows: Vec<_> = self
            .entries
            .drain(..)
            .map(|entry| commit::ActiveModel {
                graph_id: Set(self.id),
                version: Set(entry.version as i64),
                changes: Set(entry.changes),
                checksum: Set(entry.checksum),
                created: Set(entry.at),
                ticket: Set(0),
                format: Set(entry.format),
                nodes: Set(entry.nodes),
                edges: Set(entry.edges),
                origin: Set(entry.origin),
            })
            .collect();
        if !rows.is_empty() {
            commit::Entity::insert_many(rows).exec_without_returning(&catalog.database).await?;
        }
        Ok(())
    }

    /// Removes what was stored.
    pub async fn give_up(self, catalog: &Catalog) {
        remove_parts(catalog, self.id, &self.segments.values().copied().collect::<Vec<_>>()).await;
    }
}

async fn remove_parts(catalog: &Catalog, graph: i64, segments: &[i64]) {
    let removed = async {
        commit::Entity::delete_many()
            .filter(commit::Column::GraphId.eq(graph))
            .exec(&catalog.database)
            .await?;
        remove_segments(catalog.database.get_postgres_connection_pool(), segments).await
    };
    if let Err(error) = removed.await {
        tracing::warn!(%error, "what was stored of a graph that was not restored is left for the next start to remove");
    }
}

impl GraphHandle {
    /// The bytes of a segment, as they are stored.
    pub async fn stored_segment(&self, id: i64) -> Result<Vec<u8>, StoreError> {
        read_segment(self.database.get_postgres_connection_pool(), id).await
    }

    /// The first entries of the log after a version, up to and with another, in order; none where there are no more.
    pub async fn log_entries(&self, after: u64, up_to: u64) -> Result<Vec<LogEntry>, StoreError> {
        let rows = commit::Entity::find()
            .filter(commit::Column::GraphId.eq(self.id))
            .filter(commit::Column::Version.gt(after as i64))
            .filter(commit::Column::Version.lte(up_to as i64))
            .order_by_asc(commit::Column::Version)
            .limit(READ_AT_ONCE)
            .all(&self.database)
            .await?;
        Ok(rows.into_iter().map(LogEntry::from).collect())
    }
}
