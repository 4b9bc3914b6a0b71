//! Loads through the running service and the command line: every source, checks, rejects that
//! come back, jobs and their events, levels and recovery.

#![allow(clippy::unwrap_used)]

use std::io::{Read, Write};
use std::net::TcpListener;
use std::process::{Command, Stdio};

use futures::StreamExt;
use graphodrome_client::{Client, Job};
use graphodrome_tests::*;
use serde_json::{Value, json};

const MODEL: &str = "CREATE GRAPH TYPE parts AS { (Part :Part { code STRING NOT NULL, n INT64, name STRING } KEY (code)), (Part)-[:FITS { since DATE }]->(Part) }";

async fn graph(client: &Client, name: &str) {
    let text = format!("CREATE GRAPH TYPE IF NOT EXISTS {}", MODEL.trim_start_matches("CREATE GRAPH TYPE "));
    client.query(&graphodrome_client::QueryRequest { text, ..Default::default() }).await.unwrap();
    client.create_graph(name, Some("parts")).await.unwrap();
}

fn mapping(file: &str, more: &str) -> String {
    format!(
        "[[table]]\nfile = \"{file}\"\n{more}[[table.node]]\nlabels = [\"Part\"]\nproperties = {{ code = \"code\", n = \"n\", name = \"name\" }}\n"
    )
}

async fn load(client: &Client, graph: &str, mapping: &str, files: &[(&str, &[u8])]) -> Job {
    let job = client.load_bytes(graph, mapping, files, false).await.unwrap();
    client.wait(job.id).await.unwrap()
}

async fn names(client: &Client, graph: &str) -> Value {
    let found = query(client, graph, "MATCH (p:Part) RETURN p.code, p.n, p.name ORDER BY p.code").await;
    json!(found.rows)
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(vec![], flate2::Compression::fast());
    out.write_all(bytes).unwrap();
    out.finish().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_format_and_encoding_gives_the_same_graph() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let client = service.client();
    let csv = "code,n,name\na,1,Größe\nb,,\"x, y\"\nc,3,€\n";
    let wanted = json!([["a", 1, "Größe"], ["b", null, "x, y"], ["c", 3, "€"]]);
    let utf16 = [0xFF, 0xFE].into_iter().chain(csv.encode_utf16().flat_map(u16::to_le_bytes));
    let utf16: Vec<u8> = utf16.collect();
    let big = utf16.chunks(2).flat_map(|pair| [pair[1], pair[0]]).collect::<Vec<u8>>();
    let (western, _, _) = encoding_rs::WINDOWS_1252.encode(csv);
    let lines = "{\"code\":\"a\",\"n\":1,\"name\":\"Größe\"}\n{\"code\":\"b\",\"name\":\"x, y\"}\n\n{\"code\":\"c\",\"n\":3,\"name\":\"€\"}\n";
    let array = format!("[{}]", lines.trim().replace("\n\n", "\n").replace('\n', ",\n"));
    let graphml = "<graphml><key id=\"c\" for=\"node\" attr.name=\"code\" attr.type=\"string\"/><key id=\"n\" for=\"node\" attr.name=\"n\" attr.type=\"long\"/><key id=\"m\" for=\"node\" attr.name=\"name\" attr.type=\"string\"/><graph edgedefault=\"directed\"><node id=\"1\"><data key=\"c\">a</data><data key=\"n\">1</data><data key=\"m\">Größe</data></node><node id=\"2\"><data key=\"c\">b</data><data key=\"m\">x, y</data></node><node id=\"3\"><data key=\"c\">c</data><data key=\"n\">3</data><data key=\"m\">&#8364;</data></node></graph></graphml>";
    let triple = |s: &str, p: &str, o: &str| format!("<urn:x:{s}> <urn:x:{p}> {o} .\n");
    let whole = |n: i64| format!("\"{n}\"^^<http://www.w3.org/2001/XMLSchema#integer>");
    let quads = [
        triple("1", "code", "\"a\""),
        triple("1", "n", &whole(1)),
        triple("1", "name", "\"Größe\""),
        triple("2", "code", "\"b\""),
        triple("2", "name", "\"x, y\""),
        triple("3", "code", "\"c\""),
        triple("3", "n", &whole(3)),
        triple("3", "name", "\"\\u20AC\""),
    ]
    .concat();
    let quoted = csv.replace('"', "'").replace(',', ";").replace("x; y", "x, y");
    let cases: Vec<(&str, &str, Vec<u8>)> = vec![
        ("a.csv", "", csv.as_bytes().to_vec()),
        (
            "a.tsv",
            "",
            csv.replace("\"x, y\"", "x\u{1}y").replace(',', "\t").replace('\u{1}', ", ").into_bytes(),
        ),
        ("b.csv", "", format!("\u{feff}{}", csv.replace('\n', "\r\n")).into_bytes()),
        ("c.csv", "delimiter = \";\"\nquote = \"'\"\n", quoted.into_bytes()),
        ("d.csv.gz", "", gzip(csv.as_bytes())),
        ("e.csv.zst", "", zstd::encode_all(csv.as_bytes(), 1).unwrap()),
        ("f.csv", "encoding = \"utf-16\"\n", utf16.clone()),
        ("g.csv", "encoding = \"utf-16be\"\n", big),
        ("h.csv", "encoding = \"windows-1252\"\n", western.to_vec()),
        ("i.csv.gz", "encoding = \"windows-1252\"\n", gzip(&western)),
        ("j.jsonl", "", lines.as_bytes().to_vec()),
        ("k.json", "", array.into_bytes()),
        ("l.jsonl.zst", "", zstd::encode_all(lines.as_bytes(), 1).unwrap()),
        ("m.graphml", "part = \"nodes\"\n", graphml.as_bytes().to_vec()),
        ("n.nt", "part = \"nodes\"\n", quads.clone().into_bytes()),
        ("o.nq.gz", "part = \"nodes\"\n", gzip(quads.as_bytes())),
    ];
    for (place, (file, options, bytes)) in cases.into_iter().enumerate() {
        let name = format!("g{place}");
        graph(&client, &name).await;
        let job = load(&client, &name, &mapping(file, options), &[(file, &bytes)]).await;
        assert_eq!(job.state, "done", "{file}: {}", job.detail);
        assert_eq!(names(&client, &name).await, wanted, "{file}");
    }
}

