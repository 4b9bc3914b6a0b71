//! Expressions on all rows of a batch at once: numbers and days as columns of one type, without a value made for each
//! cell. Where a row has a value of another type, or an operation has no result, there is no column, and the full
//! evaluation decides row by row: it alone makes errors.

use graphodrome_graph::{Column, ColumnsByTable, Dense, Element, Value};
use graphodrome_language::ast::BinaryOperator;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::expression::{Expr, Kind};
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

    fn push_value(&mut self, value: &Value) -> Option<()> {
        match value {
            Value::Null => {
                self.push_null();
                Some(())
            }
            Value::Int(int) => self.push_int(*int),
            Value::Float(float) => self.push_float(*float),
            _ => None,
        }
    }

    fn push_cell(&mut self, column: &Column, row: usize) -> Option<()> {
        match column {
            _ if column.is_null(row) => {
                self.push_null();
                Some(())
            }
            Column::Int(ints) => self.push_int(ints.numbers().value(row)),
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
                Cells::Days(_) => return None,
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
        _ => None,
    }
}

fn constant(value: &Value, rows: usize) -> Option<Numbers> {
    let cells = match value {
        Value::Int(int) => Cells::Ints(vec![*int; rows]),
        Value::Float(float) => Cells::Floats(vec![*float; rows]),
        _ => return None,
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
        && column.nulls() == 0
        && !ids.contains(&NO_ELEMENT)
    {
        let row = |id: &Dense| (id - first) as usize;
        let cells = if let Some(numbers) = column.whole_numbers() {
            Cells::Ints(ids.iter().map(|id| numbers.value(row(id))).collect())
        } else if let Some(floats) = column.floats() {
            Cells::Floats(ids.iter().map(|id| floats[row(id)]).collect())
        } else {
            let days = column.days()?;
            Cells::Days(ids.iter().map(|id| days[row(id)]).collect())
        };
        return Some(Numbers { cells, nulls: vec![] });
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

fn combined(operator: BinaryOperator, a: Numbers, b: Numbers) -> Option<Numbers> {
    let nulls = match (a.nulls.is_empty(), b.nulls.is_empty()) {
        (true, _) => b.nulls,
        (_, true) => a.nulls,
        _ => a.nulls.iter().zip(&b.nulls).map(|(a, b)| *a || *b).collect(),
    };
    let is_null = |row: usize| !nulls.is_empty() && nulls[row];
    let cells = match (a.cells, b.cells) {
        (Cells::Ints(a), Cells::Ints(b)) => {
            let of: fn(i64, i64) -> Option<i64> = match operator {
                BinaryOperator::Add => i64::checked_add,
                BinaryOperator::Subtract => i64::checked_sub,
                BinaryOperator::Multiply => i64::checked_mul,
                _ => i64::checked_div,
            };
            let mut made = Vec::with_capacity(a.len());
            for (row, (a, b)) in a.into_iter().zip(b).enumerate() {
                made.push(match of(a, b) {
                    Some(result) => result,
                    // What a row that is null holds has no say.
                    None if is_null(row) => 0,
                    None => return None,
                });
            }
            Cells::Ints(made)
        }
        (Cells::Days(_), _) | (_, Cells::Days(_)) => return None,
        (a, b) => {
            let floats = |cells: Cells| match cells {
                Cells::Ints(ints) => ints.into_iter().map(|int| int as f64).collect(),
                Cells::Floats(floats) => floats,
                Cells::Days(_) => vec![],
            };
            let (mut a, b) = (floats(a), floats(b));
            let (mut lost, mut zero) = (false, false);
            for (row, (x, y)) in a.iter_mut().zip(&b).enumerate() {
                let result = match operator {
                    BinaryOperator::Add => *x + y,
                    BinaryOperator::Subtract => *x - y,
                    BinaryOperator::Multiply => *x * y,
                    _ => {
                        zero |= *y == 0.0 && !is_null(row);
                        *x / y
                    }
                };
                lost |= result.is_infinite() && x.is_finite() && y.is_finite() && !is_null(row);
                *x = result;
            }
            if lost || zero {
                return None;
            }
            Cells::Floats(a)
        }
    };
    Some(Numbers { cells, nulls })
}
