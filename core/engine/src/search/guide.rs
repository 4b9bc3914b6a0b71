//! Guide: the remaining distance from a node to the end of a search, exact or as a lower bound. It is computed over
//! walks, so paths of every mode need at least as much.

use std::sync::Arc;

use hashbrown::HashMap;

use crate::counters::Side;
use crate::outcome::Outcome;
use crate::search::cursor::Cursor;
use crate::search::measure::{Hops, Measure};
use crate::search::spread::Spread;
use crate::search::step::Step;

/// What is left from a node to the end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Left<S> {
    AtLeast(S),
    /// The end cannot be reached.
    Nothing,
}

pub(crate) struct Guide<M: Measure> {
    /// From the end.
    pub spread: Spread<M>,
    /// What a search from both ends has found out around the start.
    near: HashMap<u32, Near<M::Sum>>,
}

const NEAR_BYTES: usize = 2 * (size_of::<u32>() + size_of::<Near<u32>>());

struct Near<S> {
    left: S,
    /// The edge and node that come next on a shortest path, where the node is on one; `left` is exact then.
    next: Option<(u32, u32)>,
}

impl<M: Measure> Guide<M> {
    pub fn new(spread: Spread<M>) -> Guide<M> {
        Guide { spread, near: HashMap::new() }
    }

    /// Gives its memory back.
    pub fn finish(&mut self, cursor: &mut Cursor<'_>) {
        self.spread.finish(cursor);
        cursor.context.release(std::mem::take(&mut self.near).len() * NEAR_BYTES);
    }

    /// What is left from `node` at least, as far as is known.
    pub fn left(&self, node: u32) -> Left<M::Sum> {
        if let Some(number) = self.spread.known(node) {
            return Left::AtLeast(self.spread.reached[number as usize].sum);
        }
        let horizon = self.spread.horizon();
        match (self.near.get(&node), horizon) {
            (Some(near), Some(horizon)) => Left::AtLeast(near.left.max(horizon)),
            (Some(near), None) if near.next.is_some() => Left::AtLeast(near.left),
            (_, None) => Left::Nothing,
            (None, Some(horizon)) => Left::AtLeast(horizon),
        }
    }

    /// Exactly what is left from `node`; `None` where the end cannot be reached.
    pub fn find(&mut self, node: u32, measure: &mut M, cursor: &mut Cursor<'_>) -> Outcome<Option<M::Sum>> {
        if let Some(Near { left, next: Some(_) }) = self.near.get(&node) {
            return Ok(Some(*left));
        }
        let number = self.spread.find(node, measure, cursor)?;
        Ok(number.map(|n| self.spread.reached[n as usize].sum))
    }

    /// The edges and nodes of a cheapest way from `node`, for which [`Self::find`] had an answer, to the end.
    pub fn way(&self, node: u32) -> Vec<(u32, u32)> {
        let (mut way, mut at) = (vec![], node);
        while self.spread.known(at).is_none() {
            let Some(Near { next: Some((edge, next)), .. }) = self.near.get(&at) else { return way };
            way.push((*edge, *next));
            at = *next;
        }
        if let Some(number) = self.spread.known(at) {
            way.extend(self.spread.way_back(number));
        }
        way
    }
}

impl Guide<Hops> {
    /// The guide to `to` for shortest paths from `from`, found by going from both ends until they meet, if they do.
    pub fn between(
        step: &Arc<Step>, (from, to): (u32, u32), backwards: bool, max: Option<u32>, cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<Guide<Hops>>> {
        let spread = |node, against, side, cursor: &Cursor<'_>| {
            Spread::new(step.clone(), node, against, side, max, cursor)
        };
        let mut out: Spread<Hops> = spread(from, backwards, Side::From, cursor);
        let mut guide = Guide::new(spread(to, !backwards, Side::To, cursor));
        let back = &mut guide.spread;
        let mut met = out.known(to).is_some();
        while !met {
            let (Some(depth_out), Some(depth_back)) = (out.depth(), back.depth()) else { break };
            if max.is_some_and(|max| depth_out + depth_back >= max) {
                break;
            }
            // A whole level from the end that has fewer nodes to go on from.
            let (mine, theirs) =
                if out.frontier() <= back.frontier() { (&mut out, &*back) } else { (&mut *back, &out) };
            let (depth, first) = (mine.depth(), mine.reached.len());
            while mine.depth() == depth && depth.is_some() {
                mine.advance(&mut Hops, cursor)?;
            }
            met = mine.reached[first..].iter().any(|reached| theirs.known(reached.node).is_some());
        }
        if met {
            guide.near = around(&out, &guide.spread, step, cursor)?;
            cursor.context.reserve(guide.near.len() * NEAR_BYTES)?;
        } else {
            guide.spread.finish(cursor);
        }
        out.finish(cursor);
        Ok(met.then_some(guide))
    }
}

/// What is left from the nodes that lie around the start, when both sides have met after whole levels.
fn around(
    out: &Spread<Hops>, back: &Spread<Hops>, step: &Step, cursor: &mut Cursor<'_>,
) -> Outcome<HashMap<u32, Near<u32>>> {
    let sum = |spread: &Spread<Hops>, number: u32| spread.reached[number as usize].sum;
    let meetings = out.reached.iter().filter_map(|reached| {
        let number = back.known(reached.node)?;
        Some((reached.sum + sum(back, number), reached.node))
    });
    let Some(least) = meetings.clone().map(|(all, _)| all).min() else { return Ok(HashMap::new()) };
    // A node that is not on a shortest path of all is at least one hop further from the end.
    let mut near: HashMap<u32, Near<u32>> = out
        .reached
        .iter()
        .filter(|reached| reached.sum < least)
        .map(|reached| (reached.node, Near { left: least - reached.sum + 1, next: None }))
        .collect();
    // From where they met back to the start.
    let mut waiting: Vec<u32> = meetings.filter(|(all, _)| *all == least).map(|(_, node)| node).collect();
    while let Some(node) = waiting.pop() {
        let Some(here) = out.known(node).map(|n| sum(out, n)) else { continue };
        if here == 0 {
            continue;
        }
        step.expand(node, !out.backwards(), cursor, |edge, before| {
            let closer = out.known(before).is_some_and(|n| sum(out, n) + 1 == here);
            if closer
                && let Some(known) = near.get_mut(&before)
                && known.next.is_none()
            {
                *known = Near { left: least - here + 1, next: Some((edge, node)) };
                waiting.push(before);
            }
            std::ops::ControlFlow::Continue(())
        })?;
    }
    Ok(near)
}
