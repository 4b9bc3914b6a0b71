//! Backups: taken while the service runs, continued, verified without a service, and restored into the same or
//! another service or to an earlier version; damage is found before anything is restored.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use graphodrome_client::{Client, QueryRequest};
use graphodrome_tests::*;
use serde_json::{Value, json};

/// Every element and the schema as text.
async fn all_of(client: &Client, graph: &str, at_version: Option<u64>) -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    for text in ["MATCH (n) RETURN n", "MATCH ()-[e]->() RETURN e"] {
        let asked = QueryRequest { at_version, ..request(graph, text) };
        for row in client.query(&asked).await.unwrap().rows {
            all.insert(row[0].to_string());
        }
    }
    if at_version.is_none() {
        let shown = client.get(&format!("/v1/graphs/{graph}")).await.unwrap();
        all.insert(format!("{} {}", shown["model"], shown["keys"]));
    }
    all
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found = vec![];
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() { found.extend(files(&path)) } else { found.push(path) }
    }
    found.sort();
    found
}

const PLACES: &str = "[[table]]\nfile = \"n.csv\"\n[[table.node]]\nlabels = [\"Place\"]\nkey = [\"id\"]\nproperties = { id = \"id\" }\n";

async fn load_places(client: &Client, graph: &str, ids: std::ops::Range<u32>) {
    let rows: String = ids.map(|id| format!("p{id}\n")).collect();
    let job = client.load_texts(graph, PLACES, &[("n.csv", &format!("id\n{rows}"))]).await.unwrap();
    assert_eq!(client.wait(job.id).await.unwrap().state, "done");
}

