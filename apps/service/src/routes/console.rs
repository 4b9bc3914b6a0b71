//! The console's files, held in the binary.

use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../console/dist/"]
#[allow_missing = true]
struct Files;

/// A file by its path; any other path is a page of the console, which finds its own way.
pub(crate) fn file(path: &str) -> Response {
    let name = path.trim_start_matches('/');
    if let Some(file) = Files::get(name).filter(|_| !name.is_empty()) {
        let kind = mime_guess::from_path(name).first_or_octet_stream();
        let cache =
            if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
        return ([(header::CONTENT_TYPE, kind.as_ref()), (header::CACHE_CONTROL, cache)], file.data)
            .into_response();
    }
    if name.starts_with("assets/") {
        return crate::problem::Problem::not_found(format!("there is no file {path}")).into_response();
    }
    let policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; frame-ancestors 'none'";
    match Files::get("index.html") {
        Some(page) => (
            [
                (header::CONTENT_TYPE, "text/html; charset=utf-8"),
                (header::CACHE_CONTROL, "no-cache"),
                (header::CONTENT_SECURITY_POLICY, policy),
            ],
            page.data,
        )
            .into_response(),
        None => (
            StatusCode::NOT_FOUND,
            "This binary was built without the console: run npm ci and npm run build in apps/console, then build it again.\n",
        )
            .into_response(),
    }
}
