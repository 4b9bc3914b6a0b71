//! Conditions on numbers, texts and dates without building values: the majority of filters on edges. Other types,
//! overflow and undefined results are left to the general evaluation.

use std::cmp::Ordering;

use graphodrome_graph::{Column, Dense, Element, Measure, NumbersByTable, Unit, Value, WholeNumbers};
use graphodrome_language::ast::BinaryOperator;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::counters::Counters;
use crate::expression::{Expr, Kind};
use crate::functions::Function;
use crate::listed::known_list;
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

/// A value without anything of its own: a number, a text where it lies, or any other value where it lies.
#[derive(Clone, Copy)]
enum Scalar<'a> {
    Null,
    Int(i64),
    Float(f64),
    Bool(bool),
    /// Days since 1970-01-01.
    Day(i32),
    Unit(i64, Unit),
    Text(&'a str),
    Kept(&'a Value),
}

impl Scalar<'_> {
    /// As [`Value::compare`]; the outer `None` where that is an error.
    #[inline]
    fn compare(self, other: Scalar<'_>) -> Option<Option<Ordering>> {
        match (self, other) {
            (Scalar::Null, _) | (_, Scalar::Null) => Some(None),
            (Scalar::Int(a), Scalar::Int(b)) => Some(Some(a.cmp(&b))),
            (Scalar::Float(a), Scalar::Float(b)) => Some(a.partial_cmp(&b)),
            (Scalar::Text(a), Scalar::Text(b)) => Some(Some(a.cmp(b))),
            (Scalar::Day(a), Scalar::Day(b)) => Some(Some(a.cmp(&b))),
            (Scalar::Unit(a, unit), Scalar::Unit(b, other)) if unit.compares_with(other) => {
                Some(Some(a.cmp(&b)))
            }
            (Scalar::Kept(a), Scalar::Kept(b)) => a.compare(b).ok(),
            (Scalar::Kept(a), b) => a.compare(&b.value()?).ok(),
            (a, Scalar::Kept(b)) => a.value()?.compare(b).ok(),
            (a, b) => a.value()?.compare(&b.value()?).ok(),
        }
    }

    /// A value that is made without a copy of a text.
    fn value(self) -> Option<Value> {
        Some(match self {
            Scalar::Null => Value::Null,
            Scalar::Int(int) => Value::Int(int),
            Scalar::Float(float) => Value::Float(float),
            Scalar::Bool(truth) => Value::Bool(truth),
            Scalar::Day(day) => Column::date(day),
            Scalar::Unit(number, unit) => unit.value(number),
            Scalar::Text(_) | Scalar::Kept(_) => return None,
        })
    }
}

fn known(value: &Value) -> Option<Scalar<'_>> {
    Some(match value {
        Value::Null => Scalar::Null,
        Value::Int(int) => Scalar::Int(*int),
        Value::Float(float) => Scalar::Float(*float),
        Value::Bool(truth) => Scalar::Bool(*truth),
        Value::Text(text) => Scalar::Text(text),
        // Whether lists and records are equal is another question than how they compare.
        Value::List(_) | Value::Record(_) => return None,
        Value::Date(_) => value.days().map_or(Scalar::Kept(value), Scalar::Day),
        other => Unit::of(other).map_or(Scalar::Kept(other), |(unit, number)| Scalar::Unit(number, unit)),
    })
}

/// Of longer lists the full evaluation asks now and then whether to go on.
const SHORT_LIST: usize = 64;

