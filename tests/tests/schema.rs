//! Keys, indexes, copies, renamings and new models through the running service: their messages, their effects, and
//! their survival of a restart.

#![allow(clippy::unwrap_used)]

use std::process::Command;

use graphodrome_client::{Client, QueryRequest};
use graphodrome_tests::*;
use serde_json::{Value, json};

async fn say(client: &Client, graph: &str, text: &str) -> String {
    let result = query(client, graph, text).await;
    result.rows[0][0].as_str().unwrap_or_default().to_string()
}

async fn refused(client: &Client, graph: &str, text: &str) -> String {
    match client.query(&request(graph, text)).await {
        Ok(_) => panic!("{text} was taken"),
        Err(error) => error.to_string(),
    }
}

async fn rows(client: &Client, graph: &str, text: &str) -> Value {
    json!(query(client, graph, text).await.rows)
}

async fn pumps(client: &Client) {
    client.create_graph("pumps", None).await.unwrap();
    let list: Vec<String> = (0..300).map(|i| i.to_string()).collect();
    let list = list.join(", ");
    query(client, "pumps", &format!("FOR i IN [{list}] INSERT (:Pump {{code: 'P' || CAST(i AS STRING), power: i, maker: 'm' || CAST(i / 10 AS STRING)}})")).await;
    query(
        client,
        "pumps",
        "MATCH (a:Pump), (b:Pump) WHERE b.power = a.power + 1 INSERT (a)-[:FEEDS {no: a.power}]->(b)",
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_and_indexes_are_built_used_kept_and_dropped() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    pumps(&client).await;
    assert_eq!(
        say(&client, "pumps", "CREATE KEY pump_code OVER (:Pump {code})").await,
        "key pump_code created"
    );
    assert_eq!(
        say(&client, "pumps", "CREATE KEY IF NOT EXISTS pump_code OVER (:Pump {code})").await,
        "key pump_code already exists"
    );
    assert_eq!(
        say(&client, "", "USE pumps CREATE KEY feed_no OVER -[:FEEDS {no}]->").await,
        "key feed_no created"
    );
    assert_eq!(
        say(&client, "pumps", "CREATE INDEX pump_power OVER (:Pump {power})").await,
        "index pump_power created"
    );
    // Each is a job that was done.
    let jobs = client.jobs().await.unwrap();
    assert_eq!(
        jobs.iter().filter(|j| ["key", "index"].contains(&j.kind.as_str()) && j.state == "done").count(),
        3
    );
    for (text, said) in [
        (
            "CREATE KEY twice OVER (:Pump {maker})",
            "error G2000: there is already a node :Pump with maker = 'm0'\n  at line 1, column 1\n1 | CREATE KEY twice OVER (:Pump {maker})\n  | ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^\nhint: 270 nodes :Pump with a key that already exists: maker = 'm0'; maker = 'm1'; maker = 'm2'; maker = 'm3'; maker = 'm4'",
        ),
        (
            "CREATE KEY again OVER (:Pump {code})",
            "error 42001: the key pump_code is over (:Pump {code}) already\n  at line 1, column 12\n1 | CREATE KEY again OVER (:Pump {code})\n  |            ^^^^^",
        ),
        (
            "CREATE INDEX pump_code OVER (:Pump {maker})",
            "error 42001: there is already a key or an index pump_code, over (:Pump {code})\n  at line 1, column 14\n1 | CREATE INDEX pump_code OVER (:Pump {maker})\n  |              ^^^^^^^^^",
        ),
        (
            "DROP INDEX pump_powr",
            "error 42002: there is no index pump_powr\n  at line 1, column 12\n1 | DROP INDEX pump_powr\n  |            ^^^^^^^^^\nhint: did you mean pump_power?",
        ),
        (
            "CREATE INDEX i OVER (:Pump {power, power})",
            "error 42001: the property power is named twice\n  at line 1, column 36\n1 | CREATE INDEX i OVER (:Pump {power, power})\n  |                                    ^^^^^",
        ),
        (
            "INSERT (:Pump {code: 'P7'})",
            "error G2000: there is already a node :Pump with code = 'P7'\n  at line 1, column 1\n1 | INSERT (:Pump {code: 'P7'})\n  | ^^^^^^^^^^^^^^^^^^^^^^^^^^^",
        ),
    ] {
        assert_eq!(refused(&client, "pumps", text).await, said);
    }
    let lost = QueryRequest { text: "CREATE KEY k OVER (:Pump {code})".into(), ..QueryRequest::default() };
    let said = client.query(&lost).await.unwrap_err().to_string();
    assert!(said.contains("does not say which graph"), "{said}");
    // Upserts by them, the edge's too.
    query(&client, "pumps", "UPSERT (p:Pump {code: 'P7'}) SET p.power = 1000").await;
    query(&client, "pumps", "UPSERT (p:Pump {code: 'new'}) SET p.power = 1001").await;
    let feeds = "MATCH (a:Pump {code: 'P3'}), (b:Pump {code: 'P4'}) UPSERT (a)-[e:FEEDS {no: 3}]->(b) SET e.checked = true RETURN e.no";
    assert_eq!(rows(&client, "pumps", feeds).await, json!([[3]]));
    let wanted = json!([["P7", 1000], ["new", 1001]]);
    let strong =
        "MATCH (p:Pump) WHERE p.power >= 1000 RETURN p.code AS code, p.power AS power ORDER BY power";
    assert_eq!(rows(&client, "pumps", strong).await, wanted);
    let operators =
        async |client: &Client, text: &str| client.plan(&request("pumps", text)).await.unwrap().to_string();
    let by_edge = "MATCH (a)-[e:FEEDS {no: 12}]->(b) RETURN a.code AS a, b.code AS b";
    for client in [&client] {
        assert!(operators(client, strong).await.contains("SeekIndex"));
        assert!(operators(client, by_edge).await.contains("SeekEdges"));
    }
    // Killed and started again: everything is there, checked, and used.
    service.kill();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    assert_eq!(rows(&client, "pumps", strong).await, wanted);
    assert!(operators(&client, strong).await.contains("SeekIndex"));
    assert_eq!(rows(&client, "pumps", by_edge).await, json!([["P12", "P13"]]));
    assert!(refused(&client, "pumps", "INSERT (:Pump {code: 'new'})").await.contains("already"));
    let model = client.get("/v1/graphs/pumps/model").await.unwrap();
    assert_eq!(
        model["lookups"],
        json!([
            "CREATE KEY pump_code OVER (:Pump {code})",
            "CREATE KEY feed_no OVER -[:FEEDS {no}]->",
            "CREATE INDEX pump_power OVER (:Pump {power})"
        ])
    );
    assert_eq!(say(&client, "pumps", "DROP KEY pump_code").await, "key pump_code dropped");
    assert_eq!(say(&client, "pumps", "DROP KEY IF EXISTS pump_code").await, "there is no key pump_code");
    query(&client, "pumps", "INSERT (:Pump {code: 'new'})").await;
    assert_eq!(rows(&client, "pumps", "MATCH (p:Pump {code: 'new'}) RETURN COUNT(*)").await, json!([[2]]));
}

const MODEL: &str = "CREATE GRAPH TYPE plant AS {
  (Pump :Pump { code STRING NOT NULL, power INT16, note STRING } KEY (code)),
  (Tank :Tank { code STRING NOT NULL, colour STRING } KEY (code)),
  (Gauge :Gauge { code STRING NOT NULL } KEY (code)),
  (Pump)-[:FEEDS { since DATE }]->(Tank),
  (Gauge)-[:WATCHES]->(:Pump|:Tank),
  EACH Gauge HAS AT MOST 1 WATCHES
};
CREATE GRAPH works TYPED plant;";