/// A server that answers each path with what it is told to, for as long as the test runs.
fn web(answers: Vec<(&'static str, String)>) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let mut stream = stream;
            let mut text = vec![];
            let mut buffer = [0; 1024];
            while !text.windows(4).any(|w| w == b"\r\n\r\n") {
                match stream.read(&mut buffer) {
                    Ok(0) | Err(_) => break,
                    Ok(n) => text.extend_from_slice(&buffer[..n]),
                }
            }
            let asked = String::from_utf8_lossy(&text).split(' ').nth(1).unwrap_or("").to_string();
            let answer = answers.iter().find(|(path, _)| *path == asked);
            let answer = answer.map_or("HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n", |(_, a)| a);
            let _ = stream.write_all(answer.as_bytes());
        }
    });
    port
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_and_addresses_are_read_only_where_they_are_allowed() {
    let (data, imports, elsewhere) = (folder(), folder(), folder());
    std::fs::create_dir(imports.path().join("sub")).unwrap();
    for (name, row) in [("sub/p1.csv", "a,1,x"), ("sub/p2.csv", "b,2,y"), ("other.csv", "c,3,z")] {
        std::fs::write(imports.path().join(name), format!("code,n,name\n{row}\n")).unwrap();
    }
    std::fs::write(elsewhere.path().join("secret.csv"), "code,n,name\ns,1,secret\n").unwrap();
    std::os::unix::fs::symlink(elsewhere.path().join("secret.csv"), imports.path().join("link.csv")).unwrap();
    let body = "code,n,name\nd,4,web\n";
    let good =
        format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}", body.len());
    let to = |place: &str| {
        format!("HTTP/1.1 302 Found\r\nlocation: {place}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n")
    };
    let port = web(vec![
        ("/d.csv", good),
        ("/near.csv", to("/d.csv")),
        ("/far.csv", to("http://localhost:1/d.csv")),
        ("/round.csv", to("/round.csv")),
    ]);
    let host = format!("127.0.0.1:{port}");
    let service = Running::start(
        data.path(),
        &["--table-dir", imports.path().to_str().unwrap(), "--table-host", &host],
    );
    let client = service.client();
    graph(&client, "g").await;
    let try_file = async |file: &str| load(&client, "g", &mapping(file, "format = \"csv\"\n"), &[]).await;
    let job = try_file("served:sub/p*.csv").await;
    assert_eq!(job.detail["account"]["nodes_created"], 2, "{}", job.detail);
    assert_eq!(job.detail["account"]["tables"][1]["table"], "served:sub/p2.csv");
    for address in ["d.csv", "near.csv"] {
        let job = try_file(&format!("http://{host}/{address}")).await;
        assert_eq!(job.state, "done", "{}", job.detail);
    }
    let found = json!([["a", 1, "x"], ["b", 2, "y"], ["d", 4, "web"]]);
    assert_eq!(names(&client, "g").await, found);
    for (file, said) in [
        ("served:link.csv", "it is a link to a place outside"),
        ("served:../secret.csv", "only files within the served folder are read"),
        ("served:/etc/passwd", "only files within the served folder are read"),
        ("served:none.csv", "No such file"),
        ("served:x*.csv", "no file of the served folder has a name that fits"),
        (&format!("http://{host}/far.csv"), "the host localhost:1 is not one that the service may load from"),
        (&format!("http://{host}/round.csv"), "redirects more than 5 times"),
        (&format!("http://{host}/none.csv"), "answered 404"),
        ("http://localhost:9/a.csv", "the host localhost:9 is not one"),
    ] {
        let job = try_file(file).await;
        assert_eq!(job.state, "failed", "{file}");
        let error = job.detail["error"].as_str().unwrap();
        assert!(error.contains(said), "{file}: {error}");
    }
    assert_eq!(names(&client, "g").await, found, "nothing was published");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_check_publishes_nothing_and_rejects_come_back_to_be_repaired() {
    let (data, place) = (folder(), folder());
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    graph(&client, "g").await;
    let file = |name: &str, bytes: &[u8]| std::fs::write(place.path().join(name), bytes).unwrap();
    file("p.csv", b"code;n;name\na;1;x\nb;two;y\nc;3\nd;4;gr\xfcn\n;5;z\ne;6;\"two\nlines;\"\"q\"\"\"\n");
    file("e.jsonl", b"{\"from\":\"a\",\"to\":\"e\",\"since\":\"2024-01-31\"}\n{\"from\":\"a\",\"to\":\"b\"}\n{\"from\":\"a\",\"to\":\"e\",\"since\":\"2024-02-31\"}\nnot json\n");
    let text = format!(
        "reject_limit = \"30%\"\n{}[[table]]\nfile = \"e.jsonl\"\n[[table.edge]]\nlabel = \"FITS\"\nsource = {{ labels = [\"Part\"], key = {{ code = \"from\" }} }}\ntarget = {{ labels = [\"Part\"], key = {{ code = \"to\" }} }}\nproperties = {{ since = \"since\" }}\n",
        mapping("p.csv", "delimiter = \";\"\n")
    );
    file("load.toml", text.as_bytes());
    let path = place.path().join("load.toml");
    let path = path.to_str().unwrap();
    let check = stdout(&cli(&service.url, &["load", "-g", "g", path, "--check"]));
    assert!(
        check.contains("This was a check: nothing was published. A load would create 2 nodes and 1 edges."),
        "{check}"
    );
    assert!(check.contains("It would fail: 7 rejects are more than the limit of 30%."), "{check}");
    assert_eq!(names(&client, "g").await, json!([]));
    let failed = cli(&service.url, &["load", "-g", "g", path]);
    assert!(!failed.status.success());
    assert!(stderr(&failed).contains("7 rejects are more than the limit of 30%; nothing was published"));
    assert_eq!(names(&client, "g").await, json!([]));
    file("load.toml", text.replace("reject_limit = \"30%\"", "").as_bytes());
    let said = stdout(&cli(&service.url, &["load", "-g", "g", path]));
    assert!(said.contains("7 rejects (1 empty-key, 1 no-such-node, 2 shape, 3 value)"), "{said}");
    let job = client.jobs().await.unwrap()[0].id.to_string();
    let out = place.path().join("repair");
    stdout(&cli(&service.url, &["job", "rejects", &job, "--out", out.to_str().unwrap()]));
    let rows = std::fs::read_to_string(out.join("p.csv")).unwrap();
    let lines: Vec<&str> = rows.lines().collect();
    assert_eq!(lines[0], "reject_line;reject_column;reject_value;reject_reason;code;n;name");
    assert!(
        lines[1].starts_with("3;n;two;(:Part): not a valid INT64") && lines[1].ends_with(";b;two;y"),
        "{rows}"
    );
    assert!(lines[2].ends_with(";c;3"), "{rows}");
    // Loaded again as they are, all are refused again: nothing slips in.
    let again = stdout(&cli(&service.url, &["load", "-g", "g", out.join("load.toml").to_str().unwrap()]));
    assert!(again.contains("7 rejects"), "{again}");
    // Repaired, all are taken.
    let repaired = rows.replace(";b;two;y", ";b;2;y").replace(";c;3", ";c;3;").replace(";;5;z", ";f;5;z");
    let repaired: Vec<String> = repaired
        .lines()
        // Its last field says that bytes were no text.
        .map(|l| match l.split_once(";d;4;") {
            Some((head, _)) => format!("{head};d;4;grün"),
            None => l.to_string(),
        })
        .collect();
    std::fs::write(out.join("p.csv"), repaired.join("\n")).unwrap();
    let edges = std::fs::read_to_string(out.join("e.jsonl")).unwrap();
    let edges = edges.replace("2024-02-31", "2024-02-29");
    let edges: Vec<&str> = edges.lines().filter(|l| !l.contains("not json")).collect();
    std::fs::write(out.join("e.jsonl"), edges.join("\n")).unwrap();
    let done = stdout(&cli(&service.url, &["load", "-g", "g", out.join("load.toml").to_str().unwrap()]));
    assert!(done.contains("Created 4 nodes and 2 edges in the graph g"), "{done}");
    let found = json!([
        ["a", 1, "x"],
        ["b", 2, "y"],
        ["c", 3, null],
        ["d", 4, "grün"],
        ["e", 6, "two\nlines;\"q\""],
        ["f", 5, "z"]
    ]);
    assert_eq!(names(&client, "g").await, found);
}

