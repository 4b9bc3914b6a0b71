//! Jobs: what ran, and its account.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "jobs")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub kind: String,
    pub graph: String,
    pub state: String,
    pub title: String,
    /// Account, or the error: JSON.
    pub detail: Json,
    pub started: DateTimeWithTimeZone,
    pub finished: Option<DateTimeWithTimeZone>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
