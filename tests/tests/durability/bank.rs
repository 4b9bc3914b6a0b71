//! Amounts that are moved between accounts: what writers were told must be true, and the sum stays.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::time::{Duration, Instant};

use graphodrome_client::{Client, ClientError, QueryRequest, QueryResult};
use graphodrome_tests::*;
use serde_json::json;

/// What a client was told of its changes, by their numbers.
#[derive(Default)]
pub struct Told {
    pub written: BTreeSet<i64>,
    pub refused: BTreeSet<i64>,
    /// With the tickets to ask by.
    pub unknown: Vec<(i64, i64)>,
    /// Nobody has said anything: the service died.
    pub open: BTreeSet<i64>,
    /// Whether they are changes of two graphs.
    pub transfers: bool,
}

/// The most changes of one writer in a round.
pub const MOVES_A_WRITER: i64 = 1_000_000;

impl Told {
    /// Takes down what the answer to a change was; false where the service is gone.
    fn take(&mut self, number: i64, answer: Result<QueryResult, ClientError>, made: &AtomicI64) -> bool {
        match answer {
            Ok(_) => {
                self.written.insert(number);
                made.fetch_add(1, Ordering::SeqCst);
            }
            Err(ClientError::Problem(problem)) if problem.status == 504 => {
                self.unknown.push((number, problem.ticket.expect("a ticket")));
            }
            Err(ClientError::Problem(problem)) => {
                // Of a transaction: others changed the same, or the model.
                let conflicts = self.transfers && problem.status == 409;
                assert!(problem.status == 503 || conflicts, "{problem:?}");
                self.refused.insert(number);
            }
            Err(_) => {
                self.open.insert(number);
                return false;
            }
        }
        true
    }

    /// Asks for what was not known, until it is.
    pub async fn ask(&mut self, client: &Client, round: u64) {
        for (number, ticket) in std::mem::take(&mut self.unknown) {
            let began = Instant::now();
            let path = format!("/v1/graphs/bank/outcomes/{ticket}");
            let told = loop {
                let answer = client.get(&path).await.unwrap()["outcome"].as_str().unwrap().to_string();
                if answer != "not known yet" {
                    break answer;
                }
                assert!(began.elapsed() < Duration::from_secs(60), "round {round}: {number} stays unknown");
            };
            match &told[..] {
                "written" => self.written.insert(number),
                "not written" => self.refused.insert(number),
                other => panic!("{other}"),
            };
        }
    }

    /// Asserts that what was told is true of what is there.
    pub fn assert_true(&self, found: &BTreeSet<i64>, round: u64) {
        let lost: Vec<_> = self.written.difference(found).collect();
        assert!(lost.is_empty(), "round {round}: answered and lost: {lost:?}");
        let there: Vec<_> = self.refused.intersection(found).collect();
        assert!(there.is_empty(), "round {round}: refused and there: {there:?}");
    }
}

/// Rounds, so many unless ROUNDS says otherwise, and the seed.
pub fn settings(usual: u64) -> (u64, u64) {
    let of = |name: &str, usual: u64| std::env::var(name).map_or(usual, |n| n.parse().unwrap());
    (of("ROUNDS", usual), of("SEED", std::process::id().into()))
}

/// Moves an amount between two accounts and notes its number, again and again; the sum of all stays.
pub async fn move_amounts(client: Client, writer: i64, stop: Arc<AtomicBool>, made: Arc<AtomicI64>) -> Told {
    let mut told = Told::default();
    let mut n = 0;
    while !stop.load(Ordering::SeqCst) {
        n += 1;
        let (from, to) = ((writer + n) % 10, (writer * 3 + n * 7 + 1) % 10);
        if from == to {
            continue;
        }
        let number = writer * MOVES_A_WRITER + n;
        let text = format!(
            "MATCH (a:Account {{id: {from}}}), (b:Account {{id: {to}}})
             SET a.amount = a.amount - 1, b.amount = b.amount + 1
             INSERT (:Move {{n: {number}}})"
        );
        if !told.take(number, client.query(&request("bank", &text)).await, &made) {
            break;
        }
    }
    told
}

