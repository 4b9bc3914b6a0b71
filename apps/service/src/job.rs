//! A job from its record's beginning to its end.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use graphodrome_formats::Progress;
use graphodrome_records::{Job, JobState};
use graphodrome_store::{GoOn, StoreError};
use tokio::sync::watch;

use crate::running_job::RunningJob;
use crate::state::{App, ended};

/// How long it is tried to record the end of a job.
const RECORD_TIME: Duration = Duration::from_secs(120);
/// Between two tries.
const RECORD_AGAIN: Duration = Duration::from_millis(500);

/// Rows that are looked at between two questions whether to go on.
const ROWS_BETWEEN: u64 = graphodrome_graph::ASK_EVERY as u64;

/// A job from its record's beginning to its end.
pub struct OwnJob {
    pub record: Job,
    pub progress: Arc<Progress>,
    running: Arc<RunningJob>,
    finished: watch::Sender<bool>,
}

impl OwnJob {
    pub fn running(&self) -> &Arc<RunningJob> {
        &self.running
    }

    /// Ends what it is asked by when the job is cancelled or the service stops.
    pub fn go_on(&self, app: &Arc<App>) -> GoOn {
        let (app, progress) = (app.clone(), self.progress.clone());
        Arc::new(move || {
            if progress.is_cancelled() {
                return Err(ended("the job was cancelled; nothing was changed"));
            }
            progress.rows_read.fetch_add(ROWS_BETWEEN, Ordering::Relaxed);
            app.still_running()
        })
    }

    pub async fn finish(self, app: &App, state: JobState, detail: serde_json::Value) {
        let id = self.record.id;
        // PostgreSQL may be restarting: what became of the job is told when it is back.
        let since = std::time::Instant::now();
        while let Err(error) = app.catalog.finish_job(id, state, detail.clone()).await {
            if since.elapsed() > RECORD_TIME || app.is_stopping() {
                tracing::error!(%error, job = id, "the job's end could not be recorded");
                break;
            }
            tokio::time::sleep(RECORD_AGAIN).await;
        }
        app.jobs.lock().remove(&id);
        let _ = self.finished.send(true);
        // Nobody may be listening.
        let _ = app.job_news.send(id);
    }
}

impl App {
    /// Begins a job, which has a record from now on.
    pub async fn start_job(&self, kind: &str, graph: &str, title: &str) -> Result<OwnJob, StoreError> {
        let record = self.catalog.create_job(kind, graph, title).await?;
        let (finished, done) = watch::channel(false);
        let progress = Arc::new(Progress::within(self.load_memory.clone()));
        let running =
            Arc::new(RunningJob { progress: progress.clone(), started: std::time::Instant::now(), done });
        self.jobs.lock().insert(record.id, running.clone());
        let _ = self.job_news.send(record.id);
        Ok(OwnJob { record, progress, running, finished })
    }
}
