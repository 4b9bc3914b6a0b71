//! A connection that is lent to one commit after another: taken from the pool it would be asked each time
//! whether it is still there, which is a round trip more for every one.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use sea_orm::sqlx::pool::PoolConnection;
use sea_orm::sqlx::{self, PgPool, Postgres};

/// How long a connection is kept without being used; after that it goes back to the pool.
const KEPT: Duration = Duration::from_secs(1);

#[derive(Default)]
pub(crate) struct Lent {
    kept: Mutex<Option<(PoolConnection<Postgres>, Instant)>>,
    /// Whether a task sees to it that it goes back.
    watched: AtomicBool,
}

impl Lent {
    /// The connection that was used just now, or another one of the pool.
    pub async fn take(&self, pool: &PgPool) -> Result<PoolConnection<Postgres>, sqlx::Error> {
        match self.kept.lock().take() {
            Some((connection, used)) if used.elapsed() < KEPT => return Ok(connection),
            _ => {}
        }
        pool.acquire().await
    }

    /// Keeps a connection that has done its work; one that failed is to be dropped.
    pub fn give_back(self: &Arc<Self>, connection: PoolConnection<Postgres>) {
        *self.kept.lock() = Some((connection, Instant::now()));
        if self.watched.swap(true, Ordering::SeqCst) {
            return;
        }
        let lent = self.clone();
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(KEPT).await;
                let mut kept = lent.kept.lock();
                if kept.as_ref().is_none_or(|(_, used)| used.elapsed() >= KEPT) {
                    *kept = None;
                    lent.watched.store(false, Ordering::SeqCst);
                    return;
                }
            }
        });
    }
}
