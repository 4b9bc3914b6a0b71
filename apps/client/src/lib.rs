//! The typed HTTP client: the only way the command line and the tests call the service.

pub mod reports;

use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use reqwest::header::{ACCEPT, CONTENT_TYPE, FROM, HeaderMap, HeaderValue};
use reqwest::multipart::{Form, Part};
use reqwest::{Method, Response};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

pub use graphodrome_records::{Job, JobProgress, JobState, Reject, Rejects};

/// One error or warning of a query.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
pub struct QueryError {
    pub severity: String,
    pub code: String,
    pub message: String,
    pub line: Option<u32>,
    pub column: Option<u32>,
    pub excerpt: Option<String>,
    pub hint: Option<String>,
}

impl QueryError {
    /// Several lines for a terminal.
    pub fn render(&self) -> String {
        let mut out = format!("{} {}: {}", self.severity, self.code, self.message);
        if let (Some(line), Some(column)) = (self.line, self.column) {
            out.push_str(&format!("\n  at line {line}, column {column}"));
        }
        if let Some(excerpt) = &self.excerpt {
            out.push_str(&format!("\n{excerpt}"));
        }
        if let Some(hint) = &self.hint {
            out.push_str(&format!("\nhint: {hint}"));
        }
        out
    }
}

/// A problem document (RFC 9457).
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
pub struct Problem {
    pub title: String,
    pub status: u16,
    pub detail: String,
    pub code: Option<String>,
    pub hint: Option<String>,
    /// What to ask by whether a change was written, where that is not known.
    pub ticket: Option<i64>,
    #[serde(default)]
    pub errors: Vec<QueryError>,
}

#[derive(Debug, thiserror::Error)]
pub enum ClientError {
    #[error("{}", show(.0))]
    Problem(Box<Problem>),
    #[error("the service at {url} cannot be reached: {reason}\nhint: start it with: graphodrome serve")]
    Unreachable { url: String, reason: String },
    #[error("the answer broke off: {0}")]
    Broken(String),
    #[error("{0}")]
    File(String),
}

/// Reads an answer of the service, however deep: operators of a plan lie in each other, and there may be hundreds.
fn read_json<T: DeserializeOwned>(bytes: &[u8]) -> serde_json::Result<T> {
    let mut reader = serde_json::Deserializer::from_slice(bytes);
    reader.disable_recursion_limit();
    let read = T::deserialize(&mut reader)?;
    reader.end()?;
    Ok(read)
}

fn show(problem: &Problem) -> String {
    if !problem.errors.is_empty() {
        return problem.errors.iter().map(QueryError::render).collect::<Vec<_>>().join("\n\n");
    }
    let code = problem.code.as_ref().map(|c| format!(" {c}")).unwrap_or_default();
    let hint = problem.hint.as_ref().map(|h| format!("\nhint: {h}")).unwrap_or_default();
    format!("error{code}: {}{hint}", problem.detail)
}

#[derive(Clone, Debug, Default, Serialize)]
pub struct QueryRequest {
    pub text: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub graph: Option<String>,
    /// The version of the graph to read, or the time whose newest version is meant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_version: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_timestamp: Option<String>,
    #[serde(skip_serializing_if = "Map::is_empty")]
    pub parameters: Map<String, Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub timeout_ms: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_rows: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_memory_bytes: Option<u64>,
    /// Rules of the planner that are not used; `all` for every one of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rules_off: Vec<String>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub truncate: bool,
    /// The session it belongs to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub session: Option<String>,
}

#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct Column {
    pub name: String,
    /// node, edge, path or value.
    pub kind: String,
}

#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct QueryResult {
    pub columns: Vec<Column>,
    pub rows: Vec<Vec<Value>>,
    #[serde(default)]
    pub summary: Value,
    #[serde(default)]
    pub warnings: Vec<QueryError>,
    /// Why the rows are not all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<Problem>,
}

/// Looks at a result that is handed on piece by piece: whether it ends with an error behind its rows.
#[derive(Default)]
pub struct ErrorWatch {
    tail: Vec<u8>,
}

/// A problem document is shorter than that.
const LONGEST_PROBLEM: usize = 64 << 10;

