//! Aggregates over paths without enumerating them: the number of paths from a node to each end, and values
//! accumulated along them, for a repeated step. Walks are counted hop by hop. Trails and similar modes equal walks
//! if the reachable part has no cycle; one pass in topological order then suffices. With cycles, unbounded trails
//! and acyclic paths are enumerated within each strong component and folded from one component to the next, and
//! short trails follow from walks by inclusion and exclusion.

use std::ops::ControlFlow;
use std::time::Instant;

use graphodrome_algorithms::{Stopped, Subgraph, layers, strong_components};
use graphodrome_graph::Value;
use graphodrome_language::ast::PathMode;
use graphodrome_language::{Diagnostic, Span};
use hashbrown::{HashMap, HashSet};

use crate::batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector};
use crate::columnar::{self};
use crate::counters::{Hop, Side};
use crate::evaluate::Evaluator;
use crate::numbers::Cells;
use crate::operators::EdgeCheck;
use crate::outcome::Outcome;
use crate::row::Row;
use crate::search::sums::{Fold, Folds, Inner, Number, Outer, SumTable, Sums, Values};
use crate::search::{Cursor, NodeNumbers, SearchSpec, Step};

/// Trails of no more edges are counted from the walks.
const SHORT_TRAILS: u32 = 3;

/// What comes of all paths from one node.
#[derive(Debug)]
pub(crate) enum Folded {
    /// By end: how many paths, and the value of each fold (null where no path to it has an edge).
    Ends(Vec<(u32, i64, Vec<Value>)>),
    /// The paths must be made: there is a cycle within reach, or what is folded is not of one kind of number.
    Enumerate(&'static str),
}

/// Nodes within reach by their own numbers, with the edges that may be taken from each.
pub(super) struct Network {
    pub nodes: Vec<u32>,
    starts: Vec<u32>,
    /// The edge's other end, and the edge.
    pub arcs: Vec<(u32, u32)>,
    /// By fold and arc.
    pub values: Vec<Values>,
    bytes: usize,
}

/// The error for more paths than can be counted.
pub(crate) fn too_many(folds: &[Fold]) -> Diagnostic {
    let span = folds.first().map_or(Span::default(), |f| f.argument.span);
    Diagnostic::error(
        graphodrome_graph::Code::NUMBER_OUT_OF_RANGE,
        span,
        "there are more paths than an INT64 can count, or what adds up along them is out of its range",
    )
    .hint("bound the repetition, ask for distinct ends, or fold floats: PRODUCT(CAST(e.p AS FLOAT64))")
}

/// All paths of the spec's step from `start`.
pub(crate) fn fold_paths(
    spec: &SearchSpec, step: &Step, folds: &Folds, start: u32, cursor: &mut Cursor<'_>,
) -> Outcome<Folded> {
    let walks = spec.mode == PathMode::Walk && !spec.trails && spec.max.is_some();
    let network = match Network::from(start, spec, step, folds, cursor)? {
        Ok(network) => network,
        Err(why) => return Ok(Folded::Enumerate(why)),
    };
    let bytes = network.bytes;
    // Sums of all nodes: where they begin, of those at hand, and in all.
    let width = size_of::<u128>() + folds.all.len() * size_of::<Option<Number>>();
    let sums = network.nodes.len() * 3 * width;
    cursor.context.reserve(sums)?;
    let result = network.fold(spec, folds, walks, cursor);
    cursor.context.release(bytes + sums);
    result
}

impl Network {
    /// `Err` with the reason where a value is not plain.
    fn from(
        start: u32, spec: &SearchSpec, step: &Step, folds: &Folds, cursor: &mut Cursor<'_>,
    ) -> Outcome<Result<Network, &'static str>> {
        let mut network = Network {
            nodes: vec![start],
            starts: vec![],
            arcs: vec![],
            values: folds.all.iter().map(|_| Values::Whole(vec![])).collect(),
            bytes: 0,
        };
        let mut numbers = NodeNumbers::new(cursor.context.scope.node_bound());
        numbers.number(start);
        let check = EdgeCheck {
            test: step.test.clone(),
            direction: step.direction,
            different_from: spec.different_from.clone(),
        };
        let (batch, row) = (cursor.batch, cursor.row);
        let (mut at, mut hop) = (0, 0u32);
        while at < network.nodes.len() && spec.max.is_none_or(|max| hop < max) {
            let started = Instant::now();
            let level = at..network.nodes.len();
            hop += 1;
            let mut counted = Hop { hop, side: Side::From, frontier: level.len() as u64, ..Hop::default() };
            let first = network.arcs.len();
            for i in level.clone() {
                network.starts.push(network.arcs.len() as u32);
                let Network { nodes, arcs, .. } = &mut network;
                let expanded = step.expand(nodes[i], spec.reversed, cursor, |edge, other| {
                    if check.is_different(edge, batch, row) {
                        let (number, new) = numbers.number(other);
                        if new {
                            nodes.push(other);
                        }
                        arcs.push((number, edge));
                    }
                    ControlFlow::Continue(())
                })?;
                counted.edges_looked += expanded.looked;
                counted.failed += expanded.failed;
                counted.see_degree(expanded.largest);
            }
            counted.reached = (network.nodes.len() - level.end) as u64;
            counted.known = (network.arcs.len() - first) as u64 - counted.reached;
            // What is held is counted level by level.
            let bytes = network.nodes.len() * 24 + network.arcs.len() * (8 + 8 * folds.all.len());
            let more = bytes.saturating_sub(network.bytes);
            network.bytes += more;
            if let Err(error) = cursor.context.reserve(more) {
                cursor.context.release(network.bytes);
                return Err(error);
            }
            let plain = network.read_values(folds, first, cursor);
            counted.time_us = started.elapsed().as_secs_f64() * 1e6;
            cursor.context.hop(counted);
            at = level.end;
            match plain {
                Ok(true) => {}
                Ok(false) => {
                    cursor.context.release(network.bytes);
                    return Ok(Err("what is folded is not of one kind of number without nulls"));
                }
                Err(error) => {
                    cursor.context.release(network.bytes);
                    return Err(error);
                }
            }
        }
        // Those at the longest length are not gone on from.
        network.starts.resize(network.nodes.len() + 1, network.arcs.len() as u32);
        Ok(Ok(network))
    }

