//! Betweenness: how often a node lies on shortest paths between others.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use rand::SeedableRng;
use rand::seq::index;
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;

use crate::{Arcs, Ask, Steps, Stopped, Subgraph};

/// Parts that sources are divided in, whatever the number of threads, so that sums do not depend on it.
const PARTS: usize = 16;

/// Shortest paths from some nodes drawn at random instead of all.
#[derive(Clone, Copy, Debug)]
pub struct Sampled {
    pub sources: usize,
    pub seed: u64,
}

#[derive(Clone, Debug, PartialEq)]
pub struct Betweenness {
    /// Pairs of other nodes, each by the share of its shortest paths that lead through the node.
    pub scores: Vec<f64>,
    /// Of a sample: with 95 % probability no score is farther off than this. 0 where all sources were searched from.
    pub error: f64,
}

/// What a search from one source keeps, used again for the next.
struct Search {
    distance: Vec<f64>,
    paths: Vec<f64>,
    dependency: Vec<f64>,
    order: Vec<u32>,
}

impl Search {
    fn new(nodes: usize) -> Search {
        Search {
            distance: vec![f64::INFINITY; nodes],
            paths: vec![0.0; nodes],
            dependency: vec![0.0; nodes],
            order: vec![],
        }
    }

    fn forward(&mut self, graph: &Subgraph, source: u32, steps: &mut Steps<'_>) -> Result<(), Stopped> {
        for node in self.order.drain(..) {
            self.distance[node as usize] = f64::INFINITY;
            self.paths[node as usize] = 0.0;
            self.dependency[node as usize] = 0.0;
        }
        self.distance[source as usize] = 0.0;
        self.paths[source as usize] = 1.0;
        match graph.has_weights() {
            true => self.by_weights(graph, source, steps),
            false => self.by_hops(graph, source, steps),
        }
    }

    fn by_hops(&mut self, graph: &Subgraph, source: u32, steps: &mut Steps<'_>) -> Result<(), Stopped> {
        let rows = graph.rows(Arcs::Out);
        self.order.push(source);
        let mut next = 0;
        while next < self.order.len() {
            let node = self.order[next] as usize;
            next += 1;
            let far = self.distance[node] + 1.0;
            let neighbours = rows.of_node(node);
            steps.step(neighbours.len() + 1)?;
            for &neighbour in neighbours {
                let to = neighbour as usize;
                if self.distance[to] == f64::INFINITY {
                    self.distance[to] = far;
                    self.order.push(neighbour);
                }
                if self.distance[to] == far {
                    self.paths[to] += self.paths[node];
                }
            }
        }
        Ok(())
    }

    fn by_weights(&mut self, graph: &Subgraph, source: u32, steps: &mut Steps<'_>) -> Result<(), Stopped> {
        let rows = graph.rows(Arcs::Out);
        let mut heap = BinaryHeap::from([Reverse((0u64, source))]);
        // Bits of floats that are not negative are in the order of the floats.
        while let Some(Reverse((bits, node))) = heap.pop() {
            let far = f64::from_bits(bits);
            let from = node as usize;
            if far > self.distance[from] {
                continue;
            }
            self.order.push(node);
            let edges = rows.edges_of(from);
            steps.step(edges.len() + 1)?;
            for (&neighbour, &edge) in rows.of_node(from).iter().zip(edges) {
                let (to, through) = (neighbour as usize, far + graph.weight(edge as usize));
                if through < self.distance[to] {
                    self.distance[to] = through;
                    self.paths[to] = 0.0;
                    heap.push(Reverse((through.to_bits(), neighbour)));
                }
                if through == self.distance[to] {
                    self.paths[to] += self.paths[from];
                }
            }
        }
        Ok(())
    }

    /// Adds what the source's paths depend on each node.
    fn backward(&mut self, graph: &Subgraph, source: u32, scores: &mut [f64]) {
        let rows = graph.rows(Arcs::In);
        for at in (1..self.order.len()).rev() {
            let node = self.order[at] as usize;
            debug_assert!(node != source as usize);
            let share = (1.0 + self.dependency[node]) / self.paths[node];
            for (&before, &edge) in rows.of_node(node).iter().zip(rows.edges_of(node)) {
                let from = before as usize;
                let through = self.distance[from] + graph.weight(edge as usize);
                if from != node && through == self.distance[node] {
                    self.dependency[from] += self.paths[from] * share;
                }
            }
            scores[node] += self.dependency[node];
        }
    }
}

/// Betweenness of nodes, along edges as they are read; parallel edges are paths of their own. Weights must be above
/// 0. Where every edge is read both ways a pair counts once.
///
/// Source: U. Brandes, A faster algorithm for betweenness centrality, 2001; samples: U. Brandes and C. Pich,
/// Centrality estimation in large networks, 2007, the error by Hoeffding's inequality. O(n m) for all sources,
/// with weights O(n m log n); 28 bytes a node and thread, and 8 for each of 16 parts.
pub fn betweenness(graph: &Subgraph, sampled: Option<Sampled>, ask: Ask<'_>) -> Result<Betweenness, Stopped> {
    let n = graph.node_count();
    if let Some(edge) = (0..graph.edge_count()).find(|e| graph.weight(*e) <= 0.0) {
        return Err(Stopped::NoAnswer(format!(
            "betweenness needs weights above 0, and one is {}: leave such edges out",
            graph.weight(edge)
        )));
    }
    let sources: Vec<u32> = match sampled {
        Some(Sampled { sources, seed }) if sources < n => {
            let mut drawn = index::sample(&mut ChaCha8Rng::seed_from_u64(seed), n, sources).into_vec();
            drawn.sort_unstable();
            drawn.into_iter().map(|s| s as u32).collect()
        }
        _ => (0..n as u32).collect(),
    };
    graph.rows(Arcs::Out);
    graph.rows(Arcs::In);
    let part = |sources: &[u32]| -> Result<Vec<f64>, Stopped> {
        let mut scores = vec![0.0; n];
        let mut search = Search::new(n);
        let mut steps = Steps::new(ask);
        for (i, &source) in sources.iter().enumerate() {
            steps.done = i as f64 / sources.len() as f64;
            search.forward(graph, source, &mut steps)?;
            search.backward(graph, source, &mut scores);
        }
        Ok(scores)
    };
    let parts: Vec<Vec<f64>> =
        sources.par_chunks(sources.len().div_ceil(PARTS).max(1)).map(part).collect::<Result<_, _>>()?;
    let mut scores = vec![0.0; n];
    for part in &parts {
        scores.iter_mut().zip(part).for_each(|(sum, score)| *sum += score);
    }
    let once = (0..graph.edge_count()).all(|e| graph.is_both_ways(e)) && graph.edge_count() > 0;
    let scale = if sources.is_empty() { 1.0 } else { n as f64 / sources.len() as f64 };
    let scale = if once { scale / 2.0 } else { scale };
    scores.iter_mut().for_each(|score| *score *= scale);
    // Of all pairs that a score could count, the share that it may be off by.
    let share = ((2.0 * n as f64 / 0.05).ln() / (2.0 * sources.len().max(1) as f64)).sqrt();
    let pairs = n as f64 * (n as f64 - 1.0) / if once { 2.0 } else { 1.0 };
    let error = if sources.len() < n { share * pairs } else { 0.0 };
    Ok(Betweenness { scores, error })
}
