//! The typed HTTP client: the only way the command line and the tests call the service.

use std::path::Path;

use reqwest::header::{ACCEPT, CONTENT_TYPE};
use reqwest::multipart::{Form, Part};
use reqwest::{Method, Response};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

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
    #[serde(skip_serializing_if = "Map::is_empty")]
    pub parameters: Map<String, Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub timeout_ms: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_rows: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_memory_bytes: Option<u64>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub truncate: bool,
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
}

#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct JobProgress {
    pub phase: String,
    pub bytes_read: u64,
    pub bytes_total: u64,
    pub rows_read: u64,
    pub elapsed_ms: u64,
    pub left_ms: Option<u64>,
}

#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct Job {
    pub id: i64,
    pub kind: String,
    pub graph: String,
    pub state: String,
    pub title: String,
    pub started: String,
    pub finished: Option<String>,
    pub progress: Option<JobProgress>,
    pub detail: Value,
}

#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct Reject {
    pub table: String,
    pub line: u64,
    pub column: Option<String>,
    pub value: Option<String>,
    pub reason: String,
    pub record: String,
}

#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct Rejects {
    pub total: u64,
    pub rejects: Vec<Reject>,
}

#[derive(Clone)]
pub struct Client {
    url: String,
    http: reqwest::Client,
}

pub type Result<T> = std::result::Result<T, ClientError>;

impl Client {
    pub fn new(url: &str) -> Client {
        let http = reqwest::Client::builder().no_proxy().build().unwrap_or_default();
        Client { url: url.trim_end_matches('/').to_string(), http }
    }

    pub fn url(&self) -> &str {
        &self.url
    }

    fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        self.http.request(method, format!("{}{path}", self.url))
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
        self.send(request).await?.json().await.map_err(|e| ClientError::Broken(e.to_string()))
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
        serde_json::from_str(&text).map_err(|e| ClientError::Broken(e.to_string()))
    }

    pub async fn ready(&self) -> Result<()> {
        self.send(self.request(Method::GET, "/v1/ready")).await.map(|_| ())
    }

    pub async fn query(&self, request: &QueryRequest) -> Result<QueryResult> {
        self.json(self.request(Method::POST, "/v1/query").json(request)).await
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

    /// Uploads a mapping and its files, which are streamed from the disk, and starts the job.
    pub async fn load(&self, graph: &str, mapping: &str, folder: &Path, files: &[String]) -> Result<Job> {
        let mut form = Form::new().percent_encode_noop().text("mapping", mapping.to_string());
        for file in files {
            let path = folder.join(file);
            let failed =
                |e: std::io::Error| ClientError::File(format!("{} cannot be read: {e}", path.display()));
            let opened = tokio::fs::File::open(&path).await.map_err(failed)?;
            let length = opened.metadata().await.map_err(failed)?.len();
            let stream = tokio_stream_of(opened);
            let part =
                Part::stream_with_length(reqwest::Body::wrap_stream(stream), length).file_name(file.clone());
            form = form.part(file.clone(), part);
        }
        self.json(self.request(Method::POST, &format!("/v1/graphs/{graph}/loads")).multipart(form)).await
    }

    /// A load from texts in memory: (file name, content).
    pub async fn load_texts(&self, graph: &str, mapping: &str, files: &[(&str, &str)]) -> Result<Job> {
        let mut form = Form::new().percent_encode_noop().text("mapping", mapping.to_string());
        for (name, text) in files {
            form = form
                .part(name.to_string(), Part::bytes(text.as_bytes().to_vec()).file_name(name.to_string()));
        }
        self.json(self.request(Method::POST, &format!("/v1/graphs/{graph}/loads")).multipart(form)).await
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

    /// For tests of the protocol itself: a raw request.
    pub fn raw(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        self.request(method, path)
    }

    pub fn json_content() -> (reqwest::header::HeaderName, &'static str) {
        (CONTENT_TYPE, "application/json")
    }
}

fn tokio_stream_of(file: tokio::fs::File) -> impl futures::Stream<Item = std::io::Result<bytes::Bytes>> {
    futures::stream::unfold((file, vec![0u8; 1 << 20]), |(mut file, mut buffer)| async move {
        use tokio::io::AsyncReadExt;
        match file.read(&mut buffer).await {
            Ok(0) => None,
            Ok(n) => {
                let piece = bytes::Bytes::copy_from_slice(&buffer[..n]);
                Some((Ok(piece), (file, buffer)))
            }
            Err(error) => Some((Err(error), (file, buffer))),
        }
    })
}
