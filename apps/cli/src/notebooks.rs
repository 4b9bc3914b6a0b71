//! `notebook`: texts and queries with what came of them.

use std::path::Path;

use anyhow::Context;
use graphodrome_client::{Client, QueryRequest, path_of};
use graphodrome_formats::{CellColumn, CellResult, Notebook, NotebookCellKind};
use serde::Deserialize;
use serde_json::value::RawValue;

use crate::arguments::{NotebookCommand, NotebookFormat};
use crate::table;

const JSON: &str = "application/json";
/// Rows of a result that a notebook keeps.
const KEPT: usize = 200;

fn count(n: usize, what: &str) -> String {
    format!("{n} {what}{}", if n == 1 { "" } else { "s" })
}

/// Beside its cells.
#[derive(Deserialize)]
struct Whole {
    revision: i64,
}

#[derive(Deserialize)]
struct Answer {
    columns: Vec<CellColumn>,
    rows: Vec<Vec<Box<RawValue>>>,
    summary: Summary,
}

#[derive(Deserialize)]
struct Summary {
    rows: u64,
    graph: Option<String>,
    version: Option<u64>,
}

pub async fn notebook(client: &Client, command: NotebookCommand) -> anyhow::Result<()> {
    match command {
        NotebookCommand::List => {
            let all = client.get("/v1/notebooks").await?;
            let mut shown = table::plain(&["name", "cells", "saved", "times"]);
            for value in all.as_array().into_iter().flatten() {
                let text = |field: &str| value[field].as_str().unwrap_or("").to_string();
                let changed = text("changed");
                let changed = changed.get(..19).unwrap_or(&changed).replace('T', " ");
                let (cells, saves) = (value["cell_count"].to_string(), value["revision"].to_string());
                shown.add_row(vec![text("name"), cells, changed, saves]);
            }
            println!("{shown}");
        }
        NotebookCommand::Export { name, format, out } => {
            let ending = out.as_ref().and_then(|file| file.extension());
            let by_ending = match ending.is_some_and(|e| e == "ipynb") {
                true => NotebookFormat::Ipynb,
                false => NotebookFormat::Markdown,
            };
            let format = match format.unwrap_or(by_ending) {
                NotebookFormat::Markdown => "markdown",
                NotebookFormat::Ipynb => "ipynb",
            };
            let path = path_of(&["v1", "notebooks", &name, "file"], &[("format", format)]);
            let text = client.get_as(&path, "*/*").await?;
            match out {
                None => print!("{text}"),
                Some(file) => {
                    std::fs::write(&file, text)
                        .with_context(|| format!("{} cannot be written", file.display()))?;
                    println!("wrote {}", file.display());
                }
            }
        }
        NotebookCommand::Run { name, graph } => run(client, &name, &graph).await?,
        NotebookCommand::Remove { name } => {
            client.delete(&path_of(&["v1", "notebooks", &name], &[])).await?;
            println!("removed {name}");
        }
    }
    Ok(())
}

async fn run(client: &Client, name: &str, graph: &str) -> anyhow::Result<()> {
    let path = path_of(&["v1", "notebooks", name], &[]);
    let text = client.get_as(&path, JSON).await?;
    let Whole { revision } = serde_json::from_str(&text)?;
    let mut notebook: Notebook = serde_json::from_str(&text)?;
    let mut queries = 0;
    for (i, cell) in notebook.cells.iter_mut().enumerate() {
        if cell.kind == NotebookCellKind::Text || cell.text.trim().is_empty() {
            continue;
        }
        queries += 1;
        let parameters = cell.parameters.iter().map(|(name, value)| {
            let text = value.as_str().map_or_else(|| value.to_string(), str::to_string);
            crate::queries::parameter(&format!("{name}={text}"))
        });
        let request = QueryRequest {
            text: cell.text.clone(),
            graph: Some(graph.to_string()),
            parameters: parameters.collect::<anyhow::Result<_>>()?,
            ..QueryRequest::default()
        };
        let answer = client.query_as(&request, JSON).await.with_context(|| format!("cell {}", i + 1))?;
        let mut answer: Answer = serde_json::from_str(&answer.text().await?)
            .with_context(|| format!("the answer to cell {}", i + 1))?;
        answer.rows.truncate(KEPT);
        println!("cell {}: {}", i + 1, count(answer.summary.rows as usize, "row"));
        cell.drawing = None;
        cell.result = Some(CellResult {
            graph: answer.summary.graph.unwrap_or_else(|| graph.to_string()),
            version: answer.summary.version.unwrap_or(0),
            at: chrono::Utc::now().to_rfc3339_opts(chrono::SecondsFormat::Secs, true),
            row_count: answer.summary.rows,
            columns: answer.columns,
            rows: answer.rows,
        });
    }
    let cells = serde_json::to_string(&notebook.cells)?;
    client.put_text(&path, format!("{{\"revision\":{revision},\"cells\":{cells}}}")).await?;
    println!(
        "saved {name} with what came of {}",
        if queries == 1 { "1 query".into() } else { format!("{queries} queries") }
    );
    Ok(())
}

/// All notebooks, each as the JSON that the service wrote.
pub async fn whole(client: &Client) -> anyhow::Result<Vec<String>> {
    let all = client.get("/v1/notebooks").await?;
    let mut found = vec![];
    for value in all.as_array().into_iter().flatten() {
        let name = value["name"].as_str().unwrap_or_default();
        found.push(client.get_as(&path_of(&["v1", "notebooks", name], &[]), JSON).await?);
    }
    Ok(found)
}

#[derive(Deserialize)]
struct Kept {
    name: String,
    cells: Box<RawValue>,
}

/// Saves the notebooks whose names are free.
pub async fn restore_file(client: &Client, path: &Path) -> anyhow::Result<()> {
    if !path.exists() {
        return Ok(());
    }
    let text = std::fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))?;
    let (restored, kept) = restore(client, &text).await?;
    if restored > 0 {
        println!("{} restored", count(restored, "notebook"));
    }
    if kept > 0 {
        println!("left as they are, being there already: {}", count(kept, "notebook"));
    }
    Ok(())
}

/// Saves those whose names are free; how many they were, and how many were there.
async fn restore(client: &Client, text: &str) -> anyhow::Result<(usize, usize)> {
    let kept: Vec<Kept> = serde_json::from_str(text)?;
    let there = client.get("/v1/notebooks").await?;
    let is_there =
        |name: &str| there.as_array().into_iter().flatten().any(|n| n["name"].as_str() == Some(name));
    let (mut restored, mut left) = (0, 0);
    for Kept { name, cells } in kept {
        if is_there(&name) {
            left += 1;
            continue;
        }
        let path = path_of(&["v1", "notebooks", &name], &[]);
        client.put_text(&path, format!("{{\"cells\":{}}}", cells.get())).await?;
        restored += 1;
    }
    Ok((restored, left))
}
