//! Conditions on whole numbers without a value made for each: what most filters on edges are. Where
//! anything is not a whole number, overflows or has no answer here, the full evaluation decides.

use std::cmp::Ordering;

use graphodrome_graph::{PropertyReader, Value};
use graphodrome_language::ast::BinaryOperator;

use crate::context::Counters;
use crate::evaluate::{Row, Scope};
use crate::expression::{Expr, Kind};
use crate::functions::Function;

/// A number or null; `None` where the full evaluation must be asked.
#[inline]
pub(crate) fn number(e: &Expr, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Option<Option<i64>> {
    match &e.kind {
        Kind::Constant(value) => int(value),
        Kind::Parameter(n) => int(scope.parameters.get(*n)?),
        Kind::NodeProperty(slot, reader) => {
            counters.properties_read += 1;
            match row.element(*slot) {
                Some(id) => scope.node_int(id, reader),
                None => None,
            }
        }
        Kind::EdgeProperty(slot, reader) => {
            counters.properties_read += 1;
            match row.element(*slot) {
                Some(id) => scope.edge_int(id, reader),
                None => None,
            }
        }
        Kind::Binary(operator, a, b) => {
            let (a, b) = (number(a, row, scope, counters)?, number(b, row, scope, counters)?);
            let (Some(a), Some(b)) = (a, b) else { return Some(None) };
            let result = match operator {
                BinaryOperator::Add => a.checked_add(b),
                BinaryOperator::Subtract => a.checked_sub(b),
                BinaryOperator::Multiply => a.checked_mul(b),
                _ => None,
            };
            result.map(Some)
        }
        Kind::Call(Function::Mod, arguments) => {
            let a = number(&arguments[0], row, scope, counters)?;
            let b = number(&arguments[1], row, scope, counters)?;
            let (Some(a), Some(b)) = (a, b) else { return Some(None) };
            a.checked_rem(b).map(Some)
        }
        _ => None,
    }
}

fn int(value: &Value) -> Option<Option<i64>> {
    match value {
        Value::Int(i) => Some(Some(*i)),
        Value::Null => Some(None),
        _ => None,
    }
}

/// True, false or unknown; the outer `None` where the full evaluation must be asked.
#[inline]
pub(crate) fn truth(e: &Expr, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Option<Option<bool>> {
    let Kind::Binary(operator, a, b) = &e.kind else { return None };
    let wanted: fn(Ordering) -> bool = match operator {
        BinaryOperator::Equal => Ordering::is_eq,
        BinaryOperator::NotEqual => Ordering::is_ne,
        BinaryOperator::Less => Ordering::is_lt,
        BinaryOperator::LessOrEqual => Ordering::is_le,
        BinaryOperator::Greater => Ordering::is_gt,
        BinaryOperator::GreaterOrEqual => Ordering::is_ge,
        BinaryOperator::And | BinaryOperator::Or => {
            let decisive = *operator == BinaryOperator::Or;
            let a = truth(a, row, scope, counters)?;
            if a == Some(decisive) {
                return Some(a);
            }
            let b = truth(b, row, scope, counters)?;
            return Some(match (a, b) {
                (_, Some(b)) if b == decisive => Some(decisive),
                (Some(_), Some(_)) => Some(!decisive),
                _ => None,
            });
        }
        _ => return None,
    };
    let a = number(a, row, scope, counters)?;
    let b = number(b, row, scope, counters)?;
    Some(a.zip(b).map(|(a, b)| wanted(a.cmp(&b))))
}

/// The numbers from `low` to `high` of one property: what a comparison with a known number asks.
pub(crate) struct Within<'e> {
    pub reader: &'e PropertyReader,
    pub low: i64,
    pub high: i64,
}

/// The condition as a range of a property of the edge in `slot`, where it is one.
pub(crate) fn edge_range<'e>(e: &'e Expr, slot: usize, scope: &Scope) -> Option<Within<'e>> {
    let Kind::Binary(operator, a, b) = &e.kind else { return None };
    let known = |e: &Expr| match &e.kind {
        Kind::Constant(value) => int(value),
        Kind::Parameter(n) => int(scope.parameters.get(*n)?),
        _ => None,
    };
    let (reader, number, turned) = match (&a.kind, &b.kind) {
        (Kind::EdgeProperty(s, reader), _) if *s == slot => (reader, known(b)?, false),
        (_, Kind::EdgeProperty(s, reader)) if *s == slot => (reader, known(a)?, true),
        _ => return None,
    };
    use BinaryOperator::*;
    // Where nothing can pass the bounds are the wrong way round.
    let none = (1, 0);
    let below = |n: i64| n.checked_sub(1).map_or(none, |high| (i64::MIN, high));
    let above = |n: i64| n.checked_add(1).map_or(none, |low| (low, i64::MAX));
    let (low, high) = match (operator, number) {
        (Equal | Less | LessOrEqual | Greater | GreaterOrEqual, None) => none,
        (Equal, Some(n)) => (n, n),
        (Less, Some(n)) => {
            if turned {
                above(n)
            } else {
                below(n)
            }
        }
        (Greater, Some(n)) => {
            if turned {
                below(n)
            } else {
                above(n)
            }
        }
        (LessOrEqual, Some(n)) => {
            if turned {
                (n, i64::MAX)
            } else {
                (i64::MIN, n)
            }
        }
        (GreaterOrEqual, Some(n)) => {
            if turned {
                (i64::MIN, n)
            } else {
                (n, i64::MAX)
            }
        }
        _ => return None,
    };
    Some(Within { reader, low, high })
}
