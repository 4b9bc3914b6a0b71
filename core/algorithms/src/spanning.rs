//! The least edges that hold everything together.

use crate::{Ask, Steps, Stopped, Subgraph};

/// The edges of a minimum spanning forest, in order: of equal weights those of lower numbers. Edges are read both
/// ways.
///
/// Source: J. B. Kruskal, On the shortest spanning subtree of a graph, 1956. O(m log m), 4 bytes an edge and node.
pub fn spanning_forest(graph: &Subgraph, ask: Ask<'_>) -> Result<Vec<u32>, Stopped> {
    let mut edges: Vec<u32> = (0..graph.edge_count() as u32).collect();
    edges.sort_by(|a, b| graph.weight(*a as usize).total_cmp(&graph.weight(*b as usize)));
    let mut parent: Vec<u32> = (0..graph.node_count() as u32).collect();
    let mut root = |mut node: u32, join: Option<u32>| {
        while parent[node as usize] != node {
            let above = parent[parent[node as usize] as usize];
            parent[node as usize] = above;
            node = above;
        }
        if let Some(above) = join {
            parent[node as usize] = above;
        }
        node
    };
    let mut steps = Steps::new(ask);
    let mut kept = vec![];
    for edge in edges {
        steps.step(1)?;
        let (a, b) = graph.ends(edge as usize);
        let (a, b) = (root(a, None), root(b, None));
        if a != b {
            root(a, Some(b));
            kept.push(edge);
        }
    }
    kept.sort_unstable();
    Ok(kept)
}
