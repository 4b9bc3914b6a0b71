//! Parquet tables: row groups read side by side, values with the types they have there. A row's place is
//! its number.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use ::parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_schema::{DataType, TimeUnit};
use bytes::Bytes;
use chrono::{DateTime, FixedOffset, TimeDelta};
use graphodrome_graph::Value;
use rayon::prelude::*;
use rust_decimal::Decimal;

use crate::load::plan::TablePlan;
use crate::load::read::{ChunkRead, Field};
use crate::load::{LoadError, Progress, Source};

/// A source as an owner of bytes.
struct Shared(Arc<Source>);

impl AsRef<[u8]> for Shared {
    fn as_ref(&self) -> &[u8] {
        self.0.bytes()
    }
}

fn failed(table: &str, error: impl std::fmt::Display) -> LoadError {
    LoadError::Table { table: table.into(), message: format!("the Parquet file cannot be read: {error}") }
}

fn open(table: &str, source: &Arc<Source>) -> Result<ParquetRecordBatchReaderBuilder<Bytes>, LoadError> {
    let bytes = Bytes::from_owner(Shared(source.clone()));
    ParquetRecordBatchReaderBuilder::try_new(bytes).map_err(|e| failed(table, e))
}

/// Names of the columns, all of types that can be read.
pub(super) fn columns(table: &str, source: &Arc<Source>) -> Result<Vec<String>, LoadError> {
    let builder = open(table, source)?;
    let fields = builder.schema().fields();
    if let Some(field) = fields.iter().find(|f| !readable(f.data_type())) {
        return Err(LoadError::Table {
            table: table.into(),
            message: format!(
                "the column {} has the type {}, which is not read",
                field.name(),
                field.data_type()
            ),
        });
    }
    Ok(fields.iter().map(|f| f.name().clone()).collect())
}

fn readable(data_type: &DataType) -> bool {
    use DataType::*;
    data_type.is_integer()
        || matches!(
            data_type,
            Boolean
                | Float32
                | Float64
                | Utf8
                | LargeUtf8
                | Utf8View
                | Binary
                | LargeBinary
                | Date32
                | Decimal128(..)
                | Timestamp(..)
        )
}

/// The rows of every row group, in their order.
pub(super) fn read(plan: &TablePlan, progress: &Progress) -> Result<Vec<ChunkRead>, LoadError> {
    let builder = open(&plan.name, &plan.source)?;
    let metadata = builder.metadata().clone();
    let mut groups = vec![];
    let mut first = 0u64;
    for group in 0..metadata.num_row_groups() {
        let group_metadata = metadata.row_group(group);
        groups.push((group, first, group_metadata.compressed_size() as u64));
        first += group_metadata.num_rows() as u64;
    }
    groups
        .into_par_iter()
        .map(|(group, first, bytes)| {
            let mut chunk = ChunkRead::new(plan);
            let reader = open(&plan.name, &plan.source)?
                .with_row_groups(vec![group])
                .build()
                .map_err(|e| failed(&plan.name, e))?;
            let mut number = first;
            for batch in reader {
                progress.check()?;
                let batch = batch.map_err(|e| failed(&plan.name, e))?;
                for row in 0..batch.num_rows() {
                    chunk.parquet_row(plan, &batch, row, number);
                    number += 1;
                }
                progress.rows_read.fetch_add(batch.num_rows() as u64, Ordering::Relaxed);
            }
            progress.bytes_read.fetch_add(bytes, Ordering::Relaxed);
            Ok(chunk)
        })
        .collect()
}

impl ChunkRead {
    fn parquet_row(&mut self, plan: &TablePlan, batch: &RecordBatch, row: usize, number: u64) {
        self.rows += 1;
        let field = |column: usize| match batch.columns().get(column) {
            Some(array) if array.is_valid(row) => match text(array, row) {
                Some(text) if plan.null.iter().any(|null| null == text) => Field::Null,
                Some(text) => Field::Text(text),
                None => value(array, row).map_or(Field::Bad, Field::Value),
            },
            _ => Field::Null,
        };
        let raw = |column: usize| batch.columns().get(column).map(|array| shown(array, row));
        self.row(plan, number, &field, &raw);
    }
}

fn text(array: &ArrayRef, row: usize) -> Option<&str> {
    match array.data_type() {
        DataType::Utf8 => Some(array.as_string::<i32>().value(row)),
        DataType::LargeUtf8 => Some(array.as_string::<i64>().value(row)),
        DataType::Utf8View => Some(array.as_string_view().value(row)),
        _ => None,
    }
}

