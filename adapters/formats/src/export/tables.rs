//! Tables of nodes and edges: a pair of CSV, Parquet or Arrow IPC files in an archive with the mapping that
//! loads them again, and JSON Lines.

use std::io::Write;
use std::sync::Arc;

use arrow_array::builder::{
    BinaryBuilder, BooleanBuilder, Date32Builder, Decimal128Builder, Float64Builder, Int64Builder,
    ListBuilder, StringBuilder, Time64NanosecondBuilder, TimestampMicrosecondBuilder,
};
use arrow_array::{ArrayRef, RecordBatch};
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use chrono::Timelike;
use graphodrome_graph::{Decimal, Dense, MAX_DIGITS, Properties, Snapshot, Value, ValueKind, ValueType};
use parquet::arrow::ArrowWriter;
use serde_json::{Map, json};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

use crate::export::form::{SEPARATOR, TableForm};
use crate::export::survey::{Seen, Survey};
use crate::export::{Export, ExportError, mapping};
use crate::value_json;

/// Rows of a batch of columns.
const BATCH: usize = 8192;
/// Columns that every table of nodes, and of edges, begins with.
pub(super) const NODE_COLUMNS: [&str; 2] = ["@id", "@labels"];
pub(super) const EDGE_COLUMNS: [&str; 5] = ["@id", "@labels", "@source", "@target", "@directed"];
/// A value as a text that the mapping reads again.
pub(super) fn plain(value: &Value) -> String {
    match value {
        Value::Text(text) => text.to_string(),
        value => match json_of(value) {
            serde_json::Value::String(text) => text,
            other => other.to_string(),
        },
    }
}

fn json_of(value: &Value) -> serde_json::Value {
    thread_local! {
        // Stored values hold no elements: none is ever looked up in it.
        static NOTHING: Option<Snapshot> = Snapshot::empty(None).ok();
    }
    NOTHING.with(|nothing| {
        nothing.as_ref().map_or(serde_json::Value::Null, |nothing| value_json(value, nothing))
    })
}

fn failed(error: impl std::fmt::Display) -> ExportError {
    ExportError::Format(error.to_string())
}

pub(super) fn archive(
    export: &Export<'_>, kind: TableForm, out: &mut (dyn Write + Send),
) -> Result<(), ExportError> {
    let mut zip = ZipWriter::new_stream(out);
    // What it holds is compressed already, or is to be read fast.
    let options = SimpleFileOptions::default().compression_method(CompressionMethod::Stored).large_file(true);
    for is_edges in [false, true] {
        let name = format!("{}.{}", if is_edges { "edges" } else { "nodes" }, kind.suffix());
        zip.start_file(name, options).map_err(failed)?;
        match kind {
            TableForm::Csv => csv(export, is_edges, &mut zip)?,
            _ => columnar(export, is_edges, kind, &mut zip)?,
        }
    }
    zip.start_file("load.toml", options).map_err(failed)?;
    zip.write_all(mapping::text(export, kind).as_bytes())?;
    zip.finish().map_err(failed)?;
    Ok(())
}

/// Every element of the kind asked for, with its own columns' values and its properties.
fn each(
    export: &Export<'_>, is_edges: bool, mut visit: impl FnMut(Own, Properties) -> Result<(), ExportError>,
) -> Result<(), ExportError> {
    let snapshot = export.snapshot;
    let one = |id: Dense| -> (Own, Properties) {
        if is_edges {
            let (from, to) = snapshot.edge_ends(id);
            let ends = Some((snapshot.node_id(from), snapshot.node_id(to), snapshot.edge_directed(id)));
            let labels = snapshot.edge_labels(id).join(SEPARATOR);
            (Own { id: snapshot.edge_id(id), labels, ends }, snapshot.edge_properties(id))
        } else {
            let labels = snapshot.node_labels(id).join(SEPARATOR);
            (Own { id: snapshot.node_id(id), labels, ends: None }, snapshot.node_properties(id))
        }
    };
    let mut both = |id: Dense| {
        let (own, properties) = one(id);
        visit(own, properties)
    };
    if is_edges { export.edges(&mut both) } else { export.nodes(&mut both) }
}

