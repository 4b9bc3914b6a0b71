//! The figures of docs/benchmarks.md, each against the same question in SQL on the same PostgreSQL in the
//! same run: `cargo bench -p graphodrome-bench`. NODES, EDGES, JUNCTIONS and QUERIES make it smaller;
//! SCENARIO_ONLY=1 leaves the random graphs out.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::path::Path;
use std::time::Instant;

use graphodrome_bench::{Line, Pair, engine, in_memory, median, setting, shown, table};
use graphodrome_client::{Client, QueryRequest};
use graphodrome_generator::{Output, Shape, Style};
use graphodrome_graph::{Snapshot, Value};
use graphodrome_store::PrivateServer;
use graphodrome_tests::{Running, folder, load_mapping};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use sea_orm::sqlx::postgres::{PgPool, PgPoolCopyExt};
use sea_orm::sqlx::{self, Row};

async fn run(pool: &PgPool, text: &str) {
    sqlx::query(sqlx::AssertSqlSafe(text.to_string())).execute(pool).await.unwrap();
}

async fn copy(pool: &PgPool, table: &str, path: &Path) {
    use std::io::Read;
    let mut file = std::fs::File::open(path).unwrap();
    let mut copy = pool.copy_in_raw(&format!("COPY {table} FROM STDIN (FORMAT csv, HEADER)")).await.unwrap();
    let mut buffer = vec![0u8; 4 << 20];
    loop {
        let n = file.read(&mut buffer).unwrap();
        if n == 0 {
            break;
        }
        copy.send(&buffer[..n]).await.unwrap();
    }
    copy.finish().await.unwrap();
}

