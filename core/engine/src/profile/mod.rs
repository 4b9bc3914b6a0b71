//! Plans and profiles as data with stable names. What is shown of them is drawn from this data alone.

mod comparison;
mod folded;
mod text;

use graphodrome_graph::{Element, Snapshot};
use serde::{Deserialize, Serialize};

use crate::context::{Counters, Hop, Metrics};
use crate::plan::PlanNode;

pub use comparison::{Change, Comparison, Figures, HopDifference, OperatorDifference, Work, compare};
pub use folded::{folded_stacks, speedscope_profile};
pub use text::{TextOptions, render_comparison, render_hops, render_plan, render_profile};

/// The version of the format of plans and profiles as data; docs/plan.schema.json describes it.
pub const PLAN_FORMAT: u32 = 1;

/// What the planner expects, and from which statistic.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Estimate {
    pub rows: f64,
    /// Adjacency entries and rows handled, this operator and its inputs together.
    pub cost: f64,
    pub basis: Basis,
    pub source: String,
}

/// What an estimate of rows rests on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Basis {
    /// It cannot be otherwise, or not more: a key, a bound.
    Fact,
    /// Elements with these labels are counted.
    Count,
    /// Edges of a label between nodes of two labels are counted, and nodes that have any.
    Degrees,
    /// How a property's values are spread.
    Histogram,
    /// A few nodes that it was tried from.
    Sample,
    /// It follows from the inputs' estimates.
    Input,
    /// Nothing is known.
    #[default]
    Guess,
}

/// A way to do what an operator does, and why it was taken or not.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Alternative {
    pub method: String,
    /// Adjacency entries and rows handled, for each row of the input; `None` where it was not priced.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub cost: Option<f64>,
    pub chosen: bool,
    pub reason: String,
}

impl Alternative {
    pub(crate) fn chosen(method: impl Into<String>, cost: f64, reason: impl Into<String>) -> Alternative {
        Alternative { method: method.into(), cost: Some(cost), chosen: true, reason: reason.into() }
    }

    pub(crate) fn left(
        method: impl Into<String>, cost: Option<f64>, reason: impl Into<String>,
    ) -> Alternative {
        Alternative { method: method.into(), cost, chosen: false, reason: reason.into() }
    }
}

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
    pub(crate) fn new(
        node: &PlanNode, run: Option<(&Metrics, &Snapshot)>, inputs: Vec<PlanTree>,
    ) -> PlanTree {
        let actual = run.map(|(m, snapshot)| {
            let total_us = m.total.as_secs_f64() * 1e6;
            let below: f64 = inputs.iter().filter_map(|i| i.actual.as_ref()).map(|a| a.total_us).sum();
            let (rows, estimated) = ((m.rows_out as f64).max(1.0), node.estimate.rows.max(1.0));
            let mut hops = m.hops.clone();
            // Of very many hops only those are named that have more than the others.
            let least = nth_largest(hops.iter().map(|hop| hop.largest_degree), NAMED).max(1);
            for hop in hops.iter_mut().filter(|hop| hop.largest_degree >= least).take(NAMED) {
                hop.largest_node = Some(in_words(hop.largest, snapshot));
            }
            Actual {
                rows_in: m.rows_in,
                rows_out: m.rows_out,
                batches: m.batches,
                own_us: (total_us - below).max(0.0),
                total_us,
                peak_bytes: m.peak_bytes,
                counters: m.counters.clone(),
                estimate_factor: if rows >= estimated { rows / estimated } else { -estimated / rows },
                hops,
                notes: m.notes.clone(),
            }
        });
        PlanTree {
            operator: node.plan.name().to_string(),
            details: node.plan.details().into_iter().map(|(k, v)| (k.to_string(), v)).collect(),
            estimate: node.estimate.clone(),
            alternatives: node.alternatives.clone(),
            actual,
            inputs,
        }
    }

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
    fn own_time(&self) -> f64 {
        self.walk().iter().filter_map(|(_, t)| t.actual.as_ref()).map(|a| a.own_us).sum::<f64>().max(1e-9)
    }
}

/// Hops whose nodes of the largest degree are named.
const NAMED: usize = 1000;

/// The `n`th largest of them, from 1 on; the least where there are fewer.
fn nth_largest(values: impl Iterator<Item = u64>, n: usize) -> u64 {
    let mut values: Vec<u64> = values.collect();
    if values.is_empty() {
        return 0;
    }
    let at = n.clamp(1, values.len()) - 1;
    *values.select_nth_unstable_by(at, |a, b| b.cmp(a)).1
}

/// Reads a kept plan or profile, however deep: operators lie in each other, and there may be hundreds.
pub fn read_kept(text: &str) -> serde_json::Result<serde_json::Value> {
    crate::execution::on_large_stack(|| {
        let mut reader = serde_json::Deserializer::from_str(text);
        reader.disable_recursion_limit();
        let read = serde_json::Value::deserialize(&mut reader)?;
        reader.end()?;
        Ok(read)
    })
}

/// A node by its labels and key; by its element id where it has no key.
pub(crate) fn in_words(node: u32, snapshot: &Snapshot) -> String {
    let name = snapshot.name_of(Element::Node, node);
    match name.ends_with('}') {
        true => name,
        false => format!("{name} with the element id n{}", snapshot.node_id(node)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn search(hops: u32) -> PlanTree {
        let hop = |hop: u32| Hop { hop, edges_looked: u64::from(hop % 7), ..Hop::default() };
        let actual = Actual {
            rows_in: 1,
            rows_out: 1,
            batches: 1,
            own_us: 1.0,
            total_us: 1.0,
            peak_bytes: 0,
            counters: Counters::default(),
            estimate_factor: 1.0,
            hops: (1..=hops).map(hop).collect(),
            notes: vec![],
        };
        PlanTree {
            operator: "Reach".into(),
            details: vec![],
            estimate: Estimate::default(),
            alternatives: vec![],
            actual: Some(actual),
            inputs: vec![],
        }
    }

    #[test]
    fn of_very_many_hops_those_with_the_most_edges_are_kept_in_their_order() {
        let kept = PlanTree { inputs: vec![search(70)], ..search(3) }.with_fewer_hops(15);
        let hops = |tree: &PlanTree| -> Vec<(u32, u64)> {
            tree.actual.iter().flat_map(|a| &a.hops).map(|h| (h.hop, h.edges_looked)).collect()
        };
        assert_eq!(hops(&kept), [(1, 1), (2, 2), (3, 3)]);
        let below = hops(&kept.inputs[0]);
        assert_eq!(below.len(), 15);
        assert!(below.is_sorted() && below.iter().all(|(_, edges)| *edges >= 5), "{below:?}");
        let notes = kept.inputs[0].actual.as_ref().map(|a| a.notes.len());
        assert_eq!(notes, Some(1));
        assert_eq!(nth_largest([3, 9, 5].into_iter(), 2), 5);
        assert_eq!(nth_largest([3].into_iter(), 2), 3);
        assert_eq!(nth_largest([].into_iter(), 2), 0);
    }

    #[test]
    fn what_is_kept_is_read_however_deep() {
        let mut tree = search(0);
        for _ in 0..1500 {
            tree = PlanTree { inputs: vec![tree], ..search(0) };
        }
        let text = crate::execution::on_large_stack(|| serde_json::to_string(&tree).unwrap_or_default());
        assert!(read_kept(&text).is_ok_and(|read| read["operator"] == "Reach"));
        assert!(read_kept("{\"a\": 1} more").is_err());
        assert_eq!(tree.walk().last().map(|(depth, _)| *depth), Some(1500));
    }
}
