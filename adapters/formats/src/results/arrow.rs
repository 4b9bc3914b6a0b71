//! Results as an Arrow IPC stream with Arrow's own types: nodes, edges and paths are structs, lists are
//! lists. A column's type is taken from the first batch; where a later value does not fit, the result is
//! refused with the column named, never coerced. Values of several kinds in one column are JSON texts.

use std::sync::Arc;

use arrow_array::types::Int64Type;
use arrow_array::{
    ArrayRef, BinaryArray, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array,
    ListArray, PrimitiveArray, RecordBatch, StringArray, StructArray, Time64NanosecondArray,
    TimestampNanosecondArray,
};
use arrow_buffer::{NullBuffer, OffsetBuffer};
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{DataType, Field, Fields, Schema, TimeUnit};
use chrono::Timelike;
use graphodrome_engine::{Batch, ColumnInfo};
use graphodrome_graph::{Snapshot, Value, ValueType};

use crate::results::json::value_json;

/// Digits that a decimal column holds.
const DECIMAL_DIGITS: u8 = 38;

pub(crate) struct ArrowWriter {
    schema: Arc<Schema>,
    shapes: Vec<Shape>,
    writer: Option<StreamWriter<Vec<u8>>>,
    failed: Option<String>,
}

/// What the values of a column are.
#[derive(Clone, Debug, PartialEq)]
enum Shape {
    /// Only nulls so far.
    Unknown,
    Bool,
    Int,
    Float,
    Decimal(i8),
    Text,
    Bytes,
    Date,
    LocalTime,
    ZonedTime,
    LocalDateTime,
    ZonedDateTime,
    Duration,
    List(Box<Shape>),
    Record(Vec<(Arc<str>, Shape)>),
    Node(Vec<(Arc<str>, Shape)>),
    Edge(Vec<(Arc<str>, Shape)>),
    Path(Vec<(Arc<str>, Shape)>, Vec<(Arc<str>, Shape)>),
    /// Of several kinds: as JSON.
    Mixed,
}

fn properties(value: &Value, snapshot: &Snapshot) -> Vec<(Arc<str>, Value)> {
    match value {
        Value::Node(n) => snapshot.node_properties(*n).to_vec(),
        Value::Edge(e) => snapshot.edge_properties(*e).to_vec(),
        _ => vec![],
    }
}

impl Shape {
    fn of(value: &Value, snapshot: &Snapshot) -> Shape {
        let fields = |fields: &[(Arc<str>, Value)]| {
            fields.iter().map(|(name, v)| (name.clone(), Shape::of(v, snapshot))).collect()
        };
        match value {
            Value::Null => Shape::Unknown,
            Value::Bool(_) => Shape::Bool,
            Value::Int(_) => Shape::Int,
            Value::Float(_) => Shape::Float,
            Value::Decimal(d) => Shape::Decimal(d.scale() as i8),
            Value::Text(_) => Shape::Text,
            Value::Bytes(_) => Shape::Bytes,
            Value::Date(_) => Shape::Date,
            Value::LocalTime(_) => Shape::LocalTime,
            Value::ZonedTime(..) => Shape::ZonedTime,
            Value::LocalDateTime(_) => Shape::LocalDateTime,
            Value::ZonedDateTime(_) => Shape::ZonedDateTime,
            Value::Duration(_) => Shape::Duration,
            Value::List(items) => Shape::List(Box::new(Shape::of_all(items.iter(), snapshot))),
            Value::Record(record) => Shape::Record(fields(record)),
            Value::Node(_) => Shape::Node(fields(&properties(value, snapshot))),
            Value::Edge(_) => Shape::Edge(fields(&properties(value, snapshot))),
            Value::Path(path) => {
                let nodes: Vec<Value> = path.nodes.iter().map(|n| Value::Node(*n)).collect();
                let edges: Vec<Value> = path.edges.iter().map(|e| Value::Edge(*e)).collect();
                let of = |values: &[Value]| match Shape::of_all(values.iter(), snapshot) {
                    Shape::Node(fields) | Shape::Edge(fields) => fields,
                    _ => vec![],
                };
                Shape::Path(of(&nodes), of(&edges))
            }
        }
    }