/// What every element has besides properties.
struct Own {
    id: u64,
    labels: String,
    /// Of an edge: source, target, whether it is directed.
    ends: Option<(u64, u64, bool)>,
}

fn columns(export: &Export<'_>, is_edges: bool) -> Vec<(Arc<str>, Seen)> {
    let properties = if is_edges { export.survey.edge_properties() } else { export.survey.node_properties() };
    properties.into_iter().collect()
}

fn csv(export: &Export<'_>, is_edges: bool, out: &mut impl Write) -> Result<(), ExportError> {
    let columns = columns(export, is_edges);
    let null = export.survey.null_word();
    let mut writer = csv::Writer::from_writer(out);
    let fixed: &[&str] = if is_edges { &EDGE_COLUMNS } else { &NODE_COLUMNS };
    writer.write_record(fixed.iter().copied().chain(columns.iter().map(|(n, _)| &**n))).map_err(failed)?;
    each(export, is_edges, |own, properties| {
        let mut record = vec![own.id.to_string(), own.labels];
        if let Some((from, to, directed)) = own.ends {
            record.extend([from.to_string(), to.to_string(), directed.to_string()]);
        }
        record.extend(columns.iter().map(|(name, _)| {
            let value = properties.iter().find(|(n, _)| n == name);
            value.map_or_else(|| null.to_string(), |(_, v)| plain(v))
        }));
        writer.write_record(&record).map_err(failed)
    })?;
    Ok(writer.flush()?)
}

pub(super) fn json_losses(survey: &Survey) -> Vec<String> {
    let mut losses = vec![];
    let plain = [
        ValueKind::Bool,
        ValueKind::Int,
        ValueKind::Float,
        ValueKind::Text,
        ValueKind::List,
        ValueKind::Record,
    ];
    if let Some(names) = survey.named(|seen| seen.kinds.iter().any(|kind| !plain.contains(kind))) {
        losses.push(format!("JSON has no type for them, they are written as texts: {names}"));
    }
    losses
}

pub(super) fn json_lines(export: &Export<'_>, out: &mut dyn Write) -> Result<(), ExportError> {
    for is_edges in [false, true] {
        each(export, is_edges, |own, properties| {
            let labels: Vec<&str> = own.labels.split(SEPARATOR).filter(|l| !l.is_empty()).collect();
            let mut row = Map::new();
            row.insert("@type".into(), json!(if is_edges { "edge" } else { "node" }));
            row.insert("@id".into(), json!(own.id));
            row.insert("@labels".into(), json!(labels));
            if let Some((from, to, directed)) = own.ends {
                row.insert("@source".into(), json!(from));
                row.insert("@target".into(), json!(to));
                row.insert("@directed".into(), json!(directed));
            }
            row.extend(properties.iter().map(|(name, value)| (name.to_string(), json_of(value))));
            serde_json::to_writer(&mut *out, &row).map_err(|e| ExportError::Write(e.into()))?;
            Ok(out.write_all(b"\n")?)
        })?;
    }
    Ok(())
}

/// The Arrow type of a column; Utf8 where values are written as texts.
fn data_type(seen: &Seen) -> DataType {
    match seen.only() {
        Some(ValueKind::Bool) => DataType::Boolean,
        Some(ValueKind::Int) => DataType::Int64,
        Some(ValueKind::Float) => DataType::Float64,
        Some(ValueKind::Decimal) if seen.one_decimal_type() => {
            DataType::Decimal128(MAX_DIGITS as u8, seen.scale as i8)
        }
        Some(ValueKind::Bytes) => DataType::Binary,
        Some(ValueKind::Date) => DataType::Date32,
        Some(ValueKind::LocalTime) => DataType::Time64(TimeUnit::Nanosecond),
        Some(ValueKind::LocalDateTime) => DataType::Timestamp(TimeUnit::Microsecond, None),
        Some(ValueKind::ZonedDateTime) => DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into())),
        Some(ValueKind::List) => {
            let mut items = seen.items.iter();
            let one = items.next().filter(|_| items.next().is_none());
            let item = match one {
                Some(ValueKind::Bool) => DataType::Boolean,
                Some(ValueKind::Int) => DataType::Int64,
                Some(ValueKind::Float) => DataType::Float64,
                Some(ValueKind::Text) => DataType::Utf8,
                _ => return DataType::Utf8,
            };
            DataType::List(Arc::new(Field::new("item", item, true)))
        }
        _ => DataType::Utf8,
    }
}

