//! Exports that are the same graph again and that others can read, and results that a notebook reads.

#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::process::{Command, Stdio};

use graphodrome_tests::*;
use serde_json::json;

/// Python with the libraries that read what is exported, if the machine has or can get them.
fn python() -> Option<std::path::PathBuf> {
    static FOUND: std::sync::OnceLock<Option<std::path::PathBuf>> = std::sync::OnceLock::new();
    FOUND
        .get_or_init(|| {
            let venv = Path::new(env!("CARGO_TARGET_TMPDIR")).join("python");
            let python = venv.join("bin/python");
            let imports = "import networkx, pyarrow, pyarrow.parquet, rdflib";
            let works = || {
                Command::new(&python)
                    .args(["-c", imports])
                    .stderr(Stdio::null())
                    .status()
                    .is_ok_and(|s| s.success())
            };
            if !works() {
                let made = Command::new("python3").args(["-m", "venv"]).arg(&venv).output();
                made.ok().filter(|o| o.status.success())?;
                let mut install = Command::new(&python);
                install.args(["-m", "pip", "install", "--quiet", "networkx", "pyarrow", "rdflib"]);
                install.output().ok().filter(|o| o.status.success())?;
            }
            works().then_some(python)
        })
        .clone()
}

const READ: &str = r#"
import sys, zipfile, io
import networkx, rdflib, pyarrow.parquet, pyarrow.ipc
folder, nodes, edges = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
graph = networkx.read_graphml(folder + "/g.graphml", force_multigraph=True)
assert graph.number_of_nodes() == int(sys.argv[4]), graph.number_of_nodes()
assert graph.is_directed() and graph.number_of_edges() > 1000
kinds = {type(v).__name__ for _, data in graph.nodes(data=True) for v in data.values()}
assert {"str", "int", "float"} <= kinds, kinds
with zipfile.ZipFile(folder + "/g_parquet.zip") as archive:
    table = pyarrow.parquet.read_table(io.BytesIO(archive.read("nodes.parquet")))
    assert table.num_rows == nodes, table.num_rows
    assert pyarrow.types.is_date32(table.schema.field("opened").type), table.schema
    table = pyarrow.parquet.read_table(io.BytesIO(archive.read("edges.parquet")))
    assert table.num_rows == edges, table.num_rows
with zipfile.ZipFile(folder + "/g_arrow.zip") as archive:
    table = pyarrow.ipc.open_stream(archive.read("edges.arrow")).read_all()
    assert table.num_rows == edges, table.num_rows
    assert table.column("length_m").null_count < edges
data = rdflib.Dataset()
data.parse(folder + "/g.nq", format="nquads")
subjects = {s for s, _, _, _ in data.quads() if "node/" in s}
assert len(subjects) == nodes, len(subjects)
print("read")
"#;

