//! Rows of one chunk while they are read: each straight into typed columns, or refused with its reason.

use std::collections::BTreeMap;
use std::sync::atomic::Ordering;

use graphodrome_graph::{ColumnBuilder, Value};

use crate::load::fields::{FieldError, Fields, Row, given_value, read_value, truth};
use crate::load::offsets::Offsets;
use crate::load::plan::{EdgePlan, Input, LabelSource, NodePlan, TablePlan};
use crate::load::rows::{Finished, FinishedRule, RawReject, RuleChunk};
use crate::load::{LoadError, MAX_KEPT_REJECTS, Progress, RejectKind};

impl ChunkRead {
    /// Bytes that a row has in every column, about.
    pub(super) fn row_bytes(&self) -> usize {
        let columns = self
            .rules
            .iter()
            .map(|r| r.columns.len() + r.from.len() + r.to.len() + usize::from(r.labels.is_some()));
        self.rules.len() * size_of::<u32>() + columns.sum::<usize>() * size_of::<u64>()
    }

    /// Its columns as they are kept, accounted for.
    pub(super) fn finish(self, progress: &Progress) -> Result<Finished, LoadError> {
        let expected = self.expected;
        let finished = self.finished();
        progress.release(expected);
        progress.hold(finished.bytes())?;
        Ok(finished)
    }

    fn finished(self) -> Finished {
        let finished = |columns: Vec<ColumnBuilder>| columns.into_iter().map(ColumnBuilder::finish).collect();
        let rule = |building: BuildingRule| FinishedRule {
            chunk: RuleChunk {
                columns: finished(building.columns),
                from: finished(building.from),
                to: finished(building.to),
                labels: building.labels.map(ColumnBuilder::finish),
                offsets: building.offsets,
            },
            rejects: building.rejects,
            rejected: building.rejected,
            skipped: building.skipped,
        };
        Finished { rows: self.rows, rules: self.rules.into_iter().map(rule).collect() }
    }
}

pub(super) struct BuildingRule {
    pub columns: Vec<ColumnBuilder>,
    pub from: Vec<ColumnBuilder>,
    pub to: Vec<ColumnBuilder>,
    pub(super) labels: Option<ColumnBuilder>,
    pub offsets: Offsets,
    pub(super) rejects: Vec<RawReject>,
    pub(super) rejected: BTreeMap<RejectKind, u64>,
    pub(super) skipped: u64,
    /// Values of the row at hand, until all of them are known to be good.
    pub(super) values: Vec<Value>,
    pub(super) ends: Vec<Value>,
}

pub(super) struct ChunkRead {
    pub rows: u64,
    /// Node rules, then edge rules.
    pub rules: Vec<BuildingRule>,
    /// Bytes accounted for while it grows.
    pub expected: usize,
}

/// Rows that have been read, told to the progress in steps.
pub(super) struct Counting<'p> {
    pub(super) progress: &'p Progress,
    pub(super) told: u64,
}

impl<'p> Counting<'p> {
    pub fn new(progress: &'p Progress) -> Self {
        Counting { progress, told: 0 }
    }

    pub fn at(&mut self, rows: u64) -> Result<(), LoadError> {
        if rows.is_multiple_of(8192) {
            self.progress.check()?;
            self.end(rows);
        }
        Ok(())
    }

    pub fn end(&mut self, rows: u64) {
        self.progress.rows_read.fetch_add(rows - self.told, Ordering::Relaxed);
        self.told = rows;
    }
}

impl ChunkRead {
    /// With room for so many rows.
    pub(super) fn new(plan: &TablePlan, rows: usize) -> ChunkRead {
        let rule = |properties: usize, from: usize, to: usize, labels: bool| BuildingRule {
            columns: builders(properties, rows),
            from: builders(from, rows),
            to: builders(to, rows),
            labels: labels.then(|| ColumnBuilder::with_capacity(rows)),
            offsets: Offsets::with_capacity(rows),
            rejects: vec![],
            rejected: BTreeMap::new(),
            skipped: 0,
            values: vec![],
            ends: vec![],
        };
        let nodes = plan.nodes.iter().map(|n| rule(n.properties.len(), 0, 0, n.label_from.is_some()));
        let edges = plan.edges.iter().map(|e| {
            rule(e.properties.len(), e.from.columns.len(), e.to.columns.len(), e.label_from.is_some())
        });
        ChunkRead { rows: 0, rules: nodes.chain(edges).collect(), expected: 0 }
    }

    pub(super) fn reject_fields(&mut self, plan: &TablePlan, offset: u64, fields: usize) {
        let reason = format!("the row has {fields} fields, the header {}", plan.columns.len());
        self.reject_row(plan, offset, RejectKind::Shape, &reason);
    }

    /// Node and edge rules that rows are for: nodes that references create come later.
    pub(super) fn of_rows<'r>(&'r mut self, plan: &TablePlan) -> impl Iterator<Item = &'r mut BuildingRule> {
        let created = plan.nodes.iter().map(|n| n.created_by.is_some());
        let skipped: Vec<bool> = created.chain(plan.edges.iter().map(|_| false)).collect();
        self.rules.iter_mut().zip(skipped).filter(|(_, skipped)| !skipped).map(|(rule, _)| rule)
    }

    /// No rule can take the row.
    pub(super) fn reject_row(&mut self, plan: &TablePlan, offset: u64, kind: RejectKind, reason: &str) {
        for rule in self.of_rows(plan) {
            rule.reject(RawReject { offset, column: None, value: None, kind, reason: reason.into() });
        }
    }

    pub(super) fn row<'f>(&mut self, plan: &TablePlan, offset: u64, row: &Row<'_, 'f>) {
        if let Some(filter) = &plan.filter {
            match truth(filter, row) {
                Ok(true) => {}
                Ok(false) => return self.of_rows(plan).for_each(|rule| rule.skipped += 1),
                Err(error) => {
                    for rule in self.of_rows(plan) {
                        rule.reject(error.clone().reject(offset, row));
                    }
                    return;
                }
            }
        }
        let (node_rules, edge_rules) = self.rules.split_at_mut(plan.nodes.len());
        for (rule, node) in node_rules.iter_mut().zip(&plan.nodes) {
            if node.created_by.is_none() {
                rule.node_row(node, offset, row);
            }
        }
        for (rule, edge) in edge_rules.iter_mut().zip(&plan.edges) {
            rule.edge_row(edge, offset, row);
        }
    }
}

