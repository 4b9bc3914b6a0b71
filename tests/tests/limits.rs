//! Limits of the running service: what one request does never stops another, and every way to fail says so.

#![allow(clippy::unwrap_used)]

use std::time::{Duration, Instant};

use graphodrome_client::{Client, ClientError, ErrorWatch, QueryRequest};
use graphodrome_tests::*;
use serde_json::{Value, json};

fn asked(text: &str) -> QueryRequest {
    QueryRequest { text: text.into(), graph: Some("g".into()), ..QueryRequest::default() }
}

async fn with_nodes(service: &Running, nodes: usize) -> Client {
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    let list: Vec<String> = (0..nodes).map(|i| i.to_string()).collect();
    query(
        &client,
        "g",
        &format!("FOR i IN [{}] INSERT (:N {{id: i, t: 'node ' || CAST(i AS STRING)}})", list.join(", ")),
    )
    .await;
    client
}

fn code(error: &ClientError) -> &str {
    match error {
        ClientError::Problem(problem) => problem.code.as_deref().unwrap_or(""),
        other => panic!("{other}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn large_results_come_whole_also_compressed_and_from_scripts() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = with_nodes(&service, 1000).await;
    let text = "MATCH (n), (m) RETURN n.t AS a, m.t AS b LIMIT 50000";
    // Compressed, as every browser asks for it.
    let http = reqwest::Client::new();
    for encoding in ["gzip", "identity"] {
        let answer = http
            .post(format!("{}/v1/query", service.url))
            .header("accept-encoding", encoding)
            .json(&json!({ "text": text, "graph": "g" }))
            .send()
            .await
            .unwrap();
        let compressed = answer.headers().get("content-encoding").is_some_and(|e| e == "gzip");
        assert_eq!(compressed, encoding == "gzip");
        let body = answer.bytes().await.unwrap();
        let read: Value = match compressed {
            true => serde_json::from_reader(flate2::read::GzDecoder::new(&body[..])).unwrap(),
            false => serde_json::from_slice(&body).unwrap(),
        };
        assert_eq!(read["rows"].as_array().unwrap().len(), 50_000);
        assert_eq!(read["summary"]["rows"], 50_000);
    }
    // Before the last statement a large result is thrown away, and what follows it runs.
    let script = format!("{text}; RETURN 1 AS x");
    assert_eq!(client.query(&asked(&script)).await.unwrap().rows, [[json!(1)]]);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_error_behind_rows_is_told_in_every_format() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = with_nodes(&service, 1000).await;
    // The last of a hundred thousand rows divides by zero.
    let text =
        "MATCH (n), (m) WHERE n.id < 100 RETURN n.t AS t, 1 / (99999 - (n.id * 1000 + m.id)) AS x, m.t AS u";
    let error = client.query(&asked(text)).await.unwrap_err();
    assert_eq!(code(&error), "22012");
    for media_type in ["application/json", "application/x-ndjson"] {
        let mut answer = client.query_as(&asked(text), media_type).await.unwrap();
        let mut watch = ErrorWatch::default();
        let mut bytes = 0;
        while let Some(piece) = answer.chunk().await.unwrap() {
            watch.see(&piece);
            bytes += piece.len();
        }
        assert!(bytes > 100_000, "rows were sent before it");
        assert_eq!(code(&watch.finish().unwrap_err()), "22012", "{media_type}");
    }
    for media_type in ["text/csv", "application/vnd.apache.arrow.stream"] {
        let mut answer = client.query_as(&asked(text), media_type).await.unwrap();
        let ended = loop {
            match answer.chunk().await {
                Ok(Some(_)) => {}
                Ok(None) => break "well",
                Err(_) => break "badly",
            }
        };
        assert_eq!(ended, "badly", "{media_type} has no place for an error");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_short_query_does_not_wait_behind_long_ones() {
    let folder = folder();
    let service = Running::start(folder.path(), &["--concurrent-queries", "2"]);
    let client = with_nodes(&service, 1000).await;
    query(&client, "g", "MATCH (n:N) RETURN n.t AS t LIMIT 1").await;
    let long = "MATCH (a), (b), (c), (d) RETURN COUNT(DISTINCT a.id + b.id + c.id + d.id) AS n";
    let request = QueryRequest { timeout_ms: Some(20_000), ..asked(long) };
    let running: Vec<_> = (0..6)
        .map(|_| {
            let (client, request) = (service.client(), request.clone());
            tokio::spawn(async move { client.query(&request).await })
        })
        .collect();
    // Once both slots are taken a third long query with little time does not get one.
    let impatient = QueryRequest { timeout_ms: Some(50), ..asked(long) };
    loop {
        let error = client.query(&impatient).await.unwrap_err();
        assert_eq!(code(&error), "R0002", "{error}");
        if error.to_string().contains("no slot became free") {
            break;
        }
    }
    let start = Instant::now();
    query(&client, "g", "MATCH (n:N {id: 7}) RETURN n.t AS t").await;
    assert!(start.elapsed() < Duration::from_secs(5), "{:?}", start.elapsed());
    client.get("/v1/health").await.unwrap();
    // A session's value is a query like any other: it takes a slot, has its time and harms nobody.
    let session = client.open_session(Some("g")).await.unwrap();
    let set = QueryRequest {
        session: Some(session),
        timeout_ms: Some(200),
        ..asked(
            "SESSION SET VALUE $x = VALUE { MATCH (a), (b), (c), (d) RETURN COUNT(DISTINCT a.id + d.id) }",
        )
    };
    assert_eq!(code(&client.query(&set).await.unwrap_err()), "R0002");
    for task in running {
        task.abort();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_waits_for_its_turn_within_its_time() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = with_nodes(&service, 1000).await;
    let long = "MATCH (a), (b), (c) WHERE a.id + b.id + c.id = -1 SET a.x = 1";
    let request = QueryRequest { timeout_ms: Some(15_000), ..asked(long) };
    let (holder, held) = (service.client(), request.clone());
    let running = tokio::spawn(async move { holder.query(&held).await });
    // Until the long change has the turn this one is made at once.
    let brief = QueryRequest { timeout_ms: Some(300), ..asked("MATCH (n:N {id: 1}) SET n.y = 1") };
    let start = Instant::now();
    let error = loop {
        assert!(start.elapsed() < Duration::from_secs(14), "the long change never took its turn");
        if let Err(error) = client.query(&brief).await {
            break error;
        }
    };
    assert_eq!(code(&error), "R0002", "{error}");
    running.abort();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_asked_for_is_not_cut_in_silence() {
    let folder = folder();
    let service = Running::start(folder.path(), &["--query-seconds", "5"]);
    let client = with_nodes(&service, 3).await;
    let error = client.query(&QueryRequest { timeout_ms: Some(120_000), ..asked("RETURN 1 AS x") }).await;
    let error = error.unwrap_err().to_string();
    assert!(
        error.contains("120000") && error.contains("5000") && error.contains("--query-seconds"),
        "{error}"
    );
    // What reads no graph needs none.
    let bare = QueryRequest { text: "RETURN 1 + 1 AS two".into(), ..QueryRequest::default() };
    assert_eq!(client.query(&bare).await.unwrap().rows, [[json!(2)]]);
    // Whole numbers beyond INT64 stay exact.
    let mut request = asked("RETURN $n AS n, $n = 9223372036854775808 AS same");
    request.parameters.insert("n".into(), json!(9_223_372_036_854_775_808u64));
    assert_eq!(client.query(&request).await.unwrap().rows, [[json!("9223372036854775808"), json!(true)]]);
    // A page of rejects behind all of them is empty.
    let rejects = client.get("/v1/jobs/1/rejects?offset=18446744073709551615").await;
    assert!(
        matches!(&rejects, Err(ClientError::Problem(p)) if p.status == 404) || rejects.is_ok(),
        "{rejects:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_turned_off_by_name_and_the_answer_stays() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = with_nodes(&service, 20).await;
    query(&client, "g", "MATCH (a:N), (b:N) WHERE b.id = a.id + 1 INSERT (a)-[:NEXT]->(b)").await;
    let text = "MATCH (a:N {id: 3})-[:NEXT]->+(b) RETURN DISTINCT b.id AS id ORDER BY id";
    let rows = client.query(&asked(text)).await.unwrap().rows;
    assert_eq!(rows.len(), 16);
    for off in [&["all"][..], &["distinct-ends"], &["early-conditions", "top-rows"]] {
        let rules_off = off.iter().map(|r| r.to_string()).collect();
        let request = QueryRequest { rules_off, ..asked(text) };
        assert_eq!(client.query(&request).await.unwrap().rows, rows, "{off:?}");
    }
    let plain = QueryRequest { rules_off: vec!["distinct-ends".into()], ..asked(text) };
    let operators = |plan: &Value| plan.to_string();
    let (with, without) = (client.plan(&asked(text)).await.unwrap(), client.plan(&plain).await.unwrap());
    assert!(operators(&with).contains("\"Reach\"") && !operators(&without).contains("\"Reach\""));
    let wrong = QueryRequest { rules_off: vec!["distinctends".into()], ..asked(text) };
    let error = client.query(&wrong).await.unwrap_err().to_string();
    assert!(error.contains("distinctends") && error.contains("distinct-ends"), "{error}");
    // From the command line as well.
    let run = cli(&service.url, &["query", "-g", "g", "--rules-off", "all", "--format", "csv", text]);
    let printed = String::from_utf8_lossy(&run.stdout);
    assert!(printed.starts_with("id\r\n4\r\n"), "{printed}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_profile_that_runs_out_of_time_shows_what_was_done() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = with_nodes(&service, 1000).await;
    let text = "MATCH (a), (b), (c) RETURN COUNT(DISTINCT a.id + b.id + c.id) AS n";
    let profile = client.profile(&QueryRequest { timeout_ms: Some(300), ..asked(text) }).await.unwrap();
    assert_eq!(profile["error"]["code"], "R0002");
    assert!(profile["plan"].to_string().contains("rows_out"), "{profile}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_changes_no_answer_of_a_wrong_type() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = with_nodes(&service, 5).await;
    let mut request = asked("MATCH (n:N {id: $s}) RETURN n.id AS id");
    request.parameters.insert("s".into(), json!("1"));
    let before = client.query(&request).await.unwrap_err();
    query(&client, "g", "CREATE KEY n_id OVER (:N {id})").await;
    let after = client.query(&request).await.unwrap_err();
    assert_eq!((code(&before), code(&after)), ("22G04", "22G04"));
    // A whole number is a key in a path, too.
    assert_eq!(client.get("/v1/graphs/g/nodes/N/3").await.unwrap()["properties"]["id"], 3);
}
