//! Depth-first enumeration of all paths that a program accepts, within a path mode. An explicit stack:
//! depth is bounded by memory that is accounted for, never by the machine's stack, and a path can be
//! handed out before the next one is looked for.

use std::ops::{ControlFlow, Range};
use std::sync::Arc;

use graphodrome_graph::{Direction, EdgeTest, PlainRows, Snapshot, Value};
use graphodrome_language::ast::PathMode;
use hashbrown::{HashMap, HashSet};

use crate::counters::Side;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::operators::{EdgeCheck, seek};
use crate::outcome::Outcome;
use crate::row::Row;
use crate::search::caps::{Caps, FoldedSoFar};
use crate::search::cursor::Cursor;
use crate::search::hop_table::HopTable;
use crate::search::measure::Hops;
use crate::search::program::{Event, Mark, OpenParts, Program, State, part};
use crate::search::spread::Spread;
use crate::search::step::{Expanded, Step};

/// A point to come back to.
struct Choice {
    state: usize,
    node: u32,
    edges: usize,
    events: usize,
    /// Candidates in the arena still to try, for a choice of edges.
    candidates: Option<(usize, usize)>,
}

/// Keeps an enumeration off what does not get to its end within its length.
pub(crate) struct EndGuide {
    spread: Spread<Hops>,
    max: u32,
    /// Nodes within so many edges of the end, in their order, as far as they were asked for.
    within: [Option<Arc<[u32]>>; NEAREST as usize + 1],
    /// Bytes of those lists.
    held: usize,
}

/// Within so many edges of the end they are looked up; further away most nodes are within reach, and lists are long.
const NEAREST: u32 = 3;

/// A node with no more edges than these goes through all of them.
const FEW_EDGES: usize = 8;

impl EndGuide {
    pub fn to(end: u32, step: &Arc<Step>, backwards: bool, max: u32, cursor: &Cursor<'_>) -> EndGuide {
        let spread = Spread::new(step.clone(), end, !backwards, Side::To, Some(max), cursor);
        EndGuide { spread, max, within: Default::default(), held: 0 }
    }

    /// The nodes among which the one after the edge with this number must be, where that is in the half nearest to
    /// the end.
    fn nearby(&mut self, taken: u32, cursor: &mut Cursor<'_>) -> Outcome<Option<Arc<[u32]>>> {
        let left = self.max.saturating_sub(taken);
        if left > self.max.div_ceil(2).min(NEAREST) {
            return Ok(None);
        }
        if let Some(known) = &self.within[left as usize] {
            return Ok(Some(known.clone()));
        }
        while self.spread.depth().is_some_and(|depth| depth < left)
            && self.spread.advance(&mut Hops, cursor)?.is_some()
        {}
        let near = self.spread.reached.iter().filter(|reached| reached.hops <= left);
        let mut near: Vec<u32> = near.map(|reached| reached.node).collect();
        cursor.context.reserve(size_of_val(&near[..]))?;
        self.held += size_of_val(&near[..]);
        near.sort_unstable();
        let near: Arc<[u32]> = near.into();
        self.within[left as usize] = Some(near.clone());
        Ok(Some(near))
    }

    /// Gives its memory back.
    fn finish(&mut self, cursor: &mut Cursor<'_>) {
        self.spread.finish(cursor);
        cursor.context.release(std::mem::take(&mut self.held));
    }

    /// Whether the end can be reached from `node` by as many edges as are left after `taken`. In the first half of
    /// the way that is not looked at, so that the half nearest to the end is all that is searched for it.
    fn may_follow(&mut self, node: u32, taken: u32, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let left = self.max.saturating_sub(taken);
        if left > self.max.div_ceil(2) {
            return Ok(true);
        }
        loop {
            if let Some(number) = self.spread.known(node) {
                return Ok(self.spread.reached[number as usize].hops <= left);
            }
            // What is not known yet is further away than all that is.
            if self.spread.depth().is_none_or(|depth| depth >= left)
                || self.spread.advance(&mut Hops, cursor)?.is_none()
            {
                return Ok(false);
            }
        }
    }
}

/// Edges to nodes that may follow, and how many entries were looked at for them.
struct Common {
    found: Vec<(u32, u32)>,
    looked: u64,
}

/// One list must be so many times as long as the other for looking up each entry of that.
const FEWER: usize = 4;

/// The row of a node whose edges are worth looking up, where it lies in the base in the order of its other ends.
fn long_row<'s>(
    snapshot: &'s Snapshot, node: u32, direction: Direction, test: &EdgeTest,
) -> Option<(PlainRows<'s>, Range<usize>)> {
    if !snapshot.untouched(node) {
        return None;
    }
    let rows = snapshot.plain_rows(direction, test)?;
    let row = rows.side.row(node);
    (row.len() > FEW_EDGES).then_some((rows, row))
}

