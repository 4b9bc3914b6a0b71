//! Guided searches: shortest and cheapest paths over one repeated edge. A single path is read from the search tree
//! that found its end. Several paths, or a mode that a walk may violate, are produced one by one between the two
//! nodes, without following prefixes that do not reach the end.

use std::sync::Arc;

use graphodrome_graph::Code;
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::PathMode;

use crate::counters::Side;
use crate::outcome::Outcome;
use crate::search::SearchSpec;
use crate::search::asked::{FoundPath, GuidedSearch, PathSource, path_to};
use crate::search::both_ends::{cheapest_between, meet_in_the_middle};
use crate::search::breadth::{cycle_exists, goes_both_ways};
use crate::search::cursor::Cursor;
use crate::search::deviations::Deviations;
use crate::search::guide::Guide;
use crate::search::measure::{AnyWeights, EdgeWeight, Hops, Measure, WholeWeights};
use crate::search::spread::Spread;
use crate::search::towards::cheapest_towards;
use crate::search::within::WithinSums;

pub(super) fn by_hops(search: &Arc<GuidedSearch>, ends: (u32, Option<u32>)) -> Box<dyn PathSource> {
    Box::new(Guided::new(search, ends, Hops))
}

pub(super) fn by_measure<M: BetweenEnds>(
    search: &Arc<GuidedSearch>, ends: (u32, Option<u32>), measure: M,
) -> Box<dyn PathSource> {
    match &search.within {
        Some(bound) => Box::new(WithinSums::new(search, bound, ends, measure)),
        None => Box::new(Guided::new(search, ends, measure)),
    }
}

enum Stage<M: Measure> {
    New,
    /// Between two nodes.
    Between(Box<(Guide<M>, Deviations<M>)>),
    /// From the start to any end: how many of the nearest nodes were looked at, and the paths of the last of them.
    ToAll {
        guide: Box<Guide<M>>,
        at: usize,
        paths: Option<Box<Deviations<M>>>,
    },
    Done,
}

struct Guided<M: BetweenEnds> {
    search: Arc<GuidedSearch>,
    start: u32,
    target: Option<u32>,
    measure: M,
    stage: Stage<M>,
}

impl<M: BetweenEnds> Guided<M> {
    fn new(search: &Arc<GuidedSearch>, (start, target): (u32, Option<u32>), measure: M) -> Guided<M> {
        Guided { search: search.clone(), start, target, measure, stage: Stage::New }
    }

    /// Whether the mode allows any path of at least one edge from a node back to it.
    fn may_close(&self, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let search = &self.search;
        match search.mode {
            PathMode::Acyclic => Ok(false),
            // Over one edge to and fro no node between comes twice.
            PathMode::Walk | PathMode::Simple => Ok(true),
            PathMode::Trail if goes_both_ways(&search.step) => {
                cycle_exists(&search.step, self.start, search.max, cursor)
            }
            PathMode::Trail => Ok(true),
        }
    }

