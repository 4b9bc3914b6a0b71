//! Memory limit of loads: one bound for all running loads. The data that a load reads and builds is accounted block
//! by block, before the next block is started.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::load::LoadError;

/// A bound for the memory of all loads together.
#[derive(Debug)]
pub struct LoadMemory {
    limit: u64,
    held: AtomicU64,
}

impl LoadMemory {
    pub fn new(limit: u64) -> Arc<LoadMemory> {
        Arc::new(LoadMemory { limit, held: AtomicU64::new(0) })
    }

    /// Bytes that loads hold now.
    pub fn held(&self) -> u64 {
        self.held.load(Ordering::Relaxed)
    }
}

/// What one load holds; it is given back when this goes.
#[derive(Debug, Default)]
pub(super) struct Holding {
    /// Of no load in particular: nothing is bounded.
    memory: Option<Arc<LoadMemory>>,
    own: AtomicU64,
}

impl Holding {
    pub fn within(memory: Arc<LoadMemory>) -> Holding {
        Holding { memory: Some(memory), own: AtomicU64::new(0) }
    }

    pub fn hold(&self, bytes: usize) -> Result<(), LoadError> {
        let Some(memory) = &self.memory else { return Ok(()) };
        let bytes = bytes as u64;
        let own = self.own.fetch_add(bytes, Ordering::Relaxed) + bytes;
        let all = memory.held.fetch_add(bytes, Ordering::Relaxed) + bytes;
        match all <= memory.limit {
            true => Ok(()),
            false => Err(LoadError::Memory { limit: memory.limit, alone: own > memory.limit }),
        }
    }

    pub fn release(&self, bytes: usize) {
        let Some(memory) = &self.memory else { return };
        let mut given = bytes as u64;
        let less = |held: u64| {
            given = given.min(held);
            Some(held - given)
        };
        let _ = self.own.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
        memory.held.fetch_sub(given, Ordering::Relaxed);
    }
}

impl Drop for Holding {
    fn drop(&mut self) {
        if let Some(memory) = &self.memory {
            memory.held.fetch_sub(self.own.load(Ordering::Relaxed), Ordering::Relaxed);
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    #[test]
    fn what_a_load_holds_is_given_back_when_it_goes() {
        let memory = LoadMemory::new(100);
        let (one, other) = (Holding::within(memory.clone()), Holding::within(memory.clone()));
        one.hold(60).unwrap();
        other.hold(30).unwrap();
        assert_eq!(memory.held(), 90);
        // Too much beside the other, not too much alone.
        let refused = one.hold(40).unwrap_err();
        assert!(matches!(refused, LoadError::Memory { limit: 100, alone: false }), "{refused}");
        one.release(40);
        one.release(20);
        assert_eq!(memory.held(), 70);
        drop(one);
        assert_eq!(memory.held(), 30);
        let refused = other.hold(80).unwrap_err();
        assert!(matches!(refused, LoadError::Memory { alone: true, .. }), "{refused}");
        // More is never given back than was held.
        other.release(1000);
        assert_eq!(memory.held(), 0);
        drop(other);
        assert_eq!(memory.held(), 0);
    }

    #[test]
    fn without_a_bound_nothing_is_refused() {
        let free = Holding::default();
        free.hold(usize::MAX).unwrap();
        free.release(usize::MAX);
    }
}
