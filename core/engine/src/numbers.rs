//! Columns of numbers as they are computed: whole numbers, floats, days and multiples of a unit, with nulls beside them.

use graphodrome_graph::{Column, Unit, Value};

/// What the rows have; of a row that is null anything.
#[derive(Clone, Debug, PartialEq)]
pub enum Cells {
    Ints(Vec<i64>),
    Floats(Vec<f64>),
    /// Since 1970-01-01.
    Days(Vec<i32>),
    /// Decimals of one scale, or points in time.
    Units(Vec<i64>, Unit),
}

#[derive(Clone, Debug, PartialEq)]
pub struct Numbers {
    pub cells: Cells,
    /// Which rows are null; empty where none is.
    pub nulls: Vec<bool>,
}

impl Cells {
    pub fn len(&self) -> usize {
        match self {
            Cells::Ints(ints) => ints.len(),
            Cells::Floats(floats) => floats.len(),
            Cells::Days(days) => days.len(),
            Cells::Units(numbers, _) => numbers.len(),
        }
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

impl Numbers {
    /// The value of a row.
    pub fn get(&self, row: usize) -> Value {
        if self.is_null(row) {
            return Value::Null;
        }
        match &self.cells {
            Cells::Ints(ints) => Value::Int(ints[row]),
            Cells::Floats(floats) => Value::Float(floats[row]),
            Cells::Days(days) => Column::date(days[row]),
            Cells::Units(numbers, unit) => unit.value(numbers[row]),
        }
    }

    pub fn gather(&self, rows: &[u32]) -> Numbers {
        fn of<T: Copy>(all: &[T], rows: &[u32]) -> Vec<T> {
            rows.iter().map(|row| all[*row as usize]).collect()
        }
        let cells = match &self.cells {
            Cells::Ints(ints) => Cells::Ints(of(ints, rows)),
            Cells::Floats(floats) => Cells::Floats(of(floats, rows)),
            Cells::Days(days) => Cells::Days(of(days, rows)),
            Cells::Units(numbers, unit) => Cells::Units(of(numbers, rows), *unit),
        };
        Numbers { cells, nulls: if self.nulls.is_empty() { vec![] } else { of(&self.nulls, rows) } }
    }

    /// Whether both are of one type.
    pub fn is_like(&self, other: &Numbers) -> bool {
        match (&self.cells, &other.cells) {
            (Cells::Units(_, a), Cells::Units(_, b)) => a == b,
            (a, b) => std::mem::discriminant(a) == std::mem::discriminant(b),
        }
    }

    /// Adds the rows of another column of its type.
    pub fn append(&mut self, other: &Numbers) {
        let before = self.cells.len();
        match (&mut self.cells, &other.cells) {
            (Cells::Ints(a), Cells::Ints(b)) => a.extend_from_slice(b),
            (Cells::Floats(a), Cells::Floats(b)) => a.extend_from_slice(b),
            (Cells::Days(a), Cells::Days(b)) => a.extend_from_slice(b),
            (Cells::Units(a, unit), Cells::Units(b, own)) if unit == own => a.extend_from_slice(b),
            _ => return,
        }
        if !self.nulls.is_empty() || !other.nulls.is_empty() {
            self.nulls.resize(before, false);
            match other.nulls.is_empty() {
                true => self.nulls.resize(self.cells.len(), false),
                false => self.nulls.extend_from_slice(&other.nulls),
            }
        }
    }

    pub fn bytes(&self) -> usize {
        let width = if matches!(self.cells, Cells::Days(_)) { 4 } else { 8 };
        width * self.cells.len() + self.nulls.len()
    }

    #[inline]
    pub fn is_null(&self, row: usize) -> bool {
        !self.nulls.is_empty() && self.nulls[row]
    }
}
