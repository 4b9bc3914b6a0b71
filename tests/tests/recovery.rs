//! Kill -9 at random moments of commits and loads: nothing that was answered is lost, nothing half is
//! seen.

#![allow(clippy::unwrap_used)]

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::time::{Duration, Instant};

use graphodrome_store::PrivateServer;
use graphodrome_tests::*;

/// A small generator of moments; the seed is printed, so that a failure can be run again.
struct Moments(u64);

impl Moments {
    fn next(&mut self, below: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (self.0 >> 33) % below
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn answered_commits_survive_a_kill_and_half_ones_are_not_seen() {
    let folder = folder();
    let seed = std::process::id() as u64;
    println!("seed {seed}");
    let mut moments = Moments(seed);
    let answered = Arc::new(AtomicI64::new(0));
    let mut begun = 0;
    for round in 0..12 {
        let service = Running::start(folder.path(), &[]);
        let client = service.client();
        if round == 0 {
            client.create_graph("log", None).await.unwrap();
        }
        // Pairs are made in one statement: always both or none.
        let found = query(&client, "log", "MATCH (e:Entry)-[:OF]->(p:Pair) RETURN e.n AS n ORDER BY n").await;
        let numbers: Vec<i64> = found.rows.iter().map(|r| r[0].as_i64().unwrap()).collect();
        let kept = answered.load(Ordering::SeqCst);
        for n in 1..=kept {
            assert!(numbers.contains(&n), "round {round}: commit {n} was answered and is lost");
        }
        assert!(numbers.iter().all(|n| *n <= begun), "an entry nobody made");
        let nodes = single(&client, "log", "MATCH (n) RETURN COUNT(*) AS n").await.as_i64().unwrap();
        assert_eq!(nodes, 2 * numbers.len() as i64, "half a commit is seen");
        let first = numbers.last().copied().unwrap_or(0).max(kept) + 1;
        let writing = {
            let (client, answered) = (client.clone(), answered.clone());
            tokio::spawn(async move {
                for n in first..first + 2_000 {
                    let text = format!("INSERT (:Entry {{n: {n}}})-[:OF]->(:Pair {{n: {n}}})");
                    if client.query(&request("log", &text)).await.is_err() {
                        return n;
                    }
                    answered.store(n, Ordering::SeqCst);
                }
                first + 2_000
            })
        };
        // At least a few commits, then at any moment.
        let wanted = kept.max(first - 1) + 3 + moments.next(40) as i64;
        let started = Instant::now();
        while answered.load(Ordering::SeqCst) < wanted {
            assert!(started.elapsed() < Duration::from_secs(60), "commits do not come on");
            tokio::task::yield_now().await;
        }
        service.kill();
        begun = writing.await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_load_that_is_killed_publishes_nothing() {
    let folder = folder();
    let mut moments = Moments(std::process::id() as u64);
    let mapping = "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabels = [\"N\"]\nkey = [\"id\"]\nproperties = { id = \"id\" }\ntypes = { id = \"INT64\" }\n";
    let rows: String =
        std::iter::once("id\n".to_string()).chain((0..400_000).map(|i| format!("{i}\n"))).collect();
    let mut whole = 0;
    for round in 0..8 {
        let service = Running::start(folder.path(), &[]);
        let client = service.client();
        if round == 0 {
            client.create_graph("bulk", None).await.unwrap();
        }
        let count = single(&client, "bulk", "MATCH (n:N) RETURN COUNT(*) AS n").await.as_i64().unwrap();
        assert!(count == 0 || count == 400_000, "round {round}: half a load is seen: {count}");
        if round > 0 {
            let jobs = client.jobs().await.unwrap();
            assert!(jobs.iter().all(|j| j.state != "running"), "a job of a dead service still runs");
        }
        whole += (count > 0) as u32;
        let job = client.load_texts("bulk", mapping, &[("n.csv", &rows)]).await.unwrap();
        let progress =
            |job: &graphodrome_client::Job| job.progress.as_ref().map_or(u64::MAX, |p| p.rows_read);
        let until = moments.next(500_000);
        loop {
            let now = client.job(job.id, 0).await.unwrap();
            if now.state != "running" || progress(&now) >= until {
                break;
            }
        }
        service.kill();
    }
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    let job = client.load_texts("bulk", mapping, &[("n.csv", &rows)]).await.unwrap();
    assert_eq!(client.wait(job.id).await.unwrap().state, "done");
    assert_eq!(single(&client, "bulk", "MATCH (n:N) RETURN COUNT(*) AS n").await, 400_000);
    println!("{whole} of 8 rounds found a whole load");
}

/// Stops the service's PostgreSQL and starts it again.
async fn restart_postgres(data: &std::path::Path) {
    let data = data.to_path_buf();
    let restart = move || {
        PrivateServer::start(&data).unwrap().stop().unwrap();
        PrivateServer::start(&data).unwrap();
    };
    tokio::task::spawn_blocking(restart).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_answered_is_true_when_postgres_is_restarted_under_loads_and_commits() {
    let folder = folder();
    let mut moments = Moments(std::process::id() as u64 + 1);
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("bulk", None).await.unwrap();
    client.create_graph("log", None).await.unwrap();
    let rows: String =
        std::iter::once("id\n".to_string()).chain((0..150_000).map(|i| format!("{i}\n"))).collect();
    let (mut loaded, mut made) = (0, 0);
    for round in 0..6 {
        let mapping = format!(
            "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabels = [\"N{round}\"]\nkey = [\"id\"]\nproperties = {{ id = \"id\" }}\ntypes = {{ id = \"INT64\" }}\n"
        );
        let job = client.load_texts("bulk", &mapping, &[("n.csv", &rows)]).await.unwrap();
        let ends = Arc::new(AtomicBool::new(false));
        let writing = {
            let (client, ends) = (client.clone(), ends.clone());
            tokio::spawn(async move {
                let (mut yes, mut tried) = (0, 0);
                while !ends.load(Ordering::SeqCst) || tried == 0 {
                    tried += 1;
                    let wanted = request("log", "INSERT (:Entry)");
                    yes += client.query(&wanted).await.is_ok() as i64;
                }
                yes
            })
        };
        let until = moments.next(250_000);
        loop {
            let now = client.job(job.id, 0).await.unwrap();
            let read = now.progress.as_ref().map_or(u64::MAX, |p| p.rows_read);
            if now.state != "running" || read >= until {
                break;
            }
        }
        restart_postgres(folder.path()).await;
        let ended = client.wait(job.id).await.unwrap();
        loaded += (ended.state == "done") as i64;
        ends.store(true, Ordering::SeqCst);
        made += writing.await.unwrap();
        // Whatever came through: nothing half, and what was answered.
        assert_eq!(single(&client, "bulk", "MATCH (n) RETURN COUNT(*) AS n").await, loaded * 150_000);
        assert_eq!(single(&client, "log", "MATCH (n) RETURN COUNT(*) AS n").await, made);
        // And it goes on.
        query(&client, "log", "INSERT (:Entry)").await;
        made += 1;
    }
    println!("{loaded} of 6 loads and {made} commits came through");
    service.kill();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    assert_eq!(single(&client, "bulk", "MATCH (n) RETURN COUNT(*) AS n").await, loaded * 150_000);
    assert_eq!(single(&client, "log", "MATCH (n) RETURN COUNT(*) AS n").await, made);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_load_is_cancelled_and_queries_answer_meanwhile() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("bulk", None).await.unwrap();
    let mapping = "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabels = [\"N\"]\nkey = [\"id\"]\nproperties = { id = \"id\" }\n";
    let rows: String =
        std::iter::once("id\n".to_string()).chain((0..1_500_000).map(|i| format!("row {i}\n"))).collect();
    let job = client.load_texts("bulk", mapping, &[("n.csv", &rows)]).await.unwrap();
    assert_eq!(single(&client, "bulk", "MATCH (n) RETURN COUNT(*) AS n").await, 0);
    // It may have ended first, on a fast machine; then there is nothing to cancel.
    match client.cancel(job.id).await {
        Ok(cancelled) if cancelled.state == "cancelled" => {
            assert_eq!(single(&client, "bulk", "MATCH (n) RETURN COUNT(*) AS n").await, 0);
        }
        _ => assert_eq!(client.wait(job.id).await.unwrap().state, "done"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn clients_that_go_away_in_a_commit_leave_no_gap_in_the_log() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("log", None).await.unwrap();
    let mut moments = Moments(std::process::id() as u64);
    for n in 0..150 {
        let wanted = request("log", &format!("INSERT (:Entry {{n: {n}}})"));
        // Dropping the request closes its connection, anywhere between sending and the answer.
        let patience = Duration::from_micros(200 + moments.next(4_000));
        let _ = tokio::time::timeout(patience, client.query(&wanted)).await;
    }
    query(&client, "log", "INSERT (:Entry {n: -1})").await;
    let before = single(&client, "log", "MATCH (e:Entry) RETURN COUNT(*) AS n").await;
    service.kill();
    let service = Running::start(folder.path(), &[]);
    assert_eq!(single(&service.client(), "log", "MATCH (e:Entry) RETURN COUNT(*) AS n").await, before);
}

/// Renamings, keys and indexes among commits, killed at any moment: the model and the elements always agree,
/// and the keys hold.
#[tokio::test(flavor = "multi_thread")]
async fn a_model_changes_whole_or_not_at_all() {
    let folder = folder();
    let seed = std::process::id() as u64;
    println!("seed {seed}");
    let mut moments = Moments(seed);
    let mut wanted = 0;
    let (mut next, mut changed) = (20_000, 0);
    for round in 0..8 {
        let service = Running::start(folder.path(), &[]);
        let client = service.client();
        if round == 0 {
            let model = "CREATE GRAPH TYPE t AS { (N :N { id INT64 NOT NULL, v INT64 NOT NULL } KEY (id)) };
                CREATE GRAPH g TYPED t";
            client
                .query(&graphodrome_client::QueryRequest { text: model.into(), ..Default::default() })
                .await
                .unwrap();
            let rows: String =
                std::iter::once("id\n".to_string()).chain((0..20_000).map(|i| format!("{i}\n"))).collect();
            let mapping = "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabels = [\"N\"]\nproperties = { id = \"id\", v = \"id\" }\n";
            let job = client.load_texts("g", mapping, &[("n.csv", &rows)]).await.unwrap();
            assert_eq!(client.wait(job.id).await.unwrap().state, "done");
        }
        // One of the two names is in the model; all elements have it, and none has the other.
        let model = client.get("/v1/graphs/g/model").await.unwrap();
        let text = model["text"].as_str().unwrap();
        let (own, other) = if text.contains("v INT64") { ("v", "w") } else { ("w", "v") };
        assert!(text.contains(&format!("{own} INT64 NOT NULL")), "{text}");
        let count = single(&client, "g", "MATCH (n:N) RETURN COUNT(*)").await.as_i64().unwrap();
        assert!(count >= wanted, "round {round}: {count} of {wanted} are left");
        wanted = count;
        let whole = format!("MATCH (n:N) WHERE n.{own} = n.id RETURN COUNT(*)");
        assert_eq!(single(&client, "g", &whole).await, count, "round {round}: half a renaming is seen");
        let indexed = model["lookups"].to_string();
        let by_value = format!("MATCH (n:N) WHERE n.{own} BETWEEN 100 AND 109 RETURN COUNT(*)");
        assert_eq!(single(&client, "g", &by_value).await, 10, "{indexed}");
        let twice = client.query(&request("g", &format!("INSERT (:N {{id: 7, {own}: 7}})"))).await;
        assert!(twice.is_err(), "the key does not hold");
        // Changes of every kind, one after the other, until the service is gone.
        let ended = Arc::new(AtomicI64::new(0));
        let working = {
            let (client, ended, index) = (client.clone(), ended.clone(), indexed.contains("by_value"));
            let (mut own, mut other, mut index, mut id) = (own, other, index, next);
            tokio::spawn(async move {
                loop {
                    let turn = ended.load(Ordering::SeqCst) % 4;
                    let text = match turn {
                        0 => format!("ALTER GRAPH g RENAME PROPERTY {own} TO {other} ON NODE N"),
                        1 if index => "DROP INDEX by_value".to_string(),
                        1 => format!("CREATE INDEX by_value OVER (:N {{{own}}})"),
                        _ => format!("INSERT (:N {{id: {id}, {own}: {id}}})"),
                    };
                    if client.query(&request("g", &text)).await.is_err() {
                        return id;
                    }
                    match turn {
                        0 => std::mem::swap(&mut own, &mut other),
                        1 => index = !index,
                        _ => id += 1,
                    }
                    ended.fetch_add(1, Ordering::SeqCst);
                }
            })
        };
        let until = 2 + moments.next(12) as i64;
        let patience = Duration::from_micros(moments.next(60_000));
        let started = Instant::now();
        while ended.load(Ordering::SeqCst) < until || started.elapsed() < patience {
            assert!(started.elapsed() < Duration::from_secs(60), "changes do not come on");
            tokio::task::yield_now().await;
        }
        service.kill();
        changed += ended.load(Ordering::SeqCst);
        // The last insert may have been done without an answer: its id is not used again.
        next = working.await.unwrap() + 1;
    }
    println!("{changed} changes in 8 rounds");
}
