//! `model diff` and `model apply`.

use std::io::Write;
use std::path::Path;

use anyhow::Context;
use graphodrome_client::{Client, ErrorWatch, QueryRequest};
use serde_json::{Value as Json, json};

use crate::findings::{labels_of, print_findings};

fn text(path: &Path) -> anyhow::Result<String> {
    std::fs::read_to_string(path).with_context(|| path.display().to_string())
}

async fn difference(client: &Client, graph: &str, model: &str) -> anyhow::Result<Json> {
    Ok(client.call("POST", &format!("/v1/graphs/{graph}/model/diff"), &json!({ "model": model })).await?)
}

fn entries(diff: &Json, field: &str) -> Vec<Json> {
    diff[field].as_array().cloned().unwrap_or_default()
}

fn say(differences: &[Json]) {
    for entry in differences {
        let lost = entry["lost"].as_u64().unwrap_or(0);
        let what =
            if entry["property"].is_null() || entry["query"].is_null() { "elements" } else { "values" };
        let lost = if lost > 0 { format!("   LOST: {lost} {what}") } else { String::new() };
        println!("  {}{lost}", entry["message"].as_str().unwrap_or_default());
    }
}

/// Prints what a model would change; an error where something stands in the way.
pub async fn diff(client: &Client, graph: &str, model: &Path, json: bool) -> anyhow::Result<()> {
    let diff = difference(client, graph, &text(model)?).await?;
    let (differences, obstacles) = (entries(&diff, "differences"), entries(&diff, "obstacles"));
    if json {
        println!("{}", serde_json::to_string_pretty(&diff)?);
    } else if differences.is_empty() && obstacles.is_empty() {
        println!("Nothing: the graph {graph} has this model.");
    } else {
        println!("what changes:");
        say(&differences);
        print_findings("obstacles", &diff["obstacles"]);
        if diff["changes_elements"] == true {
            println!("The elements change with it: the graph gets a new version.");
        }
    }
    anyhow::ensure!(obstacles.is_empty(), "the model cannot be applied before that is mended");
    Ok(())
}

pub async fn apply(
    client: &Client, graph: &str, model: &Path, lose_data: bool, save: Option<&Path>,
) -> anyhow::Result<()> {
    let model = text(model)?;
    let mut body = json!({ "model": model, "lose_data": lose_data });
    if let Some(folder) = save {
        let diff = difference(client, graph, &model).await?;
        // What was saved is what is lost: nothing may come between.
        body["version"] = diff["version"].clone();
        save_losses(client, graph, &diff, folder).await?;
    }
    let applied = client.call("POST", &format!("/v1/graphs/{graph}/model/apply"), &body).await?;
    say(&entries(&applied, "differences"));
    println!("The graph {graph} has its new model; it is at version {}.", applied["version"]);
    Ok(())
}

/// Everything that is lost as JSON Lines, a file for each loss.
async fn save_losses(client: &Client, graph: &str, diff: &Json, folder: &Path) -> anyhow::Result<()> {
    std::fs::create_dir_all(folder).with_context(|| folder.display().to_string())?;
    for entry in entries(diff, "differences") {
        let Some(query) = entry["query"].as_str() else { continue };
        let mut name = labels_of(&entry["labels"]).join("_");
        name.extend(entry["property"].as_str().map(|p| format!(".{p}")));
        let path = folder.join(format!("{}_{name}.jsonl", entry["element"].as_str().unwrap_or_default()));
        anyhow::ensure!(!path.exists(), "{} already exists; name another folder", path.display());
        let request =
            QueryRequest { text: query.into(), graph: Some(graph.into()), ..QueryRequest::default() };
        let mut rows = client.query_as(&request, "application/x-ndjson").await?;
        let mut file = std::fs::File::create(&path).with_context(|| path.display().to_string())?;
        let mut watch = ErrorWatch::default();
        while let Some(chunk) = rows.chunk().await? {
            watch.see(&chunk);
            file.write_all(&chunk).with_context(|| path.display().to_string())?;
        }
        watch.finish().with_context(|| format!("{} has not all that would be lost", path.display()))?;
        println!("saved {}", path.display());
    }
    Ok(())
}
