//! Putting the new base together: existing elements first, then the new ones, in the order of their
//! label sets; edges sorted by their ends, which also brings those that are the same side by side.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use graphodrome_graph::{BaseParts, Column, Dense, EdgePart, Ids, LabelSet, NodePart, Pick, Snapshot, Value};
use rayon::prelude::*;

use crate::load::plan::{EdgePlan, TablePlan};
use crate::load::read::{RawReject, RuleChunk, TableRead};
use crate::load::resolve::{NewEdge, NewNode, Resolved};
use crate::load::{LoadError, Progress};

/// Edges of one label set and directedness: the existing part, and the (table, rule) pairs that add.
type EdgeGroup = (Option<usize>, Vec<(usize, usize)>);

/// A gathered column of optional rows.
type Picks = Vec<Option<Pick>>;

pub(crate) fn assemble(
    plans: &[TablePlan], tables: &mut [TableRead], resolved: Resolved, snapshot: &Snapshot,
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
    let final_of = |node: Dense| -> Dense {
        if node >= resolved.existing {
            final_of_new[(node - resolved.existing) as usize]
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
        let mut builder = EdgeBuilder::default();
        if let Some(old) = old {
            builder.add_existing(old, &final_of_folded);
        }
        for (table, rule) in rules {
            let plan = &plans[table].edges[rule];
            let new = &resolved.edges[table][rule];
            let kept = match plan.key {
                Some(_) => keyed(plan, new, (table, rule), tables, snapshot),
                None => vec![true; new.len()],
            };
            builder.add_new(plan, (table, rule), new, &kept, &tables[table].edges[rule].chunks, &final_of);
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
fn some_column(name: &Arc<str>, parts: &[&Column], picks: &Picks) -> Option<(Arc<str>, Column)> {
    let column = Column::gather_optional(parts, picks);
    column.has_values().then(|| (name.clone(), column))
}

/// For edges with a declared key: which rows are new. The others are duplicates where ends and
/// properties agree, rejects where they do not.
fn keyed(
    plan: &EdgePlan, edges: &[NewEdge], (table, rule): (usize, usize), tables: &mut [TableRead],
    snapshot: &Snapshot,
) -> Vec<bool> {
    let Some((key, places)) = &plan.key else { return vec![true; edges.len()] };
    let mut kept = Vec::with_capacity(edges.len());
    let mut seen: HashMap<Vec<Value>, NewEdge> = HashMap::new();
    let (mut duplicates, mut rejects) = (0, vec![]);
    let chunks = &tables[table].edges[rule].chunks;
    let value =
        |edge: &NewEdge, place: usize| chunks[edge.chunk as usize].columns[place].value(edge.row as usize);
    let properties =
        |edge: &NewEdge| -> Vec<Value> { (0..plan.properties.len()).map(|p| value(edge, p)).collect() };
    for edge in edges {
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
        kept.push(same.is_none());
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
    }
    let read = &mut tables[table].edges[rule];
    read.duplicates += duplicates;
    rejects.into_iter().for_each(|r| read.reject(r));
    kept
}

#[derive(Clone, Copy)]
struct Item {
    from: Dense,
    to: Dense,
    pick: Pick,
}

/// The rule and chunk that a part of an [`EdgeBuilder`] is; part 0 is what was there before.
struct EdgeSource {
    table: usize,
    rule: usize,
    chunk: usize,
    keep_same: bool,
    /// Per property name its place among the chunk's columns.
    properties: Vec<Arc<str>>,
}

#[derive(Default)]
struct EdgeBuilder {
    items: Vec<Item>,
    sources: Vec<EdgeSource>,
}

impl EdgeBuilder {
    fn add_existing(&mut self, part: &EdgePart, final_of_folded: &[Dense]) {
        let ends = part.sources.iter().zip(&part.targets).enumerate();
        self.items.extend(ends.map(|(row, (from, to))| Item {
            from: final_of_folded[*from as usize],
            to: final_of_folded[*to as usize],
            pick: Pick { part: 0, row: row as u32 },
        }));
    }

    fn add_new(
        &mut self, plan: &EdgePlan, (table, rule): (usize, usize), edges: &[NewEdge], kept: &[bool],
        chunks: &[RuleChunk], final_of: &(impl Fn(Dense) -> Dense + Sync),
    ) {
        let first = self.sources.len() as u32 + 1;
        for chunk in 0..chunks.len() {
            self.sources.push(EdgeSource {
                table,
                rule,
                chunk,
                keep_same: plan.keep_same,
                properties: plan.properties.iter().map(|p| p.name.clone()).collect(),
            });
        }
        self.items.reserve(edges.len());
        for (edge, _) in edges.iter().zip(kept).filter(|(_, kept)| **kept) {
            let (mut from, mut to) = (final_of(edge.from), final_of(edge.to));
            if !plan.directed && from > to {
                std::mem::swap(&mut from, &mut to);
            }
            self.items.push(Item { from, to, pick: Pick { part: first + edge.chunk, row: edge.row } });
        }
    }

    fn finish(
        self, labels: LabelSet, directed: bool, old: Option<&EdgePart>, tables: &mut [TableRead],
        next_id: &mut u64,
    ) -> Option<EdgePart> {
        let EdgeBuilder { items, sources } = self;
        let mut items = sorted(items);
        let mut names: Vec<Arc<str>> =
            old.iter().flat_map(|p| p.columns.iter().map(|(n, _)| n.clone())).collect();
        names.extend(sources.iter().flat_map(|s| s.properties.iter().cloned()));
        names.sort();
        names.dedup();
        let empty = Column::Other(Arc::from([]));
        let column_of = |part: usize, name: &Arc<str>| -> Option<&Column> {
            if part == 0 {
                return old.and_then(|p| p.columns.iter().find(|(n, _)| n == name)).map(|(_, c)| c);
            }
            let source = &sources[part - 1];
            let place = source.properties.iter().position(|p| p == name)?;
            Some(&tables[source.table].edges[source.rule].chunks[source.chunk].columns[place])
        };
        let by_name: Vec<Vec<Option<&Column>>> = names
            .iter()
            .map(|name| (0..=sources.len()).map(|part| column_of(part, name)).collect())
            .collect();
        let agree = |a: Pick, b: Pick| {
            by_name.iter().all(|parts| {
                let value = |p: Pick| parts[p.part as usize].map_or(Value::Null, |c| c.value(p.row as usize));
                value(a) == value(b)
            })
        };
        // Same ends side by side: a new edge that agrees with an earlier one is a duplicate.
        let mut made: HashMap<(usize, usize), (u64, u64)> = HashMap::new();
        let mut duplicate_of: Vec<u64> = vec![0; sources.len() + 1];
        let mut made_of: Vec<u64> = vec![0; sources.len() + 1];
        let mut run_start = 0;
        let mut write = 0;
        for read in 0..items.len() {
            let item = items[read];
            if write == 0
                || run_start >= write
                || (items[run_start].from, items[run_start].to) != (item.from, item.to)
            {
                run_start = write;
            }
            let part = item.pick.part as usize;
            let checks = part > 0 && !sources[part - 1].keep_same;
            if checks && items[run_start..write].iter().any(|known| agree(known.pick, item.pick)) {
                duplicate_of[part] += 1;
                continue;
            }
            made_of[part] += 1;
            items[write] = item;
            write += 1;
        }
        items.truncate(write);
        for (place, source) in sources.iter().enumerate() {
            let counts = made.entry((source.table, source.rule)).or_default();
            counts.0 += made_of[place + 1];
            counts.1 += duplicate_of[place + 1];
        }
        let part = if items.is_empty() {
            None
        } else {
            let picks: Vec<Pick> = items.iter().map(|item| item.pick).collect();
            let columns = names
                .par_iter()
                .zip(&by_name)
                .filter_map(|(name, parts)| {
                    let present: Vec<bool> = parts.iter().map(Option::is_some).collect();
                    let columns: Vec<&Column> = parts.iter().map(|c| c.unwrap_or(&empty)).collect();
                    // A part that no edge comes from may lack the column.
                    if present.iter().skip(1).all(|p| *p) && (present[0] || old.is_none()) {
                        let (columns, shift) =
                            if old.is_none() { (&columns[1..], 1) } else { (&columns[..], 0) };
                        let column = if shift == 0 {
                            Column::gather(columns, &picks)
                        } else {
                            let moved: Vec<Pick> =
                                picks.iter().map(|p| Pick { part: p.part - shift, row: p.row }).collect();
                            Column::gather(columns, &moved)
                        };
                        return column.has_values().then(|| (name.clone(), column));
                    }
                    let partial: Picks =
                        picks.iter().map(|p| present[p.part as usize].then_some(*p)).collect();
                    some_column(name, &columns, &partial)
                })
                .collect();
            let ids = match old {
                None => {
                    let first = *next_id;
                    *next_id += items.len() as u64;
                    Ids::Sequence(first)
                }
                Some(old) => {
                    let id_of = |item: &Item| match item.pick.part {
                        0 => old.ids.get(item.pick.row as usize),
                        _ => {
                            *next_id += 1;
                            *next_id - 1
                        }
                    };
                    Ids::from_vec(items.iter().map(id_of).collect())
                }
            };
            Some(EdgePart {
                labels,
                directed,
                ids,
                sources: items.iter().map(|i| i.from).collect(),
                targets: items.iter().map(|i| i.to).collect(),
                columns,
            })
        };
        for ((table, rule), (new, duplicates)) in made {
            let read = &mut tables[table].edges[rule];
            read.made += new;
            read.duplicates += duplicates;
        }
        part
    }
}

/// By source, target and then the order in which they came: a counting sort by source, each row then
/// sorted on its own, in parallel.
fn sorted(items: Vec<Item>) -> Vec<Item> {
    let Some(bound) = items.iter().map(|i| i.from).max() else { return items };
    let mut starts = vec![0u32; bound as usize + 2];
    for item in &items {
        starts[item.from as usize + 1] += 1;
    }
    for i in 1..starts.len() {
        starts[i] += starts[i - 1];
    }
    let blank = Item { from: 0, to: 0, pick: Pick { part: 0, row: 0 } };
    let mut out = vec![blank; items.len()];
    // Two halves of the sources, filled side by side: each reads all edges and writes its own.
    let middle = starts.partition_point(|&s| (s as usize) < items.len() / 2).min(starts.len() - 1);
    let (left, right) = out.split_at_mut(starts[middle] as usize);
    let fill = |rows: std::ops::Range<usize>, part: &mut [Item]| {
        let start = starts[rows.start];
        let mut next: Vec<u32> = starts[rows.clone()].iter().map(|s| s - start).collect();
        for item in items.iter().filter(|i| rows.contains(&(i.from as usize))) {
            let slot = &mut next[item.from as usize - rows.start];
            part[*slot as usize] = *item;
            *slot += 1;
        }
    };
    rayon::join(|| fill(0..middle, left), || fill(middle..starts.len() - 1, right));
    // Cut at row starts into pieces for the cores.
    let mut pieces: Vec<&mut [Item]> = vec![];
    let mut rest = out.as_mut_slice();
    while !rest.is_empty() {
        let mut end = rest.len().min(1 << 18);
        while end < rest.len() && rest[end].from == rest[end - 1].from {
            end += 1;
        }
        let (piece, after) = rest.split_at_mut(end);
        pieces.push(piece);
        rest = after;
    }
    pieces.into_par_iter().for_each(|piece| {
        piece.chunk_by_mut(|a, b| a.from == b.from).for_each(|row| {
            row.sort_unstable_by_key(|i| (i.to, i.pick.part, i.pick.row));
        });
    });
    out
}
