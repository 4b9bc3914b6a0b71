//! Requests of docs/benchmarks.md: key lookups and single inserts of many clients at once, each against
//! the same in SQL on PostgreSQL, in turns of one run: `cargo bench --bench requests`. Every client has one
//! connection that stays, a plain socket for HTTP and one of PostgreSQL's protocol with a prepared statement: over
//! TCP, as HTTP is, and for what that costs also over PostgreSQL's Unix socket.
//! LOOKUPS and INSERTS are requests a client and turn, TURNS how many turns there are.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::path::Path;
use std::time::{Duration, Instant};

use graphodrome_bench::{Line, median, setting, shown, table};
use graphodrome_client::QueryRequest;
use graphodrome_generator::{Shape, Style};
use graphodrome_store::PrivateServer;
use graphodrome_tests::{Running, folder, load_mapping, query, single};
use sea_orm::sqlx::postgres::{PgConnection, PgPoolCopyExt, PgPoolOptions};
use sea_orm::sqlx::{self, Connection, Row};
use serde::Deserialize;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// A client with one connection.
struct Plain {
    stream: TcpStream,
    host: String,
    read: Vec<u8>,
}

#[derive(Deserialize)]
struct Answer {
    rows: Vec<Vec<i64>>,
    summary: Summary,
}

#[derive(Deserialize)]
struct Summary {
    execute_us: f64,
}

impl Plain {
    async fn connect(address: &str) -> Plain {
        let host = address.trim_start_matches("http://").trim_end_matches('/').to_string();
        let stream = TcpStream::connect(&host).await.unwrap();
        stream.set_nodelay(true).unwrap();
        Plain { stream, host, read: vec![] }
    }

    async fn query(&mut self, text: &str, id: u64) -> Answer {
        let body = format!("{{\"text\":\"{text}\",\"graph\":\"random\",\"parameters\":{{\"id\":{id}}}}}");
        let request = format!(
            "POST /v1/query HTTP/1.1\r\nhost: {}\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
            self.host,
            body.len()
        );
        self.stream.write_all(request.as_bytes()).await.unwrap();
        self.read.clear();
        loop {
            assert!(
                self.stream.read_buf(&mut self.read).await.unwrap() > 0,
                "the service closed the connection"
            );
            let Some((head, body)) = parts(&self.read) else { continue };
            assert!(head.starts_with("HTTP/1.1 200"), "{}", String::from_utf8_lossy(&self.read));
            let length = head.lines().find_map(|line| line.strip_prefix("content-length: ")).unwrap();
            if body.len() >= length.parse().unwrap() {
                return serde_json::from_slice(body).unwrap();
            }
        }
    }
}

/// Head and body of an answer, once the head is there.
fn parts(read: &[u8]) -> Option<(&str, &[u8])> {
    let end = read.windows(4).position(|four| four == b"\r\n\r\n")?;
    Some((std::str::from_utf8(&read[..end]).unwrap(), &read[end + 4..]))
}

/// Requests a second of all clients at once, and their times in milliseconds.
async fn rate<C, W>(clients: Vec<C>, each: usize, work: W) -> (Vec<C>, f64, Vec<f64>)
where
    C: Send + 'static,
    W: AsyncWork<C>,
{
    let (count, started) = (clients.len(), Instant::now());
    let tasks: Vec<_> = clients
        .into_iter()
        .enumerate()
        .map(|(number, mut client)| {
            tokio::spawn(async move {
                let mut times = vec![];
                for i in 0..each {
                    let began = Instant::now();
                    work.once(&mut client, number as u64, i as u64).await;
                    times.push(began.elapsed().as_secs_f64() * 1e3);
                }
                (client, times)
            })
        })
        .collect();
    let (mut clients, mut times) = (vec![], vec![]);
    for task in tasks {
        let (client, taken) = task.await.unwrap();
        clients.push(client);
        times.extend(taken);
    }
    (clients, (count * each) as f64 / started.elapsed().as_secs_f64(), times)
}

/// One request of a client: its number and how many requests it made before.
trait AsyncWork<C>: Copy + Send + 'static {
    fn once(self, client: &mut C, number: u64, before: u64) -> impl Future<Output = ()> + Send;
}

const NODES: u64 = 1 << 16;
const LOOKUP: &str = "MATCH (p:Place {id: $id}) RETURN p.id AS id";
const INSERT: &str = "INSERT (:Place {id: $id})";

