//! Operations on columns of numbers and dates, row by row: arithmetic, three-valued comparisons, and columns
//! assembled from others. If an operation has no result in some row, there is no column.

use graphodrome_graph::Unit;
use graphodrome_language::ast::BinaryOperator;

use crate::numbers::{Cells, Numbers};

pub(crate) fn all_null(rows: usize) -> Numbers {
    Numbers { cells: Cells::Ints(vec![0; rows]), nulls: vec![true; rows] }
}

/// A column that may be of any type, as all of it is null.
pub(crate) fn is_all_null(numbers: &Numbers) -> bool {
    !numbers.nulls.is_empty() && numbers.nulls.iter().all(|null| *null)
}

/// A column that has of each row what the column with that number has, where all that are not null are of one type.
pub(crate) fn put_together(values: &[Numbers], taken: Vec<usize>) -> Option<Numbers> {
    let of_type = values.iter().find(|numbers| !is_all_null(numbers)).or(values.first())?;
    if values.iter().any(|numbers| !is_all_null(numbers) && !numbers.is_like(of_type)) {
        return None;
    }
    let nulls: Vec<bool> = taken.iter().enumerate().map(|(row, of)| values[*of].is_null(row)).collect();
    macro_rules! cells {
        ($variant:ident, $zero:expr) => {
            Cells::$variant(
                taken
                    .iter()
                    .enumerate()
                    .map(|(row, of)| match &values[*of].cells {
                        Cells::$variant(cells) => cells[row],
                        // Of another type only where it is null.
                        _ => $zero,
                    })
                    .collect(),
            )
        };
    }
    let cells = match of_type.cells {
        Cells::Ints(_) => cells!(Ints, 0),
        Cells::Floats(_) => cells!(Floats, 0.0),
        Cells::Days(_) => cells!(Days, 0),
        Cells::Units(_, unit) => {
            let number = |(row, of): (usize, &usize)| match &values[*of].cells {
                Cells::Units(numbers, _) => numbers[row],
                _ => 0,
            };
            Cells::Units(taken.iter().enumerate().map(number).collect(), unit)
        }
    };
    Some(Numbers { cells, nulls: if nulls.contains(&true) { nulls } else { vec![] } })
}

/// What a condition says of a row.
pub(crate) type TruthOfRow = u8;
pub(crate) const FALSE: TruthOfRow = 0;
pub(crate) const TRUE: TruthOfRow = 1;
pub(crate) const UNKNOWN: TruthOfRow = 2;

pub(crate) fn negated(truth: TruthOfRow) -> TruthOfRow {
    match truth {
        FALSE => TRUE,
        TRUE => FALSE,
        _ => UNKNOWN,
    }
}

