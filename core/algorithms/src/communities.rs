//! Communities: parts with more edges inside than between. Edges are read both ways, by their weights.

use hashbrown::HashMap;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;

use crate::{Arcs, Ask, Steps, Stopped, Subgraph, renumbered};

#[derive(Clone, Debug, PartialEq)]
pub struct Communities {
    /// By node the number of its community, from 0 on in the order of their first nodes.
    pub of_nodes: Vec<u32>,
    pub count: usize,
    pub modularity: f64,
}

/// Each node takes, round after round in an order drawn from the seed, the label that weighs most among its
/// neighbours (the least of equals, its own if it is among them), until none changes.
///
/// Source: U. N. Raghavan, R. Albert, S. Kumara, Near linear time algorithm to detect community structures in
/// large-scale networks, 2007. O(m) a round, 8 bytes a node.
pub fn label_propagation(
    graph: &Subgraph, rounds: usize, seed: u64, ask: Ask<'_>,
) -> Result<Communities, Stopped> {
    let n = graph.node_count();
    let rows = graph.rows(Arcs::Both);
    let mut labels: Vec<u32> = (0..n as u32).collect();
    let mut order: Vec<u32> = (0..n as u32).collect();
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut weights: HashMap<u32, f64> = HashMap::new();
    let mut steps = Steps::new(ask);
    for round in 0..rounds {
        steps.done = round as f64 / rounds as f64;
        order.shuffle(&mut random);
        let mut changed = false;
        for &node in &order {
            let at = node as usize;
            steps.step(rows.degree(at) + 1)?;
            weights.clear();
            for (&other, &edge) in rows.of_node(at).iter().zip(rows.edges_of(at)) {
                if other != node {
                    *weights.entry(labels[other as usize]).or_default() += graph.weight(edge as usize);
                }
            }
            let Some(most) = weights.values().copied().reduce(f64::max) else { continue };
            if weights.get(&labels[at]).is_some_and(|own| *own >= most) {
                continue;
            }
            let heaviest = weights.iter().filter(|(_, w)| **w >= most).map(|(label, _)| *label);
            labels[at] = heaviest.min().unwrap_or(labels[at]);
            changed = true;
        }
        if !changed {
            break;
        }
    }
    Ok(found(graph, &labels, 1.0))
}

fn found(graph: &Subgraph, groups: &[u32], resolution: f64) -> Communities {
    let (of_nodes, count) = renumbered(groups);
    Communities { modularity: modularity(graph, &of_nodes, resolution), of_nodes, count }
}

/// The share of weight inside communities, less what would be expected there of edges laid at random.
///
/// Source: M. E. J. Newman and M. Girvan, Finding and evaluating community structure in networks, 2004; with a
/// resolution: J. Reichardt and S. Bornholdt, 2006.
pub fn modularity(graph: &Subgraph, communities: &[u32], resolution: f64) -> f64 {
    let groups = communities.iter().copied().max().map_or(0, |c| c as usize + 1);
    let (mut inside, mut at) = (vec![0.0; groups], vec![0.0; groups]);
    let mut total = 0.0;
    for edge in 0..graph.edge_count() {
        let ((a, b), weight) = (graph.ends(edge), graph.weight(edge));
        let (a, b) = (communities[a as usize] as usize, communities[b as usize] as usize);
        total += weight;
        at[a] += weight;
        at[b] += weight;
        if a == b {
            inside[a] += weight;
        }
    }
    if total <= 0.0 {
        return 0.0;
    }
    let part = |(inside, at): (&f64, &f64)| inside / total - resolution * (at / (2.0 * total)).powi(2);
    inside.iter().zip(&at).map(part).sum()
}

/// A graph of communities: neighbours with weights, loops apart.
struct Level {
    starts: Vec<usize>,
    arcs: Vec<(u32, f64)>,
    /// Twice the weight of edges within a node of this level.
    own: Vec<f64>,
}

impl Level {
    fn first(graph: &Subgraph) -> Level {
        let rows = graph.rows(Arcs::Both);
        let n = graph.node_count();
        let mut level = Level { starts: vec![0], arcs: vec![], own: vec![0.0; n] };
        for node in 0..n {
            for (&other, &edge) in rows.of_node(node).iter().zip(rows.edges_of(node)) {
                let weight = graph.weight(edge as usize);
                if other as usize == node {
                    level.own[node] += 2.0 * weight;
                    continue;
                }
                // Rows are sorted: parallel edges come one after the other.
                let begin = level.starts[node];
                match level.arcs[begin..].last_mut() {
                    Some(last) if last.0 == other => last.1 += weight,
                    _ => level.arcs.push((other, weight)),
                }
            }
            level.starts.push(level.arcs.len());
        }
        level
    }

    fn len(&self) -> usize {
        self.own.len()
    }

