//! Named subgraphs, evaluated for each version.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::quoted;

/// Nodes and edges by patterns as they stand in a MATCH; without one, all of them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ViewDefinition {
    pub name: Arc<str>,
    pub nodes: Option<Arc<str>>,
    pub edges: Option<Arc<str>>,
    /// The property that is an edge's weight.
    pub weight: Option<Arc<str>>,
}

/// The statement that creates it.
impl fmt::Display for ViewDefinition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "CREATE GRAPH VIEW {} AS", quoted(&self.name))?;
        if let Some(nodes) = &self.nodes {
            write!(f, " NODES {nodes}")?;
        }
        if let Some(edges) = &self.edges {
            write!(f, " EDGES {edges}")?;
        }
        if let Some(weight) = &self.weight {
            write!(f, " WEIGHT {}", quoted(weight))?;
        }
        Ok(())
    }
}
