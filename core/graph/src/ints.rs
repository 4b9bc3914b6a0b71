//! Whole numbers of a column in the narrowest type that holds them all: less memory to fill when a graph is
//! loaded or opened, and more of them in the processor's caches when it is searched.

use std::ops::Range;

use arrow_array::{Array, ArrayRef, Int8Array, Int16Array, Int32Array, Int64Array};
use arrow_buffer::{NullBuffer, NullBufferBuilder};

/// Nullable whole numbers.
#[derive(Clone, Debug, PartialEq)]
pub enum Ints {
    I8(Int8Array),
    I16(Int16Array),
    I32(Int32Array),
    I64(Int64Array),
}

/// The types that whole numbers are held in, from the narrowest on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Width {
    I8,
    I16,
    I32,
    I64,
}

impl Width {
    /// The narrowest that holds all numbers between two.
    pub fn of(low: i64, high: i64) -> Width {
        let within = |least: i64, most: i64| low >= least && high <= most;
        if within(i8::MIN.into(), i8::MAX.into()) {
            Width::I8
        } else if within(i16::MIN.into(), i16::MAX.into()) {
            Width::I16
        } else if within(i32::MIN.into(), i32::MAX.into()) {
            Width::I32
        } else {
            Width::I64
        }
    }
}

/// A type that whole numbers are held in.
pub trait Narrow: Copy + Default + Send + Sync + Into<i64> + 'static {
    /// The number, which the type is known to hold.
    fn of(number: i64) -> Self;
    fn ints(values: Vec<Self>, nulls: Option<NullBuffer>) -> Ints;
}

macro_rules! narrow {
    ($($native:ty, $variant:ident, $array:ty;)*) => {
        $(impl Narrow for $native {
            #[inline]
            fn of(number: i64) -> Self {
                number as $native
            }

            fn ints(values: Vec<Self>, nulls: Option<NullBuffer>) -> Ints {
                Ints::$variant(<$array>::new(values.into(), nulls))
            }
        })*

        $(impl From<$array> for Ints {
            fn from(array: $array) -> Ints {
                Ints::$variant(array)
            }
        })*
    };
}

narrow! {
    i8, I8, Int8Array;
    i16, I16, Int16Array;
    i32, I32, Int32Array;
    i64, I64, Int64Array;
}

#[inline]
fn wide<T: Narrow>(number: T) -> i64 {
    number.into()
}

/// Does the same with an array of any of the types.
macro_rules! each {
    ($ints:expr, $array:ident => $do:expr) => {
        match $ints {
            Ints::I8($array) => $do,
            Ints::I16($array) => $do,
            Ints::I32($array) => $do,
            Ints::I64($array) => $do,
        }
    };
}

/// Calls a function that is generic over the type with the type of a width.
#[macro_export]
macro_rules! of_width {
    ($width:expr, $function:ident($($argument:expr),* $(,)?)) => {
        match $width {
            $crate::Width::I8 => $function::<i8>($($argument),*),
            $crate::Width::I16 => $function::<i16>($($argument),*),
            $crate::Width::I32 => $function::<i32>($($argument),*),
            $crate::Width::I64 => $function::<i64>($($argument),*),
        }
    };
}

impl Ints {
    /// In the narrowest type; the numbers of nulls count too.
    pub fn narrowed(values: &[i64], nulls: Option<NullBuffer>) -> Ints {
        fn cast<T: Narrow>(values: &[i64], nulls: Option<NullBuffer>) -> Ints {
            T::ints(values.iter().map(|n| T::of(*n)).collect(), nulls)
        }
        let (low, high) = values.iter().fold((0, 0), |(low, high), n| (*n.min(&low), *n.max(&high)));
        of_width!(Width::of(low, high), cast(values, nulls))
    }

    pub fn width(&self) -> Width {
        match self {
            Ints::I8(_) => Width::I8,
            Ints::I16(_) => Width::I16,
            Ints::I32(_) => Width::I32,
            Ints::I64(_) => Width::I64,
        }
    }

