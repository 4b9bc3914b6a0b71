//! Reading tables: cut at row ends into chunks, each read by one thread straight into typed columns.
//! A quote may hide a line end, so the cuts are made by counting quotes first.

use std::sync::atomic::Ordering;

use graphodrome_graph::{Column, ColumnBuilder, Value, ValueType, parse_text};
use rayon::prelude::*;

use crate::load::parquet;
use crate::load::plain::plain_text;
use crate::load::plan::{EdgePlan, NodePlan, PropertyPlan, TablePlan};
use crate::load::{LoadError, MAX_KEPT_REJECTS, Progress};
use crate::mapping::TableFormat;

/// Bytes of a chunk.
const CHUNK: usize = 4 << 20;
/// A row longer than this is a quote left open, not a row.
const MAX_ROW: usize = 16 << 20;

/// What one rule took from one chunk.
#[derive(Default)]
pub(crate) struct RuleChunk {
    /// Per property.
    pub columns: Vec<Column>,
    /// Key columns of the two references, for edges.
    pub from: Vec<Column>,
    pub to: Vec<Column>,
    /// The label out of a column, for nodes.
    pub labels: Option<Column>,
    /// Where each row begins in the file.
    pub offsets: Vec<u64>,
}

/// A reject with its place, before lines are counted.
#[derive(Clone)]
pub(crate) struct RawReject {
    pub offset: u64,
    pub column: Option<usize>,
    pub value: Option<String>,
    pub reason: String,
}

#[derive(Default)]
pub(crate) struct RuleRead {
    pub chunks: Vec<RuleChunk>,
    pub rejects: Vec<RawReject>,
    pub rejected: u64,
    pub skipped: u64,
    pub made: u64,
    pub duplicates: u64,
}

