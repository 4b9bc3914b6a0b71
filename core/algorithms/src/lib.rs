//! Measures of graphs: centrality, connectivity, order, communities and flow.
//!
//! Invariant: pure computation over a [`Subgraph`]. Nothing here knows queries, properties, sockets or files. Every
//! function asks [`Ask`] often enough to be stopped within a few milliseconds, gives the same result on any number
//! of threads, and documents its source and cost: `n` is the number of nodes, `m` of edges.

mod betweenness;
mod centrality;
mod closeness;
mod communities;
mod components;
mod cores;
mod cuts;
mod distances;
mod dominators;
mod flow;
mod order;
mod shape;
mod similarity;
mod spanning;
mod subgraph;
mod walks;

pub use betweenness::{Sampled, betweenness};
pub use centrality::{Iterated, PageRank, eigenvector, katz, page_rank};
pub use closeness::{Closeness, closeness};
pub use communities::{Communities, label_propagation, leiden, louvain, modularity};
pub use components::{strong_components, weak_components};
pub use cores::{Triangles, core_numbers, triangles};
pub use cuts::{Cuts, cuts};
pub use distances::{Distances, distances};
pub use dominators::dominators;
pub use flow::{Flow, maximum_flow};
pub use order::{Layers, layers, longest_paths, transitive_reduction};
pub use shape::{assortativity, diameter_bounds};
pub use similarity::{Likeness, Pair, similar};
pub use spanning::spanning_forest;
pub use subgraph::{Arcs, Reading, Rows, Subgraph};
pub use walks::{Walks, random_walks};

/// A measure ends without a result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stopped {
    /// Whoever asked for it does not want it any longer, or it has used up what it may use: [`Ask`] says which.
    Asked,
    /// The measure has no answer for this graph; the text says why and what to do.
    NoAnswer(String),
}

/// Asked now and then whether the work may go on, with the share that is done (0 to 1).
pub type Ask<'a> = &'a (dyn Fn(f64) -> Result<(), Stopped> + Sync);

/// Steps between two questions.
pub(crate) const ASK_EVERY: usize = 4096;

/// Asks once in [`ASK_EVERY`] steps.
pub(crate) struct Steps<'a> {
    ask: Ask<'a>,
    left: usize,
    pub done: f64,
}

impl<'a> Steps<'a> {
    pub fn new(ask: Ask<'a>) -> Steps<'a> {
        Steps { ask, left: ASK_EVERY, done: 0.0 }
    }

    #[inline]
    pub fn step(&mut self, work: usize) -> Result<(), Stopped> {
        if self.left > work {
            self.left -= work;
            return Ok(());
        }
        self.left = ASK_EVERY;
        (self.ask)(self.done)
    }
}

/// Numbers groups by their smallest node, from 0 on, in the order of those.
pub(crate) fn renumbered(groups: &[u32]) -> (Vec<u32>, usize) {
    let mut number = vec![u32::MAX; groups.len()];
    let mut count = 0u32;
    let named = groups.iter().map(|&group| {
        let place = &mut number[group as usize];
        if *place == u32::MAX {
            *place = count;
            count += 1;
        }
        *place
    });
    (named.collect(), count as usize)
}
