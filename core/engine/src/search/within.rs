//! The ends that paths of a bounded sum lead to, least sum first: a cheapest path to each of them, as far as the
//! conditions on the sum allow.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Direction, Value};
use graphodrome_language::ast::PathMode;

use crate::counters::Side;
use crate::evaluate::holds;
use crate::outcome::Outcome;
use crate::row::Row;
use crate::search::SearchSpec;
use crate::search::asked::{FoundPath, GuidedSearch, PathSource, SumBound, path_to};
use crate::search::cursor::Cursor;
use crate::search::measure::Measure;
use crate::search::spread::{ROOT, Spread};
use crate::search::step::Step;

/// Sums up to here are asked for.
const GREATEST: u64 = 1 << 61;

pub(super) struct WithinSums<M: Measure> {
    search: Arc<GuidedSearch>,
    bound: Arc<SumBound>,
    start: u32,
    target: Option<u32>,
    measure: M,
    spread: Option<Box<Spread<M>>>,
    /// How many of the nearest nodes were looked at.
    at: usize,
    done: bool,
}

/// Whether a path back to its start can be told from what a search from there finds: its edges go one way, or each
/// of them both ways alike.
pub(crate) fn closes_alike(step: &Step) -> bool {
    match step.direction {
        Direction::Out | Direction::In => true,
        Direction::Undirected | Direction::OutOrIn | Direction::Any => {
            step.before.is_none() && step.after.is_none() && step.conditions.is_empty()
        }
        _ => false,
    }
}

impl<M: Measure> WithinSums<M> {
    pub fn new(
        search: &Arc<GuidedSearch>, bound: &Arc<SumBound>, (start, target): (u32, Option<u32>), measure: M,
    ) -> WithinSums<M> {
        let (search, bound) = (search.clone(), bound.clone());
        WithinSums { search, bound, start, target, measure, spread: None, at: 0, done: false }
    }

    /// An end is told by its sum, and nobody reads the path.
    fn by_sum_alone(&self) -> bool {
        M::EXACT && !self.bound.settled.is_empty()
    }

