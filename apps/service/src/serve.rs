//! Connections and their requests. A short query with a cached plan is answered immediately; all other requests,
//! and anything unusual, go to the routes, so that errors are reported in one place.

use std::convert::Infallible;
use std::future::Future;
use std::io::ErrorKind;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::body::{Body, Bytes};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, Request, Response, StatusCode, header};
use axum::response::IntoResponse;
use futures::FutureExt;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use tokio::net::TcpListener;
use tokio::sync::Semaphore;
use tokio_io_timeout::TimeoutStream;
use tower::ServiceExt;

use crate::problem::Problem;
use crate::stalled::STALLED;
use crate::state::App;
use crate::{guard, routes, run};

/// How long a client may take to send a request's headers; an idle connection is closed after it too.
const HEADERS: Duration = Duration::from_secs(75);
/// A query with a body larger than that goes to the routes.
const SMALL_BODY: usize = 64 << 10;
/// After an error that is not the client's, such as too many open files.
const ACCEPT_AGAIN: Duration = Duration::from_millis(100);

/// Serves until `stop` is done and the requests that run by then are answered.
pub async fn serve(listener: TcpListener, app: Arc<App>, router: Router, stop: impl Future<Output = ()>) {
    let graceful = GracefulShutdown::new();
    let mut stop = std::pin::pin!(stop);
    let connections = Arc::new(Semaphore::new(app.limits.connections));
    loop {
        // Where all connections are taken further ones wait in the system's queue.
        let permit = tokio::select! {
            permit = connections.clone().acquire_owned() => permit,
            () = &mut stop => break,
        };
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = &mut stop => break,
        };
        let stream = match accepted {
            Ok((stream, _)) => stream,
            Err(error) => {
                let gone =
                    [ErrorKind::ConnectionAborted, ErrorKind::ConnectionRefused, ErrorKind::ConnectionReset];
                if !gone.contains(&error.kind()) {
                    tracing::warn!(%error, "a connection could not be taken");
                    tokio::time::sleep(ACCEPT_AGAIN).await;
                }
                continue;
            }
        };
        // Answers are written whole: waiting for more would only delay them.
        let _ = stream.set_nodelay(true);
        let mut stream = TimeoutStream::new(stream);
        stream.set_write_timeout(Some(STALLED));
        let (app, router) = (app.clone(), router.clone());
        let service = service_fn(move |request| unharmed(answer(app.clone(), router.clone(), request)));
        let connection = http1::Builder::new()
            .timer(TokioTimer::new())
            .header_read_timeout(HEADERS)
            .writev(false)
            .serve_connection(TokioIo::new(Box::pin(stream)), service);
        let connection = graceful.watch(connection);
        tokio::spawn(async move {
            let _permit = permit;
            if let Err(error) = connection.await {
                tracing::debug!(%error, "a connection ended badly");
            }
        });
    }
    drop(listener);
    graceful.shutdown().await;
}

/// The answer; a panic on the way to it is one as well, and harms nobody else.
async fn unharmed(
    answer: impl Future<Output = Result<Response<Body>, Infallible>>,
) -> Result<Response<Body>, Infallible> {
    match AssertUnwindSafe(answer).catch_unwind().await {
        Ok(answer) => answer,
        Err(panic) => {
            let said = panic.downcast_ref::<&str>().map(|text| text.to_string());
            let said = said.or_else(|| panic.downcast_ref::<String>().cloned());
            Ok(Problem::internal(&said.unwrap_or_else(|| "a panic".into())).into_response())
        }
    }
}

async fn answer(
    app: Arc<App>, router: Router, request: Request<Incoming>,
) -> Result<Response<Body>, Infallible> {
    if app.is_draining() {
        let mut response =
            Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping").into_response();
        response.headers_mut().insert(header::CONNECTION, header::HeaderValue::from_static("close"));
        return Ok(response);
    }
    if !is_small_query(&app, &request) {
        return router.oneshot(request.map(Body::new)).await;
    }
    let (parts, body) = request.into_parts();
    let body = match tokio::time::timeout(STALLED, body.collect()).await {
        Ok(Ok(body)) => body.to_bytes(),
        // The client went away while it sent.
        Ok(Err(_)) => Bytes::new(),
        Err(_) => {
            let text = format!("the request's body did not come within {} s", STALLED.as_secs());
            return Ok(Problem::new(StatusCode::REQUEST_TIMEOUT, text).into_response());
        }
    };
    if let Some(response) = at_once(&app, &parts, &body).await {
        return Ok(response);
    }
    router.oneshot(Request::from_parts(parts, Body::from(body))).await
}

fn text<'h>(headers: &'h HeaderMap, name: &header::HeaderName) -> Option<&'h str> {
    headers.get(name)?.to_str().ok()
}

/// Whether it asks a query in the plain form, of which nobody wants to be told in the log.
fn is_small_query(app: &App, request: &Request<Incoming>) -> bool {
    let headers = request.headers();
    request.method() == Method::POST
        && request.uri().path() == routes::QUERY
        && text(headers, &header::CONTENT_TYPE) == Some("application/json")
        && !headers.contains_key(header::ACCEPT_ENCODING)
        && !headers.contains_key("traceparent")
        && text(headers, &header::CONTENT_LENGTH)
            .and_then(|length| length.parse().ok())
            .is_some_and(|length: usize| length <= SMALL_BODY.min(app.limits.body_bytes))
        && guard::refusal(request).is_none()
        && !tracing::enabled!(tracing::Level::DEBUG)
}

async fn at_once(app: &Arc<App>, parts: &Parts, body: &[u8]) -> Option<Response<Body>> {
    let format = routes::accepted(&parts.headers).ok()?;
    let asked = serde_json::from_slice(body).ok()?;
    let mut response = run::at_once(app, asked, format, &parts.headers).await?;
    guard::mark(response.headers_mut());
    Some(response)
}
