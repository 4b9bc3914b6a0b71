//! `graph`: list, show, create, drop.

use std::io::IsTerminal;

use comfy_table::CellAlignment;
use graphodrome_client::Client;

use crate::arguments::GraphCommand;
use crate::{table, versions};

pub async fn graph(client: &Client, command: GraphCommand) -> anyhow::Result<()> {
    match command {
        GraphCommand::List => {
            let graphs = client.get("/v1/graphs").await?;
            let mut shown = table::plain(&["graph", "type", "version", "nodes", "edges"]);
            for g in graphs.as_array().into_iter().flatten() {
                let kind = match (g["closed"].as_bool(), g["graph_type"].as_str()) {
                    _ if g["offline"].is_string() => "offline".into(),
                    (Some(true), Some(name)) => name.to_string(),
                    (Some(true), None) => "closed".into(),
                    _ => "open".into(),
                };
                shown.add_row(vec![
                    g["name"].as_str().unwrap_or("").to_string(),
                    kind,
                    g["version"].to_string(),
                    g["nodes"].to_string(),
                    g["edges"].to_string(),
                ]);
            }
            for column in 2..5 {
                if let Some(column) = shown.column_mut(column) {
                    column.set_cell_alignment(CellAlignment::Right);
                }
            }
            if graphs.as_array().is_some_and(Vec::is_empty) {
                println!("There is no graph yet. CREATE GRAPH makes one: graphodrome graph create NAME");
            } else {
                println!("{shown}");
            }
            for g in graphs.as_array().into_iter().flatten() {
                if let (Some(name), Some(reason)) = (g["name"].as_str(), g["offline"].as_str()) {
                    println!("{name} is offline: {reason}");
                }
            }
        }
        GraphCommand::Show { name } => {
            let g = client.get(&format!("/v1/graphs/{name}")).await?;
            println!("graph {name}, version {}: {} nodes, {} edges", g["version"], g["nodes"], g["edges"]);
            let mut shown = table::plain(&["what", "labels", "count"]);
            for (what, list) in [("node", &g["node_labels"]), ("edge", &g["edge_labels"])] {
                for entry in list.as_array().into_iter().flatten() {
                    let labels: Vec<&str> =
                        entry["labels"].as_array().into_iter().flatten().filter_map(|l| l.as_str()).collect();
                    shown.add_row(vec![what.to_string(), labels.join("&"), entry["count"].to_string()]);
                }
            }
            if let Some(column) = shown.column_mut(2) {
                column.set_cell_alignment(CellAlignment::Right);
            }
            println!("{shown}");
            for key in g["keys"].as_array().into_iter().flatten().filter_map(|k| k.as_str()) {
                println!("key over {key}");
            }
            let mib = |field: &str| g[field].as_f64().unwrap_or(0.0) / (1 << 20) as f64;
            println!(
                "memory: columns {:.1} MiB, adjacency {:.1} MiB, key indexes {:.1} MiB",
                mib("column_bytes"),
                mib("adjacency_bytes"),
                mib("index_bytes")
            );
            if let Some(model) = g["model"].as_str() {
                println!("\n{model}");
            }
        }
        GraphCommand::Create { name, graph_type } => {
            client.create_graph(&name, graph_type.as_deref()).await?;
            println!("graph {name} created");
        }
        GraphCommand::Empty { name, confirm } => {
            confirmed(&name, confirm, "emptied")?;
            client.empty_graph(&name).await?;
            println!("graph {name} is empty");
        }
        GraphCommand::Drop { name, confirm } => {
            confirmed(&name, confirm, "dropped")?;
            client.drop_graph(&name).await?;
            println!("graph {name} dropped");
        }
        GraphCommand::History { name, limit, before, json } => {
            versions::history(client, &name, limit, before, json).await?;
        }
        GraphCommand::Diff { name, from, to, limit, json } => {
            versions::diff(client, &name, (&from, to.as_deref()), limit, json).await?;
        }
        GraphCommand::Restore { name, to } => versions::restore(client, &name, &to).await?,
        GraphCommand::Verify { name, json } => versions::verify(client, &name, json).await?,
        GraphCommand::Keep { name, versions, days } => versions::keep(client, &name, versions, days).await?,
    }
    Ok(())
}

/// The name once more: given, or typed on a terminal.
fn confirmed(name: &str, given: Option<String>, what: &str) -> anyhow::Result<()> {
    let said = match given {
        Some(said) => said,
        None if std::io::stdin().is_terminal() => {
            eprint!("Everything in {name} will be gone. Its name once more: ");
            let mut line = String::new();
            std::io::stdin().read_line(&mut line)?;
            line.trim().to_string()
        }
        None => anyhow::bail!("--confirm {name} is needed; nothing was {what}"),
    };
    anyhow::ensure!(said == name, "the name was given as '{said}', not {name}; nothing was {what}");
    Ok(())
}