/// The same between accounts of two graphs, each time in a transaction.
async fn transfer(client: Client, writer: i64, stop: Arc<AtomicBool>, made: Arc<AtomicI64>) -> Told {
    let mut told = Told { transfers: true, ..Told::default() };
    for n in 1.. {
        if stop.load(Ordering::SeqCst) {
            break;
        }
        let (from, to) = ((writer + n) % 10, (writer * 3 + n * 7 + 1) % 10);
        let number = writer * MOVES_A_WRITER + n;
        let change = |id: i64, by: &str| {
            format!(
                "MATCH (a:Account {{id: {id}}}) SET a.amount = a.amount {by} INSERT (:Move {{n: {number}}})"
            )
        };
        let text = format!(
            "START TRANSACTION; USE bank {}; USE vault {}; COMMIT",
            change(from, "- 1"),
            change(to, "+ 1")
        );
        let Ok(session) = client.open_session(None).await else { break };
        let request = QueryRequest { text, session: Some(session.clone()), ..QueryRequest::default() };
        if !told.take(number, client.query(&request).await, &made) {
            break;
        }
        // One that broke off is rolled back with its session.
        let _ = client.close_session(&session).await;
    }
    told
}

pub async fn numbers(client: &Client) -> BTreeSet<i64> {
    let found = query(client, "bank", "MATCH (m:Move) RETURN m.n AS n").await;
    found.rows.iter().map(|row| row[0].as_i64().unwrap()).collect()
}

pub async fn open_bank(client: &Client) {
    open(client, "bank").await;
}

pub async fn open(client: &Client, graph: &str) {
    client.create_graph(graph, None).await.unwrap();
    query(client, graph, "FOR i IN [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] INSERT (:Account {id: i, amount: 100})")
        .await;
    query(client, graph, "CREATE KEY account OVER (:Account {id})").await;
}

/// Asserts that what was told is true, asking for what was not known.
pub async fn assert_true(client: &Client, all: &mut [Told], round: u64) {
    for told in all.iter_mut() {
        told.ask(client, round).await;
    }
    let found = numbers(client).await;
    let sum = single(client, "bank", "MATCH (a:Account) RETURN SUM(a.amount) AS n").await;
    assert_eq!(sum, json!(1000), "round {round}: half a change");
    all.iter().for_each(|told| told.assert_true(&found, round));
}

/// Random moments out of a seed.
pub struct Moments(pub u64);

impl Moments {
    pub fn next(&mut self, below: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (self.0 >> 33) % below
    }
}

/// Writers that move amounts until they are told to stop.
pub struct Writers {
    stop: Arc<AtomicBool>,
    made: Arc<AtomicI64>,
    running: Vec<tokio::task::JoinHandle<Told>>,
}

impl Writers {
    pub fn start(service: &Running, round: u64, count: i64) -> Writers {
        Writers::with_transfers(service, round, count, 0)
    }

    /// With so many more that move amounts between two graphs; eight of both at most.
    pub fn with_transfers(service: &Running, round: u64, count: i64, transfers: i64) -> Writers {
        let (stop, made) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicI64::new(0)));
        let start = |writer| {
            let (number, client) = (round as i64 * 8 + writer, service.client());
            let (stop, made) = (stop.clone(), made.clone());
            match writer < count {
                true => tokio::spawn(move_amounts(client, number, stop, made)),
                false => tokio::spawn(transfer(client, number, stop, made)),
            }
        };
        let running = (0..count + transfers).map(start).collect();
        Writers { stop, made, running }
    }

    /// Changes that were answered.
    pub fn made(&self) -> i64 {
        self.made.load(Ordering::SeqCst)
    }

    /// Waits for so many more changes.
    pub async fn go_on(&self, more: i64, within: Duration) {
        let (began, first) = (Instant::now(), self.made());
        while self.made() < first + more {
            assert!(began.elapsed() < within, "changes do not come on");
            tokio::task::yield_now().await;
        }
    }

    pub async fn stop(self, all: &mut Vec<Told>) {
        self.stop.store(true, Ordering::SeqCst);
        for writer in self.running {
            all.push(writer.await.unwrap());
        }
    }
}

pub fn print(all: &[Told]) {
    let count = |of: fn(&Told) -> usize| all.iter().map(of).sum::<usize>();
    println!("{} written, {} refused", count(|t| t.written.len()), count(|t| t.refused.len()));
}
