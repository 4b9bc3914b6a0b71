//! A column that grows value by value.

use arrow_array::{BooleanArray, Date32Array, Float64Array, LargeStringArray};
use arrow_buffer::{NullBuffer, OffsetBuffer, ScalarBuffer};
use chrono::NaiveDate;

use super::{Column, day, fold_text};
use crate::{Ints, Unit, Value, ValueType, parse_text};

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
    Units(Vec<i64>, Unit),
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
            Building::Units(v, _) => v.truncate(rows),
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
            Building::Units(v, _) => v.push(0),
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
            (Building::Units(v, unit), value)
                if let Some((own, number)) = Unit::of(value)
                    && own == *unit =>
            {
                v.push(number);
            }
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
            _ => match Unit::of(value) {
                Some((unit, _)) => Building::Units(filled(self, 0), unit),
                None => Building::Other(filled(self, Value::Null)),
            },
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
            Building::Units(v, unit) => Column::Units(Ints::narrowed(&v, nulls), unit),
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
