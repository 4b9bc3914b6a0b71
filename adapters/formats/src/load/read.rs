//! Reading tables: cut at row ends into chunks, each read by one thread straight into typed columns.

use std::collections::BTreeMap;
use std::sync::atomic::Ordering;

use graphodrome_graph::{Column, ColumnBuilder, Value};
use rayon::prelude::*;

use crate::load::blocks::{cut_lines, cut_rows, open_quote, read_coded};
use crate::load::columnar;
use crate::load::fields::{FieldError, Fields, Row, given_value, read_value, truth};
use crate::load::offsets::Offsets;
use crate::load::plain::plain_text;
use crate::load::plan::{EdgePlan, Input, LabelSource, NodePlan, TablePlan};
use crate::load::sources::{encoding_hint, table_error};
use crate::load::{LoadError, MAX_KEPT_REJECTS, Progress, RejectKind};
use crate::mapping::TableFormat;

/// A row longer than this is a quote left open, not a row.
pub(super) const MAX_ROW: usize = 16 << 20;

/// What one rule took from one chunk.
#[derive(Default)]
pub(crate) struct RuleChunk {
    /// Per property.
    pub columns: Vec<Column>,
    /// Key columns of the two references, for edges.
    pub from: Vec<Column>,
    pub to: Vec<Column>,
    /// The labels out of a column.
    pub labels: Option<Column>,
    /// Where each row begins in the text.
    pub offsets: Offsets,
}

/// A reject with its place, before lines are counted.
#[derive(Clone)]
pub(crate) struct RawReject {
    pub offset: u64,
    pub column: Option<usize>,
    pub value: Option<String>,
    pub kind: RejectKind,
    pub reason: String,
}

#[derive(Default)]
pub(crate) struct RuleRead {
    pub chunks: Vec<RuleChunk>,
    pub rejects: Vec<RawReject>,
    pub rejected: BTreeMap<RejectKind, u64>,
    pub skipped: u64,
    pub made: u64,
    pub changed: u64,
    pub unchanged: u64,
    pub duplicates: u64,
    /// Nodes made because references of this edge rule lacked them.
    pub created: u64,
}

impl RuleRead {
    pub fn reject(&mut self, reject: RawReject) {
        *self.rejected.entry(reject.kind).or_default() += 1;
        if self.rejects.len() < MAX_KEPT_REJECTS {
            self.rejects.push(reject);
        }
    }
}

pub(crate) struct TableRead {
    pub rows: u64,
    pub nodes: Vec<RuleRead>,
    pub edges: Vec<RuleRead>,
}

pub(crate) fn read_table(plan: &TablePlan, progress: &Progress) -> Result<TableRead, LoadError> {
    if plan.is_columnar() {
        return Ok(gathered(plan, columnar::read(plan, progress)?));
    }
    if !plan.coding.is_plain() {
        return Ok(gathered(plan, read_coded(plan, progress)?));
    }
    let bytes = plan.source.bytes();
    progress.bytes_read.fetch_add(plan.body as u64, Ordering::Relaxed);
    let cuts = match plan.format {
        TableFormat::Jsonl => cut_lines(bytes, plan.body),
        _ => cut_rows(plan, bytes)?,
    };
    let chunks: Vec<Finished> = cuts
        .par_windows(2)
        .map(|cut| {
            progress.check()?;
            let chunk = ChunkRead::of_text(plan, &bytes[cut[0]..cut[1]], cut[0], progress)?;
            progress.bytes_read.fetch_add((cut[1] - cut[0]) as u64, Ordering::Relaxed);
            chunk.ok_or_else(|| open_quote(plan, bytes))
        })
        .collect::<Result<_, LoadError>>()?;
    Ok(gathered(plan, chunks))
}

/// What is read of a block of rows, its columns as they are kept: made beside the reading, while they are close
/// to the processor and their larger memory can be used again for the next block.
pub(super) struct Finished {
    rows: u64,
    rules: Vec<FinishedRule>,
}

struct FinishedRule {
    chunk: RuleChunk,
    rejects: Vec<RawReject>,
    rejected: BTreeMap<RejectKind, u64>,
    skipped: u64,
}

/// Bytes of a reject besides its texts.
const REJECT: usize = size_of::<RawReject>();

