//! Resolving keys in memory: which node each row is, which nodes each edge connects.

use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::Array;
use graphodrome_graph::{
    Column, Dense, Element, LabelExpression, LabelSet, Snapshot, Value, hash_key, label_set,
};
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use rayon::prelude::*;

use crate::load::plan::{EdgePlan, KeySpace, NodePlan, ReferencePlan, TablePlan};
use crate::load::read::{RawReject, RuleChunk, RuleRead, TableRead};
use crate::load::{LoadError, Progress};

/// A new node: where its row is.
#[derive(Clone, Copy, Debug)]
pub(crate) struct NewNode {
    pub table: u32,
    pub rule: u32,
    pub chunk: u32,
    pub row: u32,
    /// Place in [`Resolved::label_sets`].
    pub labels: u32,
}

/// A new edge: its ends (existing nodes by number, new ones from `existing` on) and its row.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct NewEdge {
    pub from: Dense,
    pub to: Dense,
    pub chunk: u32,
    pub row: u32,
}

pub(crate) struct Resolved {
    /// New nodes are numbered from here on.
    pub existing: Dense,
    pub nodes: Vec<NewNode>,
    pub label_sets: Vec<LabelSet>,
    /// Per table, per edge rule, per chunk.
    pub edges: Vec<Vec<Vec<Vec<NewEdge>>>>,
}

/// Values to nodes for one key space.
struct Index {
    space: KeySpace,
    state: DefaultHashBuilder,
    /// (hash, node): the values are compared where they lie.
    table: HashTable<(u64, Dense)>,
    /// One whole number is the whole key: looked up without hashing rows.
    whole: Option<Whole>,
    /// A declared key of the graph there already: its number, and for each of its properties the place
    /// among the space's.
    declared: Option<(usize, Vec<usize>)>,
}

/// Nodes by a whole number: a plain list where the numbers lie close together, as made-up ids do.
enum Whole {
    List { least: i64, nodes: Vec<Dense> },
    Map(HashMap<i64, Dense>),
}

const NO_NODE: Dense = Dense::MAX;

impl Whole {
    /// For rows whose only key column this is, in all rules of the space; `None` where it is no INT64.
    fn new(columns: &[&Column]) -> Option<Whole> {
        let (mut least, mut greatest, mut rows) = (i64::MAX, i64::MIN, 0u64);
        for column in columns {
            let Column::Int(values) = column else { return None };
            rows += values.len() as u64;
            for value in values.values() {
                least = least.min(*value);
                greatest = greatest.max(*value);
            }
        }
        let span = greatest.checked_sub(least).and_then(|s| u64::try_from(s).ok());
        Some(match span {
            Some(span) if span < 4 * rows + 1024 => {
                Whole::List { least, nodes: vec![NO_NODE; span as usize + 1] }
            }
            _ => Whole::Map(HashMap::with_capacity(rows as usize)),
        })
    }

    fn get(&self, value: i64) -> Option<Dense> {
        match self {
            Whole::List { least, nodes } => {
                let place = value.checked_sub(*least).and_then(|p| usize::try_from(p).ok())?;
                nodes.get(place).copied().filter(|n| *n != NO_NODE)
            }
            Whole::Map(map) => map.get(&value).copied(),
        }
    }

    fn insert(&mut self, value: i64, node: Dense) {
        match self {
            Whole::List { least, nodes } => {
                if let Some(slot) = nodes.get_mut((value - *least) as usize) {
                    *slot = node;
                }
            }
            Whole::Map(map) => {
                map.insert(value, node);
            }
        }
    }
}

/// Rows of new nodes, to compare keys with.
struct NewRows<'t> {
    tables: &'t [TableRead],
    plans: &'t [TablePlan],
    nodes: &'t [NewNode],
    existing: Dense,
}

impl NewRows<'_> {
    fn column(&self, node: Dense, space: &KeySpace, property: usize) -> Option<(&Column, usize)> {
        let new = self.nodes.get((node - self.existing) as usize)?;
        let plan = &self.plans[new.table as usize].nodes[new.rule as usize];
        let name = &space.properties[property];
        let place = plan.properties.iter().position(|p| p.name == *name)?;
        let chunk = &self.tables[new.table as usize].nodes[new.rule as usize].chunks[new.chunk as usize];
        Some((&chunk.columns[place], new.row as usize))
    }
}

