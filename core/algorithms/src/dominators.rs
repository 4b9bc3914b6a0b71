//! Dominators: what every way from a root to a node leads through.

use crate::{Arcs, Ask, Steps, Stopped, Subgraph};

/// By node its immediate dominator: the nearest other node that every way from `root` to it leads through. `None`
/// for the root and for what cannot be reached from it.
///
/// Source: K. D. Cooper, T. J. Harvey, K. Kennedy, A simple, fast dominance algorithm, 2001. O(n + m) on most
/// graphs, O(n m) at worst; 16 bytes a node.
pub fn dominators(graph: &Subgraph, root: u32, ask: Ask<'_>) -> Result<Vec<Option<u32>>, Stopped> {
    const NONE: u32 = u32::MAX;
    let n = graph.node_count();
    let (out, into) = (graph.rows(Arcs::Out), graph.rows(Arcs::In));
    // Nodes by the order in which the search leaves them.
    let (mut order, mut number) = (vec![], vec![NONE; n]);
    let mut seen = vec![false; n];
    let mut calls = vec![(root, 0u32)];
    let mut steps = Steps::new(ask);
    seen[root as usize] = true;
    while let Some((node, next)) = calls.last_mut() {
        steps.step(1)?;
        match out.of_node(*node as usize).get(*next as usize) {
            Some(&other) => {
                *next += 1;
                if !std::mem::replace(&mut seen[other as usize], true) {
                    calls.push((other, 0));
                }
            }
            None => {
                number[*node as usize] = order.len() as u32;
                order.push(*node);
                calls.pop();
            }
        }
    }
    let mut above = vec![NONE; n];
    above[root as usize] = root;
    let meet = |above: &[u32], mut a: u32, mut b: u32| {
        while a != b {
            while number[a as usize] < number[b as usize] {
                a = above[a as usize];
            }
            while number[b as usize] < number[a as usize] {
                b = above[b as usize];
            }
        }
        a
    };
    let mut changed = true;
    while changed {
        changed = false;
        for &node in order.iter().rev().filter(|node| **node != root) {
            let before = into.of_node(node as usize);
            steps.step(before.len() + 1)?;
            let known = before.iter().copied().filter(|b| above[*b as usize] != NONE);
            let Some(new) = known.reduce(|a, b| meet(&above, a, b)) else { continue };
            if above[node as usize] != new {
                above[node as usize] = new;
                changed = true;
            }
        }
    }
    let of = |(node, above): (usize, u32)| (node != root as usize && above != NONE).then_some(above);
    Ok(above.into_iter().enumerate().map(of).collect())
}
