//! Manifest: the segments of a version.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "manifests")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub graph_id: i64,
    /// The version that the segments hold.
    #[sea_orm(primary_key, auto_increment = false)]
    pub version: i64,
    /// Ids of new elements begin here.
    pub next_node_id: i64,
    pub next_edge_id: i64,
    /// Tables and their segments, as JSON.
    pub layout: Json,
    pub created: DateTimeWithTimeZone,
    /// What made the version, in one word.
    pub kind: String,
    /// Type, keys and indexes of the base, as JSON.
    pub schema: Json,
    /// Elements of the version; unknown of those that earlier releases wrote.
    pub nodes: Option<i64>,
    pub edges: Option<i64>,
    /// Who or what asked for it.
    pub origin: String,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
