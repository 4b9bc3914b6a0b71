//! Maximum flow and minimum cut between two nodes; weights are capacities.

use std::collections::VecDeque;

use crate::{Ask, Steps, Stopped, Subgraph};

#[derive(Clone, Debug, PartialEq)]
pub struct Flow {
    pub value: f64,
    /// By edge what flows through it: against its reading where negative, which only an edge that is read both ways
    /// allows.
    pub through: Vec<f64>,
    /// Whether a node is on the source's side of a minimum cut.
    pub on_source_side: Vec<bool>,
    /// The edges that lead from that side to the other.
    pub cut: Vec<u32>,
}

/// Arcs in pairs: each with its way back.
struct Network {
    starts: Vec<u32>,
    arcs: Vec<u32>,
    to: Vec<u32>,
    left: Vec<f64>,
}

impl Network {
    fn of(graph: &Subgraph) -> Network {
        let n = graph.node_count();
        let m = graph.edge_count();
        let (mut to, mut left) = (Vec::with_capacity(2 * m), Vec::with_capacity(2 * m));
        let mut starts = vec![0u32; n + 1];
        for edge in 0..m {
            let ((a, b), capacity) = (graph.ends(edge), graph.weight(edge));
            to.extend([b, a]);
            left.extend([capacity, if graph.is_both_ways(edge) { capacity } else { 0.0 }]);
            starts[a as usize + 1] += 1;
            starts[b as usize + 1] += 1;
        }
        for i in 0..n {
            starts[i + 1] += starts[i];
        }
        let mut next = starts.clone();
        let mut arcs = vec![0u32; 2 * m];
        for arc in 0..2 * m {
            let from = to[arc ^ 1] as usize;
            arcs[next[from] as usize] = arc as u32;
            next[from] += 1;
        }
        Network { starts, arcs, to, left }
    }

    fn arcs(&self, node: usize) -> &[u32] {
        &self.arcs[self.starts[node] as usize..self.starts[node + 1] as usize]
    }

    /// Edges from the source by arcs that have room, up to the target.
    fn levels(
        &self, source: u32, target: u32, level: &mut [u32], steps: &mut Steps<'_>,
    ) -> Result<bool, Stopped> {
        level.fill(u32::MAX);
        level[source as usize] = 0;
        let mut queue = VecDeque::from([source]);
        while let Some(node) = queue.pop_front() {
            if node == target {
                return Ok(true);
            }
            let arcs = self.arcs(node as usize);
            steps.step(arcs.len() + 1)?;
            for &arc in arcs {
                let to = self.to[arc as usize] as usize;
                if self.left[arc as usize] > 0.0 && level[to] == u32::MAX {
                    level[to] = level[node as usize] + 1;
                    queue.push_back(to as u32);
                }
            }
        }
        Ok(false)
    }

    /// Sends what goes along ways that descend a level at each arc.
    fn send(
        &mut self, source: u32, target: u32, level: &[u32], steps: &mut Steps<'_>,
    ) -> Result<f64, Stopped> {
        let mut next: Vec<u32> = self.starts[..level.len()].to_vec();
        let mut sent = 0.0;
        let mut way: Vec<u32> = vec![];
        let mut node = source as usize;
        loop {
            steps.step(1)?;
            if node == target as usize {
                let room = way.iter().map(|arc| self.left[*arc as usize]).fold(f64::INFINITY, f64::min);
                sent += room;
                let mut full = way.len();
                for (i, &arc) in way.iter().enumerate().rev() {
                    self.left[arc as usize] -= room;
                    self.left[arc as usize ^ 1] += room;
                    if self.left[arc as usize] <= 0.0 {
                        full = i;
                    }
                }
                // On from where the first arc is full.
                node = self.to[way[full] as usize ^ 1] as usize;
                way.truncate(full);
                continue;
            }
            let onward = (next[node]..self.starts[node + 1]).find(|place| {
                let arc = self.arcs[*place as usize] as usize;
                self.left[arc] > 0.0 && level[self.to[arc] as usize] == level[node].wrapping_add(1)
            });
            match onward {
                Some(place) => {
                    next[node] = place;
                    let arc = self.arcs[place as usize];
                    way.push(arc);
                    node = self.to[arc as usize] as usize;
                }
                None => {
                    next[node] = self.starts[node + 1];
                    let Some(arc) = way.pop() else { return Ok(sent) };
                    node = self.to[arc as usize ^ 1] as usize;
                    next[node] += 1;
                }
            }
        }
    }
}

/// The most that can flow from `source` to `target` along edges as they are read.
///
/// Source: E. A. Dinic, Algorithm for solution of a problem of maximum flow in networks with power estimation, 1970;
/// the cut by L. R. Ford and D. R. Fulkerson, 1956. O(n² m) at worst, far less on most graphs; 24 bytes an edge.
pub fn maximum_flow(graph: &Subgraph, source: u32, target: u32, ask: Ask<'_>) -> Result<Flow, Stopped> {
    if source == target {
        return Err(Stopped::NoAnswer("a flow needs two different nodes".into()));
    }
    if let Some(weight) =
        (0..graph.edge_count()).map(|e| graph.weight(e)).find(|w| *w < 0.0 || !w.is_finite())
    {
        return Err(Stopped::NoAnswer(format!("a capacity is {weight}: it must be a number from 0 on")));
    }
    let mut network = Network::of(graph);
    let mut steps = Steps::new(ask);
    let mut level = vec![0; graph.node_count()];
    let mut value = 0.0;
    while network.levels(source, target, &mut level, &mut steps)? {
        value += network.send(source, target, &level, &mut steps)?;
    }
    let on_source_side: Vec<bool> = level.iter().map(|level| *level != u32::MAX).collect();
    let mut cut = vec![];
    let through = (0..graph.edge_count()).map(|edge| {
        let (a, b) = graph.ends(edge);
        let (a, b) = (on_source_side[a as usize], on_source_side[b as usize]);
        if a && !b || b && !a && graph.is_both_ways(edge) {
            cut.push(edge as u32);
        }
        graph.weight(edge) - network.left[2 * edge]
    });
    let through = through.collect();
    Ok(Flow { value, through, on_source_side, cut })
}
