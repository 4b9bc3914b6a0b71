//! Sums over paths without the paths: how many lead from a node to each end, and what adds up along them, where a step
//! is repeated. Walks are counted hop by hop. Trails and their kin are the same as walks where what can be reached has no
//! cycle; then one pass in the order of the edges is enough. Where it has cycles, trails and acyclic paths of any length
//! are made within each strong component alone, and folded from one component to the next.

use std::ops::ControlFlow;
use std::time::Instant;

use graphodrome_algorithms::{Stopped, Subgraph, layers, strong_components};
use graphodrome_graph::Value;
use graphodrome_language::ast::PathMode;
use graphodrome_language::{Diagnostic, Span};
use hashbrown::{HashMap, HashSet};

use crate::context::{Hop, Outcome, Side};
use crate::evaluate::{Evaluator, Row};
use crate::expression::Expr;
use crate::operators::EdgeCheck;
use crate::search::{Cursor, SearchSpec, Step};

/// What becomes of a path's edges.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Inner {
    Sum,
    Product,
}

/// What becomes of the paths to one end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Outer {
    Sum,
    Least,
    Greatest,
}

/// A number for each edge, folded along paths and over them.
#[derive(Clone, Debug)]
pub(crate) struct Fold {
    pub inner: Inner,
    pub outer: Outer,
    /// Of an edge: reads it at slot `local`.
    pub argument: Expr,
    pub local: usize,
}

/// Whole numbers are added exactly, floats as floats; what mixes them, or has a null, is left to the paths themselves.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Number {
    Whole(i128),
    Float(f64),
}

impl Number {
    fn of(value: &Value) -> Option<Number> {
        match value {
            Value::Int(n) => Some(Number::Whole(i128::from(*n))),
            Value::Float(f) if f.is_finite() => Some(Number::Float(*f)),
            _ => None,
        }
    }

    fn same_kind(self, other: Number) -> bool {
        matches!((self, other), (Number::Whole(_), Number::Whole(_)) | (Number::Float(_), Number::Float(_)))
    }

    fn plus(self, other: Number) -> Option<Number> {
        match (self, other) {
            (Number::Whole(a), Number::Whole(b)) => a.checked_add(b).map(Number::Whole),
            (Number::Float(a), Number::Float(b)) => Some(Number::Float(a + b)),
            _ => None,
        }
    }

    fn times(self, other: Number) -> Option<Number> {
        match (self, other) {
            (Number::Whole(a), Number::Whole(b)) => a.checked_mul(b).map(Number::Whole),
            (Number::Float(a), Number::Float(b)) => Some(Number::Float(a * b)),
            _ => None,
        }
    }

    /// So many paths, as a number of this kind.
    fn count(self, paths: u128) -> Option<Number> {
        match self {
            Number::Whole(_) => i128::try_from(paths).ok().map(Number::Whole),
            Number::Float(_) => Some(Number::Float(paths as f64)),
        }
    }

    fn is_less(self, other: Number) -> bool {
        match (self, other) {
            (Number::Whole(a), Number::Whole(b)) => a < b,
            (Number::Float(a), Number::Float(b)) => a < b,
            _ => false,
        }
    }

    fn value(self) -> Option<Value> {
        match self {
            Number::Whole(n) => i64::try_from(n).ok().map(Value::Int),
            Number::Float(f) => Some(Value::Float(f)),
        }
    }
}

/// Paths to a node: how many, and each fold over those that have an edge.
#[derive(Clone, Debug, Default)]
struct Sums {
    paths: u128,
    folds: Vec<Option<Number>>,
}

