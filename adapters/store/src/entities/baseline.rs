//! The accepted run of a saved query on a graph.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "baselines")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub saved_query: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub graph: String,
    pub run_id: i64,
    /// How many times the accepted work it may become.
    pub allow: f64,
    pub accepted: DateTimeWithTimeZone,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
