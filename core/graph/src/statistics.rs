//! What the planner knows about a base: counts, degrees, distinct values. Collected once per base,
//! columns from a sample of at most [`SAMPLE`] rows.

use std::collections::HashMap;
use std::sync::Arc;

use rayon::prelude::*;

use crate::{Adjacency, Base, Column, Dense, Value};

/// Rows of a column that are looked at.
const SAMPLE: usize = 16_384;
/// Equi-depth buckets of a histogram.
const BUCKETS: usize = 32;

/// How many edges of one table run from one node table to another.
#[derive(Clone, Debug, PartialEq)]
pub struct Triple {
    pub from: usize,
    pub edge: usize,
    pub to: usize,
    pub count: u64,
}

/// Degrees of the nodes that have at least one edge of a table in a direction.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct DegreeStatistics {
    pub nodes: u64,
    pub mean: f64,
    pub median: u32,
    pub p90: u32,
    pub p99: u32,
    pub largest: u32,
    pub largest_node: Dense,
}

#[derive(Clone, Debug, PartialEq)]
pub struct ColumnStatistics {
    pub rows: u64,
    pub nulls: u64,
    /// Estimated number of distinct values.
    pub distinct: u64,
    /// Bounds of equally full buckets, least and greatest included; empty where all is null.
    pub bounds: Vec<Value>,
}

#[derive(Clone, Debug, Default)]
pub struct Statistics {
    pub triples: Vec<Triple>,
    /// Per edge table: out, in.
    pub degrees: Vec<(DegreeStatistics, DegreeStatistics)>,
    /// Per node table, per column name.
    pub node_columns: Vec<HashMap<Arc<str>, ColumnStatistics>>,
    pub edge_columns: Vec<HashMap<Arc<str>, ColumnStatistics>>,
}

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

impl DegreeStatistics {
    fn of_sources(forward: &Adjacency) -> DegreeStatistics {
        DegreeStatistics::of(forward.owners().map(|node| (node, forward.row(node).len() as u32)))
    }

    /// Counted here: the reverse rows may not be there.
    fn of_targets(forward: &Adjacency) -> DegreeStatistics {
        let targets = forward.all_neighbours();
        let (low, high) = targets.iter().fold((Dense::MAX, 0), |(low, high), t| (low.min(*t), high.max(*t)));
        let mut degrees = vec![0u32; (high + 1).saturating_sub(low) as usize];
        targets.iter().for_each(|target| degrees[(target - low) as usize] += 1);
        DegreeStatistics::of((low..=high).zip(degrees))
    }

    fn of(degrees: impl Iterator<Item = (Dense, u32)>) -> DegreeStatistics {
        let mut counts: Vec<u32> = vec![];
        let mut edges = 0u64;
        let mut stats = DegreeStatistics::default();
        for (node, degree) in degrees {
            if degree == 0 {
                continue;
            }
            if degree > stats.largest {
                stats.largest = degree;
                stats.largest_node = node;
            }
            stats.nodes += 1;
            edges += u64::from(degree);
            let bucket = degree.min(65_535) as usize;
            if counts.len() <= bucket {
                counts.resize(bucket + 1, 0);
            }
            counts[bucket] += 1;
        }
        if stats.nodes == 0 {
            return stats;
        }
        stats.mean = edges as f64 / stats.nodes as f64;
        let quantile = |share: f64| {
            let wanted = (stats.nodes as f64 * share).ceil() as u64;
            let mut seen = 0u64;
            counts.iter().position(|&n| {
                seen += n as u64;
                seen >= wanted
            })
        };
        stats.median = quantile(0.5).unwrap_or(0) as u32;
        stats.p90 = quantile(0.9).unwrap_or(0) as u32;
        stats.p99 = quantile(0.99).unwrap_or(0) as u32;
        stats
    }
}

impl ColumnStatistics {
    fn of(column: &Column) -> ColumnStatistics {
        let rows = column.len();
        let step = rows.div_ceil(SAMPLE).max(1);
        let mut sample: Vec<Value> = (0..rows).step_by(step).map(|row| column.value(row)).collect();
        let looked = sample.len().max(1);
        sample.retain(|v| !v.is_null());
        let nulls = rows as u64 - (rows as u64 * sample.len() as u64) / looked as u64;
        sample.sort_by(Value::order);
        let mut distinct = 0u64;
        let mut once = 0u64;
        let mut start = 0;
        while start < sample.len() {
            let end = start + sample[start..].partition_point(|v| *v == sample[start]);
            let end = end.max(start + 1);
            distinct += 1;
            once += (end - start == 1) as u64;
            start = end;
        }
        // Values seen once are taken to be as rare in the rest of the column (first-order estimate
        // of Haas et al. 1995, "Sampling-based estimation of the number of distinct values").
        let filled = (rows as u64 - nulls).max(1);
        let seen = sample.len() as u64;
        let estimate = if seen == 0 || seen >= filled {
            distinct
        } else {
            let unseen = once as f64 / seen as f64;
            let grown = distinct as f64 / (1.0 - (1.0 - seen as f64 / filled as f64) * unseen).max(1e-9);
            (grown as u64).clamp(distinct, filled)
        };
        let bounds = match sample.len() {
            0 => vec![],
            n => {
                let buckets = BUCKETS.min(n);
                (0..=buckets).map(|b| sample[(b * (n - 1)) / buckets].clone()).collect()
            }
        };
        ColumnStatistics { rows: rows as u64, nulls, distinct: estimate, bounds }
    }

    /// Share of the rows that equal `value` (or an unknown value).
    pub fn equal_share(&self, value: Option<&Value>) -> f64 {
        if self.rows == 0 || self.distinct == 0 {
            return 0.0;
        }
        if let (Some(value), Some(low), Some(high)) = (value, self.bounds.first(), self.bounds.last())
            && (value.order(low).is_lt() || value.order(high).is_gt())
            && self.rows <= SAMPLE as u64
        {
            return 0.0;
        }
        (self.rows - self.nulls) as f64 / self.rows as f64 / self.distinct as f64
    }

    /// Share of the rows less than `value`, from the histogram.
    pub fn less_share(&self, value: &Value) -> f64 {
        if self.bounds.len() < 2 || self.rows == 0 {
            return 0.33;
        }
        let below = self.bounds.partition_point(|b| b.order(value).is_lt());
        let within = below as f64 / self.bounds.len() as f64;
        within * (self.rows - self.nulls) as f64 / self.rows as f64
    }
}
