//! Typed property columns with validity, one per property of a node or edge table, and the builder
//! that makes them. Texts that repeat are dictionary-encoded.

mod builder;

use std::sync::Arc;

use arrow_array::types::UInt32Type;
use arrow_array::{
    Array, BooleanArray, Date32Array, DictionaryArray, Float64Array, LargeStringArray, StringArray,
    UInt32Array,
};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use chrono::{Days, NaiveDate};
use hashbrown::HashMap;
use rayon::prelude::*;

use crate::{Ints, Measure, Narrow, Unit, Value, WholeNumbers, of_width};

pub use builder::ColumnBuilder;

/// A row of one of several columns that are gathered into one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pick {
    pub part: u32,
    pub row: u32,
}

/// A column of property values. `Other` holds the types that are rare in bulk (durations, lists, decimals of
/// several scales) and columns of mixed type in open graphs.
#[derive(Clone, Debug)]
pub enum Column {
    Bool(BooleanArray),
    Int(Ints),
    Float(Float64Array),
    Text(LargeStringArray),
    /// Codes into the distinct texts.
    Coded(UInt32Array, Arc<[Arc<str>]>),
    Date(Date32Array),
    /// Multiples of one unit.
    Units(Ints, Unit),
    Other(Arc<[Value]>),
}

/// Texts that repeat: the code of each row, and the texts by their codes.
#[derive(Clone, Copy, Debug)]
pub struct TextCodes<'a> {
    codes: &'a UInt32Array,
    texts: &'a Arc<[Arc<str>]>,
}

impl<'a> TextCodes<'a> {
    /// The code of a row; that of null is one more than the last text's.
    #[inline]
    pub fn code(&self, row: usize) -> u32 {
        if self.codes.is_null(row) { self.texts.len() as u32 } else { self.codes.value(row) }
    }

    /// Rows.
    pub fn len(&self) -> usize {
        self.codes.len()
    }

    pub fn is_empty(&self) -> bool {
        self.codes.is_empty()
    }

    pub fn texts(&self) -> &'a Arc<[Arc<str>]> {
        self.texts
    }
}