/// What comes of all paths from one node.
#[derive(Debug)]
pub(crate) enum Folded {
    /// By end: how many paths, and the value of each fold (null where no path to it has an edge).
    Ends(Vec<(u32, i64, Vec<Value>)>),
    /// The paths must be made: there is a cycle within reach, or what is folded is not of one kind of number.
    Enumerate(&'static str),
}

/// Nodes within reach by their own numbers, with the edges that may be taken from each.
struct Network {
    nodes: Vec<u32>,
    numbers: HashMap<u32, u32>,
    starts: Vec<u32>,
    /// The edge's other end and its place among the values.
    arcs: Vec<(u32, u32)>,
    /// By fold and arc.
    values: Vec<Vec<Number>>,
    bytes: usize,
}

/// The error for more paths than can be counted.
fn too_many(span: Span) -> Diagnostic {
    Diagnostic::error(
        graphodrome_graph::Code::NUMBER_OUT_OF_RANGE,
        span,
        "there are more paths than an INT64 can count, or what adds up along them is out of its range",
    )
    .hint("bound the repetition, ask for distinct ends, or fold floats: PRODUCT(CAST(e.p AS FLOAT64))")
}

/// All paths of the spec's step from `start`.
pub(crate) fn fold_paths(
    spec: &SearchSpec, step: &Step, folds: &[Fold], start: u32, cursor: &mut Cursor<'_>,
) -> Outcome<Folded> {
    let walks = spec.mode == PathMode::Walk && !spec.trails && spec.max.is_some();
    let network = match Network::from(start, spec, step, folds, cursor)? {
        Ok(network) => network,
        Err(why) => return Ok(Folded::Enumerate(why)),
    };
    let bytes = network.bytes;
    // Sums of all nodes: where they begin, of those at hand, and in all.
    let sums = network.nodes.len() * 3 * (size_of::<Sums>() + folds.len() * size_of::<Option<Number>>());
    cursor.context.reserve(sums)?;
    let result = network.fold(spec, folds, walks, cursor);
    cursor.context.release(bytes + sums);
    result
}

impl Network {
    /// `Err` with the reason where a value is not plain.
    fn from(
        start: u32, spec: &SearchSpec, step: &Step, folds: &[Fold], cursor: &mut Cursor<'_>,
    ) -> Outcome<Result<Network, &'static str>> {
        let mut network = Network {
            nodes: vec![start],
            numbers: HashMap::from([(start, 0)]),
            starts: vec![],
            arcs: vec![],
            values: vec![vec![]; folds.len()],
            bytes: 0,
        };
        let check = EdgeCheck {
            test: step.test.clone(),
            direction: step.direction,
            different_from: spec.different_from.clone(),
        };
        let (batch, row) = (cursor.batch, cursor.row);
        let (mut at, mut hop) = (0, 0u32);
        let mut edges = vec![];
        let mut plain = true;
        while at < network.nodes.len() && spec.max.is_none_or(|max| hop < max) {
            let started = Instant::now();
            let level = at..network.nodes.len();
            hop += 1;
            let mut counted = Hop { hop, side: Side::From, frontier: level.len() as u64, ..Hop::default() };
            for i in level.clone() {
                network.starts.push(network.arcs.len() as u32);
                edges.clear();
                let expanded = step.expand(network.nodes[i], spec.reversed, cursor, |edge, other| {
                    if check.is_different(edge, batch, row) {
                        edges.push((edge, other));
                    }
                    ControlFlow::Continue(())
                })?;
                counted.edges_looked += expanded.looked;
                counted.failed += expanded.failed;
                counted.see_degree(expanded.largest);
                for &(edge, other) in &edges {
                    let next = network.nodes.len() as u32;
                    let number = *network.numbers.entry(other).or_insert(next);
                    if number == next {
                        network.nodes.push(other);
                        counted.reached += 1;
                    } else {
                        counted.known += 1;
                    }
                    network.arcs.push((number, edge));
                    plain &= network.value_of(folds, edge, cursor)?;
                }
            }
            // What is held is counted level by level.
            let bytes = network.nodes.len() * 24 + network.arcs.len() * (8 + 32 * folds.len());
            let more = bytes.saturating_sub(network.bytes);
            network.bytes += more;
            if let Err(error) = cursor.context.reserve(more) {
                cursor.context.release(network.bytes);
                return Err(error);
            }
            counted.time_us = started.elapsed().as_secs_f64() * 1e6;
            cursor.context.hop(counted);
            at = level.end;
            if !plain {
                cursor.context.release(network.bytes);
                return Ok(Err("what is folded is not of one kind of number without nulls"));
            }
        }
        // Those at the longest length are not gone on from.
        network.starts.resize(network.nodes.len() + 1, network.arcs.len() as u32);
        Ok(Ok(network))
    }