fn hash_row(state: &DefaultHashBuilder, columns: &[&Column], row: usize) -> u64 {
    columns.iter().fold(0u64, |hash, column| {
        let part = match column {
            Column::Int(a) => hash_key(state, &Value::Int(a.value(row))),
            column => match column.text(row) {
                Some(text) => hash_text(state, text),
                None => hash_key(state, &column.value(row)),
            },
        };
        hash.rotate_left(23).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ part
    })
}

fn hash_text(state: &DefaultHashBuilder, text: &str) -> u64 {
    use std::hash::BuildHasher;
    state.hash_one(text)
}

fn same(a: &Column, row: usize, b: &Column, other: usize) -> bool {
    match (a, b) {
        (Column::Int(x), Column::Int(y)) => x.value(row) == y.value(other),
        _ => match (a.text(row), b.text(other)) {
            (Some(x), Some(y)) => x == y,
            _ => a.value(row) == b.value(other),
        },
    }
}

impl Index {
    fn new(space: KeySpace, snapshot: &Snapshot) -> Index {
        let declared = snapshot
            .keys
            .iter()
            .position(|k| {
                let mut properties = k.properties.clone();
                properties.sort();
                k.element == Element::Node && k.label == space.label && properties == space.properties
            })
            .map(|key| {
                let order = snapshot.keys[key].properties.iter();
                (key, order.filter_map(|p| space.properties.iter().position(|s| s == p)).collect())
            });
        let mut index = Index {
            space,
            state: DefaultHashBuilder::default(),
            table: HashTable::new(),
            whole: None,
            declared,
        };
        if index.declared.is_none() {
            index.add_existing(snapshot);
        }
        index
    }

    /// An open graph has no declared key: its nodes are gone through once.
    fn add_existing(&mut self, snapshot: &Snapshot) {
        let test = snapshot.node_test(Some(&LabelExpression::Name(self.space.label.clone())));
        let ranges = snapshot.base_ranges(&test).into_iter().flatten();
        let base = ranges.filter(|&node| snapshot.node_is_base(node)).collect::<Vec<_>>();
        let readers: Vec<_> = self.space.properties.iter().map(|p| snapshot.node_reader(p)).collect();
        for node in base.into_iter().chain(snapshot.overlay_nodes(&test)) {
            let values: Vec<Value> = readers.iter().map(|r| snapshot.read_node(node, r)).collect();
            if !values.iter().any(Value::is_null) {
                let hash = self.hash_values(&values);
                self.table.insert_unique(hash, (hash, node), |entry| entry.0);
            }
        }
    }

    fn hash_values(&self, values: &[Value]) -> u64 {
        values.iter().fold(0u64, |hash, value| {
            let part = match value {
                Value::Text(text) => hash_text(&self.state, text),
                value => hash_key(&self.state, value),
            };
            hash.rotate_left(23).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ part
        })
    }

    /// Makes room for the keys that these columns hold, where a key is one whole number and the table
    /// holds nothing yet.
    fn expect(&mut self, columns: &[&Column]) {
        if self.space.properties.len() == 1 && self.table.is_empty() && !columns.is_empty() {
            self.whole = Whole::new(columns);
        }
    }

    fn insert(&mut self, columns: &[&Column], row: usize, node: Dense) {
        match (&mut self.whole, columns) {
            (Some(whole), [Column::Int(values)]) => whole.insert(values.value(row), node),
            _ => {
                let hash = hash_row(&self.state, columns, row);
                self.table.insert_unique(hash, (hash, node), |entry| entry.0);
            }
        }
    }