/// Shortest path in SQL as good as we could write it: breadth first from both ends, the smaller frontier
/// first, in temporary tables with a key each.
fn bidirectional(key: &str, along: &str, against: &str) -> String {
    format!("
CREATE OR REPLACE FUNCTION hops(a {key}, b {key}) RETURNS int LANGUAGE plpgsql AS $$
DECLARE da int := 0; db int := 0; na int := 1; nb int := 1; met bool;
BEGIN
  IF a = b THEN RETURN 0; END IF;
  CREATE TEMP TABLE IF NOT EXISTS fa (id {key} PRIMARY KEY, d int) ON COMMIT DELETE ROWS;
  CREATE TEMP TABLE IF NOT EXISTS fb (id {key} PRIMARY KEY, d int) ON COMMIT DELETE ROWS;
  TRUNCATE fa, fb;
  INSERT INTO fa VALUES (a, 0); INSERT INTO fb VALUES (b, 0);
  LOOP
    IF na = 0 OR nb = 0 THEN RETURN NULL; END IF;
    IF na <= nb THEN
      INSERT INTO fa SELECT DISTINCT s.id, da + 1 FROM fa f CROSS JOIN LATERAL ({along}) s WHERE f.d = da ON CONFLICT DO NOTHING;
      GET DIAGNOSTICS na = ROW_COUNT; da := da + 1;
    ELSE
      INSERT INTO fb SELECT DISTINCT s.id, db + 1 FROM fb f CROSS JOIN LATERAL ({against}) s WHERE f.d = db ON CONFLICT DO NOTHING;
      GET DIAGNOSTICS nb = ROW_COUNT; db := db + 1;
    END IF;
    SELECT EXISTS (SELECT FROM fa JOIN fb USING (id)) INTO met;
    IF met THEN RETURN da + db; END IF;
  END LOOP;
END $$")
}

fn main() {
    // `cargo test --benches` only builds it.
    if std::env::args().any(|a| a == "--test") || !std::env::args().any(|a| a == "--bench") {
        return;
    }
    // One thread, so that neither side pays for waking another within its client.
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(figures());
}

async fn figures() {
    let (nodes, edges) = (setting("NODES", 1_000_000) as u32, setting("EDGES", 10_000_000));
    let mut lines = vec![];
    let graphs = if std::env::var("SCENARIO_ONLY").is_ok() { 0 } else { 2 };
    let shapes = [
        ("skewed random graph", Shape::skewed(nodes, edges), 3),
        ("even random graph", Shape::Even { nodes, edges }, 1),
    ];
    for (name, shape, rounds) in shapes.into_iter().take(graphs) {
        random_graph_figures(name, (nodes, edges, shape), rounds, &mut lines).await;
    }
    scenario(&mut lines).await;
    println!("\n{}", table(&lines));
}

async fn random_graph_figures(
    name: &str, (nodes, edges, shape): (u32, u64, Shape), rounds: usize, lines: &mut Vec<Line>,
) {
    let tables = folder();
    println!("Making a {name} of {nodes} nodes and {edges} edges");
    graphodrome_generator::random_graph(shape, 7, Style::default(), tables.path()).unwrap();
    let data = folder();
    let service = Running::start(data.path(), &["--query-seconds", "600"]);
    let client = service.client();
    let beside = folder();
    let server = PrivateServer::start(beside.path()).unwrap();
    let pool = PgPool::connect(&server.url()).await.unwrap();

    // Load: files to durable and queryable, some times each in turn.
    let (mut ours, mut theirs) = (vec![], vec![]);
    let model = std::fs::read_to_string(tables.path().join("model.gql")).unwrap();
    for round in 0..rounds {
        if round > 0 {
            client.drop_graph("random").await.unwrap();
            run(&pool, "DROP TABLE nodes, edges").await;
        }
        client.query(&QueryRequest { text: model.clone(), ..QueryRequest::default() }).await.unwrap();
        let started = Instant::now();
        let job = load_mapping(&client, "random", &tables.path().join("load.toml")).await;
        assert_eq!(job.state, "done", "{}", job.detail);
        ours.push(started.elapsed().as_secs_f64() * 1e3);
        let account = &job.detail["account"];
        println!(
            "load: {} of which reading {:.0} ms, resolving {:.0} ms, building {:.0} ms, writing {:.0} ms",
            shown(*ours.last().unwrap()),
            account["read_ms"].as_f64().unwrap(),
            account["resolve_ms"].as_f64().unwrap(),
            account["build_ms"].as_f64().unwrap(),
            account["write_ms"].as_f64().unwrap()
        );
        let started = Instant::now();
        run(&pool, "CREATE TABLE nodes (id bigint NOT NULL)").await;
        run(&pool, "CREATE TABLE edges (source bigint NOT NULL, target bigint NOT NULL, weight bigint)")
            .await;
        copy(&pool, "nodes", &tables.path().join("nodes.csv")).await;
        copy(&pool, "edges", &tables.path().join("edges.csv")).await;
        run(&pool, "ALTER TABLE nodes ADD PRIMARY KEY (id)").await;
        run(&pool, "CREATE INDEX ON edges (source, target)").await;
        run(&pool, "CREATE INDEX ON edges (target, source)").await;
        theirs.push(started.elapsed().as_secs_f64() * 1e3);
        println!("PostgreSQL: {}", shown(*theirs.last().unwrap()));
    }
    let (a, b) = (median(ours), median(theirs));
    lines.push(Line {
        figure: format!("{name}: load {nodes} nodes, {edges} edges"),
        ours: shown(a),
        theirs: shown(b),
        ratio: b / a,
        target: "5".into(),
    });
    run(&pool, "VACUUM ANALYZE nodes").await;
    run(&pool, "VACUUM ANALYZE edges").await;
    let along = "SELECT target AS id FROM edges WHERE source = f.id";
    let against = "SELECT source AS id FROM edges WHERE target = f.id";
    run(&pool, &bidirectional("bigint", along, against)).await;

    // The same graph in the engine itself, without service or storage.
    println!("Loading the engine");
    let snapshot = in_memory(tables.path());
    let pairs = pairs(&pool, setting("QUERIES", 200) as i64).await;
    questions(name, &client, "random", &pool, &snapshot, &pairs, lines).await;
    pool.close().await;
    server.stop().unwrap();
}

/// Pairs of nodes that have edges out of and into them, drawn evenly from all such nodes.
async fn pairs(pool: &PgPool, count: i64) -> Vec<Pair> {
    let rows = sqlx::query(
        "SELECT id FROM nodes WHERE EXISTS (SELECT FROM edges WHERE source = id)
           AND EXISTS (SELECT FROM edges WHERE target = id) ORDER BY md5(id::text) LIMIT 2 * $1",
    )
    .bind(count)
    .fetch_all(pool)
    .await
    .unwrap();
    let id = |row: &sqlx::postgres::PgRow| serde_json::json!(row.get::<i64, _>(0));
    rows.chunks_exact(2).map(|pair| (id(&pair[0]), id(&pair[1]))).collect()
}

async fn over_http(client: &Client, graph: &str, text: &str, pairs: &[Pair]) -> f64 {
    let mut times = vec![];
    for (a, b) in pairs {
        let parameters = serde_json::json!({ "a": a, "b": b });
        let request = QueryRequest {
            text: text.into(),
            graph: Some(graph.into()),
            parameters: parameters.as_object().unwrap().clone(),
            ..QueryRequest::default()
        };
        let started = Instant::now();
        client.query(&request).await.unwrap();
        times.push(started.elapsed().as_secs_f64() * 1e3);
    }
    median(times)
}

/// Median of a prepared statement over its protocol, and the answers.
async fn in_sql(pool: &PgPool, text: &str, pairs: &[Pair]) -> (f64, Vec<i64>) {
    let mut connection = pool.acquire().await.unwrap();
    let (mut times, mut answers) = (vec![], vec![]);
    for (a, b) in pairs {
        let started = Instant::now();
        let query = sqlx::query(sqlx::AssertSqlSafe(text.to_string()));
        let query = match (a.as_i64(), b.as_i64()) {
            (Some(a), Some(b)) => query.bind(a).bind(b),
            _ => query.bind(a.as_str().unwrap()).bind(b.as_str().unwrap()),
        };
        let row = query.fetch_one(&mut *connection).await.unwrap();
        times.push(started.elapsed().as_secs_f64() * 1e3);
        answers.push(row.get::<Option<i64>, _>(0).unwrap_or(-1));
    }
    (median(times), answers)
}

async fn questions(
    name: &str, client: &Client, graph: &str, pool: &PgPool, snapshot: &Snapshot, pairs: &[Pair],
    lines: &mut Vec<Line>,
) {
    // Along the edges, and over edges in either direction.
    for (what, edge, nested, step) in [
        (
            "two-hop distinct neighbourhood along the edges",
            "-[:LINK]->",
            "SELECT count(*) FROM (SELECT e1.target FROM edges e1 WHERE e1.source = $1
                UNION SELECT e2.target FROM edges e1 JOIN edges e2 ON e2.source = e1.target WHERE e1.source = $1) x
             WHERE $2::bigint IS NOT NULL",
            "SELECT target AS id FROM edges WHERE source = n.id",
        ),
        (
            "two-hop distinct neighbourhood in either direction",
            "-[:LINK]-",
            "WITH one AS (SELECT target AS id FROM edges WHERE source = $1 UNION SELECT source FROM edges WHERE target = $1)
             SELECT count(*) FROM (SELECT id FROM one
                UNION SELECT e.target FROM one JOIN edges e ON e.source = one.id
                UNION SELECT e.source FROM one JOIN edges e ON e.target = one.id) x
             WHERE id <> $1 AND $2::bigint IS NOT NULL",
            "SELECT target AS id FROM edges WHERE source = n.id UNION ALL SELECT source FROM edges WHERE target = n.id",
        ),
    ] {
        println!("{name}: {what}");
        let both_ways = edge == "-[:LINK]-";
        let other = if both_ways { " WHERE b <> a" } else { "" };
        let text = format!("MATCH (a:Place {{id: $a}}){edge}{{1,2}}(b:Place){other} RETURN COUNT(DISTINCT b) AS n");
        let except = if both_ways { "AND id <> $1" } else { "" };
        let recursive = format!(
            "WITH RECURSIVE near AS (SELECT $1::bigint AS id, 0 AS hop
               UNION SELECT s.id, n.hop + 1 FROM near n CROSS JOIN LATERAL ({step}) s WHERE n.hop < 2)
             SELECT count(DISTINCT id) FROM near WHERE hop > 0 {except} AND $2::bigint IS NOT NULL"
        );
        let (ours, answers) = engine(snapshot, &text, pairs);
        let http = over_http(client, graph, &text, pairs).await;
        let (nested_ms, nested_answers) = in_sql(pool, nested, pairs).await;
        let (recursive_ms, recursive_answers) = in_sql(pool, &recursive, pairs).await;
        assert_eq!(answers, nested_answers, "{what}: the answers differ");
        assert_eq!(answers, recursive_answers, "{what}: the answers differ");
        println!("nested {}, recursive {}", shown(nested_ms), shown(recursive_ms));
        compare(&format!("{name}: {what}"), ours, http, nested_ms.min(recursive_ms), lines);
    }

    println!("{name}: shortest path");
    let shortest = "MATCH (a:Place {id: $a}), (b:Place {id: $b}) MATCH p = ANY SHORTEST (a)-[:LINK]->*(b) RETURN PATH_LENGTH(p) AS n";
    let (ours, answers) = engine(snapshot, shortest, pairs);
    let http = over_http(client, graph, shortest, pairs).await;
    let (sql_ms, sql_answers) = in_sql(pool, "SELECT hops($1, $2)::bigint", pairs).await;
    assert_eq!(answers, sql_answers, "shortest path: the answers differ");
    compare(&format!("{name}: shortest path, unweighted"), ours, http, sql_ms, lines);
}

