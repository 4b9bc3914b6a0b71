//! Queries over several graphs, and over several versions of one: values go on from one to the next.

#![allow(clippy::unwrap_used)]

use graphodrome_tests::*;
use serde_json::{Value, json};

async fn ask(service: &Running, body: Value) -> (u16, Value) {
    let answer =
        reqwest::Client::new().post(format!("{}/v1/query", service.url)).json(&body).send().await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

/// A shop and its suppliers, each a graph of its own.
async fn open(service: &Running) -> u64 {
    let client = service.client();
    for name in ["shop", "suppliers"] {
        client.create_graph(name, None).await.unwrap();
    }
    query(
        &client,
        "shop",
        "INSERT (:Part {code: 'a', stock: 3}), (:Part {code: 'b', stock: 0}), (:Part {code: 'c', stock: 9})",
    )
    .await;
    let version = client.get("/v1/graphs/shop").await.unwrap()["version"].as_u64().unwrap();
    query(&client, "shop", "MATCH (p:Part {code: 'c'}) SET p.stock = 1").await;
    query(&client, "shop", "INSERT (:Part {code: 'd', stock: 5})").await;
    query(
        &client,
        "suppliers",
        "INSERT (x:Firm {name: 'Xan'})-[:MAKES {days: 4}]->(:Item {code: 'b'}), (x)-[:MAKES {days: 9}]->(:Item {code: 'c'}), (:Firm {name: 'Yew'})-[:MAKES {days: 2}]->(:Item {code: 'b2'})",
    )
    .await;
    version
}

#[tokio::test(flavor = "multi_thread")]
async fn values_go_on_from_one_graph_to_the_next() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let before = open(&service).await;
    let low = "USE shop MATCH (p:Part) WHERE p.stock < 2 RETURN p.code AS code, p.stock AS stock";
    let makes = "USE suppliers MATCH (f:Firm)-[m:MAKES]->(i:Item {code: code})";
    for (text, wanted) in [
        (
            format!("{low} NEXT {makes} RETURN code, stock, f.name AS firm, m.days AS days ORDER BY code"),
            json!([["b", 0, "Xan", 4], ["c", 1, "Xan", 9]]),
        ),
        // What nobody makes stays, and back again; one that says nothing is about the graph before it.
        (
            format!("{low} NEXT USE suppliers OPTIONAL MATCH (f:Firm)-[m:MAKES WHERE m.days < 5]->(i:Item {{code: code}}) RETURN code, f.name AS firm NEXT FILTER firm IS NULL RETURN code NEXT USE shop MATCH (p:Part {{code: code}}) RETURN p.stock AS stock"),
            json!([[1]]),
        ),
        (
            format!("{low} NEXT YIELD code AS wanted USE suppliers MATCH (i:Item {{code: wanted}}) RETURN COUNT(*) AS n"),
            json!([[2]]),
        ),
        (
            "USE shop MATCH (p:Part) RETURN p.code AS code EXCEPT USE suppliers MATCH (i:Item) RETURN i.code AS code".to_string(),
            json!([["a"], ["d"]]),
        ),
        (
            "USE shop MATCH (p:Part) RETURN p.code AS code UNION ALL USE suppliers MATCH (i:Item) RETURN i.code AS code NEXT RETURN COUNT(*) AS n, COUNT(DISTINCT code) AS d".to_string(),
            json!([[7, 5]]),
        ),
        (
            "USE shop MATCH (p:Part {code: 'none'}) RETURN p.code AS code OTHERWISE USE suppliers MATCH (f:Firm {name: 'Yew'}) RETURN f.name AS code".to_string(),
            json!([["Yew"]]),
        ),
        (
            format!("{low} NEXT USE suppliers MATCH (i:Item {{code: code}}) RETURN code, 'made' AS what UNION USE shop MATCH (p:Part {{code: code}}) RETURN code, 'sold' AS what NEXT RETURN code, what ORDER BY code, what"),
            json!([["b", "made"], ["b", "sold"], ["c", "made"], ["c", "sold"]]),
        ),
        // Two versions of one graph.
        (
            format!("USE shop AT VERSION {before} MATCH (p:Part) RETURN p.code AS code, p.stock AS stock NEXT USE shop MATCH (p:Part {{code: code}}) WHERE p.stock <> stock RETURN code, stock AS was, p.stock AS is"),
            json!([["c", 9, 1]]),
        ),
        (
            format!("USE shop MATCH (p:Part) RETURN p.code AS code EXCEPT USE shop AT VERSION {before} MATCH (p:Part) RETURN p.code AS code"),
            json!([["d"]]),
        ),
    ] {
        let (status, found) = ask(&service, json!({ "text": text, "parameters": {} })).await;
        assert_eq!((status, &found["rows"]), (200, &wanted), "{text}\n{found}");
    }
    // The request's graph is that of a part that names none.
    let text = "MATCH (p:Part) WHERE p.stock < $most RETURN p.code AS code NEXT USE suppliers MATCH (i:Item {code: code}) RETURN COUNT(*) AS n";
    let (_, found) =
        ask(&service, json!({ "graph": "shop", "text": text, "parameters": { "most": 1 } })).await;
    assert_eq!(found["rows"], json!([[1]]), "{found}");
    // The last part's elements are told as always.
    let text = format!("{low} NEXT USE suppliers MATCH (i:Item {{code: code}}) RETURN i ORDER BY i.code");
    let (_, found) = ask(&service, json!({ "text": text })).await;
    assert_eq!(found["rows"][1][0]["properties"]["code"], "c", "{found}");
    let table = stdout(&cli(&service.url, &["query", &text]));
    assert!(table.contains("Item") && table.lines().count() > 4, "{table}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_go_on_is_told() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    open(&service).await;
    for (text, code, said) in [
        (
            "USE shop MATCH (p:Part) RETURN p NEXT USE suppliers MATCH (i:Item) RETURN i.code AS c",
            "22G03",
            "an element of one graph cannot go on into another",
        ),
        (
            "USE shop MATCH (p:Part) RETURN [p] AS l NEXT USE suppliers MATCH (i:Item) RETURN i.code AS c",
            "22G03",
            "return what is wanted of it",
        ),
        (
            "USE shop MATCH (p:Part) RETURN p.code AS code NEXT USE suppliers MATCH (f:Firm) SET f.x = code",
            "",
            "only reads",
        ),
        (
            "USE shop MATCH (p:Part) RETURN p.code AS code NEXT USE nowhere MATCH (f) RETURN f.x AS x",
            "",
            "there is no graph nowhere",
        ),
        (
            "USE shop MATCH (p:Part) RETURN p.code AS code NEXT YIELD kode USE suppliers MATCH (f) RETURN 1 AS x",
            "42002",
            "there is no column kode",
        ),
        (
            "USE shop MATCH (p:Part) RETURN p.code AS code NEXT USE suppliers MATCH (f:Firm) RETURN p.code AS x",
            "42002",
            "no variable p",
        ),
        (
            "USE shop MATCH (p:Part) CALL { USE suppliers MATCH (i:Item) RETURN i.code AS c } RETURN c NEXT USE suppliers MATCH (i) RETURN 1 AS x",
            "42001",
            "about the same graph",
        ),
        (
            "USE shop MATCH (p:Part) RETURN p.code AS code NEXT USE suppliers MATCH (i:Item) RETURN 1 / (i.x - i.x) AS x",
            "",
            "",
        ),
    ] {
        let (status, found) = ask(&service, json!({ "text": text })).await;
        if said.is_empty() {
            assert_eq!(status, 200, "{found}");
            continue;
        }
        assert!(status >= 400, "{text}\n{found}");
        assert!(found.to_string().contains(said), "{text}\n{found}");
        assert!(code.is_empty() || found["code"] == code, "{text}\n{found}");
    }
    let text =
        "USE shop MATCH (p:Part) RETURN p.code AS code NEXT USE suppliers MATCH (i:Item) RETURN i.code AS c";
    assert!(stderr(&cli(&service.url, &["plan", text])).contains("plan and profile each by itself"));
    // Limits hold for all of it together.
    let many = "USE shop FOR i IN [1,2,3,4,5,6,7,8,9,10] FOR j IN [1,2,3,4,5,6,7,8,9,10] FOR k IN [1,2,3,4,5,6,7,8,9,10] FOR l IN [1,2,3,4,5,6,7,8,9,10] MATCH (p:Part) RETURN p.code || 'xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx' AS code, i NEXT USE suppliers MATCH (i:Item) RETURN COUNT(*) AS n";
    let (status, found) = ask(&service, json!({ "text": many, "max_memory_bytes": 1 << 20 })).await;
    assert!(status >= 400 && found.to_string().contains("1 MiB"), "{found}");
}
