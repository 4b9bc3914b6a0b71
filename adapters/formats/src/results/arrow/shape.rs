//! What the values of a result's column are, and Arrow's type for them.

use std::sync::Arc;

use arrow_schema::{DataType, Field, Fields, TimeUnit};
use graphodrome_graph::{Snapshot, Value};

/// Digits that a decimal column holds.
pub(super) const DECIMAL_DIGITS: u8 = 38;

/// What the values of a column are.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Shape {
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

pub(super) fn properties(value: &Value, snapshot: &Snapshot) -> Vec<(Arc<str>, Value)> {
    match value {
        Value::Node(n) => snapshot.node_properties(*n).to_vec(),
        Value::Edge(e) => snapshot.edge_properties(*e).to_vec(),
        _ => vec![],
    }
}

impl Shape {
    pub fn of(value: &Value, snapshot: &Snapshot) -> Shape {
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

    pub fn of_all<'v>(values: impl Iterator<Item = &'v Value>, snapshot: &Snapshot) -> Shape {
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

    pub fn data_type(&self) -> DataType {
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

pub(super) fn list_field(item: DataType) -> Arc<Field> {
    Arc::new(Field::new("item", item, true))
}
