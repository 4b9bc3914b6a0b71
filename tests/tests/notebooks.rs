//! Notebooks and drawings as they are kept, and saved queries that queries call.

#![allow(clippy::unwrap_used)]

use graphodrome_client::{Client, ClientError, QueryRequest};
use graphodrome_tests::*;
use serde_json::{Value, json};

async fn wells(client: &Client) {
    client.create_graph("g", None).await.unwrap();
    query(
        client,
        "g",
        "FOR i IN [1, 2, 3, 4] INSERT (:Well {id: i, depth: i * 10, name: 'W' || CAST(i AS STRING)})",
    )
    .await;
    query(
        client,
        "g",
        "MATCH (a:Well), (b:Well) WHERE b.id = a.id + 1 INSERT (a)-[:FEEDS {litres: a.id}]->(b)",
    )
    .await;
}

async fn save(client: &Client, name: &str, parameters: Value, text: &str) {
    let body = json!({ "parameters": parameters, "text": text });
    client.put(&format!("/v1/saved-queries/{name}"), &body).await.unwrap();
}

/// What a query is refused with: code, text, hint.
async fn refused(client: &Client, text: &str) -> (String, String, String) {
    match client.query(&request("g", text)).await {
        Err(ClientError::Problem(problem)) => {
            let error = problem.errors.first().cloned();
            let excerpt = error.and_then(|e| e.excerpt).unwrap_or_default();
            let hint = format!("{} {excerpt}", problem.hint.clone().unwrap_or_default());
            (problem.code.clone().unwrap_or_default(), problem.detail.clone(), hint)
        }
        other => panic!("{text}: {other:?}"),
    }
}

async fn rows(client: &Client, text: &str) -> Value {
    json!(query(client, "g", text).await.rows)
}

