//! The edges of a load: both ends of every row looked up, nodes made where they are missing and that is
//! asked for, and the edges told apart that are there already.

use std::collections::{HashMap, HashSet};

use graphodrome_graph::{Column, ColumnBuilder, Dense, GraphType, LabelSet, Snapshot, Value};
use parking_lot::Mutex;
use rayon::prelude::*;

use crate::load::existing::{Changed, Given, Verdict, after, judge};
use crate::load::index::{Index, NewNode, NewRows, direct};
use crate::load::plan::{EdgePlan, ReferencePlan, TablePlan};
use crate::load::read::{RawReject, RuleChunk, TableRead};
use crate::load::resolve::{ChunkEdges, Counts, Indexes, NewEdge, NewEdges, Resolved, labels_of, shown};
use crate::load::{LoadError, Progress, RejectKind};
use crate::mapping::Same;

/// Rows between two questions whether to go on.
const ASK_EVERY: usize = 1 << 14;

/// What the rows of one chunk came to.
#[derive(Default)]
struct Connected {
    edges: ChunkEdges,
    /// Places of their label sets, where labels come from a column.
    labels: Vec<u32>,
    /// Rows whose edge is in the graph: to be compared one after another.
    known: Vec<(Dense, u32)>,
    counts: Counts,
}

/// The label sets of a rule's edges.
struct Labels {
    sets: Vec<LabelSet>,
    by_text: HashMap<Option<String>, u32>,
}

impl Labels {
    fn new(plan: &EdgePlan, chunks: &[RuleChunk]) -> Labels {
        let mut labels = Labels { sets: vec![], by_text: HashMap::new() };
        if plan.label_from.is_none() {
            labels.sets.push(plan.label.clone());
            return labels;
        }
        for column in chunks.iter().filter_map(|c| c.labels.as_ref()) {
            for row in 0..column.len() {
                let own = column.text(row);
                if labels.by_text.contains_key(&own.map(str::to_string)) {
                    continue;
                }
                let set = labels_of(&plan.label, plan.label_from.as_ref(), own);
                let place = labels.sets.iter().position(|s| *s == set).unwrap_or(labels.sets.len());
                if place == labels.sets.len() {
                    labels.sets.push(set);
                }
                labels.by_text.insert(own.map(str::to_string), place as u32);
            }
        }
        labels
    }

    fn of(&self, chunk: &RuleChunk, row: usize) -> u32 {
        match &chunk.labels {
            None => 0,
            Some(column) => {
                self.by_text.get(&column.text(row).map(str::to_string)).copied().unwrap_or_default()
            }
        }
    }
}

/// Resolves an edge rule.
pub(super) fn connect(
    plans: &[TablePlan], tables: &mut [TableRead], (table, rule): (usize, usize), indexes: &mut Indexes,
    resolved: &mut Resolved, snapshot: &Snapshot, progress: &Progress,
) -> Result<(), LoadError> {
    let plan = &plans[table].edges[rule];
    if plan.from.create.is_some() || plan.to.create.is_some() {
        create_missing(plans, tables, (table, rule), indexes, resolved, snapshot)?;
    }
    let labels = Labels::new(plan, &tables[table].edges[rule].chunks);
    let mut found = look_up(plans, tables, (table, rule), indexes, resolved, snapshot, &labels, progress)?;
    let mut counts = Counts::default();
    let chunks = &tables[table].edges[rule].chunks;
    if plan.key.is_some() {
        let changed = &mut resolved.changed;
        keyed(plan, (table, rule), &mut found, chunks, changed, &mut counts, snapshot, progress)?;
    }
    for (chunk, part) in chunks.iter().zip(&found) {
        for &(edge, row) in &part.known {
            compare(plan, edge, chunk, row as usize, &mut resolved.changed, &mut counts, snapshot);
        }
    }
    for part in &mut found {
        std::mem::take(&mut part.counts).add_to(&mut tables[table].edges[rule]);
    }
    counts.add_to(&mut tables[table].edges[rule]);
    if labels.sets.len() == 1 {
        let chunks = found.into_iter().map(|part| part.edges).collect();
        resolved.edges.push(NewEdges { table, rule, labels: labels.sets[0].clone(), chunks });
        return Ok(());
    }
    for (place, set) in labels.sets.into_iter().enumerate() {
        let of_set = |part: &Connected| {
            let mut edges = ChunkEdges::with_capacity(part.edges.chunk, 0);
            let with_labels = part.edges.edges().zip(&part.labels).filter(|(_, l)| **l as usize == place);
            with_labels.for_each(|(edge, _)| edges.push((edge.from, edge.to), edge.row));
            edges
        };
        let chunks = found.iter().map(of_set).collect();
        resolved.edges.push(NewEdges { table, rule, labels: set, chunks });
    }
    Ok(())
}

