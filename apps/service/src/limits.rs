//! Limits of the service: sizes, times, concurrency, and hosts and folders for loads.

use std::path::PathBuf;
use std::time::Duration;

use graphodrome_store::RunLimits;

#[derive(Clone, Debug)]
pub struct ServiceLimits {
    /// Bytes of a request other than an upload.
    pub body_bytes: usize,
    pub upload_bytes: u64,
    /// The longest a query may run; a request may ask for less.
    pub query_time: Duration,
    pub query_memory_bytes: u64,
    /// Of all queries that run, together.
    pub queries_memory_bytes: u64,
    /// Of all loads and checks that run, together.
    pub loads_memory_bytes: u64,
    /// Loads and checks that run at once; more wait.
    pub concurrent_loads: usize,
    /// The most rows a result may have; a request may ask for fewer.
    pub result_rows: u64,
    pub concurrent_queries: usize,
    /// Connections that are open at once; further ones wait.
    pub connections: usize,
    /// The folder of which loads may read files that are there already.
    pub table_dir: Option<PathBuf>,
    /// Hosts that loads may fetch from, as `host` or `host:port`.
    pub table_hosts: Vec<String>,
    /// A session that is not used for so long is closed.
    pub session_idle: Duration,
    /// The profile of a query that takes so long is kept by itself; `None`: of none.
    pub slow_after: Option<Duration>,
    /// So many a minute and graph at most.
    pub slow_per_minute: u32,
    /// How many profiles stay, and how long.
    pub runs: RunLimits,
    /// Where spans of queries are sent (OTLP over HTTP), such as `http://127.0.0.1:4318`.
    pub otlp_url: Option<String>,
}

impl Default for ServiceLimits {
    fn default() -> Self {
        ServiceLimits {
            body_bytes: 8 << 20,
            upload_bytes: 16 << 30,
            query_time: Duration::from_secs(60),
            query_memory_bytes: 2 << 30,
            queries_memory_bytes: 6 << 30,
            loads_memory_bytes: half_of_the_machine(),
            concurrent_loads: 4,
            result_rows: 5_000_000,
            concurrent_queries: 16,
            connections: 512,
            table_dir: None,
            table_hosts: vec![],
            session_idle: Duration::from_secs(600),
            slow_after: Some(Duration::from_secs(1)),
            slow_per_minute: 10,
            runs: RunLimits::default(),
            otlp_url: None,
        }
    }
}

/// Where the machine does not say how much memory it has.
const HALF_UNKNOWN: u64 = 4 << 30;

/// Half of the memory that this process may use: of the machine, or of its control group where that has a bound.
fn half_of_the_machine() -> u64 {
    let of_machine = std::fs::read_to_string("/proc/meminfo").ok().and_then(|text| {
        let line = text.lines().find_map(|line| line.strip_prefix("MemTotal:"))?;
        line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()
    });
    let of_group = std::fs::read_to_string("/sys/fs/cgroup/memory.max").ok();
    let of_group = of_group.and_then(|text| text.trim().parse::<u64>().ok());
    let least = of_machine.map(|kib| kib << 10).into_iter().chain(of_group).min();
    least.map_or(HALF_UNKNOWN, |bytes| bytes / 2)
}
