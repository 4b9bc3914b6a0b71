//! Evaluates expressions and conditions for all rows of a batch: numbers and dates as typed columns, without a
//! value for each cell. If a row has a value of another type, or an operation has no result, there is no column,
//! and the general evaluation decides row by row; only it raises errors.

use graphodrome_graph::{Column, ColumnsByTable, Dense, Element, Unit, Value};
use graphodrome_language::ast::BinaryOperator;

use hashbrown::HashMap;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::counters::Counters;
use crate::evaluate::Evaluator;
use crate::expression::{Expr, Kind};
use crate::functions::Function;
use crate::listed::known_list;
use crate::number_columns::{
    FALSE, TRUE, TruthOfRow, UNKNOWN, all_null, combined, compared, negated, put_together,
};
use crate::of_text::{TextColumns, TextPlace};
use crate::plain_texts::truths_of_plain_texts;
use crate::row::Row;
use crate::scope::Scope;
use crate::{Cells, Numbers};

/// Numbers with how many properties were read for them.
pub(crate) struct Evaluated {
    pub numbers: Numbers,
    pub reads: u64,
}

/// Puts a column together cell by cell, as long as all are of one type.
struct ColumnBuilder {
    /// `None` before the first that is not null.
    cells: Option<Cells>,
    nulls: Vec<bool>,
    any_null: bool,
}

impl ColumnBuilder {
    fn new(rows: usize) -> ColumnBuilder {
        ColumnBuilder { cells: None, nulls: Vec::with_capacity(rows), any_null: false }
    }

    fn push_null(&mut self) {
        match &mut self.cells {
            Some(Cells::Ints(ints)) => ints.push(0),
            Some(Cells::Floats(floats)) => floats.push(0.0),
            Some(Cells::Days(days)) => days.push(0),
            Some(Cells::Units(numbers, _)) => numbers.push(0),
            None => {}
        }
        self.nulls.push(true);
        self.any_null = true;
    }

    fn push_int(&mut self, int: i64) -> Option<()> {
        let before = self.nulls.len();
        let cells = self.cells.get_or_insert_with(|| Cells::Ints(vec![0; before]));
        let Cells::Ints(ints) = cells else { return None };
        ints.push(int);
        self.nulls.push(false);
        Some(())
    }

    fn push_float(&mut self, float: f64) -> Option<()> {
        let before = self.nulls.len();
        let cells = self.cells.get_or_insert_with(|| Cells::Floats(vec![0.0; before]));
        let Cells::Floats(floats) = cells else { return None };
        floats.push(float);
        self.nulls.push(false);
        Some(())
    }

    fn push_day(&mut self, day: i32) -> Option<()> {
        let before = self.nulls.len();
        let cells = self.cells.get_or_insert_with(|| Cells::Days(vec![0; before]));
        let Cells::Days(days) = cells else { return None };
        days.push(day);
        self.nulls.push(false);
        Some(())
    }

    fn push_unit(&mut self, number: i64, unit: Unit) -> Option<()> {
        let before = self.nulls.len();
        let cells = self.cells.get_or_insert_with(|| Cells::Units(vec![0; before], unit));
        let Cells::Units(numbers, own) = cells else { return None };
        if *own != unit {
            return None;
        }
        numbers.push(number);
        self.nulls.push(false);
        Some(())
    }

    fn push_value(&mut self, value: &Value) -> Option<()> {
        match value {
            Value::Null => {
                self.push_null();
                Some(())
            }
            Value::Int(int) => self.push_int(*int),
            Value::Float(float) => self.push_float(*float),
            other => {
                let (unit, number) = Unit::of(other)?;
                self.push_unit(number, unit)
            }
        }
    }

    fn push_cell(&mut self, column: &Column, row: usize) -> Option<()> {
        match column {
            _ if column.is_null(row) => {
                self.push_null();
                Some(())
            }
            Column::Int(ints) => self.push_int(ints.numbers().value(row)),
            Column::Units(numbers, unit) => self.push_unit(numbers.value(row), *unit),
            _ => match (column.floats(), column.days()) {
                (Some(floats), _) => self.push_float(floats[row]),
                (_, Some(days)) => self.push_day(days[row]),
                _ => None,
            },
        }
    }

