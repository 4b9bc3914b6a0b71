//! The fence: each service takes an epoch at its start, and every transaction that writes checks in PostgreSQL
//! that the epoch is still its own. A service that lost it writes nothing more.

use sea_orm::sqlx::{self, PgPool};
use sea_orm::{ConnectionTrait, DatabaseTransaction};
use tokio::sync::watch;

use crate::StoreError;

pub(crate) struct Fence {
    pub epoch: i64,
    /// Why it writes no more.
    lost: watch::Sender<Option<String>>,
}

impl Fence {
    /// Begins an epoch. Transactions of the one before that are on their way are waited for.
    pub async fn take(pool: &PgPool) -> Result<Fence, StoreError> {
        let text = "UPDATE service SET epoch = epoch + 1 RETURNING epoch";
        Ok(Fence { epoch: sqlx::query_scalar(text).fetch_one(pool).await?, lost: watch::channel(None).0 })
    }

    /// An error where another service has taken over.
    pub fn check(&self) -> Result<(), StoreError> {
        match &*self.lost.borrow() {
            None => Ok(()),
            Some(why) => Err(StoreError::Fenced(why.clone())),
        }
    }

    pub fn lose(&self, why: &str) {
        self.lost.send_if_modified(|lost| {
            let first = lost.is_none();
            if first {
                tracing::error!(why, epoch = self.epoch, "this service writes no more");
                *lost = Some(why.into());
            }
            first
        });
    }

    /// Returns once another service has taken over.
    pub async fn lost(&self) -> String {
        let mut lost = self.lost.subscribe();
        // The sender lives as long as we do.
        let why = lost.wait_for(Option::is_some).await.ok().and_then(|why| why.clone());
        why.unwrap_or_default()
    }

    /// Whether the epoch is still the newest.
    pub async fn is_ours(&self, pool: &PgPool) -> Result<bool, sqlx::Error> {
        let newest: i64 = sqlx::query_scalar("SELECT epoch FROM service").fetch_one(pool).await?;
        if newest != self.epoch {
            self.lose("another service has taken over the database");
        }
        Ok(newest == self.epoch)
    }

    /// The transaction keeps other services from taking over until it ends; an error where one has.
    pub async fn hold(&self, transaction: &DatabaseTransaction) -> Result<(), StoreError> {
        self.check()?;
        let text = format!("SELECT epoch FROM service WHERE epoch = {} FOR SHARE", self.epoch);
        let statement = sea_orm::Statement::from_string(sea_orm::DatabaseBackend::Postgres, text);
        if transaction.query_one_raw(statement).await?.is_none() {
            self.lose("another service has taken over the database");
        }
        self.check()
    }
}
