//! The harness of the whole-system tests: the real binary on a free loopback port with a private
//! PostgreSQL of its own, and the real command line against it. No sleeps: everything waits for a
//! condition.

#![allow(clippy::unwrap_used)] // A test that cannot go on should stop with the place.

pub mod proxy;

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::{Arc, Mutex, OnceLock};

use graphodrome_client::{Client, QueryRequest, QueryResult, UploadFile};
use graphodrome_store::PrivateServer;
use sea_orm::sqlx::{self, Connection, PgConnection};
use serde_json::Value;

pub fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_path_buf()
}

/// The binary under test, in the target folder that built this test; built if it is not there yet.
pub fn binary() -> PathBuf {
    static BUILT: OnceLock<PathBuf> = OnceLock::new();
    BUILT
        .get_or_init(|| {
            let test = std::env::current_exe().unwrap();
            let folder = test.parent().unwrap().parent().unwrap();
            let mut build = Command::new(env!("CARGO"));
            build.args(["build", "--quiet", "--workspace", "--bin", "graphodrome"]).current_dir(root());
            as_from_a_shell(&mut build);
            if folder.ends_with("release") {
                build.arg("--release");
            }
            assert!(build.status().unwrap().success(), "the binary does not build");
            folder.join("graphodrome")
        })
        .clone()
}

/// Takes away what cargo tells a test of its own package: build scripts that look at it would run again, and all
/// that depends on them would be built anew.
pub fn as_from_a_shell(program: &mut Command) {
    let of_package = |name: &String| ["CARGO_PKG_", "CARGO_MANIFEST_"].iter().any(|p| name.starts_with(p));
    std::env::vars().map(|(name, _)| name).filter(of_package).for_each(|name| {
        program.env_remove(name);
    });
}

pub struct Running {
    child: Child,
    pub url: String,
    pub data: PathBuf,
    output: Arc<Mutex<String>>,
}

impl Running {
    /// Starts the service on `data` and waits until it says that it is ready.
    pub fn start(data: &Path, arguments: &[&str]) -> Running {
        Running::command(&["serve"], data, arguments)
    }

    pub fn command(command: &[&str], data: &Path, arguments: &[&str]) -> Running {
        let mut program = Command::new(binary());
        program.args(command);
        Running::program(program, data, arguments)
    }

    /// A program that becomes the service, such as a script.
    pub fn program(mut program: Command, data: &Path, arguments: &[&str]) -> Running {
        let mut child = program
            .args(["--listen", "127.0.0.1:0", "--data"])
            .arg(data)
            .args(arguments)
            .current_dir(root())
            .env("RUST_LOG", "warn")
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let output = Arc::new(Mutex::new(String::new()));
        let errors = child.stderr.take().unwrap();
        let kept = output.clone();
        std::thread::spawn(move || {
            for line in BufReader::new(errors).lines().map_while(Result::ok) {
                kept.lock().unwrap().push_str(&format!("{line}\n"));
            }
        });
        let mut url = None;
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        for line in lines.by_ref().map_while(Result::ok) {
            output.lock().unwrap().push_str(&format!("{line}\n"));
            if let Some(start) = line.find("http://") {
                url = Some(line[start..].trim().to_string());
                break;
            }
        }
        let kept = output.clone();
        std::thread::spawn(move || {
            for line in lines.map_while(Result::ok) {
                kept.lock().unwrap().push_str(&format!("{line}\n"));
            }
        });
        let Some(url) = url else {
            let _ = child.wait();
            panic!("the service did not start:\n{}", output.lock().unwrap());
        };
        Running { child, url, data: data.to_path_buf(), output }
    }

    pub fn client(&self) -> Client {
        Client::new(&self.url)
    }

    /// The number of its process.
    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Everything it printed so far.
    pub fn printed(&self) -> String {
        self.output.lock().unwrap().clone()
    }

    /// Stops it as a power cut would: no signal it could handle. PostgreSQL stays behind.
    pub fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }

    /// Waits until it ends by itself; returns whether it ended well, and what it printed.
    pub fn wait(mut self) -> (bool, String) {
        let ended = self.child.wait().unwrap().success();
        (ended, self.printed())
    }

    /// Ctrl+C; returns whether it ended well.
    pub fn interrupt(mut self) -> bool {
        let pid = rustix::process::Pid::from_child(&self.child);
        rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
        self.child.wait().unwrap().success()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if self.child.try_wait().is_ok_and(|s| s.is_none()) {
            let pid = rustix::process::Pid::from_child(&self.child);
            let _ = rustix::process::kill_process(pid, rustix::process::Signal::INT);
            let _ = self.child.wait();
        }
    }
}

/// A folder for a test's data, removed afterwards. In the temporary folder itself, which PostgreSQL's
/// user can enter when the tests run as root.
pub fn folder() -> tempfile::TempDir {
    tempfile::Builder::new().prefix("graphodrome-test-").tempdir().unwrap()
}

/// Runs the command line against a service.
pub fn cli(url: &str, arguments: &[&str]) -> Output {
    Command::new(binary())
        .args(arguments)
        .env("GRAPHODROME_URL", url)
        .env("NO_COLOR", "1")
        .current_dir(root())
        .stdin(Stdio::null())
        .output()
        .unwrap()
}

pub fn stdout(output: &Output) -> String {
    assert!(
        output.status.success(),
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    );
    String::from_utf8(output.stdout.clone()).unwrap()
}

pub fn stderr(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

pub fn request(graph: &str, text: &str) -> QueryRequest {
    QueryRequest { text: text.into(), graph: Some(graph.into()), ..QueryRequest::default() }
}

pub async fn query(client: &Client, graph: &str, text: &str) -> QueryResult {
    match client.query(&request(graph, text)).await {
        Ok(result) => result,
        Err(error) => panic!("{text}\n{error}"),
    }
}

/// The only cell of a result.
pub async fn single(client: &Client, graph: &str, text: &str) -> Value {
    query(client, graph, text).await.rows[0][0].clone()
}

/// Creates the demo's model and loads its tables; returns the finished job.
pub async fn load_demo(client: &Client) -> graphodrome_client::Job {
    let model = std::fs::read_to_string(root().join("demo/model.gql")).unwrap();
    client.query(&QueryRequest { text: model, ..QueryRequest::default() }).await.unwrap();
    load_mapping(client, "averley", &root().join("demo/load.toml")).await
}

pub async fn load_mapping(client: &Client, graph: &str, path: &Path) -> graphodrome_client::Job {
    let text = std::fs::read_to_string(path).unwrap();
    let mut files: Vec<String> = text
        .lines()
        .filter_map(|l| l.strip_prefix("file = \"").and_then(|l| l.strip_suffix('"')).map(str::to_string))
        .collect();
    files.dedup();
    // What the service reads itself is not sent.
    files.retain(|name| !name.starts_with("served:"));
    let folder = path.parent().unwrap();
    let files: Vec<UploadFile> =
        files.into_iter().map(|name| UploadFile { path: folder.join(&name), name }).collect();
    let job = client.load(graph, &text, &files, false).await.unwrap();
    client.wait(job.id).await.unwrap()
}

/// Runs a statement in the database of a data folder, whose service is away.
pub async fn in_database(data: &Path, text: &str) {
    let server = PrivateServer::start(data).unwrap();
    let mut owner = PgConnection::connect(&server.url()).await.unwrap();
    let done = sqlx::query(sqlx::AssertSqlSafe(text)).execute(&mut owner).await.unwrap();
    assert!(done.rows_affected() > 0, "{text}");
}
