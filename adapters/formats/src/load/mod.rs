//! Bulk loading, in three phases: every table is read once, in parallel chunks, into typed columns;
//! keys are resolved in memory; the parts that the graph becomes are put together. Nothing is visible
//! before the caller publishes them, so a load is all of it or none of it.

mod account;
mod assemble;
mod blocks;
mod building;
mod columnar;
mod connect;
mod edges;
mod existing;
mod fields;
mod index;
mod marks;
mod memory;
mod nodes;
mod offsets;
mod parallel;
mod picks;
mod plain;
mod plan;
mod planning;
mod preview;
mod read;
mod resolve;
mod resolved;
mod rows;
mod rules;
mod short;
mod sources;
mod text;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU8, AtomicU64, Ordering};

use graphodrome_graph::{BaseParts, Change, GraphError, Snapshot};
use graphodrome_records::{Reject, RejectKind};
use serde::{Deserialize, Serialize};

use crate::mapping::{Mapping, MappingError, RejectLimit};

pub use assemble::Shape;
pub(crate) use columnar::each_row as columnar_rows;
pub use memory::LoadMemory;
pub use plan::DATABASE_NULL;
pub(crate) use plan::unnamed;
pub(crate) use planning::header as csv_header;
pub use preview::{Preview, PreviewElement, PreviewRow, preview};
pub use sources::Source;
pub(crate) use sources::plain_source;

/// How far a load is; read by others while it runs.
#[derive(Debug, Default)]
pub struct Progress {
    pub bytes_total: AtomicU64,
    pub bytes_read: AtomicU64,
    pub rows_read: AtomicU64,
    phase: AtomicU8,
    cancelled: AtomicBool,
    memory: memory::Holding,
    /// Of a coded text that is only looked at: its bytes that are enough; 0: all of it.
    enough: u64,
}

const PHASES: [&str; 6] = ["waiting", "fetching", "reading", "resolving keys", "building", "writing"];

impl Progress {
    /// Of a load that holds no more than is free of this memory.
    pub fn within(memory: Arc<LoadMemory>) -> Progress {
        Progress { memory: memory::Holding::within(memory), ..Progress::default() }
    }

    /// Of a look at the beginnings of tables.
    pub(crate) fn looking(self, enough: u64) -> Progress {
        Progress { enough, ..self }
    }

    pub(crate) fn is_enough(&self, bytes: u64) -> bool {
        self.enough > 0 && bytes >= self.enough
    }

    pub(crate) fn hold(&self, bytes: usize) -> Result<(), LoadError> {
        self.memory.hold(bytes)
    }