#[derive(Clone, Copy)]
struct Lookup;

#[derive(Clone, Copy)]
struct Insert {
    /// The first id of this turn.
    from: u64,
}

fn known(number: u64, before: u64) -> u64 {
    1 + (number * 7919 + before * 31) % NODES
}

impl AsyncWork<Plain> for Lookup {
    async fn once(self, client: &mut Plain, number: u64, before: u64) {
        let id = known(number, before);
        assert_eq!(client.query(LOOKUP, id).await.rows, [[id as i64]]);
    }
}

impl AsyncWork<PgConnection> for Lookup {
    async fn once(self, client: &mut PgConnection, number: u64, before: u64) {
        let id = known(number, before) as i64;
        let row = sqlx::query("SELECT id FROM nodes WHERE id = $1").bind(id).fetch_one(client).await.unwrap();
        assert_eq!(row.get::<i64, _>(0), id);
    }
}

impl AsyncWork<Plain> for Insert {
    async fn once(self, client: &mut Plain, number: u64, before: u64) {
        client.query(INSERT, self.from + number * 100_000 + before).await;
    }
}

impl AsyncWork<PgConnection> for Insert {
    async fn once(self, client: &mut PgConnection, number: u64, before: u64) {
        let id = (self.from + number * 100_000 + before) as i64;
        sqlx::query("INSERT INTO made (id, name) VALUES ($1, 'x')").bind(id).execute(client).await.unwrap();
    }
}

/// A server that takes connections over TCP too, where, and where over its Unix socket.
fn with_tcp(folder: &Path) -> (PrivateServer, String, String) {
    PrivateServer::start(folder).unwrap().stop().unwrap();
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let settings = folder.join("postgres/data/postgresql.conf");
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(
        &settings,
        format!("{text}listen_addresses = '127.0.0.1'\nport = {port}\nmax_connections = 80\n"),
    )
    .unwrap();
    let server = PrivateServer::start(folder).unwrap();
    let url = server.url();
    let (place, database) = url.rsplit_once('/').unwrap();
    let (user, _) = place.split_once('@').unwrap();
    let urls = (format!("{user}@127.0.0.1:{port}/{database}"), format!("{place}:{port}/{database}"));
    (server, urls.0, urls.1)
}

async fn copy(url: &str, table: &str, path: &Path) {
    let pool = PgPoolOptions::new().connect(url).await.unwrap();
    let mut copy = pool.copy_in_raw(&format!("COPY {table} FROM STDIN (FORMAT csv, HEADER)")).await.unwrap();
    copy.send(std::fs::read(path).unwrap()).await.unwrap();
    copy.finish().await.unwrap();
    pool.close().await;
}

/// What all turns gave of one kind of request.
#[derive(Default)]
struct Turns {
    ours: Vec<f64>,
    theirs: Vec<f64>,
    our_times: Vec<f64>,
    their_times: Vec<f64>,
}

impl Turns {
    /// A turn: the rate and the times of each.
    fn add(&mut self, ours: (f64, Vec<f64>), theirs: (f64, Vec<f64>)) {
        self.ours.push(ours.0);
        self.our_times.extend(ours.1);
        self.theirs.push(theirs.0);
        self.their_times.extend(theirs.1);
    }

    fn line(self, figure: &str) -> Line {
        let ratios: Vec<f64> =
            self.ours.iter().zip(&self.theirs).map(|(ours, theirs)| ours / theirs).collect();
        let each: Vec<String> = ratios.iter().map(|r| format!("{r:.2}")).collect();
        println!("{figure}: {}", each.join(", "));
        let late = |mut times: Vec<f64>| {
            times.sort_by(f64::total_cmp);
            times[times.len() * 99 / 100]
        };
        let late = (late(self.our_times), late(self.their_times));
        Line {
            figure: format!("{figure}, a second (99th percentile {:.2} ms, {:.2} ms)", late.0, late.1),
            ours: format!("{:.0}", median(self.ours)),
            theirs: format!("{:.0}", median(self.theirs)),
            ratio: median(ratios),
            target: "1".into(),
        }
    }
}

