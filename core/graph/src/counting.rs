//! Counting what the planner knows about a base: all of a new one, and the new tables of one that continues another.

use std::collections::HashMap;
use std::sync::Arc;

use rayon::prelude::*;

use crate::{Base, Column, ColumnStatistics, DegreeStatistics, Dense, EdgeEnd, Statistics, Triple};

impl Statistics {
    /// Of a base that continues another: only the tables it adds are looked at.
    pub(crate) fn extended(before: &Base, base: &Base) -> Statistics {
        let columns = |columns: &[(Arc<str>, Column)]| {
            columns.par_iter().map(|(name, c)| (name.clone(), ColumnStatistics::of(c))).collect()
        };
        let mut statistics = (*before.statistics).clone();
        let (nodes, edges) = (&base.nodes[before.nodes.len()..], &base.edges[before.edges.len()..]);
        let triples = (before.edges.len()..base.edges.len()).into_par_iter();
        statistics.triples.par_extend(triples.flat_map_iter(|edge| triples_of(base, edge)));
        let degrees = edges.par_iter();
        statistics.degrees.par_extend(
            degrees.map(|t| {
                (DegreeStatistics::of_sources(&t.forward), DegreeStatistics::of_targets(&t.forward))
            }),
        );
        // Of a base that continues another those of its new tables stay unknown until it is folded.
        if before.edges.is_empty() {
            statistics.meetings = meetings(base);
        }
        statistics.node_columns.extend(nodes.iter().map(|t| columns(&t.columns)));
        statistics.edge_columns.extend(edges.iter().map(|t| columns(&t.columns)));
        statistics
    }
}

fn triples_of(base: &Base, edge: usize) -> Vec<Triple> {
    let table = &base.edges[edge];
    let kinds = base.nodes.len();
    if kinds == 1 {
        return vec![Triple { from: 0, edge, to: 0, count: table.len as u64 }];
    }
    let mut counts = vec![0u64; kinds * kinds];
    for source in table.forward.owners() {
        let targets = table.forward.neighbours(source);
        if targets.is_empty() {
            continue;
        }
        let from = base.node_table(source);
        // Targets are sorted, so that they run through the node tables in order.
        let mut rest = targets;
        while let Some(&target) = rest.first() {
            let to = base.node_table(target);
            let end = base.nodes[to].first + base.nodes[to].len as Dense;
            let within = rest.partition_point(|&t| t < end);
            counts[from * kinds + to] += within as u64;
            rest = &rest[within..];
        }
    }
    (0..counts.len())
        .filter(|&i| counts[i] > 0)
        .map(|i| Triple { from: i / kinds, edge, to: i % kinds, count: counts[i] })
        .collect()
}

/// Degrees that are held at once to count meetings.
const MOST_DEGREES: usize = 48 << 20;

/// Edge tables between whose ends meetings are counted.
const MOST_TABLES: usize = 64;

/// Nodes whose meetings are counted at once.
const NODES_AT_ONCE: usize = 1 << 14;

/// Pairs of edges that meet at a node, by the tables and ends that they meet with.
fn meetings(base: &Base) -> HashMap<(EdgeEnd, EdgeEnd), f64> {
    let (tables, nodes) = (base.edges.len(), base.node_count() as usize);
    if tables == 0 || tables > MOST_TABLES || 2 * tables * nodes > MOST_DEGREES {
        return HashMap::new();
    }
    // By end, then by node: sources first, then targets.
    let mut degrees = vec![vec![0u32; nodes]; 2 * tables];
    degrees.par_iter_mut().enumerate().for_each(|(end, degrees)| {
        let forward = &base.edges[end / 2].forward;
        match end % 2 {
            0 => forward.owners().for_each(|node| degrees[node as usize] = forward.row(node).len() as u32),
            _ => forward.all_neighbours().iter().for_each(|target| degrees[*target as usize] += 1),
        }
    });
    let ends = 2 * tables;
    let sums = (0..nodes).into_par_iter().step_by(NODES_AT_ONCE).map(|first| {
        let mut sums = vec![0.0; ends * ends];
        let mut here: Vec<(usize, f64)> = vec![];
        let meet = |node: usize| {
            here.clear();
            here.extend((0..ends).map(|end| (end, f64::from(degrees[end][node]))).filter(|(_, d)| *d > 0.0));
            for &(a, of_a) in &here {
                here.iter().for_each(|&(b, of_b)| sums[a * ends + b] += of_a * of_b);
            }
        };
        (first..nodes.min(first + NODES_AT_ONCE)).for_each(meet);
        sums
    });
    let add = |mut a: Vec<f64>, b: Vec<f64>| {
        a.iter_mut().zip(b).for_each(|(a, b)| *a += b);
        a
    };
    let sums = sums.reduce(|| vec![0.0; ends * ends], add);
    let end = |at: usize| (at / 2, at.is_multiple_of(2));
    let met = sums.into_iter().enumerate().filter(|(_, sum)| *sum > 0.0);
    met.map(|(at, sum)| ((end(at / ends), end(at % ends)), sum)).collect()
}
