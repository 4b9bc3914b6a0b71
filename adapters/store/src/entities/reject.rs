//! Rows that a load could not take.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "rejects")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub job_id: i64,
    pub source_table: String,
    pub line: i64,
    pub column_name: Option<String>,
    pub value: Option<String>,
    /// What is wrong, in one word.
    pub kind: String,
    pub reason: String,
    /// The original row.
    pub record: String,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
