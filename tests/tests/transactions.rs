//! Sessions and transactions through the running service: what a transaction sees, what others see of it,
//! and which of two that touch the same element comes through.

#![allow(clippy::unwrap_used)]

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use graphodrome_client::{Client, ClientError, QueryRequest, QueryResult};
use graphodrome_tests::*;
use serde_json::{Value, json};

async fn try_in(client: &Client, session: &str, text: &str) -> Result<QueryResult, ClientError> {
    let request =
        QueryRequest { text: text.into(), session: Some(session.into()), ..QueryRequest::default() };
    client.query(&request).await
}

async fn within(client: &Client, session: &str, text: &str) -> QueryResult {
    try_in(client, session, text).await.unwrap_or_else(|e| panic!("{text}\n{e}"))
}

async fn refused(client: &Client, session: &str, text: &str) -> String {
    match try_in(client, session, text).await {
        Err(ClientError::Problem(problem)) => problem.code.unwrap_or_default(),
        other => panic!("{text}: {other:?}"),
    }
}

fn cell(result: &QueryResult) -> Value {
    result.rows[0][0].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_transaction_sees_its_own_and_others_see_it_when_it_commits() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "INSERT (:Well {code: 'W1', depth: 10}), (:Well {code: 'W2', depth: 20})").await;
    let count = "MATCH (w:Well) RETURN COUNT(*) AS n";
    let s = client.open_session(Some("g")).await.unwrap();

    within(&client, &s, "START TRANSACTION").await;
    within(&client, &s, "INSERT (:Well {code: 'W3', depth: 30})").await;
    within(&client, &s, "MATCH (w:Well {code: 'W1'}) SET w.depth = 11").await;
    assert_eq!(cell(&within(&client, &s, count).await), 3);
    assert_eq!(single(&client, "g", count).await, 2, "not committed yet");
    // Others go on meanwhile; the transaction keeps the state it began with.
    query(&client, "g", "INSERT (:Well {code: 'W4', depth: 40})").await;
    assert_eq!(cell(&within(&client, &s, count).await), 3);
    let done = within(&client, &s, "COMMIT").await;
    assert!(cell(&done).as_str().unwrap().contains("committed"), "{done:?}");
    assert_eq!(single(&client, "g", count).await, 4);
    let depths = query(&client, "g", "MATCH (w:Well) RETURN w.code AS c, w.depth AS d ORDER BY c").await;
    assert_eq!(json!(depths.rows), json!([["W1", 11], ["W2", 20], ["W3", 30], ["W4", 40]]));

    // Rolled back, by itself and with its session.
    within(&client, &s, "START TRANSACTION; MATCH (w:Well) DETACH DELETE w; ROLLBACK").await;
    assert_eq!(single(&client, "g", count).await, 4);
    let other = client.open_session(Some("g")).await.unwrap();
    within(&client, &other, "START TRANSACTION").await;
    within(&client, &other, "MATCH (w:Well) DETACH DELETE w").await;
    client.close_session(&other).await.unwrap();
    assert_eq!(single(&client, "g", count).await, 4);

    // A statement that fails changes nothing, and the transaction goes on.
    within(&client, &s, "START TRANSACTION").await;
    within(&client, &s, "INSERT (:Well {code: 'W5'})").await;
    assert_eq!(refused(&client, &s, "FOR i IN [1, 0] INSERT (:Well {code: 1 / i})").await, "22012");
    within(&client, &s, "COMMIT").await;
    assert_eq!(single(&client, "g", count).await, 5);

    // What a restart finds is what was committed.
    assert!(service.interrupt());
    let service = Running::start(folder.path(), &[]);
    assert_eq!(single(&service.client(), "g", count).await, 5);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_to_commit_wins() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "INSERT (a:Well {code: 'A', n: 0})-[:TO {w: 1}]->(b:Well {code: 'B', n: 0}), (:Well {code: 'C', n: 0})").await;
    query(&client, "g", "CREATE KEY well_code OVER (:Well {code})").await;
    let (a, b) =
        (client.open_session(Some("g")).await.unwrap(), client.open_session(Some("g")).await.unwrap());
    let both = |first: &'static str, second: &'static str| {
        let (client, a, b) = (client.clone(), a.clone(), b.clone());
        async move {
            within(&client, &a, "START TRANSACTION").await;
            within(&client, &b, "START TRANSACTION").await;
            within(&client, &a, first).await;
            within(&client, &b, second).await;
            within(&client, &a, "COMMIT").await;
            match try_in(&client, &b, "COMMIT").await {
                Ok(_) => "both".to_string(),
                Err(ClientError::Problem(problem)) => {
                    assert!(problem.code.as_deref() != Some("40001") || problem.hint.is_some());
                    problem.code.unwrap_or_default()
                }
                Err(other) => panic!("{other}"),
            }
        }
    };
    let set_a = "MATCH (w:Well {code: 'A'}) SET w.n = w.n + 1";
    assert_eq!(both(set_a, set_a).await, "40001", "the same element");
    assert_eq!(both(set_a, "MATCH (w:Well {code: 'B'}) SET w.n = w.n + 1").await, "both");
    assert_eq!(both("INSERT (:Well {code: 'D'})", "INSERT (:Well {code: 'E'})").await, "both");
    assert_eq!(
        both("INSERT (:Well {code: 'F'})", "INSERT (:Well {code: 'F'})").await,
        "G2000",
        "the same key"
    );
    assert_eq!(
        both(
            "MATCH (w:Well {code: 'C'}) DELETE w",
            "MATCH (w:Well {code: 'C'}), (x:Well {code: 'A'}) INSERT (x)-[:TO]->(w)"
        )
        .await,
        "40001",
        "an end that is gone"
    );
    assert_eq!(
        both(
            "MATCH (x:Well {code: 'A'}), (y:Well {code: 'D'}) INSERT (x)-[:TO]->(y)",
            "MATCH (w:Well {code: 'D'}) DELETE w"
        )
        .await,
        "40001",
        "a node that got an edge"
    );
    let n = query(&client, "g", "MATCH (w:Well) WHERE w.n > 0 RETURN w.code AS c, w.n AS n ORDER BY c").await;
    assert_eq!(json!(n.rows), json!([["A", 2], ["B", 1]]));
    // The retry comes through.
    within(&client, &b, "START TRANSACTION; MATCH (w:Well {code: 'A'}) SET w.n = w.n + 1; COMMIT").await;
    // What others did without a transaction counts too.
    within(&client, &a, "START TRANSACTION").await;
    within(&client, &a, set_a).await;
    query(&client, "g", set_a).await;
    assert_eq!(refused(&client, &a, "COMMIT").await, "40001");
    assert_eq!(single(&client, "g", "MATCH (w:Well {code: 'A'}) RETURN w.n AS n").await, 4);
}

