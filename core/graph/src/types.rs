//! Value types as graph types declare them (ISO/IEC 39075, 18.9), and whether a value conforms.

use std::fmt;
use std::sync::Arc;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::Value;
use crate::quoting::quoted;

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
    /// With a precision of 0 any number of digits that a DECIMAL holds, before and after the point.
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
        #[serde(default)]
        min: u32,
        max: Option<u32>,
    },
    Date,
    LocalTime,
    ZonedTime,
    LocalDateTime,
    ZonedDateTime,
    Duration,
    /// Items may be null.
    List(Box<ValueType>),
    /// `LIST<item NOT NULL>[max]`.
    LimitedList {
        item: Box<ValueType>,
        not_null: bool,
        max: Option<u32>,
    },
    Record,
    /// `RECORD { name TYPE NOT NULL, ... }`: these fields and no others.
    Fields(Vec<Field>),
    /// `DURATION (YEAR TO MONTH)`: no days and nothing below.
    MonthDuration,
    /// `DURATION (DAY TO SECOND)`: no years and months.
    TimeDuration,
    /// `ANY VALUE <a | b>`: a value of one of them.
    OneOf(Vec<ValueType>),
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Field {
    pub name: Arc<str>,
    pub value_type: ValueType,
    pub not_null: bool,
}

