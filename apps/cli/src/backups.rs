//! `backup` and `restore`: graphs to a folder and back. A backup is read and verified without a service.
//!
//! The folder contains `backup.json`, which describes the last backup, and a folder for each graph:
//! `versions/N.json`, the manifest of version N; `segments/`, the segments of its bases as stored (Arrow IPC with
//! LZ4, with a CRC-32 in the last four bytes); `log/A-B.jsonl.zst`, the entries after version A up to B.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, IsTerminal, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context, bail, ensure};
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use futures::{StreamExt, TryStreamExt};
use graphodrome_client::Client;
use indicatif::{ProgressBar, ProgressStyle};
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::{Value, json};

use crate::arguments::{BackupCommand, BackupOptions, RestoreOptions};
use crate::table;

/// The format of the folder.
const FORMAT: u32 = 1;

/// Segments that are fetched or sent at once.
const AT_ONCE: usize = 4;

/// Bytes of the log that are sent at once.
const PIECE: usize = 256 << 10;

/// `backup.json`.
#[derive(Serialize, Deserialize)]
struct Index {
    format: u32,
    /// The database that all of it comes from.
    database: String,
    /// When it was taken last.
    at: String,
    graphs: Vec<Entry>,
}

#[derive(Clone, Serialize, Deserialize)]
struct Entry {
    graph: String,
    folder: String,
    version: u64,
}

/// `versions/N.json`: what the service says, and the files in which it is.
#[derive(Clone, Serialize, Deserialize)]
struct Version {
    /// As the service has it.
    manifest: Value,
    segments: BTreeMap<i64, FileSum>,
    log: Vec<LogFile>,
}

#[derive(Clone, Copy, PartialEq, Serialize, Deserialize)]
struct FileSum {
    bytes: u64,
    crc32: u32,
}

#[derive(Clone, Serialize, Deserialize)]
struct LogFile {
    after: u64,
    up_to: u64,
    file: String,
    sum: FileSum,
}

impl Version {
    fn number(&self, field: &str) -> u64 {
        self.manifest[field].as_u64().unwrap_or(0)
    }

    fn base(&self) -> u64 {
        self.manifest["base"]["version"].as_u64().unwrap_or(0)
    }
}

fn sum_of(data: &[u8]) -> FileSum {
    FileSum { bytes: data.len() as u64, crc32: crc32fast::hash(data) }
}

fn read_json<T: DeserializeOwned>(path: &Path) -> anyhow::Result<T> {
    let text = std::fs::read(path).with_context(|| path.display().to_string())?;
    serde_json::from_slice(&text).with_context(|| path.display().to_string())
}

/// Writes a file whole or not at all.
fn write_whole(path: &Path, data: &[u8]) -> anyhow::Result<()> {
    let folder = path.parent().context("a file lies in a folder")?;
    std::fs::create_dir_all(folder).with_context(|| folder.display().to_string())?;
    let write = || -> std::io::Result<()> {
        let mut file = tempfile::NamedTempFile::new_in(folder)?;
        file.write_all(data)?;
        file.as_file().sync_all()?;
        file.persist(path)?;
        Ok(())
    };
    write().with_context(|| path.display().to_string())
}

fn index(folder: &Path) -> anyhow::Result<Option<Index>> {
    let path = folder.join("backup.json");
    if !path.exists() {
        return Ok(None);
    }
    let index: Index = read_json(&path)?;
    ensure!(
        index.format <= FORMAT,
        "{} is in format {}, which a newer release made; this one reads up to {FORMAT}",
        path.display(),
        index.format
    );
    Ok(Some(index))
}

/// The versions of a graph that are backed up, the newest first.
fn versions(folder: &Path) -> anyhow::Result<Vec<Version>> {
    let listed = folder.join("versions");
    let mut found: Vec<Version> = vec![];
    if listed.is_dir() {
        for entry in std::fs::read_dir(&listed).with_context(|| listed.display().to_string())? {
            let path = entry?.path();
            if path.extension().is_some_and(|e| e == "json") {
                found.push(read_json(&path)?);
            }
        }
    }
    found.sort_by_key(|version| std::cmp::Reverse(version.number("version")));
    Ok(found)
}