async fn works(client: &Client) {
    client.query(&QueryRequest { text: MODEL.into(), ..QueryRequest::default() }).await.unwrap();
    query(
        client,
        "works",
        "INSERT (p:Pump {code: 'P1', power: 5, note: 'old'})-[:FEEDS {since: DATE '2020-01-01'}]->(t:Tank {code: 'T1', colour: 'red'}),
                (:Pump {code: 'P2'}), (:Gauge {code: 'G1'})-[:WATCHES]->(p), (:Gauge {code: 'G2'})-[:WATCHES]->(t)",
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn edges_are_counted_where_the_model_says_so() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    works(&client).await;
    let said =
        refused(&client, "works", "MATCH (g:Gauge {code: 'G1'}), (t:Tank) INSERT (g)-[:WATCHES]->(t)").await;
    assert!(
        said.starts_with("error G2000: node :Gauge {code: 'G1'}: more than 1 edge :WATCHES at one node, but EACH :Gauge HAS AT MOST 1 WATCHES"),
        "{said}"
    );
    // An upsert is held to the model like everything else.
    for (text, part) in [
        (
            "UPSERT (p:Pump {code: 'P1'}) SET p.power = 'x'",
            "node :Pump {code: 'P1'}: property power: expected INT16, given STRING 'x'",
        ),
        (
            "UPSERT (p:Pump {code: 'P1'}) SET p.power = 40000",
            "property power: expected INT16, given INT64 40000",
        ),
        ("UPSERT (p:Pump {code: 'P9'}) SET p:Tank", "no node type has exactly the labels :Pump&Tank"),
    ] {
        let said = refused(&client, "works", text).await;
        assert!(said.starts_with("error G2000") && said.contains(part), "{said}");
    }
    // In one statement the one may take the place of the other.
    query(&client, "works", "MATCH (g:Gauge {code: 'G1'})-[e:WATCHES]->() DELETE e").await;
    query(&client, "works", "MATCH (g:Gauge {code: 'G1'}), (t:Tank) INSERT (g)-[:WATCHES]->(t)").await;
    // A load keeps to it as well.
    let mapping = "graph = \"works\"\n[[table]]\nfile = \"w.csv\"\n[[table.edge]]\nlabel = \"WATCHES\"\nsource = { labels = [\"Gauge\"], key = { code = \"g\" } }\ntarget = { labels = [\"Pump\"], key = { code = \"p\" } }\n";
    let job = client.load_texts("works", mapping, &[("w.csv", "g,p\nG2,P1\n")]).await.unwrap();
    let job = client.wait(job.id).await.unwrap();
    assert_eq!(job.state, "failed", "{}", job.detail);
    let error = job.detail["error"].as_str().unwrap();
    assert!(error.contains("EACH :Gauge HAS AT MOST 1 WATCHES") && error.contains("G2"), "{error}");
    assert_eq!(rows(&client, "works", "MATCH ()-[e:WATCHES]->() RETURN COUNT(*)").await, json!([[2]]));
}

#[tokio::test(flavor = "multi_thread")]
async fn graphs_and_types_are_made_like_others() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    works(&client).await;
    let all = "MATCH (n)-[e]->(m) RETURN n.code AS n, m.code AS m ORDER BY n, m";
    query(&client, "works", "CREATE GRAPH copy LIKE works AS COPY OF works").await;
    assert_eq!(rows(&client, "copy", all).await, rows(&client, "works", all).await);
    query(&client, "works", "CREATE GRAPH open ANY AS COPY OF works").await;
    assert_eq!(rows(&client, "open", all).await, rows(&client, "works", all).await);
    query(&client, "open", "INSERT (:Anything)").await;
    query(&client, "works", "CREATE GRAPH TYPE plant2 AS COPY OF plant").await;
    query(&client, "works", "CREATE GRAPH empty TYPED plant2").await;
    query(&client, "works", "CREATE GRAPH TYPE seen LIKE open").await;
    // A copy is another graph: what changes in one does not in the other.
    query(&client, "copy", "MATCH (p:Pump) DETACH DELETE p").await;
    assert_eq!(rows(&client, "works", "MATCH (p:Pump) RETURN COUNT(*)").await, json!([[2]]));
    for (text, at, name) in [
        ("CREATE GRAPH TYPE t AS COPY OF t", 32, "t"),
        ("CREATE GRAPH g LIKE g", 21, "g"),
        ("CREATE GRAPH g ANY AS COPY OF g", 31, "g"),
    ] {
        let mark = " ".repeat(at - 1);
        assert_eq!(
            refused(&client, "works", text).await,
            format!(
                "error 42001: {name} cannot be made like itself\n  at line 1, column {at}\n1 | {text}\n  | {mark}^\nhint: name another as the one to copy"
            )
        );
    }
    for (text, part) in [
        ("CREATE GRAPH TYPE t AS COPY OF plnt", "there is no graph type plnt"),
        ("CREATE GRAPH g LIKE work", "did you mean works?"),
        ("CREATE GRAPH g TYPED plant AS COPY OF open", "no node type has exactly the labels :Anything"),
    ] {
        let said = refused(&client, "works", text).await;
        assert!(said.contains(part), "{text}: {said}");
    }
    service.kill();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    assert_eq!(rows(&client, "open", all).await, rows(&client, "works", all).await);
    assert_eq!(rows(&client, "copy", "MATCH (n) RETURN COUNT(*)").await, json!([[3]]));
    let types = client.get("/v1/graph-types").await.unwrap().to_string();
    assert!(types.contains("plant2") && types.contains("seen"), "{types}");
}

