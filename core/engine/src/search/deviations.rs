//! Deviations: the paths between two nodes in order of cost. The next path is the cheapest that leaves an earlier
//! one at some node; its remainder comes from the guide or, if that would repeat a forbidden element, from a search
//! of its own.

use std::cmp::{Ordering, Reverse};
use std::collections::BinaryHeap;
use std::ops::ControlFlow;

use graphodrome_language::ast::PathMode;
use hashbrown::{HashMap, HashSet};

use crate::counters::{Hop, Side};
use crate::outcome::Outcome;
use crate::search::asked::{FoundPath, GuidedSearch, Quota};
use crate::search::cursor::Cursor;
use crate::search::guide::{Guide, Left};
use crate::search::measure::{Measure, endless};

const NONE: u32 = u32::MAX;

/// A way that begins at the start, as its last edge and what lies before.
struct Prefix<S> {
    parent: u32,
    node: u32,
    edge: u32,
    hops: u32,
    sum: S,
}

/// What is left of a path, as edges and nodes, and what it costs.
type Rest<S> = (Vec<(u32, u32)>, S);

/// A prefix, with the cheapest path that it may become.
struct Candidate<S> {
    /// What the path costs at least; exactly, where the rest of it is known.
    total: S,
    /// The latest is taken first among equals, so that one path is finished before the next is begun.
    order: u64,
    prefix: u32,
    rest: Option<Vec<(u32, u32)>>,
}

impl<S: Ord> PartialEq for Candidate<S> {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl<S: Ord> Eq for Candidate<S> {}

impl<S: Ord> PartialOrd for Candidate<S> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl<S: Ord> Ord for Candidate<S> {
    /// The cheapest, then the latest, is the greatest.
    fn cmp(&self, other: &Self) -> Ordering {
        other.total.cmp(&self.total).then(self.order.cmp(&other.order))
    }
}

pub(crate) struct Deviations<M: Measure> {
    from: u32,
    to: u32,
    /// The step is walked from its right end.
    backwards: bool,
    prefixes: Vec<Prefix<M::Sum>>,
    waiting: BinaryHeap<Candidate<M::Sum>>,
    made: u64,
    /// How many paths were given out, at how many different costs, and the last of these.
    found: u32,
    groups: u32,
    last: M::Sum,
    held: usize,
}

impl<M: Measure> Deviations<M> {
    /// `guide` leads to `to`. Where both ends are one node, the path without edges counts if `min` is 0.
    pub fn new(
        search: &GuidedSearch, (from, to): (u32, u32), backwards: bool, guide: &Guide<M>, measure: &mut M,
        cursor: &mut Cursor<'_>,
    ) -> Outcome<Deviations<M>> {
        let root = Prefix { parent: NONE, node: from, edge: NONE, hops: 0, sum: M::ZERO };
        let mut made = Deviations {
            from,
            to,
            backwards,
            prefixes: vec![root],
            waiting: BinaryHeap::new(),
            made: 0,
            found: 0,
            groups: 0,
            last: M::ZERO,
            held: 0,
        };
        if from == to && search.min > 0 {
            let taken = made.taken(search.mode, 0);
            made.branch(search, (0, None), &taken, guide, measure, cursor)?;
        } else if let Left::AtLeast(total) = guide.left(from) {
            made.push(total, 0, None);
        }
        Ok(made)
    }

    fn push(&mut self, total: M::Sum, prefix: u32, rest: Option<Vec<(u32, u32)>>) {
        self.made += 1;
        self.waiting.push(Candidate { total, order: self.made, prefix, rest });
    }

    /// Whether no path of this cost is wanted any more.
    fn is_full(&self, quota: Quota, total: M::Sum) -> bool {
        match quota {
            Quota::First(k) => self.found >= k,
            Quota::Groups(k) => self.groups >= k && total > self.last,
        }
    }