    fn of_all<'v>(values: impl Iterator<Item = &'v Value>, snapshot: &Snapshot) -> Shape {
        values.fold(Shape::Unknown, |shape, value| shape.with(Shape::of(value, snapshot)))
    }

    /// What holds values of both.
    fn with(self, other: Shape) -> Shape {
        use Shape::*;
        match (self, other) {
            (a, b) if a == b => a,
            (Unknown, other) | (other, Unknown) => other,
            (Int, Float) | (Float, Int) => Float,
            (Decimal(a), Decimal(b)) => Decimal(a.max(b)),
            (Int, Decimal(scale)) | (Decimal(scale), Int) => Decimal(scale),
            (List(a), List(b)) => List(Box::new(a.with(*b))),
            (Record(a), Record(b)) => Record(joined(a, b)),
            (Node(a), Node(b)) => Node(joined(a, b)),
            (Edge(a), Edge(b)) => Edge(joined(a, b)),
            (Path(a, b), Path(c, d)) => Path(joined(a, c), joined(b, d)),
            _ => Mixed,
        }
    }

    fn data_type(&self) -> DataType {
        match self {
            Shape::Unknown | Shape::Text | Shape::Mixed => DataType::Utf8,
            Shape::Bool => DataType::Boolean,
            Shape::Int => DataType::Int64,
            Shape::Float => DataType::Float64,
            Shape::Decimal(scale) => DataType::Decimal128(DECIMAL_DIGITS, *scale),
            Shape::Bytes => DataType::Binary,
            Shape::Date => DataType::Date32,
            Shape::LocalTime => DataType::Time64(TimeUnit::Nanosecond),
            Shape::ZonedTime => DataType::Struct(struct_fields(&[
                ("time", DataType::Time64(TimeUnit::Nanosecond)),
                ("offset_seconds", DataType::Int32),
            ])),
            Shape::LocalDateTime => DataType::Timestamp(TimeUnit::Nanosecond, None),
            Shape::ZonedDateTime => DataType::Timestamp(TimeUnit::Nanosecond, Some("UTC".into())),
            Shape::Duration => DataType::Struct(struct_fields(&[
                ("months", DataType::Int32),
                ("nanoseconds", DataType::Int64),
            ])),
            Shape::List(item) => DataType::List(list_field(item.data_type())),
            Shape::Record(fields) => DataType::Struct(value_fields(fields)),
            Shape::Node(fields) => DataType::Struct(struct_fields(&[
                ("id", DataType::Utf8),
                ("labels", DataType::List(list_field(DataType::Utf8))),
                ("properties", DataType::Struct(value_fields(fields))),
                ("other_properties", DataType::Utf8),
            ])),
            Shape::Edge(fields) => DataType::Struct(struct_fields(&[
                ("id", DataType::Utf8),
                ("labels", DataType::List(list_field(DataType::Utf8))),
                ("directed", DataType::Boolean),
                ("source", DataType::Utf8),
                ("target", DataType::Utf8),
                ("properties", DataType::Struct(value_fields(fields))),
                ("other_properties", DataType::Utf8),
            ])),
            Shape::Path(nodes, edges) => DataType::Struct(struct_fields(&[
                ("nodes", DataType::List(list_field(Shape::Node(nodes.clone()).data_type()))),
                ("edges", DataType::List(list_field(Shape::Edge(edges.clone()).data_type()))),
            ])),
        }
    }
}

/// Fields of both, in the order in which they come.
fn joined(mut a: Vec<(Arc<str>, Shape)>, b: Vec<(Arc<str>, Shape)>) -> Vec<(Arc<str>, Shape)> {
    for (name, shape) in b {
        match a.iter_mut().find(|(known, _)| *known == name) {
            Some((_, known)) => *known = std::mem::replace(known, Shape::Unknown).with(shape),
            None => a.push((name, shape)),
        }
    }
    a
}

fn struct_fields(fields: &[(&str, DataType)]) -> Fields {
    fields.iter().map(|(name, data_type)| Field::new(*name, data_type.clone(), true)).collect()
}

/// Arrow has structs without fields, but not every reader has.
fn value_fields(fields: &[(Arc<str>, Shape)]) -> Fields {
    if fields.is_empty() {
        return struct_fields(&[("none", DataType::Utf8)]);
    }
    fields.iter().map(|(name, shape)| Field::new(&**name, shape.data_type(), true)).collect()
}

fn list_field(item: DataType) -> Arc<Field> {
    Arc::new(Field::new("item", item, true))
}

impl ArrowWriter {
    pub fn new(columns: &[ColumnInfo], first: Option<(&Batch, &Snapshot)>) -> ArrowWriter {
        let shapes: Vec<Shape> = (0..columns.len())
            .map(|i| match first {
                None => Shape::Unknown,
                Some((batch, snapshot)) => {
                    let values: Vec<Value> = (0..batch.len).map(|row| batch.columns[i].get(row)).collect();
                    Shape::of_all(values.iter(), snapshot)
                }
            })
            .collect();
        let fields: Vec<Field> =
            columns.iter().zip(&shapes).map(|(c, s)| Field::new(&c.name, s.data_type(), true)).collect();
        let schema = Arc::new(Schema::new(fields));
        match StreamWriter::try_new(vec![], &schema) {
            Ok(writer) => ArrowWriter { schema, shapes, writer: Some(writer), failed: None },
            Err(error) => ArrowWriter { schema, shapes, writer: None, failed: Some(error.to_string()) },
        }
    }