    /// Reads what is folded of an edge; whether it is plain.
    fn value_of(&mut self, folds: &[Fold], edge: u32, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        for (fold, values) in folds.iter().zip(&mut self.values) {
            let width = cursor.batch.columns.len();
            let mut locals = vec![Value::Null; fold.local - width + 1];
            locals[fold.local - width] = Value::Edge(edge);
            let context = &mut *cursor.context;
            let counters = &mut context.metrics[context.current].counters;
            let at = Row { batch: cursor.batch, row: cursor.row, locals: &locals };
            let value = Evaluator { scope: &context.scope, counters }.value(&fold.argument, at)?;
            match Number::of(&value) {
                Some(number) if values.first().is_none_or(|first| first.same_kind(number)) => {
                    values.push(number);
                }
                _ => return Ok(false),
            }
        }
        Ok(true)
    }

    fn arcs_of(&self, node: usize) -> std::ops::Range<usize> {
        self.starts[node] as usize..self.starts[node + 1] as usize
    }

    /// The nodes so that every arc leads on; `None` where there is a cycle.
    fn order(&self) -> Option<Vec<u32>> {
        let n = self.nodes.len();
        let mut into = vec![0u32; n];
        self.arcs.iter().for_each(|(to, _)| into[*to as usize] += 1);
        let mut order: Vec<u32> = (0..n as u32).filter(|node| into[*node as usize] == 0).collect();
        let mut next = 0;
        while next < order.len() {
            for arc in self.arcs_of(order[next] as usize) {
                let to = self.arcs[arc].0;
                into[to as usize] -= 1;
                if into[to as usize] == 0 {
                    order.push(to);
                }
            }
            next += 1;
        }
        (order.len() == n).then_some(order)
    }

    fn fold(
        &self, spec: &SearchSpec, folds: &[Fold], walks: bool, cursor: &mut Cursor<'_>,
    ) -> Outcome<Folded> {
        let order = self.order();
        // No trail is longer than there are edges, and none of the other modes.
        let any_length = spec.min <= 1 && spec.max.is_none_or(|max| max as usize >= self.arcs.len());
        let by_parts =
            any_length && matches!(spec.mode, PathMode::Walk | PathMode::Trail | PathMode::Acyclic);
        if order.is_none() && !walks && !by_parts {
            return Ok(Folded::Enumerate("there is a cycle within reach"));
        }
        let n = self.nodes.len();
        let span = folds.first().map_or(Span::default(), |f| f.argument.span);
        let over = || too_many(span);
        let begin = Sums { paths: 1, folds: vec![None; folds.len()] };
        let mut totals = vec![Sums { paths: 0, folds: vec![None; folds.len()] }; n];
        if spec.min == 0 {
            totals[0].add(&begin, folds).ok_or_else(over)?;
        }
        match order {
            None if !walks => self.fold_parts(spec, folds, &begin, &mut totals, cursor)?,
            // One pass: whatever its length, a way to a node counts.
            Some(order) if spec.min <= 1 && spec.max.is_none_or(|max| max as usize >= n) => {
                let mut sums = vec![Sums { paths: 0, folds: vec![None; folds.len()] }; n];
                sums[0] = begin;
                for node in order {
                    let from = std::mem::take(&mut sums[node as usize]);
                    if from.paths == 0 {
                        continue;
                    }
                    let arcs = self.arcs_of(node as usize);
                    cursor.context.work(arcs.len() as u64 + 1)?;
                    for arc in arcs {
                        let on = self.along(&from, arc, folds).ok_or_else(over)?;
                        sums[self.arcs[arc].0 as usize].add(&on, folds).ok_or_else(over)?;
                    }
                    if node != 0 {
                        totals[node as usize].add(&from, folds).ok_or_else(over)?;
                    }
                }
            }
            _ => {
                let mut here: Vec<(u32, Sums)> = vec![(0, begin)];
                let mut hop = 0u32;
                while !here.is_empty() && spec.max.is_none_or(|max| hop < max) {
                    hop += 1;
                    let mut next: HashMap<u32, Sums> = HashMap::new();
                    for (node, from) in &here {
                        let arcs = self.arcs_of(*node as usize);
                        cursor.context.work(arcs.len() as u64 + 1)?;
                        for arc in arcs {
                            let on = self.along(from, arc, folds).ok_or_else(over)?;
                            let none = || Sums { paths: 0, folds: vec![None; folds.len()] };
                            let sums = next.entry(self.arcs[arc].0).or_insert_with(none);
                            sums.add(&on, folds).ok_or_else(over)?;
                        }
                    }
                    here = next.into_iter().collect();
                    here.sort_unstable_by_key(|(node, _)| *node);
                    if hop >= spec.min {
                        for (node, sums) in &here {
                            totals[*node as usize].add(sums, folds).ok_or_else(over)?;
                        }
                    }
                }
            }
        }
        let mut ends = vec![];
        for (node, sums) in totals.into_iter().enumerate().filter(|(_, sums)| sums.paths > 0) {
            let paths = i64::try_from(sums.paths).map_err(|_| over())?;
            let value = |fold: &Option<Number>| match fold {
                None => Some(Value::Null),
                Some(number) => number.value(),
            };
            let values = sums.folds.iter().map(value).collect::<Option<_>>().ok_or_else(over)?;
            ends.push((self.nodes[node], paths, values));
        }
        Ok(Folded::Ends(ends))
    }

