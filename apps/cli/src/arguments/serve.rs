//! Grammar of the service and its demo.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::Args;

#[derive(Args, Clone)]
pub struct ServeOptions {
    /// Loopback address to listen on
    #[arg(long, default_value = "127.0.0.1:8620")]
    pub listen: SocketAddr,
    /// Folder of the private PostgreSQL
    #[arg(long, env = "GRAPHODROME_DATA", default_value = "graphodrome-data")]
    pub data: PathBuf,
    /// Use this PostgreSQL database instead of a private one
    #[arg(long, env = "GRAPHODROME_DATABASE_URL")]
    pub database_url: Option<String>,
    /// Time limit of a query in seconds
    #[arg(long, default_value_t = 60)]
    pub query_seconds: u64,
    /// Memory limit of a query in MiB
    #[arg(long, default_value_t = 2048)]
    pub query_memory_mib: u64,
    /// Memory limit of all running queries together in MiB
    #[arg(long, default_value_t = 6144)]
    pub queries_memory_mib: u64,
    /// Memory limit of all running loads together in MiB; defaults to half of the machine's memory
    #[arg(long)]
    pub loads_memory_mib: Option<u64>,
    /// Maximum number of concurrent loads; others wait
    #[arg(long, default_value_t = 4)]
    pub concurrent_loads: usize,
    /// Maximum number of open connections; others wait
    #[arg(long, default_value_t = 512)]
    pub connections: usize,
    /// Maximum number of rows in a result
    #[arg(long, default_value_t = 5_000_000)]
    pub max_rows: u64,
    /// Maximum size of an upload in MiB
    #[arg(long, default_value_t = 16_384)]
    pub max_upload_mib: u64,
    /// Maximum size of other requests in KiB
    #[arg(long, default_value_t = 8_192)]
    pub max_body_kib: usize,
    /// Maximum number of concurrent long queries; others wait
    #[arg(long, default_value_t = 16)]
    pub concurrent_queries: usize,
    /// Folder whose files loads may read (served:PATH in a mapping)
    #[arg(long, value_name = "FOLDER", env = "GRAPHODROME_TABLE_DIR")]
    pub table_dir: Option<PathBuf>,
    /// Host that loads may fetch from (http:// and https:// in a mapping), with or without a port;
    /// repeatable
    #[arg(long = "table-host", value_name = "HOST[:PORT]")]
    pub table_hosts: Vec<String>,
    /// Seconds after which an unused session is closed
    #[arg(long, default_value_t = 600)]
    pub session_idle_seconds: u64,
    /// Milliseconds after which a query's profile is kept automatically; 0 to disable
    #[arg(long, default_value_t = 1_000)]
    pub slow_ms: u64,
    /// Maximum number of slow-query profiles for each minute and graph
    #[arg(long, default_value_t = 10)]
    pub slow_per_minute: u32,
    /// Maximum number of unnamed profiles of each kind and graph
    #[arg(long, default_value_t = 200)]
    pub keep_runs: u64,
    /// Days for which unnamed profiles are kept
    #[arg(long, default_value_t = 30)]
    pub keep_run_days: u64,
    /// Send spans of queries and their operators to this collector: OTLP over HTTP, such as http://127.0.0.1:4318
    #[arg(long, value_name = "URL", env = "OTEL_EXPORTER_OTLP_ENDPOINT")]
    pub otlp_url: Option<String>,
    /// Write the log as JSON lines
    #[arg(long)]
    pub log_json: bool,
}

#[derive(Args)]
pub struct DemoOptions {
    #[command(flatten)]
    pub serve: ServeOptions,
    /// Folder with the demo's model, mapping and tables
    #[arg(long, default_value = "demo")]
    pub folder: PathBuf,
    /// Exit after loading the graph instead of serving until Ctrl+C
    #[arg(long)]
    pub once: bool,
}