fn run(url: &str, arguments: &[&str]) -> String {
    stdout(&cli(url, arguments))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_is_gone_on_with_and_restored_anywhere() {
    let (data, out) = (folder(), folder());
    let out = out.path().join("backup");
    let out = out.to_str().unwrap();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    client.create_graph("g", None).await.unwrap();
    load_places(&client, "g", 0..50).await;
    for n in 0..5 {
        query(&client, "g", &format!("INSERT (:Place {{id: 'x{n}'}})-[:ROAD]->(:Stop {{n: {n}}})")).await;
    }
    query(&client, "g", "CREATE KEY place OVER (:Place {id})").await;
    let saved = folder();
    let file = saved.path().join("stops.gql");
    std::fs::write(&file, "-- name: stops\nMATCH (s:Stop) RETURN COUNT(*) AS n\n").unwrap();
    run(&service.url, &["saved", "add", file.to_str().unwrap()]);

    let drawing = json!({ "content": { "query": "MATCH (s:Stop) RETURN s", "nodes": ["n1"], "edges": [] } });
    client.put("/v1/graphs/g/drawings/stops", &drawing).await.unwrap();
    let looks = json!({ "labels": { "Stop": { "colour": "#1d6f8c" } } });
    client.put("/v1/graphs/g/looks", &looks).await.unwrap();

    let said = run(&service.url, &["backup", "--out", out]);
    assert!(said.contains("averley, version 1: 3062 nodes and 6505 edges"), "{said}");
    assert!(said.contains("g, version 7: 60 nodes and 5 edges"), "{said}");
    let first = files(Path::new(out));
    // Nothing new is written where nothing is new, and of what is new only that.
    let then = all_of(&client, "g", None).await;
    query(&client, "g", "MATCH (s:Stop {n: 3}) SET s.name = 'Quay'").await;
    load_places(&client, "g", 50..53).await;
    query(&client, "g", "MATCH (p:Place {id: 'p1'}) DETACH DELETE p").await;
    let said = run(&service.url, &["backup", "--out", out]);
    assert!(
        said.contains(
            "averley, version 1: 3062 nodes and 6505 edges; 0.0 MiB written, 29 segments were there already"
        ),
        "{said}"
    );
    let second = files(Path::new(out));
    let new: Vec<&PathBuf> = second.iter().filter(|path| !first.contains(path)).collect();
    assert!(new.iter().all(|path| !path.to_str().unwrap().contains("averley")), "{new:?}");
    let said = run(&service.url, &["backup", "verify", out]);
    assert!(said.contains("Everything is as it was written."), "{said}");
    let said = run(&service.url, &["backup", "list", out]);
    assert!(said.contains("averley") && said.contains("10"), "{said}");

    // Into the same service under another name, as it was at the first backup.
    let said = run(&service.url, &["restore", out, "-g", "g", "--as", "before", "--to", "7"]);
    assert!(said.contains("before: 60 nodes and 5 edges, as g was at version 7"), "{said}");
    assert_eq!(all_of(&client, "before", None).await, then);
    // Where the graph is there nothing is done.
    let refused = cli(&service.url, &["restore", out, "-g", "g"]);
    assert!(stderr(&refused).contains("there is already a graph g"), "{}", stderr(&refused));
    let refused = cli(&service.url, &["restore", out, "-g", "gg"]);
    assert!(stderr(&refused).contains("there is no graph gg in the backup"), "{}", stderr(&refused));
    let refused = cli(&service.url, &["restore", out, "-g", "g", "--as", "x", "--to", "99"]);
    assert!(
        stderr(&refused).contains("does not have version 99: from version 9 it goes up to 10"),
        "{}",
        stderr(&refused)
    );

    // Into an empty service, whole, with its past.
    let other_data = folder();
    let other = Running::start(other_data.path(), &[]);
    let said = run(&other.url, &["restore", out]);
    assert!(said.contains("1 saved queries restored"), "{said}");
    let there = other.client();
    for graph in ["averley", "g"] {
        assert_eq!(all_of(&there, graph, None).await, all_of(&client, graph, None).await, "{graph}");
        let found = there.call("POST", &format!("/v1/graphs/{graph}/verify"), &json!({})).await.unwrap();
        assert_eq!(found["problems"], json!([]), "{found}");
    }
    assert_eq!(there.get("/v1/graphs/g").await.unwrap()["version"], json!(10));
    assert_eq!(there.get("/v1/graphs/g/looks").await.unwrap(), looks);
    let drawings = [&there, &client].map(|c| c.get("/v1/graphs/g/drawings/stops"));
    let [restored, taken] = <[_; 2]>::try_from(futures::future::join_all(drawings).await).unwrap();
    assert_eq!(restored.unwrap()["content"], taken.unwrap()["content"]);
    let types = there.get("/v1/graph-types").await.unwrap();
    assert_eq!(types, client.get("/v1/graph-types").await.unwrap());
    // The past above the base came along, and a key holds what is inserted.
    assert_eq!(all_of(&there, "g", Some(9)).await, all_of(&client, "g", Some(9)).await);
    let twice = there.query(&request("g", "INSERT (:Place {id: 'x1'})")).await;
    assert!(twice.unwrap_err().to_string().contains("x1"));
    query(&there, "g", "INSERT (:Place {id: 'new'})").await;
    // A backup of the other database does not go into this folder.
    let refused = cli(&other.url, &["backup", "--out", out]);
    assert!(stderr(&refused).contains("another database"), "{}", stderr(&refused));
    other.kill();
    let other = Running::start(other_data.path(), &[]);
    assert_eq!(single(&other.client(), "g", "MATCH (p:Place) RETURN COUNT(*) AS n").await, json!(58));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_is_of_one_moment_while_others_write() {
    let (data, out) = (folder(), folder());
    let out = out.path().join("backup");
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    client.call("PUT", "/v1/graphs/g/retention", &json!({ "versions": 1, "days": 0 })).await.unwrap();
    query(&client, "g", "FOR i IN [0, 1, 2, 3] INSERT (:Account {id: i, amount: 100})").await;
    let stop = Arc::new(AtomicBool::new(false));
    let writers: Vec<_> = (0..4i64)
        .map(|writer| {
            let (client, stop) = (service.client(), stop.clone());
            tokio::spawn(async move {
                let mut n = 0;
                while !stop.load(Ordering::SeqCst) {
                    n += 1;
                    let (from, to) = ((writer + n) % 4, (writer + n + 1) % 4);
                    let text = format!(
                        "MATCH (a:Account {{id: {from}}}), (b:Account {{id: {to}}})
                         SET a.amount = a.amount - 1, b.amount = b.amount + 1 INSERT (:Move)"
                    );
                    query(&client, "g", &text).await;
                    // Bases come and go meanwhile, and only the newest version is kept.
                    if writer == 0 && n % 20 == 0 {
                        load_places(&client, "g", 0..3).await;
                        load_places(&client, "g", (n as u32)..(n as u32 + 100)).await;
                    }
                }
            })
        })
        .collect();
    for round in 0..6 {
        let said = tokio::task::block_in_place(|| {
            run(&service.url, &["backup", "--out", out.to_str().unwrap(), "-g", "g"])
        });
        assert!(said.starts_with("g, version "), "{said}");
        let name = format!("copy{round}");
        tokio::task::block_in_place(|| {
            run(&service.url, &["restore", out.to_str().unwrap(), "-g", "g", "--as", &name])
        });
        let sum = single(&client, &name, "MATCH (a:Account) RETURN SUM(a.amount) AS n").await;
        assert_eq!(sum, json!(400), "round {round}");
    }
    stop.store(true, Ordering::SeqCst);
    for writer in writers {
        writer.await.unwrap();
    }
    let said = run(&service.url, &["backup", "verify", out.to_str().unwrap()]);
    assert!(said.contains("as it was written"), "{said}");
    // What was kept for the backups is not any more.
    client.call("PUT", "/v1/graphs/g/retention", &json!({ "versions": 1, "days": 0 })).await.unwrap();
    let told = client.get("/v1/graphs/g/versions?limit=1000").await.unwrap();
    let bases = told["versions"].as_array().unwrap().iter().filter(|v| v["base"] == true).count();
    assert_eq!(bases, 1, "{} to {}", told["oldest"], told["newest"]);
}

/// Flips a bit in the middle of a file.
fn damage(path: &Path) {
    let mut data = std::fs::read(path).unwrap();
    let middle = data.len() / 2;
    data[middle] ^= 1;
    std::fs::write(path, data).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn damage_is_found_and_nothing_is_made_of_it() {
    let (data, out) = (folder(), folder());
    let out = out.path().join("backup");
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    load_places(&client, "g", 0..50).await;
    query(&client, "g", "INSERT (:Stop)").await;
    let folder_name = out.to_str().unwrap();
    run(&service.url, &["backup", "--out", folder_name]);
    let before: Vec<(PathBuf, Vec<u8>)> =
        files(&out).into_iter().map(|path| (path.clone(), std::fs::read(path).unwrap())).collect();
    for part in ["segments", "log"] {
        let path = before.iter().map(|(path, _)| path).find(|p| p.to_str().unwrap().contains(part)).unwrap();
        damage(path);
        let said = cli(&service.url, &["backup", "verify", folder_name]);
        assert!(!said.status.success());
        let text = String::from_utf8(said.stdout).unwrap();
        assert!(text.contains("is not as it was written"), "{text}");
        let refused = cli(&service.url, &["restore", folder_name, "--as", "copy"]);
        assert!(
            !refused.status.success() && stderr(&refused).contains("copy was not restored"),
            "{}",
            stderr(&refused)
        );
        std::fs::remove_file(path).unwrap();
        let said = cli(&service.url, &["backup", "verify", folder_name]);
        assert!(!said.status.success());
        for (path, data) in &before {
            std::fs::write(path, data).unwrap();
        }
    }
    let graphs = client.get("/v1/graphs").await.unwrap();
    assert_eq!(graphs.as_array().unwrap().len(), 1, "{graphs}");
    // The service looks at what it is sent, whoever sends it.
    let begun = client.call("POST", "/v1/backups", &json!({ "graph": "g" })).await.unwrap();
    let manifest: Value = begun["manifest"].clone();
    let own = format!("/v1/backups/{}", begun["id"]);
    let refused = async |manifest: &Value, segments: bool, log: &str| {
        let begun = client
            .call("POST", "/v1/restores", &json!({ "graph": "copy", "manifest": manifest }))
            .await
            .map_err(|e| e.to_string())?;
        let path = format!("/v1/restores/{}", begun["id"]);
        if segments {
            for number in manifest["segments"].as_array().unwrap() {
                let from = format!("{own}/segments/{number}");
                let data = client.stream(&from).await.unwrap().bytes().await.unwrap().to_vec();
                let to = format!("{path}/segments/{number}");
                client.put_bytes(&to, "application/octet-stream", data).await.map_err(|e| e.to_string())?;
            }
        }
        if !log.is_empty() {
            let sent =
                client.put_bytes(&format!("{path}/log"), "application/x-ndjson", log.to_string()).await;
            sent.map_err(|e| e.to_string())?;
        }
        client.call("POST", &path, &json!({})).await.map_err(|e| e.to_string())
    };
    let text = refused(&manifest, false, "").await.unwrap_err();
    assert!(text.contains("is missing in the backup"), "{text}");
    let entry = client.stream(&format!("{own}/log")).await.unwrap().text().await.unwrap();
    let text = refused(&manifest, true, &entry.replace("\"version\":2", "\"version\":3")).await.unwrap_err();
    assert!(text.contains("entry 3 of the backup comes where 2 is expected"), "{text}");
    let text = refused(&manifest, true, &entry.replace("\"checksum\":", "\"checksum\":1")).await.unwrap_err();
    assert!(text.contains("wrong checksum"), "{text}");
    let text = refused(&manifest, true, "{\"nonsense\": true}\n").await.unwrap_err();
    assert!(text.contains("the log could not be read"), "{text}");
    let mut newer = manifest.clone();
    newer["format"] = json!(9);
    let text = refused(&newer, true, "").await.unwrap_err();
    assert!(text.contains("format 9, which a newer release made"), "{text}");
    assert!(refused(&manifest, true, &entry).await.is_ok());
    assert_eq!(single(&client, "copy", "MATCH (n) RETURN COUNT(*) AS n").await, json!(51));
    for path in ["/v1/backups/99/log".into(), format!("{own}/segments/99")] {
        assert!(client.stream(&path).await.is_err(), "{path}");
    }
}
