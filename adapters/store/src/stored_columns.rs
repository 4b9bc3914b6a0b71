//! Columns as a segment holds them: Arrow arrays, whole numbers in the narrowest type that holds them, and
//! values that have no Arrow type of their own here encoded one by one.

use std::sync::Arc;

use arrow_array::types::{ArrowPrimitiveType, Int8Type, Int16Type, Int32Type, UInt32Type};
use arrow_array::{
    Array, ArrayRef, BinaryArray, BooleanArray, Date32Array, DictionaryArray, Float64Array, Int8Array,
    Int16Array, Int32Array, Int64Array, LargeStringArray, PrimitiveArray, StringArray,
};
use arrow_schema::Field;
use graphodrome_graph::{Column, ColumnBuilder, Value};

use crate::StoreError;
use crate::segments::damaged;

/// Marks a column of values that have no Arrow type of their own here.
pub(crate) const ENCODED: &str = "graphodrome.encoded";

pub(crate) fn add_columns(
    fields: &mut Vec<(Field, ArrayRef)>, columns: &[(Arc<str>, Column)], start: usize, rows: usize,
) -> Result<(), StoreError> {
    for (name, column) in columns {
        let (array, encoded): (ArrayRef, bool) = match column {
            Column::Bool(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Int(a) => (narrow(&a.slice(start, rows)), false),
            Column::Float(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Date(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Text(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Coded(codes, texts) => {
                (Arc::new(Column::dictionary(&codes.slice(start, rows), texts)), false)
            }
            Column::Other(values) => {
                let mut encoded: Vec<Option<Vec<u8>>> = Vec::with_capacity(rows);
                for value in &values[start..start + rows] {
                    encoded.push(match value {
                        Value::Null => None,
                        value => Some(postcard::to_stdvec(value).map_err(damaged)?),
                    });
                }
                (Arc::new(BinaryArray::from_iter(encoded)), true)
            }
        };
        let mut field = Field::new(&**name, array.data_type().clone(), true);
        if encoded {
            field = field.with_metadata(std::collections::HashMap::from([(
                ENCODED.to_string(),
                "postcard".to_string(),
            )]));
        }
        fields.push((field, array));
    }
    Ok(())
}

/// Whole numbers in the narrowest type that holds them all: less to pack, and less to keep.
fn narrow(numbers: &Int64Array) -> ArrayRef {
    let (low, high) = numbers.values().iter().fold((0, 0), |(low, high), n| (*n.min(&low), *n.max(&high)));
    macro_rules! within {
        ($kind:ty, $native:ty) => {
            if low >= i64::from(<$native>::MIN) && high <= i64::from(<$native>::MAX) {
                let values: Vec<$native> = numbers.values().iter().map(|n| *n as $native).collect();
                return Arc::new(PrimitiveArray::<$kind>::new(values.into(), numbers.nulls().cloned()));
            }
        };
    }
    within!(Int8Type, i8);
    within!(Int16Type, i16);
    within!(Int32Type, i32);
    Arc::new(numbers.clone())
}

/// Whole numbers of a narrower type as those of a column.
fn wide<T: ArrowPrimitiveType<Native: Into<i64>>>(numbers: &PrimitiveArray<T>) -> Column {
    let values: Vec<i64> = numbers.values().iter().map(|n| (*n).into()).collect();
    Column::Int(Int64Array::new(values.into(), numbers.nulls().cloned()))
}

pub(crate) fn read_column(array: &ArrayRef, encoded: bool) -> Result<Column, StoreError> {
    let any = array.as_any();
    if encoded {
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
    if let Some(a) = any.downcast_ref::<Int64Array>() {
        return Ok(Column::Int(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<Int8Array>() {
        return Ok(wide(a));
    }
    if let Some(a) = any.downcast_ref::<Int16Array>() {
        return Ok(wide(a));
    }
    if let Some(a) = any.downcast_ref::<Int32Array>() {
        return Ok(wide(a));
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

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    #[test]
    fn whole_numbers_are_kept_narrow_and_read_back_whole() {
        let bounds = [
            (vec![0, 1, -128, 127], 1),
            (vec![128], 2),
            (vec![-32_768, 32_767], 2),
            (vec![32_768], 4),
            (vec![i64::from(i32::MIN), i64::from(i32::MAX)], 4),
            (vec![i64::from(i32::MAX) + 1], 8),
            (vec![i64::MIN, 5, i64::MAX], 8),
            (vec![], 1),
        ];
        for (numbers, width) in bounds {
            let nullable: Vec<Option<i64>> = numbers.iter().copied().map(Some).chain([None]).collect();
            for numbers in [Int64Array::from(numbers.clone()), Int64Array::from(nullable)] {
                let stored = narrow(&numbers);
                assert_eq!(stored.data_type().primitive_width(), Some(width), "{numbers:?}");
                let Column::Int(read) = read_column(&stored, false).unwrap() else { panic!("{numbers:?}") };
                assert_eq!(read, numbers);
            }
        }
    }
}
