//! A plan or a profile as data.

use serde::{Deserialize, Serialize};

use crate::counters::{Counters, Hop};
use crate::profile::estimate::{Alternative, Estimate};

/// One operator of a plan. The actual figures are there when it is a profile.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlanTree {
    pub operator: String,
    /// What it works on: pattern, label, index, direction, method, condition.
    pub details: Vec<(String, String)>,
    pub estimate: Estimate,
    /// Where there was a choice: the way taken first, then those that were not.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub alternatives: Vec<Alternative>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub actual: Option<Actual>,
    pub inputs: Vec<PlanTree>,
}

/// What an operator did.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Actual {
    pub rows_in: u64,
    pub rows_out: u64,
    pub batches: u64,
    /// Microseconds of its own, and with its inputs.
    pub own_us: f64,
    pub total_us: f64,
    pub peak_bytes: u64,
    #[serde(flatten)]
    pub counters: Counters,
    /// Actual rows over estimated rows, where that is above 1; otherwise its reciprocal, negative.
    pub estimate_factor: f64,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub hops: Vec<Hop>,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub notes: Vec<String>,
}

impl PlanTree {
    /// Every operator with its depth, root first.
    pub fn walk(&self) -> Vec<(usize, &PlanTree)> {
        let (mut all, mut left) = (vec![], vec![(0, self)]);
        while let Some((depth, tree)) = left.pop() {
            all.push((depth, tree));
            left.extend(tree.inputs.iter().rev().map(|input| (depth + 1, input)));
        }
        all
    }

    /// What it works on, in one line.
    pub fn summary(&self) -> String {
        let shown = self.details.iter().filter(|(k, _)| k != "because");
        shown.map(|(_, v)| v.as_str()).collect::<Vec<_>>().join("  ")
    }

    /// The same with no more than so many hops of each search: those that looked at the most edges, in their order.
    pub fn with_fewer_hops(mut self, most: usize) -> PlanTree {
        if let Some(actual) = self.actual.as_mut().filter(|actual| actual.hops.len() > most) {
            let all = actual.hops.len();
            let least = nth_largest(actual.hops.iter().map(|hop| hop.edges_looked), most);
            let mut left = most;
            actual.hops.retain(|hop| {
                let kept = left > 0 && hop.edges_looked >= least;
                left -= usize::from(kept);
                kept
            });
            actual
                .notes
                .push(format!("{} of {all} hops are kept: those with the most edges", actual.hops.len()));
        }
        self.inputs = std::mem::take(&mut self.inputs).into_iter().map(|i| i.with_fewer_hops(most)).collect();
        self
    }

    /// Time of its own of all operators together; with several threads more than passed on the clock.
    pub(super) fn own_time(&self) -> f64 {
        self.walk().iter().filter_map(|(_, t)| t.actual.as_ref()).map(|a| a.own_us).sum::<f64>().max(1e-9)
    }
}

/// The `n`th largest of them, from 1 on; the least where there are fewer.
pub(super) fn nth_largest(values: impl Iterator<Item = u64>, n: usize) -> u64 {
    let mut values: Vec<u64> = values.collect();
    if values.is_empty() {
        return 0;
    }
    let at = n.clamp(1, values.len()) - 1;
    *values.select_nth_unstable_by(at, |a, b| b.cmp(a)).1
}