    fn writer(&mut self) -> Result<&mut StreamWriter<Vec<u8>>, String> {
        let failed = self.failed.clone();
        self.writer.as_mut().ok_or_else(|| failed.unwrap_or_else(|| "the stream has ended".into()))
    }

    pub fn write(&mut self, batch: &Batch, snapshot: &Snapshot) -> Result<Vec<u8>, String> {
        let mut arrays: Vec<ArrayRef> = vec![];
        for (i, (shape, field)) in self.shapes.iter().zip(self.schema.fields()).enumerate() {
            let values: Vec<Value> = (0..batch.len).map(|row| batch.columns[i].get(row)).collect();
            let made = array(&values, shape, snapshot).map_err(|reason| {
                format!(
                    "column {} began as {} and {reason}; CAST it to one type",
                    field.name(),
                    field.data_type()
                )
            })?;
            arrays.push(made);
        }
        let batch = RecordBatch::try_new(self.schema.clone(), arrays).map_err(|e| e.to_string())?;
        let writer = self.writer()?;
        writer.write(&batch).map_err(|e| e.to_string())?;
        Ok(std::mem::take(writer.get_mut()))
    }

    pub fn finish(&mut self) -> Result<Vec<u8>, String> {
        let writer = self.writer()?;
        writer.finish().map_err(|e| e.to_string())?;
        Ok(std::mem::take(writer.get_mut()))
    }
}

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

fn structure(values: &[Value], shape: &Shape, arrays: Vec<ArrayRef>) -> Result<ArrayRef, String> {
    let DataType::Struct(fields) = shape.data_type() else { return Err("is no struct".into()) };
    let made = StructArray::try_new(fields, arrays, nulls(values)).map_err(|e| e.to_string())?;
    Ok(Arc::new(made))
}

