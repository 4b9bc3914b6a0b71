//! An earlier version of a graph as its newest, in one commit; also where the newest one cannot be opened.

use std::sync::Arc;

use graphodrome_graph::Snapshot;
use sea_orm::sqlx::{self, Row};

use crate::contents::Contents;
use crate::graph_handle::GraphHandle;
use crate::head::Head;
use crate::json_rows::to_json;
use crate::opening::{Bases, Opened, StoredGraph};
use crate::schema_rows::{GoOn, SchemaRows, TypeRow};
use crate::versions::{Moment, VersionKind};
use crate::{Catalog, OfflineGraph, StoreError};

impl Catalog {
    /// Makes an earlier version, its elements with its type, keys and indexes, the newest one. Ids are not given twice:
    /// new elements get ids above those of all versions.
    pub async fn restore(
        &self, graph: &Arc<GraphHandle>, moment: Moment, origin: &str, go_on: GoOn,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let kept = graph.keep_version(moment).await?;
        let past = self.state_of(graph, &kept).await?;
        self.publish_past(graph, past, kept.version, origin, go_on).await
    }

    async fn publish_past(
        &self, graph: &Arc<GraphHandle>, past: Arc<Snapshot>, version: u64, origin: &str, go_on: GoOn,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let turn = graph.turn().await?.by(&match origin {
            "" => format!("version {version}"),
            origin => format!("version {version}, {origin}"),
        });
        let _changing = self.changing.lock().await;
        turn.settled().await?;
        let schema = past.schema();
        let rows = SchemaRows {
            new_graph: None,
            replaces: None,
            lookups: to_json(&schema.created())?,
            graph_type: match &past.graph_type {
                Some(graph_type) => self.type_row(graph.id, &graph.name, graph_type).await?,
                None => TypeRow::Open,
            },
        };
        let ids = past.next_ids();
        let parts = tokio::task::spawn_blocking(move || past.fold()).await?;
        let contents = (Contents::Parts(parts), VersionKind::Restore);
        turn.publish_asking(contents, ids, (schema, Some(rows)), go_on).await
    }

    /// Opens a graph that is offline with a version that can be read, which becomes its newest.
    pub async fn restore_offline(
        &self, offline: &OfflineGraph, version: u64, origin: &str, go_on: GoOn,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let bases = Arc::<Bases>::default();
        let stored =
            StoredGraph { database: &self.database, id: offline.id, name: &offline.name, bases: &bases };
        let head = sqlx::query("SELECT version, ticket FROM heads WHERE graph_id = $1")
            .bind(offline.id)
            .fetch_one(self.database.get_postgres_connection_pool())
            .await?;
        let (written, ticket): (i64, i64) = (head.try_get(0)?, head.try_get(1)?);
        let none = || StoreError::NoVersion {
            graph: offline.name.clone(),
            wanted: format!("version {version}"),
            oldest: 0,
            newest: written as u64,
        };
        let (opened, _) = stored.open(Some(version)).await?;
        if opened.snapshot.version != version {
            return Err(none());
        }
        let past = Arc::new(opened.snapshot);
        let mut newest = (*past).clone();
        newest.version = written as u64;
        let opened = Opened { snapshot: newest, layout: opened.layout, log: opened.log };
        let handle = self.handle(Head::new(offline.id, ticket), &offline.name, opened, bases);
        let snapshot = self.publish_past(&handle, past, version, origin, go_on).await?;
        self.bring_back(handle);
        Ok(snapshot)
    }
}
