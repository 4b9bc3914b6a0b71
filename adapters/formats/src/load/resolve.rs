//! Resolving keys in memory: which node each row is, and which nodes are new.

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_graph::{Column, Dense, LabelSet, Snapshot, Value, label_set};

use crate::load::connect::{Taken, connect};
use crate::load::existing::{Changed, Given, Verdict, judge};
use crate::load::index::{Index, NewNode, NewRows};
use crate::load::plan::{KeySpace, LabelSource, NodePlan, TablePlan};
use crate::load::read::{RawReject, RuleChunk, RuleRead, TableRead};
use crate::load::{LoadError, Progress, RejectKind};

/// A new edge: its ends (existing nodes by number, new ones from `existing` on) and its row.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct NewEdge {
    pub from: Dense,
    pub to: Dense,
    pub chunk: u32,
    pub row: u32,
}

/// The new edges of a chunk: their ends, and their rows, which mostly are all of the chunk's.
#[derive(Debug, Default)]
pub(crate) struct ChunkEdges {
    pub chunk: u32,
    pub ends: Vec<(Dense, Dense)>,
    /// Absent where each edge's row is its place here.
    rows: Option<Vec<u32>>,
}

impl ChunkEdges {
    pub fn with_capacity(chunk: u32, rows: usize) -> ChunkEdges {
        ChunkEdges { chunk, ends: Vec::with_capacity(rows), rows: None }
    }

    pub fn len(&self) -> usize {
        self.ends.len()
    }

    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    #[inline]
    pub fn push(&mut self, ends: (Dense, Dense), row: u32) {
        let place = self.ends.len() as u32;
        if row != place || self.rows.is_some() {
            self.rows.get_or_insert_with(|| (0..place).collect()).push(row);
        }
        self.ends.push(ends);
    }

    #[inline]
    pub fn row(&self, place: usize) -> u32 {
        self.rows.as_ref().map_or(place as u32, |rows| rows[place])
    }

    pub fn edge(&self, place: usize) -> NewEdge {
        let (from, to) = self.ends[place];
        NewEdge { from, to, chunk: self.chunk, row: self.row(place) }
    }

    pub fn edges(&self) -> impl Iterator<Item = NewEdge> {
        (0..self.len()).map(|place| self.edge(place))
    }
}

/// The new edges of one rule that have one label set, chunk by chunk.
pub(crate) struct NewEdges {
    pub table: usize,
    pub rule: usize,
    pub labels: LabelSet,
    pub chunks: Vec<ChunkEdges>,
}

pub(crate) struct Resolved {
    /// New nodes are numbered from here on.
    pub existing: Dense,
    pub nodes: Vec<NewNode>,
    pub label_sets: Vec<LabelSet>,
    pub edges: Vec<NewEdges>,
    pub changed: Changed,
    /// Edges of the graph that rows have been found to be, where each row is an edge of its own.
    pub taken: Taken,
}

impl Resolved {
    pub fn place_of(&mut self, labels: LabelSet) -> u32 {
        match self.label_sets.iter().position(|s| *s == labels) {
            Some(place) => place as u32,
            None => {
                self.label_sets.push(labels);
                self.label_sets.len() as u32 - 1
            }
        }
    }
}

pub(crate) type Indexes = BTreeMap<KeySpace, Index>;

/// Rows between two questions whether to go on.
const ASK_EVERY: usize = 1 << 14;

