//! State of a running query: snapshot, limits, counters.

use std::any::Any;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use graphodrome_graph::Transaction;
use graphodrome_language::{Diagnostic, Span};
use serde::{Deserialize, Serialize};

use crate::budget::Budget;
use crate::outcome::{CHECK_EVERY, Outcome};
use crate::scope::Scope;
use crate::{Counters, Hop, Limits, Metrics};

pub(crate) struct Context {
    pub scope: Scope,
    pub transaction: Option<Transaction>,
    pub limits: Limits,
    pub budget: Arc<Budget>,
    pub metrics: Vec<Metrics>,
    /// The operator that runs now: whose counters count.
    pub current: usize,
    /// Rows for the correlated parts that run now, innermost last.
    pub arguments: Vec<crate::Batch>,
    /// Rows that several branches read, by number.
    tables: Vec<Arc<crate::Batch>>,
    pub warnings: Vec<Diagnostic>,
    pub changed: Changed,
    /// The number of the slice that is worked on, where rows are shared out.
    pub slice: u64,
    /// What an operator has made once for all threads that run it, by its number.
    shared: Arc<Mutex<HashMap<usize, Made>>>,
    since_check: u64,
    /// Batches asked for in a brief run.
    pub asked: u64,
}

/// What the query changed, for its summary.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Changed {
    pub nodes_inserted: u64,
    pub edges_inserted: u64,
    pub nodes_deleted: u64,
    pub edges_deleted: u64,
    pub properties_set: u64,
    pub labels_changed: u64,
}

type Made = Arc<dyn Any + Send + Sync>;

impl Context {
    pub fn new(scope: Scope, limits: Limits, operators: usize) -> Context {
        Context {
            budget: scope.budget.clone(),
            scope,
            transaction: None,
            limits,
            metrics: vec![Metrics::default(); operators],
            current: 0,
            arguments: vec![],
            tables: vec![],
            warnings: vec![],
            changed: Changed::default(),
            slice: 0,
            shared: Arc::default(),
            since_check: 0,
            asked: 0,
        }
    }

    /// For a thread that works beside this one, on the same query.
    pub fn beside(&self) -> Context {
        Context {
            current: self.current,
            arguments: self.arguments.clone(),
            tables: self.tables.clone(),
            shared: self.shared.clone(),
            ..Context::new(self.scope.clone(), self.limits.clone(), self.metrics.len())
        }
    }

    /// Takes over what a context beside this one has counted.
    pub fn absorb(&mut self, beside: &mut Context) {
        for (id, metrics) in beside.metrics.iter_mut().enumerate() {
            let Metrics { rows_in, rows_out, batches, total, peak_bytes, counters, hops, searches, notes } =
                std::mem::take(metrics);
            for hop in hops {
                self.hop_of(id, hop);
            }
            let own = &mut self.metrics[id];
            own.rows_in += rows_in;
            own.rows_out = own.rows_out.wrapping_add(rows_out);
            own.batches += batches;
            own.total += total;
            own.peak_bytes += peak_bytes;
            own.counters.edges_looked += counters.edges_looked;
            own.counters.properties_read += counters.properties_read;
            own.counters.index_probes += counters.index_probes;
            own.searches += searches;
            own.notes.extend(notes);
        }
        self.warnings.append(&mut beside.warnings);
    }

    pub fn keep_table(&mut self, number: usize, rows: crate::Batch) {
        if self.tables.len() <= number {
            self.tables.resize_with(number + 1, Arc::default);
        }
        self.tables[number] = Arc::new(rows);
    }

    pub fn table(&self, number: usize) -> Arc<crate::Batch> {
        self.tables.get(number).cloned().unwrap_or_default()
    }

    /// What the operator that runs now has made for all of its threads; the first of them makes it, the
    /// others wait.
    pub fn made_once<T: Any + Send + Sync>(
        &mut self, make: impl FnOnce(&mut Context) -> Outcome<T>,
    ) -> Outcome<Arc<T>> {
        let shared = self.shared.clone();
        let mut shared = shared.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(made) = shared.get(&self.current).cloned()
            && let Ok(made) = made.downcast()
        {
            return Ok(made);
        }
        let made = Arc::new(make(self)?);
        shared.insert(self.current, made.clone());
        Ok(made)
    }

