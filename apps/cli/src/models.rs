//! `model`: draft from tables, show, check, diff, apply.

use std::fmt::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::Context;
use graphodrome_client::Client;
use graphodrome_database::schema_tables;
use graphodrome_formats::{DraftTable, Source, TableFormat, draft};
use serde_json::Value as Json;

use crate::arguments::{ModelCommand, ModelFormat};
use crate::evolve;
use crate::findings::{labels_of, print_findings};

pub async fn model(client: &Client, command: ModelCommand) -> anyhow::Result<()> {
    match command {
        ModelCommand::Draft { files, database, schema, name, out, force } => {
            let database = database.as_deref().map(|url| (url, schema.as_str()));
            draft_from(&files, database, &name, &out, force).await
        }
        ModelCommand::Show { graph, format } => show(client, &graph, format).await,
        ModelCommand::Check { graph, model, json } => check(client, &graph, model.as_deref(), json).await,
        ModelCommand::Analyze { graph, json } => analyze(client, &graph, json).await,
        ModelCommand::Diff { graph, model, json } => evolve::diff(client, &graph, &model, json).await,
        ModelCommand::Apply { graph, model, lose_data, save } => {
            evolve::apply(client, &graph, &model, lose_data, save.as_deref()).await
        }
    }
}

async fn draft_from(
    files: &[PathBuf], database: Option<(&str, &str)>, name: &str, out: &Path, force: bool,
) -> anyhow::Result<()> {
    let targets = [out.join("model.gql"), out.join("load.toml")];
    if let Some(there) = targets.iter().find(|path| path.exists())
        && !force
    {
        anyhow::bail!("{} already exists; --force replaces it", there.display());
    }
    let out_full = std::path::absolute(out)?;
    let mut tables = vec![];
    for file in files {
        let format = TableFormat::of_name(&file.to_string_lossy()).unwrap_or(TableFormat::Csv);
        let source = Source::Bytes(std::fs::read(file).with_context(|| file.display().to_string())?);
        let full = std::path::absolute(file)?;
        // The mapping names files as they are seen from where it lies.
        let named = relative(&out_full, &full);
        tables.push(DraftTable { file: named, format, source: Arc::new(source), declared: None });
    }
    // A database's tables are written beside the draft, so that it can be loaded as it stands.
    let mut written = vec![];
    if let Some((url, schema)) = database {
        let file_of = |table: &str| format!("tables/{}.csv", table.replace(['/', '\\'], "_"));
        for table in schema_tables(url, schema, &file_of).await? {
            let file = file_of(&table.name);
            if !table.csv.iter().skip_while(|b| **b != b'\n').any(|b| !b.is_ascii_whitespace()) {
                println!("{schema}.{} has no row and is left out", table.name);
                continue;
            }
            written.push((out.join(&file), table.csv.clone()));
            let source = Arc::new(Source::Bytes(table.csv));
            tables.push(DraftTable {
                file,
                format: TableFormat::Csv,
                source,
                declared: Some(table.declared),
            });
        }
        if let Some((there, _)) = written.iter().find(|(path, _)| path.exists())
            && !force
        {
            anyhow::bail!("{} already exists; --force replaces it", there.display());
        }
    }
    anyhow::ensure!(!tables.is_empty(), "there is no table to draft from");
    let draft = draft(name, &tables, u64::MAX)?;
    std::fs::create_dir_all(out).with_context(|| out.display().to_string())?;
    for (path, csv) in &written {
        std::fs::create_dir_all(out.join("tables")).with_context(|| out.display().to_string())?;
        std::fs::write(path, csv).with_context(|| path.display().to_string())?;
    }
    for (path, text) in targets.iter().zip([&draft.model, &draft.mapping]) {
        std::fs::write(path, text).with_context(|| path.display().to_string())?;
    }
    let (model, mapping) = (targets[0].display(), targets[1].display());
    println!(
        "{} node types and {} edge types from {} tables",
        draft.node_types,
        draft.edge_types,
        tables.len()
    );
    if !draft.remarks.is_empty() {
        println!("\nTo look at:");
        draft.remarks.iter().for_each(|remark| println!("  - {remark}"));
    }
    println!("\nRead and change {model} and {mapping}, then:\n");
    println!("  graphodrome query -f {model}\n  graphodrome load {mapping}");
    Ok(())
}

/// `file` as seen from `folder`; both absolute.
fn relative(folder: &Path, file: &Path) -> String {
    let (from, to): (Vec<_>, Vec<_>) = (folder.components().collect(), file.components().collect());
    let same = from.iter().zip(&to).take_while(|(a, b)| a == b).count();
    let up = from[same..].iter().map(|_| "..".to_string());
    let down = to[same..].iter().map(|c| c.as_os_str().to_string_lossy().into_owned());
    up.chain(down).collect::<Vec<_>>().join("/")
}

