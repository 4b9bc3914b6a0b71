//! The service over loopback: model, load, query, elements, limits, problems, formats, the OpenAPI
//! document.

#![allow(clippy::unwrap_used)]

use graphodrome_client::{ClientError, Problem, QueryRequest};
use graphodrome_tests::*;
use reqwest::Method;
use serde_json::{Value, json};

fn problem(error: ClientError) -> Problem {
    match error {
        ClientError::Problem(problem) => *problem,
        other => panic!("not a problem: {other}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_load_accounts_for_every_row_and_a_second_one_changes_nothing() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    let first = load_demo(&client).await;
    assert_eq!(first.state, "done", "{}", first.detail);
    let account = &first.detail["account"];
    assert_eq!(account["rejects"], 0);
    for table in account["tables"].as_array().unwrap() {
        for rule in table["rules"].as_array().unwrap() {
            let n = |field: &str| rule[field].as_u64().unwrap();
            let known = n("changed") + n("unchanged") + n("duplicates");
            assert_eq!(n("rows"), n("created") + known + n("skipped") + n("rejects"), "{rule}");
            assert_eq!(rule["rows"], table["rows"]);
        }
    }
    let nodes = single(&client, "averley", "MATCH (n) RETURN COUNT(*) AS n").await;
    assert_eq!(nodes, account["nodes_created"]);
    let edges = single(&client, "averley", "MATCH ()-[e]->() RETURN COUNT(*) AS n").await.as_u64().unwrap()
        + single(&client, "averley", "MATCH (a)~[e]~(b) RETURN COUNT(DISTINCT e) AS n")
            .await
            .as_u64()
            .unwrap();
    assert_eq!(json!(edges), account["edges_created"]);

    let second = load_demo(&client).await;
    assert_eq!(second.detail["changed"], false);
    assert_eq!(second.detail["version"], first.detail["version"]);
    assert_eq!(single(&client, "averley", "MATCH (n) RETURN COUNT(*) AS n").await, nodes);

    // Damaged tables into the same graph: each bad row is a reject with its place.
    let dirty = load_mapping(&client, "averley", &root().join("demo/dirty/load.toml")).await;
    assert_eq!(dirty.state, "done", "{}", dirty.detail);
    let rejects = client.rejects(dirty.id, 100).await.unwrap().rejects;
    let found: Vec<(String, u64, Option<&str>, &str)> =
        rejects.iter().map(|r| (r.table.clone(), r.line, r.column.as_deref(), r.reason.as_str())).collect();
    let expected = [
        ("junctions.csv", 3, Some("elevation_m"), "it is not a number"),
        ("junctions.csv", 6, Some("code"), "the key code is empty"),
        ("junctions.csv", 7, None, "the row has 2 fields, the header 4"),
        ("junctions.csv", 9, Some("elevation_m"), "the key already exists with elevation_m = 93.0"),
        ("junctions.csv", 10, Some("code"), "not valid UTF-8"),
        ("junctions.csv", 11, Some("elevation_m"), "it is out of range"),
        ("valves.csv", 3, Some("installed"), "there is no such day"),
        ("valves.csv", 6, Some("normally"), "must not be null"),
        ("valves.csv", 4, Some("junction"), "there is no Junction with this code"),
    ];
    for (table, line, column, reason) in expected {
        assert!(
            found.iter().any(|f| f.0 == table && f.1 == line && f.2 == column && f.3.contains(reason)),
            "{table} line {line}: {reason}\n{found:#?}"
        );
    }
    let made =
        single(&client, "averley", "MATCH (j:Junction) WHERE j.code LIKE 'J-9000%' RETURN COUNT(*) AS n")
            .await;
    assert_eq!(made, 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_conform_is_refused_and_nothing_is_half_done() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let cases = [
        (
            "INSERT (:District {code: 'ZZ', name: 5})",
            "G2000",
            "property name: expected STRING, given INT64 5",
        ),
        ("INSERT (:District {code: 'ZZ'})", "G2000", "property name: expected STRING NOT NULL, given null"),
        (
            "INSERT (:District {code: 'TE', name: 'Again'})",
            "G2000",
            "there is already a node :District with code = 'TE'",
        ),
        (
            "INSERT (:District {code: 'A1', name: 'A'}), (:District {code: 'A2', name: 'B', height: 3})",
            "G2000",
            "property height is not in its type",
        ),
        (
            "MATCH (d:District {code: 'TE'}), (c:Crew {name: 'Fir crew'}) INSERT (d)-[:IN]->(c)",
            "G2000",
            "no edge type allows",
        ),
        ("MATCH (d:District {code: 'TE'}) DELETE d", "G1001", "still has"),
        ("MATCH (d:Distrct) RETURN d", "42002", "there is no node label Distrct"),
        ("MATCH (d:District) RETURN d.nam", "42002", "there is no property nam"),
        ("MATCH (d:District) RETURN d.population / 0", "22012", "division by zero"),
        ("MATCH (d:District) WHERE d.name > 5 RETURN d", "22G04", "cannot be compared"),
        ("MATCH (d:District RETURN d", "42001", "expected"),
        ("RETURN $x AS x", "42002", "has no value"),
    ];
    for (text, code, message) in cases {
        let found = problem(client.query(&request("averley", text)).await.expect_err(text));
        assert_eq!(found.code.as_deref(), Some(code), "{text}: {}", found.detail);
        assert!(found.detail.contains(message), "{text}: {}", found.detail);
        assert!(!found.errors.is_empty(), "{text}");
    }
    let hint =
        problem(client.query(&request("averley", "MATCH (d:Distrct) RETURN d")).await.unwrap_err()).errors;
    assert_eq!(hint[0].hint.as_deref(), Some("did you mean District?"));
    assert_eq!((hint[0].line, hint[0].column), (Some(1), Some(10)));
    let districts = single(&client, "averley", "MATCH (d:District) RETURN COUNT(*) AS n").await;
    assert_eq!(districts, 12, "a refused statement changed something");
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_are_seen_by_what_follows_and_survive_a_restart() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    client.create_graph("scratch", None).await.unwrap();
    query(&client, "scratch", "INSERT (a:Town {name: 'Aldmere', size: 3})-[:ROAD {km: 4.5}]->(b:Town {name: 'Brisk', size: 'small'}), (b)~[:NEAR]~(a)").await;
    query(&client, "scratch", "MATCH (t:Town {name: 'Aldmere'}) SET t.size = t.size + 1, t:Old").await;
    query(&client, "scratch", "MATCH (t:Town {name: 'Brisk'}) REMOVE t.size").await;
    let rows = query(
        &client,
        "scratch",
        "MATCH (t:Town) RETURN t.name AS name, t.size AS size, t IS LABELED Old AS old ORDER BY name",
    )
    .await
    .rows;
    assert_eq!(
        rows,
        [[json!("Aldmere"), json!(4), json!(true)], [json!("Brisk"), Value::Null, json!(false)]]
    );
    assert!(service.interrupt(), "Ctrl+C ends it well");

    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    assert_eq!(
        query(
            &client,
            "scratch",
            "MATCH (t:Town) RETURN t.name AS name, t.size AS size, t IS LABELED Old AS old ORDER BY name"
        )
        .await
        .rows,
        rows
    );
    assert_eq!(
        single(&client, "scratch", "MATCH (:Town {name: 'Brisk'})~[:NEAR]~(t) RETURN t.name AS n").await,
        "Aldmere"
    );
    let deleted = query(&client, "scratch", "MATCH (t:Town) DETACH DELETE t").await;
    assert_eq!(deleted.summary["changed"]["edges_deleted"], 2);
    assert_eq!(single(&client, "scratch", "MATCH (n) RETURN COUNT(*) AS n").await, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn single_elements_are_read_created_changed_and_deleted() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let district = client.get("/v1/graphs/averley/nodes/District/TE").await.unwrap();
    assert_eq!(district["properties"]["name"], "Tarn End");
    let made = client
        .call("POST", "/v1/graphs/averley/nodes", &json!({ "labels": ["WorkOrder"], "properties": { "number": "W-1", "kind": "repair", "opened": "2024-05-31", "cost": "12.50" } }))
        .await
        .unwrap();
    assert_eq!(made["properties"]["cost"], "12.50");
    let refused = client.call("POST", "/v1/graphs/averley/nodes", &json!({ "labels": ["WorkOrder"], "properties": { "number": "W-2", "kind": "repair", "opened": "soon" } })).await;
    assert!(problem(refused.unwrap_err()).detail.contains("'soon' is not a valid DATE"));
    let edge = client
        .call("POST", "/v1/graphs/averley/edges", &json!({ "label": "ON", "source": { "label": "WorkOrder", "key": "W-1" }, "target": { "label": "Junction", "key": "J-00007" } }))
        .await
        .unwrap();
    assert_eq!(edge["labels"], json!(["ON"]));
    let around =
        client.get("/v1/graphs/averley/nodes/WorkOrder/W-1/neighbours?edge=ON&direction=out").await.unwrap();
    assert_eq!(around["neighbours"][0]["node"]["properties"]["code"], "J-00007");
    assert_eq!(around["counts"][0], json!({ "edge": "ON", "direction": "out", "count": 1 }));
    let changed = client
        .call(
            "PATCH",
            "/v1/graphs/averley/nodes/WorkOrder/W-1",
            &json!({ "properties": { "cost": null, "kind": "flushing" } }),
        )
        .await
        .unwrap();
    assert_eq!(changed["properties"]["kind"], "flushing");
    assert!(changed["properties"].get("cost").is_none());
    let kept = problem(
        client.call("DELETE", "/v1/graphs/averley/nodes/WorkOrder/W-1", &json!(null)).await.unwrap_err(),
    );
    assert_eq!(kept.code.as_deref(), Some("G1001"));
    client.call("DELETE", "/v1/graphs/averley/nodes/WorkOrder/W-1?detach=true", &json!(null)).await.unwrap();
    assert_eq!(problem(client.get("/v1/graphs/averley/nodes/WorkOrder/W-1").await.unwrap_err()).status, 404);
    let pipe = client.get("/v1/graphs/averley/edges/PIPE/P-000001").await.unwrap();
    assert_eq!(pipe["labels"], json!(["PIPE"]));
}

#[tokio::test(flavor = "multi_thread")]
async fn results_come_in_the_format_asked_for() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let wanted = request(
        "averley",
        "MATCH (d:District) RETURN d.code AS code, d.population AS people ORDER BY code LIMIT 2",
    );
    let text = async |kind: &str| client.query_as(&wanted, kind).await.unwrap().text().await.unwrap();
    let json = client.query(&wanted).await.unwrap();
    let people: Vec<i64> = json.rows.iter().map(|r| r[1].as_i64().unwrap()).collect();
    assert_eq!(text("text/csv").await, format!("code,people\r\nBW,{}\r\nGC,{}\r\n", people[0], people[1]));
    assert_eq!(
        text("application/x-ndjson").await,
        format!(
            "{{\"code\":\"BW\",\"people\":{}}}\n{{\"code\":\"GC\",\"people\":{}}}\n",
            people[0], people[1]
        )
    );
    let arrow =
        client.query_as(&wanted, "application/vnd.apache.arrow.stream").await.unwrap().bytes().await.unwrap();
    assert_eq!(&arrow[..4], &[0xff; 4], "an IPC stream begins with a continuation mark");
    let refused = problem(client.query_as(&wanted, "image/png").await.unwrap_err());
    assert_eq!(refused.status, 406);
    // A large result streams and is whole.
    let large =
        request("averley", "MATCH (a:Junction), (b:Junction) RETURN a.code AS a, b.code AS b LIMIT 200000");
    let lines = client.query_as(&large, "text/csv").await.unwrap().text().await.unwrap().lines().count();
    assert_eq!(lines, 200_001);
}

#[tokio::test(flavor = "multi_thread")]
async fn limits_are_refused_clearly() {
    let folder = folder();
    let service = Running::start(folder.path(), &["--max-body-kib", "64"]);
    let client = service.client();
    load_demo(&client).await;
    let mut slow = request("averley", "MATCH (a:Junction)-[:PIPE]-{1,40}(b:Junction) RETURN COUNT(*) AS n");
    slow.timeout_ms = Some(300);
    assert_eq!(problem(client.query(&slow).await.unwrap_err()).code.as_deref(), Some("R0002"));
    let mut wide =
        request("averley", "MATCH (a:Junction), (b:Junction) RETURN a.code AS a, b.code AS b ORDER BY a, b");
    wide.max_memory_bytes = Some(4 << 20);
    assert_eq!(problem(client.query(&wide).await.unwrap_err()).code.as_deref(), Some("R0003"));
    let mut many = request("averley", "MATCH (j:Junction) RETURN j.code AS code");
    many.max_rows = Some(10);
    assert_eq!(problem(client.query(&many).await.unwrap_err()).code.as_deref(), Some("R0004"));
    many.truncate = true;
    let cut = client.query(&many).await.unwrap();
    assert_eq!((cut.rows.len(), &cut.summary["truncated"]), (10, &json!(true)));
    let long = problem(
        client
            .query(&request("averley", &format!("RETURN '{}' AS x", "x".repeat(80_000))))
            .await
            .unwrap_err(),
    );
    assert_eq!(long.status, 413);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_error_is_a_problem_document_and_strangers_are_refused() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    let check = async |request: reqwest::RequestBuilder, status: u16| {
        let response = request.send().await.unwrap();
        assert_eq!(response.status().as_u16(), status);
        assert_eq!(response.headers()["content-type"], "application/problem+json");
        let document: Value = response.json().await.unwrap();
        assert_eq!(document["status"], status);
        assert!(!document["detail"].as_str().unwrap().is_empty());
    };
    check(client.raw(Method::GET, "/v1/nothing"), 404).await;
    check(client.raw(Method::PUT, "/v1/query"), 405).await;
    check(client.raw(Method::POST, "/v1/query").body("text"), 415).await;
    check(client.raw(Method::POST, "/v1/query").header("content-type", "application/json").body("{"), 400)
        .await;
    check(client.raw(Method::GET, "/v1/jobs/x"), 400).await;
    check(client.raw(Method::GET, "/v1/graphs/none"), 404).await;
    check(client.raw(Method::DELETE, "/v1/graphs/none"), 404).await;
    check(client.raw(Method::GET, "/v1/graphs").header("host", "example.org"), 403).await;
    check(client.raw(Method::GET, "/v1/graphs").header("origin", "http://example.org"), 403).await;
    let own =
        client.raw(Method::GET, "/v1/graphs").header("origin", service.url.as_str()).send().await.unwrap();
    assert_eq!(own.status(), 200);
    client.ready().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_openapi_document_has_exactly_the_routes() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    let document = client.get("/v1/openapi.json").await.unwrap();
    let mut documented = 0;
    for (path, operations) in document["paths"].as_object().unwrap() {
        let filled = path
            .replace("{graph}", "none")
            .replace("{job}", "999")
            .replace("{label}", "X")
            .replace("{key}", "k");
        let methods: Vec<String> = operations.as_object().unwrap().keys().map(|m| m.to_uppercase()).collect();
        for method in ["GET", "POST", "PUT", "PATCH", "DELETE"] {
            let response = client.raw(method.parse().unwrap(), &filled).send().await.unwrap();
            let exists = response.status() != 405;
            assert_eq!(exists, methods.iter().any(|m| m == method), "{method} {path}: {}", response.status());
            documented += exists as usize;
        }
    }
    assert_eq!(documented, graphodrome_service::route_list().len());
    // Every body that the document names is described in it.
    let text = document.to_string();
    for reference in text.split("\"#/components/schemas/").skip(1) {
        let name = reference.split('"').next().unwrap();
        assert!(document["components"]["schemas"].get(name).is_some(), "{name} is not described");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn another_address_and_a_second_service_are_refused() {
    let folder = folder();
    let data = folder.path().to_str().unwrap();
    let refused = cli("", &["serve", "--listen", "0.0.0.0:0", "--data", data]);
    assert!(!refused.status.success());
    assert!(stderr(&refused).contains("not a loopback address"));
}

#[tokio::test(flavor = "multi_thread")]
async fn texts_of_one_shape_have_their_own_rows_and_their_errors_their_own_place() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    query(&client, "averley", "CREATE GRAPH g ANY").await;
    query(&client, "g", "INSERT (:P {n: 1}), (:P {n: 20}), (:P {n: 300})").await;
    for (number, expected) in [(1, 1), (20, 1), (300, 1), (4, 0)] {
        let found = query(&client, "g", &format!("MATCH (p:P {{n: {number}}}) RETURN p.n AS n")).await;
        assert_eq!(found.rows.len(), expected, "{number}");
        assert_eq!(found.summary["plan_cached"], json!(number == 300 || number == 4), "{number}");
    }
    for number in [1, 20, 300, 4000] {
        let text = format!("MATCH (p:P) WHERE p.n < {number} RETURN 1 / (p.n - p.n) AS x");
        let asked = client.query(&request("g", &text.replace("WHERE p.n <", "WHERE p.n >="))).await;
        let failed = client.query(&request("g", &text)).await;
        // Nothing is below 1, and nothing is 4000 or more.
        assert_eq!(failed.is_err(), number != 1, "{text}");
        assert_eq!(asked.is_err(), number != 4000, "{text}");
        if let Err(error) = failed {
            let problem = problem(error);
            let error = &problem.errors[0];
            assert_eq!(error.code, "22012");
            assert_eq!(error.column, Some(text.find("1 / (").unwrap() as u32 + 1), "{text}");
        }
    }
    // Changes too: each makes its own.
    for number in [7, 8, 9, 10] {
        query(&client, "g", &format!("MATCH (p:P {{n: 1}}) SET p.seen = {number}")).await;
        assert_eq!(single(&client, "g", "MATCH (p:P {n: 1}) RETURN p.seen AS seen").await, number);
    }
}

/// Brief queries in the plain form are answered in front of the routes: as the routes answer them.
#[tokio::test(flavor = "multi_thread")]
async fn queries_are_answered_alike_in_front_of_the_routes_and_by_them() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    let create = QueryRequest { text: "CREATE GRAPH g ANY".into(), ..QueryRequest::default() };
    client.query(&create).await.unwrap();
    query(
        &client,
        "g",
        "INSERT (:P {id: 1, name: 'a \"b\"', size: 1.5, good: TRUE}), (:P {id: 2, name: 'x'})",
    )
    .await;
    let http = reqwest::Client::new();
    let ask = |body: &str, by_routes: bool| {
        let request =
            http.post(format!("{}/v1/query", service.url)).header("content-type", "application/json");
        let request = if by_routes { request.header("accept-encoding", "identity") } else { request };
        let request = request.body(body.to_string());
        async move {
            let response = request.send().await.unwrap();
            (response.status().as_u16(), response.json::<Value>().await.unwrap())
        }
    };
    let bodies = [
        r#"{"text":"MATCH (p:P {id: $id}) RETURN p.name AS name, p.size AS size","graph":"g","parameters":{"id":1}}"#,
        r#"{"text":"MATCH (p:P {id: $id}) RETURN p.name AS name","graph":"g","parameters":{"id":3}}"#,
        r#"{"text":"MATCH (p:P)\nWHERE p.name = $name RETURN p","graph":"g","parameters":{"name":"a \"b\""}}"#,
        r#"{"text":"MATCH (p:P) WHERE p.size > $size RETURN p.id AS id","graph":"g","parameters":{"size":1.25}}"#,
        r#"{"text":"MATCH (p:P) WHERE p.good = $good RETURN p.id AS id","graph":"g","parameters":{"good":true}}"#,
        r#"{"text":"MATCH (p:P) WHERE p.id = $id RETURN p.id AS id","graph":"g","parameters":{"id":null}}"#,
        r#"{"text":"RETURN $n AS n","graph":"g","parameters":{"n":9223372036854775807}}"#,
        r#"{"text":"RETURN $n AS n","graph":"g","parameters":{"n":9223372036854775808}}"#,
        r#"{"text":"RETURN $n AS n","graph":"g","parameters":{"n":[1,"two",{"three":3}]}}"#,
        r#"{"text":"RETURN $n AS n","graph":"g","parameters":{"n":{"gql":"DATE '2024-05-31'"}}}"#,
        r#"{"text":"RETURN $n AS n","graph":"g","parameters":{"n":1,"n":2}}"#,
        r#"{"text":"MATCH (p:P) RETURN p.id AS id ORDER BY id","graph":"g","max_rows":1,"truncate":true}"#,
        r#"{"text":"MATCH (p:P) RETURN p.id AS id ORDER BY id","graph":"g","max_rows":1}"#,
        r#"{"text":"MATCH (p:P) RETURN p.id AS id","graph":"g","max_rows":"one"}"#,
        r#"{"text":"MATCH (p:P) RETURN p.id AS id","graph":"g","colour":"blue"}"#,
        r#"{"text":"MATCH (p:P) RETURN p.id / $by AS id","graph":"g","parameters":{"by":0}}"#,
        r#"{"text":"MATCH (p:P) RETURN p.id AS id","graph":"missing"}"#,
        r#"{"text":"MATCH (p:P) RETURN p.id AS id","graph":null}"#,
        r#"{"text":"MATCH (p:P) RETURN $lacking AS id","graph":"g"}"#,
        r#"{"text":"MATCH (p:P) RETURN p.id AS id","graph":"g","timeout_ms":-1}"#,
        r#"{"text":"MATCH (p:P) RETURN"#,
    ];
    for body in bodies {
        // From the second time on the plan is there.
        for _ in 0..3 {
            let (mut front, mut behind) = (ask(body, false).await, ask(body, true).await);
            for answer in [&mut front.1, &mut behind.1] {
                let times = [
                    "execute_us",
                    "first_row_us",
                    "parse_us",
                    "check_us",
                    "plan_us",
                    "wait_us",
                    "plan_cached",
                ];
                if let Some(summary) = answer.get_mut("summary").and_then(Value::as_object_mut) {
                    assert!(times.iter().all(|time| summary.remove(*time).is_some()), "{summary:?}");
                }
            }
            assert_eq!(front, behind, "{body}");
        }
    }
}