    /// Trails and acyclic paths of any length where there are cycles: a path goes through the strong components in their
    /// order and takes no edge of one in another, so that only the ways within a component are made, from each node at
    /// which paths come into it.
    fn fold_parts(
        &self, spec: &SearchSpec, folds: &[Fold], begin: &Sums, totals: &mut [Sums], cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let n = self.nodes.len();
        let span = folds.first().map_or(Span::default(), |f| f.argument.span);
        let over = || too_many(span);
        let none = || Sums { paths: 0, folds: vec![None; folds.len()] };
        let ends: Vec<(u32, u32)> =
            (0..n).flat_map(|a| self.arcs_of(a).map(move |arc| (a as u32, self.arcs[arc].0))).collect();
        let graph = Subgraph::of_ends(n, &ends, false, None);
        let budget = cursor.context.budget.clone();
        let ask = |_: f64| budget.check().map_err(|_| Stopped::Asked);
        let Ok((part, count)) = strong_components(&graph, &ask) else { return budget.check() };
        let mut members: Vec<Vec<u32>> = vec![vec![]; count];
        part.iter().enumerate().for_each(|(node, p)| members[*p as usize].push(node as u32));
        let across: Vec<(u32, u32)> = ends
            .iter()
            .map(|(a, b)| (part[*a as usize], part[*b as usize]))
            .filter(|(a, b)| a != b)
            .collect();
        let parts = Subgraph::of_ends(count, &across, false, None);
        let Ok(order) = layers(&parts, &ask) else { return budget.check() };
        let mut comes: Vec<Sums> = vec![none(); n];
        comes[0] = begin.clone();
        for p in order.order {
            let inside = |node: u32| part[node as usize] == p;
            let mut here: Vec<(u32, Sums)> = members[p as usize].iter().map(|m| (*m, none())).collect();
            let place = |node: u32| members[p as usize].partition_point(|m| *m < node);
            for &entry in &members[p as usize] {
                let from = std::mem::take(&mut comes[entry as usize]);
                if from.paths == 0 {
                    continue;
                }
                let within = Within { network: self, folds, acyclic: spec.mode == PathMode::Acyclic };
                let mut failed = false;
                within.ways(entry, &from, &inside, cursor, &mut |node, sums, edges| {
                    // The path of length 0 was counted, and goes on by itself: it has nothing that could be added to.
                    if entry != 0 || edges > 0 {
                        failed |= here[place(node)].1.add(sums, folds).is_none();
                        failed |= totals[node as usize].add(sums, folds).is_none();
                    }
                })?;
                if failed {
                    return Err(over());
                }
            }
            if inside(0) {
                here.push((0, begin.clone()));
            }
            for (node, sums) in here.iter().filter(|(_, sums)| sums.paths > 0) {
                for arc in self.arcs_of(*node as usize) {
                    let to = self.arcs[arc].0;
                    if !inside(to) {
                        let on = self.along(sums, arc, folds).ok_or_else(over)?;
                        comes[to as usize].add(&on, folds).ok_or_else(over)?;
                    }
                }
            }
        }
        Ok(())
    }