impl BuildingRule {
    fn reject(&mut self, reject: RawReject) {
        *self.rejected.entry(reject.kind).or_default() += 1;
        if self.rejects.len() < MAX_KEPT_REJECTS {
            self.rejects.push(reject);
        }
    }

    fn node_row(&mut self, node: &NodePlan, offset: u64, row: &Row<'_, '_>) {
        match self.take_node(node, row) {
            Ok(true) => self.push(offset),
            Ok(false) => self.skipped += 1,
            Err(error) => self.reject(error.reject(offset, row)),
        }
    }

    /// Reads a node's values; false where the row makes none.
    fn take_node(&mut self, node: &NodePlan, row: &Row<'_, '_>) -> Result<bool, FieldError> {
        if let Some(filter) = &node.filter
            && !truth(filter, row)?
        {
            return Ok(false);
        }
        // The key first: a row without one makes nothing, whatever else is wrong with it.
        let places = node.key.iter().flat_map(|(_, places)| places);
        let ids = node.properties.iter().filter(|p| p.is_id());
        for property in places.map(|&place| &node.properties[place]).chain(ids) {
            if given_value(property, row)?.is_null() {
                if node.optional {
                    return Ok(false);
                }
                let name = if property.is_id() { "id" } else { &*property.name };
                let reason = format!("the key {name} is empty");
                return Err(FieldError::new(RejectKind::EmptyKey, &property.input, reason));
            }
        }
        self.values.clear();
        for property in &node.properties {
            self.values.push(read_value(property, row)?);
        }
        self.take_labels(node.label_from.as_ref(), node.labels.is_empty(), row)?;
        Ok(true)
    }

    /// The labels out of a column, as one text.
    fn take_labels(
        &mut self, source: Option<&LabelSource>, wanted: bool, row: &Row<'_, '_>,
    ) -> Result<(), FieldError> {
        let (Some(source), Some(labels)) = (source, &mut self.labels) else { return Ok(()) };
        let wrong =
            |reason: &str| FieldError::new(RejectKind::Label, &Input::Column(source.column), reason.into());
        match (row.field)(source.column) {
            Fields::Text(text) if text.contains('\0') => {
                return Err(wrong("a label may not hold the character U+0000"));
            }
            Fields::Text(text) => labels.push_text(text),
            Fields::Null if wanted => return Err(wrong("there is no label")),
            Fields::Null => labels.push_null(),
            Fields::Json(serde_json::Value::Array(items)) => {
                let names: Option<Vec<&str>> = items.iter().map(|i| i.as_str()).collect();
                let names = names.ok_or_else(|| wrong("a label must be a text"))?;
                if names.iter().any(|name| name.contains('\0')) {
                    return Err(wrong("a label may not hold the character U+0000"));
                }
                if names.is_empty() && wanted {
                    return Err(wrong("there is no label"));
                }
                // What no label can hold; see `labels_of`.
                labels.push_text(&names.join("\0"));
            }
            _ => return Err(wrong("a label must be a text")),
        }
        Ok(())
    }

    fn edge_row(&mut self, edge: &EdgePlan, offset: u64, row: &Row<'_, '_>) {
        match self.take_edge(edge, row) {
            Ok(true) => {
                for (column, value) in self.from.iter_mut().chain(&mut self.to).zip(self.ends.drain(..)) {
                    push(column, value);
                }
                self.push(offset);
            }
            Ok(false) => self.skipped += 1,
            Err(error) => self.reject(error.reject(offset, row)),
        }
    }

    fn take_edge(&mut self, edge: &EdgePlan, row: &Row<'_, '_>) -> Result<bool, FieldError> {
        if let Some(filter) = &edge.filter
            && !truth(filter, row)?
        {
            return Ok(false);
        }
        self.ends.clear();
        for (input, value_type) in edge.from.columns.iter().chain(&edge.to.columns) {
            match row.value(input, value_type)? {
                Value::Null if edge.optional => return Ok(false),
                Value::Null => {
                    let reason = "the reference is empty".to_string();
                    return Err(FieldError::new(RejectKind::EmptyReference, input, reason));
                }
                value => self.ends.push(value),
            }
        }
        self.values.clear();
        for property in &edge.properties {
            self.values.push(read_value(property, row)?);
        }
        self.take_labels(edge.label_from.as_ref(), edge.label.is_empty(), row)?;
        Ok(true)
    }

    fn push(&mut self, offset: u64) {
        for (column, value) in self.columns.iter_mut().zip(self.values.drain(..)) {
            push(column, value);
        }
        self.offsets.push(offset);
    }
}

fn builders(count: usize, rows: usize) -> Vec<ColumnBuilder> {
    (0..count).map(|_| ColumnBuilder::with_capacity(rows)).collect()
}

fn push(column: &mut ColumnBuilder, value: Value) {
    match value {
        Value::Int(i) => column.push_int(i),
        value => column.push(value),
    }
}
