//! Distance bounds: what a path between two nodes costs at least, known before it is looked for. Learnt from the
//! graph (landmarks) or read off the nodes' coordinates; a search for a cheapest path goes towards its end by them.
//!
//! It must not know: queries, plans, or how a search is done.

mod coordinates;
mod definition;
mod landmarks;
mod usable;

use std::sync::{Arc, OnceLock};

use crate::error::GoOn;
use crate::tables::Tables;
use crate::{Code, GraphError};

use coordinates::Coordinates;
use landmarks::Landmarks;

pub use definition::{BoundDefinition, BoundSource, LANDMARKS, MOST_COORDINATES, MOST_LANDMARKS};
pub use usable::{TowardsNode, UsableBound};

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
    pub(crate) fn make(&self, base: &Tables<'_>, go_on: GoOn<'_>) -> Result<(), GraphError> {
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
