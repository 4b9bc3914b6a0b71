//! Searches from both ends: one shortest or cheapest way between two different nodes.

use std::ops::ControlFlow;

use hashbrown::HashMap;

use crate::batch::NO_ELEMENT;
use crate::counters::Side;
use crate::outcome::Outcome;
use crate::search::asked::{FoundPath, GuidedSearch};
use crate::search::breadth::Level;
use crate::search::cursor::Cursor;
use crate::search::measure::Measure;
use crate::search::spread::Spread;
use crate::search::step::Step;
use crate::search::visited::NodeNumbers;

/// What is known from one end: nodes by their own numbers, level by level.
struct Known {
    numbers: NodeNumbers,
    /// A node, the number of the one before it, and the edge between them.
    reached: Vec<(u32, u32, u32)>,
    /// Where the newest level begins.
    newest: usize,
    depth: u32,
    /// What the next level is thought to look at.
    cost: u64,
}

impl Known {
    fn from(end: u32, bound: u32) -> Known {
        let mut numbers = NodeNumbers::new(bound);
        numbers.number(end);
        Known { numbers, reached: vec![(end, NO_ELEMENT, NO_ELEMENT)], newest: 0, depth: 0, cost: 1 }
    }

    /// The nodes from the one with this number back to the end, and the edges between them.
    fn trace(&self, number: u32) -> (Vec<u32>, Vec<u32>) {
        let (mut nodes, mut edges) = (vec![], vec![]);
        let mut at = number;
        while at != NO_ELEMENT {
            let (node, before, edge) = self.reached[at as usize];
            nodes.push(node);
            if before != NO_ELEMENT {
                edges.push(edge);
            }
            at = before;
        }
        (nodes, edges)
    }
}

/// A shortest path between two different bound nodes, or `None`: breadth-first from both ends, each
/// time a whole level from the end whose frontier has fewer edges to look at. With whole levels the
/// first meeting is a shortest one.
pub(crate) fn meet_in_the_middle(
    step: &Step, (from, to): (u32, u32), backwards: bool, max: Option<u32>, cursor: &mut Cursor<'_>,
) -> Outcome<Option<FoundPath>> {
    let bound = cursor.context.scope.node_bound();
    let mut sides = [from, to].map(|end| Known::from(end, bound));
    let mut held = 0;
    loop {
        let depth = sides[0].depth + sides[1].depth;
        let at_end = sides.iter().any(|side| side.newest == side.reached.len());
        if at_end || max.is_some_and(|max| depth >= max) {
            cursor.context.release(held);
            return Ok(None);
        }
        let side = usize::from(sides[0].cost > sides[1].cost);
        let [a, b] = &mut sides;
        let (mine, theirs) = if side == 0 { (a, b) } else { (b, a) };
        mine.depth += 1;
        let level = mine.newest..mine.reached.len();
        let which = if side == 0 { Side::From } else { Side::To };
        let mut counted = Level::new(mine.depth, which, level.len());
        let against = backwards != (side == 1);
        let mut met = None;
        for number in level.clone() {
            let node = mine.reached[number].0;
            let Known { numbers, reached, .. } = &mut *mine;
            let expanded = step.expand(node, against, cursor, |edge, other| {
                let (own, new) = numbers.number(other);
                if new {
                    reached.push((other, number as u32, edge));
                    if let Some(there) = theirs.numbers.get(other) {
                        met = Some((own, there));
                        return ControlFlow::Break(());
                    }
                }
                ControlFlow::Continue(())
            })?;
            counted.count(expanded);
            if met.is_some() {
                break;
            }
        }
        let new = mine.reached.len() - level.end;
        counted.hop.reached = new as u64;
        let edges = counted.hop.edges_looked;
        counted.finish(cursor.context);
        cursor.context.reserve(new * 24)?;
        held += new * 24;
        if let Some((mine, theirs)) = met {
            cursor.context.release(held);
            let (first, second) = if side == 0 { (mine, theirs) } else { (theirs, mine) };
            let note = format!(
                "both ends met: hops from one end {}, from the other {}",
                sides[0].depth, sides[1].depth
            );
            let notes = &mut cursor.context.metrics().notes;
            if notes.is_empty() {
                notes.push(note);
            }
            let (mut nodes, mut edges) = sides[0].trace(first);
            nodes.reverse();
            edges.reverse();
            let (rest_nodes, rest_edges) = sides[1].trace(second);
            nodes.extend(&rest_nodes[1..]);
            edges.extend(rest_edges);
            return Ok(Some(FoundPath { nodes, edges, hops: None }));
        }
        // What the next level would look at: this level's branching, carried on.
        let branching = edges as f64 / level.len().max(1) as f64;
        mine.cost = (new as f64 * branching.max(1.0)) as u64;
        mine.newest = level.end;
    }
}