    /// Every path of `from`, with one edge more.
    fn along(&self, from: &Sums, arc: usize, folds: &[Fold]) -> Option<Sums> {
        let mut on = Sums { paths: from.paths, folds: Vec::with_capacity(folds.len()) };
        for (i, fold) in folds.iter().enumerate() {
            let edge = self.values[i][arc];
            let folded = match (from.folds[i], fold.inner, fold.outer) {
                // The first edge of the path.
                (None, _, Outer::Sum) => edge.times(edge.count(from.paths)?)?,
                (None, ..) => edge,
                (Some(so_far), Inner::Product, _) => so_far.times(edge)?,
                (Some(so_far), Inner::Sum, Outer::Sum) => {
                    so_far.plus(edge.times(edge.count(from.paths)?)?)?
                }
                (Some(so_far), Inner::Sum, _) => so_far.plus(edge)?,
            };
            on.folds.push(Some(folded));
        }
        Some(on)
    }
}

/// Ways within one strong component.
struct Within<'r> {
    network: &'r Network,
    folds: &'r [Fold],
    /// No node twice; otherwise no edge twice.
    acyclic: bool,
}

impl Within<'_> {
    /// Calls `seen(end, sums, edges)` for every way from `entry`, that without an edge too: what `from` becomes along it.
    fn ways(
        &self, entry: u32, from: &Sums, inside: &dyn Fn(u32) -> bool, cursor: &mut Cursor<'_>,
        seen: &mut dyn FnMut(u32, &Sums, usize),
    ) -> Outcome<()> {
        let mut taken: HashSet<u32> = HashSet::new();
        let mark = |node: u32, edge: u32| if self.acyclic { node } else { edge };
        if self.acyclic {
            taken.insert(entry);
        }
        seen(entry, from, 0);
        // A node, its next arc, the sums there, and what was marked to get there.
        let first = self.network.arcs_of(entry as usize).start;
        let mut way: Vec<(u32, usize, Sums, Option<u32>)> = vec![(entry, first, from.clone(), None)];
        while let Some((node, next, sums, marked)) = way.last_mut() {
            cursor.context.work(1)?;
            if *next == self.network.arcs_of(*node as usize).end {
                let marked = *marked;
                way.pop();
                marked.iter().for_each(|m| {
                    taken.remove(m);
                });
                continue;
            }
            let arc = *next;
            *next += 1;
            let (to, edge) = self.network.arcs[arc];
            if !inside(to) || !taken.insert(mark(to, edge)) {
                continue;
            }
            let Some(on) = self.network.along(sums, arc, self.folds) else {
                return Err(too_many(self.folds.first().map_or(Span::default(), |f| f.argument.span)));
            };
            seen(to, &on, way.len());
            let first = self.network.arcs_of(to as usize).start;
            way.push((to, first, on, Some(mark(to, edge))));
        }
        Ok(())
    }
}

impl Sums {
    /// Takes in other paths to the same node; `None` where a number is out of range.
    fn add(&mut self, other: &Sums, folds: &[Fold]) -> Option<()> {
        self.paths = self.paths.checked_add(other.paths)?;
        for ((mine, theirs), fold) in self.folds.iter_mut().zip(&other.folds).zip(folds) {
            let Some(theirs) = *theirs else { continue };
            *mine = Some(match (*mine, fold.outer) {
                (None, _) => theirs,
                (Some(mine), Outer::Sum) => mine.plus(theirs)?,
                (Some(mine), Outer::Least) => {
                    if theirs.is_less(mine) {
                        theirs
                    } else {
                        mine
                    }
                }
                (Some(mine), Outer::Greatest) => {
                    if mine.is_less(theirs) {
                        theirs
                    } else {
                        mine
                    }
                }
            });
        }
        Some(())
    }
}