impl RuleChunk {
    pub fn bytes(&self) -> usize {
        let columns = self.columns.iter().chain(&self.from).chain(&self.to).chain(&self.labels);
        columns.map(Column::bytes).sum::<usize>() + self.offsets.len() * size_of::<u32>()
    }
}

impl Finished {
    fn bytes(&self) -> usize {
        let reject = |r: &RawReject| REJECT + r.reason.len() + r.value.as_ref().map_or(0, String::len);
        let rule = |r: &FinishedRule| r.chunk.bytes() + r.rejects.iter().map(reject).sum::<usize>();
        self.rules.iter().map(rule).sum()
    }
}

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

/// The chunks of a table, rule by rule.
fn gathered(plan: &TablePlan, chunks: Vec<Finished>) -> TableRead {
    let mut table = TableRead {
        rows: 0,
        nodes: plan.nodes.iter().map(|_| RuleRead::default()).collect(),
        edges: plan.edges.iter().map(|_| RuleRead::default()).collect(),
    };
    for chunk in chunks {
        table.rows += chunk.rows;
        let rules = table.nodes.iter_mut().chain(&mut table.edges);
        for (rule, read) in rules.zip(chunk.rules) {
            rule.skipped += read.skipped;
            for (kind, count) in read.rejected {
                *rule.rejected.entry(kind).or_default() += count;
            }
            let room = MAX_KEPT_REJECTS - rule.rejects.len();
            rule.rejects.extend(read.rejects.into_iter().take(room));
            rule.chunks.push(read.chunk);
        }
    }
    table
}

pub(super) struct BuildingRule {
    pub columns: Vec<ColumnBuilder>,
    pub from: Vec<ColumnBuilder>,
    pub to: Vec<ColumnBuilder>,
    labels: Option<ColumnBuilder>,
    pub offsets: Offsets,
    rejects: Vec<RawReject>,
    rejected: BTreeMap<RejectKind, u64>,
    skipped: u64,
    /// Values of the row at hand, until all of them are known to be good.
    values: Vec<Value>,
    ends: Vec<Value>,
}

pub(super) struct ChunkRead {
    pub rows: u64,
    /// Node rules, then edge rules.
    pub rules: Vec<BuildingRule>,
    /// Bytes accounted for while it grows.
    pub expected: usize,
}

/// A little more than the rows that a block most likely has, by those of its beginning.
fn likely_rows(block: &[u8]) -> usize {
    const BEGINNING: usize = 1 << 16;
    let beginning = &block[..block.len().min(BEGINNING)];
    let ends = memchr::memchr_iter(b'\n', beginning).count() + 1;
    match beginning.len() == block.len() {
        true => ends,
        false => (ends as f64 * 1.03 * block.len() as f64 / BEGINNING as f64) as usize,
    }
}

fn builders(count: usize, rows: usize) -> Vec<ColumnBuilder> {
    (0..count).map(|_| ColumnBuilder::with_capacity(rows)).collect()
}

/// Rows that have been read, told to the progress in steps.
pub(super) struct Counting<'p> {
    progress: &'p Progress,
    told: u64,
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

