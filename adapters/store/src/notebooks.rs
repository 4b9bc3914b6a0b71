//! Notebooks as records. Each save names the revision it is based on; of two concurrent saves the second is
//! refused.

use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};

use crate::entities::notebook::{self, Column};
use crate::{Catalog, StoreError};

#[derive(Clone, Debug, PartialEq)]
pub struct NotebookRecord {
    pub name: String,
    pub revision: i64,
    pub cell_count: i32,
    pub changed: String,
    /// JSON; empty in a list.
    pub cells: String,
}

impl From<notebook::Model> for NotebookRecord {
    fn from(row: notebook::Model) -> Self {
        NotebookRecord {
            name: row.name,
            revision: row.revision,
            cell_count: row.cell_count,
            changed: row.changed.to_rfc3339(),
            cells: row.cells,
        }
    }
}

impl Catalog {
    /// All of them by name, without their cells.
    pub async fn notebooks(&self) -> Result<Vec<NotebookRecord>, StoreError> {
        type Row = (String, i64, i32, sea_orm::prelude::DateTimeWithTimeZone);
        let rows: Vec<Row> = notebook::Entity::find()
            .select_only()
            .columns([Column::Name, Column::Revision, Column::CellCount, Column::Changed])
            .order_by_asc(Column::Name)
            .into_tuple()
            .all(&self.database)
            .await?;
        let record = |(name, revision, cell_count, changed): Row| NotebookRecord {
            name,
            revision,
            cell_count,
            changed: changed.to_rfc3339(),
            cells: String::new(),
        };
        Ok(rows.into_iter().map(record).collect())
    }

    pub async fn notebook(&self, name: &str) -> Result<Option<NotebookRecord>, StoreError> {
        if name.contains('\0') {
            return Ok(None);
        }
        Ok(notebook::Entity::find_by_id(name).one(&self.database).await?.map(NotebookRecord::from))
    }

    /// Saves the cells over the revision that they were made from, 0 for a new notebook. False where another one is
    /// there by now.
    pub async fn save_notebook(
        &self, name: &str, from: i64, cells: String, cell_count: i32,
    ) -> Result<bool, StoreError> {
        let changed = chrono::Utc::now().fixed_offset();
        if from == 0 {
            let row = notebook::ActiveModel {
                name: Set(name.into()),
                revision: Set(1),
                cells: Set(cells),
                cell_count: Set(cell_count),
                changed: Set(changed),
            };
            let keep = OnConflict::column(Column::Name).do_nothing().to_owned();
            let made =
                notebook::Entity::insert(row).on_conflict(keep).exec_without_returning(&self.database).await;
            return Ok(made? > 0);
        }
        let row = notebook::ActiveModel {
            revision: Set(from + 1),
            cells: Set(cells),
            cell_count: Set(cell_count),
            changed: Set(changed),
            ..Default::default()
        };
        let done = notebook::Entity::update_many()
            .set(row)
            .filter(Column::Name.eq(name))
            .filter(Column::Revision.eq(from))
            .exec(&self.database)
            .await?;
        Ok(done.rows_affected > 0)
    }

    /// Whether there was one.
    pub async fn remove_notebook(&self, name: &str) -> Result<bool, StoreError> {
        if name.contains('\0') {
            return Ok(false);
        }
        Ok(notebook::Entity::delete_by_id(name).exec(&self.database).await?.rows_affected > 0)
    }
}