const BOTH: &str = "USE a MATCH (n:Account) RETURN SUM(n.amount) AS x, COUNT(*) AS c NEXT USE b MATCH (n:Account) RETURN MAX(x) + SUM(n.amount) AS n";

#[tokio::test(flavor = "multi_thread")]
async fn a_transaction_over_two_graphs_is_one() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    for graph in ["a", "b"] {
        client.create_graph(graph, None).await.unwrap();
        query(&client, graph, "FOR i IN [0, 1, 2, 3] INSERT (:Account {id: i, amount: 100})").await;
    }
    let s = client.open_session(Some("a")).await.unwrap();
    let take = "MATCH (n:Account {id: 0}) SET n.amount = n.amount - 10";
    let give = "USE b MATCH (n:Account {id: 3}) SET n.amount = n.amount + 10";
    let amounts = async |client: &Client| {
        let from = single(client, "a", "MATCH (n:Account {id: 0}) RETURN n.amount AS n").await;
        let to = single(client, "b", "MATCH (n:Account {id: 3}) RETURN n.amount AS n").await;
        (from.as_i64().unwrap(), to.as_i64().unwrap())
    };
    within(&client, &s, "START TRANSACTION").await;
    within(&client, &s, take).await;
    within(&client, &s, give).await;
    // It sees its own changes of both, in one query too; nobody else does.
    assert_eq!(cell(&within(&client, &s, BOTH).await), 800);
    assert_eq!(amounts(&client).await, (100, 100));
    let done = cell(&within(&client, &s, "COMMIT").await);
    assert_eq!(done, "transaction committed: 1 element of a, version 2; 1 element of b, version 2");
    assert_eq!(amounts(&client).await, (90, 110));
    // Rolled back, both stay.
    within(&client, &s, &format!("START TRANSACTION; {take}; {give}; ROLLBACK")).await;
    assert_eq!(amounts(&client).await, (90, 110));
    // What one graph refuses the other does not get.
    within(&client, &s, &format!("START TRANSACTION; {take}; {give}")).await;
    query(&client, "b", "MATCH (n:Account {id: 3}) SET n.amount = n.amount + 1").await;
    assert_eq!(refused(&client, &s, "COMMIT").await, "40001");
    assert_eq!(amounts(&client).await, (90, 111));
    // Put on what others changed meanwhile, in each graph.
    within(&client, &s, &format!("START TRANSACTION; {take}; {give}")).await;
    query(&client, "a", "MATCH (n:Account {id: 1}) SET n.amount = n.amount + 1").await;
    query(&client, "b", "INSERT (:Account {id: 9, amount: 0})").await;
    within(&client, &s, "COMMIT").await;
    assert_eq!(amounts(&client).await, (80, 121));
    // The history of each says so, and a start finds it.
    let history = stdout(&cli(&service.url, &["graph", "history", "b"]));
    assert!(history.contains("transaction"), "{history}");
    service.kill();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    assert_eq!(amounts(&client).await, (80, 121));
    // A model that changes in one of them ends it for both.
    let s = client.open_session(Some("a")).await.unwrap();
    within(&client, &s, &format!("START TRANSACTION; {take}; {give}")).await;
    query(&client, "a", "CREATE KEY account OVER (:Account {id})").await;
    assert_eq!(refused(&client, &s, "COMMIT").await, "40001");
    assert_eq!(amounts(&client).await, (80, 121));
}

