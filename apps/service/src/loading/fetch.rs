//! Sources that the service gets itself: files of the served folder, and addresses whose hosts it was
//! started with. Nothing else on this machine or another is ever opened.

use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use graphodrome_formats::{Mapping, Progress, Source, fits_pattern, is_pattern};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::{Response, Uri};
use tokio::io::AsyncWriteExt;
use url::Url;

use crate::loading::upload::Sources;
use crate::outgoing;
use crate::state::App;

/// What a file of the served folder is called in a mapping.
const SERVED: &str = "served:";
/// How long a cancelled load may go unnoticed.
const ASKED_EVERY: Duration = Duration::from_millis(200);
/// Redirects that are followed, each to an allowed host.
const MOST_REDIRECTS: usize = 5;
/// Files of the served folder that a pattern may look through.
const MOST_FILES: usize = 100_000;
/// Bytes after which a copy asks whether to go on.
const COPIED_AT_ONCE: usize = 32 << 20;
/// Until an answer begins, and between its pieces.
const ANSWER_TIME: Duration = Duration::from_secs(60);

fn is_address(name: &str) -> bool {
    name.starts_with("http://") || name.starts_with("https://")
}

/// Adds what the mapping names and the upload did not bring. What they hold together may be `limit` bytes.
pub(crate) async fn fetch(
    app: &Arc<App>, mapping: &Mapping, sources: &mut Sources, progress: &Arc<Progress>,
) -> Result<(), String> {
    let mut left = app.limits.upload_bytes;
    for source in sources.values() {
        left = left.saturating_sub(source.bytes().len() as u64);
    }
    for table in mapping.tables.iter().filter(|t| t.query.is_none()) {
        let name = table.file.as_str();
        if sources.contains_key(name) {
            continue;
        }
        if let Some(path) = name.strip_prefix(SERVED) {
            let (app, path, progress) = (app.clone(), path.to_string(), progress.clone());
            let limit = left;
            let found = tokio::task::spawn_blocking(move || from_folder(&app, &path, limit, &progress));
            for (name, source) in found.await.map_err(|e| e.to_string())?? {
                left = left.saturating_sub(source.bytes().len() as u64);
                sources.insert(name, Arc::new(source));
            }
        } else if is_address(name) {
            let source = from_address(app, name, left, progress).await?;
            left = left.saturating_sub(source.bytes().len() as u64);
            sources.insert(name.to_string(), Arc::new(source));
        }
    }
    Ok(())
}

fn over_limit(app: &App, name: &str) -> String {
    format!("{name} is larger than what is left of the limit of {} MiB", app.limits.upload_bytes >> 20)
}

/// The files of the served folder that a path or a pattern names.
fn from_folder(
    app: &App, path: &str, mut left: u64, progress: &Progress,
) -> Result<Vec<(String, Source)>, String> {
    let folder = app.limits.table_dir.as_ref().ok_or_else(|| {
        format!("{SERVED}{path}: the service was started without a folder of tables (serve --table-dir)")
    })?;
    let folder = folder.canonicalize().map_err(|e| format!("the served folder cannot be read: {e}"))?;
    let outside = |path: &str| format!("{SERVED}{path}: only files within the served folder are read");
    let plain = Path::new(path).components().all(|c| matches!(c, std::path::Component::Normal(_)));
    if !plain || path.is_empty() {
        return Err(outside(path));
    }
    let mut names = vec![];
    if is_pattern(path) {
        let mut seen = 0;
        walk(&folder, "", path, &mut names, &mut seen)?;
        names.sort();
        if names.is_empty() {
            return Err(format!("{SERVED}{path}: no file of the served folder has a name that fits"));
        }
    } else {
        names.push(path.to_string());
    }
    let mut found = vec![];
    for name in names {
        if progress.is_cancelled() {
            return Err("cancelled".into());
        }
        let failed = |e: std::io::Error| format!("{SERVED}{name}: {e}");
        // A link may lead anywhere: what counts is where the file is.
        let place = folder.join(&name).canonicalize().map_err(failed)?;
        if !place.starts_with(&folder) {
            return Err(format!("{}: it is a link to a place outside", outside(&name)));
        }
        let source = copied(&place, &format!("{SERVED}{name}"), left, progress)
            .map_err(|e| e.unwrap_or_else(|| over_limit(app, &name)))?;
        left = left.saturating_sub(source.bytes().len() as u64);
        found.push((format!("{SERVED}{name}"), source));
    }
    Ok(found)
}

