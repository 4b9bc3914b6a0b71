//! Definition of a distance bound: its edges and its source.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::{Direction, LabelSet, quoted};

/// So many landmarks where the statement does not say.
pub const LANDMARKS: u32 = 16;
pub const MOST_LANDMARKS: u32 = 64;
pub const MOST_COORDINATES: usize = 3;

/// Over which edges, by which weight, and from what.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct BoundDefinition {
    pub name: Arc<str>,
    /// Edges that have one of these; where there are none, all edges.
    pub labels: Vec<Arc<str>>,
    pub direction: Direction,
    /// The property that is an edge's weight.
    pub property: Arc<str>,
    pub source: BoundSource,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum BoundSource {
    /// The distances from and to so many nodes that lie far apart: by the triangle inequality two nodes are at least
    /// as far from each other as their distances differ.
    Landmarks(u32),
    /// Properties of nodes: no edge is shorter than the straight line between its ends.
    Coordinates(Vec<Arc<str>>),
}

impl BoundDefinition {
    pub(crate) fn takes(&self, labels: &LabelSet) -> bool {
        self.labels.is_empty() || self.labels.iter().any(|label| labels.contains(label))
    }

    /// The edges it is over, as a pattern: `-[:PIPE {length_m}]->`.
    pub fn pattern(&self) -> String {
        let (before, after) = self.direction.brackets();
        let labels: Vec<String> = self.labels.iter().map(|label| quoted(label)).collect();
        let labels = if labels.is_empty() { String::new() } else { format!(":{} ", labels.join("|")) };
        format!("{before}{labels}{{{}}}{after}", quoted(&self.property))
    }
}

/// The statement that creates it.
impl fmt::Display for BoundDefinition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "CREATE DISTANCE BOUND {} OVER {} FROM ", quoted(&self.name), self.pattern())?;
        match &self.source {
            BoundSource::Landmarks(count) => write!(f, "{count} LANDMARKS"),
            BoundSource::Coordinates(names) => {
                let names: Vec<String> = names.iter().map(|name| quoted(name)).collect();
                write!(f, "COORDINATES {{{}}}", names.join(", "))
            }
        }
    }
}