    /// The node whose key is in row `row` of `columns`.
    fn find(&self, columns: &[&Column], row: usize, new: &NewRows<'_>, snapshot: &Snapshot) -> Option<Dense> {
        if let Some((key, order)) = &self.declared
            && snapshot.node_count() > 0
        {
            let values: Vec<Value> = order.iter().map(|&place| columns[place].value(row)).collect();
            if let Some(node) = snapshot.seek(*key, &values) {
                return Some(node);
            }
        }
        if let Some(whole) = &self.whole {
            return match columns {
                [Column::Int(values)] => whole.get(values.value(row)),
                _ => None,
            };
        }
        let hash = hash_row(&self.state, columns, row);
        let equal = |&(entry_hash, node): &(u64, Dense)| {
            entry_hash == hash
                && (0..columns.len()).all(|p| {
                    if node >= new.existing {
                        new.column(node, &self.space, p).is_some_and(|(c, r)| same(columns[p], row, c, r))
                    } else {
                        let reader = snapshot.node_reader(&self.space.properties[p]);
                        snapshot.read_node(node, &reader) == columns[p].value(row)
                    }
                })
        };
        self.table.find(hash, equal).map(|(_, node)| *node)
    }
}

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
        for edge in &plan.edges {
            edge.from.spaces.iter().chain(&edge.to.spaces).for_each(&mut want);
        }
    }
    let mut indexes: BTreeMap<KeySpace, Index> =
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
    let mut resolved =
        Resolved { existing: snapshot.node_bound(), nodes: vec![], label_sets: vec![], edges: vec![] };
    for table in 0..plans.len() {
        for rule in 0..plans[table].nodes.len() {
            progress.check()?;
            resolve_nodes(plans, tables, (table, rule), &mut indexes, &mut resolved, snapshot)?;
        }
    }
    for table in 0..plans.len() {
        let mut of_table = vec![];
        for rule in 0..plans[table].edges.len() {
            progress.check()?;
            of_table.push(resolve_edges(plans, tables, (table, rule), &indexes, &resolved, snapshot)?);
        }
        resolved.edges.push(of_table);
    }
    Ok(resolved)
}

/// Decides for each row of a node rule: a new node, a duplicate, or a reject.
fn resolve_nodes(
    plans: &[TablePlan], tables: &mut [TableRead], (table, rule): (usize, usize),
    indexes: &mut BTreeMap<KeySpace, Index>, resolved: &mut Resolved, snapshot: &Snapshot,
) -> Result<(), LoadError> {
    let plan = &plans[table].nodes[rule];
    let mut label_places: BTreeMap<Option<String>, Result<u32, String>> = BTreeMap::new();
    let mut made = 0;
    let mut duplicates = 0;
    let mut rejects: Vec<RawReject> = vec![];
    let chunk_count = tables[table].nodes[rule].chunks.len();
    for chunk_index in 0..chunk_count {
        // Other spaces that this rule's nodes are in by their labels.
        let chunk: &RuleChunk = &tables[table].nodes[rule].chunks[chunk_index];
        let key_columns: Vec<&Column> =
            plan.key.iter().flat_map(|(_, places)| places.iter().map(|&p| &chunk.columns[p])).collect();
        for row in 0..chunk.offsets.len() {
            let own = chunk.labels.as_ref().and_then(|c| c.text(row)).map(str::to_string);
            let labels = label_places
                .entry(own.clone())
                .or_insert_with(|| labels_of(plan, own.as_deref(), snapshot, &mut resolved.label_sets));
            let labels = match labels {
                Ok(place) => *place,
                Err(reason) => {
                    rejects.push(RawReject {
                        offset: chunk.offsets[row],
                        column: plan.label_from,
                        value: own,
                        reason: reason.clone(),
                    });
                    continue;
                }
            };
            let new = NewNode {
                table: table as u32,
                rule: rule as u32,
                chunk: chunk_index as u32,
                row: row as u32,
                labels,
            };
            let Some((space, _)) = &plan.key else {
                resolved.nodes.push(new);
                made += 1;
                continue;
            };
            let Some(index) = indexes.get_mut(space) else { continue };
            let rows = NewRows { tables, plans, nodes: &resolved.nodes, existing: resolved.existing };
            match index.find(&key_columns, row, &rows, snapshot) {
                None => {
                    let node = resolved.existing + resolved.nodes.len() as Dense;
                    index.insert(&key_columns, row, node);
                    resolved.nodes.push(new);
                    made += 1;
                }
                Some(node) => match difference(plan, chunk, row, labels, node, &rows, resolved, snapshot) {
                    None => duplicates += 1,
                    Some((column, value, reason)) => {
                        rejects.push(RawReject { offset: chunk.offsets[row], column, value, reason });
                    }
                },
            }
        }
    }
    let read = &mut tables[table].nodes[rule];
    read.made = made;
    read.duplicates = duplicates;
    rejects.into_iter().for_each(|r| read.reject(r));
    Ok(())
}

fn labels_of(
    plan: &NodePlan, own: Option<&str>, snapshot: &Snapshot, sets: &mut Vec<LabelSet>,
) -> Result<u32, String> {
    let labels = label_set(plan.labels.iter().cloned().chain(own.map(Arc::from)));
    if let Some(graph_type) = &snapshot.graph_type
        && graph_type.node_type(&labels).is_none()
    {
        let violation = graph_type.no_node_type(&labels);
        return Err(violation.message);
    }
    Ok(match sets.iter().position(|s| *s == labels) {
        Some(place) => place as u32,
        None => {
            sets.push(labels);
            sets.len() as u32 - 1
        }
    })
}

