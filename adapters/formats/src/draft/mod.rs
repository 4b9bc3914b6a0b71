//! Drafts: a model and a load mapping proposed from looking at tables, to be edited by a person. Every
//! choice says why it was made; what was noticed and not done is said as well. The same tables give
//! the same draft.

mod names;
mod profile;
mod render;
mod structure;

use std::hash::RandomState;
use std::sync::Arc;

use rayon::prelude::*;

use crate::load::Source;
use crate::mapping::TableFormat;

/// A table to look at. `file` is what the mapping will call it.
pub struct DraftTable {
    pub file: String,
    pub format: TableFormat,
    pub source: Arc<Source>,
}

#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[error("{table}: {message}")]
pub struct DraftError {
    pub table: String,
    pub message: String,
}

/// What is proposed.
#[derive(Clone, Debug, PartialEq)]
pub struct Draft {
    /// Statements of the language with comments: a graph type and a graph of it.
    pub model: String,
    /// A load mapping with comments.
    pub mapping: String,
    /// One sentence each: what a person should look at.
    pub remarks: Vec<String>,
    pub node_types: usize,
    pub edge_types: usize,
}

/// Looks at the tables and proposes a model of the graph `name`.
pub fn draft(name: &str, tables: &[DraftTable]) -> Result<Draft, DraftError> {
    let state = RandomState::new();
    let mut profiles =
        tables.par_iter().map(|table| profile::profile(table, &state)).collect::<Result<Vec<_>, _>>()?;
    profiles.sort_by(|a, b| a.file.cmp(&b.file));
    let structure = structure::structure(&profiles);
    Ok(render::render(name, &profiles, structure))
}
