//! The house keeps its order: which crate may use which, and what core must not know.

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
    ("apps/client", &[]),
    ("apps/service", &["graph", "language", "engine", "formats", "store"]),
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
