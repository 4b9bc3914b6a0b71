//! Earlier versions of a graph: read as they were, told apart, kept as long as they should be, and restored; after any
//! mixture of commits, loads, models, folds and starts, and where something stored is damaged.

#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::{Duration, Instant};

use graphodrome_client::{Client, ClientError, QueryRequest};
use graphodrome_store::PrivateServer;
use graphodrome_tests::*;
use sea_orm::sqlx::{self, Connection, PgConnection};
use serde_json::{Value, json};

/// Every element as text, by its id; of one version or of the newest.
async fn elements(client: &Client, at_version: Option<u64>) -> BTreeMap<String, String> {
    let mut all = BTreeMap::new();
    for text in ["MATCH (n) RETURN n", "MATCH ()-[e]->() RETURN e"] {
        let asked = QueryRequest { at_version, ..request("g", text) };
        let found = client.query(&asked).await.unwrap_or_else(|e| panic!("{text} at {at_version:?}\n{e}"));
        for row in found.rows {
            let id = row[0]["id"].as_str().unwrap().to_string();
            all.insert(id, row[0].to_string());
        }
    }
    all
}

async fn history(client: &Client) -> Value {
    client.get("/v1/graphs/g/versions?limit=1000").await.unwrap()
}

async fn keep(client: &Client, versions: u64, days: u64) {
    let wanted = json!({ "versions": versions, "days": days });
    client.call("PUT", "/v1/graphs/g/retention", &wanted).await.unwrap();
}

async fn newest(client: &Client) -> u64 {
    client.get("/v1/graphs/g").await.unwrap()["version"].as_u64().unwrap()
}

const PLACES: &str = "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabels = [\"Place\"]\nkey = [\"id\"]\nproperties = { id = \"id\", rank = \"rank\" }\ntypes = { rank = \"INT64\" }\n";

/// Loads places with these numbers.
async fn load(client: &Client, ids: std::ops::Range<u64>) {
    let rows: String = ids.map(|id| format!("p{id},{id}\n")).collect();
    let job = client.load_texts("g", PLACES, &[("n.csv", &format!("id,rank\n{rows}"))]).await.unwrap();
    let job = client.wait(job.id).await.unwrap();
    assert_eq!(job.state, "done", "{:?}", job.detail);
}

/// What the service says is different between two versions: change by id.
async fn difference(client: &Client, from: u64, to: u64) -> BTreeMap<String, String> {
    let asked = [("from_version", from.to_string()), ("to_version", to.to_string())];
    let text = client.difference("g", &asked).await.unwrap().text().await.unwrap();
    let lines: Vec<Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let (summary, lines) = lines.split_last().unwrap();
    let mut all = BTreeMap::new();
    for line in lines {
        let text = |field: &str| line[field].as_str().unwrap().to_string();
        assert_eq!(all.insert(text("id"), text("change")), None);
    }
    let count = |change: &str| all.values().filter(|c| *c == change).count();
    for change in ["added", "changed", "removed"] {
        assert_eq!(summary["summary"][change], json!(count(change)), "{text}");
    }
    all
}

