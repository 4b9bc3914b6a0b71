//! Problem documents (RFC 9457): every error of the service, with the standard's status code, the position in the
//! query and a hint if available.

use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use graphodrome_language::{Diagnostic, Diagnostics, Position, Span};
use graphodrome_store::StoreError;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::written::called_at;

/// One error of a query, with its place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QueryError {
    /// `error` or `warning`.
    pub severity: String,
    /// Five characters: the standard's GQLSTATUS, or one of class R (limits of this service).
    pub code: String,
    pub message: String,
    /// From 1; absent where the error has no place in the text.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub column: Option<u32>,
    /// Bytes of the text from `start` to `end`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub start: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub end: Option<u32>,
    /// The line with the place marked below it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub excerpt: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub hint: Option<String>,
}

impl QueryError {
    pub fn new(diagnostic: &Diagnostic, text: &str) -> Self {
        let severity = match diagnostic.severity {
            graphodrome_language::Severity::Error => "error",
            graphodrome_language::Severity::Warning => "warning",
        };
        let mut error = QueryError {
            severity: severity.into(),
            code: diagnostic.code.into(),
            message: diagnostic.message.clone(),
            line: None,
            column: None,
            start: None,
            end: None,
            excerpt: None,
            hint: diagnostic.hint.clone(),
        };
        if diagnostic.span == Span::default() {
            return error;
        }
        if let Some((name, body, at)) = called_at(text, diagnostic.span.start as usize) {
            // It is in no place of what was sent.
            let Span { start, end } = diagnostic.span;
            let within = Span { start: at as u32, end: at as u32 + (end - start) };
            let position = Position::of(body, within.start);
            error.message = format!("in the saved query {name}, line {}: {}", position.line, error.message);
            error.excerpt = Some(Diagnostic { span: within, ..diagnostic.clone() }.excerpt(body));
        } else {
            let position = Position::of(text, diagnostic.span.start);
            error.line = Some(position.line);
            error.column = Some(position.column);
            error.start = Some(diagnostic.span.start);
            error.end = Some(diagnostic.span.end);
            error.excerpt = Some(diagnostic.excerpt(text));
        }
        error
    }
}

#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// `about:blank`: the status says what kind of problem it is.
    #[serde(rename = "type")]
    pub kind: String,
    pub title: String,
    pub status: u16,
    pub detail: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub code: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub hint: Option<String>,
    /// Where it is not known whether a change was written: what to ask for at `/v1/graphs/{graph}/outcomes/{ticket}`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub ticket: Option<i64>,
    /// Each error of a query.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub errors: Vec<QueryError>,
}

impl Problem {
    pub fn new(status: StatusCode, detail: impl Into<String>) -> Problem {
        Problem {
            kind: "about:blank".into(),
            title: status.canonical_reason().unwrap_or("Error").into(),
            status: status.as_u16(),
            detail: detail.into(),
            code: None,
            hint: None,
            ticket: None,
            errors: vec![],
        }
    }

