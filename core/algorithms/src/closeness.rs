//! Closeness and harmonic centrality.

use rayon::prelude::*;

use crate::{Arcs, Ask, Distances, Steps, Stopped, Subgraph};

#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Closeness {
    /// (r - 1)² / ((n - 1) · s) with r the nodes that can be reached (itself too) and s the sum of their
    /// distances; 0 where none can.
    pub closeness: f64,
    /// The sum of 1 / distance to all other nodes that can be reached, divided by n - 1.
    pub harmonic: f64,
    /// Nodes that can be reached, without itself.
    pub reached: usize,
    /// The greatest distance of those.
    pub farthest: f64,
}

/// How near the nodes that edges lead to are: by hops, or by weights where the graph has them.
///
/// Source: A. Bavelas, Communication patterns in task-oriented groups, 1950, with the correction of S. Wasserman
/// and K. Faust, Social Network Analysis, 1994, for parts that are not connected; harmonic: M. Marchiori and
/// V. Latora, Harmony in the small-world, 2000. O(n m), with weights O(n m log n); 12 bytes a node and thread.
pub fn closeness(graph: &Subgraph, ask: Ask<'_>) -> Result<Vec<Closeness>, Stopped> {
    let n = graph.node_count();
    graph.rows(Arcs::Out);
    let one = |found: &mut Distances, from: usize| -> Result<Closeness, Stopped> {
        let mut steps = Steps::new(ask);
        steps.done = from as f64 / n as f64;
        if from.is_multiple_of(64) {
            ask(steps.done)?;
        }
        found.search(graph, Arcs::Out, from as u32, &mut steps)?;
        let far = |node: &u32| found.to[*node as usize];
        let others = || found.reached.iter().filter(|node| **node as usize != from);
        let (reached, sum) = (others().count(), others().map(far).sum::<f64>());
        let scale = (n - 1).max(1) as f64;
        let part = reached as f64;
        Ok(Closeness {
            closeness: if sum > 0.0 { part * part / (scale * sum) } else { 0.0 },
            harmonic: others().map(|node| 1.0 / far(node)).sum::<f64>() / scale,
            reached,
            farthest: others().map(far).fold(0.0, f64::max),
        })
    };
    (0..n).into_par_iter().map_init(|| Distances::for_nodes(n), |found, from| one(found, from)).collect()
}
