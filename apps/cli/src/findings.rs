//! Prints obstacles and violations of models.

use serde_json::Value as Json;

pub(crate) fn labels_of(value: &Json) -> Vec<&str> {
    value.as_array().into_iter().flatten().filter_map(Json::as_str).collect()
}

/// Findings under a title: how often, such as, and the query that finds all of them.
pub(crate) fn print_findings(title: &str, findings: &Json) {
    let list: Vec<&Json> = findings.as_array().into_iter().flatten().collect();
    if !list.is_empty() {
        println!("{title}:");
    }
    for entry in list {
        println!("  {} x {}", entry["count"], entry["message"].as_str().unwrap_or_default());
        let examples = labels_of(&entry["examples"]);
        if !examples.is_empty() {
            println!("      such as {}", examples.join(", "));
        }
        if let Some(query) = entry["query"].as_str() {
            println!("      {query}");
        }
    }
}
