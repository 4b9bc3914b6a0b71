//! Putting the new base together: existing elements first, then the new ones, in the order of their
//! label sets.

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_graph::{BaseParts, Column, Dense, Ids, LabelSet, NodePart, Pick, Snapshot};
use rayon::prelude::*;

use crate::load::edges::EdgeBuilder;
use crate::load::existing::MovedValues;
use crate::load::index::NewNode;
use crate::load::picks::{Picks, some_column};
use crate::load::plan::TablePlan;
use crate::load::resolved::{ChunkEdges, NewEdges, Resolved};
use crate::load::rows::TableRead;
use crate::load::{LoadError, Progress};

/// Edges of one label set and directedness: the existing part, and those that are new.
type EdgeGroup = (Option<usize>, Vec<NewEdges>);

/// Whether the new elements become a level of their own beside the base, or a new base is written with
/// everything in it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    Level,
    Whole,
}

/// A load that adds this share of the graph or more writes a new base.
const LEVEL_SHARE: u64 = 4;

/// Bytes that the parts of the new elements take beside what was read, about: every column once more, and where
/// its rows come from.
pub(crate) fn bytes_to_build(tables: &[TableRead]) -> usize {
    let chunks = tables.iter().flat_map(|t| t.nodes.iter().chain(&t.edges)).flat_map(|rule| &rule.chunks);
    chunks.map(|chunk| chunk.bytes() + chunk.offsets.len() * size_of::<Option<Pick>>()).sum()
}

/// `changed` is `snapshot` after the load's changes of its own elements.
pub(crate) fn assemble(
    plans: &[TablePlan], tables: &mut [TableRead], resolved: &mut Resolved, snapshot: &Snapshot,
    changed: &Snapshot, progress: &Progress,
) -> Result<(BaseParts, Shape), LoadError> {
    let new_edges: usize = resolved.edges.iter().flat_map(|e| &e.chunks).map(ChunkEdges::len).sum();
    let added = (resolved.nodes.len() + new_edges + changed.overlay_len()) as u64;
    let there = u64::from(snapshot.base.node_count()) + u64::from(snapshot.base.edge_count());
    let shape = if added * LEVEL_SHARE < there { Shape::Level } else { Shape::Whole };
    let first = if shape == Shape::Level { snapshot.base.node_count() } else { 0 };
    let (existing, renumbered) = match shape {
        Shape::Level => changed.level_numbered(),
        Shape::Whole if changed.node_count() == 0 => (BaseParts::default(), vec![]),
        Shape::Whole => changed.fold_numbered(),
    };
    let (next_node_id, mut next_edge_id) = changed.next_ids();

    // Label sets in order, with the existing part and the new nodes of each.
    let mut groups: BTreeMap<LabelSet, (Option<usize>, Vec<u32>)> = BTreeMap::new();
    for (place, part) in existing.nodes.iter().enumerate() {
        groups.entry(part.labels.clone()).or_default().0 = Some(place);
    }
    for (place, node) in resolved.nodes.iter().enumerate() {
        groups.entry(resolved.label_sets[node.labels as usize].clone()).or_default().1.push(place as u32);
    }
    let mut part_starts = vec![0 as Dense; existing.nodes.len()];
    let mut final_of_new = vec![0 as Dense; resolved.nodes.len()];
    let mut next: Dense = first;
    for (part, new) in groups.values() {
        if let Some(part) = part {
            part_starts[*part] = next;
            next += existing.nodes[*part].len as Dense;
        }
        for place in new {
            final_of_new[*place as usize] = next;
            next += 1;
        }
    }
    // Number among the parts to final number, part by part; those of the base stay.
    let mut final_of_parts = vec![];
    for (part, start) in existing.nodes.iter().zip(&part_starts) {
        final_of_parts.extend(*start..*start + part.len as Dense);
    }
    let of_parts = |number: Dense| match number.checked_sub(first) {
        Some(place) => final_of_parts[place as usize],
        None => number,
    };
    let first_new = resolved.existing;
    let final_of = |node: Dense| -> Dense {
        if node >= first_new {
            final_of_new[(node - first_new) as usize]
        } else {
            of_parts(renumbered[node as usize])
        }
    };

    let nodes: Vec<NodePart> = groups
        .iter()
        .map(|(labels, (part, new))| {
            let old = part.map(|p| &existing.nodes[p]);
            node_part(labels, old, new, (resolved, plans, tables), next_node_id)
        })
        .collect();
    progress.check()?;

    let mut edge_groups: BTreeMap<(LabelSet, bool), EdgeGroup> = BTreeMap::new();
    for (place, part) in existing.edges.iter().enumerate() {
        edge_groups.entry((part.labels.clone(), part.directed)).or_default().0 = Some(place);
    }
    for new in std::mem::take(&mut resolved.edges) {
        let directed = plans[new.table].edges[new.rule].directed;
        edge_groups.entry((new.labels.clone(), directed)).or_default().1.push(new);
    }
    let mut edges = vec![];
    for ((labels, directed), (part, added)) in edge_groups {
        progress.check()?;
        let old = part.map(|p| &existing.edges[p]);
        let mut builder = EdgeBuilder::new(old, &of_parts);
        for NewEdges { table, rule, chunks, .. } in added {
            let plan = &plans[table].edges[rule];
            builder.add_new(plan, (table, rule), chunks, &resolved.changed, &final_of);
        }
        if let Some(part) = builder.finish((labels, directed), old, plans, tables, &mut next_edge_id) {
            edges.push(part);
        }
    }
    Ok((BaseParts { nodes, edges }, shape))
}

