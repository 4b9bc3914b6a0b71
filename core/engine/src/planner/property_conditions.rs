//! What a condition says of one property of an element: what it equals, which values it may have, what bounds it.

use graphodrome_language::ast::*;
use graphodrome_language::expression_variables;

/// Which side of a range a condition bounds.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum RangeSide {
    Lower,
    Upper,
}

fn is_property(side: &Expression, name: &str, property: &str) -> bool {
    match &side.kind {
        ExpressionKind::Property(operand, p) => {
            *p.text == *property && matches!(&operand.kind, ExpressionKind::Variable(v) if **v == *name)
        }
        _ => false,
    }
}

/// The other side of `name.property = value`.
pub(super) fn key_value<'e>(e: &'e Expression, name: &str, property: &str) -> Option<&'e Expression> {
    let ExpressionKind::Binary(BinaryOperator::Equal, left, right) = &e.kind else { return None };
    if is_property(left, name, property) {
        Some(right)
    } else if is_property(right, name, property) {
        Some(left)
    } else {
        None
    }
}

/// The list of `name.property IN list`.
pub(super) fn key_list<'e>(e: &'e Expression, name: &str, property: &str) -> Option<&'e Expression> {
    match &e.kind {
        ExpressionKind::In { operand, list, negated: false } if is_property(operand, name, property) => {
            Some(list)
        }
        _ => None,
    }
}

/// What bounds `name.property` on a side, and whether the bound itself is let in.
pub(super) fn bound<'e>(
    e: &'e Expression, name: &str, property: &str, side: RangeSide,
) -> Option<(&'e Expression, bool)> {
    use BinaryOperator::{Greater, GreaterOrEqual, Less, LessOrEqual};
    let value = |value: &'e Expression| (!expression_variables(value).contains(name)).then_some(value);
    match &e.kind {
        ExpressionKind::Between { operand, low, high, negated: false }
            if is_property(operand, name, property) =>
        {
            Some((value(if side == RangeSide::Lower { low } else { high })?, true))
        }
        ExpressionKind::Binary(operator, left, right) => {
            let (other, bounds) =
                match (is_property(left, name, property), is_property(right, name, property)) {
                    (true, false) => {
                        (right, matches!(operator, Less | LessOrEqual).then_some(RangeSide::Upper))
                    }
                    (false, true) => {
                        (left, matches!(operator, Less | LessOrEqual).then_some(RangeSide::Lower))
                    }
                    _ => return None,
                };
            let turned = match (bounds, matches!(operator, Greater | GreaterOrEqual)) {
                (Some(side), _) => side,
                (None, true) if is_property(left, name, property) => RangeSide::Lower,
                (None, true) => RangeSide::Upper,
                _ => return None,
            };
            let inclusive = matches!(operator, LessOrEqual | GreaterOrEqual);
            (turned == side).then_some(())?;
            Some((value(other)?, inclusive))
        }
        _ => None,
    }
}
