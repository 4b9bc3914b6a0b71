//! Changes: each in its graph's turn, answered when it is durable.

use std::sync::Arc;
use std::time::Instant;

use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::Limits;
use graphodrome_formats::{ResultFormat, ResultWriter};
use graphodrome_graph::{Change, Snapshot};
use graphodrome_language::Diagnostic;

use super::{Run, epilogue, microseconds, too_many_rows};
use crate::problem::Problem;

/// The answer, and the new state with the changes that lead to it.
type Made = (Vec<u8>, Option<(Snapshot, Vec<Change>)>);

impl Run {
    /// A change takes its turn; it is answered when it is durable.
    pub(super) async fn change(self, format: ResultFormat) -> Result<Response, Problem> {
        let waiting = Instant::now();
        let (app, graph) = (self.app.clone(), self.graph.clone());
        let turn = graph.turn().await;
        let wait = microseconds(waiting.elapsed());
        let (body, made) = self.execute_change(turn.snapshot(), wait, format).await?;
        if let Some((snapshot, changes)) = made
            && !changes.is_empty()
        {
            turn.commit(snapshot, changes).await?;
            super::fold_when_wanted(&app, graph.clone());
        }
        Ok(([(header::CONTENT_TYPE, format.media_type())], body).into_response())
    }

    /// Runs a changing query on a state; nothing is kept of it yet.
    pub(super) async fn execute_change(
        self, snapshot: Arc<Snapshot>, wait: f64, format: ResultFormat,
    ) -> Result<Made, Problem> {
        let (token, guard) = self.app.register_query();
        let limits = Limits { cancel: token, ..self.limits.clone() };
        let run = move || -> Result<Made, Box<Problem>> {
            let problem = |d: Diagnostic| Box::new(Problem::from_diagnostic(d, &self.text));
            let failed = |e: String| Box::new(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, e));
            let ready = self.prepare(snapshot.clone()).map_err(Box::new)?;
            let (prepared, phases) = (&ready.prepared, self.phases(&ready, wait));
            let mut execution = prepared.run((*snapshot).clone(), &self.parameters, limits);
            let mut writer = ResultWriter::new(format, prepared.columns.clone().unwrap_or_default());
            let mut body = writer.start();
            while let Some(batch) = execution.next_batch().map_err(problem)? {
                if execution.summary().rows > self.max_rows {
                    return Err(problem(too_many_rows(self.max_rows)));
                }
                body.extend(writer.rows(&batch, execution.snapshot()).map_err(failed)?);
            }
            let mut warnings = prepared.warnings.clone();
            warnings.extend_from_slice(execution.warnings());
            let summary = execution.summary();
            let made = execution.finish().map_err(problem)?;
            let version = made.as_ref().map_or(snapshot.version, |(s, _)| s.version);
            let more = epilogue(&summary, &phases, &warnings, &self.text, &self.graph.name, version, false);
            body.extend(writer.end(&more).map_err(failed)?);
            Ok((body, made))
        };
        let made = tokio::task::spawn_blocking(run).await?.map_err(|p| *p)?;
        guard.finish();
        Ok(made)
    }
}
