//! Typed property columns with validity, one per property of a node or edge table, and the builder
//! that makes them. Texts that repeat are dictionary-encoded.

use std::sync::Arc;

use arrow_array::types::UInt32Type;
use arrow_array::{
    Array, BooleanArray, Date32Array, DictionaryArray, Float64Array, LargeStringArray, StringArray,
    UInt32Array,
};
use arrow_buffer::{BooleanBuffer, NullBuffer, OffsetBuffer, ScalarBuffer};
use chrono::{Days, NaiveDate};
use hashbrown::HashMap;
use rayon::prelude::*;

use crate::{Ints, Narrow, Value, ValueType, WholeNumbers, of_width, parse_text};

/// A row of one of several columns that are gathered into one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pick {
    pub part: u32,
    pub row: u32,
}

/// A column of property values. `Other` holds the types that are rare in bulk (decimals, zoned
/// times, lists) and columns of mixed type in open graphs.
#[derive(Clone, Debug)]
pub enum Column {
    Bool(BooleanArray),
    Int(Ints),
    Float(Float64Array),
    Text(LargeStringArray),
    /// Codes into the distinct texts.
    Coded(UInt32Array, Arc<[Arc<str>]>),
    Date(Date32Array),
    Other(Arc<[Value]>),
}

impl Column {
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

