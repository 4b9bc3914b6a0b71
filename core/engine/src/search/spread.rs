//! Spread: the nodes that can be reached from one node over a repeated edge, cheapest first, as far as somebody
//! asks; breadth first where every edge costs the same.

use std::ops::ControlFlow;
use std::sync::Arc;

use crate::counters::Side;
use crate::outcome::Outcome;
use crate::search::cursor::Cursor;
use crate::search::hop_table::HopTable;
use crate::search::measure::Measure;
use crate::search::queue::Queue;
use crate::search::step::{Expanded, Step};
use crate::search::visited::{NodeNumbers, NodeSet};

/// The root has no edge before it.
pub(crate) const ROOT: u32 = u32::MAX;

#[derive(Clone, Copy, Debug)]
pub(crate) struct Reached<S> {
    pub node: u32,
    /// The number of the node before it.
    pub parent: u32,
    pub edge: u32,
    pub hops: u32,
    pub sum: S,
    /// There is no cheaper way.
    pub settled: bool,
}

pub(crate) struct Spread<M: Measure> {
    step: Arc<Step>,
    backwards: bool,
    /// No way of more edges is looked for. Only where every edge costs the same.
    max: Option<u32>,
    numbers: NodeNumbers,
    pub reached: Vec<Reached<M::Sum>>,
    /// The numbers of settled nodes, cheapest first, where costs differ.
    order: Vec<u32>,
    /// The same as a set of nodes: most edges lead back to them.
    settled: NodeSet,
    waiting: M::Queue<u32>,
    /// No way that costs more is looked for, where costs differ.
    pub most: Option<M::Sum>,
    /// The least of those that wait, where costs differ.
    least: Option<M::Sum>,
    /// How many nodes were expanded.
    expanded: usize,
    candidates: Vec<(u32, u32)>,
    hops: HopTable,
    held: usize,
}

impl<M: Measure> Spread<M> {
    pub fn new(
        step: Arc<Step>, root: u32, backwards: bool, side: Side, max: Option<u32>, cursor: &Cursor<'_>,
    ) -> Spread<M> {
        let mut numbers = NodeNumbers::new(cursor.context.scope.node_bound());
        numbers.number(root);
        let first =
            Reached { node: root, parent: ROOT, edge: ROOT, hops: 0, sum: M::ZERO, settled: M::LEVELS };
        let mut waiting = M::Queue::default();
        if !M::LEVELS {
            waiting.push(M::ZERO, 0);
        }
        Spread {
            step,
            backwards,
            max,
            numbers,
            reached: vec![first],
            order: vec![],
            settled: NodeSet::new(cursor.context.scope.node_bound()),
            waiting,
            most: None,
            least: Some(M::ZERO),
            expanded: 0,
            candidates: vec![],
            hops: HopTable::new(side),
            held: 0,
        }
    }

    pub fn backwards(&self) -> bool {
        self.backwards
    }

    /// The number of the node if the cheapest way to it is known.
    #[inline]
    pub fn known(&self, node: u32) -> Option<u32> {
        self.numbers.get(node).filter(|&n| self.reached[n as usize].settled)
    }

    /// The numbers of the nodes to which the cheapest way is known, cheapest first, where costs differ.
    pub fn settled(&self) -> &[u32] {
        &self.order
    }

    /// The number of the node if a way to it is known.
    pub fn met(&self, node: u32) -> Option<u32> {
        self.numbers.get(node)
    }

    /// No node that is not known yet costs less; `None` where all that can be reached is known.
    pub fn horizon(&self) -> Option<M::Sum> {
        if M::LEVELS { self.next_level() } else { self.least }
    }

    /// Where every edge costs the same: what the nodes reached from the next one cost.
    fn next_level(&self) -> Option<M::Sum> {
        // A node's cost is the number of its hops there, and the last node reached has the most.
        let next = self.reached.get(self.expanded)?;
        if self.max.is_some_and(|max| next.hops >= max) {
            return None;
        }
        Some(M::of_hops(next.hops + 1))
    }

    /// How many nodes are reached and not expanded yet.
    pub fn frontier(&self) -> usize {
        self.reached.len() - self.expanded
    }

    /// The hops of the next node to be expanded.
    pub fn depth(&self) -> Option<u32> {
        let next = self.reached.get(self.expanded)?;
        (self.max.is_none_or(|max| next.hops < max)).then_some(next.hops)
    }

    /// Settles and expands one more node; `None` where there is none.
    pub fn advance(&mut self, measure: &mut M, cursor: &mut Cursor<'_>) -> Outcome<Option<u32>> {
        if M::LEVELS {
            if self.depth().is_none() {
                return Ok(None);
            }
            let number = self.expanded as u32;
            self.expand_level(number, cursor)?;
            return Ok(Some(number));
        }
        while let Some((_, number)) = self.waiting.pop() {
            let entry = &mut self.reached[number as usize];
            if entry.settled {
                continue;
            }
            entry.settled = true;
            self.settled.insert(entry.node);
            self.order.push(number);
            self.expand_weighted(number, measure, cursor)?;
            self.least = self.waiting.least();
            return Ok(Some(number));
        }
        self.least = None;
        Ok(None)
    }

