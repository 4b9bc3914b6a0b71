//! The demo's questions against the same questions in SQL over the same tables in PostgreSQL: an
//! independent computation.

#![allow(clippy::unwrap_used)]

use std::path::Path;

use graphodrome_client::QueryRequest;
use graphodrome_store::PrivateServer;
use graphodrome_tests::*;
use sea_orm::sqlx::postgres::{PgPool, PgPoolCopyExt};
use sea_orm::sqlx::{self, Row};
use serde_json::Value;

/// Loads the CSV tables as they are, every column as text.
async fn tables(pool: &PgPool) {
    let folder = root().join("demo/tables");
    for entry in std::fs::read_dir(&folder).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_none_or(|e| e != "csv") {
            continue;
        }
        let text = std::fs::read_to_string(&path).unwrap();
        let name = path.file_stem().unwrap().to_str().unwrap().to_string();
        let columns: Vec<String> =
            text.lines().next().unwrap().split(',').map(|c| format!("{c} text")).collect();
        run(pool, &format!("CREATE TABLE {name} ({})", columns.join(", "))).await;
        let mut copy =
            pool.copy_in_raw(&format!("COPY {name} FROM STDIN (FORMAT csv, HEADER)")).await.unwrap();
        copy.send(text.into_bytes()).await.unwrap();
        copy.finish().await.unwrap();
    }
    let alarms = std::fs::read_to_string(folder.join("alarms.jsonl")).unwrap();
    run(pool, "CREATE TABLE alarms (id int, sensor text)").await;
    for line in alarms.lines() {
        let alarm: Value = serde_json::from_str(line).unwrap();
        sqlx::query("INSERT INTO alarms VALUES ($1, $2)")
            .bind(alarm["id"].as_i64().unwrap() as i32)
            .bind(alarm["sensor"].as_str().unwrap())
            .execute(pool)
            .await
            .unwrap();
    }
}

async fn run(pool: &PgPool, text: &str) {
    sqlx::query(sqlx::AssertSqlSafe(text.to_string())).execute(pool).await.unwrap();
}

/// Rows as texts; every column of the SQL is cast to text there.
async fn sql(pool: &PgPool, text: &str) -> Vec<Vec<String>> {
    let rows = sqlx::query(sqlx::AssertSqlSafe(text.to_string())).fetch_all(pool).await.unwrap();
    rows.iter()
        .map(|row| (0..row.len()).map(|i| row.get::<Option<String>, _>(i).unwrap_or_default()).collect())
        .collect()
}

fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Null => String::new(),
        Value::Number(n) if n.is_f64() => format!("{:.1}", n.as_f64().unwrap()),
        other => other.to_string(),
    }
}

