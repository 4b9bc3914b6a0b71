//! Types of values without their parameters. Types with parameters (digits, lengths, fields) are built from this
//! list.

use crate::types::ValueType;
use crate::value::Value;

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ValueKind {
    Bool,
    Int,
    Float,
    Decimal,
    Text,
    Bytes,
    Date,
    LocalTime,
    ZonedTime,
    LocalDateTime,
    ZonedDateTime,
    Duration,
    List,
    Record,
    Node,
    Edge,
    Path,
}

impl ValueKind {
    /// `None` of null.
    pub fn of(value: &Value) -> Option<ValueKind> {
        Some(match value {
            Value::Null => return None,
            Value::Bool(_) => ValueKind::Bool,
            Value::Int(_) => ValueKind::Int,
            Value::Float(_) => ValueKind::Float,
            Value::Decimal(_) => ValueKind::Decimal,
            Value::Text(_) => ValueKind::Text,
            Value::Bytes(_) => ValueKind::Bytes,
            Value::Date(_) => ValueKind::Date,
            Value::LocalTime(_) => ValueKind::LocalTime,
            Value::ZonedTime(..) => ValueKind::ZonedTime,
            Value::LocalDateTime(_) => ValueKind::LocalDateTime,
            Value::ZonedDateTime(_) => ValueKind::ZonedDateTime,
            Value::Duration(_) => ValueKind::Duration,
            Value::List(_) => ValueKind::List,
            Value::Record(_) => ValueKind::Record,
            Value::Node(_) => ValueKind::Node,
            Value::Edge(_) => ValueKind::Edge,
            Value::Path(_) => ValueKind::Path,
        })
    }

    /// What values of a type are; `None` where they may be of several kinds.
    pub fn of_type(value_type: &ValueType) -> Option<ValueKind> {
        Some(match value_type {
            ValueType::Any => return None,
            ValueType::Bool => ValueKind::Bool,
            ValueType::Int(_) | ValueType::Uint(_) => ValueKind::Int,
            ValueType::Float(_) => ValueKind::Float,
            ValueType::Decimal { .. } => ValueKind::Decimal,
            ValueType::Text { .. } => ValueKind::Text,
            ValueType::Bytes { .. } => ValueKind::Bytes,
            ValueType::Date => ValueKind::Date,
            ValueType::LocalTime => ValueKind::LocalTime,
            ValueType::ZonedTime => ValueKind::ZonedTime,
            ValueType::LocalDateTime => ValueKind::LocalDateTime,
            ValueType::ZonedDateTime => ValueKind::ZonedDateTime,
            ValueType::Duration | ValueType::MonthDuration | ValueType::TimeDuration => ValueKind::Duration,
            ValueType::List(_) | ValueType::LimitedList { .. } => ValueKind::List,
            ValueType::Record | ValueType::Fields(_) => ValueKind::Record,
            ValueType::OneOf(types) => {
                let mut kinds = types.iter().map(ValueKind::of_type);
                let first = kinds.next()??;
                return kinds.all(|kind| kind == Some(first)).then_some(first);
            }
        })
    }

    /// The standard's name of the type, for messages.
    pub fn name(self) -> &'static str {
        match self {
            ValueKind::Bool => "BOOL",
            ValueKind::Int => "INT64",
            ValueKind::Float => "FLOAT64",
            ValueKind::Decimal => "DECIMAL",
            ValueKind::Text => "STRING",
            ValueKind::Bytes => "BYTES",
            ValueKind::Date => "DATE",
            ValueKind::LocalTime => "LOCAL TIME",
            ValueKind::ZonedTime => "ZONED TIME",
            ValueKind::LocalDateTime => "LOCAL DATETIME",
            ValueKind::ZonedDateTime => "ZONED DATETIME",
            ValueKind::Duration => "DURATION",
            ValueKind::List => "LIST",
            ValueKind::Record => "RECORD",
            ValueKind::Node => "NODE",
            ValueKind::Edge => "EDGE",
            ValueKind::Path => "PATH",
        }
    }
}

impl Value {
    /// The standard's name of this value's type, for messages.
    pub fn type_name(&self) -> &'static str {
        ValueKind::of(self).map_or("NULL", ValueKind::name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_type_is_of_the_kind_of_its_values() {
        let either = |types: Vec<ValueType>| ValueKind::of_type(&ValueType::OneOf(types));
        assert_eq!(either(vec![ValueType::Int(8), ValueType::Uint(16)]), Some(ValueKind::Int));
        assert_eq!(either(vec![ValueType::Int(8), ValueType::Bool]), None);
        assert_eq!(either(vec![ValueType::Any, ValueType::Any]), None);
        assert_eq!(ValueKind::of_type(&ValueType::List(Box::new(ValueType::Any))), Some(ValueKind::List));
        assert_eq!(ValueKind::of(&Value::Null), None);
        assert_eq!(Value::Null.type_name(), "NULL");
        assert_eq!(
            Value::Int(3).type_name(),
            ValueKind::of_type(&ValueType::Int(64)).map_or("", ValueKind::name)
        );
    }
}
