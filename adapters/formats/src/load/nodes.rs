//! The rows of a rule for nodes: which node each one is, and which nodes are new.

use std::collections::BTreeMap;
use std::ops::Range;

use graphodrome_graph::{Column, Dense, GraphType};

use crate::load::existing::{Given, Verdict, judge};
use crate::load::index::{NewNode, NewRows};
use crate::load::plan::{KeySpace, NodePlan};
use crate::load::resolved::{ASK_EVERY, Counts, Indexes, Resolved, Within, labels_of};
use crate::load::rows::{RawReject, RuleChunk, TableRead};
use crate::load::{LoadError, RejectKind};

/// One rule while its rows are decided.
struct NodeRows<'a> {
    within: Within<'a>,
    tables: &'a [TableRead],
    table: usize,
    rule: usize,
    plan: &'a NodePlan,
    /// Where labels differ by row, or several types have them, each row is checked against its own.
    graph_type: Option<&'a GraphType>,
    /// By what the rows say of their labels.
    label_places: BTreeMap<Option<String>, Result<u32, String>>,
    indexes: &'a mut Indexes,
    resolved: &'a mut Resolved,
    counts: Counts,
}

/// A chunk of rows, with the columns that name its nodes.
struct ChunkRows<'a> {
    chunk: &'a RuleChunk,
    place: u32,
    key: Vec<&'a Column>,
    id: Vec<&'a Column>,
}

impl ChunkRows<'_> {
    fn reject(
        &self, row: usize, kind: RejectKind, column: Option<usize>, value: Option<String>, reason: String,
    ) -> RawReject {
        RawReject { offset: self.chunk.offsets.at(row), column, value, kind, reason }
    }
}

/// Decides for each row of a node rule what it is.
pub(super) fn resolve_nodes(
    within: Within<'_>, tables: &mut [TableRead], (table, rule): (usize, usize), indexes: &mut Indexes,
    resolved: &mut Resolved,
) -> Result<(), LoadError> {
    let plan = &within.plans[table].nodes[rule];
    let graph_type = within.snapshot.graph_type.as_deref().filter(|t| {
        let fitting = t.nodes.iter().filter(|t| plan.labels.iter().all(|l| t.labels.contains(l)));
        plan.label_from.is_some() || fitting.count() > 1
    });
    let mut rows = NodeRows {
        within,
        tables,
        table,
        rule,
        plan,
        graph_type,
        label_places: BTreeMap::new(),
        indexes,
        resolved,
        counts: Counts::default(),
    };
    for place in 0..rows.tables[table].nodes[rule].chunks.len() {
        rows.resolve(place)?;
    }
    rows.counts.add_to(&mut tables[table].nodes[rule]);
    Ok(())
}

impl<'a> NodeRows<'a> {
    fn resolve(&mut self, place: usize) -> Result<(), LoadError> {
        let plan = self.plan;
        let chunk = &self.tables[self.table].nodes[self.rule].chunks[place];
        let key_places = plan.key.iter().flat_map(|(_, places)| places);
        let rows = ChunkRows {
            chunk,
            place: place as u32,
            key: key_places.map(|&p| &chunk.columns[p]).collect(),
            id: chunk.columns.last().into_iter().filter(|_| plan.has_id).collect(),
        };
        // Rows about which nothing has to be asked but whether their key is new.
        let plain = plan.label_from.is_none() && self.graph_type.is_none() && !plan.has_id;
        let mut next = 0;
        while next < chunk.offsets.len() {
            if next.is_multiple_of(ASK_EVERY) {
                self.within.progress.check()?;
            }
            let until = chunk.offsets.len().min((next / ASK_EVERY + 1) * ASK_EVERY);
            if plain {
                next += self.insert_new(&rows, next..until);
                if next == until {
                    continue;
                }
            }
            if let Err(reject) = self.decide(&rows, next) {
                self.counts.rejects.push(reject);
            }
            next += 1;
        }
        Ok(())
    }

    /// Creates the nodes of the first of these rows, as far as their keys are new; how many.
    fn insert_new(&mut self, rows: &ChunkRows<'_>, range: Range<usize>) -> usize {
        let Some(Ok(labels)) = self.label_places.get(&None) else { return 0 };
        let Some(index) = self.plan.key.as_ref().and_then(|(space, _)| self.indexes.get_mut(space)) else {
            return 0;
        };
        let (labels, first) = (*labels, range.start);
        let next = self.resolved.existing + self.resolved.nodes.len() as Dense;
        let new = index.insert_new(&rows.key, range, next, self.within.snapshot);
        for row in first..first + new {
            self.resolved.nodes.push(self.new_node(rows, row, labels));
        }
        self.counts.made += new as u64;
        new
    }

    fn new_node(&self, rows: &ChunkRows<'_>, row: usize, labels: u32) -> NewNode {
        let (table, rule) = (self.table as u32, self.rule as u32);
        NewNode { table, rule, chunk: rows.place, row: row as u32, labels }
    }

    fn decide(&mut self, rows: &ChunkRows<'_>, row: usize) -> Result<(), RawReject> {
        let labels = self.labels(rows, row)?;
        self.check(rows, row, labels)?;
        let new = self.new_node(rows, row, labels);
        let (of_key, of_id) = self.known(rows, row);
        if of_id.is_some() && of_id != of_key {
            let id = rows.id.first().map(|c| c.value(row).to_string());
            let column = self.plan.properties.last().and_then(|p| p.input.column());
            let reason = "another node of this load has the id".into();
            return Err(rows.reject(row, RejectKind::KeyConflict, column, id, reason));
        }
        let node = match of_key {
            None => self.create(rows, row, new),
            Some(node) => {
                self.compare(rows, row, new, node)?;
                node
            }
        };
        let by_id_alone = self.plan.key.as_ref().is_some_and(|(space, _)| space.is_ids());
        if self.plan.has_id
            && of_id.is_none()
            && !by_id_alone
            && let Some(index) = self.indexes.get_mut(&KeySpace::ids())
        {
            index.insert(&rows.id, row, node);
        }
        Ok(())
    }

