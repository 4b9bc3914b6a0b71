//! Measures, views and distance bounds through the running service, the command line and the description of the
//! interface.

#![allow(clippy::unwrap_used)]

use graphodrome_client::{Client, QueryRequest};
use graphodrome_tests::*;
use serde_json::{Value, json};

async fn post(service: &Running, path: &str, body: Value) -> (u16, Value) {
    let answer =
        reqwest::Client::new().post(format!("{}{path}", service.url)).json(&body).send().await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn measures_are_listed_run_and_kept() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    load_demo(&client).await;

    // What is listed is what the page says and what the interface describes.
    let listed = client.get("/v1/measures").await.unwrap();
    let names: Vec<&str> = listed.as_array().unwrap().iter().map(|m| m["name"].as_str().unwrap()).collect();
    assert!(names.len() >= 25 && names.is_sorted(), "{names:?}");
    let page = std::fs::read_to_string(root().join("docs/measures.md")).unwrap();
    let described = client.get("/v1/openapi.json").await.unwrap();
    for measure in listed.as_array().unwrap() {
        let name = measure["name"].as_str().unwrap();
        assert!(page.contains(&format!("### `{name}`")), "{name} is not on the page");
        for argument in measure["arguments"].as_array().unwrap() {
            let argument = argument["name"].as_str().unwrap();
            assert!(page.contains(&format!("`{argument}")), "{argument} of {name} is not on the page");
        }
        let operation = &described["paths"][format!("/v1/graphs/{{graph}}/measures/{name}")]["post"];
        let schema = &operation["requestBody"]["content"]["application/json"]["schema"];
        let arguments = schema["properties"]["arguments"]["properties"].as_object().unwrap();
        assert_eq!(arguments.len(), measure["arguments"].as_array().unwrap().len(), "{name}");
    }

    // Run by name, in two formats; its text is the same question.
    let path = "/v1/graphs/averley/measures/bridges";
    let call = json!({ "arguments": { "edges": "-[:PIPE]-" }, "top": 3 });
    let (status, found) = post(&service, path, call.clone()).await;
    assert_eq!(status, 200, "{found}");
    assert_eq!(found["rows"].as_array().unwrap().len(), 3);
    assert_eq!(found["columns"][0]["kind"], "edge");
    let mut text_only = call;
    text_only["text_only"] = json!(true);
    let (_, text) = post(&service, path, text_only).await;
    let (_, same) = post(&service, "/v1/query", json!({ "graph": "averley", "text": text["text"] })).await;
    assert_eq!(same["rows"], found["rows"]);

    // Kept as a property, where the model has one; refused where it has none, and nothing is changed.
    let keep = json!({ "arguments": { "edges": "-[:PIPE]-" }, "set": { "component": "part" } });
    let (status, refused) = post(&service, "/v1/graphs/averley/measures/weak_components", keep.clone()).await;
    assert_eq!(status, 400, "{refused}");
    post(&service, "/v1/query", json!({ "text": "CREATE GRAPH loose ANY" })).await;
    let inserted =
        json!({ "graph": "loose", "text": "INSERT (a:A {n: 1})-[:TO]->(b:A {n: 2}), (:A {n: 3})" });
    assert_eq!(post(&service, "/v1/query", inserted).await.0, 200);
    let keep = json!({ "set": { "component": "part", "size": "size" } });
    let (status, kept) = post(&service, "/v1/graphs/loose/measures/weak_components", keep).await;
    assert_eq!((status, &kept["summary"]["changed"]["properties_set"]), (200, &json!(6)), "{kept}");
    let asked =
        json!({ "graph": "loose", "text": "MATCH (a:A) RETURN a.part AS p, a.size AS s ORDER BY a.n" });
    assert_eq!(post(&service, "/v1/query", asked).await.1["rows"], json!([[0, 2], [0, 2], [1, 1]]));

    // What is wrong is said with the way out.
    for (path, body, status, said) in [
        ("/v1/graphs/averley/measures/bridgs", json!({}), 404, "did you mean bridges?"),
        ("/v1/graphs/nowhere/measures/bridges", json!({}), 404, "nowhere"),
        (
            "/v1/graphs/averley/measures/bridges",
            json!({ "arguments": { "edge": "-[]-" } }),
            400,
            "no argument edge",
        ),
        (
            "/v1/graphs/averley/measures/bridges",
            json!({ "arguments": { "edges": [1] } }),
            400,
            "edges is [1]",
        ),
        ("/v1/graphs/averley/measures/bridges", json!({ "arguments": { "edges": "-[:PIP]-" } }), 400, "PIP"),
        ("/v1/graphs/averley/measures/distances", json!({}), 400, "needs its argument from"),
    ] {
        let (got, answer) = post(&service, path, body).await;
        assert_eq!(got, status, "{path}: {answer}");
        assert!(answer.to_string().contains(said), "{path}: {answer}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_command_line_runs_measures() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    load_demo(&service.client()).await;
    let run = |arguments: &[&str]| {
        let mut all = vec!["measure"];
        all.extend(arguments);
        cli(&service.url, &all)
    };
    assert!(stdout(&run(&["list"])).contains("articulation_points"));
    let shown = stdout(&run(&["show", "maximum_flow"]));
    assert!(shown.contains("(needed)") && shown.contains("Dinic"), "{shown}");
    let pipes = ["-g", "averley", "--edges", "-[:PIPE]-"];
    let top = stdout(&run(&[&["run", "betweenness", "--top", "3", "--format", "csv"][..], &pipes].concat()));
    assert_eq!(top.lines().count(), 4, "{top}");
    let source = "source=(:Site {code: 'S-001'})";
    let target = "target=(:Site {code: 'S-002'})";
    let flow =
        [&["run", "maximum_flow", "-a", source, "-a", target, "-a", "capacity=diameter_mm"][..], &pipes]
            .concat();
    let found = stdout(&run(&[&flow[..], &["--format", "json"]].concat()));
    let found: Value = serde_json::from_str(&found).unwrap();
    let total = found["rows"][0][3].as_f64().unwrap();
    let cut: f64 = found["rows"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|r| r[2] == true)
        .map(|r| r[1].as_f64().unwrap().abs())
        .sum();
    assert!(total > 0.0 && (total - cut).abs() < 1e-6, "{total} {cut}");
    let text = stdout(&run(&[&flow[..], &["--text"]].concat()));
    assert!(text.starts_with("MATCH (source_node:Site {code: 'S-001'})"), "{text}");
    let wrong = run(&["run", "page_rnk", "-g", "averley"]);
    assert!(!wrong.status.success() && stderr(&wrong).contains("did you mean page_rank?"));
    let wrong = run(&["run", "page_rank", "-g", "averley", "-a", "damping"]);
    assert!(stderr(&wrong).contains("write NAME=VALUE"));
}

/// A measure of a graph that takes seconds is stopped by its time limit at once.
#[tokio::test(flavor = "multi_thread")]
async fn a_long_measure_keeps_its_time_limit() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    load_demo(&service.client()).await;
    let before = std::time::Instant::now();
    let call = json!({ "arguments": { "iterations": 1_000_000_000, "tolerance": 0 }, "timeout_ms": 300 });
    let (status, answer) = post(&service, "/v1/graphs/averley/measures/page_rank", call).await;
    assert!(answer.to_string().contains("R0002"), "{status} {answer}");
    assert!(before.elapsed() < std::time::Duration::from_secs(30));
    // Nine million distances do not fit in what this query may hold; what they held is given back.
    let all = "LET every = VALUE { MATCH (n) RETURN COLLECT_LIST(n) } CALL distances({from: every, edges: '-[]-'}) YIELD distance RETURN COUNT(*) AS n";
    let ask = json!({ "graph": "averley", "text": all, "max_memory_bytes": 32 << 20 });
    let (status, answer) = post(&service, "/v1/query", ask).await;
    assert_eq!(status, 422, "{answer}");
    assert!(answer.to_string().contains("R0003"), "{answer}");
    let walks = json!({ "arguments": { "each": 1_000_000, "length": 1_000_000_000 } });
    let (_, answer) = post(&service, "/v1/graphs/averley/measures/random_walks", walks).await;
    assert!(answer.to_string().contains("R0003"), "{answer}");
    let ready = json!({ "graph": "averley", "text": "MATCH (n) RETURN COUNT(*) AS n" });
    assert_eq!(post(&service, "/v1/query", ready).await.1["rows"], json!([[3062]]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_neighbourhood_counts_what_it_leaves_out() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let path = "/v1/graphs/averley/nodes/Junction/J-00297/neighbourhood";
    let of = async |query: &str| client.get(&format!("{path}?{query}")).await.unwrap();
    let count = |found: &Value, name: &str| found[name].as_array().unwrap().len();

    // One hop, all of it: the node, its 41 pipes on, the one to it, its district.
    let all = of("sample=5000&limit=5000").await;
    let query = "MATCH (n:Junction {code: 'J-00297'})-[e]-(m) RETURN COUNT(DISTINCT e) AS edges, COUNT(DISTINCT m) AS nodes";
    let asked = graphodrome_tests::query(&client, "averley", query).await;
    assert_eq!(count(&all, "edges") as i64, asked.rows[0][0].as_i64().unwrap());
    assert_eq!(count(&all, "nodes") as i64, asked.rows[0][1].as_i64().unwrap() + 1);
    assert_eq!(count(&all, "left_out"), 0);

    // A sample: the same for the same seed, and what is left out is counted.
    let some = of("sample=5&edges=PIPE&direction=out&seed=3").await;
    assert_eq!((count(&some, "nodes"), count(&some, "edges")), (6, 5));
    let left = &some["left_out"][0];
    assert_eq!((&left["shown"], &left["all"], &left["direction"]), (&json!(5), &json!(41), &json!("out")));
    assert_eq!(some, of("sample=5&edges=PIPE&direction=out&seed=3").await);
    assert_ne!(some["edges"], of("sample=5&edges=PIPE&direction=out&seed=4").await["edges"]);

    // Two hops up to a limit of nodes: every edge joins two nodes of the answer, hops do not fall.
    let near = of("hops=2&limit=30").await;
    assert_eq!((count(&near, "nodes"), &near["full"]), (30, &json!(true)));
    let ids: Vec<&Value> = near["nodes"].as_array().unwrap().iter().map(|n| &n["id"]).collect();
    let edges = near["edges"].as_array().unwrap();
    assert!(edges.iter().all(|e| ids.contains(&&e["source"]) && ids.contains(&&e["target"])));
    assert!(near["hops"].as_array().unwrap().iter().map(|h| h.as_u64().unwrap()).is_sorted());

    // What is wrong is said.
    for (query, said) in [
        ("hops=0", "hops is 0: it must be from 1 to 10"),
        ("limit=5001", "it must be from 1 to 5000"),
        ("direction=up", "out, in or any"),
        ("edges=PIPES", "did you mean PIPE?"),
    ] {
        let error = client.get(&format!("{path}?{query}")).await.unwrap_err().to_string();
        assert!(error.contains(said), "{query}: {error}");
    }
    let shown = stdout(&cli(
        &service.url,
        &["neighbours", "-g", "averley", "Junction", "J-00297", "--edges", "PIPE", "--sample", "3"],
    ));
    assert!(
        shown.contains("Junction J-00297") && shown.contains("-[PIPE P-") && shown.contains("left out at"),
        "{shown}"
    );
    assert!(shown.contains("41"), "{shown}");
}

#[tokio::test(flavor = "multi_thread")]
async fn views_are_kept_with_their_graph() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    let model = "CREATE GRAPH net { (Place :Place { code STRING NOT NULL } KEY (code)), (Place)-[:PIPE { status STRING, m INT64 }]->(Place) }";
    let (status, made) = post(&service, "/v1/query", json!({ "text": model })).await;
    assert_eq!(status, 200, "{made}");
    query(&client, "net", "INSERT (a:Place {code: 'a'})-[:PIPE {status: 'open', m: 3}]->(b:Place {code: 'b'})-[:PIPE {status: 'shut', m: 4}]->(c:Place {code: 'c'})").await;
    let ask = |text: &str| json!({ "graph": "net", "text": text });
    let create =
        "CREATE GRAPH VIEW opened AS NODES (:Place) EDGES -[e:PIPE WHERE e.status = 'open']- WEIGHT m";
    let (status, made) = post(&service, "/v1/query", ask(create)).await;
    assert_eq!(status, 200, "{made}");
    let before = client.get("/v1/graphs/net").await.unwrap()["version"].as_u64().unwrap();

    let degrees =
        "CALL degree({view: 'opened'}) YIELD node, degree RETURN node.code AS code, degree ORDER BY code";
    assert_eq!(json!(query(&client, "net", degrees).await.rows), json!([["a", 1], ["b", 1], ["c", 0]]));
    // It follows its graph, and an earlier version has what it had.
    query(&client, "net", "MATCH ()-[e:PIPE {status: 'shut'}]->() SET e.status = 'open'").await;
    assert_eq!(json!(query(&client, "net", degrees).await.rows), json!([["a", 1], ["b", 2], ["c", 1]]));
    let run = cli(
        &service.url,
        &[
            "measure",
            "run",
            "degree",
            "-g",
            "net",
            "--view",
            "opened",
            "--at-version",
            &before.to_string(),
            "--format",
            "csv",
        ],
    );
    assert!(stdout(&run).contains(",1"), "{}", stdout(&run));
    let at = json!({ "graph": "net", "at_version": before, "text": degrees });
    assert_eq!(post(&service, "/v1/query", at).await.1["rows"], json!([["a", 1], ["b", 1], ["c", 0]]));

    // It is listed, and what it names is not renamed under it.
    assert!(stdout(&cli(&service.url, &["model", "show", "-g", "net"])).contains(&format!("{create};")));
    let (status, refused) =
        post(&service, "/v1/query", ask("ALTER GRAPH net RENAME PROPERTY status TO state ON EDGE PIPE"))
            .await;
    assert_eq!(status, 400);
    assert!(
        refused["detail"].as_str().unwrap_or_default().contains("the view opened names status"),
        "{refused}"
    );
    for (text, said) in [
        (create, "there is already a view"),
        ("CREATE GRAPH VIEW v AS EDGES -[:PIPES]->", "PIPE"),
        ("CREATE GRAPH VIEW v AS EDGES -[:PIPE]-> WEIGHT mm", "there is no property mm"),
        ("CREATE GRAPH VIEW v AS", "expected NODES, EDGES or WEIGHT"),
        ("DROP GRAPH VIEW opend", "did you mean opened?"),
        ("CALL degree({view: 'opend'}) YIELD node RETURN node", "did you mean opened?"),
    ] {
        let (status, refused) = post(&service, "/v1/query", ask(text)).await;
        let same = text == create;
        assert_eq!(status, if same { 200 } else { 400 }, "{text}: {refused}");
        assert!(same || refused.to_string().contains(said), "{text}: {refused}");
    }
    let other = create.replace("WEIGHT m", "");
    assert_eq!(post(&service, "/v1/query", ask(&other)).await.0, 400);
    assert_eq!(post(&service, "/v1/query", ask(&other.replace("CREATE", "CREATE OR REPLACE"))).await.0, 200);

    // A restart loses nothing of it; a drop takes it away.
    service.kill();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    assert_eq!(json!(query(&client, "net", degrees).await.rows), json!([["a", 1], ["b", 2], ["c", 1]]));
    assert!(
        stdout(&cli(&service.url, &["model", "show", "-g", "net"])).contains(&other.trim_end().to_string())
    );
    assert_eq!(post(&service, "/v1/query", ask("DROP GRAPH VIEW opened")).await.0, 200);
    assert_eq!(post(&service, "/v1/query", ask(degrees)).await.0, 400);
}

async fn say(client: &Client, text: &str) -> String {
    let result = query(client, "roads", text).await;
    result.rows[0][0].as_str().unwrap_or_default().to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_distance_bound_is_made_used_kept_and_dropped() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("roads", None).await.unwrap();
    let text = "FOR i IN $all INSERT (:Stop {no: i, east: CAST(i AS FLOAT64)})";
    let all: Vec<i64> = (0..60).collect();
    let ask = QueryRequest {
        parameters: [("all".to_string(), json!(all))].into_iter().collect(),
        ..request("roads", text)
    };
    client.query(&ask).await.unwrap();
    query(&client, "roads", "MATCH (a:Stop), (b:Stop) WHERE b.no = a.no + 1 INSERT (a)-[:ROAD {km: 2}]->(b)")
        .await;
    query(&client, "roads", "CREATE KEY stop OVER (:Stop {no})").await;
    let create = "CREATE DISTANCE BOUND near OVER -[:ROAD {km}]- FROM 4 LANDMARKS";
    assert!(say(&client, create).await.starts_with("distance bound near created"));
    assert_eq!(say(&client, create).await, "distance bound near already exists");
    let cheapest =
        "MATCH ANY SHORTEST BY e.km (a:Stop {no: 5})-[e:ROAD]-+(b:Stop {no: 40}) RETURN SUM(e.km) AS km";
    assert_eq!(json!(query(&client, "roads", cheapest).await.rows), json!([[70]]));
    let plan = async |body: Value| client.call("POST", "/v1/plan", &body).await.unwrap().to_string();
    let asked = json!({ "graph": "roads", "text": cheapest });
    let planned = plan(asked).await;
    assert!(planned.contains("by the distance bound near"), "{planned}");

    // What is wrong is named, and nothing is changed.
    for (text, said) in [
        ("CREATE DISTANCE BOUND b OVER -[:ROADS {km}]- FROM LANDMARKS", "did you mean ROAD?"),
        ("CREATE DISTANCE BOUND b OVER -[:ROAD {kn}]- FROM LANDMARKS", "did you mean km?"),
        ("CREATE DISTANCE BOUND b OVER -[:ROAD {km}]- FROM COORDINATES {eest}", "did you mean east?"),
        (
            "CREATE DISTANCE BOUND near OVER -[:ROAD {km}]-> FROM LANDMARKS",
            "CREATE OR REPLACE DISTANCE BOUND",
        ),
        ("CREATE DISTANCE BOUND b OVER -[:ROAD {km}]- FROM 1000 LANDMARKS", "from 1 to 64 landmarks"),
        ("CREATE DISTANCE BOUND b OVER -[:ROAD {km}]-", "FROM COORDINATES {x, y}"),
        ("DROP DISTANCE BOUND nearr", "did you mean near?"),
        (
            "ALTER GRAPH roads RENAME PROPERTY km TO kilometres ON EDGE ROAD",
            "the distance bound near names km",
        ),
    ] {
        let error =
            client.query(&request("roads", text)).await.err().map(|e| e.to_string()).unwrap_or_default();
        assert!(error.contains(said), "{text}: {error}");
    }

    // A way that is shorter than all before, and one shorter than the straight line.
    query(&client, "roads", "MATCH (a:Stop {no: 6}), (b:Stop {no: 39}) INSERT (a)-[:ROAD {km: 1}]->(b)")
        .await;
    assert_eq!(json!(query(&client, "roads", cheapest).await.rows), json!([[5]]));
    let short = "CREATE OR REPLACE DISTANCE BOUND near OVER -[:ROAD {km}]- FROM COORDINATES {east}";
    let error = client.query(&request("roads", short)).await.err().map(|e| e.to_string()).unwrap_or_default();
    assert!(error.contains("has km = 1, and the straight line between its ends is 33"), "{error}");
    assert!(
        say(&client, &create.replace("CREATE", "CREATE OR REPLACE").replace('4', "3"))
            .await
            .contains("replaced")
    );
    assert_eq!(json!(query(&client, "roads", cheapest).await.rows), json!([[5]]));

    // A restart finds it, a model shows it, a drop takes it away.
    service.kill();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    assert_eq!(json!(query(&client, "roads", cheapest).await.rows), json!([[5]]));
    let shown = stdout(&cli(&service.url, &["model", "show", "-g", "roads"]));
    assert!(shown.contains("CREATE DISTANCE BOUND near OVER -[:ROAD {km}]- FROM 3 LANDMARKS"), "{shown}");
    assert_eq!(say(&client, "DROP DISTANCE BOUND near").await, "distance bound near dropped");
    assert_eq!(say(&client, "DROP DISTANCE BOUND IF EXISTS near").await, "there is no distance bound near");
    // What it would be worth can be asked beforehand, within the query's memory.
    let little = json!({ "graph": "roads", "text": cheapest, "with": [create], "max_memory_bytes": 1024 });
    let error = client.call("POST", "/v1/plan", &little).await.unwrap_err().to_string();
    assert!(error.contains("R0003"), "{error}");
    let body = json!({ "graph": "roads", "text": cheapest, "with": [create] });
    let planned = client.call("POST", "/v1/plan", &body).await.unwrap().to_string();
    assert!(planned.contains("by the distance bound near"), "{planned}");
}
