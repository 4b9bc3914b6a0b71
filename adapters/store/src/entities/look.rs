//! Colours and captions of labels in drawings.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "looks")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub graph_id: i64,
    /// JSON.
    pub labels: String,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
