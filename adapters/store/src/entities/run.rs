//! Profiles that are kept.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "runs")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    /// `profile`, or `slow` where it was kept by itself.
    pub kind: String,
    pub name: Option<String>,
    /// A JSON list of texts.
    pub tags: Json,
    pub graph: String,
    pub version: i64,
    /// The version whose statistics the planner had.
    pub statistics_version: i64,
    pub made: DateTimeWithTimeZone,
    pub client: String,
    #[sea_orm(column_name = "query_text")]
    pub text: String,
    pub parameters: Json,
    /// Rules that were off, limits, the service's version.
    pub settings: Json,
    /// The profile, whole: JSON, which is read where its depth does no harm.
    #[sea_orm(column_type = "Text")]
    pub profile: String,
    pub result_rows: i64,
    pub execute_us: f64,
    pub edges_looked: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