    /// The next path, from the start.
    pub fn next(
        &mut self, search: &GuidedSearch, guide: &mut Guide<M>, measure: &mut M, cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<FoundPath>> {
        while let Some(Candidate { total, prefix, rest, .. }) = self.waiting.pop() {
            cursor.context.work(1)?;
            if self.is_full(search.quota, total) {
                self.waiting.clear();
                return Ok(None);
            }
            let rest = match rest {
                Some(rest) => rest,
                None => {
                    let Some((rest, left)) = self.rest(search, prefix, guide, measure, cursor)? else {
                        continue;
                    };
                    let exact = measure.add(self.prefixes[prefix as usize].sum, left)?;
                    let hops = self.prefixes[prefix as usize].hops + rest.len() as u32;
                    if search.max.is_some_and(|max| hops > max) {
                        continue;
                    }
                    if exact > total {
                        let bytes = rest.len() * size_of::<(u32, u32)>();
                        cursor.context.reserve(bytes)?;
                        self.held += bytes;
                        self.push(exact, prefix, Some(rest));
                        continue;
                    }
                    rest
                }
            };
            if self.found == 0 || total > self.last {
                self.groups += 1;
                self.last = total;
            }
            self.found += 1;
            return self.take(search, prefix, rest, guide, measure, cursor).map(Some);
        }
        Ok(None)
    }

    /// Makes the path of a prefix and the rest of it, and leaves what deviates from it to be looked at.
    fn take(
        &mut self, search: &GuidedSearch, prefix: u32, rest: Vec<(u32, u32)>, guide: &Guide<M>,
        measure: &mut M, cursor: &mut Cursor<'_>,
    ) -> Outcome<FoundPath> {
        let mut path = self.path(prefix);
        let mut at = prefix;
        // After the last path nothing has to be kept for another.
        let last = matches!(search.quota, Quota::First(k) if self.found >= k);
        let mut taken = if last { HashSet::new() } else { self.taken(search.mode, prefix) };
        for &(edge, node) in &rest {
            path.edges.push(edge);
            path.nodes.push(node);
            if last {
                continue;
            }
            self.branch(search, (at, Some(edge)), &taken, guide, measure, cursor)?;
            taken.extend(match search.mode {
                PathMode::Walk => None,
                PathMode::Trail => Some(edge),
                PathMode::Acyclic | PathMode::Simple => Some(node),
            });
            let before = &self.prefixes[at as usize];
            let (sum, hops) = (before.sum, before.hops + 1);
            let Some(weight) = measure.of_edge(edge, cursor)? else { continue };
            let sum = measure.add(sum, weight)?;
            at = self.keep(Prefix { parent: at, node, edge, hops, sum }, cursor)?;
        }
        if !last {
            self.check_circles(search, at)?;
            self.branch(search, (at, None), &taken, guide, measure, cursor)?;
        }
        Ok(path)
    }

    fn keep(&mut self, prefix: Prefix<M::Sum>, cursor: &mut Cursor<'_>) -> Outcome<u32> {
        let bytes = size_of::<Prefix<M::Sum>>() + size_of::<Candidate<M::Sum>>();
        cursor.context.reserve(bytes)?;
        self.held += bytes;
        self.prefixes.push(prefix);
        Ok(self.prefixes.len() as u32 - 1)
    }

    fn path(&self, prefix: u32) -> FoundPath {
        let mut path = FoundPath::default();
        let mut at = prefix;
        while at != NONE {
            let prefix = &self.prefixes[at as usize];
            path.nodes.push(prefix.node);
            path.edges.extend((prefix.edge != NONE).then_some(prefix.edge));
            at = prefix.parent;
        }
        path.nodes.reverse();
        path.edges.reverse();
        path
    }

    /// What a path that begins with this prefix may not come to again: its edges, or its nodes.
    fn taken(&self, mode: PathMode, prefix: u32) -> HashSet<u32> {
        if mode == PathMode::Walk {
            return HashSet::new();
        }
        let path = self.path(prefix);
        match mode {
            PathMode::Trail => path.edges.into_iter().collect(),
            // The very last node may be the first again.
            PathMode::Simple if self.from == self.to => path.nodes.into_iter().skip(1).collect(),
            _ => path.nodes.into_iter().collect(),
        }
    }

    /// Leaves the ways that go on from this prefix by another edge than `but`, and over nothing `taken`, to be
    /// looked at.
    fn branch(
        &mut self, search: &GuidedSearch, (prefix, but): (u32, Option<u32>), taken: &HashSet<u32>,
        guide: &Guide<M>, measure: &mut M, cursor: &mut Cursor<'_>,
    ) -> Outcome<()> {
        let Prefix { node, hops, sum, .. } = self.prefixes[prefix as usize];
        let nodes_once = matches!(search.mode, PathMode::Acyclic | PathMode::Simple);
        if search.max.is_some_and(|max| hops >= max) || nodes_once && hops > 0 && node == self.to {
            return Ok(());
        }
        let mut candidates = vec![];
        let expanded = search.step.expand(node, self.backwards, cursor, |edge, other| {
            let free = match search.mode {
                PathMode::Walk => true,
                PathMode::Trail => !taken.contains(&edge),
                PathMode::Acyclic | PathMode::Simple => !taken.contains(&other),
            };
            if free && but != Some(edge) {
                candidates.push((edge, other));
            }
            ControlFlow::Continue(())
        })?;
        for (edge, other) in candidates {
            let Left::AtLeast(left) = guide.left(other) else { continue };
            let Some(weight) = measure.of_edge(edge, cursor)? else { continue };
            let sum = measure.add(sum, weight)?;
            let total = measure.add(sum, left)?;
            let too_long = M::LEVELS && search.max.is_some_and(|max| total > M::of_hops(max));
            if too_long || self.is_full(search.quota, total) {
                continue;
            }
            let made =
                self.keep(Prefix { parent: prefix, node: other, edge, hops: hops + 1, sum }, cursor)?;
            self.push(total, made, None);
        }
        let mut hop = Hop {
            hop: hops + 1,
            side: Side::From,
            frontier: 1,
            edges_looked: expanded.looked,
            failed: expanded.failed,
            ..Hop::default()
        };
        hop.see_degree(expanded.largest);
        cursor.context.hop(hop);
        Ok(())
    }

    /// The rest of the cheapest path that begins with this prefix, and what it costs.
    fn rest(
        &mut self, search: &GuidedSearch, prefix: u32, guide: &mut Guide<M>, measure: &mut M,
        cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<Rest<M::Sum>>> {
        let Prefix { node, hops, .. } = self.prefixes[prefix as usize];
        if node == self.to && (hops > 0 || search.min == 0) {
            return Ok(Some((vec![], M::ZERO)));
        }
        let Some(left) = guide.find(node, measure, cursor)? else { return Ok(None) };
        let way = guide.way(node);
        if search.mode == PathMode::Walk || hops == 0 {
            return Ok(Some((way, left)));
        }
        let taken = self.taken(search.mode, prefix);
        let free = |(edge, node): &(u32, u32)| match search.mode {
            PathMode::Trail => !taken.contains(edge),
            _ => !taken.contains(node),
        };
        if way.iter().all(free) {
            return Ok(Some((way, left)));
        }
        let mut detour = Detour { search, to: self.to, backwards: self.backwards, taken: &taken };
        detour.find(node, guide, measure, cursor)
    }

    /// Edges of weight zero that lead in a circle make cheapest walks without end.
    fn check_circles(&self, search: &GuidedSearch, prefix: u32) -> Outcome<()> {
        if M::LEVELS || search.mode != PathMode::Walk || !matches!(search.quota, Quota::Groups(_)) {
            return Ok(());
        }
        let mut here = HashSet::new();
        let (mut at, mut sum) = (prefix, self.prefixes[prefix as usize].sum);
        while at != NONE {
            let before = &self.prefixes[at as usize];
            if before.sum != sum {
                here.clear();
                sum = before.sum;
            }
            if !here.insert(before.node) {
                return Err(endless(search.weight.as_ref().map(|w| &w.expression)));
            }
            at = before.parent;
        }
        Ok(())
    }

    /// Gives its memory back.
    pub fn finish(&mut self, cursor: &mut Cursor<'_>) {
        cursor.context.release(std::mem::take(&mut self.held));
    }
}

/// A search for the cheapest way to the end that keeps off what a path has taken.
struct Detour<'d> {
    search: &'d GuidedSearch,
    to: u32,
    backwards: bool,
    taken: &'d HashSet<u32>,
}

impl Detour<'_> {
    fn find<M: Measure>(
        &mut self, start: u32, guide: &Guide<M>, measure: &mut M, cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<Rest<M::Sum>>> {
        // What a node costs, and the node and edge before it.
        let mut known: HashMap<u32, (M::Sum, u32, u32)> = HashMap::new();
        let mut settled = HashSet::new();
        let mut waiting = BinaryHeap::new();
        let mut made = 0u64;
        known.insert(start, (M::ZERO, NONE, NONE));
        // The latest first among equals, so that a way that is free is walked straight on.
        waiting.push((Reverse(M::ZERO), made, start));
        let mut held = 0;
        let mut found = None;
        while let Some((_, _, node)) = waiting.pop() {
            if !settled.insert(node) {
                continue;
            }
            let Some(&(sum, ..)) = known.get(&node) else { continue };
            if node == self.to && node != start {
                found = Some(sum);
                break;
            }
            let mut candidates = vec![];
            self.search.step.expand(node, self.backwards, cursor, |edge, other| {
                let free = match self.search.mode {
                    PathMode::Trail => !self.taken.contains(&edge),
                    _ => !self.taken.contains(&other),
                };
                if free && !settled.contains(&other) {
                    candidates.push((edge, other));
                }
                ControlFlow::Continue(())
            })?;
            let before = waiting.len();
            for (edge, other) in candidates {
                let Left::AtLeast(left) = guide.left(other) else { continue };
                let Some(weight) = measure.of_edge(edge, cursor)? else { continue };
                let sum = measure.add(sum, weight)?;
                if known.get(&other).is_some_and(|(known, ..)| *known <= sum) {
                    continue;
                }
                known.insert(other, (sum, node, edge));
                made += 1;
                waiting.push((Reverse(measure.add(sum, left)?), made, other));
            }
            let bytes = (waiting.len() - before.min(waiting.len())) * 96;
            cursor.context.reserve(bytes)?;
            held += bytes;
        }
        cursor.context.release(held);
        let Some(sum) = found else { return Ok(None) };
        let (mut way, mut at) = (vec![], self.to);
        while at != start {
            let Some(&(_, before, edge)) = known.get(&at) else { break };
            way.push((edge, at));
            at = before;
        }
        way.reverse();
        Ok(Some((way, sum)))
    }
}
