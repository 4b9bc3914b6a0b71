//! Everything at once: writers of one graph, transactions over two, loads and changes of the model, while connections are cut and
//! the service, PostgreSQL and its backends are killed.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use graphodrome_client::{Client, ClientError, QueryRequest};
use graphodrome_store::PrivateServer;
use graphodrome_tests::proxy::Proxy;
use graphodrome_tests::*;
use sea_orm::sqlx::{self, Connection, PgConnection};
use serde_json::json;

use crate::bank::{self, MOVES_A_WRITER, Moments, Told, Writers, open_bank, settings};

/// Rows of each load.
const ROWS: i64 = 50;
const MAPPING: &str = "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabels = [\"Loaded\"]\nkey = [\"id\"]\nproperties = { id = \"id\", batch = \"batch\" }\ntypes = { batch = \"INT64\" }\n";
const INDEX: &str = "CREATE INDEX moves OVER (:Move {n})";

/// Loads again and again; each is there whole or not at all.
async fn load(client: Client, first: i64, stop: Arc<AtomicBool>) -> Told {
    let mut told = Told::default();
    for batch in first.. {
        if stop.load(Ordering::SeqCst) {
            break;
        }
        let rows: String = (0..ROWS).map(|row| format!("{batch}-{row},{batch}\n")).collect();
        let ended = match client.load_texts("bank", MAPPING, &[("n.csv", &format!("id,batch\n{rows}"))]).await
        {
            Ok(job) => client.wait(job.id).await,
            Err(error) => Err(error),
        };
        match ended {
            Ok(job) if job.state == "done" => told.written.insert(batch),
            Ok(_) => told.refused.insert(batch),
            // It may have begun.
            Err(_) => told.open.insert(batch),
        };
    }
    told
}

/// Makes an index and drops it, again and again; returns whether it is there, where that was told.
async fn change_model(client: Client, mut there: Option<bool>, stop: Arc<AtomicBool>) -> Option<bool> {
    while !stop.load(Ordering::SeqCst) {
        let makes = !there.unwrap_or(false);
        let text = if makes { INDEX } else { "DROP INDEX moves" };
        match client.query(&request("bank", text)).await {
            Ok(_) => there = Some(makes),
            // Where it was not known it may be there already, or be gone.
            Err(ClientError::Problem(problem)) if matches!(problem.status, 404 | 409) => there = Some(makes),
            Err(ClientError::Problem(problem)) if problem.status == 503 => {}
            Err(_) => return None,
        }
    }
    there
}

/// What others than the writers did in a round.
struct Others {
    stop: Arc<AtomicBool>,
    loaders: Vec<tokio::task::JoinHandle<Told>>,
    modeller: tokio::task::JoinHandle<Option<bool>>,
}

impl Others {
    fn start(service: &Running, round: u64, index: Option<bool>) -> Others {
        let stop = Arc::new(AtomicBool::new(false));
        let loader = |n| tokio::spawn(load(service.client(), (round as i64 * 2 + n) * 10_000, stop.clone()));
        let loaders = (0..2).map(loader).collect();
        let modeller = tokio::spawn(change_model(service.client(), index, stop.clone()));
        Others { stop, loaders, modeller }
    }

    async fn stop(self) -> (Vec<Told>, Option<bool>) {
        self.stop.store(true, Ordering::SeqCst);
        let mut loads = vec![];
        for loader in self.loaders {
            loads.push(loader.await.unwrap());
        }
        (loads, self.modeller.await.unwrap())
    }
}

/// Numbers from `first` on, of what has this label in a graph.
async fn numbers(client: &Client, graph: &str, first: i64) -> BTreeSet<i64> {
    let text = format!("MATCH (m:Move) WHERE m.n >= {first} RETURN m.n AS n");
    let found = query(client, graph, &text).await;
    found.rows.iter().map(|row| row[0].as_i64().unwrap()).collect()
}

/// What is known to be there.
#[derive(Default)]
struct Known {
    moves: [i64; 2],
    batches: i64,
    index: Option<bool>,
    written: usize,
    refused: usize,
    unknown: usize,
    loads: usize,
}

