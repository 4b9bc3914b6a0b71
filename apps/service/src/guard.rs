//! Who may talk to the service: requests that name a loopback host, and, where a browser says which
//! page they come from, only pages of the service itself. So a web page elsewhere cannot reach it,
//! not even by making its own name resolve to 127.0.0.1.

use axum::extract::Request;
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::problem::Problem;

fn is_loopback_host(host: &str) -> bool {
    let name = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or(""),
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

pub async fn check(request: Request, next: Next) -> Response {
    let headers = request.headers();
    let host = headers.get(header::HOST).and_then(|h| h.to_str().ok()).map(str::to_string);
    let host = host.or_else(|| request.uri().authority().map(|a| a.to_string()));
    let refused = match host {
        Some(host) if is_loopback_host(&host) => None,
        Some(host) => Some(format!(
            "the host {host} is not this service's: it answers to localhost, 127.0.0.1 and [::1]"
        )),
        None => Some("the request names no host".into()),
    };
    if let Some(detail) = refused {
        return Problem::new(StatusCode::FORBIDDEN, detail).into_response();
    }
    if let Some(origin) = headers.get(header::ORIGIN).map(|o| o.to_str().unwrap_or("").to_string())
        && !is_own_origin(headers, &origin)
    {
        let detail = format!("requests from pages of {origin} are refused");
        return Problem::new(StatusCode::FORBIDDEN, detail).into_response();
    }
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, header::HeaderValue::from_static("nosniff"));
    headers.insert(header::X_FRAME_OPTIONS, header::HeaderValue::from_static("DENY"));
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_loopback_names_are_taken() {
        for host in ["localhost", "localhost:8620", "127.0.0.1:8620", "[::1]:8620", "LOCALHOST:1"] {
            assert!(is_loopback_host(host), "{host}");
        }
        for host in
            ["example.org", "127.0.0.1.example.org:8620", "localhost.example.org", "10.0.0.1:8620", ""]
        {
            assert!(!is_loopback_host(host), "{host}");
        }
    }
}
