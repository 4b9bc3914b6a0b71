//! `load` and `job`: bulk loads with progress and an account, jobs and rejects.

use std::io::IsTerminal;
use std::path::Path;

use anyhow::Context;
use comfy_table::CellAlignment;
use graphodrome_client::{Client, Job};
use graphodrome_formats::{Account, Mapping};
use indicatif::{ProgressBar, ProgressStyle};

use crate::arguments::{Format, JobCommand, LoadOptions};
use crate::table;

/// Reads the mapping, uploads it with its files, and returns the job.
pub async fn start(client: &Client, path: &Path, graph: Option<&str>) -> anyhow::Result<Job> {
    let text = std::fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))?;
    let mapping = Mapping::parse(&text).map_err(|e| {
        let place =
            e.line.map(|l| format!(", line {l}, column {}", e.column.unwrap_or(1))).unwrap_or_default();
        anyhow::anyhow!("{}{place}: {e}", path.display())
    })?;
    let graph = graph.map(str::to_string).or(mapping.graph.clone());
    let graph =
        graph.context("no graph to load into: name it with -g, or in the mapping with graph = \"...\"")?;
    let folder = path.parent().unwrap_or(Path::new("."));
    let files: Vec<String> = mapping.files().into_iter().map(str::to_string).collect();
    Ok(client.load(&graph, &text, folder, &files).await?)
}

/// Watches a job until it ends, with a bar where standard error is a terminal.
pub async fn follow(client: &Client, job: Job) -> anyhow::Result<Job> {
    let bar = if std::io::stderr().is_terminal() { ProgressBar::new(0) } else { ProgressBar::hidden() };
    let style = "{msg:>15} {bar:30} {bytes}/{total_bytes}  {prefix}";
    bar.set_style(ProgressStyle::with_template(style).unwrap_or_else(|_| ProgressStyle::default_bar()));
    let id = job.id;
    let mut job = job;
    let watching = async {
        while job.state == "running" {
            if let Some(progress) = &job.progress {
                bar.set_length(progress.bytes_total);
                bar.set_position(progress.bytes_read);
                bar.set_message(progress.phase.clone());
                let left =
                    progress.left_ms.map(|ms| format!(", {:.0} s left", ms as f64 / 1e3)).unwrap_or_default();
                bar.set_prefix(format!("{} rows{left}", progress.rows_read));
            }
            job = client.job(id, 150).await?;
        }
        Ok::<_, anyhow::Error>(())
    };
    let interrupted = tokio::select! {
        result = watching => { result?; false }
        _ = tokio::signal::ctrl_c() => true,
    };
    bar.finish_and_clear();
    if interrupted {
        let job = client.cancel(id).await?;
        anyhow::bail!("job {id} is {}", job.state);
    }
    Ok(job)
}

pub async fn load(client: &Client, options: LoadOptions) -> anyhow::Result<()> {
    let job = start(client, &options.mapping, options.graph.as_deref()).await?;
    if options.detach {
        println!("job {} is running; graphodrome job follow {} watches it", job.id, job.id);
        return Ok(());
    }
    let job = follow(client, job).await?;
    if options.json {
        println!("{}", serde_json::to_string_pretty(&job)?);
    } else {
        println!("{}", account_text(&job));
    }
    finished(&job)
}

fn finished(job: &Job) -> anyhow::Result<()> {
    match job.state.as_str() {
        "failed" => anyhow::bail!("job {}: {}", job.id, job.detail["error"].as_str().unwrap_or("failed")),
        "cancelled" => anyhow::bail!("job {} was cancelled; nothing was published", job.id),
        _ => Ok(()),
    }
}

fn account_of(job: &Job) -> Option<Account> {
    serde_json::from_value(job.detail["account"].clone()).ok()
}