/// The indexes in which a reference is looked up, in their order.
fn tried<'i>(reference: &ReferencePlan, indexes: &'i Indexes) -> Vec<&'i Index> {
    reference.spaces.iter().filter_map(|space| indexes.get(space)).collect()
}

/// Makes the nodes that references lack, each once, for rows whose other end is there or is made too.
fn create_missing(
    plans: &[TablePlan], tables: &mut [TableRead], (table, rule): (usize, usize), indexes: &mut Indexes,
    resolved: &mut Resolved, snapshot: &Snapshot,
) -> Result<(), LoadError> {
    let plan = &plans[table].edges[rule];
    let mut wanted: [Vec<Vec<Value>>; 2] = [vec![], vec![]];
    {
        let rows = NewRows { tables, plans, nodes: &resolved.nodes, existing: resolved.existing };
        let mut seen: [HashSet<Vec<Value>>; 2] = Default::default();
        // Both ends may lack the same node.
        let one_space = plan.from.spaces[0] == plan.to.spaces[0];
        let indexes = [tried(&plan.from, indexes), tried(&plan.to, indexes)];
        for chunk in &tables[table].edges[rule].chunks {
            let columns: [Vec<&Column>; 2] = [chunk.from.iter().collect(), chunk.to.iter().collect()];
            for row in 0..chunk.offsets.len() {
                let is_there = |side: usize| {
                    indexes[side].iter().any(|i| i.find(&columns[side], row, &rows, snapshot).is_some())
                };
                let there = [is_there(0), is_there(1)];
                let creates = [plan.from.create.is_some(), plan.to.create.is_some()];
                if (0..2).any(|side| !there[side] && !creates[side]) {
                    continue;
                }
                for side in (0..2).filter(|&side| !there[side]) {
                    let values: Vec<Value> = columns[side].iter().map(|c| c.value(row)).collect();
                    if seen[if one_space { 0 } else { side }].insert(values.clone()) {
                        wanted[side].push(values);
                    }
                }
            }
        }
    }
    let mut created = 0;
    for (reference, wanted) in [&plan.from, &plan.to].into_iter().zip(wanted) {
        let Some(place) = reference.create else { continue };
        let node = &plans[table].nodes[place];
        let mut columns: Vec<ColumnBuilder> =
            node.properties.iter().map(|_| ColumnBuilder::with_capacity(wanted.len())).collect();
        let labels = resolved.place_of(node.labels.clone());
        for values in &wanted {
            for (property, column) in node.properties.iter().zip(&mut columns).skip(values.len()) {
                column.push(property.default.clone().unwrap_or(Value::Null));
            }
            for (value, column) in values.iter().zip(&mut columns) {
                column.push(value.clone());
            }
        }
        let chunk_index = tables[table].nodes[place].chunks.len() as u32;
        let chunk = RuleChunk {
            columns: columns.into_iter().map(ColumnBuilder::finish).collect(),
            offsets: wanted.iter().map(|_| 0).collect(),
            ..RuleChunk::default()
        };
        let key: Vec<&Column> = chunk.columns[..reference.columns.len()].iter().collect();
        for row in 0..wanted.len() {
            let dense = resolved.existing + resolved.nodes.len() as Dense;
            let index = reference.spaces.first().and_then(|space| indexes.get_mut(space));
            if let Some(index) = index {
                index.insert(&key, row, dense);
            }
            resolved.nodes.push(NewNode {
                table: table as u32,
                rule: place as u32,
                chunk: chunk_index,
                row: row as u32,
                labels,
            });
        }
        created += wanted.len() as u64;
        tables[table].nodes[place].chunks.push(chunk);
    }
    tables[table].edges[rule].created += created;
    Ok(())
}

