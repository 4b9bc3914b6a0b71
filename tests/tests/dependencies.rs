//! Dependencies of the workspace: compatible licences, the crates.io registry only, and known duplicates only.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::process::Command;

use graphodrome_tests::{as_from_a_shell, root};
use serde_json::Value;

/// Licences as deny.toml allows them.
fn allowed() -> Vec<String> {
    let text = std::fs::read_to_string(root().join("deny.toml")).unwrap();
    let read: toml::Value = toml::from_str(&text).unwrap();
    let list = read["licenses"]["allow"].as_array().unwrap();
    list.iter().map(|l| l.as_str().unwrap().to_string()).collect()
}

/// Crates that other crates need in several versions; each is to go as soon as these agree.
const SEVERAL_VERSIONS: &[&str] = &[
    "atoi",
    "base64",
    "block-buffer",
    "cpufeatures",
    "crypto-common",
    "digest",
    "embedded-io",
    "getrandom",
    "hashbrown",
    "heck",
    "num-bigint",
    "rand",
    "rand_chacha",
    "rand_core",
    "sha2",
    "syn",
    "tower-http",
];

fn metadata() -> Value {
    let mut cargo = Command::new(env!("CARGO"));
    cargo
        .args(["metadata", "--format-version", "1", "--locked", "--offline"])
        .args(["--filter-platform", "x86_64-unknown-linux-gnu"])
        .current_dir(root());
    as_from_a_shell(&mut cargo);
    let output = cargo.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// Whether a licence expression (SPDX) can be met by allowed licences: one side of each OR, both of each AND.
fn is_met(expression: &str, allowed: &[String]) -> bool {
    let plain = expression.replace('/', " OR ").replace(['(', ')'], " ");
    let words = plain.split_whitespace().collect::<Vec<_>>().join(" ");
    // AND binds more strongly; the few expressions with parentheses have them around an OR, of which one side
    // is enough here as well.
    let parts: Vec<&str> = words.split(" AND ").collect();
    let one = |part: &str| {
        part.split(" OR ").any(|l| allowed.contains(&l.trim().trim_end_matches('+').to_string()))
    };
    parts.into_iter().all(one)
}

#[test]
fn licences_registries_and_versions_are_known() {
    let (metadata, allowed) = (metadata(), allowed());
    let mut versions: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    let mut wrong = vec![];
    let packages = metadata["packages"].as_array().unwrap();
    assert!(packages.len() > 100, "only {} packages", packages.len());
    for package in packages {
        let (name, version) = (package["name"].as_str().unwrap(), package["version"].as_str().unwrap());
        versions.entry(name).or_default().push(version);
        let licence = package["license"].as_str().unwrap_or("none");
        if !is_met(licence, &allowed) {
            wrong.push(format!("{name} {version}: its licence is {licence}"));
        }
        let source = package["source"].as_str();
        if source.is_some_and(|s| !s.contains("crates.io")) {
            wrong.push(format!("{name} {version} comes from {source:?}"));
        }
    }
    for (name, versions) in versions.iter().filter(|(_, versions)| versions.len() > 1) {
        if !SEVERAL_VERSIONS.contains(name) {
            wrong.push(format!("{name} is there in several versions: {}", versions.join(", ")));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn licence_expressions_are_read_as_they_are_meant() {
    let allowed = ["MIT".to_string(), "Zlib".to_string()];
    assert!(is_met("MIT OR GPL-3.0", &allowed) && is_met("Apache-2.0/MIT", &allowed));
    assert!(is_met("MIT AND Zlib", &allowed) && !is_met("MIT AND GPL-3.0", &allowed));
    assert!(!is_met("GPL-3.0", &allowed) && is_met("(MIT OR Apache-2.0) AND Zlib", &allowed));
}
