//! Budget of a query: time, memory, and cancellation. The threads of a query and the evaluation of its expressions
//! share one budget; the memory of all queries together may be bounded too.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use graphodrome_graph::{MAX_VALUE_DEPTH, Value};
use graphodrome_language::{Diagnostic, Span};

use crate::outcome::{CancelToken, Code, Outcome};

/// A bound for the memory of all queries together.
#[derive(Debug)]
pub struct MemoryPool {
    held: AtomicU64,
    limit: u64,
}

impl MemoryPool {
    pub fn new(limit: u64) -> Arc<MemoryPool> {
        Arc::new(MemoryPool { held: AtomicU64::new(0), limit })
    }

    /// Bytes that queries hold now.
    pub fn held(&self) -> u64 {
        self.held.load(Ordering::Relaxed)
    }

    /// A share of it that holds nothing yet.
    pub fn share(self: &Arc<Self>) -> MemoryShare {
        MemoryShare { pool: self.clone(), bytes: 0 }
    }

    fn take(&self, bytes: u64) -> bool {
        self.held.fetch_add(bytes, Ordering::Relaxed) + bytes <= self.limit
    }

    fn give_back(&self, bytes: u64) {
        let less = |held: u64| Some(held.saturating_sub(bytes));
        let _ = self.held.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
    }
}

/// Bytes of a pool that are held outside of a running query. Dropped, they are given back.
#[derive(Debug)]
pub struct MemoryShare {
    pool: Arc<MemoryPool>,
    bytes: u64,
}

impl MemoryShare {
    /// Accounts for so many more bytes; an error where they do not fit beside what others hold.
    pub fn grow(&mut self, bytes: u64) -> Outcome<()> {
        self.bytes += bytes;
        if self.pool.take(bytes) { Ok(()) } else { Err(too_much_together()) }
    }
}

impl Drop for MemoryShare {
    fn drop(&mut self) {
        self.pool.give_back(self.bytes);
    }
}

fn too_much_together() -> Diagnostic {
    stopped(
        Code::MEMORY_LIMIT,
        "the queries that run now need more memory than the service allows them together".into(),
        Some("try again when fewer run, or return fewer rows"),
    )
}

/// Memory of an operator that may end before its rows do: given back with it.
#[derive(Debug, Default)]
pub(crate) struct Held(Option<(Arc<Budget>, usize)>);

impl Held {
    /// Of memory that was accounted for.
    pub fn of(budget: &Arc<Budget>, bytes: usize) -> Held {
        Held(Some((budget.clone(), bytes)))
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        if let Some((budget, bytes)) = self.0.take() {
            budget.release(bytes);
        }
    }
}

#[derive(Debug)]
pub(crate) struct Budget {
    pub started: Instant,
    pub(crate) time: Option<Duration>,
    pub(crate) brief: Option<Duration>,
    pub(crate) cancel: CancelToken,
    pub(crate) limit: u64,
    pub(crate) held: AtomicU64,
    pub(crate) pool: Option<Arc<MemoryPool>>,
}

impl Budget {
    pub fn check(&self) -> Outcome<()> {
        self.check_at(Instant::now())
    }

    pub fn check_at(&self, now: Instant) -> Outcome<()> {
        if self.cancel.is_cancelled() {
            return Err(stopped(Code::CANCELLED, "the query was cancelled".into(), None));
        }
        let passed = now.saturating_duration_since(self.started);
        if let Some(limit) = self.time
            && passed > limit
        {
            return Err(stopped(
                Code::TIME_LIMIT,
                format!("the query ran longer than its limit of {:.1} s", limit.as_secs_f64()),
                Some("ask for less: bound a repetition, filter earlier, add a LIMIT; or ask for more time"),
            ));
        }
        if self.brief.is_some_and(|limit| passed > limit) {
            return Err(stopped(Code::NOT_BRIEF, "the query is not brief".into(), None));
        }
        Ok(())
    }

    /// Accounts for memory that is held from now on.
    pub fn hold(&self, bytes: usize) -> Outcome<()> {
        let bytes = bytes as u64;
        let held = self.held.fetch_add(bytes, Ordering::Relaxed) + bytes;
        let in_pool = self.pool.as_ref().is_none_or(|pool| pool.take(bytes));
        if held > self.limit {
            return Err(self.too_much());
        }
        if !in_pool {
            return Err(too_much_together());
        }
        Ok(())
    }

    pub fn release(&self, bytes: usize) {
        let bytes = bytes as u64;
        let mut given = bytes;
        let less = |held: u64| {
            given = bytes.min(held);
            Some(held - given)
        };
        let _ = self.held.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
        if let Some(pool) = &self.pool {
            pool.give_back(given);
        }
    }

