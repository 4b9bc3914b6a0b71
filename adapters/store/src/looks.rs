//! Colours and captions of labels in drawings, as JSON that the store does not interpret.

use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, EntityTrait};

use crate::entities::look::{self, Column};
use crate::{Catalog, GraphHandle, StoreError};

impl Catalog {
    pub async fn looks(&self, graph: &GraphHandle) -> Result<Option<String>, StoreError> {
        let found = look::Entity::find_by_id(graph.id).one(&self.database).await?;
        Ok(found.map(|row| row.labels))
    }

    pub async fn keep_looks(&self, graph: &GraphHandle, labels: String) -> Result<(), StoreError> {
        let row = look::ActiveModel { graph_id: Set(graph.id), labels: Set(labels) };
        let replace = OnConflict::column(Column::GraphId).update_column(Column::Labels).to_owned();
        look::Entity::insert(row).on_conflict(replace).exec_without_returning(&self.database).await?;
        Ok(())
    }
}
