//! Search over pairs of graph node and program state, cheapest first: all shortest, k shortest,
//! weighted, and any pattern that is more than one repeated edge.

use std::cmp::Ordering;
use std::collections::BinaryHeap;
use std::hash::{Hash, Hasher};
use std::ops::ControlFlow;
use std::time::Instant;

use graphodrome_graph::{Code, Value};
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::PathMode;
use hashbrown::{HashMap, HashSet};

use crate::counters::Hop;
use crate::evaluate::{Evaluator, holds};
use crate::expression::Expr;
use crate::operators::EdgeCheck;
use crate::outcome::Outcome;
use crate::row::Row;
use crate::search::SearchSpec;
use crate::search::asked::Quota;
use crate::search::cost::{BadWeight, Cost};
use crate::search::cursor::Cursor;
use crate::search::measure::{bad_weight, endless};
use crate::search::program::{Event, Mark, OpenParts, State, allowed, part};

pub(crate) struct ProductResult {
    pub nodes: Vec<u32>,
    pub edges: Vec<u32>,
    pub events: Vec<Event>,
}

struct Trace {
    parent: u32,
    state: u32,
    node: u32,
    edge: u32,
    hops: u32,
    cost: Cost,
    /// What happened since the parent.
    events: Vec<Event>,
    /// Tells it from other ways, where one match may be found in several.
    fingerprint: u128,
}

#[derive(PartialEq, Eq)]
struct WaitingTrace {
    cost: Cost,
    trace: u32,
}

impl PartialOrd for WaitingTrace {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for WaitingTrace {
    /// The cheapest, then the oldest, is the greatest.
    fn cmp(&self, other: &Self) -> Ordering {
        other.cost.cmp(&self.cost).then(other.trace.cmp(&self.trace))
    }
}

/// Bytes that a way costs beside its trace: its place in the queue, and what is known of where it leads.
const WAITING: usize = 24 + 64;

const NONE: u32 = u32::MAX;

/// How often something was reached, at how many different costs, and the last of these.
#[derive(Clone, Copy)]
struct Settled {
    count: u32,
    costs: u32,
    last: Cost,
}

impl Default for Settled {
    fn default() -> Settled {
        Settled { count: 0, costs: 0, last: Cost::ZERO }
    }
}

impl Settled {
    /// Counts one more at `cost`, never less than the last; whether it is wanted.
    fn add(&mut self, cost: Cost, quota: Quota) -> bool {
        if self.count == 0 || cost > self.last {
            self.costs += 1;
            self.last = cost;
        }
        self.count += 1;
        match quota {
            Quota::First(k) => self.count <= k,
            Quota::Groups(k) => self.costs <= k,
        }
    }

    /// Whether no more is wanted at `cost`.
    fn is_full(&self, cost: Cost, quota: Quota) -> bool {
        match quota {
            Quota::First(k) => self.count >= k,
            Quota::Groups(k) => self.costs >= k && cost > self.last,
        }
    }
}

/// A weight on the input row with the program's variables; `local` is the edge's.
pub(crate) struct Weight<'w> {
    pub expression: &'w Expr,
    pub local: usize,
    /// It reads no other variable of the search.
    pub edge_alone: bool,
}

struct ProductSearch<'s> {
    spec: &'s SearchSpec,
    quota: Quota,
    weight: Option<Weight<'s>>,
    traces: Vec<Trace>,
    waiting: BinaryHeap<WaitingTrace>,
    /// Per state, node and what else matters there: how often it was left, and at how many costs.
    settled: HashMap<(u32, u32, u64), Settled>,
    /// Ways that were left already, where one match may be found in several.
    seen: HashSet<(u32, u32, u128)>,
    hops: Vec<Hop>,
    impassable: u64,
}

