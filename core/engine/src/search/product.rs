//! Search over pairs of graph node and program state, cheapest first: all shortest, k shortest,
//! weighted, and any pattern that is more than one repeated edge.

use std::cmp::Ordering;
use std::collections::BinaryHeap;
use std::ops::ControlFlow;
use std::time::Instant;

use graphodrome_graph::{Code, Value};
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::PathMode;
use hashbrown::HashMap;

use crate::batch::Batch;
use crate::context::{Context, Hop, Outcome};
use crate::evaluate::{Evaluator, Row, holds};
use crate::expression::Expr;
use crate::search::SearchSpec;
use crate::search::program::{Memory, State};

/// How many paths per pair of ends are wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Quota {
    First(u32),
    AllShortest,
}

pub(crate) struct ProductResult {
    pub nodes: Vec<u32>,
    pub edges: Vec<u32>,
    pub events: Vec<(usize, Value)>,
}

struct Trace {
    parent: u32,
    state: u32,
    node: u32,
    edge: u32,
    hops: u32,
    cost: f64,
    /// Bound since the parent.
    events: Vec<(usize, Value)>,
}

#[derive(PartialEq)]
struct Waiting {
    cost: f64,
    trace: u32,
}

impl Eq for Waiting {}

impl PartialOrd for Waiting {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Waiting {
    /// The cheapest, then the oldest, is the greatest.
    fn cmp(&self, other: &Self) -> Ordering {
        other.cost.total_cmp(&self.cost).then(other.trace.cmp(&self.trace))
    }
}

const NONE: u32 = u32::MAX;

/// A weight on the input row with the program's variables; `local` is the edge's.
pub(crate) struct Weight<'w> {
    pub expression: &'w Expr,
    pub local: usize,
}

struct Search<'s> {
    spec: &'s SearchSpec,
    quota: Quota,
    weight: Option<Weight<'s>>,
    traces: Vec<Trace>,
    waiting: BinaryHeap<Waiting>,
    /// Per state and node: how often it was left, and the least cost at which.
    settled: HashMap<(u32, u32), (u32, f64)>,
    hops: Vec<(Hop, f64)>,
    impassable: u64,
}

/// All paths wanted from `start` (to `target` if given), cheapest first.
#[allow(clippy::too_many_arguments)]
pub(crate) fn product_search(
    spec: &SearchSpec, quota: Quota, weight: Option<Weight<'_>>, start: u32, target: Option<u32>,
    batch: &Batch, row: usize, context: &mut Context,
) -> Outcome<Vec<ProductResult>> {
    let mut search = Search {
        spec,
        quota,
        weight,
        traces: vec![Trace {
            parent: NONE,
            state: 0,
            node: start,
            edge: NONE,
            hops: 0,
            cost: 0.0,
            events: vec![],
        }],
        waiting: BinaryHeap::new(),
        settled: HashMap::new(),
        hops: vec![],
        impassable: 0,
    };
    search.waiting.push(Waiting { cost: 0.0, trace: 0 });
    let mut results = vec![];
    // Per end: paths found and the least cost.
    let mut ends: HashMap<u32, (u32, f64)> = HashMap::new();
    while let Some(Waiting { cost, trace }) = search.waiting.pop() {
        context.work(1)?;
        if let (Some(target), Quota::AllShortest) = (target, quota)
            && ends.get(&target).is_some_and(|(_, least)| cost > *least)
        {
            break;
        }
        let accepted = search.advance(trace, batch, row, context)?;
        for events in accepted {
            let node = search.traces[trace as usize].node;
            if target.is_some_and(|t| t != node) || !spec.is_target(node, batch, row, context)? {
                continue;
            }
            let (count, least) = ends.entry(node).or_insert((0, cost));
            let wanted = match quota {
                Quota::First(k) => *count < k,
                Quota::AllShortest => cost <= *least,
            };
            if wanted {
                *count += 1;
                results.push(search.result(trace, events));
            }
        }
        if let (Some(target), Quota::First(k)) = (target, quota)
            && ends.get(&target).is_some_and(|(count, _)| *count >= k)
        {
            break;
        }
    }
    context.release(search.traces.len() * size_of::<Trace>());
    for (hop, _) in search.hops {
        context.hop(hop);
    }
    if search.impassable > 0 {
        let text = format!("{} edge(s) have no weight (null) and were not taken", search.impassable);
        context.warnings.push(Diagnostic::warning(Code::DATA, spec_span(&search.weight), text));
    }
    Ok(results)
}

