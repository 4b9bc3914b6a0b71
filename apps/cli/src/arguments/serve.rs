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
    /// Seconds a query may run
    #[arg(long, default_value_t = 60)]
    pub query_seconds: u64,
    /// MiB a query may hold
    #[arg(long, default_value_t = 2048)]
    pub query_memory_mib: u64,
    /// MiB all queries that run may hold together
    #[arg(long, default_value_t = 6144)]
    pub queries_memory_mib: u64,
    /// MiB all loads that run may hold together; half of the machine's memory where it is not given
    #[arg(long)]
    pub loads_memory_mib: Option<u64>,
    /// Loads that run at once; more wait
    #[arg(long, default_value_t = 4)]
    pub concurrent_loads: usize,
    /// Connections that are open at once; more wait
    #[arg(long, default_value_t = 512)]
    pub connections: usize,
    /// Rows a result may have
    #[arg(long, default_value_t = 5_000_000)]
    pub max_rows: u64,
    /// MiB an upload may have
    #[arg(long, default_value_t = 16_384)]
    pub max_upload_mib: u64,
    /// KiB a request other than an upload may have
    #[arg(long, default_value_t = 8_192)]
    pub max_body_kib: usize,
    /// Queries that run at once; more wait
    #[arg(long, default_value_t = 16)]
    pub concurrent_queries: usize,
    /// Folder of which loads may read files (served:PATH in a mapping); no other file is ever read
    #[arg(long, value_name = "FOLDER", env = "GRAPHODROME_TABLE_DIR")]
    pub table_dir: Option<PathBuf>,
    /// Host that loads may fetch from (http:// and https:// in a mapping), with or without a port;
    /// may be given again
    #[arg(long = "table-host", value_name = "HOST[:PORT]")]
    pub table_hosts: Vec<String>,
    /// Seconds after which a session that is not used is closed
    #[arg(long, default_value_t = 600)]
    pub session_idle_seconds: u64,
    /// Milliseconds after which a query's profile is kept by itself; 0: of none
    #[arg(long, default_value_t = 1_000)]
    pub slow_ms: u64,
    /// Profiles of slow queries that are kept a minute and graph
    #[arg(long, default_value_t = 10)]
    pub slow_per_minute: u32,
    /// Kept profiles without a name that stay, of each kind and graph
    #[arg(long, default_value_t = 200)]
    pub keep_runs: u64,
    /// Days that kept profiles without a name stay
    #[arg(long, default_value_t = 30)]
    pub keep_run_days: u64,
    /// Send spans of queries and their operators to this collector: OTLP over HTTP, such as http://127.0.0.1:4318
    #[arg(long, value_name = "URL", env = "OTEL_EXPORTER_OTLP_ENDPOINT")]
    pub otlp_url: Option<String>,
    /// Log lines as JSON
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
    /// Stop after the graph is loaded, instead of serving until Ctrl+C
    #[arg(long)]
    pub once: bool,
}
