//! Earlier versions in memory: a few of all graphs, each for as long as it is asked for now and then.

use std::sync::Arc;
use std::time::{Duration, Instant};

use graphodrome_graph::Snapshot;
use parking_lot::Mutex;

/// Versions that are held at once.
const MOST: usize = 4;
/// How long one is held that nobody asks for.
pub(crate) const IDLE: Duration = Duration::from_secs(300);

pub(crate) struct PastVersion {
    pub(crate) graph: i64,
    pub(crate) snapshot: Arc<Snapshot>,
    pub(crate) used: Instant,
}

#[derive(Default)]
pub(crate) struct Past(Mutex<Vec<PastVersion>>);

impl Past {
    pub(crate) fn find(&self, graph: i64, version: u64) -> Option<Arc<Snapshot>> {
        let mut held = self.0.lock();
        let found = held.iter_mut().find(|p| p.graph == graph && p.snapshot.version == version)?;
        found.used = Instant::now();
        Some(found.snapshot.clone())
    }

    pub(crate) fn add(&self, graph: i64, snapshot: Arc<Snapshot>) {
        let mut held = self.0.lock();
        if held.len() >= MOST
            && let Some(longest) = (0..held.len()).min_by_key(|i| held[*i].used)
        {
            held.swap_remove(longest);
        }
        held.push(PastVersion { graph, snapshot, used: Instant::now() });
    }

    pub(crate) fn forget(&self, gone: impl Fn(&PastVersion) -> bool) {
        self.0.lock().retain(|held| !gone(held));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_one_that_was_not_asked_for_longest_goes() {
        let past = Past::default();
        let state = |version| {
            let mut snapshot = Snapshot::empty(None).expect("an empty graph");
            snapshot.version = version;
            Arc::new(snapshot)
        };
        (0..MOST as u64).for_each(|version| past.add(1, state(version)));
        assert!(past.find(1, 0).is_some());
        assert!(past.find(2, 0).is_none());
        past.add(1, state(99));
        assert!(past.find(1, 0).is_some());
        assert!(past.find(1, 1).is_none());
        assert!(past.find(1, 99).is_some());
        past.forget(|held| held.snapshot.version == 99);
        assert!(past.find(1, 99).is_none());
    }
}
