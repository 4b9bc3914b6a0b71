//! Derives the Arrow type of a result column from its values.

use std::sync::Arc;

use arrow_schema::{DataType, Field, Fields, TimeUnit};
use graphodrome_graph::{Snapshot, Value};

/// Digits that a decimal column holds.
pub(super) const DECIMAL_DIGITS: u8 = 38;

/// What the values of a column are.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum ArrowShape {
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
    List(Box<ArrowShape>),
    Record(Vec<(Arc<str>, ArrowShape)>),
    Node(Vec<(Arc<str>, ArrowShape)>),
    Edge(Vec<(Arc<str>, ArrowShape)>),
    Path(Vec<(Arc<str>, ArrowShape)>, Vec<(Arc<str>, ArrowShape)>),
    /// Of several kinds: as JSON.
    Mixed,
}

pub(super) fn properties(value: &Value, snapshot: &Snapshot) -> Vec<(Arc<str>, Value)> {
    match value {
        Value::Node(n) => snapshot.node_properties(*n).to_vec(),
        Value::Edge(e) => snapshot.edge_properties(*e).to_vec(),
        _ => vec![],
    }
}

impl ArrowShape {
    pub fn of(value: &Value, snapshot: &Snapshot) -> ArrowShape {
        let fields = |fields: &[(Arc<str>, Value)]| {
            fields.iter().map(|(name, v)| (name.clone(), ArrowShape::of(v, snapshot))).collect()
        };
        match value {
            Value::Null => ArrowShape::Unknown,
            Value::Bool(_) => ArrowShape::Bool,
            Value::Int(_) => ArrowShape::Int,
            Value::Float(_) => ArrowShape::Float,
            Value::Decimal(d) => ArrowShape::Decimal(d.scale() as i8),
            Value::Text(_) => ArrowShape::Text,
            Value::Bytes(_) => ArrowShape::Bytes,
            Value::Date(_) => ArrowShape::Date,
            Value::LocalTime(_) => ArrowShape::LocalTime,
            Value::ZonedTime(..) => ArrowShape::ZonedTime,
            Value::LocalDateTime(_) => ArrowShape::LocalDateTime,
            Value::ZonedDateTime(_) => ArrowShape::ZonedDateTime,
            Value::Duration(_) => ArrowShape::Duration,
            Value::List(items) => ArrowShape::List(Box::new(ArrowShape::of_all(items.iter(), snapshot))),
            Value::Record(record) => ArrowShape::Record(fields(record)),
            Value::Node(_) => ArrowShape::Node(fields(&properties(value, snapshot))),
            Value::Edge(_) => ArrowShape::Edge(fields(&properties(value, snapshot))),
            Value::Path(path) => {
                let nodes: Vec<Value> = path.nodes.iter().map(|n| Value::Node(*n)).collect();
                let edges: Vec<Value> = path.edges.iter().map(|e| Value::Edge(*e)).collect();
                let of = |values: &[Value]| match ArrowShape::of_all(values.iter(), snapshot) {
                    ArrowShape::Node(fields) | ArrowShape::Edge(fields) => fields,
                    _ => vec![],
                };
                ArrowShape::Path(of(&nodes), of(&edges))
            }
        }
    }

    pub fn of_all<'v>(values: impl Iterator<Item = &'v Value>, snapshot: &Snapshot) -> ArrowShape {
        values.fold(ArrowShape::Unknown, |shape, value| shape.with(ArrowShape::of(value, snapshot)))
    }

    /// What holds values of both.
    fn with(self, other: ArrowShape) -> ArrowShape {
        use ArrowShape::*;
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

    pub fn data_type(&self) -> DataType {
        match self {
            ArrowShape::Unknown | ArrowShape::Text | ArrowShape::Mixed => DataType::Utf8,
            ArrowShape::Bool => DataType::Boolean,
            ArrowShape::Int => DataType::Int64,
            ArrowShape::Float => DataType::Float64,
            ArrowShape::Decimal(scale) => DataType::Decimal128(DECIMAL_DIGITS, *scale),
            ArrowShape::Bytes => DataType::Binary,
            ArrowShape::Date => DataType::Date32,
            ArrowShape::LocalTime => DataType::Time64(TimeUnit::Nanosecond),
            ArrowShape::ZonedTime => DataType::Struct(struct_fields(&[
                ("time", DataType::Time64(TimeUnit::Nanosecond)),
                ("offset_seconds", DataType::Int32),
            ])),
            ArrowShape::LocalDateTime => DataType::Timestamp(TimeUnit::Nanosecond, None),
            ArrowShape::ZonedDateTime => DataType::Timestamp(TimeUnit::Nanosecond, Some("UTC".into())),
            ArrowShape::Duration => DataType::Struct(struct_fields(&[
                ("months", DataType::Int32),
                ("nanoseconds", DataType::Int64),
            ])),
            ArrowShape::List(item) => DataType::List(list_field(item.data_type())),
            ArrowShape::Record(fields) => DataType::Struct(value_fields(fields)),
            ArrowShape::Node(fields) => DataType::Struct(struct_fields(&[
                ("id", DataType::Utf8),
                ("labels", DataType::List(list_field(DataType::Utf8))),
                ("properties", DataType::Struct(value_fields(fields))),
                ("other_properties", DataType::Utf8),
            ])),
            ArrowShape::Edge(fields) => DataType::Struct(struct_fields(&[
                ("id", DataType::Utf8),
                ("labels", DataType::List(list_field(DataType::Utf8))),
                ("directed", DataType::Boolean),
                ("source", DataType::Utf8),
                ("target", DataType::Utf8),
                ("properties", DataType::Struct(value_fields(fields))),
                ("other_properties", DataType::Utf8),
            ])),
            ArrowShape::Path(nodes, edges) => DataType::Struct(struct_fields(&[
                ("nodes", DataType::List(list_field(ArrowShape::Node(nodes.clone()).data_type()))),
                ("edges", DataType::List(list_field(ArrowShape::Edge(edges.clone()).data_type()))),
            ])),
        }
    }
}

/// Fields of both, in the order in which they come.
fn joined(mut a: Vec<(Arc<str>, ArrowShape)>, b: Vec<(Arc<str>, ArrowShape)>) -> Vec<(Arc<str>, ArrowShape)> {
    for (name, shape) in b {
        match a.iter_mut().find(|(known, _)| *known == name) {
            Some((_, known)) => *known = std::mem::replace(known, ArrowShape::Unknown).with(shape),
            None => a.push((name, shape)),
        }
    }
    a
}

fn struct_fields(fields: &[(&str, DataType)]) -> Fields {
    fields.iter().map(|(name, data_type)| Field::new(*name, data_type.clone(), true)).collect()
}

/// Arrow has structs without fields, but not every reader has.
fn value_fields(fields: &[(Arc<str>, ArrowShape)]) -> Fields {
    if fields.is_empty() {
        return struct_fields(&[("none", DataType::Utf8)]);
    }
    fields.iter().map(|(name, shape)| Field::new(&**name, shape.data_type(), true)).collect()
}

pub(super) fn list_field(item: DataType) -> Arc<Field> {
    Arc::new(Field::new("item", item, true))
}