    /// The narrowest type that holds the numbers of all.
    pub fn widest<'i>(all: impl IntoIterator<Item = &'i Ints>) -> Width {
        all.into_iter().map(Ints::width).max().unwrap_or(Width::I8)
    }

    pub fn len(&self) -> usize {
        each!(self, a => a.len())
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    #[inline]
    pub fn is_null(&self, row: usize) -> bool {
        self.nulls().is_some_and(|nulls| nulls.is_null(row))
    }

    /// The number of a row; of a null any.
    #[inline]
    pub fn value(&self, row: usize) -> i64 {
        each!(self, a => wide(a.value(row)))
    }

    #[inline]
    pub fn nulls(&self) -> Option<&NullBuffer> {
        each!(self, a => a.nulls())
    }

    pub fn null_count(&self) -> usize {
        each!(self, a => a.null_count())
    }

    /// The rows of a range, in the same memory.
    pub fn slice(&self, rows: Range<usize>) -> Ints {
        each!(self, a => a.slice(rows.start, rows.len()).into())
    }

    /// As an Arrow array of its type.
    pub fn array(&self) -> ArrayRef {
        each!(self, a => std::sync::Arc::new(a.clone()))
    }

    /// All numbers, those of nulls too.
    pub fn for_each(&self, mut take: impl FnMut(i64)) {
        each!(self, a => a.values().iter().for_each(|n| take(wide(*n))));
    }

    pub fn numbers(&self) -> WholeNumbers<'_> {
        let values = match self {
            Ints::I8(a) => Slice::I8(a.values()),
            Ints::I16(a) => Slice::I16(a.values()),
            Ints::I32(a) => Slice::I32(a.values()),
            Ints::I64(a) => Slice::I64(a.values()),
        };
        WholeNumbers { values, nulls: self.nulls() }
    }

    /// Bytes held in memory.
    pub fn bytes(&self) -> usize {
        each!(self, a => a.get_buffer_memory_size())
    }
}

