//! The page about slow queries: its numbers are those of its queries.

use std::collections::BTreeMap;

use graphodrome_client::QueryRequest;
use graphodrome_tests::*;
use serde_json::json;

use crate::{body, with};

/// The queries of the page on slow queries, each with its graph, its text and what is said of it.
fn cases_of_the_page() -> Vec<(String, String, Vec<String>)> {
    let page = std::fs::read_to_string(root().join("docs/slow-queries.md")).unwrap();
    let mut cases: Vec<(String, String, Vec<String>)> = vec![];
    let mut lines = page.lines();
    while let Some(line) = lines.next() {
        if let Some(graph) = line.strip_prefix("```gql ") {
            let text: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
            cases.push((graph.into(), text.join("\n"), vec![]));
        } else if let (Some(said), Some(case)) = (line.strip_prefix("> "), cases.last_mut()) {
            case.2.push(said.into());
        }
    }
    cases
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_on_slow_queries_says_what_its_queries_do() {
    let (data, tables) = (folder(), folder());
    let service = Running::start(data.path(), &["--slow-ms", "0"]);
    let client = service.client();
    load_demo(&client).await;
    // The graph with a hub is made as the page says.
    let out = tables.path().to_str().unwrap();
    let page = std::fs::read_to_string(root().join("docs/slow-queries.md")).unwrap();
    let made = page.lines().find(|line| line.starts_with("graphodrome generate")).unwrap();
    let arguments: Vec<&str> =
        made.split(' ').skip(1).map(|word| if word == "skewed" { out } else { word }).collect();
    stdout(&cli(&service.url, &arguments));
    let model = std::fs::read_to_string(tables.path().join("model.gql")).unwrap();
    client.query(&QueryRequest { text: model, ..QueryRequest::default() }).await.unwrap();
    load_mapping(&client, "random", &tables.path().join("load.toml")).await;

    let cases = cases_of_the_page();
    assert_eq!(cases.len(), 11);
    let mut rules: Vec<String> = vec![];
    for (graph, text, said) in cases {
        let graph = if graph == "skewed" { "random" } else { graph.as_str() };
        assert!(!said.is_empty(), "nothing is said of {text}");
        for said in said {
            let supposed: Vec<&str> = said.split('`').filter(|part| part.starts_with("CREATE ")).collect();
            let profile = client
                .call("POST", "/v1/profile", &with(body(graph, &text), json!({ "with": supposed })))
                .await
                .unwrap();
            let mut counted = BTreeMap::from([("edges looked at", 0), ("properties read", 0)]);
            let mut left = vec![profile["plan"].clone()];
            while let Some(operator) = left.pop() {
                let actual = &operator["actual"];
                *counted.get_mut("edges looked at").unwrap() += actual["edges_looked"].as_u64().unwrap();
                *counted.get_mut("properties read").unwrap() += actual["properties_read"].as_u64().unwrap();
                left.extend(operator["inputs"].as_array().unwrap().clone());
            }
            let (number, what) = said.split_once(' ').unwrap();
            let (_, found) = counted.iter().find(|(name, _)| what.starts_with(**name)).unwrap();
            assert_eq!(number.parse(), Ok(*found), "{said}\n{text}");
            // What a finding says stands there in its words.
            let findings = profile["findings"].as_array().unwrap();
            let told = said.split('`').nth(1).filter(|_| said.contains("(`"));
            if let Some(rule) = told {
                let finding = findings
                    .iter()
                    .find(|f| f["rule"] == rule)
                    .unwrap_or_else(|| panic!("no {rule}: {profile}"));
                let (_, words) = said.split_once("; ").unwrap();
                let words = words.split(" (`").next().unwrap();
                let message = finding["message"].as_str().unwrap();
                assert!(message.contains(words.split(" passed").next().unwrap()), "{message}\n{words}");
                rules.push(rule.into());
            }
        }
    }
    assert_eq!(rules, ["no-lookup", "any-direction", "hub", "many-paths", "late-condition", "cross-join"]);
    // Each second text is another way to ask: where the page says so the rows are the same.
    for (one, other) in [(1, 2), (7, 8)] {
        let all = cases_of_the_page();
        let rows = |place: usize| {
            let (client, text) = (&client, all[place].1.clone());
            async move {
                let mut rows: Vec<String> =
                    query(client, "averley", &text).await.rows.iter().map(|r| json!(r).to_string()).collect();
                rows.sort();
                rows
            }
        };
        assert_eq!(rows(one).await, rows(other).await, "{}", all[one].1);
    }
}
