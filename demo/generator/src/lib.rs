//! The demo scenario's tables, at any size, and random graphs: seeded, so that the same numbers give the
//! same bytes. All names, codes and figures are invented.

mod dirty;
mod names;
mod network;
mod random;
mod register;
mod write;

pub use random::{Ends, random_graph};

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
pub fn scenario(junctions: u32, seed: u64, folder: &Path) -> Result<Made, GenerateError> {
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
        ("load.toml", include_str!("../../load.toml")),
        ("dirty/load.toml", include_str!("../../dirty/load.toml")),
    ] {
        write::text(&folder.join(name), text)?;
        made.files += 1;
    }
    Ok(made)
}
