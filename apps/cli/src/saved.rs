//! `saved`: queries kept under names.

use std::path::{Path, PathBuf};

use anyhow::Context;
use graphodrome_client::Client;
use graphodrome_formats::SavedQuery;
use serde_json::{Map, Value, json};

use crate::arguments::SavedCommand;
use crate::{procedures, queries, table};

fn counted(queries: usize) -> String {
    format!("{queries} {}", if queries == 1 { "query" } else { "queries" })
}

/// What a library carries beside its queries.
fn with_procedures(count: usize) -> String {
    match count {
        0 => String::new(),
        1 => " and 1 procedure".into(),
        many => format!(" and {many} procedures"),
    }
}

fn query_of(value: &Value) -> SavedQuery {
    let text = |field: &str| value[field].as_str().unwrap_or("").to_string();
    SavedQuery {
        name: text("name"),
        folder: text("folder"),
        description: text("description"),
        parameters: serde_json::from_value(value["parameters"].clone()).unwrap_or_default(),
        text: text("text"),
    }
}

/// The query of a file; what its header does not say is the file's name and folder.
fn read(file: &Path, root: Option<&Path>) -> anyhow::Result<SavedQuery> {
    let shown = file.display();
    let text = std::fs::read_to_string(file).with_context(|| format!("{shown} cannot be read"))?;
    let mut query = SavedQuery::from_text(&text).map_err(|e| anyhow::anyhow!("{shown}: {e}"))?;
    if query.name.is_empty() {
        query.name = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    }
    if let (true, Some(root)) = (query.folder.is_empty(), root) {
        let folder = file.parent().and_then(|p| p.strip_prefix(root).ok()).unwrap_or(Path::new(""));
        query.folder =
            folder.components().map(|c| c.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/");
    }
    query.check().map_err(|e| anyhow::anyhow!("{shown}: {e}"))?;
    Ok(query)
}

async fn save(client: &Client, query: &SavedQuery) -> anyhow::Result<()> {
    let body = json!({
        "folder": query.folder, "description": query.description,
        "parameters": query.parameters, "text": query.text
    });
    client.put(&format!("/v1/saved-queries/{}", query.name), &body).await?;
    Ok(())
}

fn files(folder: &Path) -> anyhow::Result<Vec<PathBuf>> {
    let mut found = vec![];
    let entries =
        std::fs::read_dir(folder).with_context(|| format!("{} cannot be read", folder.display()))?;
    for entry in entries {
        let path = entry?.path();
        if path.is_dir() {
            found.extend(files(&path)?);
        } else if path.extension().is_some_and(|e| e == "gql") {
            found.push(path);
        }
    }
    found.sort();
    Ok(found)
}

pub async fn saved(client: &Client, command: SavedCommand) -> anyhow::Result<()> {
    match command {
        SavedCommand::List => {
            let all = client.get("/v1/saved-queries").await?;
            let mut shown = table::plain(&["name", "folder", "parameters", "description"]);
            for value in all.as_array().into_iter().flatten() {
                let query = query_of(value);
                let parameters: Vec<String> =
                    query.parameters.iter().map(|p| format!("${} {}", p.name, p.value_type)).collect();
                let first = query.description.lines().next().unwrap_or("").to_string();
                shown.add_row(vec![query.name, query.folder, parameters.join(", "), first]);
            }
            println!("{shown}");
        }
        SavedCommand::Show { name } => {
            print!("{}", query_of(&client.get(&format!("/v1/saved-queries/{name}")).await?).to_text());
        }
        SavedCommand::Add { file } => {
            let query = read(&file, None)?;
            save(client, &query).await?;
            println!("saved {}", query.name);
        }
        SavedCommand::Run { name, graph, parameters } => {
            let mut body = Map::new();
            let query = query_of(&client.get(&format!("/v1/saved-queries/{name}")).await?);
            for given in &parameters {
                let (parameter, text) = given
                    .split_once('=')
                    .with_context(|| format!("the parameter {given} has no value: write NAME=VALUE"))?;
                let parameter = parameter.trim_start_matches('$');
                // Texts are read as the declared type by the service; literals of the language as such.
                let declared = query.parameters.iter().find(|p| p.name == parameter);
                let is_text =
                    declared.is_none_or(|p| p.value_type.to_ascii_uppercase().starts_with("STRING"));
                let value = if is_text { json!(text) } else { queries::parameter(given)?.1 };
                body.insert(parameter.to_string(), value);
            }
            let result = client.call_saved(&graph, &name, &Value::Object(body)).await?;
            print!("{}", table::result(&result, &[], queries::width()));
        }
        SavedCommand::Remove { name } => {
            client.delete(&format!("/v1/saved-queries/{name}")).await?;
            println!("removed {name}");
        }
        SavedCommand::Export { folder } => {
            let all = client.get("/v1/saved-queries").await?;
            let mut count = 0;
            for value in all.as_array().into_iter().flatten() {
                let query = query_of(value);
                let place = folder.join(&query.folder);
                std::fs::create_dir_all(&place)
                    .with_context(|| format!("{} cannot be made", place.display()))?;
                let file = place.join(format!("{}.gql", query.name));
                std::fs::write(&file, query.to_text())
                    .with_context(|| format!("{} cannot be written", file.display()))?;
                count += 1;
            }
            let procedures = procedures::export(client, &folder).await?;
            println!("{}{} in {}", counted(count), with_procedures(procedures), folder.display());
        }
        SavedCommand::Import { folder } => {
            // All are read before the first is saved.
            let all: Vec<SavedQuery> =
                files(&folder)?.iter().map(|f| read(f, Some(&folder))).collect::<anyhow::Result<_>>()?;
            let procedures = procedures::import(client, &folder).await?;
            for query in &all {
                save(client, query).await?;
            }
            println!("{}{} saved", counted(all.len()), with_procedures(procedures));
        }
    }
    Ok(())
}