impl Column {
    /// `None` where they are no texts that repeat.
    pub fn text_codes(&self) -> Option<TextCodes<'_>> {
        match self {
            Column::Coded(codes, texts) => Some(TextCodes { codes, texts }),
            _ => None,
        }
    }

    /// `None` where they are not all whole numbers or null.
    pub fn whole_numbers(&self) -> Option<WholeNumbers<'_>> {
        match self {
            Column::Int(a) => Some(a.numbers()),
            _ => None,
        }
    }

    /// `None` where they are not all floats or null; of a null any.
    pub fn floats(&self) -> Option<&[f64]> {
        match self {
            Column::Float(a) => Some(a.values()),
            _ => None,
        }
    }

    /// Numbers that compare as the values do, and what they count; `None` where values have no such number.
    pub fn measured(&self) -> Option<(Measure, WholeNumbers<'_>)> {
        match self {
            Column::Int(a) => Some((Measure::Whole, a.numbers())),
            Column::Date(a) => Some((Measure::Day, WholeNumbers::of(a.values(), a.nulls()))),
            Column::Units(a, unit) => Some((Measure::Unit(*unit), a.numbers())),
            _ => None,
        }
    }

    /// Days since 1970-01-01; `None` where they are not all days or null; of a null any.
    pub fn days(&self) -> Option<&[i32]> {
        match self {
            Column::Date(a) => Some(a.values()),
            _ => None,
        }
    }

    /// The numbers of a column of multiples, and their unit.
    pub fn units(&self) -> Option<(Unit, WholeNumbers<'_>)> {
        match self {
            Column::Units(a, unit) => Some((*unit, a.numbers())),
            _ => None,
        }
    }

    /// The date of a number of days since 1970-01-01.
    pub fn date(days: i32) -> Value {
        Value::Date(day(days))
    }

    pub fn len(&self) -> usize {
        match self {
            Column::Bool(a) => a.len(),
            Column::Int(a) => a.len(),
            Column::Float(a) => a.len(),
            Column::Text(a) => a.len(),
            Column::Coded(a, _) => a.len(),
            Column::Date(a) => a.len(),
            Column::Units(a, _) => a.len(),
            Column::Other(a) => a.len(),
        }
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    pub fn is_null(&self, row: usize) -> bool {
        match self {
            Column::Bool(a) => a.is_null(row),
            Column::Int(a) => a.is_null(row),
            Column::Float(a) => a.is_null(row),
            Column::Text(a) => a.is_null(row),
            Column::Coded(a, _) => a.is_null(row),
            Column::Date(a) => a.is_null(row),
            Column::Units(a, _) => a.is_null(row),
            Column::Other(a) => a[row].is_null(),
        }
    }

    /// How many rows are null.
    pub fn nulls(&self) -> usize {
        match self {
            Column::Bool(a) => a.null_count(),
            Column::Int(a) => a.null_count(),
            Column::Float(a) => a.null_count(),
            Column::Text(a) => a.null_count(),
            Column::Coded(a, _) => a.null_count(),
            Column::Date(a) => a.null_count(),
            Column::Units(a, _) => a.null_count(),
            Column::Other(a) => a.iter().filter(|v| v.is_null()).count(),
        }
    }

    /// Whether any row is not null.
    pub fn has_values(&self) -> bool {
        self.nulls() < self.len()
    }

    pub fn value(&self, row: usize) -> Value {
        if self.is_null(row) {
            return Value::Null;
        }
        match self {
            Column::Bool(a) => Value::Bool(a.value(row)),
            Column::Int(a) => Value::Int(a.value(row)),
            Column::Float(a) => Value::Float(a.value(row)),
            Column::Text(a) => Value::text(a.value(row)),
            Column::Coded(a, texts) => Value::Text(texts[a.value(row) as usize].clone()),
            Column::Date(a) => Value::Date(day(a.value(row))),
            Column::Units(a, unit) => unit.value(a.value(row)),
            Column::Other(a) => a[row].clone(),
        }
    }

    /// The whole number at `row`, or null, without making a value of it; `None` where it is something else.
    #[inline]
    pub fn int(&self, row: usize) -> Option<Option<i64>> {
        match self {
            Column::Int(a) => Some(a.numbers().get(row)),
            _ if self.is_null(row) => Some(None),
            _ => None,
        }
    }

    /// The text at `row` without making a value of it; `None` where it is null or no text.
    pub fn text(&self, row: usize) -> Option<&str> {
        match self {
            Column::Text(a) if a.is_valid(row) => Some(a.value(row)),
            Column::Coded(a, texts) if a.is_valid(row) => Some(&texts[a.value(row) as usize]),
            Column::Other(a) => match &a[row] {
                Value::Text(t) => Some(t),
                _ => None,
            },
            _ => None,
        }
    }

    /// Bytes held in memory.
    pub fn bytes(&self) -> usize {
        match self {
            Column::Bool(a) => a.get_buffer_memory_size(),
            Column::Int(a) => a.bytes(),
            Column::Float(a) => a.get_buffer_memory_size(),
            Column::Text(a) => a.get_buffer_memory_size(),
            Column::Coded(a, texts) => {
                a.get_buffer_memory_size() + texts.iter().map(|t| t.len() + 32).sum::<usize>()
            }
            Column::Date(a) => a.get_buffer_memory_size(),
            Column::Units(a, _) => a.bytes(),
            Column::Other(a) => a.len() * size_of::<Value>(),
        }
    }

    /// The dictionary form of a coded column, for writing it as Arrow.
    pub fn dictionary(codes: &UInt32Array, texts: &[Arc<str>]) -> DictionaryArray<UInt32Type> {
        let values = StringArray::from_iter_values(texts.iter());
        DictionaryArray::new(codes.clone(), Arc::new(values))
    }

    /// One column out of rows of several, in the order of `picks`.
    pub fn gather(parts: &[&Column], picks: &[Pick]) -> Column {
        macro_rules! typed {
            ($variant:ident, $array:ty) => {{
                let arrays: Vec<&$array> = parts
                    .iter()
                    .filter_map(|c| if let Column::$variant(a) = c { Some(a) } else { None })
                    .collect();
                if arrays.len() == parts.len() {
                    let nulls = gather_nulls(&arrays, picks);
                    // Rows lie far apart: two threads wait for memory half as long.
                    let values: Vec<_> = picks
                        .par_iter()
                        .with_min_len(1 << 16)
                        .map(|p| arrays[p.part as usize].values()[p.row as usize])
                        .collect();
                    return Column::$variant(<$array>::new(values.into(), nulls));
                }
            }};
        }
        let ints = parts.iter().map(|c| if let Column::Int(a) = c { Some(a) } else { None });
        if let Some(ints) = ints.collect::<Option<Vec<&Ints>>>() {
            return Column::Int(gather_ints(&ints, picks));
        }
        if let Some(Column::Units(_, unit)) = parts.first() {
            let alike = parts.iter().map(|c| match c {
                Column::Units(a, own) if own == unit => Some(a),
                _ => None,
            });
            if let Some(ints) = alike.collect::<Option<Vec<&Ints>>>() {
                return Column::Units(gather_ints(&ints, picks), *unit);
            }
        }
        typed!(Float, Float64Array);
        typed!(Date, Date32Array);
        let mut builder = ColumnBuilder::with_capacity(picks.len());
        for pick in picks {
            let part = parts[pick.part as usize];
            match part.text(pick.row as usize) {
                Some(text) => builder.push_text(text),
                None => builder.push(part.value(pick.row as usize)),
            }
        }
        builder.finish()
    }
}