fn node_part(
    labels: &LabelSet, old: Option<&NodePart>, new: &[u32],
    (resolved, plans, tables): (&Resolved, &[TablePlan], &[TableRead]), next_id: u64,
) -> NodePart {
    let nodes = &resolved.nodes;
    let old_len = old.map_or(0, |p| p.len);
    let mut names: Vec<Arc<str>> =
        old.iter().flat_map(|p| p.columns.iter().map(|(n, _)| n.clone())).collect();
    // One part per rule and chunk that nodes come from.
    let mut places: BTreeMap<(u32, u32, u32), u32> = BTreeMap::new();
    let mut last = None;
    for &place in new {
        let n = &nodes[place as usize];
        let part = (n.table, n.rule, n.chunk);
        if last.replace(part) != Some(part) {
            let next = places.len() as u32 + 1;
            places.entry(part).or_insert(next);
        }
    }
    // Later rows of the load may have changed what an earlier one made.
    let mut moved: Vec<(usize, &MovedValues)> = vec![];
    if !resolved.changed.moved.is_empty() {
        for (row, place) in new.iter().enumerate() {
            let Some(values) = resolved.changed.moved.get(place) else { continue };
            moved.push((old_len + row, values));
            for n in values.values().flatten() {
                let next = places.len() as u32 + 1;
                places.entry((n.table, n.rule, n.chunk)).or_insert(next);
            }
        }
    }
    for (table, rule, _) in places.keys() {
        let stored = plans[*table as usize].nodes[*rule as usize].properties.iter().filter(|p| !p.is_id());
        names.extend(stored.map(|p| p.name.clone()));
    }
    names.sort();
    names.dedup();
    let empty = Column::Other(Arc::from([]));
    let columns = names
        .par_iter()
        .filter_map(|name| {
            let mut parts: Vec<&Column> = vec![&empty; places.len() + 1];
            let mut has = vec![false; places.len() + 1];
            if let Some((_, column)) = old.and_then(|p| p.columns.iter().find(|(n, _)| n == name)) {
                parts[0] = column;
                has[0] = true;
            }
            for ((table, rule, chunk), &part) in &places {
                let plan = &plans[*table as usize].nodes[*rule as usize];
                if let Some(property) = plan.properties.iter().position(|p| p.name == *name) {
                    let rule = &tables[*table as usize].nodes[*rule as usize];
                    parts[part as usize] = &rule.chunks[*chunk as usize].columns[property];
                    has[part as usize] = true;
                }
            }
            let mut picks: Picks = Vec::with_capacity(old_len + new.len());
            picks.extend((0..old_len as u32).map(|row| has[0].then_some(Pick { part: 0, row })));
            let mut last = ((u32::MAX, 0, 0), 0);
            picks.extend(new.iter().map(|&place| {
                let n = &nodes[place as usize];
                let key = (n.table, n.rule, n.chunk);
                if last.0 != key {
                    last = (key, places[&key]);
                }
                has[last.1 as usize].then_some(Pick { part: last.1, row: n.row })
            }));
            for (row, values) in &moved {
                if let Some(place) = values.get(name) {
                    let pick = |n: &NewNode| Pick { part: places[&(n.table, n.rule, n.chunk)], row: n.row };
                    picks[*row] = place.as_ref().map(pick);
                }
            }
            some_column(name, &parts, &picks)
        })
        .collect();
    let mut ids: Vec<u64> = (0..old_len).filter_map(|row| old.map(|p| p.ids.get(row))).collect();
    ids.extend(new.iter().map(|place| next_id + *place as u64));
    NodePart { labels: labels.clone(), len: old_len + new.len(), ids: Ids::from_vec(ids), columns }
}