/// Where a row differs from the node that has its key already: properties the row gives with another
/// value, or other labels.
#[allow(clippy::too_many_arguments)] // One comparison's two sides.
fn difference(
    plan: &NodePlan, chunk: &RuleChunk, row: usize, labels: u32, node: Dense, new: &NewRows<'_>,
    resolved: &Resolved, snapshot: &Snapshot,
) -> Option<(Option<usize>, Option<String>, String)> {
    let known_labels = match new.nodes.get((node.wrapping_sub(new.existing)) as usize) {
        Some(known) if node >= new.existing => resolved.label_sets[known.labels as usize].clone(),
        _ => snapshot.node_labels(node),
    };
    let own = &resolved.label_sets[labels as usize];
    if !own.iter().all(|l| known_labels.contains(l)) {
        let reason = format!("the key is there already with the labels :{}", known_labels.join("&"));
        return Some((None, None, reason));
    }
    for (place, property) in plan.properties.iter().enumerate() {
        let given = chunk.columns[place].value(row);
        if given.is_null() {
            continue;
        }
        let space = KeySpace { label: "".into(), properties: vec![property.name.clone()] };
        let known = if node >= new.existing {
            new.column(node, &space, 0).map_or(Value::Null, |(c, r)| c.value(r))
        } else {
            snapshot.read_node(node, &snapshot.node_reader(&property.name))
        };
        if known != given {
            let reason = format!("the key is there already with {} = {}", property.name, known.excerpt());
            return Some((Some(property.column), Some(given.to_string()), reason));
        }
    }
    None
}

/// Looks up both ends of every row of an edge rule, chunk by chunk in parallel.
fn resolve_edges(
    plans: &[TablePlan], tables: &mut [TableRead], (table, rule): (usize, usize),
    indexes: &BTreeMap<KeySpace, Index>, resolved: &Resolved, snapshot: &Snapshot,
) -> Result<Vec<Vec<NewEdge>>, LoadError> {
    let plan = &plans[table].edges[rule];
    let rows = NewRows { tables, plans, nodes: &resolved.nodes, existing: resolved.existing };
    let chunks = &tables[table].edges[rule].chunks;
    let tried = |reference: &ReferencePlan| -> Vec<&Index> {
        reference.spaces.iter().filter_map(|space| indexes.get(space)).collect()
    };
    let (from_indexes, to_indexes) = (tried(&plan.from), tried(&plan.to));
    let labels_of = |node: Dense| -> LabelSet {
        match node.checked_sub(resolved.existing).and_then(|new| resolved.nodes.get(new as usize)) {
            Some(new) => resolved.label_sets[new.labels as usize].clone(),
            None => snapshot.node_labels(node),
        }
    };
    let label_places: Vec<u32> = resolved.nodes.iter().map(|n| n.labels).collect();
    let place_of = |node: Dense| -> Option<u32> {
        let new = node.checked_sub(resolved.existing)?;
        label_places.get(new as usize).copied()
    };
    // Where all nodes are new and of one label set, what the type says of one pair it says of all.
    let all_allowed = snapshot.node_count() == 0 && resolved.label_sets.len() == 1 && {
        let ends = [resolved.existing; 2];
        refused(plan, ends, &labels_of, &place_of, &mut vec![], snapshot).is_none()
    };
    let results: Vec<(Vec<NewEdge>, Vec<RawReject>)> = chunks
        .par_iter()
        .enumerate()
        .map(|(chunk_index, chunk)| {
            let mut edges = Vec::with_capacity(chunk.offsets.len());
            let mut rejects = vec![];
            // Whether the type allows a pair of label sets, asked once a pair.
            let mut allowed: Vec<((u32, u32), Option<String>)> = vec![];
            let from: Vec<&Column> = chunk.from.iter().collect();
            let to: Vec<&Column> = chunk.to.iter().collect();
            let lists = (direct(&from_indexes, &from, snapshot), direct(&to_indexes, &to, snapshot));
            for row in 0..chunk.offsets.len() {
                let mut ends = [0; 2];
                if all_allowed
                    && let (Some(from), Some(to)) = &lists
                    && let (Some(from), Some(to)) = (from.get(row), to.get(row))
                {
                    let (from, to) = if plan.directed || from <= to { (from, to) } else { (to, from) };
                    edges.push(NewEdge { from, to, chunk: chunk_index as u32, row: row as u32 });
                    continue;
                }
                let mut missing = None;
                for (side, (reference, columns)) in
                    [(&plan.from, &from), (&plan.to, &to)].into_iter().enumerate()
                {
                    let tried: &[&Index] = if side == 0 { &from_indexes } else { &to_indexes };
                    match tried.iter().find_map(|index| index.find(columns, row, &rows, snapshot)) {
                        Some(node) => ends[side] = node,
                        None => {
                            missing = Some((reference, columns));
                            break;
                        }
                    }
                }
                if let Some((reference, columns)) = missing {
                    rejects.push(dangling(reference, columns, row, chunk.offsets[row]));
                    continue;
                }
                if let Some(reason) = refused(plan, ends, &labels_of, &place_of, &mut allowed, snapshot) {
                    rejects.push(RawReject { offset: chunk.offsets[row], column: None, value: None, reason });
                    continue;
                }
                let (mut a, mut b) = (ends[0], ends[1]);
                if !plan.directed && a > b {
                    std::mem::swap(&mut a, &mut b);
                }
                edges.push(NewEdge { from: a, to: b, chunk: chunk_index as u32, row: row as u32 });
            }
            (edges, rejects)
        })
        .collect();
    let mut all = Vec::with_capacity(results.len());
    let read: &mut RuleRead = &mut tables[table].edges[rule];
    for (edges, rejects) in results {
        all.push(edges);
        rejects.into_iter().for_each(|r| read.reject(r));
    }
    Ok(all)
}