    /// Reads what is folded of the arcs from `first` on; whether it is plain.
    fn read_values(&mut self, folds: &Folds, first: usize, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        for arcs in self.arcs[first..].chunks(BATCH_ROWS) {
            for (fold, values) in folds.all.iter().zip(&mut self.values) {
                let more = match in_column(fold, arcs, cursor) {
                    Some(column) => Some(column),
                    None => one_by_one(fold, arcs, cursor)?,
                };
                if !more.is_some_and(|more| values.extend(more)) {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    pub fn arcs_of(&self, node: usize) -> std::ops::Range<usize> {
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
        &self, spec: &SearchSpec, folds: &Folds, walks: bool, cursor: &mut Cursor<'_>,
    ) -> Outcome<Folded> {
        let order = self.order();
        // No trail is longer than there are edges, and none of the other modes.
        let any_length = spec.min <= 1 && spec.max.is_none_or(|max| max as usize >= self.arcs.len());
        let least = if order.is_none() && any_length { self.least_sums(spec, folds, cursor)? } else { None };
        let by_parts =
            any_length && matches!(spec.mode, PathMode::Walk | PathMode::Trail | PathMode::Acyclic);
        let trails = spec.mode == PathMode::Trail || spec.mode == PathMode::Walk && spec.trails;
        let short = trails && folds.all.is_empty() && spec.max.is_some_and(|max| max <= SHORT_TRAILS);
        if order.is_none() && !walks && !by_parts && !short && least.is_none() {
            return Ok(Folded::Enumerate("there is a cycle within reach"));
        }
        let n = self.nodes.len();
        let over = || too_many(&folds.all);
        let begin = Sums { paths: 1, folds: folds.none() };
        let mut totals = SumTable::new(n, folds);
        if spec.min == 0 {
            totals.add(0, 1, &begin.folds).ok_or_else(over)?;
        }
        match order {
            None if least.is_some() => {
                for (node, sums) in least.into_iter().flatten() {
                    totals.add(node, 1, &sums).ok_or_else(over)?;
                }
            }
            None if !walks && short => {
                // The arcs by their edges, and numbers of all nodes.
                let bytes = self.arcs.len() * 24 + n * 80;
                cursor.context.reserve(bytes)?;
                let counted = self.count_short_trails(spec, &mut totals, cursor);
                cursor.context.release(bytes);
                counted?;
            }
            None if !walks => self.fold_parts(spec, folds, &begin, &mut totals, cursor)?,
            // One pass: whatever its length, a way to a node counts.
            Some(order) if spec.min <= 1 && spec.max.is_none_or(|max| max as usize >= n) => {
                self.fold_in_order(&order, &begin, &mut totals, cursor)?;
            }
            _ => self.fold_hops(spec, &begin, &mut totals, cursor)?,
        }
        let mut ends = vec![];
        for node in (0..n).filter(|node| totals.paths[*node] > 0) {
            let paths = match i64::try_from(totals.paths[node]) {
                Err(_) if folds.counted => return Err(over()),
                paths => paths.unwrap_or(i64::MAX),
            };
            let value = |fold: &Option<Number>| match fold {
                None => Some(Value::Null),
                Some(number) => number.value(),
            };
            let values = totals.numbers_of(node).iter().map(value).collect::<Option<_>>().ok_or_else(over)?;
            ends.push((self.nodes[node], paths, values));
        }
        Ok(Folded::Ends(ends))
    }

    /// Trails of up to three edges, from the walks: those that take an edge twice are taken away. An edge that is taken again
    /// right away leads back, and one that is taken again after another leads to where it led or back.
    fn count_short_trails(
        &self, spec: &SearchSpec, totals: &mut SumTable<'_>, cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let n = self.nodes.len();
        cursor.context.work(self.arcs.len() as u64)?;
        let leads_back = self.arcs_that_lead_back();
        // How many arcs from a node may be taken once more, back to it.
        let back = |node: usize| self.arcs_of(node).filter(|&arc| leads_back[arc]).count() as i128;
        let arcs_between = |from: usize, to: u32| {
            self.arcs[self.arcs_of(from)].iter().filter(|(other, _)| *other == to).count() as i128
        };
        let mut walks = vec![0u128; n];
        walks[0] = 1;
        let mut steps: Vec<i128> = vec![];
        // Of each node the arcs from the start that lead back from there.
        let mut both_ways = vec![0i128; n];
        for arc in self.arcs_of(0).filter(|&arc| leads_back[arc]) {
            both_ways[self.arcs[arc].0 as usize] += 1;
        }
        for hop in 1..=spec.max.unwrap_or(SHORT_TRAILS) {
            let mut next = vec![0u128; n];
            for node in (0..n).filter(|node| walks[*node] > 0) {
                let arcs = self.arcs_of(node);
                cursor.context.work(arcs.len() as u64 + 1)?;
                for (to, _) in &self.arcs[arcs] {
                    next[*to as usize] += walks[node];
                }
            }
            walks = next;
            let mut trails: Vec<i128> = walks.iter().map(|walks| *walks as i128).collect();
            match hop {
                1 => steps = trails.clone(),
                2 => trails[0] -= back(0),
                _ => {
                    let back_to_start = back(0);
                    // The first edge twice, or the last.
                    for node in (0..n).filter(|node| steps[*node] > 0) {
                        cursor.context.work(self.arcs_of(node).len() as u64 + 1)?;
                        trails[node] -= back_to_start * steps[node] + steps[node] * back(node);
                        // The first edge again after another, that led back or was a loop.
                        trails[node] -= steps[node] * arcs_between(node, 0);
                        let loops = if node == 0 { 0 } else { arcs_between(node, node as u32) };
                        trails[0] -= loops * both_ways[node];
                        // One edge three times was taken away three times instead of once.
                        trails[node] += 2 * both_ways[node];
                    }
                }
            }
            if hop >= spec.min {
                for node in (0..n).filter(|node| trails[*node] > 0) {
                    totals.add(node, trails[node] as u128, &[]).ok_or_else(|| too_many(&totals.folds.all))?;
                }
            }
        }
        Ok(())
    }

    /// Of each arc whether its edge may be taken once more right behind it: it is a loop, or leads both ways.
    fn arcs_that_lead_back(&self) -> Vec<bool> {
        let mut leads_back = vec![false; self.arcs.len()];
        let mut first: HashMap<u32, usize> = HashMap::with_capacity(self.arcs.len());
        for node in 0..self.nodes.len() {
            for arc in self.arcs_of(node) {
                let (to, edge) = self.arcs[arc];
                if to as usize == node {
                    leads_back[arc] = true;
                } else if let Some(other) = first.insert(edge, arc) {
                    leads_back[arc] = true;
                    leads_back[other] = true;
                }
            }
        }
        leads_back
    }

    /// One pass over the nodes in the order of the edges.
    fn fold_in_order(
        &self, order: &[u32], begin: &Sums, totals: &mut SumTable<'_>, cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let folds = totals.folds;
        let over = || too_many(&folds.all);
        let mut sums = SumTable::new(self.nodes.len(), folds);
        sums.add(0, begin.paths, &begin.folds).ok_or_else(over)?;
        let (mut from, mut on) = (folds.none(), folds.none());
        for &node in order {
            let paths = sums.paths[node as usize];
            if paths == 0 {
                continue;
            }
            from.copy_from_slice(sums.numbers_of(node as usize));
            let arcs = self.arcs_of(node as usize);
            cursor.context.work(arcs.len() as u64 + 1)?;
            for arc in arcs {
                self.along(paths, &from, arc, folds, &mut on).ok_or_else(over)?;
                sums.add(self.arcs[arc].0 as usize, paths, &on).ok_or_else(over)?;
            }
            if node != 0 {
                totals.add(node as usize, paths, &from).ok_or_else(over)?;
            }
        }
        Ok(())
    }

    /// Hop by hop, as far as there may be edges.
    fn fold_hops(
        &self, spec: &SearchSpec, begin: &Sums, totals: &mut SumTable<'_>, cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let folds = totals.folds;
        let over = || too_many(&folds.all);
        let n = self.nodes.len();
        let (mut sums, mut next) = (SumTable::new(n, folds), SumTable::new(n, folds));
        sums.add(0, begin.paths, &begin.folds).ok_or_else(over)?;
        let mut on = folds.none();
        let (mut here, mut there) = (vec![0u32], vec![]);
        let mut hop = 0u32;
        while !here.is_empty() && spec.max.is_none_or(|max| hop < max) {
            hop += 1;
            for &node in &here {
                let arcs = self.arcs_of(node as usize);
                cursor.context.work(arcs.len() as u64 + 1)?;
                let paths = sums.paths[node as usize];
                for arc in arcs {
                    let to = self.arcs[arc].0;
                    self.along(paths, sums.numbers_of(node as usize), arc, folds, &mut on)
                        .ok_or_else(over)?;
                    if next.paths[to as usize] == 0 {
                        there.push(to);
                    }
                    next.add(to as usize, paths, &on).ok_or_else(over)?;
                }
            }
            here.drain(..).for_each(|node| sums.clear(node as usize));
            // In the order of the nodes, so that sums of floats do not depend on how they were come to.
            there.sort_unstable();
            std::mem::swap(&mut here, &mut there);
            std::mem::swap(&mut sums, &mut next);
            if hop >= spec.min {
                for &node in &here {
                    let node = node as usize;
                    totals.add(node, sums.paths[node], sums.numbers_of(node)).ok_or_else(over)?;
                }
            }
        }
        Ok(())
    }

    /// Trails and acyclic paths of any length where there are cycles: a path goes through the strong components in their
    /// order and takes no edge of one in another, so that only the ways within a component are made, from each node at
    /// which paths come into it.
    fn fold_parts(
        &self, spec: &SearchSpec, folds: &Folds, begin: &Sums, totals: &mut SumTable<'_>,
        cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let n = self.nodes.len();
        let over = || too_many(&folds.all);
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
        let mut comes = SumTable::new(n, folds);
        comes.add(0, begin.paths, &begin.folds).ok_or_else(over)?;
        let mut on = folds.none();
        for p in order.order {
            let inside = |node: u32| part[node as usize] == p;
            let members = &members[p as usize];
            let mut here = SumTable::new(members.len(), folds);
            let place = |node: u32| members.partition_point(|m| *m < node);
            for &entry in members {
                let from = comes.sums(entry as usize);
                if from.paths == 0 {
                    continue;
                }
                let within = WithinPart { network: self, folds, acyclic: spec.mode == PathMode::Acyclic };
                let mut failed = false;
                within.ways(entry, &from, &inside, cursor, &mut |node, sums, edges| {
                    // The path of length 0 was counted, and goes on by itself: it has nothing that could be added to.
                    if entry != 0 || edges > 0 {
                        failed |= here.add(place(node), sums.paths, &sums.folds).is_none();
                        failed |= totals.add(node as usize, sums.paths, &sums.folds).is_none();
                    }
                })?;
                if failed {
                    return Err(over());
                }
            }
            let found = members.iter().enumerate().map(|(i, node)| (*node, here.sums(i)));
            let first = inside(0).then(|| (0, begin.clone()));
            for (node, sums) in found.chain(first).filter(|(_, sums)| sums.paths > 0) {
                for arc in self.arcs_of(node as usize) {
                    let to = self.arcs[arc].0;
                    if !inside(to) {
                        self.along(sums.paths, &sums.folds, arc, folds, &mut on).ok_or_else(over)?;
                        comes.add(to as usize, sums.paths, &on).ok_or_else(over)?;
                    }
                }
            }
        }
        Ok(())
    }

    /// What is folded of every path, with one edge more, into `on`.
    #[inline]
    fn along(
        &self, paths: u128, from: &[Option<Number>], arc: usize, folds: &Folds, on: &mut [Option<Number>],
    ) -> Option<()> {
        for (i, fold) in folds.all.iter().enumerate() {
            let edge = self.values[i].get(arc);
            on[i] = Some(match (from[i], fold.inner, fold.outer) {
                // The first edge of the path.
                (None, _, Outer::Sum) => edge.times(edge.count(paths)?)?,
                (None, ..) => edge,
                (Some(so_far), Inner::Product, _) => so_far.times(edge)?,
                (Some(so_far), Inner::Sum, Outer::Sum) => so_far.plus(edge.times(edge.count(paths)?)?)?,
                (Some(so_far), Inner::Sum, _) => so_far.plus(edge)?,
            });
        }
        Some(())
    }
}

/// What is folded of these arcs' edges as a column; `None` where it has to be read edge by edge.
fn in_column(fold: &Fold, arcs: &[(u32, u32)], cursor: &mut Cursor<'_>) -> Option<Values> {
    let mut slots = vec![];
    fold.argument.slots(&mut slots);
    // What the argument reads of the row is the same for all edges.
    let around = slots.iter().any(|slot| *slot != fold.local);
    let mut columns = match around {
        true => cursor.batch.gather(&vec![cursor.row as u32; arcs.len()]).columns,
        false => vec![],
    };
    let nothing = || Vector::Nodes(vec![NO_ELEMENT; if around { arcs.len() } else { 0 }]);
    columns.resize_with(fold.local, nothing);
    columns.push(Vector::Edges(arcs.iter().map(|(_, edge)| *edge).collect()));
    let batch = Batch { columns, len: arcs.len() };
    let found = columnar::column(&fold.argument, &batch, &cursor.context.scope)?;
    let plain = found.numbers.nulls.iter().all(|null| !null);
    let values = match found.numbers.cells {
        Cells::Ints(all) if plain => Values::Whole(all),
        Cells::Floats(all) if plain && all.iter().all(|f| f.is_finite()) => Values::Float(all),
        _ => return None,
    };
    cursor.context.counters().properties_read += found.reads;
    Some(values)
}

/// What is folded of these arcs' edges; `None` where it is not of one kind of number.
fn one_by_one(fold: &Fold, arcs: &[(u32, u32)], cursor: &mut Cursor<'_>) -> Outcome<Option<Values>> {
    let place = fold.local - cursor.batch.columns.len();
    let mut locals = vec![Value::Null; place + 1];
    let (mut whole, mut floats) = (vec![], vec![]);
    for (_, edge) in arcs {
        locals[place] = Value::Edge(*edge);
        let context = &mut *cursor.context;
        let counters = &mut context.metrics[context.current].counters;
        let at = Row { batch: cursor.batch, row: cursor.row, locals: &locals };
        match Number::of(&Evaluator { scope: &context.scope, counters }.value(&fold.argument, at)?) {
            Some(Number::Whole(n)) if floats.is_empty() => whole.push(n as i64),
            Some(Number::Float(f)) if whole.is_empty() => floats.push(f),
            _ => return Ok(None),
        }
    }
    Ok(Some(if floats.is_empty() { Values::Whole(whole) } else { Values::Float(floats) }))
}

/// Ways within one strong component.
struct WithinPart<'r> {
    network: &'r Network,
    folds: &'r Folds,
    /// No node twice; otherwise no edge twice.
    acyclic: bool,
}

impl WithinPart<'_> {
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
            let mut on = Sums { paths: sums.paths, folds: self.folds.none() };
            let (from, onto) = (&sums.folds, &mut on.folds);
            self.network
                .along(sums.paths, from, arc, self.folds, onto)
                .ok_or_else(|| too_many(&self.folds.all))?;
            seen(to, &on, way.len());
            let first = self.network.arcs_of(to as usize).start;
            way.push((to, first, on, Some(mark(to, edge))));
        }
        Ok(())
    }
}
