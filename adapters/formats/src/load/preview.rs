//! The first rows of a load as the elements they would become, before anything is loaded.

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_graph::{Snapshot, Value};
use serde::Serialize;

use crate::load::plan::{ReferencePlan, TablePlan};
use crate::load::planning::plan;
use crate::load::read::read_table;
use crate::load::resolved::labels_of;
use crate::load::rows::{RawReject, RuleChunk, TableRead};
use crate::load::sources::Source;
use crate::load::{LoadError, LoadMemory, Progress};
use crate::mapping::Mapping;
use crate::value_json;

/// Bytes of each source that a preview looks at.
const LOOKED_AT: usize = 256 << 10;

/// One element that a row would become.
#[derive(Clone, Debug, Serialize)]
pub struct PreviewElement {
    /// node or edge.
    pub kind: &'static str,
    pub labels: Vec<String>,
    pub properties: serde_json::Map<String, serde_json::Value>,
    /// Of an edge: how it names its ends.
    pub source: Option<String>,
    pub target: Option<String>,
}

/// A row with what becomes of it.
#[derive(Clone, Debug, Default, Serialize)]
pub struct PreviewRow {
    /// The row's number within its table, from 1.
    pub row: u64,
    pub elements: Vec<PreviewElement>,
    /// Why rules cannot take it.
    pub rejects: Vec<String>,
}

#[derive(Clone, Debug, Serialize)]
pub struct Preview {
    pub table: String,
    pub columns: Vec<String>,
    pub rows: Vec<PreviewRow>,
}

/// Reads the first rows of each source. Keys are not resolved: whether a node already exists, a load
/// says.
pub fn preview(
    mapping: &Mapping, sources: &BTreeMap<String, Arc<Source>>, snapshot: &Snapshot, limit: u64, rows: usize,
    memory: &Arc<LoadMemory>,
) -> Result<Vec<Preview>, LoadError> {
    let progress = Progress::within(memory.clone()).looking(LOOKED_AT as u64);
    let short: BTreeMap<String, Arc<Source>> =
        sources.iter().map(|(name, source)| (name.clone(), beginning(name, source))).collect();
    let plans = plan(mapping, &short, snapshot, limit, &progress)?;
    plans
        .iter()
        .map(|plan| {
            let read = read_table(plan, &progress)?;
            Ok(Preview {
                table: plan.name.clone(),
                columns: plan.columns.clone(),
                rows: first_rows(plan, &read, rows),
            })
        })
        .collect()
}

/// The first rows of a plain text file; others are taken whole.
fn beginning(name: &str, source: &Arc<Source>) -> Arc<Source> {
    let bytes = source.bytes();
    let lower = name.to_ascii_lowercase();
    let is_rows = [".csv", ".tsv", ".tab", ".jsonl", ".ndjson"].iter().any(|s| lower.ends_with(s));
    if !is_rows || bytes.len() <= LOOKED_AT {
        return source.clone();
    }
    let quotes = |end: usize| memchr::memchr_iter(b'"', &bytes[..end]).count();
    let mut end = LOOKED_AT;
    // Up to a line end before which quotes pair up; the whole file where there is none.
    while let Some(at) = memchr::memrchr(b'\n', &bytes[..end]) {
        if quotes(at).is_multiple_of(2) {
            return Arc::new(Source::Bytes(bytes[..at + 1].to_vec()));
        }
        end = at;
    }
    source.clone()
}

fn first_rows(plan: &TablePlan, read: &TableRead, most: usize) -> Vec<PreviewRow> {
    let mut by_offset: BTreeMap<u64, PreviewRow> = BTreeMap::new();
    let rejects = read.nodes.iter().chain(&read.edges).flat_map(|r| &r.rejects);
    for RawReject { offset, column, reason, value, .. } in rejects {
        let column = column.and_then(|c| plan.columns.get(c)).map(|c| format!("{c}: ")).unwrap_or_default();
        let value = value.as_ref().filter(|v| !v.is_empty()).map(|v| format!(" ({v})")).unwrap_or_default();
        by_offset.entry(*offset).or_default().rejects.push(format!("{column}{reason}{value}"));
    }
    for (rule, read) in plan.nodes.iter().zip(&read.nodes).filter(|(r, _)| r.created_by.is_none()) {
        each_row(&read.chunks, most, |chunk, row| {
            let own = chunk.labels.as_ref().and_then(|c| c.text(row));
            let names = rule.properties.iter().filter(|p| !p.is_id()).map(|p| &p.name);
            by_offset.entry(chunk.offsets.at(row)).or_default().elements.push(PreviewElement {
                kind: "node",
                labels: strings(&labels_of(&rule.labels, rule.label_from.as_ref(), own)),
                properties: properties(names, chunk, row),
                source: None,
                target: None,
            });
        });
    }
    for (rule, read) in plan.edges.iter().zip(&read.edges) {
        each_row(&read.chunks, most, |chunk, row| {
            let own = chunk.labels.as_ref().and_then(|c| c.text(row));
            by_offset.entry(chunk.offsets.at(row)).or_default().elements.push(PreviewElement {
                kind: "edge",
                labels: strings(&labels_of(&rule.label, rule.label_from.as_ref(), own)),
                properties: properties(rule.properties.iter().map(|p| &p.name), chunk, row),
                source: Some(end(&rule.from, chunk, true, row)),
                target: Some(end(&rule.to, chunk, false, row)),
            });
        });
    }
    let mut rows: Vec<PreviewRow> = by_offset.into_values().take(most).collect();
    rows.iter_mut().zip(1..).for_each(|(row, number)| row.row = number);
    rows
}

fn each_row(chunks: &[RuleChunk], most: usize, mut visit: impl FnMut(&RuleChunk, usize)) {
    for chunk in chunks.iter().take(1) {
        (0..chunk.offsets.len().min(most)).for_each(|row| visit(chunk, row));
    }
}

fn strings(labels: &graphodrome_graph::LabelSet) -> Vec<String> {
    labels.iter().map(|l| l.to_string()).collect()
}

fn properties<'n>(
    names: impl Iterator<Item = &'n Arc<str>>, chunk: &RuleChunk, row: usize,
) -> serde_json::Map<String, serde_json::Value> {
    let values = names.zip(&chunk.columns).map(|(name, column)| (name.to_string(), column.value(row)));
    values.filter(|(_, v)| !v.is_null()).map(|(name, v)| (name, plain_json(&v))).collect()
}

fn plain_json(value: &Value) -> serde_json::Value {
    value_json(value, &Snapshot::empty(None).unwrap_or_else(|_| unreachable!("an empty graph is valid")))
}

fn end(reference: &ReferencePlan, chunk: &RuleChunk, is_from: bool, row: usize) -> String {
    let columns = if is_from { &chunk.from } else { &chunk.to };
    let values = columns.iter().map(|c| c.value(row).excerpt());
    if reference.spaces[0].is_ids() {
        return format!("id {}", values.collect::<Vec<_>>().join(", "));
    }
    let labels: Vec<&str> = reference.spaces.iter().map(|s| &*s.label).collect();
    let pairs = reference.spaces[0].properties.iter().zip(values).map(|(p, v)| format!("{p}: {v}"));
    format!("(:{} {{{}}})", labels.join("|"), pairs.collect::<Vec<_>>().join(", "))
}
