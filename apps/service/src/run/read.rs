//! Reads: on a snapshot, as a stream. A plan that is expected to be short runs on the current thread; longer
//! queries get a thread of their own.

use std::time::{Duration, Instant};

use axum::body::{Body, Bytes};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::{Code, Limits, Summary};
use graphodrome_formats::{ResultFormat, ResultWriter};
use graphodrome_language::Diagnostic;
use tokio::sync::{mpsc, oneshot};

use super::epilogue::Facts;
use super::{Ready, Run, microseconds, too_many_rows};
use crate::problem::Problem;
use crate::running::RunningKind;
use crate::written::asked;

/// Bytes of a result that are sent at once.
const PIECE: usize = 64 << 10;
/// A plan estimated to cost less (in rows and adjacency entries) is expected to be brief.
pub(super) const BRIEF_COST: f64 = 20_000.0;
/// How long a brief run may hold the thread that serves other requests too.
/// A client that takes nothing of its result for so long has given it up.
const STALLED: Duration = Duration::from_secs(30);
pub(super) const BRIEF: Duration = Duration::from_millis(2);

impl Run {
    /// The first piece decides the status, the rest follows as it is made. A brief query needs no slot, so that
    /// it does not wait behind long ones; a long one holds its slot until it has ended.
    pub(super) async fn read(mut self, format: ResultFormat, last: bool) -> Result<Response, Problem> {
        let arrived = Instant::now();
        let app = self.app.clone();
        let entry = app.running.enter(RunningKind::Query, &self.graph.name, asked(&self.text));
        let (run, ready) = match self.ready.take() {
            Some(ready) => (self, ready),
            None => {
                let snapshot = self.graph.snapshot();
                self.prepared(snapshot).await?
            }
        };
        let limits = entry.cancellable(run.limits.clone());
        if ready.prepared.cost() < BRIEF_COST
            && !run.is_traced()
            && let Some(body) = run.brief(&ready, format, run.limits_after(arrived, &limits)?, 0.0)?
        {
            entry.finish();
            return Ok(([(header::CONTENT_TYPE, format.media_type())], body).into_response());
        }
        let waiting = Instant::now();
        entry.waits();
        let permit =
            app.slot(run.limits_after(arrived, &limits)?.time.unwrap_or(app.limits.query_time)).await?;
        let wait = microseconds(waiting.elapsed());
        let limits = entry.runs(run.limits_after(arrived, &limits)?);
        let (first_sender, first) = oneshot::channel::<Result<(Vec<u8>, bool), Problem>>();
        let (sender, mut receiver) = mpsc::channel::<Result<Bytes, std::io::Error>>(8);
        let runtime = tokio::runtime::Handle::current();
        let worker = tokio::task::spawn_blocking(move || {
            let _slot = permit;
            let mut first_sender = Some(first_sender);
            let mut send = |piece, ended| match first_sender.take() {
                Some(first) => first.send(Ok((piece, ended))).is_ok(),
                None => runtime.block_on(sender.send_timeout(Ok(Bytes::from(piece)), STALLED)).is_ok(),
            };
            let result = run.stream(&ready, format, limits, wait, &mut send);
            if let Err(diagnostic) = result {
                let problem = Problem::from_diagnostic(*diagnostic, &run.text);
                match first_sender.take() {
                    Some(first) => {
                        let _ = first.send(Err(problem));
                    }
                    // The status is sent, and the format has no place for an error: ending the stream badly
                    // is the only way to say so.
                    None => {
                        let error = Err(std::io::Error::other(problem.detail));
                        let _ = runtime.block_on(sender.send_timeout(error, STALLED));
                    }
                }
            }
        });
        let Ok(first) = first.await else {
            // The worker ended without a word: what became of it says why.
            worker.await?;
            return Err(Problem::internal(&"a query ended without a result"));
        };
        let (piece, ended) = first?;
        if ended || !last {
            // Of a statement before the last one only whether it fails is of interest.
            let mut failure = None;
            while let Some(piece) = receiver.recv().await {
                failure = failure.or(piece.err());
            }
            worker.await?;
            entry.finish();
            if let Some(error) = failure {
                return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, error.to_string()));
            }
            return Ok(([(header::CONTENT_TYPE, format.media_type())], piece).into_response());
        }
        let head = tokio_stream::once(Ok(Bytes::from(piece)));
        let rest = tokio_stream::wrappers::ReceiverStream::new(receiver);
        // The entry lives in the stream: a client that goes away drops both.
        let guarded = futures::stream::unfold(
            (Box::pin(futures::StreamExt::chain(head, rest)), entry),
            |(mut stream, entry)| async move {
                let item = futures::StreamExt::next(&mut stream).await?;
                Some((item, (stream, entry)))
            },
        );
        // Whoever compresses it may ask once more after its end.
        let guarded = futures::StreamExt::fuse(guarded);
        Ok(([(header::CONTENT_TYPE, format.media_type())], Body::from_stream(guarded)).into_response())
    }

    /// The whole result, or `None` where it takes longer or becomes larger than a brief one may.
    pub(super) fn brief(
        &self, ready: &Ready, format: ResultFormat, limits: Limits, wait: f64,
    ) -> Result<Option<Vec<u8>>, Problem> {
        let mut whole = None;
        let limits = Limits { brief: Some(BRIEF), ..limits };
        let mut keep = |piece: Vec<u8>, ended: bool| {
            whole = ended.then_some(piece);
            ended
        };
        match self.stream(ready, format, limits, wait, &mut keep) {
            Ok(()) => Ok(whole),
            Err(diagnostic) if diagnostic.code == Code::NOT_BRIEF => Ok(None),
            Err(diagnostic) => Err(Problem::from_diagnostic(*diagnostic, &self.text)),
        }
    }

    /// Runs the plan; `send` takes each piece and whether it is the last, and says whether to go on.
    fn stream(
        &self, ready: &Ready, format: ResultFormat, limits: Limits, wait: f64,
        send: &mut dyn FnMut(Vec<u8>, bool) -> bool,
    ) -> Result<(), Box<Diagnostic>> {
        let failed = |reason: String| {
            let code = graphodrome_graph::Code::WRONG_TYPE;
            Box::new(Diagnostic::error(code, Default::default(), reason))
        };
        let prepared = &ready.prepared;
        let snapshot = &*ready.snapshot;
        let mut execution = prepared.run(ready.snapshot.clone(), &self.parameters, limits);
        let mut writer = ResultWriter::new(format, prepared.columns.as_deref().unwrap_or_default());
        let mut body = writer.start().map_err(failed)?;
        let mut rows = 0;
        let (mut truncated, mut sent) = (false, false);
        loop {
            let mut batch = match execution.next_batch() {
                Ok(Some(batch)) => batch,
                Ok(None) => break,
                Err(error) if !sent || !writer.holds_an_error() => {
                    self.ended(ready, &execution, wait, Some(&error));
                    return Err(Box::new(error));
                }
                // Part of the rows is on its way: the error follows them, where the format has a place for it.
                Err(error) => {
                    self.ended(ready, &execution, wait, Some(&error));
                    let problem = Problem::from_diagnostic(error, &self.text);
                    let text = serde_json::to_vec(&problem).map_err(|e| failed(e.to_string()))?;
                    writer.fail(&text, &mut body);
                    send(body, true);
                    return Ok(());
                }
            };
            if rows + batch.len as u64 > self.max_rows {
                if !self.truncate {
                    let error = too_many_rows(self.max_rows);
                    if sent && writer.holds_an_error() {
                        let problem = Problem::from_diagnostic(error, &self.text);
                        let text = serde_json::to_vec(&problem).map_err(|e| failed(e.to_string()))?;
                        writer.fail(&text, &mut body);
                        send(body, true);
                        return Ok(());
                    }
                    return Err(Box::new(error));
                }
                let left: Vec<u32> = (0..(self.max_rows - rows) as u32).collect();
                batch = batch.gather(&left);
                truncated = true;
            }
            rows += batch.len as u64;
            writer.rows(&batch, execution.snapshot(), &mut body).map_err(failed)?;
            if truncated {
                break;
            }
            if body.len() >= PIECE {
                sent = true;
                if !send(std::mem::take(&mut body), false) {
                    return Ok(());
                }
            }
        }
        let summary = Summary { rows, ..execution.summary() };
        let facts = Facts { summary, version: snapshot.version, truncated, phases: self.phases(ready, wait) };
        let warnings = [&prepared.warnings[..], execution.warnings()];
        writer.end(|out| self.epilogue(&facts, warnings, out), &mut body).map_err(failed)?;
        send(body, true);
        // Nobody waits for that.
        self.ended(ready, &execution, wait, None);
        Ok(())
    }
}
