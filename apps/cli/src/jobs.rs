//! `load` and `job`: bulk loads with progress and an account, jobs and rejects.

use std::collections::BTreeMap;
use std::io::{IsTerminal, Write};
use std::path::Path;

use anyhow::Context;
use comfy_table::CellAlignment;
use graphodrome_client::{Client, Job, JobProgress, UploadFile};
use graphodrome_formats::{Account, DATABASE_NULL, Mapping, RuleAccount, TableMapping, fits_pattern};
use indicatif::{ProgressBar, ProgressStyle};

use crate::arguments::{Format, JobCommand, LoadOptions};
use crate::table;

/// Reads the mapping, uploads it with its files, and returns the job.
pub async fn start(client: &Client, path: &Path, graph: Option<&str>, check: bool) -> anyhow::Result<Job> {
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
    // Files that are only made for the upload go with this folder.
    let made = tempfile::tempdir()?;
    let mut files: Vec<UploadFile> = vec![];
    for table in &mapping.tables {
        for file in sources(table, folder, made.path(), files.len()).await? {
            if !files.iter().any(|known| known.name == file.name) {
                files.push(file);
            }
        }
    }
    Ok(client.load(&graph, &text, &files, check).await?)
}

/// The files of a table that are here; what the service gets itself is none.
async fn sources(
    table: &TableMapping, folder: &Path, made: &Path, number: usize,
) -> anyhow::Result<Vec<UploadFile>> {
    let name = table.file.clone();
    let own = made.join(number.to_string());
    let write = |path: &Path| std::fs::File::create(path).with_context(|| path.display().to_string());
    if let (Some(variable), Some(query)) = (&table.database, &table.query) {
        let url = std::env::var(variable).map_err(|_| {
            anyhow::anyhow!(
                "table {name}: the environment variable {variable} with the database's URL is not set"
            )
        })?;
        let mut out = std::io::BufWriter::new(write(&own)?);
        let rows = graphodrome_database::query_csv(&url, query, DATABASE_NULL, &mut out).await;
        rows.with_context(|| format!("table {name}"))?;
        out.flush()?;
        return Ok(vec![UploadFile { name, path: own }]);
    }
    if name == "-" {
        let mut out = write(&own)?;
        std::io::copy(&mut std::io::stdin().lock(), &mut out).context("standard input cannot be read")?;
        return Ok(vec![UploadFile { name, path: own }]);
    }
    if ["served:", "http://", "https://"].iter().any(|scheme| name.starts_with(scheme)) {
        return Ok(vec![]);
    }
    if !table.is_pattern() {
        return Ok(vec![UploadFile { path: folder.join(&name), name }]);
    }
    let mut found = vec![];
    fitting(folder, "", &name, &mut found)?;
    anyhow::ensure!(!found.is_empty(), "no file in {} has a name that fits {name}", folder.display());
    found.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(found)
}

/// The files below a folder whose names from there fit a pattern.
fn fitting(folder: &Path, within: &str, pattern: &str, found: &mut Vec<UploadFile>) -> anyhow::Result<()> {
    let depth = |text: &str| text.matches('/').count();
    for entry in std::fs::read_dir(folder).with_context(|| folder.display().to_string())? {
        let entry = entry?;
        let name = format!("{within}{}", entry.file_name().to_string_lossy());
        if entry.path().is_dir() {
            if depth(&name) < depth(pattern) {
                fitting(&entry.path(), &format!("{name}/"), pattern, found)?;
            }
        } else if fits_pattern(&name, pattern) {
            found.push(UploadFile { name, path: entry.path() });
        }
    }
    Ok(())
}