/// Rows that become a batch.
#[derive(Default)]
struct BatchRows {
    ids: Vec<i64>,
    labels: Vec<String>,
    ends: Vec<(i64, i64, bool)>,
    properties: Vec<Properties>,
}

enum Sink<W: Write + Send> {
    Parquet(Box<ArrowWriter<W>>),
    Arrow(Box<StreamWriter<W>>),
}

fn columnar(
    export: &Export<'_>, is_edges: bool, kind: TableForm, out: &mut (impl Write + Send),
) -> Result<(), ExportError> {
    let columns = columns(export, is_edges);
    let mut fields =
        vec![Field::new("@id", DataType::Int64, false), Field::new("@labels", DataType::Utf8, false)];
    if is_edges {
        fields.push(Field::new("@source", DataType::Int64, false));
        fields.push(Field::new("@target", DataType::Int64, false));
        fields.push(Field::new("@directed", DataType::Boolean, false));
    }
    fields.extend(columns.iter().map(|(name, seen)| Field::new(&**name, data_type(seen), true)));
    let schema = Arc::new(Schema::new(fields));
    let mut sink = match kind {
        TableForm::Parquet => {
            let compression = parquet::basic::Compression::SNAPPY;
            let properties = parquet::file::properties::WriterProperties::builder()
                .set_compression(compression)
                .set_max_row_group_row_count(Some(BATCH * 16))
                .build();
            Sink::Parquet(Box::new(
                ArrowWriter::try_new(out, schema.clone(), Some(properties)).map_err(failed)?,
            ))
        }
        _ => Sink::Arrow(Box::new(StreamWriter::try_new(out, &schema).map_err(failed)?)),
    };
    let mut rows = BatchRows::default();
    let flush = |rows: &mut BatchRows, sink: &mut Sink<_>| -> Result<(), ExportError> {
        let batch = batch(std::mem::take(rows), is_edges, &columns, &schema)?;
        match sink {
            Sink::Parquet(writer) => writer.write(&batch).map_err(failed),
            Sink::Arrow(writer) => writer.write(&batch).map_err(failed),
        }
    };
    each(export, is_edges, |own, properties| {
        rows.ids.push(own.id as i64);
        rows.labels.push(own.labels);
        rows.ends.extend(own.ends.map(|(from, to, directed)| (from as i64, to as i64, directed)));
        rows.properties.push(properties);
        if rows.ids.len() == BATCH { flush(&mut rows, &mut sink) } else { Ok(()) }
    })?;
    if !rows.ids.is_empty() {
        flush(&mut rows, &mut sink)?;
    }
    match sink {
        Sink::Parquet(writer) => writer.close().map(|_| ()).map_err(failed),
        Sink::Arrow(mut writer) => writer.finish().map_err(failed),
    }
}

fn batch(
    rows: BatchRows, is_edges: bool, columns: &[(Arc<str>, Seen)], schema: &Arc<Schema>,
) -> Result<RecordBatch, ExportError> {
    use arrow_array::{BooleanArray, Int64Array, StringArray};
    let mut arrays: Vec<ArrayRef> = vec![
        Arc::new(Int64Array::from(rows.ids)),
        Arc::new(StringArray::from_iter_values(rows.labels.iter())),
    ];
    if is_edges {
        arrays.push(Arc::new(Int64Array::from_iter_values(rows.ends.iter().map(|e| e.0))));
        arrays.push(Arc::new(Int64Array::from_iter_values(rows.ends.iter().map(|e| e.1))));
        arrays.push(Arc::new(BooleanArray::from_iter(rows.ends.iter().map(|e| Some(e.2)))));
    }
    let first = arrays.len();
    for (place, (name, _)) in columns.iter().enumerate() {
        let values: Vec<&Value> = rows
            .properties
            .iter()
            .map(|p| p.iter().find(|(n, _)| n == name).map_or(&Value::Null, |(_, v)| v))
            .collect();
        arrays.push(array(&values, schema.field(first + place))?);
    }
    RecordBatch::try_new(schema.clone(), arrays).map_err(failed)
}

