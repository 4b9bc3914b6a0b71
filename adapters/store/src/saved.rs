//! Saved queries as records.

use graphodrome_graph::{Code, GraphError};
use sea_orm::{ActiveValue::Set, EntityTrait, QueryOrder, sea_query::OnConflict};

use crate::entities::saved_query;
use crate::texts::legible_json;
use crate::{Catalog, StoreError};

/// A query kept under a name, as it is stored.
#[derive(Clone, Debug, PartialEq)]
pub struct SavedRecord {
    pub name: String,
    pub folder: String,
    pub description: String,
    pub parameters: serde_json::Value,
    pub text: String,
    pub changed: String,
}

impl From<saved_query::Model> for SavedRecord {
    fn from(row: saved_query::Model) -> Self {
        SavedRecord {
            name: row.name,
            folder: row.folder,
            description: row.description,
            parameters: row.parameters,
            text: row.text,
            changed: row.changed.to_rfc3339(),
        }
    }
}

impl Catalog {
    /// All of them, by folder and name.
    pub async fn saved_queries(&self) -> Result<Vec<SavedRecord>, StoreError> {
        let rows = saved_query::Entity::find()
            .order_by_asc(saved_query::Column::Folder)
            .order_by_asc(saved_query::Column::Name)
            .all(&self.database)
            .await?;
        Ok(rows.into_iter().map(SavedRecord::from).collect())
    }

    pub async fn saved_query(&self, name: &str) -> Result<Option<SavedRecord>, StoreError> {
        // There is none that PostgreSQL cannot be asked for.
        if name.contains('\0') {
            return Ok(None);
        }
        Ok(saved_query::Entity::find_by_id(name).one(&self.database).await?.map(SavedRecord::from))
    }

    /// Keeps a query; one with the same name is replaced.
    pub async fn save_query(&self, record: SavedRecord) -> Result<(), StoreError> {
        let SavedRecord { name, folder, description, parameters, text, .. } = &record;
        let texts = [name, folder, description, text];
        if texts.iter().any(|text| text.contains('\0')) || legible_json(parameters.clone()) != *parameters {
            let wrong = GraphError::new(Code::DATA, "a saved query may not hold the character U+0000");
            return Err(wrong.hint("write it as an escape: '\\u0000'").into());
        }
        let row = saved_query::ActiveModel {
            name: Set(record.name),
            folder: Set(record.folder),
            description: Set(record.description),
            parameters: Set(record.parameters),
            text: Set(record.text),
            changed: Set(chrono::Utc::now().fixed_offset()),
        };
        use saved_query::Column::*;
        let replace = OnConflict::column(Name)
            .update_columns([Folder, Description, Parameters, Text, Changed])
            .to_owned();
        saved_query::Entity::insert(row).on_conflict(replace).exec_without_returning(&self.database).await?;
        Ok(())
    }

    /// Whether there was one.
    pub async fn remove_saved_query(&self, name: &str) -> Result<bool, StoreError> {
        if name.contains('\0') {
            return Ok(false);
        }
        Ok(saved_query::Entity::delete_by_id(name).exec(&self.database).await?.rows_affected > 0)
    }
}
