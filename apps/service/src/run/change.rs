//! Changes: each in its graph's turn, answered when it is durable.

use std::sync::Arc;
use std::time::Instant;

use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::{Code, Limits};
use graphodrome_formats::{ResultFormat, ResultWriter};
use graphodrome_graph::{Change, Snapshot};
use graphodrome_language::Diagnostic;

use super::epilogue::Facts;
use super::read::{BRIEF, BRIEF_COST};
use super::{Ready, Run, microseconds, time_is_up, too_many_rows};
use crate::problem::Problem;
use crate::running::RunningKind;
use crate::who;
use crate::written::asked;

/// The answer, and the new state with the changes that lead to it.
pub(super) type Made = (Vec<u8>, Option<(Snapshot, Vec<Change>)>);

impl Run {
    /// A change takes its turn; it is answered when it is durable.
    pub(super) async fn change(self, format: ResultFormat) -> Result<Response, Problem> {
        let waiting = Instant::now();
        let graph = self.graph.clone();
        let time = self.limits.time.unwrap_or(self.app.limits.query_time);
        let turn = tokio::time::timeout(time, graph.turn()).await.map_err(|_| time_is_up(time))??;
        let wait = microseconds(waiting.elapsed());
        let limits = self.limits_after(waiting, &self.limits)?;
        let run = Run { limits, ..self };
        let (body, made) = run.execute_change(turn.snapshot(), wait, format).await?;
        if let Some((snapshot, changes)) = made
            && !changes.is_empty()
        {
            turn.by(&who::with("query")).commit(snapshot, changes).await?;
        }
        Ok(([(header::CONTENT_TYPE, format.media_type())], body).into_response())
    }

    /// Runs a changing query on a state; nothing is kept of it yet. Like a read it runs where it is when it is
    /// brief: others wait for its turn, and it should not wait for a thread meanwhile.
    pub(super) async fn execute_change(
        self, snapshot: Arc<Snapshot>, wait: f64, format: ResultFormat,
    ) -> Result<Made, Problem> {
        let entry = self.app.running.enter(RunningKind::Query, &self.graph.name, asked(&self.text));
        let arrived = Instant::now();
        let (run, ready) = self.prepared(snapshot).await?;
        let limits = entry.cancellable(run.limits.clone());
        if ready.prepared.cost() < BRIEF_COST && !run.is_traced() {
            let brief = Limits { brief: Some(BRIEF), ..limits.clone() };
            match run.make(&ready, brief, wait, format) {
                Err(Stopped::Diagnostic(d)) if d.code == Code::NOT_BRIEF => {}
                made => {
                    entry.finish();
                    return made.map_err(|stopped| run.problem(stopped));
                }
            }
        }
        let left = run.limits_after(arrived, &limits)?.time.unwrap_or(run.app.limits.query_time);
        entry.waits();
        let slot = run.app.slot(left).await?;
        let limits = entry.runs(run.limits_after(arrived, &limits)?);
        let made = move || {
            let _slot = slot;
            run.make(&ready, limits, wait, format).map_err(|stopped| run.problem(stopped))
        };
        let made = tokio::task::spawn_blocking(made).await??;
        entry.finish();
        Ok(made)
    }

    fn problem(&self, stopped: Stopped) -> Problem {
        match stopped {
            Stopped::Diagnostic(diagnostic) => Problem::from_diagnostic(*diagnostic, &self.text),
            Stopped::Unwritable(text) => Problem::new(StatusCode::UNPROCESSABLE_ENTITY, text),
        }
    }

    pub(super) fn make(
        &self, ready: &Ready, limits: Limits, wait: f64, format: ResultFormat,
    ) -> Result<Made, Stopped> {
        let (prepared, snapshot) = (&ready.prepared, &*ready.snapshot);
        let phases = self.phases(ready, wait);
        let mut execution = prepared.run(ready.snapshot.clone(), &self.parameters, limits);
        let mut writer = ResultWriter::new(format, prepared.columns.as_deref().unwrap_or_default());
        let mut body = writer.start().map_err(Stopped::Unwritable)?;
        loop {
            let batch = match execution.next_batch() {
                Ok(Some(batch)) => batch,
                Ok(None) => break,
                Err(error) => {
                    self.ended(ready, &execution, wait, Some(&error));
                    return Err(error.into());
                }
            };
            if execution.summary().rows > self.max_rows {
                return Err(too_many_rows(self.max_rows).into());
            }
            writer.rows(&batch, execution.snapshot(), &mut body).map_err(Stopped::Unwritable)?;
        }
        self.ended(ready, &execution, wait, None);
        let warnings = execution.warnings().to_vec();
        let summary = execution.summary();
        let made = execution.finish()?;
        let version = made.as_ref().map_or(snapshot.version, |(s, _)| s.version);
        let facts = Facts { summary, version, truncated: false, phases };
        let more = |out: &mut Vec<u8>| self.epilogue(&facts, [&prepared.warnings, &warnings], out);
        writer.end(more, &mut body).map_err(Stopped::Unwritable)?;
        Ok((body, made))
    }
}

/// Why a change was not made.
pub(super) enum Stopped {
    Diagnostic(Box<Diagnostic>),
    /// Its result cannot be written in the format asked for.
    Unwritable(String),
}

impl From<Diagnostic> for Stopped {
    fn from(diagnostic: Diagnostic) -> Stopped {
        Stopped::Diagnostic(Box::new(diagnostic))
    }
}
