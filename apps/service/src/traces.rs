//! Spans of queries for whoever collects traces: OTLP over HTTP in its JSON encoding, W3C trace context. A query is a
//! span, its operators are spans within it. Sent in batches by a task of its own; what cannot be sent is dropped, and
//! said once.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use axum::http::{HeaderMap, Request, Uri, header};
use graphodrome_engine::PlanTree;
use http_body_util::Full;
use rand::Rng;
use serde_json::{Value as Json, json};
use tokio::sync::mpsc::error::TrySendError;
use tokio::sync::mpsc::{Receiver, Sender, channel};
use tokio::time::timeout;

use crate::outgoing::{self, Outgoing};
use crate::run::ProfileAnswer;

/// The trace that a request belongs to (`traceparent`, W3C Trace Context).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TraceParent {
    pub trace: u128,
    pub span: u64,
    /// Whoever sent it records this trace.
    pub sampled: bool,
}

impl TraceParent {
    /// `None` where the header is not there or not valid: the request is not refused for that.
    pub fn of(headers: &HeaderMap) -> Option<TraceParent> {
        let text = headers.get("traceparent")?.to_str().ok()?;
        let mut parts = text.trim().split('-');
        let (version, trace, span, flags) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
        let lower = |text: &str, len: usize| {
            text.len() == len && text.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b))
        };
        let well = lower(version, 2) && lower(trace, 32) && lower(span, 16) && lower(flags, 2);
        // A later version may have more behind it, the first has not.
        if !well || version == "ff" || version == "00" && parts.next().is_some() {
            return None;
        }
        let trace = u128::from_str_radix(trace, 16).ok().filter(|id| *id != 0)?;
        let span = u64::from_str_radix(span, 16).ok().filter(|id| *id != 0)?;
        let sampled = u8::from_str_radix(flags, 16).ok()? & 1 == 1;
        Some(TraceParent { trace, span, sampled })
    }
}

/// Spans that wait to be sent; more are dropped.
const WAITING: usize = 4096;
/// Queries in one request to the collector.
const TOGETHER: usize = 64;
/// Between two requests where there is something to send.
const PAUSE: Duration = Duration::from_millis(500);
/// How long the collector may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// Where spans go.
pub struct Traces {
    sender: Sender<Vec<Json>>,
}

impl Traces {
    /// Sends to a collector, such as `http://127.0.0.1:4318`.
    pub fn to(endpoint: &str) -> Result<Traces, String> {
        let url = format!("{}/v1/traces", endpoint.trim_end_matches('/'));
        let address: Uri = url.parse().map_err(|e| format!("{url}: {e}"))?;
        let (sender, receiver) = channel(WAITING);
        tokio::spawn(send_all(outgoing::client(), receiver, address));
        Ok(Traces { sender })
    }

    /// A query that has come to its end, with the trace that it belongs to where it belongs to one.
    pub fn query(&self, parent: Option<TraceParent>, text: &str, answer: &ProfileAnswer) {
        let spans = spans(parent, text, answer, SystemTime::now());
        if let Err(TrySendError::Full(_)) = self.sender.try_send(spans) {
            tracing::debug!("a trace was dropped: the collector is slower than the queries");
        }
    }
}

async fn send_all(client: Outgoing, mut receiver: Receiver<Vec<Json>>, address: Uri) {
    let mut said = false;
    while let Some(mut spans) = receiver.recv().await {
        let mut queries = 1;
        // Until nothing comes for a while, or none will.
        while queries < TOGETHER
            && let Ok(Some(more)) = timeout(PAUSE, receiver.recv()).await
        {
            spans.extend(more);
            queries += 1;
        }
        let body = json!({ "resourceSpans": [{
            "resource": { "attributes": [
                attribute("service.name", json!({ "stringValue": "graphodrome" })),
                attribute("service.version", json!({ "stringValue": env!("CARGO_PKG_VERSION") })),
            ] },
            "scopeSpans": [{ "scope": { "name": "graphodrome" }, "spans": spans }],
        }] });
        match send(&client, &address, &body).await {
            Ok(()) => said = false,
            Err(error) if !said => {
                said = true;
                tracing::warn!(error, %address, "traces cannot be sent; they are dropped until they can");
            }
            Err(_) => {}
        }
    }
}

