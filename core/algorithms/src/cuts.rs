//! Bridges and articulation points. Edges are read both ways.

use crate::{Arcs, Ask, Steps, Stopped, Subgraph};

#[derive(Clone, Debug, PartialEq)]
pub struct Cuts {
    /// Edges without which their ends hang together no more, in order.
    pub bridges: Vec<u32>,
    /// For each bridge, the nodes on the smaller side of it.
    pub cut_off: Vec<u32>,
    /// By node, into how many parts more its component falls without it.
    pub parts: Vec<u32>,
}

/// Bridges and articulation points.
///
/// Source: J. Hopcroft and R. Tarjan, Algorithm 447: efficient algorithms for graph manipulation, 1973, with a
/// stack of its own. O(n + m), 28 bytes a node.
pub fn cuts(graph: &Subgraph, ask: Ask<'_>) -> Result<Cuts, Stopped> {
    const UNSEEN: u32 = u32::MAX;
    let n = graph.node_count();
    let rows = graph.rows(Arcs::Both);
    let (mut seen_at, mut low) = (vec![UNSEEN; n], vec![0u32; n]);
    // Nodes below and with each in the tree of the search.
    let mut below = vec![1u32; n];
    let mut parts = vec![0u32; n];
    // A bridge, the nodes below it, the first node of its component.
    let mut bridges: Vec<(u32, u32, u32)> = vec![];
    // A node, its next neighbour, the edge it was reached by.
    let mut calls: Vec<(u32, u32, u32)> = vec![];
    let mut count = 0u32;
    let mut steps = Steps::new(ask);
    for start in 0..n as u32 {
        if seen_at[start as usize] != UNSEEN {
            continue;
        }
        calls.push((start, 0, UNSEEN));
        let mut roots = 0u32;
        while let Some((node, next, by)) = calls.last_mut() {
            let (at, by) = (*node as usize, *by);
            steps.step(1)?;
            if seen_at[at] == UNSEEN {
                seen_at[at] = count;
                low[at] = count;
                count += 1;
            }
            let place = *next as usize;
            if let Some(&other) = rows.of_node(at).get(place) {
                *next += 1;
                let edge = rows.edges_of(at)[place];
                // A parallel edge leads back as well; the edge itself does not.
                if edge != by && other as usize != at {
                    match seen_at[other as usize] {
                        UNSEEN => calls.push((other, 0, edge)),
                        seen => low[at] = low[at].min(seen),
                    }
                }
                continue;
            }
            calls.pop();
            let Some((above, ..)) = calls.last() else { continue };
            let above = *above as usize;
            low[above] = low[above].min(low[at]);
            below[above] += below[at];
            if low[at] > seen_at[above] {
                bridges.push((by, below[at], start));
            }
            if above == start as usize {
                roots += 1;
            } else if low[at] >= seen_at[above] {
                parts[above] += 1;
            }
        }
        parts[start as usize] = roots.saturating_sub(1);
    }
    bridges.sort_unstable();
    let cut_off = bridges.iter().map(|&(_, below_it, first)| below_it.min(below[first as usize] - below_it));
    Ok(Cuts { cut_off: cut_off.collect(), bridges: bridges.iter().map(|b| b.0).collect(), parts })
}