#[tokio::test(flavor = "multi_thread")]
async fn exports_are_the_same_graph_again_and_others_read_them() {
    let (data, place) = (folder(), folder());
    let service = Running::start(data.path(), &[]);
    let client = service.client();
    load_demo(&client).await;
    let everything = "MATCH (n) RETURN LABELS(n) AS l, PROPERTIES(n) AS p";
    let edges = "MATCH (a)-[e]->(b) RETURN LABELS(e) AS l, PROPERTIES(e) AS p, PROPERTIES(a) AS a, PROPERTIES(b) AS b";
    let sorted = async |graph: &str, text: &str| {
        let rows = query(&client, graph, text).await.rows;
        let mut rows: Vec<String> = rows.iter().map(|row| json!(row).to_string()).collect();
        rows.sort();
        rows
    };
    let shown = async |graph: &str| (sorted(graph, everything).await, sorted(graph, edges).await);
    // Where they differ, the first that do: there are thousands.
    let differ = |a: &[String], b: &[String]| -> Vec<(String, String)> {
        let pairs = a.iter().zip(b).filter(|(a, b)| a != b).take(2);
        let mut found: Vec<_> = pairs.map(|(a, b)| (a.clone(), b.clone())).collect();
        if a.len() != b.len() {
            found.push((a.len().to_string(), b.len().to_string()));
        }
        found
    };
    let same = |found: &(Vec<String>, Vec<String>), wanted: &(Vec<String>, Vec<String>), what: &str| {
        let none: Vec<(String, String)> = vec![];
        assert_eq!(differ(&found.0, &wanted.0), none, "nodes of {what}");
        assert_eq!(differ(&found.1, &wanted.1), none, "edges of {what}");
    };
    let wanted = shown("averley").await;
    let at = |name: &str| place.path().join(name).to_str().unwrap().to_string();
    for format in ["csv", "parquet", "arrow"] {
        stdout(&cli(&service.url, &["export", "-g", "averley", "--format", format, "--out", &at(format)]));
        let copy = format!("copy_{format}");
        let made = format!("CREATE GRAPH {copy} LIKE averley");
        client.query(&graphodrome_client::QueryRequest { text: made, ..Default::default() }).await.unwrap();
        let run = cli(&service.url, &["load", "-g", &copy, &at(&format!("{format}/load.toml"))]);
        assert!(run.status.success(), "{format}: {}", stderr(&run));
        // All times of the demo are in UTC, so that no offset is lost.
        same(&shown(&copy).await, &wanted, format);
        // Into an open graph the types come from the mapping.
        let open = format!("open_{format}");
        client.create_graph(&open, None).await.unwrap();
        stdout(&cli(&service.url, &["load", "-g", &open, &at(&format!("{format}/load.toml"))]));
        same(&shown(&open).await, &wanted, &format!("{format} into an open graph"));
    }
    for (name, format) in [
        ("g.graphml", "graphml"),
        ("g.nq", "nquads"),
        ("g.dot", "dot"),
        ("g.jsonl", "jsonl"),
        ("g_parquet.zip", "parquet"),
        ("g_arrow.zip", "arrow"),
    ] {
        let run = cli(&service.url, &["export", "-g", "averley", "--format", format, "--out", &at(name)]);
        assert!(run.status.success(), "{}", stderr(&run));
        let notes = stderr(&run);
        assert_eq!(
            notes.contains("note: GraphML knows boolean, long, double and string"),
            format == "graphml",
            "{notes}"
        );
    }
    let lines = std::fs::read_to_string(at("g.jsonl")).unwrap();
    let counts =
        query(&client, "averley", "MATCH (n) RETURN COUNT(*) AS n").await.rows[0][0].as_u64().unwrap();
    let of = |kind: &str| {
        lines.lines().filter(|l| l.starts_with(&format!("{{\"@type\":\"{kind}\""))).count() as u64
    };
    assert_eq!(of("node"), counts);
    // A label, and what a query finds.
    let sites =
        stdout(&cli(&service.url, &["export", "-g", "averley", "--label", "Site", "--format", "jsonl"]));
    let site_count =
        single(&client, "averley", "MATCH (s:Site) RETURN COUNT(*) AS n").await.as_u64().unwrap();
    assert_eq!(sites.lines().filter(|l| l.contains("\"@type\":\"node\"")).count() as u64, site_count);
    let path = "MATCH p = (:Site {code: 'S-001'})-[:PIPE]->{2}() RETURN p LIMIT 1";
    let near = stdout(&cli(&service.url, &["export", "-g", "averley", "--query", path, "--format", "jsonl"]));
    assert_eq!(near.lines().count(), 5, "three nodes and two edges: {near}");
    let none = cli(&service.url, &["export", "-g", "averley", "--query", "RETURN 1 AS x", "--format", "dot"]);
    assert!(stderr(&none).contains("the query returns no nodes, edges or paths"), "{}", stderr(&none));
    let wrong = cli(&service.url, &["export", "-g", "averley", "--label", "Sit"]);
    assert!(stderr(&wrong).contains("did you mean Site?"), "{}", stderr(&wrong));
    // networkx takes edges of one kind only: the part of the graph whose edges are directed.
    let network =
        ["export", "-g", "averley", "--label", "Junction", "--label", "Site", "--label", "Valve", "--out"];
    stdout(&cli(&service.url, &[&network[..], &[at("g.graphml").as_str()]].concat()));
    let of_network =
        single(&client, "averley", "MATCH (n:Junction|Site|Valve) RETURN COUNT(*) AS n").await.to_string();
    match python() {
        None => println!("no Python with networkx, pyarrow and rdflib here: exports are not read by others"),
        Some(python) => {
            let edges = of("edge").to_string();
            let run = Command::new(python)
                .args(["-c", READ, place.path().to_str().unwrap(), &counts.to_string(), &edges, &of_network])
                .output()
                .unwrap();
            assert!(run.status.success(), "{}", stderr(&run));
        }
    }
}

/// The guide's lines for a notebook are run as they stand, against this service.
#[tokio::test(flavor = "multi_thread")]
async fn the_guides_notebook_lines_read_results_with_their_types() {
    let place = folder();
    let service = Running::start(place.path(), &[]);
    load_demo(&service.client()).await;
    let Some(python) = python() else {
        println!("no Python with pyarrow here: the guide's lines are not run");
        return;
    };
    let guide = std::fs::read_to_string(root().join("docs/guide.md")).unwrap();
    let lines = guide.split("```python\n").nth(1).unwrap().split("```").next().unwrap();
    let checks = "\nimport pyarrow\nassert pyarrow.types.is_date32(frame.schema.field('opened').type), frame.schema\nassert frame.num_rows > 0\n";
    let script = format!("SERVICE = {:?}\n{lines}{checks}", service.url);
    let run = Command::new(python).args(["-c", &script]).output().unwrap();
    assert!(run.status.success(), "{}", stderr(&run));
    assert!(stdout(&run).contains("metres: double"), "{}", stdout(&run));
}