/// A name for the folder of a graph: what a file system takes, and the number that no other graph has.
fn folder_of(graph: &str, number: u64) -> String {
    let plain: String =
        graph.chars().map(|c| if c.is_alphanumeric() || c == '_' { c } else { '_' }).collect();
    format!("{}-{number}", plain.chars().take(60).collect::<String>())
}

fn bar(segments: usize, graph: &str) -> ProgressBar {
    let bar = if std::io::stderr().is_terminal() {
        ProgressBar::new(segments as u64)
    } else {
        ProgressBar::hidden()
    };
    let style = "{msg:>15} {bar:30} {pos}/{len} segments";
    bar.set_style(ProgressStyle::with_template(style).unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar.set_message(graph.to_string());
    bar
}

pub async fn backup(client: &Client, options: BackupOptions) -> anyhow::Result<()> {
    match options.command {
        Some(BackupCommand::Verify { folder }) => verify(&folder),
        Some(BackupCommand::List { folder }) => list(&folder),
        None => {
            take(client, &options.out.context("--out says where the backup is to be")?, &options.graphs).await
        }
    }
}

async fn take(client: &Client, out: &Path, wanted: &[String]) -> anyhow::Result<()> {
    let mut known = index(out)?;
    let names = match wanted {
        [] => {
            let graphs = client.get("/v1/graphs").await?;
            let open = graphs.as_array().into_iter().flatten().filter(|g| g["offline"].is_null());
            open.filter_map(|g| g["name"].as_str().map(str::to_string)).collect()
        }
        wanted => wanted.to_vec(),
    };
    for name in &names {
        let begun = client.call("POST", "/v1/backups", &json!({ "graph": name })).await?;
        let manifest = begun["manifest"].clone();
        let id = &begun["id"];
        let database = manifest["database"].as_str().unwrap_or_default().to_string();
        let of_another = known.as_ref().is_some_and(|known| known.database != database);
        let taken = match of_another {
            true => Err(anyhow::anyhow!(
                "{} holds a backup of another database; name another folder",
                out.display()
            )),
            false => take_graph(client, out, name, &format!("/v1/backups/{id}"), manifest).await,
        };
        client.call("DELETE", &format!("/v1/backups/{id}"), &json!({})).await.ok();
        let entry = taken?;
        // After each graph: one that is broken off leaves those before it.
        let mut graphs = known.map(|known| known.graphs).unwrap_or_default();
        graphs.retain(|other| other.folder != entry.folder);
        graphs.push(entry);
        let at = chrono::Utc::now().to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
        let index = Index { format: FORMAT, database, at, graphs };
        write_whole(&out.join("backup.json"), &serde_json::to_vec_pretty(&index)?)?;
        known = Some(index);
    }
    if wanted.is_empty() {
        let saved = client.get("/v1/saved-queries").await?;
        write_whole(&out.join("saved-queries.json"), &serde_json::to_vec_pretty(&saved)?)?;
        let all = crate::notebooks::whole(client).await?;
        write_whole(&out.join("notebooks.json"), format!("[{}]\n", all.join(",\n")).as_bytes())?;
        crate::procedures::export(client, out).await?;
        write_whole(&out.join("drawings.json"), crate::drawings::whole(client, &names).await?.as_bytes())?;
    }
    Ok(())
}

async fn take_graph(
    client: &Client, out: &Path, name: &str, backup: &str, manifest: Value,
) -> anyhow::Result<Entry> {
    let folder_name = folder_of(name, manifest["graph_number"].as_u64().unwrap_or(0));
    let folder = out.join(&folder_name);
    let before = versions(&folder)?;
    let mut version = Version { manifest, segments: BTreeMap::new(), log: vec![] };
    let numbers: Vec<i64> =
        version.manifest["segments"].as_array().into_iter().flatten().filter_map(Value::as_i64).collect();
    let (mut written, mut kept) = (0, 0);
    // What an earlier backup wrote, and is still there in its length.
    let there = |number: i64| {
        let sum = before.iter().find_map(|version| version.segments.get(&number))?;
        let path = folder.join("segments").join(number.to_string());
        std::fs::metadata(path).is_ok_and(|file| file.len() == sum.bytes).then_some(*sum)
    };
    let mut missing = vec![];
    for number in numbers {
        match there(number) {
            Some(sum) => {
                version.segments.insert(number, sum);
                kept += 1;
            }
            None => missing.push(number),
        }
    }
    let bar = bar(missing.len(), name);
    let fetch = |number: i64| {
        let (path, bar) = (folder.join("segments").join(number.to_string()), bar.clone());
        async move {
            let answer = client.stream(&format!("{backup}/segments/{number}")).await?;
            let data = answer.bytes().await.context("a segment broke off")?;
            ensure!(is_whole(&data), "segment {number} of {name} is damaged; run graph verify");
            let sum = sum_of(&data);
            tokio::task::spawn_blocking(move || write_whole(&path, &data)).await??;
            bar.inc(1);
            Ok::<_, anyhow::Error>((number, sum))
        }
    };
    let mut fetched = futures::stream::iter(missing).map(fetch).buffer_unordered(AT_ONCE);
    while let Some((number, sum)) = fetched.try_next().await? {
        version.segments.insert(number, sum);
        written += sum.bytes;
    }
    drop(fetched);
    bar.finish_and_clear();
    // The log goes on where the last backup on the same base ended.
    let (base, up_to) = (version.base(), version.number("version"));
    let on_base = before.iter().find(|v| v.base() == base && v.number("version") <= up_to);
    version.log = on_base.map(|v| v.log.clone()).unwrap_or_default();
    let after = version.log.last().map_or(base, |file| file.up_to);
    if after < up_to {
        let file = format!("log/{after}-{up_to}.jsonl.zst");
        let data = fetch_log(client, &format!("{backup}/log?after_version={after}"), (after, up_to)).await?;
        write_whole(&folder.join(&file), &data)?;
        let sum = sum_of(&data);
        written += sum.bytes;
        version.log.push(LogFile { after, up_to, file, sum });
    }
    let path = folder.join(format!("versions/{up_to}.json"));
    write_whole(&path, &serde_json::to_vec_pretty(&version)?)?;
    println!(
        "{name}, version {up_to}: {} nodes and {} edges; {:.1} MiB written, {kept} segments were there already",
        version.number("nodes"),
        version.number("edges"),
        written as f64 / (1 << 20) as f64
    );
    Ok(Entry { graph: name.into(), folder: folder_name, version: up_to })
}

/// Whether a segment's last four bytes are the checksum of the others.
fn is_whole(data: &[u8]) -> bool {
    data.split_last_chunk::<4>().is_some_and(|(data, sum)| crc32fast::hash(data).to_be_bytes() == *sum)
}

/// The lines of a log, checked and compressed.
async fn fetch_log(client: &Client, path: &str, (after, up_to): (u64, u64)) -> anyhow::Result<Vec<u8>> {
    let mut answer = client.stream(path).await?;
    let mut packed = zstd::Encoder::new(vec![], 3)?;
    let (mut pending, mut last) = (vec![], after);
    while let Some(piece) = answer.chunk().await.context("the log broke off")? {
        pending.extend_from_slice(&piece);
        let Some(end) = pending.iter().rposition(|b| *b == b'\n') else { continue };
        let lines: Vec<u8> = pending.drain(..=end).collect();
        for line in lines.split(|b| *b == b'\n').filter(|line| !line.is_empty()) {
            last = checked_entry(line, last)?.0;
        }
        packed.write_all(&lines)?;
    }
    ensure!(last == up_to, "the log ends at version {last} instead of {up_to}");
    Ok(packed.finish()?)
}

/// The version and the time of an entry that follows another, where its checksum is right.
fn checked_entry(line: &[u8], before: u64) -> anyhow::Result<(u64, String)> {
    let entry: Value = serde_json::from_slice(line).context("an entry of the log cannot be read")?;
    let version = entry["version"].as_u64().context("an entry of the log has no version")?;
    ensure!(version == before + 1, "entry {version} of the log comes after {before}");
    let changes = BASE64_STANDARD
        .decode(entry["changes"].as_str().unwrap_or_default())
        .with_context(|| format!("entry {version} of the log cannot be read"))?;
    let sum = crc32fast::hash(&changes) as i64;
    ensure!(entry["checksum"].as_i64() == Some(sum), "entry {version} of the log has a wrong checksum");
    Ok((version, entry["at"].as_str().unwrap_or_default().to_string()))
}

/// A file of the log, read line by line.
fn lines_of(
    folder: &Path, file: &LogFile,
) -> anyhow::Result<impl Iterator<Item = std::io::Result<Vec<u8>>> + use<>> {
    let path = folder.join(&file.file);
    let opened = std::fs::File::open(&path).with_context(|| path.display().to_string())?;
    Ok(BufReader::new(zstd::Decoder::new(opened)?).split(b'\n'))
}

fn read_index(folder: &Path) -> anyhow::Result<Index> {
    index(folder)?.with_context(|| format!("{} holds no backup: there is no backup.json", folder.display()))
}

fn list(folder: &Path) -> anyhow::Result<()> {
    let index = read_index(folder)?;
    let mut shown = table::plain(&["graph", "versions", "newest", "nodes", "edges", "MiB"]);
    for entry in &index.graphs {
        let versions = versions(&folder.join(&entry.folder))?;
        let Some(newest) = versions.first() else { continue };
        let mut files: BTreeMap<String, u64> = BTreeMap::new();
        for version in &versions {
            files.extend(version.segments.iter().map(|(number, sum)| (number.to_string(), sum.bytes)));
            files.extend(version.log.iter().map(|file| (file.file.clone(), file.sum.bytes)));
        }
        let oldest = versions.iter().map(Version::base).min().unwrap_or(0);
        shown.add_row(vec![
            entry.graph.clone(),
            format!("{oldest} to {}", entry.version),
            entry.version.to_string(),
            newest.number("nodes").to_string(),
            newest.number("edges").to_string(),
            format!("{:.1}", files.values().sum::<u64>() as f64 / (1 << 20) as f64),
        ]);
    }
    for column in 2..6 {
        if let Some(column) = shown.column_mut(column) {
            column.set_cell_alignment(comfy_table::CellAlignment::Right);
        }
    }
    println!("{shown}");
    Ok(())
}

fn verify(folder: &Path) -> anyhow::Result<()> {
    let index = read_index(folder)?;
    let mut problems: Vec<String> = vec![];
    let (mut files, mut bytes, mut entries) = (0u64, 0u64, 0u64);
    for entry in &index.graphs {
        let folder = folder.join(&entry.folder);
        let versions = versions(&folder)?;
        if !versions.iter().any(|v| v.number("version") == entry.version) {
            problems.push(format!("{}: version {} is missing", entry.graph, entry.version));
        }
        let mut segments: BTreeMap<i64, FileSum> = BTreeMap::new();
        let mut logs: BTreeMap<String, LogFile> = BTreeMap::new();
        for version in &versions {
            segments.extend(&version.segments);
            logs.extend(version.log.iter().map(|file| (file.file.clone(), file.clone())));
        }
        let mut check = |path: PathBuf, sum: FileSum| match std::fs::read(&path) {
            Err(error) => problems.push(format!("{}: {error}", path.display())),
            Ok(data) => {
                files += 1;
                bytes += data.len() as u64;
                if sum_of(&data) != sum {
                    problems.push(format!("{} is not as it was written", path.display()));
                }
            }
        };
        for (number, sum) in segments {
            check(folder.join("segments").join(number.to_string()), sum);
        }
        for file in logs.values() {
            check(folder.join(&file.file), file.sum);
        }
        for file in logs.values() {
            let read = || -> anyhow::Result<u64> {
                let mut last = file.after;
                for line in lines_of(&folder, file)? {
                    last = checked_entry(&line?, last)?.0;
                }
                ensure!(last == file.up_to, "it ends at version {last} instead of {}", file.up_to);
                Ok(last - file.after)
            };
            match read() {
                Ok(read) => entries += read,
                Err(error) => problems.push(format!("{}/{}: {error:#}", entry.graph, file.file)),
            }
        }
    }
    println!(
        "Read {files} files of {} graphs, {:.1} MiB, {entries} log entries.",
        index.graphs.len(),
        bytes as f64 / (1 << 20) as f64
    );
    problems.dedup();
    for problem in &problems {
        println!("  {problem}");
    }
    ensure!(problems.is_empty(), "damaged files in the backup: {}", problems.len());
    println!("Everything is as it was written.");
    Ok(())
}

/// Up to where a graph is restored.
enum UpTo {
    Newest,
    Version(u64),
    Time(chrono::DateTime<chrono::FixedOffset>),
}

fn up_to(text: Option<&str>) -> anyhow::Result<UpTo> {
    let Some(text) = text else { return Ok(UpTo::Newest) };
    if let Ok(version) = text.parse() {
        return Ok(UpTo::Version(version));
    }
    let time = chrono::DateTime::parse_from_rfc3339(text);
    Ok(UpTo::Time(time.with_context(|| {
        format!(
            "'{text}' is neither a version nor a time with an offset from UTC, such as 2026-11-29T10:00:00Z"
        )
    })?))
}

pub async fn restore(client: &Client, options: RestoreOptions) -> anyhow::Result<()> {
    let index = read_index(&options.folder)?;
    let up_to = up_to(options.to.as_deref())?;
    let mut chosen: Vec<Entry> = index.graphs.clone();
    if !options.graphs.is_empty() {
        chosen.retain(|entry| options.graphs.contains(&entry.graph));
        let missing = options.graphs.iter().find(|name| !chosen.iter().any(|entry| entry.graph == **name));
        if let Some(missing) = missing {
            let names: Vec<&str> = index.graphs.iter().map(|entry| entry.graph.as_str()).collect();
            bail!("there is no graph {missing} in the backup: it has {}", names.join(", "));
        }
    }
    // A name that several graphs had, one after the other, means the one that had it last.
    let mut by_name: BTreeMap<String, Entry> = BTreeMap::new();
    chosen.into_iter().for_each(|entry| {
        by_name.insert(entry.graph.clone(), entry);
    });
    ensure!(
        options.name.is_none() || by_name.len() == 1,
        "--as names one graph, and {} are to be restored: choose one with -g",
        by_name.len()
    );
    for entry in by_name.values() {
        let name = options.name.as_deref().unwrap_or(&entry.graph);
        restore_graph(client, &options.folder.join(&entry.folder), entry, name, &up_to).await?;
    }
    if options.graphs.is_empty() && options.name.is_none() {
        restore_saved(client, &options.folder.join("saved-queries.json")).await?;
        crate::notebooks::restore_file(client, &options.folder.join("notebooks.json")).await?;
        crate::drawings::restore_file(client, &options.folder.join("drawings.json")).await?;
        crate::procedures::restore(client, &options.folder).await?;
    }
    Ok(())
}

/// Saves the saved queries whose names are free.
async fn restore_saved(client: &Client, path: &Path) -> anyhow::Result<()> {
    if !path.exists() {
        return Ok(());
    }
    let saved: Value = read_json(path)?;
    let there = client.get("/v1/saved-queries").await?;
    let names = |list: &Value| -> Vec<String> {
        list.as_array().into_iter().flatten().filter_map(|q| q["name"].as_str().map(str::to_string)).collect()
    };
    let taken = names(&there);
    let mut count = 0;
    for query in saved.as_array().into_iter().flatten() {
        let name = query["name"].as_str().unwrap_or_default();
        if taken.iter().any(|other| other == name) {
            continue;
        }
        let mut body = query.clone();
        if let Some(fields) = body.as_object_mut() {
            fields
                .retain(|field, _| ["folder", "description", "parameters", "text"].contains(&field.as_str()));
        }
        client.call("PUT", &format!("/v1/saved-queries/{name}"), &body).await?;
        count += 1;
    }
    if count > 0 {
        println!("{count} saved queries restored");
    }
    Ok(())
}

/// Whether an entry is still to be restored.
fn is_wanted(up_to: &UpTo, version: u64, at: &str) -> bool {
    match up_to {
        UpTo::Newest => true,
        UpTo::Version(last) => version <= *last,
        UpTo::Time(time) => chrono::DateTime::parse_from_rfc3339(at).is_ok_and(|at| at <= *time),
    }
}

async fn restore_graph(
    client: &Client, folder: &Path, entry: &Entry, name: &str, up_to: &UpTo,
) -> anyhow::Result<()> {
    let versions = versions(folder)?;
    // The newest base that is not too new, with the longest log on it.
    let base_fits = |version: &&Version| {
        is_wanted(up_to, version.base(), version.manifest["base"]["at"].as_str().unwrap_or_default())
    };
    let version = versions.iter().find(base_fits).with_context(|| match up_to {
        UpTo::Version(wanted) => format!("the backup of {} begins after version {wanted}", entry.graph),
        _ => format!("the backup of {} has no version of that time", entry.graph),
    })?;
    if let UpTo::Version(wanted) = up_to {
        let newest = version.number("version");
        ensure!(
            *wanted <= newest,
            "the backup of {} does not have version {wanted}: from version {} it goes up to {newest}",
            entry.graph,
            version.base()
        );
    }
    let begun =
        client.call("POST", "/v1/restores", &json!({ "graph": name, "manifest": version.manifest })).await?;
    let path = format!("/v1/restores/{}", begun["id"]);
    match send_graph(client, folder, version, &path, up_to).await {
        Ok(made) => {
            println!(
                "{name}: {} nodes and {} edges, as {} was at version {}",
                made["nodes"], made["edges"], entry.graph, made["version"]
            );
            Ok(())
        }
        Err(error) => {
            client.call("DELETE", &path, &json!({})).await.ok();
            Err(error.context(format!("{name} was not restored")))
        }
    }
}

async fn send_graph(
    client: &Client, folder: &Path, version: &Version, path: &str, up_to: &UpTo,
) -> anyhow::Result<Value> {
    let bar = bar(version.segments.len(), path);
    let send = |(number, sum): (&i64, &FileSum)| {
        let file = folder.join("segments").join(number.to_string());
        let (path, bar, number, sum) = (format!("{path}/segments/{number}"), bar.clone(), *number, *sum);
        async move {
            let data = tokio::fs::read(&file).await.with_context(|| file.display().to_string())?;
            ensure!(sum_of(&data) == sum, "segment {number} of the backup is damaged: {}", file.display());
            client.put_bytes(&path, "application/octet-stream", data).await?;
            bar.inc(1);
            Ok::<_, anyhow::Error>(())
        }
    };
    let mut sent = futures::stream::iter(version.segments.iter()).map(send).buffer_unordered(AT_ONCE);
    while sent.try_next().await?.is_some() {}
    drop(sent);
    bar.finish_and_clear();
    let mut piece: Vec<u8> = vec![];
    let mut last = version.base();
    'files: for file in &version.log {
        let path_of_log = folder.join(&file.file);
        let intact = sum_of(&tokio::fs::read(&path_of_log).await?) == file.sum;
        ensure!(intact, "the log of the backup is damaged: {}", path_of_log.display());
        for line in lines_of(folder, file)? {
            let line = line?;
            let (number, at) = checked_entry(&line, last)?;
            if !is_wanted(up_to, number, &at) {
                break 'files;
            }
            last = number;
            piece.extend_from_slice(&line);
            piece.push(b'\n');
            if piece.len() >= PIECE {
                let body = std::mem::take(&mut piece);
                client.put_bytes(&format!("{path}/log"), "application/x-ndjson", body).await?;
            }
        }
    }
    if !piece.is_empty() {
        client.put_bytes(&format!("{path}/log"), "application/x-ndjson", piece).await?;
    }
    Ok(client.call("POST", path, &json!({})).await?)
}
