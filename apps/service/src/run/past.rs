//! Reads of an earlier version: which one is meant, and its state.

use std::sync::Arc;

use chrono::{DateTime, FixedOffset};
use graphodrome_engine::Parameters;
use graphodrome_graph::{Code, Snapshot, Value, ValueType, parse_text};
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::{At, AtKind, AtValue, Query};
use graphodrome_store::{GraphHandle, Moment};

use super::{QueryRequest, Terms};
use crate::problem::Problem;
use crate::state::App;

impl QueryRequest {
    /// Whether it says beside the text that an earlier version is meant.
    pub fn is_of_the_past(&self) -> bool {
        self.at_version.is_some() || self.at_timestamp.is_some()
    }
}

/// A time as text, with its offset from UTC.
fn time(text: &str) -> Option<DateTime<FixedOffset>> {
    match parse_text(&ValueType::ZonedDateTime, text) {
        Ok(Value::ZonedDateTime(time)) => Some(time),
        _ => None,
    }
}

fn wrong_time(text: &str) -> String {
    format!("'{text}' is no time with an offset from UTC, such as 2026-11-29T10:00:00Z")
}

/// The version that is asked for beside a text, or for something that has no text.
pub fn moment(version: Option<u64>, timestamp: Option<&str>) -> Result<Option<Moment>, Problem> {
    match (version, timestamp) {
        (None, None) => Ok(None),
        (Some(version), None) => Ok(Some(Moment::Version(version))),
        (None, Some(text)) => {
            let time = time(text).ok_or_else(|| Problem::bad_request(wrong_time(text)))?;
            Ok(Some(Moment::Timestamp(time)))
        }
        (Some(_), Some(_)) => Err(Problem::bad_request("a version and a time were given: which is meant?")
            .hint("leave at_version or at_timestamp out")),
    }
}

fn written(at: &At, parameters: &Parameters) -> Result<Moment, Diagnostic> {
    let wrong = |text: String| Diagnostic::error(Code::WRONG_TYPE, at.span, text);
    let value = match &at.value {
        AtValue::Literal(value) => value,
        AtValue::Parameter(name) => parameters.get(name.as_ref()).ok_or_else(|| {
            Diagnostic::syntax(at.span, format!("there is no parameter ${name}"))
                .hint("give it with the query")
        })?,
    };
    match (at.kind, value) {
        (AtKind::Version, Value::Int(version @ 0..)) => Ok(Moment::Version(*version as u64)),
        (AtKind::Version, other) => Err(wrong(format!(
            "a version is a whole number, not the {} {}",
            other.type_name(),
            other.excerpt()
        ))),
        (AtKind::Timestamp, Value::ZonedDateTime(time)) => Ok(Moment::Timestamp(*time)),
        (AtKind::Timestamp, Value::Text(text)) => {
            time(text).map(Moment::Timestamp).ok_or_else(|| wrong(wrong_time(text)))
        }
        (AtKind::Timestamp, other) => Err(wrong(format!(
            "a time is a ZONED DATETIME, not the {} {}",
            other.type_name(),
            other.excerpt()
        ))),
    }
}

/// The state that a query is about where that is not the newest; what the text says comes before the request.
pub async fn state(
    app: &Arc<App>, graph: &Arc<GraphHandle>, query: &Query, request: &QueryRequest, terms: &Terms,
) -> Result<Option<Arc<Snapshot>>, Problem> {
    let named = query.graphs();
    let moment = match named.first() {
        Some((_, None)) => None,
        Some((_, Some(at))) => {
            let moment = written(at, &terms.parameters);
            Some(moment.map_err(|d| Problem::from_diagnostic(d, &request.text))?)
        }
        None => moment(request.at_version, request.at_timestamp.as_deref())?,
    };
    let Some(moment) = moment else { return Ok(None) };
    if query.changes() {
        return Err(Problem::bad_request("an earlier version cannot be changed")
            .hint("leave the version out; graph restore makes an earlier version the newest"));
    }
    let reading = app.catalog.state_at(graph, moment);
    let time = terms.limits.time.unwrap_or(app.limits.query_time);
    match tokio::time::timeout(time, reading).await {
        Ok(read) => Ok(Some(read?)),
        Err(_) => Err(super::time_is_up(time)),
    }
}
