//! Conditions on whole numbers without a value made for each: what most filters on edges are. Where
//! anything is not a whole number, overflows or has no answer here, the full evaluation decides.

use std::cmp::Ordering;

use graphodrome_graph::{Dense, NumbersByTable, PropertyReader, Value};
use graphodrome_language::ast::BinaryOperator;

use crate::batch::{Batch, NO_ELEMENT, Vector};
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
    let wanted = match operator {
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
        other => comparison(*other)?,
    };
    let a = number(a, row, scope, counters)?;
    let b = number(b, row, scope, counters)?;
    Some(a.zip(b).map(|(a, b)| wanted(a.cmp(&b))))
}

/// Where an element is: the new edge or node of an operator, or one of its input's rows.
#[derive(Clone, Copy)]
pub(crate) enum Which<'a> {
    Edge,
    Node,
    Bound(&'a [Dense]),
}

/// A row with the new edge and node, where there are such.
#[derive(Clone, Copy)]
pub(crate) struct Place {
    pub row: usize,
    pub edge: Dense,
    pub node: Dense,
}

/// A whole number of a row whose columns are found once for all rows.
pub(crate) enum Number<'a> {
    Known(Option<i64>),
    Property(Which<'a>, NumbersByTable<'a>),
    Computed(Operation, Box<(Number<'a>, Number<'a>)>),
}

type Operation = fn(i64, i64) -> Option<i64>;

impl<'a> Number<'a> {
    /// The expression on rows of the batch with `new` in the slots behind it; `None` where the full
    /// evaluation must be asked.
    pub fn of(e: &'a Expr, batch: &'a Batch, new: &[Which<'a>], scope: &'a Scope) -> Option<Number<'a>> {
        let which = |slot: usize| match batch.columns.get(slot) {
            Some(Vector::Nodes(elements) | Vector::Edges(elements)) => Some(Which::Bound(elements)),
            Some(Vector::Values(_)) => None,
            None => new.get(slot - batch.columns.len()).copied(),
        };
        let both = |operation: Operation, a: &'a Expr, b: &'a Expr| {
            let pair = (Number::of(a, batch, new, scope)?, Number::of(b, batch, new, scope)?);
            Some(Number::Computed(operation, Box::new(pair)))
        };
        match &e.kind {
            Kind::Constant(value) => Some(Number::Known(int(value)?)),
            Kind::Parameter(n) => Some(Number::Known(int(scope.parameters.get(*n)?)?)),
            Kind::NodeProperty(slot, reader) => {
                Some(Number::Property(which(*slot)?, scope.node_numbers(reader)?))
            }
            Kind::EdgeProperty(slot, reader) => {
                Some(Number::Property(which(*slot)?, scope.edge_numbers(reader)?))
            }
            Kind::Binary(BinaryOperator::Add, a, b) => both(i64::checked_add, a, b),
            Kind::Binary(BinaryOperator::Subtract, a, b) => both(i64::checked_sub, a, b),
            Kind::Binary(BinaryOperator::Multiply, a, b) => both(i64::checked_mul, a, b),
            Kind::Call(Function::Mod, arguments) => both(i64::checked_rem, &arguments[0], &arguments[1]),
            _ => None,
        }
    }

    /// How many properties it reads.
    pub fn reads(&self) -> u64 {
        match self {
            Number::Known(_) => 0,
            Number::Property(..) => 1,
            Number::Computed(_, pair) => pair.0.reads() + pair.1.reads(),
        }
    }

    /// The number or null; `None` where the full evaluation must be asked.
    #[inline]
    pub fn get(&self, at: Place) -> Option<Option<i64>> {
        match self {
            Number::Known(number) => Some(*number),
            Number::Property(which, tables) => {
                let id = match which {
                    Which::Edge => at.edge,
                    Which::Node => at.node,
                    Which::Bound(elements) => elements[at.row],
                };
                if id == NO_ELEMENT {
                    return Some(None);
                }
                let table = match &tables[..] {
                    [only] => only,
                    _ => &tables[tables.partition_point(|(first, _)| *first <= id).checked_sub(1)?],
                };
                Some(table.1.and_then(|numbers| numbers.get((id - table.0) as usize)))
            }
            Number::Computed(operation, pair) => match (pair.0.get(at)?, pair.1.get(at)?) {
                (Some(a), Some(b)) => operation(a, b).map(Some),
                _ => Some(None),
            },
        }
    }
}

/// A comparison of two such numbers.
pub(crate) struct Comparison<'a> {
    holds: fn(Ordering) -> bool,
    a: Number<'a>,
    b: Number<'a>,
    pub reads: u64,
}

impl<'a> Comparison<'a> {
    pub fn of(e: &'a Expr, batch: &'a Batch, new: &[Which<'a>], scope: &'a Scope) -> Option<Comparison<'a>> {
        let Kind::Binary(operator, a, b) = &e.kind else { return None };
        let holds = comparison(*operator)?;
        let (a, b) = (Number::of(a, batch, new, scope)?, Number::of(b, batch, new, scope)?);
        let reads = a.reads() + b.reads();
        Some(Comparison { holds, a, b, reads })
    }

    /// Whether it holds: unknown does not. `None` where the full evaluation must be asked.
    #[inline]
    pub fn get(&self, at: Place) -> Option<bool> {
        let (a, b) = (self.a.get(at)?, self.b.get(at)?);
        Some(a.zip(b).is_some_and(|(a, b)| (self.holds)(a.cmp(&b))))
    }
}

fn comparison(operator: BinaryOperator) -> Option<fn(Ordering) -> bool> {
    Some(match operator {
        BinaryOperator::Equal => Ordering::is_eq,
        BinaryOperator::NotEqual => Ordering::is_ne,
        BinaryOperator::Less => Ordering::is_lt,
        BinaryOperator::LessOrEqual => Ordering::is_le,
        BinaryOperator::Greater => Ordering::is_gt,
        BinaryOperator::GreaterOrEqual => Ordering::is_ge,
        _ => return None,
    })
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