    /// Whether a path satisfies the conditions, where these are tested here.
    fn settles(&self, path: &FoundPath, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let end = path.nodes.last().map_or(Value::Null, |node| Value::Node(*node));
        let edges = Value::list(path.edges.iter().map(|edge| Value::Edge(*edge)).collect());
        let mut locals = vec![Value::Null, edges];
        if self.target.is_none() {
            locals.insert(0, end);
        }
        let at = Row { batch: cursor.batch, row: cursor.row, locals: &locals };
        for condition in &self.bound.settled {
            let context = &mut *cursor.context;
            let counters = &mut context.metrics[context.current].counters;
            if !holds(condition, at, &context.scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// The path with this sum, where it satisfies the conditions.
    fn taken(
        &self, sum: M::Sum, end: u32, path: impl FnOnce() -> FoundPath, cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<FoundPath>> {
        if self.by_sum_alone() {
            let holds = self.bound.caps.sum_holds(self.measure.value(sum), cursor)?;
            return Ok(holds.then(|| FoundPath { nodes: vec![end], edges: vec![], hops: None }));
        }
        let path = path();
        Ok(self.settles(&path, cursor)?.then_some(path))
    }

    fn begin(&mut self, cursor: &mut Cursor<'_>) -> Outcome<()> {
        if self.spread.is_some() {
            return Ok(());
        }
        let (step, back) = (self.search.step.clone(), self.search.backwards);
        let mut spread = Spread::new(step, self.start, back, Side::From, None, cursor);
        if M::of_whole(0).is_some() {
            spread.most = self.most(cursor)?.and_then(M::of_whole);
        }
        self.spread = Some(Box::new(spread));
        Ok(())
    }

    /// The greatest whole sum that leaves a path a chance: what is above it leaves none. `None` where any does.
    fn most(&self, cursor: &mut Cursor<'_>) -> Outcome<Option<u64>> {
        let mut may = |sum: u64| match M::of_whole(sum) {
            Some(sum) => self.bound.caps.sum_may_hold(self.measure.value(sum), cursor),
            None => Ok(true),
        };
        let mut above = 1u64;
        while may(above)? {
            if above > GREATEST {
                return Ok(None);
            }
            above *= 2;
        }
        let mut most = above / 2;
        while above - most > 1 {
            let middle = most + (above - most) / 2;
            if may(middle)? {
                most = middle;
            } else {
                above = middle;
            }
        }
        Ok(Some(most))
    }

    /// A path back to the start that satisfies the conditions, from what is known of all nodes that it may go through.
    fn ring(&mut self, spread: &Spread<M>, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>> {
        let search = self.search.clone();
        if search.mode == PathMode::Acyclic {
            return Ok(None);
        }
        let one_way = matches!(search.step.direction, Direction::Out | Direction::In);
        let mut arcs = vec![];
        let expand = |node: u32, back: bool, cursor: &mut Cursor<'_>, arcs: &mut Vec<(u32, u32)>| {
            arcs.clear();
            search.step.expand(node, back, cursor, |edge, other| {
                arcs.push((edge, other));
                ControlFlow::Continue(())
            })
        };
        if one_way {
            expand(self.start, !search.backwards, cursor, &mut arcs)?;
            for &(edge, other) in &arcs {
                if let Some(number) = spread.known(other)
                    && let Some(sum) = self.closes(spread, (number, edge, 0), cursor)?
                {
                    let start = self.start;
                    let path = || {
                        let mut path = path_to(spread, number);
                        path.edges.push(edge);
                        path.nodes.push(start);
                        path
                    };
                    if let Some(path) = self.taken(sum, start, path, cursor)? {
                        return Ok(Some(path));
                    }
                }
            }
            return Ok(None);
        }
        // The first edge on the way to each node: two ways that begin with different ones have nothing in common.
        let mut first = vec![ROOT; spread.reached.len()];
        for &number in spread.settled() {
            let reached = &spread.reached[number as usize];
            if reached.edge != ROOT {
                let before = first[reached.parent as usize];
                first[number as usize] = if before == ROOT { reached.edge } else { before };
            }
            expand(reached.node, search.backwards, cursor, &mut arcs)?;
            for &(edge, other) in &arcs {
                let Some(back) =
                    spread.known(other).filter(|n| *n == number || first[*n as usize] != ROOT || *n == 0)
                else {
                    continue;
                };
                let of_tree = edge == reached.edge || edge == spread.reached[back as usize].edge;
                let apart = first[number as usize] != first[back as usize] || number == 0 && back == 0;
                if of_tree || !apart {
                    continue;
                }
                let Some(sum) = self.closes(spread, (number, edge, back), cursor)? else { continue };
                let path = || {
                    let mut path = path_to(spread, number);
                    path.edges.push(edge);
                    path.nodes.push(other);
                    for (edge, node) in spread.way_back(back) {
                        path.edges.push(edge);
                        path.nodes.push(node);
                    }
                    path
                };
                if let Some(path) = self.taken(sum, self.start, path, cursor)? {
                    return Ok(Some(path));
                }
            }
        }
        Ok(None)
    }

    /// The sum of the way to one node, an edge and the way back from another, where it may satisfy the conditions.
    fn closes(
        &mut self, spread: &Spread<M>, (there, edge, back): (u32, u32, u32), cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<M::Sum>> {
        let Some(weight) = self.measure.of_edge(edge, cursor)? else { return Ok(None) };
        let sum = self.measure.add(spread.reached[there as usize].sum, weight)?;
        let sum = self.measure.add(sum, spread.reached[back as usize].sum)?;
        Ok(self.bound.caps.sum_may_hold(self.measure.value(sum), cursor)?.then_some(sum))
    }
}

impl<M: Measure + Send> PathSource for WithinSums<M>
where
    Spread<M>: Send,
{
    fn next(&mut self, spec: &SearchSpec, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>> {
        if self.done {
            return Ok(None);
        }
        self.begin(cursor)?;
        let Some(mut spread) = self.spread.take() else { return Ok(None) };
        while let Some(number) = spread.nearest(self.at, &mut self.measure, cursor)? {
            let reached = spread.reached[number as usize];
            if !self.bound.caps.sum_may_hold(self.measure.value(reached.sum), cursor)? {
                break;
            }
            self.at += 1;
            cursor.context.work(1)?;
            let wanted = self.target.is_none_or(|target| target == reached.node);
            if number > 0
                && wanted
                && spec.is_target(reached.node, cursor)?
                && let Some(path) =
                    self.taken(reached.sum, reached.node, || path_to(&spread, number), cursor)?
            {
                self.done = self.target.is_some();
                match self.done {
                    true => spread.finish(cursor),
                    false => self.spread = Some(spread),
                }
                return Ok(Some(path));
            }
        }
        self.done = true;
        let back =
            self.target.is_none_or(|target| target == self.start) && spec.is_target(self.start, cursor)?;
        let ring = if back { self.ring(&spread, cursor)? } else { None };
        spread.finish(cursor);
        Ok(ring)
    }

    fn resume(&mut self) {
        self.spread.iter_mut().for_each(|spread| spread.resume());
    }

    fn report(&mut self, cursor: &mut Cursor<'_>) {
        self.spread.iter_mut().for_each(|spread| spread.report(cursor));
    }

    fn give_back(&mut self, cursor: &mut Cursor<'_>) {
        if let Some(mut spread) = self.spread.take() {
            spread.finish(cursor);
        }
    }

    fn gave_up(&self) -> bool {
        self.measure.gave_up()
    }
}