    /// The number of the node that is the `at`-th nearest, from 0.
    pub fn nearest(&mut self, at: usize, measure: &mut M, cursor: &mut Cursor<'_>) -> Outcome<Option<u32>> {
        loop {
            let known = if M::LEVELS { self.reached.len() } else { self.order.len() };
            if at < known {
                return Ok(Some(if M::LEVELS { at as u32 } else { self.order[at] }));
            }
            if self.advance(measure, cursor)?.is_none() {
                return Ok(None);
            }
        }
    }

    /// Spreads until the cheapest way to `node` is known, or that there is none.
    pub fn find(&mut self, node: u32, measure: &mut M, cursor: &mut Cursor<'_>) -> Outcome<Option<u32>> {
        loop {
            if let Some(number) = self.known(node) {
                return Ok(Some(number));
            }
            if self.advance(measure, cursor)?.is_none() {
                return Ok(None);
            }
        }
    }

    fn expand_level(&mut self, number: u32, cursor: &mut Cursor<'_>) -> Outcome<()> {
        let from = self.reached[number as usize];
        self.expanded += 1;
        let hops = from.hops + 1;
        let before = self.reached.len();
        let (numbers, reached) = (&mut self.numbers, &mut self.reached);
        let expanded = self.step.expand(from.node, self.backwards, cursor, |edge, other| {
            if numbers.number(other).1 {
                let sum = M::of_hops(hops);
                reached.push(Reached { node: other, parent: number, edge, hops, sum, settled: true });
            }
            ControlFlow::Continue(())
        })?;
        let new = self.reached.len() - before;
        self.hold(new * (size_of::<Reached<M::Sum>>() + 8), cursor)?;
        self.hops.expanded(hops, expanded);
        self.hops.reached(hops, new as u64);
        // A level is timed as a whole.
        if self.reached.get(self.expanded).is_none_or(|next| next.hops == hops) {
            self.hops.take_time(hops);
        }
        Ok(())
    }

    fn expand_weighted(&mut self, number: u32, measure: &mut M, cursor: &mut Cursor<'_>) -> Outcome<()> {
        let from = self.reached[number as usize];
        self.expanded += 1;
        let hops = from.hops + 1;
        let mut candidates = std::mem::take(&mut self.candidates);
        candidates.clear();
        let expanded = self.step.expand(from.node, self.backwards, cursor, |edge, other| {
            candidates.push((edge, other));
            ControlFlow::Continue(())
        })?;
        let (mut new, mut failed) = (0, expanded.failed);
        for &(edge, other) in &candidates {
            // What is settled needs no weight.
            if self.settled.has(other) {
                continue;
            }
            let known = self.numbers.get(other).map(|n| &mut self.reached[n as usize]);
            let Some(weight) = measure.of_edge(edge, cursor)? else {
                failed += 1;
                continue;
            };
            let sum = measure.add(from.sum, weight)?;
            if self.most.is_some_and(|most| sum > most) {
                failed += 1;
                continue;
            }
            match known {
                Some(known) if known.sum <= sum => continue,
                Some(known) => {
                    *known = Reached { node: other, parent: number, edge, hops, sum, settled: false };
                    let other = self.numbers.number(other).0;
                    self.waiting.push(sum, other);
                }
                None => {
                    let place = self.numbers.number(other).0;
                    self.reached.push(Reached {
                        node: other,
                        parent: number,
                        edge,
                        hops,
                        sum,
                        settled: false,
                    });
                    self.waiting.push(sum, place);
                    new += 1;
                }
            }
        }
        self.candidates = candidates;
        let bytes = size_of::<Reached<M::Sum>>() + size_of::<(M::Sum, u32)>() + 12;
        self.hold(new * bytes, cursor)?;
        self.hops.expanded(hops, Expanded { failed, ..expanded });
        self.hops.reached(hops, new as u64);
        self.hops.take_time_now_and_then(hops);
        Ok(())
    }

    fn hold(&mut self, bytes: usize, cursor: &mut Cursor<'_>) -> Outcome<()> {
        if bytes > 0 {
            cursor.context.reserve(bytes)?;
            self.held += bytes;
        }
        Ok(())
    }

    /// What happened since it was asked last took none of its time.
    pub fn resume(&mut self) {
        self.hops.resume();
    }

    /// Says what it did since it said so last.
    pub fn report(&mut self, cursor: &mut Cursor<'_>) {
        self.hops.report(cursor);
    }

    /// Gives its memory back.
    pub fn finish(&mut self, cursor: &mut Cursor<'_>) {
        self.report(cursor);
        cursor.context.release(std::mem::take(&mut self.held));
    }

    /// The edges and nodes from this node's parent back to the root.
    pub fn way_back(&self, number: u32) -> impl Iterator<Item = (u32, u32)> + '_ {
        let mut at = &self.reached[number as usize];
        std::iter::from_fn(move || {
            if at.edge == ROOT {
                return None;
            }
            let edge = at.edge;
            at = &self.reached[at.parent as usize];
            Some((edge, at.node))
        })
    }
}
