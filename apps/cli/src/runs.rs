//! `run`, `compare`, `baseline` and `check`: profiles that are kept, and saved queries held against them.

use comfy_table::CellAlignment;
use graphodrome_client::Client;
use graphodrome_engine::{Comparison, folded_stacks, render_comparison, speedscope_profile};
use serde_json::{Map, Value, json};

use crate::arguments::{BaselineCommand, CheckOptions, CompareOptions, ProfileFormat, RunCommand};
use crate::profiles::{profile_text, text_options, tree};
use crate::{queries, table};
use graphodrome_client::reports::{Checked, junit, markdown, time};

/// A part of a path, as it may be written there.
fn part(text: &str) -> String {
    url::form_urlencoded::byte_serialize(text.as_bytes()).collect::<String>().replace('+', "%20")
}

/// A time as people read it: UTC, to the second.
fn moment(value: &Value) -> String {
    let text = value.as_str().unwrap_or_default();
    text.get(..19).unwrap_or(text).replace('T', " ")
}

/// A query in one line.
fn line(text: &Value) -> String {
    text.as_str().unwrap_or_default().split_whitespace().collect::<Vec<_>>().join(" ")
}

fn us(value: &Value) -> String {
    time(value.as_f64().unwrap_or(0.0))
}

pub async fn run(client: &Client, command: RunCommand) -> anyhow::Result<()> {
    match command {
        RunCommand::List { graph, slow, name, tag, search, limit, json } => {
            let mut asked = url::form_urlencoded::Serializer::new(String::new());
            asked.append_pair("limit", &limit.to_string());
            let kind = slow.then(|| "slow".to_string());
            let given = [("graph", graph), ("kind", kind), ("name", name), ("tag", tag), ("text", search)];
            for (field, value) in given {
                value.iter().for_each(|value| _ = asked.append_pair(field, value));
            }
            let found = client.get(&format!("/v1/runs?{}", asked.finish())).await?;
            if json {
                println!("{}", serde_json::to_string_pretty(&found)?);
                return Ok(());
            }
            list(&found);
        }
        RunCommand::Show { run, shown, format } => {
            let found = client.get(&format!("/v1/runs/{}", part(&run))).await?;
            match format {
                ProfileFormat::Json => println!("{}", serde_json::to_string_pretty(&found)?),
                ProfileFormat::Folded => print!("{}", folded_stacks(&tree(&found["profile"])?)),
                ProfileFormat::Speedscope => {
                    let name = found["text"].as_str().unwrap_or_default().trim();
                    println!("{}", speedscope_profile(&tree(&found["profile"])?, name));
                }
                ProfileFormat::Text => {
                    println!("{}", heading(&found));
                    println!("{}\n", found["text"].as_str().unwrap_or_default().trim());
                    let given = found["parameters"].as_object().filter(|given| !given.is_empty());
                    for (name, value) in given.into_iter().flatten() {
                        println!(
                            "${name} = {}",
                            value["gql"].as_str().map_or(value.to_string(), str::to_string)
                        );
                    }
                    print!("{}", profile_text(&found["profile"], &text_options(&shown))?);
                }
            }
        }
        RunCommand::Label { run, name, tags } => {
            let body = json!({ "name": name, "tags": tags });
            let run = client.call("PATCH", &format!("/v1/runs/{}", part(&run)), &body).await?;
            println!("{}", heading(&run));
        }
        RunCommand::Remove { runs } => {
            for run in runs {
                client.delete(&format!("/v1/runs/{}", part(&run))).await?;
                println!("run {run} removed");
            }
        }
    }
    Ok(())
}

