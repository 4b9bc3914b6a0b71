//! The long-running service: Axum routes, limits, jobs, and the console's files.
//!
//! Invariant: it listens on loopback only, refuses foreign hosts and origins, and answers every error
//! with a problem document (RFC 9457).

// A request makes at most one problem; boxing it everywhere would only hide it.
#![allow(clippy::result_large_err)]

mod backups;
mod called;
mod extract;
mod guard;
mod job;
mod kept_procedures;
mod limits;
mod loading;
mod models;
mod outgoing;
mod own_procedures;
#[doc(hidden)]
pub mod parts;
mod problem;
mod routes;
mod run;
mod running;
mod running_job;
mod serve;
mod sessions;
mod slow;
mod stalled;
mod state;
mod traces;
mod values;
mod who;
mod written;

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use anyhow::{Context, bail};
use futures::future::BoxFuture;
use graphodrome_store::{Catalog, PrivateServer};
use tokio::net::TcpListener;

pub use graphodrome_store::RunLimits;
pub use limits::ServiceLimits;
pub use routes::{openapi, route_list};
pub use state::App;

/// Where and how the service runs.
#[derive(Clone, Debug)]
pub struct Config {
    pub listen: SocketAddr,
    /// Folder of the private PostgreSQL, when no database is named.
    pub data: PathBuf,
    pub database_url: Option<String>,
    pub limits: ServiceLimits,
}

pub const DEFAULT_PORT: u16 = 8620;

/// A service that listens; [`Self::run`] serves until `stop` is done.
pub struct Service {
    app: Arc<App>,
    listener: TcpListener,
    server: Option<PrivateServer>,
}

impl Service {
    /// Starts PostgreSQL if it is ours, recovers every graph, and begins to listen. In a box, as [`Self::run`] is: what it
    /// awaits is compiled here then, not once more in every program that calls it.
    pub fn start(config: Config) -> BoxFuture<'static, anyhow::Result<Service>> {
        Box::pin(Service::begin(config))
    }

    async fn begin(config: Config) -> anyhow::Result<Service> {
        if !config.listen.ip().is_loopback() {
            bail!(
                "{} is not a loopback address: the service has no accounts yet, so it listens on 127.0.0.1 or [::1] only",
                config.listen.ip()
            );
        }
        // The port first: a second service on the same one fails before it touches anything.
        let listener = TcpListener::bind(config.listen).await.with_context(|| {
            format!("cannot listen on {}; is another service using the port?", config.listen)
        })?;
        let (server, url) = match config.database_url {
            Some(url) => (None, url),
            None => {
                let data = config.data.clone();
                let server = tokio::task::spawn_blocking(move || PrivateServer::start(&data)).await??;
                let url = server.url();
                (Some(server), url)
            }
        };
        let mut opened = Catalog::open(&url).await;
        for _ in 0..STARTS {
            // Our own PostgreSQL may have died as soon as it had begun.
            let (Err(error), Some(server)) = (&opened, &server) else { break };
            if !tokio::task::block_in_place(|| server.start_again())? {
                break;
            }
            tracing::warn!(%error, "PostgreSQL had died and was started again");
            opened = Catalog::open(&url).await;
        }
        let catalog = opened?;
        let mut app = App::new(catalog, config.limits);
        if let Some(url) = &app.limits.otlp_url {
            app.traces = Some(traces::Traces::to(url).map_err(anyhow::Error::msg)?);
        }
        let app = Arc::new(app);
        if let Err(problem) = app.read_procedures().await {
            bail!("the procedures cannot be read: {}", problem.detail);
        }
        Ok(Service { app, listener, server })
    }

    pub fn address(&self) -> anyhow::Result<SocketAddr> {
        Ok(self.listener.local_addr()?)
    }

    /// Ends what runs without waiting for it, once the service has been told to stop.
    pub fn stop_at_once(&self) -> impl FnOnce() + Send + use<> {
        let app = self.app.clone();
        move || app.stop()
    }

    /// Serves until `stop`, then lets running requests finish for a moment, and stops PostgreSQL.
    pub fn run(self, stop: BoxFuture<'static, ()>) -> BoxFuture<'static, anyhow::Result<()>> {
        Box::pin(self.serve_until(stop))
    }

    async fn serve_until(self, stop: BoxFuture<'static, ()>) -> anyhow::Result<()> {
        let router = routes::router(self.app.clone());
        let app = self.app.clone();
        let stopping = async move {
            stop.await;
            app.drain(GRACE).await;
            app.stop();
        };
        let mut serving = tokio::spawn(serve::serve(self.listener, self.app.clone(), router, stopping));
        let tidying = tokio::spawn(tidy(self.app.clone()));
        let server = self.server.map(Arc::new);
        let watching = server.clone().map(|server| tokio::spawn(keep_running(server)));
        let app = self.app.clone();
        let taken_over = {
            let app = app.clone();
            async move {
                let why = app.catalog.taken_over().await;
                app.stop();
                why
            }
        };
        tokio::pin!(taken_over);
        let mut lost = None;
        tokio::select! {
            _ = &mut serving => {}
            () = async { app.stopped().await; tokio::time::sleep(Duration::from_secs(3)).await; } => {}
            why = &mut taken_over => lost = Some(why),
        }
        serving.abort();
        tidying.abort();
        drop(self.app);
        if let Some(watching) = watching {
            watching.abort();
            // A start of it that is on its way comes to its end first.
            let _ = watching.await;
        }
        if let Some(why) = lost {
            // PostgreSQL goes on for whoever has taken over.
            bail!("this service ends: {why}");
        }
        if let Some(server) = server {
            tokio::task::spawn_blocking(move || server.stop()).await??;
        }
        Ok(())
    }
}