async fn send(client: &Outgoing, address: &Uri, body: &Json) -> Result<(), String> {
    let request = Request::post(address.clone())
        .header(header::CONTENT_TYPE, "application/json")
        .body(Full::from(body.to_string()))
        .map_err(|e| e.to_string())?;
    let answer = timeout(PATIENCE, client.request(request)).await;
    let answer = answer.map_err(|_| format!("no answer within {} s", PATIENCE.as_secs()))?;
    match answer.map_err(|e| outgoing::reason(&e))?.status() {
        status if status.is_success() => Ok(()),
        status => Err(status.to_string()),
    }
}

fn attribute(key: &str, value: Json) -> Json {
    json!({ "key": key, "value": value })
}

fn text_of(value: &str) -> Json {
    json!({ "stringValue": value })
}

/// Whole numbers are texts in this encoding.
fn number_of(value: u64) -> Json {
    json!({ "intValue": value.to_string() })
}

/// The spans of a query that has ended just now: its own first.
fn spans(parent: Option<TraceParent>, text: &str, answer: &ProfileAnswer, ended: SystemTime) -> Vec<Json> {
    let mut rng = rand::rng();
    let trace: u128 = parent.map_or_else(|| rng.random_range(1..=u128::MAX), |parent| parent.trace);
    let own: u64 = rng.random_range(1..=u64::MAX);
    let end = ended.duration_since(UNIX_EPOCH).unwrap_or_default();
    let nanoseconds = |us: f64| Duration::from_secs_f64(us.max(0.0) / 1e6);
    let all = answer.parse_us + answer.check_us + answer.plan_us + answer.wait_us + answer.execute_us;
    let began = end.saturating_sub(nanoseconds(all));
    let executes = end.saturating_sub(nanoseconds(answer.execute_us));
    let mut attributes = vec![
        attribute("db.system.name", text_of("graphodrome")),
        attribute("db.namespace", text_of(&answer.graph)),
        attribute("db.query.text", text_of(text)),
        attribute("db.response.returned_rows", number_of(answer.rows)),
        attribute("graphodrome.version", number_of(answer.version)),
        attribute("graphodrome.wait_us", json!({ "doubleValue": answer.wait_us })),
        attribute("graphodrome.plan_us", json!({ "doubleValue": answer.plan_us })),
        attribute("graphodrome.edges_looked", number_of(answer.edges_looked())),
    ];
    let mut status = json!({});
    if let Some(error) = &answer.error {
        attributes.push(attribute("error.type", text_of(&error.code)));
        status = json!({ "code": 2, "message": error.message });
    }
    let span = |id: u64, above: Option<u64>, name: &str, kind: u8, from: Duration, to: Duration| {
        let mut span = json!({
            "traceId": format!("{trace:032x}"), "spanId": format!("{id:016x}"), "name": name, "kind": kind,
            "startTimeUnixNano": from.as_nanos().to_string(), "endTimeUnixNano": to.as_nanos().to_string(),
        });
        if let Some(above) = above {
            span["parentSpanId"] = json!(format!("{above:016x}"));
        }
        span
    };
    let name = format!("query {}", answer.graph);
    // A server's span: somebody asked for it.
    let mut root = span(own, parent.map(|parent| parent.span), &name, 2, began, end);
    (root["attributes"], root["status"]) = (json!(attributes), status);
    let mut out = vec![root];
    let mut left: Vec<(&PlanTree, u64)> = vec![(&answer.plan, own)];
    while let Some((operator, above)) = left.pop() {
        let Some(actual) = &operator.actual else { continue };
        let id: u64 = rng.random_range(1..=u64::MAX);
        // How long it worked with its inputs is known, not when: operators work batch by batch.
        let to = executes + nanoseconds(actual.total_us.min(answer.execute_us));
        let mut made = span(id, Some(above), &operator.operator, 1, executes, to);
        made["attributes"] = json!([
            attribute("graphodrome.on", text_of(&operator.summary())),
            attribute("graphodrome.rows_out", number_of(actual.rows_out)),
            attribute("graphodrome.own_us", json!({ "doubleValue": actual.own_us })),
            attribute("graphodrome.edges_looked", number_of(actual.counters.edges_looked)),
            attribute("graphodrome.properties_read", number_of(actual.counters.properties_read)),
            attribute("graphodrome.index_probes", number_of(actual.counters.index_probes)),
            attribute("graphodrome.peak_bytes", number_of(actual.peak_bytes)),
            attribute("graphodrome.hops", number_of(actual.hops.len() as u64)),
        ]);
        out.push(made);
        left.extend(operator.inputs.iter().map(|input| (input, id)));
    }
    out
}
