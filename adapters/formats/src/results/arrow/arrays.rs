//! Converts values to Arrow arrays of their columns' types. A value that does not fit is an error, never coerced.

use std::sync::Arc;

use arrow_array::types::Int64Type;
use arrow_array::{
    ArrayRef, BinaryArray, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array,
    ListArray, PrimitiveArray, StringArray, StructArray, Time64NanosecondArray, TimestampNanosecondArray,
};
use arrow_buffer::{NullBuffer, OffsetBuffer};
use arrow_schema::DataType;
use chrono::Timelike;
use graphodrome_graph::{Snapshot, Value, ValueType};

use crate::results::arrow::shape::{ArrowShape, DECIMAL_DIGITS, list_field, properties};
use crate::results::json::value_json;

/// What the fields of a struct are, by name.
type StructFields = [(Arc<str>, ArrowShape)];

/// Each value as `take` has it; an error for one that it does not take.
fn each<T>(values: &[Value], take: impl Fn(&Value) -> Option<T>) -> Result<Vec<Option<T>>, String> {
    values
        .iter()
        .map(|value| match value {
            Value::Null => Ok(None),
            value => match take(value) {
                Some(taken) => Ok(Some(taken)),
                None => Err(format!("has a {} {} further on", value.type_name(), value.excerpt())),
            },
        })
        .collect()
}

macro_rules! taken {
    ($values:expr, $($pattern:pat => $value:expr),+ $(,)?) => {
        each($values, |value| match value { $($pattern => $value,)+ _ => None })?
    };
}

fn texts(values: Vec<Option<String>>) -> ArrayRef {
    Arc::new(StringArray::from(values))
}

fn nulls(values: &[Value]) -> Option<NullBuffer> {
    values.iter().any(Value::is_null).then(|| NullBuffer::from_iter(values.iter().map(|v| !v.is_null())))
}

fn structure(values: &[Value], shape: &ArrowShape, arrays: Vec<ArrayRef>) -> Result<ArrayRef, String> {
    let DataType::Struct(fields) = shape.data_type() else { return Err("is no struct".into()) };
    let made = StructArray::try_new(fields, arrays, nulls(values)).map_err(|e| e.to_string())?;
    Ok(Arc::new(made))
}

/// Lists out of what each value has.
fn lists(
    values: &[Value], items: impl Fn(&Value) -> Vec<Value>, item: &ArrowShape, snapshot: &Snapshot,
) -> Result<ArrayRef, String> {
    let each: Vec<Vec<Value>> = values.iter().map(&items).collect();
    let offsets = OffsetBuffer::from_lengths(each.iter().map(Vec::len));
    let all: Vec<Value> = each.into_iter().flatten().collect();
    let inner = array(&all, item, snapshot)?;
    let made = ListArray::try_new(list_field(item.data_type()), offsets, inner, nulls(values));
    Ok(Arc::new(made.map_err(|e| e.to_string())?))
}

/// A struct of properties or of a record's fields.
fn record(
    values: &[Value], fields: &StructFields, of: impl Fn(&Value) -> Vec<(Arc<str>, Value)>,
    snapshot: &Snapshot,
) -> Result<ArrayRef, String> {
    let rows: Vec<Vec<(Arc<str>, Value)>> = values.iter().map(of).collect();
    let shape = ArrowShape::Record(fields.to_vec());
    if fields.is_empty() {
        return structure(values, &shape, vec![texts(vec![None; values.len()])]);
    }
    let mut arrays = vec![];
    for (name, field) in fields {
        let column: Vec<Value> = rows
            .iter()
            .map(|row| row.iter().find(|(n, _)| n == name).map_or(Value::Null, |(_, v)| v.clone()))
            .collect();
        arrays.push(array(&column, field, snapshot).map_err(|reason| format!("in {name} {reason}"))?);
    }
    structure(values, &shape, arrays)
}

