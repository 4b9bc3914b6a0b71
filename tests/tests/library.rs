//! Saved queries and their paths, the job that checks them, what a graph tells as it changes, laid-out texts, and results as
//! Arrow that others read.

#![allow(clippy::unwrap_used)]

use futures::StreamExt;
use graphodrome_client::{Client, QueryRequest};
use graphodrome_tests::*;
use serde_json::{Value, json};

/// The next server-sent event: its kind, id and data.
struct Events {
    stream: std::pin::Pin<Box<dyn futures::Stream<Item = reqwest::Result<bytes::Bytes>> + Send>>,
    buffer: String,
}

impl Events {
    fn of(response: reqwest::Response) -> Events {
        assert!(response.status().is_success(), "{}", response.status());
        Events { stream: Box::pin(response.bytes_stream()), buffer: String::new() }
    }

    async fn next(&mut self) -> (String, String, Value) {
        loop {
            while let Some(end) = self.buffer.find("\n\n") {
                let text: String = self.buffer.drain(..end + 2).collect();
                let field = |name: &str| {
                    let start = format!("{name}: ");
                    text.lines().find_map(|l| l.strip_prefix(&start)).unwrap_or("").to_string()
                };
                if !field("event").is_empty() {
                    return (field("event"), field("id"), serde_json::from_str(&field("data")).unwrap());
                }
            }
            let piece = self.stream.next().await.expect("the stream ended").unwrap();
            self.buffer.push_str(std::str::from_utf8(&piece).unwrap());
        }
    }
}