impl ValueType {
    pub const TEXT: ValueType = ValueType::Text { min: 0, max: None };
    pub const DECIMAL: ValueType = ValueType::Decimal { precision: 0, scale: 0 };

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
            // NaN and the infinities are of every width.
            (ValueType::Float(32), Value::Float(f)) => !f.is_finite() || f.abs() <= f64::from(f32::MAX),
            (ValueType::Float(_), Value::Float(_)) => true,
            (ValueType::Decimal { precision: 0, .. }, Value::Decimal(_)) => true,
            (ValueType::Decimal { precision, scale }, Value::Decimal(d)) => {
                let d = d.normalize();
                d.scale() <= *scale as u32
                    && d.digits().saturating_sub(d.scale()) <= (*precision - *scale) as u32
            }
            (ValueType::Text { min, max }, Value::Text(t)) => {
                (*min == 0 && max.is_none()) || {
                    let length = t.chars().count() as u32;
                    length >= *min && max.is_none_or(|max| length <= max)
                }
            }
            (ValueType::Bytes { min, max }, Value::Bytes(b)) => {
                b.len() as u32 >= *min && max.is_none_or(|max| b.len() as u32 <= max)
            }
            (ValueType::Date, Value::Date(_))
            | (ValueType::LocalTime, Value::LocalTime(_))
            | (ValueType::ZonedTime, Value::ZonedTime(..))
            | (ValueType::LocalDateTime, Value::LocalDateTime(_))
            | (ValueType::ZonedDateTime, Value::ZonedDateTime(_))
            | (ValueType::Duration, Value::Duration(_))
            | (ValueType::Record, Value::Record(_)) => true,
            (ValueType::List(item), Value::List(items)) => {
                items.iter().all(|v| v.is_null() || item.accepts(v))
            }
            (ValueType::LimitedList { item, not_null, max }, Value::List(items)) => {
                max.is_none_or(|max| items.len() <= max as usize)
                    && items.iter().all(|v| if v.is_null() { !not_null } else { item.accepts(v) })
            }
            (ValueType::Fields(fields), Value::Record(given)) => {
                let value = |name: &str| given.iter().find(|(n, _)| **n == *name).map(|(_, v)| v);
                let fits = |f: &Field| match value(&f.name) {
                    Some(v) if !v.is_null() => f.value_type.accepts(v),
                    _ => !f.not_null,
                };
                fields.iter().all(fits) && given.iter().all(|(n, _)| fields.iter().any(|f| f.name == *n))
            }
            (ValueType::MonthDuration, Value::Duration(d)) => d.nanoseconds == 0,
            (ValueType::TimeDuration, Value::Duration(d)) => d.months == 0,
            (ValueType::OneOf(types), value) => types.iter().any(|t| t.accepts(value)),
            _ => false,
        }
    }

    /// A value of this type that differs from `value` only in spelling, where SQL and GQL allow it in
    /// an assignment without loss: a whole number literal for FLOAT64 or DECIMAL, a decimal literal
    /// for FLOAT64. Anything else is returned as it is and will be refused by [`Self::accepts`].
    pub fn assign(&self, value: Value) -> Value {
        match (self, &value) {
            (ValueType::Float(32), Value::Int(i)) if i.unsigned_abs() <= 1 << 24 => Value::Float(*i as f64),
            (ValueType::Float(32), Value::Int(_)) => value,
            (ValueType::Float(_), Value::Int(i)) if i.unsigned_abs() <= 1 << 53 => Value::Float(*i as f64),
            // The nearest number of that width, as every approximate number is stored.
            (ValueType::Float(32), Value::Float(_) | Value::Decimal(_)) => match value.as_f64() {
                Some(f) if self.accepts(&Value::Float(f)) => Value::Float(f64::from(f as f32)),
                _ => value,
            },
            (ValueType::Float(_), Value::Decimal(_)) => value.as_f64().map_or(value, Value::Float),
            (ValueType::Decimal { .. }, Value::Int(i)) => Value::Decimal((*i).into()),
            (ValueType::List(item) | ValueType::LimitedList { item, .. }, Value::List(items)) => {
                Value::list(items.iter().map(|v| item.assign(v.clone())).collect())
            }
            (ValueType::OneOf(types), _) if !self.accepts(&value) => {
                let spelled = types.iter().map(|t| (t, t.assign(value.clone())));
                spelled.into_iter().find(|(t, v)| t.accepts(v)).map_or(value, |(_, v)| v)
            }
            _ => value,
        }
    }

    /// How deep lists and records lie in each other; 1 for a plain type.
    pub fn depth(&self) -> usize {
        let inner = match self {
            ValueType::List(item) | ValueType::LimitedList { item, .. } => item.depth(),
            ValueType::Fields(fields) => fields.iter().map(|f| f.value_type.depth()).max().unwrap_or(0),
            ValueType::OneOf(types) => return types.iter().map(ValueType::depth).max().unwrap_or(1),
            _ => 0,
        };
        inner + 1
    }

    pub fn is_numeric(&self) -> bool {
        matches!(
            self,
            ValueType::Int(_) | ValueType::Uint(_) | ValueType::Float(_) | ValueType::Decimal { .. }
        )
    }

    /// The least type that holds the value.
    pub fn of(value: &Value) -> ValueType {
        match value {
            Value::Bool(_) => ValueType::Bool,
            Value::Int(_) => ValueType::Int(64),
            Value::Float(_) => ValueType::Float(64),
            Value::Decimal(_) => ValueType::DECIMAL,
            Value::Text(_) => ValueType::TEXT,
            Value::Bytes(_) => ValueType::Bytes { min: 0, max: None },
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
            ValueType::Decimal { precision: 0, .. } => f.write_str("DECIMAL"),
            ValueType::Decimal { precision, scale } => write!(f, "DECIMAL({precision}, {scale})"),
            ValueType::Text { min: 0, max: None } => f.write_str("STRING"),
            ValueType::Text { min: 0, max: Some(max) } => write!(f, "STRING({max})"),
            ValueType::Text { min, max: Some(max) } => write!(f, "STRING({min}, {max})"),
            ValueType::Text { min, max: None } => write!(f, "STRING({min}, )"),
            ValueType::Bytes { min: 0, max: None } => f.write_str("BYTES"),
            ValueType::Bytes { min: 0, max: Some(max) } => write!(f, "BYTES({max})"),
            ValueType::Bytes { min, max: Some(max) } => write!(f, "BYTES({min}, {max})"),
            ValueType::Bytes { min, max: None } => write!(f, "BYTES({min}, )"),
            ValueType::Date => f.write_str("DATE"),
            ValueType::LocalTime => f.write_str("LOCAL TIME"),
            ValueType::ZonedTime => f.write_str("ZONED TIME"),
            ValueType::LocalDateTime => f.write_str("LOCAL DATETIME"),
            ValueType::ZonedDateTime => f.write_str("ZONED DATETIME"),
            ValueType::Duration => f.write_str("DURATION"),
            ValueType::List(item) => write!(f, "LIST<{item}>"),
            ValueType::LimitedList { item, not_null, max } => {
                let null = if *not_null { " NOT NULL" } else { "" };
                let max = max.map(|max| format!("[{max}]")).unwrap_or_default();
                write!(f, "LIST<{item}{null}>{max}")
            }
            ValueType::Record => f.write_str("RECORD"),
            ValueType::Fields(fields) => {
                let null = |f: &Field| if f.not_null { " NOT NULL" } else { "" };
                let shown: Vec<String> = fields
                    .iter()
                    .map(|f| format!("{} {}{}", quoted(&f.name), f.value_type, null(f)))
                    .collect();
                write!(f, "RECORD {{ {} }}", shown.join(", "))
            }
            ValueType::MonthDuration => f.write_str("DURATION (YEAR TO MONTH)"),
            ValueType::TimeDuration => f.write_str("DURATION (DAY TO SECOND)"),
            ValueType::OneOf(types) => {
                let shown: Vec<String> = types.iter().map(ValueType::to_string).collect();
                write!(f, "ANY VALUE <{}>", shown.join(" | "))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Decimal;

    #[test]
    fn widths_lengths_and_precisions_are_kept() {
        assert!(ValueType::Int(16).accepts(&Value::Int(32_767)));
        assert!(!ValueType::Int(16).accepts(&Value::Int(32_768)));
        assert!(!ValueType::Uint(8).accepts(&Value::Int(-1)));
        assert!(!ValueType::Text { min: 0, max: Some(3) }.accepts(&Value::text("äöüß")));
        let decimal = |n, scale| Decimal::of(n, scale).expect("short");
        let money = ValueType::Decimal { precision: 5, scale: 2 };
        assert!(money.accepts(&Value::Decimal(decimal(99_999, 2))));
        assert!(!money.accepts(&Value::Decimal(decimal(100_000, 2))));
        assert!(!money.accepts(&Value::Decimal(decimal(1, 3))));
    }

    #[test]
    fn lists_records_and_unions_hold_what_they_say() {
        let ints =
            |max, not_null| ValueType::LimitedList { item: Box::new(ValueType::Int(8)), not_null, max };
        let list = |items: &[i64]| Value::list(items.iter().map(|i| Value::Int(*i)).collect());
        assert!(
            ints(Some(2), true).accepts(&list(&[1, 2])) && !ints(Some(2), true).accepts(&list(&[1, 2, 3]))
        );
        let holey = Value::list(vec![Value::Int(1), Value::Null]);
        assert!(ValueType::List(Box::new(ValueType::Int(8))).accepts(&holey));
        assert!(ints(None, false).accepts(&holey) && !ints(None, true).accepts(&holey));
        let field =
            |name: &str, not_null| Field { name: name.into(), value_type: ValueType::Int(8), not_null };
        let record = ValueType::Fields(vec![field("a", true), field("b", false)]);
        let of = |pairs: &[(&str, Value)]| {
            Value::Record(pairs.iter().map(|(n, v)| (Arc::from(*n), v.clone())).collect())
        };
        assert!(record.accepts(&of(&[("a", Value::Int(1))])));
        assert!(!record.accepts(&of(&[("b", Value::Int(1))])), "a is missing");
        assert!(!record.accepts(&of(&[("a", Value::Int(1)), ("c", Value::Int(1))])), "c is not declared");
        let union = ValueType::OneOf(vec![ValueType::Decimal { precision: 4, scale: 1 }, ValueType::TEXT]);
        assert!(union.accepts(&Value::text("x")) && !union.accepts(&Value::Bool(true)));
        assert!(union.accepts(&union.assign(Value::Int(3))), "a whole number is the same decimal");
        let duration = |months, nanoseconds| Value::Duration(crate::Duration { months, nanoseconds });
        assert!(
            ValueType::MonthDuration.accepts(&duration(3, 0))
                && !ValueType::MonthDuration.accepts(&duration(3, 1))
        );
        assert!(
            ValueType::TimeDuration.accepts(&duration(0, 5))
                && !ValueType::TimeDuration.accepts(&duration(1, 5))
        );
    }

    #[test]
    fn a_text_never_becomes_a_number() {
        let given = ValueType::Float(64).assign(Value::text("0"));
        assert!(!ValueType::Float(64).accepts(&given));
    }
}
