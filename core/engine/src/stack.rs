//! Deep work on a stack that is large enough.

/// What a query's deepest expression needs of stack, and what is added where a thread has less.
const STACK_LEFT: usize = if cfg!(debug_assertions) { 64 << 20 } else { 4 << 20 };

const STACK_MORE: usize = if cfg!(debug_assertions) { 128 << 20 } else { 16 << 20 };

/// Runs what goes down an expression's levels. Threads that run queries have stack enough; others get it here.
pub(crate) fn on_large_stack<T>(run: impl FnOnce() -> T) -> T {
    stacker::maybe_grow(STACK_LEFT, STACK_MORE, run)
}