async fn graph_of_wells(client: &Client) {
    client.create_graph("g", None).await.unwrap();
    query(
        client,
        "g",
        "FOR i IN [1, 2, 3] INSERT (:Well {id: i, depth: i * 10, name: 'W' || CAST(i AS STRING)})",
    )
    .await;
    query(client, "g", "MATCH (a:Well {id: 1}), (b:Well {id: 2}) INSERT (a)-[:FEEDS {litres: 7}]->(b)").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn saved_queries_are_endpoints_and_files() {
    let folder = folder();
    let service = Running::start(&folder.path().join("data"), &[]);
    let client = service.client();
    graph_of_wells(&client).await;
    let library = folder.path().join("library");
    std::fs::create_dir_all(library.join("reports/depth")).unwrap();
    let text = "-- name: deeper_than\n-- folder: reports/depth\n-- description: Wells deeper than a level\n-- parameter: $level INT NOT NULL = 15\n-- parameter: $prefix STRING = 'W'\nMATCH (w:Well)\nWHERE w.depth > $level AND w.name LIKE $prefix || '%'\nRETURN w.id AS id\nORDER BY id\n";
    std::fs::write(library.join("reports/depth/deeper_than.gql"), text).unwrap();
    std::fs::write(
        library.join("dig.gql"),
        "-- parameter: $id INT NOT NULL\nINSERT (w:Well {id: $id, depth: 1, name: 'W9'}) RETURN w.id AS id\n",
    )
    .unwrap();
    let path = library.to_str().unwrap();
    assert!(stdout(&cli(&service.url, &["saved", "import", path])).contains("2 queries saved"));
    assert!(stdout(&cli(&service.url, &["saved", "list"])).contains("Wells deeper than a level"));
    assert_eq!(stdout(&cli(&service.url, &["saved", "show", "deeper_than"])), text);
    let run = stdout(&cli(&service.url, &["saved", "run", "deeper_than", "-g", "g", "-p", "level=25"]));
    // Without the line that says how long it took.
    let rows: String = run.lines().filter(|line| !line.contains(" ms")).collect();
    assert!(rows.contains('3') && !rows.contains('2'), "{run}");

    // Called by its path: typed parameters from the URL, an entity tag by version.
    let http = reqwest::Client::new();
    let url = format!("{}/v1/graphs/g/saved-queries/deeper_than", service.url);
    let first = http.get(format!("{url}?level=15")).send().await.unwrap();
    let tag = first.headers()["etag"].to_str().unwrap().to_string();
    let body: Value = first.json().await.unwrap();
    assert_eq!(body["rows"], json!([[2], [3]]));
    let again = http.get(format!("{url}?level=15")).header("if-none-match", &tag).send().await.unwrap();
    assert_eq!(again.status(), 304);
    let other = http.get(format!("{url}?level=5")).header("if-none-match", &tag).send().await.unwrap();
    assert_eq!(other.status(), 200);
    for (query, said) in [("level=deep", "not a valid INT"), ("levle=5", "no parameter $levle")] {
        let wrong = http.get(format!("{url}?{query}")).send().await.unwrap();
        assert_eq!(wrong.status(), 400, "{query}");
        assert!(wrong.text().await.unwrap().contains(said), "{query}");
    }
    // One that changes the graph takes POST alone, and makes every tag old.
    let dig = format!("{}/v1/graphs/g/saved-queries/dig", service.url);
    assert_eq!(http.get(&dig).send().await.unwrap().status(), 405);
    let made: Value = http.post(&dig).json(&json!({ "id": 9 })).send().await.unwrap().json().await.unwrap();
    assert_eq!(made["rows"], json!([[9]]));
    assert_eq!(http.post(&dig).json(&json!({})).send().await.unwrap().status(), 400);
    let after = http.get(format!("{url}?level=15")).header("if-none-match", &tag).send().await.unwrap();
    assert_eq!(after.status(), 200);

    // What asks the time has no tag, and what names a graph is refused.
    let queries = format!("{}/v1/saved-queries", service.url);
    let today = http.put(format!("{queries}/today")).json(&json!({ "text": "RETURN DATE() AS d" })).send();
    assert_eq!(today.await.unwrap().status(), 200);
    let asked = http.get(format!("{}/v1/graphs/g/saved-queries/today", service.url)).send().await.unwrap();
    assert_eq!((asked.status().as_u16(), asked.headers().get("etag")), (200, None));
    http.delete(format!("{queries}/today")).send().await.unwrap();
    let elsewhere = json!({ "text": "USE g MATCH (w:Well) RETURN COUNT(*) AS n" });
    for refused in [
        http.put(format!("{queries}/elsewhere")).json(&elsewhere),
        http.post(format!("{}/v1/graphs/g/watch", service.url)).json(&elsewhere),
    ] {
        let refused = refused.send().await.unwrap();
        assert_eq!(refused.status(), 400);
        assert!(refused.text().await.unwrap().contains("leave USE out"));
    }

    // Its own entry in the document, with its parameters.
    let document = client.get("/v1/openapi.json").await.unwrap();
    let entry = &document["paths"]["/v1/graphs/{graph}/saved-queries/deeper_than"]["get"];
    assert_eq!(entry["parameters"][1]["name"], "level");
    assert_eq!(entry["parameters"][1]["schema"]["type"], "integer");
    assert!(document["paths"]["/v1/graphs/{graph}/saved-queries/dig"].get("get").is_none());

    // Out and in again: the same.
    let out = folder.path().join("out");
    assert!(stdout(&cli(&service.url, &["saved", "export", out.to_str().unwrap()])).contains("2 queries"));
    assert_eq!(std::fs::read_to_string(out.join("reports/depth/deeper_than.gql")).unwrap(), text);
    assert!(stdout(&cli(&service.url, &["saved", "remove", "dig"])).contains("removed dig"));
    let gone = cli(&service.url, &["saved", "show", "deeper_then"]);
    assert!(stderr(&gone).contains("did you mean deeper_than?"), "{}", stderr(&gone));
    let bad = cli(&service.url, &["saved", "add", "demo/model.gql"]);
    assert!(!bad.status.success());
}

#[tokio::test(flavor = "multi_thread")]
async fn commits_are_streamed_and_results_watched() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    graph_of_wells(&client).await;
    let http = reqwest::Client::new();
    let version = client.get("/v1/graphs/g").await.unwrap()["version"].as_u64().unwrap();
    let changes = format!("{}/v1/graphs/g/changes", service.url);
    let mut live = Events::of(http.get(format!("{changes}?after_version={version}")).send().await.unwrap());
    let watch = json!({ "text": "MATCH (w:Well) WHERE w.depth > $level RETURN COUNT(*) AS n", "parameters": { "level": 15 } });
    let watched = format!("{}/v1/graphs/g/watch", service.url);
    let mut results = Events::of(http.post(&watched).json(&watch).send().await.unwrap());
    assert_eq!(results.next().await.2["rows"], json!([[2]]));

    query(&client, "g", "INSERT (:Pump {id: 1})").await;
    query(&client, "g", "MATCH (w:Well {id: 1}) SET w.depth = 11").await;
    query(&client, "g", "MATCH (w:Well {id: 1}) SET w.depth = 40").await;
    query(&client, "g", "MATCH (w:Well {id: 3}) DETACH DELETE w").await;
    let (kind, id, data) = live.next().await;
    assert_eq!((kind.as_str(), id), ("commit", (version + 1).to_string()));
    assert_eq!(data["changes"][0]["labels"], json!(["Pump"]));
    assert_eq!(live.next().await.2["changes"][0]["properties"]["depth"], 11);
    assert_eq!(live.next().await.2["changes"][0]["properties"]["depth"], 40);
    assert_eq!(live.next().await.2["changes"][0]["deleted"], true);
    // The result came again only when it was another one; two commits may be one step.
    let mut last = Value::Null;
    while last != json!([[2]]) {
        last = results.next().await.2["rows"].clone();
        assert!(last == json!([[3]]) || last == json!([[2]]), "{last}");
    }

    // Resumed where it broke off, also after a restart.
    let mut resumed = Events::of(
        http.get(&changes).header("last-event-id", (version + 2).to_string()).send().await.unwrap(),
    );
    assert_eq!(resumed.next().await.1, (version + 3).to_string());
    drop((live, results, resumed));
    assert!(service.interrupt());
    let service = Running::start(folder.path(), &[]);
    let changes = format!("{}/v1/graphs/g/changes?after_version={version}", service.url);
    let mut after = Events::of(http.get(&changes).send().await.unwrap());
    assert_eq!(after.next().await.2["changes"][0]["labels"], json!(["Pump"]));

    let wrong = json!({ "text": "MATCH (w:Well) DETACH DELETE w" });
    let refused = http.post(format!("{}/v1/graphs/g/watch", service.url)).json(&wrong).send().await.unwrap();
    assert_eq!(refused.status(), 400);
}

