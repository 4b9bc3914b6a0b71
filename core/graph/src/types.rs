//! Value types as graph types declare them (ISO/IEC 39075, 18.9), and whether a value conforms.

use std::fmt;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::Value;

#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum ValueType {
    Any,
    Bool,
    /// Signed integer of 8, 16, 32 or 64 bits.
    Int(u8),
    /// Unsigned integer of 8, 16, 32 or 63 bits: values are kept as INT64.
    Uint(u8),
    /// 32 or 64 bits; kept as FLOAT64.
    Float(u8),
    Decimal {
        precision: u8,
        scale: u8,
    },
    /// Length in characters.
    Text {
        min: u32,
        max: Option<u32>,
    },
    /// Length in bytes.
    Bytes {
        max: Option<u32>,
    },
    Date,
    LocalTime,
    ZonedTime,
    LocalDateTime,
    ZonedDateTime,
    Duration,
    List(Box<ValueType>),
    Record,
}

impl ValueType {
    pub const TEXT: ValueType = ValueType::Text { min: 0, max: None };

    /// Whether `value` (not null) may stand in a property of this type, without any coercion. An
    /// INT64 is accepted for DECIMAL only where the declared scale and precision hold it, which is
    /// exact; an INT64 is not accepted for FLOAT64 unless it is exactly representable.
    pub fn accepts(&self, value: &Value) -> bool {
        match (self, value) {
            (_, Value::Null) => false,
            (ValueType::Any, v) => v.is_storable(),
            (ValueType::Bool, Value::Bool(_)) => true,
            (ValueType::Int(bits), Value::Int(i)) => {
                *bits == 64 || (-(1i64 << (bits - 1))..(1i64 << (bits - 1))).contains(i)
            }
            (ValueType::Uint(bits), Value::Int(i)) => *i >= 0 && (*bits >= 63 || *i < (1i64 << bits)),
            (ValueType::Float(_), Value::Float(_)) => true,
            (ValueType::Decimal { precision, scale }, Value::Decimal(d)) => {
                let d = d.normalize();
                let digits = d.mantissa().unsigned_abs().checked_ilog10().map_or(1, |n| n + 1);
                d.scale() <= *scale as u32 && digits.saturating_sub(d.scale()) <= (*precision - *scale) as u32
            }
            (ValueType::Text { min, max }, Value::Text(t)) => {
                (*min == 0 && max.is_none()) || {
                    let length = t.chars().count() as u32;
                    length >= *min && max.is_none_or(|max| length <= max)
                }
            }
            (ValueType::Bytes { max }, Value::Bytes(b)) => max.is_none_or(|max| b.len() as u32 <= max),
            (ValueType::Date, Value::Date(_))
            | (ValueType::LocalTime, Value::LocalTime(_))
            | (ValueType::ZonedTime, Value::ZonedTime(..))
            | (ValueType::LocalDateTime, Value::LocalDateTime(_))
            | (ValueType::ZonedDateTime, Value::ZonedDateTime(_))
            | (ValueType::Duration, Value::Duration(_))
            | (ValueType::Record, Value::Record(_)) => true,
            (ValueType::List(item), Value::List(items)) => items.iter().all(|v| item.accepts(v)),
            _ => false,
        }
    }

    /// A value of this type that differs from `value` only in spelling, where SQL and GQL allow it in
    /// an assignment without loss: a whole number literal for FLOAT64 or DECIMAL, a decimal literal
    /// for FLOAT64. Anything else is returned as it is and will be refused by [`Self::accepts`].
    pub fn assign(&self, value: Value) -> Value {
        match (self, &value) {
            (ValueType::Float(_), Value::Int(i)) if i.unsigned_abs() <= 1 << 53 => Value::Float(*i as f64),
            (ValueType::Float(_), Value::Decimal(_)) => value.as_f64().map_or(value, Value::Float),
            (ValueType::Decimal { .. }, Value::Int(i)) => Value::Decimal((*i).into()),
            _ => value,
        }
    }

