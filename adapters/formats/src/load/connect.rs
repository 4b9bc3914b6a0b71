//! Resolves the edges of a load: looks up both ends of every row, creates missing nodes if requested, and finds
//! edges that already exist.

use std::collections::{HashMap, HashSet};
use std::ops::ControlFlow;

use graphodrome_graph::{Column, ColumnBuilder, Dense, LabelSet, Value};
use rayon::prelude::*;

use crate::load::existing::{Changed, Given, Verdict, after, judge};
use crate::load::index::{Index, NewEdge, NewNode, NewRows, direct};
use crate::load::parallel::{FEW_BETWEEN, ManyBetween};
use crate::load::plan::{EdgePlan, ReferencePlan};
use crate::load::resolved::{
    ASK_EVERY, ChunkEdges, Counts, Indexes, NewEdges, Resolved, Taken, Within, labels_of, shown,
};
use crate::load::rows::{RawReject, RuleChunk, TableRead};
use crate::load::{LoadError, RejectKind};
use crate::mapping::Same;

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
    within: Within<'_>, tables: &mut [TableRead], (table, rule): (usize, usize), indexes: &mut Indexes,
    resolved: &mut Resolved,
) -> Result<(), LoadError> {
    let plan = &within.plans[table].edges[rule];
    if plan.from.create.is_some() || plan.to.create.is_some() {
        create_missing(within, tables, (table, rule), indexes, resolved)?;
    }
    let labels = Labels::new(plan, &tables[table].edges[rule].chunks);
    let Resolved { nodes, existing, label_sets, changed, taken, .. } = &mut *resolved;
    let rows = NewRows { tables, plans: within.plans, nodes, existing: *existing };
    let compares = plan.key.is_none() && plan.same != Same::KeepParallel && within.snapshot.edge_count() > 0;
    let many = ManyBetween::default();
    let ends = Ends { within, plan, rows, label_sets, labels: &labels, taken, many: &many, compares };
    let mut found = ends.look_up(&tables[table].edges[rule].chunks, indexes)?;
    let chunks = &tables[table].edges[rule].chunks;
    let counts = Counts::default();
    let mut known = KnownEdges { within, plan, rule: (table, rule), chunks, changed, counts };
    known.keyed(&mut found)?;
    for (chunk, part) in chunks.iter().zip(&found) {
        for &(edge, row) in &part.known {
            known.compare(edge, chunk, row as usize);
        }
    }
    let counts = known.counts;
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

/// The keys that references lack, by side, each once, of rows whose other end is there or is created too.
fn missing_keys(
    within: Within<'_>, tables: &[TableRead], (table, rule): (usize, usize), indexes: &Indexes,
    resolved: &Resolved,
) -> [Vec<Vec<Value>>; 2] {
    let plan = &within.plans[table].edges[rule];
    let mut wanted: [Vec<Vec<Value>>; 2] = [vec![], vec![]];
    let nodes = &resolved.nodes;
    let rows = NewRows { tables, plans: within.plans, nodes, existing: resolved.existing };
    let mut seen: [HashSet<Vec<Value>>; 2] = Default::default();
    // Both ends may lack the same node.
    let one_space = plan.from.spaces[0] == plan.to.spaces[0];
    let indexes = [tried(&plan.from, indexes), tried(&plan.to, indexes)];
    for chunk in &tables[table].edges[rule].chunks {
        let columns: [Vec<&Column>; 2] = [chunk.from.iter().collect(), chunk.to.iter().collect()];
        for row in 0..chunk.offsets.len() {
            let is_there = |side: usize| {
                indexes[side].iter().any(|i| i.find(&columns[side], row, &rows, within.snapshot).is_some())
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
    wanted
}

/// Creates the nodes that references lack.
fn create_missing(
    within: Within<'_>, tables: &mut [TableRead], (table, rule): (usize, usize), indexes: &mut Indexes,
    resolved: &mut Resolved,
) -> Result<(), LoadError> {
    let plan = &within.plans[table].edges[rule];
    let wanted = missing_keys(within, tables, (table, rule), indexes, resolved);
    let mut created = 0;
    for (reference, wanted) in [&plan.from, &plan.to].into_iter().zip(wanted) {
        let Some(place) = reference.create else { continue };
        let node = &within.plans[table].nodes[place];
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

/// What the ends of a rule's edges are looked up in.
struct Ends<'a> {
    within: Within<'a>,
    plan: &'a EdgePlan,
    rows: NewRows<'a>,
    label_sets: &'a [LabelSet],
    labels: &'a Labels,
    taken: &'a Taken,
    many: &'a ManyBetween,
    /// A keyed edge is found by its key; others by their ends, where there are any such edges.
    compares: bool,
}

/// One end's columns, and where they are looked up.
struct Side<'a> {
    reference: &'a ReferencePlan,
    indexes: &'a [&'a Index],
    columns: Vec<&'a Column>,
}

/// Whether the graph type allows edges of a label set between two new ones, as far as it was asked.
type Answers = HashMap<(u32, u32, u32), Option<String>>;

impl Ends<'_> {
    /// Looks up both ends of every row, chunk by chunk in parallel.
    fn look_up(&self, chunks: &[RuleChunk], indexes: &Indexes) -> Result<Vec<Connected>, LoadError> {
        let (plan, snapshot) = (self.plan, self.within.snapshot);
        let tried = [tried(&plan.from, indexes), tried(&plan.to, indexes)];
        // Where all nodes are new and of one label set, what the type says of one pair it says of all.
        let plain = plan.label_from.is_none() && snapshot.node_count() == 0 && !self.rows.nodes.is_empty();
        let all_allowed = plain
            && self.label_sets.len() == 1
            && self.refused(0, [self.rows.existing; 2], &mut Answers::new()).is_none();
        let look_up = |(place, chunk): (usize, &RuleChunk)| {
            let edges = ChunkEdges::with_capacity(place as u32, chunk.offsets.len());
            let mut out = Connected { edges, ..Connected::default() };
            let mut answers = Answers::new();
            let [from, to] = &tried;
            let sides = [
                Side { reference: &plan.from, indexes: from, columns: chunk.from.iter().collect() },
                Side { reference: &plan.to, indexes: to, columns: chunk.to.iter().collect() },
            ];
            let lists = sides.each_ref().map(|side| direct(side.indexes, &side.columns, snapshot));
            for row in 0..chunk.offsets.len() {
                if row % ASK_EVERY == 0 {
                    self.within.progress.check()?;
                }
                if all_allowed
                    && let [Some(from), Some(to)] = &lists
                    && let (Some(from), Some(to)) = (from.get(row), to.get(row))
                {
                    let ends = if plan.directed || from <= to { (from, to) } else { (to, from) };
                    out.edges.push(ends, row as u32);
                } else if let Err(reject) = self.look_up_row(chunk, row, &sides, &mut answers, &mut out) {
                    out.counts.rejects.push(reject);
                }
            }
            Ok(out)
        };
        chunks.par_iter().enumerate().map(look_up).collect()
    }

    fn look_up_row(
        &self, chunk: &RuleChunk, row: usize, sides: &[Side<'_>; 2], answers: &mut Answers,
        out: &mut Connected,
    ) -> Result<(), RawReject> {
        let (plan, snapshot) = (self.plan, self.within.snapshot);
        let offset = chunk.offsets.at(row);
        let mut ends = [0; 2];
        for (end, side) in ends.iter_mut().zip(sides) {
            let found = side.indexes.iter().find_map(|i| i.find(&side.columns, row, &self.rows, snapshot));
            *end = found.ok_or_else(|| dangling(side.reference, &side.columns, row, offset))?;
        }
        let label = self.labels.of(chunk, row);
        let refused = self.refused(label, ends, answers);
        if let Some(reason) = refused.or_else(|| self.breach(chunk, row, label, ends)) {
            return Err(RawReject { offset, column: None, value: None, kind: RejectKind::Type, reason });
        }
        let [mut a, mut b] = ends;
        if self.compares
            && a.max(b) < self.rows.existing
            && let Some(edge) = self.same_edge(chunk, row, (a, b), label)
        {
            out.known.push((edge, row as u32));
            return Ok(());
        }
        if !plan.directed && a > b {
            std::mem::swap(&mut a, &mut b);
        }
        out.edges.push((a, b), row as u32);
        if plan.label_from.is_some() {
            out.labels.push(label);
        }
        Ok(())
    }

    fn labels_of(&self, node: Dense) -> LabelSet {
        match self.rows.get(node) {
            Some(new) => self.label_sets[new.labels as usize].clone(),
            None => self.within.snapshot.node_labels(node),
        }
    }

    /// Why the graph type does not allow an edge between such nodes, if it does not.
    fn refused(&self, label: u32, ends: [Dense; 2], answers: &mut Answers) -> Option<String> {
        let graph_type = self.within.snapshot.graph_type.as_deref()?;
        // New nodes are told apart by the place of their label set: no counting of references by every
        // thread at once.
        let place_of = |node: Dense| self.rows.get(node).map(|new| new.labels);
        let places = place_of(ends[0]).zip(place_of(ends[1])).map(|(from, to)| (label, from, to));
        if let Some(answer) = places.and_then(|places| answers.get(&places)) {
            return answer.clone();
        }
        let pair = (self.labels_of(ends[0]), self.labels_of(ends[1]));
        let pair = (&pair.0, &pair.1);
        let set = &self.labels.sets[label as usize];
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
    fn breach(&self, chunk: &RuleChunk, row: usize, label: u32, ends: [Dense; 2]) -> Option<String> {
        let graph_type = self.within.snapshot.graph_type.as_deref();
        let graph_type = graph_type.filter(|_| self.plan.label_from.is_some())?;
        let given = given(self.plan, chunk, row).into_iter().filter(|g| !g.value.is_null());
        let properties: Vec<_> = given.map(|g| (g.name, g.value)).collect();
        let pair = (self.labels_of(ends[0]), self.labels_of(ends[1]));
        let set = &self.labels.sets[label as usize];
        graph_type
            .check_edge(set, self.plan.directed, (&pair.0, &pair.1), &properties.into())
            .err()
            .map(|violation| violation.message)
    }

    /// The edge of the graph that a row is: one with its ends and, unless they alone decide, its properties.
    fn same_edge(&self, chunk: &RuleChunk, row: usize, ends: (Dense, Dense), label: u32) -> Option<Dense> {
        let labels = &self.labels.sets[label as usize];
        let (plan, snapshot) = (self.plan, self.within.snapshot);
        let mut between = [0; FEW_BETWEEN + 1];
        let mut count = 0;
        snapshot.for_each_between(ends, labels, plan.directed, |edge| {
            between[count] = edge;
            count += 1;
            if count > FEW_BETWEEN { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        let each_is_one = plan.same == Same::OnePerRow;
        let is_left = |edge: Dense| !each_is_one || self.taken.lock().insert(edge);
        if plan.same == Same::SameEndsOnce {
            return between[..count].first().copied();
        }
        let given: Vec<(&str, Value)> = (plan.properties.iter().zip(&chunk.columns))
            .map(|(p, column)| (&*p.name, column.value(row)))
            .filter(|(_, value)| !value.is_null())
            .collect();
        let agrees = |edge: Dense| {
            let stored = snapshot.edge_properties(edge);
            given.len() == stored.len()
                && given.iter().all(|(name, v)| stored.iter().any(|(n, s)| **n == **name && *s == *v))
        };
        if count <= FEW_BETWEEN {
            return between[..count].iter().copied().find(|&edge| agrees(edge) && is_left(edge));
        }
        let many = self.many;
        let edges = || {
            let mut edges = vec![];
            snapshot.for_each_between(ends, labels, plan.directed, |edge| {
                let stored = snapshot.edge_properties(edge);
                let stored = stored.iter().map(|(name, value)| (&**name, value.clone()));
                edges.push((many.hash.of(stored), edge));
                ControlFlow::Continue(())
            });
            edges
        };
        let hash = many.hash.of(given.iter().cloned());
        let (a, b) = ends;
        let ends = if plan.directed || a <= b { (a, b) } else { (b, a) };
        many.find((label, ends.0, ends.1), hash, !each_is_one, edges, |edge| agrees(edge) && is_left(edge))
    }
}

fn given(plan: &EdgePlan, chunk: &RuleChunk, row: usize) -> Vec<Given> {
    let columns = plan.properties.iter().zip(&chunk.columns);
    columns.map(|(p, column)| Given { name: p.name.clone(), value: column.value(row) }).collect()
}

/// The reject of a row whose edge already exists with another value.
pub(super) fn differing(plan: &EdgePlan, offset: u64, name: &str, given: &Value, known: &Value) -> RawReject {
    let property = plan.properties.iter().find(|p| *p.name == *name);
    RawReject {
        offset,
        column: property.and_then(|p| p.input.column()),
        value: Some(given.to_string()),
        kind: RejectKind::KeyConflict,
        reason: format!("the edge already exists with {name} = {}", known.excerpt()),
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

/// Rows of edges that are known already: in the graph, or from rows before.
struct KnownEdges<'a> {
    within: Within<'a>,
    plan: &'a EdgePlan,
    rule: (usize, usize),
    chunks: &'a [RuleChunk],
    changed: &'a mut Changed,
    counts: Counts,
}

impl KnownEdges<'_> {
    /// A row whose edge is in the graph: nothing to do, a change, or a reject.
    fn compare(&mut self, edge: Dense, chunk: &RuleChunk, row: usize) {
        let (plan, snapshot) = (self.plan, self.within.snapshot);
        let given = given(plan, chunk, row);
        let verdict = judge(
            plan.existing,
            &given,
            |name| self.changed.edge_value(edge, name, snapshot),
            || self.changed.edge_names(edge, snapshot),
        );
        match verdict {
            Verdict::Agrees => self.counts.unchanged += 1,
            Verdict::Changes => {
                self.counts.changed += 1;
                self.changed.change_edge(edge, plan.existing, &given, snapshot);
            }
            Verdict::Differs(name, given, known) => {
                self.counts.rejects.push(differing(plan, chunk.offsets.at(row), &name, &given, &known));
            }
        }
    }

    /// For edges with a declared key: the rows that are new stay; the others are compared with the edge that
    /// has the key.
    fn keyed(&mut self, found: &mut [Connected]) -> Result<(), LoadError> {
        let Some((_, places)) = &self.plan.key else { return Ok(()) };
        let mut seen: HashMap<Vec<Value>, NewEdge> = HashMap::new();
        for part in found {
            let edges = std::mem::take(&mut part.edges);
            let labels = std::mem::take(&mut part.labels);
            part.edges.chunk = edges.chunk;
            for (place, edge) in edges.edges().enumerate() {
                if place % ASK_EVERY == 0 {
                    self.within.progress.check()?;
                }
                let chunk = &self.chunks[edge.chunk as usize];
                let value = |&p: &usize| chunk.columns[p].value(edge.row as usize);
                let values: Vec<Value> = places.iter().map(value).collect();
                let earlier = seen.get(&values).filter(|_| !values.iter().any(Value::is_null));
                if self.keyed_row(edge, &values, earlier) {
                    seen.insert(values, edge);
                    part.edges.push((edge.from, edge.to), edge.row);
                    if let Some(label) = labels.get(place) {
                        part.labels.push(*label);
                    }
                }
            }
        }
        Ok(())
    }

    /// Whether a row's edge is new; compares it with the edge in the graph or of an earlier row that has its key.
    fn keyed_row(&mut self, edge: NewEdge, values: &[Value], earlier: Option<&NewEdge>) -> bool {
        let (plan, snapshot) = (self.plan, self.within.snapshot);
        let Some((key, places)) = &plan.key else { return true };
        let (chunk, row) = (&self.chunks[edge.chunk as usize], edge.row as usize);
        if let Some(known) = snapshot.seek(*key, values) {
            let (a, b) = snapshot.edge_ends(known);
            if (if plan.directed || a <= b { (a, b) } else { (b, a) }) == (edge.from, edge.to) {
                self.compare(known, chunk, row);
                return false;
            }
        } else if let Some(earlier) = earlier {
            if (earlier.from, earlier.to) == (edge.from, edge.to) {
                self.compare_with_earlier(edge, earlier);
                return false;
            }
        } else {
            return true;
        }
        self.counts.rejects.push(RawReject {
            offset: chunk.offsets.at(row),
            column: plan.properties[places[0]].input.column(),
            value: Some(values.iter().map(Value::to_string).collect::<Vec<_>>().join(", ")),
            kind: RejectKind::KeyConflict,
            reason: "the key already exists on an edge with other ends".into(),
        });
        false
    }

    /// A row whose key an earlier row has, with the same ends.
    fn compare_with_earlier(&mut self, edge: NewEdge, earlier: &NewEdge) {
        let (plan, (table, rule)) = (self.plan, self.rule);
        let place = (table, rule, earlier.chunk, earlier.row);
        let later = self.changed.moved_edges.entry(place).or_default();
        let row_of = |edge: &NewEdge| given(plan, &self.chunks[edge.chunk as usize], edge.row as usize);
        let first = after(plan.existing, vec![], &row_of(earlier));
        let now = later.iter().map(row_of).fold(first, |now, row| after(plan.existing, now, &row));
        let value =
            |name: &str| now.iter().find(|(n, _)| **n == *name).map_or(Value::Null, |(_, v)| v.clone());
        let names = || now.iter().map(|(n, _)| n.clone()).collect();
        match judge(plan.existing, &row_of(&edge), value, names) {
            Verdict::Agrees => self.counts.duplicates += 1,
            Verdict::Changes => {
                self.counts.changed += 1;
                later.push(edge);
            }
            Verdict::Differs(name, given, known) => {
                let offset = self.chunks[edge.chunk as usize].offsets.at(edge.row as usize);
                self.counts.rejects.push(differing(plan, offset, &name, &given, &known));
            }
        }
    }
}
