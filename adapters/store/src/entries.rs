//! Entries of a graph's log. Each has a format version, so that a release refuses entries it does not know instead
//! of misreading them.

use futures::TryStreamExt;
use graphodrome_graph::{Change, Created, GraphType, Schema};
use sea_orm::{ColumnTrait, DatabaseConnection, EntityTrait, QueryFilter, QueryOrder};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

use crate::StoreError;
use crate::entities::commit;

/// Changed elements in postcard.
pub(crate) const CHANGES: i16 = 1;
/// Another schema, with the same elements, as JSON.
pub(crate) const SCHEMA: i16 = 2;

pub(crate) enum LogEntry {
    Changes(Vec<Change>),
    Schema(Schema),
}

/// A schema as it is stored with bases and in the log.
#[derive(Serialize, Deserialize)]
pub(crate) struct StoredSchema {
    graph_type: Option<GraphType>,
    created: Created,
}

impl StoredSchema {
    pub fn of(schema: &Schema) -> StoredSchema {
        StoredSchema { graph_type: schema.graph_type.as_deref().cloned(), created: schema.created() }
    }

    pub fn schema(self) -> Schema {
        Schema::new(self.graph_type.map(Arc::new), self.created)
    }
}

pub(crate) fn encode_changes(changes: &[Change]) -> Result<Vec<u8>, StoreError> {
    postcard::to_stdvec(changes).map_err(|e| StoreError::Damaged(e.to_string()))
}

pub(crate) fn encode_schema(schema: &Schema) -> Result<Vec<u8>, StoreError> {
    serde_json::to_vec(&StoredSchema::of(schema)).map_err(|e| StoreError::Damaged(e.to_string()))
}

/// What a row of the log holds; `name` is its graph's.
pub(crate) fn decode(row: &commit::Model, name: &str) -> Result<LogEntry, StoreError> {
    let damaged = |what: &str| StoreError::Damaged(format!("commit {} of graph {name} {what}", row.version));
    if crc32fast::hash(&row.changes) as i64 != row.checksum {
        return Err(damaged("has a wrong checksum"));
    }
    match row.format {
        CHANGES => {
            Ok(LogEntry::Changes(postcard::from_bytes(&row.changes).map_err(|e| damaged(&e.to_string()))?))
        }
        SCHEMA => {
            let stored: StoredSchema =
                serde_json::from_slice(&row.changes).map_err(|e| damaged(&e.to_string()))?;
            Ok(LogEntry::Schema(stored.schema()))
        }
        newer => Err(damaged(&format!(
            "is written in format {newer}, which a newer release made; this one reads up to {SCHEMA}"
        ))),
    }
}

/// Calls `take` with each entry after a version, in order, as they come, up to and with another; returns their bytes.
pub(crate) async fn each_entry(
    database: &DatabaseConnection, (graph_id, name): (i64, &str), (after, up_to): (u64, Option<u64>),
    mut take: impl FnMut(LogEntry) -> Result<(), StoreError>,
) -> Result<usize, StoreError> {
    let mut log = commit::Entity::find()
        .filter(commit::Column::GraphId.eq(graph_id))
        .filter(commit::Column::Version.gt(after as i64));
    if let Some(up_to) = up_to {
        log = log.filter(commit::Column::Version.lte(up_to as i64));
    }
    let mut log = log.order_by_asc(commit::Column::Version).stream(database).await?;
    let (mut wanted, mut bytes) = (after as i64, 0);
    while let Some(row) = log.try_next().await? {
        wanted += 1;
        if row.version != wanted {
            return Err(StoreError::Damaged(format!("commit {wanted} of graph {name} is missing")));
        }
        bytes += row.changes.len();
        take(decode(&row, name)?)?;
    }
    Ok(bytes)
}

/// Changes of the commits after a version, one entry a commit; one that changed only the schema has none.
pub(crate) async fn read_commits(
    database: &DatabaseConnection, graph: (i64, &str), after: u64,
) -> Result<Vec<Vec<Change>>, StoreError> {
    let mut entries = vec![];
    let take = |entry| {
        entries.push(match entry {
            LogEntry::Changes(changes) => changes,
            LogEntry::Schema(_) => vec![],
        });
        Ok(())
    };
    each_entry(database, graph, (after, None), take).await?;
    Ok(entries)
}
