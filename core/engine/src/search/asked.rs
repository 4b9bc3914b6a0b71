//! Request and result of a search for shortest paths.

use std::sync::Arc;

use graphodrome_graph::UsableBound;
use graphodrome_language::ast::PathMode;

use crate::expression::Expr;
use crate::search::Cursor;
use crate::search::Outcome;
use crate::search::SearchSpec;
use crate::search::Spread;
use crate::search::caps::Caps;
use crate::search::measure::EdgeWeight;
use crate::search::measure::Measure;
use crate::search::step::Step;

/// How many paths per pair of ends are wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Quota {
    First(u32),
    /// All of the least costs that there are, so many different ones.
    Groups(u32),
}

/// Shortest or cheapest paths over one repeated edge, from each start.
#[derive(Clone, Debug)]
pub(crate) struct GuidedSearch {
    pub step: Arc<Step>,
    /// 0 or 1.
    pub min: u32,
    /// Only without a weight.
    pub max: Option<u32>,
    /// The pattern is walked from its right end.
    pub backwards: bool,
    pub mode: PathMode,
    pub quota: Quota,
    pub weight: Option<Arc<EdgeWeight>>,
    /// One path is wanted, and any cheapest walk between different nodes is one.
    pub any_walk: bool,
    /// Such a walk may be looked for from both ends.
    pub both_ends: bool,
    /// What such a walk costs at least, where that is known beforehand.
    pub bound: Option<Arc<UsableBound>>,
    /// Nobody reads the paths: their ends are enough.
    pub bare: bool,
    /// Any path to an end serves that satisfies these conditions on the sum of its weights.
    pub within: Option<Arc<SumBound>>,
    /// What no path satisfies that costs more than one which does not.
    pub stop: Option<Arc<Caps>>,
}

/// Conditions on the sum of a path's weights.
#[derive(Clone, Debug)]
pub(crate) struct SumBound {
    pub caps: Arc<Caps>,
    /// The same as they are written, on the input row with the end (where it was not bound), the path and the list of edges behind
    /// it, where they are tested here and nowhere else: whoever asks for the ends reads nothing of the paths.
    pub settled: Vec<Expr>,
}

/// A path as its nodes and edges, from the node the search began at.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct FoundPath {
    pub nodes: Vec<u32>,
    pub edges: Vec<u32>,
    /// How many edges it has, where they were not read off.
    pub hops: Option<u32>,
}

/// Paths of one input row, one after the other.
pub(crate) trait PathSource: Send {
    /// The next path, from the start of the search.
    fn next(&mut self, spec: &SearchSpec, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>>;

    /// Its time runs again.
    fn resume(&mut self) {}

    /// Says what it did since it said so last.
    fn report(&mut self, _: &mut Cursor<'_>) {}

    /// Gives its memory back where it is not gone on with.
    fn give_back(&mut self, _: &mut Cursor<'_>) {}

    /// It came to a weight that it cannot add.
    fn gave_up(&self) -> bool {
        false
    }
}

pub(super) fn path_to<M: Measure>(spread: &Spread<M>, number: u32) -> FoundPath {
    let mut path = FoundPath { nodes: vec![spread.reached[number as usize].node], ..FoundPath::default() };
    for (edge, node) in spread.way_back(number) {
        path.edges.push(edge);
        path.nodes.push(node);
    }
    path.nodes.reverse();
    path.edges.reverse();
    path
}
