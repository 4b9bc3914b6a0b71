//! Conditions that are ranges of one property: its comparison with a known value, and that of what adding, subtracting and
//! multiplying by known whole numbers make of it.

use graphodrome_graph::{Column, Measure, PropertyReader, Value, WholeNumbers};
use graphodrome_language::ast::BinaryOperator;

use crate::expression::{Expr, Kind};
use crate::scope::Scope;

/// What a property, or what is made of it, is compared with.
pub(crate) struct PropertyRange<'e> {
    pub reader: &'e PropertyReader,
    times: i64,
    more: i64,
    operator: BinaryOperator,
    value: Value,
}

impl PropertyRange<'_> {
    /// The numbers of a column, and the least and greatest of those that satisfy the condition; `None` if values have no
    /// numbers that compare with the value, or something made of them could have no result.
    pub fn within<'c>(&self, column: &'c Column) -> Option<(WholeNumbers<'c>, i64, i64)> {
        use BinaryOperator::*;
        let (measure, numbers) = column.measured()?;
        let range = match (self.operator, measure.count(&self.value)?) {
            (_, None) => None,
            (Equal, Some(n)) => Some((n, n)),
            (Less, Some(n)) => n.checked_sub(1).map(|high| (i64::MIN, high)),
            (Greater, Some(n)) => n.checked_add(1).map(|low| (low, i64::MAX)),
            (LessOrEqual, Some(n)) => Some((i64::MIN, n)),
            (_, Some(n)) => Some((n, i64::MAX)),
        };
        // Where nothing can pass the bounds are the wrong way round.
        let (low, high) = range.unwrap_or((1, 0));
        if (self.times, self.more) == (1, 0) {
            return Some((numbers, low, high));
        }
        // Of numbers further from zero an operation could have no result, which is an error.
        if measure != Measure::Whole || numbers.furthest() > SMALL as u64 {
            return None;
        }
        let (low, high) = range.map_or((1, 0), |range| back((self.times, self.more), range));
        Some((numbers, low, high))
    }
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
            Value::Int(n) => Some(*n),
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

fn known<'v>(e: &'v Expr, scope: &'v Scope) -> Option<&'v Value> {
    match &e.kind {
        Kind::Constant(value) => Some(value),
        Kind::Parameter(n) => scope.parameters.get(*n),
        _ => None,
    }
}

/// The condition as ranges of a property of the edge in `slot`, all of which must hold, where it is such.
pub(crate) fn edge_ranges<'e>(e: &'e Expr, slot: usize, scope: &Scope) -> Option<Vec<PropertyRange<'e>>> {
    if !scope.typed_reads {
        return None;
    }
    match &e.kind {
        Kind::Binary(operator, a, b) => Some(vec![compared(*operator, a, b, slot, scope)?]),
        Kind::Between(a, low, high, false) => Some(vec![
            compared(BinaryOperator::GreaterOrEqual, a, low, slot, scope)?,
            compared(BinaryOperator::LessOrEqual, a, high, slot, scope)?,
        ]),
        _ => None,
    }
}

fn compared<'e>(
    operator: BinaryOperator, a: &'e Expr, b: &'e Expr, slot: usize, scope: &Scope,
) -> Option<PropertyRange<'e>> {
    use BinaryOperator::*;
    let (linear, value, operator) = match Linear::of(a, slot, scope) {
        Some(linear) => (linear, known(b, scope)?, operator),
        None => {
            let turned = match operator {
                Less => Greater,
                LessOrEqual => GreaterOrEqual,
                Greater => Less,
                GreaterOrEqual => LessOrEqual,
                other => other,
            };
            (Linear::of(b, slot, scope)?, known(a, scope)?, turned)
        }
    };
    let Linear { reader, times, more } = linear;
    matches!(operator, Equal | Less | LessOrEqual | Greater | GreaterOrEqual).then(|| PropertyRange {
        reader,
        times,
        more,
        operator,
        value: value.clone(),
    })
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