/// Amounts that move between two graphs both ways, while others read both: nobody ever sees half of it.
#[tokio::test(flavor = "multi_thread")]
async fn who_reads_two_graphs_never_sees_half_a_transaction() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    for graph in ["a", "b"] {
        client.create_graph(graph, None).await.unwrap();
        query(&client, graph, "FOR i IN [0, 1, 2, 3] INSERT (:Account {id: i, amount: 100})").await;
    }
    let left = Arc::new(AtomicU64::new(4));
    let writers: Vec<_> = (0..4)
        .map(|writer| {
            let (client, left) = (service.client(), left.clone());
            tokio::spawn(async move {
                let session = client.open_session(None).await.unwrap();
                let (from, to) = if writer % 2 == 0 { ("a", "b") } else { ("b", "a") };
                let mut done = 0;
                for n in 0..60 {
                    let set = |graph, by| {
                        format!(
                            "USE {graph} MATCH (n:Account {{id: {}}}) SET n.amount = n.amount {by}",
                            (writer + n) % 4
                        )
                    };
                    let text = format!("START TRANSACTION; {}; {}; COMMIT", set(from, "- 7"), set(to, "+ 7"));
                    match try_in(&client, &session, &text).await {
                        Ok(_) => done += 1,
                        Err(ClientError::Problem(problem)) => {
                            assert_eq!(problem.code.as_deref(), Some("40001"), "{problem:?}")
                        }
                        Err(other) => panic!("{other}"),
                    }
                }
                left.fetch_sub(1, Ordering::SeqCst);
                done
            })
        })
        .collect();
    let session = client.open_session(None).await.unwrap();
    let (mut looks, sum) = (0, "MATCH (n:Account) RETURN SUM(n.amount) AS n");
    while left.load(Ordering::SeqCst) > 0 || looks == 0 {
        assert_eq!(single(&client, "a", BOTH).await, 800, "by one query");
        within(&client, &session, "START TRANSACTION READ ONLY").await;
        let a = cell(&within(&client, &session, &format!("USE a {sum}")).await).as_i64().unwrap();
        let b = cell(&within(&client, &session, &format!("USE b {sum}")).await).as_i64().unwrap();
        within(&client, &session, "COMMIT").await;
        assert_eq!(a + b, 800, "by two");
        looks += 1;
    }
    let mut done = 0;
    for writer in writers {
        done += writer.await.unwrap();
    }
    assert!(done >= 4, "some come through");
    println!("{done} of 240 came through, {looks} looks");
}

