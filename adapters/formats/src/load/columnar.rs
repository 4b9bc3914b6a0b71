//! Columnar tables, Parquet and Arrow IPC: row groups and batches read side by side, values with the types
//! they have there. A row's place is its number.

use std::io::Cursor;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use ::parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_ipc::reader::{FileReader, StreamReader};
use arrow_schema::{DataType, FieldRef, TimeUnit};
use bytes::Bytes;
use chrono::{DateTime, FixedOffset, NaiveTime, TimeDelta};
use graphodrome_graph::{ColumnBuilder, Decimal, Value};
use rayon::prelude::*;

use crate::load::building::ChunkRead;
use crate::load::fields::{Fields, Row};
use crate::load::plain::{CellKind, Target, targets};
use crate::load::plan::TablePlan;
use crate::load::rows::Finished;
use crate::load::sources::{Source, table_error};
use crate::load::{LoadError, Progress};
use crate::mapping::TableFormat;

/// Room is made for no more rows than that on a file's word alone.
const MOST_EXPECTED: usize = 1 << 20;

/// A source as an owner of bytes.
struct Shared(Arc<Source>);

impl AsRef<[u8]> for Shared {
    fn as_ref(&self) -> &[u8] {
        self.0.bytes()
    }
}

fn failed(table: &str, error: impl std::fmt::Display) -> LoadError {
    table_error(table, format!("the file cannot be read: {error}"))
}

fn open(table: &str, source: &Arc<Source>) -> Result<ParquetRecordBatchReaderBuilder<Bytes>, LoadError> {
    let bytes = Bytes::from_owner(Shared(source.clone()));
    ParquetRecordBatchReaderBuilder::try_new(bytes).map_err(|e| failed(table, e))
}

/// An Arrow IPC file or stream.
enum Ipc<'s> {
    File(FileReader<Cursor<&'s [u8]>>),
    Stream(StreamReader<Cursor<&'s [u8]>>),
}

/// What an Arrow IPC file begins with; a stream does not.
const IPC_FILE: &[u8] = b"ARROW1";

fn open_ipc<'s>(table: &str, bytes: &'s [u8]) -> Result<Ipc<'s>, LoadError> {
    if bytes.starts_with(IPC_FILE) {
        FileReader::try_new(Cursor::new(bytes), None).map(Ipc::File).map_err(|e| failed(table, e))
    } else {
        StreamReader::try_new(Cursor::new(bytes), None).map(Ipc::Stream).map_err(|e| failed(table, e))
    }
}

type Batches<'s> = Box<dyn Iterator<Item = Result<RecordBatch, LoadError>> + Send + 's>;

fn batches<'s>(
    table: &'s str, format: TableFormat, source: &'s Arc<Source>,
) -> Result<Batches<'s>, LoadError> {
    if format == TableFormat::Parquet {
        let reader = open(table, source)?.build().map_err(|e| failed(table, e))?;
        return Ok(Box::new(reader.map(move |b| b.map_err(|e| failed(table, e)))));
    }
    Ok(match open_ipc(table, source.bytes())? {
        Ipc::File(reader) => Box::new(reader.map(move |b| b.map_err(|e| failed(table, e)))),
        Ipc::Stream(reader) => Box::new(reader.map(move |b| b.map_err(|e| failed(table, e)))),
    })
}

/// Names of the columns, all of types that can be read.
pub(super) fn columns(
    table: &str, format: TableFormat, source: &Arc<Source>,
) -> Result<Vec<String>, LoadError> {
    let schema = if format == TableFormat::Parquet {
        open(table, source)?.schema().clone()
    } else {
        match open_ipc(table, source.bytes())? {
            Ipc::File(reader) => reader.schema(),
            Ipc::Stream(reader) => reader.schema(),
        }
    };
    let fields = schema.fields();
    if let Some(field) = fields.iter().find(|f| !readable(f.data_type())) {
        let message =
            format!("the column {} has the type {}, which is not read", field.name(), field.data_type());
        return Err(table_error(table, message));
    }
    Ok(fields.iter().map(|f| f.name().clone()).collect())
}

fn readable(data_type: &DataType) -> bool {
    use DataType::*;
    match data_type {
        Dictionary(_, values) => readable(values),
        List(item) | LargeList(item) => readable(item.data_type()),
        Struct(fields) => fields.iter().all(|f| readable(f.data_type())),
        other => {
            other.is_integer()
                || matches!(
                    other,
                    Null | Boolean
                        | Float32
                        | Float64
                        | Utf8
                        | LargeUtf8
                        | Utf8View
                        | Binary
                        | LargeBinary
                        | Date32
                        | Time64(TimeUnit::Nanosecond)
                        | Time64(TimeUnit::Microsecond)
                        | Decimal128(..)
                        | Timestamp(..)
                )
        }
    }
}

