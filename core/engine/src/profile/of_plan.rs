//! Converts a plan to data, with the counters of its operators if it was run.

use graphodrome_graph::{Element, Snapshot};

use crate::counters::Metrics;
use crate::plan::PlanNode;
use crate::profile::tree::{Actual, PlanTree, nth_largest};

impl PlanNode {
    /// The plan as data; with the metrics of a run where there was one.
    pub fn tree(&self, run: Option<(&[Metrics], &Snapshot)>) -> PlanTree {
        let mut children: Vec<PlanTree> = self.inputs.iter().map(|i| i.tree(run)).collect();
        if let Some(inner) = self.plan.correlated() {
            children.push(inner.tree(run));
        }
        new_tree(self, run.map(|(all, snapshot)| (&all[self.id], snapshot)), children)
    }
}

fn new_tree(node: &PlanNode, run: Option<(&Metrics, &Snapshot)>, inputs: Vec<PlanTree>) -> PlanTree {
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

/// Hops whose nodes of the largest degree are named.
const NAMED: usize = 1000;

/// A node by its labels and key; by its element id where it has no key.
pub(crate) fn in_words(node: u32, snapshot: &Snapshot) -> String {
    let name = snapshot.name_of(Element::Node, node);
    match name.ends_with('}') {
        true => name,
        false => format!("{name} with the element id n{}", snapshot.node_id(node)),
    }
}
