//! The demo scenario's tables at any size, and random graphs. Generators are seeded: the same numbers give the same
//! bytes. All names, codes and figures are invented.

mod dirty;
mod names;
mod network;
mod of_model;
mod random;
mod register;
mod sink;
mod write;

pub use of_model::{Spread, Wanted, graph_of_model};
pub use random::{Shape, Style, random_graph};
pub use sink::{Format, Output, Packing};

use std::path::Path;

/// What was written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Made {
    pub files: u32,
    pub rows: u64,
}

#[derive(Debug, thiserror::Error)]
pub enum GenerateError {
    #[error("{path} cannot be written: {reason}")]
    Write { path: String, reason: String },
    #[error("{0}")]
    Size(String),
}

/// The smallest network that has everything in it.
pub const LEAST_JUNCTIONS: u32 = 200;

/// Writes the water utility with this many junctions into `folder`: model, mapping, tables, the
/// register as an SQL script, and a damaged copy of some tables.
pub fn scenario(junctions: u32, seed: u64, output: Output, folder: &Path) -> Result<Made, GenerateError> {
    if !(LEAST_JUNCTIONS..=10_000_000).contains(&junctions) {
        return Err(GenerateError::Size(format!(
            "a scenario has {LEAST_JUNCTIONS} to 10,000,000 junctions, not {junctions}"
        )));
    }
    let mut made = Made::default();
    network::write(junctions, seed, folder, &mut made)?;
    register::write(folder, &mut made)?;
    dirty::write(folder, &mut made)?;
    for (name, text) in [
        ("model.gql", include_str!("../../model.gql")),
        ("load.toml", &tables_as(output, folder, include_str!("../../load.toml"))?),
        ("dirty/load.toml", include_str!("../../dirty/load.toml")),
    ] {
        write::text(&folder.join(name), text)?;
        made.files += 1;
    }
    Ok(made)
}

/// Writes the CSV tables that a mapping names in another format; returns the mapping of those.
fn tables_as(output: Output, folder: &Path, mapping: &str) -> Result<String, GenerateError> {
    if output == Output::default() {
        return Ok(mapping.to_string());
    }
    let mut text = mapping.to_string();
    let named = mapping.lines().filter_map(|l| l.strip_prefix("file = \"")?.strip_suffix(".csv\""));
    let mut done: Vec<&str> = vec![];
    for table in named {
        if done.contains(&table) {
            continue;
        }
        done.push(table);
        let path = folder.join(format!("{table}.csv"));
        let failed =
            |e: csv::Error| GenerateError::Write { path: path.display().to_string(), reason: e.to_string() };
        let mut reader = csv::Reader::from_path(&path).map_err(failed)?;
        let header = reader.headers().map_err(failed)?.clone();
        let columns: Vec<(&str, sink::Kind)> = header.iter().map(|name| (name, sink::Kind::Text)).collect();
        let mut out = sink::Sink::create(folder, table, &columns, output)?;
        for record in reader.records() {
            let record = record.map_err(failed)?;
            let cell = |text| if str::is_empty(text) { sink::Cell::Null } else { sink::Cell::Text(text) };
            out.row(&record.iter().map(cell).collect::<Vec<_>>())?;
        }
        // Counted when they were written first.
        out.finish(&mut Made::default())?;
        text = text.replace(&format!("\"{table}.csv\""), &format!("\"{}\"", output.file(table)));
        if output.file(table) != format!("{table}.csv") {
            let gone = std::fs::remove_file(&path);
            gone.map_err(|e| GenerateError::Write {
                path: path.display().to_string(),
                reason: e.to_string(),
            })?;
        }
    }
    Ok(text)
}
