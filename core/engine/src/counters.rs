//! Counters of operators.

use std::time::Duration;

use serde::{Deserialize, Serialize};

/// Work an operator did. Exact and repeatable, unlike times.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Counters {
    /// Adjacency entries looked at.
    pub edges_looked: u64,
    pub properties_read: u64,
    pub index_probes: u64,
}

/// The end of a pattern that a search began at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// The pattern's first bound end.
    #[default]
    From,
    To,
}

impl Side {
    pub fn as_str(self) -> &'static str {
        match self {
            Side::From => "from",
            Side::To => "to",
        }
    }
}

/// One hop of a path or neighbourhood search, on one side, summed over the rows that searched.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Hop {
    pub hop: u32,
    pub side: Side,
    pub frontier: u64,
    pub edges_looked: u64,
    /// Edges or their far nodes that failed the predicate.
    pub failed: u64,
    pub reached: u64,
    pub known: u64,
    pub time_us: f64,
    pub largest_degree: u64,
    /// The node that has it: its labels and key, or its element id.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub largest_node: Option<String>,
    /// The node that has the largest degree; which it is where that is above zero.
    #[serde(skip)]
    pub(crate) largest: u32,
}

impl Hop {
    /// Takes note of a node's degree.
    pub(crate) fn see_degree(&mut self, (degree, node): (u64, u32)) {
        // Of several it is the one with the smallest number, whatever thread comes first.
        if degree > self.largest_degree || degree == self.largest_degree && node < self.largest {
            (self.largest_degree, self.largest) = (degree, node);
        }
    }
}

#[derive(Clone, Debug, Default)]
pub struct Metrics {
    pub rows_in: u64,
    pub rows_out: u64,
    pub batches: u64,
    pub total: Duration,
    pub peak_bytes: u64,
    pub counters: Counters,
    pub hops: Vec<Hop>,
    pub searches: u64,
    /// Facts an operator adds, such as where two sides met.
    pub notes: Vec<String>,
}
