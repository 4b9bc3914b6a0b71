//! Uploads: the fields of a form into temporary files without names.

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Arc;

use axum::extract::{FromRequest, Multipart, Request};
use axum::http::StatusCode;
use graphodrome_formats::{Mapping, MappingError, Source};

use crate::problem::Problem;
use crate::state::App;

pub(crate) type Sources = BTreeMap<String, Arc<Source>>;

/// A form with texts and files.
pub(crate) struct Upload {
    pub texts: BTreeMap<String, String>,
    pub sources: Sources,
}

impl Upload {
    pub fn mapping(&self) -> Result<Mapping, Problem> {
        let text = self.texts.get("mapping");
        let text = text.ok_or_else(|| Problem::bad_request("the upload has no field mapping"))?;
        Mapping::parse(text).map_err(mapping_problem)
    }
}

pub(crate) fn too_large(limit: u64) -> Problem {
    Problem::new(
        StatusCode::PAYLOAD_TOO_LARGE,
        format!("the upload is larger than the limit of {} MiB", limit >> 20),
    )
    .hint("load it in parts, or start the service with a larger --max-upload-mib")
}

/// Reads a form: fields named in `texts` are texts, all others are files.
pub(crate) async fn receive(app: &App, request: Request, texts: &[&str]) -> Result<Upload, Problem> {
    let mut form = Multipart::from_request(request, &()).await.map_err(|e| {
        Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, e.body_text())
            .hint("send multipart/form-data with a field mapping and a field per file")
    })?;
    let broken = |e: axum::extract::multipart::MultipartError| Problem::new(e.status(), e.body_text());
    let spool = |e: std::io::Error| {
        Problem::new(StatusCode::INSUFFICIENT_STORAGE, format!("the upload cannot be kept: {e}"))
            .hint("free some space in the temporary folder, or point TMPDIR at another one")
    };
    let mut upload = Upload { texts: BTreeMap::new(), sources: Sources::new() };
    let limit = app.limits.upload_bytes;
    let mut total = 0u64;
    while let Some(mut field) = form.next_field().await.map_err(broken)? {
        let name = field.name().unwrap_or_default().to_string();
        if texts.contains(&name.as_str()) {
            let mut text = vec![];
            while let Some(chunk) = field.chunk().await.map_err(broken)? {
                text.extend_from_slice(&chunk);
                if text.len() > app.limits.body_bytes {
                    return Err(Problem::new(
                        StatusCode::PAYLOAD_TOO_LARGE,
                        format!("the field {name} is larger than {} KiB", app.limits.body_bytes >> 10),
                    ));
                }
            }
            let text = String::from_utf8(text)
                .map_err(|_| Problem::bad_request(format!("the field {name} is not UTF-8")))?;
            upload.texts.insert(name, text);
            continue;
        }
        let mut file = tempfile::tempfile().map_err(spool)?;
        while let Some(chunk) = field.chunk().await.map_err(broken)? {
            total += chunk.len() as u64;
            if total > limit {
                return Err(too_large(limit));
            }
            file.write_all(&chunk).map_err(spool)?;
        }
        let source = Source::of_temporary(&file).map_err(spool)?;
        upload.sources.insert(name, Arc::new(source));
    }
    Ok(upload)
}

pub(crate) fn mapping_problem(error: MappingError) -> Problem {
    let place = match (error.line, error.column) {
        (Some(line), Some(column)) => format!(" (line {line}, column {column})"),
        _ => String::new(),
    };
    Problem::bad_request(format!("{}{place}", error.message))
}