/// Runs the command line with a model file; its exit code and everything it printed.
fn model(service: &Running, arguments: &[&str], text: &str) -> (i32, String) {
    let path = service.data.join("new.gql");
    std::fs::write(&path, text).unwrap();
    let mut command = Command::new(binary());
    command.args(["--url", &service.url, "model"]).args(arguments).arg(&path).env("NO_COLOR", "1");
    let run = command.output().unwrap();
    let said = String::from_utf8_lossy(&run.stdout).into_owned() + &String::from_utf8_lossy(&run.stderr);
    (run.status.code().unwrap(), said)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_model_is_compared_applied_or_refused_as_a_whole() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    works(&client).await;
    query(&client, "works", "CREATE INDEX power OVER (:Pump {power})").await;
    let own = MODEL.split("CREATE GRAPH works").next().unwrap();
    assert_eq!(
        model(&service, &["diff", "-g", "works"], own),
        (0, "Nothing: the graph works has this model.\n".into())
    );
    // What stands in the way: nulls, a type that is too narrow, an edge to what is no end.
    let narrow = own
        .replace("power INT16", "power INT16 NOT NULL")
        .replace("note STRING", "note STRING(2)")
        .replace("(:Pump|:Tank)", "(Pump)");
    let (code, said) = model(&service, &["diff", "-g", "works"], &narrow);
    assert_eq!(code, 1);
    for part in [
        "node type :Pump: property power may no more be null",
        "node type :Pump: property note becomes STRING(2) (it is STRING)",
        "edge type :WATCHES connects :Gauge to :Pump",
        "1 x node :Pump: property power: expected INT16 NOT NULL, given null\n      such as :Pump {code: 'P2'}\n      MATCH (x:Pump) WHERE LABELS(x) = ['Pump'] AND x.power IS NULL RETURN x",
        "1 x node :Pump: property note: expected STRING(2), given STRING 'old'",
        "no edge type allows (:Gauge)-[:WATCHES]->(:Tank)",
    ] {
        assert!(said.contains(part), "{part} in\n{said}");
    }
    // The queries that it gives find what it counts.
    let diff = client.call("POST", "/v1/graphs/works/model/diff", &json!({ "model": narrow })).await.unwrap();
    for obstacle in diff["obstacles"].as_array().unwrap() {
        let text = obstacle["query"].as_str().unwrap();
        let found = query(&client, "works", text).await.rows.len() as u64;
        assert_eq!(found, obstacle["count"].as_u64().unwrap(), "{text}");
    }
    let (code, said) = model(&service, &["apply", "-g", "works"], &narrow);
    assert_eq!(code, 1);
    assert!(said.contains("the graph breaks the new model"), "{said}");
    // Everything at once: renamed, widened, filled, labelled, dropped, new.
    let new = "ALTER GRAPH works RENAME LABEL Tank TO Basin ON NODE;
        ALTER GRAPH works RENAME PROPERTY power TO power_kw ON NODE Pump;
        CREATE GRAPH TYPE plant AS {
          (Pump :Pump => :Machine { code STRING NOT NULL, power_kw FLOAT64 NOT NULL DEFAULT 1.5, kind STRING DEFAULT 'plain' } KEY (code)),
          (Tank :Basin { code STRING NOT NULL } KEY (code)),
          (Valve :Valve { code STRING NOT NULL } KEY (code)),
          (Pump)-[:FEEDS { since DATE, share DECIMAL(3, 2) NOT NULL DEFAULT 1 }]->(:Basin)
        };";
    let (code, said) = model(&service, &["diff", "-g", "works"], new);
    assert_eq!(code, 0, "{said}");
    for part in [
        "node label Tank becomes Basin",
        "node :Pump: property power becomes power_kw",
        "node type :Pump gets the labels :Machine&Pump",
        "node type :Pump: property power_kw becomes FLOAT64 (it is INT16)",
        "node type :Pump: property power_kw may no more be null; nulls become 1.5",
        "node type :Pump: property note is dropped   LOST: 1 values",
        "node type :Pump: property kind STRING is new, 'plain' where it was not",
        "node type :Basin: property colour is dropped   LOST: 1 values",
        "node type :Gauge is dropped   LOST: 2 elements",
        "edge type :WATCHES from :Gauge to :Pump|:Basin is dropped   LOST: 2 elements",
        "node type :Valve is new",
        "EACH :Gauge HAS AT MOST 1 WATCHES is dropped",
        "The elements change with it",
    ] {
        assert!(said.contains(part), "{part} in\n{said}");
    }
    // What finds the losses speaks of the graph as it is, whatever is renamed.
    let diff = client.call("POST", "/v1/graphs/works/model/diff", &json!({ "model": new })).await.unwrap();
    for difference in diff["differences"].as_array().unwrap().iter().filter(|d| d["lost"] != 0) {
        let text = difference["query"].as_str().unwrap();
        assert_eq!(json!(query(&client, "works", text).await.rows.len()), difference["lost"], "{text}");
    }
    let (code, said) = model(&service, &["apply", "-g", "works"], new);
    assert_eq!(code, 1);
    assert!(said.contains("would be lost") && said.contains("--lose-data"), "{said}");
    assert_eq!(rows(&client, "works", "MATCH (g:Gauge) RETURN COUNT(*)").await, json!([[2]]));
    let saved = data.path().join("saved");
    let (code, said) =
        model(&service, &["apply", "-g", "works", "--lose-data", "--save", saved.to_str().unwrap()], new);
    assert_eq!(code, 0, "{said}");
    let gauges = std::fs::read_to_string(saved.join("node_Gauge.jsonl")).unwrap();
    assert!(gauges.contains("G1") && gauges.contains("G2"), "{gauges}");
    let notes = std::fs::read_to_string(saved.join("node_Pump.note.jsonl")).unwrap();
    assert!(notes.contains("old"), "{notes}");
    has_the_new_model(&client).await;
    service.kill();
    let service = Running::start(data.path(), &[]);
    has_the_new_model(&service.client()).await;
}

