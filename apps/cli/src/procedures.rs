//! `procedure list`, `show`, `add`, `use`, `save`, `remove`.

use std::path::Path;

use anyhow::Context;
use graphodrome_client::{Client, path_of};
use serde_json::Value;

use crate::arguments::{AddProcedure, ProcedureCommand};
use crate::table;

pub async fn procedure(client: &Client, command: ProcedureCommand) -> anyhow::Result<()> {
    match command {
        ProcedureCommand::List { json } => {
            let all = client.get("/v1/procedures").await?;
            if json {
                println!("{}", serde_json::to_string_pretty(&all)?);
                return Ok(());
            }
            let mut rows = table::plain(&["procedure", "version", "what it says", "granted"]);
            for procedure in all.as_array().into_iter().flatten() {
                rows.add_row([
                    text(procedure, "name"),
                    procedure["version"].to_string(),
                    brief(&text(procedure, "description")),
                    granted(procedure),
                ]);
            }
            match rows.row_count() {
                0 => println!("There are none yet: graphodrome procedure add FILE.wasm uploads one."),
                _ => println!("{rows}"),
            }
        }
        ProcedureCommand::Show { name, json } => {
            let versions = client.get(&path_of(&["v1", "procedures", &name], &[])).await?;
            if json {
                println!("{}", serde_json::to_string_pretty(&versions)?);
            } else {
                show(&versions);
            }
        }
        ProcedureCommand::Add(new) => {
            let module = std::fs::read(&new.file).with_context(|| new.file.display().to_string())?;
            let added = upload(client, module, &new).await?;
            println!("{} version {}: {}", text(&added, "name"), added["version"], text(&added, "signature"));
        }
        ProcedureCommand::Use { name, version } => {
            let path = path_of(&["v1", "procedures", &name, "version"], &[]);
            client.put(&path, &serde_json::json!({ "version": version })).await?;
            println!("{name} version {version} is called from now on");
        }
        ProcedureCommand::Save { name, version, out } => {
            let module = module(client, &name, version).await?;
            std::fs::write(&out, &module).with_context(|| out.display().to_string())?;
            println!("{} bytes in {}", module.len(), out.display());
        }
        ProcedureCommand::Remove { name } => {
            client.delete(&path_of(&["v1", "procedures", &name], &[])).await?;
            println!("{name} removed");
        }
    }
    Ok(())
}

fn text(of: &Value, field: &str) -> String {
    of[field].as_str().unwrap_or_default().to_string()
}

/// What stands before the first colon or full stop.
fn brief(about: &str) -> String {
    let end = about.find([':', '.']).unwrap_or(about.len());
    about[..end].chars().take(80).collect()
}

fn granted(procedure: &Value) -> String {
    match procedure["graphs"].as_array() {
        None => "all graphs".into(),
        Some(graphs) => graphs.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", "),
    }
}

fn show(versions: &Value) {
    let all: Vec<&Value> = versions.as_array().into_iter().flatten().collect();
    if let Some(current) = all.iter().find(|v| v["current"] == true) {
        println!("{}\n\n{}\n", text(current, "signature"), text(current, "description"));
        println!("in a query: CALL {}({{...}}) YIELD ...", text(current, "name"));
        println!("beside its own it takes nodes, edges, view and weight, as the measures do\n");
    }
    let mut rows =
        table::plain(&["version", "called", "bytes", "steps", "MiB", "seconds", "granted", "uploaded"]);
    for version in all {
        rows.add_row([
            version["version"].to_string(),
            if version["current"] == true { "yes" } else { "" }.to_string(),
            version["bytes"].to_string(),
            version["steps"].to_string(),
            version["memory_mib"].to_string(),
            version["seconds"].to_string(),
            granted(version),
            format!("{} {}", text(version, "uploaded"), text(version, "uploaded_by")).trim_end().to_string(),
        ]);
    }
    println!("{rows}");
}

