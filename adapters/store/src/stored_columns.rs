//! Columns as a segment holds them: Arrow arrays, whole numbers, measurements and days as whole numbers of the
//! narrowest type that holds them, and values that have no Arrow type of their own here encoded one by one.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::types::UInt32Type;
use arrow_array::{
    Array, ArrayRef, BinaryArray, BooleanArray, Date32Array, DictionaryArray, Float64Array, Int8Array,
    Int16Array, Int32Array, Int64Array, LargeStringArray, StringArray,
};
use arrow_schema::Field;
use graphodrome_graph::{Column, ColumnBuilder, Ints, Unit, Value, Width};

use crate::StoreError;

/// Marks a column of values that have no Arrow type of their own here.
const ENCODED: &str = "graphodrome.encoded";
/// Floating-point numbers that are whole ones, divided by this power of ten.
const SCALE: &str = "graphodrome.scale";
/// Days, counted from this one on.
const FIRST_DAY: &str = "graphodrome.first-day";
/// Multiples of a unit: the unit, the least number, and what each number beyond the least is a multiple of.
const UNIT: &str = "graphodrome.unit";

pub(crate) fn add_columns(
    fields: &mut Vec<(Field, ArrayRef)>, columns: &[(Arc<str>, Column)], start: usize, rows: usize,
) -> Result<(), StoreError> {
    for (name, column) in columns {
        let (array, mark): (ArrayRef, Option<(&str, String)>) = match column {
            Column::Bool(a) => (Arc::new(a.slice(start, rows)), None),
            Column::Int(a) => (narrow(&a.slice(start..start + rows)), None),
            Column::Float(a) => {
                let floats = a.slice(start, rows);
                match scaled(&floats) {
                    Some((scale, array)) => (array, Some((SCALE, scale.to_string()))),
                    None => (Arc::new(floats), None),
                }
            }
            Column::Date(a) => {
                let (first, array) = from_first_day(&a.slice(start, rows));
                (array, Some((FIRST_DAY, first.to_string())))
            }
            Column::Units(a, unit) => {
                let (stored, array) = Multiples::of(&a.slice(start..start + rows), *unit);
                (array, Some((UNIT, stored.written())))
            }
            Column::Text(a) => (Arc::new(a.slice(start, rows)), None),
            Column::Coded(codes, texts) => {
                (Arc::new(Column::dictionary(&codes.slice(start, rows), texts)), None)
            }
            Column::Other(values) => {
                let mut encoded: Vec<Option<Vec<u8>>> = Vec::with_capacity(rows);
                for value in &values[start..start + rows] {
                    encoded.push(match value {
                        Value::Null => None,
                        value => Some(postcard::to_stdvec(value).map_err(damaged)?),
                    });
                }
                (Arc::new(BinaryArray::from_iter(encoded)), Some((ENCODED, "postcard".into())))
            }
        };
        let mut field = Field::new(&**name, array.data_type().clone(), true);
        if let Some((key, value)) = mark {
            field = field.with_metadata(HashMap::from([(key.to_string(), value)]));
        }
        fields.push((field, array));
    }
    Ok(())
}

/// Whole numbers in the narrowest type that holds those of the segment.
fn narrow(numbers: &Ints) -> ArrayRef {
    let (mut low, mut high) = (0, 0);
    numbers.for_each(|n| (low, high) = (low.min(n), high.max(n)));
    if Width::of(low, high) == numbers.width() {
        return numbers.array();
    }
    let mut values = Vec::with_capacity(numbers.len());
    numbers.for_each(|n| values.push(n));
    Ints::narrowed(&values, numbers.nulls().cloned()).array()
}

/// Decimal places that are tried.
const MOST_PLACES: u32 = 6;

/// Whole numbers of 32 bits at most that are the numbers times a power of ten, where dividing them gives back
/// every number bit by bit: measurements have few decimal places and pack badly as they are.
fn scaled(numbers: &Float64Array) -> Option<(u32, ArrayRef)> {
    let mut whole: Vec<i64> = Vec::with_capacity(numbers.len());
    let mut places = 0;
    'places: loop {
        let factor = 10f64.powi(places as i32);
        for row in whole.len()..numbers.len() {
            if numbers.is_null(row) {
                whole.push(0);
                continue;
            }
            let number = numbers.value(row);
            let times = number * factor;
            // The nearest whole number; of none and of too large ones any.
            let nearest = (times + 0.5f64.copysign(times)) as i64;
            // Zero below zero is another number than zero.
            let again = nearest as f64 / factor;
            let is_it = times.abs() <= f64::from(i32::MAX) && again.to_bits() == number.to_bits();
            if !is_it {
                if places == MOST_PLACES {
                    return None;
                }
                places += 1;
                whole.clear();
                continue 'places;
            }
            whole.push(nearest);
        }
        return Some((places, Ints::narrowed(&whole, numbers.nulls().cloned()).array()));
    }
}

