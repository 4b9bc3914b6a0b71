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

/// Blocks of the page with its examples, each with how many rows it says there are.
fn examples(text: &str) -> Vec<(&str, Option<usize>)> {
    let blocks = text.split("```").skip(1).step_by(2);
    let rows = |block: &str| block.trim().rsplit_once("-- rows: ").and_then(|(_, n)| n.parse().ok());
    blocks.map(|block| (block, rows(block))).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_feature_has_an_example_that_gives_what_it_says() {
    let place = root().join("docs/examples.md");
    let text = std::fs::read_to_string(&place).unwrap();
    let examples = examples(&text);
    // Every feature that is there, all or in part.
    let reference = std::fs::read_to_string(root().join("docs/language.md")).unwrap();
    let shown: Vec<&str> = examples
        .iter()
        .flat_map(|(block, _)| block.lines().filter_map(|line| line.strip_prefix("-- ")))
        .flat_map(|line| line.split(':').next().unwrap_or_default().split(", "))
        .collect();
    let mut missing = vec![];
    for line in reference.lines().filter(|line| line.starts_with("| G")) {
        let cells: Vec<&str> = line.split('|').map(str::trim).collect();
        if (cells[3].starts_with("yes") || cells[3].starts_with("partly")) && !shown.contains(&cells[1]) {
            missing.push(cells[1]);
        }
    }
    assert_eq!(missing, Vec::<&str>::new(), "features without an example");

    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let mut wrong = vec![];
    for (block, rows) in examples {
        let request =
            QueryRequest { text: block.into(), graph: Some("averley".into()), ..QueryRequest::default() };
        match client.query(&request).await {
            Ok(result) if Some(result.rows.len()) == rows => {}
            Ok(result) => {
                wrong.push(format!("{block}\nrows: {}\n{:?}", result.rows.len(), result.rows.first()))
            }
            Err(error) => wrong.push(format!("{block}\n{error}")),
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}
