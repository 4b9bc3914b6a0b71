//! A load from its sources to the published graph.

use std::sync::Arc;

use graphodrome_formats::{LoadError, LoadOutcome, Mapping, Progress, Shape, load};
use graphodrome_graph::GraphError;
use graphodrome_records::JobState;
use graphodrome_store::{Contents, GoOn, GraphHandle, StoreError};
use serde_json::{Value, json};

use crate::job::OwnJob;
use crate::loading::fetch::fetch;
use crate::loading::upload::Sources;
use crate::state::App;
use crate::who;

/// What to load, and how.
pub(crate) struct Load {
    pub mapping: Mapping,
    pub sources: Sources,
    /// Everything but the publishing.
    pub check: bool,
}

enum Failure {
    Cancelled,
    Failed(String, Value),
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Failure::Failed(error.to_string(), Value::Null)
    }
}

/// Does the load; what became of it, with the details that the job keeps.
pub(crate) async fn run(
    app: &Arc<App>, graph: &Arc<GraphHandle>, job: &OwnJob, load: Load,
) -> (JobState, Value) {
    let (check, mapping) = (load.check, load.mapping.to_toml());
    let (state, mut detail) = match work(app, graph, job, load).await {
        Ok(detail) => (JobState::Done, detail),
        // What cannot be done any more because of the cancelling fails in its own words.
        Err(_) if job.progress.is_cancelled() => {
            (JobState::Cancelled, json!({ "error": "cancelled; nothing was published" }))
        }
        Err(Failure::Cancelled) => {
            (JobState::Cancelled, json!({ "error": "cancelled; nothing was published" }))
        }
        Err(Failure::Failed(message, account)) => {
            (JobState::Failed, json!({ "error": message, "account": account }))
        }
    };
    detail["check"] = json!(check);
    detail["mapping"] = json!(mapping);
    if state == JobState::Done && !check {
        graph.fold_when_wanted();
    }
    (state, detail)
}

async fn work(app: &Arc<App>, graph: &Arc<GraphHandle>, job: &OwnJob, plan: Load) -> Result<Value, Failure> {
    let Load { mapping, mut sources, check } = plan;
    let progress = &job.progress;
    progress.enter("waiting");
    // Loads of one graph come one after the other, and only the one whose turn it is takes a slot from those of others.
    let _first = match check {
        true => None,
        false => tokio::select! {
            first = graph.loads() => Some(first),
            () = cancelled(progress) => return Err(Failure::Cancelled),
        },
    };
    let _slot = tokio::select! {
        slot = app.load_slot() => slot,
        () = cancelled(progress) => return Err(Failure::Cancelled),
    };
    progress.enter("fetching");
    let started = std::time::Instant::now();
    let failed = |message: String| Failure::Failed(message, Value::Null);
    fetch(app, &mapping, &mut sources, progress).await.map_err(failed)?;
    let fetch_ms = started.elapsed().as_secs_f64() * 1e3;
    progress.enter("waiting");
    // One writer a graph: another load or a change waits its turn here. A check changes nothing.
    let turn = match check {
        true => None,
        false => tokio::select! {
            turn = graph.turn() => Some(turn?.by(&who::with(&format!("job {}", job.record.id)))),
            () = cancelled(progress) => return Err(Failure::Cancelled),
        },
    };
    let snapshot = turn.as_ref().map_or_else(|| graph.snapshot(), |turn| turn.snapshot());
    let (loading, limit) = (progress.clone(), app.limits.upload_bytes);
    let loaded = tokio::task::spawn_blocking(move || load(&mapping, &sources, &snapshot, limit, &loading));
    let LoadOutcome { changed, parts, mut account, rejects } = match loaded.await {
        Ok(Ok(outcome)) => outcome,
        Ok(Err(LoadError::Cancelled)) => return Err(Failure::Cancelled),
        Ok(Err(LoadError::TooManyRejects { rejects, limit, kept, account })) => {
            app.catalog.add_rejects(job.record.id, &kept).await?;
            if check {
                let breaks = [format!("{rejects} rejects are more than the limit of {limit}")];
                return Ok(json!({ "account": account, "changed": false, "breaks": breaks }));
            }
            let message =
                format!("{rejects} rejects are more than the limit of {limit}; nothing was published");
            return Err(Failure::Failed(message, json!(account)));
        }
        Ok(Err(error)) => return Err(failed(error.to_string())),
        Err(error) => {
            tracing::error!(%error, "a load stopped");
            return Err(failed("internal error; see the service's log".into()));
        }
    };
    if progress.is_cancelled() {
        return Err(Failure::Cancelled);
    }
    account.fetch_ms = fetch_ms;
    app.catalog.add_rejects(job.record.id, &rejects).await?;
    let changes = parts.is_some() || changed.is_some();
    let Some(turn) = turn else {
        return Ok(json!({ "account": account, "changed": changes, "breaks": [] }));
    };
    progress.enter("writing");
    let started = std::time::Instant::now();
    let version = match (parts, changed) {
        (None, None) => graph.snapshot().version,
        (None, Some((snapshot, changes))) => {
            let version = snapshot.version;
            turn.commit(snapshot, changes).await?;
            version
        }
        (Some((parts, Shape::Whole)), _) => {
            turn.publish(Contents::Parts(parts), go_on(app, progress)).await?.version
        }
        (Some((parts, Shape::Level)), changed) => {
            let after = changed.map_or_else(|| (*turn.snapshot()).clone(), |(after, _)| after);
            turn.publish(Contents::Level(parts, Box::new(after)), go_on(app, progress)).await?.version
        }
    };
    account.write_ms = started.elapsed().as_secs_f64() * 1e3;
    Ok(json!({ "account": account, "changed": changes, "version": version }))
}

/// Ends the writing when the job is cancelled or the service stops.
fn go_on(app: &Arc<App>, progress: &Arc<Progress>) -> GoOn {
    let (progress, running) = (progress.clone(), app.go_on());
    Arc::new(move || match progress.is_cancelled() {
        true => Err(GraphError::new(graphodrome_graph::Code("R0001"), "the load was cancelled")),
        false => running(),
    })
}

/// Returns once the job is cancelled.
async fn cancelled(progress: &Progress) {
    let mut ticks = tokio::time::interval(std::time::Duration::from_millis(100));
    while !progress.is_cancelled() {
        ticks.tick().await;
    }
}