/// Watches a job until it ends, with a bar where standard error is a terminal.
pub async fn follow(client: &Client, job: Job) -> anyhow::Result<Job> {
    let bar = if std::io::stderr().is_terminal() { ProgressBar::new(0) } else { ProgressBar::hidden() };
    let style = "{msg:>15} {bar:30} {bytes}/{total_bytes}  {prefix}";
    bar.set_style(ProgressStyle::with_template(style).unwrap_or_else(|_| ProgressStyle::default_bar()));
    let id = job.id;
    let mut job = job;
    let watching = async {
        job = client
            .follow(id, |job| {
                if let Some(progress) = &job.progress {
                    bar.set_length(progress.bytes_total);
                    bar.set_position(progress.bytes_read);
                    bar.set_message(progress.phase.clone());
                    bar.set_prefix(pace(progress));
                }
            })
            .await?;
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

/// Rows, rate and time left.
fn pace(progress: &JobProgress) -> String {
    let seconds = progress.elapsed_ms as f64 / 1e3;
    let rate = match seconds > 0.0 {
        true => format!(", {:.1} MB/s", progress.bytes_read as f64 / 1e6 / seconds),
        false => String::new(),
    };
    let left = progress.left_ms.map(|ms| format!(", {:.0} s left", ms as f64 / 1e3)).unwrap_or_default();
    format!("{} rows{rate}{left}", progress.rows_read)
}

pub async fn load(client: &Client, options: LoadOptions) -> anyhow::Result<()> {
    let job = start(client, &options.mapping, options.graph.as_deref(), options.check).await?;
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
    match job.state.name() {
        "failed" => anyhow::bail!("job {}: {}", job.id, job.detail["error"].as_str().unwrap_or("failed")),
        "cancelled" => anyhow::bail!("job {} was cancelled; nothing was published", job.id),
        _ => Ok(()),
    }
}

fn account_of(job: &Job) -> Option<Account> {
    serde_json::from_value(job.detail["account"].clone()).ok()
}

/// Columns of the account that are shown only where they say something.
type Figure = (&'static str, fn(&RuleAccount) -> u64);
const FIGURES: [Figure; 7] = [
    ("created", |r| r.created),
    ("changed", |r| r.changed),
    ("unchanged", |r| r.unchanged),
    ("duplicates", |r| r.duplicates),
    ("skipped", |r| r.skipped),
    ("rejects", |r| r.rejects),
    ("nodes created", |r| r.created_ends),
];

/// The account: what each rule made of its table's rows, and the sums.
pub fn account_text(job: &Job) -> String {
    let Some(account) = account_of(job) else { return format!("job {}: {}", job.id, job.state) };
    let rules = || account.tables.iter().flat_map(|t| &t.rules);
    let says = |figure: &&Figure| {
        matches!(figure.0, "created" | "duplicates" | "rejects") || rules().any(|r| figure.1(r) > 0)
    };
    let figures: Vec<&Figure> = FIGURES.iter().filter(says).collect();
    let titles: Vec<&str> =
        ["table", "becomes", "rows"].into_iter().chain(figures.iter().map(|f| f.0)).collect();
    let mut shown = table::plain(&titles);
    for t in &account.tables {
        for (i, rule) in t.rules.iter().enumerate() {
            let name = if i == 0 { t.table.clone() } else { String::new() };
            let numbers = figures.iter().map(|f| f.1(rule).to_string());
            shown.add_row([name, rule.rule.clone(), rule.rows.to_string()].into_iter().chain(numbers));
        }
    }
    for column in 2..titles.len() {
        if let Some(column) = shown.column_mut(column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let summed: Vec<&str> = figures.iter().map(|f| f.0).filter(|name| *name != "nodes created").collect();
    let adds_up = if account.adds_up() {
        format!("rows = {}, in every line", summed.join(" + "))
    } else {
        "THE ACCOUNT DOES NOT ADD UP".into()
    };
    let mut out = format!("{shown}\n{adds_up}\n");
    let phases = [account.fetch_ms, account.read_ms, account.resolve_ms, account.build_ms, account.write_ms];
    let seconds = phases.iter().sum::<f64>() / 1e3;
    let check = job.detail["check"].as_bool() == Some(true);
    let made = format!("{} nodes and {} edges", account.nodes_created, account.edges_created);
    let changed = match account.changed {
        0 => String::new(),
        1 => ", changed 1 element".into(),
        n => format!(", changed {n} elements"),
    };
    if check {
        out.push_str(&format!(
            "This was a check: nothing was published. A load would create {made}{changed}.\n"
        ));
        for limit in job.detail["breaks"].as_array().into_iter().flatten().filter_map(|b| b.as_str()) {
            out.push_str(&format!("It would fail: {limit}.\n"));
        }
    } else if job.detail["changed"].as_bool() == Some(false) {
        out.push_str(&format!(
            "Nothing new: the graph {} stays at version {}.\n",
            job.graph, job.detail["version"]
        ));
    } else if job.state == "done" {
        out.push_str(&format!(
            "Created {made}{changed} in the graph {}, now at version {}, in {seconds:.2} s.\n",
            job.graph, job.detail["version"]
        ));
    }
    if account.rejects > 0 {
        let mut kinds: BTreeMap<&str, u64> = BTreeMap::new();
        for (kind, count) in rules().flat_map(|r| &r.rejects_by_kind) {
            *kinds.entry(kind.name()).or_default() += count;
        }
        let kinds: Vec<String> = kinds.iter().map(|(kind, count)| format!("{count} {kind}")).collect();
        out.push_str(&format!(
            "{} rejects ({}): graphodrome job rejects {}\n",
            account.rejects,
            kinds.join(", "),
            job.id
        ));
    }
    out.truncate(out.trim_end().len());
    out
}

/// Writes the rejected rows, as they were, and the mapping to load them with into a folder.
async fn write_rejects(client: &Client, id: i64, folder: &Path) -> anyhow::Result<()> {
    let files = client.reject_files(id).await?;
    let listed: Vec<&serde_json::Value> = files["files"].as_array().into_iter().flatten().collect();
    anyhow::ensure!(!listed.is_empty(), "job {id} has no rejects");
    for file in &listed {
        let (table, name) = (file["table"].as_str().unwrap_or(""), file["file"].as_str().unwrap_or(""));
        let path = folder.join(name);
        if let Some(parent) = path.parent() {
            std::fs::create_dir_all(parent).with_context(|| parent.display().to_string())?;
        }
        let rows = client.reject_rows(id, table).await?;
        std::fs::write(&path, rows).with_context(|| path.display().to_string())?;
        println!("{}: {} rejects of {table}", path.display(), file["rejects"]);
    }
    let mapping = folder.join("load.toml");
    std::fs::write(&mapping, files["mapping"].as_str().unwrap_or(""))
        .with_context(|| mapping.display().to_string())?;
    println!("Repair the rows, then: graphodrome load {}", mapping.display());
    Ok(())
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
                    job.state.to_string(),
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
        JobCommand::Rejects { id, out: Some(folder), .. } => write_rejects(client, id, &folder).await?,
        JobCommand::Rejects { id, format, limit, out: None } => match format {
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
