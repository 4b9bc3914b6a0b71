//! Requests that the service itself makes: for tables at an address, and of traces to their collector. Nothing of the
//! environment decides where they go, and redirects are left to whoever asks.

use std::error::Error;
use std::time::Duration;

use bytes::Bytes;
use http_body_util::Full;
use hyper_rustls::{HttpsConnector, HttpsConnectorBuilder};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::TokioExecutor;

/// Until a connection stands.
const CONNECT_TIME: Duration = Duration::from_secs(10);

pub(crate) type Outgoing = Client<HttpsConnector<HttpConnector>, Full<Bytes>>;

/// A client that trusts the certificates that browsers trust.
pub(crate) fn client() -> Outgoing {
    let mut connector = HttpConnector::new();
    connector.set_connect_timeout(Some(CONNECT_TIME));
    connector.enforce_http(false);
    let https = HttpsConnectorBuilder::new()
        .with_webpki_roots()
        .https_or_http()
        .enable_http1()
        .wrap_connector(connector);
    Client::builder(TokioExecutor::new()).build(https)
}

/// What went wrong in the end.
pub(crate) fn reason(error: &(dyn Error + 'static)) -> String {
    let mut deepest = error;
    while let Some(source) = deepest.source() {
        deepest = source;
    }
    deepest.to_string()
}
