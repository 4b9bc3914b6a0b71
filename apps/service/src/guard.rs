//! Access control: requests must name a loopback host, and browser requests must come from pages of the service
//! itself. A web page elsewhere cannot reach it, even if its own name resolves to 127.0.0.1.

use axum::extract;
use axum::http::{HeaderMap, Request, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::problem::Problem;
use crate::traces::TraceParent;
use crate::who;

pub fn is_loopback_host(host: &str) -> bool {
    let name = match host.strip_prefix('[') {
        Some(rest) => match rest.split_once(']') {
            Some((name, "")) => name,
            Some((name, port)) if port.starts_with(':') && port[1..].bytes().all(|b| b.is_ascii_digit()) => {
                name
            }
            _ => "",
        },
        None => host
            .rsplit_once(':')
            .map_or(host, |(name, port)| if port.bytes().all(|b| b.is_ascii_digit()) { name } else { host }),
    };
    name.eq_ignore_ascii_case("localhost") || name == "127.0.0.1" || name == "::1"
}

fn is_own_origin(headers: &HeaderMap, origin: &str) -> bool {
    let Some(authority) = origin.strip_prefix("http://") else { return false };
    let host = headers.get(header::HOST).and_then(|h| h.to_str().ok()).unwrap_or("");
    authority.eq_ignore_ascii_case(host)
}

/// Why a request is refused, where it is.
pub fn refusal<B>(request: &Request<B>) -> Option<Problem> {
    let headers = request.headers();
    let named = headers.get(header::HOST).and_then(|h| h.to_str().ok());
    let refused = match named.or_else(|| request.uri().authority().map(|a| a.as_str())) {
        Some(host) if is_loopback_host(host) => None,
        Some(host) => Some(format!(
            "the host {host} is not this service's: it answers to localhost, 127.0.0.1 and [::1]"
        )),
        None => Some("the request names no host".into()),
    };
    let foreign = || {
        let origin = headers.get(header::ORIGIN)?.to_str().unwrap_or("");
        (!is_own_origin(headers, origin)).then(|| format!("requests from pages of {origin} are refused"))
    };
    refused.or_else(foreign).map(|detail| Problem::new(StatusCode::FORBIDDEN, detail))
}

/// What every answer says to browsers.
pub fn mark(headers: &mut HeaderMap) {
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, header::HeaderValue::from_static("nosniff"));
    headers.insert(header::X_FRAME_OPTIONS, header::HeaderValue::from_static("DENY"));
}

pub async fn check(request: extract::Request, next: Next) -> Response {
    if let Some(problem) = refusal(&request) {
        return problem.into_response();
    }
    let client = who::named_by(request.headers());
    let trace = TraceParent::of(request.headers());
    let mut response = who::traced(trace, who::asked_by(client, next.run(request))).await;
    mark(response.headers_mut());
    response
}