fn value(array: &ArrayRef, row: usize) -> Option<Value> {
    macro_rules! whole {
        ($kind:ty) => {
            Value::Int(i64::from(array.as_primitive::<$kind>().value(row)))
        };
    }
    Some(match array.data_type() {
        DataType::Boolean => Value::Bool(array.as_boolean().value(row)),
        DataType::Int8 => whole!(Int8Type),
        DataType::Int16 => whole!(Int16Type),
        DataType::Int32 => whole!(Int32Type),
        DataType::Int64 => whole!(Int64Type),
        DataType::UInt8 => whole!(UInt8Type),
        DataType::UInt16 => whole!(UInt16Type),
        DataType::UInt32 => whole!(UInt32Type),
        DataType::UInt64 => Value::Int(i64::try_from(array.as_primitive::<UInt64Type>().value(row)).ok()?),
        DataType::Float32 => Value::Float(f64::from(array.as_primitive::<Float32Type>().value(row))),
        DataType::Float64 => Value::Float(array.as_primitive::<Float64Type>().value(row)),
        DataType::Binary => Value::Bytes(array.as_binary::<i32>().value(row).into()),
        DataType::LargeBinary => Value::Bytes(array.as_binary::<i64>().value(row).into()),
        DataType::Date32 => Value::Date(array.as_primitive::<Date32Type>().value_as_date(row)?),
        DataType::Decimal128(_, scale) => {
            let unscaled = array.as_primitive::<Decimal128Type>().value(row);
            let scale = u32::try_from(*scale).ok()?;
            Value::Decimal(Decimal::try_from_i128_with_scale(unscaled, scale).ok()?)
        }
        DataType::Timestamp(unit, zone) => {
            let since = since_epoch(array, *unit, row)?;
            let moment = DateTime::UNIX_EPOCH.checked_add_signed(since)?;
            match zone {
                None => Value::LocalDateTime(moment.naive_utc()),
                Some(_) => Value::ZonedDateTime(moment.with_timezone(&FixedOffset::east_opt(0)?)),
            }
        }
        _ => return None,
    })
}

fn since_epoch(array: &ArrayRef, unit: TimeUnit, row: usize) -> Option<TimeDelta> {
    Some(match unit {
        TimeUnit::Second => TimeDelta::try_seconds(array.as_primitive::<TimestampSecondType>().value(row))?,
        TimeUnit::Millisecond => {
            TimeDelta::try_milliseconds(array.as_primitive::<TimestampMillisecondType>().value(row))?
        }
        TimeUnit::Microsecond => {
            TimeDelta::microseconds(array.as_primitive::<TimestampMicrosecondType>().value(row))
        }
        TimeUnit::Nanosecond => {
            TimeDelta::nanoseconds(array.as_primitive::<TimestampNanosecondType>().value(row))
        }
    })
}

fn shown(array: &ArrayRef, row: usize) -> String {
    if array.is_null(row) {
        return String::new();
    }
    match text(array, row) {
        Some(text) => text.to_string(),
        None => value(array, row).map_or("?".into(), |value| value.to_string()),
    }
}

/// Hands every row over as texts, with the number of columns before them; returns the columns' names.
pub(crate) fn each_row(
    table: &str, source: &Arc<Source>, row_of: &mut dyn FnMut(usize, &[Option<String>]),
) -> Result<Vec<String>, LoadError> {
    let names = columns(table, source)?;
    let reader = open(table, source)?.build().map_err(|e| failed(table, e))?;
    for batch in reader {
        let batch = batch.map_err(|e| failed(table, e))?;
        for row in 0..batch.num_rows() {
            let texts: Vec<Option<String>> =
                batch.columns().iter().map(|array| array.is_valid(row).then(|| shown(array, row))).collect();
            row_of(names.len(), &texts);
        }
    }
    Ok(names)
}

/// The rows with these numbers (in order), as JSON objects; empty where the file cannot be read again.
pub(super) fn records(plan: &TablePlan, numbers: impl Iterator<Item = u64>) -> Vec<String> {
    let mut numbers = numbers.peekable();
    let mut records = vec![];
    let mut first = 0u64;
    let reader = open(&plan.name, &plan.source).ok().and_then(|b| b.build().ok());
    for batch in reader.into_iter().flatten().map_while(Result::ok) {
        let end = first + batch.num_rows() as u64;
        while let Some(number) = numbers.next_if(|number| *number < end) {
            let row = (number - first) as usize;
            let mut object = serde_json::Map::new();
            for (name, array) in plan.columns.iter().zip(batch.columns()) {
                if array.is_valid(row) {
                    object.insert(name.clone(), shown(array, row).into());
                }
            }
            records.push(serde_json::Value::Object(object).to_string());
        }
        first = end;
    }
    records.extend(numbers.map(|_| String::new()));
    records
}