pub(crate) fn resolve(
    plans: &[TablePlan], tables: &mut [TableRead], snapshot: &Snapshot, progress: &Progress,
) -> Result<Resolved, LoadError> {
    let mut spaces: Vec<KeySpace> = vec![];
    let mut want = |space: &KeySpace| {
        if !spaces.contains(space) {
            spaces.push(space.clone());
        }
    };
    for plan in plans {
        plan.nodes.iter().filter_map(|n| n.key.as_ref()).for_each(|(space, _)| want(space));
        if plan.nodes.iter().any(|n| n.has_id) {
            want(&KeySpace::ids());
        }
        for edge in &plan.edges {
            edge.from.spaces.iter().chain(&edge.to.spaces).for_each(&mut want);
        }
    }
    let mut indexes: Indexes =
        spaces.into_iter().map(|space| (space.clone(), Index::new(space, snapshot))).collect();
    for index in indexes.values_mut() {
        let of_space = |plan: &NodePlan| match &plan.key {
            Some((space, places)) if *space == index.space => places.first().copied(),
            _ => None,
        };
        let mut columns = vec![];
        for (plan, table) in plans.iter().zip(tables.iter()) {
            for (node, read) in plan.nodes.iter().zip(&table.nodes) {
                if let Some(place) = of_space(node) {
                    let filled = read.chunks.iter().filter(|c| !c.offsets.is_empty());
                    columns.extend(filled.map(|c| &c.columns[place]));
                }
            }
        }
        index.expect(&columns);
    }
    let mut resolved = Resolved {
        existing: snapshot.node_bound(),
        nodes: vec![],
        label_sets: vec![],
        edges: vec![],
        changed: Changed::default(),
        taken: Taken::default(),
    };
    progress.hold(bytes_to_resolve(tables))?;
    for table in 0..plans.len() {
        for rule in 0..plans[table].nodes.len() {
            progress.check()?;
            if plans[table].nodes[rule].created_by.is_none() {
                let rule = (table, rule);
                resolve_nodes(plans, tables, rule, &mut indexes, &mut resolved, snapshot, progress)?;
            }
        }
    }
    for table in 0..plans.len() {
        for rule in 0..plans[table].edges.len() {
            progress.check()?;
            connect(plans, tables, (table, rule), &mut indexes, &mut resolved, snapshot, progress)?;
            // The keys of the ends are looked up: the edges have their numbers.
            for chunk in &mut tables[table].edges[rule].chunks {
                (chunk.from, chunk.to) = (vec![], vec![]);
            }
        }
    }
    Ok(resolved)
}

/// Bytes that the numbers of the rows' elements take, about.
fn bytes_to_resolve(tables: &[TableRead]) -> usize {
    const NODE: usize = size_of::<NewNode>() + 2 * size_of::<(u64, Dense)>();
    const EDGE: usize = 3 * size_of::<Dense>();
    let rows =
        |rules: &[RuleRead]| rules.iter().flat_map(|r| &r.chunks).map(|c| c.offsets.len()).sum::<usize>();
    tables.iter().map(|t| rows(&t.nodes) * NODE + rows(&t.edges) * EDGE).sum()
}

/// What a rule's rows came to, kept apart while the tables are being looked at.
#[derive(Default)]
pub(super) struct Counts {
    pub made: u64,
    pub changed: u64,
    pub unchanged: u64,
    pub duplicates: u64,
    pub rejects: Vec<RawReject>,
}

impl Counts {
    pub fn add_to(self, read: &mut RuleRead) {
        read.made += self.made;
        read.changed += self.changed;
        read.unchanged += self.unchanged;
        read.duplicates += self.duplicates;
        self.rejects.into_iter().for_each(|r| read.reject(r));
    }
}

