//! Kept profiles, comparisons and baselines; plans with hypothetical indexes; running queries; automatically kept
//! profiles of slow queries.

#![allow(clippy::unwrap_used)]

#[path = "runs/slow_page.rs"]
mod slow_page;
#[path = "runs/spans.rs"]
mod spans;

use std::collections::BTreeMap;

use graphodrome_client::{Client, QueryRequest};
use graphodrome_store::{Catalog, NewRun, PrivateServer, RunFilter, RunKind, RunLimits, SavedRecord};
use graphodrome_tests::*;
use serde_json::{Value, json};

/// A chain of nodes with levels, and an edge from each to the next and the one after.
async fn chain(client: &Client, graph: &str, nodes: u32) {
    let open = QueryRequest { text: format!("CREATE GRAPH {graph} ANY"), ..QueryRequest::default() };
    client.query(&open).await.unwrap();
    let rows: Vec<String> = (0..nodes).map(|n| n.to_string()).collect();
    let text = format!("FOR n IN [{}] INSERT (:N {{n: n, level: MOD(n, 100)}})", rows.join(", "));
    query(client, graph, &text).await;
    query(client, graph, "MATCH (a:N), (b:N) WHERE b.n = a.n + 1 OR b.n = a.n + 2 INSERT (a)-[:TO]->(b)")
        .await;
}

fn body(graph: &str, text: &str) -> Value {
    json!({ "graph": graph, "text": text })
}

fn with(mut body: Value, more: Value) -> Value {
    body.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    body
}

const LEVEL: &str = "MATCH (a:N {level: 7})-[:TO]->(b) RETURN b.n AS n ORDER BY n";
const INDEX: &str = "CREATE INDEX by_level OVER (:N {level})";

