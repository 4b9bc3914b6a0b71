//! Least sums over paths from a node to each end in graphs with cycles: a cheapest path repeats no node, so it
//! belongs to every mode.

use std::cmp::{Ordering, Reverse};
use std::collections::BinaryHeap;

use graphodrome_graph::Direction;
use graphodrome_language::ast::PathMode;

use crate::outcome::Outcome;
use crate::search::folding::Network;
use crate::search::sums::{Folds, Inner, Number, Outer, Values};
use crate::search::{Cursor, SearchSpec, closes_alike};

/// A number that is not below zero, in its order.
#[derive(Clone, Copy, PartialEq)]
struct LeastSum(Number);

impl Eq for LeastSum {}

impl PartialOrd for LeastSum {
    fn partial_cmp(&self, other: &LeastSum) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for LeastSum {
    fn cmp(&self, other: &LeastSum) -> Ordering {
        match (self.0, other.0) {
            (Number::Whole(a), Number::Whole(b)) => a.cmp(&b),
            (Number::Float(a), Number::Float(b)) => a.total_cmp(&b),
            // Values are of one kind.
            (Number::Whole(_), Number::Float(_)) => Ordering::Less,
            (Number::Float(_), Number::Whole(_)) => Ordering::Greater,
        }
    }
}

/// How a way back to the start is told from the ways there.
#[derive(Clone, Copy, PartialEq)]
enum Closing {
    Never,
    /// Edges go one way: the way there, and an edge back.
    Along,
    /// Each edge goes both ways: two ways there that begin with different edges.
    BothWays,
}

/// The cheapest ways to all nodes.
struct Ways {
    sums: Vec<Option<Number>>,
    /// By node: the arc that leads to it, and the first one from the start.
    last: Vec<u32>,
    first: Vec<u32>,
}

const NO_ARC: u32 = u32::MAX;

/// A node, and the least sum of each fold over the paths to it.
type OfEnd = (usize, Vec<Option<Number>>);

/// Bytes for each node while ways to all are looked for.
const WAYS: usize = size_of::<Option<Number>>() + 2 * size_of::<u32>() + 1 + size_of::<Vec<Option<Number>>>();

/// `None` where some edges go both ways and others do not, or where what a node must be depends on the way.
fn closing(spec: &SearchSpec) -> Option<Closing> {
    let step = spec.step.as_ref()?;
    match (spec.mode, step.direction) {
        (PathMode::Acyclic, _) => Some(Closing::Never),
        (_, Direction::Out | Direction::In) => Some(Closing::Along),
        _ => closes_alike(step).then_some(Closing::BothWays),
    }
}

impl Network {
    /// By node that a path leads to: the least sum of each fold. `None` where these are not all that is folded, where an
    /// edge takes something away, or where it cannot be told how a path gets back to its start.
    pub fn least_sums(
        &self, spec: &SearchSpec, folds: &Folds, cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<Vec<OfEnd>>> {
        let least = folds.all.iter().all(|f| f.outer == Outer::Least && f.inner == Inner::Sum);
        let trails = spec.trails || spec.mode != PathMode::Walk;
        if !least
            || !trails
            || folds.counted
            || folds.all.is_empty()
            || !self.values.iter().all(Values::only_grow)
        {
            return Ok(None);
        }
        let Some(closing) = closing(spec) else { return Ok(None) };
        let bytes = self.nodes.len() * (WAYS + folds.all.len() * size_of::<Option<Number>>());
        cursor.context.reserve(bytes)?;
        let mut found: Vec<Vec<Option<Number>>> = vec![vec![]; self.nodes.len()];
        for values in &self.values {
            let ways = self.cheapest(values, cursor)?;
            let back = self.back(values, &ways, closing, cursor)?;
            for (node, sums) in found.iter_mut().enumerate() {
                sums.push(if node == 0 { back } else { ways.sums[node] });
            }
        }
        cursor.context.release(bytes);
        // All folds read the same paths.
        let is_end = |sums: &[Option<Number>]| sums.iter().any(Option::is_some);
        Ok(Some(found.into_iter().enumerate().filter(|(_, sums)| is_end(sums)).collect()))
    }

    fn cheapest(&self, values: &Values, cursor: &mut Cursor<'_>) -> Outcome<Ways> {
        let n = self.nodes.len();
        let mut ways = Ways { sums: vec![None; n], last: vec![NO_ARC; n], first: vec![NO_ARC; n] };
        let mut settled = vec![false; n];
        let mut waiting = BinaryHeap::new();
        let mut held = 0;
        let zero = match values {
            Values::Whole(_) => Number::Whole(0),
            Values::Float(_) => Number::Float(0.0),
        };
        ways.sums[0] = Some(zero);
        waiting.push(Reverse((LeastSum(zero), 0u32)));
        while let Some(Reverse((LeastSum(sum), node))) = waiting.pop() {
            if std::mem::replace(&mut settled[node as usize], true) {
                continue;
            }
            let arcs = self.arcs_of(node as usize);
            cursor.context.work(arcs.len() as u64 + 1)?;
            let most = (waiting.len() + arcs.len()) * size_of::<Reverse<(LeastSum, u32)>>();
            if most > held {
                cursor.context.reserve(2 * most - held)?;
                held = 2 * most;
            }
            for arc in arcs {
                let to = self.arcs[arc].0 as usize;
                let Some(more) = sum.plus(values.get(arc)) else { continue };
                if !settled[to] && ways.sums[to].is_none_or(|known| more.is_less(known)) {
                    ways.sums[to] = Some(more);
                    ways.last[to] = arc as u32;
                    ways.first[to] = if node == 0 { arc as u32 } else { ways.first[node as usize] };
                    waiting.push(Reverse((LeastSum(more), to as u32)));
                }
            }
        }
        cursor.context.release(held);
        Ok(ways)
    }

    /// The least sum of a way from the start back to it.
    fn back(
        &self, values: &Values, ways: &Ways, closing: Closing, cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<Number>> {
        let mut least: Option<Number> = None;
        if closing == Closing::Never {
            return Ok(None);
        }
        let edge_of = |arc: u32| (arc != NO_ARC).then(|| self.arcs[arc as usize].1);
        for node in 0..self.nodes.len() {
            cursor.context.work(self.arcs_of(node).len() as u64)?;
            for arc in self.arcs_of(node) {
                let (to, edge) = (self.arcs[arc].0 as usize, self.arcs[arc].1);
                let closes = match closing {
                    Closing::Along => to == 0,
                    _ => {
                        let of_tree = [ways.last[node], ways.last[to]].map(edge_of).contains(&Some(edge));
                        !of_tree && (ways.first[node] != ways.first[to] || node == 0 && to == 0)
                    }
                };
                if !closes {
                    continue;
                }
                let (Some(there), Some(back)) = (ways.sums[node], ways.sums[to]) else { continue };
                let all = there.plus(values.get(arc)).and_then(|sum| sum.plus(back));
                if let Some(all) = all.filter(|all| least.is_none_or(|known| all.is_less(known))) {
                    least = Some(all);
                }
            }
        }
        Ok(least)
    }
}
