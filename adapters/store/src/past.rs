//! Earlier versions in memory: a few of all graphs, each for as long as it is asked for now and then.

use std::sync::Arc;
use std::time::{Duration, Instant};

use graphodrome_graph::Snapshot;
use parking_lot::Mutex;

use crate::graph_handle::GraphHandle;
use crate::history::{KeptVersion, Moment};
use crate::{Catalog, StoreError};

/// Versions that are held at once.
const MOST: usize = 4;
/// How long one is held that nobody asks for.
const IDLE: Duration = Duration::from_secs(300);

struct PastVersion {
    graph: i64,
    snapshot: Arc<Snapshot>,
    used: Instant,
}

#[derive(Default)]
pub(crate) struct Past(Mutex<Vec<PastVersion>>);

impl Past {
    fn find(&self, graph: i64, version: u64) -> Option<Arc<Snapshot>> {
        let mut held = self.0.lock();
        let found = held.iter_mut().find(|p| p.graph == graph && p.snapshot.version == version)?;
        found.used = Instant::now();
        Some(found.snapshot.clone())
    }

    fn add(&self, graph: i64, snapshot: Arc<Snapshot>) {
        let mut held = self.0.lock();
        if held.len() >= MOST
            && let Some(longest) = (0..held.len()).min_by_key(|i| held[*i].used)
        {
            held.swap_remove(longest);
        }
        held.push(PastVersion { graph, snapshot, used: Instant::now() });
    }

    fn forget(&self, gone: impl Fn(&PastVersion) -> bool) {
        self.0.lock().retain(|held| !gone(held));
    }
}

impl Catalog {
    /// The state of a graph at a moment. One that is not in memory is read, once for everybody who asks for it.
    pub async fn state_at(
        &self, graph: &Arc<GraphHandle>, moment: Moment,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let kept = graph.keep_version(moment).await?;
        self.state_of(graph, &kept).await
    }

    /// The state of a version that is kept.
    pub async fn state_of(
        &self, graph: &Arc<GraphHandle>, kept: &KeptVersion,
    ) -> Result<Arc<Snapshot>, StoreError> {
        let newest = graph.snapshot();
        if newest.version == kept.version {
            return Ok(newest);
        }
        if let Some(held) = self.past.find(graph.id, kept.version) {
            return Ok(held);
        }
        let _one = graph.keeping.opening.lock().await;
        if let Some(held) = self.past.find(graph.id, kept.version) {
            return Ok(held);
        }
        let snapshot = graph.read_version(kept).await?;
        self.past.add(graph.id, snapshot.clone());
        Ok(snapshot)
    }

    /// Gives back what nobody has asked for lately, and removes versions that have come of age. Called now and then.
    pub async fn tidy(&self) {
        let live: Vec<i64> = self.graphs().iter().map(|graph| graph.id).collect();
        self.past.forget(|held| held.used.elapsed() > IDLE || !live.contains(&held.graph));
        for graph in self.graphs() {
            if let Err(error) = graph.prune(&[]).await {
                tracing::debug!(%error, graph = graph.name, "versions could not be removed");
            }
        }
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