/// What a run is, in a line.
fn heading(run: &Value) -> String {
    let names: Vec<&str> = run["tags"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let tags = if names.is_empty() { String::new() } else { format!(" [{}]", names.join(", ")) };
    let name = run["name"].as_str().map_or(String::new(), |name| format!(" {name}"));
    format!(
        "run {}{name}{tags}: {} version {}, {} UTC, {}",
        run["id"],
        run["graph"].as_str().unwrap_or_default(),
        run["version"],
        moment(&run["made"]),
        match run["client"].as_str() {
            None | Some("") => "by nobody named",
            Some(client) => client,
        }
    )
}

fn list(found: &Value) {
    let mut shown =
        table::plain(&["run", "name", "tags", "graph", "version", "at", "rows", "time", "edges", "query"]);
    let runs = found.as_array().map(Vec::as_slice).unwrap_or_default();
    for run in runs {
        let mut tags: Vec<&str> =
            run["tags"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
        if run["kind"] == "slow" {
            tags.insert(0, "slow");
        }
        shown.add_row(vec![
            run["id"].to_string(),
            run["name"].as_str().unwrap_or_default().to_string(),
            tags.join(", "),
            run["graph"].as_str().unwrap_or_default().to_string(),
            run["version"].to_string(),
            moment(&run["made"]),
            run["rows"].to_string(),
            us(&run["execute_us"]),
            run["edges_looked"].to_string(),
            table::fold(&line(&run["text"]), 48),
        ]);
    }
    for column in [0, 4, 6, 7, 8] {
        if let Some(column) = shown.column_mut(column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    if runs.is_empty() {
        println!(
            "No runs are kept. graphodrome profile --keep keeps one; slow queries keep theirs by themselves."
        );
    } else {
        println!("{shown}");
        println!("Times are UTC.");
    }
}

pub async fn compare(client: &Client, options: CompareOptions) -> anyhow::Result<()> {
    let path = format!("/v1/runs/{}/compare/{}", part(&options.before), part(&options.after));
    let found = client.get(&path).await?;
    if options.json {
        println!("{}", serde_json::to_string_pretty(&found)?);
        return Ok(());
    }
    println!("before  {}\nafter   {}", heading(&found["before"]), heading(&found["after"]));
    if found["same_text"] == false {
        println!("Their texts differ.");
    }
    if found["same_version"] == false {
        println!("They ran on different versions: rows and work may differ for that alone.");
    }
    println!();
    let comparison: Comparison = serde_json::from_value(found["comparison"].clone())?;
    print!("{}", render_comparison(&comparison, &text_options(&options.shown)));
    Ok(())
}

pub async fn baseline(client: &Client, command: BaselineCommand) -> anyhow::Result<()> {
    match command {
        BaselineCommand::List { graph, json } => {
            let graph = graph.map(|graph| format!("?graph={}", part(&graph))).unwrap_or_default();
            let found = client.get(&format!("/v1/baselines{graph}")).await?;
            if json {
                println!("{}", serde_json::to_string_pretty(&found)?);
                return Ok(());
            }
            let all = found.as_array().map(Vec::as_slice).unwrap_or_default();
            if all.is_empty() {
                println!("No saved query is held against a run. graphodrome baseline accept accepts one.");
                return Ok(());
            }
            let mut shown = table::plain(&["saved query", "graph", "run", "allowed", "accepted"]);
            for baseline in all {
                shown.add_row(vec![
                    baseline["saved_query"].as_str().unwrap_or_default().to_string(),
                    baseline["graph"].as_str().unwrap_or_default().to_string(),
                    baseline["run"].to_string(),
                    format!("{}x", baseline["allow"]),
                    moment(&baseline["accepted"]),
                ]);
            }
            println!("{shown}");
        }
        BaselineCommand::Accept { name, graph, parameters, run, allow } => {
            let mut given = Map::new();
            for parameter in &parameters {
                let (name, value) = queries::parameter(parameter)?;
                given.insert(name, value);
            }
            let body = json!({ "run": run, "parameters": given, "allow": allow });
            let path = format!("/v1/graphs/{}/baselines/{}", part(&graph), part(&name));
            let made = client.put(&path, &body).await?;
            println!("{name} on {graph} is held against run {}, {}x allowed", made["run"], made["allow"]);
        }
        BaselineCommand::Remove { name, graph } => {
            client.delete(&format!("/v1/graphs/{}/baselines/{}", part(&graph), part(&name))).await?;
            println!("{name} on {graph} is held against nothing any more");
        }
    }
    Ok(())
}

pub async fn check(client: &Client, options: CheckOptions) -> anyhow::Result<()> {
    let graph = options.graph.as_ref().map(|graph| format!("?graph={}", part(graph))).unwrap_or_default();
    let found = client.get(&format!("/v1/baselines{graph}")).await?;
    let mut all = found.as_array().cloned().unwrap_or_default();
    for wanted in &options.queries {
        anyhow::ensure!(
            all.iter().any(|b| b["saved_query"] == **wanted),
            "the saved query {wanted} is held against no run\nhint: graphodrome baseline list shows those that are"
        );
    }
    all.retain(|b| options.queries.is_empty() || options.queries.iter().any(|q| b["saved_query"] == **q));
    let mut checked = vec![];
    for baseline in &all {
        let [name, graph] = ["saved_query", "graph"].map(|f| baseline[f].as_str().unwrap_or_default());
        let path = format!("/v1/graphs/{}/baselines/{}/check", part(graph), part(name));
        let answer = client.call("POST", &path, &json!({ "run": options.run, "allow": options.allow })).await;
        let one = match answer {
            Ok(answer) => Checked::of(&answer),
            // One that cannot be asked about does not keep the others from being.
            Err(graphodrome_client::ClientError::Problem(problem)) => Checked {
                verdict: "failed".into(),
                reasons: vec![problem.detail],
                ..Checked::named(name, graph)
            },
            Err(other) => return Err(other.into()),
        };
        if !options.json {
            println!("{}", one.line());
        }
        checked.push((one, baseline.clone()));
    }
    let results: Vec<&Checked> = checked.iter().map(|(one, _)| one).collect();
    if options.json {
        println!("{}", serde_json::to_string_pretty(&results)?);
    }
    if let Some(file) = &options.junit {
        std::fs::write(file, junit(&results)?)?;
    }
    if let Some(file) = &options.markdown {
        std::fs::write(file, markdown(&results, options.run))?;
    }
    let bad = results.iter().filter(|one| one.is_bad()).count();
    if !options.json {
        match results.len() {
            0 => println!("No saved query is held against a run. graphodrome baseline accept accepts one."),
            n => println!("{} of {n} checked are no worse than their accepted runs", n - bad),
        }
    }
    anyhow::ensure!(
        bad == 0,
        "{bad} saved quer{} worse or failed",
        if bad == 1 { "y is" } else { "ies are" }
    );
    Ok(())
}
