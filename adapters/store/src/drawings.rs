//! Saved drawings of a graph, as JSON that the store does not read. As with notebooks, each save names the revision that
//! it was made from.

use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};

use crate::entities::drawing::{self, Column};
use crate::{Catalog, GraphHandle, StoreError};

#[derive(Clone, Debug, PartialEq)]
pub struct DrawingRecord {
    pub name: String,
    pub revision: i64,
    pub node_count: i32,
    pub changed: String,
    /// JSON; empty in a list.
    pub content: String,
}

impl From<drawing::Model> for DrawingRecord {
    fn from(row: drawing::Model) -> Self {
        DrawingRecord {
            name: row.name,
            revision: row.revision,
            node_count: row.node_count,
            changed: row.changed.to_rfc3339(),
            content: row.content,
        }
    }
}

impl Catalog {
    /// All of a graph by name, without their content.
    pub async fn drawings(&self, graph: &GraphHandle) -> Result<Vec<DrawingRecord>, StoreError> {
        type Row = (String, i64, i32, sea_orm::prelude::DateTimeWithTimeZone);
        let rows: Vec<Row> = drawing::Entity::find()
            .select_only()
            .columns([Column::Name, Column::Revision, Column::NodeCount, Column::Changed])
            .filter(Column::GraphId.eq(graph.id))
            .order_by_asc(Column::Name)
            .into_tuple()
            .all(&self.database)
            .await?;
        let record = |(name, revision, node_count, changed): Row| DrawingRecord {
            name,
            revision,
            node_count,
            changed: changed.to_rfc3339(),
            content: String::new(),
        };
        Ok(rows.into_iter().map(record).collect())
    }

    pub async fn drawing(
        &self, graph: &GraphHandle, name: &str,
    ) -> Result<Option<DrawingRecord>, StoreError> {
        if name.contains('\0') {
            return Ok(None);
        }
        let key = (graph.id, name.to_string());
        Ok(drawing::Entity::find_by_id(key).one(&self.database).await?.map(DrawingRecord::from))
    }

    /// Saves a drawing over the revision that it was made from, 0 for a new one. False where another one is there by now.
    pub async fn save_drawing(
        &self, graph: &GraphHandle, name: &str, from: i64, content: String, node_count: i32,
    ) -> Result<bool, StoreError> {
        let changed = chrono::Utc::now().fixed_offset();
        if from == 0 {
            let row = drawing::ActiveModel {
                graph_id: Set(graph.id),
                name: Set(name.into()),
                revision: Set(1),
                content: Set(content),
                node_count: Set(node_count),
                changed: Set(changed),
            };
            let keep = OnConflict::columns([Column::GraphId, Column::Name]).do_nothing().to_owned();
            let made =
                drawing::Entity::insert(row).on_conflict(keep).exec_without_returning(&self.database).await;
            return Ok(made? > 0);
        }
        let row = drawing::ActiveModel {
            revision: Set(from + 1),
            content: Set(content),
            node_count: Set(node_count),
            changed: Set(changed),
            ..Default::default()
        };
        let done = drawing::Entity::update_many()
            .set(row)
            .filter(Column::GraphId.eq(graph.id))
            .filter(Column::Name.eq(name))
            .filter(Column::Revision.eq(from))
            .exec(&self.database)
            .await?;
        Ok(done.rows_affected > 0)
    }

    /// Whether there was one.
    pub async fn remove_drawing(&self, graph: &GraphHandle, name: &str) -> Result<bool, StoreError> {
        if name.contains('\0') {
            return Ok(false);
        }
        let key = (graph.id, name.to_string());
        Ok(drawing::Entity::delete_by_id(key).exec(&self.database).await?.rows_affected > 0)
    }
}