    /// What all threads that run an operator put together for another one, which takes it from there.
    pub fn put_together<T: Any + Send + Sync + Default>(&self, operator: usize) -> Arc<T> {
        let mut shared = self.shared.lock().unwrap_or_else(PoisonError::into_inner);
        let made: Made = shared.entry(operator).or_insert_with(|| Arc::new(T::default())).clone();
        made.downcast().unwrap_or_default()
    }

    pub fn counters(&mut self) -> &mut Counters {
        &mut self.metrics[self.current].counters
    }

    pub fn metrics(&mut self) -> &mut Metrics {
        &mut self.metrics[self.current]
    }

    /// Counts `work` units and now and then asks whether the query may go on.
    #[inline]
    pub fn work(&mut self, work: u64) -> Outcome<()> {
        self.since_check += work;
        if self.since_check >= CHECK_EVERY {
            if let Some(watch) = &self.limits.watch {
                watch.worked(self.since_check);
            }
            self.since_check = 0;
            self.check()?;
        }
        Ok(())
    }

    pub fn check(&self) -> Outcome<()> {
        self.budget.check()
    }

    pub fn check_at(&self, now: Instant) -> Outcome<()> {
        self.budget.check_at(now)
    }

    /// Accounts for memory that an operator holds.
    pub fn reserve(&mut self, bytes: usize) -> Outcome<()> {
        self.metrics[self.current].peak_bytes += bytes as u64;
        self.hold(bytes)
    }

    /// Accounts for memory that is on its way from one operator to the next.
    pub fn hold(&self, bytes: usize) -> Outcome<()> {
        self.budget.hold(bytes)
    }

    pub fn release(&self, bytes: usize) {
        self.budget.release(bytes);
    }

    /// The transaction of a changing query, begun at its first change.
    pub fn transaction(&mut self) -> &mut Transaction {
        let snapshot = &self.scope.snapshot;
        self.transaction.get_or_insert_with(|| Transaction::new((**snapshot).clone()))
    }

    /// Lets the rest of a statement see what it has done so far, not yet checked.
    pub fn see_changes(&mut self) {
        if let Some(transaction) = &self.transaction {
            self.scope.snapshot = Arc::new(transaction.snapshot().clone());
            self.scope.answers = Arc::default();
        }
    }

    /// After a changing statement: checks what it did and lets the rest of the query see it.
    pub fn settle(&mut self, span: Span) -> Outcome<()> {
        if let Some(transaction) = &mut self.transaction {
            transaction.settle().map_err(|e| Diagnostic::from_graph(e, span))?;
            self.scope.snapshot = Arc::new(transaction.snapshot().clone());
            self.scope.answers = Arc::default();
        }
        Ok(())
    }

    pub fn hop(&mut self, hop: Hop) {
        if let Some(watch) = &self.limits.watch {
            watch.hop(hop.hop);
        }
        self.hop_of(self.current, hop);
    }

    fn hop_of(&mut self, operator: usize, hop: Hop) {
        let hops = &mut self.metrics[operator].hops;
        let this = |h: &Hop| h.hop == hop.hop && h.side == hop.side;
        // Those of a side are in order. Mostly it is where its number says, or the first one so deep.
        let place = match (hop.hop as usize).checked_sub(1) {
            Some(at) if hops.get(at).is_some_and(this) => Some(at),
            _ if hops.iter().rev().find(|h| h.side == hop.side).is_none_or(|last| last.hop < hop.hop) => {
                hops.push(hop);
                return;
            }
            _ => hops.iter().position(this),
        };
        match place.map(|at| &mut hops[at]) {
            Some(known) => {
                known.frontier += hop.frontier;
                known.edges_looked += hop.edges_looked;
                known.failed += hop.failed;
                known.reached += hop.reached;
                known.known += hop.known;
                known.time_us += hop.time_us;
                known.see_degree((hop.largest_degree, hop.largest));
            }
            None => {
                let later = hops.iter().position(|h| h.side == hop.side && h.hop > hop.hop);
                hops.insert(later.unwrap_or(hops.len()), hop);
            }
        }
    }
}
