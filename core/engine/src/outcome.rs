//! Outcomes of operators: errors and cancellation.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use graphodrome_graph::GraphError;
use graphodrome_language::{Diagnostic, Span};

/// Status codes of the engine's own: the standard leaves classes from I on to implementations.
pub struct Code;

impl Code {
    pub const CANCELLED: &'static str = "R0001";
    pub const TIME_LIMIT: &'static str = "R0002";
    pub const MEMORY_LIMIT: &'static str = "R0003";
    pub const ROW_LIMIT: &'static str = "R0004";
    /// A run that was to be brief was not: nothing is wrong, but it wants a thread of its own.
    pub const NOT_BRIEF: &'static str = "R0005";
}

#[derive(Clone, Debug, Default)]
pub struct CancelToken(Arc<AtomicBool>);

impl CancelToken {
    pub fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    pub fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// How many units of work pass between two looks at the clock and the cancel flag.
pub(crate) const CHECK_EVERY: u64 = 4096;

pub(crate) type Outcome<T> = Result<T, Diagnostic>;

pub(crate) fn located(error: GraphError, span: Span) -> Diagnostic {
    Diagnostic::from_graph(error, span)
}