/// All paths wanted from `start` (to `target` if given), cheapest first.
pub(crate) fn product_search(
    spec: &SearchSpec, quota: Quota, weight: Option<Weight<'_>>, (start, target): (u32, Option<u32>),
    cursor: &mut Cursor<'_>,
) -> Outcome<Vec<ProductResult>> {
    let mut search = ProductSearch {
        spec,
        quota,
        weight,
        traces: vec![Trace {
            parent: NONE,
            state: 0,
            node: start,
            edge: NONE,
            hops: 0,
            cost: Cost::ZERO,
            events: vec![],
            fingerprint: 0,
        }],
        waiting: BinaryHeap::new(),
        settled: HashMap::new(),
        seen: HashSet::new(),
        hops: vec![],
        impassable: 0,
    };
    search.waiting.push(WaitingTrace { cost: Cost::ZERO, trace: 0 });
    let mut results = vec![];
    // Per end: what was found.
    let mut ends: HashMap<u32, Settled> = HashMap::new();
    let mut given: HashSet<(u32, u128)> = HashSet::new();
    while let Some(WaitingTrace { cost, trace }) = search.waiting.pop() {
        cursor.context.work(1)?;
        if target.is_some_and(|t| ends.get(&t).is_some_and(|found| found.is_full(cost, quota))) {
            break;
        }
        let accepted = search.advance(trace, cursor)?;
        for events in accepted {
            let node = search.traces[trace as usize].node;
            if target.is_some_and(|t| t != node) || !spec.is_target(node, cursor)? {
                continue;
            }
            if spec.program.ambiguous {
                let before = search.traces[trace as usize].fingerprint;
                if !given.insert((node, spec.program.fingerprint(before, None, events.iter()))) {
                    continue;
                }
            }
            if ends.entry(node).or_default().add(cost, quota) {
                results.push(search.result(trace, events));
            }
        }
    }
    let events: usize = search.traces.iter().map(|t| t.events.len()).sum();
    cursor
        .context
        .release(search.traces.len() * (size_of::<Trace>() + WAITING) + events * size_of::<Event>());
    for hop in search.hops {
        cursor.context.hop(hop);
    }
    if search.impassable > 0 {
        let text = format!("edges without a weight (null), not used: {}", search.impassable);
        cursor.context.warnings.push(Diagnostic::warning(Code::DATA, spec_span(&search.weight), text));
    }
    Ok(results)
}

fn spec_span(weight: &Option<Weight<'_>>) -> graphodrome_language::Span {
    weight.as_ref().map(|w| w.expression.span).unwrap_or_default()
}