#[tokio::test(flavor = "multi_thread")]
async fn sixteen_writers_leave_a_history_that_one_could_have_made() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "FOR i IN [0, 1, 2] INSERT (:Counter {id: i, n: 0})").await;
    let conflicts = Arc::new(AtomicU64::new(0));
    let writers: Vec<_> = (0..16u64)
        .map(|writer| {
            let (client, conflicts) = (client.clone(), conflicts.clone());
            tokio::spawn(async move {
                let session = client.open_session(Some("g")).await.unwrap();
                let mut seen = vec![];
                for round in 0..12 {
                    let counter = (writer + round) % 3;
                    loop {
                        within(&client, &session, "START TRANSACTION").await;
                        let text =
                            format!("MATCH (c:Counter {{id: {counter}}}) SET c.n = c.n + 1 RETURN c.n AS n");
                        let n = cell(&within(&client, &session, &text).await).as_i64().unwrap();
                        match try_in(&client, &session, "COMMIT").await {
                            Ok(_) => {
                                seen.push((counter, n));
                                break;
                            }
                            Err(ClientError::Problem(p)) if p.code.as_deref() == Some("40001") => {
                                conflicts.fetch_add(1, Ordering::Relaxed);
                            }
                            Err(other) => panic!("{other}"),
                        }
                    }
                }
                seen
            })
        })
        .collect();
    let mut seen: Vec<(u64, i64)> = vec![];
    for writer in writers {
        seen.extend(writer.await.unwrap());
    }
    println!("{} conflicts", conflicts.load(Ordering::Relaxed));
    // Each counter went up by one with each commit, and no two commits saw the same: they can be put one
    // after the other.
    for counter in 0..3 {
        let mut values: Vec<i64> = seen.iter().filter(|(c, _)| *c == counter).map(|(_, n)| *n).collect();
        values.sort();
        assert_eq!(values, (1..=values.len() as i64).collect::<Vec<_>>(), "counter {counter}");
        let text = format!("MATCH (c:Counter {{id: {counter}}}) RETURN c.n AS n");
        assert_eq!(single(&client, "g", &text).await, values.len());
    }
    assert_eq!(seen.len(), 16 * 12);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_keeps_what_is_set_and_ends_when_it_is_idle() {
    let folder = folder();
    let service = Running::start(folder.path(), &["--session-idle-seconds", "1"]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    client.create_graph("h", None).await.unwrap();
    query(&client, "g", "INSERT (:Well {code: 'A', depth: 5})").await;
    let s = client.open_session(None).await.unwrap();
    within(&client, &s, "SESSION SET GRAPH g").await;
    within(&client, &s, "SESSION SET VALUE $code = 'A'").await;
    assert_eq!(cell(&within(&client, &s, "MATCH (w:Well {code: $code}) RETURN w.depth AS d").await), 5);
    within(&client, &s, "SESSION SET VALUE $deepest = VALUE { MATCH (w:Well) RETURN MAX(w.depth) }").await;
    assert_eq!(cell(&within(&client, &s, "RETURN $deepest AS d").await), 5);
    within(&client, &s, "SESSION SET VALUE IF NOT EXISTS $code = 'B'").await;
    assert_eq!(cell(&within(&client, &s, "RETURN $code AS c").await), "A");
    assert_eq!(refused(&client, &s, "SESSION SET VALUE $n :: INT8 = 500").await, "22G03");
    within(&client, &s, "SESSION SET TIME ZONE '+05:30'").await;
    let offset = "RETURN CAST(CURRENT_TIMESTAMP AS STRING) LIKE '%+05:30' AS there";
    assert_eq!(cell(&within(&client, &s, offset).await), true);
    within(&client, &s, "SESSION SET TIME ZONE 'Asia/Kathmandu'").await;
    let now = within(&client, &s, "RETURN CURRENT_TIMESTAMP AS t").await;
    assert!(now.rows[0][0].as_str().is_some_and(|t| t.ends_with("+05:45")), "{:?}", now.rows);
    assert_eq!(refused(&client, &s, "SESSION SET TIME ZONE 'Mars'").await, "22009");
    within(&client, &s, "SESSION RESET PARAMETER $code").await;
    assert_eq!(refused(&client, &s, "RETURN $code AS c").await, "42002");

    // What a transaction allows.
    assert_eq!(refused(&client, &s, "COMMIT").await, "25G01");
    within(&client, &s, "START TRANSACTION READ ONLY").await;
    assert_eq!(refused(&client, &s, "START TRANSACTION").await, "25G01");
    assert_eq!(refused(&client, &s, "INSERT (:Well)").await, "25G03");
    assert_eq!(refused(&client, &s, "CREATE GRAPH k ANY").await, "25G02");
    within(&client, &s, "MATCH (w) RETURN COUNT(*) AS n").await;
    // Other graphs are seen as they were when it began.
    query(&client, "h", "INSERT (:Late)").await;
    assert_eq!(cell(&within(&client, &s, "USE h MATCH (w) RETURN COUNT(*) AS n").await), 0);
    client.create_graph("made_later", None).await.unwrap();
    assert_eq!(refused(&client, &s, "USE made_later MATCH (w) RETURN COUNT(*) AS n").await, "25G04");
    within(&client, &s, "ROLLBACK").await;
    within(&client, &s, "SESSION CLOSE").await;
    assert!(try_in(&client, &s, "RETURN 1 AS one").await.is_err());

    // One text of several statements has a session of its own.
    query(&client, "g", "START TRANSACTION; INSERT (:Well {code: 'B'}); COMMIT").await;
    let open = client.query(&request("g", "START TRANSACTION; INSERT (:Well {code: 'C'})")).await;
    assert!(open.unwrap_err().to_string().contains("ends within a transaction"));
    assert_eq!(single(&client, "g", "MATCH (w:Well) RETURN COUNT(*) AS n").await, 2);

    // Idle sessions are closed; what they had open is rolled back.
    let idle = client.open_session(Some("g")).await.unwrap();
    within(&client, &idle, "START TRANSACTION; INSERT (:Well {code: 'D'})").await;
    let path = format!("/v1/sessions/{idle}");
    while client.get(&path).await.is_ok() {
        tokio::task::yield_now().await;
    }
    assert_eq!(single(&client, "g", "MATCH (w:Well) RETURN COUNT(*) AS n").await, 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_script_shows_each_statements_result_and_stops_where_one_fails() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    let script = folder.path().join("script.gql");
    std::fs::write(
        &script,
        "-- wells\nINSERT (:Well {code: 'A'});\nSTART TRANSACTION;\nINSERT (:Well {code: 'B'});\nCOMMIT;\nMATCH (w:Well)\nRETURN w.code AS code ORDER BY code;\n",
    )
    .unwrap();
    let path = script.to_str().unwrap();
    let text = stdout(&cli(&service.url, &["query", "-g", "g", "-f", path]));
    assert!(text.contains("-- 1 of 5: INSERT (:Well {code: 'A'})"), "{text}");
    assert!(text.contains("transaction committed"), "{text}");
    assert!(text.contains("-- 5 of 5: MATCH (w:Well) RETURN w.code"), "{text}");

    std::fs::write(&script, "INSERT (:Well {code: 'C'});\nSTART TRANSACTION;\nINSERT (:Well {code: 'D'});\n  RETURN 1 / 0 AS x;\nCOMMIT").unwrap();
    let failed = cli(&service.url, &["query", "-g", "g", "-f", path]);
    assert!(!failed.status.success());
    let said = stderr(&failed);
    assert!(said.contains("22012") && said.contains("line 4, column 10"), "{said}");
    assert!(said.contains("statement 4 of 5 failed"), "{said}");
    assert_eq!(single(&client, "g", "MATCH (w:Well) RETURN COUNT(*) AS n").await, 3, "C stands, D does not");
}