/// Looks up both ends of every row, chunk by chunk in parallel.
#[allow(clippy::too_many_arguments)] // All of what a row is looked up in.
fn look_up(
    plans: &[TablePlan], tables: &[TableRead], (table, rule): (usize, usize), indexes: &Indexes,
    resolved: &Resolved, snapshot: &Snapshot, labels: &Labels, progress: &Progress,
) -> Result<Vec<Connected>, LoadError> {
    let plan = &plans[table].edges[rule];
    let rows = NewRows { tables, plans, nodes: &resolved.nodes, existing: resolved.existing };
    let (from_indexes, to_indexes) = (tried(&plan.from, indexes), tried(&plan.to, indexes));
    let labels_of = |node: Dense| -> LabelSet {
        match rows.get(node) {
            Some(new) => resolved.label_sets[new.labels as usize].clone(),
            None => snapshot.node_labels(node),
        }
    };
    let place_of = |node: Dense| rows.get(node).map(|new| new.labels);
    let allowed = Allowed { plan, graph_type: snapshot.graph_type.as_deref(), labels: &labels.sets };
    // Where all nodes are new and of one label set, what the type says of one pair it says of all.
    let plain = plan.label_from.is_none() && snapshot.node_count() == 0 && !resolved.nodes.is_empty();
    let all_allowed = plain && resolved.label_sets.len() == 1 && {
        let ends = [resolved.existing; 2];
        allowed.refused(0, ends, &labels_of, &place_of, &mut HashMap::new()).is_none()
    };
    // A keyed edge is found by its key; others by their ends, where there are any such edges.
    let compares = plan.key.is_none() && plan.same != Same::KeepParallel && snapshot.edge_count() > 0;
    let Resolved { taken, .. } = resolved;
    tables[table].edges[rule]
        .chunks
        .par_iter()
        .enumerate()
        .map(|(chunk_index, chunk)| {
            let edges = ChunkEdges::with_capacity(chunk_index as u32, chunk.offsets.len());
            let mut out = Connected { edges, ..Connected::default() };
            // Whether the type allows a pair of label sets, asked once a pair.
            let mut answers = HashMap::new();
            let from: Vec<&Column> = chunk.from.iter().collect();
            let to: Vec<&Column> = chunk.to.iter().collect();
            let lists = (direct(&from_indexes, &from, snapshot), direct(&to_indexes, &to, snapshot));
            for row in 0..chunk.offsets.len() {
                if row % ASK_EVERY == 0 {
                    progress.check()?;
                }
                if all_allowed
                    && let (Some(from), Some(to)) = &lists
                    && let (Some(from), Some(to)) = (from.get(row), to.get(row))
                {
                    let ends = if plan.directed || from <= to { (from, to) } else { (to, from) };
                    out.edges.push(ends, row as u32);
                    continue;
                }
                let offset = chunk.offsets.at(row);
                let mut ends = [0; 2];
                let mut missing = None;
                let sides = [(&plan.from, &from, &from_indexes), (&plan.to, &to, &to_indexes)];
                for (end, (reference, columns, tried)) in ends.iter_mut().zip(sides) {
                    match tried.iter().find_map(|index| index.find(columns, row, &rows, snapshot)) {
                        Some(node) => *end = node,
                        None => {
                            missing = Some(dangling(reference, columns, row, offset));
                            break;
                        }
                    }
                }
                if let Some(reject) = missing {
                    out.counts.rejects.push(reject);
                    continue;
                }
                let label = labels.of(chunk, row);
                let refused = allowed.refused(label, ends, &labels_of, &place_of, &mut answers);
                let refused = refused.or_else(|| allowed.check(chunk, row, label, ends, &labels_of));
                if let Some(reason) = refused {
                    let kind = RejectKind::Type;
                    out.counts.rejects.push(RawReject { offset, column: None, value: None, kind, reason });
                    continue;
                }
                let [mut a, mut b] = ends;
                if compares
                    && a < resolved.existing
                    && b < resolved.existing
                    && let Some(edge) =
                        same_edge(plan, chunk, row, (a, b), &labels.sets[label as usize], snapshot, taken)
                {
                    out.known.push((edge, row as u32));
                    continue;
                }
                if !plan.directed && a > b {
                    std::mem::swap(&mut a, &mut b);
                }
                out.edges.push((a, b), row as u32);
                if plan.label_from.is_some() {
                    out.labels.push(label);
                }
            }
            Ok(out)
        })
        .collect()
}

/// Edges of the graph that a row has been found to be already, where each row is an edge of its own. Rows that
/// look for the same one are the same: it does not matter which of them gets it.
pub(super) type Taken = Mutex<HashSet<Dense>>;