    /// [`Self::days`] with the nulls among them.
    pub fn day_numbers(&self) -> Option<WholeNumbers<'_>> {
        match self {
            Column::Date(a) => Some(WholeNumbers::of(a.values(), a.nulls())),
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

#[derive(Debug)]
enum Building {
    /// Only nulls so far.
    Empty,
    Bool(Vec<bool>),
    Int(Vec<i64>),
    Float(Vec<f64>),
    Text {
        offsets: Vec<i64>,
        bytes: Vec<u8>,
    },
    Date(Vec<i32>),
    Other(Vec<Value>),
}

/// Builds a [`Column`] value by value. It takes the type of the first value; a value of another type
/// turns it into a mixed column, so nothing is ever coerced.
#[derive(Debug)]
pub struct ColumnBuilder {
    building: Building,
    len: usize,
    /// Which rows are not null; empty while all are not.
    valid: Vec<bool>,
    nulls: usize,
    /// Rows that room is made for.
    room: usize,
}

impl ColumnBuilder {
    pub fn with_capacity(rows: usize) -> Self {
        ColumnBuilder { building: Building::Empty, len: 0, valid: vec![], nulls: 0, room: rows }
    }

    pub fn len(&self) -> usize {
        self.len
    }

    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Notes rows that are not null.
    #[inline]
    fn count(&mut self, rows: usize) {
        self.len += rows;
        if self.nulls > 0 {
            self.valid.resize(self.len, true);
        }
    }

    /// Forgets the values from `rows` on.
    pub fn truncate(&mut self, rows: usize) {
        if rows >= self.len {
            return;
        }
        self.len = rows;
        if self.nulls > 0 {
            self.nulls -= self.valid[rows..].iter().filter(|valid| !**valid).count();
            self.valid.truncate(if self.nulls > 0 { rows } else { 0 });
        }
        match &mut self.building {
            Building::Empty => {}
            Building::Bool(v) => v.truncate(rows),
            Building::Int(v) => v.truncate(rows),
            Building::Float(v) => v.truncate(rows),
            Building::Text { offsets, bytes } => {
                offsets.truncate(rows + 1);
                bytes.truncate(offsets.last().map_or(0, |&end| end as usize));
            }
            Building::Date(v) => v.truncate(rows),
            Building::Other(v) => v.truncate(rows),
        }
        // The first value decides the type: where it is gone, so is its choice.
        if self.nulls == rows {
            self.building = Building::Empty;
        }
    }

    #[inline]
    pub fn push_null(&mut self) {
        match &mut self.building {
            Building::Empty => {}
            Building::Bool(v) => v.push(false),
            Building::Int(v) => v.push(0),
            Building::Float(v) => v.push(0.0),
            Building::Text { offsets, bytes } => offsets.push(bytes.len() as i64),
            Building::Date(v) => v.push(0),
            Building::Other(v) => v.push(Value::Null),
        }
        self.valid.resize(self.len, true);
        self.valid.push(false);
        self.len += 1;
        self.nulls += 1;
    }

    #[inline]
    pub fn push_int(&mut self, value: i64) {
        if let Building::Int(v) = &mut self.building {
            v.push(value);
            self.count(1);
        } else {
            self.push(Value::Int(value));
        }
    }

    #[inline]
    pub fn push_float(&mut self, value: f64) {
        if let Building::Float(v) = &mut self.building {
            v.push(value);
            self.count(1);
        } else {
            self.push(Value::Float(value));
        }
    }

    #[inline]
    pub fn push_date(&mut self, value: NaiveDate) {
        if let Building::Date(v) = &mut self.building {
            v.push(ValueType::epoch_day(value));
            self.count(1);
        } else {
            self.push(Value::Date(value));
        }
    }

    /// The value that a text is read as; false where it is not of this type.
    pub fn push_read(&mut self, wanted: &ValueType, text: &str) -> bool {
        let read = parse_text(wanted, text);
        let good = read.is_ok();
        read.into_iter().for_each(|value| self.push(value));
        good
    }

    /// Many numbers at once; where `valid` says so a row is null, whatever its number.
    pub fn extend_ints(&mut self, values: &[i64], valid: Option<&[bool]>) {
        self.extend(values, valid, |b| if let Building::Int(v) = b { Some(v) } else { None }, Value::Int);
    }

    pub fn extend_floats(&mut self, values: &[f64], valid: Option<&[bool]>) {
        self.extend(values, valid, |b| if let Building::Float(v) = b { Some(v) } else { None }, Value::Float);
    }

    /// Days from 1970-01-01 on.
    pub fn extend_days(&mut self, values: &[i32], valid: Option<&[bool]>) {
        let date = |days| Value::Date(day(days));
        self.extend(values, valid, |b| if let Building::Date(v) = b { Some(v) } else { None }, date);
    }

    fn extend<T: Copy>(
        &mut self, values: &[T], valid: Option<&[bool]>, own: impl Fn(&mut Building) -> Option<&mut Vec<T>>,
        value: impl Fn(T) -> Value,
    ) {
        let is_valid = |row: usize| valid.is_none_or(|valid| valid[row]);
        let mut from = 0;
        // The first value decides the type.
        while from < values.len() && own(&mut self.building).is_none() {
            match is_valid(from) {
                true => self.push(value(values[from])),
                false => self.push_null(),
            }
            from += 1;
        }
        let Some(building) = own(&mut self.building) else { return };
        building.extend_from_slice(&values[from..]);
        match valid {
            None => self.count(values.len() - from),
            Some(valid) => {
                self.valid.resize(self.len, true);
                self.valid.extend_from_slice(&valid[from..]);
                self.len += values.len() - from;
                self.nulls += valid[from..].iter().filter(|valid| !**valid).count();
                if self.nulls == 0 {
                    self.valid.clear();
                }
            }
        }
    }

    pub fn push_text(&mut self, text: &str) {
        if let Building::Empty = self.building {
            let mut offsets = Vec::with_capacity(self.room.max(self.len) + 1);
            offsets.resize(self.len + 1, 0);
            self.building = Building::Text { offsets, bytes: vec![] };
        }
        if let Building::Text { offsets, bytes } = &mut self.building {
            bytes.extend_from_slice(text.as_bytes());
            offsets.push(bytes.len() as i64);
            self.count(1);
        } else {
            self.push(Value::text(text));
        }
    }

    pub fn push(&mut self, value: Value) {
        if value.is_null() {
            return self.push_null();
        }
        if let Value::Text(text) = &value
            && matches!(self.building, Building::Empty | Building::Text { .. })
        {
            return self.push_text(text);
        }
        if let Building::Empty = self.building {
            self.building = self.start_for(&value);
        }
        match (&mut self.building, &value) {
            (Building::Bool(v), Value::Bool(b)) => v.push(*b),
            (Building::Int(v), Value::Int(i)) => v.push(*i),
            (Building::Float(v), Value::Float(f)) => v.push(*f),
            (Building::Date(v), Value::Date(d)) => v.push(ValueType::epoch_day(*d)),
            (Building::Other(v), _) => v.push(value),
            _ => {
                self.mix();
                if let Building::Other(v) = &mut self.building {
                    v.push(value);
                }
            }
        }
        self.count(1);
    }

    /// A builder state for the type of `value`, filled with the nulls pushed so far.
    fn start_for(&self, value: &Value) -> Building {
        fn filled<T: Clone>(builder: &ColumnBuilder, zero: T) -> Vec<T> {
            let mut values = Vec::with_capacity(builder.room.max(builder.len));
            values.resize(builder.len, zero);
            values
        }
        match value {
            Value::Bool(_) => Building::Bool(filled(self, false)),
            Value::Int(_) => Building::Int(filled(self, 0)),
            Value::Float(_) => Building::Float(filled(self, 0.0)),
            Value::Date(_) => Building::Date(filled(self, 0)),
            _ => Building::Other(filled(self, Value::Null)),
        }
    }

    fn mix(&mut self) {
        let building = std::mem::replace(&mut self.building, Building::Empty);
        let (valid, room) = (self.valid.clone(), self.room);
        let done = ColumnBuilder { building, valid, room, ..*self }.finish_plain();
        self.building = Building::Other((0..done.len()).map(|row| done.value(row)).collect());
    }

    fn nulls(&self) -> Option<NullBuffer> {
        (self.nulls > 0).then(|| NullBuffer::from(self.valid.as_slice()))
    }

    fn finish_plain(self) -> Column {
        let nulls = self.nulls();
        match self.building {
            Building::Empty => Column::Other(vec![Value::Null; self.len].into()),
            Building::Bool(v) => Column::Bool(BooleanArray::new(v.into(), nulls)),
            Building::Int(v) => Column::Int(Ints::narrowed(&v, nulls)),
            Building::Float(v) => Column::Float(Float64Array::new(v.into(), nulls)),
            Building::Text { offsets, bytes } => {
                // Every slice pushed was a whole `&str`, so the bytes are UTF-8 at every offset.
                let offsets = OffsetBuffer::new(ScalarBuffer::from(offsets));
                Column::Text(LargeStringArray::new(offsets, bytes.into(), nulls))
            }
            Building::Date(v) => Column::Date(Date32Array::new(v.into(), nulls)),
            Building::Other(v) => Column::Other(v.into()),
        }
    }

    pub fn finish(self) -> Column {
        let column = self.finish_plain();
        match column {
            Column::Text(texts) => fold_text(texts),
            other => other,
        }
    }
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
        ]
    }

    fn same_kind() -> impl Strategy<Value = Vec<Value>> {
        prop_oneof![
            prop::collection::vec(any_value(), 0..40),
            prop::collection::vec((-5i64..5).prop_map(Value::Int), 0..40),
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