fn spec_span(weight: &Option<Weight<'_>>) -> graphodrome_language::Span {
    weight.as_ref().map(|w| w.expression.span).unwrap_or_default()
}

impl Search<'_> {
    /// Values of all variables as of `trace`, with `more` bound after it.
    fn locals(&self, trace: u32, more: &[(usize, Value)]) -> Vec<Value> {
        let mut locals = vec![Value::Null; self.spec.program.locals];
        let mut chain = vec![];
        let mut at = trace;
        while at != NONE {
            chain.push(at);
            at = self.traces[at as usize].parent;
        }
        for at in chain.into_iter().rev() {
            for (local, value) in &self.traces[at as usize].events {
                locals[*local] = value.clone();
            }
        }
        for (local, value) in more {
            locals[*local] = value.clone();
        }
        locals
    }

    fn passes(
        &self, conditions: &[Expr], trace: u32, more: &[(usize, Value)], batch: &Batch, row: usize,
        context: &mut Context,
    ) -> Outcome<bool> {
        if conditions.is_empty() {
            return Ok(true);
        }
        let locals = self.locals(trace, more);
        let at = Row { batch, row, locals: &locals };
        for condition in conditions {
            let counters = &mut context.metrics[context.current].counters;
            if !holds(condition, at, &context.scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Whether the path of `trace` may go on over `edge` to `node` in its mode.
    fn allowed(&self, trace: u32, edge: u32, node: u32) -> bool {
        let mode = self.spec.mode;
        if mode == PathMode::Walk {
            return true;
        }
        let closed = {
            let last = &self.traces[trace as usize];
            let mut root = trace;
            while self.traces[root as usize].parent != NONE {
                root = self.traces[root as usize].parent;
            }
            (root != trace && self.traces[root as usize].node == last.node, self.traces[root as usize].node)
        };
        if mode == PathMode::Simple && closed.0 {
            return false;
        }
        let mut at = trace;
        while at != NONE {
            let t = &self.traces[at as usize];
            let repeats = match mode {
                PathMode::Trail => t.edge == edge,
                PathMode::Acyclic => t.node == node,
                _ => t.node == node && node != closed.1,
            };
            if repeats {
                return false;
            }
            at = t.parent;
        }
        true
    }

    /// Whether another way to the same state and node can still matter.
    fn worth_leaving(&mut self, state: u32, node: u32, cost: f64) -> bool {
        let (count, least) = self.settled.entry((state, node)).or_insert((0, cost));
        *count += 1;
        match self.quota {
            Quota::First(k) => *count <= k,
            Quota::AllShortest => cost <= *least,
        }
    }

    /// Runs the program on from `trace` up to its next edges, which it follows; returns what was bound
    /// for each way in which it accepts here.
    fn advance(
        &mut self, trace: u32, batch: &Batch, row: usize, context: &mut Context,
    ) -> Outcome<Vec<Vec<(usize, Value)>>> {
        let program = self.spec.program.clone();
        let (start, node, cost) = {
            let t = &self.traces[trace as usize];
            (t.state as usize, t.node, t.cost)
        };
        // Ways are compared where they are alike: here, or where the next repetition begins.
        let memory = if self.spec.mode == PathMode::Walk { program.memory } else { Memory::Long };
        if memory == Memory::None && !self.worth_leaving(start as u32, node, cost) {
            return Ok(vec![]);
        }
        let mut accepted = vec![];
        let mut ways: Vec<(usize, Vec<(usize, Value)>)> = vec![(start, vec![])];
        while let Some((state, mut events)) = ways.pop() {
            match &program.states[state] {
                State::Node { test, local, conditions, next } => {
                    if !context.scope.node_passes(node, test) {
                        continue;
                    }
                    if let Some(local) = local {
                        events.push((*local, Value::Node(node)));
                    }
                    if self.passes(conditions, trace, &events, batch, row, context)? {
                        ways.push((*next, events));
                    }
                }
                State::End { conditions, next } => {
                    if self.passes(conditions, trace, &events, batch, row, context)? {
                        ways.push((*next, events));
                    }
                }
                State::Fork(first, second) => {
                    if memory == Memory::Repetition && !self.worth_leaving(state as u32, node, cost) {
                        continue;
                    }
                    ways.push((*second, events.clone()));
                    ways.push((*first, events));
                }
                State::Edge { .. } => self.follow(trace, state, events, batch, row, context)?,
                State::Accept => accepted.push(events),
            }
        }
        Ok(accepted)
    }

    fn follow(
        &mut self, trace: u32, state: usize, events: Vec<(usize, Value)>, batch: &Batch, row: usize,
        context: &mut Context,
    ) -> Outcome<()> {
        let program = self.spec.program.clone();
        let State::Edge { test, direction, local, conditions, next } = &program.states[state] else {
            return Ok(());
        };
        let started = Instant::now();
        let (node, hops, cost) = {
            let t = &self.traces[trace as usize];
            (t.node, t.hops + 1, t.cost)
        };
        let mut candidates = vec![];
        let looked = context.scope.for_each_adjacent(node, *direction, test, |edge, other| {
            candidates.push((edge, other));
            ControlFlow::Continue(())
        });
        context.counters().edges_looked += looked;
        context.work(looked)?;
        let (mut failed, mut pushed) = (0, 0);
        for (edge, other) in candidates {
            if !self.allowed(trace, edge, other) {
                failed += 1;
                continue;
            }
            let mut bound = events.clone();
            if let Some(local) = local {
                bound.push((*local, Value::Edge(edge)));
            }
            if !self.passes(conditions, trace, &bound, batch, row, context)? {
                failed += 1;
                continue;
            }
            let step = match self.weight_of(trace, edge, &bound, batch, row, context)? {
                Some(step) => step,
                None => {
                    self.impassable += 1;
                    continue;
                }
            };
            let cost = cost + step;
            if self.is_dead(*next as u32, other, cost) {
                continue;
            }
            context.reserve(size_of::<Trace>())?;
            let place = self.traces.len() as u32;
            self.traces.push(Trace {
                parent: trace,
                state: *next as u32,
                node: other,
                edge,
                hops,
                cost,
                events: bound,
            });
            self.waiting.push(Waiting { cost, trace: place });
            pushed += 1;
        }
        while self.hops.len() < hops as usize {
            let hop = Hop { hop: self.hops.len() as u32 + 1, ..Hop::default() };
            self.hops.push((hop, 0.0));
        }
        let hop = &mut self.hops[hops as usize - 1].0;
        hop.frontier += 1;
        hop.edges_looked += looked;
        hop.failed += failed;
        hop.reached += pushed;
        hop.known += looked.saturating_sub(failed + pushed);
        hop.largest_degree = hop.largest_degree.max(looked);
        hop.time_us += started.elapsed().as_secs_f64() * 1e6;
        Ok(())
    }

    /// Whether the pair was settled already in a way that makes this one useless.
    fn is_dead(&self, state: u32, node: u32, cost: f64) -> bool {
        if self.spec.mode != PathMode::Walk || self.spec.program.memory != Memory::None {
            return false;
        }
        match (self.settled.get(&(state, node)), self.quota) {
            (None, _) => false,
            (Some((count, _)), Quota::First(k)) => *count >= k,
            (Some((_, least)), Quota::AllShortest) => cost > *least,
        }
    }

    /// 1 a hop, or the weight; `None` where it is null.
    fn weight_of(
        &self, trace: u32, edge: u32, bound: &[(usize, Value)], batch: &Batch, row: usize,
        context: &mut Context,
    ) -> Outcome<Option<f64>> {
        let Some(weight) = &self.weight else { return Ok(Some(1.0)) };
        let mut locals = self.locals(trace, bound);
        locals[weight.local] = Value::Edge(edge);
        let counters = &mut context.metrics[context.current].counters;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        let value = evaluator.value(weight.expression, Row { batch, row, locals: &locals })?;
        match value.as_f64() {
            None if value.is_null() => Ok(None),
            Some(w) if w >= 0.0 => Ok(Some(w)),
            _ => Err(Diagnostic::error(
                Code::DATA,
                weight.expression.span,
                format!(
                    "a weight must be a number from 0 up, found {} {}",
                    value.type_name(),
                    value.excerpt()
                ),
            )),
        }
    }

    fn result(&self, trace: u32, last: Vec<(usize, Value)>) -> ProductResult {
        let mut chain = vec![];
        let mut at = trace;
        while at != NONE {
            chain.push(at);
            at = self.traces[at as usize].parent;
        }
        chain.reverse();
        let mut result = ProductResult { nodes: vec![], edges: vec![], events: vec![] };
        for at in chain {
            let t = &self.traces[at as usize];
            result.nodes.push(t.node);
            if t.edge != NONE {
                result.edges.push(t.edge);
            }
            result.events.extend(t.events.iter().cloned());
        }
        result.events.extend(last);
        result
    }
}
