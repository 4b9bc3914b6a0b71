//! Plans are made here, before a row is read: every column, property and key that a mapping names must exist.

use std::collections::{BTreeMap, HashSet};
use std::sync::{Arc, OnceLock};

use graphodrome_graph::{Snapshot, ValueType, label_set};

use crate::load::plan::*;
use crate::load::rules::{declared_nodes, edge_plan, node_plan};
use crate::load::sources::{Opened, Source, open, table_error};
use crate::load::{LoadError, Progress, columnar};
use crate::mapping::{
    Existing, Mapping, Missing, Reference, RejectLimit, TableFormat, TableMapping, fits_pattern,
};

/// The tables of a mapping with their sources: each file that fits a pattern is a table of its own.
fn tables<'m>(
    mapping: &'m Mapping, sources: &'m BTreeMap<String, Arc<Source>>,
) -> Result<Vec<NamedTable<'m>>, LoadError> {
    let mut found = vec![];
    for table in &mapping.tables {
        if table.is_pattern() {
            let fitting = sources.iter().filter(|(name, _)| fits_pattern(name, &table.file));
            let before = found.len();
            found.extend(fitting.map(|(name, source)| (table, name.as_str(), source)));
            if found.len() == before {
                return Err(table_error(&table.file, "no file has a name that fits"));
            }
            continue;
        }
        let source = sources.get(&table.file);
        let source = source.ok_or_else(|| table_error(&table.file, "the file was not given"))?;
        found.push((table, table.file.as_str(), source));
    }
    Ok(found)
}

pub(crate) fn plan(
    mapping: &Mapping, sources: &BTreeMap<String, Arc<Source>>, snapshot: &Snapshot, limit: u64,
    progress: &Progress,
) -> Result<Vec<TablePlan>, LoadError> {
    if let Some(RejectLimit::Share(share)) = mapping.reject_limit
        && !(0.0..=1.0).contains(&share)
    {
        return Err(mapping_error(format!("the reject limit {share} is no share")));
    }
    let mut plans = vec![];
    for (table, name, source) in tables(mapping, sources)? {
        let opened = open(table, name, source, limit, progress)?;
        plans.push(table_plan(mapping, table, name, opened, snapshot, limit)?);
    }
    Ok(plans)
}

fn ascii(table: &str, what: &str, given: Option<char>, usual: u8) -> Result<u8, LoadError> {
    match given {
        None => Ok(usual),
        Some(c) if c.is_ascii() && !matches!(c, '\n' | '\r') => Ok(c as u8),
        Some(c) => Err(mapping_error(format!("table {table}: the {what} {c:?} is not an ASCII character"))),
    }
}

fn table_plan(
    mapping: &Mapping, table: &TableMapping, name: &str, opened: Opened, snapshot: &Snapshot, limit: u64,
) -> Result<TablePlan, LoadError> {
    let Opened { format, source, coding, head } = opened;
    let delimiter =
        ascii(name, "delimiter", table.delimiter, if format == TableFormat::Tsv { b'\t' } else { b',' })?;
    let quote = ascii(name, "quote", table.quote, b'"')?;
    let (names, body) = match format {
        TableFormat::Jsonl => (vec![], 0),
        TableFormat::Parquet | TableFormat::Arrow => (columnar::columns(name, format, &source)?, 0),
        _ if coding.is_plain() => header(name, source.bytes(), delimiter, quote)?,
        _ => header(name, &head, delimiter, quote)?,
    };
    let null = match (&table.null, &table.query) {
        (Some(own), _) => own.clone(),
        // What rows of a database are written with: no text is taken for null.
        (None, Some(_)) => vec![DATABASE_NULL.into()],
        // JSON has a null of its own: an empty text is one.
        (None, None) if format == TableFormat::Jsonl => {
            mapping.null.iter().filter(|word| !word.is_empty()).cloned().collect()
        }
        (None, None) => mapping.null.clone(),
    };
    let mut plan = TablePlan {
        name: name.to_string(),
        source,
        coding,
        text: OnceLock::new(),
        limit,
        format,
        delimiter,
        quote,
        quoted_null: table.quoted_null.unwrap_or(true),
        null,
        columns: vec![],
        body,
        filter: None,
        nodes: vec![],
        edges: vec![],
    };
    let untyped = if plan.is_typed() { ValueType::Any } else { ValueType::TEXT };
    let mut columns = Columns { table: name, names, open: format == TableFormat::Jsonl };
    plan.filter = columns.filter(table.filter.as_ref())?;
    for rule in &table.nodes {
        plan.nodes.push(node_plan(rule, snapshot, &mut columns, &untyped)?);
    }
    for (place, rule) in table.edges.iter().enumerate() {
        let mut edge = edge_plan(rule, mapping, snapshot, &mut columns, &untyped)?;
        for (side, given) in [(&mut edge.from, &rule.source), (&mut edge.to, &rule.target)] {
            if given.missing == Missing::Create {
                side.create = Some(plan.nodes.len());
                plan.nodes.push(created_plan(name, &edge.shown, place, given, side, snapshot)?);
            }
        }
        plan.edges.push(edge);
    }
    plan.columns = columns.names;
    let of_nodes = plan.nodes.iter_mut().flat_map(|n| &mut n.properties);
    let of_edges = plan.edges.iter_mut().flat_map(|e| &mut e.properties);
    of_nodes
        .chain(of_edges)
        .filter(|p| p.value_type == ValueType::Date)
        .for_each(|p| p.date_order = table.date_order);
    Ok(plan)
}

