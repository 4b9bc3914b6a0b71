//! Cores and triangles: how densely a node's surroundings are woven. Edges are read both ways.

use std::ops::Range;
use std::sync::{Mutex, PoisonError};

use rayon::prelude::*;

use crate::{Arcs, Ask, Steps, Stopped, Subgraph};

/// Different neighbours of each node, without itself, sorted.
fn simple_rows(graph: &Subgraph) -> Vec<Vec<u32>> {
    let rows = graph.rows(Arcs::Both);
    (0..graph.node_count())
        .into_par_iter()
        .map(|node| {
            let mut row: Vec<u32> =
                rows.of_node(node).iter().copied().filter(|other| *other as usize != node).collect();
            row.dedup();
            row
        })
        .collect()
}

/// The core number of each node: the greatest k for which it belongs to a part in which every node has k
/// different neighbours.
///
/// Source: V. Batagelj and M. Zaveršnik, An O(m) algorithm for cores decomposition of networks, 2003. O(n + m),
/// 16 bytes a node.
pub fn core_numbers(graph: &Subgraph, ask: Ask<'_>) -> Result<Vec<u32>, Stopped> {
    let n = graph.node_count();
    let rows = simple_rows(graph);
    let mut degree: Vec<u32> = rows.iter().map(|row| row.len() as u32).collect();
    let greatest = degree.iter().copied().max().unwrap_or(0) as usize;
    // Nodes in the order of their degrees, and where each degree begins.
    let mut begins = vec![0u32; greatest + 2];
    degree.iter().for_each(|d| begins[*d as usize + 1] += 1);
    for d in 0..=greatest {
        begins[d + 1] += begins[d];
    }
    let (mut order, mut place) = (vec![0u32; n], vec![0u32; n]);
    let mut next = begins.clone();
    for node in 0..n {
        let at = &mut next[degree[node] as usize];
        place[node] = *at;
        order[*at as usize] = node as u32;
        *at += 1;
    }
    let mut steps = Steps::new(ask);
    for at in 0..n {
        let node = order[at] as usize;
        steps.done = at as f64 / n as f64;
        steps.step(rows[node].len() + 1)?;
        for &other in &rows[node] {
            let other = other as usize;
            if degree[other] <= degree[node] {
                continue;
            }
            // The first of its degree changes places with it; the degree then begins one later.
            let first_at = begins[degree[other] as usize];
            let first = order[first_at as usize] as usize;
            if first != other {
                order.swap(first_at as usize, place[other] as usize);
                place[first] = place[other];
                place[other] = first_at;
            }
            begins[degree[other] as usize] += 1;
            degree[other] -= 1;
        }
    }
    Ok(degree)
}

#[derive(Clone, Debug, PartialEq)]
pub struct Triangles {
    /// By node, the triangles it is a corner of.
    pub of_nodes: Vec<u64>,
    pub total: u64,
    /// By node, the share of pairs of its neighbours that are neighbours; 0 with fewer than two.
    pub clustering: Vec<f64>,
}

/// What one thread has counted, and the neighbours of the node that it is at.
struct Corners {
    of_nodes: Vec<u64>,
    /// The last node of which each was a neighbour of higher rank.
    neighbour_of: Vec<u32>,
}

impl Corners {
    /// Counts the triangles whose corners of the lowest rank are these nodes.
    fn count(&mut self, nodes: Range<usize>, above: &[Vec<u32>], ask: Ask<'_>) -> Result<(), Stopped> {
        let mut steps = Steps::new(ask);
        steps.done = nodes.start as f64 / above.len() as f64;
        ask(steps.done)?;
        for node in nodes {
            let mine = &above[node];
            mine.iter().for_each(|other| self.neighbour_of[*other as usize] = node as u32);
            let mut all = 0;
            for &other in mine {
                let theirs = &above[other as usize];
                steps.step(theirs.len())?;
                let mut both = 0;
                for &third in theirs {
                    let closes = u64::from(self.neighbour_of[third as usize] == node as u32);
                    self.of_nodes[third as usize] += closes;
                    both += closes;
                }
                self.of_nodes[other as usize] += both;
                all += both;
            }
            self.of_nodes[node] += all;
        }
        Ok(())
    }
}

/// Triangles of different nodes, parallel edges and loops counting once and not at all.
///
/// Source: T. Schank and D. Wagner, Finding, counting and listing all triangles in large graphs, 2005: each
/// triangle is found from its corner of the lowest degree. O(m^1.5), 8 bytes an edge and node, 12 a node and thread.
pub fn triangles(graph: &Subgraph, ask: Ask<'_>) -> Result<Triangles, Stopped> {
    /// Nodes that a thread goes through before it asks for more.
    const PIECE: usize = 256;
    let n = graph.node_count();
    let rows = simple_rows(graph);
    let rank = |node: u32| (rows[node as usize].len(), node);
    // The neighbours of higher rank: few, also at a hub.
    let above: Vec<Vec<u32>> = (0..n as u32)
        .into_par_iter()
        .map(|node| rows[node as usize].iter().copied().filter(|other| rank(*other) > rank(node)).collect())
        .collect();
    // As many as there are threads.
    let counted: Mutex<Vec<Corners>> = Mutex::default();
    let lock = || counted.lock().unwrap_or_else(PoisonError::into_inner);
    (0..n.div_ceil(PIECE)).into_par_iter().try_for_each(|piece| {
        let own = lock().pop();
        let mut own =
            own.unwrap_or_else(|| Corners { of_nodes: vec![0; n], neighbour_of: vec![u32::MAX; n] });
        let result = own.count(piece * PIECE..n.min((piece + 1) * PIECE), &above, ask);
        lock().push(own);
        result
    })?;
    let mut of_nodes = vec![0u64; n];
    for own in counted.into_inner().unwrap_or_else(PoisonError::into_inner) {
        of_nodes.iter_mut().zip(own.of_nodes).for_each(|(sum, count)| *sum += count);
    }
    let clustering = rows.iter().zip(&of_nodes).map(|(row, found)| {
        let pairs = row.len() as f64 * (row.len() as f64 - 1.0) / 2.0;
        if pairs > 0.0 { *found as f64 / pairs } else { 0.0 }
    });
    Ok(Triangles { clustering: clustering.collect(), total: of_nodes.iter().sum::<u64>() / 3, of_nodes })
}