const QUESTIONS: &[(&str, &str)] = &[
    ("01_consumers_of_a_district.gql", "
        SELECT c.code, c.name, c.junction FROM consumers c JOIN districts d ON d.code = c.district
        WHERE d.name = 'Tarn End' ORDER BY c.code COLLATE \"C\""),
    ("02_pipes_of_a_makers_valves.gql", "
        SELECT DISTINCT d.name, p.code, p.laid FROM valves_spreadsheet v JOIN pipes p ON p.from_code = v.junction
        JOIN junctions j ON j.code = v.junction JOIN districts d ON d.code = j.district
        WHERE v.maker = 'Brackwell & Sons' ORDER BY 1, 3, 2"),
    ("03_crews_on_makers_of_failed_valves.gql", "
        WITH valve AS (SELECT DISTINCT valve, maker FROM valves_spreadsheet),
        failed AS (SELECT w.number, v.maker FROM work_orders w JOIN valve v ON v.valve = w.asset WHERE w.kind = 'failure')
        SELECT crew, valves::text FROM (
          SELECT o.crew, count(DISTINCT v.valve) AS valves
          FROM failed f JOIN valve v ON v.maker = f.maker JOIN work_orders w ON w.asset = v.valve
          JOIN orders_crews o ON o.order_number = w.number
          GROUP BY o.crew) x ORDER BY valves DESC, crew"),
    ("04a_within_3_hops_of_an_alarm.gql", "
        WITH RECURSIVE start AS (SELECT s.junction AS code FROM alarms a JOIN sensors s ON s.code = a.sensor WHERE a.id = 4003),
        step AS (SELECT from_code AS a, to_code AS b FROM pipes UNION ALL SELECT to_code, from_code FROM pipes),
        near AS (SELECT code, 0 AS hop FROM start UNION SELECT s.b, n.hop + 1 FROM near n JOIN step s ON s.a = n.code WHERE n.hop < 3)
        SELECT DISTINCT code FROM near WHERE code LIKE 'J-%' ORDER BY code"),
    ("04b_within_3_hops_against_the_flow.gql", "
        WITH RECURSIVE start AS (SELECT s.junction AS code FROM alarms a JOIN sensors s ON s.code = a.sensor WHERE a.id = 4003),
        near AS (SELECT code, 0 AS hop FROM start UNION SELECT p.from_code, n.hop + 1 FROM near n JOIN pipes p ON p.to_code = n.code WHERE n.hop < 3)
        SELECT DISTINCT code FROM near ORDER BY code"),
    ("05_supply_lost_when_a_valve_closes.gql", "
        WITH RECURSIVE closed AS (SELECT junction FROM valves_spreadsheet WHERE valve = 'V-0004'),
        used AS (SELECT from_code AS a, to_code AS b FROM pipes WHERE status = 'in use'),
        source AS (SELECT asset_code AS code FROM asset_register WHERE kind = 'Reservoir'),
        before AS (SELECT u.b FROM used u JOIN source s ON s.code = u.a UNION SELECT u.b FROM before r JOIN used u ON u.a = r.b),
        after AS (SELECT u.b FROM used u JOIN source s ON s.code = u.a WHERE u.b NOT IN (SELECT junction FROM closed)
                  UNION SELECT u.b FROM after r JOIN used u ON u.a = r.b WHERE u.b NOT IN (SELECT junction FROM closed))
        SELECT code FROM consumers WHERE junction IN (SELECT b FROM before) AND junction NOT IN (SELECT b FROM after) ORDER BY code"),
    ("08_ring_mains.gql", "
        WITH RECURSIVE walk AS (
          SELECT from_code AS start, to_code AS at, ARRAY[code] AS used FROM pipes WHERE from_code LIKE 'J-%'
          UNION ALL SELECT w.start, p.to_code, w.used || p.code FROM walk w JOIN pipes p ON p.from_code = w.at
          WHERE cardinality(w.used) < 6 AND NOT p.code = ANY (w.used))
        SELECT start, count(*)::text FROM walk WHERE start = at AND cardinality(used) >= 3
        GROUP BY start ORDER BY count(*) DESC, start LIMIT 20"),
    ("09_common_upstream_sites.gql", "
        WITH RECURSIVE a AS (SELECT p.from_code AS at FROM consumers c JOIN pipes p ON p.to_code = c.junction WHERE c.code = 'C-00051'
                  UNION SELECT p.from_code FROM a JOIN pipes p ON p.to_code = a.at),
        b AS (SELECT p.from_code AS at FROM consumers c JOIN pipes p ON p.to_code = c.junction WHERE c.code = 'C-00101'
                  UNION SELECT p.from_code FROM b JOIN pipes p ON p.to_code = b.at)
        SELECT asset_code, asset_name FROM asset_register WHERE asset_code IN (SELECT at FROM a) AND asset_code IN (SELECT at FROM b) ORDER BY 1"),
    ("11_junctions_most_walks_pass.gql", "
        WITH RECURSIVE walk AS (
          SELECT p.to_code AS at, 1 AS hops FROM pipes p JOIN asset_register a ON a.asset_code = p.from_code WHERE a.kind = 'Reservoir'
          UNION ALL SELECT p.to_code, w.hops + 1 FROM walk w JOIN pipes p ON p.from_code = w.at WHERE w.hops < 15)
        SELECT at, count(*)::text FROM walk WHERE at LIKE 'J-%' GROUP BY at ORDER BY count(*) DESC, at COLLATE \"C\" LIMIT 10"),
    ("12_work_order_history.gql", "
        WITH RECURSIVE chain AS (
          SELECT number AS newest, follows AS earlier FROM work_orders w
          WHERE follows <> '' AND number NOT IN (SELECT follows FROM work_orders WHERE follows IS NOT NULL)
          UNION ALL SELECT c.newest, w.follows FROM chain c JOIN work_orders w ON w.number = c.earlier WHERE w.follows <> '')
        SELECT c.newest, c.earlier, w.opened, w.kind FROM chain c JOIN work_orders w ON w.number = c.earlier
        ORDER BY c.newest, w.opened DESC, c.earlier"),
    ("13_districts_two_steps_away.gql", "
        WITH step AS (SELECT district AS a, neighbour AS b FROM district_borders UNION ALL SELECT neighbour, district FROM district_borders),
        one AS (SELECT s.b FROM districts d JOIN step s ON s.a = d.code WHERE d.name = 'Tarn End')
        SELECT DISTINCT d.name FROM one JOIN step s ON s.a = one.b JOIN districts d ON d.code = s.b
        WHERE d.name <> 'Tarn End' AND d.code NOT IN (SELECT b FROM one) ORDER BY d.name"),
    ("14_no_second_route.gql", "
        SELECT c.code, count(DISTINCT p.code)::text FROM consumers c JOIN pipes p ON p.to_code = c.junction
        GROUP BY c.code ORDER BY count(DISTINCT p.code), c.code LIMIT 20"),
    ("15_length_by_district_and_material.gql", "
        SELECT d.name, p.material, count(*)::text, round(sum(p.length_m::numeric), 1)::text
        FROM districts d JOIN junctions j ON j.district = d.code JOIN pipes p ON p.from_code = j.code
        GROUP BY 1, 2 ORDER BY d.name, p.material"),
];

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_questions_have_the_answers_that_sql_has() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let beside = folder();
    let server = PrivateServer::start(beside.path()).unwrap();
    let pool = PgPool::connect(&server.url()).await.unwrap();
    tables(&pool).await;
    for (file, reference) in QUESTIONS {
        let text = std::fs::read_to_string(root().join("demo/questions").join(file)).unwrap();
        let ours: Vec<Vec<String>> = query(&client, "averley", &text)
            .await
            .rows
            .iter()
            .map(|row| row.iter().map(plain).collect())
            .collect();
        let theirs = sql(&pool, reference).await;
        assert!(!theirs.is_empty(), "{file} asks for nothing");
        assert_eq!(ours, theirs, "{file}");
    }
    shares(&client, &pool).await;
    shortest_routes(&client, &pool).await;
    pool.close().await;
    server.stop().unwrap();
}

/// Question 10: every trail with its product in an array of its own, summed with a tolerance for the
/// order of the additions.
async fn shares(client: &graphodrome_client::Client, pool: &PgPool) {
    let file = "demo/questions/10_reservoir_water_at_each_consumer.gql";
    let text = std::fs::read_to_string(root().join(file)).unwrap();
    let ours = query(client, "averley", &text).await.rows;
    assert_eq!(ours.len(), 40);
    let theirs = sql(pool, "
        WITH RECURSIVE trail AS (
          SELECT p.from_code AS start, p.to_code AS at, ARRAY[p.code] AS used, p.share::float8 AS part
          FROM pipes p JOIN asset_register a ON a.asset_code = p.from_code WHERE a.kind = 'Reservoir'
          UNION ALL SELECT t.start, p.to_code, t.used || p.code, t.part * p.share::float8 FROM trail t JOIN pipes p ON p.from_code = t.at
          WHERE cardinality(t.used) < 30 AND NOT p.code = ANY (t.used))
        SELECT t.start, c.code, sum(t.part)::text, count(*)::text FROM trail t JOIN consumers c ON c.junction = t.at
        GROUP BY 1, 2").await;
    let mut last = (String::new(), f64::INFINITY);
    for row in &ours {
        let (reservoir, consumer) = (row[0].as_str().unwrap(), row[1].as_str().unwrap());
        let part = row[2].as_f64().unwrap();
        let same = theirs.iter().find(|t| t[0] == reservoir && t[1] == consumer).unwrap();
        assert!((part - same[2].parse::<f64>().unwrap()).abs() < 1e-9, "{row:?} and {same:?}");
        assert_eq!(row[3].to_string(), same[3], "{row:?} and {same:?}");
        if last.0 == reservoir {
            assert!(part <= last.1, "the largest part comes first");
        }
        last = (reservoir.to_string(), part);
    }
    // Nothing larger was left out.
    let first = ours[0][0].as_str().unwrap();
    let mut parts: Vec<f64> =
        theirs.iter().filter(|t| t[0] == first).map(|t| t[2].parse().unwrap()).collect();
    parts.sort_by(|a, b| b.total_cmp(a));
    let shown = ours.iter().filter(|row| row[0] == first).count();
    assert!((parts[shown - 1] - ours[shown - 1][2].as_f64().unwrap()).abs() < 1e-9);
}

/// Questions 6 and 7: lengths by levels and by relaxation until nothing changes, routes by counting.
async fn shortest_routes(client: &graphodrome_client::Client, pool: &PgPool) {
    let goal = "(SELECT junction FROM consumers WHERE code = 'C-00051')";
    let hops = sql(pool, &format!("
        WITH RECURSIVE level AS (SELECT 'S-001' AS at, 0 AS hop UNION SELECT p.to_code, l.hop + 1 FROM level l JOIN pipes p ON p.from_code = l.at WHERE l.hop < 80)
        SELECT min(hop)::text FROM level WHERE at = {goal}")).await[0][0].clone();
    let ask = async |file: &str| {
        let text = std::fs::read_to_string(root().join("demo/questions").join(file)).unwrap();
        query(client, "averley", &text).await
    };
    let by_hops = ask("06a_shortest_route_by_hops.gql").await;
    assert_eq!(by_hops.rows[0][1].to_string(), hops);
    assert_eq!(by_hops.rows[0][0]["edges"].as_array().unwrap().len().to_string(), hops);
    let all = ask("07a_all_shortest_routes.gql").await;
    assert_eq!(all.rows[0][0].to_string(), hops);
    // Shortest routes are counted level by level: the ways to a place are the sum of those before it.
    let routes = sql(pool, &format!("
        WITH RECURSIVE level AS (SELECT 'S-001' AS at, 0 AS hop UNION SELECT p.to_code, l.hop + 1 FROM level l JOIN pipes p ON p.from_code = l.at WHERE l.hop < {hops}),
        near AS (SELECT at, min(hop) AS hop FROM level GROUP BY at),
        way AS (SELECT 'S-001' AS at, 0 AS hop UNION ALL
          SELECT p.to_code, w.hop + 1 FROM way w JOIN pipes p ON p.from_code = w.at JOIN near n ON n.at = p.to_code AND n.hop = w.hop + 1)
        SELECT count(*)::text FROM way WHERE at = {goal} AND hop = {hops}")).await[0][0].clone();
    assert_eq!(all.rows[0][1].to_string(), routes);
    let five = ask("07b_five_shortest_routes.gql").await;
    assert_eq!(five.rows.len(), 5);
    assert_eq!(five.rows[0][0].to_string(), hops);
    // Bellman and Ford in a loop: no code shared with the search.
    for (file, condition) in [
        ("06b_shortest_route_by_length.gql", "TRUE"),
        ("06c_shortest_route_avoiding_cast_iron.gql", "material <> 'cast iron'"),
    ] {
        run(pool, "DROP TABLE IF EXISTS best").await;
        run(pool, "CREATE TABLE best (at text PRIMARY KEY, metres numeric)").await;
        run(pool, "INSERT INTO best VALUES ('S-001', 0)").await;
        loop {
            let changed = sqlx::query(sqlx::AssertSqlSafe(format!("
                INSERT INTO best SELECT p.to_code, min(b.metres + p.length_m::numeric) FROM best b JOIN pipes p ON p.from_code = b.at WHERE {condition} GROUP BY p.to_code
                ON CONFLICT (at) DO UPDATE SET metres = EXCLUDED.metres WHERE EXCLUDED.metres < best.metres")))
                .execute(pool).await.unwrap().rows_affected();
            if changed == 0 {
                break;
            }
        }
        let expected = sql(pool, &format!("SELECT metres::text FROM best WHERE at = {goal}")).await;
        let found = ask(file).await;
        assert_eq!(found.rows.len(), expected.len(), "{file}");
        if let Some(row) = expected.first() {
            let metres: f64 = row[0].parse().unwrap();
            assert!((found.rows[0][2].as_f64().unwrap() - metres).abs() < 1e-6, "{file}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_question_plans_profiles_and_says_what_it_answers() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let mut count = 0;
    for entry in std::fs::read_dir(root().join("demo/questions")).unwrap() {
        let path = entry.unwrap().path();
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.starts_with("// "), "{}", Path::new(&path).display());
        let request = QueryRequest { text, graph: Some("averley".into()), ..QueryRequest::default() };
        let plan = client.plan(&request).await.unwrap();
        assert_eq!(plan["plan"]["operator"], "ReturnRows");
        let profile = client.profile(&request).await.unwrap();
        let rows = client.query(&request).await.unwrap().rows.len();
        assert_eq!(profile["rows"], rows);
        assert_eq!(profile["plan"]["actual"]["rows_out"], rows);
        count += 1;
    }
    assert!(count >= 19);
}