impl RuleRead {
    pub fn reject(&mut self, reject: RawReject) {
        self.rejected += 1;
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
    let bytes = plan.source.bytes();
    progress.bytes_read.fetch_add(plan.body as u64, Ordering::Relaxed);
    if plan.format == TableFormat::Parquet {
        return Ok(gathered(plan, parquet::read(plan, progress)?));
    }
    let cuts = match plan.format {
        TableFormat::Jsonl => cut_lines(bytes, plan.body),
        _ => cut_rows(plan, bytes)?,
    };
    let chunks: Vec<ChunkRead> = cuts
        .par_windows(2)
        .map(|cut| {
            progress.check()?;
            let mut chunk = ChunkRead::new(plan);
            match plan.format {
                TableFormat::Jsonl => chunk.read_json(plan, bytes, cut[0], cut[1], progress)?,
                _ => chunk.read_csv(plan, bytes, cut[0], cut[1], progress)?,
            }
            progress.bytes_read.fetch_add((cut[1] - cut[0]) as u64, Ordering::Relaxed);
            Ok(chunk)
        })
        .collect::<Result<_, LoadError>>()?;
    Ok(gathered(plan, chunks))
}

/// The chunks of a table, rule by rule.
fn gathered(plan: &TablePlan, chunks: Vec<ChunkRead>) -> TableRead {
    let mut table = TableRead {
        rows: 0,
        nodes: plan.nodes.iter().map(|_| RuleRead::default()).collect(),
        edges: plan.edges.iter().map(|_| RuleRead::default()).collect(),
    };
    for chunk in chunks {
        table.rows += chunk.rows;
        let rules = table.nodes.iter_mut().chain(&mut table.edges);
        for (rule, building) in rules.zip(chunk.rules) {
            rule.skipped += building.skipped;
            let more = building.rejected - building.rejects.len() as u64;
            for reject in building.rejects {
                rule.reject(reject);
            }
            rule.rejected += more;
            rule.chunks.push(RuleChunk {
                columns: building.columns.into_iter().map(ColumnBuilder::finish).collect(),
                from: building.from.into_iter().map(ColumnBuilder::finish).collect(),
                to: building.to.into_iter().map(ColumnBuilder::finish).collect(),
                labels: building.labels.map(ColumnBuilder::finish),
                offsets: building.offsets,
            });
        }
    }
    table
}

/// Line ends near every `CHUNK` bytes.
fn cut_lines(bytes: &[u8], body: usize) -> Vec<usize> {
    let mut cuts = vec![body];
    let mut at = body;
    while at + CHUNK < bytes.len() {
        at = memchr::memchr(b'\n', &bytes[at + CHUNK..]).map_or(bytes.len(), |i| at + CHUNK + i + 1);
        cuts.push(at);
    }
    if *cuts.last().unwrap_or(&0) < bytes.len() || cuts.len() == 1 {
        cuts.push(bytes.len());
    }
    cuts
}

/// Line ends outside quotes near every `CHUNK` bytes. Each block's quotes are counted in parallel;
/// whether a block begins inside a quoted field follows from those before it.
fn cut_rows(plan: &TablePlan, bytes: &[u8]) -> Result<Vec<usize>, LoadError> {
    let body = plan.body;
    let blocks: Vec<usize> = (body..bytes.len()).step_by(CHUNK).collect();
    let quotes: Vec<usize> = blocks
        .par_iter()
        .map(|&start| memchr::memchr_iter(b'"', &bytes[start..bytes.len().min(start + CHUNK)]).count())
        .collect();
    if quotes.iter().sum::<usize>() % 2 == 1 {
        return Err(open_quote(plan, bytes));
    }
    let mut cuts = vec![body];
    let mut before = 0usize;
    for (block, &start) in blocks.iter().enumerate() {
        if block > 0 {
            // The first line end in this block that no quote hides.
            let mut quoted = before % 2 == 1;
            let mut at = start;
            let mut found = None;
            while let Some(i) = memchr::memchr2(b'"', b'\n', &bytes[at..]) {
                let place = at + i;
                if bytes[place] == b'"' {
                    quoted = !quoted;
                } else if !quoted {
                    found = Some(place + 1);
                    break;
                }
                at = place + 1;
            }
            let end = found.unwrap_or(bytes.len());
            if end > *cuts.last().unwrap_or(&0) && end < bytes.len() {
                cuts.push(end);
            }
        }
        before += quotes[block];
    }
    cuts.push(bytes.len());
    Ok(cuts)
}

/// The quotes of the file do not pair up: says where the last one that opens is.
fn open_quote(plan: &TablePlan, bytes: &[u8]) -> LoadError {
    let place = memchr::memrchr(b'"', bytes).unwrap_or(0);
    let line = memchr::memchr_iter(b'\n', &bytes[..place]).count() + 1;
    LoadError::Table {
        table: plan.name.clone(),
        message: format!(
            "a quote is never closed (the last quote of the file is in line {line}); close it, or write \"\" for a quote inside a field"
        ),
    }
}

pub(super) struct BuildingRule {
    pub columns: Vec<ColumnBuilder>,
    pub from: Vec<ColumnBuilder>,
    pub to: Vec<ColumnBuilder>,
    labels: Option<ColumnBuilder>,
    pub offsets: Vec<u64>,
    rejects: Vec<RawReject>,
    rejected: u64,
    skipped: u64,
    /// Values of the row at hand, until all of them are known to be good.
    values: Vec<Value>,
    ends: Vec<Value>,
}

pub(super) struct ChunkRead {
    pub rows: u64,
    /// Node rules, then edge rules.
    pub rules: Vec<BuildingRule>,
}

/// A field as it stands in the row.
pub(super) enum Field<'r> {
    Null,
    Text(&'r str),
    Json(&'r serde_json::Value),
    /// Of a source with types of its own.
    Value(Value),
    /// Not UTF-8.
    Bad,
}

fn builders(count: usize) -> Vec<ColumnBuilder> {
    (0..count).map(|_| ColumnBuilder::with_capacity(1024)).collect()
}

impl ChunkRead {
    pub(super) fn new(plan: &TablePlan) -> ChunkRead {
        let rule = |properties: usize, from: usize, to: usize, labels: bool| BuildingRule {
            columns: builders(properties),
            from: builders(from),
            to: builders(to),
            labels: labels.then(|| ColumnBuilder::with_capacity(1024)),
            offsets: vec![],
            rejects: vec![],
            rejected: 0,
            skipped: 0,
            values: vec![],
            ends: vec![],
        };
        let nodes = plan.nodes.iter().map(|n| rule(n.properties.len(), 0, 0, n.label_from.is_some()));
        let edges = plan
            .edges
            .iter()
            .map(|e| rule(e.properties.len(), e.from.columns.len(), e.to.columns.len(), false));
        ChunkRead { rows: 0, rules: nodes.chain(edges).collect() }
    }

    fn read_csv(
        &mut self, plan: &TablePlan, bytes: &[u8], start: usize, end: usize, progress: &Progress,
    ) -> Result<(), LoadError> {
        if let Some(text) = plain_text(&bytes[start..end]) {
            return self.read_plain(plan, text, start, progress);
        }
        let mut reader = csv::ReaderBuilder::new()
            .has_headers(false)
            .flexible(true)
            .delimiter(plan.delimiter)
            .from_reader(&bytes[start..end]);
        let mut record = csv::ByteRecord::new();
        let failed = |e: csv::Error| LoadError::Table { table: plan.name.clone(), message: e.to_string() };
        let mut counted = 0u64;
        // The usual case, without going through a list for every field.
        let only_empty = matches!(&plan.null[..], [one] if one.is_empty());
        while reader.read_byte_record(&mut record).map_err(failed)? {
            let offset = start as u64 + record.position().map_or(0, |p| p.byte());
            self.rows += 1;
            if self.rows.is_multiple_of(8192) {
                progress.check()?;
                progress.rows_read.fetch_add(self.rows - counted, Ordering::Relaxed);
                counted = self.rows;
            }
            if record.as_slice().len() > MAX_ROW {
                return Err(open_quote(plan, bytes));
            }
            if record.len() != plan.columns.len() {
                let reason =
                    format!("the row has {} fields, the header {}", record.len(), plan.columns.len());
                self.reject_row(offset, &reason);
                continue;
            }
            let is_null =
                |text: &str| if only_empty { text.is_empty() } else { plan.null.iter().any(|n| n == text) };
            let field = |column: usize| match record.get(column).map(std::str::from_utf8) {
                Some(Ok(text)) if is_null(text) => Field::Null,
                Some(Ok(text)) => Field::Text(text),
                Some(Err(_)) => Field::Bad,
                None => Field::Null,
            };
            let raw = |column: usize| record.get(column).map(|b| String::from_utf8_lossy(b).into_owned());
            self.row(plan, offset, &field, &raw);
        }
        progress.rows_read.fetch_add(self.rows - counted, Ordering::Relaxed);
        Ok(())
    }

    fn read_json(
        &mut self, plan: &TablePlan, bytes: &[u8], start: usize, end: usize, progress: &Progress,
    ) -> Result<(), LoadError> {
        let mut at = start;
        while at < end {
            let line_end = memchr::memchr(b'\n', &bytes[at..end]).map_or(end, |i| at + i);
            let line = &bytes[at..line_end];
            let offset = at as u64;
            at = line_end + 1;
            if line.iter().all(u8::is_ascii_whitespace) {
                continue;
            }
            self.rows += 1;
            if self.rows.is_multiple_of(8192) {
                progress.check()?;
            }
            let object = match serde_json::from_slice::<serde_json::Value>(line) {
                Ok(serde_json::Value::Object(object)) => object,
                Ok(_) => {
                    self.reject_row(offset, "the line is not a JSON object");
                    continue;
                }
                Err(error) => {
                    self.reject_row(offset, &format!("the line is not valid JSON: {error}"));
                    continue;
                }
            };
            let value = |column: usize| plan.columns.get(column).and_then(|name| object.get(name));
            let field = |column: usize| match value(column) {
                None | Some(serde_json::Value::Null) => Field::Null,
                Some(serde_json::Value::String(text)) if plan.null.iter().any(|n| n == text) => Field::Null,
                Some(serde_json::Value::String(text)) => Field::Text(text),
                Some(other) => Field::Json(other),
            };
            let raw = |column: usize| {
                value(column).map(|v| match v {
                    serde_json::Value::String(text) => text.clone(),
                    other => other.to_string(),
                })
            };
            self.row(plan, offset, &field, &raw);
        }
        progress.rows_read.fetch_add(self.rows, Ordering::Relaxed);
        Ok(())
    }

    /// No rule can take the row.
    pub(super) fn reject_row(&mut self, offset: u64, reason: &str) {
        for rule in &mut self.rules {
            rule.reject(RawReject { offset, column: None, value: None, reason: reason.into() });
        }
    }

    pub(super) fn row<'r>(
        &mut self, plan: &TablePlan, offset: u64, field: &impl Fn(usize) -> Field<'r>,
        raw: &impl Fn(usize) -> Option<String>,
    ) {
        let (node_rules, edge_rules) = self.rules.split_at_mut(plan.nodes.len());
        for (rule, node) in node_rules.iter_mut().zip(&plan.nodes) {
            rule.node_row(node, offset, field, raw);
        }
        for (rule, edge) in edge_rules.iter_mut().zip(&plan.edges) {
            rule.edge_row(edge, offset, field, raw);
        }
    }
}

impl BuildingRule {
    fn reject(&mut self, reject: RawReject) {
        self.rejected += 1;
        if self.rejects.len() < MAX_KEPT_REJECTS {
            self.rejects.push(reject);
        }
    }

