//! `serve`: the service in this process until Ctrl+C or SIGTERM.

use std::io::IsTerminal;
use std::time::Duration;

use graphodrome_service::{Config, RunLimits, Service, ServiceLimits};
use tokio::signal::unix::{SignalKind, signal};

use crate::arguments::ServeOptions;

pub fn config(options: &ServeOptions) -> Config {
    Config {
        listen: options.listen,
        data: options.data.clone(),
        database_url: options.database_url.clone(),
        limits: ServiceLimits {
            body_bytes: options.max_body_kib << 10,
            upload_bytes: options.max_upload_mib << 20,
            query_time: Duration::from_secs(options.query_seconds),
            query_memory_bytes: options.query_memory_mib << 20,
            queries_memory_bytes: options.queries_memory_mib << 20,
            loads_memory_bytes: options
                .loads_memory_mib
                .map_or(ServiceLimits::default().loads_memory_bytes, |mib| mib << 20),
            concurrent_loads: options.concurrent_loads.max(1),
            connections: options.connections.max(1),
            result_rows: options.max_rows,
            concurrent_queries: options.concurrent_queries.max(1),
            table_dir: options.table_dir.clone(),
            table_hosts: options.table_hosts.clone(),
            session_idle: Duration::from_secs(options.session_idle_seconds),
            slow_after: (options.slow_ms > 0).then(|| Duration::from_millis(options.slow_ms)),
            slow_per_minute: options.slow_per_minute,
            otlp_url: options.otlp_url.clone(),
            runs: RunLimits { most: options.keep_runs, days: options.keep_run_days },
        },
    }
}

/// Logs go to standard error; RUST_LOG says how much.
pub fn logging(json: bool) {
    use tracing_subscriber::{EnvFilter, fmt};
    let filter = EnvFilter::try_from_default_env()
        .unwrap_or_else(|_| EnvFilter::new("info,sqlx=warn,sea_orm_migration=warn"));
    // Colours are for people: a file gets none.
    let colours =
        std::io::stderr().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty());
    let builder =
        fmt().with_env_filter(filter).with_writer(std::io::stderr).with_ansi(colours).with_target(false);
    if json { builder.json().init() } else { builder.init() }
}

pub async fn stop_signal() {
    let (Ok(mut interrupt), Ok(mut terminate)) =
        (signal(SignalKind::interrupt()), signal(SignalKind::terminate()))
    else {
        return std::future::pending().await;
    };
    tokio::select! {
        _ = interrupt.recv() => {}
        _ = terminate.recv() => {}
    }
}

pub async fn serve(options: ServeOptions) -> anyhow::Result<()> {
    logging(options.log_json);
    // One for all of it: a signal between two of them would be heard by neither.
    let mut stop = Box::pin(stop_signal());
    let service = tokio::select! {
        service = Service::start(config(&options)) => service?,
        () = &mut stop => return Ok(()),
    };
    println!("Graphodrome is ready at http://{}", service.address()?);
    let stop_at_once = service.stop_at_once();
    let stop = async move {
        stop.await;
        eprintln!("Stopping when what runs has ended, within a few seconds; once more stops at once.");
        tokio::spawn(async move {
            stop_signal().await;
            stop_at_once();
        });
    };
    service.run(Box::pin(stop)).await?;
    println!("Stopped.");
    Ok(())
}