pub(crate) fn combined(operator: BinaryOperator, a: Numbers, b: Numbers) -> Option<Numbers> {
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
        (a @ Cells::Units(..), b @ (Cells::Units(..) | Cells::Ints(_)))
        | (a @ Cells::Ints(_), b @ Cells::Units(..)) => combined_decimals(operator, a, b, &is_null)?,
        (a, b) => {
            let floats = |cells: Cells| match cells {
                Cells::Ints(ints) => Some(ints.into_iter().map(|int| int as f64).collect::<Vec<f64>>()),
                Cells::Floats(floats) => Some(floats),
                Cells::Units(numbers, unit @ Unit::Decimal { .. }) => {
                    Some(numbers.into_iter().map(|n| unit.value(n).as_f64().unwrap_or(f64::NAN)).collect())
                }
                Cells::Days(_) | Cells::Units(..) => None,
            };
            let (mut a, b) = (floats(a)?, floats(b)?);
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

/// Decimals, or whole numbers as decimals, with their scale.
fn decimals(cells: Cells) -> Option<(Vec<i64>, u8)> {
    match cells {
        Cells::Ints(ints) => Some((ints, 0)),
        Cells::Units(numbers, Unit::Decimal { scale }) => Some((numbers, scale)),
        _ => None,
    }
}

/// The numbers as multiples of a unit that is ten to the power of `by` times smaller; `None` where one is out of range.
fn rescaled(numbers: Vec<i64>, by: u8, is_null: &dyn Fn(usize) -> bool) -> Option<Vec<i64>> {
    if by == 0 {
        return Some(numbers);
    }
    let factor = 10i64.checked_pow(by.into())?;
    let scaled = |(row, number): (usize, i64)| match number.checked_mul(factor) {
        None if is_null(row) => Some(0),
        scaled => scaled,
    };
    numbers.into_iter().enumerate().map(scaled).collect()
}

/// Sums and differences have the greater scale, products the sum of both, as those of single decimals.
fn combined_decimals(
    operator: BinaryOperator, a: Cells, b: Cells, is_null: &dyn Fn(usize) -> bool,
) -> Option<Cells> {
    let ((a, scale_of_a), (b, scale_of_b)) = (decimals(a)?, decimals(b)?);
    let of: fn(i64, i64) -> Option<i64> = match operator {
        BinaryOperator::Add => i64::checked_add,
        BinaryOperator::Subtract => i64::checked_sub,
        _ => i64::checked_mul,
    };
    let (a, b, scale) = match operator {
        BinaryOperator::Add | BinaryOperator::Subtract => {
            let scale = scale_of_a.max(scale_of_b);
            let a = rescaled(a, scale - scale_of_a, is_null)?;
            let b = rescaled(b, scale - scale_of_b, is_null)?;
            (a, b, scale)
        }
        BinaryOperator::Multiply if scale_of_a + scale_of_b <= 38 => (a, b, scale_of_a + scale_of_b),
        _ => return None,
    };
    let mut made = Vec::with_capacity(a.len());
    for (row, (a, b)) in a.into_iter().zip(b).enumerate() {
        made.push(match of(a, b) {
            Some(result) => result,
            None if is_null(row) => 0,
            None => return None,
        });
    }
    Some(Cells::Units(made, Unit::Decimal { scale }))
}

/// A comparison of two columns, row by row.
pub(crate) fn compared(operator: BinaryOperator, a: &Numbers, b: &Numbers) -> Option<Vec<TruthOfRow>> {
    use BinaryOperator::*;
    fn of<T: PartialOrd + Copy>(
        operator: BinaryOperator, pairs: impl Iterator<Item = (T, T)>,
    ) -> Vec<TruthOfRow> {
        match operator {
            Equal => pairs.map(|(a, b)| u8::from(a == b)).collect(),
            NotEqual => pairs.map(|(a, b)| u8::from(a != b)).collect(),
            Less => pairs.map(|(a, b)| u8::from(a < b)).collect(),
            LessOrEqual => pairs.map(|(a, b)| u8::from(a <= b)).collect(),
            Greater => pairs.map(|(a, b)| u8::from(a > b)).collect(),
            _ => pairs.map(|(a, b)| u8::from(a >= b)).collect(),
        }
    }
    /// As floats, where each is one exactly.
    fn floats(ints: &[i64]) -> Option<Vec<f64>> {
        const EXACT: u64 = 1 << 53;
        ints.iter().map(|int| (int.unsigned_abs() <= EXACT).then_some(*int as f64)).collect()
    }
    let is_null = |row: usize| a.is_null(row) || b.is_null(row);
    let rows = a.cells.len();
    if is_all_null(a) || is_all_null(b) {
        return Some(vec![UNKNOWN; rows]);
    }
    let mut found = match (&a.cells, &b.cells) {
        (Cells::Ints(a), Cells::Ints(b)) => of(operator, a.iter().copied().zip(b.iter().copied())),
        (Cells::Days(a), Cells::Days(b)) => of(operator, a.iter().copied().zip(b.iter().copied())),
        (Cells::Days(_), _) | (_, Cells::Days(_)) => return None,
        (Cells::Units(x, unit), Cells::Units(y, other)) if unit.compares_with(*other) => {
            of(operator, x.iter().copied().zip(y.iter().copied()))
        }
        (x @ Cells::Units(..), y) | (x, y @ Cells::Units(..)) => {
            let ((x, scale_of_x), (y, scale_of_y)) = (decimals(x.clone())?, decimals(y.clone())?);
            let scale = scale_of_x.max(scale_of_y);
            let x = rescaled(x, scale - scale_of_x, &is_null)?;
            let y = rescaled(y, scale - scale_of_y, &is_null)?;
            of(operator, x.into_iter().zip(y))
        }
        (x, y) => {
            let of_cells = |cells: &Cells| match cells {
                Cells::Ints(ints) => floats(ints),
                Cells::Floats(floats) => Some(floats.clone()),
                Cells::Days(_) | Cells::Units(..) => None,
            };
            let (x, y) = (of_cells(x)?, of_cells(y)?);
            let mut found = of(operator, x.iter().copied().zip(y.iter().copied()));
            // NaN compares with nothing.
            for (row, truth) in found.iter_mut().enumerate() {
                if x[row].is_nan() || y[row].is_nan() {
                    *truth = UNKNOWN;
                }
            }
            found
        }
    };
    if !a.nulls.is_empty() || !b.nulls.is_empty() {
        (0..rows).filter(|row| is_null(*row)).for_each(|row| found[row] = UNKNOWN);
    }
    Some(found)
}
