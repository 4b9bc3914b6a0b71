//! Queries that are answered where they arrive: their plan is there and brief. Where anything is in the way,
//! nothing was done, and the query goes the whole way, which says what it was.

use std::sync::Arc;
use std::time::Instant;

use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::{Found, Limits};
use graphodrome_formats::ResultFormat;
use graphodrome_graph::Snapshot;
use graphodrome_store::GraphHandle;

use super::read::{BRIEF, BRIEF_COST};
use super::{QueryRequest, Ready, Run, fold_when_wanted, microseconds, terms};
use crate::problem::Problem;
use crate::state::App;

/// The answer, where it is there at once.
pub async fn at_once(app: &Arc<App>, request: &QueryRequest, format: ResultFormat) -> Option<Response> {
    if request.session.is_some() {
        return None;
    }
    let graph = app.catalog.graph(request.graph.as_ref()?)?;
    let mut run = Run::new(app, graph.clone(), request, terms(app, request).ok()?);
    let ready = run.found(graph.snapshot())?;
    if ready.prepared.changes {
        return run.change_at_once(&graph, format).await;
    }
    let _slot = app.slots.try_acquire().ok()?;
    let body = run.brief(&ready, format, run.limits.clone(), 0.0).ok()??;
    Some(whole(body, format))
}

fn whole(body: Vec<u8>, format: ResultFormat) -> Response {
    let mut response = Response::new(body.into());
    response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static(format.media_type()));
    response
}

impl Run {
    /// A brief plan that was made before and serves this request; its literals are parameters from then on.
    fn found(&mut self, snapshot: Arc<Snapshot>) -> Option<Ready> {
        let plans = self.app.plans(&self.graph);
        let Found { prepared, literals } = plans.find(&self.text, &snapshot, &self.parameters)?;
        self.parameters.extend(literals);
        (prepared.cost() < BRIEF_COST).then_some(Ready { prepared, snapshot, cached: true })
    }

    async fn change_at_once(mut self, graph: &Arc<GraphHandle>, format: ResultFormat) -> Option<Response> {
        let waiting = Instant::now();
        let turn = graph.turn().await;
        let wait = microseconds(waiting.elapsed());
        let ready = self.found(turn.snapshot())?;
        let brief = Limits { brief: Some(BRIEF), ..self.limits.clone() };
        let (body, made) = self.make(&ready, brief, wait, format).ok()?;
        if let Some((snapshot, changes)) = made
            && !changes.is_empty()
        {
            if let Err(error) = turn.commit(snapshot, changes).await {
                return Some(Problem::from(error).into_response());
            }
            fold_when_wanted(graph.clone());
        }
        Some(whole(body, format))
    }
}
