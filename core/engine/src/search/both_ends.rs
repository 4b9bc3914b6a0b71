//! Searches from both ends: one shortest or cheapest way between two different nodes.

use std::ops::ControlFlow;

use hashbrown::HashMap;

use crate::batch::NO_ELEMENT;
use crate::context::{Outcome, Side};
use crate::search::asked::{FoundPath, GuidedSearch};
use crate::search::breadth::Level;
use crate::search::cursor::Cursor;
use crate::search::measure::Measure;
use crate::search::spread::Spread;
use crate::search::step::Step;

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
pub(crate) fn meet_in_the_middle(
    step: &Step, (from, to): (u32, u32), backwards: bool, max: Option<u32>, cursor: &mut Cursor<'_>,
) -> Outcome<Option<FoundPath>> {
    let mut sides: [(Parents, Vec<u32>, u32, u64); 2] = [from, to].map(|node| {
        let mut parents = Parents::new();
        parents.insert(node, (NO_ELEMENT, NO_ELEMENT));
        (parents, vec![node], 0, 1)
    });
    let mut held = 0;
    loop {
        let depth = sides[0].2 + sides[1].2;
        if sides.iter().any(|s| s.1.is_empty()) || max.is_some_and(|max| depth >= max) {
            cursor.context.release(held);
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
            let expanded = step.expand(node, against, cursor, |edge, other| {
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
        level.finish(cursor.context);
        cursor.context.reserve(next.len() * 24)?;
        held += next.len() * 24;
        if let Some(node) = met {
            cursor.context.release(held);
            let (depth_from, depth_to) = (sides[0].2, sides[1].2);
            let note = format!("both ends met: {depth_from} hop(s) from the one, {depth_to} from the other");
            let notes = &mut cursor.context.metrics().notes;
            if notes.is_empty() {
                notes.push(note);
            }
            let (mut nodes, mut edges) = trace(&sides[0].0, node);
            nodes.reverse();
            edges.reverse();
            let (rest_nodes, rest_edges) = trace(&sides[1].0, node);
            nodes.extend(&rest_nodes[1..]);
            edges.extend(rest_edges);
            return Ok(Some(FoundPath { nodes, edges, hops: None }));
        }
        // What the next level would look at: this level's branching, carried on.
        let mine = &mut sides[side];
        let branching = edges as f64 / mine.1.len().max(1) as f64;
        mine.3 = (next.len() as f64 * branching.max(1.0)) as u64;
        mine.1 = next;
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
        notes.push(format!("both ends met: {hops_out} hop(s) from the one, {hops_back} from the other"));
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
