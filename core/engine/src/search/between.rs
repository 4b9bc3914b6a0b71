//! Counts paths of bounded length between two nodes: collects the edges of all candidates from both ends, half of
//! the length each, and counts them ([`crate::search::closing`]).

use std::ops::ControlFlow;
use std::time::Instant;

use graphodrome_language::ast::PathMode;

use crate::counters::{Hop, Side};
use crate::operators::EdgeCheck;
use crate::outcome::Outcome;
use crate::search::arc_rows::{ARC_BYTES, Passage};
use crate::search::breadth::goes_both_ways;
use crate::search::closing::{Counted, NODE_BYTES, NotTwice, WaysBetween};
use crate::search::{Cursor, NodeNumbers, SearchSpec, Step};

/// What may not come twice on a path of the spec; `None` where anything may.
fn apart(spec: &SearchSpec) -> Option<NotTwice> {
    match (spec.mode, spec.trails) {
        (PathMode::Walk, false) => None,
        (PathMode::Walk | PathMode::Trail, _) => Some(NotTwice::Edges),
        (PathMode::Simple | PathMode::Acyclic, false) => Some(NotTwice::Nodes),
        (PathMode::Simple | PathMode::Acyclic, true) => Some(NotTwice::NodesAndEdges),
    }
}

/// Longer beginnings are as many as paths: these are made as others are.
const LONGEST: u32 = 32;

/// Whether the paths of a search may be counted so: both ends are known, no path takes anything twice, and none is very long.
pub(crate) fn may_be_counted(spec: &SearchSpec) -> bool {
    let bounded = spec.max.is_some_and(|max| max <= LONGEST);
    spec.to.is_some() && spec.step.is_some() && bounded && apart(spec).is_some()
}

/// Paths between two nodes by their length, and how many beginnings of theirs were made.
#[derive(Default)]
pub(crate) struct Between {
    pub by_length: Vec<i128>,
    pub beginnings: u64,
}

/// How many paths of each length lead from `start` to `end`, as far as the spec asks; `None` where they cannot be counted so.
pub(crate) fn count_between(
    spec: &SearchSpec, step: &Step, (start, end): (u32, u32), cursor: &mut Cursor<'_>,
) -> Outcome<Option<Between>> {
    let (Some(apart), Some(max)) = (apart(spec), spec.max) else { return Ok(None) };
    // Of an acyclic path the ends are two nodes.
    let max = if spec.mode == PathMode::Acyclic && start == end { 0 } else { max };
    let mut gathered = Gathered::new(spec, step, cursor);
    let counted = gathered.count((start, end), apart, max, cursor);
    cursor.context.release(gathered.bytes);
    let Counted { ways, beginnings } = counted?;
    Ok(Some(Between { by_length: ways, beginnings }))
}

/// The edges of all ways between two nodes, by numbers of their ends.
struct Gathered<'s> {
    spec: &'s SearchSpec,
    step: &'s Step,
    check: EdgeCheck,
    numbers: NodeNumbers,
    arcs: Vec<Passage>,
    /// By side and number: whether the side came to the node, and whether it went on from there, so that all edges from the
    /// node, or all to it, are among the arcs.
    seen: [Vec<bool>; 2],
    whole: [Vec<bool>; 2],
    bytes: usize,
}

impl<'s> Gathered<'s> {
    fn new(spec: &'s SearchSpec, step: &'s Step, cursor: &Cursor<'_>) -> Gathered<'s> {
        let (test, direction) = (step.test.clone(), step.direction);
        let check = EdgeCheck { test, direction, different_from: spec.different_from.clone() };
        let numbers = NodeNumbers::new(cursor.context.scope.node_bound());
        Gathered {
            spec,
            step,
            check,
            numbers,
            arcs: vec![],
            seen: [vec![], vec![]],
            whole: [vec![], vec![]],
            bytes: 0,
        }
    }

    fn number(&mut self, node: u32) -> u32 {
        let (number, new) = self.numbers.number(node);
        if new {
            self.seen.iter_mut().chain(&mut self.whole).for_each(|side| side.push(false));
        }
        number
    }

    fn count(
        &mut self, (start, end): (u32, u32), apart: NotTwice, max: u32, cursor: &mut Cursor<'_>,
    ) -> Outcome<Counted> {
        let ends = (self.number(start), self.number(end));
        self.seen[0][ends.0 as usize] = true;
        self.seen[1][ends.1 as usize] = true;
        let (mut out, mut back) = (vec![start], vec![end]);
        let (mut out_hops, mut back_hops) = (0, 0);
        // Levels together as many as the longest path has edges, each where there are fewer nodes to go on from.
        while out_hops + back_hops < max {
            if out.is_empty() || back.is_empty() {
                break;
            }
            if out.len() <= back.len() {
                out_hops += 1;
                out = self.level(out_hops, &out, Side::From, cursor)?;
            } else {
                back_hops += 1;
                back = self.level(back_hops, &back, Side::To, cursor)?;
            }
        }
        let both_ways = goes_both_ways(self.step);
        let arcs = std::mem::take(&mut self.arcs);
        let mut work = |looked| cursor.context.work(looked);
        let ways = WaysBetween::new(self.seen[0].len(), ends, arcs, (apart, both_ways), &mut work)?;
        ways.by_length(self.spec.min as usize, max as usize, &mut work)
    }

    /// Edges from the nodes, or to them on the side of the end; the nodes at their other ends to which the side comes first.
    fn level(&mut self, hop: u32, nodes: &[u32], side: Side, cursor: &mut Cursor<'_>) -> Outcome<Vec<u32>> {
        let started = Instant::now();
        let mut counted = Hop { hop, side, frontier: nodes.len() as u64, ..Hop::default() };
        let from_end = side == Side::To;
        let (mine, theirs) = (usize::from(from_end), usize::from(!from_end));
        let (batch, row) = (cursor.batch, cursor.row);
        let mut new = vec![];
        let mut taken = 0u64;
        let mut others = vec![];
        for &node in nodes {
            let number = self.number(node);
            others.clear();
            let check = &self.check;
            let expanded =
                self.step.expand(node, self.spec.reversed != from_end, cursor, |edge, other| {
                    if check.is_different(edge, batch, row) {
                        others.push((edge, other));
                    }
                    ControlFlow::Continue(())
                })?;
            counted.edges_looked += expanded.looked;
            counted.failed += expanded.failed;
            counted.see_degree(expanded.largest);
            taken += others.len() as u64;
            for &(edge, node) in &others {
                let other = self.number(node);
                if !std::mem::replace(&mut self.seen[mine][other as usize], true) {
                    new.push(node);
                }
                // The other side had the edge already.
                if !self.whole[theirs][other as usize] {
                    let (from, to) = if from_end { (other, number) } else { (number, other) };
                    self.arcs.push(Passage { from, to, edge });
                }
            }
            self.whole[mine][number as usize] = true;
        }
        counted.reached = new.len() as u64;
        counted.known = taken - counted.reached;
        counted.time_us = started.elapsed().as_secs_f64() * 1e6;
        cursor.context.hop(counted);
        let bytes = self.arcs.len() * ARC_BYTES + self.seen[0].len() * NODE_BYTES;
        let more = bytes - self.bytes;
        self.bytes = bytes;
        cursor.context.reserve(more)?;
        Ok(new)
    }
}
