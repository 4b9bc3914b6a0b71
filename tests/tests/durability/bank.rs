//! Amounts that are moved between accounts: what writers were told must be true, and the sum stays.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::time::{Duration, Instant};

use graphodrome_client::{Client, ClientError};
use graphodrome_tests::*;
use serde_json::json;

/// What a client was told of its changes, by their numbers.
#[derive(Default)]
pub struct Told {
    pub written: BTreeSet<i64>,
    pub refused: BTreeSet<i64>,
    /// With the tickets to ask by.
    pub unknown: Vec<(i64, i64)>,
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
        let number = writer * 1_000_000 + n;
        let text = format!(
            "MATCH (a:Account {{id: {from}}}), (b:Account {{id: {to}}})
             SET a.amount = a.amount - 1, b.amount = b.amount + 1
             INSERT (:Move {{n: {number}}})"
        );
        match client.query(&request("bank", &text)).await {
            Ok(_) => {
                told.written.insert(number);
                made.fetch_add(1, Ordering::SeqCst);
            }
            Err(ClientError::Problem(problem)) if problem.status == 504 => {
                told.unknown.push((number, problem.ticket.expect("a ticket")));
            }
            Err(ClientError::Problem(problem)) => {
                assert_eq!(problem.status, 503, "{problem:?}");
                told.refused.insert(number);
            }
            Err(other) => panic!("{other}"),
        }
    }
    told
}

pub async fn numbers(client: &Client) -> BTreeSet<i64> {
    let found = query(client, "bank", "MATCH (m:Move) RETURN m.n AS n").await;
    found.rows.iter().map(|row| row[0].as_i64().unwrap()).collect()
}

pub async fn open_bank(client: &Client) {
    client.create_graph("bank", None).await.unwrap();
    query(client, "bank", "FOR i IN [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] INSERT (:Account {id: i, amount: 100})")
        .await;
    query(client, "bank", "CREATE KEY account OVER (:Account {id})").await;
}

/// Asserts that what was told is true, asking for what was not known.
pub async fn assert_true(client: &Client, all: &[Told], round: u64) {
    let found = numbers(client).await;
    let sum = single(client, "bank", "MATCH (a:Account) RETURN SUM(a.amount) AS n").await;
    assert_eq!(sum, json!(1000), "round {round}: half a change");
    for told in all {
        let lost: Vec<_> = told.written.difference(&found).collect();
        assert!(lost.is_empty(), "round {round}: answered and lost: {lost:?}");
        let there: Vec<_> = told.refused.intersection(&found).collect();
        assert!(there.is_empty(), "round {round}: refused and there: {there:?}");
        for (number, ticket) in &told.unknown {
            let began = Instant::now();
            loop {
                let answer = client.get(&format!("/v1/graphs/bank/outcomes/{ticket}")).await.unwrap();
                let there = numbers(client).await.contains(number);
                match answer["outcome"].as_str().unwrap() {
                    "written" => assert!(there, "round {round}: {number} is said to be written"),
                    "not written" => assert!(!there, "round {round}: {number} is said not to be written"),
                    "not known yet" => {
                        assert!(began.elapsed() < Duration::from_secs(60), "{number} stays unknown");
                        continue;
                    }
                    other => panic!("{other}"),
                }
                break;
            }
        }
    }
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
        let (stop, made) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicI64::new(0)));
        let start = |writer| {
            let number = round as i64 * 8 + writer;
            tokio::spawn(move_amounts(service.client(), number, stop.clone(), made.clone()))
        };
        let running = (0..count).map(start).collect();
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
    println!(
        "{} written, {} refused, {} not known at first",
        count(|t| t.written.len()),
        count(|t| t.refused.len()),
        count(|t| t.unknown.len())
    );
}
