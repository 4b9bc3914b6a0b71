//! Statistics of a base for the planner: counts, degrees, distinct values. Computed once for each base, columns
//! from a sample of at most [`SAMPLE`] rows.

use std::collections::HashMap;
use std::sync::Arc;

use crate::{Adjacency, Column, Dense, Value};

/// Rows of a column that are looked at.
const SAMPLE: usize = 16_384;
/// Equi-depth buckets of a histogram.
const BUCKETS: usize = 32;
/// Values whose shares are kept by themselves.
const COMMON: usize = 16;
/// How many times as often as the mean such a value comes at least.
const MORE_OFTEN: f64 = 1.25;

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
    /// Values that come more often than others, the most frequent first, each with its share of all rows.
    pub common: Vec<(Value, f64)>,
}

/// One of the two ends of the edges of a table: `(table, whether it is the source)`.
pub type EdgeEnd = (usize, bool);

#[derive(Clone, Debug, Default)]
pub struct Statistics {
    pub triples: Vec<Triple>,
    /// By two ends of edge tables: how many pairs of edges meet there at a node. Where nodes with many edges of the
    /// one have many of the other, that is far more than the means say. Only those that meet at all; none where there
    /// are too many tables and nodes to count them.
    pub meetings: HashMap<(EdgeEnd, EdgeEnd), f64>,
    /// Per edge table: out, in.
    pub degrees: Vec<(DegreeStatistics, DegreeStatistics)>,
    /// Per node table, per column name.
    pub node_columns: Vec<HashMap<Arc<str>, ColumnStatistics>>,
    pub edge_columns: Vec<HashMap<Arc<str>, ColumnStatistics>>,
}

impl DegreeStatistics {
    pub(crate) fn of_sources(forward: &Adjacency) -> DegreeStatistics {
        DegreeStatistics::of(forward.owners().map(|node| (node, forward.row(node).len() as u32)))
    }

    /// Counted here: the reverse rows may not be there.
    pub(crate) fn of_targets(forward: &Adjacency) -> DegreeStatistics {
        let targets = forward.all_neighbours();
        let (low, high) = targets.iter().fold((Dense::MAX, 0), |(low, high), t| (low.min(*t), high.max(*t)));
        let mut degrees = vec![0u32; (high + 1).saturating_sub(low) as usize];
        targets.iter().for_each(|target| degrees[(target - low) as usize] += 1);
        DegreeStatistics::of((low..=high).zip(degrees))
    }

    pub(crate) fn of(degrees: impl Iterator<Item = (Dense, u32)>) -> DegreeStatistics {
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
    pub(crate) fn of(column: &Column) -> ColumnStatistics {
        let rows = column.len();
        let step = rows.div_ceil(SAMPLE).max(1);
        let mut sample: Vec<Value> = (0..rows).step_by(step).map(|row| column.value(row)).collect();
        let looked = sample.len().max(1);
        sample.retain(|v| !v.is_null());
        let nulls = rows as u64 - (rows as u64 * sample.len() as u64) / looked as u64;
        sample.sort_by(Value::order);
        let mut distinct = 0u64;
        let mut once = 0u64;
        let mut runs: Vec<(usize, usize)> = vec![];
        let mut start = 0;
        while start < sample.len() {
            let end = start + sample[start..].partition_point(|v| *v == sample[start]);
            let end = end.max(start + 1);
            distinct += 1;
            once += (end - start == 1) as u64;
            if end - start > 1 {
                runs.push((end - start, start));
            }
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
        let mean = seen as f64 / (distinct as f64).max(1.0);
        runs.retain(|(count, _)| *count as f64 >= mean * MORE_OFTEN);
        runs.sort_by_key(|(count, first)| (std::cmp::Reverse(*count), *first));
        runs.truncate(COMMON);
        let share = |count: usize| count as f64 / looked as f64;
        let common = runs.into_iter().map(|(count, first)| (sample[first].clone(), share(count))).collect();
        ColumnStatistics { rows: rows as u64, nulls, distinct: estimate, bounds, common }
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
        let filled = (self.rows - self.nulls) as f64 / self.rows as f64;
        let Some(value) = value else { return filled / self.distinct as f64 };
        if let Some((_, share)) = self.common.iter().find(|(common, _)| common.order(value).is_eq()) {
            return *share;
        }
        let of_common: f64 = self.common.iter().map(|(_, share)| share).sum();
        let others = (self.distinct as f64 - self.common.len() as f64).max(1.0);
        (filled - of_common).max(0.0) / others
    }

    /// Share of the rows less than `value`, from the histogram.
    pub fn less_share(&self, value: &Value) -> f64 {
        if self.bounds.len() < 2 || self.rows == 0 {
            return 0.33;
        }
        let below = self.bounds.partition_point(|b| b.order(value).is_lt());
        // Between two bounds numbers and times are taken to lie evenly.
        let part = match (below.checked_sub(1).and_then(|at| self.bounds.get(at)), self.bounds.get(below)) {
            (Some(low), Some(high)) => match (number(low), number(value), number(high)) {
                (Some(low), Some(value), Some(high)) if high > low => (value - low) / (high - low),
                _ => 0.5,
            },
            _ => 0.0,
        };
        let within = match below {
            0 => 0.0,
            below => ((below - 1) as f64 + part) / (self.bounds.len() - 1) as f64,
        };
        within.min(1.0) * (self.rows - self.nulls) as f64 / self.rows as f64
    }
}

/// Where a value lies among its kind, where that can be said.
fn number(value: &Value) -> Option<f64> {
    match value {
        Value::Int(i) => Some(*i as f64),
        Value::Float(f) => Some(*f),
        Value::Date(date) => Some(f64::from(chrono::Datelike::num_days_from_ce(date))),
        _ => None,
    }
}