    /// Begins; a path that is all there is comes at once.
    fn begin(&mut self, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>> {
        let search = self.search.clone();
        let start = self.start;
        self.stage = Stage::Done;
        let Some(target) = self.target else {
            let spread =
                Spread::new(search.step.clone(), start, search.backwards, Side::From, search.max, cursor);
            self.stage = Stage::ToAll { guide: Box::new(Guide::new(spread)), at: 0, paths: None };
            return Ok(None);
        };
        if target == start && search.min > 0 && !self.may_close(cursor)? {
            return Ok(None);
        }
        if search.any_walk && target != start {
            if let Some(bound) = &search.bound {
                return cheapest_towards(&search, bound, (start, target), &mut self.measure, cursor);
            }
            if search.both_ends {
                return self.measure.any_between(&search, (start, target), cursor);
            }
            let mut spread =
                Spread::new(search.step.clone(), start, search.backwards, Side::From, search.max, cursor);
            let number = spread.find(target, &mut self.measure, cursor)?;
            let path = number.map(|number| path_to(&spread, number));
            spread.finish(cursor);
            return Ok(path);
        }
        let ends = (start, target);
        let guide = self.measure.guide(&search, ends, cursor)?;
        if let Some(mut guide) = guide {
            let paths = Deviations::new(&search, ends, search.backwards, &guide, &mut self.measure, cursor)?;
            guide.spread.report(cursor);
            self.stage = Stage::Between(Box::new((guide, paths)));
        }
        Ok(None)
    }

    /// The next path to any end.
    fn next_of_all(&mut self, spec: &SearchSpec, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>> {
        let search = self.search.clone();
        loop {
            let Stage::ToAll { guide, at, paths } = &mut self.stage else { return Ok(None) };
            if let Some(some) = paths {
                if let Some(mut path) = some.next(&search, guide, &mut self.measure, cursor)? {
                    path.nodes.reverse();
                    path.edges.reverse();
                    return Ok(Some(path));
                }
                some.finish(cursor);
                *paths = None;
            }
            let Some(number) = guide.spread.nearest(*at, &mut self.measure, cursor)? else {
                guide.finish(cursor);
                self.stage = Stage::Done;
                return Ok(None);
            };
            *at += 1;
            cursor.context.work(1)?;
            if let Some(caps) = &search.stop {
                let sum = self.measure.value(guide.spread.reached[number as usize].sum);
                // All others cost as much.
                if *at > 1 && !caps.sum_may_hold(sum, cursor)? {
                    guide.finish(cursor);
                    self.stage = Stage::Done;
                    return Ok(None);
                }
            }
            let end = guide.spread.reached[number as usize].node;
            if !spec.is_target(end, cursor)? {
                continue;
            }
            if search.any_walk && search.bare && end != self.start {
                let hops = Some(guide.spread.reached[number as usize].hops);
                return Ok(Some(FoundPath { nodes: vec![end], edges: vec![], hops }));
            }
            if search.any_walk && end != self.start {
                return Ok(Some(path_to(&guide.spread, number)));
            }
            if end == self.start && search.min > 0 && !self.may_close(cursor)? {
                continue;
            }
            // From the end back to the start, of which it is known how far it is.
            let Stage::ToAll { guide, paths, .. } = &mut self.stage else { return Ok(None) };
            let ends = (end, self.start);
            let some = Deviations::new(&search, ends, !search.backwards, guide, &mut self.measure, cursor)?;
            *paths = Some(Box::new(some));
        }
    }

    /// Says of the edges that have no weight, once.
    fn warn(&mut self, cursor: &mut Cursor<'_>) {
        if let (1.., Some(weight)) = (self.measure.impassable(), &self.search.weight) {
            warn_of_impassable(self.measure.impassable(), weight, cursor);
        }
    }
}

pub(crate) fn warn_of_impassable(edges: usize, weight: &EdgeWeight, cursor: &mut Cursor<'_>) {
    let text = format!("edges without a weight (null), not used: {edges}");
    cursor.context.warnings.push(Diagnostic::warning(Code::DATA, weight.expression.span, text));
}

impl<M: BetweenEnds> PathSource for Guided<M> {
    fn next(&mut self, spec: &SearchSpec, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>> {
        let path = match &mut self.stage {
            Stage::Done => return Ok(None),
            Stage::New => {
                let all = self.begin(cursor)?;
                if all.is_none() && !matches!(self.stage, Stage::Done) {
                    return self.next(spec, cursor);
                }
                all
            }
            Stage::Between(both) => {
                let (guide, paths) = &mut **both;
                let path = paths.next(&self.search, guide, &mut self.measure, cursor)?;
                if path.is_none() {
                    guide.finish(cursor);
                    paths.finish(cursor);
                    self.stage = Stage::Done;
                }
                path
            }
            Stage::ToAll { .. } => self.next_of_all(spec, cursor)?,
        };
        if matches!(self.stage, Stage::Done) {
            self.warn(cursor);
        }
        Ok(path)
    }

    fn resume(&mut self) {
        match &mut self.stage {
            Stage::Between(both) => both.0.spread.resume(),
            Stage::ToAll { guide, .. } => guide.spread.resume(),
            Stage::New | Stage::Done => {}
        }
    }

    fn report(&mut self, cursor: &mut Cursor<'_>) {
        match &mut self.stage {
            Stage::Between(both) => both.0.spread.report(cursor),
            Stage::ToAll { guide, .. } => guide.spread.report(cursor),
            Stage::New | Stage::Done => {}
        }
    }

    fn give_back(&mut self, cursor: &mut Cursor<'_>) {
        match std::mem::replace(&mut self.stage, Stage::Done) {
            Stage::Between(mut both) => {
                both.0.finish(cursor);
                both.1.finish(cursor);
            }
            Stage::ToAll { mut guide, paths, .. } => {
                guide.finish(cursor);
                if let Some(mut paths) = paths {
                    paths.finish(cursor);
                }
            }
            Stage::New | Stage::Done => {}
        }
    }

    fn gave_up(&self) -> bool {
        self.measure.gave_up()
    }
}

/// What a measure does with two bound ends.
pub(super) trait BetweenEnds: Measure + Send + Sized + 'static {
    /// The guide to the second node, where it can be reached from the first.
    fn guide(
        &mut self, search: &GuidedSearch, (from, to): (u32, u32), cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<Guide<Self>>> {
        let step = search.step.clone();
        let spread = Spread::new(step, to, !search.backwards, Side::To, search.max, cursor);
        let mut guide = Guide::new(spread);
        let found = guide.find(from, self, cursor)?.is_some();
        if !found {
            guide.spread.finish(cursor);
        }
        Ok(found.then_some(guide))
    }

    /// A cheapest way between two different nodes.
    fn any_between(
        &mut self, search: &GuidedSearch, ends: (u32, u32), cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<FoundPath>> {
        cheapest_between(search, ends, self, cursor)
    }
}

impl BetweenEnds for Hops {
    fn guide(
        &mut self, search: &GuidedSearch, ends: (u32, u32), cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<Guide<Hops>>> {
        Guide::between(&search.step, ends, search.backwards, search.max, cursor)
    }

    fn any_between(
        &mut self, search: &GuidedSearch, ends: (u32, u32), cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<FoundPath>> {
        meet_in_the_middle(&search.step, ends, search.backwards, search.max, cursor)
    }
}

impl BetweenEnds for WholeWeights {}

impl BetweenEnds for AnyWeights {}