    pub(crate) fn release(&self, bytes: usize) {
        self.memory.release(bytes);
    }

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

/// What one rule made of its table's rows:
/// `rows = created + changed + unchanged + duplicates + skipped + rejects`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct RuleAccount {
    pub rule: String,
    pub rows: u64,
    pub created: u64,
    /// Rows that changed an element that was there.
    pub changed: u64,
    /// Rows whose element was in the graph already, and stays as it is.
    pub unchanged: u64,
    /// Rows that repeat an earlier row of the load.
    pub duplicates: u64,
    /// Rows that a where leaves out, and those of an optional rule without a key or reference.
    pub skipped: u64,
    pub rejects: u64,
    /// The rejects by what is wrong with them.
    pub rejects_by_kind: BTreeMap<RejectKind, u64>,
    /// Of an edge rule: nodes created because its references lacked them; not counted in `created`.
    pub created_ends: u64,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct TableAccount {
    pub table: String,
    pub rows: u64,
    pub bytes: u64,
    pub rules: Vec<RuleAccount>,
    /// How rejects are given back as a file: the header line of CSV, and its delimiter.
    #[serde(default)]
    pub header: Option<String>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Account {
    pub tables: Vec<TableAccount>,
    pub nodes_created: u64,
    pub edges_created: u64,
    pub changed: u64,
    pub unchanged: u64,
    pub duplicates: u64,
    pub rejects: u64,
    pub fetch_ms: f64,
    pub read_ms: f64,
    pub resolve_ms: f64,
    pub build_ms: f64,
    pub write_ms: f64,
}

impl Account {
    /// Whether every rule's figures add up to its rows.
    pub fn adds_up(&self) -> bool {
        let rule = |t: &TableAccount, r: &RuleAccount| {
            let by_kind: u64 = r.rejects_by_kind.values().sum();
            let sum = r.created + r.changed + r.unchanged + r.duplicates + r.skipped + r.rejects;
            r.rows == t.rows && r.rows == sum && by_kind == r.rejects
        };
        self.tables.iter().all(|t| t.rules.iter().all(|r| rule(t, r)))
    }

    /// Rows of every rule taken together: what a share of rejects is a share of.
    pub fn rule_rows(&self) -> u64 {
        self.tables.iter().flat_map(|t| &t.rules).map(|r| r.rows).sum()
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
    TooManyRejects { rejects: u64, limit: RejectLimit, kept: Vec<Reject>, account: Box<Account> },
    #[error("the load was cancelled; nothing was published")]
    Cancelled,
    #[error("{}; nothing was published", memory_needed(*limit, *alone))]
    Memory { limit: u64, alone: bool },
}

fn memory_needed(limit: u64, alone: bool) -> String {
    let mib = limit >> 20;
    match alone {
        true => format!(
            "the load needs more memory than the {mib} MiB that loads may hold; load the tables in parts, or start the service with a larger --loads-memory-mib"
        ),
        false => format!(
            "the loads that run now need more memory than the {mib} MiB that they may hold together; load again when fewer run"
        ),
    }
}

/// What a load comes to; nothing of it is in the graph yet.
pub struct LoadOutcome {
    /// The graph with the changes of elements that were there, and those changes; `None` without any.
    pub changed: Option<(Snapshot, Vec<Change>)>,
    /// The new elements (with everything else, where a whole base is to be written); `None` without any.
    pub parts: Option<(BaseParts, Shape)>,
    pub account: Account,
    /// The first rejects, at most [`MAX_KEPT_REJECTS`]; the account counts all.
    pub rejects: Vec<Reject>,
}

/// Rejects kept with their rows.
pub const MAX_KEPT_REJECTS: usize = 100_000;

/// Reads the sources as the mapping says, on top of `snapshot`. A compressed source may unpack to
/// `limit` bytes.
pub fn load(
    mapping: &Mapping, sources: &BTreeMap<String, Arc<Source>>, snapshot: &Snapshot, limit: u64,
    progress: &Progress,
) -> Result<LoadOutcome, LoadError> {
    progress.enter("reading");
    let started = std::time::Instant::now();
    let plans = planning::plan(mapping, sources, snapshot, limit, progress)?;
    let total: usize = plans.iter().map(|p| p.source.bytes().len()).sum();
    progress.bytes_total.store(total as u64, Ordering::Relaxed);
    let mut tables = vec![];
    for plan in &plans {
        tables.push(read::read_table(plan, progress)?);
    }
    let read_ms = started.elapsed().as_secs_f64() * 1e3;

    progress.enter("resolving keys");
    let started = std::time::Instant::now();
    let mut resolved = resolve::resolve(&plans, &mut tables, snapshot, progress)?;
    let resolve_ms = started.elapsed().as_secs_f64() * 1e3;

    progress.enter("building");
    progress.hold(assemble::bytes_to_build(&tables))?;
    let started = std::time::Instant::now();
    let changed = resolved.changed.apply(snapshot)?;
    let after = changed.as_ref().map_or(snapshot, |(after, _)| after);
    let parts = assemble::assemble(&plans, &mut tables, &mut resolved, snapshot, after, progress)?;
    let build_ms = started.elapsed().as_secs_f64() * 1e3;

    let (mut account, rejects) = account::account(&plans, &tables);
    account.read_ms = read_ms;
    account.resolve_ms = resolve_ms;
    account.build_ms = build_ms;
    if let Some(limit) = mapping.reject_limit
        && !limit.allows(account.rejects, account.rule_rows())
    {
        return Err(LoadError::TooManyRejects {
            rejects: account.rejects,
            limit,
            kept: rejects,
            account: Box::new(account),
        });
    }
    let makes = account.nodes_created + account.edges_created > 0;
    Ok(LoadOutcome { changed, parts: makes.then_some(parts), account, rejects })
}