fn compare(figure: &str, engine: f64, http: f64, sql: f64, lines: &mut Vec<Line>) {
    for (place, ms, target) in [("in the engine", engine, "50"), ("through HTTP", http, "5")] {
        lines.push(Line {
            figure: format!("{figure}, {place}"),
            ours: shown(ms),
            theirs: shown(sql),
            ratio: sql / ms,
            target: target.into(),
        });
    }
}

/// What is within two edges of whatever kind of a junction: its pipes, consumers, sensors, orders, and all that its
/// district has. In SQL over one table of all edges with whole numbers for ends, which favours it: a
/// relational model would have to ask every join table.
async fn any_edges(
    name: &str, client: &Client, pool: &PgPool, snapshot: &Snapshot, pairs: &[Pair], lines: &mut Vec<Line>,
) {
    run(pool, "CREATE TABLE links (source bigint NOT NULL, target bigint NOT NULL)").await;
    let mut rows = String::new();
    for edge in (0..snapshot.edge_bound()).filter(|edge| snapshot.edge_exists(*edge)) {
        let (source, target) = snapshot.edge_ends(edge);
        rows.push_str(&format!("{source}\t{target}\n"));
    }
    let mut copy = pool.copy_in_raw("COPY links FROM STDIN").await.unwrap();
    copy.send(rows.into_bytes()).await.unwrap();
    copy.finish().await.unwrap();
    run(pool, "CREATE INDEX ON links (source, target)").await;
    run(pool, "CREATE INDEX ON links (target, source)").await;
    run(pool, "VACUUM ANALYZE links").await;
    let key = snapshot.keys.iter().position(|key| &*key.label == "Junction").unwrap();
    let number = |code: &serde_json::Value| {
        serde_json::json!(snapshot.seek(key, &[Value::text(code.as_str().unwrap())]).unwrap())
    };
    let numbers: Vec<Pair> = pairs.iter().map(|(a, b)| (number(a), number(b))).collect();
    let text = "MATCH (a:Junction {code: $a})-[]-{1,2}(n) WHERE n <> a RETURN COUNT(DISTINCT n) AS n";
    let nested = "WITH one AS (SELECT target AS id FROM links WHERE source = $1 UNION SELECT source FROM links WHERE target = $1)
         SELECT count(*) FROM (SELECT id FROM one
            UNION SELECT l.target FROM one JOIN links l ON l.source = one.id
            UNION SELECT l.source FROM one JOIN links l ON l.target = one.id) x
         WHERE id <> $1 AND $2::bigint IS NOT NULL";
    let (ours, answers) = engine(snapshot, text, pairs);
    let http = over_http(client, "averley", text, pairs).await;
    let (sql_ms, sql_answers) = in_sql(pool, nested, &numbers).await;
    assert_eq!(answers, sql_answers, "any edges: the answers differ");
    compare(&format!("{name}: two-hop distinct neighbourhood over any edges"), ours, http, sql_ms, lines);
}

