//! Drawings that were saved, by graph and name.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "drawings")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub graph_id: i64,
    #[sea_orm(primary_key, auto_increment = false)]
    pub name: String,
    /// Counts its saves.
    pub revision: i64,
    /// JSON.
    pub content: String,
    pub node_count: i32,
    pub changed: DateTimeWithTimeZone,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