    fn node_row<'r>(
        &mut self, node: &NodePlan, offset: u64, field: &impl Fn(usize) -> Field<'r>,
        raw: &impl Fn(usize) -> Option<String>,
    ) {
        if let Some((_, places)) = &node.key {
            for &place in places {
                let column = node.properties[place].column;
                if matches!(field(column), Field::Null) {
                    if node.optional {
                        self.skipped += 1;
                    } else {
                        let reason = format!("the key {} is empty", node.properties[place].name);
                        self.reject(RawReject { offset, column: Some(column), value: raw(column), reason });
                    }
                    return;
                }
            }
        }
        if let Err((column, reason)) = read_values(&node.properties, field, &mut self.values) {
            return self.reject(RawReject { offset, column: Some(column), value: raw(column), reason });
        }
        if let (Some(column), Some(labels)) = (node.label_from, &mut self.labels) {
            match field(column) {
                Field::Text(text) => labels.push_text(text),
                Field::Null => labels.push_null(),
                _ => {
                    let reason = "a label must be a text".to_string();
                    return self.reject(RawReject {
                        offset,
                        column: Some(column),
                        value: raw(column),
                        reason,
                    });
                }
            }
        }
        self.push(offset);
    }

    fn edge_row<'r>(
        &mut self, edge: &EdgePlan, offset: u64, field: &impl Fn(usize) -> Field<'r>,
        raw: &impl Fn(usize) -> Option<String>,
    ) {
        self.ends.clear();
        for reference in [&edge.from, &edge.to] {
            for (column, value_type) in &reference.columns {
                match read_value(value_type, field(*column)) {
                    Ok(Value::Null) if edge.optional => {
                        self.skipped += 1;
                        return;
                    }
                    Ok(Value::Null) => {
                        let reason = "the reference is empty".to_string();
                        return self.reject(RawReject {
                            offset,
                            column: Some(*column),
                            value: raw(*column),
                            reason,
                        });
                    }
                    Ok(value) => self.ends.push(value),
                    Err(reason) => {
                        return self.reject(RawReject {
                            offset,
                            column: Some(*column),
                            value: raw(*column),
                            reason,
                        });
                    }
                }
            }
        }
        if let Err((column, reason)) = read_values(&edge.properties, field, &mut self.values) {
            return self.reject(RawReject { offset, column: Some(column), value: raw(column), reason });
        }
        for (column, value) in self.from.iter_mut().chain(&mut self.to).zip(self.ends.drain(..)) {
            push(column, value);
        }
        self.push(offset);
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

fn read_values<'r>(
    properties: &[PropertyPlan], field: &impl Fn(usize) -> Field<'r>, values: &mut Vec<Value>,
) -> Result<(), (usize, String)> {
    values.clear();
    for property in properties {
        let mut value = match (property.date_order, field(property.column)) {
            (Some(order), Field::Text(text)) if order.read(text).is_some() => {
                order.read(text).map_or(Value::Null, Value::Date)
            }
            (_, field) => {
                read_value(&property.value_type, field).map_err(|reason| (property.column, reason))?
            }
        };
        if value.is_null()
            && let Some(default) = &property.default
        {
            value = default.clone();
        }
        if value.is_null() && property.not_null {
            return Err((property.column, format!("property {} must not be null", property.name)));
        }
        values.push(value);
    }
    Ok(())
}

