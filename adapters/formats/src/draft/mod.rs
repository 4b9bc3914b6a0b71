//! Drafts: a model and a load mapping proposed from tables, to be edited by a person. Every choice states its
//! reason, and observations without a consequence become remarks. The same tables give the same draft.

mod alternatives;
mod column;
mod hidden;
mod names;
mod profile;
mod references;
mod render;
mod structure;
mod watching;

use std::collections::BTreeMap;
use std::sync::Arc;

use rayon::prelude::*;

use crate::load::Source;
use crate::mapping::TableFormat;

/// A table to look at. `file` is what the mapping will call it.
pub struct DraftTable {
    pub file: String,
    pub format: TableFormat,
    pub source: Arc<Source>,
    /// What the database that the table is from declares of it.
    pub declared: Option<Declared>,
}

/// What a database declares of a table: it is believed, and still counted.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Declared {
    /// Kinds of the columns, by their names.
    pub kinds: BTreeMap<String, ColumnKind>,
    pub primary_key: Vec<String>,
    pub references: Vec<DeclaredReference>,
}

/// What a column is declared to hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ColumnKind {
    Whole,
    Float,
    Decimal { digits: u32, scale: u32 },
    Bool,
    Date,
    LocalDateTime,
    ZonedDateTime,
    Text,
}

/// A foreign key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeclaredReference {
    pub columns: Vec<String>,
    /// The file of the table referred to.
    pub file: String,
    pub to: Vec<String>,
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

/// Looks at the tables and proposes a model of the graph `name`. A table may unpack to `limit` bytes.
pub fn draft(name: &str, tables: &[DraftTable], limit: u64) -> Result<Draft, DraftError> {
    let state = hashbrown::DefaultHashBuilder::default();
    let mut profiles = tables
        .par_iter()
        .map(|table| profile::profile(table, limit, &state))
        .collect::<Result<Vec<_>, _>>()?;
    profiles.sort_by(|a, b| a.file.cmp(&b.file));
    let mut structure = structure::structure(&profiles);
    alternatives::repeated_texts(&profiles, &mut structure);
    Ok(render::render(name, &profiles, structure))
}

/// A column as its values show it.
#[derive(Clone, Debug, PartialEq)]
pub struct ColumnLook {
    pub name: String,
    /// The value type that all its values can be read as.
    pub kind: String,
    pub nulls: u64,
    /// Different values, the first that were seen.
    pub samples: Vec<String>,
}

/// A table as its columns show it.
#[derive(Clone, Debug, PartialEq)]
pub struct TableLook {
    pub file: String,
    pub rows: u64,
    /// Where it is no comma.
    pub delimiter: Option<char>,
    /// Words for null, where it has others than the empty text.
    pub null: Option<Vec<String>>,
    pub date_order: Option<crate::mapping::DateOrder>,
    pub columns: Vec<ColumnLook>,
}

/// Looks at tables without proposing anything. A table may unpack to `limit` bytes.
pub fn look(tables: &[DraftTable], limit: u64) -> Result<Vec<TableLook>, DraftError> {
    let state = hashbrown::DefaultHashBuilder::default();
    let looked = tables.par_iter().map(|table| {
        let profile = profile::profile(table, limit, &state)?;
        let column = |c: &column::ColumnProfile| ColumnLook {
            name: c.name.clone(),
            kind: render::value_type(c),
            nulls: c.nulls,
            samples: c.examples.clone(),
        };
        let words = std::iter::once(String::new()).chain(profile.null_words.iter().cloned());
        Ok(TableLook {
            rows: profile.rows,
            delimiter: profile.delimiter,
            null: (!profile.null_words.is_empty()).then(|| words.collect()),
            date_order: profile.date_order,
            columns: profile.columns.iter().map(column).collect(),
            file: profile.file,
        })
    });
    looked.collect()
}
