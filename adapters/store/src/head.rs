//! The row with the end of a graph's log. Every transaction that writes the graph moves it from the known ticket to
//! a new one, so PostgreSQL refuses writes based on another state. The outcome of a transaction is read from this
//! row.

use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;

use sea_orm::sqlx::{self, PgPool};
use sea_orm::{
    ConnectionTrait, DatabaseBackend, DatabaseConnection, DatabaseTransaction, EntityTrait, Statement,
    TransactionTrait,
};

use crate::StoreError;
use crate::entities::graph;
use crate::fence::Fence;

/// Takes turns for transactions that make or remove a graph.
const CATALOG_LOCK: i64 = 0x6772_6170_6863_6174;

/// Between two questions whether a graph is there.
const ASK_AGAIN: Duration = Duration::from_millis(200);

/// Tickets of an epoch begin with it.
const EPOCH_BITS: u32 = 32;

pub(crate) struct Head {
    graph: i64,
    /// Of the last transaction that wrote the graph.
    ticket: AtomicI64,
}

/// A transaction's ticket, and the one that it follows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Ticket {
    pub before: i64,
    pub own: i64,
}

/// What a transaction does to the version of a graph.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Moves {
    /// A base of what is there, or other keys.
    Not,
    /// From one to the next.
    To { before: u64, after: u64 },
    /// The graph is new.
    First(u64),
}

impl Head {
    pub fn new(graph: i64, ticket: i64) -> Head {
        Head { graph, ticket: AtomicI64::new(ticket) }
    }

    pub fn graph(&self) -> i64 {
        self.graph
    }

    /// The ticket for the next transaction. One transaction writes the graph at a time; those of another service have
    /// tickets of its epoch, so that nobody takes them for their own.
    pub fn next(&self, fence: &Fence) -> Ticket {
        let before = self.ticket.load(Ordering::SeqCst);
        Ticket { before, own: (before + 1).max(fence.epoch << EPOCH_BITS) }
    }

    /// Of the last transaction that is known to have written the graph.
    pub fn last(&self) -> i64 {
        self.ticket.load(Ordering::SeqCst)
    }

    /// The transaction with this ticket was kept.
    pub fn kept(&self, ticket: Ticket) {
        self.ticket.store(ticket.own, Ordering::SeqCst);
    }

    /// Moves the head in a transaction; an error where it is not where it should be.
    pub async fn move_in(
        &self, ticket: Ticket, moves: Moves, transaction: &DatabaseTransaction,
    ) -> Result<(), StoreError> {
        let Ticket { before, own } = ticket;
        let graph = self.graph;
        let text = match moves {
            Moves::First(version) => {
                format!("INSERT INTO heads (graph_id, version, ticket) VALUES ({graph}, {version}, {own})")
            }
            Moves::Not => {
                format!("UPDATE heads SET ticket = {own} WHERE graph_id = {graph} AND ticket = {before}")
            }
            Moves::To { before: version, after } => format!(
                "UPDATE heads SET ticket = {own}, version = {after}
                 WHERE graph_id = {graph} AND ticket = {before} AND version = {version}"
            ),
        };
        let moved = transaction.execute_raw(Statement::from_string(DatabaseBackend::Postgres, text)).await?;
        match moved.rows_affected() {
            1 => Ok(()),
            _ => Err(StoreError::Closed("something else has written to it".into())),
        }
    }

    /// Whether the transaction with this ticket was kept, once it has come to its end; if it was not it never
    /// will be. May be asked again where it failed.
    pub async fn settle(&self, ticket: Ticket, fence: &Fence, pool: &PgPool) -> Result<bool, StoreError> {
        let mut transaction = pool.begin().await?;
        // What is on its way holds the row.
        let found: Option<i64> =
            sqlx::query_scalar("SELECT ticket FROM heads WHERE graph_id = $1 FOR UPDATE")
                .bind(self.graph)
                .fetch_optional(&mut *transaction)
                .await?;
        let refused = ticket.own + 1;
        match found {
            Some(found) if found == ticket.own => {
                self.kept(ticket);
                Ok(true)
            }
            Some(found) if found == ticket.before => {
                let epoch: Option<i64> =
                    sqlx::query_scalar("SELECT epoch FROM service WHERE epoch = $1 FOR SHARE")
                        .bind(fence.epoch)
                        .fetch_optional(&mut *transaction)
                        .await?;
                if epoch.is_none() {
                    fence.lose("another service has taken over the database");
                    fence.check()?;
                }
                // What has not come yet finds another ticket than its own.
                sqlx::query("UPDATE heads SET ticket = $2 WHERE graph_id = $1")
                    .bind(self.graph)
                    .bind(refused)
                    .execute(&mut *transaction)
                    .await?;
                transaction.commit().await?;
                self.ticket.store(refused, Ordering::SeqCst);
                Ok(false)
            }
            Some(found) if found == refused => {
                self.ticket.store(refused, Ordering::SeqCst);
                Ok(false)
            }
            _ => {
                fence.is_ours(pool).await?;
                fence.check()?;
                Err(StoreError::Closed("something else has written to it".into()))
            }
        }
    }
}

/// Transactions that make or remove a graph come one after the other.
pub(crate) async fn lock_catalog(transaction: &DatabaseTransaction) -> Result<(), StoreError> {
    transaction.execute_unprepared(&format!("SELECT pg_advisory_xact_lock({CATALOG_LOCK})")).await?;
    Ok(())
}

/// Whether a graph is there, once a transaction that makes or removes it has come to its end; asked until
/// PostgreSQL answers.
pub(crate) async fn is_there(graph: i64, database: &DatabaseConnection) -> bool {
    loop {
        let asked = async {
            let transaction = database.begin().await?;
            lock_catalog(&transaction).await?;
            Ok::<_, StoreError>(graph::Entity::find_by_id(graph).one(&transaction).await?.is_some())
        };
        match asked.await {
            Ok(there) => return there,
            Err(error) => tracing::debug!(%error, graph, "PostgreSQL does not answer yet"),
        }
        tokio::time::sleep(ASK_AGAIN).await;
    }
}

/// Whether PostgreSQL has said that nothing of it was kept.
pub(crate) fn is_refusal(error: &sqlx::Error) -> bool {
    match error {
        // A server that stops says so also to whom it has not told that a commit is kept.
        sqlx::Error::Database(said) => {
            !said.code().is_some_and(|code| code.starts_with("57P") || code.starts_with("08"))
        }
        // Nothing was sent.
        sqlx::Error::PoolTimedOut | sqlx::Error::PoolClosed => true,
        _ => false,
    }
}
