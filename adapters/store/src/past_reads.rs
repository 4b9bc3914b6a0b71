//! Reading versions that are no longer the newest.

use std::sync::Arc;

use graphodrome_graph::Snapshot;

use crate::graph_handle::GraphHandle;
use crate::history::KeptVersion;
use crate::past::IDLE;
use crate::versions::Moment;
use crate::{Catalog, StoreError};

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