#[tokio::test(flavor = "multi_thread")]
async fn standard_input_patterns_and_databases_are_sources() {
    let (data, place) = (folder(), folder());
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    graph(&client, "g").await;
    std::fs::create_dir(place.path().join("t")).unwrap();
    for n in 1..=3 {
        std::fs::write(place.path().join(format!("t/p{n}.csv")), format!("code,n,name\np{n},{n},\n"))
            .unwrap();
    }
    let path = place.path().join("load.toml");
    std::fs::write(&path, mapping("t/p?.csv", "")).unwrap();
    let said = stdout(&cli(&service.url, &["load", "-g", "g", path.to_str().unwrap()]));
    assert!(said.contains("3 nodes and 0 edges") && said.contains("t/p2.csv"), "{said}");
    std::fs::write(&path, mapping("-", "format = \"jsonl\"\n")).unwrap();
    let mut command = Command::new(binary());
    command.args(["load", "-g", "g", path.to_str().unwrap()]).env("GRAPHODROME_URL", &service.url);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"{\"code\":\"in\",\"n\":9}\n").unwrap();
    assert!(child.wait_with_output().unwrap().status.success());
    // The service's own PostgreSQL has a table to read from.
    let socket = service.data.join("postgres/socket");
    let url = format!("postgres://graphodrome@localhost/postgres?host={}", socket.display());
    let text = "database = \"PARTS_DATABASE\"\nquery = \"SELECT * FROM (VALUES ('db1', 7, 'O''Neil, \\\"x\\\"'), ('db2', NULL, ''), ('db3', 8, NULL)) AS v (code, n, name)\"\n";
    std::fs::write(&path, mapping("rows", text)).unwrap();
    let run = |url: Option<&str>| {
        let mut command = Command::new(binary());
        command.args(["load", "-g", "g", path.to_str().unwrap()]).env("GRAPHODROME_URL", &service.url);
        if let Some(url) = url {
            command.env("PARTS_DATABASE", url);
        }
        command.output().unwrap()
    };
    let missing = run(None);
    assert!(
        stderr(&missing)
            .contains("the environment variable PARTS_DATABASE with the database's URL is not set")
    );
    let loaded = run(Some(&url));
    assert!(loaded.status.success(), "{}", stderr(&loaded));
    let found = query(
        &client,
        "g",
        "MATCH (p:Part) WHERE p.code LIKE 'db%' RETURN p.code, p.n, p.name ORDER BY p.code",
    )
    .await;
    assert_eq!(json!(found.rows), json!([["db1", 7, "O'Neil, \"x\""], ["db2", null, ""], ["db3", 8, null]]));
    // A file that is not there, and one that changes, are said before anything is loaded.
    std::fs::write(&path, mapping("t/q*.csv", "")).unwrap();
    let none = cli(&service.url, &["load", "-g", "g", path.to_str().unwrap()]);
    assert!(stderr(&none).contains("has a name that fits t/q*.csv"), "{}", stderr(&none));
}

