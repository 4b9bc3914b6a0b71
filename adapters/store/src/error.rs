//! Errors between the service and PostgreSQL, with advice.

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
    /// PostgreSQL does not answer; nothing was written.
    #[error("{0}")]
    Away(String),
    /// It was built on a commit that could not be written; nothing was written.
    #[error("a change before this one could not be written, so this one was not either")]
    Lost,
    /// PostgreSQL went away before it said whether it kept the commit.
    #[error("PostgreSQL went away before it said whether the change was written")]
    Unknown { graph: String, ticket: i64 },
    /// The graph takes no more changes.
    #[error("the graph cannot be written: {0}")]
    Closed(String),
    /// The service writes no more.
    #[error("this service writes no more: {0}")]
    Fenced(String),
    #[error("the graph {name} is offline: {reason}")]
    Offline { name: String, reason: String },
    #[error("graph {graph} has no {wanted}: its versions from {oldest} to {newest} are kept")]
    NoVersion { graph: String, wanted: String, oldest: u64, newest: u64 },
    #[error("the graph changed while it was being loaded; nothing was published")]
    Conflict,
}

impl From<tokio::task::JoinError> for StoreError {
    fn from(ended: tokio::task::JoinError) -> StoreError {
        StoreError::Server(ended.to_string())
    }
}
