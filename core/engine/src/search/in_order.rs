//! Ends of paths with ordered values: for each end a path whose last value leaves the most room for the next. Of
//! two paths to a node, every continuation of the one with less room also continues the other; a path that returns
//! to a node has less room than before, so the paths found repeat no node. With a maximum length, a path with less
//! room is kept while it has fewer edges. This is the search for earliest arrivals (K. L. Cooke and E. Halsey, "The
//! shortest route through a network with time-dependent internodal transit times", 1966), over any comparable
//! values.

use std::cmp::{Ordering, Reverse};
use std::collections::BinaryHeap;
use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Direction, Value};
use graphodrome_language::ast::PathMode;
use hashbrown::HashMap;

use crate::context::Context;
use crate::counters::Side;
use crate::operators::EdgeCheck;
use crate::outcome::Outcome;
use crate::search::asked::FoundPath;
use crate::search::caps::{Caps, FoldedSoFar};
use crate::search::hop_table::HopTable;
use crate::search::{Cursor, SearchSpec, Step};

/// Bytes of a node that a way leads to, in all that is kept of it.
const REACHED_BYTES: usize = size_of::<LastEdge>() + size_of::<WaitingEnd>() + 2 * size_of::<Value>() + 24;

/// The last edge of a way.
struct LastEdge {
    node: u32,
    edge: u32,
    /// Where the way before it stands; of the start, its own place.
    before: u32,
    hops: u32,
    folded: FoldedSoFar,
}

/// A way that may be the best to its node.
struct WaitingEnd {
    /// The last value, such that the least leaves the most room; null before there is one.
    last: Value,
    falling: bool,
    place: u32,
}

impl Ord for WaitingEnd {
    fn cmp(&self, other: &Self) -> Ordering {
        let by_value = match (self.last.is_null(), other.last.is_null()) {
            (true, true) => Ordering::Equal,
            (true, false) => Ordering::Less,
            (false, true) => Ordering::Greater,
            // Only what can be compared is kept.
            (false, false) => match self.last.compare(&other.last) {
                Ok(Some(ordering)) if self.falling => ordering.reverse(),
                Ok(Some(ordering)) => ordering,
                _ => Ordering::Equal,
            },
        };
        by_value.then(self.place.cmp(&other.place))
    }
}

