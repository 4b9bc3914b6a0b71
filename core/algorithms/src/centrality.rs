//! Centrality by repeated sums over neighbours: PageRank, eigenvector, Katz.

use rayon::prelude::*;

use crate::{Arcs, Ask, Stopped, Subgraph};

/// Nodes that one thread sums at a time.
const PIECE: usize = 2048;

#[derive(Clone, Debug, PartialEq)]
pub struct Iterated {
    pub scores: Vec<f64>,
    pub iterations: usize,
    /// Whether scores changed by less than the tolerance at the end.
    pub converged: bool,
}

#[derive(Clone, Debug)]
pub struct PageRank<'a> {
    pub damping: f64,
    pub iterations: usize,
    /// Ends when the scores' changes sum up to less.
    pub tolerance: f64,
    /// Where a walk begins anew: in each of these alike, or in any node without them.
    pub begin: Option<&'a [u32]>,
}

/// By node, what its neighbours along `arcs` add up to.
fn summed(graph: &Subgraph, arcs: Arcs, of: &[f64], into: &mut [f64]) {
    let rows = graph.rows(arcs);
    into.par_chunks_mut(PIECE).enumerate().for_each(|(piece, sums)| {
        for (i, sum) in sums.iter_mut().enumerate() {
            let node = piece * PIECE + i;
            let neighbours = rows.of_node(node);
            *sum = if graph.has_weights() {
                let edges = rows.edges_of(node);
                neighbours.iter().zip(edges).map(|(n, e)| of[*n as usize] * graph.weight(*e as usize)).sum()
            } else {
                neighbours.iter().map(|n| of[*n as usize]).sum()
            };
        }
    });
}

/// The same on any number of threads: pieces are summed one after the other.
fn total(values: &[f64]) -> f64 {
    values.par_chunks(PIECE).map(|piece| piece.iter().sum::<f64>()).collect::<Vec<_>>().iter().sum()
}

fn distance(a: &[f64], b: &[f64]) -> f64 {
    let pieces = a.par_chunks(PIECE).zip(b.par_chunks(PIECE));
    let sums: Vec<f64> =
        pieces.map(|(a, b)| a.iter().zip(b).map(|(x, y)| (x - y).abs()).sum::<f64>()).collect();
    sums.iter().sum()
}

/// PageRank: the share of time that a walk spends in each node which follows edges by their weights, and with
/// probability 1 - damping, or where no edge leads on, begins anew. Scores sum up to 1.
///
/// Source: L. Page, S. Brin, R. Motwani, T. Winograd, The PageRank Citation Ranking, 1999; a pull of the
/// vector over incoming rows. O(m) an iteration, 24 bytes a node.
pub fn page_rank(graph: &Subgraph, options: &PageRank<'_>, ask: Ask<'_>) -> Result<Iterated, Stopped> {
    let n = graph.node_count();
    if n == 0 {
        return Ok(Iterated { scores: vec![], iterations: 0, converged: true });
    }
    let out = graph.rows(Arcs::Out);
    graph.rows(Arcs::In);
    let leaving: Vec<f64> = (0..n)
        .map(|node| match graph.has_weights() {
            true => out.edges_of(node).iter().map(|e| graph.weight(*e as usize)).sum(),
            false => out.degree(node) as f64,
        })
        .collect();
    let mut beginning = vec![0.0; n];
    match options.begin {
        Some(begin) if !begin.is_empty() => {
            begin.iter().for_each(|&b| beginning[b as usize] += 1.0 / begin.len() as f64);
        }
        _ => beginning.fill(1.0 / n as f64),
    }
    let mut scores = beginning.clone();
    let (mut passed, mut next) = (vec![0.0; n], vec![0.0; n]);
    let damping = options.damping;
    for iteration in 0..options.iterations {
        ask(iteration as f64 / options.iterations as f64)?;
        let stuck: Vec<f64> =
            scores.iter().zip(&leaving).map(|(s, l)| if *l > 0.0 { 0.0 } else { *s }).collect();
        let stuck = total(&stuck);
        passed.par_iter_mut().zip(&scores).zip(&leaving).for_each(|((passed, score), leaving)| {
            *passed = if *leaving > 0.0 { score / leaving } else { 0.0 };
        });
        summed(graph, Arcs::In, &passed, &mut next);
        next.par_iter_mut().zip(&beginning).for_each(|(score, begin)| {
            *score = damping * (*score + stuck * begin) + (1.0 - damping) * begin;
        });
        let change = distance(&scores, &next);
        std::mem::swap(&mut scores, &mut next);
        if change < options.tolerance {
            return Ok(Iterated { scores, iterations: iteration + 1, converged: true });
        }
    }
    Ok(Iterated { scores, iterations: options.iterations, converged: false })
}

/// Eigenvector centrality: a node is as central as the sum of those that edges lead from to it; of length 1.
/// The vector is added to its product, so that it converges where the graph has two sides.
///
/// Source: P. Bonacich, Factoring and weighting approaches to status scores, 1972; power iteration. O(m) an
/// iteration, 16 bytes a node.
pub fn eigenvector(
    graph: &Subgraph, iterations: usize, tolerance: f64, ask: Ask<'_>,
) -> Result<Iterated, Stopped> {
    let n = graph.node_count();
    let mut scores = vec![1.0 / (n.max(1) as f64).sqrt(); n];
    let mut next = vec![0.0; n];
    for iteration in 0..iterations {
        ask(iteration as f64 / iterations as f64)?;
        summed(graph, Arcs::In, &scores, &mut next);
        next.par_iter_mut().zip(&scores).for_each(|(next, score)| *next += score);
        let squares: Vec<f64> = next.iter().map(|s| s * s).collect();
        let length = total(&squares).sqrt();
        if length > 0.0 {
            next.par_iter_mut().for_each(|s| *s /= length);
        }
        let change = distance(&scores, &next);
        std::mem::swap(&mut scores, &mut next);
        if change < tolerance * n as f64 {
            return Ok(Iterated { scores, iterations: iteration + 1, converged: true });
        }
    }
    Ok(Iterated { scores, iterations, converged: n == 0 })
}

/// Katz centrality: walks that end in a node, a walk of k edges counting `alpha`^k, and 1 for the node itself.
///
/// Source: L. Katz, A new status index derived from sociometric analysis, 1953. O(m) an iteration, 16 bytes a
/// node. It has an answer only where alpha is below one over the largest eigenvalue.
pub fn katz(
    graph: &Subgraph, alpha: f64, iterations: usize, tolerance: f64, ask: Ask<'_>,
) -> Result<Iterated, Stopped> {
    let n = graph.node_count();
    let mut scores = vec![1.0; n];
    let mut next = vec![0.0; n];
    let mut before = f64::INFINITY;
    for iteration in 0..iterations {
        ask(iteration as f64 / iterations as f64)?;
        summed(graph, Arcs::In, &scores, &mut next);
        next.par_iter_mut().for_each(|score| *score = alpha * *score + 1.0);
        let change = distance(&scores, &next);
        std::mem::swap(&mut scores, &mut next);
        let grows = !change.is_finite() || (iteration > 8 && change > before);
        before = change;
        if change < tolerance * n as f64 {
            return Ok(Iterated { scores, iterations: iteration + 1, converged: true });
        }
        if grows {
            return Err(Stopped::NoAnswer(format!(
                "with alpha = {alpha} the sums grow without end: alpha must be below one over the graph's largest \
                 eigenvalue; try a tenth of it"
            )));
        }
    }
    Ok(Iterated { scores, iterations, converged: n == 0 })
}
