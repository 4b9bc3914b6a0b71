//! Graph types, as JSON.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "graph_types")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Null for a type that belongs to one graph only.
    pub name: Option<String>,
    pub definition: Json,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
