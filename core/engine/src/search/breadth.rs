//! Breadth-first searches over one repeated edge: who can be reached, and the shortest way there.

use std::ops::ControlFlow;
use std::time::Instant;

use graphodrome_graph::Direction;
use hashbrown::HashMap;

use crate::batch::NO_ELEMENT;
use crate::context::Context;
use crate::counters::{Hop, Side};
use crate::outcome::Outcome;
use crate::search::cursor::Cursor;
use crate::search::step::{Expanded, Step};
use crate::search::visited::NodeSet;

/// Frontier nodes expanded together, so that the memory they lie in is waited for together.
const CHUNK: usize = 256;

pub(super) struct Level {
    pub hop: Hop,
    started: Instant,
}

impl Level {
    pub fn new(hop: u32, side: Side, frontier: usize) -> Level {
        let hop = Hop { hop, side, frontier: frontier as u64, ..Hop::default() };
        Level { hop, started: Instant::now() }
    }

    pub fn count(&mut self, expanded: Expanded) {
        self.hop.edges_looked += expanded.looked;
        self.hop.failed += expanded.failed;
        self.hop.see_degree(expanded.largest);
    }

    pub fn finish(mut self, context: &mut Context) {
        self.hop.known = self.hop.edges_looked - self.hop.failed.min(self.hop.edges_looked);
        self.hop.known = self.hop.known.saturating_sub(self.hop.reached);
        self.hop.time_us = self.started.elapsed().as_secs_f64() * 1e6;
        context.hop(self.hop);
    }
}

/// Levels of more than this share of all nodes are found from the nodes that are left: most of these have an edge with
/// the level, and the first one found is enough.
const PULL_FROM: usize = 20;

/// Every node at the end of a walk of `min` (0 or 1) to `max` edges from `start`, each once, in the
/// order of their distance. The start itself is among them when `min` is 0 or a walk leads back.
pub(crate) fn reach(
    step: &Step, start: u32, (min, max): (u32, Option<u32>), backwards: bool, cursor: &mut Cursor<'_>,
) -> Outcome<Vec<u32>> {
    let mut visited = NodeSet::new(cursor.context.scope.node_bound());
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
        if frontier.len() * PULL_FROM > cursor.context.scope.node_bound() as usize
            && let Some(looked) = pull(step, &frontier, backwards, &visited, &mut next, cursor)?
        {
            level.count(looked);
            visited.insert_all(&next, &mut vec![]);
        } else if step.conditions.is_empty() {
            for nodes in frontier.chunks(CHUNK) {
                others.clear();
                level.count(step.expand_all(nodes, backwards, cursor.context, &mut others)?);
                visited.insert_all(&others, &mut next);
            }
        } else {
            for &node in &frontier {
                let expanded = step.expand(node, backwards, cursor, |_, other| {
                    if visited.insert(other) {
                        next.push(other);
                    }
                    ControlFlow::Continue(())
                })?;
                level.count(expanded);
            }
        }
        level.hop.reached = next.len() as u64;
        level.finish(cursor.context);
        cursor.context.reserve(next.len() * 12)?;
        held += next.len() * 12;
        reached.extend_from_slice(&next);
        frontier = next;
    }
    cursor.context.release(held);
    Ok(reached)
}

/// The next level from its own side: of each node that was not reached yet, edges are looked at until one leads to the
/// frontier. `None` where edges or nodes have to be tested, or lie above the base.
fn pull(
    step: &Step, frontier: &[u32], backwards: bool, visited: &NodeSet, next: &mut Vec<u32>,
    cursor: &mut Cursor<'_>,
) -> Outcome<Option<Expanded>> {
    let scope = cursor.context.scope.clone();
    let plain = step.conditions.is_empty() && step.before.is_none() && step.after.is_none();
    let Some(missing) = visited.missing().filter(|_| plain && scope.is_unchanged()) else { return Ok(None) };
    let direction = if backwards { step.direction } else { step.direction.reversed() };
    let parts = scope.plain_parts(direction, &step.test);
    let mut newest = NodeSet::new(scope.node_bound());
    newest.insert_all(frontier, &mut vec![]);
    let (mut looked, mut since) = (0, 0);
    for node in missing {
        let before = looked;
        'found: for part in &parts {
            for &other in part.side.entries(part.side.row(node)) {
                looked += 1;
                if newest.has(other) {
                    next.push(node);
                    break 'found;
                }
            }
        }
        since += looked - before + 1;
        if since > CHECKED_TOGETHER {
            cursor.context.work(std::mem::take(&mut since))?;
        }
    }
    let counters = cursor.context.counters();
    counters.edges_looked += looked;
    Ok(Some(Expanded { looked, ..Expanded::default() }))
}

/// Between two looks at the limits.
const CHECKED_TOGETHER: u64 = 4096;

/// Whether some trail of at least one and at most `max` edges leads from `start` back to it, where some edges
/// may be walked both ways and a walk to and fro over one edge is no trail.
///
/// Such a trail leaves by one edge and comes back by another. Every node therefore knows the first edges by
/// which it can be reached, two of them at most: a way back over an edge that is not the first one is a
/// trail, once what it goes through twice is left out, and of three first edges one is not needed. Whether an
/// edge may be walked the one way says nothing of the other: labels, direction and conditions are asked for
/// each.
pub(crate) fn cycle_exists(
    step: &Step, start: u32, max: Option<u32>, cursor: &mut Cursor<'_>,
) -> Outcome<bool> {
    let mut firsts: HashMap<u32, [u32; 2]> = HashMap::new();
    // Nodes with the first edge by which they were reached in the last hop.
    let mut frontier = vec![(start, NO_ELEMENT)];
    let (mut depth, mut held, mut found) = (0, 0, false);
    while !frontier.is_empty() && !found && max.is_none_or(|max| depth < max) {
        depth += 1;
        let mut next = vec![];
        for (node, first) in frontier {
            step.expand(node, false, cursor, |edge, other| {
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
        cursor.context.reserve(next.len() * 24)?;
        held += next.len() * 24;
        frontier = next;
    }
    cursor.context.release(held);
    Ok(found)
}

/// Whether edges of this step can be walked to and fro, so that a walk back is no trail.
pub(crate) fn goes_both_ways(step: &Step) -> bool {
    !matches!(step.direction, Direction::Out | Direction::In)
}
