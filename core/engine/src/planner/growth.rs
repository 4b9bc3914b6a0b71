//! Estimated growth of a repeated edge, from samples.

use graphodrome_graph::{Direction, LabelExpression};

/// Adjacency entries that are looked at for all of them.
pub(super) const LOOKS: usize = 1 << 13;

/// The same for all estimates of a query: planning must stay brief whatever its text.
pub(super) const LOOKS_OF_A_QUERY: usize = 4 * LOOKS;

/// A repeated edge.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct RepeatedEdge {
    /// The node that it begins at, where it is known.
    pub start: Option<u32>,
    pub near: Option<LabelExpression>,
    pub far: Option<LabelExpression>,
    pub edge: Option<LabelExpression>,
    pub direction: Direction,
    pub min: u32,
    pub max: Option<u32>,
    /// What share of the edges a condition within leaves.
    pub share: f64,
}

/// What a search yields and looks at, for one node that it begins at.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Growth {
    /// Paths to nodes with the far labels.
    pub paths: f64,
    /// Paths that end where they began.
    pub rings: f64,
    /// Such nodes, each once.
    pub ends: f64,
    /// Adjacency entries where every path is made, and where every node is reached once.
    pub looked_for_paths: f64,
    pub looked_for_ends: f64,
    /// It was tried to its end: no more than an average of a few starts, but no guess.
    pub tried: bool,
}

impl Growth {
    /// With so many times as many edges at the nodes that it begins at.
    pub(super) fn scaled(self, by: f64, everything: f64) -> Growth {
        Growth {
            paths: self.paths * by,
            rings: self.rings * by,
            ends: (self.ends * by).min(everything.max(self.ends)),
            looked_for_paths: self.looked_for_paths * by,
            looked_for_ends: self.looked_for_ends * by,
            tried: self.tried,
        }
    }

    pub(super) fn over(self, starts: f64) -> Growth {
        Growth { tried: self.tried, ..self.scaled(1.0 / starts, f64::MAX) }
    }
}
