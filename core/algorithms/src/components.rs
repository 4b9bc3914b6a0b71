//! Weakly and strongly connected components.

use crate::{Arcs, Ask, Steps, Stopped, Subgraph, renumbered};

/// By node the number of its weak component, from 0 on in the order of their first nodes, and how many there are.
///
/// Source: R. E. Tarjan, Efficiency of a good but not linear set union algorithm, 1975, with halved paths.
/// O(n + m), 4 bytes a node.
pub fn weak_components(graph: &Subgraph, ask: Ask<'_>) -> Result<(Vec<u32>, usize), Stopped> {
    let n = graph.node_count();
    let mut parent: Vec<u32> = (0..n as u32).collect();
    let root = |parent: &mut [u32], mut node: u32| {
        while parent[node as usize] != node {
            let above = parent[parent[node as usize] as usize];
            parent[node as usize] = above;
            node = above;
        }
        node
    };
    let mut steps = Steps::new(ask);
    for edge in 0..graph.edge_count() {
        steps.step(1)?;
        let (a, b) = graph.ends(edge);
        let (a, b) = (root(&mut parent, a), root(&mut parent, b));
        // The smaller number stays above, so that a component is named by its first node.
        let (low, high) = (a.min(b), a.max(b));
        parent[high as usize] = low;
    }
    let groups: Vec<u32> = (0..n as u32).map(|node| root(&mut parent, node)).collect();
    Ok(renumbered(&groups))
}

/// By node the number of its strong component: all nodes of it can be reached from each other along edges as they
/// are read.
///
/// Source: R. E. Tarjan, Depth-first search and linear graph algorithms, 1972, with a stack of its own. O(n + m),
/// 20 bytes a node.
pub fn strong_components(graph: &Subgraph, ask: Ask<'_>) -> Result<(Vec<u32>, usize), Stopped> {
    const UNSEEN: u32 = u32::MAX;
    let n = graph.node_count();
    let rows = graph.rows(Arcs::Out);
    let (mut seen_at, mut low) = (vec![UNSEEN; n], vec![0u32; n]);
    let mut group = vec![UNSEEN; n];
    // Open nodes, and those that are gone through now with the next neighbour of each.
    let (mut open, mut calls): (Vec<u32>, Vec<(u32, u32)>) = (vec![], vec![]);
    let mut count = 0u32;
    let mut steps = Steps::new(ask);
    for start in 0..n as u32 {
        if seen_at[start as usize] != UNSEEN {
            continue;
        }
        calls.push((start, 0));
        while let Some((node, next)) = calls.last_mut() {
            let at = *node as usize;
            steps.step(1)?;
            if *next == 0 && seen_at[at] == UNSEEN {
                seen_at[at] = count;
                low[at] = count;
                count += 1;
                open.push(*node);
            }
            if let Some(&other) = rows.of_node(at).get(*next as usize) {
                *next += 1;
                let other_at = other as usize;
                if seen_at[other_at] == UNSEEN {
                    calls.push((other, 0));
                } else if group[other_at] == UNSEEN {
                    low[at] = low[at].min(seen_at[other_at]);
                }
                continue;
            }
            calls.pop();
            if let Some((above, _)) = calls.last() {
                low[*above as usize] = low[*above as usize].min(low[at]);
            }
            if low[at] == seen_at[at] {
                while let Some(member) = open.pop() {
                    group[member as usize] = at as u32;
                    if member as usize == at {
                        break;
                    }
                }
            }
        }
    }
    Ok(renumbered(&group))
}