async fn requests() {
    let (tables, data, beside) = (folder(), folder(), folder());
    let shape = Shape::skewed(NODES as u32, 16 * NODES);
    graphodrome_generator::random_graph(shape, 11, Style::default(), tables.path()).unwrap();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    let model = std::fs::read_to_string(tables.path().join("model.gql")).unwrap();
    client.query(&QueryRequest { text: model, ..QueryRequest::default() }).await.unwrap();
    assert_eq!(load_mapping(&client, "random", &tables.path().join("load.toml")).await.state, "done");
    let (server, tcp, local) = with_tcp(beside.path());
    let (mut sql, mut socket) = (vec![], vec![]);
    for _ in 0..32 {
        sql.push(PgConnection::connect(&tcp).await.unwrap());
    }
    for _ in 0..32 {
        socket.push(PgConnection::connect(&local).await.unwrap());
    }
    for text in
        ["CREATE TABLE nodes (id bigint PRIMARY KEY)", "CREATE TABLE made (id bigint PRIMARY KEY, name text)"]
    {
        sqlx::query(text).execute(&mut sql[0]).await.unwrap();
    }
    copy(&tcp, "nodes", &tables.path().join("nodes.csv")).await;
    let mut http = vec![];
    for _ in 0..32 {
        http.push(Plain::connect(&service.url).await);
    }

    let turns = setting("TURNS", 5) as usize;
    let mut lines = vec![];
    let each = setting("LOOKUPS", 4000) as usize;
    let (mut few_http, mut few_sql, mut few_socket) =
        (http.split_off(24), sql.split_off(24), socket.split_off(24));
    let (mut lookups, mut by_socket) = (Turns::default(), Turns::default());
    for turn in 0..=turns {
        let ((ours, theirs, local), (times, their_times, local_times));
        (few_http, ours, times) = rate(few_http, each, Lookup).await;
        (few_sql, theirs, their_times) = rate(few_sql, each, Lookup).await;
        (few_socket, local, local_times) = rate(few_socket, each, Lookup).await;
        // The first is for warming up.
        if turn > 0 {
            lookups.add((ours, times.clone()), (theirs, their_times));
            by_socket.add((ours, times), (local, local_times));
        }
    }
    lines.push(lookups.line("key lookup through HTTP, 8 clients"));
    let beside = by_socket.line("the same, PostgreSQL over its Unix socket");
    lines.push(Line { target: String::new(), ..beside });

    // What a request takes besides its execution.
    let mut beyond = vec![];
    for i in 1..=2000 {
        let began = Instant::now();
        let answer = few_http[0].query(LOOKUP, i).await;
        beyond.push(began.elapsed().as_secs_f64() * 1e3 - answer.summary.execute_us / 1e3);
    }
    println!("a simple query takes {} besides its execution (target 0.3 ms)", shown(median(beyond)));

    http.extend(few_http);
    sql.extend(few_sql);
    socket.extend(few_socket);
    let each = setting("INSERTS", 500) as usize;
    let (mut inserts, mut by_socket) = (Turns::default(), Turns::default());
    for turn in 0..=turns {
        let work = Insert { from: 1_000_000 + turn as u64 * 10_000_000 };
        let ((ours, theirs, local), (times, their_times, local_times));
        (http, ours, times) = rate(http, each, work).await;
        (sql, theirs, their_times) = rate(sql, each, work).await;
        let apart = Insert { from: work.from + 5_000_000 };
        (socket, local, local_times) = rate(socket, each, apart).await;
        if turn > 0 {
            inserts.add((ours, times.clone()), (theirs, their_times));
            by_socket.add((ours, times), (local, local_times));
        }
    }
    let made = single(&client, "random", "MATCH (p:Place) WHERE p.id >= 1000000 RETURN COUNT(*) AS n").await;
    assert_eq!(made, 32 * each * (turns + 1));
    lines.push(inserts.line("single inserts, 32 clients"));
    let beside = by_socket.line("the same, PostgreSQL over its Unix socket");
    lines.push(Line { target: String::new(), ..beside });

    // One statement that changes a million elements.
    query(&client, "random", "MATCH (p:Place) WHERE p.id >= 1000000 DETACH DELETE p").await;
    let began = Instant::now();
    let changed = "MATCH ()-[e:LINK]->() SET e.weight = e.weight + 1 RETURN COUNT(*) AS n";
    let result = query(&client, "random", changed).await;
    let took = shown(began.elapsed().as_secs_f64() * 1e3);
    println!("one statement that changes {} edges: {took}", result.rows[0][0]);
    println!("\n{}", table(&lines));
    drop((sql, socket));
    server.stop().unwrap();
}

fn main() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    runtime.block_on(requests());
    runtime.shutdown_timeout(Duration::from_secs(5));
}