/// Decides for each row of a node rule what it is.
fn resolve_nodes(
    plans: &[TablePlan], tables: &mut [TableRead], (table, rule): (usize, usize), indexes: &mut Indexes,
    resolved: &mut Resolved, snapshot: &Snapshot, progress: &Progress,
) -> Result<(), LoadError> {
    let plan = &plans[table].nodes[rule];
    let mut label_places: BTreeMap<Option<String>, Result<u32, String>> = BTreeMap::new();
    let mut counts = Counts::default();
    // Where labels differ by row, or several types have them, each row is checked against its own.
    let graph_type = snapshot.graph_type.as_deref().filter(|t| {
        let fitting = t.nodes.iter().filter(|t| plan.labels.iter().all(|l| t.labels.contains(l)));
        plan.label_from.is_some() || fitting.count() > 1
    });
    for chunk_index in 0..tables[table].nodes[rule].chunks.len() {
        let chunk: &RuleChunk = &tables[table].nodes[rule].chunks[chunk_index];
        let key_columns: Vec<&Column> =
            plan.key.iter().flat_map(|(_, places)| places.iter().map(|&p| &chunk.columns[p])).collect();
        let id_column: Vec<&Column> = match plan.has_id {
            true => chunk.columns.last().into_iter().collect(),
            false => vec![],
        };
        let new_node = |row: usize, labels: u32| NewNode {
            table: table as u32,
            rule: rule as u32,
            chunk: chunk_index as u32,
            row: row as u32,
            labels,
        };
        // Rows about which nothing has to be asked but whether their key is new.
        let plain = plan.label_from.is_none() && graph_type.is_none() && !plan.has_id;
        let mut next = 0;
        while next < chunk.offsets.len() {
            if next.is_multiple_of(ASK_EVERY) {
                progress.check()?;
            }
            let until = chunk.offsets.len().min((next / ASK_EVERY + 1) * ASK_EVERY);
            if plain
                && let Some(Ok(labels)) = label_places.get(&None)
                && let Some(index) = plan.key.as_ref().and_then(|(space, _)| indexes.get_mut(space))
            {
                let first = resolved.existing + resolved.nodes.len() as Dense;
                let new = index.insert_new(&key_columns, next..until, first, snapshot);
                resolved.nodes.extend((next..next + new).map(|row| new_node(row, *labels)));
                counts.made += new as u64;
                next += new;
                if next == until {
                    continue;
                }
            }
            let row = next;
            next += 1;
            let mut reject = |kind, column: Option<usize>, value: Option<String>, reason: String| {
                counts.rejects.push(RawReject { offset: chunk.offsets.at(row), column, value, kind, reason });
            };
            let own = chunk.labels.as_ref().and_then(|c| c.text(row)).map(str::to_string);
            let labels = label_places.entry(own.clone()).or_insert_with(|| {
                let labels = labels_of(&plan.labels, plan.label_from.as_ref(), own.as_deref());
                match &snapshot.graph_type {
                    Some(graph_type) if graph_type.node_type(&labels).is_none() => {
                        Err(graph_type.no_node_type(&labels).message)
                    }
                    _ => Ok(resolved.place_of(labels)),
                }
            });
            let labels = match labels {
                Ok(place) => *place,
                Err(reason) => {
                    let column = plan.label_from.as_ref().map(|l| l.column);
                    reject(RejectKind::Type, column, own, reason.clone());
                    continue;
                }
            };
            if let Some(graph_type) = graph_type {
                let given = given(plan, chunk, row).into_iter().filter(|g| !g.value.is_null());
                let properties: Vec<_> = given.map(|g| (g.name, g.value)).collect();
                let set = &resolved.label_sets[labels as usize];
                if let Err(violation) = graph_type.check_node(set, &properties.into()) {
                    let column = violation.property.as_ref().and_then(|name| column_of(plan, name));
                    reject(RejectKind::Type, column, None, violation.message);
                    continue;
                }
            }
            let new = new_node(row, labels);
            let rows = NewRows { tables, plans, nodes: &resolved.nodes, existing: resolved.existing };
            let of_key = match &plan.key {
                Some((space, _)) => {
                    indexes.get(space).and_then(|index| index.find(&key_columns, row, &rows, snapshot))
                }
                None => None,
            };
            let ids = if plan.has_id { indexes.get(&KeySpace::ids()) } else { None };
            let of_id = ids.and_then(|index| index.find(&id_column, row, &rows, snapshot));
            if of_id.is_some() && of_id != of_key {
                let id = id_column.first().map(|c| c.value(row).to_string());
                let column = plan.properties.last().and_then(|p| p.input.column());
                reject(RejectKind::KeyConflict, column, id, "another node of this load has the id".into());
                continue;
            }
            let node = match of_key {
                None => {
                    let node = resolved.existing + resolved.nodes.len() as Dense;
                    resolved.nodes.push(new);
                    counts.made += 1;
                    if let Some((space, _)) = &plan.key
                        && let Some(index) = indexes.get_mut(space)
                    {
                        index.insert(&key_columns, row, node);
                    }
                    node
                }
                Some(node) => {
                    let verdict = compare(plan, chunk, row, labels, node, &rows, resolved, snapshot);
                    match verdict {
                        Err(reason) => {
                            reject(RejectKind::KeyConflict, None, None, reason);
                            continue;
                        }
                        Ok((Verdict::Differs(name, given, known), _)) => {
                            let reason =
                                format!("the key is there already with {name} = {}", known.excerpt());
                            let column = column_of(plan, &name);
                            reject(RejectKind::KeyConflict, column, Some(given.to_string()), reason);
                            continue;
                        }
                        Ok((Verdict::Agrees, _)) if node < resolved.existing => counts.unchanged += 1,
                        Ok((Verdict::Agrees, _)) => counts.duplicates += 1,
                        Ok((Verdict::Changes, given)) => {
                            counts.changed += 1;
                            resolved.changed.change_node(node, plan.existing, &given, new, &rows, snapshot);
                        }
                    }
                    node
                }
            };
            let by_id_alone = plan.key.as_ref().is_some_and(|(space, _)| space.is_ids());
            if plan.has_id
                && of_id.is_none()
                && !by_id_alone
                && let Some(index) = indexes.get_mut(&KeySpace::ids())
            {
                index.insert(&id_column, row, node);
            }
        }
    }
    counts.add_to(&mut tables[table].nodes[rule]);
    Ok(())
}