/// A cheapest way between two different nodes: from the end whose next node is nearer, until no way can be
/// cheaper than the cheapest one on which both have met.
pub(crate) fn cheapest_between<M: Measure>(
    search: &GuidedSearch, (from, to): (u32, u32), measure: &mut M, cursor: &mut Cursor<'_>,
) -> Outcome<Option<FoundPath>> {
    let spread = |node, backwards, side| -> Spread<M> {
        Spread::new(search.step.clone(), node, backwards, side, None, cursor)
    };
    let mut out = spread(from, search.backwards, Side::From);
    let mut back = spread(to, !search.backwards, Side::To);
    // What the cheapest way costs on which both have met, and where they did.
    let mut best: Option<(M::Sum, u32)> = None;
    while let (Some(nearest_out), Some(nearest_back)) = (out.horizon(), back.horizon()) {
        let least = measure.add(nearest_out, nearest_back)?;
        if best.is_some_and(|(known, _)| least >= known) {
            break;
        }
        let (mine, theirs) = if nearest_out <= nearest_back { (&mut out, &back) } else { (&mut back, &out) };
        let Some(number) = mine.advance(measure, cursor)? else { continue };
        let here = mine.reached[number as usize];
        // The other side may know a dearer way to this node yet: it will settle the next one then.
        if let Some(there) = theirs.met(here.node) {
            let all = measure.add(here.sum, theirs.reached[there as usize].sum)?;
            if best.is_none_or(|(known, _)| all < known) {
                best = Some((all, here.node));
            }
        }
    }
    out.finish(cursor);
    back.finish(cursor);
    let Some((_, node)) = best else { return Ok(None) };
    let (Some(first), Some(second)) = (out.met(node), back.met(node)) else { return Ok(None) };
    let mut path = FoundPath { nodes: vec![node], edges: vec![], hops: None };
    for (edge, node) in out.way_back(first) {
        path.edges.push(edge);
        path.nodes.push(node);
    }
    path.nodes.reverse();
    path.edges.reverse();
    for (edge, node) in back.way_back(second) {
        path.edges.push(edge);
        path.nodes.push(node);
    }
    let notes = &mut cursor.context.metrics().notes;
    if notes.is_empty() {
        let (hops_out, hops_back) = (out.reached[first as usize].hops, back.reached[second as usize].hops);
        notes.push(format!("both ends met: hops from one end {hops_out}, from the other {hops_back}"));
    }
    Ok(Some(without_circles(path)))
}

/// The path without what leads from a node back to it, which edges of weight zero may where both sides went there.
fn without_circles(path: FoundPath) -> FoundPath {
    let mut places = HashMap::new();
    let mut kept = FoundPath::default();
    for (at, node) in path.nodes.iter().enumerate() {
        match places.get(node) {
            Some(&place) => {
                for node in kept.nodes.drain(place + 1..) {
                    places.remove(&node);
                }
                kept.edges.truncate(place);
            }
            None => {
                places.insert(*node, kept.nodes.len());
                kept.edges.extend(at.checked_sub(1).map(|before| path.edges[before]));
                kept.nodes.push(*node);
            }
        }
    }
    kept
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn circles_are_cut_out_of_a_path() {
        let path = |nodes: &[u32], edges: &[u32]| FoundPath {
            nodes: nodes.to_vec(),
            edges: edges.to_vec(),
            hops: None,
        };
        let cut = without_circles(path(&[1, 2, 3, 2, 4, 5, 4, 6], &[12, 23, 32, 24, 45, 54, 46]));
        assert_eq!(cut, path(&[1, 2, 4, 6], &[12, 24, 46]));
        assert_eq!(without_circles(path(&[1, 2, 1], &[12, 12])), path(&[1], &[]));
        assert_eq!(without_circles(path(&[1, 2], &[12])), path(&[1, 2], &[12]));
    }
}
