//! Orders of a graph without cycles: layers, longest paths, and which edges say nothing new.

use crate::{Arcs, Ask, Steps, Stopped, Subgraph};

#[derive(Clone, Debug, PartialEq)]
pub struct Layers {
    /// Nodes so that every edge leads on: those of a layer together, by number.
    pub order: Vec<u32>,
    /// By node the edges of the longest way to it.
    pub layer: Vec<u32>,
}

/// A topological order.
///
/// Source: A. B. Kahn, Topological sorting of large networks, 1962, a layer at a time. O(n + m), 12 bytes a node.
/// A graph with a cycle has none: the error names how many nodes are on cycles or behind them.
pub fn layers(graph: &Subgraph, ask: Ask<'_>) -> Result<Layers, Stopped> {
    let n = graph.node_count();
    let (out, into) = (graph.rows(Arcs::Out), graph.rows(Arcs::In));
    let mut left: Vec<u32> = (0..n).map(|node| into.degree(node) as u32).collect();
    let mut layer = vec![0u32; n];
    let mut order: Vec<u32> = (0..n as u32).filter(|node| left[*node as usize] == 0).collect();
    let mut steps = Steps::new(ask);
    let (mut from, mut number) = (0, 0);
    while from < order.len() {
        let here = order[from..].to_vec();
        from = order.len();
        for &node in &here {
            layer[node as usize] = number;
            steps.done = from as f64 / n as f64;
            steps.step(out.degree(node as usize) + 1)?;
            for &other in out.of_node(node as usize) {
                left[other as usize] -= 1;
                if left[other as usize] == 0 {
                    order.push(other);
                }
            }
        }
        order[from..].sort_unstable();
        number += 1;
    }
    if order.len() < n {
        return Err(Stopped::NoAnswer(format!(
            "there is no order: {} of {n} nodes are on cycles or can be reached only through one; strong_components \
             finds the cycles",
            n - order.len()
        )));
    }
    Ok(Layers { order, layer })
}

/// By node the greatest sum of weights (edges without weights) of a way that ends in it, and the node before it on
/// that way.
///
/// Source: dynamic programming over a topological order. O(n + m), 20 bytes a node.
pub fn longest_paths(graph: &Subgraph, ask: Ask<'_>) -> Result<Vec<(f64, Option<u32>)>, Stopped> {
    let order = layers(graph, ask)?.order;
    let rows = graph.rows(Arcs::Out);
    let mut best: Vec<(f64, Option<u32>)> = vec![(0.0, None); graph.node_count()];
    for node in order {
        let so_far = best[node as usize].0;
        for (&other, &edge) in rows.of_node(node as usize).iter().zip(rows.edges_of(node as usize)) {
            let through = so_far + graph.weight(edge as usize);
            let known = &mut best[other as usize];
            if through > known.0 || (known.1.is_none() && through >= known.0) {
                *known = (through, Some(node));
            }
        }
    }
    Ok(best)
}

/// The edges of a graph without cycles that no longer way stands for; of parallel ones the first.
///
/// Source: A. V. Aho, M. R. Garey, J. D. Ullman, The transitive reduction of a directed graph, 1972, by a search from
/// each node that stays within the layers of its neighbours. O(n m) at worst, 8 bytes a node.
pub fn transitive_reduction(graph: &Subgraph, ask: Ask<'_>) -> Result<Vec<u32>, Stopped> {
    let n = graph.node_count();
    let layer = layers(graph, ask)?.layer;
    let rows = graph.rows(Arcs::Out);
    let mut seen = vec![u32::MAX; n];
    let mut kept = vec![];
    let mut steps = Steps::new(ask);
    let mut open = vec![];
    for node in 0..n {
        steps.done = node as f64 / n as f64;
        let neighbours = rows.of_node(node);
        let Some(last) = neighbours.iter().map(|o| layer[*o as usize]).max() else { continue };
        // What can be reached by two edges or more, no deeper than the deepest neighbour.
        open.clear();
        open.extend(neighbours.iter().copied());
        while let Some(at) = open.pop() {
            let onward = rows.of_node(at as usize);
            steps.step(onward.len() + 1)?;
            for &other in onward {
                if layer[other as usize] <= last && seen[other as usize] != node as u32 {
                    seen[other as usize] = node as u32;
                    open.push(other);
                }
            }
        }
        let mut before = None;
        for (&other, &edge) in neighbours.iter().zip(rows.edges_of(node)) {
            if seen[other as usize] != node as u32 && before != Some(other) {
                kept.push(edge);
            }
            before = Some(other);
        }
    }
    kept.sort_unstable();
    Ok(kept)
}