/// The edge of the graph that a row is: one with its ends and, unless they alone decide, its properties.
#[allow(clippy::too_many_arguments)] // What is looked for, and where.
fn same_edge(
    plan: &EdgePlan, chunk: &RuleChunk, row: usize, ends: (Dense, Dense), labels: &LabelSet,
    snapshot: &Snapshot, taken: &Taken,
) -> Option<Dense> {
    let mut found = None;
    snapshot.for_each_between(ends, labels, plan.directed, |edge| {
        if found.is_some() {
            return;
        }
        let agrees = plan.same == Same::SameEndsOnce || {
            let stored = snapshot.edge_properties(edge);
            let given = plan.properties.iter().zip(&chunk.columns);
            let mut given =
                given.map(|(p, column)| (&p.name, column.value(row))).filter(|(_, v)| !v.is_null());
            let count = given.clone().count();
            count == stored.len() && given.all(|(name, v)| stored.iter().any(|(n, s)| n == name && *s == v))
        };
        if agrees && (plan.same != Same::OnePerRow || taken.lock().insert(edge)) {
            found = Some(edge);
        }
    });
    found
}

fn given(plan: &EdgePlan, chunk: &RuleChunk, row: usize) -> Vec<Given> {
    let columns = plan.properties.iter().zip(&chunk.columns);
    columns.map(|(p, column)| Given { name: p.name.clone(), value: column.value(row) }).collect()
}

/// A row whose edge is in the graph: nothing to do, a change, or a reject.
fn compare(
    plan: &EdgePlan, edge: Dense, chunk: &RuleChunk, row: usize, changed: &mut Changed, counts: &mut Counts,
    snapshot: &Snapshot,
) {
    let given = given(plan, chunk, row);
    let verdict = judge(
        plan.existing,
        &given,
        |name| changed.edge_value(edge, name, snapshot),
        || changed.edge_names(edge, snapshot),
    );
    match verdict {
        Verdict::Agrees => counts.unchanged += 1,
        Verdict::Changes => {
            counts.changed += 1;
            changed.change_edge(edge, plan.existing, &given, snapshot);
        }
        Verdict::Differs(name, given, known) => {
            counts.rejects.push(differing(plan, chunk.offsets.at(row), &name, &given, &known));
        }
    }
}

/// The reject of a row whose edge is there already with another value.
pub(super) fn differing(plan: &EdgePlan, offset: u64, name: &str, given: &Value, known: &Value) -> RawReject {
    let property = plan.properties.iter().find(|p| *p.name == *name);
    RawReject {
        offset,
        column: property.and_then(|p| p.input.column()),
        value: Some(given.to_string()),
        kind: RejectKind::KeyConflict,
        reason: format!("the edge is there already with {name} = {}", known.excerpt()),
    }
}

fn dangling(reference: &ReferencePlan, columns: &[&Column], row: usize, offset: u64) -> RawReject {
    let labels: Vec<&str> = reference.spaces.iter().map(|s| &*s.label).collect();
    let keys = reference.spaces[0].properties.join(", ");
    let reason = if reference.spaces[0].is_ids() {
        "no node of this load has this id".to_string()
    } else {
        format!("there is no {} with this {keys}", labels.join(" or "))
    };
    RawReject {
        offset,
        column: reference.columns.first().and_then(|c| c.0.column()),
        value: Some(shown(columns, row)),
        kind: RejectKind::NoSuchNode,
        reason,
    }
}

/// What the graph type says of edges.
struct Allowed<'p> {
    plan: &'p EdgePlan,
    graph_type: Option<&'p GraphType>,
    labels: &'p [LabelSet],
}

type Answers = HashMap<(u32, u32, u32), Option<String>>;