/// Uploads a module with its limits.
pub async fn upload(client: &Client, module: Vec<u8>, new: &AddProcedure) -> anyhow::Result<Value> {
    let mut query: Vec<(&str, String)> = vec![];
    query.extend(new.steps.map(|steps| ("steps", steps.to_string())));
    query.extend(new.memory_mib.map(|mib| ("memory_mib", mib.to_string())));
    query.extend(new.seconds.map(|seconds| ("seconds", seconds.to_string())));
    if !new.graphs.is_empty() {
        query.push(("graphs", new.graphs.join(",")));
    }
    let query: Vec<(&str, &str)> = query.iter().map(|(name, value)| (*name, value.as_str())).collect();
    Ok(client.post_bytes(&path_of(&["v1", "procedures"], &query), "application/wasm", module).await?)
}

pub async fn module(client: &Client, name: &str, version: Option<i64>) -> anyhow::Result<Vec<u8>> {
    let version = version.map(|v| v.to_string());
    let query: Vec<(&str, &str)> = version.iter().map(|v| ("version", v.as_str())).collect();
    let answer = client.stream(&path_of(&["v1", "procedures", name, "module"], &query)).await?;
    Ok(answer.bytes().await?.to_vec())
}

/// Writes the module of every procedure into a folder, beside each a file with its limits.
pub async fn export(client: &Client, folder: &Path) -> anyhow::Result<usize> {
    let all = client.get("/v1/procedures").await?;
    let all: Vec<&Value> = all.as_array().into_iter().flatten().collect();
    if all.is_empty() {
        return Ok(0);
    }
    let folder = folder.join("procedures");
    std::fs::create_dir_all(&folder).with_context(|| format!("{} cannot be made", folder.display()))?;
    for procedure in &all {
        let name = text(procedure, "name");
        let module = module(client, &name, None).await?;
        let limits = serde_json::json!({
            "steps": procedure["steps"], "memory_mib": procedure["memory_mib"],
            "seconds": procedure["seconds"], "graphs": procedure["graphs"],
        });
        for (file, bytes) in
            [(format!("{name}.wasm"), module), (format!("{name}.json"), format!("{limits:#}\n").into_bytes())]
        {
            let file = folder.join(file);
            std::fs::write(&file, bytes).with_context(|| format!("{} cannot be written", file.display()))?;
        }
    }
    Ok(all.len())
}

/// Those of a backup.
pub async fn restore(client: &Client, folder: &Path) -> anyhow::Result<()> {
    match import(client, folder).await? {
        0 => {}
        1 => println!("1 procedure restored"),
        n => println!("{n} procedures restored"),
    }
    Ok(())
}

/// Uploads every module of a folder that [`export`] wrote.
pub async fn import(client: &Client, folder: &Path) -> anyhow::Result<usize> {
    let folder = folder.join("procedures");
    if !folder.is_dir() {
        return Ok(0);
    }
    let mut files: Vec<_> =
        std::fs::read_dir(&folder)?.filter_map(|entry| Some(entry.ok()?.path())).collect();
    files.retain(|file| file.extension().is_some_and(|e| e == "wasm"));
    files.sort();
    for file in &files {
        let module = std::fs::read(file).with_context(|| file.display().to_string())?;
        let beside = file.with_extension("json");
        let limits: Value = match beside.is_file() {
            true => serde_json::from_slice(&std::fs::read(&beside)?)
                .with_context(|| beside.display().to_string())?,
            false => Value::Null,
        };
        let graphs: Vec<String> = match limits["graphs"].as_array() {
            // Of no graph at all.
            Some(graphs) if graphs.is_empty() => vec![String::new()],
            graphs => graphs.into_iter().flatten().filter_map(Value::as_str).map(str::to_string).collect(),
        };
        let new = AddProcedure {
            file: file.clone(),
            steps: limits["steps"].as_u64(),
            memory_mib: limits["memory_mib"].as_u64(),
            seconds: limits["seconds"].as_f64(),
            graphs,
        };
        upload(client, module, &new).await.with_context(|| file.display().to_string())?;
    }
    Ok(files.len())
}
