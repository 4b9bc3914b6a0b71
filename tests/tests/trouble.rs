//! Trouble around loads: a full disk, an unclosed quote in a long file, a file that changes during upload, folds
//! during a stream of commits. Each gives a clear error, and nothing is lost.

#![allow(clippy::unwrap_used)]

use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::time::{Duration, Instant};

use graphodrome_client::{Client, Job};
use graphodrome_tests::*;
use serde_json::{Value, json};

const PARTS: &str = "[[table]]\nfile = \"p.csv\"\n[[table.node]]\nlabels = [\"Part\"]\nkey = [\"code\"]\nproperties = { code = \"code\", name = \"name\" }\n";

async fn load(client: &Client, rows: &str) -> Job {
    let job = client.load_texts("g", PARTS, &[("p.csv", &format!("code,name\n{rows}"))]).await.unwrap();
    client.wait(job.id).await.unwrap()
}

async fn count(client: &Client) -> Value {
    single(client, "g", "MATCH (p:Part) RETURN COUNT(*) AS n").await
}

/// Texts that cannot be made much smaller.
fn noise(mut seed: u64, length: usize) -> String {
    let next = || {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        char::from(b'!' + 1 + (seed % 90) as u8)
    };
    std::iter::repeat_with(next).filter(|c| !matches!(c, '"' | ',')).take(length).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_database_fails_the_load_and_loses_nothing() {
    let data = folder();
    // No file of PostgreSQL may grow beyond this: as on a full disk, what goes beyond it is refused.
    let mut limited = Command::new("prlimit");
    limited.arg(format!("--fsize={}", 20 << 20)).arg(binary()).arg("serve");
    let service = Running::program(limited, data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    let (mut loaded, mut failed) = (0, None);
    for round in 0..40u64 {
        let rows = (0..20_000).map(|i| format!("{round}-{i},{}\n", noise(round * 20_000 + i + 1, 80)));
        let job = load(&client, &rows.collect::<String>()).await;
        if job.state != "done" {
            failed = Some(job);
            break;
        }
        loaded += 20_000;
        assert_eq!(count(&client).await, json!(loaded));
    }
    let failed = failed.expect("a load goes beyond what PostgreSQL may write");
    assert!(loaded > 0);
    let error = failed.detail["error"].as_str().unwrap();
    assert!(error.contains("File too large"), "{error}");
    // What was there is there, and is still changed where there is room.
    assert_eq!(count(&client).await, json!(loaded));
    query(&client, "g", "INSERT (:Part {code: 'small'})").await;
    assert_eq!(count(&client).await, json!(loaded + 1));
    assert!(service.interrupt());
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    assert_eq!(count(&client).await, json!(loaded + 1));
    let job = load(&client, "more,room\n").await;
    assert_eq!(
        (job.state.name(), &job.detail["account"]["nodes_created"]),
        ("done", &json!(1)),
        "{}",
        job.detail
    );
    assert_eq!(count(&client).await, json!(loaded + 2));
}

/// Bytes of its own that a process holds: mapped files are not among them.
fn own_memory(pid: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("RssAnon")).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|kib| kib.parse::<u64>().ok()).unwrap_or(0) << 10
}

