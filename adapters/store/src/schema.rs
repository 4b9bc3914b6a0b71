//! Changing a graph's schema: its type, its keys, its indexes. The rows that say so are written in one
//! transaction, together with the new base where the elements change too.

use std::sync::Arc;

use graphodrome_graph::{BaseParts, Created, GraphType, Schema, Snapshot};
use sea_orm::{ActiveValue::Set, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter};

use crate::contents::Contents;
use crate::entities::{commit, graph, graph_type};
use crate::entries::{SCHEMA, encode_schema};
use crate::graph_handle::Turn;
use crate::head::Moves;
use crate::json_rows::{parsed_type, to_json};
use crate::schema_rows::{GoOn, SchemaRows, TypeRow};
use crate::versions::VersionKind;
use crate::{Catalog, StoreError};

impl Turn<'_> {
    /// Gives the graph other keys and indexes, built on what is there. All of it or nothing.
    pub async fn change_lookups(self, created: Created, go_on: GoOn) -> Result<Arc<Snapshot>, StoreError> {
        let before = self.settled().await?;
        let schema = Schema::new(before.graph_type.clone(), created);
        let rows = SchemaRows {
            new_graph: None,
            replaces: None,
            lookups: to_json(&schema.created())?,
            graph_type: TypeRow::Keep,
        };
        self.change_schema(schema, rows, go_on).await
    }

    /// The same elements under another schema.
    async fn change_schema(
        self, schema: Schema, rows: SchemaRows, go_on: GoOn,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let before = self.settled().await?;
        // A new key must hold for the base alone, which is what the next start builds it on.
        let more_keys = schema.keys.iter().any(|key| !before.keys.contains(key));
        // And a bound is learnt from the base.
        let more_bounds = schema.bounds.iter().any(|bound| !before.bounds.contains(bound));
        if (more_keys || more_bounds) && before.overlay_len() > 0 {
            let ids = before.next_ids();
            let parts = tokio::task::spawn_blocking(move || before.fold());
            let parts = parts.await?;
            return self.publish_under(Contents::Parts(parts), ids, schema, rows, VersionKind::Model).await;
        }
        let version = before.version + 1;
        let entry = encode_schema(&schema)?;
        let made = tokio::task::spawn_blocking(move || before.with_schema(schema, &*go_on));
        let mut snapshot = made.await??;
        snapshot.version = version;
        let row = |ticket| commit::ActiveModel {
            graph_id: Set(self.graph().id),
            version: Set(version as i64),
            checksum: Set(crc32fast::hash(&entry) as i64),
            changes: Set(entry),
            created: Set(chrono::Utc::now().fixed_offset()),
            ticket: Set(ticket),
            format: Set(SCHEMA),
            nodes: Set(Some(snapshot.node_count() as i64)),
            edges: Set(Some(snapshot.edge_count() as i64)),
            origin: Set(self.origin.to_string()),
        };
        let graph = self.graph();
        let moves = Moves::To { before: version - 1, after: version };
        graph
            .write(moves, async |transaction, ticket| {
                rows.write(graph.id, transaction).await?;
                commit::Entity::insert(row(ticket)).exec_without_returning(transaction).await?;
                Ok(())
            })
            .await?;
        let snapshot = Arc::new(snapshot);
        self.show_schema(snapshot.clone());
        Ok(snapshot)
    }
}

impl Catalog {
    /// Gives a graph another type, with its elements changed where `contents` are given: all of it or
    /// nothing. The caller has checked that the elements conform.
    pub async fn change_type(
        &self, turn: Turn<'_>, graph_type: GraphType, created: Created, contents: Option<Contents>,
        go_on: GoOn,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let _changing = self.changing.lock().await;
        let before = turn.settled().await?;
        let graph_type_row = self.type_row(turn.graph().id, &turn.graph().name, &graph_type).await?;
        let schema = Schema::new(Some(Arc::new(graph_type)), created);
        let rows = SchemaRows {
            new_graph: None,
            replaces: None,
            lookups: to_json(&schema.created())?,
            graph_type: graph_type_row,
        };
        match contents {
            Some(contents) => {
                turn.publish_under(contents, before.next_ids(), schema, rows, VersionKind::Model).await
            }
            None => turn.change_schema(schema, rows, go_on).await,
        }
    }

    /// Publishes changed elements of an open graph, with other keys and indexes.
    pub async fn change_open(
        &self, turn: Turn<'_>, created: Created, parts: BaseParts,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let ids = turn.settled().await?.next_ids();
        let schema = Schema::new(None, created);
        let rows = SchemaRows {
            new_graph: None,
            replaces: None,
            lookups: to_json(&schema.created())?,
            graph_type: TypeRow::Keep,
        };
        turn.publish_under(Contents::Parts(parts), ids, schema, rows, VersionKind::Model).await
    }

    /// Where the new type of a graph is written. A type that other graphs are of stays as it is.
    pub(crate) async fn type_row(
        &self, graph_id: i64, graph: &str, new: &GraphType,
    ) -> Result<TypeRow, StoreError> {
        let row = graph::Entity::find_by_id(graph_id).one(&self.database).await?;
        let own = row.and_then(|row| row.graph_type_id);
        let own = match own {
            Some(id) => graph_type::Entity::find_by_id(id).one(&self.database).await?,
            None => None,
        };
        let others = async |id: i64| -> Result<u64, StoreError> {
            let users = graph::Entity::find().filter(graph::Column::GraphTypeId.eq(id));
            Ok(users.filter(graph::Column::Id.ne(graph_id)).count(&self.database).await?)
        };
        let definition = to_json(new)?;
        // A type without a name has its graph's.
        let unnamed = own.as_ref().is_some_and(|t| t.name.is_none()) && *new.name == *graph;
        let name = (!unnamed).then(|| new.name.to_string());
        let named = match &name {
            Some(name) => self.find_type(name).await?,
            None => None,
        };
        match (named, own) {
            (Some(named), own) => {
                if parsed_type(named.definition)? == *new && own.is_some_and(|own| own.id == named.id) {
                    return Ok(TypeRow::Keep);
                }
                if others(named.id).await? > 0 {
                    return Err(StoreError::Shared(new.name.to_string()));
                }
                Ok(TypeRow::Change(named.id, name, definition))
            }
            (None, Some(own)) if others(own.id).await? == 0 => Ok(TypeRow::Change(own.id, name, definition)),
            _ => Ok(TypeRow::Insert(name, definition)),
        }
    }
}
