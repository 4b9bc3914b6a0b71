//! A job while it runs: how far it is, and when it has ended.

use std::sync::Arc;

use graphodrome_formats::Progress;
use tokio::sync::watch;

/// A job that runs now.
pub struct RunningJob {
    pub progress: Arc<Progress>,
    pub started: std::time::Instant,
    pub done: watch::Receiver<bool>,
}
