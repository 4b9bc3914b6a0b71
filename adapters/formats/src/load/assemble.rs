//! Putting the new base together: existing elements first, then the new ones, in the order of their
//! label sets.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use graphodrome_graph::{BaseParts, Column, Dense, Ids, LabelSet, NodePart, Pick, Snapshot, Value};
use rayon::prelude::*;

use crate::load::edges::EdgeBuilder;
use crate::load::plan::{EdgePlan, TablePlan};
use crate::load::read::{RawReject, TableRead};
use crate::load::resolve::{NewEdge, NewNode, Resolved};
use crate::load::{LoadError, Progress};

/// Edges of one label set and directedness: the existing part, and the (table, rule) pairs that add.
type EdgeGroup = (Option<usize>, Vec<(usize, usize)>);

/// A gathered column of optional rows.
pub(crate) type Picks = Vec<Option<Pick>>;

pub(crate) fn assemble(
    plans: &[TablePlan], tables: &mut [TableRead], mut resolved: Resolved, snapshot: &Snapshot,
    progress: &Progress,
) -> Result<BaseParts, LoadError> {
    let (existing, renumbered) =
        if snapshot.node_count() == 0 { (BaseParts::default(), vec![]) } else { snapshot.fold_numbered() };
    let (next_node_id, mut next_edge_id) = snapshot.next_ids();

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
    let mut next: Dense = 0;
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
    // Folded number to final number, part by part.
    let mut final_of_folded = vec![];
    for (part, start) in existing.nodes.iter().zip(&part_starts) {
        final_of_folded.extend(*start..*start + part.len as Dense);
    }
    let first_new = resolved.existing;
    let final_of = |node: Dense| -> Dense {
        if node >= first_new {
            final_of_new[(node - first_new) as usize]
        } else {
            final_of_folded[renumbered[node as usize] as usize]
        }
    };

    let nodes: Vec<NodePart> = groups
        .iter()
        .map(|(labels, (part, new))| {
            let old = part.map(|p| &existing.nodes[p]);
            node_part(labels, old, new, &resolved.nodes, plans, tables, next_node_id)
        })
        .collect();
    progress.check()?;

    let mut edge_groups: BTreeMap<(LabelSet, bool), EdgeGroup> = BTreeMap::new();
    for (place, part) in existing.edges.iter().enumerate() {
        edge_groups.entry((part.labels.clone(), part.directed)).or_default().0 = Some(place);
    }
    for (table, plan) in plans.iter().enumerate() {
        for (rule, edge) in plan.edges.iter().enumerate() {
            edge_groups.entry((edge.label.clone(), edge.directed)).or_default().1.push((table, rule));
        }
    }
    let mut edges = vec![];
    for ((labels, directed), (part, rules)) in edge_groups {
        progress.check()?;
        let old = part.map(|p| &existing.edges[p]);
        let mut builder = EdgeBuilder::new(old, &final_of_folded);
        for (table, rule) in rules {
            let plan = &plans[table].edges[rule];
            let mut new = std::mem::take(&mut resolved.edges[table][rule]);
            if plan.key.is_some() {
                keyed(plan, &mut new, (table, rule), tables, snapshot);
            }
            builder.add_new(plan, (table, rule), new, &final_of);
        }
        if let Some(part) = builder.finish(labels, directed, old, tables, &mut next_edge_id) {
            edges.push(part);
        }
    }
    Ok(BaseParts { nodes, edges })
}

fn node_part(
    labels: &LabelSet, old: Option<&NodePart>, new: &[u32], nodes: &[NewNode], plans: &[TablePlan],
    tables: &[TableRead], next_id: u64,
) -> NodePart {
    let old_len = old.map_or(0, |p| p.len);
    let mut names: Vec<Arc<str>> =
        old.iter().flat_map(|p| p.columns.iter().map(|(n, _)| n.clone())).collect();
    // One part per rule and chunk that nodes come from.
    let mut places: BTreeMap<(u32, u32, u32), u32> = BTreeMap::new();
    for &place in new {
        let n = &nodes[place as usize];
        let next = places.len() as u32 + 1;
        places.entry((n.table, n.rule, n.chunk)).or_insert(next);
    }
    for (table, rule, _) in places.keys() {
        names.extend(plans[*table as usize].nodes[*rule as usize].properties.iter().map(|p| p.name.clone()));
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
            some_column(name, &parts, &picks)
        })
        .collect();
    let mut ids: Vec<u64> = (0..old_len).filter_map(|row| old.map(|p| p.ids.get(row))).collect();
    ids.extend(new.iter().map(|place| next_id + *place as u64));
    NodePart { labels: labels.clone(), len: old_len + new.len(), ids: Ids::from_vec(ids), columns }
}

/// The gathered column, unless it is null throughout.
pub(crate) fn some_column(name: &Arc<str>, parts: &[&Column], picks: &Picks) -> Option<(Arc<str>, Column)> {
    let column = Column::gather_optional(parts, picks);
    column.has_values().then(|| (name.clone(), column))
}

/// For edges with a declared key: keeps the rows that are new. The others are duplicates where ends and
/// properties agree, rejects where they do not.
fn keyed(
    plan: &EdgePlan, edges: &mut [Vec<NewEdge>], (table, rule): (usize, usize), tables: &mut [TableRead],
    snapshot: &Snapshot,
) {
    let Some((key, places)) = &plan.key else { return };
    let mut seen: HashMap<Vec<Value>, NewEdge> = HashMap::new();
    let (mut duplicates, mut rejects) = (0, vec![]);
    let chunks = &tables[table].edges[rule].chunks;
    let value =
        |edge: &NewEdge, place: usize| chunks[edge.chunk as usize].columns[place].value(edge.row as usize);
    let properties =
        |edge: &NewEdge| -> Vec<Value> { (0..plan.properties.len()).map(|p| value(edge, p)).collect() };
    let mut is_new = |edge: &NewEdge| {
        let values: Vec<Value> = places.iter().map(|&p| value(edge, p)).collect();
        let same = if let Some(known) = snapshot.seek(*key, &values) {
            let stored = snapshot.edge_properties(known);
            let mut ends = snapshot.edge_ends(known);
            if !plan.directed && ends.0 > ends.1 {
                ends = (ends.1, ends.0);
            }
            let agrees = plan.properties.iter().zip(properties(edge)).all(|(p, given)| {
                let stored =
                    stored.iter().find(|(n, _)| *n == p.name).map_or(Value::Null, |(_, v)| v.clone());
                given.is_null() || stored == given
            });
            Some(ends == (edge.from, edge.to) && agrees)
        } else if values.iter().any(Value::is_null) {
            None
        } else {
            match seen.get(&values) {
                Some(known) => Some(
                    (known.from, known.to) == (edge.from, edge.to) && properties(known) == properties(edge),
                ),
                None => {
                    seen.insert(values.clone(), *edge);
                    None
                }
            }
        };
        match same {
            None => {}
            Some(true) => duplicates += 1,
            Some(false) => {
                let shown: Vec<String> = values.iter().map(Value::to_string).collect();
                rejects.push(RawReject {
                    offset: chunks[edge.chunk as usize].offsets[edge.row as usize],
                    column: Some(plan.properties[places[0]].column),
                    value: Some(shown.join(", ")),
                    reason: "the key is there already on an edge with other ends or properties".into(),
                });
            }
        }
        same.is_none()
    };
    edges.iter_mut().for_each(|chunk| chunk.retain(&mut is_new));
    let read = &mut tables[table].edges[rule];
    read.duplicates += duplicates;
    rejects.into_iter().for_each(|r| read.reject(r));
}
