//! Modules of procedures, every version of each.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "procedures")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub name: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub version: i64,
    /// The one that is called.
    pub current: bool,
    pub module: Vec<u8>,
    pub checksum: i64,
    pub signature: String,
    pub about: String,
    pub steps: i64,
    pub memory_bytes: i64,
    pub time_ms: i64,
    /// Names of the graphs that it may be called over, as JSON; null for all.
    pub graphs: Option<Json>,
    pub uploaded: DateTimeWithTimeZone,
    pub uploaded_by: String,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
