//! Disjunctions of comparisons as lists: `a.k = 1 OR a.k = 2` is `a.k IN [1, 2]`, which is evaluated once for each row,
//! and may be looked up by a key.

use graphodrome_graph::Value;
use graphodrome_language::Span;
use graphodrome_language::ast::{BinaryOperator, Expression, ExpressionKind};

/// Of so many expressions, those that came last, alternatives are collected.
const MOST_OPERANDS: usize = 8;

/// What is equal to one of several values, or another disjunct.
enum Disjunct {
    OneOf(Expression, Vec<Expression>),
    Other(Expression),
}

fn is_known(e: &Expression) -> bool {
    match &e.kind {
        ExpressionKind::Literal(value) => !matches!(value, Value::List(_) | Value::Record(_)),
        ExpressionKind::Parameter(_) => true,
        ExpressionKind::Negate(e) => matches!(&e.kind, ExpressionKind::Literal(_)),
        _ => false,
    }
}

/// The operands of a chain of ORs, in their order, without recursion along the chain.
pub(crate) fn disjuncts(e: &Expression) -> Vec<&Expression> {
    let (mut found, mut left) = (vec![], vec![e]);
    while let Some(e) = left.pop() {
        match &e.kind {
            ExpressionKind::Binary(BinaryOperator::Or, a, b) => left.extend([&**b, &**a]),
            _ => found.push(e),
        }
    }
    found
}

/// An expression and the values that a disjunct compares it with.
fn compared(e: &Expression) -> Option<(&Expression, Vec<Expression>)> {
    match &e.kind {
        ExpressionKind::Binary(BinaryOperator::Equal, a, b) => match (is_known(a), is_known(b)) {
            (false, true) => Some((a, vec![(**b).clone()])),
            (true, false) => Some((b, vec![(**a).clone()])),
            _ => None,
        },
        ExpressionKind::In { operand, list, negated: false } => match &list.kind {
            ExpressionKind::List(items) if !is_known(operand) && items.iter().all(is_known) => {
                Some((operand, items.clone()))
            }
            _ => None,
        },
        _ => None,
    }
}

/// The same condition with lists in the place of alternatives; `None` where there are none.
pub(crate) fn with_lists(e: &Expression) -> Option<Expression> {
    let ExpressionKind::Binary(BinaryOperator::Or, ..) = &e.kind else { return None };
    let (mut found, mut some): (Vec<Disjunct>, bool) = (vec![], false);
    for disjunct in disjuncts(e) {
        let Some((operand, values)) = compared(disjunct) else {
            found.push(Disjunct::Other(disjunct.clone()));
            continue;
        };
        let known = found.iter_mut().rev().take(MOST_OPERANDS).find_map(|known| match known {
            Disjunct::OneOf(own, all) if own == operand => Some(all),
            _ => None,
        });
        match known {
            Some(all) => {
                all.extend(values);
                some = true;
            }
            None => found.push(Disjunct::OneOf(operand.clone(), values)),
        }
    }
    if !some {
        return None;
    }
    let span = e.span;
    let put = |disjunct: Disjunct| match disjunct {
        Disjunct::Other(e) => e,
        Disjunct::OneOf(operand, values) => one_of(operand, values, span),
    };
    let or = |a: Expression, b: Expression| {
        let kind = ExpressionKind::Binary(BinaryOperator::Or, Box::new(a), Box::new(b));
        Expression { kind, span }
    };
    found.into_iter().map(put).reduce(or)
}

fn one_of(operand: Expression, mut values: Vec<Expression>, span: Span) -> Expression {
    let kind = match values.len() {
        1 => {
            ExpressionKind::Binary(BinaryOperator::Equal, Box::new(operand), Box::new(values.swap_remove(0)))
        }
        _ => {
            let list = Expression { kind: ExpressionKind::List(values), span };
            ExpressionKind::In { operand: Box::new(operand), list: Box::new(list), negated: false }
        }
    };
    Expression { kind, span }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use graphodrome_language::parse_expression;

    fn condition(text: &str) -> Expression {
        parse_expression(text).unwrap()
    }

    #[test]
    fn alternatives_become_lists() {
        for (text, expected) in [
            ("a.k = 1 OR a.k = 2", Some("a.k IN [1, 2]")),
            ("a.k = 1 OR 2 = a.k OR a.k IN [3, 4]", Some("a.k IN [1, 2, 3, 4]")),
            ("a.k = -1 OR a.k = $p", Some("a.k IN [-1, $p]")),
            ("a.k = 1 OR b.k = 5 OR a.k = 2", Some("a.k IN [1, 2] OR b.k = 5")),
            ("a.k = 1 OR (a.k = 2 OR a.k = 3)", Some("a.k IN [1, 2, 3]")),
            ("a.k + 1 = 2 OR a.k + 1 = 3", Some("a.k + 1 IN [2, 3]")),
            ("a.k = 1 OR a.k < 5 OR a.k = NULL", Some("a.k IN [1, NULL] OR a.k < 5")),
            ("a.k = 1 OR b.k = 1", None),
            ("a.k = 1 AND a.k = 2", None),
            ("a.k = b.k OR a.k = e.k", None),
            ("a.k <> 1 OR a.k <> 2", None),
            ("NOT a.k IN [1] OR a.k NOT IN [2]", None),
        ] {
            assert_eq!(with_lists(&condition(text)), expected.map(condition), "{text}");
        }
    }

    #[test]
    fn a_long_chain_needs_no_stack() {
        let chain = (0..20_000).map(|i| format!("a.k = 'v{i}'")).collect::<Vec<_>>().join(" OR ");
        let ExpressionKind::In { list, .. } = with_lists(&condition(&chain)).unwrap().kind else { panic!() };
        assert!(matches!(list.kind, ExpressionKind::List(items) if items.len() == 20_000));
    }
}
