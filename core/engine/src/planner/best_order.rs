//! The order in which a pattern's nodes are bound, by dynamic programming over the sets of nodes that can
//! be bound (Selinger and others 1979): for patterns of up to so many nodes. Larger ones are put in order
//! greedily.

use graphodrome_graph::Element;

use crate::plan::Schema;
use crate::planner::builder::StepCost;
use crate::planner::builder::{Builder, ways};
use crate::planner::lookup::Start;
use crate::planner::pattern_graph::{PatternGraph, PatternStep, StepKind};
use crate::planner::state::Planner;

/// Nodes of a pattern whose orders are all compared.
const MOST_NODES: usize = 10;

/// The cheapest way to bind a set of nodes.
#[derive(Clone, Copy)]
struct Way {
    cost: f64,
    rows: f64,
    last: usize,
    before: usize,
}

impl Planner<'_> {
    /// Rows and cost of a pattern that begins at this node.
    pub(super) fn start_cost(&self, start: usize, b: &Builder<'_>) -> (f64, f64) {
        let node = &b.graph.nodes[start];
        let rows = || {
            let total = self.node_total(&node.labels);
            let share = self.share(&node.name, &node.labels, &b.graph.conditions, Element::Node);
            (total * share).max(0.5)
        };
        match self.start(start, &Schema::default(), b) {
            Start::Seek(keys, _) => (1.0, keys.len() as f64),
            Start::Listed(keys, _, combinations) => (combinations, combinations * keys.len() as f64),
            Start::Search(found) => (rows(), found.rows),
            Start::Scan => (rows(), self.node_total(&node.labels)),
        }
    }

    pub(super) fn step_costs(&self, graph: &PatternGraph) -> Vec<StepCost> {
        let of = |step: &PatternStep| {
            let (forward, backward) = ways(step);
            let cost = |reversed| self.fan_out(step, reversed, &graph.nodes, &graph.conditions);
            let (all, _) = self.fan_out(step, false, &graph.nodes, &[]);
            StepCost {
                from: step.from,
                to: step.to,
                forward: forward.then(|| cost(false)),
                backward: backward.then(|| cost(true)),
                closing: all / self.node_total(&self.labels_of(&graph.nodes[step.to])).max(1.0),
                is_edge: matches!(step.kind, StepKind::Edge { .. }),
                // A search finds each end once by itself.
                once: step.once && matches!(step.kind, StepKind::Edge { .. }),
            }
        };
        graph.steps.iter().map(of).collect()
    }

    /// The nodes of the pattern's cheapest part in the order in which they are bound; `None` where there is
    /// nothing to choose, or too much.
    pub(super) fn best_order(&self, candidates: &[usize], b: &Builder<'_>) -> Option<(Vec<usize>, f64)> {
        let count = b.graph.nodes.len();
        if candidates.len() != count || !(3..=MOST_NODES).contains(&count) {
            return None;
        }
        let steps = &b.costs;
        let mut ways: Vec<Option<Way>> = vec![None; 1 << count];
        for &start in candidates {
            let (rows, cost) = self.start_cost(start, b);
            ways[1 << start] = Some(Way { cost, rows, last: start, before: 0 });
        }
        for bound in 1usize..1 << count {
            let Some(way) = ways[bound] else { continue };
            for next in (0..count).filter(|n| bound & (1 << n) == 0) {
                let Some((factor, looked)) = added(steps, bound, next) else { continue };
                let rows = way.rows * factor;
                let cost = way.cost + way.rows * looked.max(0.1) + rows;
                let place = &mut ways[bound | 1 << next];
                if place.is_none_or(|known| cost < known.cost) {
                    *place = Some(Way { cost, rows, last: next, before: bound });
                }
            }
        }
        // The largest part that hangs together, at its least cost.
        let reached = (1usize..1 << count).filter(|bound| {
            ways[*bound].is_some()
                && (0..count).all(|n| bound & (1 << n) != 0 || added(steps, *bound, n).is_none())
        });
        let whole = reached.min_by(|x, y| {
            let cost = |bound: usize| ways[bound].map_or(f64::MAX, |w| w.cost);
            cost(*x).total_cmp(&cost(*y))
        })?;
        let mut order = vec![];
        let mut at = whole;
        while at != 0 {
            let way = ways[at]?;
            order.push(way.last);
            at = way.before;
        }
        order.reverse();
        Some((order, ways[whole]?.cost))
    }
}

/// Rows per row and entries looked at when `next` is bound after the nodes of `bound`; `None` where no step
/// leads to it.
fn added(steps: &[StepCost], bound: usize, next: usize) -> Option<(f64, f64)> {
    let has = |n: usize| bound & (1 << n) != 0;
    let mut lead: Option<(usize, f64, f64)> = None;
    for (i, step) in steps.iter().enumerate() {
        let way = match (has(step.from) && step.to == next, has(step.to) && step.from == next) {
            (true, _) => step.forward,
            (_, true) => step.backward,
            _ => None,
        };
        let way = way.filter(|_| !step.once);
        if let Some((factor, looked)) = way
            && lead.is_none_or(|(_, _, least)| looked < least)
        {
            lead = Some((i, factor, looked));
        }
    }
    let (first, mut factor, mut looked) = lead?;
    for (_, step) in steps.iter().enumerate().filter(|(i, _)| *i != first) {
        let closes = has(step.from) && step.to == next || has(step.to) && step.from == next;
        let own = step.from == next && step.to == next;
        if closes || own {
            factor *= step.closing;
            // Common neighbours are looked up together; a search from both ends is one more.
            if !step.is_edge {
                looked += step.forward.or(step.backward).map_or(0.0, |(_, looked)| looked.sqrt());
            }
        }
    }
    Some((factor, looked))
}
