//! Breadth-first searches over one repeated edge: who can be reached, and the shortest way there.

use std::ops::ControlFlow;
use std::time::Instant;

use graphodrome_graph::Direction;
use hashbrown::HashMap;

use crate::batch::{Batch, NO_ELEMENT};
use crate::context::{Context, Hop, Outcome, Side};
use crate::search::step::{Expanded, Step};
use crate::search::visited::NodeSet;

/// Frontier nodes expanded together, so that the memory they lie in is waited for together.
const CHUNK: usize = 256;

/// A path as its nodes and edges, from the node the search began at.
#[derive(Clone, Debug, Default)]
pub(crate) struct Found {
    pub nodes: Vec<u32>,
    pub edges: Vec<u32>,
}

struct Level {
    hop: Hop,
    started: Instant,
}

impl Level {
    fn new(hop: u32, side: Side, frontier: usize) -> Level {
        let hop = Hop { hop, side, frontier: frontier as u64, ..Hop::default() };
        Level { hop, started: Instant::now() }
    }

    fn count(&mut self, expanded: Expanded) {
        self.hop.edges_looked += expanded.looked;
        self.hop.failed += expanded.failed;
        self.hop.largest_degree = self.hop.largest_degree.max(expanded.largest);
    }

    fn finish(mut self, context: &mut Context) {
        self.hop.known = self.hop.edges_looked - self.hop.failed.min(self.hop.edges_looked);
        self.hop.known = self.hop.known.saturating_sub(self.hop.reached);
        self.hop.time_us = self.started.elapsed().as_secs_f64() * 1e6;
        context.hop(self.hop);
    }
}

/// Every node at the end of a walk of `min` (0 or 1) to `max` edges from `start`, each once, in the
/// order of their distance. The start itself is among them when `min` is 0 or a walk leads back.
pub(crate) fn reach(
    step: &Step, start: u32, (min, max): (u32, Option<u32>), backwards: bool, batch: &Batch, row: usize,
    context: &mut Context,
) -> Outcome<Vec<u32>> {
    let mut visited = NodeSet::new(context.scope.node_bound());
    let mut reached = vec![];
    if min == 0 {
        visited.insert(start);
        reached.push(start);
    }
    let mut frontier = vec![start];
    let mut hop = 0;
    let mut held = 0;
    let mut others = vec![];
    while !frontier.is_empty() && max.is_none_or(|max| hop < max) {
        hop += 1;
        let mut level = Level::new(hop, Side::From, frontier.len());
        let mut next = vec![];
        if step.conditions.is_empty() {
            for nodes in frontier.chunks(CHUNK) {
                others.clear();
                level.count(step.expand_all(nodes, backwards, context, &mut others)?);
                visited.insert_all(&others, &mut next);
            }
        } else {
            for &node in &frontier {
                let expanded = step.expand(node, backwards, batch, row, context, |_, other| {
                    if visited.insert(other) {
                        next.push(other);
                    }
                    ControlFlow::Continue(())
                })?;
                level.count(expanded);
            }
        }
        level.hop.reached = next.len() as u64;
        level.finish(context);
        context.reserve(next.len() * 12)?;
        held += next.len() * 12;
        reached.extend_from_slice(&next);
        frontier = next;
    }
    context.release(held);
    Ok(reached)
}

/// Whether some trail of at least one and at most `max` edges leads from `start` back to it, where some edges
/// may be walked both ways and a walk to and fro over one edge is no trail.
///
/// Such a trail leaves by one edge and comes back by another. Every node therefore knows the first edges by
/// which it can be reached, two of them at most: a way back over an edge that is not the first one is a
/// trail, once what it goes through twice is left out, and of three first edges one is not needed. Whether an
/// edge may be walked the one way says nothing of the other: labels, direction and conditions are asked for
/// each.
pub(crate) fn cycle_exists(
    step: &Step, start: u32, max: Option<u32>, batch: &Batch, row: usize, context: &mut Context,
) -> Outcome<bool> {
    let mut firsts: HashMap<u32, [u32; 2]> = HashMap::new();
    // Nodes with the first edge by which they were reached in the last hop.
    let mut frontier = vec![(start, NO_ELEMENT)];
    let (mut depth, mut held, mut found) = (0, 0, false);
    while !frontier.is_empty() && !found && max.is_none_or(|max| depth < max) {
        depth += 1;
        let mut next = vec![];
        for (node, first) in frontier {
            step.expand(node, false, batch, row, context, |edge, other| {
                let first = if first == NO_ELEMENT { edge } else { first };
                if other == start {
                    found |= depth == 1 || edge != first;
                    return if found { ControlFlow::Break(()) } else { ControlFlow::Continue(()) };
                }
                let known = firsts.entry(other).or_insert([NO_ELEMENT; 2]);
                if let Some(free) = known.iter().position(|f| *f == NO_ELEMENT || *f == first)
                    && known[free] == NO_ELEMENT
                {
                    known[free] = first;
                    next.push((other, first));
                }
                ControlFlow::Continue(())
            })?;
            if found {
                break;
            }
        }
        context.reserve(next.len() * 24)?;
        held += next.len() * 24;
        frontier = next;
    }
    context.release(held);
    Ok(found)
}

type Parents = HashMap<u32, (u32, u32)>;

fn trace(parents: &Parents, mut node: u32) -> (Vec<u32>, Vec<u32>) {
    let (mut nodes, mut edges) = (vec![node], vec![]);
    while let Some(&(parent, edge)) = parents.get(&node) {
        if parent == NO_ELEMENT {
            break;
        }
        nodes.push(parent);
        edges.push(edge);
        node = parent;
    }
    (nodes, edges)
}