    fn finish(self) -> Numbers {
        let rows = self.nulls.len();
        Numbers {
            // Where all are null any type will do.
            cells: self.cells.unwrap_or_else(|| Cells::Ints(vec![0; rows])),
            nulls: if self.any_null { self.nulls } else { vec![] },
        }
    }
}

/// The expression on every row of the batch; `None` where the full evaluation must be asked.
pub(crate) fn column(e: &Expr, batch: &Batch, scope: &Scope) -> Option<Evaluated> {
    if !scope.typed_reads || matches!(e.kind, Kind::Constant(_) | Kind::Parameter(_)) {
        return None;
    }
    let mut reads = 0;
    let numbers = evaluated(e, batch, scope, &mut reads)?;
    Some(Evaluated { numbers, reads })
}

fn evaluated(e: &Expr, batch: &Batch, scope: &Scope, reads: &mut u64) -> Option<Numbers> {
    match &e.kind {
        Kind::Constant(value) => constant(value, batch.len),
        Kind::Parameter(number) => constant(scope.parameters.get(*number)?, batch.len),
        Kind::Slot(slot) => match batch.columns.get(*slot)? {
            Vector::Values(values) => {
                let mut column = ColumnBuilder::new(values.len());
                values.iter().try_for_each(|value| column.push_value(value))?;
                Some(column.finish())
            }
            Vector::Numbers(numbers) => Some(numbers.clone()),
            _ => None,
        },
        Kind::NodeProperty(slot, reader) => match batch.columns.get(*slot)? {
            Vector::Nodes(nodes) => {
                *reads += nodes.len() as u64;
                let read = |id| scope.read_node(id, reader);
                property(nodes, Element::Node, &scope.node_columns(reader), scope, &read)
            }
            _ => None,
        },
        Kind::EdgeProperty(slot, reader) => match batch.columns.get(*slot)? {
            Vector::Edges(edges) => {
                *reads += edges.len() as u64;
                let read = |id| scope.read_edge(id, reader);
                property(edges, Element::Edge, &scope.edge_columns(reader), scope, &read)
            }
            _ => None,
        },
        Kind::Negate(operand) => {
            let mut operand = evaluated(operand, batch, scope, reads)?;
            match &mut operand.cells {
                Cells::Ints(ints) => {
                    for int in ints {
                        *int = int.checked_neg()?;
                    }
                }
                Cells::Floats(floats) => floats.iter_mut().for_each(|float| *float = -*float),
                Cells::Units(numbers, Unit::Decimal { .. }) => {
                    for number in numbers {
                        *number = number.checked_neg()?;
                    }
                }
                Cells::Days(_) | Cells::Units(..) => return None,
            }
            Some(operand)
        }
        Kind::Binary(operator, a, b) => {
            use BinaryOperator::*;
            if !matches!(operator, Add | Subtract | Multiply | Divide) {
                return None;
            }
            let a = evaluated(a, batch, scope, reads)?;
            combined(*operator, a, evaluated(b, batch, scope, reads)?)
        }
        Kind::Call(function, arguments) => called(*function, arguments, batch, scope, reads),
        Kind::Case { operand, branches, otherwise } => {
            chosen((operand.as_deref(), branches, otherwise.as_deref()), batch, scope, reads)
        }
        _ => None,
    }
}