/// A saved query with a parameter that must be given and one that need not.
async fn save_deeper_than(client: &Client) {
    let level = json!([
        { "name": "level", "type": "INT", "not_null": true },
        { "name": "prefix", "type": "STRING", "default": "'W'" }
    ]);
    let deeper = "MATCH (w:Well)\nWHERE w.depth > $level AND w.name LIKE $prefix || '%'\nRETURN w.id AS id, w.depth AS depth";
    save(client, "deeper_than", level, deeper).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_query_calls_saved_queries_with_values_of_its_rows() {
    let folder = folder();
    let service = Running::start(&folder.path().join("data"), &[]);
    let client = service.client();
    wells(&client).await;
    save_deeper_than(&client).await;

    // With a literal, a parameter, a value of each row; all columns, or some under other names.
    assert_eq!(rows(&client, "CALL deeper_than({level: 25}) RETURN id ORDER BY id").await, json!([[3], [4]]));
    assert_eq!(
        rows(&client, "CALL deeper_than({level: 25, prefix: 'X'}) YIELD id RETURN COUNT(*) AS n").await,
        json!([[0]])
    );
    let request = QueryRequest {
        parameters: json!({ "low": 35 }).as_object().unwrap().clone(),
        ..request("g", "CALL deeper_than({level: $low}) YIELD id AS well RETURN well")
    };
    assert_eq!(json!(client.query(&request).await.unwrap().rows), json!([[4]]));
    let of_each = "MATCH (w:Well) CALL deeper_than({level: w.depth + 5}) YIELD depth RETURN w.id AS id, COUNT(*) AS n ORDER BY id";
    assert_eq!(rows(&client, of_each).await, json!([[1, 3], [2, 2], [3, 1]]));
    let optional = "MATCH (w:Well) OPTIONAL CALL deeper_than({level: w.depth}) YIELD id AS other RETURN w.id AS id, COUNT(other) AS n ORDER BY id";
    assert_eq!(rows(&client, optional).await, json!([[1, 3], [2, 2], [3, 1], [4, 0]]));
    // What stands for its parameters is no variable of the query.
    let all = query(
        &client,
        "g",
        "MATCH (w:Well {id: 1}) CALL deeper_than({level: w.depth * 3}) YIELD id RETURN *",
    )
    .await;
    let mut names: Vec<&str> = all.columns.iter().map(|c| c.name.as_str()).collect();
    names.sort();
    assert_eq!((names, all.rows.len()), (vec!["id", "w"], 1));

    // Twice, within each other, and within a part in braces.
    save(
        &client,
        "deep",
        json!([]),
        "CALL deeper_than({level: 20}) YIELD id MATCH (w:Well {id: id}) RETURN w",
    )
    .await;
    let both = "CALL deep() YIELD w CALL deeper_than({level: w.depth}) YIELD id RETURN w.id AS w, id";
    assert_eq!(rows(&client, both).await, json!([[3, 4]]));
    let united = "{ CALL deep() YIELD w RETURN w.id AS id } UNION { CALL deeper_than({level: -5}) YIELD id RETURN id } NEXT RETURN COUNT(*) AS n";
    assert_eq!(rows(&client, united).await, json!([[4]]));

    // The plan shows what it does, and a second run finds its plan.
    let plan = client.plan(&request_of("CALL deep() YIELD w RETURN w.id AS id")).await.unwrap();
    assert!(plan["plan"].to_string().contains("Well"), "{plan}");
    for _ in 0..2 {
        assert_eq!(
            rows(&client, "CALL deep() YIELD w RETURN w.id AS id ORDER BY id").await,
            json!([[3], [4]])
        );
    }
    // Another text under the name is another answer, however often the query has been run.
    let url = format!("{}/v1/graphs/g/saved-queries/counted", service.url);
    save(&client, "counted", json!([]), "CALL deep() YIELD w RETURN COUNT(*) AS n").await;
    let first = reqwest::get(&url).await.unwrap();
    let tag = first.headers()["etag"].clone();
    save(&client, "deep", json!([]), "MATCH (w:Well {id: 2}) RETURN w").await;
    assert_eq!(rows(&client, "CALL deep() YIELD w RETURN w.id AS id").await, json!([[2]]));
    let again = reqwest::Client::new().get(&url).header("if-none-match", tag).send().await.unwrap();
    assert_eq!(again.status(), 200);
    assert_eq!(again.json::<Value>().await.unwrap()["rows"], json!([[1]]));

    // One that changes the graph changes it when called, and GET is refused by what it does, not by what it says.
    save(
        &client,
        "dig",
        json!([{ "name": "id", "type": "INT" }]),
        "INSERT (w:Well {id: $id}) RETURN w.id AS id",
    )
    .await;
    save(
        &client,
        "dig_two",
        json!([]),
        "CALL dig({id: 8}) YIELD id AS a CALL dig({id: 9}) YIELD id AS b RETURN a, b",
    )
    .await;
    assert_eq!(client.get("/v1/saved-queries/dig_two").await.unwrap()["changes"], true);
    let url = format!("{}/v1/graphs/g/saved-queries/dig_two", service.url);
    assert_eq!(reqwest::get(&url).await.unwrap().status(), 405);
    let dug: Value =
        reqwest::Client::new().post(&url).json(&json!({})).send().await.unwrap().json().await.unwrap();
    assert_eq!(dug["rows"], json!([[8, 9]]));
    assert_eq!(single(&client, "g", "MATCH (w:Well) RETURN COUNT(*) AS n").await, 6);

    // What is kept of a run is what was asked.
    let text = "CALL deeper_than({level: 25}) YIELD id RETURN id";
    stdout(&cli(&service.url, &["profile", "-g", "g", text, "--keep", "deep wells"]));
    assert_eq!(client.get("/v1/runs/deep%20wells").await.unwrap()["text"], text);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_with_a_call_is_said_with_its_place() {
    let folder = folder();
    let service = Running::start(&folder.path().join("data"), &[]);
    let client = service.client();
    wells(&client).await;
    save_deeper_than(&client).await;

    // What the request gives is looked at as well, and where no graph is named the error still has its place.
    let with = |value: Value| QueryRequest {
        parameters: json!({ "low": value }).as_object().unwrap().clone(),
        ..request_of("CALL deeper_than({level: $low}) YIELD id RETURN id")
    };
    for (value, code) in [(json!("low"), "22G0"), (Value::Null, "22G03")] {
        let Err(ClientError::Problem(problem)) = client.query(&with(value)).await else { panic!("{code}") };
        assert!(problem.code.as_ref().is_some_and(|c| c.starts_with(code)), "{problem:?}");
    }
    save(&client, "share", json!([{ "name": "of", "type": "INT" }]), "RETURN 100 / $of AS share").await;
    let nowhere = |text: &str| QueryRequest { text: text.into(), ..QueryRequest::default() };
    let found = client.query(&nowhere("CALL share({of: 4}) YIELD share RETURN share")).await.unwrap();
    assert_eq!(json!(found.rows), json!([[25]]));
    let wrong = client.query(&nowhere("CALL share({of: 0}) YIELD share RETURN share")).await.unwrap_err();
    assert!(wrong.to_string().contains("in the saved query share, line 1: "), "{wrong}");

    // What is wrong is said with its place: in the query, or in the saved one.
    let (code, text, hint) = refused(&client, "CALL deper_than({level: 1}) YIELD id RETURN id").await;
    assert!(
        code == "42002" && text.contains("deper_than") && hint.contains("deeper_than"),
        "{code} {text} {hint}"
    );
    let (_, text, hint) = refused(&client, "CALL deeper_than() YIELD id RETURN id").await;
    assert!(
        text.contains("$level of deeper_than is not given") && hint.contains("level: INT"),
        "{text} {hint}"
    );
    let (_, text, _) = refused(&client, "CALL deeper_than({level: 'low'}) YIELD id RETURN id").await;
    assert!(text.contains("$level must be INT64 NOT NULL, found STRING"), "{text}");
    let of_text = "MATCH (w:Well) CALL deeper_than({level: w.name}) YIELD id RETURN id";
    let (code, text, _) = refused(&client, of_text).await;
    assert!(code == "22G03" && text.contains("must be INT"), "{code} {text}");
    let (_, text, _) = refused(&client, "CALL deeper_than({level: 1}) YIELD ids RETURN ids").await;
    assert!(text.contains("ids"), "{text}");
    save(&client, "broken", json!([]), "MATCH (w:Well)\nRETURN 1 / (w.id - w.id) AS x").await;
    let (code, text, hint) = refused(&client, "CALL broken() YIELD x RETURN x").await;
    assert_eq!(code, "22012");
    assert!(text.starts_with("in the saved query broken, line 2: "), "{text}");
    assert!(hint.contains("RETURN 1 / (w.id - w.id)"), "{hint}");
}

#[tokio::test(flavor = "multi_thread")]
async fn looks_are_kept_with_their_graph() {
    let folder = folder();
    let data = folder.path().join("data");
    let service = Running::start(&data, &[]);
    let client = service.client();
    wells(&client).await;
    let path = "/v1/graphs/g/looks";
    assert_eq!(client.get(path).await.unwrap(), json!({ "labels": {} }));
    let looks = json!({ "labels": { "Well": { "colour": "#a63d57", "caption": "name" } } });
    client.put(path, &looks).await.unwrap();
    for (labels, says) in [
        (json!({ "Well": { "colour": "red" } }), "is written as #rrggbb"),
        (json!({ "Well": { "color": "#ffffff" } }), "color"),
        (json!({ "x".repeat(501): {} }), "too long"),
    ] {
        let wrong = client.put(path, &json!({ "labels": labels })).await.unwrap_err().to_string();
        assert!(wrong.contains(says), "{wrong}");
    }
    assert!(client.get("/v1/graphs/nobody/looks").await.unwrap_err().to_string().contains("nobody"));
    assert!(service.interrupt());
    let service = Running::start(&data, &[]);
    let client = service.client();
    assert_eq!(client.get(path).await.unwrap(), looks);
    // A graph of the same name that comes later has none.
    client.drop_graph("g").await.unwrap();
    client.create_graph("g", None).await.unwrap();
    assert_eq!(client.get(path).await.unwrap(), json!({ "labels": {} }));
}

fn request_of(text: &str) -> QueryRequest {
    request("g", text)
}

#[tokio::test(flavor = "multi_thread")]
async fn notebooks_are_kept_run_again_and_written_as_files() {
    let folder = folder();
    let data = folder.path().join("data");
    let service = Running::start(&data, &[]);
    let client = service.client();
    wells(&client).await;
    let name = "Wells / May & June";
    let path = graphodrome_client::path_of(&["v1", "notebooks", name], &[]);
    let cells = json!([
        { "kind": "text", "text": "# Wells\n\nDeeper than the level." },
        { "kind": "query", "text": "MATCH (w:Well) WHERE w.depth > $level RETURN w, w.depth / 3m AS third ORDER BY w.id",
          "parameters": { "level": "15" } }
    ]);
    let saved = client.put(&path, &json!({ "cells": cells })).await.unwrap();
    assert_eq!((&saved["revision"], &saved["cell_count"]), (&json!(1), &json!(2)));

    // Run, with what came of it digit for digit.
    let said = stdout(&cli(&service.url, &["notebook", "run", name, "-g", "g"]));
    assert!(said.contains("cell 2: 3 rows") && said.contains("saved"), "{said}");
    let text = client.get_as(&path, "application/json").await.unwrap();
    let third = text.split("\"third\"").nth(1).unwrap();
    assert!(third.contains("6.666666666666666666666666"), "{third}");
    let whole: Value = serde_json::from_str(&text).unwrap();
    assert_eq!(whole["revision"], 2);
    let result = &whole["cells"][1]["result"];
    assert_eq!((&result["graph"], &result["row_count"]), (&json!("g"), &json!(3)));
    assert!(result["version"].as_u64().unwrap() > 0);

    // Two at once: the second is told.
    let stale = client.put(&path, &json!({ "revision": 1, "cells": cells })).await.unwrap_err().to_string();
    assert!(stale.contains("at revision 2, yours was made from 1"), "{stale}");
    let twice = client.put(&path, &json!({ "cells": cells })).await.unwrap_err().to_string();
    assert!(twice.contains("there is a notebook") && twice.contains("revision 2"), "{twice}");
    assert_eq!(client.get(&path).await.unwrap()["cells"], whole["cells"]);

    // As files.
    let markdown = stdout(&cli(&service.url, &["notebook", "export", name]));
    assert!(
        markdown.starts_with("# Wells\n\nDeeper than the level.\n\n```gql\nMATCH (w:Well)"),
        "{markdown}"
    );
    assert!(
        markdown.contains("| w | third |\n| --- | --- |\n| Well ") && markdown.contains("3 rows of g"),
        "{markdown}"
    );
    let file = folder.path().join("wells.ipynb");
    stdout(&cli(&service.url, &["notebook", "export", name, "--out", file.to_str().unwrap()]));
    let notebook: Value = serde_json::from_slice(&std::fs::read(&file).unwrap()).unwrap();
    assert_eq!(notebook["nbformat"], 4);
    assert_eq!(notebook["cells"][0]["cell_type"], "markdown");
    assert_eq!(notebook["cells"][1]["outputs"][0]["output_type"], "execute_result");
    assert!(stdout(&cli(&service.url, &["notebook", "list"])).contains(name));

    // What is no notebook, and what there is none of.
    let wrong = json!({ "cells": [{ "kind": "sum", "text": "" }] });
    assert!(client.put("/v1/notebooks/x", &wrong).await.unwrap_err().to_string().contains("sum"));
    let nameless = client.put("/v1/notebooks/%20", &json!({ "cells": [] })).await.unwrap_err().to_string();
    assert!(nameless.contains("no name for a notebook"), "{nameless}");
    let near = stderr(&cli(&service.url, &["notebook", "export", "Wells / May & Juni"]));
    assert!(near.contains("did you mean Wells / May & June?"), "{near}");

    // A backup takes it along, and another service gets it back.
    let backup = folder.path().join("backup");
    stdout(&cli(&service.url, &["backup", "--out", backup.to_str().unwrap()]));
    let other = Running::start(&folder.path().join("other"), &[]);
    let said = stdout(&cli(&other.url, &["restore", backup.to_str().unwrap()]));
    assert!(said.contains("1 notebook restored"), "{said}");
    let there = other.client().get_as(&path, "application/json").await.unwrap();
    assert_eq!(serde_json::from_str::<Value>(&there).unwrap()["cells"], whole["cells"]);
    assert!(there.contains("6.666666666666666666666666"));

    // It outlives the service, until it is removed.
    assert!(service.interrupt());
    let service = Running::start(&data, &[]);
    assert_eq!(service.client().get(&path).await.unwrap()["cells"], whole["cells"]);
    assert!(stdout(&cli(&service.url, &["notebook", "remove", name])).contains("removed"));
    assert_eq!(service.client().get("/v1/notebooks").await.unwrap(), json!([]));
}

fn drawing(nodes: &[&str]) -> Value {
    json!({ "content": {
        "query": "MATCH (a)-[e]->(b) RETURN a, e, b", "nodes": nodes, "edges": ["e1"], "layout": "layered",
        "colour_by": "depth", "captions": { "Well": "name" }, "places": { "n1": [12.5, -3.0] }
    } })
}

async fn problem(result: Result<Value, ClientError>) -> (u16, String, String) {
    match result {
        Err(ClientError::Problem(p)) => (p.status, p.detail.clone(), p.hint.clone().unwrap_or_default()),
        other => panic!("{other:?}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn drawings_are_kept_with_their_graph() {
    let folder = folder();
    let service = Running::start(&folder.path().join("data"), &[]);
    let client = service.client();
    wells(&client).await;
    let path = "/v1/graphs/g/drawings/wells%20in%20line";
    let saved = client.put(path, &drawing(&["n1", "n2"])).await.unwrap();
    assert_eq!((&saved["revision"], &saved["node_count"]), (&json!(1), &json!(2)));

    let whole = client.get(path).await.unwrap();
    let content = &whole["content"];
    assert_eq!(content["places"]["n1"], json!([12.5, -3.0]));
    assert_eq!((&content["layout"], &content["size_by"]), (&json!("layered"), &json!("")));

    // Another's save is never written over unseen.
    let (status, text, hint) = problem(client.put(path, &drawing(&["n3"])).await).await;
    assert_eq!((status, text.as_str()), (409, "there is a drawing wells in line of g already"));
    assert!(hint.contains("revision 1"), "{hint}");
    let mut next = drawing(&["n3"]);
    next["revision"] = json!(1);
    assert_eq!(client.put(path, &next).await.unwrap()["revision"], 2);
    let (status, text, _) = problem(client.put(path, &next).await).await;
    assert_eq!(status, 409);
    assert!(text.contains("it is at revision 2, yours was made from 1"), "{text}");

    let mut strange = drawing(&[]);
    strange["content"]["layout"] = json!("spiral");
    let (status, text, hint) = problem(client.put("/v1/graphs/g/drawings/x", &strange).await).await;
    assert_eq!((status, text.as_str()), (400, "there is no layout \"spiral\""));
    assert!(hint.starts_with("one of force, layered"), "{hint}");
    let (status, text, hint) = problem(client.get("/v1/graphs/g/drawings/wells%20in%20lime").await).await;
    assert_eq!((status, text.as_str()), (404, "there is no drawing wells in lime of g"));
    assert_eq!(hint, "did you mean wells in line?");

    let listed = client.get("/v1/graphs/g/drawings").await.unwrap();
    assert_eq!(listed.as_array().unwrap().len(), 1);
    assert_eq!(listed[0]["name"], "wells in line");
    client.delete(path).await.unwrap();
    assert_eq!(client.get("/v1/graphs/g/drawings").await.unwrap(), json!([]));

    // A graph that is dropped takes its drawings along.
    client.put(path, &drawing(&["n1"])).await.unwrap();
    client.drop_graph("g").await.unwrap();
    client.create_graph("g", None).await.unwrap();
    assert_eq!(client.get("/v1/graphs/g/drawings").await.unwrap(), json!([]));
}
