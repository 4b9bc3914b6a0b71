//! The house keeps its order: which crate may use which, what core must not know, how long files and functions are.

#![allow(clippy::unwrap_used)]

use graphodrome_tests::root;

/// Crate, and the crates of the project that it may use.
const ALLOWED: &[(&str, &[&str])] = &[
    ("core/graph", &[]),
    ("core/language", &["graph"]),
    ("core/algorithms", &["graph"]),
    ("core/engine", &["algorithms", "graph", "language"]),
    ("adapters/formats", &["graph", "language", "engine"]),
    ("adapters/store", &["graph", "language"]),
    ("adapters/database", &["formats"]),
    ("adapters/modules", &["algorithms", "engine", "graph", "language"]),
    ("apps/client", &[]),
    ("apps/service", &["graph", "language", "engine", "formats", "modules", "store"]),
    ("apps/cli", &["client", "database", "engine", "formats", "graph", "service", "generator", "language"]),
    ("demo/generator", &["graph"]),
];

/// What core may not use: sockets, databases, runtimes, terminals.
const FOREIGN: &[&str] =
    &["tokio", "axum", "sea-orm", "reqwest", "clap", "futures", "tracing", "memmap2", "tempfile"];

#[test]
fn crates_use_only_what_stands_below_them() {
    for (folder, allowed) in ALLOWED {
        let manifest = std::fs::read_to_string(root().join(folder).join("Cargo.toml")).unwrap();
        let body = manifest.split("[dependencies]").nth(1).unwrap();
        for line in body.lines() {
            let name = line.split(['.', ' ', '=']).next().unwrap_or("");
            if let Some(own) = name.strip_prefix("graphodrome-") {
                assert!(allowed.contains(&own), "{folder} must not use {name}");
            }
            if folder.starts_with("core/") {
                assert!(!FOREIGN.contains(&name), "{folder} must not use {name}");
            }
        }
    }
}

/// Lines that a file and a function may have.
const LONGEST_FILE: usize = 600;
const LONGEST_FUNCTION: usize = 100;

/// Functions that are one flat match or one list, a case after the other: they are read like a table.
const FLAT: &[(&str, &str)] = &[
    ("core/engine/src/evaluate.rs", "value"),
    ("core/engine/src/functions.rs", "call"),
    ("core/engine/src/compile.rs", "kind"),
    ("core/language/src/parse/types.rs", "simple_value_type"),
    ("core/language/src/check/expressions.rs", "expression"),
    ("core/engine/src/procedures/registry/centrality.rs", "centrality"),
    ("core/engine/src/procedures/registry/connection.rs", "connection"),
];

/// What is still longer, and how long it is: none of it may grow, and nothing may be added.
const LONG_FUNCTIONS: &[(&str, &str, usize)] = &[
    ("core/graph/src/evolve.rs", "carry", 213),
    ("adapters/formats/src/draft/profile.rs", "profile", 157),
    ("core/engine/src/search/enumerate.rs", "next", 146),
    ("adapters/formats/src/load/resolve.rs", "resolve_nodes", 146),
    ("tests/tests/browser/main.rs", "a_session_in_the_console", 143),
    ("tests/tests/versions.rs", "every_version_is_read_as_it_was", 142),
    ("adapters/formats/src/diagram.rs", "svg", 139),
    ("core/engine/src/planner/result.rs", "group", 135),
    ("adapters/formats/src/results/arrow.rs", "array", 135),
    ("bench/benches/figures.rs", "scenario", 127),
    ("core/graph/src/evolve.rs", "compare", 123),
    ("core/engine/src/planner/searches.rs", "search_operator", 121),
    ("adapters/formats/src/draft/render.rs", "render", 117),
    ("core/engine/tests/patterns.rs", "one_case", 111),
    ("tests/tests/browser/trust.rs", "results_say_what_they_are_of_and_are_exact", 107),
    ("core/graph/tests/evolve.rs", "apply", 106),
    ("core/engine/src/planner/order.rs", "connect", 106),
    ("adapters/formats/src/draft/structure.rs", "hidden_entities", 104),
    ("tests/tests/schema.rs", "a_new_model_is_compared_applied_or_refused_as_a_whole", 102),
    ("adapters/formats/tests/load.rs", "load", 101),
];
const LONG_FILES: &[(&str, usize)] = &[("tests/tests/runs.rs", 673)];

/// Rust sources of the project with their text, by path.
fn sources() -> Vec<(String, String)> {
    fn gather(folder: &std::path::Path, found: &mut Vec<(String, String)>) {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                gather(&path, found);
            } else if path.extension().is_some_and(|e| e == "rs") {
                let name = path.strip_prefix(root()).unwrap().to_str().unwrap().to_string();
                found.push((name, std::fs::read_to_string(&path).unwrap()));
            }
        }
    }
    let mut found = vec![];
    for folder in ["core", "adapters", "apps", "demo", "bench", "tests"] {
        gather(&root().join(folder), &mut found);
    }
    found.sort();
    found
}

/// The functions of a source that rustfmt has laid out, with their lines.
fn functions(text: &str) -> Vec<(&str, usize)> {
    let lines: Vec<&str> = text.lines().collect();
    let mut found = vec![];
    for (start, line) in lines.iter().enumerate() {
        let bare = line.trim_start();
        let before = ["pub", "pub(crate)", "pub(super)", "async", "const", "unsafe", "fn"];
        let Some((head, rest)) = bare.split_once("fn ").filter(|_| !bare.starts_with("//")) else { continue };
        if !head.split_whitespace().all(|word| before.contains(&word)) {
            continue;
        }
        let name = rest.split(|c: char| !c.is_alphanumeric() && c != '_').next().unwrap();
        let end = format!("{}}}", &line[..line.len() - bare.len()]);
        // One without a body ends before the next begins.
        let length = lines[start..].iter().position(|l| **l == end).unwrap_or(0) + 1;
        let has_body = lines[start..start + length].iter().take(12).any(|l| l.trim_end().ends_with('{'));
        if has_body {
            found.push((name, length));
        }
    }
    found
}

#[test]
fn files_and_functions_stay_short() {
    let mut wrong = vec![];
    for (path, text) in sources() {
        let (lines, most) = (text.lines().count(), LONG_FILES.iter().find(|(p, _)| *p == path));
        match most {
            Some((_, most)) if lines > *most => wrong.push(format!("{path}: {lines} lines, it had {most}")),
            Some((_, most)) if lines <= LONGEST_FILE => {
                wrong.push(format!("{path}: {lines} lines, no longer {most}: take it off the list"));
            }
            None if lines > LONGEST_FILE => wrong.push(format!("{path}: {lines} lines")),
            _ => {}
        }
        for (name, lines) in functions(&text) {
            let own = |(p, n, _): &&(&str, &str, usize)| *p == path && *n == name;
            let flat = FLAT.contains(&(path.as_str(), name));
            match LONG_FUNCTIONS.iter().find(own) {
                Some((.., most)) if lines > *most => {
                    wrong.push(format!("{path}: {name} has {lines} lines, it had {most}"));
                }
                None if !flat && lines > LONGEST_FUNCTION => {
                    wrong.push(format!("{path}: {name} has {lines} lines"));
                }
                _ => {}
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn functions_are_found_with_their_lengths() {
    let text = "pub fn one() {\n    two();\n}\n\nimpl A {\n    async fn two(\n        a: u8,\n    ) {\n        fn_like();\n    }\n}\n// fn three() {\n";
    assert_eq!(functions(text), [("one", 3), ("two", 5)]);
}