fn walk(
    folder: &Path, within: &str, pattern: &str, names: &mut Vec<String>, seen: &mut usize,
) -> Result<(), String> {
    let entries = std::fs::read_dir(folder).map_err(|e| format!("the served folder cannot be read: {e}"))?;
    for entry in entries.flatten() {
        *seen += 1;
        if *seen > MOST_FILES {
            return Err(format!(
                "the served folder has more than {MOST_FILES} files: name one without * and ?"
            ));
        }
        let name = format!("{within}{}", entry.file_name().to_string_lossy());
        match entry.file_type() {
            Ok(kind) if kind.is_dir() => {
                walk(&entry.path(), &format!("{name}/"), pattern, names, seen)?;
            }
            Ok(_) if fits_pattern(&name, pattern) => names.push(name),
            _ => {}
        }
    }
    Ok(())
}

/// What is read, in a temporary file, with its length; `None` where it is larger than the limit.
fn spooled(
    from: &mut dyn Read, name: &str, limit: u64, progress: &Progress,
) -> Result<(File, u64), Option<String>> {
    let failed = |e: std::io::Error| Some(format!("{name}: {e}"));
    let mut to = tempfile::tempfile().map_err(failed)?;
    let mut buffer = vec![0u8; 1 << 20];
    let mut total = 0u64;
    loop {
        if progress.is_cancelled() {
            return Err(Some("cancelled".into()));
        }
        let length = from.read(&mut buffer).map_err(failed)?;
        if length == 0 {
            return Ok((to, total));
        }
        total += length as u64;
        if total > limit {
            return Err(None);
        }
        to.write_all(&buffer[..length]).map_err(failed)?;
    }
}

/// A copy that the system makes without handing the bytes over, with its length; `None` where it cannot.
fn copied_by_system(
    from: &File, name: &str, limit: u64, progress: &Progress,
) -> Result<Option<(File, u64)>, Option<String>> {
    let failed = |e: std::io::Error| Some(format!("{name}: {e}"));
    let to = tempfile::tempfile().map_err(failed)?;
    let mut total = 0u64;
    loop {
        if progress.is_cancelled() {
            return Err(Some("cancelled".into()));
        }
        if total > limit {
            return Err(None);
        }
        match rustix::fs::copy_file_range(from, None, &to, None, COPIED_AT_ONCE) {
            Ok(0) if total == 0 => return Ok(None),
            Ok(0) => return Ok(Some((to, total))),
            Ok(length) => total += length as u64,
            Err(_) if total == 0 => return Ok(None),
            Err(error) => return Err(failed(error.into())),
        }
    }
}

/// A private copy of a file, so that nobody changes it while it is read; an error where somebody did so
/// while it was copied, `None` where it is larger than the limit.
fn copied(path: &PathBuf, name: &str, limit: u64, progress: &Progress) -> Result<Source, Option<String>> {
    let failed = |e: std::io::Error| Some(format!("{name}: {e}"));
    let mut from = File::open(path).map_err(failed)?;
    let before = from.metadata().map_err(failed)?;
    if !before.is_file() {
        return Err(Some(format!("{name} is no file")));
    }
    if before.len() > limit {
        return Err(None);
    }
    let (to, total) = match copied_by_system(&from, name, limit, progress)? {
        Some(copied) => copied,
        None => spooled(&mut from, name, limit, progress)?,
    };
    let after = from.metadata().map_err(failed)?;
    let same = total == before.len()
        && after.len() == before.len()
        && after.modified().ok() == before.modified().ok();
    if !same {
        return Err(Some(format!("{name} changed while it was read; load it when it is complete")));
    }
    Source::of_temporary(&to).map_err(failed)
}

