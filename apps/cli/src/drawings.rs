//! Saved drawings, and how labels look in all drawings, as a part of backups.

use std::path::Path;

use anyhow::Context;
use graphodrome_client::{Client, path_of};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// What a backup has of one graph beside the graph itself.
#[derive(Serialize, Deserialize)]
struct OfGraph {
    graph: String,
    looks: Value,
    /// Each as the service gave it.
    drawings: Vec<Value>,
}

fn drawings_path(graph: &str, name: Option<&str>) -> String {
    let parts: Vec<&str> = ["v1", "graphs", graph, "drawings"].into_iter().chain(name).collect();
    path_of(&parts, &[])
}

fn looks_path(graph: &str) -> String {
    path_of(&["v1", "graphs", graph, "looks"], &[])
}

/// The drawings and looks of these graphs, as the text of a backup's file.
pub async fn whole(client: &Client, graphs: &[String]) -> anyhow::Result<String> {
    let mut all = vec![];
    for graph in graphs {
        let looks = client.get(&looks_path(graph)).await?;
        let mut drawings = vec![];
        for known in client.get(&drawings_path(graph, None)).await?.as_array().into_iter().flatten() {
            let name = known["name"].as_str().unwrap_or_default();
            drawings.push(client.get(&drawings_path(graph, Some(name))).await?);
        }
        all.push(OfGraph { graph: graph.clone(), looks, drawings });
    }
    Ok(serde_json::to_string(&all)?)
}

/// Saves the drawings whose names are free, and the looks of graphs that have none. Graphs that are not there are left
/// out: they were not restored.
pub async fn restore_file(client: &Client, path: &Path) -> anyhow::Result<()> {
    if !path.exists() {
        return Ok(());
    }
    let text = std::fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))?;
    let all: Vec<OfGraph> =
        serde_json::from_str(&text).with_context(|| format!("{} is no list of drawings", path.display()))?;
    let there = client.get("/v1/graphs").await?;
    let mut restored = 0;
    for OfGraph { graph, looks, drawings } in all {
        if !there.as_array().into_iter().flatten().any(|known| known["name"] == *graph) {
            continue;
        }
        let now = client.get(&looks_path(&graph)).await?;
        if now["labels"].as_object().is_none_or(|labels| labels.is_empty()) {
            client.put(&looks_path(&graph), &looks).await?;
        }
        let taken = client.get(&drawings_path(&graph, None)).await?;
        for drawing in drawings {
            let name = drawing["name"].as_str().unwrap_or_default();
            if taken.as_array().into_iter().flatten().any(|known| known["name"] == name) {
                continue;
            }
            client.put(&drawings_path(&graph, Some(name)), &json!({ "content": drawing["content"] })).await?;
            restored += 1;
        }
    }
    if restored > 0 {
        println!("{restored} {} restored", if restored == 1 { "drawing" } else { "drawings" });
    }
    Ok(())
}