/// A saved query that is called is a part of the query wherever it stands: within EXISTS and VALUE, and where a query is
/// watched.
#[tokio::test(flavor = "multi_thread")]
async fn saved_queries_are_called_within_expressions_and_watched() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    graph_of_wells(&client).await;
    let deep = json!({
        "text": "MATCH (w:Well) WHERE w.depth >= $level RETURN w.id AS id",
        "parameters": [{ "name": "level", "type": "INT", "default": "20" }],
    });
    client.put("/v1/saved-queries/deep", &deep).await.unwrap();
    for (text, wanted) in [
        (
            "MATCH (w:Well) WHERE EXISTS { CALL deep() YIELD id FILTER id = w.id RETURN id } RETURN w.id AS id ORDER BY id",
            json!([[2], [3]]),
        ),
        (
            "MATCH (w:Well) RETURN w.id AS id, VALUE { CALL deep({level: w.depth}) YIELD id RETURN COUNT(*) } AS deeper ORDER BY id",
            json!([[1, 3], [2, 2], [3, 1]]),
        ),
        (
            "MATCH (w:Well) FILTER NOT EXISTS { CALL deep({level: 25}) YIELD id FILTER id = w.id RETURN id } RETURN COUNT(*) AS n",
            json!([[2]]),
        ),
    ] {
        assert_eq!(json!(query(&client, "g", text).await.rows), wanted, "{text}");
    }
    let watch = json!({ "text": "CALL deep() YIELD id RETURN COUNT(*) AS n" });
    let watched = format!("{}/v1/graphs/g/watch", service.url);
    let mut results = Events::of(reqwest::Client::new().post(&watched).json(&watch).send().await.unwrap());
    assert_eq!(results.next().await.2["rows"], json!([[2]]));
    query(&client, "g", "INSERT (:Well {id: 4, depth: 99})").await;
    assert_eq!(results.next().await.2["rows"], json!([[3]]));
}

#[test]
fn texts_are_laid_out_in_place() {
    let folder = folder();
    let file = folder.path().join("question.gql");
    std::fs::write(&file, "-- wells\nmatch (w:Well) where w.depth > 5 return w.id as id").unwrap();
    let path = file.to_str().unwrap();
    let check = cli("http://127.0.0.1:1", &["fmt", "--check", path]);
    assert!(!check.status.success() && stderr(&check).contains("question.gql"));
    stdout(&cli("http://127.0.0.1:1", &["fmt", path]));
    let laid_out = std::fs::read_to_string(&file).unwrap();
    assert_eq!(laid_out, "-- wells\nMATCH (w:Well)\n  WHERE w.depth > 5\nRETURN w.id AS id\n");
    stdout(&cli("http://127.0.0.1:1", &["fmt", "--check", path]));
    std::fs::write(&file, "MTACH (w) RETURN w").unwrap();
    assert!(stderr(&cli("http://127.0.0.1:1", &["fmt", path])).contains("did you mean MATCH?"));
    assert_eq!(std::fs::read_to_string(&file).unwrap(), "MTACH (w) RETURN w");
}