async fn has_the_new_model(client: &Client) {
    let pumps = "MATCH (p:Machine) RETURN p.code AS code, p.power_kw AS power, p.kind AS kind, LABELS(p) AS labels ORDER BY code";
    assert_eq!(
        rows(client, "works", pumps).await,
        json!([["P1", 5.0, "plain", ["Machine", "Pump"]], ["P2", 1.5, "plain", ["Machine", "Pump"]]])
    );
    let feeds = "MATCH (p:Pump)-[e:FEEDS]->(b:Basin) RETURN p.code AS p, b.code AS b, CAST(e.share AS STRING) AS share";
    assert_eq!(rows(client, "works", feeds).await, json!([["P1", "T1", "1"]]));
    assert_eq!(rows(client, "works", "MATCH (n) RETURN COUNT(*)").await, json!([[3]]));
    let model = client.get("/v1/graphs/works/model").await.unwrap();
    assert_eq!(model["lookups"], json!(["CREATE INDEX power OVER (:Pump {power_kw})"]));
    assert!(refused(client, "works", "INSERT (:Gauge {code: 'G9'})").await.contains("Gauge"));
}

#[tokio::test(flavor = "multi_thread")]
async fn renaming_is_a_statement_and_a_shared_type_stays_as_it_is() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    works(&client).await;
    query(&client, "works", "CREATE GRAPH other TYPED plant").await;
    for (text, part) in [
        ("ALTER GRAPH works RENAME LABEL Pipe TO Pump ON NODE", "no node type has the label Pipe"),
        (
            "ALTER GRAPH works RENAME LABEL Pump TO Tank ON NODE",
            "there are node types with the label Tank already",
        ),
        ("ALTER GRAPH works RENAME PROPERTY power TO note ON NODE Pump", "has the property note already"),
        (
            "ALTER GRAPH works RENAME LABEL Pump TO Engine ON NODE",
            "the graph type plant is another graph's too",
        ),
    ] {
        let said = refused(&client, "works", text).await;
        assert!(said.contains(part), "{text}: {said}");
    }
    query(&client, "works", "DROP GRAPH other").await;
    assert_eq!(
        say(&client, "works", "ALTER GRAPH works RENAME PROPERTY since TO begun ON EDGE FEEDS").await,
        "property since of edge :FEEDS renamed to begun"
    );
    query(&client, "works", "ALTER GRAPH works RENAME LABEL Pump TO Engine ON NODE").await;
    let text = "MATCH (p:Engine)-[e:FEEDS]->() RETURN p.code AS code, CAST(e.begun AS STRING) AS begun";
    assert_eq!(rows(&client, "works", text).await, json!([["P1", "2020-01-01"]]));
    assert!(refused(&client, "works", "INSERT (:Pump {code: 'x'})").await.contains("Pump"));
    // An open graph has names too.
    pumps(&client).await;
    query(&client, "pumps", "ALTER GRAPH pumps RENAME LABEL Pump TO Engine ON NODE").await;
    assert_eq!(rows(&client, "pumps", "MATCH (e:Engine) RETURN COUNT(*)").await, json!([[300]]));
    assert!(
        refused(&client, "pumps", "ALTER GRAPH pumps RENAME PROPERTY power TO code ON NODE Engine")
            .await
            .contains("have the property code already")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_graph_type_has_a_json_form_with_a_schema_and_comes_back_as_text() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    let schema = client.get("/v1/schemas/graph-type").await.unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let demo = std::fs::read_to_string(root().join("demo/model.gql")).unwrap();
    for text in [demo.as_str(), MODEL] {
        let forms = client.call("POST", "/v1/models", &json!({ "text": text })).await.unwrap();
        let types = &forms["types"];
        let errors: Vec<String> = validator.iter_errors(types).map(|e| e.to_string()).collect();
        assert!(errors.is_empty(), "{errors:#?}");
        let again = client.call("POST", "/v1/models", &json!({ "types": types })).await.unwrap();
        assert_eq!(&again["types"], types);
    }
    let wrong = json!({ "types": { "name": "t", "node_types": [{ "labels": ["A"], "properties": [{ "name": "p", "type": "INT65" }] }] } });
    assert!(!validator.is_valid(&json!({ "name": "t", "node_types": [{ "label": "A" }] })));
    let said = client.call("POST", "/v1/models", &wrong).await.unwrap_err().to_string();
    assert!(said.contains("there is no value type INT65"), "{said}");
}