/// The rows of every batch, in their order: of Parquet the row groups side by side, of Arrow the batches.
pub(super) fn read(plan: &TablePlan, progress: &Progress) -> Result<Vec<Finished>, LoadError> {
    if plan.format == TableFormat::Arrow {
        return read_ipc(plan, progress);
    }
    let builder = open(&plan.name, &plan.source)?;
    let metadata = builder.metadata().clone();
    let mut groups = vec![];
    let mut first = 0u64;
    for group in 0..metadata.num_row_groups() {
        let group_metadata = metadata.row_group(group);
        groups.push((group, first, group_metadata));
        first += group_metadata.num_rows() as u64;
    }
    groups
        .into_par_iter()
        .map(|(group, first, of_group)| {
            let rows = (of_group.num_rows() as usize).min(MOST_EXPECTED);
            let mut chunk = ChunkRead::new(plan, rows);
            let reader = open(&plan.name, &plan.source)?
                .with_row_groups(vec![group])
                .build()
                .map_err(|e| failed(&plan.name, e))?;
            let mut number = first;
            for batch in reader {
                let batch = batch.map_err(|e| failed(&plan.name, e))?;
                chunk.batch(plan, &batch, number, progress)?;
                number += batch.num_rows() as u64;
            }
            progress.bytes_read.fetch_add(of_group.compressed_size() as u64, Ordering::Relaxed);
            chunk.finish(progress)
        })
        .collect()
}

fn read_ipc(plan: &TablePlan, progress: &Progress) -> Result<Vec<Finished>, LoadError> {
    let total = plan.source.bytes().len() as u64;
    let mut first = 0u64;
    let numbered = batches(&plan.name, plan.format, &plan.source)?.enumerate().map(|(place, batch)| {
        let number = first;
        first += batch.as_ref().map_or(0, |b| b.num_rows() as u64);
        (place, number, batch)
    });
    // The batches are handed out one after another and read side by side.
    let numbered = std::sync::Mutex::new(numbered);
    let next = || numbered.lock().ok().and_then(|mut batches| batches.next());
    let read = (0..rayon::current_num_threads()).into_par_iter().map(|_| {
        let mut chunks = vec![];
        while let Some((place, number, batch)) = next() {
            let batch = batch?;
            let mut chunk = ChunkRead::new(plan, batch.num_rows());
            chunk.batch(plan, &batch, number, progress)?;
            chunks.push((place, chunk.finish(progress)?));
        }
        Ok(chunks)
    });
    let read: Vec<Vec<(usize, Finished)>> = read.collect::<Result<_, LoadError>>()?;
    let mut chunks: Vec<(usize, Finished)> = read.into_iter().flatten().collect();
    chunks.sort_by_key(|(place, _)| *place);
    progress.bytes_read.fetch_add(total, Ordering::Relaxed);
    Ok(chunks.into_iter().map(|(_, chunk)| chunk).collect())
}

impl ChunkRead {
    fn batch(
        &mut self, plan: &TablePlan, batch: &RecordBatch, first: u64, progress: &Progress,
    ) -> Result<(), LoadError> {
        progress.check()?;
        let bytes = batch.num_rows() * self.row_bytes();
        progress.hold(bytes)?;
        self.expected += bytes;
        let arrays = plain_arrays(batch).map_err(|e| failed(&plan.name, e))?;
        if let Some(targets) = targets(plan)
            && targets.iter().all(|target| fits(target, &arrays[target.column]))
        {
            self.rows += batch.num_rows() as u64;
            for target in &targets {
                append(target.builder(&mut self.rules), &arrays[target.column]);
            }
            let rows = first..first + batch.num_rows() as u64;
            self.of_rows(plan).for_each(|rule| rule.offsets.extend(rows.clone()));
            progress.rows_read.fetch_add(batch.num_rows() as u64, Ordering::Relaxed);
            return Ok(());
        }
        for row in 0..batch.num_rows() {
            self.rows += 1;
            let field = |column: usize| match arrays.get(column) {
                Some(array) if array.is_valid(row) => match text(array, row) {
                    Some(text) if plan.null.iter().any(|null| null == text) => Fields::Null,
                    Some(text) => Fields::Text(text),
                    None => value(array, row).map_or(Fields::Bad("the value is out of range"), Fields::Value),
                },
                _ => Fields::Null,
            };
            let raw = |column: usize| arrays.get(column).map(|array| shown(array, row));
            self.row(plan, first + row as u64, &Row { field: &field, raw: &raw, null: &plan.null });
        }
        progress.rows_read.fetch_add(batch.num_rows() as u64, Ordering::Relaxed);
        Ok(())
    }
}

/// Days that are a date for certain.
const MOST_DAYS: std::ops::RangeInclusive<i32> = -90_000_000..=90_000_000;

