//! Samples a repeated edge on the graph itself: from a few nodes, a few thousand edges. Degrees alone are not
//! enough: whether paths fan out, end or meet again depends on the structure of the graph.

use std::ops::ControlFlow;

use graphodrome_graph::{Direction, EdgeTest, LabelExpression, LabelSet};
use hashbrown::{HashMap, HashSet};

use crate::planner::growth::Growth;
use crate::planner::growth::LOOKS;
use crate::planner::growth::RepeatedEdge;
use crate::planner::state::Planner;

/// Nodes that it is tried from.
const STARTS: usize = 8;
/// Nodes among which those with such an edge are looked for.
const LOOKED_AT: usize = 256;
/// Nodes above the base among which some with the labels wanted are looked for.
const LOOKED_THROUGH: usize = 4096;
/// Hops of a repetition without a bound that are counted on for its paths.
const LONGEST: u32 = 12;
/// Further hops that an estimate goes on for.
const FURTHEST: u32 = 60;
/// Of what could be reached, where the search was too wide to be tried to its end.
const REACHED: f64 = 0.6;

impl Planner<'_> {
    /// What a repeated edge leads to; found once for each in a query. `None` where it cannot be tried.
    pub(super) fn growth(&self, repeated: &RepeatedEdge) -> Option<Growth> {
        let mut known = self.growths.borrow_mut();
        if let Some((_, growth)) = known.iter().find(|(of, _)| of == repeated) {
            return *growth;
        }
        let growth = self.try_out(repeated);
        known.push((repeated.clone(), growth));
        growth
    }

    fn try_out(&self, repeated: &RepeatedEdge) -> Option<Growth> {
        let test = self.scope.edge_test(repeated.edge.as_ref());
        let direction = repeated.direction;
        let base = &self.scope.base;
        // Rows by targets are not made for an estimate.
        let ready = |t: &usize| {
            let table = &base.edges[*t];
            let backwards = if table.directed { direction.takes_in() } else { direction.takes_undirected() };
            !backwards || table.has_reverse()
        };
        if !test.tables.iter().all(ready) {
            return None;
        }
        // Most nodes may have no such edge at all: it is tried from those that have one, and how many have is kept.
        let (starts, share) = match repeated.start {
            Some(start) => (vec![start], 1.0),
            None => self.some_with_edges(self.some_nodes(&repeated.near, LOOKED_AT), (direction, &test)),
        };
        // Where much was tried already the means must do.
        let left = self.looks.get();
        if starts.is_empty() || left < LOOKS {
            return None;
        }
        self.looks.set(left - LOOKS);
        let is_far: Vec<bool> = base
            .nodes
            .iter()
            .map(|t| repeated.far.as_ref().is_none_or(|far| far.matches(&t.labels)))
            .collect();
        let far = |node: u32| match node < base.node_count() {
            true => is_far[base.node_table(node)],
            false => repeated.far.as_ref().is_none_or(|far| far.matches(&self.scope.node_labels(node))),
        };
        let trial = Trial { planner: self, repeated, test: &test, far: &far };
        let everything = self.node_total(&repeated.far).max(1.0);
        let mut sum = Growth { tried: true, ..Growth::default() };
        for &start in &starts {
            trial.ends(start, LOOKS / 2 / starts.len(), everything, &mut sum);
            trial.paths(start, LOOKS / 2 / starts.len(), &mut sum);
        }
        let growth = sum.over(starts.len() as f64).scaled(share, everything);
        if repeated.start.is_some() {
            return Some(growth);
        }
        // A few nodes may have more edges than most, or fewer: that much is known of all of them.
        let first = starts.iter().map(|&start| {
            let mut left = LOOKS / starts.len();
            trial.expand(start, &mut left, |_, _| {})
        });
        let tried = share * first.sum::<f64>() / starts.len() as f64;
        let (_, all) = self.edges_per_node(&repeated.near, &repeated.edge, direction, &None);
        let scale = if tried > 0.0 && all > 0.0 { (all / tried).clamp(1.0 / SCALE, SCALE) } else { 1.0 };
        Some(growth.scaled(scale, everything))
    }

    /// Some of the nodes that have such an edge, spread over them, and what share of the nodes has one; some of all nodes where
    /// none has.
    fn some_with_edges(&self, nodes: Vec<u32>, (direction, test): (Direction, &EdgeTest)) -> (Vec<u32>, f64) {
        let has_one = |node: &u32| {
            let mut any = false;
            self.scope.for_each_adjacent(*node, direction, test, |_, _| {
                any = true;
                ControlFlow::Break(())
            });
            any
        };
        let with: Vec<u32> = nodes.iter().copied().filter(has_one).collect();
        let (of, share) = match with.is_empty() {
            true => (&nodes, 1.0),
            false => (&with, with.len() as f64 / nodes.len() as f64),
        };
        let wanted = of.len().min(STARTS);
        let spread = (0..wanted).map(|at| of[(at * of.len() + of.len() / 2) / wanted]);
        (spread.collect(), share)
    }

    /// So many nodes with these labels, spread over all of them.
    fn some_nodes(&self, labels: &Option<LabelExpression>, most: usize) -> Vec<u32> {
        let base = &self.scope.base;
        let matches = |set: &LabelSet| labels.as_ref().is_none_or(|l| l.matches(set));
        let tables: Vec<_> = base.nodes.iter().filter(|t| t.len > 0 && matches(&t.labels)).collect();
        let total: usize = tables.iter().map(|t| t.len).sum();
        if total == 0 {
            // All of it came after the base.
            let above = (base.node_count()..self.scope.node_bound())
                .take(LOOKED_THROUGH)
                .filter(|&n| self.scope.node_exists(n));
            return above.filter(|&n| matches(&self.scope.node_labels(n))).take(most).collect();
        }
        let wanted = total.min(most);
        let place = |at: usize| {
            let mut place = (at * total + total / 2) / wanted;
            for table in &tables {
                match place.checked_sub(table.len) {
                    Some(rest) => place = rest,
                    None => return table.first + place as u32,
                }
            }
            0
        };
        (0..wanted).map(place).filter(|&node| self.scope.node_exists(node)).collect()
    }
}