#[tokio::test(flavor = "multi_thread")]
async fn jobs_tell_of_themselves_wait_for_one_another_and_can_be_cancelled() {
    let data = folder();
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    graph(&client, "g").await;
    graph(&client, "h").await;
    let rows: String = (0..400_000).map(|n| format!("c{n},{n},name {n}\n")).collect();
    let text = format!("code,n,name\n{rows}");
    let all = client.raw(reqwest::Method::GET, "/v1/jobs/events").send().await.unwrap();
    let mut all = all.bytes_stream();
    let first =
        client.load_bytes("g", &mapping("p.csv", ""), &[("p.csv", text.as_bytes())], false).await.unwrap();
    let second =
        client.load_bytes("g", &mapping("p.csv", ""), &[("p.csv", text.as_bytes())], false).await.unwrap();
    let mut phases = vec![];
    let job = client
        .follow(first.id, |job| phases.extend(job.progress.as_ref().map(|p| p.phase.clone())))
        .await
        .unwrap();
    assert_eq!(job.state, "done", "{}", job.detail);
    assert!(!phases.is_empty());
    let second = client.wait(second.id).await.unwrap();
    assert_eq!(second.detail["changed"], false, "it came after the first: {}", second.detail);
    let mut told = String::new();
    while !told.contains("event: end") {
        told.push_str(&String::from_utf8_lossy(&all.next().await.unwrap().unwrap()));
    }
    // Cancelled at once, and nothing of it is there.
    let job =
        client.load_bytes("h", &mapping("p.csv", ""), &[("p.csv", text.as_bytes())], false).await.unwrap();
    let started = std::time::Instant::now();
    match client.cancel(job.id).await {
        Ok(ended) => {
            assert!(started.elapsed().as_secs_f64() < 2.0, "{:?}", started.elapsed());
            assert_eq!(ended.state, "cancelled", "{}", ended.detail);
            assert_eq!(names(&client, "h").await, json!([]));
        }
        // It was faster.
        Err(error) => assert!(error.to_string().contains("is done already"), "{error}"),
    }
    // Emptying keeps the model and wants the name.
    let refused = cli(&service.url, &["graph", "empty", "g", "--confirm", "h"]);
    assert!(stderr(&refused).contains("the name was given as 'h', not g; nothing was emptied"));
    assert!(stderr(&cli(&service.url, &["graph", "empty", "g"])).contains("--confirm g is needed"));
    stdout(&cli(&service.url, &["graph", "empty", "g", "--confirm", "g"]));
    assert_eq!(names(&client, "g").await, json!([]));
    let job = load(&client, "g", &mapping("p.csv", ""), &[("p.csv", b"code,n,name\na,1,x\n")]).await;
    assert_eq!(job.detail["account"]["nodes_created"], 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn levels_survive_restarts_and_are_merged() {
    let data = folder();
    let mut service = Running::start(data.path(), &[]);
    let mut client = service.client();
    graph(&client, "g").await;
    let table = |from: usize, to: usize| -> String {
        let rows = (from..to).map(|n| format!("c{n:05},{n},name\n"));
        format!("code,n,name\n{}", rows.collect::<String>())
    };
    let update = mapping("p.csv", "").replace("properties", "existing = \"update\"\nproperties");
    let first = load(&client, "g", &update, &[("p.csv", table(0, 2_000).as_bytes())]).await;
    assert_eq!(first.detail["account"]["nodes_created"], 2_000);
    let mut wanted = 2_000;
    for round in 0..12 {
        // Some new, some changed, some changed by a statement, some deleted.
        let rows = table(wanted, wanted + 50);
        let changed = format!("{rows}c{:05},{},renamed {round}\n", round, round);
        let job = load(&client, "g", &update, &[("p.csv", changed.as_bytes())]).await;
        assert_eq!(
            (&job.detail["account"]["nodes_created"], &job.detail["account"]["changed"]),
            (&json!(50), &json!(1)),
            "{}",
            job.detail
        );
        wanted += 50;
        query(
            &client,
            "g",
            &format!("MATCH (p:Part {{code: 'c{:05}'}}) SET p.name = 'by hand'", 100 + round),
        )
        .await;
        query(&client, "g", &format!("MATCH (p:Part {{code: 'c{:05}'}}) DELETE p", 200 + round)).await;
        let edges = "[[table]]\nfile = \"e.csv\"\n[[table.edge]]\nlabel = \"FITS\"\nsource = { labels = [\"Part\"], key = { code = \"a\" } }\ntarget = { labels = [\"Part\"], key = { code = \"b\" } }\nsame = \"same-ends-once\"\n";
        let rows: String = (0..20).map(|n| format!("c{:05},c{:05}\n", n, wanted - 1 - n)).collect();
        let job = load(&client, "g", edges, &[("e.csv", format!("a,b\n{rows}").as_bytes())]).await;
        assert_eq!(job.detail["account"]["edges_created"], 20, "{}", job.detail);
        if round % 3 == 1 {
            service.kill();
            service = Running::start(data.path(), &[]);
            client = service.client();
        }
        let counted = query(&client, "g", "MATCH (p:Part) RETURN COUNT(*) AS n, SUM(CASE WHEN p.name = 'by hand' THEN 1 ELSE 0 END) AS h, SUM(CASE WHEN p.name LIKE 'renamed%' THEN 1 ELSE 0 END) AS r").await;
        let rounds = round as i64 + 1;
        assert_eq!(json!(counted.rows[0]), json!([wanted as i64 - rounds, rounds, rounds]), "round {round}");
        let edges =
            single(&client, "g", "MATCH (a:Part)-[e:FITS]->(b:Part) RETURN COUNT(DISTINCT e) AS n").await;
        assert_eq!(edges, json!(20 * rounds), "round {round}");
        let one =
            single(&client, "g", &format!("MATCH (p:Part {{code: 'c{:05}'}}) RETURN p.n", wanted - 1)).await;
        assert_eq!(one, json!(wanted as i64 - 1));
    }
}

/// The blocks of a page that are mappings.
fn mappings_of(page: &str) -> Vec<String> {
    let text = std::fs::read_to_string(root().join(page)).unwrap();
    let blocks = text.split("```toml\n").skip(1);
    blocks
        .filter_map(|b| b.split("```").next())
        .filter(|b| b.contains("[[table]]"))
        .map(str::to_string)
        .collect()
}

#[test]
fn mappings_are_what_their_schema_says() {
    let schema: Value =
        serde_json::from_str(&std::fs::read_to_string(root().join("docs/load-mapping.schema.json")).unwrap())
            .unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let of = |text: &str| serde_json::to_value(toml::from_str::<toml::Table>(text).unwrap()).unwrap();
    let mut good = [mappings_of("docs/loading.md"), mappings_of("docs/guide.md")].concat();
    assert!(good.len() >= 2, "{good:?}");
    for file in ["demo/load.toml", "demo/dirty/load.toml"] {
        good.push(std::fs::read_to_string(root().join(file)).unwrap());
    }
    for text in &good {
        let errors: Vec<String> = validator.iter_errors(&of(text)).map(|e| e.to_string()).collect();
        assert!(errors.is_empty(), "{errors:?}\n{text}");
        graphodrome_formats::Mapping::parse(text).unwrap();
    }
    // What the schema refuses, the reader refuses too.
    for wrong in [
        "[[table]]\nfile = \"a.csv\"\n",
        "[[table]]\nfile = \"a.csv\"\n[[table.node]]\nproperties = {}\nlabels = [\"A\"]\nexisting = \"overwrite\"\n",
        "reject_limit = \"many\"\n[[table]]\nfile = \"a.csv\"\n[[table.node]]\nlabels = [\"A\"]\n",
        "[[table]]\nfile = \"a.csv\"\ndatabase = \"X\"\n[[table.node]]\nlabels = [\"A\"]\n",
        "[[table]]\nfile = \"a.csv\"\n[[table.node]]\nlabels = [\"A\"]\nproperties = { x = { colum = \"x\" } }\n",
    ] {
        assert!(!validator.is_valid(&of(wrong)), "{wrong}");
        assert!(graphodrome_formats::Mapping::parse(wrong).is_err(), "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn generated_tables_load_and_conform() {
    let (data, place) = (folder(), folder());
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    let at = |name: &str| place.path().join(name).to_str().unwrap().to_string();
    let cases: [(&str, &[&str], &str, u64, u64); 6] = [
        ("even", &["random", "--nodes", "500", "--edges", "2000", "--properties"], "csv", 500, 2000),
        (
            "skewed",
            &["random", "--nodes", "500", "--edges", "2000", "--quarters", "0.57,0.19,0.19"],
            "jsonl",
            500,
            2000,
        ),
        ("power", &["power-law", "--nodes", "500", "--edges", "2000", "--properties"], "parquet", 500, 2000),
        ("grid", &["grid", "--width", "10", "--height", "20"], "arrow", 200, 370),
        ("tree", &["tree", "--nodes", "100", "--branches", "3", "--properties"], "csv", 100, 99),
        ("again", &["random", "--nodes", "500", "--edges", "2000", "--properties"], "csv", 500, 2000),
    ];
    for (name, arguments, format, nodes, edges) in cases {
        let out = at(name);
        let mut all = vec!["generate"];
        all.extend(arguments);
        all.extend(["--format", format, "--out", &out]);
        if format == "csv" && name != "again" {
            all.extend(["--packing", "gzip"]);
        }
        stdout(&cli(&service.url, &all));
        stdout(&cli(&service.url, &["query", "-f", &format!("{out}/model.gql")]));
        stdout(&cli(&service.url, &["graph", "empty", "random", "--confirm", "random"]));
        // One type serves all shapes where it is the same.
        let said = cli(&service.url, &["load", &format!("{out}/load.toml")]);
        if said.status.success() {
            assert!(
                stdout(&said)
                    .contains(&format!("Created {nodes} nodes and {edges} edges in the graph random")),
                "{name}: {}",
                stdout(&said)
            );
        } else {
            assert!(stderr(&said).contains("has no property"), "{name}: {}", stderr(&said));
        }
        let dropped = "DROP GRAPH random; DROP GRAPH TYPE random_graph";
        stdout(&cli(&service.url, &["query", dropped]));
    }
    // A model of one's own: bounds, lists, decimals, cardinalities, keys of every kind.
    let model = "CREATE GRAPH TYPE own AS {
  (Crane :Crane { id UINT32 NOT NULL, tag STRING(1, 4) NOT NULL, load DECIMAL(8, 3), parts LIST<INT32>, at LOCAL DATETIME, spans DURATION, hex BYTES(8) } KEY (id)),
  (Dock :Dock { name STRING NOT NULL } KEY (name)),
  (Crane)-[:STANDS_ON { since DATE NOT NULL }]->(Dock),
  (Crane)~[:BESIDE]~(Crane),
  EACH Crane HAS AT MOST 1 STANDS_ON
};
CREATE GRAPH own TYPED own;
";
    std::fs::write(at("own.gql"), model).unwrap();
    let made = stdout(&cli(&service.url, &["query", "-f", &at("own.gql")]));
    assert!(!made.is_empty());
    let kind = model.split("CREATE GRAPH own").next().unwrap().trim_end().trim_end_matches(';');
    std::fs::write(at("type.gql"), kind).unwrap();
    let out = at("own");
    stdout(&cli(
        &service.url,
        &[
            "generate",
            "model",
            "--for",
            &at("type.gql"),
            "--scale",
            "2e3",
            "--count",
            "Dock=50",
            "--degrees",
            "skewed",
            "--out",
            &out,
        ],
    ));
    let said = stdout(&cli(&service.url, &["load", "-g", "own", &format!("{out}/load.toml")]));
    assert!(said.contains("2000 nodes and"), "{said}");
    assert!(!said.contains("rejects ("), "{said}");
    let most = "MATCH (c:Crane)-[e:STANDS_ON]->() RETURN c.id AS id, COUNT(e) AS n ORDER BY n DESC LIMIT 1";
    assert_eq!(query(&client, "own", most).await.rows[0][1], json!(1));
}