/// What some functions make of columns.
fn called(
    function: Function, arguments: &[Expr], batch: &Batch, scope: &Scope, reads: &mut u64,
) -> Option<Numbers> {
    match (function, arguments) {
        (Function::Abs, [a]) => {
            let mut numbers = evaluated(a, batch, scope, reads)?;
            match &mut numbers.cells {
                Cells::Ints(ints) => {
                    for int in ints {
                        *int = int.checked_abs()?;
                    }
                }
                Cells::Floats(floats) => floats.iter_mut().for_each(|float| *float = float.abs()),
                Cells::Units(numbers, Unit::Decimal { .. }) => {
                    for number in numbers {
                        *number = number.checked_abs()?;
                    }
                }
                Cells::Days(_) | Cells::Units(..) => return None,
            }
            Some(numbers)
        }
        (Function::Coalesce, all) => {
            let columns: Vec<Numbers> =
                all.iter().map(|e| evaluated(e, batch, scope, reads)).collect::<Option<_>>()?;
            let first = |row: usize| columns.iter().position(|c| !c.is_null(row)).unwrap_or(0);
            put_together(&columns, (0..batch.len).map(first).collect())
        }
        _ => None,
    }
}

/// CASE: of each row the value of the first branch that is true, where all values are of one type.
fn chosen(
    (operand, branches, otherwise): (Option<&Expr>, &[(Expr, Expr)], Option<&Expr>), batch: &Batch,
    scope: &Scope, reads: &mut u64,
) -> Option<Numbers> {
    let operand = match operand {
        Some(operand) => Some(evaluated(operand, batch, scope, reads)?),
        None => None,
    };
    // The branch of each row; those after the last one take the other value.
    let mut taken = vec![branches.len(); batch.len];
    let mut values = Vec::with_capacity(branches.len() + 1);
    for (place, (when, then)) in branches.iter().enumerate() {
        let truths = match &operand {
            None => truths(when, batch, scope, reads)?,
            Some(operand) => {
                compared(BinaryOperator::Equal, operand, &evaluated(when, batch, scope, reads)?)?
            }
        };
        for (taken, truth) in taken.iter_mut().zip(truths) {
            if truth == TRUE && *taken == branches.len() {
                *taken = place;
            }
        }
        values.push(evaluated(then, batch, scope, reads)?);
    }
    values.push(match otherwise {
        Some(otherwise) => evaluated(otherwise, batch, scope, reads)?,
        None => all_null(batch.len),
    });
    put_together(&values, taken)
}

/// What a condition says of every row of the batch; `None` where the full evaluation must be asked.
pub(crate) fn condition(e: &Expr, batch: &Batch, scope: &Scope, reads: &mut u64) -> Option<Vec<TruthOfRow>> {
    if !scope.typed_reads {
        return None;
    }
    truths(e, batch, scope, reads)
}

