//! Operators on values: arithmetic, comparison, three-valued logic.

use graphodrome_graph::{Code, Decimal, GraphError, Truth, Value};
use graphodrome_language::ast::BinaryOperator;
use graphodrome_language::{Diagnostic, Span};

use crate::functions;
use crate::outcome::{Outcome, located};

/// What a comparison says of two values.
pub(crate) fn compared(operator: BinaryOperator, a: &Value, b: &Value) -> Result<Truth, GraphError> {
    use BinaryOperator::*;
    Ok(match operator {
        Equal => a.equals(b)?,
        NotEqual => a.equals(b)?.map(|equal| !equal),
        _ => a.compare(b)?.map(|o| match operator {
            Less => o.is_lt(),
            LessOrEqual => o.is_le(),
            Greater => o.is_gt(),
            _ => o.is_ge(),
        }),
    })
}

pub(super) fn and(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    match (a, b) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

pub(super) fn or(a: Option<bool>, b: Option<bool>) -> Option<bool> {
    match (a, b) {
        (Some(true), _) | (_, Some(true)) => Some(true),
        (Some(false), Some(false)) => Some(false),
        _ => None,
    }
}

pub(super) fn overflow(span: Span) -> Diagnostic {
    Diagnostic::error(Code::NUMBER_OUT_OF_RANGE, span, "the result is out of range for its type")
}

/// `a operator b` on numbers and temporal values; overflow is 22003, division by zero 22012.
pub(crate) fn arithmetic(operator: BinaryOperator, a: Value, b: Value, span: Span) -> Outcome<Value> {
    use BinaryOperator::*;
    let by_zero = || Diagnostic::error(Code::DIVISION_BY_ZERO, span, "division by zero");
    Ok(match (a, b) {
        (Value::Null, _) | (_, Value::Null) => Value::Null,
        (Value::Int(a), Value::Int(b)) => {
            let result = match operator {
                Add => a.checked_add(b),
                Subtract => a.checked_sub(b),
                Multiply => a.checked_mul(b),
                _ if b == 0 => return Err(by_zero()),
                _ => a.checked_div(b),
            };
            Value::Int(result.ok_or_else(|| overflow(span))?)
        }
        (Value::Float(a), b) if b.is_number() => float(operator, a, b.as_f64().unwrap_or(f64::NAN), span)?,
        (a, Value::Float(b)) if a.is_number() => float(operator, a.as_f64().unwrap_or(f64::NAN), b, span)?,
        (a, b) if a.is_number() && b.is_number() => {
            let (a, b) = (decimal(&a), decimal(&b));
            let result = match operator {
                Add => a.checked_add(b),
                Subtract => a.checked_sub(b),
                Multiply => a.checked_mul(b),
                _ if b.is_zero() => return Err(by_zero()),
                _ => a.checked_div(b),
            };
            Value::Decimal(result.ok_or_else(|| overflow(span))?)
        }
        (a, b) => match functions::temporal_arithmetic(operator, &a, &b) {
            Some(result) => result.map_err(|e| located(e, span))?,
            None => {
                let bad = if a.is_number() { &b } else { &a };
                return Err(wrong_type(
                    bad,
                    &format!("an operand of {}", operator.symbol()),
                    "a number",
                    span,
                ));
            }
        },
    })
}

pub(super) fn decimal(value: &Value) -> Decimal {
    match value {
        Value::Int(i) => (*i).into(),
        Value::Decimal(d) => *d,
        _ => Decimal::ZERO,
    }
}

pub(super) fn float(operator: BinaryOperator, a: f64, b: f64, span: Span) -> Outcome<Value> {
    let result = match operator {
        BinaryOperator::Add => a + b,
        BinaryOperator::Subtract => a - b,
        BinaryOperator::Multiply => a * b,
        _ if b == 0.0 => return Err(Diagnostic::error(Code::DIVISION_BY_ZERO, span, "division by zero")),
        _ => a / b,
    };
    if result.is_infinite() && a.is_finite() && b.is_finite() {
        return Err(overflow(span));
    }
    Ok(Value::Float(result))
}

pub(crate) fn wrong_type(value: &Value, what: &str, wanted: &str, span: Span) -> Diagnostic {
    Diagnostic::error(
        Code::WRONG_TYPE,
        span,
        format!("{what} must be {wanted}, found {} {}", value.type_name(), value.excerpt()),
    )
}
