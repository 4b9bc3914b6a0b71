//! Cheapest paths whose weights may be whole numbers or not: they are looked for with whole numbers, and, from the first
//! weight on that is none, once more with any numbers.

use std::collections::VecDeque;
use std::sync::Arc;

use graphodrome_graph::Code;
use graphodrome_language::Diagnostic;
use hashbrown::{HashMap, HashSet};

use crate::outcome::Outcome;
use crate::search::SearchSpec;
use crate::search::asked::{FoundPath, GuidedSearch, PathSource, Quota};
use crate::search::cursor::Cursor;
use crate::search::guided::{by_hops, by_measure};
use crate::search::measure::{AnyWeights, EdgeWeight, WholeWeights, always_whole};

/// The paths from `start`, to `target` where it is given.
pub(crate) fn paths_from(search: &Arc<GuidedSearch>, start: u32, target: Option<u32>) -> Box<dyn PathSource> {
    match &search.weight {
        None => by_hops(search, (start, target)),
        Some(weight) => Box::new(Weighted::new(search, weight, (start, target))),
    }
}

/// Bytes of an end's entry, and of a path's beside its edges.
const ENTRY: usize = 80;

/// The two searches may find the ends, and the paths that cost the same, in different orders: what was given out by the
/// first is told by its end and its edges.
pub(super) struct Weighted {
    source: Box<dyn PathSource>,
    search: Arc<GuidedSearch>,
    weight: Arc<EdgeWeight>,
    ends: (u32, Option<u32>),
    /// Whether every weight is certainly a whole number.
    whole: Option<bool>,
    /// Whether the second search runs.
    again: bool,
    gave_any: bool,
    /// The edges of what the first search gave out, by the paths' ends.
    given: HashMap<u32, HashSet<Vec<u32>>>,
    held: usize,
    /// Paths of one end that are left to give out, and the first of the next end.
    ahead: VecDeque<FoundPath>,
    next_end: Option<FoundPath>,
}

impl Weighted {
    pub fn new(search: &Arc<GuidedSearch>, weight: &Arc<EdgeWeight>, ends: (u32, Option<u32>)) -> Weighted {
        Weighted {
            source: by_measure(search, ends, WholeWeights::new(weight.clone())),
            search: search.clone(),
            weight: weight.clone(),
            ends,
            whole: None,
            again: false,
            gave_any: false,
            given: HashMap::new(),
            held: 0,
            ahead: VecDeque::new(),
            next_end: None,
        }
    }

    /// Whether each end has one path at most.
    fn gives_one(&self) -> bool {
        self.search.any_walk || self.search.within.is_some() || self.search.quota == Quota::First(1)
    }

    fn remember(&mut self, path: &FoundPath, cursor: &mut Cursor<'_>) -> Outcome<()> {
        self.gave_any = true;
        let weight = &self.weight;
        if *self.whole.get_or_insert_with(|| always_whole(weight, cursor)) {
            return Ok(());
        }
        // Of an end with one path at most the end says all.
        let edges = (!self.gives_one()).then(|| path.edges.clone());
        self.hold(edges.as_ref().map_or(ENTRY, |edges| 2 * ENTRY + 4 * edges.len()), cursor)?;
        let of_end = self.given.entry(end_of(path)).or_default();
        of_end.extend(edges);
        Ok(())
    }

    fn hold(&mut self, bytes: usize, cursor: &mut Cursor<'_>) -> Outcome<()> {
        cursor.context.reserve(bytes)?;
        self.held += bytes;
        Ok(())
    }

    fn forget(&mut self, cursor: &mut Cursor<'_>) {
        self.given = HashMap::new();
        cursor.context.release(std::mem::take(&mut self.held));
    }

    /// Of an end of which some paths were given out, the paths that make them as many as are wanted.
    fn rest_of_end(&mut self, first: FoundPath, spec: &SearchSpec, cursor: &mut Cursor<'_>) -> Outcome<()> {
        let end = end_of(&first);
        let mut all = vec![first];
        loop {
            match self.source.next(spec, cursor)? {
                Some(path) if end_of(&path) == end => {
                    self.hold(ENTRY + 4 * (path.nodes.len() + path.edges.len()), cursor)?;
                    all.push(path);
                }
                other => {
                    self.next_end = other;
                    break;
                }
            }
        }
        let Some(given) = self.given.get(&end) else { return Ok(()) };
        let left = all.len().saturating_sub(given.len());
        all.retain(|path| !given.contains(&path.edges));
        // Those that cost as much as what was given out in their place come first.
        self.ahead = all.split_off(all.len().saturating_sub(left)).into();
        Ok(())
    }

    /// The next path of the second search that was not given out by the first.
    fn next_again(&mut self, spec: &SearchSpec, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>> {
        loop {
            if let Some(path) = self.ahead.pop_front() {
                return Ok(Some(path));
            }
            let next = match self.next_end.take() {
                Some(path) => Some(path),
                None => self.source.next(spec, cursor)?,
            };
            let Some(path) = next else {
                self.forget(cursor);
                return Ok(None);
            };
            match self.given.get(&end_of(&path)) {
                None => return Ok(Some(path)),
                Some(_) if self.gives_one() => {}
                Some(given) => match self.search.quota {
                    // All of one cost are wanted, whatever their order.
                    Quota::Groups(_) if given.contains(&path.edges) => {}
                    Quota::Groups(_) => return Ok(Some(path)),
                    Quota::First(_) => self.rest_of_end(path, spec, cursor)?,
                },
            }
        }
    }
}

fn end_of(path: &FoundPath) -> u32 {
    path.nodes.last().copied().unwrap_or_default()
}

impl PathSource for Weighted {
    fn next(&mut self, spec: &SearchSpec, cursor: &mut Cursor<'_>) -> Outcome<Option<FoundPath>> {
        if self.again {
            return self.next_again(spec, cursor);
        }
        let path = self.source.next(spec, cursor);
        if !self.source.gave_up() {
            let path = path?;
            match &path {
                Some(path) => self.remember(path, cursor)?,
                None => self.forget(cursor),
            }
            return Ok(path);
        }
        if self.whole == Some(true) && self.gave_any {
            let span = self.weight.expression.span;
            let text = "the sum of a path's weights is beyond what can be added exactly";
            return Err(Diagnostic::error(Code::NUMBER_OUT_OF_RANGE, span, text));
        }
        self.source.give_back(cursor);
        self.source = by_measure(&self.search, self.ends, AnyWeights::new(self.weight.clone()));
        self.again = true;
        self.next_again(spec, cursor)
    }

    fn resume(&mut self) {
        self.source.resume();
    }

    fn report(&mut self, cursor: &mut Cursor<'_>) {
        self.source.report(cursor);
    }
}
