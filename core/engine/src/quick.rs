//! Conditions on whole numbers without a value made for each: what most filters on edges are. Where
//! anything is not a whole number, overflows or has no answer here, the full evaluation decides.

use std::cmp::Ordering;

use graphodrome_graph::Value;
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