#[tokio::test(flavor = "multi_thread")]
async fn a_quote_left_open_in_a_long_file_is_found_without_holding_the_file() {
    let (data, tables) = (folder(), folder());
    let mut file = BufWriter::new(std::fs::File::create(tables.path().join("p.csv")).unwrap());
    let line = format!("{},{}\n", "c".repeat(40), "n".repeat(59));
    writeln!(file, "code,name").unwrap();
    let lines = (300 << 20) / line.len();
    for i in 0..lines {
        if i == lines / 3 {
            writeln!(file, "x,\"never closed").unwrap();
        }
        file.write_all(line.as_bytes()).unwrap();
    }
    file.into_inner().unwrap();
    let service = Running::start(data.path(), &["--table-dir", &tables.path().to_string_lossy()]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    let before = own_memory(service.id());
    let (most, stop) = (Arc::new(AtomicI64::new(0)), Arc::new(AtomicBool::new(false)));
    let watching = {
        let (most, stop, pid) = (most.clone(), stop.clone(), service.id());
        std::thread::spawn(move || {
            while !stop.load(Ordering::Relaxed) {
                most.fetch_max(own_memory(pid) as i64, Ordering::Relaxed);
                std::thread::yield_now();
            }
        })
    };
    let mapping = PARTS.replace("p.csv", "served:p.csv");
    let job = client.load_texts("g", &mapping, &[]).await.unwrap();
    let job = client.wait(job.id).await.unwrap();
    stop.store(true, Ordering::Relaxed);
    watching.join().unwrap();
    assert_eq!(job.state, "failed");
    let error = job.detail["error"].as_str().unwrap();
    assert!(error.contains("a quote is never closed"), "{error}");
    assert!(error.contains(&format!("line {}", lines / 3 + 2)), "{error}");
    let held = most.load(Ordering::Relaxed) as u64 - before.min(most.load(Ordering::Relaxed) as u64);
    assert!(held < 100 << 20, "{} MiB were held", held >> 20);
    assert_eq!(count(&client).await, json!(0));
}

/// Where a process reads a file now.
fn place_in(pid: u32, path: &Path) -> Option<u64> {
    let folder = format!("/proc/{pid}/fd");
    let open = std::fs::read_dir(folder)
        .ok()?
        .flatten()
        .find(|f| std::fs::read_link(f.path()).is_ok_and(|p| p == path))?;
    let info =
        std::fs::read_to_string(format!("/proc/{pid}/fdinfo/{}", open.file_name().to_string_lossy())).ok()?;
    info.lines().find_map(|line| line.strip_prefix("pos:"))?.trim().parse().ok()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_changes_while_it_is_sent_is_refused() {
    let (data, tables) = (folder(), folder());
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    let (mapping, table) = (tables.path().join("load.toml"), tables.path().join("p.csv"));
    std::fs::write(&mapping, PARTS).unwrap();
    for shorter in [true, false] {
        let mut file = std::fs::File::create(&table).unwrap();
        file.write_all(b"code,name\na,b\n").unwrap();
        // The rest is a hole.
        file.set_len(400 << 20).unwrap();
        let mut sending = Command::new(binary())
            .args(["load", "-g", "g", &mapping.to_string_lossy()])
            .env("GRAPHODROME_URL", &service.url)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let began = Instant::now();
        while place_in(sending.id(), &table).is_none_or(|place| place < 1 << 20) {
            assert!(began.elapsed() < Duration::from_secs(60), "the file is not sent");
            assert!(sending.try_wait().unwrap().is_none(), "the command ended before the file changed");
            std::thread::yield_now();
        }
        if shorter {
            file.set_len(1 << 20).unwrap();
        } else {
            std::io::Seek::seek(&mut file, std::io::SeekFrom::End(0)).unwrap();
            file.write_all(b"\nc,d\n").unwrap();
        }
        let output = sending.wait_with_output().unwrap();
        let said = stderr(&output);
        assert!(!output.status.success(), "{said}");
        assert!(said.contains("p.csv") && said.contains("changed while it was"), "{said}");
        assert!(client.jobs().await.unwrap().iter().all(|job| job.state != "running"));
        assert_eq!(count(&client).await, json!(0));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn folds_under_a_stream_of_commits_lose_nothing() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    client.create_graph("g", None).await.unwrap();
    let rows = |from: i64, to: i64| (from..to).map(|i| format!("r{i},x\n")).collect::<String>();
    assert_eq!(load(&client, &rows(0, 4_000)).await.state, "done");
    let stop = Arc::new(AtomicBool::new(false));
    let writers: Vec<_> = (0..4)
        .map(|writer| {
            let (client, stop) = (service.client(), stop.clone());
            tokio::spawn(async move {
                let mut made = 0i64;
                while !stop.load(Ordering::Relaxed) {
                    let code = format!("w{writer}-{made}");
                    query(&client, "g", &format!("INSERT (:Part {{code: '{code}', name: 'n'}})")).await;
                    made += 1;
                    if made % 5 == 0 {
                        let text = format!("MATCH (p:Part {{code: '{code}'}}) SET p.name = 'changed'");
                        query(&client, "g", &text).await;
                    }
                }
                made
            })
        })
        .collect();
    // Each a level of its own: after some of them they are merged, in the background.
    let mut loaded = 4_000;
    for _ in 0..20 {
        assert_eq!(load(&client, &rows(loaded, loaded + 100)).await.state, "done");
        loaded += 100;
    }
    stop.store(true, Ordering::Relaxed);
    let (mut made, mut changed) = (0, 0);
    for writer in writers {
        let own = writer.await.unwrap();
        made += own;
        changed += own / 5;
    }
    assert!(made > 100, "{made} commits in between are too few to tell");
    let text = "MATCH (p:Part) RETURN COUNT(*) AS n, COUNT(DISTINCT p.code) AS codes, SUM(CASE WHEN p.name = 'changed' THEN 1 ELSE 0 END) AS changed";
    let wanted = json!([loaded + made, loaded + made, changed]);
    assert_eq!(json!(query(&client, "g", text).await.rows[0]), wanted);
    service.kill();
    let service = Running::start(data.path(), &[]);
    assert_eq!(json!(query(&service.client(), "g", text).await.rows[0]), wanted);
}
