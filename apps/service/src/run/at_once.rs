//! Queries answered on arrival: their plan is cached and short. Anything unusual takes the normal route, which
//! reports errors; nothing has been done by then.

use std::sync::Arc;
use std::time::Instant;

use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use graphodrome_engine::{Found, Limits, Parameters};
use graphodrome_formats::ResultFormat;
use graphodrome_graph::{Snapshot, Value};
use graphodrome_store::GraphHandle;
use serde::Deserialize;
use serde::de::{Deserializer, Error, MapAccess, Visitor};

use super::read::{BRIEF, BRIEF_COST};
use super::{QueryRequest, Ready, Run, Terms, microseconds, terms};
use crate::problem::Problem;
use crate::state::App;
use crate::who;

/// A request as most are: of a graph that it names, with plain values for parameters. What is anything else is not
/// read as one, and goes the whole way.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PlainRequest {
    text: String,
    graph: String,
    #[serde(default)]
    parameters: PlainParameters,
    #[serde(default)]
    timeout_ms: Option<u64>,
    #[serde(default)]
    max_rows: Option<u64>,
    #[serde(default)]
    max_memory_bytes: Option<u64>,
    #[serde(default)]
    truncate: bool,
}

#[derive(Default)]
struct PlainParameters(Parameters);

/// A value that stands for itself.
struct PlainValue(Value);

impl<'de> Deserialize<'de> for PlainValue {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Plain;
        impl Visitor<'_> for Plain {
            type Value = PlainValue;

            fn expecting(&self, to: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                to.write_str("a plain value")
            }

            fn visit_bool<E: Error>(self, value: bool) -> Result<PlainValue, E> {
                Ok(PlainValue(Value::Bool(value)))
            }

            fn visit_i64<E: Error>(self, value: i64) -> Result<PlainValue, E> {
                Ok(PlainValue(Value::Int(value)))
            }

            fn visit_u64<E: Error>(self, value: u64) -> Result<PlainValue, E> {
                i64::try_from(value).map(|value| PlainValue(Value::Int(value))).map_err(E::custom)
            }

            fn visit_f64<E: Error>(self, value: f64) -> Result<PlainValue, E> {
                Ok(PlainValue(Value::Float(value)))
            }

            fn visit_str<E: Error>(self, value: &str) -> Result<PlainValue, E> {
                Ok(PlainValue(Value::text(value)))
            }
        }
        from.deserialize_any(Plain)
    }
}

impl<'de> Deserialize<'de> for PlainParameters {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Fields;
        impl<'de> Visitor<'de> for Fields {
            type Value = PlainParameters;

            fn expecting(&self, to: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                to.write_str("plain values by name")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut fields: A) -> Result<PlainParameters, A::Error> {
                let mut all = Parameters::default();
                while let Some((name, PlainValue(value))) = fields.next_entry()? {
                    all.insert(name, value);
                }
                Ok(PlainParameters(all))
            }
        }
        from.deserialize_map(Fields)
    }
}

/// The answer, where it is there at once.
pub async fn at_once(
    app: &Arc<App>, request: PlainRequest, format: ResultFormat, headers: &HeaderMap,
) -> Option<Response> {
    let graph = app.catalog.graph(&request.graph)?;
    let PlainRequest { text, parameters, timeout_ms, max_rows, max_memory_bytes, truncate, .. } = request;
    let asked = QueryRequest { timeout_ms, max_rows, max_memory_bytes, ..QueryRequest::default() };
    let terms = Terms { parameters: parameters.0, ..terms(app, &asked).ok()? };
    let mut run = Run::new(app, graph.clone(), text, truncate, terms);
    let ready = run.found(graph.snapshot())?;
    if ready.prepared.changes {
        let client = who::named_by(headers);
        return who::asked_by(client, run.change_at_once(&graph, format)).await;
    }
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
        let turn = tokio::time::timeout(self.limits.time?, graph.turn()).await.ok()?.ok()?;
        let wait = microseconds(waiting.elapsed());
        self.limits = self.limits_after(waiting, &self.limits).ok()?;
        let ready = self.found(turn.snapshot())?;
        let brief = Limits { brief: Some(BRIEF), ..self.limits.clone() };
        let (body, made) = self.make(&ready, brief, wait, format).ok()?;
        if let Some((snapshot, changes)) = made
            && !changes.is_empty()
            && let Err(error) = turn.by(&who::with("query")).commit(snapshot, changes).await
        {
            return Some(Problem::from(error).into_response());
        }
        Some(whole(body, format))
    }
}