    /// The least type that holds the value.
    pub fn of(value: &Value) -> ValueType {
        match value {
            Value::Bool(_) => ValueType::Bool,
            Value::Int(_) => ValueType::Int(64),
            Value::Float(_) => ValueType::Float(64),
            Value::Decimal(_) => ValueType::Decimal { precision: 28, scale: 10 },
            Value::Text(_) => ValueType::TEXT,
            Value::Bytes(_) => ValueType::Bytes { max: None },
            Value::Date(_) => ValueType::Date,
            Value::LocalTime(_) => ValueType::LocalTime,
            Value::ZonedTime(..) => ValueType::ZonedTime,
            Value::LocalDateTime(_) => ValueType::LocalDateTime,
            Value::ZonedDateTime(_) => ValueType::ZonedDateTime,
            Value::Duration(_) => ValueType::Duration,
            Value::List(items) => {
                let mut types = items.iter().map(ValueType::of);
                let first = types.next().unwrap_or(ValueType::Any);
                let same = types.all(|t| t == first);
                ValueType::List(Box::new(if same { first } else { ValueType::Any }))
            }
            Value::Record(_) => ValueType::Record,
            _ => ValueType::Any,
        }
    }

    /// Days since 1970-01-01, the unit of date columns.
    pub fn epoch_day(date: NaiveDate) -> i32 {
        (date - NaiveDate::default()).num_days() as i32
    }
}

impl fmt::Display for ValueType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ValueType::Any => f.write_str("ANY"),
            ValueType::Bool => f.write_str("BOOL"),
            ValueType::Int(bits) => write!(f, "INT{bits}"),
            ValueType::Uint(63) => f.write_str("UINT64"),
            ValueType::Uint(bits) => write!(f, "UINT{bits}"),
            ValueType::Float(bits) => write!(f, "FLOAT{bits}"),
            ValueType::Decimal { precision, scale } => write!(f, "DECIMAL({precision}, {scale})"),
            ValueType::Text { min: 0, max: None } => f.write_str("STRING"),
            ValueType::Text { min: 0, max: Some(max) } => write!(f, "STRING({max})"),
            ValueType::Text { min, max: Some(max) } => write!(f, "STRING({min}, {max})"),
            ValueType::Text { min, max: None } => write!(f, "STRING({min}, )"),
            ValueType::Bytes { max: None } => f.write_str("BYTES"),
            ValueType::Bytes { max: Some(max) } => write!(f, "BYTES({max})"),
            ValueType::Date => f.write_str("DATE"),
            ValueType::LocalTime => f.write_str("LOCAL TIME"),
            ValueType::ZonedTime => f.write_str("ZONED TIME"),
            ValueType::LocalDateTime => f.write_str("LOCAL DATETIME"),
            ValueType::ZonedDateTime => f.write_str("ZONED DATETIME"),
            ValueType::Duration => f.write_str("DURATION"),
            ValueType::List(item) => write!(f, "LIST<{item}>"),
            ValueType::Record => f.write_str("RECORD"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rust_decimal::Decimal;

    #[test]
    fn widths_lengths_and_precisions_are_kept() {
        assert!(ValueType::Int(16).accepts(&Value::Int(32_767)));
        assert!(!ValueType::Int(16).accepts(&Value::Int(32_768)));
        assert!(!ValueType::Uint(8).accepts(&Value::Int(-1)));
        assert!(!ValueType::Text { min: 0, max: Some(3) }.accepts(&Value::text("äöüß")));
        let money = ValueType::Decimal { precision: 5, scale: 2 };
        assert!(money.accepts(&Value::Decimal(Decimal::new(99_999, 2))));
        assert!(!money.accepts(&Value::Decimal(Decimal::new(100_000, 2))));
        assert!(!money.accepts(&Value::Decimal(Decimal::new(1, 3))));
    }

    #[test]
    fn a_text_never_becomes_a_number() {
        let given = ValueType::Float(64).assign(Value::text("0"));
        assert!(!ValueType::Float(64).accepts(&given));
    }
}