impl PartialOrd for WaitingEnd {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for WaitingEnd {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for WaitingEnd {}

/// Whether ends of the spec may be told so: only which there are matters, short paths count, and one back to the start
/// takes no edge twice, or is not asked for.
pub(crate) fn may_go_in_order(spec: &SearchSpec) -> bool {
    let one_way = spec.step.as_ref().is_some_and(|s| matches!(s.direction, Direction::Out | Direction::In));
    let plain = spec.min == 1 && spec.different_from.is_empty();
    plain && (one_way || spec.differs_from.contains(&spec.from)) && !spec.program.ambiguous
}

/// The ends that were found, in the order in which they were reached. Its memory is accounted for until it is
/// [given back](Self::finish).
pub(crate) struct EndsInOrder {
    reached: Vec<LastEdge>,
    /// Places of the ways that lead to ends, the next one last.
    ends: Vec<u32>,
    bytes: usize,
}

impl EndsInOrder {
    /// A path to the next end.
    pub fn next_path(&mut self, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>> {
        let Some(place) = self.ends.pop() else { return Ok(None) };
        let (mut nodes, mut edges, mut at) = (vec![self.reached[place as usize].node], vec![], place);
        while at != 0 {
            let LastEdge { edge, before, .. } = self.reached[at as usize];
            edges.push(edge);
            nodes.push(self.reached[before as usize].node);
            at = before;
        }
        nodes.reverse();
        edges.reverse();
        cursor.context.work(edges.len() as u64 + 1)?;
        Ok(Some(FoundPath { nodes, edges, hops: None }))
    }

    pub fn finish(self, context: &Context) {
        context.release(self.bytes);
    }
}

/// The ends that paths lead to; `None` where values cannot be compared with each other.
pub(crate) fn ends_in_order(
    spec: &SearchSpec, step: &Step, caps: &Arc<Caps>, (start, end): (u32, Option<u32>),
    cursor: &mut Cursor<'_>,
) -> Outcome<Option<EndsInOrder>> {
    let mut search = InOrderSearch {
        caps,
        falling: caps.falls(),
        reached: vec![],
        waiting: BinaryHeap::new(),
        settled: HashMap::new(),
        ends: vec![],
        bytes: 0,
        sample: Value::Null,
        hops: HopTable::new(Side::From),
    };
    let found = search.run(spec, step, (start, end), cursor);
    search.hops.report(cursor);
    let InOrderSearch { reached, mut ends, bytes, .. } = search;
    if !matches!(found, Ok(true)) {
        cursor.context.release(bytes);
    }
    ends.reverse();
    Ok(found?.then_some(EndsInOrder { reached, ends, bytes }))
}

struct InOrderSearch<'c> {
    caps: &'c Arc<Caps>,
    falling: bool,
    reached: Vec<LastEdge>,
    waiting: BinaryHeap<Reverse<WaitingEnd>>,
    /// The fewest edges of a way to each node.
    settled: HashMap<u32, u32>,
    ends: Vec<u32>,
    bytes: usize,
    /// The first value there was, with which all others can be compared.
    sample: Value,
    hops: HopTable,
}

impl InOrderSearch<'_> {
    /// Whether values could be compared.
    fn run(
        &mut self, spec: &SearchSpec, step: &Step, (start, end): (u32, Option<u32>), cursor: &mut Cursor<'_>,
    ) -> Outcome<bool> {
        let (test, direction) = (step.test.clone(), step.direction);
        let check = EdgeCheck { test, direction, different_from: spec.different_from.clone() };
        let folded = self.caps.none();
        self.reached.push(LastEdge { node: start, edge: 0, before: 0, hops: 0, folded });
        self.waiting.push(Reverse(WaitingEnd { last: Value::Null, falling: self.falling, place: 0 }));
        // Whether a way came back to the start.
        let mut came_back = false;
        let mut edges = vec![];
        while let Some(Reverse(next)) = self.waiting.pop() {
            let LastEdge { node, hops, .. } = self.reached[next.place as usize];
            if next.place > 0 && node == start {
                if !std::mem::replace(&mut came_back, true) {
                    self.give(next.place, spec, end, cursor)?;
                }
                continue;
            }
            if self.is_no_better(node, hops, spec) {
                continue;
            }
            let is_first = self.settled.insert(node, hops).is_none();
            if next.place > 0 && is_first {
                self.give(next.place, spec, end, cursor)?;
                if end == Some(node) {
                    break;
                }
            }
            if spec.max.is_some_and(|max| hops >= max) {
                continue;
            }
            edges.clear();
            let (batch, row) = (cursor.batch, cursor.row);
            let expanded = step.expand(node, spec.reversed, cursor, |edge, other| {
                if check.is_different(edge, batch, row) {
                    edges.push((edge, other));
                }
                ControlFlow::Continue(())
            })?;
            self.hops.expanded(hops + 1, expanded);
            for &(edge, other) in &edges {
                // One back to the start may be an end; any other would come too late.
                if self.is_no_better(other, hops + 1, spec) && (other != start || came_back) {
                    continue;
                }
                if self.go_on(next.place, (edge, other), spec, cursor)?.is_none() {
                    return Ok(false);
                }
            }
            self.hops.take_time_now_and_then(hops + 1);
            let bytes = self.reached.len() * REACHED_BYTES;
            let more = bytes - self.bytes;
            self.bytes = bytes;
            cursor.context.reserve(more)?;
        }
        Ok(true)
    }

    /// Whether a way to the node that had more room had no more edges, as far as their number matters.
    fn is_no_better(&self, node: u32, hops: u32, spec: &SearchSpec) -> bool {
        self.settled.get(&node).is_some_and(|known| spec.max.is_none() || *known <= hops)
    }

    /// Takes an edge, where its value may follow; `None` where nobody can tell.
    fn go_on(
        &mut self, before: u32, (edge, node): (u32, u32), spec: &SearchSpec, cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<()>> {
        let local = spec.step.as_ref().and_then(|step| step.locals[1]);
        let LastEdge { folded, hops, .. } = &self.reached[before as usize];
        let hops = hops + 1;
        let Some(folded) = self.caps.and(folded, (edge, local), cursor)? else {
            self.hops.failed(hops);
            return Ok(Some(()));
        };
        let Some(last) = folded.last_value() else { return Ok(None) };
        if !last.is_null() {
            if self.sample.is_null() {
                self.sample = last.clone();
            }
            if !matches!(last.compare(&self.sample), Ok(Some(_))) {
                return Ok(None);
            }
        }
        self.hops.reached(hops, 1);
        let place = self.reached.len() as u32;
        self.waiting.push(Reverse(WaitingEnd { last, falling: self.falling, place }));
        self.reached.push(LastEdge { node, edge, before, hops, folded });
        Ok(Some(()))
    }

    /// Notes the way to a place, where that is an end.
    fn give(
        &mut self, place: u32, spec: &SearchSpec, end: Option<u32>, cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let node = self.reached[place as usize].node;
        let back = node == self.reached[0].node;
        let wanted = end.is_none_or(|end| end == node) && !(back && spec.mode == PathMode::Acyclic);
        if wanted && spec.is_target(node, cursor)? {
            self.ends.push(place);
        }
        Ok(())
    }
}