/// A repeated edge that is tried out.
struct Trial<'t> {
    planner: &'t Planner<'t>,
    repeated: &'t RepeatedEdge,
    test: &'t EdgeTest,
    far: &'t dyn Fn(u32) -> bool,
}

impl Trial<'_> {
    /// Calls `visit` for the edges that may be taken from a node, until `left` is used up; the entries looked at.
    fn expand(&self, node: u32, left: &mut usize, mut visit: impl FnMut(u32, u32)) -> f64 {
        let share = self.repeated.share;
        let limit = (share * f64::from(1u32 << 24)) as u32;
        let looked =
            self.planner.scope.for_each_adjacent(node, self.repeated.direction, self.test, |edge, other| {
                *left = left.saturating_sub(1);
                // By its number: the same edges pass from wherever they are met.
                if share >= 1.0 || edge.wrapping_mul(0x9E37_79B9) >> 8 < limit {
                    visit(edge, other);
                }
                if *left == 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            });
        looked as f64
    }

    /// Every node that is reached, once.
    fn ends(&self, start: u32, mut left: usize, everything: f64, growth: &mut Growth) {
        let (min, max) = (self.repeated.min, self.repeated.max);
        let mut visited: HashSet<u32> = HashSet::from_iter([start]);
        let mut frontier = vec![start];
        let (mut ends, mut looked) = (if min == 0 && (self.far)(start) { 1.0 } else { 0.0 }, 0.0);
        let mut now = 1.0;
        let mut hop = 0;
        while !frontier.is_empty() && max.is_none_or(|max| hop < max) {
            hop += 1;
            let mut next = vec![];
            for &node in &frontier {
                looked += self.expand(node, &mut left, |_, other| {
                    if visited.insert(other) {
                        next.push(other);
                    }
                });
                if left == 0 {
                    break;
                }
            }
            // A node is reached the first time only; those nearer than the shortest length are left to chance.
            ends += next.iter().filter(|node| hop >= min && (self.far)(**node)).count() as f64;
            now = next.len() as f64;
            if left == 0 {
                break;
            }
            frontier = next;
        }
        if left == 0 {
            growth.tried = false;
            let seen = f64::max(ends, 1.0);
            let most = everything * REACHED;
            ends = match max {
                None => most.max(ends).min(everything),
                Some(max) => (ends + further(now, hop, max - hop)).min(most.max(ends)).min(everything),
            };
            looked *= (ends / seen).max(1.0);
        }
        growth.ends += ends;
        growth.looked_for_ends += looked;
    }

    /// Every path. One that goes back over the edge that it came by is none; whether others take an edge twice is
    /// not looked at.
    fn paths(&self, start: u32, mut left: usize, growth: &mut Growth) {
        let (min, max) = (self.repeated.min, self.repeated.max);
        let both_ways =
            matches!(self.repeated.direction, Direction::Undirected | Direction::OutOrIn | Direction::Any);
        let longest = min.max(1).saturating_add(LONGEST);
        let last = max.unwrap_or(longest).min(longest);
        // How many paths there are to a node, by the edge that they come by where that matters; in the order of the
        // nodes, so that a trial that is cut short is the same each time.
        let mut level: Vec<((u32, u32), f64)> = vec![((start, u32::MAX), 1.0)];
        let (mut paths, mut looked) = (if min == 0 && (self.far)(start) { 1.0 } else { 0.0 }, 0.0);
        let mut rings = if min == 0 { 1.0 } else { 0.0 };
        let mut now = 1.0;
        let mut hop = 0;
        while !level.is_empty() && hop < last {
            hop += 1;
            let mut next: HashMap<(u32, u32), f64> = HashMap::new();
            for &((node, by), ways) in &level {
                looked += ways
                    * self.expand(node, &mut left, |edge, other| {
                        if edge != by {
                            let by = if both_ways { edge } else { u32::MAX };
                            *next.entry((other, by)).or_default() += ways;
                        }
                    });
                if left == 0 {
                    break;
                }
            }
            let mut next: Vec<((u32, u32), f64)> = next.into_iter().collect();
            next.sort_unstable_by_key(|(at, _)| *at);
            let to_far = next.iter().filter(|((node, _), _)| hop >= min && (self.far)(*node));
            paths += to_far.map(|(_, ways)| ways).sum::<f64>();
            let back = next.iter().filter(|((node, _), _)| hop >= min && *node == start);
            rings += back.map(|(_, ways)| ways).sum::<f64>();
            now = next.iter().map(|(_, ways)| ways).sum::<f64>();
            if left == 0 {
                break;
            }
            level = next;
        }
        let asked = max.unwrap_or(last).max(last);
        if left == 0 || !level.is_empty() && hop < asked {
            growth.tried = false;
            let more = further(now, hop, asked - hop);
            // Ways back grow as all ways do.
            rings *= 1.0 + more / paths.max(1.0);
            paths += more;
            looked += more;
        }
        growth.rings += rings.min(MOST);
        growth.paths += paths.min(MOST);
        growth.looked_for_paths += looked.min(MOST);
    }
}

/// What the mean degree may correct of a trial.
const SCALE: f64 = 4.0;
/// No estimate is larger.
const MOST: f64 = 1e12;

/// What so many more hops add to what has grown to `now` in so many: they go on growing at the mean rate.
fn further(now: f64, hops: u32, more: u32) -> f64 {
    let rate = now.max(1.0).powf(1.0 / f64::from(hops.max(1))).max(1.0);
    let (mut sum, mut level) = (0.0, now);
    for _ in 0..more.min(FURTHEST) {
        level = (level * rate).min(MOST);
        sum += level;
    }
    sum
}