/// The first of the days, and the days from it on in the narrowest type.
fn from_first_day(days: &Date32Array) -> (i32, ArrayRef) {
    let valid = (0..days.len()).filter(|row| days.is_valid(*row));
    let first = valid.map(|row| days.value(row)).min().unwrap_or(0);
    let after =
        |row: usize| if days.is_null(row) { 0 } else { i64::from(days.value(row)) - i64::from(first) };
    let after: Vec<i64> = (0..days.len()).map(after).collect();
    (first, Ints::narrowed(&after, days.nulls().cloned()).array())
}

/// How the numbers of a column of multiples are stored.
struct Multiples {
    unit: Unit,
    least: i64,
    step: i64,
}

impl Multiples {
    /// The least number and, in the narrowest type, how many steps the others lie beyond it. Moments mostly fall on
    /// whole seconds or days.
    fn of(numbers: &Ints, unit: Unit) -> (Multiples, ArrayRef) {
        const STEPS: [i64; 5] = [86_400_000_000_000, 60_000_000_000, 1_000_000_000, 1_000_000, 1_000];
        let valid = || (0..numbers.len()).filter(|row| !numbers.is_null(*row)).map(|row| numbers.value(row));
        let least = valid().min().unwrap_or(0);
        // The greatest distance between two numbers of 64 bits has 64 bits itself.
        if valid().any(|n| n.checked_sub(least).is_none()) {
            return (Multiples { unit, least: 0, step: 1 }, numbers.array());
        }
        let fits = |step: &i64| valid().all(|n| (n - least) % step == 0);
        let step = match unit {
            Unit::Decimal { .. } => 1,
            _ => STEPS.into_iter().find(fits).unwrap_or(1),
        };
        let steps = |row: usize| if numbers.is_null(row) { 0 } else { (numbers.value(row) - least) / step };
        let steps: Vec<i64> = (0..numbers.len()).map(steps).collect();
        (Multiples { unit, least, step }, Ints::narrowed(&steps, numbers.nulls().cloned()).array())
    }

    fn written(&self) -> String {
        let unit = match self.unit {
            Unit::Decimal { scale } => format!("decimal {scale}"),
            Unit::LocalTime => "local-time 0".into(),
            Unit::LocalDateTime => "local-datetime 0".into(),
            Unit::ZonedDateTime { offset } => format!("zoned-datetime {offset}"),
        };
        format!("{unit} {} {}", self.least, self.step)
    }

    fn read(text: &str) -> Result<Multiples, StoreError> {
        let unknown = || damaged(format!("a column of multiples of '{text}'"));
        let [unit, of_unit, least, step] = text.split(' ').collect::<Vec<_>>()[..] else {
            return Err(unknown());
        };
        let unit = match unit {
            "decimal" => Unit::Decimal { scale: of_unit.parse().map_err(damaged)? },
            "local-time" => Unit::LocalTime,
            "local-datetime" => Unit::LocalDateTime,
            "zoned-datetime" => Unit::ZonedDateTime { offset: of_unit.parse().map_err(damaged)? },
            _ => return Err(unknown()),
        };
        let (least, step) = (least.parse().map_err(damaged)?, step.parse().map_err(damaged)?);
        Ok(Multiples { unit, least, step })
    }

    fn column(&self, stored: &Ints) -> Result<Column, StoreError> {
        let mut numbers = Vec::with_capacity(stored.len());
        let mut fits = true;
        stored.for_each(|n| {
            let number = n.checked_mul(self.step).and_then(|n| n.checked_add(self.least));
            fits &= number.is_some();
            numbers.push(number.unwrap_or(0));
        });
        if !fits {
            return Err(damaged("a number out of range in a column of multiples"));
        }
        Ok(Column::Units(Ints::narrowed(&numbers, stored.nulls().cloned()), self.unit))
    }
}

fn whole_numbers(array: &ArrayRef) -> Option<Ints> {
    let any = array.as_any();
    any.downcast_ref::<Int8Array>().map(|a| Ints::I8(a.clone())).or_else(|| {
        let wider = any.downcast_ref::<Int16Array>().map(|a| Ints::I16(a.clone()));
        let wider = wider.or_else(|| any.downcast_ref::<Int32Array>().map(|a| Ints::I32(a.clone())));
        wider.or_else(|| any.downcast_ref::<Int64Array>().map(|a| Ints::I64(a.clone())))
    })
}