/// A shortest path between two different bound nodes, or `None`: breadth-first from both ends, each
/// time a whole level from the end whose frontier has fewer edges to look at. With whole levels the
/// first meeting is a shortest one.
#[allow(clippy::too_many_arguments)] // A search's two ends, bounds and row belong together.
pub(crate) fn meet_in_the_middle(
    step: &Step, from: u32, to: u32, max: Option<u32>, backwards: bool, batch: &Batch, row: usize,
    context: &mut Context,
) -> Outcome<Option<Found>> {
    let mut sides: [(Parents, Vec<u32>, u32, u64); 2] = [from, to].map(|node| {
        let mut parents = Parents::new();
        parents.insert(node, (NO_ELEMENT, NO_ELEMENT));
        (parents, vec![node], 0, 1)
    });
    let mut held = 0;
    loop {
        let depth = sides[0].2 + sides[1].2;
        if sides.iter().any(|s| s.1.is_empty()) || max.is_some_and(|max| depth >= max) {
            context.release(held);
            return Ok(None);
        }
        let side = if sides[0].3 <= sides[1].3 { 0 } else { 1 };
        let (mine, theirs) = {
            let [a, b] = &mut sides;
            if side == 0 { (a, b) } else { (b, a) }
        };
        mine.2 += 1;
        let mut level = Level::new(mine.2, if side == 0 { Side::From } else { Side::To }, mine.1.len());
        let against = backwards != (side == 1);
        let mut next = vec![];
        let mut met = None;
        for &node in &mine.1 {
            let parents = &mut mine.0;
            let other_side = &theirs.0;
            let expanded = step.expand(node, against, batch, row, context, |edge, other| {
                if let hashbrown::hash_map::Entry::Vacant(slot) = parents.entry(other) {
                    slot.insert((node, edge));
                    next.push(other);
                    if other_side.contains_key(&other) {
                        met = Some(other);
                        return ControlFlow::Break(());
                    }
                }
                ControlFlow::Continue(())
            })?;
            level.count(expanded);
            if met.is_some() {
                break;
            }
        }
        level.hop.reached = next.len() as u64;
        let edges = level.hop.edges_looked;
        level.finish(context);
        context.reserve(next.len() * 24)?;
        held += next.len() * 24;
        if let Some(node) = met {
            context.release(held);
            let (depth_from, depth_to) = (sides[0].2, sides[1].2);
            let note = format!("both ends met: {depth_from} hop(s) from the one, {depth_to} from the other");
            let notes = &mut context.metrics().notes;
            if notes.is_empty() {
                notes.push(note);
            }
            let (mut nodes, mut edges) = trace(&sides[0].0, node);
            nodes.reverse();
            edges.reverse();
            let (rest_nodes, rest_edges) = trace(&sides[1].0, node);
            nodes.extend(&rest_nodes[1..]);
            edges.extend(rest_edges);
            return Ok(Some(Found { nodes, edges }));
        }
        // What the next level would look at: this level's branching, carried on.
        let mine = &mut sides[side];
        let branching = edges as f64 / mine.1.len().max(1) as f64;
        mine.3 = (next.len() as f64 * branching.max(1.0)) as u64;
        mine.1 = next;
    }
}

/// A shortest path of `min` (0 or 1) to `max` edges from `start` to each node it reaches, in the order
/// of length; `visit` says whether to go on.
#[allow(clippy::too_many_arguments)]
pub(crate) fn breadth_first(
    step: &Step, start: u32, (min, max): (u32, Option<u32>), backwards: bool, batch: &Batch, row: usize,
    context: &mut Context, visit: &mut dyn FnMut(Found, &mut Context) -> Outcome<ControlFlow<()>>,
) -> Outcome<()> {
    if min == 0 && visit(Found { nodes: vec![start], edges: vec![] }, context)?.is_break() {
        return Ok(());
    }
    let mut parents = Parents::new();
    parents.insert(start, (NO_ELEMENT, NO_ELEMENT));
    let mut frontier = vec![start];
    let mut returned = min == 0;
    let mut hop = 0;
    let mut held = 0;
    while !frontier.is_empty() && max.is_none_or(|max| hop < max) {
        hop += 1;
        let mut level = Level::new(hop, Side::From, frontier.len());
        let mut next = vec![];
        let mut closed = None;
        for &node in &frontier {
            let expanded = step.expand(node, backwards, batch, row, context, |edge, other| {
                if other == start && !returned {
                    returned = true;
                    closed = Some((node, edge));
                } else if let hashbrown::hash_map::Entry::Vacant(slot) = parents.entry(other) {
                    slot.insert((node, edge));
                    next.push(other);
                }
                ControlFlow::Continue(())
            })?;
            level.count(expanded);
        }
        level.hop.reached = next.len() as u64;
        level.finish(context);
        context.reserve(next.len() * 24)?;
        held += next.len() * 24;
        let forward = |(mut nodes, mut edges): (Vec<u32>, Vec<u32>)| {
            nodes.reverse();
            edges.reverse();
            Found { nodes, edges }
        };
        if let Some((node, edge)) = closed {
            let mut found = forward(trace(&parents, node));
            found.nodes.push(start);
            found.edges.push(edge);
            if visit(found, context)?.is_break() {
                break;
            }
        }
        for &node in &next {
            if visit(forward(trace(&parents, node)), context)?.is_break() {
                context.release(held);
                return Ok(());
            }
        }
        frontier = next;
    }
    context.release(held);
    Ok(())
}

/// Whether edges of this step can be walked to and fro, so that a walk back is no trail.
pub(crate) fn goes_both_ways(step: &Step) -> bool {
    !matches!(step.direction, Direction::Out | Direction::In)
}
