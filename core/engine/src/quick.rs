//! Conditions on whole numbers without a value made for each: what most filters on edges are. Where
//! anything is not a whole number, overflows or has no answer here, the full evaluation decides.

use std::cmp::Ordering;

use graphodrome_graph::{Dense, Element, NumbersByTable, Value, WholeNumbers};
use graphodrome_language::ast::BinaryOperator;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::counters::Counters;
use crate::expression::{Expr, Kind};
use crate::functions::Function;
use crate::row::Row;
use crate::scope::Scope;

/// A number or null; `None` where the full evaluation must be asked.
#[inline]
pub(crate) fn number(e: &Expr, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Option<Option<i64>> {
    if !scope.typed_reads {
        return None;
    }
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

pub(crate) fn int(value: &Value) -> Option<Option<i64>> {
    match value {
        Value::Int(i) => Some(Some(*i)),
        Value::Null => Some(None),
        _ => None,
    }
}

/// Whether two slots hold one node, unknown where one is null; the outer `None` where they are no nodes.
#[inline]
fn same_node(row: Row<'_>, a: usize, b: usize) -> Option<Option<bool>> {
    let node = |slot: usize| match row.batch.columns.get(slot) {
        Some(Vector::Nodes(nodes)) => Some(nodes[row.row]),
        Some(_) => None,
        None => match row.locals.get(slot - row.batch.columns.len()) {
            Some(Value::Node(node)) => Some(*node),
            _ => None,
        },
    };
    let (a, b) = (node(a)?, node(b)?);
    Some((a != NO_ELEMENT && b != NO_ELEMENT).then_some(a == b))
}

/// True, false or unknown; the outer `None` where the full evaluation must be asked.
#[inline]
pub(crate) fn truth(e: &Expr, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Option<Option<bool>> {
    if !scope.typed_reads {
        return None;
    }
    let Kind::Binary(operator, a, b) = &e.kind else { return None };
    if let (BinaryOperator::Equal | BinaryOperator::NotEqual, Kind::Slot(a), Kind::Slot(b)) =
        (operator, &a.kind, &b.kind)
    {
        let same = same_node(row, *a, *b)?;
        return Some(same.map(|same| same == (*operator == BinaryOperator::Equal)));
    }
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

impl Which<'_> {
    #[inline]
    fn at(self, place: Place) -> Dense {
        match self {
            Which::Edge => place.edge,
            Which::Node => place.node,
            Which::Bound(elements) => elements[place.row],
        }
    }
}

/// A row with the new edge and node, where there are such.
#[derive(Clone, Copy)]
pub(crate) struct Place {
    pub row: usize,
    pub edge: Dense,
    pub node: Dense,
}

/// A whole number of a row whose columns are found once for all rows.
pub(crate) enum RowNumber<'a> {
    Known(Option<i64>),
    /// Of elements that are all in one table: its first number, and its column.
    Property(Which<'a>, Dense, WholeNumbers<'a>),
    ByTable(Which<'a>, NumbersByTable<'a>),
    /// Of the elements that are the base's; what was changed or is new the full evaluation reads.
    OfBase(Which<'a>, Element, &'a Scope, Box<RowNumber<'a>>),
    Computed(Operation, Box<(RowNumber<'a>, RowNumber<'a>)>),
}

#[derive(Clone, Copy)]
pub(crate) enum Operation {
    Add,
    Subtract,
    Multiply,
    Remainder,
}

impl Operation {
    #[inline]
    fn of(self, a: i64, b: i64) -> Option<i64> {
        match self {
            Operation::Add => a.checked_add(b),
            Operation::Subtract => a.checked_sub(b),
            Operation::Multiply => a.checked_mul(b),
            // Small numbers are divided several times as fast.
            Operation::Remainder => match (u32::try_from(a), u32::try_from(b)) {
                (Ok(a), Ok(b)) => a.checked_rem(b).map(i64::from),
                _ => a.checked_rem(b),
            },
        }
    }
}

/// Why there is no number.
#[derive(Clone, Copy, PartialEq)]
pub(crate) enum Lack {
    Null,
    /// The full evaluation must be asked.
    Unknown,
}

/// A property of the element in a slot.
fn property<'a>(
    slot: usize, (element, tables): (Element, NumbersByTable<'a>), batch: &'a Batch, new: &[Which<'a>],
    scope: &'a Scope,
) -> Option<RowNumber<'a>> {
    let which = match batch.columns.get(slot) {
        Some(Vector::Nodes(elements) | Vector::Edges(elements)) => Which::Bound(elements),
        Some(Vector::Values(_) | Vector::Numbers(_)) => return None,
        None => *new.get(slot - batch.columns.len())?,
    };
    let number = match tables[..] {
        [(first, Some(numbers))] => RowNumber::Property(which, first, numbers),
        _ => RowNumber::ByTable(which, tables),
    };
    Some(match scope.elements_are_base(element) {
        true => number,
        false => RowNumber::OfBase(which, element, scope, Box::new(number)),
    })
}

impl<'a> RowNumber<'a> {
    /// The expression on rows of the batch with `new` in the slots behind it; `None` where the full
    /// evaluation must be asked.
    pub fn of(e: &'a Expr, batch: &'a Batch, new: &[Which<'a>], scope: &'a Scope) -> Option<RowNumber<'a>> {
        if !scope.typed_reads {
            return None;
        }
        let both = |operation: Operation, a: &'a Expr, b: &'a Expr| {
            let pair = (RowNumber::of(a, batch, new, scope)?, RowNumber::of(b, batch, new, scope)?);
            Some(RowNumber::Computed(operation, Box::new(pair)))
        };
        match &e.kind {
            Kind::Constant(value) => Some(RowNumber::Known(int(value)?)),
            Kind::Parameter(n) => Some(RowNumber::Known(int(scope.parameters.get(*n)?)?)),
            Kind::NodeProperty(slot, reader) => {
                property(*slot, (Element::Node, scope.node_numbers(reader)?), batch, new, scope)
            }
            Kind::EdgeProperty(slot, reader) => {
                property(*slot, (Element::Edge, scope.edge_numbers(reader)?), batch, new, scope)
            }
            Kind::Binary(BinaryOperator::Add, a, b) => both(Operation::Add, a, b),
            Kind::Binary(BinaryOperator::Subtract, a, b) => both(Operation::Subtract, a, b),
            Kind::Binary(BinaryOperator::Multiply, a, b) => both(Operation::Multiply, a, b),
            Kind::Call(Function::Mod, arguments) => both(Operation::Remainder, &arguments[0], &arguments[1]),
            _ => None,
        }
    }

    /// A date as its day: a property, or one that is known.
    fn of_day(e: &'a Expr, batch: &'a Batch, new: &[Which<'a>], scope: &'a Scope) -> Option<RowNumber<'a>> {
        if !scope.typed_reads {
            return None;
        }
        let known = |value: &Value| match value {
            Value::Date(_) => value.days().map(|days| RowNumber::Known(Some(days.into()))),
            _ => None,
        };
        match &e.kind {
            Kind::Constant(value) => known(value),
            Kind::Parameter(n) => known(scope.parameters.get(*n)?),
            Kind::NodeProperty(slot, reader) => {
                property(*slot, (Element::Node, scope.node_days(reader)?), batch, new, scope)
            }
            Kind::EdgeProperty(slot, reader) => {
                property(*slot, (Element::Edge, scope.edge_days(reader)?), batch, new, scope)
            }
            _ => None,
        }
    }

    /// How many properties it reads.
    pub fn reads(&self) -> u64 {
        match self {
            RowNumber::Known(_) => 0,
            RowNumber::Property(..) | RowNumber::ByTable(..) | RowNumber::OfBase(..) => 1,
            RowNumber::Computed(_, pair) => pair.0.reads() + pair.1.reads(),
        }
    }

    #[inline]
    pub fn get(&self, at: Place) -> Result<i64, Lack> {
        match self {
            RowNumber::Known(number) => number.ok_or(Lack::Null),
            RowNumber::Property(which, first, numbers) => match which.at(at) {
                NO_ELEMENT => Err(Lack::Null),
                id => numbers.get((id - first) as usize).ok_or(Lack::Null),
            },
            RowNumber::ByTable(which, tables) => {
                let id = which.at(at);
                let table = tables.partition_point(|(first, _)| *first <= id).checked_sub(1);
                match (table, id) {
                    (_, NO_ELEMENT) => Err(Lack::Null),
                    (None, _) => Err(Lack::Unknown),
                    (Some(table), _) => {
                        let (first, numbers) = tables[table];
                        numbers.and_then(|numbers| numbers.get((id - first) as usize)).ok_or(Lack::Null)
                    }
                }
            }
            RowNumber::OfBase(which, element, scope, number) => {
                let id = which.at(at);
                let is_base = match element {
                    Element::Node => scope.node_is_base(id),
                    Element::Edge => scope.edge_is_base(id),
                };
                if is_base { number.get(at) } else { Err(Lack::Unknown) }
            }
            RowNumber::Computed(operation, pair) => match (pair.0.get(at), pair.1.get(at)) {
                (Ok(a), Ok(b)) => operation.of(a, b).ok_or(Lack::Unknown),
                (Err(Lack::Unknown), _) | (_, Err(Lack::Unknown)) => Err(Lack::Unknown),
                _ => Err(Lack::Null),
            },
        }
    }
}

/// A comparison of two such numbers.
pub(crate) struct PlainComparison<'a> {
    holds: fn(Ordering) -> bool,
    a: RowNumber<'a>,
    b: RowNumber<'a>,
    pub reads: u64,
}

impl<'a> PlainComparison<'a> {
    pub fn of(
        e: &'a Expr, batch: &'a Batch, new: &[Which<'a>], scope: &'a Scope,
    ) -> Option<PlainComparison<'a>> {
        let Kind::Binary(operator, a, b) = &e.kind else { return None };
        let holds = comparison(*operator)?;
        let of = |e, days| match days {
            false => RowNumber::of(e, batch, new, scope),
            true => RowNumber::of_day(e, batch, new, scope),
        };
        let both = |days| Some((of(a, days)?, of(b, days)?));
        let (a, b) = both(false).or_else(|| both(true))?;
        let reads = a.reads() + b.reads();
        Some(PlainComparison { holds, a, b, reads })
    }

    /// Whether it holds: unknown does not. `None` where the full evaluation must be asked.
    #[inline]
    pub fn get(&self, at: Place) -> Option<bool> {
        match (self.a.get(at), self.b.get(at)) {
            (Ok(a), Ok(b)) => Some((self.holds)(a.cmp(&b))),
            (Err(Lack::Unknown), _) | (_, Err(Lack::Unknown)) => None,
            _ => Some(false),
        }
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
