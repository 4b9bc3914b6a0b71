//! What can go wrong between the service and PostgreSQL, in words that say what to do.

use graphodrome_graph::GraphError;

#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("PostgreSQL: {0}")]
    Database(#[from] sea_orm::DbErr),
    #[error("PostgreSQL: {0}")]
    Driver(#[from] sea_orm::sqlx::Error),
    #[error("{0}")]
    Graph(#[from] GraphError),
    #[error("there is no graph {0}")]
    NoGraph(String),
    #[error("there is no graph type {0}")]
    NoGraphType(String),
    #[error("there is already a {what} {name}")]
    Exists { what: &'static str, name: String },
    #[error("the graph type {name} is used by the graph {graph}")]
    InUse { name: String, graph: String },
    #[error("the graph type {0} is another graph's too")]
    Shared(String),
    #[error("stored data is damaged: {0}")]
    Damaged(String),
    #[error("{0}")]
    Server(String),
    #[error("the graph changed while it was being loaded; nothing was published")]
    Conflict,
}

impl From<tokio::task::JoinError> for StoreError {
    fn from(ended: tokio::task::JoinError) -> StoreError {
        StoreError::Server(ended.to_string())
    }
}