#[tokio::test(flavor = "multi_thread")]
async fn what_is_supposed_is_planned_and_run_and_stays_a_supposition() {
    let data = folder();
    let service = Running::start(data.path(), &["--slow-ms", "0"]);
    let client = service.client();
    chain(&client, "g", 1000).await;
    let operators = |plan: &Value| plan.to_string().matches("SeekIndex").count();
    let version = client.get("/v1/graphs/g").await.unwrap()["version"].clone();

    let plan = |more: Value| {
        let client = &client;
        async move { client.call("POST", "/v1/plan", &with(body("g", LEVEL), more)).await }
    };
    assert_eq!(operators(&plan(json!({})).await.unwrap()["plan"]), 0);
    let supposed = plan(json!({ "with": [INDEX] })).await.unwrap();
    assert_eq!((operators(&supposed["plan"]), &supposed["with"]), (1, &json!([INDEX])));

    // Run with it, the rows are the same and the work is less.
    let run = |more: Value| {
        let client = &client;
        async move { client.call("POST", "/v1/profile", &with(body("g", LEVEL), more)).await.unwrap() }
    };
    let read = |profile: &Value| {
        let mut found = 0;
        let mut left = vec![profile["plan"].clone()];
        while let Some(operator) = left.pop() {
            found += operator["actual"]["properties_read"].as_u64().unwrap();
            left.extend(operator["inputs"].as_array().unwrap().clone());
        }
        found
    };
    let (without, supposed) = (run(json!({})).await, run(json!({ "with": [INDEX] })).await);
    assert_eq!((&without["rows"], operators(&supposed["plan"])), (&supposed["rows"], 1));
    assert!(read(&without) >= read(&supposed) + 900, "{} {}", read(&without), read(&supposed));
    // The finding's own statement does as well as ours.
    let statement =
        without["findings"].as_array().unwrap().iter().find_map(|f| f["statement"].as_str()).unwrap();
    assert_eq!(operators(&run(json!({ "with": [statement] })).await["plan"]), 1);

    // Nothing of it was kept.
    assert_eq!(client.get("/v1/graphs/g").await.unwrap()["version"], version);
    assert_eq!(operators(&plan(json!({})).await.unwrap()["plan"]), 0);
    // What is there can be supposed away.
    query(&client, "g", INDEX).await;
    assert_eq!(operators(&plan(json!({})).await.unwrap()["plan"]), 1);
    assert_eq!(operators(&plan(json!({ "with": ["DROP INDEX by_level"] })).await.unwrap()["plan"]), 0);
    let both = json!({ "with": ["DROP INDEX by_level; CREATE INDEX other OVER (:N {level})"] });
    assert!(plan(both).await.unwrap()["plan"].to_string().contains("other"));

    // It is built within the query's memory: a thousand elements do not go into a kilobyte.
    let little = json!({ "with": ["CREATE INDEX another OVER (:N {n})"], "max_memory_bytes": 1024 });
    let error = plan(little).await.unwrap_err().to_string();
    assert!(error.contains("R0003"), "{error}");
    for (with, said) in [
        ("DROP INDEX nothing", "no index nothing was created"),
        (INDEX, "by_level"),
        ("CREATE KEY k OVER (:N {level})", "there is already a node :N with level"),
        ("MATCH (n) RETURN n", "only keys, indexes and distance bounds can be supposed"),
        ("CREATE INDEX", "expected"),
    ] {
        let error = plan(json!({ "with": [with] })).await.unwrap_err().to_string();
        assert!(error.contains(said), "{with}: {error}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn profiles_are_kept_found_compared_and_removed() {
    let data = folder();
    let service = Running::start(data.path(), &["--keep-runs", "3", "--slow-ms", "0"]);
    let client = service.client();
    chain(&client, "g", 200).await;
    let cli = |arguments: &[&str]| cli(&service.url, arguments);
    let wide = "MATCH (a:N)-[:TO]->{1,3}(b) RETURN COUNT(*) AS n";
    let narrow = "MATCH (a:N WHERE a.n < 10)-[:TO]->{1,3}(b) RETURN COUNT(*) AS n";

    let told = stdout(&cli(&["profile", "-g", "g", wide, "--keep", "before", "--tag", "wide", "--tag", "x"]));
    assert!(told.contains("Kept as run 1"), "{told}");
    for head in ["Where the time went", "What to change", "operator"] {
        assert!(told.contains(head), "{told}");
    }
    let told = stdout(&cli(&["profile", "-g", "g", narrow, "--keep", "after", "--repeat", "5"]));
    assert!(told.contains("5 runs: median"), "{told}");

    // Found by everything that they have.
    let numbers = |asked: &str| {
        let (client, path) = (&client, format!("/v1/runs?{asked}"));
        async move {
            let found = client.get(&path).await.unwrap();
            found.as_array().unwrap().iter().map(|r| r["id"].as_i64().unwrap()).collect::<Vec<_>>()
        }
    };
    assert_eq!(numbers("").await, [2, 1]);
    assert_eq!(numbers("graph=g&name=before").await, [1]);
    assert_eq!(numbers("tag=wide").await, [1]);
    assert_eq!(numbers("tag=wid").await, [0i64; 0]);
    assert_eq!(numbers("text=A.N%20%3C%2010").await, [2]);
    assert_eq!(numbers("before=2").await, [1]);
    assert_eq!(numbers("kind=slow").await, [0i64; 0]);
    assert_eq!(numbers("graph=other").await, [0i64; 0]);
    assert_eq!(numbers("text=%00'%22").await, [0i64; 0]);
    let listed = stdout(&cli(&["run", "list", "--tag", "wide"]));
    assert!(listed.contains("before") && listed.contains("wide, x") && !listed.contains("after"), "{listed}");

    // What is shown of a kept run is what was shown of its profile.
    let shown = stdout(&cli(&["run", "show", "before"]));
    assert!(shown.contains(wide) && shown.contains("Where the time went"), "{shown}");
    let stacks = stdout(&cli(&["run", "show", "1", "--format", "folded"]));
    for line in stacks.lines() {
        let (stack, us) = line.rsplit_once(' ').unwrap();
        assert!(us.parse::<u64>().is_ok_and(|us| us > 0) && stack.starts_with("ReturnRows"), "{line}");
    }

    // Side by side: the same work twice, and less of it.
    query(&client, "g", wide).await;
    stdout(&cli(&["profile", "-g", "g", wide, "--keep", "again"]));
    let same = client.get("/v1/runs/before/compare/again").await.unwrap();
    assert_eq!(
        (&same["comparison"]["same_plan"], &same["comparison"]["same_work"]),
        (&json!(true), &json!(true))
    );
    let less = client.get("/v1/runs/before/compare/after").await.unwrap();
    assert_eq!((&less["same_text"], &less["comparison"]["same_work"]), (&json!(false), &json!(false)));
    let edges = |at: usize| less["comparison"]["work"][at]["edges_looked"].as_u64().unwrap();
    assert!(edges(0) > 5 * edges(1), "{less}");
    let told = stdout(&cli(&["compare", "before", "after"]));
    assert!(told.contains("plan   another") && told.contains("edges looked at: "), "{told}");

    // Names and tags can be changed; the newest of a name is meant by it.
    let told = stdout(&cli(&["run", "label", "2", "--name", "before", "--tag", "b"]));
    assert!(told.contains("run 2 before [b]"), "{told}");
    assert_eq!(client.get("/v1/runs/before").await.unwrap()["id"], 2);
    for (name, said) in [("12", "not a number"), ("a/b", "slash"), ("", "1 to 100")] {
        let keep = json!({ "keep": { "name": name } });
        let error = client.call("POST", "/v1/profile", &with(body("g", wide), keep)).await.unwrap_err();
        assert!(error.to_string().contains(said), "{name}: {error}");
    }
    let gone = stderr(&cli(&["run", "show", "nobody"]));
    assert!(gone.contains("there is no run called nobody"), "{gone}");
    stdout(&cli(&["run", "remove", "1"]));
    assert_eq!(numbers("").await, [3, 2]);

    // They outlast the service, and so does the end of an early one.
    service.interrupt();
    let service = Running::start(data.path(), &[]);
    assert_eq!(service.client().get("/v1/runs/again").await.unwrap()["text"], wide);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_profiled_and_kept_only_where_that_is_asked_for() {
    let data = folder();
    let service = Running::start(data.path(), &["--slow-ms", "0"]);
    let client = service.client();
    chain(&client, "g", 10).await;
    let change = "MATCH (a:N {n: 3}) SET a.level = 1000";
    let profile = |more: Value| {
        let client = &client;
        async move { client.call("POST", "/v1/profile", &with(body("g", change), more)).await }
    };
    let level = || single(&client, "g", "MATCH (a:N {n: 3}) RETURN a.level");
    let version = client.get("/v1/graphs/g").await.unwrap()["version"].as_u64().unwrap();
    let tried = profile(json!({ "repeat": 3 })).await.unwrap();
    assert_eq!(
        (&tried["rolled_back"], &tried["timing"]["runs"], level().await),
        (&json!(true), &json!(3), json!(3))
    );
    let made = profile(json!({ "commit": true, "keep": {} })).await.unwrap();
    assert_eq!((&made["rolled_back"], level().await), (&json!(false), json!(1000)));
    assert_eq!((made["version"].as_u64(), &made["run"]), (Some(version + 1), &json!(1)));
    let history = client.get("/v1/graphs/g/versions?limit=1").await.unwrap();
    assert_eq!(history["versions"][0]["version"], version + 1);
    for more in [json!({ "commit": true, "repeat": 2 }), json!({ "commit": true, "with": [INDEX] })] {
        let error = profile(more).await.unwrap_err().to_string();
        assert!(error.contains("runs once"), "{error}");
    }
    let error = profile(json!({ "repeat": 0 })).await.unwrap_err().to_string();
    assert!(error.contains("from 1 to 1000"), "{error}");
    let error = profile(json!({ "comit": true })).await.unwrap_err().to_string();
    assert!(error.contains("comit"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn plans_and_profiles_are_what_their_schema_says() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let schema = client.get("/v1/schemas/plan").await.unwrap();
    let file = std::fs::read_to_string(root().join("docs/plan.schema.json")).unwrap();
    assert_eq!(schema, serde_json::from_str::<Value>(&file).unwrap());
    let validator = jsonschema::validator_for(&schema).unwrap();
    let mut seen = BTreeMap::new();
    let mut texts: Vec<String> = std::fs::read_dir(root().join("demo/questions"))
        .unwrap()
        .map(|entry| std::fs::read_to_string(entry.unwrap().path()).unwrap())
        .collect();
    assert!(texts.len() >= 15);
    texts.extend(
        [
            "MATCH (s:Site)-[e]-+(j:Junction) RETURN DISTINCT j",
            "CALL page_rank({}) YIELD node, score RETURN score LIMIT 3",
            "MATCH (j:Junction {code: 'J-00010'}) SET j.elevation_m = 3",
            "FOR x IN [1, 2, 3] RETURN x UNION RETURN 4 AS x",
        ]
        .map(str::to_string),
    );
    for text in texts {
        for (path, more) in [("/v1/plan", json!({})), ("/v1/profile", json!({ "repeat": 2, "keep": {} }))] {
            let answer = client.call("POST", path, &with(body("averley", &text), more)).await.unwrap();
            let errors: Vec<String> =
                validator.iter_errors(&answer).map(|e| format!("{e} at {}", e.instance_path())).collect();
            assert!(errors.is_empty(), "{text}\n{errors:?}");
            let mut left = vec![answer["plan"].clone()];
            while let Some(operator) = left.pop() {
                *seen.entry(operator["operator"].as_str().unwrap().to_string()).or_insert(0) += 1;
                let alternatives = operator["alternatives"].as_array().cloned().unwrap_or_default();
                let chosen = alternatives.iter().filter(|a| a["chosen"] == true).count();
                assert_eq!(chosen, usize::from(!alternatives.is_empty()), "{text}\n{operator}");
                left.extend(operator["inputs"].as_array().unwrap().clone());
            }
        }
    }
    assert!(seen.len() > 20, "{seen:?}");
    // The schema refuses what is not of it.
    for wrong in [json!({}), json!({ "format": 2 }), json!({ "format": 1, "graph": 3 })] {
        assert!(!validator.is_valid(&wrong), "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn saved_queries_are_held_against_accepted_runs() {
    let (data, out) = (folder(), folder());
    let service = Running::start(data.path(), &["--slow-ms", "0"]);
    let client = service.client();
    let cli = |arguments: &[&str]| cli(&service.url, arguments);
    chain(&client, "g", 1000).await;
    query(&client, "g", INDEX).await;
    let save = |name: &str, text: &str, parameters: Value| {
        let (client, path) = (&client, format!("/v1/saved-queries/{name}"));
        let body = json!({ "text": text, "parameters": parameters });
        async move { client.put(&path, &body).await.unwrap() }
    };
    let of_level = "MATCH (a:N {level: $level})-[:TO]->(b) RETURN b.n AS n ORDER BY n";
    let level = json!([{ "name": "level", "type": "INT64", "not_null": true, "default": null }]);
    save("of_level", of_level, level).await;
    save("steps", "MATCH (a:N {n: 5})-[:TO]->{1,4}(b) RETURN COUNT(*) AS n", json!([])).await;
    assert!(stdout(&cli(&["check"])).contains("No saved query is held against a run"));
    let told = stdout(&cli(&["baseline", "accept", "of_level", "-g", "g", "-p", "level=7"]));
    assert!(told.contains("held against run 1, 1.1x allowed"), "{told}");
    stdout(&cli(&[
        "profile",
        "-g",
        "g",
        "MATCH (a:N {n: 5})-[:TO]->{1,4}(b) RETURN COUNT(*) AS n",
        "--keep",
        "mine",
    ]));
    stdout(&cli(&["baseline", "accept", "steps", "-g", "g", "--run", "mine", "--allow", "2"]));
    let wrong = stderr(&cli(&["baseline", "accept", "of_level", "-g", "g", "--run", "mine"]));
    assert!(wrong.contains("is not of of_level on g"), "{wrong}");
    let wrong = stderr(&cli(&["baseline", "accept", "of_level", "-g", "g"]));
    assert!(wrong.contains("$level is not given"), "{wrong}");
    let held = stderr(&cli(&["run", "remove", "1"]));
    assert!(held.contains("is the baseline of the saved query of_level on g"), "{held}");

    // Nothing has changed: well, planned or run.
    for arguments in [&["check"][..], &["check", "--run"], &["check", "-g", "g", "steps", "--run"]] {
        let told = stdout(&cli(arguments));
        assert!(
            told.contains("are no worse than their accepted runs") && !told.contains("worse   "),
            "{told}"
        );
    }
    // Without its index one of them is worse: it fails, and the reports say so.
    query(&client, "g", "DROP INDEX by_level").await;
    let report = |name: &str| out.path().join(name).to_str().unwrap().to_string();
    let (junit, markdown) = (report("junit.xml"), report("report.md"));
    for arguments in [vec!["check"], vec!["check", "--run", "--junit", &junit, "--markdown", &markdown]] {
        let output = cli(&arguments);
        assert_eq!(output.status.code(), Some(1));
        let told = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(told.contains("worse    of_level on g: it has another plan"), "{told}");
        assert!(told.contains("same     steps on g"), "{told}");
        assert!(stderr(&output).contains("1 saved query is worse or failed"));
    }
    let xml = std::fs::read_to_string(&junit).unwrap();
    assert!(xml.contains("<testsuite name=\"g\" tests=\"2\" failures=\"1\" errors=\"0\">"), "{xml}");
    let text = std::fs::read_to_string(&markdown).unwrap();
    assert!(text.contains("| **worse** | of_level | g |"), "{text}");
    let answer =
        client.call("POST", "/v1/graphs/g/baselines/of_level/check", &json!({ "run": true })).await.unwrap();
    assert_eq!((&answer["verdict"], &answer["comparison"]["same_plan"]), (&json!("worse"), &json!(false)));
    // More is allowed where somebody says so.
    stdout(&cli(&["check", "--run", "--allow", "1000"]));
    // A text that cannot be planned any more fails without keeping the others from being checked.
    query(&client, "g", INDEX).await;
    save("steps", "MATCH (a:N {n: $gone}) RETURN a.n", json!([])).await;
    let output = cli(&["check"]);
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(told.contains("same     of_level") && told.contains("failed   steps"), "{told}");
    assert_eq!(output.status.code(), Some(1));
    stdout(&cli(&["baseline", "remove", "steps", "-g", "g"]));
    assert!(stdout(&cli(&["baseline", "list"])).contains("of_level"));
    stdout(&cli(&["check", "--run"]));
    // A saved query that goes takes its baseline along.
    client.delete("/v1/saved-queries/of_level").await.unwrap();
    assert_eq!(client.get("/v1/baselines").await.unwrap(), json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_runs_is_seen_cancelled_and_kept_where_it_is_slow() {
    let data = folder();
    let service = Running::start(data.path(), &["--slow-ms", "400", "--slow-per-minute", "2"]);
    let client = service.client();
    chain(&client, "g", 300).await;
    let long = "MATCH p = TRAIL (a:N)-[:TO]->{1,40}(b) RETURN MAX(PATH_LENGTH(p) + SIZE(NODES(p))) AS n";
    let (first, number) = {
        let (asking, asked) = (client.clone(), request("g", long));
        let first = tokio::spawn(async move { asking.query(&asked).await });
        let mut seen = Value::Null;
        // Until it has done something, and taken long enough to be called slow.
        let over = |seen: &Value, field: &str, least: u64| seen[field].as_u64().is_some_and(|n| n > least);
        while seen["phase"] != "running" || !over(&seen, "work", 0) || !over(&seen, "age_ms", 600) {
            let running = client.get("/v1/running").await.unwrap();
            seen = running.as_array().unwrap().first().cloned().unwrap_or_default();
            if first.is_finished() {
                panic!("it ended before it was seen: {:?}", first.await);
            }
        }
        for (field, value) in [("graph", "g"), ("kind", "query"), ("text", long)] {
            assert_eq!(seen[field], value, "{seen}");
        }
        assert!(seen["operator"].as_str().is_some_and(|o| !o.is_empty()), "{seen}");
        (first, seen["id"].as_u64().unwrap())
    };
    let shown = stdout(&cli(&service.url, &["top", "--once"]));
    assert!(shown.contains("running") && shown.contains("TRAIL"), "{shown}");
    stdout(&cli(&service.url, &["top", "--cancel", &number.to_string()]));
    let ended = first.await.unwrap().unwrap_err().to_string();
    assert!(ended.contains("R0001"), "{ended}");
    while client.get("/v1/running").await.unwrap() != json!([]) {}
    let gone = stderr(&cli(&service.url, &["top", "--cancel", &number.to_string()]));
    assert!(gone.contains("nothing runs under the number"), "{gone}");
    assert!(stdout(&cli(&service.url, &["top"])).contains("No query runs."));

    // It was kept with why it ended; of further slow ones no more than so many a minute.
    let slow = || async { client.get("/v1/runs?kind=slow").await.unwrap().as_array().unwrap().clone() };
    while slow().await.is_empty() {}
    let run = client.get(&format!("/v1/runs/{}", slow().await[0]["id"])).await.unwrap();
    assert_eq!(run["profile"]["error"]["code"], "R0001");
    for _ in 0..3 {
        let limited = QueryRequest { timeout_ms: Some(600), ..request("g", long) };
        assert!(client.query(&limited).await.unwrap_err().to_string().contains("R0002"));
    }
    while slow().await.len() < 2 {}
    // One that is not slow is not kept, and one more that is would be one too many.
    query(&client, "g", "MATCH (a:N {n: 1}) RETURN a.n").await;
    let codes: Vec<Value> = slow().await.iter().map(|r| r["id"].clone()).collect();
    assert_eq!(codes.len(), 2, "{codes:?}");
    let change = "MATCH (a:N), (b:N), (c:N) WHERE a.n + b.n = c.n AND a.level < 0 SET a.level = 1";
    query(&client, "g", change).await;
    assert_eq!(slow().await.len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_of_hundreds_of_operators_is_shown_kept_and_compared() {
    let data = folder();
    let service = Running::start(data.path(), &["--slow-ms", "0"]);
    let client = service.client();
    chain(&client, "g", 10).await;
    let lets: Vec<String> = (0..450).map(|i| format!("LET x{i} = a.n + {i}")).collect();
    let deep = format!("MATCH (a:N) {} RETURN COUNT(*) AS n", lets.join(" "));
    let plan = stdout(&cli(&service.url, &["plan", "-g", "g", &deep]));
    assert!(plan.matches("Compute").count() >= 450, "{}", plan.len());
    stdout(&cli(&service.url, &["profile", "-g", "g", &deep, "--keep", "deep"]));
    let shown = stdout(&cli(&service.url, &["run", "show", "deep"]));
    assert!(shown.matches("Compute").count() >= 450);
    // Beside one that is otherwise in the middle; and beside itself.
    let other = deep.replace("LET x200 = a.n + 200", "FILTER a.n >= 0");
    stdout(&cli(&service.url, &["profile", "-g", "g", &other, "--keep", "other"]));
    let found = client.get("/v1/runs/deep/compare/other").await.unwrap();
    let changes = |change: &str| {
        let operators = found["comparison"]["operators"].as_array().unwrap();
        operators.iter().filter(|o| o["change"] == change).count()
    };
    assert!(
        changes("same") >= 440 && changes("changed") + changes("added") + changes("removed") <= 4,
        "{found}"
    );
    assert_eq!(
        client.get("/v1/runs/deep/compare/deep").await.unwrap()["comparison"]["same_work"],
        json!(true)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_without_a_name_go_when_they_are_old_or_many() {
    let data = folder();
    let server = {
        let path = data.path().to_path_buf();
        tokio::task::spawn_blocking(move || PrivateServer::start(&path)).await.unwrap().unwrap()
    };
    let catalog = Catalog::open(&server.url()).await.unwrap();
    let run = |kind, name: Option<&str>, graph: &str| NewRun {
        kind,
        name: name.map(str::to_string),
        tags: vec![],
        graph: graph.into(),
        version: 1,
        statistics_version: 0,
        client: String::new(),
        text: "RETURN 1".into(),
        parameters: json!({}),
        settings: json!({}),
        profile: "{}".into(),
        rows: 1,
        execute_us: 1.0,
        edges_looked: 0,
    };
    let keep = |kind, name, graph| {
        let (catalog, new) = (&catalog, run(kind, name, graph));
        async move { catalog.keep_run(new).await.unwrap() }
    };
    use RunKind::{Profile, Slow};
    let (held, named) = (keep(Profile, None, "g").await, keep(Profile, Some("mine"), "g").await);
    let mut profiles = vec![];
    for _ in 0..4 {
        profiles.push(keep(Profile, None, "g").await);
    }
    let (slow, elsewhere) = (keep(Slow, None, "g").await, keep(Profile, None, "h").await);
    let saved = SavedRecord {
        name: "q".into(),
        folder: String::new(),
        description: String::new(),
        parameters: json!([]),
        text: "RETURN 1".into(),
        changed: String::new(),
    };
    catalog.save_query(saved).await.unwrap();
    catalog.accept_baseline("q", "g", held, 1.5).await.unwrap();
    let left = || async {
        let all = catalog.runs(&RunFilter { limit: 100, ..RunFilter::default() }).await.unwrap();
        all.into_iter().map(|r| r.id).collect::<Vec<_>>()
    };
    // Of each kind and graph the newest two, besides what has a name or is held against.
    assert_eq!(catalog.prune_runs(&RunLimits { most: 2, days: 30 }).await.unwrap(), 2);
    assert_eq!(left().await, [elsewhere, slow, profiles[3], profiles[2], named, held]);
    // All of them are older than no days at all.
    assert_eq!(catalog.prune_runs(&RunLimits { most: 100, days: 0 }).await.unwrap(), 4);
    assert_eq!(left().await, [named, held]);
    assert_eq!(catalog.remove_run(held).await.unwrap().unwrap_err().saved_query, "q");
    drop(catalog);
    tokio::task::spawn_blocking(move || server.stop()).await.unwrap().unwrap();
}