impl ErrorWatch {
    pub fn see(&mut self, piece: &[u8]) {
        self.tail.extend_from_slice(piece);
        let excess = self.tail.len().saturating_sub(LONGEST_PROBLEM);
        self.tail.drain(..excess);
    }

    /// An error where there was one: the field `error` at the end of a JSON object, or a last line of NDJSON
    /// that has nothing else.
    pub fn finish(&self) -> Result<()> {
        let text = String::from_utf8_lossy(&self.tail);
        let line = text.trim_end().rsplit('\n').next().unwrap_or_default();
        let place = if line.starts_with("{\"error\":{\"type\":") {
            Some(1)
        } else {
            line.rfind("],\"error\":{\"type\":")
        };
        let Some(found) = place.and_then(|at| line.get(at..)) else { return Ok(()) };
        let Some((_, document)) = found.split_once("\"error\":") else { return Ok(()) };
        match document.strip_suffix('}').map(serde_json::from_str) {
            Some(Ok(problem)) => Err(ClientError::Problem(Box::new(problem))),
            _ => Ok(()),
        }
    }
}

#[derive(Clone)]
pub struct Client {
    url: String,
    /// The same, read once.
    base: Option<reqwest::Url>,
    http: reqwest::Client,
}

pub type Result<T> = std::result::Result<T, ClientError>;

/// A path of these parts, whatever is in them, with a query.
pub fn path_of(parts: &[&str], query: &[(&str, &str)]) -> String {
    let Ok(mut url) = reqwest::Url::parse("http://service/") else { return String::new() };
    if let Ok(mut segments) = url.path_segments_mut() {
        segments.extend(parts);
    }
    if !query.is_empty() {
        url.query_pairs_mut().extend_pairs(query);
    }
    let query = url.query().map_or(String::new(), |query| format!("?{query}"));
    format!("{}{query}", url.path())
}

impl Client {
    pub fn new(url: &str) -> Client {
        Client::asking_for(url, None)
    }

    /// A client whose requests say for whom they are, which the history of a graph shows.
    pub fn asking_for(url: &str, person: Option<&str>) -> Client {
        let mut headers = HeaderMap::new();
        if let Some(person) = person.and_then(|person| HeaderValue::from_str(person).ok()) {
            headers.insert(FROM, person);
        }
        let program = concat!("graphodrome/", env!("CARGO_PKG_VERSION"));
        let builder = reqwest::Client::builder().no_proxy().user_agent(program).default_headers(headers);
        let http = builder.build().unwrap_or_default();
        let url = url.trim_end_matches('/').to_string();
        Client { base: url.parse().ok(), url, http }
    }

    pub fn url(&self) -> &str {
        &self.url
    }

    fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        // Only the path has to be read.
        match self.base.as_ref().filter(|base| base.path() == "/").and_then(|base| base.join(path).ok()) {
            Some(url) => self.http.request(method, url),
            None => self.http.request(method, format!("{}{path}", self.url)),
        }
    }

    async fn send(&self, request: reqwest::RequestBuilder) -> Result<Response> {
        let response = request.send().await.map_err(|e| {
            let mut reason: &dyn std::error::Error = &e;
            while let Some(source) = reason.source() {
                reason = source;
            }
            ClientError::Unreachable { url: self.url.clone(), reason: reason.to_string() }
        })?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let text = response.text().await.map_err(|e| ClientError::Broken(e.to_string()))?;
        let problem = serde_json::from_str(&text).unwrap_or_else(|_| Problem {
            title: status.to_string(),
            status: status.as_u16(),
            detail: text,
            ..Problem::default()
        });
        Err(ClientError::Problem(Box::new(problem)))
    }

    async fn json<T: DeserializeOwned>(&self, request: reqwest::RequestBuilder) -> Result<T> {
        let bytes =
            self.send(request).await?.bytes().await.map_err(|e| ClientError::Broken(e.to_string()))?;
        read_json(&bytes).map_err(|e| ClientError::Broken(e.to_string()))
    }

    pub async fn get(&self, path: &str) -> Result<Value> {
        self.json(self.request(Method::GET, path)).await
    }

    /// An answer in another format than JSON, as text.
    pub async fn get_as(&self, path: &str, media_type: &str) -> Result<String> {
        let response = self.send(self.request(Method::GET, path).header(ACCEPT, media_type)).await?;
        response.text().await.map_err(|e| ClientError::Broken(e.to_string()))
    }

    /// Any method with a JSON body; null where the answer has none.
    pub async fn call(&self, method: &str, path: &str, body: &Value) -> Result<Value> {
        let method = Method::from_bytes(method.as_bytes()).map_err(|e| ClientError::File(e.to_string()))?;
        let response = self.send(self.request(method, path).json(body)).await?;
        let text = response.text().await.map_err(|e| ClientError::Broken(e.to_string()))?;
        if text.is_empty() {
            return Ok(Value::Null);
        }
        read_json(text.as_bytes()).map_err(|e| ClientError::Broken(e.to_string()))
    }

    pub async fn ready(&self) -> Result<()> {
        self.send(self.request(Method::GET, "/v1/ready")).await.map(|_| ())
    }

    pub async fn query(&self, request: &QueryRequest) -> Result<QueryResult> {
        let result: QueryResult = self.json(self.request(Method::POST, "/v1/query").json(request)).await?;
        match result.error {
            // It failed after part of its rows was sent.
            Some(problem) => Err(ClientError::Problem(Box::new(problem))),
            None => Ok(result),
        }
    }

    pub async fn put(&self, path: &str, body: &Value) -> Result<Value> {
        self.json(self.request(Method::PUT, path).json(body)).await
    }

    /// As [`Client::put`], with a body that is JSON already.
    pub async fn put_text(&self, path: &str, body: String) -> Result<Value> {
        self.json(self.request(Method::PUT, path).header(CONTENT_TYPE, "application/json").body(body)).await
    }

    pub async fn delete(&self, path: &str) -> Result<()> {
        self.send(self.request(Method::DELETE, path)).await.map(|_| ())
    }

    /// Runs a saved query.
    pub async fn call_saved(&self, graph: &str, name: &str, parameters: &Value) -> Result<QueryResult> {
        let path = format!("/v1/graphs/{graph}/saved-queries/{name}");
        self.json(self.request(Method::POST, &path).json(parameters)).await
    }

    /// Opens a session; its id.
    pub async fn open_session(&self, graph: Option<&str>) -> Result<String> {
        let opened: Value =
            self.json(self.request(Method::POST, "/v1/sessions").json(&json!({ "graph": graph }))).await?;
        Ok(opened["id"].as_str().unwrap_or_default().to_string())
    }

    /// Closes a session; what it has open is rolled back.
    pub async fn close_session(&self, id: &str) -> Result<()> {
        self.send(self.request(Method::DELETE, &format!("/v1/sessions/{id}"))).await.map(|_| ())
    }

    /// The result in another format, as it streams in.
    pub async fn query_as(&self, request: &QueryRequest, media_type: &str) -> Result<Response> {
        self.send(self.request(Method::POST, "/v1/query").header(ACCEPT, media_type).json(request)).await
    }

    pub async fn plan(&self, request: &QueryRequest) -> Result<Value> {
        self.json(self.request(Method::POST, "/v1/plan").json(request)).await
    }

    pub async fn profile(&self, request: &QueryRequest) -> Result<Value> {
        self.json(self.request(Method::POST, "/v1/profile").json(request)).await
    }

    pub async fn drop_graph(&self, name: &str) -> Result<()> {
        self.send(self.request(Method::DELETE, &format!("/v1/graphs/{name}?confirm={name}")))
            .await
            .map(|_| ())
    }

    pub async fn create_graph(&self, name: &str, graph_type: Option<&str>) -> Result<Value> {
        let body = json!({ "name": name, "graph_type": graph_type });
        self.json(self.request(Method::POST, "/v1/graphs").json(&body)).await
    }

    pub async fn empty_graph(&self, name: &str) -> Result<()> {
        let path = format!("/v1/graphs/{name}/elements?confirm={name}");
        self.send(self.request(Method::DELETE, &path)).await.map(|_| ())
    }

    /// Uploads a mapping and its files, which are streamed from the disk, and starts the job; a check does
    /// everything but publish.
    pub async fn load(&self, graph: &str, mapping: &str, files: &[UploadFile], check: bool) -> Result<Job> {
        let mut form = Form::new().percent_encode_noop().text("mapping", mapping.to_string());
        let trouble: Arc<Mutex<Option<String>>> = Arc::default();
        for file in files {
            let failed =
                |e: std::io::Error| ClientError::File(format!("{} cannot be read: {e}", file.path.display()));
            let opened = tokio::fs::File::open(&file.path).await.map_err(failed)?;
            let length = opened.metadata().await.map_err(failed)?.len();
            let stream = stream_of(file.path.clone(), opened, length, trouble.clone());
            let part = Part::stream_with_length(reqwest::Body::wrap_stream(stream), length)
                .file_name(file.name.clone());
            form = form.part(file.name.clone(), part);
        }
        let request = self.request(Method::POST, &format!("/v1/graphs/{graph}/loads?check={check}"));
        let answer = self.json(request.multipart(form)).await;
        let trouble = trouble.lock().ok().and_then(|mut t| t.take());
        match trouble {
            Some(message) => Err(ClientError::File(message)),
            None => answer,
        }
    }

    /// A load from texts in memory: (file name, content).
    pub async fn load_texts(&self, graph: &str, mapping: &str, files: &[(&str, &str)]) -> Result<Job> {
        let files: Vec<(&str, &[u8])> = files.iter().map(|(name, text)| (*name, text.as_bytes())).collect();
        self.load_bytes(graph, mapping, &files, false).await
    }

    pub async fn load_bytes(
        &self, graph: &str, mapping: &str, files: &[(&str, &[u8])], check: bool,
    ) -> Result<Job> {
        let mut form = Form::new().percent_encode_noop().text("mapping", mapping.to_string());
        for (name, bytes) in files {
            form = form.part(name.to_string(), Part::bytes(bytes.to_vec()).file_name(name.to_string()));
        }
        let request = self.request(Method::POST, &format!("/v1/graphs/{graph}/loads?check={check}"));
        self.json(request.multipart(form)).await
    }

    /// Follows a job by its events until it ends; `seen` is told each state.
    pub async fn follow(&self, id: i64, mut seen: impl FnMut(&Job)) -> Result<Job> {
        use futures::StreamExt;
        loop {
            let answer = self.send(self.request(Method::GET, &format!("/v1/jobs/{id}/events"))).await?;
            let mut stream = answer.bytes_stream();
            let mut text = Vec::new();
            // A stream that breaks off is taken up again.
            while let Some(Ok(chunk)) = stream.next().await {
                text.extend_from_slice(&chunk);
                while let Some(end) = text.iter().position(|b| *b == b'\n') {
                    let line: Vec<u8> = text.drain(..=end).collect();
                    let Some(data) = line.strip_prefix(b"data: ") else { continue };
                    let job: Job =
                        serde_json::from_slice(data).map_err(|e| ClientError::Broken(e.to_string()))?;
                    seen(&job);
                    if job.state != "running" {
                        return Ok(job);
                    }
                }
            }
        }
    }

    /// The job, when it has ended or after `wait_ms`.
    pub async fn job(&self, id: i64, wait_ms: u64) -> Result<Job> {
        self.json(self.request(Method::GET, &format!("/v1/jobs/{id}?wait_ms={wait_ms}"))).await
    }

    /// The job when it has ended.
    pub async fn wait(&self, id: i64) -> Result<Job> {
        loop {
            let job = self.job(id, 30_000).await?;
            if job.state != "running" {
                return Ok(job);
            }
        }
    }

    pub async fn jobs(&self) -> Result<Vec<Job>> {
        self.json(self.request(Method::GET, "/v1/jobs")).await
    }

    pub async fn cancel(&self, id: i64) -> Result<Job> {
        self.json(self.request(Method::DELETE, &format!("/v1/jobs/{id}"))).await
    }

    pub async fn rejects(&self, id: i64, limit: u64) -> Result<Rejects> {
        self.json(self.request(Method::GET, &format!("/v1/jobs/{id}/rejects?limit={limit}"))).await
    }

    pub async fn rejects_csv(&self, id: i64) -> Result<String> {
        let request = self
            .request(Method::GET, &format!("/v1/jobs/{id}/rejects?limit=10000"))
            .header(ACCEPT, "text/csv");
        self.send(request).await?.text().await.map_err(|e| ClientError::Broken(e.to_string()))
    }

    /// The bytes of an export, with its headers.
    pub async fn export(&self, graph: &str, request: &Value) -> Result<Response> {
        self.send(self.request(Method::POST, &format!("/v1/graphs/{graph}/export")).json(request)).await
    }

    /// Sends a body to a path with PUT.
    pub async fn put_bytes(
        &self, path: &str, media_type: &str, body: impl Into<reqwest::Body>,
    ) -> Result<()> {
        let request = self.request(Method::PUT, path).header(CONTENT_TYPE, media_type).body(body);
        self.send(request).await.map(|_| ())
    }

    /// Sends a body to a path with POST.
    pub async fn post_bytes(
        &self, path: &str, media_type: &str, body: impl Into<reqwest::Body>,
    ) -> Result<Value> {
        let request = self.request(Method::POST, path).header(CONTENT_TYPE, media_type).body(body);
        self.json(request).await
    }

    /// The answer of a path, as it comes.
    pub async fn stream(&self, path: &str) -> Result<Response> {
        self.send(self.request(Method::GET, path)).await
    }

    /// What is different between two versions: lines of JSON, the last one the summary or what went wrong. `asked` are
    /// the query's parameters.
    pub async fn difference(&self, graph: &str, asked: &[(&str, String)]) -> Result<Response> {
        self.send(self.request(Method::GET, &format!("/v1/graphs/{graph}/difference")).query(asked)).await
    }

    /// The files in which a load's rejects come back, and the mapping to load them with.
    pub async fn reject_files(&self, id: i64) -> Result<Value> {
        self.json(self.request(Method::GET, &format!("/v1/jobs/{id}/rejects/files"))).await
    }

    /// The rejected rows of one table as they were.
    pub async fn reject_rows(&self, id: i64, table: &str) -> Result<String> {
        let request =
            self.request(Method::GET, &format!("/v1/jobs/{id}/rejects/rows")).query(&[("table", table)]);
        self.send(request).await?.text().await.map_err(|e| ClientError::Broken(e.to_string()))
    }

    /// For tests of the protocol itself: a raw request.
    pub fn raw(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        self.request(method, path)
    }

    pub fn json_content() -> (reqwest::header::HeaderName, &'static str) {
        (CONTENT_TYPE, "application/json")
    }
}

