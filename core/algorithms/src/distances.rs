//! Distances from one node: by hops, or by weights.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use crate::{Arcs, Ask, Steps, Stopped, Subgraph};

/// Least distances from one node, and in which order nodes were reached.
#[derive(Clone, Debug, Default)]
pub struct Distances {
    /// Infinite where there is no way.
    pub to: Vec<f64>,
    /// Nodes with a way, nearest first.
    pub reached: Vec<u32>,
}

#[derive(Clone, Copy, PartialEq)]
struct Far(f64);

impl Eq for Far {}

impl PartialOrd for Far {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Far {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.0.total_cmp(&other.0)
    }
}

impl Distances {
    pub fn for_nodes(nodes: usize) -> Distances {
        Distances { to: vec![f64::INFINITY; nodes], reached: vec![] }
    }

    fn clear(&mut self) {
        self.reached.drain(..).for_each(|node| self.to[node as usize] = f64::INFINITY);
    }

    fn by_hops(
        &mut self, graph: &Subgraph, arcs: Arcs, from: u32, steps: &mut Steps<'_>,
    ) -> Result<(), Stopped> {
        let rows = graph.rows(arcs);
        self.to[from as usize] = 0.0;
        self.reached.push(from);
        let mut next = 0;
        while next < self.reached.len() {
            let node = self.reached[next] as usize;
            next += 1;
            let far = self.to[node] + 1.0;
            let neighbours = rows.of_node(node);
            steps.step(neighbours.len() + 1)?;
            for &neighbour in neighbours {
                if self.to[neighbour as usize] == f64::INFINITY {
                    self.to[neighbour as usize] = far;
                    self.reached.push(neighbour);
                }
            }
        }
        Ok(())
    }

    fn by_weights(
        &mut self, graph: &Subgraph, arcs: Arcs, from: u32, steps: &mut Steps<'_>,
    ) -> Result<(), Stopped> {
        let rows = graph.rows(arcs);
        // A node that was put in again with less is passed over when its greater distance comes up.
        let mut heap = BinaryHeap::from([Reverse((Far(0.0), from))]);
        self.to[from as usize] = 0.0;
        while let Some(Reverse((Far(far), node))) = heap.pop() {
            if far > self.to[node as usize] {
                continue;
            }
            self.reached.push(node);
            let edges = rows.edges_of(node as usize);
            steps.step(edges.len() + 1)?;
            for (&neighbour, &edge) in rows.of_node(node as usize).iter().zip(edges) {
                let through = far + graph.weight(edge as usize);
                let known = &mut self.to[neighbour as usize];
                if through < *known {
                    *known = through;
                    heap.push(Reverse((Far(through), neighbour)));
                }
            }
        }
        Ok(())
    }

    /// Searches anew from `from`, by weights where the graph has them.
    pub(crate) fn search(
        &mut self, graph: &Subgraph, arcs: Arcs, from: u32, steps: &mut Steps<'_>,
    ) -> Result<(), Stopped> {
        self.clear();
        if graph.has_weights() {
            self.by_weights(graph, arcs, from, steps)
        } else {
            self.by_hops(graph, arcs, from, steps)
        }
    }
}

/// Least distances from a node along `arcs`: hops, or sums of weights, none of which may be negative.
///
/// Source: breadth-first search; E. W. Dijkstra, A note on two problems in connexion with graphs, 1959.
/// O(m), with weights O(m log n); 12 bytes a node.
pub fn distances(graph: &Subgraph, arcs: Arcs, from: u32, ask: Ask<'_>) -> Result<Distances, Stopped> {
    let mut found = Distances::for_nodes(graph.node_count());
    found.search(graph, arcs, from, &mut Steps::new(ask))?;
    Ok(found)
}
