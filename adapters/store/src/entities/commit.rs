//! The commit log: one row a commit.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "commits")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub graph_id: i64,
    #[sea_orm(primary_key, auto_increment = false)]
    pub version: i64,
    pub changes: Vec<u8>,
    pub checksum: i64,
    pub created: DateTimeWithTimeZone,
    /// Of the transaction that wrote it.
    pub ticket: i64,
    /// How `changes` is to be read.
    pub format: i16,
    /// Elements of the version; unknown of those that earlier releases wrote.
    pub nodes: Option<i64>,
    pub edges: Option<i64>,
    /// Who or what asked for it.
    pub origin: String,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
