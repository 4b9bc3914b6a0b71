//! User procedures through the running service and the command line: upload, calls, limits, grants, versions,
//! export and import.

#![allow(clippy::unwrap_used)]

use graphodrome_tests::*;
use serde_json::{Value, json};

const QUANTITIES: &str = "demo/parts/part_quantities.wasm";
const HOPS: &str = "docs/procedures/c/hops.wasm";

async fn ask(service: &Running, graph: &str, text: &str) -> (u16, Value) {
    let body = json!({ "graph": graph, "text": text });
    let answer =
        reqwest::Client::new().post(format!("{}/v1/query", service.url)).json(&body).send().await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

async fn upload(service: &Running, query: &str, module: Vec<u8>) -> (u16, Value) {
    let request = reqwest::Client::new().post(format!("{}/v1/procedures{query}", service.url));
    let answer = request.header("content-type", "application/wasm").body(module).send().await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

/// The bill of parts of the demo.
async fn load_parts(service: &Running) {
    for arguments in [&["query", "-f", "demo/parts/model.gql"][..], &["load", "demo/parts/load.toml"]] {
        stdout(&cli(&service.url, arguments));
    }
}

const CALL: &str = "MATCH (pump:Part {code: 'PUMP-200'}) CALL part_quantities({of: pump, edges: '-[:CONTAINS]->', weight: 'quantity'}) YIELD node, quantity RETURN node.code AS code, quantity ORDER BY code";

#[tokio::test(flavor = "multi_thread")]
async fn a_procedure_is_uploaded_called_and_kept() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    load_parts(&service).await;
    assert!(stdout(&cli(&service.url, &["procedure", "list"])).contains("There are none yet"));
    let (status, missing) = ask(&service, "pump_parts", CALL).await;
    assert_eq!(status, 400);
    assert!(missing.to_string().contains("there is no"), "{missing}");

    let added = stdout(&cli(&service.url, &["procedure", "add", QUANTITIES]));
    assert!(
        added.starts_with("part_quantities version 1: part_quantities(of NODE) YIELD node NODE"),
        "{added}"
    );
    // What it gives is what the ways come to one by one.
    let (status, called) = ask(&service, "pump_parts", CALL).await;
    assert_eq!(status, 200, "{called}");
    let plain = "MATCH (:Part {code: 'PUMP-200'})-[e:CONTAINS]->*(p) RETURN p.code AS code, SUM(PRODUCT(e.quantity)) AS quantity ORDER BY code";
    let (_, plain) = ask(&service, "pump_parts", plain).await;
    let numbers = |answer: &Value| -> Vec<(String, f64)> {
        let rows = answer["rows"].as_array().unwrap().iter();
        // The part itself is there once, by no way at all.
        let rows = rows.map(|row| (row[0].as_str().unwrap().to_string(), row[1].as_f64().unwrap_or(1.0)));
        rows.collect()
    };
    assert_eq!(numbers(&called), numbers(&plain));
    assert_eq!(numbers(&called).len(), 20);
    let (_, file) = ask(
        &service,
        "pump_parts",
        &std::fs::read_to_string(root().join("demo/parts/cost_of_a_pump.gql")).unwrap(),
    )
    .await;
    assert_eq!((&file["rows"][0][0], &file["rows"][0][1]), (&json!("MOTOR-75"), &json!(1.0)), "{file}");

    // It is planned and profiled as what it is, called as a measure, and in the place of a saved query's name.
    let plan = stdout(&cli(&service.url, &["profile", "-g", "pump_parts", CALL]));
    assert!(plan.contains("CallProcedure") && plan.contains("part_quantities("), "{plan}");
    let saved = json!({ "text": "RETURN 1 AS x" });
    let taken =
        reqwest::Client::new().put(format!("{}/v1/saved-queries/part_quantities", service.url)).json(&saved);
    assert_eq!(taken.send().await.unwrap().status().as_u16(), 409);

    // A restart loses nothing of it.
    service.kill();
    let service = Running::start(folder.path(), &[]);
    assert_eq!(ask(&service, "pump_parts", CALL).await.1["rows"], called["rows"]);

    // The same module again is no new version; with other limits it is, and the first can be called again.
    let module = std::fs::read(root().join(QUANTITIES)).unwrap();
    assert_eq!(upload(&service, "", module.clone()).await.1["version"], 1);
    let (_, second) = upload(&service, "?steps=1000", module.clone()).await;
    assert_eq!(
        (&second["version"], &second["steps"], &second["current"]),
        (&json!(2), &json!(1000), &json!(true))
    );
    let (status, stopped) = ask(&service, "pump_parts", CALL).await;
    assert_eq!(status, 422);
    assert!(
        stopped["detail"].as_str().unwrap().contains("part_quantities: it took more than 1000 steps"),
        "{stopped}"
    );
    assert!(stdout(&cli(&service.url, &["procedure", "use", "part_quantities", "1"])).contains("version 1"));
    assert_eq!(ask(&service, "pump_parts", CALL).await.1["rows"], called["rows"]);
    let shown = stdout(&cli(&service.url, &["procedure", "show", "part_quantities"]));
    assert!(
        shown.contains("How many of each part")
            && shown.lines().filter(|l| l.contains("all graphs")).count() == 2,
        "{shown}"
    );
    assert!(
        stderr(&cli(&service.url, &["procedure", "use", "part_quantities", "7"])).contains("it has 2, 1")
    );

    // The module comes back as it was sent.
    let out = folder.path().join("again.wasm");
    stdout(&cli(&service.url, &["procedure", "save", "part_quantities", "--out", out.to_str().unwrap()]));
    assert_eq!(std::fs::read(&out).unwrap(), module);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_procedure_is_granted_refused_and_carried() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    load_parts(&service).await;
    query(&client, "pump_parts", "RETURN 1 AS x").await;
    client.create_graph("other", None).await.unwrap();
    query(&client, "other", "INSERT (:A {n: 1})-[:R]->(:A {n: 2})").await;

    // Over the graphs that it is granted for, and no other.
    let add = ["procedure", "add", HOPS, "--granted", "other", "--seconds", "5", "--memory-mib", "64"];
    assert!(stdout(&cli(&service.url, &add)).contains("hops version 1"));
    let text = "MATCH (a {n: 1}) CALL hops({from: a}) YIELD node, hops RETURN node.n AS n, hops ORDER BY n";
    assert_eq!(ask(&service, "other", text).await.1["rows"], json!([[1, 0], [2, 1]]));
    let over = "MATCH (a:Part {code: 'SEAL-42'}) CALL hops({from: a}) YIELD node, hops RETURN COUNT(*) AS n";
    let (status, refused) = ask(&service, "pump_parts", over).await;
    assert_eq!(status, 422);
    assert!(refused["detail"].as_str().unwrap().contains("may not be called over pump_parts"), "{refused}");
    let profiled = stderr(&cli(&service.url, &["profile", "-g", "pump_parts", over]));
    assert!(profiled.contains("may not be called over"), "{profiled}");
    // Each part of a query over several graphs calls over its own, wherever the call stands.
    let both = "USE pump_parts MATCH (p:Part) RETURN COUNT(*) AS parts NEXT USE other MATCH (a {n: 1}) CALL hops({from: a}) YIELD node RETURN parts > 2 AS many, COUNT(*) AS n";
    assert_eq!(ask(&service, "pump_parts", both).await.1["rows"], json!([[true, 2]]));
    let turned = "USE other MATCH (a) RETURN COUNT(*) AS n NEXT USE pump_parts MATCH (a:Part {code: 'SEAL-42'}) CALL hops({from: a}) YIELD node RETURN n, COUNT(*) AS m";
    let within = "CALL degree({nodes: '(n WHERE EXISTS { CALL hops({from: n}) YIELD node RETURN node })'}) YIELD node RETURN COUNT(*) AS n";
    for text in [turned, within] {
        let (status, refused) = ask(&service, "pump_parts", text).await;
        assert_eq!(status, 422, "{refused}");
        assert!(
            refused["detail"].as_str().unwrap().contains("may not be called over pump_parts"),
            "{refused}"
        );
    }
    let read = over.replace("COUNT(*) AS n", "node");
    let request = reqwest::Client::new().post(format!("{}/v1/graphs/pump_parts/export", service.url));
    let answer = request.json(&json!({ "format": "graphml", "query": read })).send().await.unwrap();
    assert_eq!(answer.status().as_u16(), 422);
    assert!(answer.text().await.unwrap().contains("may not be called over pump_parts"));
    let saved = json!({ "text": over });
    client.put("/v1/saved-queries/around", &saved).await.unwrap();
    let (status, _) = ask(&service, "pump_parts", "CALL around() YIELD n RETURN n").await;
    assert_eq!(status, 422);

    // What is no module, or one of another world, is refused and changes nothing.
    let broken = std::fs::read(root().join(HOPS)).unwrap()[..200].to_vec();
    for (query, module, wanted, said) in [
        ("", b"(module)".to_vec(), 422, "it is no WebAssembly module"),
        ("", broken, 422, "the module cannot be called"),
        ("", b"\0asm\x01\0\0\0".to_vec(), 422, "does not fit the world"),
        ("?seconds=0", b"x".to_vec(), 400, "seconds is 0"),
        ("?memory_mib=9999", b"x".to_vec(), 400, "memory_mib is 9999"),
        ("?graphs=nowhere", b"x".to_vec(), 404, "nowhere"),
    ] {
        let (status, problem) = upload(&service, query, module).await;
        assert_eq!(status, wanted, "{problem}");
        assert!(problem.to_string().contains(said), "{problem}");
    }
    assert!(stderr(&cli(&service.url, &["procedure", "show", "hps"])).contains("did you mean hops?"));

    // A library carries it with its limits, and so does a backup.
    let library = folder.path().join("library");
    let backup = folder.path().join("backup");
    let (library, backup) = (library.to_str().unwrap(), backup.to_str().unwrap());
    assert!(stdout(&cli(&service.url, &["saved", "export", library])).contains("1 query and 1 procedure in"));
    stdout(&cli(&service.url, &["backup", "--out", backup]));
    let there = client.get("/v1/procedures").await.unwrap();
    stdout(&cli(&service.url, &["procedure", "remove", "hops"]));
    assert_eq!(client.get("/v1/procedures").await.unwrap(), json!([]));
    assert_eq!(ask(&service, "other", text).await.0, 400);
    let printed = stdout(&cli(&service.url, &["saved", "import", library]));
    assert!(printed.contains("1 query and 1 procedure saved"), "{printed}");
    let limits = |procedures: &Value| {
        ["signature", "steps", "memory_mib", "seconds", "graphs", "bytes"]
            .map(|field| procedures[0][field].clone())
    };
    assert_eq!(limits(&client.get("/v1/procedures").await.unwrap()), limits(&there));
    assert_eq!(ask(&service, "other", text).await.1["rows"], json!([[1, 0], [2, 1]]));
    let second = tempfile::tempdir_in(folder.path()).unwrap();
    let elsewhere = Running::start(second.path(), &[]);
    let printed = stdout(&cli(&elsewhere.url, &["restore", backup]));
    assert!(printed.contains("1 procedure restored"), "{printed}");
    assert_eq!(ask(&elsewhere, "other", text).await.1["rows"], json!([[1, 0], [2, 1]]));
}
