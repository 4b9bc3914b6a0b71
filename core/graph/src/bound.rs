//! Distance bounds: what a path between two nodes costs at least, known before it is looked for. Learnt from the
//! graph (landmarks) or read off the nodes' coordinates; a search for a cheapest path goes towards its end by them.
//!
//! It must not know: queries, plans, or how a search is done.

mod coordinates;
mod landmarks;
mod usable;

use std::fmt;
use std::sync::{Arc, OnceLock};

use serde::{Deserialize, Serialize};

use crate::base::Base;
use crate::error::GoOn;
use crate::{Code, Direction, GraphError, LabelSet, quoted};

use coordinates::Coordinates;
use landmarks::Landmarks;

pub use usable::{TowardsNode, UsableBound};

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
        let (before, after) = match self.direction {
            Direction::Out => ("-[", "]->"),
            Direction::In => ("<-[", "]-"),
            Direction::Undirected => ("~[", "]~"),
            Direction::OutOrIn => ("<-[", "]->"),
            Direction::OutOrUndirected => ("~[", "]~>"),
            Direction::InOrUndirected => ("<~[", "]~"),
            Direction::Any => ("-[", "]-"),
        };
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

/// A bound over one base.
#[derive(Debug)]
pub struct DistanceBound {
    pub definition: Arc<BoundDefinition>,
    /// Or why it cannot be.
    made: OnceLock<Result<Made, Arc<str>>>,
}

#[derive(Debug)]
enum Made {
    Landmarks(Landmarks),
    Coordinates(Coordinates),
}

impl DistanceBound {
    pub(crate) fn new(definition: Arc<BoundDefinition>) -> DistanceBound {
        DistanceBound { definition, made: OnceLock::new() }
    }

    /// Makes it, where it is not there yet. `go_on` is asked now and then and ends it with an error.
    pub(crate) fn make(&self, base: &Base, go_on: GoOn<'_>) -> Result<(), GraphError> {
        if self.made.get().is_some() {
            return Ok(());
        }
        let made = match &self.definition.source {
            BoundSource::Landmarks(count) => {
                Landmarks::learn(base, &self.definition, *count as usize, go_on)?.map(Made::Landmarks)
            }
            BoundSource::Coordinates(names) => {
                Coordinates::read(base, &self.definition, names, go_on)?.map(Made::Coordinates)
            }
        };
        // Whoever was first made the same.
        let _ = self.made.set(made.map_err(Arc::from));
        Ok(())
    }

    /// Fails where it was made and cannot be.
    pub(crate) fn check(&self) -> Result<(), GraphError> {
        let Some(Err(reason)) = self.made.get() else { return Ok(()) };
        let message = format!("the distance bound {} cannot be: {reason}", self.definition.name);
        Err(GraphError::new(Code::DATA, message)
            .hint("a bound is over edges whose weights are numbers from 0 up, and never less than a straight line where it is from coordinates"))
    }

    /// Which share of what a path costs it says, as far as that was tried; `None` of coordinates.
    pub fn share(&self) -> Option<f64> {
        match self.made.get() {
            Some(Ok(Made::Landmarks(landmarks))) => Some(landmarks.share),
            _ => None,
        }
    }

    /// Bytes held beside the graph.
    pub fn bytes(&self) -> usize {
        match self.made.get() {
            Some(Ok(Made::Landmarks(landmarks))) => landmarks.bytes(),
            Some(Ok(Made::Coordinates(coordinates))) => coordinates.bytes(),
            _ => 0,
        }
    }
}
