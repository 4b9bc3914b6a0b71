//! Patterns of docs/benchmarks.md, each against the same question in SQL on
//! PostgreSQL in the same run: `cargo bench --bench patterns`. SCALES=16 asks for the small graph alone;
//! SQL_SECONDS is how long a question may take in SQL, STARTS through how many nodes rings are asked (at most 15), ASK a part of
//! the questions' names.

#![allow(clippy::unwrap_used)] // A benchmark that cannot go on should stop with the place.

use std::path::Path;
use std::time::{Duration, Instant};

use graphodrome_bench::{Line, in_memory, median, milliseconds, setting, shown, table};
use graphodrome_engine::{Limits, Parameters, prepare};
use graphodrome_generator::{Shape, Style};
use graphodrome_graph::{Snapshot, Value};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use graphodrome_store::PrivateServer;
use graphodrome_tests::folder;
use sea_orm::sqlx::postgres::{PgPool, PgPoolCopyExt, PgPoolOptions};
use sea_orm::sqlx::{self, Row};

async fn run(pool: &PgPool, text: &str) {
    sqlx::query(sqlx::AssertSqlSafe(text.to_string())).execute(pool).await.unwrap();
}

async fn copy(pool: &PgPool, table: &str, path: &Path) {
    let mut copy = pool.copy_in_raw(&format!("COPY {table} FROM STDIN (FORMAT csv, HEADER)")).await.unwrap();
    for piece in std::fs::read(path).unwrap().chunks(4 << 20) {
        copy.send(piece).await.unwrap();
    }
    copy.finish().await.unwrap();
}

/// Milliseconds in the engine and the rows, as texts.
fn ours(snapshot: &Snapshot, text: &str, a: i64) -> (f64, Vec<String>) {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { unreachable!() };
    let parameters = Parameters::from([("a".to_string(), Value::Int(a))]);
    let prepared = prepare(&query, text, snapshot, &parameters).unwrap();
    milliseconds(|| {
        let mut execution = prepared.run(
            snapshot.clone(),
            &parameters,
            Limits { memory_bytes: 8 << 30, ..Limits::default() },
        );
        let mut rows = vec![];
        while let Some(batch) = execution.next_batch().unwrap() {
            for row in 0..batch.len {
                let cells: Vec<String> = batch.columns.iter().map(|c| c.get(row).to_string()).collect();
                rows.push(cells.join(","));
            }
        }
        rows
    })
}

/// The same of SQL; no rows where it took too long.
async fn theirs(pool: &PgPool, text: &str, a: i64) -> (f64, Option<Vec<String>>) {
    let started = Instant::now();
    let result = sqlx::query(sqlx::AssertSqlSafe(text.to_string())).bind(a).fetch_all(pool).await;
    let ms = started.elapsed().as_secs_f64() * 1e3;
    let rows = result.ok().map(|rows| {
        rows.iter()
            .map(|row| (0..row.len()).map(|i| row.get::<i64, _>(i).to_string()).collect::<Vec<_>>().join(","))
            .collect()
    });
    (ms, rows)
}

struct Question {
    name: &'static str,
    gql: String,
    sql: String,
    /// From how many nodes it is asked; 0 where it is about the whole graph.
    starts: usize,
    target: &'static str,
}