/// The edges of a row to nodes of a list, by looking up the entries of the shorter in the longer; `None` where all
/// edges had better be gone through.
fn among((rows, row): (PlainRows<'_>, Range<usize>), near: &[u32]) -> Option<Common> {
    let begin = row.start;
    let others = rows.side.entries(row);
    let mut found = vec![];
    let mut at = 0;
    let mut take = |at: &mut usize, other: u32| {
        while others.get(*at) == Some(&other) {
            found.push((rows.edge(begin + *at), other));
            *at += 1;
        }
    };
    if near.len() * FEWER <= others.len() {
        for &other in near {
            at = seek(others, at, other);
            take(&mut at, other);
        }
        return Some(Common { found, looked: near.len() as u64 });
    }
    if others.len() * FEWER > near.len() {
        return None;
    }
    let (mut place, looked) = (0, others.len() as u64);
    while let Some(&other) = others.get(at) {
        place = seek(near, place, other);
        match near.get(place) {
            Some(node) if *node == other => take(&mut at, other),
            _ => at += 1,
        }
    }
    Some(Common { found, looked })
}

pub(crate) struct Enumerator {
    program: Arc<Program>,
    mode: PathMode,
    /// No edge comes twice, whatever the mode says of nodes.
    trails: bool,
    different_from: Vec<usize>,
    choices: Vec<Choice>,
    arena: Vec<(u32, u32)>,
    pub nodes: Vec<u32>,
    pub edges: Vec<u32>,
    /// How often each edge (TRAIL) or node (SIMPLE, ACYCLIC) is on the path.
    used: HashMap<u32, u32>,
    /// What is left to the end, where that is bound and paths have a longest length.
    guide: Option<EndGuide>,
    /// What no longer path may come to satisfy, and what was folded of it after each edge.
    caps: Option<Arc<Caps>>,
    folded: Vec<FoldedSoFar>,
    hops: HopTable,
    /// What happened along the path.
    pub events: Vec<Event>,
    /// Matches given out already, where one may be found in several ways.
    given: HashSet<u128>,
    locals: Vec<Value>,
    previous: Vec<Value>,
}

impl Enumerator {
    pub fn new(program: Arc<Program>, mode: PathMode, trails: bool, different_from: Vec<usize>) -> Self {
        let locals = vec![Value::Null; program.locals];
        Enumerator {
            program,
            mode,
            trails,
            different_from,
            choices: vec![],
            arena: vec![],
            nodes: vec![],
            edges: vec![],
            used: HashMap::new(),
            guide: None,
            caps: None,
            folded: vec![],
            hops: HopTable::new(Side::From),
            events: vec![],
            given: HashSet::new(),
            locals,
            previous: vec![],
        }
    }

    /// Gives ways up that are past these conditions.
    pub fn give_up_past(&mut self, caps: Option<Arc<Caps>>) {
        self.caps = caps;
    }

    /// Its time runs again.
    pub fn resume(&mut self) {
        self.hops.resume();
    }

    /// Says what it did since it said so last.
    pub fn report(&mut self, cursor: &mut Cursor<'_>) {
        self.hops.report(cursor);
    }

    /// Begins at `node`; `guide` leads to the end, where it is to be looked for.
    pub fn start(&mut self, node: u32, guide: Option<EndGuide>, cursor: &mut Cursor<'_>) {
        if let Some(mut before) = std::mem::replace(&mut self.guide, guide) {
            before.finish(cursor);
        }
        self.choices.clear();
        self.arena.clear();
        self.nodes.clear();
        self.nodes.push(node);
        self.edges.clear();
        self.used.clear();
        self.events.clear();
        self.given.clear();
        self.folded.clear();
        self.folded.extend(self.caps.iter().map(|caps| caps.none()));
        self.previous.clear();
        self.locals.iter_mut().for_each(|l| *l = Value::Null);
        if matches!(self.mode, PathMode::Simple | PathMode::Acyclic) {
            self.used.insert(node, 1);
        }
        self.choices.push(Choice { state: 0, node, edges: 0, events: 0, candidates: None });
    }

    /// Binds what a state came to; false where it must be what is bound already and is not.
    fn bind(&mut self, local: Option<usize>, again: bool, value: Value) -> bool {
        let Some(local) = local else { return true };
        if again {
            self.events.push(Event::Passed(Mark::Again { local }, self.edges.len() as u32));
            return self.locals[local] == value;
        }
        let before = std::mem::replace(&mut self.locals[local], value.clone());
        self.previous.push(before);
        let at = self.edges.len() as u32;
        self.events.push(Event::Bound(local, value, at));
        true
    }

    fn pass(&mut self, mark: Mark) {
        if let Mark::PathEnds { local } = mark {
            let from = OpenParts::after(self.events.iter()).paths.last().copied().unwrap_or(0);
            let value = part(&self.nodes, &self.edges, from, self.program.reversed);
            self.bind(Some(local), false, value);
        }
        if let Mark::List { local, out, into } = mark {
            let open = OpenParts::after(self.events.iter());
            let value = open.list(self.events.iter(), local, out, self.program.reversed);
            self.bind(Some(into), false, value);
        }
        self.events.push(Event::Passed(mark, self.edges.len() as u32));
    }

    fn back_to(&mut self, edges: usize, events: usize) {
        while self.events.len() > events {
            if let Some(Event::Bound(local, ..)) = self.events.pop() {
                self.locals[local] = self.previous.pop().unwrap_or(Value::Null);
            }
        }
        // One more than there are edges, where there are conditions on what adds up.
        self.folded.truncate(edges + 1);
        while self.edges.len() > edges {
            let (edge, node) = (self.edges.pop(), self.nodes.pop());
            let key = match self.mode {
                PathMode::Trail => edge,
                PathMode::Simple | PathMode::Acyclic => node,
                PathMode::Walk => None,
            };
            if let Some(key) = key
                && let Some(count) = self.used.get_mut(&key)
            {
                *count -= 1;
                if *count == 0 {
                    self.used.remove(&key);
                }
            }
        }
    }

    fn passes(&self, conditions: &[Expr], cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let at = Row { batch: cursor.batch, row: cursor.row, locals: &self.locals };
        let context = &mut *cursor.context;
        for condition in conditions {
            let counters = &mut context.metrics[context.current].counters;
            if !holds(condition, at, &context.scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Folds the edge, which was bound to one of the program's variables; whether a path with it may satisfy what is
    /// asked of whole paths.
    fn goes_on(&mut self, edge: (u32, Option<usize>), cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let (Some(caps), Some(before)) = (&self.caps, self.folded.last()) else { return Ok(true) };
        let folded = caps.and(before, edge, cursor)?;
        let goes_on = folded.is_some();
        self.folded.extend(folded);
        Ok(goes_on)
    }

    /// Whether the path may go on over `edge` to `node` in its mode.
    fn allowed(&self, edge: u32, node: u32) -> bool {
        if self.program.marked
            && !OpenParts::after(self.events.iter()).allow(&self.nodes, &self.edges, edge, node)
        {
            return false;
        }
        match self.mode {
            PathMode::Walk => true,
            PathMode::Trail => !self.used.contains_key(&edge),
            PathMode::Acyclic => !self.used.contains_key(&node),
            // Only the very last node may be the first again.
            PathMode::Simple => {
                if self.trails && self.edges.contains(&edge) {
                    return false;
                }
                let closed = !self.edges.is_empty() && self.nodes.last() == self.nodes.first();
                !closed && (!self.used.contains_key(&node) || self.nodes.first() == Some(&node))
            }
        }
    }

    /// Lists the edges that may be taken from a node, as a choice.
    fn expand(
        &mut self, state: usize, node: u32, (test, direction): (&EdgeTest, Direction),
        cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let start = self.arena.len();
        let check = EdgeCheck { test: test.clone(), direction, different_from: self.different_from.clone() };
        let taken = self.edges.len() as u32 + 1;
        let mut common = None;
        if let Some(guide) = &mut self.guide {
            let snapshot = cursor.context.scope.snapshot.clone();
            if let Some(row) = long_row(&snapshot, node, direction, test) {
                common = guide.nearby(taken, cursor)?.and_then(|near| among(row, &near));
            }
        }
        let arena = &mut self.arena;
        let Cursor { batch, row, context } = &mut *cursor;
        let snapshot = &context.scope;
        let mut take = |edge, other| {
            if check.is_different(edge, batch, *row) {
                arena.push((edge, other));
            }
        };
        let looked = match common {
            Some(Common { found, looked }) => {
                found.into_iter().for_each(|(edge, other)| take(edge, other));
                looked
            }
            None => snapshot.for_each_adjacent(node, direction, test, |edge, other| {
                take(edge, other);
                ControlFlow::Continue(())
            }),
        };
        context.counters().edges_looked += looked;
        context.work(looked)?;
        self.hops.expanded(taken, Expanded { looked, failed: 0, largest: (looked, node) });
        self.hops.take_time_now_and_then(taken);
        let candidates = Some((start, self.arena.len()));
        let (edges, events) = (self.edges.len(), self.events.len());
        self.choices.push(Choice { state, node, edges, events, candidates });
        Ok(())
    }

    /// Goes on to the next accepted path: its end, or `None` when there is no other.
    pub fn next(&mut self, cursor: &mut Cursor<'_>) -> Outcome<Option<u32>> {
        while let Some(choice) = self.choices.last_mut() {
            let (state, node, edges, events) = (choice.state, choice.node, choice.edges, choice.events);
            let (state, node) = match &mut choice.candidates {
                None => {
                    self.choices.pop();
                    self.back_to(edges, events);
                    (state, node)
                }
                Some((at, end)) if at == end => {
                    let start = self.arena_start();
                    self.arena.truncate(start);
                    self.choices.pop();
                    continue;
                }
                Some((at, _)) => {
                    let (edge, other) = self.arena[*at];
                    *at += 1;
                    self.back_to(edges, events);
                    match self.take(state, (edge, other), cursor)? {
                        Some(next) => (next, other),
                        None => continue,
                    }
                }
            };
            if self.run(state, node, cursor)? {
                return Ok(Some(node));
            }
        }
        Ok(None)
    }

    /// Goes over an edge to a node: the state after it, or `None` where the path may not go on so.
    fn take(
        &mut self, state: usize, (edge, node): (u32, u32), cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<usize>> {
        cursor.context.work(1)?;
        let program = self.program.clone();
        let State::Edge { local, again, conditions, next, .. } = &program.states[state] else {
            return Ok(None);
        };
        let hop = self.edges.len() as u32 + 1;
        if !self.allowed(edge, node) {
            return Ok(None);
        }
        if let Some(guide) = &mut self.guide
            && !guide.may_follow(node, hop, cursor)?
        {
            return Ok(None);
        }
        if !self.bind(*local, *again, Value::Edge(edge)) {
            return Ok(None);
        }
        if !self.passes(conditions, cursor)? || !self.goes_on((edge, local.filter(|_| !*again)), cursor)? {
            self.hops.failed(hop);
            return Ok(None);
        }
        self.hops.reached(hop, 1);
        self.edges.push(edge);
        self.nodes.push(node);
        match self.mode {
            PathMode::Trail => *self.used.entry(edge).or_insert(0) += 1,
            PathMode::Simple | PathMode::Acyclic => *self.used.entry(node).or_insert(0) += 1,
            PathMode::Walk => {}
        }
        Ok(Some(*next))
    }

    /// Goes on at a node from `state` until an edge has to be chosen; whether the path is accepted there.
    fn run(&mut self, mut state: usize, node: u32, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let program = self.program.clone();
        loop {
            match &program.states[state] {
                State::Node { test, local, again, conditions, next } => {
                    if !cursor.context.scope.node_passes(node, test)
                        || !self.bind(*local, *again, Value::Node(node))
                        || !self.passes(conditions, cursor)?
                    {
                        return Ok(false);
                    }
                    state = *next;
                }
                State::End { conditions, next } => {
                    if !self.passes(conditions, cursor)? {
                        return Ok(false);
                    }
                    state = *next;
                }
                State::Fork(first, second) => {
                    let (edges, events) = (self.edges.len(), self.events.len());
                    self.choices.push(Choice { state: *second, node, edges, events, candidates: None });
                    state = *first;
                }
                State::Edge { test, direction, .. } => {
                    self.expand(state, node, (test, *direction), cursor)?;
                    return Ok(false);
                }
                State::Mark { mark, next } => {
                    self.pass(*mark);
                    state = *next;
                }
                State::Accept => return self.is_new(cursor),
            }
        }
    }

    /// Whether the match has not been given yet.
    fn is_new(&mut self, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        if !self.program.ambiguous {
            return Ok(true);
        }
        let program = &self.program;
        let path = (self.edges.iter())
            .fold(0, |before, edge| program.fingerprint(before, Some(*edge), std::iter::empty()));
        let match_number = program.fingerprint(path, None, self.events.iter());
        if !self.given.insert(match_number) {
            return Ok(false);
        }
        cursor.context.reserve(size_of::<u128>() + 1)?;
        Ok(true)
    }

    /// Where the candidates of the choice on top begin: after those of the choice below it.
    fn arena_start(&self) -> usize {
        let below = &self.choices[..self.choices.len() - 1];
        below.iter().rev().find_map(|c| c.candidates.map(|(_, end)| end)).unwrap_or(0)
    }
}