/// Whether a column holds, row for row, what the property is to hold: then nothing of it needs a look.
fn fits(target: &Target<'_>, array: &ArrayRef) -> bool {
    let typed = match (&target.kind, array.data_type()) {
        (CellKind::Whole, DataType::Int64) | (CellKind::Float, DataType::Float64) => true,
        (CellKind::Date, DataType::Date32) => {
            array.as_primitive::<Date32Type>().values().iter().all(|day| MOST_DAYS.contains(day))
        }
        (CellKind::Text, DataType::Utf8) => {
            let texts = array.as_string::<i32>();
            // An empty text stands for null, and NUL is refused: both are for the thorough way.
            let bytes = texts.value_data();
            memchr::memchr(0, bytes).is_none()
                && texts.offsets().windows(2).enumerate().all(|(row, o)| o[0] < o[1] || texts.is_null(row))
        }
        _ => false,
    };
    typed && (target.nullable || array.null_count() == 0)
}

fn append(builder: &mut ColumnBuilder, array: &ArrayRef) {
    let valid: Option<Vec<bool>> = array.nulls().map(|nulls| nulls.iter().collect());
    let valid = valid.as_deref();
    match array.data_type() {
        DataType::Int64 => builder.extend_ints(array.as_primitive::<Int64Type>().values(), valid),
        DataType::Float64 => builder.extend_floats(array.as_primitive::<Float64Type>().values(), valid),
        DataType::Date32 => builder.extend_days(array.as_primitive::<Date32Type>().values(), valid),
        _ => {
            for text in array.as_string::<i32>() {
                match text {
                    Some(text) => builder.push_text(text),
                    None => builder.push_null(),
                }
            }
        }
    }
}

/// The columns without dictionaries.
fn plain_arrays(batch: &RecordBatch) -> Result<Vec<ArrayRef>, arrow_schema::ArrowError> {
    let plain = |array: &ArrayRef| match array.data_type() {
        DataType::Dictionary(..) => {
            let coded = array.as_any_dictionary();
            arrow_select::take::take(coded.values(), coded.keys(), None)
        }
        _ => Ok(array.clone()),
    };
    batch.columns().iter().map(plain).collect()
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
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => Value::text(text(array, row)?),
        DataType::Time64(unit) => {
            let since = match unit {
                TimeUnit::Microsecond => array.as_primitive::<Time64MicrosecondType>().value(row) * 1_000,
                _ => array.as_primitive::<Time64NanosecondType>().value(row),
            };
            let (seconds, rest) = (since.div_euclid(1_000_000_000), since.rem_euclid(1_000_000_000));
            let seconds = u32::try_from(seconds).ok()?;
            Value::LocalTime(NaiveTime::from_num_seconds_from_midnight_opt(seconds, rest as u32)?)
        }
        DataType::List(_) => items(&array.as_list::<i32>().value(row))?,
        DataType::LargeList(_) => items(&array.as_list::<i64>().value(row))?,
        DataType::Struct(fields) => {
            let columns = array.as_struct();
            let field = |(place, field): (usize, &FieldRef)| {
                Some((field.name().as_str().into(), value_or_null(columns.column(place), row)?))
            };
            Value::Record(fields.iter().enumerate().map(field).collect::<Option<Vec<_>>>()?.into())
        }
        DataType::Date32 => Value::Date(array.as_primitive::<Date32Type>().value_as_date(row)?),
        DataType::Decimal128(_, scale) => {
            let unscaled = array.as_primitive::<Decimal128Type>().value(row);
            let scale = u32::try_from(*scale).ok()?;
            Value::Decimal(Decimal::of(unscaled, scale)?)
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

fn value_or_null(array: &ArrayRef, row: usize) -> Option<Value> {
    if array.is_null(row) { Some(Value::Null) } else { value(array, row) }
}

fn items(array: &ArrayRef) -> Option<Value> {
    (0..array.len()).map(|row| value_or_null(array, row)).collect::<Option<Vec<_>>>().map(Value::list)
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
    table: &str, format: TableFormat, source: &Arc<Source>, row_of: &mut dyn FnMut(usize, &[Option<String>]),
) -> Result<Vec<String>, LoadError> {
    let names = columns(table, format, source)?;
    for batch in batches(table, format, source)? {
        let batch = batch?;
        let arrays = plain_arrays(&batch).map_err(|e| failed(table, e))?;
        for row in 0..batch.num_rows() {
            let text = |array: &ArrayRef| array.is_valid(row).then(|| shown(array, row));
            let texts: Vec<Option<String>> = arrays.iter().map(text).collect();
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
    let batches = batches(&plan.name, plan.format, &plan.source).ok();
    for batch in batches.into_iter().flatten().map_while(Result::ok) {
        let end = first + batch.num_rows() as u64;
        let arrays = plain_arrays(&batch).unwrap_or_default();
        while let Some(number) = numbers.next_if(|number| *number < end) {
            let row = (number - first) as usize;
            let mut object = serde_json::Map::new();
            for (name, array) in plan.columns.iter().zip(&arrays) {
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
