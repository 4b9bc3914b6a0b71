//! Conditions that are ranges of one property: its comparison with a known value, and that of what adding, subtracting and
//! multiplying by known whole numbers make of it.

use graphodrome_graph::{PropertyReader, Value};
use graphodrome_language::ast::BinaryOperator;

use crate::expression::{Expr, Kind};
use crate::quick::int;
use crate::scope::Scope;

/// The numbers from `low` to `high` of one property, or the dates by their days.
pub(crate) struct PropertyRange<'e> {
    pub reader: &'e PropertyReader,
    pub days: bool,
    pub low: i64,
    pub high: i64,
    /// Of numbers further from zero an operation could have no result, which is an error.
    pub furthest: u64,
}

/// What is made of a property: so many times it, and so much more.
#[derive(Clone, Copy)]
struct Linear<'e> {
    reader: &'e PropertyReader,
    times: i64,
    more: i64,
}

/// Factors and what is added stay below this, and numbers may be as large: no step on the way overflows.
const SMALL: i64 = 1 << 31;

impl<'e> Linear<'e> {
    fn of(e: &'e Expr, slot: usize, scope: &Scope) -> Option<Linear<'e>> {
        if let Kind::EdgeProperty(s, reader) = &e.kind {
            return (*s == slot).then_some(Linear { reader, times: 1, more: 0 });
        }
        let Kind::Binary(operator, a, b) = &e.kind else { return None };
        let number = |e: &Expr| match known(e, scope)? {
            (Some(n), false) => Some(n),
            _ => None,
        };
        let (of, n, turned) = match (number(a), number(b)) {
            (None, Some(n)) => (Linear::of(a, slot, scope)?, n, false),
            (Some(n), None) => (Linear::of(b, slot, scope)?, n, true),
            _ => return None,
        };
        let Linear { reader, times, more } = of;
        let (times, more) = match (operator, turned) {
            (BinaryOperator::Add, _) => (times, more.checked_add(n)?),
            (BinaryOperator::Subtract, false) => (times, more.checked_sub(n)?),
            (BinaryOperator::Subtract, true) => (-times, n.checked_sub(more)?),
            (BinaryOperator::Multiply, _) => (times.checked_mul(n)?, more.checked_mul(n)?),
            _ => return None,
        };
        let small = |n: i64| n.unsigned_abs() < SMALL as u64;
        (times != 0 && small(times) && small(more) && small(n)).then_some(Linear { reader, times, more })
    }
}

/// The numbers that, so many times and so much more, lie from `low` to `high`.
fn back((times, more): (i64, i64), (low, high): (i64, i64)) -> (i64, i64) {
    let (times, more) = (i128::from(times), i128::from(more));
    let (low, high) = (i128::from(low) - more, i128::from(high) - more);
    let (low, high) = if times > 0 { (low, high) } else { (-high, -low) };
    let times = times.abs();
    let within = |n: i128| n.clamp(i64::MIN.into(), i64::MAX.into()) as i64;
    // Rounded up, and down.
    (within(-(-low).div_euclid(times)), within(high.div_euclid(times)))
}

/// A whole number or a day, or null, and whether it is a day.
fn known(e: &Expr, scope: &Scope) -> Option<(Option<i64>, bool)> {
    let of = |value: &Value| match value {
        Value::Date(_) => Some((Some(i64::from(value.days()?)), true)),
        _ => Some((int(value)?, false)),
    };
    match &e.kind {
        Kind::Constant(value) => of(value),
        Kind::Parameter(n) => of(scope.parameters.get(*n)?),
        _ => None,
    }
}

/// The condition as a range of a property of the edge in `slot`, where it is one.
pub(crate) fn edge_range<'e>(e: &'e Expr, slot: usize, scope: &Scope) -> Option<PropertyRange<'e>> {
    use BinaryOperator::*;
    if !scope.typed_reads {
        return None;
    }
    let Kind::Binary(operator, a, b) = &e.kind else { return None };
    let (linear, (number, days), operator) = match Linear::of(a, slot, scope) {
        Some(linear) => (linear, known(b, scope)?, *operator),
        None => {
            let turned = match operator {
                Less => Greater,
                LessOrEqual => GreaterOrEqual,
                Greater => Less,
                GreaterOrEqual => LessOrEqual,
                other => *other,
            };
            (Linear::of(b, slot, scope)?, known(a, scope)?, turned)
        }
    };
    // Where nothing can pass the bounds are the wrong way round.
    let none = (1, 0);
    let range = match (operator, number) {
        (Equal | Less | LessOrEqual | Greater | GreaterOrEqual, None) => None,
        (Equal, Some(n)) => Some((n, n)),
        (Less, Some(n)) => n.checked_sub(1).map(|high| (i64::MIN, high)),
        (Greater, Some(n)) => n.checked_add(1).map(|low| (low, i64::MAX)),
        (LessOrEqual, Some(n)) => Some((i64::MIN, n)),
        (GreaterOrEqual, Some(n)) => Some((n, i64::MAX)),
        _ => return None,
    };
    let Linear { reader, times, more } = linear;
    if (times, more) == (1, 0) {
        let (low, high) = range.unwrap_or(none);
        return Some(PropertyRange { reader, days, low, high, furthest: u64::MAX });
    }
    // A number of days is added to no date here.
    if days {
        return None;
    }
    let (low, high) = range.map_or(none, |range| back((times, more), range));
    Some(PropertyRange { reader, days, low, high, furthest: SMALL as u64 })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Of every small number: what is made of it lies within exactly where the number does.
    #[test]
    fn ranges_are_taken_back_exactly() {
        for times in [-7, -3, -2, -1, 1, 2, 3, 5] {
            for more in [-4, -1, 0, 1, 6] {
                for (low, high) in [(i64::MIN, 5), (-3, i64::MAX), (0, 0), (2, 9), (5, 4), (-8, -3)] {
                    let (least, most) = back((times, more), (low, high));
                    for x in -40..40 {
                        let made = times * x + more;
                        let is_within = (low..=high).contains(&made);
                        assert_eq!(
                            is_within,
                            (least..=most).contains(&x),
                            "{times} * {x} + {more} in {low}..{high}"
                        );
                    }
                }
            }
        }
    }
}