/// The file at an address whose host the service may ask. Redirects are followed to hosts that it may ask
/// too, and nothing of the environment decides where it goes.
async fn from_address(app: &App, address: &str, limit: u64, progress: &Progress) -> Result<Source, String> {
    let client = outgoing::client();
    let parsed = |text: &str| Url::parse(text).map_err(|e| format!("{text}: {e}"));
    let mut at = parsed(address)?;
    for _ in 0..=MOST_REDIRECTS {
        allowed(&app.limits.table_hosts, &at)?;
        let uri: Uri = at.as_str().parse().map_err(|e| format!("{at}: {e}"))?;
        let answer = within(ANSWER_TIME, client.get(uri), progress)
            .await?
            .ok_or_else(|| format!("{at} did not answer within {} s", ANSWER_TIME.as_secs()))?
            .map_err(|e| format!("{at}: {}", outgoing::reason(&e)))?;
        if answer.status().is_redirection() {
            let location = answer.headers().get("location").and_then(|l| l.to_str().ok());
            let location = location.ok_or_else(|| format!("{at} redirects to nowhere"))?;
            at = at.join(location).map_err(|e| format!("{at} redirects to {location}: {e}"))?;
            continue;
        }
        if !answer.status().is_success() {
            return Err(format!("{at} answered {}", answer.status()));
        }
        let file = received(app, answer, address, limit, progress).await?;
        return Source::of_temporary(&file).map_err(|e| format!("{address} cannot be kept: {e}"));
    }
    Err(format!("{address} redirects more than {MOST_REDIRECTS} times"))
}

/// What the work gives, unless the load is cancelled; `None` where it takes too long.
async fn within<T>(
    time: Duration, work: impl Future<Output = T>, progress: &Progress,
) -> Result<Option<T>, String> {
    let ends = Instant::now() + time;
    tokio::pin!(work);
    loop {
        if let Ok(done) = tokio::time::timeout(ASKED_EVERY, &mut work).await {
            return Ok(Some(done));
        }
        if progress.is_cancelled() {
            return Err("cancelled".into());
        }
        if Instant::now() > ends {
            return Ok(None);
        }
    }
}

/// The body of an answer in a temporary file.
async fn received(
    app: &App, answer: Response<Incoming>, address: &str, limit: u64, progress: &Progress,
) -> Result<File, String> {
    let failed = |e: std::io::Error| format!("{address} cannot be kept: {e}");
    let mut to = tokio::fs::File::from_std(tempfile::tempfile().map_err(failed)?);
    let mut total = 0u64;
    let mut body = answer.into_body();
    loop {
        let piece = within(ANSWER_TIME, body.frame(), progress)
            .await?
            .ok_or_else(|| format!("{address} sent nothing for {} s", ANSWER_TIME.as_secs()))?
            .transpose()
            .map_err(|e| format!("{address}: {}", outgoing::reason(&e)))?;
        let Some(piece) = piece.map(|frame| frame.into_data().unwrap_or_default()) else {
            to.flush().await.map_err(failed)?;
            return Ok(to.into_std().await);
        };
        total += piece.len() as u64;
        if total > limit {
            return Err(over_limit(app, address));
        }
        to.write_all(&piece).await.map_err(failed)?;
    }
}

/// Whether the configuration names the host, with its port or for every port.
pub fn allowed(hosts: &[String], url: &Url) -> Result<(), String> {
    let host = url.host_str().unwrap_or_default();
    let with_port = format!("{host}:{}", url.port_or_known_default().unwrap_or(0));
    let is_http = matches!(url.scheme(), "http" | "https");
    if is_http && hosts.iter().any(|h| h.eq_ignore_ascii_case(host) || h.eq_ignore_ascii_case(&with_port)) {
        return Ok(());
    }
    let known = match hosts {
        [] => "it names none".to_string(),
        hosts => format!("it names {}", hosts.join(", ")),
    };
    Err(format!(
        "the host {with_port} is not one that the service may load from (serve --table-host; {known})"
    ))
}
