//! Search for a cheapest path towards its end: expands nodes by the cost so far plus the least remaining cost of a
//! distance bound. Source: Hart, Nilsson and Raphael, "A formal basis for the heuristic determination of minimum
//! cost paths", IEEE Transactions on Systems Science and Cybernetics 4 (1968). A bound may be inconsistent, for
//! example because it is rounded: a node with a cheaper path found later is expanded again.

use std::ops::ControlFlow;

use graphodrome_graph::UsableBound;

use crate::counters::Side;
use crate::outcome::Outcome;
use crate::search::asked::{FoundPath, GuidedSearch};
use crate::search::cursor::Cursor;
use crate::search::hop_table::HopTable;
use crate::search::measure::Measure;
use crate::search::queue::Queue;
use crate::search::spread::{ROOT, Reached};
use crate::search::step::Expanded;
use crate::search::visited::NodeNumbers;

/// A node, and what is left from it at least.
struct Met<S> {
    reached: Reached<S>,
    left: S,
}

pub(crate) fn cheapest_towards<M: Measure>(
    search: &GuidedSearch, bound: &UsableBound, (from, to): (u32, u32), measure: &mut M,
    cursor: &mut Cursor<'_>,
) -> Outcome<Option<FoundPath>> {
    let towards = bound.towards(to);
    let bits = bound.bits();
    let mut numbers = NodeNumbers::new(cursor.context.scope.node_bound());
    let mut hops = HopTable::new(Side::From);
    let mut met: Vec<Met<M::Sum>> = vec![];
    // By what a way costs at least: its node's number, and what it cost to get there.
    let mut waiting = M::Queue::<(u32, M::Sum)>::default();
    let (mut held, mut settled) = (0, 0u64);
    let start = Reached { node: from, parent: ROOT, edge: ROOT, hops: 0, sum: M::ZERO, settled: false };
    numbers.number(from);
    met.push(Met { reached: start, left: M::at_least(towards.ticks(from), bits) });
    waiting.push(met[0].left, (0, M::ZERO));
    let mut candidates: Vec<(u32, u32)> = vec![];
    let mut found: Option<(u32, M::Sum)> = None;
    while let Some((least, (number, sum))) = waiting.pop() {
        let left = met[number as usize].left;
        let here = &mut met[number as usize].reached;
        if here.settled || here.sum != sum {
            continue;
        }
        if let Some((_, all)) = found {
            if least > all {
                break;
            }
            // A node whose way has become cheaper than the queue can tell may still lead to a cheaper one.
            if measure.add(sum, left)? >= all {
                continue;
            }
        }
        here.settled = true;
        settled += 1;
        if here.node == to {
            found = Some((number, sum));
            continue;
        }
        let here = *here;
        candidates.clear();
        let expanded = search.step.expand(here.node, search.backwards, cursor, |edge, other| {
            candidates.push((edge, other));
            ControlFlow::Continue(())
        })?;
        let hop = here.hops + 1;
        let (known, mut failed) = (met.len(), expanded.failed);
        for &(edge, other) in &candidates {
            let Some(weight) = measure.of_edge(edge, cursor)? else {
                failed += 1;
                continue;
            };
            let sum = measure.add(here.sum, weight)?;
            let (place, new) = numbers.number(other);
            let reached = Reached { node: other, parent: number, edge, hops: hop, sum, settled: false };
            if new {
                met.push(Met { reached, left: M::at_least(towards.ticks(other), bits) });
            } else if sum < met[place as usize].reached.sum {
                met[place as usize].reached = reached;
            } else {
                continue;
            }
            waiting.push(measure.add(sum, met[place as usize].left)?, (place, sum));
        }
        let new = met.len() - known;
        let bytes = new * (size_of::<Met<M::Sum>>() + 2 * size_of::<(M::Sum, (u32, M::Sum))>() + 12);
        cursor.context.reserve(bytes)?;
        held += bytes;
        hops.expanded(hop, Expanded { failed, ..expanded });
        hops.reached(hop, new as u64);
        hops.take_time_now_and_then(hop);
    }
    hops.report(cursor);
    cursor.context.release(held);
    let notes = &mut cursor.context.metrics().notes;
    // One that gave up is done again by another measure.
    if notes.is_empty() && !measure.gave_up() {
        notes.push(format!(
            "towards the end by the distance bound {} ({}): nodes expanded {settled}, met {}",
            bound.name(),
            bound.source(),
            met.len()
        ));
    }
    let Some((mut number, _)) = found else { return Ok(None) };
    let mut path = FoundPath::default();
    loop {
        let at = &met[number as usize].reached;
        path.nodes.push(at.node);
        if at.edge == ROOT {
            break;
        }
        path.edges.push(at.edge);
        number = at.parent;
    }
    path.nodes.reverse();
    path.edges.reverse();
    Ok(Some(path))
}