#[tokio::test(flavor = "multi_thread")]
async fn arrow_results_have_arrow_types() {
    use arrow_schema::DataType;
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    graph_of_wells(&client).await;
    let text = "MATCH p = (a:Well)-[e:FEEDS]->(b) RETURN a, e, p, [1, 2] AS list, 1.25 AS exact, DATETIME '2026-01-02T03:04:05.000000006' AS at, {x: 1} AS record, DURATION 'P1M' AS while";
    let request = QueryRequest {
        text: text.replace("AS while", "AS lasting"),
        graph: Some("g".into()),
        ..QueryRequest::default()
    };
    let bytes = client
        .query_as(&request, "application/vnd.apache.arrow.stream")
        .await
        .unwrap()
        .bytes()
        .await
        .unwrap();
    let mut reader = arrow_ipc::reader::StreamReader::try_new(&bytes[..], None).unwrap();
    let batch = reader.next().unwrap().unwrap();
    let kind = |i: usize| batch.schema().field(i).data_type().clone();
    assert!(matches!(kind(0), DataType::Struct(_)) && matches!(kind(1), DataType::Struct(_)));
    assert!(matches!(kind(2), DataType::Struct(_)) && matches!(kind(3), DataType::List(_)));
    assert_eq!(kind(4), DataType::Decimal128(38, 2));
    assert!(matches!(kind(5), DataType::Timestamp(arrow_schema::TimeUnit::Nanosecond, None)));
    assert_eq!(batch.num_rows(), 1);
}

/// The job of the page on slow queries, its steps run by a shell as they stand there: good while nothing is proposed that makes the query slower,
/// and failed where it is.
#[test]
fn the_job_of_the_page_runs() {
    let page = std::fs::read_to_string(root().join("docs/slow-queries.md")).unwrap();
    let job = page.split("```yaml\n").nth(1).unwrap().split("```").next().unwrap();
    let steps: Vec<&str> = job.lines().filter_map(|line| line.strip_prefix("    - ")).collect();
    assert!(steps.len() >= 7, "{job}");
    // The page's port may be taken here.
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let script = steps.join("\n").replace("8620", &port.to_string());
    let home = folder();
    std::fs::create_dir(home.path().join("queries")).unwrap();
    std::os::unix::fs::symlink(root().join("demo"), home.path().join("demo")).unwrap();
    let query = "MATCH (a:Site {code: 'S-001'})-[:PIPE]->{1,3}(j:Junction) WHERE j.elevation_m > 100 RETURN COUNT(DISTINCT j) AS n";
    std::fs::write(home.path().join("queries/reached_junctions.gql"), query).unwrap();
    let binaries = binary().parent().unwrap().display().to_string();
    let run = |change: &str| {
        std::fs::write(home.path().join("change.gql"), change).unwrap();
        let script = format!("set -e\ntrap 'kill $(jobs -p) 2> /dev/null; wait' EXIT\n{script}\n");
        let mut shell = std::process::Command::new("bash");
        shell.args(["-c", &script]).current_dir(home.path());
        shell.env("PATH", format!("{binaries}:{}", std::env::var("PATH").unwrap()));
        shell.env("GRAPHODROME_URL", format!("http://127.0.0.1:{port}"));
        let output = shell.output().unwrap();
        let told =
            String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
        (output.status.success(), told)
    };
    let (well, told) = run("MATCH (s:Site {code: 'S-001'}) SET s.name = s.name");
    assert!(well && told.contains("no worse than"), "{told}");
    let report = std::fs::read_to_string(home.path().join("report.xml")).unwrap();
    assert!(report.contains("failures=\"0\""), "{report}");
    // Ten times as many pipes lead on from it.
    let more = "MATCH (s:Site {code: 'S-001'}), (j:Junction) WHERE j.code < 'J-00300' INSERT (s)-[:PIPE {code: 'X-' || j.code, length_m: 1.0, diameter_mm: 100}]->(j)";
    let (well, told) = run(more);
    assert!(!well && told.contains("worse    reached_junctions on averley"), "{told}");
}
