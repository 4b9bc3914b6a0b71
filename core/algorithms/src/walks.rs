//! Random walks.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;

use crate::{Arcs, Ask, Steps, Stopped, Subgraph};

#[derive(Clone, Copy, Debug)]
pub struct Walks {
    /// From each node.
    pub each: usize,
    /// Edges at most; a walk ends where none leads on.
    pub length: usize,
    pub seed: u64,
}

/// Walks from each of `from`, as nodes: at each node one of its edges is drawn, by weight where there are weights.
/// A walk depends on the seed, its start and its number alone.
///
/// Source: K. Pearson, The problem of the random walk, 1905. O(length) a walk without weights.
pub fn random_walks(
    graph: &Subgraph, from: &[u32], options: Walks, ask: Ask<'_>,
) -> Result<Vec<Vec<u32>>, Stopped> {
    let rows = graph.rows(Arcs::Out);
    let one = |(place, start): (usize, u32), number: usize| -> Result<Vec<u32>, Stopped> {
        let mut random = ChaCha8Rng::seed_from_u64(options.seed);
        random.set_stream((u64::from(start) << 24) ^ number as u64);
        let mut steps = Steps::new(ask);
        steps.done = place as f64 / from.len() as f64;
        let mut walk = vec![start];
        let mut node = start as usize;
        while walk.len() <= options.length {
            let (neighbours, edges) = (rows.of_node(node), rows.edges_of(node));
            steps.step(if graph.has_weights() { edges.len() + 1 } else { 1 })?;
            if neighbours.is_empty() {
                break;
            }
            let chosen = if graph.has_weights() {
                let total: f64 = edges.iter().map(|e| graph.weight(*e as usize)).sum();
                if total <= 0.0 {
                    break;
                }
                let mut left = random.random::<f64>() * total;
                let last = edges.iter().rposition(|e| graph.weight(*e as usize) > 0.0).unwrap_or(0);
                let passed = edges.iter().position(|e| {
                    left -= graph.weight(*e as usize);
                    left < 0.0
                });
                passed.unwrap_or(last)
            } else {
                random.random_range(0..neighbours.len())
            };
            node = neighbours[chosen] as usize;
            walk.push(node as u32);
        }
        Ok(walk)
    };
    let starts: Vec<(usize, u32)> = from.iter().copied().enumerate().collect();
    let walks: Vec<Vec<Vec<u32>>> = starts
        .into_par_iter()
        .map(|start| {
            ask(start.0 as f64 / from.len() as f64)?;
            (0..options.each).map(|number| one(start, number)).collect()
        })
        .collect::<Result<_, _>>()?;
    Ok(walks.into_iter().flatten().collect())
}
