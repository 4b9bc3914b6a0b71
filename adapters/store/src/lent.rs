//! A connection that is lent to one commit after another: taken from the pool it would be asked each time
//! whether it is still there, which is a round trip more for every one.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use sea_orm::sqlx::pool::PoolConnection;
use sea_orm::sqlx::{self, PgPool, Postgres};

/// How long a connection is kept without being used; after that it goes back to the pool.
const KEPT: Duration = Duration::from_secs(1);

/// Of all graphs together no more are kept: others need the pool's connections too.
const KEPT_AT_MOST: usize = 6;

/// How many are kept now.
static ALL: AtomicUsize = AtomicUsize::new(0);

#[derive(Default)]
pub(crate) struct Lent {
    kept: Mutex<Option<(PoolConnection<Postgres>, Instant)>>,
    /// Whether a task sees to it that it goes back.
    watched: AtomicBool,
}

impl Lent {
    /// The connection that was used just now, or another one of the pool.
    pub async fn take(&self, pool: &PgPool) -> Result<PoolConnection<Postgres>, sqlx::Error> {
        if let Some((connection, used)) = self.take_kept() {
            if used.elapsed() < KEPT {
                return Ok(connection);
            }
            drop(connection);
        }
        pool.acquire().await
    }

    fn take_kept(&self) -> Option<(PoolConnection<Postgres>, Instant)> {
        let kept = self.kept.lock().take();
        if kept.is_some() {
            ALL.fetch_sub(1, Ordering::SeqCst);
        }
        kept
    }

    /// Keeps a connection that has done its work, unless many are kept; one that failed is to be dropped.
    pub fn give_back(self: &Arc<Self>, connection: PoolConnection<Postgres>) {
        if ALL.fetch_add(1, Ordering::SeqCst) >= KEPT_AT_MOST {
            ALL.fetch_sub(1, Ordering::SeqCst);
            return;
        }
        let before = self.kept.lock().replace((connection, Instant::now()));
        if before.is_some() {
            ALL.fetch_sub(1, Ordering::SeqCst);
        }
        if self.watched.swap(true, Ordering::SeqCst) {
            return;
        }
        let lent = self.clone();
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(KEPT).await;
                let unused = lent.kept.lock().as_ref().is_none_or(|(_, used)| used.elapsed() >= KEPT);
                if unused {
                    lent.watched.store(false, Ordering::SeqCst);
                    drop(lent.take_kept());
                    return;
                }
            }
        });
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        self.take_kept();
    }
}