/// Properties of an element that no element of the first batch had, as JSON.
fn others(values: &[Value], fields: &StructFields, snapshot: &Snapshot) -> ArrayRef {
    let of = |value: &Value| {
        let more: serde_json::Map<String, serde_json::Value> = properties(value, snapshot)
            .into_iter()
            .filter(|(name, _)| !fields.iter().any(|(known, _)| known == name))
            .map(|(name, v)| (name.to_string(), value_json(&v, snapshot)))
            .collect();
        (!more.is_empty()).then(|| serde_json::Value::Object(more).to_string())
    };
    texts(values.iter().map(of).collect())
}

fn nanoseconds(time: chrono::NaiveTime) -> i64 {
    time.num_seconds_from_midnight() as i64 * 1_000_000_000 + time.nanosecond() as i64
}

/// The values of a column as an array of its type.
pub(super) fn array(values: &[Value], shape: &ArrowShape, snapshot: &Snapshot) -> Result<ArrayRef, String> {
    Ok(match shape {
        ArrowShape::Bool => Arc::new(BooleanArray::from(taken!(values, Value::Bool(b) => Some(*b)))),
        ArrowShape::Int => Arc::new(Int64Array::from(taken!(values, Value::Int(i) => Some(*i)))),
        ArrowShape::Float => Arc::new(Float64Array::from(
            taken!(values, Value::Float(f) => Some(*f), Value::Int(i) => Some(*i as f64)),
        )),
        ArrowShape::Decimal(scale) => {
            let wanted = *scale as u32;
            let scaled = |d: graphodrome_graph::Decimal| {
                wanted.checked_sub(d.scale())?;
                d.rescale(wanted).map(|d| d.coefficient())
            };
            let all = taken!(values, Value::Decimal(d) => scaled(*d), Value::Int(i) => scaled((*i).into()));
            let made = Decimal128Array::from(all).with_precision_and_scale(DECIMAL_DIGITS, *scale);
            Arc::new(made.map_err(|e| e.to_string())?)
        }
        ArrowShape::Text => texts(taken!(values, Value::Text(t) => Some(t.to_string()))),
        ArrowShape::Bytes => {
            let all = taken!(values, Value::Bytes(b) => Some(b.to_vec()));
            Arc::new(BinaryArray::from_iter(all))
        }
        ArrowShape::Date => {
            Arc::new(Date32Array::from(taken!(values, Value::Date(d) => Some(ValueType::epoch_day(*d)))))
        }
        ArrowShape::LocalTime => Arc::new(Time64NanosecondArray::from(
            taken!(values, Value::LocalTime(t) => Some(nanoseconds(*t))),
        )),
        ArrowShape::ZonedTime => zoned_times(values, shape)?,
        ArrowShape::LocalDateTime => Arc::new(TimestampNanosecondArray::from(
            taken!(values, Value::LocalDateTime(t) => t.and_utc().timestamp_nanos_opt()),
        )),
        ArrowShape::ZonedDateTime => {
            let all = taken!(values, Value::ZonedDateTime(t) => t.timestamp_nanos_opt());
            Arc::new(TimestampNanosecondArray::from(all).with_timezone("UTC"))
        }
        ArrowShape::Duration => durations(values, shape)?,
        ArrowShape::List(item) => {
            taken!(values, Value::List(_) => Some(()));
            let items = |value: &Value| match value {
                Value::List(items) => items.to_vec(),
                _ => vec![],
            };
            lists(values, items, item, snapshot)?
        }
        ArrowShape::Record(fields) => records(values, fields, snapshot)?,
        ArrowShape::Node(fields) => nodes(values, shape, fields, snapshot)?,
        ArrowShape::Edge(fields) => edges(values, shape, fields, snapshot)?,
        ArrowShape::Path(nodes, edges) => paths(values, shape, (nodes, edges), snapshot)?,
        ArrowShape::Unknown | ArrowShape::Mixed => {
            let text = |value: &Value| match value_json(value, snapshot) {
                serde_json::Value::String(text) => Some(text),
                json => Some(json.to_string()),
            };
            texts(each(values, text)?)
        }
    })
}

fn zoned_times(values: &[Value], shape: &ArrowShape) -> Result<ArrayRef, String> {
    let times = taken!(values, Value::ZonedTime(t, _) => Some(nanoseconds(*t)));
    let offsets = taken!(values, Value::ZonedTime(_, z) => Some(*z));
    let arrays: Vec<ArrayRef> =
        vec![Arc::new(Time64NanosecondArray::from(times)), Arc::new(Int32Array::from(offsets))];
    structure(values, shape, arrays)
}

