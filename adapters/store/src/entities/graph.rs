//! Graphs by name.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "graphs")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    #[sea_orm(unique)]
    pub name: String,
    /// The type of a closed graph.
    pub graph_type_id: Option<i64>,
    pub created: DateTimeWithTimeZone,
    /// Keys and indexes created on their own, as JSON.
    pub lookups: Json,
    /// Earlier versions stay that are among so many of the newest,
    pub keep_versions: i64,
    /// or younger than so many days.
    pub keep_days: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