    /// Whether so many bytes, for a moment, go beside what is held.
    pub fn fits(&self, bytes: usize) -> Outcome<()> {
        if self.held.load(Ordering::Relaxed).saturating_add(bytes as u64) > self.limit {
            return Err(self.too_much());
        }
        Ok(())
    }

    /// Bytes that are held now.
    pub fn held(&self) -> u64 {
        self.held.load(Ordering::Relaxed)
    }

    /// Bytes that may still be held.
    pub fn left(&self) -> usize {
        self.limit.saturating_sub(self.held.load(Ordering::Relaxed)) as usize
    }

    /// Checks a value that was just put together out of others: that it is not too large and not too deep. It
    /// may share parts of itself a thousand times over, so that it is looked at no further than the budget
    /// goes.
    pub fn check_made(&self, value: &Value, span: Span) -> Outcome<()> {
        let left = self.left();
        let mut bytes = 0;
        match measure(value, &mut bytes, left, 0) {
            Measured::Fits => Ok(()),
            Measured::TooLarge => Err(self.too_much()),
            Measured::TooDeep => Err(Diagnostic::error(
                graphodrome_graph::Code::DATA,
                span,
                format!("lists and records lie more than {MAX_VALUE_DEPTH} levels deep in each other"),
            )),
        }
    }

    pub fn too_much(&self) -> Diagnostic {
        stopped(
            Code::MEMORY_LIMIT,
            format!("the query needs more than its {} MiB of memory", self.limit >> 20),
            Some("return fewer rows or columns, bound a repetition, or ask for more memory"),
        )
    }
}

impl Drop for Budget {
    fn drop(&mut self) {
        if let Some(pool) = &self.pool {
            pool.give_back(self.held.load(Ordering::Relaxed));
        }
    }
}

#[derive(Clone, Copy, PartialEq)]
enum Measured {
    Fits,
    TooLarge,
    TooDeep,
}

fn measure(value: &Value, bytes: &mut usize, most: usize, depth: usize) -> Measured {
    *bytes += size_of::<Value>()
        + match value {
            Value::Text(text) => text.len(),
            Value::Bytes(bytes) => bytes.len(),
            Value::Path(path) => 4 * (path.nodes.len() + path.edges.len()),
            _ => 0,
        };
    if *bytes > most {
        return Measured::TooLarge;
    }
    let mut inner = |v: &Value| match depth == MAX_VALUE_DEPTH {
        true => Measured::TooDeep,
        false => measure(v, bytes, most, depth + 1),
    };
    let found = match value {
        Value::List(items) => items.iter().map(&mut inner).find(|found| *found != Measured::Fits),
        Value::Record(fields) => fields.iter().map(|(_, v)| inner(v)).find(|found| *found != Measured::Fits),
        _ => None,
    };
    found.unwrap_or(Measured::Fits)
}

/// Bytes of a value with what it owns, counted no further than `most`.
pub(crate) fn bytes_up_to(value: &Value, most: usize) -> usize {
    let mut bytes = 0;
    measure(value, &mut bytes, most, 0);
    bytes
}

pub(crate) fn stopped(code: &'static str, message: String, hint: Option<&str>) -> Diagnostic {
    let graph_code = graphodrome_graph::Code(code);
    Diagnostic::error(graph_code, Span::default(), message).maybe_hint(hint.map(str::to_string))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use crate::limits::Limits;

    #[test]
    fn a_value_that_shares_itself_is_measured_no_further_than_the_budget() {
        let budget = (Limits { memory_bytes: 1 << 20, ..Limits::default() }).budget();
        let mut value = Value::Int(1);
        for _ in 0..60 {
            value = Value::list(vec![value.clone(), value]);
        }
        let error = budget.check_made(&value, Span::default()).unwrap_err();
        assert_eq!(error.code, Code::MEMORY_LIMIT);
        let mut deep = Value::Int(1);
        for _ in 0..MAX_VALUE_DEPTH {
            deep = Value::list(vec![deep]);
        }
        budget.check_made(&deep, Span::default()).unwrap();
        let error = budget.check_made(&Value::list(vec![deep]), Span::default()).unwrap_err();
        assert_eq!(error.code, graphodrome_graph::Code::DATA.0);
    }

    #[test]
    fn the_pool_gets_back_what_a_query_held() {
        let pool = MemoryPool::new(1000);
        let limits = Limits { pool: Some(pool.clone()), ..Limits::default() };
        let (one, other) = (limits.budget(), limits.budget());
        one.hold(700).unwrap();
        assert_eq!(other.hold(700).unwrap_err().code, Code::MEMORY_LIMIT);
        drop(other);
        assert_eq!(pool.held(), 700);
        one.release(10_000);
        assert_eq!(pool.held(), 0);
        one.hold(5).unwrap();
        drop(one);
        assert_eq!(pool.held(), 0);
    }
}