fn truths(e: &Expr, batch: &Batch, scope: &Scope, reads: &mut u64) -> Option<Vec<TruthOfRow>> {
    let of_texts =
        truths_of_texts(e, batch, scope, reads).or_else(|| truths_of_plain_texts(e, batch, scope, reads));
    if of_texts.is_some() {
        return of_texts;
    }
    match &e.kind {
        Kind::Not(a) => Some(truths(a, batch, scope, reads)?.into_iter().map(negated).collect()),
        Kind::IsNull(a, is_not) => {
            let numbers = evaluated(a, batch, scope, reads)?;
            Some((0..batch.len).map(|row| u8::from(numbers.is_null(row) != *is_not)).collect())
        }
        Kind::Binary(operator, a, b) => {
            use BinaryOperator::*;
            match operator {
                And | Or => {
                    let decisive = if *operator == Or { TRUE } else { FALSE };
                    let (a, b) = (truths(a, batch, scope, reads)?, truths(b, batch, scope, reads)?);
                    let both = |(a, b): (TruthOfRow, TruthOfRow)| match (a, b) {
                        _ if a == decisive || b == decisive => decisive,
                        (UNKNOWN, _) | (_, UNKNOWN) => UNKNOWN,
                        _ => negated(decisive),
                    };
                    Some(a.into_iter().zip(b).map(both).collect())
                }
                Equal | NotEqual | Less | LessOrEqual | Greater | GreaterOrEqual => {
                    let (a, b) = sides(a, b, batch, scope, reads)?;
                    compared(*operator, &a, &b)
                }
                _ => None,
            }
        }
        Kind::Between(a, low, high, is_not) => {
            let a = match known(a, scope) {
                Some(value) => constant(value, batch.len)?,
                None => evaluated(a, batch, scope, reads)?,
            };
            let mut beside = |e: &Expr| match known(e, scope) {
                Some(value) => constant_beside(value, &a),
                None => evaluated(e, batch, scope, reads),
            };
            let above = compared(BinaryOperator::GreaterOrEqual, &a, &beside(low)?)?;
            let below = compared(BinaryOperator::LessOrEqual, &a, &beside(high)?)?;
            let both = |(above, below): (TruthOfRow, TruthOfRow)| match (above, below) {
                (FALSE, _) | (_, FALSE) => FALSE,
                (TRUE, TRUE) => TRUE,
                _ => UNKNOWN,
            };
            let within = above.into_iter().zip(below).map(both);
            Some(within.map(|within| if *is_not { negated(within) } else { within }).collect())
        }
        Kind::In(a, list, is_not, table) => {
            let list = known_list(list, table, scope)?;
            let numbers = evaluated(a, batch, scope, reads)?;
            let is_in = |row: usize| -> Option<TruthOfRow> {
                let truth = match &numbers.cells {
                    _ if numbers.is_null(row) => None,
                    Cells::Ints(ints) if list.is_whole() => list.has_int(ints[row]),
                    _ => list.has(&numbers.get(row))?,
                };
                Some(truth.map_or(UNKNOWN, |truth| u8::from(truth != *is_not)))
            };
            (0..batch.len).map(is_in).collect()
        }
        _ => None,
    }
}

/// A value that is known before the rows.
fn known<'v>(e: &'v Expr, scope: &'v Scope) -> Option<&'v Value> {
    match &e.kind {
        Kind::Constant(value) => Some(value),
        Kind::Parameter(number) => scope.parameters.get(*number),
        _ => None,
    }
}

/// Both sides of a comparison.
fn sides(a: &Expr, b: &Expr, batch: &Batch, scope: &Scope, reads: &mut u64) -> Option<(Numbers, Numbers)> {
    Some(match (known(a, scope), known(b, scope)) {
        (None, None) => (evaluated(a, batch, scope, reads)?, evaluated(b, batch, scope, reads)?),
        (None, Some(value)) => {
            let a = evaluated(a, batch, scope, reads)?;
            let b = constant_beside(value, &a)?;
            (a, b)
        }
        (Some(value), None) => {
            let b = evaluated(b, batch, scope, reads)?;
            (constant_beside(value, &b)?, b)
        }
        (Some(a), Some(b)) => (constant(a, batch.len)?, constant(b, batch.len)?),
    })
}

/// A value in each row, for a comparison with `column`: beside floats, a decimal that equals a FLOAT64 compares as that does.
fn constant_beside(value: &Value, column: &Numbers) -> Option<Numbers> {
    let rows = column.cells.len();
    match (value, &column.cells) {
        (Value::Decimal(decimal), Cells::Floats(_)) => {
            let float = decimal.to_f64();
            let exact = decimal.compare_float(float)?.is_eq();
            exact.then(|| Numbers { cells: Cells::Floats(vec![float; rows]), nulls: vec![] })
        }
        (_, Cells::Units(_, unit)) => match unit.count(value) {
            Some(Some(number)) => {
                Some(Numbers { cells: Cells::Units(vec![number; rows], *unit), nulls: vec![] })
            }
            _ => constant(value, rows),
        },
        _ => constant(value, rows),
    }
}