/// So often our own PostgreSQL is started again while the service starts.
const STARTS: u32 = 3;

/// How long what runs may go on when the service is told to stop.
const GRACE: Duration = Duration::from_secs(5);

/// Between two looks whether PostgreSQL runs; after a start that failed the next one waits longer and longer.
const LOOK_AT_SERVER: Duration = Duration::from_millis(500);
const LOOK_AT_MOST: Duration = Duration::from_secs(30);

/// It is started again when it was gone at so many looks, one after the other.
const GONE_LOOKS: u32 = 3;

/// Between two rounds of giving back what nobody needs any more.
const TIDY: Duration = Duration::from_secs(60);

/// Forgets earlier versions that nobody reads, and removes those that have come of age.
async fn tidy(app: Arc<App>) {
    let mut rounds = tokio::time::interval(TIDY);
    rounds.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    // The first comes at once: a start has done so already.
    rounds.tick().await;
    loop {
        rounds.tick().await;
        app.catalog.tidy().await;
        app.backups.tidy(&app.catalog).await;
        if let Err(error) = app.catalog.prune_runs(&app.limits.runs).await {
            tracing::warn!(%error, "old runs could not be removed");
        }
    }
}

/// Starts our own PostgreSQL again where it has died.
async fn keep_running(server: Arc<PrivateServer>) {
    let mut pause = LOOK_AT_SERVER;
    let mut gone = 0;
    loop {
        tokio::time::sleep(pause).await;
        gone = if server.has_process() { 0 } else { gone + 1 };
        // Somebody may be stopping or restarting it by hand, who is to see that it has stopped.
        if gone < GONE_LOOKS {
            continue;
        }
        let looking = server.clone();
        pause = match tokio::task::spawn_blocking(move || looking.start_again()).await {
            Ok(Ok(false)) => LOOK_AT_SERVER,
            Ok(Ok(true)) => {
                tracing::warn!("PostgreSQL had died and was started again");
                LOOK_AT_SERVER
            }
            Ok(Err(error)) => {
                tracing::error!(%error, "PostgreSQL has died and does not start");
                (pause * 2).min(LOOK_AT_MOST)
            }
            Err(error) => {
                tracing::error!(%error, "PostgreSQL is not watched any more");
                return;
            }
        };
    }
}
