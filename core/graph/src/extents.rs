//! The least and the greatest number of a property over many edges: what a search must know before it gives up a way
//! because of what adds up along it.

use std::sync::OnceLock;

use arrow_array::Array;

use crate::{Column, Unit, Value};

/// Where all numbers of a property lie, whose values are all numbers or null. Numbers that a FLOAT64 does not hold are
/// rounded.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Extent {
    /// Infinity where there is no number.
    pub least: f64,
    pub greatest: f64,
    /// Some are null.
    pub nulls: bool,
}

impl Extent {
    pub const NONE: Extent = Extent { least: f64::INFINITY, greatest: f64::NEG_INFINITY, nulls: false };

    pub fn of(number: f64) -> Extent {
        Extent { least: number, greatest: number, nulls: false }
    }

    pub fn and(self, other: Extent) -> Extent {
        Extent {
            least: self.least.min(other.least),
            greatest: self.greatest.max(other.greatest),
            nulls: self.nulls | other.nulls,
        }
    }

    /// Of one value; `None` where it is neither a number nor null.
    pub fn of_value(value: &Value) -> Option<Extent> {
        match value {
            Value::Null => Some(Extent { nulls: true, ..Extent::NONE }),
            Value::Int(n) => Some(Extent::of(*n as f64)),
            Value::Float(f) if !f.is_nan() => Some(Extent::of(*f)),
            Value::Decimal(d) => Some(Extent::of(d.to_f64())),
            _ => None,
        }
    }

    /// `None` where some value is no number. What stands in the place of a null may count too.
    pub(crate) fn of_column(column: &Column) -> Option<Extent> {
        let nulls = column.nulls() > 0;
        match column {
            Column::Int(numbers) if !numbers.is_empty() => {
                let (mut least, mut greatest) = (i64::MAX, i64::MIN);
                numbers.for_each(|n| (least, greatest) = (least.min(n), greatest.max(n)));
                Some(Extent { least: least as f64, greatest: greatest as f64, nulls })
            }
            Column::Float(floats) => {
                let all = floats.values().iter().enumerate();
                let valid = all.filter(|(row, _)| !nulls || floats.is_valid(*row));
                let fold =
                    |extent: Extent, (_, f): (usize, &f64)| (!f.is_nan()).then(|| extent.and(Extent::of(*f)));
                valid.into_iter().try_fold(Extent { nulls, ..Extent::NONE }, fold)
            }
            Column::Units(numbers, unit @ Unit::Decimal { .. }) => {
                let (mut least, mut greatest) = (i64::MAX, i64::MIN);
                let valid = (0..numbers.len()).filter(|row| !numbers.is_null(*row));
                let all = valid.map(|row| numbers.value(row));
                all.for_each(|n| (least, greatest) = (least.min(n), greatest.max(n)));
                if least > greatest {
                    return Some(Extent { nulls, ..Extent::NONE });
                }
                let (least, greatest) =
                    (Extent::of_value(&unit.value(least))?, Extent::of_value(&unit.value(greatest))?);
                Some(Extent { nulls, ..least.and(greatest) })
            }
            Column::Other(values) => {
                values.iter().try_fold(Extent::NONE, |extent, v| Some(extent.and(Extent::of_value(v)?)))
            }
            _ => (column.nulls() == column.len()).then_some(Extent { nulls, ..Extent::NONE }),
        }
    }
}

/// Where the numbers of a table's columns lie, found when they are asked for first: a table never changes.
#[derive(Debug)]
pub(crate) struct Extents(pub(crate) Vec<OnceLock<Option<Extent>>>);

impl Extents {
    pub fn new(columns: usize) -> Extents {
        Extents((0..columns).map(|_| OnceLock::new()).collect())
    }
}