/// The account: what each rule made of its table's rows, and the sums.
pub fn account_text(job: &Job) -> String {
    let Some(account) = account_of(job) else { return format!("job {}: {}", job.id, job.state) };
    let mut shown = table::plain(&["table", "becomes", "rows", "made", "duplicates", "skipped", "rejects"]);
    for t in &account.tables {
        for (i, rule) in t.rules.iter().enumerate() {
            shown.add_row(vec![
                if i == 0 { t.table.clone() } else { String::new() },
                rule.rule.clone(),
                rule.rows.to_string(),
                rule.made.to_string(),
                rule.duplicates.to_string(),
                rule.skipped.to_string(),
                rule.rejects.to_string(),
            ]);
        }
    }
    for column in 2..7 {
        if let Some(column) = shown.column_mut(column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let adds_up = if account.adds_up() {
        "rows = made + duplicates + skipped + rejects, in every line"
    } else {
        "THE ACCOUNT DOES NOT ADD UP"
    };
    let mut out = format!("{shown}\n{adds_up}\n");
    let seconds = (account.read_ms + account.resolve_ms + account.build_ms + account.write_ms) / 1e3;
    if job.detail["changed"].as_bool() == Some(false) {
        out.push_str(&format!(
            "Nothing new: the graph {} stays at version {}.\n",
            job.graph, job.detail["version"]
        ));
    } else if job.state == "done" {
        out.push_str(&format!(
            "{} nodes and {} edges are in the graph {} now, version {}, after {seconds:.2} s.\n",
            account.nodes_made, account.edges_made, job.graph, job.detail["version"]
        ));
    }
    if account.rejects > 0 {
        out.push_str(&format!(
            "{} rows were rejected: graphodrome job rejects {}\n",
            account.rejects, job.id
        ));
    }
    out.truncate(out.trim_end().len());
    out
}

pub async fn job(client: &Client, command: JobCommand) -> anyhow::Result<()> {
    match command {
        JobCommand::List => {
            let jobs = client.jobs().await?;
            let mut shown = table::plain(&["job", "state", "graph", "started", "what"]);
            for job in &jobs {
                let started = job.started.get(..19).unwrap_or(&job.started).replace('T', " ");
                shown.add_row(vec![
                    job.id.to_string(),
                    job.state.clone(),
                    job.graph.clone(),
                    started,
                    table::fold(&job.title, 60),
                ]);
            }
            if jobs.is_empty() {
                println!("No job has run yet. graphodrome load starts one.");
            } else {
                println!("{shown}");
            }
        }
        JobCommand::Show { id, json } => {
            let job = client.job(id, 0).await?;
            if json {
                println!("{}", serde_json::to_string_pretty(&job)?);
                return Ok(());
            }
            println!("job {} ({}) on {}: {}", job.id, job.kind, job.graph, job.state);
            if let Some(progress) = &job.progress {
                println!(
                    "{}: {} of {} bytes, {} rows",
                    progress.phase, progress.bytes_read, progress.bytes_total, progress.rows_read
                );
            }
            if let Some(error) = job.detail["error"].as_str() {
                println!("{error}");
            }
            if account_of(&job).is_some() {
                println!("{}", account_text(&job));
            }
        }
        JobCommand::Follow { id } => {
            let job = client.job(id, 0).await?;
            let job = follow(client, job).await?;
            println!("{}", account_text(&job));
            finished(&job)?;
        }
        JobCommand::Cancel { id } => {
            let job = client.cancel(id).await?;
            println!("job {id} is {}", job.state);
        }
        JobCommand::Rejects { id, format, limit } => match format {
            Format::Csv => print!("{}", client.rejects_csv(id).await?),
            Format::Json => println!("{}", serde_json::to_string_pretty(&client.rejects(id, limit).await?)?),
            Format::Ndjson => {
                for reject in client.rejects(id, limit).await?.rejects {
                    println!("{}", serde_json::to_string(&reject)?);
                }
            }
            Format::Arrow => anyhow::bail!("rejects come as table, json, ndjson or csv"),
            Format::Table => {
                let found = client.rejects(id, limit).await?;
                let mut shown = table::plain(&["table", "line", "column", "value", "reason"]);
                for r in &found.rejects {
                    shown.add_row(vec![
                        r.table.clone(),
                        r.line.to_string(),
                        r.column.clone().unwrap_or_default(),
                        table::fold(r.value.as_deref().unwrap_or(""), 30),
                        r.reason.clone(),
                    ]);
                }
                println!("{shown}");
                println!("{} of {} rejects", found.rejects.len(), found.total);
            }
        },
    }
    Ok(())
}
