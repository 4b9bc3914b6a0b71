//! The language reference keeps its word: every example in it runs on the demo graph.

#![allow(clippy::unwrap_used)]

use graphodrome_client::QueryRequest;
use graphodrome_tests::*;

#[tokio::test(flavor = "multi_thread")]
async fn every_example_of_the_language_reference_runs_on_the_demo_graph() {
    let text = std::fs::read_to_string(root().join("docs/language.md")).unwrap();
    let blocks: Vec<&str> = text.split("```").skip(1).step_by(2).collect();
    assert!(blocks.len() >= 6, "the examples are not found");
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let mut rows = 0;
    for block in blocks {
        let request =
            QueryRequest { text: block.into(), graph: Some("averley".into()), ..QueryRequest::default() };
        match client.query(&request).await {
            Ok(result) => rows += result.rows.len(),
            Err(error) => panic!("{block}\n{error}"),
        }
    }
    assert!(rows > 10, "the examples find hardly anything");
}