    fn row(&self, node: usize) -> &[(u32, f64)] {
        &self.arcs[self.starts[node]..self.starts[node + 1]]
    }

    fn degree(&self, node: usize) -> f64 {
        self.own[node] + self.row(node).iter().map(|(_, w)| w).sum::<f64>()
    }

    /// The level whose nodes are groups of this one.
    fn merged(&self, groups: &[u32], count: usize) -> Level {
        let mut members: Vec<Vec<u32>> = vec![vec![]; count];
        groups.iter().enumerate().for_each(|(node, group)| members[*group as usize].push(node as u32));
        let mut level = Level { starts: vec![0], arcs: vec![], own: vec![0.0; count] };
        let mut sums = vec![0.0; count];
        let mut seen: Vec<u32> = vec![];
        for (group, members) in members.iter().enumerate() {
            for &member in members {
                level.own[group] += self.own[member as usize];
                for &(other, weight) in self.row(member as usize) {
                    let to = groups[other as usize];
                    if to as usize == group {
                        level.own[group] += weight;
                    } else {
                        if sums[to as usize] == 0.0 {
                            seen.push(to);
                        }
                        sums[to as usize] += weight;
                    }
                }
            }
            seen.sort_unstable();
            seen.dedup();
            for to in seen.drain(..) {
                level.arcs.push((to, std::mem::take(&mut sums[to as usize])));
            }
            level.starts.push(level.arcs.len());
        }
        level
    }

    /// Moves nodes, in an order drawn, to the neighbouring group that gains most, until none gains. Groups by node,
    /// and whether any was moved.
    fn moved(
        &self, total: f64, resolution: f64, random: &mut ChaCha8Rng, steps: &mut Steps<'_>,
    ) -> Result<(Vec<u32>, bool), Stopped> {
        let n = self.len();
        let degrees: Vec<f64> = (0..n).map(|node| self.degree(node)).collect();
        let mut group: Vec<u32> = (0..n as u32).collect();
        let mut weight_of = degrees.clone();
        let mut order: Vec<u32> = (0..n as u32).collect();
        order.shuffle(random);
        let mut sums = vec![0.0; n];
        let mut seen: Vec<u32> = vec![];
        let mut any = false;
        // Nodes whose neighbours have moved are looked at again.
        let mut queue: std::collections::VecDeque<u32> = order.into();
        let mut waits = vec![true; n];
        while let Some(node) = queue.pop_front() {
            let at = node as usize;
            waits[at] = false;
            let row = self.row(at);
            steps.step(row.len() + 1)?;
            for &(other, weight) in row {
                let to = group[other as usize];
                if sums[to as usize] == 0.0 {
                    seen.push(to);
                }
                sums[to as usize] += weight;
            }
            let own = group[at];
            weight_of[own as usize] -= degrees[at];
            let gain =
                |to: u32| sums[to as usize] - resolution * degrees[at] * weight_of[to as usize] / total;
            let stays = gain(own);
            let best = seen.iter().map(|to| (gain(*to), *to)).reduce(|a, b| {
                let better = b.0 > a.0 || (b.0 == a.0 && b.1 < a.1);
                if better { b } else { a }
            });
            let goes = match best {
                Some((gained, to)) if gained > stays + 1e-12 * total => to,
                _ => own,
            };
            weight_of[goes as usize] += degrees[at];
            seen.drain(..).for_each(|to| sums[to as usize] = 0.0);
            if goes != own {
                group[at] = goes;
                any = true;
                for &(other, _) in row {
                    if group[other as usize] != goes && !waits[other as usize] {
                        waits[other as usize] = true;
                        queue.push_back(other);
                    }
                }
            }
        }
        Ok((group, any))
    }
}

/// Communities by moving nodes to where modularity gains most, and then communities as if they were nodes.
/// Weights must not be negative.
///
/// Source: V. D. Blondel, J.-L. Guillaume, R. Lambiotte, E. Lefebvre, Fast unfolding of communities in large
/// networks, 2008; only nodes whose neighbours have moved are looked at again. About O(m log n), 16 bytes an edge.
pub fn louvain(graph: &Subgraph, resolution: f64, seed: u64, ask: Ask<'_>) -> Result<Communities, Stopped> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut steps = Steps::new(ask);
    let total: f64 = (0..graph.edge_count()).map(|e| graph.weight(e)).sum::<f64>() * 2.0;
    let mut groups: Vec<u32> = (0..graph.node_count() as u32).collect();
    if total <= 0.0 {
        return Ok(found(graph, &groups, resolution));
    }
    let mut level = Level::first(graph);
    loop {
        let (moved, any) = level.moved(total, resolution, &mut random, &mut steps)?;
        if !any {
            return Ok(found(graph, &groups, resolution));
        }
        let (moved, count) = renumbered(&moved);
        groups.iter_mut().for_each(|group| *group = moved[*group as usize]);
        level = level.merged(&moved, count);
    }
}