/// References whose key is one whole number, out of a list.
struct Direct<'i> {
    least: i64,
    nodes: &'i [Dense],
    values: &'i [i64],
}

impl Direct<'_> {
    #[inline]
    fn get(&self, row: usize) -> Option<Dense> {
        let place = self.values[row].wrapping_sub(self.least) as u64;
        self.nodes.get(usize::try_from(place).ok()?).copied().filter(|node| *node != NO_NODE)
    }
}

fn direct<'i>(indexes: &[&'i Index], columns: &[&'i Column], snapshot: &Snapshot) -> Option<Direct<'i>> {
    let ([index], [Column::Int(values)]) = (indexes, columns) else { return None };
    let Some(Whole::List { least, nodes }) = &index.whole else { return None };
    let usable = values.null_count() == 0 && (index.declared.is_none() || snapshot.node_count() == 0);
    usable.then(|| Direct { least: *least, nodes, values: values.values() })
}

fn dangling(reference: &ReferencePlan, columns: &[&Column], row: usize, offset: u64) -> RawReject {
    let values: Vec<String> = columns.iter().map(|c| c.value(row).to_string()).collect();
    let labels: Vec<&str> = reference.spaces.iter().map(|s| &*s.label).collect();
    let keys = reference.spaces[0].properties.join(", ");
    RawReject {
        offset,
        column: reference.columns.first().map(|c| c.0),
        value: Some(values.join(", ")),
        reason: format!("there is no {} with this {keys}", labels.join(" or ")),
    }
}

/// Why the graph type does not allow this edge, if it does not.
fn refused(
    plan: &EdgePlan, ends: [Dense; 2], labels_of: &dyn Fn(Dense) -> LabelSet,
    place_of: &dyn Fn(Dense) -> Option<u32>, allowed: &mut Vec<((u32, u32), Option<String>)>,
    snapshot: &Snapshot,
) -> Option<String> {
    let graph_type = snapshot.graph_type.as_ref()?;
    // New nodes are told apart by the place of their label set: no counting of references by every
    // thread at once.
    let places = (place_of(ends[0]), place_of(ends[1]));
    if let (Some(from), Some(to)) = places
        && let Some((_, answer)) = allowed.iter().find(|(known, _)| *known == (from, to))
    {
        return answer.clone();
    }
    let pair = (labels_of(ends[0]), labels_of(ends[1]));
    let labels = (&pair.0, &pair.1);
    let answer = match graph_type.edge_type(&plan.label, plan.directed, labels) {
        Some(_) => None,
        None => Some(graph_type.no_edge_type(&plan.label, plan.directed, labels).message),
    };
    if let (Some(from), Some(to)) = places {
        allowed.push(((from, to), answer.clone()));
    }
    answer
}
