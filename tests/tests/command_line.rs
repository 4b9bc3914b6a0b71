//! The real command line: output that people read, formats, exit codes, standard input, the shell, the
//! demo.

#![allow(clippy::unwrap_used)]

use std::io::Write;
use std::process::{Command, Stdio};

use graphodrome_tests::*;

/// What the README tells a new user to type, typed in this checkout: in a clean clone where the tests run
/// in one. The other of the two commands is the one that runs this test.
#[tokio::test(flavor = "multi_thread")]
async fn the_commands_of_the_readme_do_what_it_says() {
    let readme = std::fs::read_to_string(root().join("README.md")).unwrap();
    let commands: Vec<&str> = readme.lines().filter(|l| l.starts_with("scripts/")).collect();
    let words: Vec<&str> = commands.iter().filter_map(|l| l.split_whitespace().next()).collect();
    assert_eq!(words, ["scripts/demo", "scripts/test"]);
    let folder = folder();
    let mut program = Command::new(root().join(words[0]));
    as_from_a_shell(&mut program);
    // It builds into the folder that these tests were built into.
    program.env("CARGO_TARGET_DIR", binary().ancestors().nth(2).unwrap());
    let service = Running::program(program, folder.path(), &[]);
    let printed = service.printed();
    assert!(printed.contains("Created 3062 nodes and 6505 edges in the graph averley"), "{printed}");
    let console = reqwest::get(&service.url).await.unwrap();
    assert!(console.status().is_success());
    assert!(console.text().await.unwrap().contains("<div id=\"root\">"));
    assert!(service.interrupt());
    let script = std::fs::read_to_string(root().join(words[1])).unwrap();
    for step in ["cargo fmt --all --check", "npm run --silent check", "cargo clippy", "cargo test"] {
        assert!(script.contains(step), "scripts/test leaves out {step}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_command_loads_once_and_finds_everything_the_second_time() {
    let folder = folder();
    let first = Running::command(&["demo"], folder.path(), &[]);
    assert!(
        first.printed().contains("Created 3062 nodes and 6505 edges in the graph averley"),
        "{}",
        first.printed()
    );
    let url = first.url.clone();
    let listed = stdout(&cli(&url, &["graph", "list"]));
    assert!(listed.contains("averley") && listed.contains("water_network"), "{listed}");
    // Killed, with PostgreSQL left running: the next start takes it over.
    first.kill();
    let second = Running::command(&["demo"], folder.path(), &[]);
    assert!(
        second.printed().contains("Nothing new: the graph averley stays at version 1."),
        "{}",
        second.printed()
    );
    let count = stdout(&cli(
        &second.url,
        &["query", "-g", "averley", "--format", "csv", "MATCH (n) RETURN COUNT(*) AS n"],
    ));
    assert_eq!(count, "n\r\n3062\r\n");
    assert!(second.interrupt());
    assert!(!folder.path().join("postgres/data/postmaster.pid").exists(), "PostgreSQL is still running");
}

#[tokio::test(flavor = "multi_thread")]
async fn commands_print_what_people_can_read_and_say_what_went_wrong() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let url = service.url.clone();
    let made = stdout(&cli(&url, &["query", "-f", "demo/model.gql"]));
    assert!(made.contains("graph averley created"), "{made}");
    let loaded = stdout(&cli(&url, &["load", "demo/load.toml"]));
    assert!(loaded.contains("rows = created + duplicates + skipped + rejects, in every line"), "{loaded}");

    let table = stdout(&cli(
        &url,
        &["query", "-g", "averley", "MATCH (d:District {code: 'TE'}) RETURN d, d.population * 0 AS zero"],
    ));
    assert!(table.contains("District TE (name Tarn End)"), "{table}");
    assert!(table.contains("1 row"), "{table}");
    let chosen = stdout(&cli(
        &url,
        &["query", "-g", "averley", "--show", "population", "MATCH (d:District {code: 'TE'}) RETURN d"],
    ));
    assert!(chosen.contains("District TE (population "), "{chosen}");
    let json = stdout(&cli(
        &url,
        &[
            "query",
            "-g",
            "averley",
            "--format",
            "json",
            "-p",
            "code=TE",
            "-p",
            "n=2",
            "MATCH (d:District {code: $code}) RETURN d.name AS name, $n + 1 AS n",
        ],
    ));
    assert!(json.contains(r#""rows":[["Tarn End",3]]"#), "{json}");

    let plan =
        stdout(&cli(&url, &["plan", "-g", "averley", "-f", "demo/questions/06a_shortest_route_by_hops.gql"]));
    assert!(
        plan.contains("ShortestPaths")
            && plan.contains("breadth first from both ends")
            && plan.contains("SeekKey"),
        "{plan}"
    );
    let profile = stdout(&cli(
        &url,
        &["profile", "-g", "averley", "-f", "demo/questions/06a_shortest_route_by_hops.gql"],
    ));
    assert!(profile.contains("frontier") && profile.contains("both ends met"), "{profile}");
    let data = stdout(&cli(
        &url,
        &["profile", "-g", "averley", "--json", "-f", "demo/questions/06a_shortest_route_by_hops.gql"],
    ));
    assert!(data.contains("\"edges_looked\""), "{data}");

    let wrong = cli(&url, &["query", "-g", "averley", "MATCH (d:Distrikt) RETURN d"]);
    assert_eq!(wrong.status.code(), Some(1));
    assert_eq!(
        stderr(&wrong),
        "error 42002: there is no node label Distrikt in this graph\n  at line 1, column 10\n1 | MATCH (d:Distrikt) RETURN d\n  |          ^^^^^^^^\nhint: did you mean District?\n"
    );
    let usage = cli(&url, &["query", "--formt", "csv"]);
    assert_eq!(usage.status.code(), Some(2));
    let nobody = cli("http://127.0.0.1:1", &["graph", "list"]);
    assert_eq!(nobody.status.code(), Some(3));
    assert!(stderr(&nobody).contains("graphodrome serve"));
    let unconfirmed = cli(&url, &["graph", "drop", "averley", "--confirm", "averly"]);
    assert_eq!(unconfirmed.status.code(), Some(1));
    let missing = cli(&url, &["load", "demo/none.toml"]);
    assert!(stderr(&missing).contains("demo/none.toml cannot be read"), "{}", stderr(&missing));
    let jobs = stdout(&cli(&url, &["job", "list"]));
    assert!(jobs.contains("done"), "{jobs}");
    for command in ["serve", "demo", "graph", "load", "job", "query", "plan", "profile", "shell", "generate"]
    {
        let help = stdout(&cli(&url, &[command, "--help"]));
        assert!(help.contains("Usage: graphodrome"), "{help}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn queries_come_from_standard_input_and_the_shell_takes_several_lines() {
    let folder = folder();
    let service = Running::start(folder.path(), &[]);
    let piped = |arguments: &[&str], input: &str| {
        let mut child = Command::new(binary())
            .args(arguments)
            .env("GRAPHODROME_URL", &service.url)
            .env("NO_COLOR", "1")
            .env("XDG_STATE_HOME", folder.path())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    };
    let created = piped(&["query"], "CREATE GRAPH small ANY; USE small INSERT (:P {x: 1}), (:P {x: 2})");
    assert!(created.status.success(), "{}", stderr(&created));
    let counted = stdout(&piped(
        &["query", "-g", "small", "--format", "ndjson"],
        "MATCH (p:P) RETURN SUM(p.x) AS total",
    ));
    assert_eq!(counted, "{\"total\":3}\n");
    let session = "graph small\nlabels\nMATCH (p:P)\nRETURN p.x AS x\nORDER BY x;\nparam least = 2\nMATCH (p:P) WHERE p.x >= $least RETURN COUNT(*) AS some;\nMATCH (p:Q) RETURN p.y;\nplan MATCH (p:P) RETURN p;\nquit\n";
    let shown = stdout(&piped(&["shell"], session));
    for expected in ["node", "2 rows", "some", "there is no node label Q", "ScanNodes"] {
        assert!(shown.contains(expected), "{expected} is missing:\n{shown}");
    }
}

#[test]
fn the_generator_is_repeatable_and_made_the_committed_tables() {
    let (a, b) = (folder(), folder());
    for out in [&a, &b] {
        stdout(&cli(
            "",
            &["generate", "scenario", "--junctions", "1500", "--out", out.path().to_str().unwrap()],
        ));
    }
    for name in [
        "tables/pipes.csv",
        "tables/consumers.csv",
        "tables/meters.parquet",
        "register.sql",
        "tables/alarms.jsonl",
        "tables/work_orders.csv",
        "dirty/junctions.csv",
        "load.toml",
    ] {
        let read = |folder: &std::path::Path| std::fs::read(folder.join(name)).unwrap();
        assert!(read(a.path()) == read(b.path()), "{name} differs between two runs");
        assert!(read(a.path()) == read(&root().join("demo")), "{name} is not what is committed");
    }
    let refused = cli("", &["generate", "scenario", "--junctions", "5", "--out", a.path().to_str().unwrap()]);
    assert!(stderr(&refused).contains("200 to 10,000,000 junctions"));
}