macro_rules! build {
    ($builder:expr, $values:expr, $field:expr, $($pattern:pat => $value:expr),+) => {{
        let mut builder = $builder;
        for value in $values {
            match value {
                Value::Null => builder.append_null(),
                $($pattern => builder.append_value($value),)+
                other => {
                    let name = $field.name();
                    return Err(failed(format!("column {name}: a {} among other values", other.type_name())));
                }
            }
        }
        Ok(Arc::new(builder.finish()))
    }};
}

fn array(values: &[&Value], field: &Field) -> Result<ArrayRef, ExportError> {
    match field.data_type() {
        DataType::Boolean => build!(BooleanBuilder::new(), values, field, Value::Bool(b) => *b),
        DataType::Int64 => build!(Int64Builder::new(), values, field, Value::Int(i) => *i),
        DataType::Float64 => build!(Float64Builder::new(), values, field, Value::Float(f) => *f),
        DataType::Binary => build!(BinaryBuilder::new(), values, field, Value::Bytes(b) => b),
        DataType::Date32 => {
            build!(Date32Builder::new(), values, field, Value::Date(d) => ValueType::epoch_day(*d))
        }
        DataType::Time64(_) => build!(Time64NanosecondBuilder::new(), values, field, Value::LocalTime(t) =>
            i64::from(t.num_seconds_from_midnight()) * 1_000_000_000 + i64::from(t.nanosecond())),
        DataType::Timestamp(_, zone) => {
            let builder = TimestampMicrosecondBuilder::new().with_timezone_opt(zone.clone());
            build!(builder, values, field,
                Value::LocalDateTime(t) => t.and_utc().timestamp_micros(),
                Value::ZonedDateTime(t) => t.timestamp_micros())
        }
        DataType::Decimal128(precision, scale) => {
            let builder =
                Decimal128Builder::new().with_precision_and_scale(*precision, *scale).map_err(failed)?;
            let scale = *scale as u32;
            // The survey chose a scale that all values have room for.
            let unscaled = |d: &Decimal| d.rescale(scale).unwrap_or(*d).coefficient();
            build!(builder, values, field, Value::Decimal(d) => unscaled(d))
        }
        DataType::List(item) => lists(values, item.data_type()),
        _ => {
            let mut builder = StringBuilder::new();
            for value in values {
                match value {
                    Value::Null => builder.append_null(),
                    value => builder.append_value(plain(value)),
                }
            }
            Ok(Arc::new(builder.finish()))
        }
    }
}

fn lists(values: &[&Value], item: &DataType) -> Result<ArrayRef, ExportError> {
    macro_rules! list_of {
        ($builder:expr, $pattern:pat => $value:expr) => {{
            let mut builder = ListBuilder::new($builder);
            for value in values {
                let Value::List(items) = value else {
                    builder.append_null();
                    continue;
                };
                for item in items.iter() {
                    match item {
                        $pattern => builder.values().append_value($value),
                        _ => builder.values().append_null(),
                    }
                }
                builder.append(true);
            }
            Ok(Arc::new(builder.finish()))
        }};
    }
    match item {
        DataType::Boolean => list_of!(BooleanBuilder::new(), Value::Bool(b) => *b),
        DataType::Int64 => list_of!(Int64Builder::new(), Value::Int(i) => *i),
        DataType::Float64 => list_of!(Float64Builder::new(), Value::Float(f) => *f),
        _ => list_of!(StringBuilder::new(), Value::Text(t) => &**t),
    }
}