fn durations(values: &[Value], shape: &ArrowShape) -> Result<ArrayRef, String> {
    let months = taken!(values, Value::Duration(d) => Some(d.months));
    let exact = taken!(values, Value::Duration(d) => Some(d.nanoseconds));
    let arrays: Vec<ArrayRef> =
        vec![Arc::new(Int32Array::from(months)), Arc::new(PrimitiveArray::<Int64Type>::from(exact))];
    structure(values, shape, arrays)
}

fn records(values: &[Value], fields: &StructFields, snapshot: &Snapshot) -> Result<ArrayRef, String> {
    for value in values {
        if let Value::Record(record) = value
            && let Some((name, _)) = record.iter().find(|(n, _)| !fields.iter().any(|(f, _)| f == n))
        {
            return Err(format!("has a record with another field, {name}, further on"));
        }
    }
    taken!(values, Value::Record(_) => Some(()));
    let of = |value: &Value| match value {
        Value::Record(record) => record.to_vec(),
        _ => vec![],
    };
    record(values, fields, of, snapshot)
}

fn nodes(
    values: &[Value], shape: &ArrowShape, fields: &StructFields, snapshot: &Snapshot,
) -> Result<ArrayRef, String> {
    let ids = taken!(values, Value::Node(n) => Some(format!("n{}", snapshot.node_id(*n))));
    let labels = |value: &Value| match value {
        Value::Node(n) => snapshot.node_labels(*n).iter().map(|l| Value::Text(l.clone())).collect(),
        _ => vec![],
    };
    let arrays = vec![
        texts(ids),
        lists(values, labels, &ArrowShape::Text, snapshot)?,
        record(values, fields, |v| properties(v, snapshot), snapshot)?,
        others(values, fields, snapshot),
    ];
    structure(values, shape, arrays)
}

fn edges(
    values: &[Value], shape: &ArrowShape, fields: &StructFields, snapshot: &Snapshot,
) -> Result<ArrayRef, String> {
    let ids = taken!(values, Value::Edge(e) => Some(format!("e{}", snapshot.edge_id(*e))));
    let directed = taken!(values, Value::Edge(e) => Some(snapshot.edge_directed(*e)));
    let end = |e: u32, target: bool| {
        let (a, b) = snapshot.edge_ends(e);
        format!("n{}", snapshot.node_id(if target { b } else { a }))
    };
    let sources = taken!(values, Value::Edge(e) => Some(end(*e, false)));
    let targets = taken!(values, Value::Edge(e) => Some(end(*e, true)));
    let labels = |value: &Value| match value {
        Value::Edge(e) => snapshot.edge_labels(*e).iter().map(|l| Value::Text(l.clone())).collect(),
        _ => vec![],
    };
    let arrays = vec![
        texts(ids),
        lists(values, labels, &ArrowShape::Text, snapshot)?,
        Arc::new(BooleanArray::from(directed)),
        texts(sources),
        texts(targets),
        record(values, fields, |v| properties(v, snapshot), snapshot)?,
        others(values, fields, snapshot),
    ];
    structure(values, shape, arrays)
}

fn paths(
    values: &[Value], shape: &ArrowShape, (nodes, edges): (&StructFields, &StructFields), snapshot: &Snapshot,
) -> Result<ArrayRef, String> {
    taken!(values, Value::Path(_) => Some(()));
    let of_nodes = |value: &Value| match value {
        Value::Path(p) => p.nodes.iter().map(|n| Value::Node(*n)).collect(),
        _ => vec![],
    };
    let of_edges = |value: &Value| match value {
        Value::Path(p) => p.edges.iter().map(|e| Value::Edge(*e)).collect(),
        _ => vec![],
    };
    let arrays = vec![
        lists(values, of_nodes, &ArrowShape::Node(nodes.to_vec()), snapshot)?,
        lists(values, of_edges, &ArrowShape::Edge(edges.to_vec()), snapshot)?,
    ];
    structure(values, shape, arrays)
}
