//! Progress of a running query for observers: its operator, its work and its memory, updated every few thousand
//! edges.

use std::sync::atomic::{AtomicU32, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock, Weak};

use serde::{Deserialize, Serialize};

use crate::budget::Budget;

/// A window into a query that runs, shared with whoever looks.
#[derive(Debug, Default)]
pub struct Watch {
    operators: OnceLock<Vec<String>>,
    budget: OnceLock<Weak<Budget>>,
    operator: AtomicUsize,
    hop: AtomicU32,
    work: AtomicU64,
    rows: AtomicU64,
}

/// What was to be seen of a query.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seen {
    /// The operator that works now; of several threads that of one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub operator: Option<String>,
    /// The last hop that a search has finished; of the operator that works, where it searches.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub hop: Option<u32>,
    /// Adjacency entries and rows handled so far, to the nearest few thousand.
    pub work: u64,
    /// Rows of the result so far.
    pub rows: u64,
    /// Bytes held now.
    pub memory_bytes: u64,
}

impl Watch {
    /// The plan's operators by their numbers, and what they account their memory with.
    pub(crate) fn begin(&self, operators: impl FnOnce() -> Vec<String>, budget: &Arc<Budget>) {
        self.operators.get_or_init(operators);
        self.budget.get_or_init(|| Arc::downgrade(budget));
    }

    pub(crate) fn at(&self, operator: usize) {
        if self.operator.swap(operator, Ordering::Relaxed) != operator {
            self.hop.store(0, Ordering::Relaxed);
        }
    }

    pub(crate) fn hop(&self, hop: u32) {
        self.hop.store(hop, Ordering::Relaxed);
    }

    pub(crate) fn worked(&self, work: u64) {
        self.work.fetch_add(work, Ordering::Relaxed);
    }

    pub(crate) fn gave(&self, rows: u64) {
        self.rows.fetch_add(rows, Ordering::Relaxed);
    }

    /// What is to be seen now.
    pub fn look(&self) -> Seen {
        let operators = self.operators.get();
        let budget = self.budget.get().and_then(Weak::upgrade);
        Seen {
            operator: operators
                .and_then(|all| all.get(self.operator.load(Ordering::Relaxed)).cloned())
                .filter(|name| !name.is_empty()),
            hop: Some(self.hop.load(Ordering::Relaxed)).filter(|hop| *hop > 0),
            work: self.work.load(Ordering::Relaxed),
            rows: self.rows.load(Ordering::Relaxed),
            memory_bytes: budget.map_or(0, |budget| budget.held()),
        }
    }
}