fn read_value(wanted: &ValueType, field: Field<'_>) -> Result<Value, String> {
    match field {
        Field::Null => Ok(Value::Null),
        Field::Text(text) => {
            if matches!(wanted, ValueType::Text { .. } | ValueType::Any) && text.contains('\0') {
                return Err("the text has a NUL character".into());
            }
            parse_text(wanted, text).map_err(|reason| format!("not a valid {wanted}: {reason}"))
        }
        Field::Bad => Err("the text is not valid UTF-8".into()),
        Field::Value(value) => typed(wanted, value),
        Field::Json(json) => {
            let value = match json {
                serde_json::Value::Bool(b) => Value::Bool(*b),
                serde_json::Value::Number(n) => match (wanted, n.as_i64(), n.as_f64()) {
                    (ValueType::Decimal { .. }, ..) => {
                        return parse_text(wanted, &n.to_string())
                            .map_err(|reason| format!("not a valid {wanted}: {reason}"));
                    }
                    (_, Some(i), _) => Value::Int(i),
                    (_, None, Some(f)) => Value::Float(f),
                    _ => return Err("the number is out of range".into()),
                },
                _ => return Err(format!("expected {wanted}, found {json}")),
            };
            typed(wanted, value)
        }
    }
}

/// A value that has a type already.
fn typed(wanted: &ValueType, value: Value) -> Result<Value, String> {
    let value = wanted.assign(value);
    if wanted.accepts(&value) {
        Ok(value)
    } else {
        Err(format!("expected {wanted}, found {} {}", value.type_name(), value.excerpt()))
    }
}