pub(crate) fn read_column(array: &ArrayRef, field: &Field) -> Result<Column, StoreError> {
    let any = array.as_any();
    let mark = |key: &str| field.metadata().get(key);
    if mark(ENCODED).is_some() {
        let bytes =
            any.downcast_ref::<BinaryArray>().ok_or_else(|| damaged("an encoded column is no binary"))?;
        let mut builder = ColumnBuilder::with_capacity(bytes.len());
        for row in 0..bytes.len() {
            builder.push(if bytes.is_null(row) {
                Value::Null
            } else {
                postcard::from_bytes(bytes.value(row)).map_err(damaged)?
            });
        }
        return Ok(builder.finish());
    }
    if let Some(a) = any.downcast_ref::<BooleanArray>() {
        return Ok(Column::Bool(a.clone()));
    }
    if let Some(a) = whole_numbers(array) {
        let nulls = a.nulls().cloned();
        if let Some(places) = mark(SCALE) {
            let factor = 10f64.powi(places.parse().map_err(damaged)?);
            let mut floats = Vec::with_capacity(a.len());
            a.for_each(|n| floats.push(n as f64 / factor));
            return Ok(Column::Float(Float64Array::new(floats.into(), nulls)));
        }
        if let Some(first) = mark(FIRST_DAY) {
            let first: i32 = first.parse().map_err(damaged)?;
            let mut days = Vec::with_capacity(a.len());
            a.for_each(|n| days.push(first.wrapping_add(n as i32)));
            return Ok(Column::Date(Date32Array::new(days.into(), nulls)));
        }
        if let Some(text) = mark(UNIT) {
            return Multiples::read(text)?.column(&a);
        }
        return Ok(Column::Int(a));
    }
    if let Some(a) = any.downcast_ref::<Float64Array>() {
        return Ok(Column::Float(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<Date32Array>() {
        return Ok(Column::Date(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<LargeStringArray>() {
        return Ok(Column::Text(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<DictionaryArray<UInt32Type>>() {
        let texts = a
            .values()
            .as_any()
            .downcast_ref::<StringArray>()
            .ok_or_else(|| damaged("a dictionary of no texts"))?;
        let texts: Vec<Arc<str>> = (0..texts.len()).map(|i| Arc::from(texts.value(i))).collect();
        return Ok(Column::Coded(a.keys().clone(), texts.into()));
    }
    Err(damaged(format!("a column of the type {}", array.data_type())))
}

pub(crate) fn damaged(what: impl std::fmt::Display) -> StoreError {
    StoreError::Damaged(what.to_string())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use proptest::prelude::*;

    /// What is read of a column after it was stored, and its array's width.
    fn stored(column: Column) -> (Column, Option<usize>) {
        let mut fields = vec![];
        let rows = column.len();
        add_columns(&mut fields, &[(Arc::from("p"), column)], 0, rows).unwrap();
        let (field, array) = &fields[0];
        (read_column(array, field).unwrap(), array.data_type().primitive_width())
    }

    fn multiples(numbers: &[Option<i64>], unit: Unit) -> Column {
        let mut builder = ColumnBuilder::with_capacity(numbers.len());
        numbers.iter().for_each(|n| builder.push(n.map_or(Value::Null, |n| unit.value(n))));
        builder.finish()
    }

    #[test]
    fn multiples_are_stored_narrow() {
        const SECOND: i64 = 1_000_000_000;
        let noon = 1_790_000_000 * SECOND;
        let zoned = Unit::ZonedDateTime { offset: 3600 };
        for (numbers, unit, width) in [
            (vec![Some(noon), None, Some(noon + 86_400 * SECOND)], zoned, 1),
            (vec![Some(noon), Some(noon + 1000 * SECOND)], Unit::LocalDateTime, 2),
            (vec![Some(noon), Some(noon + 1)], Unit::LocalDateTime, 1),
            (vec![Some(i64::MIN), Some(i64::MAX)], Unit::LocalDateTime, 8),
            (vec![Some(10_000), Some(10_099)], Unit::Decimal { scale: 2 }, 1),
            (vec![Some(0), Some(43_200 * SECOND)], Unit::LocalTime, 2),
        ] {
            let column = multiples(&numbers, unit);
            let (read, stored) = stored(column.clone());
            assert_eq!(stored, Some(width), "{numbers:?}");
            assert_eq!(read.units().map(|(unit, _)| unit), Some(unit));
            assert!((0..column.len()).all(|row| read.value(row) == column.value(row)), "{read:?}");
        }
    }

    #[test]
    fn a_damaged_unit_is_an_error() {
        for text in ["", "decimal", "decimal x 0 1", "fathom 0 0 1", "local-time 0 0"] {
            assert!(Multiples::read(text).is_err(), "{text}");
        }
        let far = Multiples { unit: Unit::LocalTime, least: i64::MAX, step: 1 };
        assert!(far.column(&Ints::narrowed(&[1], None)).is_err());
    }

    proptest! {
        #[test]
        fn multiples_are_read_as_they_were(
            numbers in prop::collection::vec(prop::option::of(any::<i64>()), 1..40),
            scale in 0u8..19, offset in -64_800i32..64_800, kind in 0..3usize, step in prop::sample::select(vec![1, 1000, 1_000_000_000])
        ) {
            let unit = [Unit::Decimal { scale }, Unit::LocalDateTime, Unit::ZonedDateTime { offset }][kind];
            let numbers: Vec<Option<i64>> = numbers.iter().map(|n| n.map(|n| n / step * step)).collect();
            let column = multiples(&numbers, unit);
            let (read, _) = stored(column.clone());
            for row in 0..column.len() {
                prop_assert_eq!(read.value(row), column.value(row));
                prop_assert_eq!(format!("{:?}", read.value(row)), format!("{:?}", column.value(row)));
            }
        }
    }

    fn floats(numbers: &[Option<f64>]) -> Column {
        Column::Float(Float64Array::from(numbers.to_vec()))
    }

    fn bits(column: &Column) -> Vec<Option<u64>> {
        let Column::Float(a) = column else { panic!("{column:?}") };
        a.iter().map(|n| n.map(f64::to_bits)).collect()
    }

    #[test]
    fn floats_of_few_places_are_stored_narrow() {
        for (numbers, width) in [
            (vec![Some(1.0), Some(-128.0)], 1),
            (vec![Some(0.1), None, Some(12.7)], 1),
            (vec![Some(1000.5), Some(0.25)], 4),
            (vec![Some(0.000_001)], 1),
            (vec![Some(0.000_000_1)], 8),
            (vec![Some(1.0 / 3.0)], 8),
            (vec![Some(-0.0)], 8),
            (vec![Some(f64::INFINITY)], 8),
            (vec![Some(f64::NAN)], 8),
            (vec![Some(2_147_483_647.0)], 4),
            (vec![Some(2_147_483_648.0)], 8),
            (vec![None], 1),
        ] {
            let column = floats(&numbers);
            let (read, stored) = stored(column.clone());
            assert_eq!(stored, Some(width), "{numbers:?}");
            assert_eq!(bits(&read), bits(&column));
        }
    }

    #[test]
    fn whole_numbers_are_stored_as_narrow_as_the_segment_allows() {
        for (numbers, width) in [(vec![5, -3], 1), (vec![300], 2), (vec![70_000], 4), (vec![i64::MIN], 8)] {
            let wide = Column::Int(Ints::from(Int64Array::from(numbers.clone())));
            let (read, stored) = stored(wide);
            assert_eq!(stored, Some(width));
            let Column::Int(read) = read else { panic!("{read:?}") };
            assert_eq!((0..read.len()).map(|row| read.value(row)).collect::<Vec<_>>(), numbers);
        }
    }

    #[test]
    fn columns_of_older_segments_are_read() {
        let days = Date32Array::from(vec![Some(-5), None, Some(19_000)]);
        let array: ArrayRef = Arc::new(days.clone());
        let plain = Field::new("p", array.data_type().clone(), true);
        let Column::Date(read) = read_column(&array, &plain).unwrap() else { panic!("no days") };
        assert_eq!(read, days);
    }

    proptest! {
        #[test]
        fn floats_and_days_come_back_bit_by_bit(
            floats in prop::collection::vec(prop::option::of(prop_oneof![
                any::<f64>(),
                (-3_000_000i32..3_000_000, 0u32..8).prop_map(|(n, places)| f64::from(n) / 10f64.powi(places as i32)),
            ]), 0..12),
            days in prop::collection::vec(prop::option::of(prop_oneof![any::<i32>(), 0i32..20_000]), 0..12),
        ) {
            let column = Column::Float(Float64Array::from(floats));
            prop_assert_eq!(bits(&stored(column.clone()).0), bits(&column));
            let days = Date32Array::from(days);
            let Column::Date(read) = stored(Column::Date(days.clone())).0 else { panic!("no days") };
            prop_assert_eq!(read, days);
        }
    }
}
