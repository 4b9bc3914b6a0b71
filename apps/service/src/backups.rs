//! Backups and restores that are on their way.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::http::StatusCode;
use graphodrome_store::{BackupManifest, Catalog, GraphHandle, KeptVersion, Restoring};
use parking_lot::Mutex;

use crate::problem::Problem;

/// Backups and restores that are on their way.
#[derive(Default)]
pub struct Backups {
    next: std::sync::atomic::AtomicU64,
    pub(crate) taking: Mutex<HashMap<u64, Taking>>,
    pub(crate) making: Mutex<HashMap<u64, Making>>,
}

impl Backups {
    pub fn number(&self) -> Result<u64, Problem> {
        if self.taking.lock().len() + self.making.lock().len() >= MOST {
            let text = format!("{MOST} backups and restores are on their way");
            return Err(
                Problem::new(StatusCode::SERVICE_UNAVAILABLE, text).hint("try again when one has ended")
            );
        }
        Ok(self.next.fetch_add(1, std::sync::atomic::Ordering::Relaxed) + 1)
    }

    pub(crate) fn taken(&self, id: u64) -> Result<Taking, Problem> {
        let mut taking = self.taking.lock();
        let found =
            taking.get_mut(&id).ok_or_else(|| Problem::not_found(format!("there is no backup {id}")))?;
        found.used = Instant::now();
        Ok(found.clone())
    }

    pub fn made(&self, id: u64) -> Result<Arc<tokio::sync::Mutex<Option<Restoring>>>, Problem> {
        let mut making = self.making.lock();
        let found =
            making.get_mut(&id).ok_or_else(|| Problem::not_found(format!("there is no restore {id}")))?;
        found.used = Instant::now();
        Ok(found.restoring.clone())
    }

    /// Forgets what nobody goes on with.
    pub async fn tidy(&self, catalog: &Catalog) {
        self.taking.lock().retain(|_, taking| taking.used.elapsed() < IDLE);
        let idle: Vec<_> = self
            .making
            .lock()
            .extract_if(|_, making| making.used.elapsed() >= IDLE)
            .map(|(_, m)| m)
            .collect();
        for making in idle {
            if let Some(restoring) = making.restoring.lock().await.take() {
                restoring.give_up(catalog).await;
            }
        }
    }
}

/// How long one is kept that nobody asks for.
const IDLE: Duration = Duration::from_secs(600);

/// Backups and restores that are on their way at once.
const MOST: usize = 64;

#[derive(Clone)]
pub(crate) struct Taking {
    pub(crate) graph: Arc<GraphHandle>,
    pub(crate) kept: Arc<KeptVersion>,
    pub(crate) manifest: Arc<BackupManifest>,
    pub(crate) used: Instant,
}

pub(crate) struct Making {
    pub(crate) restoring: Arc<tokio::sync::Mutex<Option<Restoring>>>,
    pub(crate) used: Instant,
}
