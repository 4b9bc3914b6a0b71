//! The rows of a graph's type, keys and indexes.

use std::sync::Arc;

use graphodrome_graph::GraphError;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait,
    QueryFilter,
};

use crate::StoreError;
use crate::entities::{commit, graph, graph_type};

/// What becomes of the row of a graph's type.
pub(crate) enum TypeRow {
    Keep,
    /// The graph is open.
    Open,
    /// The graph is of the type in this row.
    Use(i64),
    /// The graph is of the type in this row, which gets another name and definition.
    Change(i64, Option<String>, serde_json::Value),
    /// The graph gets a row of its own.
    Insert(Option<String>, serde_json::Value),
}

pub(crate) struct SchemaRows {
    /// The name of a graph that has no row yet.
    pub new_graph: Option<String>,
    /// The graph that it takes the place of.
    pub replaces: Option<i64>,
    pub lookups: serde_json::Value,
    pub graph_type: TypeRow,
}

impl SchemaRows {
    pub async fn write(self, graph_id: i64, transaction: &DatabaseTransaction) -> Result<(), StoreError> {
        if let Some(old) = self.replaces {
            remove_rows(old, transaction).await?;
        }
        let mut row =
            graph::ActiveModel { id: Set(graph_id), lookups: Set(self.lookups), ..Default::default() };
        match self.graph_type {
            TypeRow::Keep => {}
            TypeRow::Open => row.graph_type_id = Set(None),
            TypeRow::Use(id) => row.graph_type_id = Set(Some(id)),
            TypeRow::Change(id, name, definition) => {
                let changed =
                    graph_type::ActiveModel { id: Set(id), name: Set(name), definition: Set(definition) };
                changed.update(transaction).await?;
                row.graph_type_id = Set(Some(id));
            }
            TypeRow::Insert(name, definition) => {
                let new = graph_type::ActiveModel {
                    name: Set(name),
                    definition: Set(definition),
                    ..Default::default()
                };
                row.graph_type_id = Set(Some(new.insert(transaction).await?.id));
            }
        }
        match self.new_graph {
            Some(name) => {
                row.name = Set(name);
                row.created = Set(chrono::Utc::now().fixed_offset());
                row.insert(transaction).await?;
            }
            None => {
                row.update(transaction).await?;
            }
        }
        remove_unused_types(transaction).await
    }
}

/// Removes a graph; its segments, which are nothing without it, are removed afterwards.
pub(crate) async fn remove_rows(graph_id: i64, transaction: &DatabaseTransaction) -> Result<(), StoreError> {
    commit::Entity::delete_many().filter(commit::Column::GraphId.eq(graph_id)).exec(transaction).await?;
    graph::Entity::delete_by_id(graph_id).exec(transaction).await?;
    remove_unused_types(transaction).await
}

/// A type of one graph's own goes with the graph's last use of it.
pub(crate) async fn remove_unused_types(transaction: &DatabaseTransaction) -> Result<(), StoreError> {
    let text = "DELETE FROM graph_types t WHERE name IS NULL AND NOT EXISTS (SELECT FROM graphs WHERE graph_type_id = t.id)";
    transaction.execute_unprepared(text).await?;
    Ok(())
}

/// Whether to go on with a long look at a graph; an error ends it.
pub type GoOn = Arc<dyn Fn() -> Result<(), GraphError> + Send + Sync>;