/// Whether a field of a row is written in quotes.
fn in_quotes(plan: &TablePlan, row: &[u8], column: usize) -> bool {
    let (mut at, mut quoted) = (0, false);
    for _ in 0..column {
        // A delimiter between quotes ends no field.
        let Some(end) = row[at..].iter().position(|&byte| {
            quoted ^= byte == plan.quote;
            byte == plan.delimiter && !quoted
        }) else {
            return false;
        };
        at += end + 1;
    }
    row.get(at) == Some(&plan.quote)
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

    /// Reads a block of rows that begins at `start` in the text; `None` where a row of it never ends.
    pub(super) fn of_text(
        plan: &TablePlan, block: &[u8], start: usize, progress: &Progress,
    ) -> Result<Option<Finished>, LoadError> {
        let mut chunk = ChunkRead::new(plan, likely_rows(block));
        let ends = match plan.format {
            TableFormat::Jsonl => chunk.read_json(plan, block, start, progress)?,
            _ => chunk.read_csv(plan, block, start, progress)?,
        };
        if ends { chunk.finish(progress).map(Some) } else { Ok(None) }
    }

    fn read_csv(
        &mut self, plan: &TablePlan, block: &[u8], start: usize, progress: &Progress,
    ) -> Result<bool, LoadError> {
        if let Some(text) = plain_text(block, plan.quote) {
            self.read_plain(plan, text, start, progress)?;
            return Ok(true);
        }
        let mut reader = csv::ReaderBuilder::new()
            .has_headers(false)
            .flexible(true)
            .delimiter(plan.delimiter)
            .quote(plan.quote)
            .from_reader(block);
        let mut record = csv::ByteRecord::new();
        let failed = |e: csv::Error| table_error(&plan.name, e.to_string());
        let mut counting = Counting::new(progress);
        // The usual case, without going through a list for every field.
        let only_empty = matches!(&plan.null[..], [one] if one.is_empty());
        let not_utf8 = std::sync::OnceLock::new();
        while reader.read_byte_record(&mut record).map_err(failed)? {
            let begin = record.position().map_or(0, |p| p.byte() as usize);
            let written = &block[begin..(reader.position().byte() as usize).max(begin)];
            let offset = (start + begin) as u64;
            self.rows += 1;
            counting.at(self.rows)?;
            if record.as_slice().len() > MAX_ROW {
                return Ok(false);
            }
            if record.len() != plan.columns.len() {
                self.reject_fields(plan, offset, record.len());
                continue;
            }
            let is_null =
                |text: &str| if only_empty { text.is_empty() } else { plan.null.iter().any(|n| n == text) };
            let field = |column: usize| match record.get(column).map(std::str::from_utf8) {
                Some(Ok(text))
                    if is_null(text) && (plan.quoted_null || !in_quotes(plan, written, column)) =>
                {
                    Fields::Null
                }
                Some(Ok(text)) => Fields::Text(text),
                Some(Err(_)) => Fields::Bad(not_utf8.get_or_init(|| encoding_hint(block))),
                None => Fields::Null,
            };
            let raw = |column: usize| record.get(column).map(|b| String::from_utf8_lossy(b).into_owned());
            self.row(plan, offset, &Row { field: &field, raw: &raw, null: &plan.null });
        }
        counting.end(self.rows);
        Ok(true)
    }

    fn read_json(
        &mut self, plan: &TablePlan, block: &[u8], start: usize, progress: &Progress,
    ) -> Result<bool, LoadError> {
        let mut counting = Counting::new(progress);
        let mut at = 0;
        while at < block.len() {
            let line_end = memchr::memchr(b'\n', &block[at..]).map_or(block.len(), |i| at + i);
            let line = &block[at..line_end];
            let offset = (start + at) as u64;
            at = line_end + 1;
            let line = line.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(line);
            if line.iter().all(u8::is_ascii_whitespace) {
                continue;
            }
            self.rows += 1;
            counting.at(self.rows)?;
            let object = match serde_json::from_slice::<serde_json::Value>(line) {
                Ok(serde_json::Value::Object(object)) => object,
                Ok(_) => {
                    self.reject_row(plan, offset, RejectKind::Shape, "the line is not a JSON object");
                    continue;
                }
                Err(error) => {
                    let reason = format!("the line is not valid JSON: {error}");
                    self.reject_row(plan, offset, RejectKind::Shape, &reason);
                    continue;
                }
            };
            let value = |column: usize| plan.columns.get(column).and_then(|name| object.get(name));
            let field = |column: usize| match value(column) {
                None | Some(serde_json::Value::Null) => Fields::Null,
                Some(serde_json::Value::String(text)) if plan.null.iter().any(|n| n == text) => Fields::Null,
                Some(serde_json::Value::String(text)) => Fields::Text(text),
                Some(other) => Fields::Json(other),
            };
            let raw = |column: usize| {
                value(column).map(|v| match v {
                    serde_json::Value::String(text) => text.clone(),
                    other => other.to_string(),
                })
            };
            self.row(plan, offset, &Row { field: &field, raw: &raw, null: &plan.null });
        }
        counting.end(self.rows);
        Ok(true)
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

fn push(column: &mut ColumnBuilder, value: Value) {
    match value {
        Value::Int(i) => column.push_int(i),
        value => column.push(value),
    }
}