fn questions(nodes: u64) -> Vec<Question> {
    let ring = |n: usize| {
        let names = ["a", "b", "c", "d", "e"];
        let mut gql = "MATCH (a:Place {id: $a})".to_string();
        let mut tables = vec![];
        let mut conditions = vec!["e1.source = $1".to_string()];
        for i in 0..n {
            let to = names[(i + 1) % n];
            gql.push_str(&format!("-[:LINK]->({to}{})", if i + 1 < n { ":Place" } else { "" }));
            tables.push(format!("edges e{}", i + 1));
            if i > 0 {
                conditions.push(format!("e{}.source = e{i}.target", i + 1));
            }
            for j in 0..i {
                conditions.push(format!("e{}.ctid <> e{}.ctid", i + 1, j + 1));
            }
        }
        conditions.push(format!("e{n}.target = e1.source"));
        gql.push_str(" RETURN COUNT(*) AS n");
        (gql, format!("SELECT count(*) FROM {} WHERE {}", tables.join(", "), conditions.join(" AND ")))
    };
    let mut all = vec![Question {
        name: "triangles of the whole graph",
        gql: "MATCH (a:Place)-[:LINK]->(b:Place)-[:LINK]->(c:Place)-[:LINK]->(a) RETURN COUNT(*) AS n".into(),
        sql: "SELECT count(*) FROM edges e1 JOIN edges e2 ON e2.source = e1.target
              JOIN edges e3 ON e3.source = e2.target AND e3.target = e1.source
              WHERE e1.ctid <> e2.ctid AND e1.ctid <> e3.ctid AND e2.ctid <> e3.ctid AND $1::bigint IS NOT NULL"
            .into(),
        starts: 0,
        target: "50",
    }];
    // Edges read both ways, each three nodes once: as rows for all edges between them, and once whatever the edges.
    let both_ways =
        "MATCH (a:Place)-[:LINK]-(b:Place)-[:LINK]-(c:Place)-[:LINK]-(a) WHERE a.id < b.id AND b.id < c.id";
    let pairs =
        "SELECT least(source, target) AS a, greatest(source, target) AS b FROM edges WHERE source <> target";
    let joined = "FROM pairs e1 JOIN pairs e2 ON e2.a = e1.b JOIN pairs e3 ON e3.a = e1.a AND e3.b = e2.b
         WHERE $1::bigint IS NOT NULL";
    all.push(Question {
        name: "triangles over edges both ways, nodes in order",
        gql: format!("{both_ways} RETURN COUNT(*) AS n"),
        sql: format!("WITH pairs AS MATERIALIZED ({pairs}) SELECT count(*) {joined}"),
        starts: 0,
        target: "20",
    });
    all.push(Question {
        name: "the same, distinct rows",
        gql: format!("{both_ways} RETURN DISTINCT a.id AS a, b.id AS b, c.id AS c NEXT RETURN COUNT(*) AS n"),
        sql: format!(
            "WITH pairs AS MATERIALIZED (SELECT DISTINCT * FROM ({pairs})) SELECT count(*) {joined}"
        ),
        starts: 0,
        target: "20",
    });
    let few = nodes / 64;
    all.push(Question {
        name: "two hops with filters on nodes and edges, grouped, top 20",
        gql: format!(
            "MATCH (a:Place)-[e:LINK]->(b:Place)-[f:LINK]->(c:Place) WHERE a.id < {few} AND e.weight < 10 AND f.weight < 10 AND MOD(c.id, 2) = 0 RETURN c.id AS id, COUNT(*) AS n GROUP BY id ORDER BY n DESC, id LIMIT 20"
        ),
        sql: format!(
            "SELECT f.target, count(*) FROM edges e JOIN edges f ON f.source = e.target
             WHERE e.source < {few} AND e.weight < 10 AND f.weight < 10 AND f.target % 2 = 0 AND e.ctid <> f.ctid
               AND $1::bigint IS NOT NULL
             GROUP BY f.target ORDER BY 2 DESC, 1 LIMIT 20"
        ),
        starts: 0,
        target: "15",
    });
    for (n, name) in
        [(3, "rings of 3 through a node"), (4, "rings of 4 through a node"), (5, "rings of 5 through a node")]
    {
        let (gql, sql) = ring(n);
        all.push(Question { name, gql, sql, starts: setting("STARTS", 15) as usize, target: "50" });
    }
    all
}