impl Column {
    /// [`Column::gather`] where some rows have no source and become null. Parts no row comes from are
    /// left aside, so that they do not decide the type.
    pub fn gather_optional(parts: &[&Column], picks: &[Option<Pick>]) -> Column {
        let mut used = vec![false; parts.len()];
        picks.iter().flatten().for_each(|p| used[p.part as usize] = true);
        if picks.iter().all(Option::is_some) {
            let kept: Vec<usize> = (0..parts.len()).filter(|&i| used[i]).collect();
            let mut place = vec![0u32; parts.len()];
            kept.iter().enumerate().for_each(|(new, &old)| place[old] = new as u32);
            let columns: Vec<&Column> = kept.iter().map(|&i| parts[i]).collect();
            let picks: Vec<Pick> =
                picks.iter().flatten().map(|p| Pick { part: place[p.part as usize], row: p.row }).collect();
            return Column::gather(&columns, &picks);
        }
        let mut builder = ColumnBuilder::with_capacity(picks.len());
        for pick in picks {
            match pick {
                Some(p) => match parts[p.part as usize].text(p.row as usize) {
                    Some(text) => builder.push_text(text),
                    None => builder.push(parts[p.part as usize].value(p.row as usize)),
                },
                None => builder.push_null(),
            }
        }
        builder.finish()
    }
}

fn gather_ints(parts: &[&Ints], picks: &[Pick]) -> Ints {
    fn picked<T: Narrow>(parts: &[&Ints], picks: &[Pick]) -> Ints {
        let numbers: Vec<WholeNumbers<'_>> = parts.iter().map(|a| a.numbers()).collect();
        let value = |p: &Pick| T::of(numbers[p.part as usize].value(p.row as usize));
        let values = picks.par_iter().with_min_len(1 << 16).map(value).collect();
        let any_null = parts.iter().any(|a| a.null_count() > 0);
        let valid = |i: usize| !parts[picks[i].part as usize].is_null(picks[i].row as usize);
        let nulls = any_null.then(|| NullBuffer::new(BooleanBuffer::collect_bool(picks.len(), valid)));
        T::ints(values, nulls)
    }
    of_width!(Ints::widest(parts.iter().copied()), picked(parts, picks))
}

fn gather_nulls<A: Array>(arrays: &[&A], picks: &[Pick]) -> Option<NullBuffer> {
    if arrays.iter().all(|a| a.null_count() == 0) {
        return None;
    }
    let valid = BooleanBuffer::collect_bool(picks.len(), |i| {
        arrays[picks[i].part as usize].is_valid(picks[i].row as usize)
    });
    Some(NullBuffer::new(valid))
}

fn day(days: i32) -> NaiveDate {
    let epoch = NaiveDate::default();
    let shifted = if days >= 0 {
        epoch.checked_add_days(Days::new(days as u64))
    } else {
        epoch.checked_sub_days(Days::new(days.unsigned_abs() as u64))
    };
    shifted.unwrap_or(epoch)
}