/// The rule of the nodes that a reference makes where they are missing.
fn created_plan(
    table: &str, edge: &str, place: usize, given: &Reference, side: &ReferencePlan, snapshot: &Snapshot,
) -> Result<NodePlan, LoadError> {
    let space = side.spaces[0].clone();
    if space.is_ids() {
        return Err(mapping_error(format!(
            "table {table}, {edge}: a node cannot be created from an id alone; give the reference labels and a key"
        )));
    }
    let labels = label_set([&*space.label]);
    let shown = format!("(:{}) for {edge}", space.label);
    let declared = declared_nodes(snapshot, &labels);
    let mut properties = vec![];
    for (name, (_, value_type)) in given.key.keys().zip(&side.columns) {
        properties.push(PropertyPlan {
            name: name.as_str().into(),
            input: Input::Nothing,
            value_type: value_type.clone(),
            not_null: true,
            default: None,
            date_order: None,
        });
    }
    for missing in declared.iter().flatten().filter(|p| !given.key.contains_key(&*p.name)) {
        match &missing.default {
            Some(default) => properties.push(PropertyPlan {
                name: missing.name.clone(),
                input: Input::Nothing,
                value_type: missing.value_type.clone(),
                not_null: missing.not_null,
                default: Some(default.clone()),
                date_order: None,
            }),
            None if missing.not_null => {
                return Err(mapping_error(format!(
                    "table {table}, {shown}: such a node cannot be created from its key alone: {} must not be null",
                    missing.name
                )));
            }
            None => {}
        }
    }
    Ok(NodePlan {
        shown,
        labels,
        label_from: None,
        key: Some((space, (0..side.columns.len()).collect())),
        properties,
        has_id: false,
        existing: Existing::Keep,
        optional: false,
        filter: None,
        created_by: Some(place),
    })
}

/// The columns of a CSV table, and where its rows begin.
pub(crate) fn header(
    table: &str, bytes: &[u8], delimiter: u8, quote: u8,
) -> Result<(Vec<String>, usize), LoadError> {
    let failed = |message: &str| LoadError::Table { table: table.into(), message: message.into() };
    let start = if bytes.starts_with(b"\xEF\xBB\xBF") { 3 } else { 0 };
    let mut reader = csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .delimiter(delimiter)
        .quote(quote)
        .from_reader(&bytes[start..]);
    let mut record = csv::StringRecord::new();
    let found =
        reader.read_record(&mut record).map_err(|e| failed(&format!("the header cannot be read: {e}")))?;
    if !found {
        return Err(failed("the file is empty; it needs a header line"));
    }
    // A column without a name is called by its place: "column 1".
    let name = |(place, name): (usize, &str)| match name.trim() {
        "" => unnamed(place),
        name => name.to_string(),
    };
    let columns: Vec<String> = record.iter().enumerate().map(name).collect();
    let mut known = HashSet::new();
    for column in &columns {
        if column.contains('\0') {
            let shown = column.replace('\0', "\\u0000");
            return Err(failed(&format!("the header has the character U+0000 in the column {shown}")));
        }
        if !known.insert(column) {
            return Err(failed(&format!("the header has the column {column} twice")));
        }
    }
    Ok((columns, start + reader.position().byte() as usize))
}

/// A table's mapping, the name of its file, and that file.
type NamedTable<'m> = (&'m TableMapping, &'m str, &'m Arc<Source>);