async fn graph(scale: u32, lines: &mut Vec<Line>) {
    let nodes = 1u32 << scale;
    let tables = folder();
    println!("Making an R-MAT graph of 2^{scale} nodes");
    graphodrome_generator::random_graph(
        Shape::skewed(nodes, 16 * nodes as u64),
        11,
        Style::default(),
        tables.path(),
    )
    .unwrap();
    let beside = folder();
    let server = PrivateServer::start(beside.path()).unwrap();
    let limit = setting("SQL_SECONDS", 120);
    let pool = PgPoolOptions::new()
        .after_connect(move |connection, _| {
            Box::pin(async move {
                let text = format!("SET statement_timeout = {}", limit * 1000);
                sqlx::query(sqlx::AssertSqlSafe(text)).execute(connection).await.map(|_| ())
            })
        })
        .connect(&server.url())
        .await
        .unwrap();
    run(&pool, "CREATE TABLE nodes (id bigint PRIMARY KEY)").await;
    run(&pool, "CREATE TABLE edges (source bigint NOT NULL, target bigint NOT NULL, weight bigint)").await;
    copy(&pool, "nodes", &tables.path().join("nodes.csv")).await;
    copy(&pool, "edges", &tables.path().join("edges.csv")).await;
    run(&pool, "CREATE INDEX ON edges (source, target)").await;
    run(&pool, "CREATE INDEX ON edges (target, source)").await;
    run(&pool, "VACUUM ANALYZE edges").await;
    let snapshot = in_memory(tables.path());
    let starts: Vec<i64> = sqlx::query(
        "SELECT id FROM nodes WHERE EXISTS (SELECT FROM edges WHERE source = id) AND EXISTS (SELECT FROM edges WHERE target = id)
         ORDER BY md5(id::text) LIMIT 15",
    )
    .fetch_all(&pool)
    .await
    .unwrap()
    .iter()
    .map(|row| row.get(0))
    .collect();
    let wanted = std::env::var("ASK").unwrap_or_default();
    for question in questions(nodes as u64).into_iter().filter(|q| q.name.contains(&wanted)) {
        // About the whole graph: three times.
        let asked = if question.starts == 0 {
            vec![starts[0]; 3]
        } else {
            starts[..question.starts.min(starts.len())].to_vec()
        };
        let (mut mine, mut others) = (vec![], vec![]);
        let mut unfinished = false;
        for &a in &asked {
            let (ms, rows) = ours(&snapshot, &question.gql, a);
            mine.push(ms);
            // What is cut off once is not asked again; through another node it may well come to its end.
            if unfinished && question.starts == 0 {
                continue;
            }
            let (sql_ms, sql_rows) = theirs(&pool, &question.sql, a).await;
            others.push(sql_ms);
            match sql_rows {
                Some(sql_rows) => assert_eq!(rows, sql_rows, "{}: the answers differ", question.name),
                None => unfinished = true,
            }
            println!("  {} against {}{}", shown(ms), shown(sql_ms), if unfinished { " or more" } else { "" });
        }
        let (ms, sql_ms) = (median(mine), median(others));
        println!(
            "2^{scale}, {}: {} against {}{}",
            question.name,
            shown(ms),
            if unfinished { "more than " } else { "" },
            shown(sql_ms)
        );
        lines.push(Line {
            figure: format!("2^{scale} nodes: {}", question.name),
            ours: shown(ms),
            theirs: format!("{}{}", if unfinished { "> " } else { "" }, shown(sql_ms)),
            ratio: sql_ms / ms,
            target: question.target.into(),
        });
    }
    pool.close().await;
    server.stop().unwrap();
}

fn main() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let mut lines = vec![];
        let scales = std::env::var("SCALES").unwrap_or("16,20".into());
        for scale in scales.split(',').filter(|s| !s.is_empty()) {
            graph(scale.parse().unwrap(), &mut lines).await;
        }
        println!("\n{}", table(&lines));
    });
    runtime.shutdown_timeout(Duration::from_secs(5));
}