async fn show(client: &Client, graph: &str, format: ModelFormat) -> anyhow::Result<()> {
    let path = format!("/v1/graphs/{graph}/model");
    if format == ModelFormat::Svg {
        print!("{}", client.get_as(&path, "image/svg+xml").await?);
        return Ok(());
    }
    let model = client.get(&path).await?;
    match format {
        ModelFormat::Gql => {
            if model["closed"] == false {
                println!("// The graph is open: this is what is in it.");
            }
            println!("{}", model["text"].as_str().unwrap_or_default().trim_end());
            labels_of(&model["lookups"]).iter().for_each(|statement| println!("{statement};"));
        }
        ModelFormat::Json => println!("{}", serde_json::to_string_pretty(&model)?),
        ModelFormat::Mermaid => print!("{}", mermaid(&model)),
        ModelFormat::Svg => {}
    }
    Ok(())
}

/// Which node types an end of an edge type takes, by their places.
fn fitting(nodes: &[&Json], end: &Json) -> Vec<usize> {
    let sets: Vec<Vec<&str>> = end.as_array().into_iter().flatten().map(labels_of).collect();
    let fits = |node: &Json| {
        let labels = labels_of(&node["labels"]);
        sets.iter().any(|set| set.iter().all(|label| labels.contains(label)))
    };
    (0..nodes.len()).filter(|&place| fits(nodes[place])).collect()
}

fn list(model: &Json, field: &str) -> Vec<Json> {
    model[field].as_array().cloned().unwrap_or_default()
}

/// A flowchart in Mermaid's notation: node types with their keys and counts, edges between them.
fn mermaid(model: &Json) -> String {
    let mut out = String::from("flowchart LR\n");
    let nodes = list(model, "node_types");
    let nodes: Vec<&Json> = nodes.iter().collect();
    for (place, node) in nodes.iter().enumerate() {
        let key = labels_of(&node["key"]).join(", ");
        let key = if key.is_empty() { key } else { format!("<br/>key {key}") };
        let labels = labels_of(&node["labels"]).join("&");
        let _ = writeln!(out, "  n{place}[\"{labels}<br/>{}{key}\"]", node["count"]);
    }
    for edge in list(model, "edge_types") {
        let arrow = if edge["directed"] == true { "-->" } else { "---" };
        for from in fitting(&nodes, &edge["source"]) {
            for to in fitting(&nodes, &edge["target"]) {
                let _ = writeln!(out, "  n{from} {arrow}|{}| n{to}", labels_of(&edge["labels"]).join("&"));
            }
        }
    }
    out
}

async fn analyze(client: &Client, graph: &str, json: bool) -> anyhow::Result<()> {
    let done = client.call("POST", &format!("/v1/graphs/{graph}/analyze"), &serde_json::json!({})).await?;
    if json {
        println!("{}", serde_json::to_string_pretty(&done)?);
        return Ok(());
    }
    let (nodes, edges) = (&done["nodes"], &done["edges"]);
    match done["refreshed"] == true {
        true => println!(
            "Statistics of {nodes} nodes and {edges} edges were taken in {:.2} s; {} elements had changed since they were taken last.",
            done["milliseconds"].as_f64().unwrap_or_default() / 1e3,
            done["changed"]
        ),
        false => println!("Statistics are of all {nodes} nodes and {edges} edges already."),
    }
    Ok(())
}

async fn check(client: &Client, graph: &str, model: Option<&Path>, json: bool) -> anyhow::Result<()> {
    let text = match model {
        Some(path) => Some(std::fs::read_to_string(path).with_context(|| path.display().to_string())?),
        None => None,
    };
    let body = serde_json::json!({ "model": text });
    let report = client.call("POST", &format!("/v1/graphs/{graph}/model/check"), &body).await?;
    if json {
        println!("{}", serde_json::to_string_pretty(&report)?);
    } else {
        for (title, field) in [("breaks the model", "violations"), ("to look at", "findings")] {
            print_findings(title, &report[field]);
        }
        let broken = report["violations"].as_array().is_some_and(|list| !list.is_empty());
        let nothing = if broken { "" } else { "Nothing breaks the model: " };
        println!("{nothing}{} nodes and {} edges looked at", report["nodes"], report["edges"]);
    }
    let broken = report["violations"].as_array().is_some_and(|list| !list.is_empty());
    anyhow::ensure!(!broken, "the graph breaks the model");
    Ok(())
}
