//! Scope of expression evaluation.

use std::sync::Arc;

use chrono::{DateTime, FixedOffset, Utc};
use graphodrome_graph::{Snapshot, Value};

use crate::answers::AnswerBook;
use crate::budget::Budget;
use crate::known_list::ListTable;
use crate::limits::Limits;

/// What expressions are evaluated against: the graph at one version and the request's parameters.
#[derive(Clone, Debug)]
pub(crate) struct Scope {
    pub snapshot: Arc<Snapshot>,
    /// In the order in which the plan numbered them.
    pub parameters: Arc<[Value]>,
    /// The moment of CURRENT_TIMESTAMP and its kin: one for a whole query, in the session's time zone.
    pub now: DateTime<FixedOffset>,
    /// Whole numbers may be read straight from their columns.
    pub typed_reads: bool,
    /// Answers to conditions on one node may be kept.
    pub known_nodes: bool,
    /// Answers to conditions on one text may be kept.
    pub known_texts: bool,
    /// Whether a value is in a known list may be looked up.
    pub known_lists: bool,
    /// A table for each parameter that is a list.
    pub listed: Arc<[ListTable]>,
    pub answers: Arc<AnswerBook>,
    pub budget: Arc<Budget>,
}

impl Scope {
    pub fn without_parameters(snapshot: Snapshot) -> Scope {
        Scope {
            snapshot: snapshot.into(),
            parameters: Arc::from([]),
            now: Utc::now().fixed_offset(),
            typed_reads: true,
            known_nodes: true,
            known_texts: true,
            known_lists: true,
            listed: Arc::from([]),
            answers: Arc::default(),
            budget: Arc::new(Limits::default().budget()),
        }
    }
}

impl std::ops::Deref for Scope {
    type Target = Snapshot;

    fn deref(&self) -> &Snapshot {
        &self.snapshot
    }
}