/// A value that is read without a copy of its text, or a sum, difference, product or quotient of numbers; `None` where the
/// full evaluation must be asked.
#[inline]
fn scalar<'s>(e: &'s Expr, row: Row<'_>, scope: &'s Scope, counters: &mut Counters) -> Option<Scalar<'s>> {
    match &e.kind {
        Kind::Constant(value) => known(value),
        Kind::Parameter(n) => known(scope.parameters.get(*n)?),
        Kind::NodeProperty(slot, reader) => {
            counters.properties_read += 1;
            cell(scope.snapshot.node_cell(row.element(*slot)?, reader)?)
        }
        Kind::EdgeProperty(slot, reader) => {
            counters.properties_read += 1;
            cell(scope.snapshot.edge_cell(row.element(*slot)?, reader)?)
        }
        Kind::Binary(operator, a, b) => {
            let (a, b) = (scalar(a, row, scope, counters)?, scalar(b, row, scope, counters)?);
            computed(*operator, a, b)
        }
        Kind::Call(Function::Mod, _) => {
            number(e, row, scope, counters).map(|number| number.map_or(Scalar::Null, Scalar::Int))
        }
        _ => None,
    }
}

#[inline]
fn cell(found: Option<(&Column, usize)>) -> Option<Scalar<'_>> {
    let Some((column, at)) = found else { return Some(Scalar::Null) };
    if let Column::Int(ints) = column {
        return Some(if ints.is_null(at) { Scalar::Null } else { Scalar::Int(ints.value(at)) });
    }
    if column.is_null(at) {
        return Some(Scalar::Null);
    }
    match column {
        Column::Text(_) | Column::Coded(..) => column.text(at).map(Scalar::Text),
        Column::Float(_) => column.floats().map(|floats| Scalar::Float(floats[at])),
        Column::Date(_) => column.days().map(|days| Scalar::Day(days[at])),
        Column::Units(numbers, unit) => Some(Scalar::Unit(numbers.value(at), *unit)),
        Column::Other(values) => known(&values[at]),
        Column::Bool(_) | Column::Int(_) => match column.value(at) {
            Value::Bool(truth) => Some(Scalar::Bool(truth)),
            _ => None,
        },
    }
}

fn computed<'a>(operator: BinaryOperator, a: Scalar<'_>, b: Scalar<'_>) -> Option<Scalar<'a>> {
    let (a, b) = match (a, b) {
        (Scalar::Null, other) | (other, Scalar::Null) => {
            let number = matches!(other, Scalar::Null | Scalar::Int(_) | Scalar::Float(_));
            return number.then_some(Scalar::Null);
        }
        (Scalar::Int(a), Scalar::Int(b)) => {
            let result = match operator {
                BinaryOperator::Add => a.checked_add(b),
                BinaryOperator::Subtract => a.checked_sub(b),
                BinaryOperator::Multiply => a.checked_mul(b),
                _ => None,
            };
            return result.map(Scalar::Int);
        }
        (Scalar::Int(a), Scalar::Float(b)) => (a as f64, b),
        (Scalar::Float(a), Scalar::Int(b)) => (a, b as f64),
        (Scalar::Float(a), Scalar::Float(b)) => (a, b),
        _ => return None,
    };
    let result = match operator {
        BinaryOperator::Add => a + b,
        BinaryOperator::Subtract => a - b,
        BinaryOperator::Multiply => a * b,
        BinaryOperator::Divide if b != 0.0 => a / b,
        _ => return None,
    };
    // What is out of range, or no number, the full evaluation tells.
    result.is_finite().then_some(Scalar::Float(result))
}

/// How two values compare; `None` in it where one is null, the outer one where the full evaluation must be asked.
#[inline]
fn compared(
    a: &Expr, b: &Expr, row: Row<'_>, scope: &Scope, counters: &mut Counters,
) -> Option<Option<Ordering>> {
    scalar(a, row, scope, counters)?.compare(scalar(b, row, scope, counters)?)
}