/// The tables of the scenario, with the keys and indexes that its questions need.
async fn scenario_in_sql(pool: &PgPool, tables: &std::path::Path) {
    for name in [
        "districts",
        "asset_register",
        "junctions",
        "pipes",
        "valves_spreadsheet",
        "consumers",
        "sensors",
        "crews",
        "work_orders",
        "orders_crews",
        "district_borders",
    ] {
        let path = tables.join(format!("tables/{name}.csv"));
        let text = std::fs::read_to_string(&path).unwrap();
        let columns: Vec<String> =
            text.lines().next().unwrap().split(',').map(|c| format!("{c} text")).collect();
        run(pool, &format!("CREATE TABLE {name} ({})", columns.join(", "))).await;
        copy(pool, name, &path).await;
    }
    for (table, key) in [
        ("junctions", "code"),
        ("pipes", "code"),
        ("consumers", "code"),
        ("work_orders", "number"),
        ("asset_register", "asset_code"),
    ] {
        run(pool, &format!("ALTER TABLE {table} ADD PRIMARY KEY ({key})")).await;
    }
    run(pool, "CREATE INDEX ON pipes (from_code, to_code)").await;
    run(pool, "CREATE INDEX ON pipes (to_code, from_code)").await;
}

/// The demo scenario at size: its load, and a route through it.
async fn scenario(lines: &mut Vec<Line>) {
    let junctions = setting("JUNCTIONS", 100_000) as u32;
    let tables = folder();
    graphodrome_generator::scenario(junctions, 7, Output::default(), tables.path()).unwrap();
    let data = folder();
    let service = Running::start(data.path(), &["--query-seconds", "600"]);
    let client = service.client();
    let model = std::fs::read_to_string(tables.path().join("model.gql")).unwrap();
    client.query(&QueryRequest { text: model, ..QueryRequest::default() }).await.unwrap();
    let started = Instant::now();
    let job = load_mapping(&client, "averley", &tables.path().join("load.toml")).await;
    let load_ms = started.elapsed().as_secs_f64() * 1e3;
    assert_eq!(job.state, "done", "{}", job.detail);
    let beside = folder();
    let server = PrivateServer::start(beside.path()).unwrap();
    let pool = PgPool::connect(&server.url()).await.unwrap();
    let started = Instant::now();
    scenario_in_sql(&pool, tables.path()).await;
    let sql_ms = started.elapsed().as_secs_f64() * 1e3;
    lines.push(Line {
        figure: format!("load the scenario with {junctions} junctions"),
        ours: shown(load_ms),
        theirs: shown(sql_ms),
        ratio: sql_ms / load_ms,
        target: String::new(),
    });
    run(&pool, "VACUUM ANALYZE pipes").await;
    run(&pool, "VACUUM ANALYZE junctions").await;

    println!("Loading the engine");
    let snapshot = in_memory(tables.path());
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let mut code = || serde_json::json!(format!("J-{:05}", random.random_range(0..junctions)));
    let count = setting("QUERIES", 200);
    let pairs: Vec<Pair> = (0..count).map(|_| (code(), code())).collect();
    let name = format!("scenario with {junctions} junctions");
    let step = |from: &str| {
        format!(
            "SELECT to_code AS id FROM pipes WHERE from_code = {from}.id AND to_code LIKE 'J-%'
             UNION ALL SELECT from_code FROM pipes WHERE to_code = {from}.id AND from_code LIKE 'J-%'"
        )
    };

    // Which junctions a network's operator closes with a valve: those within some pipes.
    for hops in [2, 6] {
        let text = format!(
            "MATCH (a:Junction {{code: $a}}) MATCH (a)-[:PIPE]-{{1,{hops}}}(n:Junction) WHERE n <> a RETURN COUNT(DISTINCT n) AS n"
        );
        // Over junctions only, like the walk in SQL: a site between two junctions is no way.
        let text = text.replace("-[:PIPE]-{", "((:Junction)-[:PIPE]-(:Junction)){");
        let nested = format!(
            "WITH one AS (SELECT s.id FROM (SELECT $1::text AS id) n CROSS JOIN LATERAL ({}) s)
             SELECT count(*) FROM (SELECT id FROM one UNION SELECT s.id FROM one CROSS JOIN LATERAL ({}) s) x
             WHERE id <> $1 AND $2::text IS NOT NULL",
            step("n"),
            step("one")
        );
        let recursive = format!(
            "WITH RECURSIVE near AS (SELECT $1::text AS id, 0 AS hop
               UNION SELECT s.id, n.hop + 1 FROM near n CROSS JOIN LATERAL ({}) s WHERE n.hop < {hops})
             SELECT count(DISTINCT id) FROM near WHERE id <> $1 AND $2::text IS NOT NULL",
            step("n")
        );
        let (ours, answers) = engine(&snapshot, &text, &pairs);
        let http = over_http(&client, "averley", &text, &pairs).await;
        let (mut sql_ms, sql_answers) = in_sql(&pool, &recursive, &pairs).await;
        assert_eq!(answers, sql_answers, "{hops} hops: the answers differ");
        if hops == 2 {
            let (nested_ms, nested_answers) = in_sql(&pool, &nested, &pairs).await;
            assert_eq!(answers, nested_answers, "nested: the answers differ");
            println!("nested {}, recursive {}", shown(nested_ms), shown(sql_ms));
            sql_ms = sql_ms.min(nested_ms);
        }
        let what = if hops == 2 {
            "two-hop distinct neighbourhood over pipes"
        } else {
            "neighbourhood within 6 pipes"
        };
        compare(&format!("{name}: {what}"), ours, http, sql_ms, lines);
    }

    any_edges(&name, &client, &pool, &snapshot, &pairs, lines).await;

    let any = "SELECT to_code AS id FROM pipes WHERE from_code = f.id
               UNION ALL SELECT from_code FROM pipes WHERE to_code = f.id";
    run(&pool, &bidirectional("text", any, any)).await;
    let shortest = "MATCH (a:Junction {code: $a}), (b:Junction {code: $b}) MATCH p = ANY SHORTEST (a)-[:PIPE]-*(b) RETURN PATH_LENGTH(p) AS n";
    // A path in SQL takes a second here, so that fewer must do.
    let pairs = &pairs[..pairs.len().min(20)];
    let (ours, answers) = engine(&snapshot, shortest, pairs);
    let http = over_http(&client, "averley", shortest, pairs).await;
    let (sql_ms, sql_answers) = in_sql(&pool, "SELECT hops($1, $2)::bigint", pairs).await;
    assert_eq!(answers, sql_answers, "shortest path: the answers differ");
    compare(&format!("{name}: shortest path, unweighted"), ours, http, sql_ms, lines);
    pool.close().await;
    server.stop().unwrap();
}