/// Dictionary-encodes a text column where few distinct texts repeat.
pub fn fold_text(texts: LargeStringArray) -> Column {
    const SAMPLE: usize = 4096;
    let limit = (texts.len() / 4).max(16);
    let mut codes: HashMap<&str, u32> = HashMap::new();
    let mut row_codes: Vec<u32> = Vec::with_capacity(texts.len());
    for row in 0..texts.len() {
        if texts.is_null(row) {
            row_codes.push(0);
            continue;
        }
        let next = codes.len() as u32;
        row_codes.push(*codes.entry(texts.value(row)).or_insert(next));
        let seen = codes.len();
        if seen > limit || (row == SAMPLE && seen > SAMPLE / 2) {
            return Column::Text(texts.clone());
        }
    }
    let mut distinct: Vec<(&str, u32)> = codes.into_iter().collect();
    distinct.sort_by_key(|(_, code)| *code);
    let distinct: Vec<Arc<str>> = distinct.into_iter().map(|(text, _)| Arc::from(text)).collect();
    Column::Coded(UInt32Array::new(row_codes.into(), texts.nulls().cloned()), distinct.into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_value() -> impl Strategy<Value = Value> {
        prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::Bool),
            any::<i64>().prop_map(Value::Int),
            (-1e9f64..1e9).prop_map(Value::Float),
            "[a-c]{0,2}".prop_map(|t| Value::text(t.as_str())),
            (-40_000i32..40_000).prop_map(|d| Value::Date(day(d))),
            any_multiple(),
        ]
    }

    fn any_multiple() -> impl Strategy<Value = Value> {
        let units = [
            Unit::Decimal { scale: 2 },
            Unit::Decimal { scale: 3 },
            Unit::LocalDateTime,
            Unit::ZonedDateTime { offset: 0 },
            Unit::ZonedDateTime { offset: 7200 },
        ];
        (prop::sample::select(units.to_vec()), any::<i64>()).prop_map(|(unit, number)| unit.value(number))
    }

    fn same_kind() -> impl Strategy<Value = Vec<Value>> {
        prop_oneof![
            prop::collection::vec(any_value(), 0..40),
            prop::collection::vec((-5i64..5).prop_map(Value::Int), 0..40),
            prop::collection::vec(any_multiple(), 0..5),
            prop::collection::vec(
                prop_oneof![Just(Value::Null), any::<i64>().prop_map(|n| Unit::LocalDateTime.value(n))],
                0..40
            ),
            prop::collection::vec("[a-c]{0,2}".prop_map(|t| Value::text(t.as_str())), 0..80),
        ]
    }

    fn build(values: &[Value]) -> Column {
        let mut builder = ColumnBuilder::with_capacity(values.len());
        values.iter().for_each(|v| builder.push(v.clone()));
        builder.finish()
    }

    proptest! {
        #[test]
        fn a_column_gives_back_what_was_put_in(values in same_kind()) {
            let column = build(&values);
            prop_assert_eq!(column.len(), values.len());
            for (row, value) in values.iter().enumerate() {
                prop_assert_eq!(&column.value(row), value);
                prop_assert_eq!(column.value(row).type_name(), value.type_name());
            }
        }

        #[test]
        fn truncating_forgets_what_was_pushed_last(a in same_kind(), b in same_kind()) {
            let mut builder = ColumnBuilder::with_capacity(0);
            a.iter().for_each(|v| builder.push(v.clone()));
            b.iter().for_each(|v| builder.push(v.clone()));
            builder.truncate(a.len());
            prop_assert_eq!(builder.len(), a.len());
            a.iter().for_each(|v| builder.push(v.clone()));
            let column = builder.finish();
            for (row, value) in a.iter().chain(&a).enumerate() {
                prop_assert_eq!(&column.value(row), value);
            }
        }

        #[test]
        fn gathering_picks_the_named_rows(a in same_kind(), b in same_kind(), seed in any::<u32>()) {
            let columns = [build(&a), build(&b)];
            let mut picks = vec![];
            for (part, values) in [&a, &b].iter().enumerate() {
                for row in 0..values.len() {
                    picks.push(Pick { part: part as u32, row: row as u32 });
                }
            }
            if !picks.is_empty() {
                let turn = seed as usize % picks.len();
                picks.rotate_left(turn);
            }
            let gathered = Column::gather(&[&columns[0], &columns[1]], &picks);
            for (row, pick) in picks.iter().enumerate() {
                let expected = if pick.part == 0 { &a } else { &b };
                prop_assert_eq!(&gathered.value(row), &expected[pick.row as usize]);
            }
        }
    }
}
