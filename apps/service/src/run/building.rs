//! Structures built over a graph's elements as jobs: keys, indexes and distance bounds.

use std::sync::Arc;

use graphodrome_graph::{Created, Snapshot};
use graphodrome_language::{Diagnostic, Span};
use graphodrome_records::JobState;
use graphodrome_store::{StoreError, Turn};
use serde_json::json;

use super::QueryRequest;
use crate::job::OwnJob;
use crate::problem::Problem;
use crate::state::App;

/// Builds what is to be looked up by, as the job that has begun; `elements` are those it is over.
pub(super) async fn build(
    app: &Arc<App>, turn: Turn<'_>, job: OwnJob, created: Created, elements: u64,
) -> Result<Arc<Snapshot>, StoreError> {
    job.progress.enter("building");
    let made = turn.change_lookups(created, job.go_on(app)).await;
    let (state, detail) = match &made {
        Ok(snapshot) => {
            (JobState::Done, json!({ "changed": true, "version": snapshot.version, "elements": elements }))
        }
        Err(_) if job.progress.is_cancelled() => {
            (JobState::Cancelled, json!({ "error": "cancelled; nothing was changed" }))
        }
        Err(error) => (JobState::Failed, json!({ "error": error.to_string() })),
    };
    job.finish(app, state, detail).await;
    made
}

/// What of the data stands in the way of a statement: where it says so, and which elements.
pub(super) fn in_the_way(error: StoreError, span: Span, request: &QueryRequest) -> Problem {
    let StoreError::Graph(error) = error else { return error.into() };
    let mut diagnostic = Diagnostic::error(error.code, span, error.message);
    if let Some(hint) = error.hint {
        diagnostic = diagnostic.hint(hint);
    }
    Problem::from_diagnostic(diagnostic, &request.text)
}