/// A condition on one text: asked once for each text of the batch.
fn truths_of_texts(e: &Expr, batch: &Batch, scope: &Scope, reads: &mut u64) -> Option<Vec<TruthOfRow>> {
    let only = e.only_property()?;
    let (Vector::Nodes(ids) | Vector::Edges(ids)) = batch.columns.get(only.slot)? else { return None };
    let columns = TextColumns::of(only.element, only.reader, scope)?;
    let mut known: HashMap<TextPlace, TruthOfRow> = HashMap::new();
    let mut found = Vec::with_capacity(ids.len());
    let mut last: Option<(TextPlace, TruthOfRow)> = None;
    for (row, &id) in ids.iter().enumerate() {
        let place = columns.place(id, scope)?;
        if let Some((_, truth)) = last.filter(|(at, _)| *at == place) {
            found.push(truth);
            continue;
        }
        let truth = match known.get(&place) {
            Some(truth) => *truth,
            None => {
                let counters = &mut Counters::default();
                let value = Evaluator { scope, counters }.value(e, Row { batch, row, locals: &[] });
                let truth = match value.ok()? {
                    Value::Bool(truth) => u8::from(truth),
                    Value::Null => UNKNOWN,
                    _ => return None,
                };
                known.insert(place, truth);
                truth
            }
        };
        last = Some((place, truth));
        found.push(truth);
    }
    *reads += ids.len() as u64;
    Some(found)
}

/// A value in each row; null is of any type.
fn constant(value: &Value, rows: usize) -> Option<Numbers> {
    let cells = match value {
        Value::Null => return Some(all_null(rows)),
        Value::Int(int) => Cells::Ints(vec![*int; rows]),
        Value::Float(float) => Cells::Floats(vec![*float; rows]),
        Value::Date(_) => Cells::Days(vec![value.days()?; rows]),
        other => {
            let (unit, number) = Unit::of(other)?;
            Cells::Units(vec![number; rows], unit)
        }
    };
    Some(Numbers { cells, nulls: vec![] })
}

/// A property of the elements, out of the columns of their tables; of one that was changed as it is now.
fn property(
    ids: &[Dense], element: Element, tables: &ColumnsByTable<'_>, scope: &Scope,
    read: &dyn Fn(Dense) -> Value,
) -> Option<Numbers> {
    let all_base = scope.elements_are_base(element);
    if let (true, [(first, Some(column))]) = (all_base, &tables[..])
        && !ids.contains(&NO_ELEMENT)
    {
        let row = |id: &Dense| (id - first) as usize;
        let cells = if let Some(numbers) = column.whole_numbers() {
            Cells::Ints(ids.iter().map(|id| numbers.value(row(id))).collect())
        } else if let Some(floats) = column.floats() {
            Cells::Floats(ids.iter().map(|id| floats[row(id)]).collect())
        } else if let Some((unit, numbers)) = column.units() {
            Cells::Units(ids.iter().map(|id| numbers.value(row(id))).collect(), unit)
        } else {
            let days = column.days()?;
            Cells::Days(ids.iter().map(|id| days[row(id)]).collect())
        };
        let nulls: Vec<bool> = match column.nulls() {
            0 => vec![],
            _ => ids.iter().map(|id| column.is_null(row(id))).collect(),
        };
        let nulls = if nulls.contains(&true) { nulls } else { vec![] };
        return Some(Numbers { cells, nulls });
    }
    let is_base = |id: Dense| match element {
        _ if all_base => true,
        Element::Node => scope.node_is_base(id),
        Element::Edge => scope.edge_is_base(id),
    };
    let mut made = ColumnBuilder::new(ids.len());
    // Elements of one table tend to come together.
    let mut last: (Dense, Dense, Option<&Column>) = (0, 0, None);
    for &id in ids {
        if id == NO_ELEMENT {
            made.push_null();
            continue;
        }
        if !is_base(id) {
            made.push_value(&read(id))?;
            continue;
        }
        if !(last.0..last.1).contains(&id) {
            let after = tables.partition_point(|(first, _)| *first <= id);
            let (first, column) = tables.get(after.checked_sub(1)?)?;
            last = (*first, tables.get(after).map_or(NO_ELEMENT, |(first, _)| *first), *column);
        }
        match last.2 {
            Some(column) => made.push_cell(column, (id - last.0) as usize)?,
            None => made.push_null(),
        }
    }
    Some(made.finish())
}
