//! Bulk loading, in three phases: every table is read once, in parallel chunks, into typed columns;
//! keys are resolved in memory; the new base is put together. Nothing is visible before the caller
//! publishes the parts, so a load is all of it or none of it.

mod account;
mod assemble;
mod edges;
mod parquet;
mod plain;
mod plan;
mod read;
mod resolve;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU8, AtomicU64, Ordering};

use graphodrome_graph::{BaseParts, GraphError, Snapshot};
use memmap2::Mmap;
use serde::{Deserialize, Serialize};

use crate::mapping::{Mapping, MappingError};

pub(crate) use parquet::each_row as parquet_rows;
pub(crate) use plan::{header as csv_header, unnamed};

/// The bytes of a source file.
pub enum Source {
    Bytes(Vec<u8>),
    Mapped(Mmap),
}

impl Source {
    pub fn bytes(&self) -> &[u8] {
        match self {
            Source::Bytes(bytes) => bytes,
            Source::Mapped(map) => map,
        }
    }
}

/// How far a load is; read by others while it runs.
#[derive(Debug, Default)]
pub struct Progress {
    pub bytes_total: AtomicU64,
    pub bytes_read: AtomicU64,
    pub rows_read: AtomicU64,
    phase: AtomicU8,
    cancelled: AtomicBool,
}

const PHASES: [&str; 5] = ["waiting", "reading", "resolving keys", "building", "writing"];

impl Progress {
    pub fn phase(&self) -> &'static str {
        PHASES[self.phase.load(Ordering::Relaxed) as usize % PHASES.len()]
    }

    pub fn enter(&self, phase: &str) {
        if let Some(place) = PHASES.iter().position(|p| *p == phase) {
            self.phase.store(place as u8, Ordering::Relaxed);
        }
    }

    pub fn cancel(&self) {
        self.cancelled.store(true, Ordering::Relaxed);
    }

    pub fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }

    pub(crate) fn check(&self) -> Result<(), LoadError> {
        if self.is_cancelled() { Err(LoadError::Cancelled) } else { Ok(()) }
    }
}

/// A row that could not be taken, and why.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Reject {
    pub table: String,
    /// What the row should have become, such as `(:Site)`.
    pub rule: String,
    pub line: u64,
    pub column: Option<String>,
    pub value: Option<String>,
    pub reason: String,
    pub record: String,
}

/// What one rule made of its table's rows: `rows = made + duplicates + skipped + rejects`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct RuleAccount {
    pub rule: String,
    pub rows: u64,
    pub made: u64,
    pub duplicates: u64,
    /// Rows of an optional rule without a key or reference.
    pub skipped: u64,
    pub rejects: u64,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct TableAccount {
    pub table: String,
    pub rows: u64,
    pub bytes: u64,
    pub rules: Vec<RuleAccount>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Account {
    pub tables: Vec<TableAccount>,
    pub nodes_made: u64,
    pub edges_made: u64,
    pub duplicates: u64,
    pub rejects: u64,
    pub read_ms: f64,
    pub resolve_ms: f64,
    pub build_ms: f64,
    pub write_ms: f64,
}

impl Account {
    /// Whether every rule's figures add up to its rows.
    pub fn adds_up(&self) -> bool {
        self.tables.iter().all(|t| {
            t.rules
                .iter()
                .all(|r| r.rows == t.rows && r.rows == r.made + r.duplicates + r.skipped + r.rejects)
        })
    }
}

#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    #[error("{0}")]
    Mapping(#[from] MappingError),
    #[error("{0}")]
    Graph(#[from] GraphError),
    #[error("table {table}: {message}")]
    Table { table: String, message: String },
    #[error("{rejects} rejects are more than the limit of {limit}; nothing was published")]
    TooManyRejects { rejects: u64, limit: u64, kept: Vec<Reject>, account: Box<Account> },
    #[error("the load was cancelled; nothing was published")]
    Cancelled,
}

pub struct LoadOutcome {
    /// `None` where the load changes nothing.
    pub parts: Option<BaseParts>,
    pub account: Account,
    /// The first rejects, at most [`MAX_KEPT_REJECTS`]; the account counts all.
    pub rejects: Vec<Reject>,
}

/// Rejects kept with their rows.
pub const MAX_KEPT_REJECTS: usize = 100_000;

/// Reads the sources as the mapping says, on top of `snapshot`.
pub fn load(
    mapping: &Mapping, sources: &BTreeMap<String, Arc<Source>>, snapshot: &Snapshot, progress: &Progress,
) -> Result<LoadOutcome, LoadError> {
    let plans = plan::plan(mapping, sources, snapshot)?;
    let total: usize = plans.iter().map(|p| p.source.bytes().len()).sum();
    progress.bytes_total.store(total as u64, Ordering::Relaxed);

    progress.enter("reading");
    let started = std::time::Instant::now();
    let mut tables = vec![];
    for plan in &plans {
        tables.push(read::read_table(plan, progress)?);
    }
    let read_ms = started.elapsed().as_secs_f64() * 1e3;

    progress.enter("resolving keys");
    let started = std::time::Instant::now();
    let resolved = resolve::resolve(&plans, &mut tables, snapshot, progress)?;
    let resolve_ms = started.elapsed().as_secs_f64() * 1e3;

    progress.enter("building");
    let started = std::time::Instant::now();
    let parts = assemble::assemble(&plans, &mut tables, resolved, snapshot, progress)?;
    let build_ms = started.elapsed().as_secs_f64() * 1e3;

    let (mut account, rejects) = account::account(&plans, &tables);
    account.read_ms = read_ms;
    account.resolve_ms = resolve_ms;
    account.build_ms = build_ms;
    if let Some(limit) = mapping.reject_limit
        && account.rejects > limit
    {
        return Err(LoadError::TooManyRejects {
            rejects: account.rejects,
            limit,
            kept: rejects,
            account: Box::new(account),
        });
    }
    let changes = account.nodes_made + account.edges_made > 0;
    Ok(LoadOutcome { parts: changes.then_some(parts), account, rejects })
}
