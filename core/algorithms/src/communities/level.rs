//! Levels of a division: nodes, then communities as if they were nodes.

use rand::Rng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;

use crate::{Arcs, Steps, Stopped, Subgraph};

/// A graph of communities: neighbours with weights, loops apart.
pub(super) struct Level {
    starts: Vec<usize>,
    arcs: Vec<(u32, f64)>,
    /// Twice the weight of edges within a node of this level.
    own: Vec<f64>,
}

impl Level {
    pub fn first(graph: &Subgraph) -> Level {
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

    pub fn len(&self) -> usize {
        self.own.len()
    }

    pub fn row(&self, node: usize) -> &[(u32, f64)] {
        &self.arcs[self.starts[node]..self.starts[node + 1]]
    }

    pub fn degree(&self, node: usize) -> f64 {
        self.own[node] + self.row(node).iter().map(|(_, w)| w).sum::<f64>()
    }

    /// The level whose nodes are groups of this one.
    pub fn merged(&self, groups: &[u32], count: usize) -> Level {
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

    /// Moves nodes, in an order drawn, to the neighbouring group that gains most, until none gains; where they begin in
    /// groups, also out of them, to be alone. Groups by node, and whether any was moved.
    pub fn moved(
        &self, start: Option<&[u32]>, total: f64, resolution: f64, random: &mut ChaCha8Rng,
        steps: &mut Steps<'_>,
    ) -> Result<(Vec<u32>, bool), Stopped> {
        let n = self.len();
        let degrees: Vec<f64> = (0..n).map(|node| self.degree(node)).collect();
        let mut group: Vec<u32> = start.map_or_else(|| (0..n as u32).collect(), <[u32]>::to_vec);
        let (mut weight_of, mut members) = (vec![0.0; n], vec![0u32; n]);
        for (node, own) in group.iter().enumerate() {
            weight_of[*own as usize] += degrees[node];
            members[*own as usize] += 1;
        }
        let mut empty: Vec<u32> = (0..n as u32).filter(|g| members[*g as usize] == 0).collect();
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
            let best = best.filter(|(gained, _)| *gained > 0.0 || empty.is_empty()).or_else(|| {
                // Alone it gains nothing and loses nothing.
                empty.last().map(|to| (0.0, *to))
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
                if empty.last() == Some(&goes) {
                    empty.pop();
                }
                (members[own as usize], members[goes as usize]) =
                    (members[own as usize] - 1, members[goes as usize] + 1);
                if members[own as usize] == 0 && start.is_some() {
                    empty.push(own);
                }
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

    /// The groups with each of their pieces that no edge joins to the others by itself.
    pub fn pieces(&self, groups: &[u32]) -> Vec<u32> {
        let mut piece = vec![u32::MAX; self.len()];
        let mut open = vec![];
        for first in 0..self.len() {
            if piece[first] != u32::MAX {
                continue;
            }
            piece[first] = first as u32;
            open.push(first);
            while let Some(node) = open.pop() {
                for &(other, _) in self.row(node) {
                    let other = other as usize;
                    if piece[other] == u32::MAX && groups[other] == groups[node] {
                        piece[other] = first as u32;
                        open.push(other);
                    }
                }
            }
        }
        piece
    }

    /// Divides each group into parts that hang together and are tied to the rest of it: nodes alone join, in an order drawn,
    /// one of the parts beside them that lose nothing by it, mostly one that gains most. Parts by node.
    pub fn refined(
        &self, groups: &[u32], total: f64, resolution: f64, random: &mut ChaCha8Rng, steps: &mut Steps<'_>,
    ) -> Result<Vec<u32>, Stopped> {
        let n = self.len();
        let degrees: Vec<f64> = (0..n).map(|node| self.degree(node)).collect();
        let mut whole = vec![0.0; n];
        groups.iter().enumerate().for_each(|(node, group)| whole[*group as usize] += degrees[node]);
        let within = |node: usize| {
            let inside = self.row(node).iter().filter(|(other, _)| groups[*other as usize] == groups[node]);
            inside.map(|(_, weight)| weight).sum::<f64>()
        };
        let mut part: Vec<u32> = (0..n as u32).collect();
        // By part: its weight, and that of its edges to the rest of its group.
        let (mut weight_of, mut tied) = (degrees.clone(), (0..n).map(within).collect::<Vec<f64>>());
        let mut alone = vec![true; n];
        let is_tied = |part: usize, group: u32, weight_of: &[f64], tied: &[f64]| {
            let rest = whole[group as usize] - weight_of[part];
            tied[part] >= resolution * weight_of[part] * rest / total - 1e-12 * total
        };
        let mut order: Vec<u32> = (0..n as u32).collect();
        order.shuffle(random);
        let mut sums = vec![0.0; n];
        let mut seen: Vec<u32> = vec![];
        for node in order {
            let at = node as usize;
            let row = self.row(at);
            steps.step(row.len() + 1)?;
            if !alone[at] || !is_tied(at, groups[at], &weight_of, &tied) {
                continue;
            }
            for &(other, weight) in row.iter().filter(|(other, _)| groups[*other as usize] == groups[at]) {
                let to = part[other as usize];
                if sums[to as usize] == 0.0 {
                    seen.push(to);
                }
                sums[to as usize] += weight;
            }
            let gains: Vec<(u32, f64)> = seen
                .iter()
                .filter(|to| is_tied(**to as usize, groups[at], &weight_of, &tied))
                .map(|to| {
                    let place = *to as usize;
                    (*to, sums[place] - resolution * degrees[at] * weight_of[place] / total)
                })
                .filter(|(_, gain)| *gain >= 0.0)
                .collect();
            if let Some(to) = drawn(&gains, degrees[at] / row.len().max(1) as f64, random) {
                let place = to as usize;
                part[at] = to;
                tied[place] += tied[at] - 2.0 * sums[place];
                weight_of[place] += degrees[at];
                (alone[at], alone[place]) = (false, false);
            }
            seen.drain(..).for_each(|to| sums[to as usize] = 0.0);
        }
        Ok(part)
    }
}

/// How freely one is drawn that gains less than the best, as a share of the weight of a usual edge.
const FREEDOM: f64 = 0.05;

/// One of these, with a chance that falls off with what it gains less than the best.
fn drawn(gains: &[(u32, f64)], usual: f64, random: &mut ChaCha8Rng) -> Option<u32> {
    let best = gains.iter().map(|(_, gain)| *gain).reduce(f64::max)?;
    let chance = |gain: f64| ((gain - best) / (FREEDOM * usual).max(f64::MIN_POSITIVE)).exp();
    let mut left = random.random::<f64>() * gains.iter().map(|(_, gain)| chance(*gain)).sum::<f64>();
    for (to, gain) in gains {
        left -= chance(*gain);
        if left <= 0.0 {
            return Some(*to);
        }
    }
    gains.last().map(|(to, _)| *to)
}