impl Known {
    /// Asserts that what was told in this round is true, and that nothing of earlier rounds is gone.
    async fn check(&mut self, client: &Client, round: u64, mut all: Vec<Told>, loads: Vec<Told>) {
        let both = "USE bank MATCH (a:Account) RETURN SUM(a.amount) AS here NEXT USE vault MATCH (a:Account) RETURN MAX(here) + SUM(a.amount) AS n";
        assert_eq!(single(client, "bank", both).await, json!(2000), "round {round}: half a change");
        self.unknown += all.iter().map(|told| told.unknown.len()).sum::<usize>();
        for told in &mut all {
            told.ask(client, round).await;
        }
        let first = round as i64 * 8 * MOVES_A_WRITER;
        let (bank, vault) = (numbers(client, "bank", first).await, numbers(client, "vault", first).await);
        for told in &all {
            told.assert_true(&bank, round);
            if told.transfers {
                let of_this = told.written.iter().chain(&told.open).chain(&told.refused);
                let half: Vec<_> = of_this.filter(|n| bank.contains(n) != vault.contains(n)).collect();
                assert!(half.is_empty(), "round {round}: in one graph and not in the other: {half:?}");
            }
            self.written += told.written.len();
            self.refused += told.refused.len();
        }
        for (place, (graph, found)) in [("bank", &bank), ("vault", &vault)].into_iter().enumerate() {
            self.moves[place] += found.len() as i64;
            let count = single(client, graph, "MATCH (m:Move) RETURN COUNT(*) AS n").await;
            assert_eq!(count, json!(self.moves[place]), "round {round}: moves of earlier rounds in {graph}");
        }
        let first = round as i64 * 20_000;
        let text =
            format!("MATCH (l:Loaded) WHERE l.batch >= {first} RETURN l.batch AS batch, COUNT(*) AS n");
        let found = query(client, "bank", &text).await;
        assert!(
            found.rows.iter().all(|row| row[1] == json!(ROWS)),
            "round {round}: half a load: {:?}",
            found.rows
        );
        let batches: BTreeSet<i64> = found.rows.iter().map(|row| row[0].as_i64().unwrap()).collect();
        for told in &loads {
            told.assert_true(&batches, round);
            self.loads += told.written.len();
        }
        self.batches += batches.len() as i64;
        let count = single(client, "bank", "MATCH (l:Loaded) RETURN COUNT(*) AS n").await;
        assert_eq!(count, json!(self.batches * ROWS), "round {round}: loads of earlier rounds");
        let model = client.get("/v1/graphs/bank/model").await.unwrap();
        let there =
            model["lookups"].as_array().unwrap().iter().any(|text| text.to_string().contains("moves"));
        assert!(self.index.is_none_or(|told| told == there), "round {round}: the index is there: {there}");
        self.index = Some(there);
    }
}

/// Kills PostgreSQL's first process as a power cut would, and starts it again.
async fn kill_postgres(server: &Arc<PrivateServer>, data: &std::path::Path) {
    let file = std::fs::read_to_string(data.join("postgres/data/postmaster.pid")).unwrap();
    let process: i32 = file.lines().next().unwrap().parse().unwrap();
    let process = rustix::process::Pid::from_raw(process).unwrap();
    rustix::process::kill_process(process, rustix::process::Signal::KILL).unwrap();
    // A signal takes a moment; what is still there is not started again.
    while server.has_process() {
        tokio::task::yield_now().await;
    }
    let server = server.clone();
    assert!(tokio::task::spawn_blocking(move || server.start_again().unwrap()).await.unwrap());
}

async fn kill_backends(server: &PrivateServer) {
    let mut owner = PgConnection::connect(&server.url()).await.unwrap();
    let text = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity
                WHERE backend_type = 'client backend' AND pid <> pg_backend_pid()";
    sqlx::query(text).execute(&mut owner).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_answered_is_true_whatever_dies() {
    let (rounds, seed) = settings(10);
    println!("seed {seed}");
    let mut moments = Moments(seed);
    let (database, data) = (folder(), folder());
    let server = Arc::new(PrivateServer::start(database.path()).unwrap());
    let proxy = Proxy::before(server.socket_folder()).await;
    let url = proxy.url();
    let mut service = Running::start(data.path(), &["--database-url", &url]);
    open_bank(&service.client()).await;
    bank::open(&service.client(), "vault").await;
    let mut known = Known { index: Some(false), ..Known::default() };
    let began = Instant::now();
    for round in 0..rounds {
        let client = service.client();
        let within = Duration::from_secs(120);
        let writers = Writers::with_transfers(&service, round, 6, 2);
        let others = Others::start(&service, round, known.index);
        writers.go_on(1 + moments.next(60) as i64, within).await;
        let killed = match moments.next(5) {
            0 => {
                proxy.cut_answers().await;
                false
            }
            1 => {
                kill_backends(&server).await;
                false
            }
            2 => {
                proxy.shut();
                assert_eq!(
                    single(&client, "bank", "MATCH (a:Account) RETURN COUNT(*) AS n").await,
                    json!(10)
                );
                proxy.open();
                false
            }
            3 => {
                kill_postgres(&server, database.path()).await;
                false
            }
            _ => {
                service.kill();
                service = Running::start(data.path(), &["--database-url", &url]);
                true
            }
        };
        if !killed {
            // And it goes on without a start.
            writers.go_on(20, within).await;
        }
        let mut all = vec![];
        writers.stop(&mut all).await;
        assert!(killed || all.iter().all(|told| told.open.is_empty()), "round {round}: a connection broke");
        let (loads, index) = others.stop().await;
        known.index = index;
        known.check(&service.client(), round, all, loads).await;
        if round % 50 == 49 {
            println!("{} rounds in {:.0} s", round + 1, began.elapsed().as_secs_f64());
        }
    }
    service.kill();
    let service = Running::start(data.path(), &["--database-url", &url]);
    known.check(&service.client(), rounds, vec![], vec![]).await;
    let client = service.client();
    for graph in ["bank", "vault"] {
        let text = "MATCH (a:Account {id: 1}) SET a.amount = a.amount";
        client
            .query(&QueryRequest { graph: Some(graph.into()), text: text.into(), ..Default::default() })
            .await
            .unwrap();
        // It ends badly where something that is stored is not what is in memory.
        stdout(&cli(&service.url, &["graph", "verify", graph]));
    }
    let Known { written, refused, unknown, loads, .. } = known;
    println!(
        "{rounds} rounds: {written} written, {refused} refused, {unknown} not known at first; {loads} loads"
    );
    drop(service);
    server.stop().unwrap();
}
