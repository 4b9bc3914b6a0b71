//! Spans of queries, as a collector gets them.

use std::io::{BufRead, BufReader, Read, Write};

use graphodrome_tests::*;
use serde_json::{Value, json};

use crate::{body, chain};

/// What is posted to a collector of traces, body by body.
fn collector() -> (String, std::sync::mpsc::Receiver<Value>) {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut reader = BufReader::new(stream.unwrap());
            loop {
                let (mut line, mut length, mut path) = (String::new(), 0, String::new());
                while reader.read_line(&mut line).is_ok_and(|read| read > 2) {
                    let lower = line.to_ascii_lowercase();
                    if let Some(text) = lower.strip_prefix("content-length:") {
                        length = text.trim().parse().unwrap();
                    }
                    if lower.starts_with("post ") {
                        path = line.split(' ').nth(1).unwrap().to_string();
                    }
                    line.clear();
                }
                if length == 0 {
                    break;
                }
                let mut body = vec![0; length];
                reader.read_exact(&mut body).unwrap();
                assert_eq!(path, "/v1/traces");
                reader.get_mut().write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\n{}").unwrap();
                if sender.send(serde_json::from_slice(&body).unwrap()).is_err() {
                    return;
                }
            }
        }
    });
    (url, receiver)
}

#[tokio::test(flavor = "multi_thread")]
async fn spans_of_queries_go_to_a_collector() {
    let (url, collected) = collector();
    let data = folder();
    let service = Running::start(data.path(), &["--otlp-url", &url, "--slow-ms", "0"]);
    let client = service.client();
    chain(&client, "g", 50).await;
    let asked = "MATCH (a:N {n: 3})-[:TO]->(b) RETURN b.n AS n";
    let parent = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";
    let ask = |parent: &str| {
        let request = reqwest::Client::new()
            .post(format!("{}/v1/query", service.url))
            .header("traceparent", parent)
            .json(&body("g", asked));
        async move { request.send().await.unwrap().json::<Value>().await.unwrap() }
    };
    // One whose trace is not recorded, then one whose is: the first leaves nothing.
    assert_eq!(ask(&parent.replace("-01", "-00")).await["rows"], json!([[4], [5]]));
    assert_eq!(ask(parent).await["rows"], json!([[4], [5]]));
    let mut spans: Vec<Value> = vec![];
    let of_trace = |spans: &[Value]| {
        let own = |span: &&Value| span["traceId"] == "4bf92f3577b34da6a3ce929d0e0e4736";
        spans.iter().filter(own).cloned().collect::<Vec<_>>()
    };
    while of_trace(&spans).is_empty() {
        let body = collected.recv_timeout(std::time::Duration::from_secs(60)).unwrap();
        assert_eq!(
            body["resourceSpans"][0]["resource"]["attributes"][0]["value"]["stringValue"],
            "graphodrome"
        );
        spans.extend(body["resourceSpans"][0]["scopeSpans"][0]["spans"].as_array().unwrap().clone());
    }
    let own = of_trace(&spans);
    let root = &own[0];
    assert_eq!(
        (&root["parentSpanId"], &root["name"], &root["kind"]),
        (&json!("00f067aa0ba902b7"), &json!("query g"), &json!(2))
    );
    let attribute = |span: &Value, key: &str| {
        let all = span["attributes"].as_array().unwrap().clone();
        all.into_iter().find(|a| a["key"] == key).map(|a| a["value"].clone()).unwrap_or_default()
    };
    assert_eq!(attribute(root, "db.query.text"), json!({ "stringValue": asked }));
    assert_eq!(attribute(root, "db.response.returned_rows"), json!({ "intValue": "2" }));
    // Operators hang together below it, each within the one above.
    let ids: Vec<&Value> = own.iter().map(|span| &span["spanId"]).collect();
    let nanos = |span: &Value, field: &str| span[field].as_str().unwrap().parse::<u128>().unwrap();
    assert!(own.len() > 3, "{own:?}");
    for span in &own[1..] {
        let above = own.iter().find(|other| other["spanId"] == span["parentSpanId"]).unwrap();
        assert!(ids.contains(&&span["parentSpanId"]));
        assert!(nanos(span, "startTimeUnixNano") >= nanos(above, "startTimeUnixNano"));
        assert!(nanos(span, "endTimeUnixNano") <= nanos(above, "endTimeUnixNano") + 1_000, "{span}\n{above}");
    }
    assert!(own.iter().any(|span| span["name"] == "FollowEdges"), "{own:?}");
    // Queries were traced once, with the sampled parent; brief ones of nobody's trace are not.
    assert_eq!(own.iter().filter(|span| span["name"] == "query g").count(), 1);
}