fn column_of(plan: &NodePlan, name: &str) -> Option<usize> {
    plan.properties.iter().find(|p| *p.name == *name).and_then(|p| p.input.column())
}

fn given(plan: &NodePlan, chunk: &RuleChunk, row: usize) -> Vec<Given> {
    let stored = plan.properties.iter().zip(&chunk.columns).filter(|(p, _)| !p.is_id());
    stored.map(|(p, column)| Given { name: p.name.clone(), value: column.value(row) }).collect()
}

/// How a row goes with the node that has its key: an error where the labels differ.
#[allow(clippy::too_many_arguments)] // One comparison's two sides.
fn compare(
    plan: &NodePlan, chunk: &RuleChunk, row: usize, labels: u32, node: Dense, rows: &NewRows<'_>,
    resolved: &Resolved, snapshot: &Snapshot,
) -> Result<(Verdict, Vec<Given>), String> {
    let known_labels = match rows.get(node) {
        Some(known) => resolved.label_sets[known.labels as usize].clone(),
        None => snapshot.node_labels(node),
    };
    let own = &resolved.label_sets[labels as usize];
    if !own.iter().all(|l| known_labels.contains(l)) {
        return Err(format!("the key is there already with the labels :{}", known_labels.join("&")));
    }
    let given = given(plan, chunk, row);
    let verdict = judge(
        plan.existing,
        &given,
        |name| resolved.changed.node_value(node, name, rows, snapshot),
        || resolved.changed.node_names(node, rows, snapshot),
    );
    Ok((verdict, given))
}

/// A rule's labels with those that a row gives.
pub(super) fn labels_of(fixed: &LabelSet, source: Option<&LabelSource>, own: Option<&str>) -> LabelSet {
    let split = source.and_then(|s| s.split.as_deref());
    let parts: Vec<&str> = match (own, split) {
        (None, _) => vec![],
        // Several labels out of a list; see `take_labels`.
        (Some(text), _) if text.contains('\0') => text.split('\0').collect(),
        (Some(text), Some(split)) => text.split(split).map(str::trim).filter(|p| !p.is_empty()).collect(),
        (Some(text), None) => vec![text],
    };
    label_set(fixed.iter().cloned().chain(parts.into_iter().map(Arc::from)))
}

/// Values of a row, for messages.
pub(super) fn shown(columns: &[&Column], row: usize) -> String {
    let values: Vec<String> = columns.iter().map(|c| c.value(row)).map(|v: Value| v.to_string()).collect();
    values.join(", ")
}
