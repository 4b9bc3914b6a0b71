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

/// Names of functions and aggregates: what the reference lists, the console explains, and the other way round.
#[test]
fn the_console_explains_the_functions_of_the_reference() {
    let reference = std::fs::read_to_string(root().join("docs/language.md")).unwrap();
    let help = std::fs::read_to_string(root().join("apps/console/src/shared/functions.ts")).unwrap();
    let words = |text: &str| -> Vec<String> {
        let words = text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
        let is_name = |w: &&str| w.len() > 1 && w.starts_with(|c: char| c.is_ascii_uppercase());
        let all_capitals =
            |w: &&str| w.chars().all(|c| c == '_' || c.is_ascii_digit() || c.is_ascii_uppercase());
        words.filter(is_name).filter(all_capitals).map(str::to_string).collect()
    };
    let listed = reference.split("\nFunctions: ").nth(1).unwrap().split("\n\n").next().unwrap();
    let explained: Vec<&str> = help
        .split("const WORDS")
        .next()
        .unwrap()
        .lines()
        .filter_map(|line| line.trim().strip_prefix("[\"")?.split('"').next())
        .collect();
    assert!(explained.len() > 70, "{}", explained.len());
    let parts_of_calls = ["LEADING", "FROM", "FOR", "IN", "DISTINCT", "SQL"];
    for name in words(listed).iter().filter(|name| !parts_of_calls.contains(&name.as_str())) {
        assert!(explained.contains(&name.as_str()), "functions.ts does not explain {name}");
    }
    let all = words(&reference);
    for name in explained {
        assert!(all.iter().any(|word| word == name), "docs/language.md does not name {name}");
    }
}

/// The console's types are made from the bodies that the interface describes: the file that they are made from is the
/// present one.
#[test]
fn the_description_that_the_consoles_types_are_made_from_is_the_present_one() {
    let place = root().join("apps/console/schemas.json");
    let mut document = serde_json::to_value(graphodrome_service::openapi()).unwrap();
    document["paths"] = serde_json::json!({});
    document.as_object_mut().unwrap().retain(|name, _| name != "tags");
    let now = format!("{}\n", serde_json::to_string_pretty(&document).unwrap());
    if std::env::var("ACCEPT").is_ok() {
        std::fs::write(&place, &now).unwrap();
    }
    let kept = std::fs::read_to_string(&place).unwrap_or_default();
    assert!(
        kept == now,
        "apps/console/schemas.json is old: ACCEPT=1 cargo test --release --test documents, then npm run types in apps/console"
    );
}