    /// A mistake of the service: the log has what it was, under the number that the client is told.
    pub fn internal(error: &dyn std::fmt::Display) -> Problem {
        let id = format!("{:08x}", rand_number());
        tracing::error!(%error, id, "internal error");
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, format!("internal error {id}; see the service's log"))
    }

    pub fn bad_request(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::BAD_REQUEST, detail)
    }

    pub fn not_found(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::NOT_FOUND, detail)
    }

    pub fn hint(mut self, hint: impl Into<String>) -> Problem {
        let hint = hint.into();
        // Where the problem is a text's first error, that has the hint as well.
        if let Some(first) = self.errors.first_mut() {
            first.hint.get_or_insert_with(|| hint.clone());
        }
        self.hint = Some(hint);
        self
    }

    pub fn from_graph(error: graphodrome_graph::GraphError) -> Problem {
        StoreError::Graph(error).into()
    }

    /// Errors of a query: the first is the problem, all are listed.
    pub fn from_query(diagnostics: &Diagnostics, text: &str) -> Problem {
        let errors: Vec<QueryError> = diagnostics.0.iter().map(|d| QueryError::new(d, text)).collect();
        let first = errors.first();
        let code = first.map(|e| e.code.clone()).unwrap_or_default();
        let status = match code.as_str() {
            // Not 408, which browsers take for a request to send again.
            "R0001" => StatusCode::CONFLICT,
            c if c.starts_with("42") => StatusCode::BAD_REQUEST,
            _ => StatusCode::UNPROCESSABLE_ENTITY,
        };
        let mut problem = Problem::new(status, first.map(|e| e.message.clone()).unwrap_or_default());
        problem.hint = first.and_then(|e| e.hint.clone());
        problem.code = Some(code);
        problem.errors = errors;
        problem
    }

    pub fn from_diagnostic(diagnostic: Diagnostic, text: &str) -> Problem {
        Problem::from_query(&Diagnostics(vec![diagnostic]), text)
    }
}

/// A number that is unlikely to come twice in a log.
fn rand_number() -> u32 {
    use std::hash::{BuildHasher, Hasher, RandomState};
    RandomState::new().build_hasher().finish() as u32
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        let status = match &error {
            StoreError::NoGraph(_) | StoreError::NoGraphType(_) | StoreError::NoVersion { .. } => {
                StatusCode::NOT_FOUND
            }
            StoreError::Exists { .. }
            | StoreError::InUse { .. }
            | StoreError::Shared(_)
            | StoreError::Conflict => StatusCode::CONFLICT,
            StoreError::Graph(_) => StatusCode::UNPROCESSABLE_ENTITY,
            StoreError::Database(_)
            | StoreError::Driver(_)
            | StoreError::Away(_)
            | StoreError::Lost
            | StoreError::Closed(_)
            | StoreError::Fenced(_)
            | StoreError::Offline { .. } => StatusCode::SERVICE_UNAVAILABLE,
            StoreError::Unknown { .. } => StatusCode::GATEWAY_TIMEOUT,
            StoreError::Damaged(_) | StoreError::Server(_) => StatusCode::INTERNAL_SERVER_ERROR,
        };
        let mut problem = Problem::new(status, error.to_string());
        if let StoreError::Graph(graph) = &error {
            problem.code = Some(graph.code.0.into());
            problem.detail = graph.message.clone();
            problem.hint = graph.hint.clone();
        }
        match &error {
            StoreError::Shared(_) => {
                problem.hint =
                    Some("give the new type another name: the other graph keeps the old one".into());
            }
            // The standard's code for a transaction of which it is not known how it ended.
            StoreError::Unknown { graph, ticket } => {
                problem.code = Some("08007".into());
                problem.ticket = Some(*ticket);
                problem.hint =
                    Some(format!("ask GET /v1/graphs/{graph}/outcomes/{ticket} before you send it again"));
            }
            StoreError::Away(_) | StoreError::Lost => {
                problem.code = Some("08006".into());
                problem.hint = Some("nothing was written: send it again".into());
            }
            StoreError::Closed(_) => {
                problem.hint = Some("start the service again: it reads what is stored, and checks it".into());
            }
            StoreError::NoVersion { .. } => {
                problem.hint = Some("graph history lists the versions that are kept".into());
            }
            StoreError::Offline { .. } => {
                problem.hint = Some(
                    "the other graphs are not touched; graph verify says what is damaged and up to which version it can be read, graph restore opens it with that version; DROP GRAPH or CREATE OR REPLACE GRAPH remove it"
                        .into(),
                );
            }
            _ => {}
        }
        problem
    }
}

impl From<tokio::task::JoinError> for Problem {
    fn from(error: tokio::task::JoinError) -> Self {
        Problem::internal(&error)
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(self)).into_response();
        if status == StatusCode::SERVICE_UNAVAILABLE {
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
        }
        response
            .headers_mut()
            .insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        response
    }
}