/// True, false or unknown; the outer `None` where the full evaluation must be asked.
#[inline]
pub(crate) fn truth(e: &Expr, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Option<Option<bool>> {
    if !scope.typed_reads {
        return None;
    }
    let (operator, a, b) = match &e.kind {
        Kind::Binary(operator, a, b) => (operator, a, b),
        _ => return other_truth(e, row, scope, counters),
    };
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
    Some(compared(a, b, row, scope, counters)?.map(wanted))
}

/// [`truth`] of what is no comparison of two values.
fn other_truth(e: &Expr, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Option<Option<bool>> {
    match &e.kind {
        Kind::Not(a) => Some(truth(a, row, scope, counters)?.map(|truth| !truth)),
        Kind::IsNull(a, negated) => {
            let is_null = matches!(scalar(a, row, scope, counters)?, Scalar::Null);
            Some(Some(is_null != *negated))
        }
        Kind::Between(a, low, high, negated) => {
            let (a, low, high) = (
                scalar(a, row, scope, counters)?,
                scalar(low, row, scope, counters)?,
                scalar(high, row, scope, counters)?,
            );
            let (above, below) =
                (a.compare(low)?.map(Ordering::is_ge), a.compare(high)?.map(Ordering::is_le));
            let within = match (above, below) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            };
            Some(within.map(|within| within != *negated))
        }
        Kind::In(a, list, negated, table) => {
            let a = scalar(a, row, scope, counters)?;
            if let Some(known) = known_list(list, table, scope) {
                let found = match a {
                    Scalar::Int(int) if known.is_whole() => known.has_int(int),
                    Scalar::Text(text) => known.has_text(text)?,
                    Scalar::Kept(value) => known.has(value)?,
                    other => known.has(&other.value()?)?,
                };
                return Some(found.map(|found| found != *negated));
            }
            let mut found = Some(false);
            let mut is_it = |item: Scalar<'_>| -> Option<bool> {
                let order = a.compare(item)?;
                found = if order.is_none() { None } else { found };
                Some(order.is_some_and(Ordering::is_eq))
            };
            // A list of values that are known: a computed one may have errors, wherever the value is in it.
            let any = match &list.kind {
                Kind::List(items) if items.len() <= SHORT_LIST => {
                    let mut any = false;
                    for item in items {
                        if !matches!(item.kind, Kind::Constant(_) | Kind::Parameter(_)) {
                            return None;
                        }
                        any = any || is_it(scalar(item, row, scope, counters)?)?;
                    }
                    any
                }
                Kind::Constant(Value::List(items)) if items.len() <= SHORT_LIST => {
                    let mut any = false;
                    for item in items.iter() {
                        any = any || is_it(known(item)?)?;
                    }
                    any
                }
                _ => return None,
            };
            let found = if any { Some(true) } else { found };
            Some(found.map(|found| found != *negated))
        }
        _ => None,
    }
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

    /// A property, or a value that is known, as what `measure` counts; without one, the property's own.
    fn measured(
        e: &'a Expr, measure: Option<Measure>, batch: &'a Batch, new: &[Which<'a>], scope: &'a Scope,
    ) -> Option<(Measure, RowNumber<'a>)> {
        if !scope.typed_reads {
            return None;
        }
        let known = |value: &Value| {
            let measure = measure?;
            Some((measure, RowNumber::Known(measure.count(value)?)))
        };
        let (element, slot, reader) = match &e.kind {
            Kind::Constant(value) => return known(value),
            Kind::Parameter(n) => return known(scope.parameters.get(*n)?),
            Kind::NodeProperty(slot, reader) => (Element::Node, *slot, reader),
            Kind::EdgeProperty(slot, reader) => (Element::Edge, *slot, reader),
            _ => return None,
        };
        let (own, tables) = scope.measured(element, reader)?;
        if measure.is_some_and(|measure| !measure.compares_with(own)) {
            return None;
        }
        Some((own, property(slot, (element, tables), batch, new, scope)?))
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
        let numbers = || Some((RowNumber::of(a, batch, new, scope)?, RowNumber::of(b, batch, new, scope)?));
        let of = |e, measure| RowNumber::measured(e, measure, batch, new, scope);
        // The property says what the numbers count.
        let measured = || match of(a, None) {
            Some((measure, a)) => Some((a, of(b, Some(measure))?.1)),
            None => {
                let (measure, b) = of(b, None)?;
                Some((of(a, Some(measure))?.1, b))
            }
        };
        let (a, b) = numbers().or_else(measured)?;
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
