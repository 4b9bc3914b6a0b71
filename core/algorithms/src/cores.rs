//! Cores and triangles: how densely a node's surroundings are woven. Edges are read both ways.

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

/// Triangles of different nodes, parallel edges and loops counting once and not at all.
///
/// Source: T. Schank and D. Wagner, Finding, counting and listing all triangles in large graphs, 2005: each
/// triangle is found from its corner of the lowest degree. O(m^1.5), 8 bytes an edge and node.
pub fn triangles(graph: &Subgraph, ask: Ask<'_>) -> Result<Triangles, Stopped> {
    use std::sync::atomic::{AtomicU64, Ordering};
    let n = graph.node_count();
    let rows = simple_rows(graph);
    let rank = |node: u32| (rows[node as usize].len(), node);
    // The neighbours of higher rank: few, also at a hub.
    let above: Vec<Vec<u32>> = (0..n as u32)
        .into_par_iter()
        .map(|node| rows[node as usize].iter().copied().filter(|other| rank(*other) > rank(node)).collect())
        .collect();
    let found: Vec<AtomicU64> = (0..n).map(|_| AtomicU64::new(0)).collect();
    (0..n).into_par_iter().try_for_each(|node| {
        let mine = &above[node];
        let mut steps = Steps::new(ask);
        steps.done = node as f64 / n as f64;
        // Nodes are many and rows short: one question a hundred nodes is enough of them.
        if node.is_multiple_of(128) {
            ask(steps.done)?;
        }
        for (at, &other) in mine.iter().enumerate() {
            let theirs = &above[other as usize];
            steps.step(mine.len() - at + theirs.len())?;
            let (mut i, mut j) = (0, 0);
            while i < mine.len() && j < theirs.len() {
                match mine[i].cmp(&theirs[j]) {
                    std::cmp::Ordering::Less => i += 1,
                    std::cmp::Ordering::Greater => j += 1,
                    std::cmp::Ordering::Equal => {
                        for corner in [node, other as usize, mine[i] as usize] {
                            found[corner].fetch_add(1, Ordering::Relaxed);
                        }
                        i += 1;
                        j += 1;
                    }
                }
            }
        }
        Ok(())
    })?;
    let of_nodes: Vec<u64> = found.into_iter().map(AtomicU64::into_inner).collect();
    let clustering = rows.iter().zip(&of_nodes).map(|(row, found)| {
        let pairs = row.len() as f64 * (row.len() as f64 - 1.0) / 2.0;
        if pairs > 0.0 { *found as f64 / pairs } else { 0.0 }
    });
    Ok(Triangles { clustering: clustering.collect(), total: of_nodes.iter().sum::<u64>() / 3, of_nodes })
}
