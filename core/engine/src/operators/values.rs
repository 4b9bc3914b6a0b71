//! Values in aggregates: type errors, overflow, and the order of equal values.

use std::cmp::Ordering;

use graphodrome_graph::{Code, GraphError, Value};

/// Which of two equal values comes first where they are written differently, so that it does not matter which of
/// them was met first: `1` before `1.0`, and that before `1.00`.
pub(super) fn between_equals(a: &Value, b: &Value) -> Ordering {
    match (a, b) {
        (Value::Decimal(a), Value::Decimal(b)) => a.scale().cmp(&b.scale()),
        (Value::Float(a), Value::Float(b)) if !a.is_nan() => a.total_cmp(b),
        (Value::Float(_), Value::Float(_)) => Ordering::Equal,
        (Value::Int(_), Value::Int(_)) | (Value::Text(_), Value::Text(_)) => Ordering::Equal,
        (Value::Date(_), Value::Date(_)) | (Value::Bool(_), Value::Bool(_)) => Ordering::Equal,
        (a, b) if a.is_number() && b.is_number() => number_rank(a).cmp(&number_rank(b)),
        (a, b) => a.to_string().cmp(&b.to_string()),
    }
}

pub(super) fn not_a_number(value: &Value) -> GraphError {
    GraphError::new(
        Code::WRONG_TYPE,
        format!("SUM, AVG and their kin take numbers, found {} {}", value.type_name(), value.excerpt()),
    )
}

pub(super) fn out_of_range() -> GraphError {
    GraphError::new(Code::NUMBER_OUT_OF_RANGE, "the result is out of range for its type")
}

fn number_rank(value: &Value) -> u8 {
    match value {
        Value::Int(_) => 0,
        Value::Decimal(_) => 1,
        _ => 2,
    }
}