fn expected_difference(
    before: &BTreeMap<String, String>, after: &BTreeMap<String, String>,
) -> BTreeMap<String, String> {
    let ids: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let change = |id: &String| match (before.get(id), after.get(id)) {
        (None, Some(_)) => Some("added"),
        (Some(_), None) => Some("removed"),
        (a, b) if a != b => Some("changed"),
        _ => None,
    };
    ids.into_iter().filter_map(|id| Some((id.clone(), change(id)?.to_string()))).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_version_is_read_as_it_was() {
    let data = folder();
    let mut service = Running::start(data.path(), &[]);
    let mut client = service.client();
    client.create_graph("g", None).await.unwrap();
    keep(&client, 1000, 0).await;
    let seed: u64 = std::env::var("SEED").map_or(std::process::id().into(), |seed| seed.parse().unwrap());
    println!("seed {seed}");
    let mut state = seed;
    let mut random = |below: u64| {
        state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (state >> 33) % below
    };
    // Each version with what made it and what was in it.
    let mut known: Vec<Known> = vec![(0, "create", BTreeMap::new())];
    let mut loaded = 0;
    let mut indexed = false;
    let mut renamed = false;
    for step in 0..60 {
        let (label, other) = if renamed { ("Spot", "Place") } else { ("Place", "Spot") };
        let kind = match random(11) {
            0..=2 => {
                let rank = random(100);
                let text = format!(
                    "INSERT (a:{label} {{id: 'x{step}', rank: {rank}}})-[:ROAD {{km: {rank}}}]->(:Stop {{n: {step}}})"
                );
                query(&client, "g", &text).await;
                "commit"
            }
            3 | 4 => {
                let (rank, new) = (random(100), random(1000));
                query(
                    &client,
                    "g",
                    &format!("MATCH (n) WHERE n.rank > {rank} SET n.rank = {new}, n.step = {step}"),
                )
                .await;
                "commit"
            }
            5 => {
                query(&client, "g", &format!("MATCH (n) WHERE n.rank = {} DETACH DELETE n", random(100)))
                    .await;
                "commit"
            }
            6 | 7 => {
                // Sometimes enough for a base of its own, mostly a level of the one there is.
                let more = if random(3) == 0 { 40 } else { 3 };
                load(&client, loaded..loaded + more).await;
                loaded += more;
                "load"
            }
            8 => {
                let text =
                    if indexed { "DROP INDEX by_step" } else { "CREATE INDEX by_step OVER (:Stop {n})" };
                query(&client, "g", text).await;
                indexed = !indexed;
                "model"
            }
            9 => {
                if !rename(&client, label, other).await {
                    continue;
                }
                renamed = !renamed;
                "model"
            }
            _ => {
                let (version, _, elements) = &known[random(known.len() as u64) as usize];
                restore(&client, *version).await;
                let names = elements.values();
                renamed = names.clone().any(|text| text.contains("\"Spot\""))
                    || (renamed && !names.clone().any(|text| text.contains("\"Place\"")));
                indexed = client.get("/v1/graphs/g/model").await.unwrap().to_string().contains("by_step");
                "restore"
            }
        };
        let (version, now) = (newest(&client).await, elements(&client, None).await);
        let (last, _, before) = known.last().unwrap();
        if version == *last {
            // A change that found nothing to change.
            assert_eq!(*before, now);
            continue;
        }
        assert_eq!(version, last + 1, "a {kind} makes one version");
        known.push((version, kind, now));
        if step % 20 == 13 {
            // As a power cut would end it.
            service.kill();
            service = Running::start(data.path(), &[]);
            client = service.client();
        }
    }
    service.kill();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    let mut pairs = vec![];
    for _ in 0..12 {
        pairs.push((random(known.len() as u64) as usize, random(known.len() as u64) as usize));
    }
    versions_are(&client, &known, &pairs).await;
}

async fn restore(client: &Client, version: u64) {
    let restored = client.call("POST", "/v1/graphs/g/restore", &json!({ "version": version })).await.unwrap();
    assert_eq!(restored["restored"], json!(version));
}

/// Renames a label that nodes have to one that none has; whether it is so.
async fn rename(client: &Client, label: &str, other: &str) -> bool {
    for (name, is_there) in [(label, true), (other, false)] {
        let count = single(client, "g", &format!("MATCH (n:{name}) RETURN COUNT(*) AS n")).await;
        if (count != json!(0)) != is_there {
            return false;
        }
    }
    query(client, "g", &format!("ALTER GRAPH g RENAME LABEL {label} TO {other} ON NODE")).await;
    true
}

/// A version, what made it and what was in it.
type Known = (u64, &'static str, BTreeMap<String, String>);

/// Each version is read, listed and told from others as it is known.
async fn versions_are(client: &Client, known: &[Known], pairs: &[(usize, usize)]) {
    for (version, kind, then) in known {
        assert_eq!(&elements(client, Some(*version)).await, then, "version {version}, a {kind}");
    }
    let told = history(client).await;
    let listed: Vec<(u64, &str)> = told["versions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|v| (v["version"].as_u64().unwrap(), v["kind"].as_str().unwrap()))
        .collect();
    let mut made: Vec<(u64, &str)> = known.iter().map(|(version, kind, _)| (*version, *kind)).collect();
    made.reverse();
    assert_eq!(listed, made);
    for info in told["versions"].as_array().unwrap() {
        let (_, _, then) = &known[info["version"].as_u64().unwrap() as usize];
        let count = |letter: char| json!(then.keys().filter(|id| id.starts_with(letter)).count());
        assert_eq!((&info["nodes"], &info["edges"]), (&count('n'), &count('e')), "{info}");
    }
    for (a, b) in pairs {
        let (a, b) = (&known[*a], &known[*b]);
        assert_eq!(difference(client, a.0, b.0).await, expected_difference(&a.2, &b.2), "{} to {}", a.0, b.0);
    }
    let found = client.call("POST", "/v1/graphs/g/verify", &json!({})).await.unwrap();
    assert_eq!(found["problems"], json!([]), "{found}");
    assert_eq!(found["readable"], found["newest"]);
    // A page of the history begins where the one before ends.
    let page = client.get("/v1/graphs/g/versions?limit=3&before_version=5").await.unwrap();
    let page: Vec<u64> =
        page["versions"].as_array().unwrap().iter().map(|v| v["version"].as_u64().unwrap()).collect();
    assert_eq!(page, [4, 3, 2]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_time_means_the_version_that_was_the_newest_then() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    for n in 0..4 {
        query(&client, "g", &format!("INSERT (:N {{n: {n}}})")).await;
    }
    load(&client, 0..2).await;
    let told = history(&client).await;
    let versions = told["versions"].as_array().unwrap().clone();
    assert_eq!(versions.len(), 6);
    for version in &versions {
        let number = version["version"].as_u64().unwrap();
        // Times are told in milliseconds, and are kept more exactly.
        let at = version["at"].as_str().unwrap().replace('Z', "999Z");
        let count = async |text: String| query(&client, "g", &text).await.rows[0][0].clone();
        let by_number = count(format!("USE g AT VERSION {number} MATCH (n) RETURN COUNT(*) AS n")).await;
        let nodes = version["nodes"].clone();
        assert_eq!(by_number, nodes);
        let by_time = count(format!("SELECT COUNT(*) AS n FROM g AT TIMESTAMP '{at}' MATCH (n)")).await;
        assert!(by_time.as_u64() >= nodes.as_u64(), "{by_time} at {at}, {nodes} expected");
        let asked = QueryRequest { at_timestamp: Some(at), ..request("g", "MATCH (n) RETURN COUNT(*) AS n") };
        assert_eq!(client.query(&asked).await.unwrap().rows[0][0], by_time);
    }
    let far = QueryRequest {
        at_timestamp: Some("2100-01-01T00:00:00+02:00".into()),
        ..request("g", "MATCH (n) RETURN COUNT(*) AS n")
    };
    assert_eq!(client.query(&far).await.unwrap().rows[0][0], json!(6));
    let refused = async |at_version: Option<u64>, text: &str| match client
        .query(&QueryRequest { at_version, ..request("g", text) })
        .await
    {
        Err(ClientError::Problem(problem)) => (problem.status, problem.detail),
        other => panic!("{text}: {other:?}"),
    };
    let (status, text) = refused(Some(99), "MATCH (n) RETURN n").await;
    assert_eq!(
        (status, text.as_str()),
        (404, "graph g has no version 99: its versions from 0 to 5 are kept")
    );
    let (status, text) = refused(None, "USE g AT TIMESTAMP '1999-01-01T00:00:00Z' MATCH (n) RETURN n").await;
    assert!(status == 404 && text.contains("no version of 1999"), "{text}");
    let (status, text) = refused(None, "USE g AT TIMESTAMP 'yesterday' MATCH (n) RETURN n").await;
    assert!(status == 422 && text.contains("'yesterday' is no time"), "{status} {text}");
    let (status, text) = refused(None, "USE g AT VERSION 1 INSERT (:N)").await;
    assert!(status == 400 && text.contains("cannot be changed"), "{text}");
    // Two versions in one query, though not in one plan.
    let both =
        "USE g AT VERSION 1 MATCH (n) RETURN n.n AS n UNION USE g AT VERSION 2 MATCH (n) RETURN n.n AS n";
    assert_eq!(json!(query(&client, "g", both).await.rows), json!([[0], [1]]));
    let refused = client.plan(&request("g", both)).await.unwrap_err().to_string();
    assert!(refused.contains("several versions"), "{refused}");
    // By a parameter, in plans, in profiles and in exports too.
    let parameters = json!({ "v": 2 }).as_object().unwrap().clone();
    let asked =
        QueryRequest { parameters, ..request("g", "USE g AT VERSION $v MATCH (n) RETURN COUNT(*) AS n") };
    assert_eq!(client.query(&asked).await.unwrap().rows[0][0], json!(2));
    let asked = json!({ "text": "MATCH (n) RETURN n", "graph": "g", "at_version": 3 });
    for route in ["/v1/plan", "/v1/profile"] {
        let answer = client.call("POST", route, &asked).await.unwrap();
        assert_eq!(answer["version"], json!(3), "{route}");
    }
    let export = json!({ "format": "jsonl", "at_version": 1 });
    let lines = client.export("g", &export).await.unwrap().text().await.unwrap();
    assert_eq!(lines.lines().count(), 1, "{lines}");
    // An open transaction does not stand in the way.
    let session = client.open_session(Some("g")).await.unwrap();
    let text = "START TRANSACTION; INSERT (:N {n: 9}); USE g AT VERSION 1 MATCH (n) RETURN COUNT(*) AS n";
    let asked = QueryRequest { text: text.into(), session: Some(session), ..QueryRequest::default() };
    assert_eq!(client.query(&asked).await.unwrap().rows[0][0], json!(1));
}

/// Asks in the database of a service that is running.
async fn in_running_database(data: &Path, text: &str) -> i64 {
    let server = PrivateServer::start(data).unwrap();
    let mut owner = PgConnection::connect(&server.url()).await.unwrap();
    sqlx::query_scalar(sqlx::AssertSqlSafe(text)).fetch_one(&mut owner).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_longer_kept_is_removed() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    keep(&client, 3, 0).await;
    for round in 0..6 {
        client.call("DELETE", "/v1/graphs/g/elements?confirm=g", &json!({})).await.unwrap();
        load(&client, 0..20 + round).await;
        query(&client, "g", "MATCH (p:Place {id: 'p1'}) SET p.rank = 100").await;
    }
    // What a commit pushes out goes at the next round, or with this.
    keep(&client, 3, 0).await;
    // The newest three are 18, 17 and 16; version 16 is a base, and so nothing before it is needed.
    let began = Instant::now();
    loop {
        let told = history(&client).await;
        if told["oldest"] == json!(16) {
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(60), "{told}");
        tokio::task::yield_now().await;
    }
    assert_eq!(elements(&client, Some(16)).await.len(), 0);
    assert_eq!(elements(&client, Some(17)).await.len(), 25);
    let asked = QueryRequest { at_version: Some(15), ..request("g", "MATCH (n) RETURN n") };
    let ClientError::Problem(problem) = client.query(&asked).await.unwrap_err() else { panic!("no problem") };
    assert_eq!(problem.status, 404);
    let began = Instant::now();
    loop {
        let segments = in_running_database(data.path(), "SELECT count(*) FROM segments").await;
        let pages = "SELECT count(DISTINCT segment_id) FROM segment_pages";
        let with_pages = in_running_database(data.path(), pages).await;
        if segments == 1 && with_pages == 1 {
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(60), "{segments} segments, {with_pages} with pages");
    }
    assert_eq!(in_running_database(data.path(), "SELECT count(*) FROM commits").await, 1);
    let told = client.call("PUT", "/v1/graphs/g/retention", &json!({ "versions": 0, "days": 1 })).await;
    assert!(told.unwrap_err().to_string().contains("at least 1"));
    // A graph that is dropped takes its versions with it.
    query(&client, "g", "DROP GRAPH g").await;
    let began = Instant::now();
    while in_running_database(data.path(), "SELECT count(*) FROM segments").await > 0 {
        assert!(began.elapsed() < Duration::from_secs(60));
    }
    assert_eq!(in_running_database(data.path(), "SELECT count(*) FROM manifests").await, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_graph_is_opened_again_with_a_version_that_can_be_read() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "CREATE KEY place OVER (:Place {id})").await;
    load(&client, 0..5).await;
    for n in 0..4 {
        query(&client, "g", &format!("INSERT (:Place {{id: 'x{n}', rank: {n}}})")).await;
    }
    // Versions: 0 create, 1 key, 2 load, 3 to 6 commits.
    let then = elements(&client, Some(4)).await;
    service.kill();
    in_database(data.path(), "UPDATE commits SET checksum = checksum + 1 WHERE version = 5").await;
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    let said = cli(&service.url, &["graph", "verify", "g"]);
    assert!(!said.status.success());
    let text = String::from_utf8(said.stdout.clone()).unwrap();
    assert!(text.contains("commit 5 of graph g has a wrong checksum"), "{text}");
    assert!(text.contains("It can be read up to version 4: graphodrome graph restore g --to 4"), "{text}");
    let refused = cli(&service.url, &["graph", "restore", "g", "--to", "5"]);
    assert!(stderr(&refused).contains("wrong checksum"), "{}", stderr(&refused));
    let restored = stdout(&cli(&service.url, &["graph", "restore", "g", "--to", "4"]));
    assert!(restored.contains("as it was in version 4") && restored.contains("at version 7"), "{restored}");
    assert_eq!(elements(&client, None).await, then);
    // The key holds, and new elements get new ids.
    let twice = client.query(&request("g", "INSERT (:Place {id: 'p1'})")).await;
    assert!(twice.unwrap_err().to_string().contains("p1"));
    query(&client, "g", "INSERT (:Place {id: 'new'})").await;
    service.kill();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    assert_eq!(elements(&client, None).await.len(), then.len() + 1);
    assert_eq!(elements(&client, Some(7)).await, then);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_base_of_a_fold_costs_nothing() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "INSERT (:N {n: 0})").await;
    let forty = json!((0..40).collect::<Vec<_>>());
    let many = format!(
        "FOR i IN {forty} FOR j IN {forty} FOR k IN {forty} INSERT (:N {{n: i * 1600 + j * 40 + k}})"
    );
    query(&client, "g", &many).await;
    query(&client, "g", "INSERT (:N {n: -1})").await;
    let began = Instant::now();
    while !history(&client).await["versions"]
        .as_array()
        .unwrap()
        .iter()
        .any(|v| v["base"] == true && v["kind"] == "commit")
    {
        assert!(began.elapsed() < Duration::from_secs(60), "it is not folded");
        tokio::task::yield_now().await;
    }
    service.kill();
    let torn = "UPDATE segment_pages SET data = set_byte(data, 40, get_byte(data, 40) # 255)";
    in_database(data.path(), torn).await;
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    let count = "MATCH (n:N) RETURN COUNT(*) AS n";
    assert_eq!(single(&client, "g", count).await, json!(64002));
    assert_eq!(single(&client, "g", "USE g AT VERSION 1 MATCH (n:N) RETURN COUNT(*) AS n").await, json!(1));
    query(&client, "g", "INSERT (:N {n: -2})").await;
    let found = client.call("POST", "/v1/graphs/g/verify", &json!({})).await.unwrap();
    assert_eq!(found["problems"], json!([]), "{found}");
    service.kill();
    let service = Running::start(data.path(), &[]);
    assert_eq!(single(&service.client(), "g", count).await, json!(64003));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_of_a_newer_release_is_refused_with_a_sentence() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "INSERT (:N)").await;
    service.kill();
    in_database(data.path(), "UPDATE commits SET format = 9").await;
    let service = Running::start(data.path(), &[]);
    let listed = service.client().get("/v1/graphs").await.unwrap();
    let reason = listed[0]["offline"].as_str().unwrap();
    assert!(reason.contains("format 9, which a newer release made"), "{reason}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_history_says_who_and_what() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = Client::asking_for(&service.url, Some("ann@averley.example"));
    client.create_graph("g", None).await.unwrap();
    query(&client, "g", "INSERT (:N {n: 1})").await;
    load(&client, 0..2).await;
    query(&client, "g", "CREATE INDEX by_n OVER (:N {n})").await;
    client
        .call("POST", "/v1/graphs/g/nodes", &json!({ "labels": ["N"], "properties": { "n": 2 } }))
        .await
        .unwrap();
    let session = client.open_session(Some("g")).await.unwrap();
    let text = "START TRANSACTION; INSERT (:N {n: 3}), (:N {n: 4}); COMMIT";
    let asked = QueryRequest { text: text.into(), session: Some(session), ..QueryRequest::default() };
    client.query(&asked).await.unwrap();
    client.call("POST", "/v1/graphs/g/restore", &json!({ "version": 1 })).await.unwrap();
    let told = history(&client).await;
    let rows: Vec<String> = told["versions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|v| {
            let text = |field: &str| v[field].as_str().unwrap().to_string();
            format!("{} {} {} {}", v["version"], text("kind"), text("origin"), v["changes"])
        })
        .collect();
    assert_eq!(
        rows,
        [
            "6 restore version 1, ann@averley.example, job 3 null",
            "5 commit ann@averley.example, transaction 2",
            "4 commit ann@averley.example, element route 1",
            "3 model ann@averley.example, create index by_n null",
            "2 load ann@averley.example, job 1 null",
            "1 commit ann@averley.example, query 1",
            "0 create  null",
        ]
    );
    let shown = stdout(&cli(&service.url, &["graph", "history", "g"]));
    for part in ["elements written", "restore", "ann@averley.example, query", "Versions 0 to 6 can be read"] {
        assert!(shown.contains(part), "{part} is missing in\n{shown}");
    }
    let shown = stdout(&cli(&service.url, &["graph", "diff", "g", "1", "5"]));
    for part in ["added", "n 4", "From version 1 to 5: 5 added, 0 changed, 0 removed."] {
        assert!(shown.contains(part), "{part} is missing in\n{shown}");
    }
    let kept = stdout(&cli(&service.url, &["graph", "keep", "g", "--days", "30"]));
    assert_eq!(kept, "Of g the newest 10 versions stay, and those of the last 30 days.\n");
    let shown = stdout(&cli(
        &service.url,
        &["query", "-g", "g", "--at-version", "4", "--format", "csv", "MATCH (n) RETURN COUNT(*) AS n"],
    ));
    assert_eq!(shown, "n\r\n4\r\n");
}
