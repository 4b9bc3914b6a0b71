//! `graph history`, `diff`, `restore`, `verify` and `keep`: the versions of a graph.

use std::io::Write;

use anyhow::Context;
use comfy_table::CellAlignment;
use graphodrome_client::Client;
use serde_json::{Value, json};

use crate::table;

/// A version by its number, otherwise a time.
fn moment(text: &str) -> (&'static str, Value) {
    match text.parse::<u64>() {
        Ok(version) => ("version", json!(version)),
        Err(_) => ("timestamp", json!(text)),
    }
}

fn count(value: &Value) -> String {
    value.as_u64().map_or_else(String::new, |n| n.to_string())
}

/// A count with how much it is more or less than before.
fn with_step(now: &Value, before: &Value) -> String {
    match (now.as_i64(), before.as_i64()) {
        (Some(now), Some(before)) if now != before => format!("{now} ({:+})", now - before),
        (Some(now), _) => now.to_string(),
        _ => String::new(),
    }
}

pub async fn history(
    client: &Client, name: &str, limit: u64, before: Option<u64>, json: bool,
) -> anyhow::Result<()> {
    // One more tells by how much the last one changed.
    let asked = if json { limit } else { limit + 1 };
    let before = before.map(|before| format!("&before_version={before}")).unwrap_or_default();
    let told = client.get(&format!("/v1/graphs/{name}/versions?limit={asked}{before}")).await?;
    if json {
        println!("{}", serde_json::to_string_pretty(&told)?);
        return Ok(());
    }
    let versions = told["versions"].as_array().cloned().unwrap_or_default();
    let mut shown = table::plain(&["version", "at", "kind", "by", "elements written", "nodes", "edges"]);
    for (place, version) in versions.iter().take(limit as usize).enumerate() {
        let older = versions.get(place + 1).unwrap_or(&Value::Null);
        let at = version["at"].as_str().unwrap_or_default();
        let kind = version["kind"].as_str().unwrap_or_default();
        let folded = if version["base"] == true && kind == "commit" { ", folded" } else { "" };
        shown.add_row(vec![
            version["version"].to_string(),
            at.get(..19).unwrap_or(at).replace('T', " "),
            format!("{kind}{folded}"),
            version["origin"].as_str().unwrap_or_default().to_string(),
            count(&version["changes"]),
            with_step(&version["nodes"], &older["nodes"]),
            with_step(&version["edges"], &older["edges"]),
        ]);
    }
    for column in [0, 4, 5, 6] {
        if let Some(column) = shown.column_mut(column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    println!("{shown}");
    let keep = &told["retention"];
    println!(
        "Times are UTC. Versions {} to {} can be read; the newest {} stay, and those of the last {} days.",
        told["oldest"], told["newest"], keep["versions"], keep["days"]
    );
    Ok(())
}

/// `name 'a' → 'b', level → removed`.
fn changes(before: &Value, after: &Value) -> String {
    let mut said = vec![];
    if let Some(labels) = after["labels"].as_array() {
        let names = |list: &Value| {
            let names: Vec<&str> = list.as_array().into_iter().flatten().filter_map(Value::as_str).collect();
            names.join("&")
        };
        said.push(format!("labels {} → {}", names(&before["labels"]), names(&json!(labels))));
    }
    if after["source"].is_string() {
        said.push(format!(
            "from {} to {} → from {} to {}",
            text(&before["source"]),
            text(&before["target"]),
            text(&after["source"]),
            text(&after["target"])
        ));
    }
    for (name, new) in after["properties"].as_object().into_iter().flatten() {
        said.push(format!("{name} {} → {}", text(&before["properties"][name]), text(new)));
    }
    said.join(", ")
}

fn text(value: &Value) -> String {
    match value {
        Value::Null => "none".into(),
        Value::String(text) => table::fold(text, 40),
        other => table::fold(&other.to_string(), 40),
    }
}

pub async fn diff(
    client: &Client, name: &str, (from, to): (&str, Option<&str>), limit: usize, json: bool,
) -> anyhow::Result<()> {
    let (kind, value) = moment(from);
    let plain = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_string);
    let from_field = if kind == "version" { "from_version" } else { "from_timestamp" };
    let mut asked = vec![(from_field, plain(&value))];
    if let Some(to) = to {
        let (kind, value) = moment(to);
        asked.push((if kind == "version" { "to_version" } else { "to_timestamp" }, plain(&value)));
    }
    let mut answer = client.difference(name, &asked).await?;
    let mut shown = table::plain(&["change", "element", "what"]);
    let (mut pending, mut rows, mut last) = (vec![], 0usize, Value::Null);
    let mut out = std::io::stdout().lock();
    while let Some(piece) = answer.chunk().await.context("the answer broke off")? {
        pending.extend_from_slice(&piece);
        while let Some(end) = pending.iter().position(|b| *b == b'\n') {
            let line: Vec<u8> = pending.drain(..=end).collect();
            let told: Value = serde_json::from_slice(&line).context("the answer cannot be read")?;
            if told["change"].is_null() {
                last = told;
                continue;
            }
            if json {
                out.write_all(&line)?;
                continue;
            }
            rows += 1;
            if rows <= limit {
                let what = match told["change"].as_str() {
                    Some("changed") => changes(&told["before"], &told["after"]),
                    _ => {
                        let properties = told["properties"].as_object().into_iter().flatten();
                        let said: Vec<String> =
                            properties.map(|(name, value)| format!("{name} {}", text(value))).collect();
                        said.join(", ")
                    }
                };
                shown.add_row(vec![
                    told["change"].as_str().unwrap_or_default().to_string(),
                    format!(
                        "{} {}",
                        told["name"].as_str().unwrap_or_default(),
                        told["id"].as_str().unwrap_or_default()
                    ),
                    table::fold(&what, 160),
                ]);
            }
        }
    }
    if let Some(error) = last["error"].as_object() {
        anyhow::bail!("{}", error.get("detail").and_then(Value::as_str).unwrap_or("the comparison ended"));
    }
    let summary = &last["summary"];
    anyhow::ensure!(summary.is_object(), "the answer broke off");
    if json {
        return Ok(());
    }
    if rows > 0 {
        writeln!(out, "{shown}")?;
    }
    if rows > limit {
        writeln!(out, "and {} more; --limit shows more of them, --json all", rows - limit)?;
    }
    writeln!(
        out,
        "From version {} to {}: {} added, {} changed, {} removed.",
        summary["from"], summary["to"], summary["added"], summary["changed"], summary["removed"]
    )?;
    Ok(())
}

pub async fn restore(client: &Client, name: &str, to: &str) -> anyhow::Result<()> {
    let (field, value) = moment(to);
    let made = client.call("POST", &format!("/v1/graphs/{name}/restore"), &json!({ field: value })).await?;
    println!(
        "The graph {name} is as it was in version {}: {} nodes and {} edges. It is at version {}.",
        made["restored"], made["nodes"], made["edges"], made["version"]
    );
    Ok(())
}

pub async fn verify(client: &Client, name: &str, json: bool) -> anyhow::Result<()> {
    let found = client.call("POST", &format!("/v1/graphs/{name}/verify"), &json!({})).await?;
    let problems: Vec<&str> =
        found["problems"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    if json {
        println!("{}", serde_json::to_string_pretty(&found)?);
    } else {
        println!(
            "Read {} segments of {} bases and {} log entries, {:.1} MiB.",
            found["segments"],
            found["bases"],
            found["commits"],
            found["bytes"].as_f64().unwrap_or(0.0) / (1 << 20) as f64
        );
        for problem in &problems {
            println!("  {problem}");
        }
        match (problems.is_empty(), found["readable"].as_u64()) {
            (true, _) => {
                println!("Everything is as it should be; the newest version is {}.", found["newest"])
            }
            (false, Some(readable)) => println!(
                "It can be read up to version {readable}: graphodrome graph restore {name} --to {readable}"
            ),
            (false, None) => println!("No version of it can be read: load it from an export or a backup."),
        }
    }
    anyhow::ensure!(problems.is_empty(), "damaged data stored for {name}: {} problems", problems.len());
    Ok(())
}

pub async fn keep(
    client: &Client, name: &str, versions: Option<u64>, days: Option<u64>,
) -> anyhow::Result<()> {
    let told = client.get(&format!("/v1/graphs/{name}/versions?limit=1")).await?;
    let now = &told["retention"];
    let wanted = json!({
        "versions": versions.map_or_else(|| now["versions"].clone(), |n| json!(n)),
        "days": days.map_or_else(|| now["days"].clone(), |n| json!(n)),
    });
    let kept = match versions.is_some() || days.is_some() {
        true => client.call("PUT", &format!("/v1/graphs/{name}/retention"), &wanted).await?,
        false => wanted,
    };
    println!(
        "Of {name} the newest {} versions stay, and those of the last {} days.",
        kept["versions"], kept["days"]
    );
    Ok(())
}
