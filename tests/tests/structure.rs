//! The house keeps its order: which crate may use which, what core must not know, how long files and functions are.

#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};

use graphodrome_tests::root;

/// Crate, and the crates of the project that it may use.
const ALLOWED: &[(&str, &[&str])] = &[
    ("core/graph", &[]),
    ("core/language", &["graph"]),
    ("core/algorithms", &["graph"]),
    ("core/engine", &["algorithms", "graph", "language"]),
    ("core/records", &[]),
    ("adapters/formats", &["graph", "language", "engine", "records"]),
    ("adapters/store", &["graph", "language", "records"]),
    ("adapters/database", &["formats"]),
    ("adapters/modules", &["algorithms", "engine", "graph", "language"]),
    ("apps/client", &["records"]),
    ("apps/service", &["graph", "language", "engine", "formats", "modules", "records", "store"]),
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
        let lines = text.lines().count();
        if lines > LONGEST_FILE {
            wrong.push(format!("{path}: {lines} lines"));
        }
        for (name, lines) in functions(&text) {
            if lines > LONGEST_FUNCTION && !FLAT.contains(&(path.as_str(), name)) {
                wrong.push(format!("{path}: {name} has {lines} lines"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// The crates' own sources by the path of their module, such as `planner::order`.
fn modules(folder: &str) -> BTreeMap<Vec<String>, String> {
    let begin = format!("{folder}/src/");
    let of_crate = sources().into_iter().filter_map(|(path, text)| {
        let path = path.strip_prefix(&begin)?.strip_suffix(".rs")?.to_string();
        let mut module: Vec<String> = path.split('/').map(str::to_string).collect();
        if matches!(module.last().map(String::as_str), Some("mod" | "lib" | "main")) {
            module.pop();
        }
        // What tests use of the crate is theirs.
        let text = text.split("#[cfg(test)]\nmod ").next().unwrap_or_default().to_string();
        Some((module, text))
    });
    of_crate.collect()
}

/// The paths that a `use` names, its braces taken apart, without what they are called here.
fn paths_of(text: &str, before: &[String], found: &mut Vec<Vec<String>>) {
    let (mut depth, mut start) = (0, 0);
    let mut parts = vec![];
    for (at, c) in text.char_indices() {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&text[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&text[start..]);
    for part in parts.into_iter().map(str::trim).filter(|part| !part.is_empty()) {
        let (head, inner) = part.split_once('{').unwrap_or((part, ""));
        let head = head.split(" as ").next().unwrap_or_default();
        let names = head.split("::").map(|name| name.trim().to_string()).filter(|name| !name.is_empty());
        let path = [before.to_vec(), names.collect()].concat();
        match inner.rsplit_once('}') {
            Some((inner, _)) => paths_of(inner, &path, found),
            None => found.push(path),
        }
    }
}

/// Every `use` of a source: whether it is one that hands on, and its paths.
fn uses(text: &str) -> Vec<(bool, Vec<String>)> {
    let mut found = vec![];
    let mut rest = text;
    while let Some(at) = rest.find("use ") {
        let line = rest[..at].rsplit('\n').next().unwrap_or_default().trim();
        let Some(end) = rest[at..].find(';') else { break };
        if line.is_empty() || (line.starts_with("pub") && !line.contains(' ')) {
            let mut paths = vec![];
            paths_of(&rest[at + 4..at + end], &[], &mut paths);
            found.extend(paths.into_iter().map(|path| (!line.is_empty(), path)));
        }
        rest = &rest[at + 4..];
    }
    found
}

/// What a path of a module is from the crate's root; `None` where it leads out of the crate.
fn absolute(
    module: &[String], path: &[String], modules: &BTreeMap<Vec<String>, String>,
) -> Option<Vec<String>> {
    let rest = |n: usize| path[n..].to_vec();
    match path[0].as_str() {
        "crate" => Some(rest(1)),
        "self" => Some([module.to_vec(), rest(1)].concat()),
        "super" => {
            let ups = path.iter().take_while(|name| *name == "super").count();
            Some([module[..module.len().checked_sub(ups)?].to_vec(), rest(ups)].concat())
        }
        first => {
            let child = [module.to_vec(), vec![first.to_string()]].concat();
            modules.contains_key(&child).then(|| [module.to_vec(), rest(0)].concat())
        }
    }
}

/// The modules that each one imports from. What a module only hands on counts for the module that has it.
fn imports(folder: &str) -> BTreeMap<Vec<String>, BTreeSet<Vec<String>>> {
    let modules = modules(folder);
    let mut handed: BTreeMap<(Vec<String>, String), Vec<String>> = BTreeMap::new();
    let mut all = vec![];
    for (module, text) in &modules {
        for (hands_on, path) in uses(text) {
            let Some(path) = absolute(module, &path, &modules) else { continue };
            if hands_on && let Some(name) = path.last() {
                handed.insert((module.clone(), name.clone()), path.clone());
            }
            all.push((module.clone(), hands_on, path));
        }
    }
    let mut found: BTreeMap<Vec<String>, BTreeSet<Vec<String>>> = BTreeMap::new();
    for (module, hands_on, mut path) in all {
        if hands_on {
            continue;
        }
        for _ in 0..5 {
            let home = (0..=path.len()).rev().find(|n| modules.contains_key(&path[..*n])).unwrap_or(0);
            let name = path.get(home).cloned();
            match name.and_then(|name| handed.get(&(path[..home].to_vec(), name))) {
                Some(from) => path = from.clone(),
                None => {
                    path.truncate(home);
                    break;
                }
            }
        }
        if path != module && modules.contains_key(&path) {
            found.entry(module).or_default().insert(path);
        }
    }
    found
}

#[test]
fn no_file_imports_what_imports_it() {
    for (folder, _) in ALLOWED {
        let mut left = imports(folder);
        // Whoever imports nothing that is left is in no circle.
        loop {
            let known: BTreeSet<Vec<String>> = left.keys().cloned().collect();
            let before = left.len();
            left.retain(|_, of| of.iter().any(|other| known.contains(other)));
            if left.len() == before {
                break;
            }
        }
        let known: BTreeSet<Vec<String>> = left.keys().cloned().collect();
        let shown = |(module, of): (&Vec<String>, &BTreeSet<Vec<String>>)| {
            let of: Vec<String> = of.intersection(&known).map(|other| other.join("::")).collect();
            format!("  {} imports {}", module.join("::"), of.join(", "))
        };
        let circle: Vec<String> = left.iter().map(shown).collect();
        assert!(
            left.is_empty(),
            "{folder} has files that import each other, or that import such:\n{}",
            circle.join("\n")
        );
    }
}

#[test]
fn imports_are_found_in_every_form() {
    let text =
        "use crate::a::{b, c::{D, E as F}};\npub(crate) use own::G;\nlet x = \"use less\";\nuse super::h;\n";
    let found: Vec<(bool, String)> =
        uses(text).into_iter().map(|(hands, path)| (hands, path.join("::"))).collect();
    let wanted = [
        (false, "crate::a::b"),
        (false, "crate::a::c::D"),
        (false, "crate::a::c::E"),
        (true, "own::G"),
        (false, "super::h"),
    ];
    assert_eq!(found, wanted.map(|(hands, path)| (hands, path.to_string())));
}

#[test]
fn sources_that_the_docs_name_are_there() {
    let all: Vec<String> = sources().into_iter().map(|(path, _)| path).collect();
    let mut named = 0;
    for page in
        ["docs/architecture.md", "docs/storage.md", "docs/reliability.md", "docs/guide.md", "CONTRIBUTING.md"]
    {
        let text = std::fs::read_to_string(root().join(page)).unwrap();
        for name in
            text.split('`').skip(1).step_by(2).filter(|name| name.ends_with(".rs") && !name.contains(' '))
        {
            named += 1;
            let is_it = |path: &String| path == name || path.ends_with(&format!("/{name}"));
            assert!(all.iter().any(is_it), "{page} names {name}, which is not there");
        }
    }
    assert!(named > 60, "{named}");
}

#[test]
fn functions_are_found_with_their_lengths() {
    let text = "pub fn one() {\n    two();\n}\n\nimpl A {\n    async fn two(\n        a: u8,\n    ) {\n        fn_like();\n    }\n}\n// fn three() {\n";
    assert_eq!(functions(text), [("one", 3), ("two", 5)]);
}