/// Lists out of what each value has.
fn lists(
    values: &[Value], items: impl Fn(&Value) -> Vec<Value>, item: &Shape, snapshot: &Snapshot,
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
    values: &[Value], fields: &[(Arc<str>, Shape)], of: impl Fn(&Value) -> Vec<(Arc<str>, Value)>,
    snapshot: &Snapshot,
) -> Result<ArrayRef, String> {
    let rows: Vec<Vec<(Arc<str>, Value)>> = values.iter().map(of).collect();
    let shape = Shape::Record(fields.to_vec());
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
fn others(values: &[Value], fields: &[(Arc<str>, Shape)], snapshot: &Snapshot) -> ArrayRef {
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

fn array(values: &[Value], shape: &Shape, snapshot: &Snapshot) -> Result<ArrayRef, String> {
    Ok(match shape {
        Shape::Bool => Arc::new(BooleanArray::from(taken!(values, Value::Bool(b) => Some(*b)))),
        Shape::Int => Arc::new(Int64Array::from(taken!(values, Value::Int(i) => Some(*i)))),
        Shape::Float => Arc::new(Float64Array::from(
            taken!(values, Value::Float(f) => Some(*f), Value::Int(i) => Some(*i as f64)),
        )),
        Shape::Decimal(scale) => {
            let wanted = *scale as u32;
            let scaled = |d: graphodrome_graph::Decimal| {
                wanted.checked_sub(d.scale())?;
                d.rescale(wanted).map(|d| d.coefficient())
            };
            let all = taken!(values, Value::Decimal(d) => scaled(*d), Value::Int(i) => scaled((*i).into()));
            let made = Decimal128Array::from(all).with_precision_and_scale(DECIMAL_DIGITS, *scale);
            Arc::new(made.map_err(|e| e.to_string())?)
        }
        Shape::Text => texts(taken!(values, Value::Text(t) => Some(t.to_string()))),
        Shape::Bytes => {
            let all = taken!(values, Value::Bytes(b) => Some(b.to_vec()));
            Arc::new(BinaryArray::from_iter(all))
        }
        Shape::Date => {
            Arc::new(Date32Array::from(taken!(values, Value::Date(d) => Some(ValueType::epoch_day(*d)))))
        }
        Shape::LocalTime => Arc::new(Time64NanosecondArray::from(
            taken!(values, Value::LocalTime(t) => Some(nanoseconds(*t))),
        )),
        Shape::ZonedTime => {
            let times = taken!(values, Value::ZonedTime(t, _) => Some(nanoseconds(*t)));
            let offsets = taken!(values, Value::ZonedTime(_, z) => Some(*z));
            let arrays: Vec<ArrayRef> =
                vec![Arc::new(Time64NanosecondArray::from(times)), Arc::new(Int32Array::from(offsets))];
            structure(values, shape, arrays)?
        }
        Shape::LocalDateTime => Arc::new(TimestampNanosecondArray::from(
            taken!(values, Value::LocalDateTime(t) => t.and_utc().timestamp_nanos_opt()),
        )),
        Shape::ZonedDateTime => {
            let all = taken!(values, Value::ZonedDateTime(t) => t.timestamp_nanos_opt());
            Arc::new(TimestampNanosecondArray::from(all).with_timezone("UTC"))
        }
        Shape::Duration => {
            let months = taken!(values, Value::Duration(d) => Some(d.months));
            let exact = taken!(values, Value::Duration(d) => Some(d.nanoseconds));
            let arrays: Vec<ArrayRef> =
                vec![Arc::new(Int32Array::from(months)), Arc::new(PrimitiveArray::<Int64Type>::from(exact))];
            structure(values, shape, arrays)?
        }
        Shape::List(item) => {
            taken!(values, Value::List(_) => Some(()));
            let items = |value: &Value| match value {
                Value::List(items) => items.to_vec(),
                _ => vec![],
            };
            lists(values, items, item, snapshot)?
        }
        Shape::Record(fields) => {
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
            record(values, fields, of, snapshot)?
        }
        Shape::Node(fields) => {
            let ids = taken!(values, Value::Node(n) => Some(format!("n{}", snapshot.node_id(*n))));
            let labels = |value: &Value| match value {
                Value::Node(n) => snapshot.node_labels(*n).iter().map(|l| Value::Text(l.clone())).collect(),
                _ => vec![],
            };
            let arrays = vec![
                texts(ids),
                lists(values, labels, &Shape::Text, snapshot)?,
                record(values, fields, |v| properties(v, snapshot), snapshot)?,
                others(values, fields, snapshot),
            ];
            structure(values, shape, arrays)?
        }
        Shape::Edge(fields) => {
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
                lists(values, labels, &Shape::Text, snapshot)?,
                Arc::new(BooleanArray::from(directed)),
                texts(sources),
                texts(targets),
                record(values, fields, |v| properties(v, snapshot), snapshot)?,
                others(values, fields, snapshot),
            ];
            structure(values, shape, arrays)?
        }
        Shape::Path(nodes, edges) => {
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
                lists(values, of_nodes, &Shape::Node(nodes.clone()), snapshot)?,
                lists(values, of_edges, &Shape::Edge(edges.clone()), snapshot)?,
            ];
            structure(values, shape, arrays)?
        }
        Shape::Unknown | Shape::Mixed => {
            let text = |value: &Value| match value_json(value, snapshot) {
                serde_json::Value::String(text) => Some(text),
                json => Some(json.to_string()),
            };
            texts(each(values, text)?)
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::Array;

    #[test]
    fn values_become_arrow_types_and_lose_nothing() {
        let snapshot = Snapshot::empty(None).expect("empty");
        let cases = [
            (vec![Value::Int(i64::MAX), Value::Null], DataType::Int64),
            (vec![Value::Int(1), Value::Float(0.5)], DataType::Float64),
            (
                vec![
                    Value::Decimal("1.5".parse().expect("decimal")),
                    Value::Decimal("2.125".parse().expect("decimal")),
                ],
                DataType::Decimal128(38, 3),
            ),
            (vec![Value::Int(1), Value::text("a")], DataType::Utf8),
            (
                vec![Value::list(vec![Value::Int(1), Value::Null])],
                DataType::List(list_field(DataType::Int64)),
            ),
        ];
        for (values, wanted) in cases {
            let shape = Shape::of_all(values.iter(), &snapshot);
            assert_eq!(shape.data_type(), wanted);
            let made = array(&values, &shape, &snapshot).expect("array");
            assert_eq!(made.len(), values.len());
            assert_eq!(made.data_type(), &wanted);
        }
        // What comes later and does not fit is refused.
        assert!(array(&[Value::text("x")], &Shape::Int, &snapshot).is_err());
        assert!(
            array(&[Value::Decimal("0.25".parse().expect("decimal"))], &Shape::Decimal(1), &snapshot)
                .is_err()
        );
    }
}
