//! Loads that would take the service's memory are refused whole; many at once wait for each other.

#![allow(clippy::unwrap_used)]

use std::io::Write;

use graphodrome_client::{Client, Job, QueryRequest};
use graphodrome_tests::*;
use serde_json::json;

const MAPPING: &str =
    "[[table]]\nfile = \"tags.csv.gz\"\n[[table.node]]\nlabels = [\"Tag\"]\nproperties = { n = \"n\" }\n";

/// A table of so many rows that are as short as rows can be, packed.
fn packed(rows: usize) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(vec![], flate2::Compression::best());
    out.write_all(b"n\n").unwrap();
    let block = "7\n".repeat(1 << 16);
    let mut left = rows;
    while left > 0 {
        let now = left.min(1 << 16);
        out.write_all(&block.as_bytes()[..2 * now]).unwrap();
        left -= now;
    }
    out.finish().unwrap()
}

/// The most memory that a process has had, in MiB.
fn peak_mib(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    line.trim().trim_end_matches(" kB").trim().parse::<u64>().unwrap() >> 10
}

async fn load(client: &Client, bytes: &[u8], check: bool) -> Job {
    client.load_bytes("tags", MAPPING, &[("tags.csv.gz", bytes)], check).await.unwrap()
}

async fn count(client: &Client) -> serde_json::Value {
    let found = client.query(&request("tags", "MATCH (t:Tag) RETURN COUNT(*) AS n")).await.unwrap();
    json!(found.rows[0][0])
}

#[tokio::test(flavor = "multi_thread")]
async fn a_small_file_that_unpacks_to_more_than_memory_is_refused() {
    let folder = folder();
    let service = Running::start(folder.path(), &["--loads-memory-mib", "200"]);
    let client = service.client();
    let text = "CREATE GRAPH tags ANY".to_string();
    client.query(&QueryRequest { text, ..Default::default() }).await.unwrap();

    let bomb = packed(40_000_000);
    assert!(bomb.len() < 200_000, "{} bytes", bomb.len());
    for check in [true, false] {
        let job = load(&client, &bomb, check).await;
        let job = client.wait(job.id).await.unwrap();
        assert_eq!(job.state, "failed", "{:?}", job.detail);
        let error = job.detail["error"].as_str().unwrap();
        assert!(
            error.contains("more memory than the 200 MiB") && error.contains("--loads-memory-mib"),
            "{error}"
        );
    }
    assert_eq!(count(&client).await, json!(0));
    // Unbounded it comes to gigabytes.
    let peak = peak_mib(service.id());
    assert!(peak < 1_000, "{peak} MiB");

    // A preview looks at the beginning only.
    let (status, rows) = preview(&client, &bomb).await;
    assert_eq!(status, 200, "{rows}");
    assert_eq!(rows[0]["rows"].as_array().unwrap().len(), 20);

    // What the refused loads held is free again, for several loads one after another and side by side.
    let small = packed(200_000);
    let mut jobs = vec![];
    for _ in 0..6 {
        jobs.push(load(&client, &small, false).await);
    }
    for job in &jobs {
        let job = client.wait(job.id).await.unwrap();
        assert_eq!(job.state, "done", "{:?}", job.detail);
    }
    assert_eq!(count(&client).await, json!(6 * 200_000));
}

async fn preview(client: &Client, bytes: &[u8]) -> (u16, serde_json::Value) {
    let file = reqwest::multipart::Part::bytes(bytes.to_vec()).file_name("tags.csv.gz");
    let form = reqwest::multipart::Form::new().text("mapping", MAPPING).part("tags.csv.gz", file);
    let url = format!("{}/v1/graphs/tags/loads/preview", client.url());
    let answer = reqwest::Client::new().post(url).multipart(form).send().await.unwrap();
    let status = answer.status().as_u16();
    (status, answer.json().await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn loads_wait_for_a_slot_and_can_be_cancelled_there() {
    let folder = folder();
    let service = Running::start(folder.path(), &["--concurrent-loads", "1"]);
    let client = service.client();
    let text = "CREATE GRAPH tags ANY".to_string();
    client.query(&QueryRequest { text, ..Default::default() }).await.unwrap();
    let rows = packed(3_000_000);
    let long = load(&client, &rows, false).await;
    let behind = load(&client, &packed(10), false).await;
    client.cancel(behind.id).await.unwrap();
    let behind = client.wait(behind.id).await.unwrap();
    assert_eq!(behind.state, "cancelled", "{:?}", behind.detail);
    let long = client.wait(long.id).await.unwrap();
    assert_eq!(long.state, "done", "{:?}", long.detail);
    assert_eq!(count(&client).await, json!(3_000_000));
}

/// Loads of one graph wait for each other, and keep no other graph's loads waiting meanwhile.
#[tokio::test(flavor = "multi_thread")]
async fn a_graph_with_many_loads_leaves_slots_to_others() {
    let folder = folder();
    let service = Running::start(folder.path(), &["--concurrent-loads", "2"]);
    let client = service.client();
    for graph in ["tags", "other"] {
        client.create_graph(graph, None).await.unwrap();
    }
    let long = load(&client, &packed(6_000_000), false).await;
    let mut behind = vec![];
    for _ in 0..3 {
        behind.push(load(&client, &packed(10), false).await);
    }
    let other = client.load_bytes("other", MAPPING, &[("tags.csv.gz", &packed(10))], false).await.unwrap();
    assert_eq!(client.wait(other.id).await.unwrap().state, "done");
    assert_eq!(client.job(long.id, 0).await.unwrap().state, "running", "the other came first");
    for job in behind.iter().chain([&long]) {
        assert_eq!(client.wait(job.id).await.unwrap().state, "done");
    }
    assert_eq!(count(&client).await, json!(6_000_030));
}