/// A file to upload under a name.
#[derive(Clone, Debug)]
pub struct UploadFile {
    pub name: String,
    pub path: PathBuf,
}

/// A file's bytes; breaks off, saying why in `trouble`, where the file changes meanwhile.
fn stream_of(
    path: PathBuf, file: tokio::fs::File, length: u64, trouble: Arc<Mutex<Option<String>>>,
) -> impl futures::Stream<Item = std::io::Result<bytes::Bytes>> {
    let before = std::fs::metadata(&path).and_then(|m| m.modified()).ok();
    futures::stream::unfold((file, vec![0u8; 1 << 20], 0u64), move |(mut file, mut buffer, total)| {
        let (path, trouble) = (path.clone(), trouble.clone());
        async move {
            use tokio::io::AsyncReadExt;
            let read = file.read(&mut buffer).await;
            let changed = || {
                let message =
                    format!("{} changed while it was read; load it when it is complete", path.display());
                if let Ok(mut trouble) = trouble.lock() {
                    *trouble = Some(message.clone());
                }
                std::io::Error::other(message)
            };
            match read {
                Ok(0) if total < length => Some((Err(changed()), (file, buffer, length))),
                Ok(0) => {
                    let after = std::fs::metadata(&path).and_then(|m| m.modified()).ok();
                    (after != before).then(|| (Err(changed()), (file, buffer, length)))
                }
                Ok(n) if total + n as u64 > length => Some((Err(changed()), (file, buffer, length))),
                Ok(n) => {
                    let piece = bytes::Bytes::copy_from_slice(&buffer[..n]);
                    Some((Ok(piece), (file, buffer, total + n as u64)))
                }
                Err(error) => Some((Err(error), (file, buffer, total))),
            }
        }
    })
}