    /// The place of the row's label set.
    fn labels(&mut self, rows: &ChunkRows<'_>, row: usize) -> Result<u32, RawReject> {
        let own = rows.chunk.labels.as_ref().and_then(|c| c.text(row)).map(str::to_string);
        let (plan, graph_type) = (self.plan, &self.within.snapshot.graph_type);
        let resolved = &mut self.resolved;
        let place = self.label_places.entry(own.clone()).or_insert_with(|| {
            let labels = labels_of(&plan.labels, plan.label_from.as_ref(), own.as_deref());
            match graph_type {
                Some(graph_type) if graph_type.node_type(&labels).is_none() => {
                    Err(graph_type.no_node_type(&labels).message)
                }
                _ => Ok(resolved.place_of(labels)),
            }
        });
        place.clone().map_err(|reason| {
            let column = plan.label_from.as_ref().map(|l| l.column);
            rows.reject(row, RejectKind::Type, column, own, reason)
        })
    }

    /// Whether the graph type allows the row's properties with its labels.
    fn check(&self, rows: &ChunkRows<'_>, row: usize, labels: u32) -> Result<(), RawReject> {
        let Some(graph_type) = self.graph_type else { return Ok(()) };
        let given = self.given(rows, row).into_iter().filter(|g| !g.value.is_null());
        let properties: Vec<_> = given.map(|g| (g.name, g.value)).collect();
        let set = &self.resolved.label_sets[labels as usize];
        graph_type.check_node(set, &properties.into()).map_err(|violation| {
            let column = violation.property.as_ref().and_then(|name| self.column_of(name));
            rows.reject(row, RejectKind::Type, column, None, violation.message)
        })
    }

    fn rows(&self) -> NewRows<'_> {
        let (plans, nodes, existing) = (self.within.plans, &self.resolved.nodes, self.resolved.existing);
        NewRows { tables: self.tables, plans, nodes, existing }
    }

    /// The nodes that have the row's key and its id.
    fn known(&self, rows: &ChunkRows<'_>, row: usize) -> (Option<Dense>, Option<Dense>) {
        let find = |space: &KeySpace, columns: &[&Column]| {
            self.indexes.get(space)?.find(columns, row, &self.rows(), self.within.snapshot)
        };
        let of_key = self.plan.key.as_ref().and_then(|(space, _)| find(space, &rows.key));
        let of_id = self.plan.has_id.then(KeySpace::ids).and_then(|space| find(&space, &rows.id));
        (of_key, of_id)
    }

    fn create(&mut self, rows: &ChunkRows<'_>, row: usize, new: NewNode) -> Dense {
        let node = self.resolved.existing + self.resolved.nodes.len() as Dense;
        self.resolved.nodes.push(new);
        self.counts.made += 1;
        if let Some((space, _)) = &self.plan.key
            && let Some(index) = self.indexes.get_mut(space)
        {
            index.insert(&rows.key, row, node);
        }
        node
    }

    /// How the row goes with the node that has its key.
    fn compare(
        &mut self, rows: &ChunkRows<'_>, row: usize, new: NewNode, node: Dense,
    ) -> Result<(), RawReject> {
        let (snapshot, plan) = (self.within.snapshot, self.plan);
        let known_labels = match self.rows().get(node) {
            Some(known) => self.resolved.label_sets[known.labels as usize].clone(),
            None => snapshot.node_labels(node),
        };
        let own = &self.resolved.label_sets[new.labels as usize];
        if !own.iter().all(|l| known_labels.contains(l)) {
            let reason = format!("the key already exists with the labels :{}", known_labels.join("&"));
            return Err(rows.reject(row, RejectKind::KeyConflict, None, None, reason));
        }
        let given = self.given(rows, row);
        let changed = &self.resolved.changed;
        let verdict = judge(
            plan.existing,
            &given,
            |name| changed.node_value(node, name, &self.rows(), snapshot),
            || changed.node_names(node, &self.rows(), snapshot),
        );
        match verdict {
            Verdict::Differs(name, given, known) => {
                let reason = format!("the key already exists with {name} = {}", known.excerpt());
                let (column, given) = (self.column_of(&name), Some(given.to_string()));
                return Err(rows.reject(row, RejectKind::KeyConflict, column, given, reason));
            }
            Verdict::Agrees if node < self.resolved.existing => self.counts.unchanged += 1,
            Verdict::Agrees => self.counts.duplicates += 1,
            Verdict::Changes => {
                self.counts.changed += 1;
                let Resolved { changed, nodes, existing, .. } = &mut *self.resolved;
                let (plans, existing) = (self.within.plans, *existing);
                let known = NewRows { tables: self.tables, plans, nodes, existing };
                changed.change_node(node, plan.existing, &given, new, &known, snapshot);
            }
        }
        Ok(())
    }

    fn column_of(&self, name: &str) -> Option<usize> {
        self.plan.properties.iter().find(|p| *p.name == *name).and_then(|p| p.input.column())
    }

    fn given(&self, rows: &ChunkRows<'_>, row: usize) -> Vec<Given> {
        let stored = self.plan.properties.iter().zip(&rows.chunk.columns).filter(|(p, _)| !p.is_id());
        stored.map(|(p, column)| Given { name: p.name.clone(), value: column.value(row) }).collect()
    }
}