/// Catalog statements, models and changes of one graph at once: each waits for the others, none for ever.
#[tokio::test(flavor = "multi_thread")]
async fn what_changes_a_graph_at_once_comes_to_an_end() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    works(&client).await;
    let texts = [
        "CREATE OR REPLACE GRAPH works TYPED plant",
        "ALTER GRAPH works RENAME PROPERTY power TO watts ON NODE Pump",
        "ALTER GRAPH works RENAME PROPERTY watts TO power ON NODE Pump",
        "USE works CREATE INDEX codes OVER (:Pump {code})",
        "USE works DROP INDEX codes",
        "USE works INSERT (:Tank {code: 'x'})",
        "DROP GRAPH IF EXISTS works",
        "CREATE GRAPH IF NOT EXISTS works TYPED plant",
    ];
    let mut running = tokio::task::JoinSet::new();
    for round in 0..12 {
        for text in texts.iter().cycle().skip(round % texts.len()).take(texts.len()) {
            let (client, request) =
                (client.clone(), QueryRequest { text: (*text).into(), ..QueryRequest::default() });
            // Whether it is done or refused depends on the order; that it is answered does not.
            running.spawn(async move { drop(client.query(&request).await) });
        }
    }
    let all = async { while running.join_next().await.is_some() {} };
    tokio::time::timeout(std::time::Duration::from_secs(120), all)
        .await
        .expect("some of them wait for each other");
    client
        .query(&QueryRequest { text: "CREATE OR REPLACE GRAPH works ANY".into(), ..QueryRequest::default() })
        .await
        .unwrap();
    assert_eq!(rows(&client, "works", "MATCH (n) RETURN COUNT(*)").await, json!([[0]]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_graph_that_cannot_be_replaced_stays() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    works(&client).await;
    pumps(&client).await;
    let said = refused(&client, "", "CREATE OR REPLACE GRAPH works TYPED plant AS COPY OF pumps").await;
    assert!(said.contains("G2000"), "{said}");
    let count = "MATCH (n) RETURN COUNT(*)";
    assert_eq!(rows(&client, "works", count).await, json!([[5]]));
    query(&client, "", "CREATE OR REPLACE GRAPH works ANY AS COPY OF pumps").await;
    assert_eq!(rows(&client, "works", count).await, json!([[300]]));
    service.kill();
    let service = Running::start(data.path(), &[]);
    assert_eq!(rows(&service.client(), "works", count).await, json!([[300]]));
}

/// Keys that were created on their own, and loads that give them, or do not.
#[tokio::test(flavor = "multi_thread")]
async fn a_load_goes_by_the_key_it_means_and_is_held_to_the_others() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("parts", None).await.unwrap();
    query(&client, "parts", "CREATE KEY by_code OVER (:Part {code})").await;
    query(&client, "parts", "CREATE KEY by_no OVER -[:FITS {no}]->").await;
    let load = async |mapping: &str, table: &str| {
        let job = client.load_texts("parts", mapping, &[("p.csv", table)]).await.unwrap();
        client.wait(job.id).await.unwrap()
    };
    let rule = |key: &str| {
        format!(
            "[[table]]\nfile = \"p.csv\"\n[[table.node]]\nlabels = [\"Part\"]\n{key}properties = {{ id = \"id\", code = \"code\" }}\n"
        )
    };
    // By the rule's own key: the created one still holds, for the whole load.
    let job = load(&rule("key = [\"id\"]\n"), "id,code\n1,a\n2,b\n").await;
    assert_eq!(
        (job.state.name(), &job.detail["account"]["nodes_created"]),
        ("done", &json!(2)),
        "{}",
        job.detail
    );
    let job = load(&rule("key = [\"id\"]\n"), "id,code\n3,a\n").await;
    assert_eq!(job.state, "failed");
    assert!(
        job.detail["error"].as_str().unwrap().contains("there is already a node :Part with code = 'a'"),
        "{}",
        job.detail
    );
    // By the created key, where the rule names none.
    let job = load(&rule(""), "id,code\n1,a\n4,d\n").await;
    let account = &job.detail["account"];
    assert_eq!((&account["nodes_created"], &account["unchanged"]), (&json!(1), &json!(1)), "{}", job.detail);
    // Edges that do not give the created key's property have no such key.
    let edges = "[[table]]\nfile = \"p.csv\"\n[[table.edge]]\nlabel = \"FITS\"\nsource = { labels = [\"Part\"], key = { code = \"a\" } }\ntarget = { labels = [\"Part\"], key = { code = \"b\" } }\n";
    let job = load(edges, "a,b\na,b\nb,d\n").await;
    assert_eq!(&job.detail["account"]["edges_created"], 2, "{}", job.detail);
}
