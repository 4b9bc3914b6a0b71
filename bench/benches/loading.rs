//! Bulk loading: a random graph with typed properties from files to durable and queryable, beside PostgreSQL's
//! COPY with a primary key and two indexes, and beside a plain reader of the same CSV; packed and columnar
//! tables; memory; a second load of one hundredth; queries meanwhile; opening after a restart.
//! NODES and EDGES say how large, SKEWED=1 draws R-MAT, OURS_ONLY=1 leaves PostgreSQL out.

#![allow(clippy::unwrap_used)]

use std::io::{BufRead, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Instant;

use futures::StreamExt;
use graphodrome_bench::{Line, median, setting, shown, table};
use graphodrome_client::{Client, Job, QueryRequest};
use graphodrome_generator::{Format, Output, Packing, Shape, Style, random_graph};
use graphodrome_store::PrivateServer;
use graphodrome_tests::*;
use sea_orm::sqlx::postgres::PgPoolCopyExt;
use sea_orm::sqlx::{self, Executor, PgPool, Row};

fn main() {
    if std::env::args().any(|a| a == "--test") || !std::env::args().any(|a| a == "--bench") {
        return;
    }
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    runtime.block_on(figures());
}

fn generated(shape: Shape, format: Format, packing: Packing) -> tempfile::TempDir {
    let place = folder();
    let style = Style { output: Output { format, packing }, properties: true };
    let started = Instant::now();
    random_graph(shape, 7, style, place.path()).unwrap();
    let bytes = size(place.path());
    println!(
        "made {format:?} {packing:?}: {} MB in {} ({:.0} MB/s)",
        bytes / 1_000_000,
        shown(started.elapsed().as_secs_f64() * 1e3),
        bytes as f64 / 1e6 / started.elapsed().as_secs_f64()
    );
    place
}

/// Bytes of the tables in a folder.
fn size(folder: &Path) -> u64 {
    let files = std::fs::read_dir(folder).unwrap().flatten();
    let tables = files.filter(|f| {
        let name = f.file_name().to_string_lossy().into_owned();
        name.starts_with("nodes") || name.starts_with("edges")
    });
    tables.map(|f| f.metadata().unwrap().len()).sum()
}

/// Bytes of its own that the service's process holds now: without the pages of mapped files, which the
/// system takes back whenever it wants.
fn memory(data: &Path) -> u64 {
    let wanted = format!("--data\0{}", data.display());
    for entry in std::fs::read_dir("/proc").unwrap().flatten() {
        let command = std::fs::read_to_string(entry.path().join("cmdline")).unwrap_or_default();
        if command.contains(&wanted) && command.contains("graphodrome") {
            let status = std::fs::read_to_string(entry.path().join("status")).unwrap_or_default();
            let line = status.lines().find(|l| l.starts_with("RssAnon")).unwrap_or("");
            return line.split_whitespace().nth(1).and_then(|v| v.parse::<u64>().ok()).unwrap_or(0) << 10;
        }
    }
    0
}

/// The most that [`memory`] says until it is stopped.
fn watched(data: &Path) -> (Arc<AtomicBool>, std::thread::JoinHandle<u64>) {
    let stop = Arc::new(AtomicBool::new(false));
    let (data, stopped) = (data.to_path_buf(), stop.clone());
    let watching = std::thread::spawn(move || {
        let mut most = 0;
        while !stopped.load(Ordering::Relaxed) {
            most = most.max(memory(&data));
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        most
    });
    (stop, watching)
}

/// Lets the mapping name files of the service's import folder.
fn read_there(folder: &Path) {
    let mapping = folder.join("load.toml");
    let text = std::fs::read_to_string(&mapping).unwrap();
    std::fs::write(&mapping, text.replace("file = \"", "file = \"import:")).unwrap();
}

async fn loaded(client: &Client, graph: &str, folder: &Path) -> (f64, Job) {
    let started = Instant::now();
    let job = load_mapping(client, graph, &folder.join("load.toml")).await;
    let ms = started.elapsed().as_secs_f64() * 1e3;
    assert_eq!(job.state, "done", "{}", job.detail["error"]);
    let part = |name: &str| job.detail["account"][name].as_f64().unwrap();
    println!(
        "load: {} of which reading {:.0} ms, resolving {:.0} ms, building {:.0} ms, writing {:.0} ms",
        shown(ms),
        part("read_ms"),
        part("resolve_ms"),
        part("build_ms"),
        part("write_ms")
    );
    (ms, job)
}

async fn create(client: &Client, folder: &Path) {
    let text = std::fs::read_to_string(folder.join("model.gql")).unwrap();
    client.query(&QueryRequest { text, ..QueryRequest::default() }).await.unwrap();
}

/// Milliseconds in which two threads get through the records of a CSV file, each through one half.
fn plain_reader(path: &Path) -> f64 {
    let file = std::fs::read(path).unwrap();
    let middle = file.len() / 2 + file[file.len() / 2..].iter().position(|b| *b == b'\n').unwrap() + 1;
    let started = Instant::now();
    std::thread::scope(|scope| {
        for half in [&file[..middle], &file[middle..]] {
            scope.spawn(move || {
                let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(half);
                let mut record = csv::ByteRecord::new();
                let mut fields = 0u64;
                while reader.read_byte_record(&mut record).unwrap() {
                    fields += record.len() as u64;
                }
                assert!(fields > 0);
            });
        }
    });
    started.elapsed().as_secs_f64() * 1e3
}

/// Milliseconds in which two threads read the rows of a CSV file as texts, each half of the file.
fn text_reader(path: &Path) -> f64 {
    let length = std::fs::metadata(path).unwrap().len();
    let mut file = std::fs::File::open(path).unwrap();
    file.seek(SeekFrom::Start(length / 2)).unwrap();
    let mut rest = String::new();
    std::io::BufReader::new(file).read_line(&mut rest).unwrap();
    let middle = length / 2 + rest.len() as u64;
    let started = Instant::now();
    std::thread::scope(|scope| {
        for (from, to) in [(0, middle), (middle, length)] {
            scope.spawn(move || {
                let mut half = std::fs::File::open(path).unwrap();
                half.seek(SeekFrom::Start(from)).unwrap();
                let half = half.take(to - from);
                let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(half);
                let fields: u64 = reader.records().map(|row| row.unwrap().len() as u64).sum();
                assert!(fields > 0);
            });
        }
    });
    started.elapsed().as_secs_f64() * 1e3
}

async fn run(pool: &PgPool, text: &str) {
    pool.execute(sqlx::raw_sql(sqlx::AssertSqlSafe(text.to_string()))).await.unwrap();
}

async fn copy(pool: &PgPool, table: &str, path: &Path) {
    let text = format!("COPY {table} FROM STDIN (FORMAT csv, HEADER)");
    let mut copy = pool.copy_in_raw(&text).await.unwrap();
    copy.read_from(tokio::fs::File::open(path).await.unwrap()).await.unwrap();
    copy.finish().await.unwrap();
}

/// The load once more, into a service of its own.
async fn again(tables: &Path) -> f64 {
    let data = folder();
    let service = Running::start(data.path(), &["--import-dir", tables.to_str().unwrap()]);
    let client = service.client();
    create(&client, tables).await;
    loaded(&client, "random", tables).await.0
}

async fn figures() {
    let (nodes, edges) = (setting("NODES", 1_000_000) as u32, setting("EDGES", 16_000_000));
    let shape = match setting("SKEWED", 0) {
        0 => Shape::Even { nodes, edges },
        _ => Shape::skewed(nodes, edges),
    };
    let mut lines = vec![];
    let tables = generated(shape, Format::Csv, Packing::None);
    let bytes = size(tables.path());
    let data = folder();
    // Like PostgreSQL's own COPY FROM a file the service reads its import folder itself.
    read_there(tables.path());
    let imports = tables.path().to_str().unwrap();
    let service = Running::start(data.path(), &["--query-seconds", "600", "--import-dir", imports]);
    let client = service.client();
    create(&client, tables.path()).await;
    let (stop, watching) = watched(data.path());
    let (first, _) = loaded(&client, "random", tables.path()).await;
    stop.store(true, Ordering::Relaxed);
    let (peak, now) = (watching.join().unwrap(), memory(data.path()));
    let detail = client.get("/v1/graphs/random").await.unwrap();
    let of = |name: &str| detail[name].as_u64().unwrap();
    let held = of("column_bytes") + of("adjacency_bytes") + of("index_bytes");
    println!(
        "memory: the graph {} MiB, the process at most {} MiB of its own, {} MiB after the load",
        held >> 20,
        peak >> 20,
        now >> 20
    );
    lines.push(Line {
        figure: "peak memory of the load beside the graph in memory (at most)".into(),
        ours: format!("{} MiB", peak >> 20),
        theirs: format!("graph {} MiB", held >> 20),
        ratio: peak as f64 / held as f64,
        target: "<= 4".into(),
    });
    let mut loads = vec![first, again(tables.path()).await];
    let mut sql = None;
    if setting("OURS_ONLY", 0) == 0 {
        let beside = folder();
        let server = PrivateServer::start(beside.path()).unwrap();
        let pool = PgPool::connect(&server.url()).await.unwrap();
        let started = Instant::now();
        run(&pool, "CREATE TABLE nodes (id bigint NOT NULL, name text, level double precision)").await;
        run(&pool, "CREATE TABLE edges (source bigint NOT NULL, target bigint NOT NULL, weight bigint, since date, length double precision)").await;
        copy(&pool, "nodes", &tables.path().join("nodes.csv")).await;
        copy(&pool, "edges", &tables.path().join("edges.csv")).await;
        run(&pool, "ALTER TABLE nodes ADD PRIMARY KEY (id)").await;
        run(&pool, "CREATE INDEX ON edges (source, target)").await;
        run(&pool, "CREATE INDEX ON edges (target, source)").await;
        let theirs = started.elapsed().as_secs_f64() * 1e3;
        println!("PostgreSQL: {}", shown(theirs));
        sql = Some(theirs);
        pool.close().await;
        server.stop().unwrap();
    }
    loads.push(again(tables.path()).await);
    let ms = median(loads);
    if let Some(theirs) = sql {
        let figure =
            format!("load {nodes} nodes and {edges} edges with properties, the median of three loads");
        let (ours, theirs, ratio) = (shown(ms), shown(theirs), theirs / ms);
        lines.insert(0, Line { figure, ours, theirs, ratio, target: "8".into() });
    }
    let files = [tables.path().join("edges.csv"), tables.path().join("nodes.csv")];
    type Reader = fn(&Path) -> f64;
    let readers: [(&str, Reader, &str); 2] = [
        ("a plain CSV reader's, rows as texts from the files", text_reader, "0.33"),
        ("a bare CSV reader's, bytes in memory cut into fields", plain_reader, ""),
    ];
    for (name, reader, target) in readers {
        let ms_of = || files.iter().map(|file| reader(file)).sum::<f64>();
        let reader = median((0..3).map(|_| ms_of()).collect());
        lines.push(Line {
            figure: format!("the load's rate beside {name}, two threads, {} MB", bytes / 1_000_000),
            ours: format!("{:.0} MB/s", bytes as f64 / 1e3 / ms),
            theirs: format!("reader {:.0} MB/s", bytes as f64 / 1e3 / reader),
            ratio: reader / ms,
            target: target.into(),
        });
    }
    meanwhile(&client, tables.path(), nodes, &mut lines).await;
    second(&client, shape, ms, &mut lines).await;
    reopened(service, data.path(), ms, &mut lines).await;
    packed(shape, ms, &mut lines).await;
    println!("\n{}", table(&lines).replace("PostgreSQL", "beside"));
}

/// The rate of a two-hop query while another graph is loaded, and while nothing is.
async fn meanwhile(client: &Client, tables: &Path, nodes: u32, lines: &mut Vec<Line>) {
    let stop = Arc::new(AtomicBool::new(false));
    let answered = Arc::new(AtomicU64::new(0));
    let asking = {
        let (client, stop, answered) = (client.clone(), stop.clone(), answered.clone());
        tokio::spawn(async move {
            let mut place = 1u64;
            while !stop.load(Ordering::Relaxed) {
                place = place * 48_271 % 2_147_483_647;
                let text = format!(
                    "MATCH (a:Place {{id: {}}})-[:LINK]->()-[:LINK]->(b) RETURN COUNT(DISTINCT b) AS n",
                    place % u64::from(nodes) + 1
                );
                client.query(&request("random", &text)).await.unwrap();
                answered.fetch_add(1, Ordering::Relaxed);
            }
        })
    };
    let rate = |count: u64, started: Instant| count as f64 / started.elapsed().as_secs_f64();
    let mut alone = vec![];
    for _ in 0..3 {
        let (before, started) = (answered.load(Ordering::Relaxed), Instant::now());
        tokio::time::sleep(std::time::Duration::from_secs(1)).await;
        alone.push(rate(answered.load(Ordering::Relaxed) - before, started));
    }
    client
        .query(&QueryRequest {
            text: "CREATE GRAPH other TYPED random_graph".into(),
            ..QueryRequest::default()
        })
        .await
        .unwrap();
    let (before, started) = (answered.load(Ordering::Relaxed), Instant::now());
    loaded(client, "other", tables).await;
    let beside = rate(answered.load(Ordering::Relaxed) - before, started);
    stop.store(true, Ordering::Relaxed);
    asking.await.unwrap();
    client.drop_graph("other").await.unwrap();
    lines.push(Line {
        figure: "queries (two hops) answered while a load runs, beside without".into(),
        ours: format!("{beside:.0}/s"),
        theirs: format!("alone {:.0}/s", median(alone.clone())),
        ratio: beside / median(alone),
        target: "0.5".into(),
    });
}

/// A hundredth more nodes and edges.
async fn second(client: &Client, shape: Shape, first: f64, lines: &mut Vec<Line>) {
    let (nodes, edges) = match shape {
        Shape::Even { nodes, edges } | Shape::Quarters { nodes, edges, .. } => (nodes, edges),
        _ => unreachable!("only these are loaded"),
    };
    let place = folder();
    let more = nodes / 100;
    let mut out = std::io::BufWriter::new(std::fs::File::create(place.path().join("nodes.csv")).unwrap());
    use std::io::Write;
    writeln!(out, "id,name,level").unwrap();
    for id in nodes + 1..=nodes + more {
        writeln!(out, "{id},place-{id},1.5").unwrap();
    }
    drop(out);
    let mut out = std::io::BufWriter::new(std::fs::File::create(place.path().join("edges.csv")).unwrap());
    writeln!(out, "source,target,weight,since,length").unwrap();
    let mut number = 7u64;
    for _ in 0..edges / 100 {
        let mut draw = || {
            number = number.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
            (number >> 33) % u64::from(nodes + more) + 1
        };
        let (a, b) = (draw(), draw());
        writeln!(out, "{a},{b},{},2024-05-31,{}.5", a % 100, b % 1000).unwrap();
    }
    drop(out);
    let mapping = "graph = \"random\"\n[[table]]\nfile = \"nodes.csv\"\n[[table.node]]\nlabels = [\"Place\"]\nproperties = { id = \"id\", name = \"name\", level = \"level\" }\n[[table]]\nfile = \"edges.csv\"\n[[table.edge]]\nlabel = \"LINK\"\nsource = { labels = [\"Place\"], key = { id = \"source\" } }\ntarget = { labels = [\"Place\"], key = { id = \"target\" } }\nproperties = { weight = \"weight\", since = \"since\", length = \"length\" }\nsame = \"keep-parallel\"\n";
    std::fs::write(place.path().join("load.toml"), mapping).unwrap();
    let (ms, job) = loaded(client, "random", place.path()).await;
    assert_eq!(job.detail["account"]["rejects"], 0);
    lines.push(Line {
        figure: "a second load of 1 % more, as a share of the first".into(),
        ours: shown(ms),
        theirs: format!("first {}", shown(first)),
        ratio: ms / first,
        target: "~0.01".into(),
    });
}

/// Opening after a restart, beside the load and beside reading the stored bytes.
async fn reopened(service: Running, data: &Path, load: f64, lines: &mut Vec<Line>) {
    let server = PrivateServer::start(data).unwrap();
    let pool = PgPool::connect(&server.url()).await.unwrap();
    // The graph that was dropped is removed in the background.
    let graphs = "SELECT count(DISTINCT graph_id) FROM segments";
    while sqlx::query_scalar::<_, i64>(graphs).fetch_one(&pool).await.unwrap() > 1 {
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    service.interrupt();
    pool.close().await;
    let server = {
        drop(server);
        PrivateServer::start(data).unwrap()
    };
    let pool = PgPool::connect(&server.url()).await.unwrap();
    let mut reading = vec![];
    let mut stored = 0i64;
    for _ in 0..2 {
        let started = Instant::now();
        let rows = sqlx::query("SELECT id FROM segments").fetch_all(&pool).await.unwrap();
        let ids: Vec<i64> = rows.iter().map(|r| r.get(0)).collect();
        let halves: Vec<_> = ids
            .chunks(ids.len().div_ceil(4))
            .map(|ids| {
                let (pool, ids) = (pool.clone(), ids.to_vec());
                tokio::spawn(async move {
                    let mut bytes = 0i64;
                    for id in ids {
                        let text = format!(
                            "COPY (SELECT data FROM segment_pages WHERE segment_id = {id} ORDER BY page) TO STDOUT (FORMAT binary)"
                        );
                        let mut pages = pool.copy_out_raw(&text).await.unwrap();
                        while let Some(piece) = pages.next().await {
                            bytes += piece.unwrap().len() as i64;
                        }
                    }
                    bytes
                })
            })
            .collect();
        stored = 0;
        for half in halves {
            stored += half.await.unwrap();
        }
        reading.push(started.elapsed().as_secs_f64() * 1e3);
    }
    pool.close().await;
    let running = Instant::now();
    let service = Running::start(data, &["--query-seconds", "600"]);
    let opening = running.elapsed().as_secs_f64() * 1e3;
    drop(service);
    drop(server);
    let reading = median(reading);
    lines.push(Line {
        figure: "opening after a restart, as a share of the load".into(),
        ours: shown(opening),
        theirs: format!("load {}", shown(load)),
        ratio: opening / load,
        target: "<= 0.2".into(),
    });
    lines.push(Line {
        figure: format!("opening beside reading the same {} MB from PostgreSQL", stored / 1_000_000),
        ours: shown(opening),
        theirs: format!("reading {}", shown(reading)),
        ratio: opening / reading,
        target: "<= 2".into(),
    });
}

/// The same graph from packed and columnar tables, each into a service of its own.
async fn packed(shape: Shape, plain: f64, lines: &mut Vec<Line>) {
    for (name, format, packing) in [
        ("gzip CSV", Format::Csv, Packing::Gzip),
        ("Zstandard CSV", Format::Csv, Packing::Zstandard),
        ("Parquet", Format::Parquet, Packing::None),
    ] {
        if setting("EDGES", 16_000_000) > 20_000_000 {
            return;
        }
        let tables = generated(shape, format, packing);
        let data = folder();
        read_there(tables.path());
        let service = Running::start(data.path(), &["--import-dir", tables.path().to_str().unwrap()]);
        let client = service.client();
        create(&client, tables.path()).await;
        let (ms, _) = loaded(&client, "random", tables.path()).await;
        let decoding = decoder(tables.path(), format, packing);
        lines.push(Line {
            figure: format!("the same from {name}, beside its decoder alone and the load of plain CSV"),
            ours: shown(ms),
            theirs: format!("decoder {}, CSV {}", shown(decoding), shown(plain)),
            ratio: (decoding + plain) / ms,
            target: "1".into(),
        });
    }
}

/// Milliseconds in which a decoder alone gets through the edges.
fn decoder(folder: &Path, format: Format, packing: Packing) -> f64 {
    use std::io::Read;
    let drain = |reader: &mut dyn Read| {
        let mut buffer = vec![0u8; 1 << 20];
        while reader.read(&mut buffer).unwrap() > 0 {}
    };
    let started = Instant::now();
    match (format, packing) {
        (Format::Parquet, _) => {
            let file = std::fs::File::open(folder.join("edges.parquet")).unwrap();
            let reader =
                parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder::try_new(file).unwrap();
            reader.build().unwrap().for_each(|batch| assert!(batch.unwrap().num_rows() > 0));
        }
        (_, Packing::Gzip) => {
            let file = std::fs::File::open(folder.join("edges.csv.gz")).unwrap();
            drain(&mut flate2::read::MultiGzDecoder::new(std::io::BufReader::new(file)));
        }
        _ => {
            let file = std::fs::File::open(folder.join("edges.csv.zst")).unwrap();
            drain(&mut zstd::stream::read::Decoder::new(file).unwrap());
        }
    }
    started.elapsed().as_secs_f64() * 1e3
}
