//! Communities: parts with more edges inside than between. Edges are read both ways, by their weights.

mod level;

use hashbrown::HashMap;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;

use self::level::Level;
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
        let (moved, any) = level.moved(None, total, resolution, &mut random, &mut steps)?;
        if !any {
            return Ok(found(graph, &groups, resolution));
        }
        let (moved, count) = renumbered(&moved);
        groups.iter_mut().for_each(|group| *group = moved[*group as usize]);
        level = level.merged(&moved, count);
    }
}

/// As [`louvain`], with each community divided again, before communities are taken for nodes, into parts that hang together:
/// the parts become the nodes, and may part company later. No community falls into pieces without an edge between them.
///
/// Source: V. A. Traag, L. Waltman, N. J. van Eck, From Louvain to Leiden: guaranteeing well-connected communities, 2019.
/// About O(m log n), 24 bytes an edge.
pub fn leiden(graph: &Subgraph, resolution: f64, seed: u64, ask: Ask<'_>) -> Result<Communities, Stopped> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let mut steps = Steps::new(ask);
    let total: f64 = (0..graph.edge_count()).map(|e| graph.weight(e)).sum::<f64>() * 2.0;
    // By node of the graph its node of the level.
    let mut nodes: Vec<u32> = (0..graph.node_count() as u32).collect();
    if total <= 0.0 {
        return Ok(found(graph, &nodes, resolution));
    }
    let mut level = Level::first(graph);
    let mut groups: Vec<u32> = nodes.clone();
    loop {
        groups = level.moved(Some(&groups), total, resolution, &mut random, &mut steps)?.0;
        let (numbered, count) = renumbered(&groups);
        if count == level.len() {
            break;
        }
        let parts = level.refined(&numbered, total, resolution, &mut random, &mut steps)?;
        let (parts, part_count) = renumbered(&parts);
        if part_count == level.len() {
            // Nothing goes together that is tied well: the groups stay, each piece of them by itself.
            groups = level.pieces(&numbered);
            break;
        }
        let mut next = vec![0; part_count];
        parts.iter().zip(&numbered).for_each(|(part, group)| next[*part as usize] = *group);
        nodes.iter_mut().for_each(|node| *node = parts[*node as usize]);
        level = level.merged(&parts, part_count);
        groups = next;
    }
    let of_nodes: Vec<u32> = nodes.iter().map(|node| groups[*node as usize]).collect();
    Ok(found(graph, &of_nodes, resolution))
}