impl ProductSearch<'_> {
    /// Values of all variables as of `trace`, with `more` bound after it.
    fn locals(&self, trace: u32, more: &[Event]) -> Vec<Value> {
        let mut locals = vec![Value::Null; self.spec.program.locals];
        let mut chain = vec![];
        let mut at = trace;
        while at != NONE {
            chain.push(at);
            at = self.traces[at as usize].parent;
        }
        let before = chain.into_iter().rev().flat_map(|at| &self.traces[at as usize].events);
        for event in before.chain(more) {
            if let Event::Bound(local, value, _) = event {
                locals[*local] = value.clone();
            }
        }
        locals
    }

    /// Nodes and edges of the path of `trace`, and everything that happened along it.
    fn path_of(&self, trace: u32) -> (Vec<u32>, Vec<u32>, Vec<&Event>) {
        let mut chain = vec![];
        let mut at = trace;
        while at != NONE {
            chain.push(at);
            at = self.traces[at as usize].parent;
        }
        let (mut nodes, mut edges, mut events) = (vec![], vec![], vec![]);
        for at in chain.into_iter().rev() {
            let t = &self.traces[at as usize];
            nodes.push(t.node);
            edges.extend((t.edge != NONE).then_some(t.edge));
            events.extend(&t.events);
        }
        (nodes, edges, events)
    }

    /// Whether the local has this value already, or may be given it.
    fn bind(
        &self, trace: u32, events: &mut Vec<Event>, local: Option<usize>, again: bool, value: Value, at: u32,
    ) -> bool {
        let Some(local) = local else { return true };
        if again {
            events.push(Event::Passed(Mark::Again { local }, at));
            return self.locals(trace, events)[local] == value;
        }
        events.push(Event::Bound(local, value, at));
        true
    }

    fn pass(&self, trace: u32, events: &mut Vec<Event>, mark: Mark) {
        let hops = self.traces[trace as usize].hops;
        if let Mark::PathEnds { local } = mark {
            let (nodes, edges, before) = self.path_of(trace);
            let open = OpenParts::after(before.into_iter().chain(events.iter()));
            let from = open.paths.last().copied().unwrap_or(0);
            let value = part(&nodes, &edges, from, self.spec.program.reversed);
            events.push(Event::Bound(local, value, hops));
        }
        if let Mark::List { local, out, into } = mark {
            let (_, _, before) = self.path_of(trace);
            let all: Vec<&Event> = before.into_iter().chain(events.iter()).collect();
            let open = OpenParts::after(all.iter().copied());
            let value = open.list(all.into_iter(), local, out, self.spec.program.reversed);
            events.push(Event::Bound(into, value, hops));
        }
        events.push(Event::Passed(mark, hops));
    }

    fn passes(
        &self, conditions: &[Expr], trace: u32, more: &[Event], cursor: &mut Cursor<'_>,
    ) -> Outcome<bool> {
        if conditions.is_empty() {
            return Ok(true);
        }
        let locals = self.locals(trace, more);
        let at = Row { batch: cursor.batch, row: cursor.row, locals: &locals };
        let context = &mut *cursor.context;
        for condition in conditions {
            let counters = &mut context.metrics[context.current].counters;
            if !holds(condition, at, &context.scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Whether the path of `trace` may go on over `edge` to `node` in its mode, and in those of its parts.
    fn allowed(&self, trace: u32, events: &[Event], edge: u32, node: u32) -> bool {
        let mode = self.spec.mode;
        if mode == PathMode::Walk && !self.spec.program.marked {
            return true;
        }
        let (nodes, edges, before) = self.path_of(trace);
        allowed(mode, &nodes, &edges, edge, node)
            && (!self.spec.program.marked
                || OpenParts::after(before.into_iter().chain(events)).allow(&nodes, &edges, edge, node))
    }

    /// Whether another way to the same state and node can still matter.
    fn worth_leaving(&mut self, trace: u32, events: &[Event], state: usize, node: u32, cost: Cost) -> bool {
        match self.memory(trace, events, state) {
            Some(memory) => {
                self.settled.entry((state as u32, node, memory)).or_default().add(cost, self.quota)
            }
            None => true,
        }
    }

    /// What of the way matters from this state on, as one number; `None` where all of it does.
    fn memory(&self, trace: u32, events: &[Event], state: usize) -> Option<u64> {
        if self.spec.mode != PathMode::Walk {
            return None;
        }
        let live = self.spec.program.alike[state].as_ref()?;
        if live.is_empty() {
            return Some(0);
        }
        let locals = self.locals(trace, events);
        let mut hasher = std::collections::hash_map::DefaultHasher::new();
        live.iter().for_each(|local| locals[*local].hash(&mut hasher));
        Some(hasher.finish())
    }

    /// Runs the program on from `trace` up to its next edges, which it follows; returns what was bound
    /// for each way in which it accepts here.
    fn advance(&mut self, trace: u32, cursor: &mut Cursor<'_>) -> Outcome<Vec<Vec<Event>>> {
        let program = self.spec.program.clone();
        let (start, node, cost, hops, fingerprint) = {
            let t = &self.traces[trace as usize];
            (t.state as usize, t.node, t.cost, t.hops, t.fingerprint)
        };
        if program.ambiguous && !self.seen.insert((start as u32, node, fingerprint)) {
            return Ok(vec![]);
        }
        if !self.worth_leaving(trace, &[], start, node, cost) {
            return Ok(vec![]);
        }
        let mut accepted = vec![];
        let mut ways: Vec<(usize, Vec<Event>)> = vec![(start, vec![])];
        while let Some((state, mut events)) = ways.pop() {
            match &program.states[state] {
                State::Node { test, local, again, conditions, next } => {
                    if !cursor.context.scope.node_passes(node, test)
                        || !self.bind(trace, &mut events, *local, *again, Value::Node(node), hops)
                    {
                        continue;
                    }
                    if self.passes(conditions, trace, &events, cursor)? {
                        ways.push((*next, events));
                    }
                }
                State::End { conditions, next } => {
                    if self.passes(conditions, trace, &events, cursor)? {
                        ways.push((*next, events));
                    }
                }
                State::Fork(first, second) => {
                    if state != start {
                        if program.ambiguous {
                            let before = program.fingerprint(fingerprint, None, events.iter());
                            if !self.seen.insert((state as u32, node, before)) {
                                continue;
                            }
                        }
                        if !self.worth_leaving(trace, &events, state, node, cost) {
                            continue;
                        }
                    }
                    ways.push((*second, events.clone()));
                    ways.push((*first, events));
                }
                State::Mark { mark, next } => {
                    self.pass(trace, &mut events, *mark);
                    ways.push((*next, events));
                }
                State::Edge { .. } => self.follow(trace, state, events, cursor)?,
                State::Accept => accepted.push(events),
            }
        }
        Ok(accepted)
    }

    fn follow(
        &mut self, trace: u32, state: usize, events: Vec<Event>, cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let program = self.spec.program.clone();
        let State::Edge { test, direction, local, again, conditions, next } = &program.states[state] else {
            return Ok(());
        };
        let started = Instant::now();
        let (node, hops, cost) = {
            let t = &self.traces[trace as usize];
            (t.node, t.hops + 1, t.cost)
        };
        let mut candidates = vec![];
        let check = EdgeCheck {
            test: test.clone(),
            direction: *direction,
            different_from: self.spec.different_from.clone(),
        };
        let Cursor { batch, row, context } = &mut *cursor;
        let looked = context.scope.for_each_adjacent(node, *direction, test, |edge, other| {
            if check.is_different(edge, batch, *row) {
                candidates.push((edge, other));
            }
            ControlFlow::Continue(())
        });
        context.counters().edges_looked += looked;
        context.work(looked)?;
        let (mut failed, mut pushed) = (0, 0);
        for (edge, other) in candidates {
            if !self.allowed(trace, &events, edge, other) {
                failed += 1;
                continue;
            }
            let mut bound = events.clone();
            if !self.bind(trace, &mut bound, *local, *again, Value::Edge(edge), hops - 1)
                || !self.passes(conditions, trace, &bound, cursor)?
            {
                failed += 1;
                continue;
            }
            let Some(cost) = self.cost_of(cost, edge, (trace, &bound), cursor)? else {
                self.impassable += 1;
                failed += 1;
                continue;
            };
            if self.is_dead(trace, &bound, *next, other, cost) {
                continue;
            }
            self.check_circle(trace, *next, other, cost)?;
            let before = self.traces[trace as usize].fingerprint;
            let fingerprint =
                if program.ambiguous { program.fingerprint(before, Some(edge), bound.iter()) } else { 0 };
            cursor.context.reserve(size_of::<Trace>() + bound.len() * size_of::<Event>() + WAITING)?;
            let place = self.traces.len() as u32;
            self.traces.push(Trace {
                parent: trace,
                state: *next as u32,
                node: other,
                edge,
                hops,
                cost,
                events: bound,
                fingerprint,
            });
            self.waiting.push(WaitingTrace { cost, trace: place });
            pushed += 1;
        }
        while self.hops.len() < hops as usize {
            let hop = Hop { hop: self.hops.len() as u32 + 1, ..Hop::default() };
            self.hops.push(hop);
        }
        let hop = &mut self.hops[hops as usize - 1];
        hop.frontier += 1;
        hop.edges_looked += looked;
        hop.failed += failed;
        hop.reached += pushed;
        hop.known += looked.saturating_sub(failed + pushed);
        hop.see_degree((looked, node));
        hop.time_us += started.elapsed().as_secs_f64() * 1e6;
        Ok(())
    }

    /// All cheapest walks are without end where edges of weight zero lead in a circle.
    fn check_circle(&self, trace: u32, state: usize, node: u32, cost: Cost) -> Outcome<()> {
        let Some(weight) = &self.weight else { return Ok(()) };
        if self.spec.mode != PathMode::Walk || !matches!(self.quota, Quota::Groups(_)) {
            return Ok(());
        }
        let mut at = trace;
        while at != NONE {
            let before = &self.traces[at as usize];
            if before.cost != cost {
                return Ok(());
            }
            if before.node == node && before.state as usize == state {
                return Err(endless(Some(weight.expression)));
            }
            at = before.parent;
        }
        Ok(())
    }

    /// Whether the pair was settled already in a way that makes this one useless.
    fn is_dead(&self, trace: u32, events: &[Event], state: usize, node: u32, cost: Cost) -> bool {
        let Some(memory) = self.memory(trace, events, state) else { return false };
        let settled = self.settled.get(&(state as u32, node, memory));
        settled.is_some_and(|settled| settled.is_full(cost, self.quota))
    }

    /// What the path costs with this edge; `None` where its weight is null. `way` is the trace before the edge
    /// and what was bound since.
    fn cost_of(
        &self, before: Cost, edge: u32, way: (u32, &[Event]), cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<Cost>> {
        let Some(weight) = &self.weight else { return Ok(Some(before.hop())) };
        // Mostly a weight reads its edge alone; then nothing of the way to it is looked at.
        let mut locals = match weight.edge_alone {
            true => vec![Value::Null; self.spec.program.locals],
            false => self.locals(way.0, way.1),
        };
        locals[weight.local] = Value::Edge(edge);
        let at = Row { batch: cursor.batch, row: cursor.row, locals: &locals };
        let context = &mut *cursor.context;
        let counters = &mut context.metrics[context.current].counters;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        let value = evaluator.value(weight.expression, at)?;
        match before.plus(&value) {
            Ok(cost) => Ok(Some(cost)),
            Err(BadWeight::Null) => Ok(None),
            Err(bad) => Err(bad_weight(bad, &value, weight.expression)),
        }
    }

    fn result(&self, trace: u32, last: Vec<Event>) -> ProductResult {
        let (nodes, edges, events) = self.path_of(trace);
        ProductResult { nodes, edges, events: events.into_iter().cloned().chain(last).collect() }
    }
}