impl Allowed<'_> {
    /// Why the graph type does not allow an edge between such nodes, if it does not.
    fn refused(
        &self, label: u32, ends: [Dense; 2], labels_of: &dyn Fn(Dense) -> LabelSet,
        place_of: &dyn Fn(Dense) -> Option<u32>, answers: &mut Answers,
    ) -> Option<String> {
        let graph_type = self.graph_type?;
        // New nodes are told apart by the place of their label set: no counting of references by every
        // thread at once.
        let places = match (place_of(ends[0]), place_of(ends[1])) {
            (Some(from), Some(to)) => Some((label, from, to)),
            _ => None,
        };
        if let Some(answer) = places.and_then(|places| answers.get(&places)) {
            return answer.clone();
        }
        let pair = (labels_of(ends[0]), labels_of(ends[1]));
        let pair = (&pair.0, &pair.1);
        let set = &self.labels[label as usize];
        let answer = match graph_type.edge_type(set, self.plan.directed, pair) {
            Some(_) => None,
            None => Some(graph_type.no_edge_type(set, self.plan.directed, pair).message),
        };
        if let Some(places) = places {
            answers.insert(places, answer.clone());
        }
        answer
    }

    /// Where labels differ by row, each edge is checked against the type it is of.
    fn check(
        &self, chunk: &RuleChunk, row: usize, label: u32, ends: [Dense; 2],
        labels_of: &dyn Fn(Dense) -> LabelSet,
    ) -> Option<String> {
        let graph_type = self.graph_type.filter(|_| self.plan.label_from.is_some())?;
        let given = given(self.plan, chunk, row).into_iter().filter(|g| !g.value.is_null());
        let properties: Vec<_> = given.map(|g| (g.name, g.value)).collect();
        let pair = (labels_of(ends[0]), labels_of(ends[1]));
        let set = &self.labels[label as usize];
        graph_type
            .check_edge(set, self.plan.directed, (&pair.0, &pair.1), &properties.into())
            .err()
            .map(|violation| violation.message)
    }
}

/// For edges with a declared key: the rows that are new stay; the others are compared with the edge that
/// has the key.
#[allow(clippy::too_many_arguments)] // What is compared, and where it is noted.
fn keyed(
    plan: &EdgePlan, (table, rule): (usize, usize), found: &mut [Connected], chunks: &[RuleChunk],
    changed: &mut Changed, counts: &mut Counts, snapshot: &Snapshot, progress: &Progress,
) -> Result<(), LoadError> {
    let Some((key, places)) = &plan.key else { return Ok(()) };
    let mut seen: HashMap<Vec<Value>, NewEdge> = HashMap::new();
    for part in found {
        let edges = std::mem::take(&mut part.edges);
        let labels = std::mem::take(&mut part.labels);
        part.edges.chunk = edges.chunk;
        for (place, edge) in edges.edges().enumerate() {
            if place % ASK_EVERY == 0 {
                progress.check()?;
            }
            let (chunk, row) = (&chunks[edge.chunk as usize], edge.row as usize);
            let values: Vec<Value> = places.iter().map(|&p| chunk.columns[p].value(row)).collect();
            let offset = chunk.offsets.at(row);
            let other_ends = || RawReject {
                offset,
                column: plan.properties[places[0]].input.column(),
                value: Some(values.iter().map(Value::to_string).collect::<Vec<_>>().join(", ")),
                kind: RejectKind::KeyConflict,
                reason: "the key is there already on an edge with other ends".into(),
            };
            if let Some(known) = snapshot.seek(*key, &values) {
                let mut ends = snapshot.edge_ends(known);
                if !plan.directed && ends.0 > ends.1 {
                    ends = (ends.1, ends.0);
                }
                if ends == (edge.from, edge.to) {
                    compare(plan, known, chunk, row, changed, counts, snapshot);
                } else {
                    counts.rejects.push(other_ends());
                }
                continue;
            }
            let known = seen.get(&values).filter(|_| !values.iter().any(Value::is_null));
            if let Some(known) = known {
                if (known.from, known.to) != (edge.from, edge.to) {
                    counts.rejects.push(other_ends());
                    continue;
                }
                let later = changed.moved_edges.entry((table, rule, known.chunk, known.row)).or_default();
                let row_of = |edge: &NewEdge| given(plan, &chunks[edge.chunk as usize], edge.row as usize);
                let now = later
                    .iter()
                    .map(row_of)
                    .fold(after(plan.existing, vec![], &row_of(known)), |now, row| {
                        after(plan.existing, now, &row)
                    });
                let value = |name: &str| {
                    now.iter().find(|(n, _)| **n == *name).map_or(Value::Null, |(_, v)| v.clone())
                };
                let own = given(plan, chunk, row);
                match judge(plan.existing, &own, value, || now.iter().map(|(n, _)| n.clone()).collect()) {
                    Verdict::Agrees => counts.duplicates += 1,
                    Verdict::Changes => {
                        counts.changed += 1;
                        later.push(edge);
                    }
                    Verdict::Differs(name, given, known) => {
                        counts.rejects.push(differing(plan, offset, &name, &given, &known));
                    }
                }
                continue;
            }
            seen.insert(values, edge);
            part.edges.push((edge.from, edge.to), edge.row);
            if let Some(label) = labels.get(place) {
                part.labels.push(*label);
            }
        }
    }
    Ok(())
}