#[derive(Clone, Copy)]
enum Slice<'a> {
    I8(&'a [i8]),
    I16(&'a [i16]),
    I32(&'a [i32]),
    I64(&'a [i64]),
}

/// The numbers of a column of whole numbers, for tight loops.
#[derive(Clone, Copy)]
pub struct WholeNumbers<'a> {
    values: Slice<'a>,
    nulls: Option<&'a NullBuffer>,
}

impl<'a> WholeNumbers<'a> {
    /// Numbers that lie in an array of their own.
    pub(crate) fn of(values: &'a [i32], nulls: Option<&'a NullBuffer>) -> WholeNumbers<'a> {
        WholeNumbers { values: Slice::I32(values), nulls }
    }

    /// The number of a row; of a null any.
    #[inline]
    pub fn value(&self, row: usize) -> i64 {
        match self.values {
            Slice::I8(values) => values[row].into(),
            Slice::I16(values) => values[row].into(),
            Slice::I32(values) => values[row].into(),
            Slice::I64(values) => values[row],
        }
    }

    #[inline]
    pub fn get(&self, row: usize) -> Option<i64> {
        let value = self.value(row);
        self.nulls.is_none_or(|nulls| nulls.is_valid(row)).then_some(value)
    }

    /// No number is further from zero.
    pub fn furthest(&self) -> u64 {
        match self.values {
            Slice::I8(_) => 1 << 7,
            Slice::I16(_) => 1 << 15,
            Slice::I32(_) => 1 << 31,
            Slice::I64(_) => 1 << 63,
        }
    }

    /// Whether the row has a number, from `low` to `high`.
    #[inline]
    pub fn within(&self, row: usize, low: i64, high: i64) -> bool {
        let value = self.value(row);
        // Both are always asked: a branch less.
        (value >= low) & (value <= high) && self.nulls.is_none_or(|nulls| nulls.is_valid(row))
    }

    /// Adds the rows of a range that have a number from `low` to `high`.
    pub fn select(&self, rows: Range<usize>, low: i64, high: i64, found: &mut Vec<usize>) {
        let first = rows.start;
        match self.values {
            Slice::I8(values) => self.select_of(&values[rows], first, low, high, found),
            Slice::I16(values) => self.select_of(&values[rows], first, low, high, found),
            Slice::I32(values) => self.select_of(&values[rows], first, low, high, found),
            Slice::I64(values) => self.select_of(&values[rows], first, low, high, found),
        }
    }

    /// Adds `first` and the place of each of the rows that has a number from `low` to `high`.
    pub fn select_at(&self, rows: &[u32], first: usize, (low, high): (i64, i64), found: &mut Vec<usize>) {
        match self.values {
            Slice::I8(values) => self.select_at_of(values, rows, first, (low, high), found),
            Slice::I16(values) => self.select_at_of(values, rows, first, (low, high), found),
            Slice::I32(values) => self.select_at_of(values, rows, first, (low, high), found),
            Slice::I64(values) => self.select_at_of(values, rows, first, (low, high), found),
        }
    }

    fn select_at_of<T: Narrow>(
        &self, values: &[T], rows: &[u32], first: usize, (low, high): (i64, i64), found: &mut Vec<usize>,
    ) {
        // Written whether it counts or not: no branch that is hard to foresee.
        let (begin, mut len) = (found.len(), 0);
        found.resize(begin + rows.len(), 0);
        let places = &mut found[begin..];
        for (i, &row) in rows.iter().enumerate() {
            let value: i64 = values[row as usize].into();
            let valid = self.nulls.is_none_or(|nulls| nulls.is_valid(row as usize));
            places[len] = first + i;
            len += ((value >= low) & (value <= high) & valid) as usize;
        }
        found.truncate(begin + len);
    }

    fn select_of<T: Narrow>(&self, values: &[T], first: usize, low: i64, high: i64, found: &mut Vec<usize>) {
        let fits = |value: T| {
            let value: i64 = value.into();
            (value >= low) & (value <= high)
        };
        match self.nulls {
            None => {
                // Written whether it counts or not: no branch that is hard to foresee.
                let (begin, mut len) = (found.len(), 0);
                found.resize(begin + values.len(), 0);
                let places = &mut found[begin..];
                for (i, &value) in values.iter().enumerate() {
                    places[len] = first + i;
                    len += fits(value) as usize;
                }
                found.truncate(begin + len);
            }
            Some(nulls) => {
                for (i, &value) in values.iter().enumerate() {
                    if fits(value) && nulls.is_valid(first + i) {
                        found.push(first + i);
                    }
                }
            }
        }
    }
}

/// Puts whole numbers of several columns behind each other, as narrow as all of them allow.
pub struct IntsBuilder {
    values: Values,
    nulls: NullBufferBuilder,
    room: usize,
}

enum Values {
    I8(Vec<i8>),
    I16(Vec<i16>),
    I32(Vec<i32>),
    I64(Vec<i64>),
}

impl IntsBuilder {
    /// With room for so many numbers that are as wide as the first ones.
    pub fn with_capacity(rows: usize, width: Width) -> IntsBuilder {
        let values = match width {
            Width::I8 => Values::I8(Vec::with_capacity(rows)),
            Width::I16 => Values::I16(Vec::with_capacity(rows)),
            Width::I32 => Values::I32(Vec::with_capacity(rows)),
            Width::I64 => Values::I64(Vec::with_capacity(rows)),
        };
        IntsBuilder { values, nulls: NullBufferBuilder::new(rows), room: rows }
    }

    pub fn append(&mut self, part: &Ints) {
        match part.nulls() {
            Some(nulls) => self.nulls.append_buffer(nulls),
            None => self.nulls.append_n_non_nulls(part.len()),
        }
        match (&mut self.values, part) {
            (Values::I8(all), Ints::I8(a)) => return all.extend_from_slice(a.values()),
            (Values::I16(all), Ints::I16(a)) => return all.extend_from_slice(a.values()),
            (Values::I32(all), Ints::I32(a)) => return all.extend_from_slice(a.values()),
            (Values::I64(all), Ints::I64(a)) => return all.extend_from_slice(a.values()),
            _ => {}
        }
        // Narrower numbers are widened, and wider ones widen those before.
        let room = self.room;
        fn widened<T: Narrow, U: Narrow>(before: &[T], room: usize) -> Vec<U> {
            let mut values = Vec::with_capacity(room.max(before.len()));
            values.extend(before.iter().map(|n| U::of((*n).into())));
            values
        }
        macro_rules! widen {
            ($before:expr) => {
                match part.width() {
                    Width::I8 => None,
                    Width::I16 => Some(Values::I16(widened($before, room))),
                    Width::I32 => Some(Values::I32(widened($before, room))),
                    Width::I64 => Some(Values::I64(widened($before, room))),
                }
            };
        }
        let wider = match &self.values {
            Values::I8(all) => widen!(all),
            Values::I16(all) if part.width() > Width::I16 => widen!(all),
            Values::I32(all) if part.width() > Width::I32 => widen!(all),
            _ => None,
        };
        if let Some(wider) = wider {
            self.values = wider;
        }
        match &mut self.values {
            Values::I8(all) => part.for_each(|n| all.push(n as i8)),
            Values::I16(all) => part.for_each(|n| all.push(n as i16)),
            Values::I32(all) => part.for_each(|n| all.push(n as i32)),
            Values::I64(all) => part.for_each(|n| all.push(n)),
        }
    }

    pub fn finish(mut self) -> Ints {
        let nulls = self.nulls.finish();
        match self.values {
            Values::I8(all) => i8::ints(all, nulls),
            Values::I16(all) => i16::ints(all, nulls),
            Values::I32(all) => i32::ints(all, nulls),
            Values::I64(all) => i64::ints(all, nulls),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Numbers near the bounds of the types, some of them null.
    fn numbers() -> impl Strategy<Value = Vec<Option<i64>>> {
        let bound = prop_oneof![Just(0i64), Just(127), Just(32_767), Just(2_147_483_647), Just(i64::MAX - 2)];
        let number = (bound, -2i64..=2, any::<bool>(), 0u8..6).prop_map(|(bound, by, negative, null)| {
            let number = bound + by;
            (null > 0).then_some(if negative { -number } else { number })
        });
        prop::collection::vec(number, 0..20)
    }

    fn ints(numbers: &[Option<i64>]) -> Ints {
        let values: Vec<i64> = numbers.iter().map(|n| n.unwrap_or(0)).collect();
        let valid: Vec<bool> = numbers.iter().map(Option::is_some).collect();
        Ints::narrowed(&values, valid.contains(&false).then(|| NullBuffer::from(valid)))
    }

    fn back(ints: &Ints) -> Vec<Option<i64>> {
        (0..ints.len()).map(|row| ints.numbers().get(row)).collect()
    }

    #[test]
    fn numbers_are_held_in_the_narrowest_type() {
        for (numbers, width) in [
            (vec![], Width::I8),
            (vec![-128, 127], Width::I8),
            (vec![128], Width::I16),
            (vec![-32_768, 32_767], Width::I16),
            (vec![32_768], Width::I32),
            (vec![i64::from(i32::MIN), i64::from(i32::MAX)], Width::I32),
            (vec![i64::from(i32::MIN) - 1], Width::I64),
            (vec![i64::MIN, i64::MAX], Width::I64),
        ] {
            assert_eq!(Ints::narrowed(&numbers, None).width(), width, "{numbers:?}");
        }
    }

    proptest! {
        #[test]
        fn narrow_numbers_are_the_same_numbers(numbers in numbers(), low in -130i64..130, span in 0i64..40_000) {
            let narrow = ints(&numbers);
            prop_assert_eq!(back(&narrow), numbers.clone());
            let mut found = vec![];
            narrow.numbers().select(0..numbers.len(), low, low + span, &mut found);
            let fits = |row: &usize| numbers[*row].is_some_and(|n| n >= low && n <= low + span);
            prop_assert_eq!(found, (0..numbers.len()).filter(fits).collect::<Vec<_>>());
            for row in 0..numbers.len() {
                prop_assert_eq!(narrow.numbers().within(row, low, low + span), fits(&row));
            }
            let half = numbers.len() / 2;
            prop_assert_eq!(back(&narrow.slice(half..numbers.len())), numbers[half..].to_vec());
        }

        #[test]
        fn columns_of_any_widths_come_one_behind_the_other(
            parts in prop::collection::vec(numbers(), 0..5), rows in 0usize..40,
        ) {
            let mut builder = IntsBuilder::with_capacity(rows, Width::I8);
            parts.iter().for_each(|part| builder.append(&ints(part)));
            let all: Vec<Option<i64>> = parts.concat();
            prop_assert_eq!(back(&builder.finish()), all);
        }
    }
}
