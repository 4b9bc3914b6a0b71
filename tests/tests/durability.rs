//! Broken connections, dying servers, and a second service: answered changes are stored, refused ones are not, and
//! unknown outcomes are resolved later.

#![allow(clippy::unwrap_used)]

#[path = "durability/bank.rs"]
mod bank;
#[path = "durability/everything.rs"]
mod everything;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::time::{Duration, Instant};

use graphodrome_client::ClientError;
use graphodrome_store::PrivateServer;
use graphodrome_tests::proxy::Proxy;
use graphodrome_tests::*;
use sea_orm::sqlx::{self, Connection, PgConnection};
use serde_json::json;

use bank::{Moments, Told, Writers, assert_true, move_amounts, numbers, open_bank, settings};

#[tokio::test(flavor = "multi_thread")]
async fn broken_connections_leave_nothing_to_guess() {
    let (rounds, seed) = settings(12);
    println!("seed {seed}");
    let mut moments = Moments(seed);
    let (database, data) = (folder(), folder());
    let server = PrivateServer::start(database.path()).unwrap();
    let proxy = Proxy::before(server.socket_folder()).await;
    let url = proxy.url();
    let mut service = Running::start(data.path(), &["--database-url", &url]);
    open_bank(&service.client()).await;
    let mut all = vec![];
    let mut owner = PgConnection::connect(&server.url()).await.unwrap();
    for round in 0..rounds {
        let client = service.client();
        let writers = Writers::start(&service, round, 8);
        let within = Duration::from_secs(60);
        writers.go_on(1 + moments.next(60) as i64, within).await;
        match moments.next(4) {
            // In the middle of an answer.
            0 | 1 => proxy.cut_answers().await,
            // The backends that write, from inside.
            2 => {
                let text = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity
                            WHERE backend_type = 'client backend' AND pid <> pg_backend_pid()";
                sqlx::query(text).execute(&mut owner).await.unwrap();
            }
            // All of it, for a while: what is read goes on.
            _ => {
                proxy.shut();
                let count = single(&client, "bank", "MATCH (a:Account) RETURN COUNT(*) AS n").await;
                assert_eq!(count, json!(10));
                proxy.open();
            }
        }
        // And it goes on without a start.
        writers.go_on(20, within).await;
        writers.stop(&mut all).await;
        assert_true(&client, &mut all, round).await;
        if round % 4 == 3 {
            service.kill();
            service = Running::start(data.path(), &["--database-url", &url]);
            assert_true(&service.client(), &mut all, round).await;
        }
    }
    bank::print(&all);
    drop(service);
    server.stop().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_write_whose_answer_stays_away_can_be_asked_for() {
    let (database, data) = (folder(), folder());
    let server = PrivateServer::start(database.path()).unwrap();
    let proxy = Proxy::before(server.socket_folder()).await;
    let service = Running::start(data.path(), &["--database-url", &proxy.url()]);
    let client = service.client();
    open_bank(&client).await;
    let stop = Arc::new(AtomicBool::new(false));
    let made = Arc::new(AtomicI64::new(0));
    let writer = tokio::spawn(move_amounts(service.client(), 1, stop.clone(), made.clone()));
    while made.load(Ordering::SeqCst) < 5 {
        tokio::task::yield_now().await;
    }
    // No answer to what is asked now, and no way to ask what became of it.
    proxy.cut_answers().await;
    proxy.shut();
    // A writer is not kept waiting for ever.
    let refused = match client.query(&request("bank", "INSERT (:Move {n: -1})")).await {
        Err(ClientError::Problem(problem)) => problem,
        other => panic!("{other:?}"),
    };
    assert!(matches!(refused.status, 503 | 504), "{refused:?}");
    stop.store(true, Ordering::SeqCst);
    let mut told = writer.await.unwrap();
    match refused.ticket {
        Some(ticket) => told.unknown.push((-1, ticket)),
        None => {
            told.refused.insert(-1);
        }
    }
    // What is there is read meanwhile.
    assert_eq!(single(&client, "bank", "MATCH (a:Account) RETURN COUNT(*) AS n").await, json!(10));
    proxy.open();
    assert_true(&client, &mut [told], 0).await;
    query(&client, "bank", "INSERT (:Move {n: -2})").await;
    drop(service);
    server.stop().unwrap();
}

/// Takes the lock away from the service that holds it.
async fn break_lock(url: &str) {
    let mut owner = PgConnection::connect(url).await.unwrap();
    let text = "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory'";
    sqlx::query(text).execute(&mut owner).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_service_that_took_over_is_the_only_one_that_writes() {
    let (database, first_data, second_data) = (folder(), folder(), folder());
    let server = PrivateServer::start(database.path()).unwrap();
    let url = server.url();
    let arguments = ["--database-url", &url];
    let mut first = Running::start(first_data.path(), &arguments);
    open_bank(&first.client()).await;
    let mut all = vec![];
    let (rounds, _) = settings(4);
    for round in 0..rounds as i64 {
        let (stop, made) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicI64::new(0)));
        let writers: Vec<_> = (0..4)
            .map(|writer| {
                let (client, stop, made) = (first.client(), stop.clone(), made.clone());
                tokio::spawn(async move {
                    let mut told = Told::default();
                    for n in 0.. {
                        let number = (round * 4 + writer) * 1_000_000 + n;
                        let text = format!("INSERT (:Move {{n: {number}}})");
                        match client.query(&request("bank", &text)).await {
                            Ok(_) => {
                                told.written.insert(number);
                                made.fetch_add(1, Ordering::SeqCst);
                            }
                            Err(ClientError::Problem(problem)) if problem.status != 504 => {
                                told.refused.insert(number);
                            }
                            // It ended, or nobody knows: then both is true.
                            Err(_) => return told,
                        }
                        if stop.load(Ordering::SeqCst) {
                            return told;
                        }
                    }
                    told
                })
            })
            .collect();
        while made.load(Ordering::SeqCst) < 20 {
            tokio::task::yield_now().await;
        }
        // Before it takes its lock again another one is there.
        let breaking = AtomicBool::new(true);
        let second = tokio::task::block_in_place(|| {
            std::thread::scope(|scope| {
                scope.spawn(|| {
                    let runtime = tokio::runtime::Runtime::new().unwrap();
                    while breaking.load(Ordering::SeqCst) {
                        runtime.block_on(break_lock(&url));
                    }
                });
                let second = Running::start(second_data.path(), &arguments);
                breaking.store(false, Ordering::SeqCst);
                second
            })
        });
        // The first one ends by itself, and says why.
        let ended = first.wait();
        assert!(!ended.0, "it should say that something is wrong");
        assert!(ended.1.contains("taken over"), "{}", ended.1);
        stop.store(true, Ordering::SeqCst);
        for writer in writers {
            all.push(writer.await.unwrap());
        }
        assert_true(&second.client(), &mut all, round as u64).await;
        first = second;
    }
    drop(first);
    server.stop().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_postgres_that_dies_is_started_again() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    open_bank(&client).await;
    for round in 0..3 {
        let file = std::fs::read_to_string(data.path().join("postgres/data/postmaster.pid")).unwrap();
        let process: i32 = file.lines().next().unwrap().parse().unwrap();
        let process = rustix::process::Pid::from_raw(process).unwrap();
        rustix::process::kill_process(process, rustix::process::Signal::KILL).unwrap();
        // What is in memory is read.
        assert_eq!(single(&client, "bank", "MATCH (a:Account) RETURN COUNT(*) AS n").await, json!(10));
        let began = Instant::now();
        let text = format!("INSERT (:Move {{n: {round}}})");
        while let Err(error) = client.query(&request("bank", &text)).await {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not come back: {error}");
            let ClientError::Problem(problem) = error else { panic!("{error}") };
            assert_eq!(problem.status, 503, "{problem:?}");
        }
    }
    assert_eq!(numbers(&client).await.len(), 3);
    service.kill();
    let service = Running::start(data.path(), &[]);
    assert_eq!(numbers(&service.client()).await.len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_graph_is_offline_and_the_others_serve() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    for graph in ["whole", "gap", "torn"] {
        client.create_graph(graph, None).await.unwrap();
        for n in 0..3 {
            query(&client, graph, &format!("INSERT (:N {{n: {n}}})")).await;
        }
    }
    let mapping = "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabels = [\"M\"]\nkey = [\"id\"]\nproperties = { id = \"id\" }\n";
    let job = client.load_texts("torn", mapping, &[("n.csv", "id\na\nb\n")]).await.unwrap();
    assert_eq!(client.wait(job.id).await.unwrap().state, "done");
    service.kill();
    let graph = |name: &str| format!("(SELECT id FROM graphs WHERE name = '{name}')");
    in_database(
        data.path(),
        &format!("DELETE FROM commits WHERE graph_id = {} AND version = 2", graph("gap")),
    )
    .await;
    in_database(
        data.path(),
        &format!(
            "UPDATE segment_pages SET data = set_byte(data, 40, get_byte(data, 40) # 255)
             WHERE segment_id IN (SELECT id FROM segments WHERE graph_id = {})",
            graph("torn")
        ),
    )
    .await;
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    assert_eq!(single(&client, "whole", "MATCH (n) RETURN COUNT(*) AS n").await, json!(3));
    query(&client, "whole", "INSERT (:N {n: 3})").await;
    for (name, reason) in [("gap", "commit 2"), ("torn", "damaged")] {
        let listed = client.get("/v1/graphs").await.unwrap();
        let entry = listed.as_array().unwrap().iter().find(|g| g["name"] == name).unwrap().clone();
        assert!(entry["offline"].as_str().unwrap().contains(reason), "{entry}");
        let ClientError::Problem(problem) =
            client.query(&request(name, "MATCH (n) RETURN n")).await.unwrap_err()
        else {
            panic!("no problem")
        };
        assert_eq!(problem.status, 503);
        assert!(problem.detail.contains("offline") && problem.hint.is_some(), "{problem:?}");
    }
    let shown = stdout(&cli(&service.url, &["graph", "list"]));
    assert!(shown.contains("gap is offline: "), "{shown}");
    // Nothing of it was removed by the start; it goes when it is told to.
    assert!(client.create_graph("gap", None).await.is_err());
    query(&client, "whole", "DROP GRAPH gap").await;
    query(&client, "whole", "CREATE OR REPLACE GRAPH torn ANY").await;
    assert_eq!(single(&client, "torn", "MATCH (n) RETURN COUNT(*) AS n").await, json!(0));
    assert_eq!(client.get("/v1/graphs").await.unwrap().as_array().unwrap().len(), 2);
    service.kill();
    let service = Running::start(data.path(), &[]);
    assert_eq!(single(&service.client(), "whole", "MATCH (n) RETURN COUNT(*) AS n").await, json!(4));
}

#[tokio::test(flavor = "multi_thread")]
async fn many_busy_graphs_share_few_connections() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    let graphs: Vec<String> = (0..24).map(|i| format!("g{i}")).collect();
    for graph in &graphs {
        client.create_graph(graph, None).await.unwrap();
    }
    let writers: Vec<_> = graphs
        .iter()
        .map(|graph| {
            let (client, graph) = (service.client(), graph.clone());
            tokio::spawn(async move {
                for n in 0..20 {
                    query(&client, &graph, &format!("INSERT (:N {{n: {n}}})")).await;
                }
            })
        })
        .collect();
    // Something that needs a connection of its own, meanwhile.
    while !writers.iter().all(tokio::task::JoinHandle::is_finished) {
        client.get("/v1/jobs").await.unwrap();
    }
    for writer in writers {
        writer.await.unwrap();
    }
    for graph in &graphs {
        assert_eq!(single(&client, graph, "MATCH (n) RETURN COUNT(*) AS n").await, json!(20));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_could_not_be_stored_are_refused_everywhere() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    for text in
        ["INSERT (:`A\0B`)", "INSERT (:A {`x\0y`: 1})", "MATCH (n) SET n.`a\0` = 1", "CREATE GRAPH `h\0` ANY"]
    {
        let ClientError::Problem(problem) = client.query(&request("g", text)).await.unwrap_err() else {
            panic!("{text:?}")
        };
        assert!(problem.status == 400 && problem.detail.contains("U+0000"), "{text:?}: {problem:?}");
    }
    let node = json!({ "labels": ["A\0"], "properties": {} });
    let http = reqwest::Client::new();
    let made = http.post(format!("{}/v1/graphs/g/nodes", service.url)).json(&node).send().await.unwrap();
    assert_eq!(made.status(), 422);
    let mapping = "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabel_from = \"kind\"\nlabels = [\"N\"]\nkey = [\"id\"]\nproperties = { id = \"id\" }\n";
    // A header with it fails the load; a label with it rejects the row, which is legible afterwards.
    let job = client.load_texts("g", mapping, &[("n.csv", "id,ki\0nd\n1,A\n")]).await;
    let failed = match job {
        Ok(job) => client.wait(job.id).await.unwrap().detail["error"].to_string(),
        Err(error) => error.to_string(),
    };
    assert!(failed.contains("U+0000"), "{failed}");
    let job = client.load_texts("g", mapping, &[("n.csv", "id,kind\n1,A\0B\n2,C\n")]).await.unwrap();
    let job = client.wait(job.id).await.unwrap();
    assert_eq!(job.detail["account"]["nodes_created"], json!(1), "{}", job.detail);
    let rejects = client.get(&format!("/v1/jobs/{}/rejects", job.id)).await.unwrap();
    assert!(rejects.to_string().contains("A\u{2400}B"), "{rejects}");
    for path in ["saved/a%00b", "graphs/a%00b", "graph-types/a%00b"] {
        let found = http.get(format!("{}/v1/{path}", service.url)).send().await.unwrap();
        assert_eq!(found.status(), 404, "{path}");
    }
    // A text holds it, also in a key, and it is there after a start.
    query(&client, "g", "INSERT (:T {x: 'a\\u0000b'})").await;
    query(&client, "g", "CREATE KEY t OVER (:T {x})").await;
    service.kill();
    let service = Running::start(data.path(), &[]);
    let text = "MATCH (t:T {x: 'a\\u0000b'}) RETURN COUNT(*) AS n";
    assert_eq!(single(&service.client(), "g", text).await, json!(1));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_runs_is_finished_when_the_service_is_told_to_stop() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "FOR i IN [1, 2, 3, 4, 5, 6, 7, 8, 9, 10] INSERT (:N {i: i})").await;
    // More rows than lie anywhere on the way: while they are not read the query runs.
    let text = "MATCH (a:N), (b:N), (c:N), (d:N), (e:N), (f:N) RETURN a.i AS a, b.i AS b, c.i AS c, d.i AS d";
    let asked = json!({ "text": text, "graph": "g" });
    let http = reqwest::Client::new();
    let mut answer = http.post(format!("{}/v1/query", service.url)).json(&asked).send().await.unwrap();
    let mut body = answer.chunk().await.unwrap().unwrap().to_vec();
    let url = service.url.clone();
    let stopping = tokio::task::spawn_blocking(move || service.interrupt());
    // From now on nothing else is taken.
    let began = Instant::now();
    while http.get(format!("{url}/v1/ready")).send().await.is_ok_and(|ready| ready.status() == 200) {
        assert!(began.elapsed() < Duration::from_secs(30), "it does not stop");
    }
    while let Some(more) = answer.chunk().await.unwrap() {
        body.extend(more);
    }
    let answer: serde_json::Value = serde_json::from_slice(&body).expect("it is finished");
    assert_eq!(answer["summary"]["rows"], json!(1_000_000));
    assert_eq!(answer["rows"].as_array().unwrap().len(), 1_000_000);
    assert!(stopping.await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_few_elements_changed_again_and_again_are_folded() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "FOR i IN [0, 1, 2, 3] INSERT (:N {i: i, v: 0})").await;
    let key = query(&client, "g", "MATCH (n:N {i: 0}) RETURN n").await.rows[0][0]["id"].clone();
    assert!(key.is_string());
    // By queries, many at a time.
    let writers: Vec<_> = (0..32)
        .map(|writer| {
            let client = service.client();
            tokio::spawn(async move {
                for _ in 0..1_600 {
                    let text = format!("MATCH (n:N {{i: {}}}) SET n.v = n.v + 1", writer % 4);
                    query(&client, "g", &text).await;
                }
            })
        })
        .collect();
    for writer in writers {
        writer.await.unwrap();
    }
    // A base is made of the log; a start reads what comes after it.
    let server = PrivateServer::start(data.path()).unwrap();
    let mut owner = PgConnection::connect(&server.url()).await.unwrap();
    let began = Instant::now();
    loop {
        let text = "SELECT count(*) FROM commits WHERE version > (SELECT max(version) FROM manifests)";
        let left: i64 = sqlx::query_scalar(text).fetch_one(&mut owner).await.unwrap();
        if left < 50_000 {
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(60), "{left} commits lie above the base");
    }
    service.kill();
    let service = Running::start(data.path(), &[]);
    let sum = single(&service.client(), "g", "MATCH (n:N) RETURN SUM(n.v) AS n").await;
    assert_eq!(sum, json!(32 * 1_600));
}
