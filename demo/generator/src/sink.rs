//! Tables of typed columns in any of the formats that a load reads, row by row.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::builder::{BooleanBuilder, Date32Builder, Float64Builder, Int64Builder, StringBuilder};
use arrow_array::{ArrayRef, RecordBatch};
use arrow_schema::{DataType, Field, Schema};

use crate::write::create;
use crate::{GenerateError, Made};

/// In which format tables are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Format {
    #[default]
    Csv,
    Jsonl,
    Parquet,
    Arrow,
}

/// How text tables are compressed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Packing {
    #[default]
    None,
    Gzip,
    Zstandard,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Output {
    pub format: Format,
    /// Of CSV and JSON Lines; the others are compressed by themselves.
    pub packing: Packing,
}

impl Output {
    /// Name of the file of a table.
    pub fn file(self, table: &str) -> String {
        let suffix = match self.format {
            Format::Csv => "csv",
            Format::Jsonl => "jsonl",
            Format::Parquet => return format!("{table}.parquet"),
            Format::Arrow => return format!("{table}.arrow"),
        };
        match self.packing {
            Packing::None => format!("{table}.{suffix}"),
            Packing::Gzip => format!("{table}.{suffix}.gz"),
            Packing::Zstandard => format!("{table}.{suffix}.zst"),
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Int,
    Float,
    Bool,
    Text,
    /// Days since 1970.
    Date,
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Cell<'a> {
    Null,
    Int(i64),
    Float(f64),
    Bool(bool),
    Text(&'a str),
    Date(i32),
}

/// Where text goes.
enum Out {
    Plain(BufWriter<File>),
    Gzip(Box<flate2::write::GzEncoder<BufWriter<File>>>),
    Zstandard(Box<zstd::stream::write::Encoder<'static, BufWriter<File>>>),
}

impl Out {
    fn writer(&mut self) -> &mut dyn Write {
        match self {
            Out::Plain(out) => out,
            Out::Gzip(out) => out,
            Out::Zstandard(out) => out,
        }
    }

    fn finish(self) -> std::io::Result<()> {
        match self {
            Out::Plain(mut out) => out.flush(),
            Out::Gzip(out) => out.finish()?.flush(),
            Out::Zstandard(out) => out.finish()?.flush(),
        }
    }
}

/// Bytes of text that are handed on at once.
const PIECE: usize = 256 << 10;
/// Rows of a batch of columns.
const BATCH: usize = 65_536;

enum Rows {
    Text { out: Out, buffer: Vec<u8>, json: bool },
    Parquet(Box<parquet::arrow::ArrowWriter<BufWriter<File>>>, Columns),
    Arrow(Box<arrow_ipc::writer::StreamWriter<BufWriter<File>>>, Columns),
}

/// A table being written.
pub(crate) struct Sink {
    path: PathBuf,
    names: Vec<String>,
    rows: Rows,
    written: u64,
}

impl Sink {
    pub fn create(
        folder: &Path, table: &str, columns: &[(&str, Kind)], output: Output,
    ) -> Result<Sink, GenerateError> {
        let path = folder.join(output.file(table));
        let file = create(&path)?;
        let failed = |e: &dyn std::fmt::Display| failed(&path, e);
        let schema = || {
            let fields = columns.iter().map(|(name, kind)| Field::new(*name, data_type(*kind), true));
            Arc::new(Schema::new(fields.collect::<Vec<_>>()))
        };
        let rows = match output.format {
            Format::Csv | Format::Jsonl => {
                let out = match output.packing {
                    Packing::None => Out::Plain(file),
                    Packing::Gzip => {
                        Out::Gzip(Box::new(flate2::write::GzEncoder::new(file, flate2::Compression::fast())))
                    }
                    Packing::Zstandard => {
                        let encoder = zstd::stream::write::Encoder::new(file, 1).map_err(|e| failed(&e))?;
                        Out::Zstandard(Box::new(encoder))
                    }
                };
                let json = output.format == Format::Jsonl;
                let mut buffer = Vec::with_capacity(PIECE + (64 << 10));
                if !json {
                    let header: Vec<&str> = columns.iter().map(|(name, _)| *name).collect();
                    buffer.extend_from_slice(header.join(",").as_bytes());
                    buffer.push(b'\n');
                }
                Rows::Text { out, buffer, json }
            }
            Format::Parquet => {
                let properties = parquet::file::properties::WriterProperties::builder()
                    .set_compression(parquet::basic::Compression::SNAPPY)
                    .set_max_row_group_row_count(Some(BATCH * 4))
                    .build();
                let writer = parquet::arrow::ArrowWriter::try_new(file, schema(), Some(properties));
                Rows::Parquet(Box::new(writer.map_err(|e| failed(&e))?), Columns::new(columns, schema()))
            }
            Format::Arrow => {
                let writer = arrow_ipc::writer::StreamWriter::try_new(file, &schema());
                Rows::Arrow(Box::new(writer.map_err(|e| failed(&e))?), Columns::new(columns, schema()))
            }
        };
        let names = columns.iter().map(|(name, _)| name.to_string()).collect();
        Ok(Sink { path, names, rows, written: 0 })
    }

    pub fn row(&mut self, cells: &[Cell<'_>]) -> Result<(), GenerateError> {
        self.written += 1;
        match &mut self.rows {
            Rows::Text { out, buffer, json } => {
                if *json {
                    json_row(buffer, &self.names, cells);
                } else {
                    csv_row(buffer, cells);
                }
                if buffer.len() >= PIECE {
                    out.writer().write_all(buffer).map_err(|e| failed(&self.path, &e))?;
                    buffer.clear();
                }
                Ok(())
            }
            Rows::Parquet(writer, columns) => match columns.push(cells) {
                Some(batch) => writer.write(&batch?).map_err(|e| failed(&self.path, &e)),
                None => Ok(()),
            },
            Rows::Arrow(writer, columns) => match columns.push(cells) {
                Some(batch) => writer.write(&batch?).map_err(|e| failed(&self.path, &e)),
                None => Ok(()),
            },
        }
    }

    pub fn finish(self, made: &mut Made) -> Result<(), GenerateError> {
        let failed = |e: &dyn std::fmt::Display| failed(&self.path, e);
        match self.rows {
            Rows::Text { mut out, buffer, .. } => {
                out.writer().write_all(&buffer).and_then(|()| out.finish()).map_err(|e| failed(&e))?;
            }
            Rows::Parquet(mut writer, mut columns) => {
                writer.write(&columns.take()?).map_err(|e| failed(&e))?;
                writer.close().map_err(|e| failed(&e))?;
            }
            Rows::Arrow(mut writer, mut columns) => {
                writer.write(&columns.take()?).map_err(|e| failed(&e))?;
                writer.finish().map_err(|e| failed(&e))?;
                writer.into_inner().map_err(|e| failed(&e))?.flush().map_err(|e| failed(&e))?;
            }
        }
        made.files += 1;
        made.rows += self.written;
        Ok(())
    }
}

fn failed(path: &Path, error: &dyn std::fmt::Display) -> GenerateError {
    GenerateError::Write { path: path.display().to_string(), reason: error.to_string() }
}

fn date(days: i32) -> chrono::NaiveDate {
    chrono::NaiveDate::default() + chrono::TimeDelta::days(i64::from(days))
}

/// Without going through the formatting machinery for the usual numbers.
fn put_int(buffer: &mut Vec<u8>, value: i64) {
    let mut digits = [0u8; 20];
    let mut at = digits.len();
    let mut rest = value.unsigned_abs();
    loop {
        at -= 1;
        digits[at] = b'0' + (rest % 10) as u8;
        rest /= 10;
        if rest == 0 {
            break;
        }
    }
    if value < 0 {
        buffer.push(b'-');
    }
    buffer.extend_from_slice(&digits[at..]);
}

/// Years have four digits here.
fn put_date(buffer: &mut Vec<u8>, days: i32) {
    use chrono::Datelike;
    let date = date(days);
    let digit = |n: u32| b'0' + (n % 10) as u8;
    let (year, month, day) = (date.year_ce().1, date.month(), date.day());
    buffer.extend_from_slice(&[
        digit(year / 1000),
        digit(year / 100),
        digit(year / 10),
        digit(year),
        b'-',
        digit(month / 10),
        digit(month),
        b'-',
        digit(day / 10),
        digit(day),
    ]);
}

/// Most generated numbers have at most two digits behind the point.
fn put_float(buffer: &mut Vec<u8>, value: f64) {
    let hundredths = (value * 100.0).round();
    if value < 0.0 || hundredths >= 1e15 || hundredths / 100.0 != value {
        return write_to(buffer, format_args!("{value}"));
    }
    let hundredths = hundredths as i64;
    put_int(buffer, hundredths / 100);
    let rest = (hundredths % 100) as u8;
    if rest > 0 {
        buffer.extend_from_slice(&[b'.', b'0' + rest / 10]);
        if !rest.is_multiple_of(10) {
            buffer.push(b'0' + rest % 10);
        }
    }
}

fn csv_row(buffer: &mut Vec<u8>, cells: &[Cell<'_>]) {
    for (place, cell) in cells.iter().enumerate() {
        if place > 0 {
            buffer.push(b',');
        }
        match cell {
            Cell::Null => {}
            Cell::Int(i) => put_int(buffer, *i),
            Cell::Float(f) => put_float(buffer, *f),
            Cell::Bool(b) => buffer.extend_from_slice(if *b { b"true" } else { b"false" }),
            Cell::Date(days) => put_date(buffer, *days),
            Cell::Text(text) if text.contains(['"', ',', '\n', '\r']) => {
                write_to(buffer, format_args!("\"{}\"", text.replace('"', "\"\"")));
            }
            Cell::Text(text) => buffer.extend_from_slice(text.as_bytes()),
        }
    }
    buffer.push(b'\n');
}

fn json_row(buffer: &mut Vec<u8>, names: &[String], cells: &[Cell<'_>]) {
    buffer.push(b'{');
    let mut first = true;
    for (name, cell) in names.iter().zip(cells) {
        if *cell == Cell::Null {
            continue;
        }
        if !first {
            buffer.push(b',');
        }
        first = false;
        write_to(buffer, format_args!("{}:", serde_json::Value::from(name.as_str())));
        match cell {
            Cell::Null => {}
            Cell::Int(i) => put_int(buffer, *i),
            Cell::Float(f) => write_to(buffer, format_args!("{}", serde_json::Value::from(*f))),
            Cell::Bool(b) => write_to(buffer, format_args!("{b}")),
            Cell::Date(days) => write_to(buffer, format_args!("\"{}\"", date(*days))),
            Cell::Text(text) => write_to(buffer, format_args!("{}", serde_json::Value::from(*text))),
        }
    }
    buffer.extend_from_slice(b"}\n");
}

fn write_to(buffer: &mut Vec<u8>, text: std::fmt::Arguments<'_>) {
    // A list of bytes in memory takes everything.
    let _ = buffer.write_fmt(text);
}

fn data_type(kind: Kind) -> DataType {
    match kind {
        Kind::Int => DataType::Int64,
        Kind::Float => DataType::Float64,
        Kind::Bool => DataType::Boolean,
        Kind::Text => DataType::Utf8,
        Kind::Date => DataType::Date32,
    }
}

enum Column {
    Int(Int64Builder),
    Float(Float64Builder),
    Bool(BooleanBuilder),
    Text(StringBuilder),
    Date(Date32Builder),
}

struct Columns {
    schema: Arc<Schema>,
    columns: Vec<Column>,
    rows: usize,
}

impl Columns {
    fn new(columns: &[(&str, Kind)], schema: Arc<Schema>) -> Columns {
        let column = |(_, kind): &(&str, Kind)| match kind {
            Kind::Int => Column::Int(Int64Builder::new()),
            Kind::Float => Column::Float(Float64Builder::new()),
            Kind::Bool => Column::Bool(BooleanBuilder::new()),
            Kind::Text => Column::Text(StringBuilder::new()),
            Kind::Date => Column::Date(Date32Builder::new()),
        };
        Columns { schema, columns: columns.iter().map(column).collect(), rows: 0 }
    }

    /// Adds a row; a batch where there are enough.
    fn push(&mut self, cells: &[Cell<'_>]) -> Option<Result<RecordBatch, GenerateError>> {
        for (column, cell) in self.columns.iter_mut().zip(cells) {
            match (column, cell) {
                (Column::Int(b), Cell::Int(i)) => b.append_value(*i),
                (Column::Float(b), Cell::Float(f)) => b.append_value(*f),
                (Column::Bool(b), Cell::Bool(v)) => b.append_value(*v),
                (Column::Text(b), Cell::Text(t)) => b.append_value(t),
                (Column::Date(b), Cell::Date(d)) => b.append_value(*d),
                (Column::Int(b), _) => b.append_null(),
                (Column::Float(b), _) => b.append_null(),
                (Column::Bool(b), _) => b.append_null(),
                (Column::Text(b), _) => b.append_null(),
                (Column::Date(b), _) => b.append_null(),
            }
        }
        self.rows += 1;
        (self.rows == BATCH).then(|| self.take())
    }

    fn take(&mut self) -> Result<RecordBatch, GenerateError> {
        self.rows = 0;
        let arrays = self.columns.iter_mut().map(|column| -> ArrayRef {
            match column {
                Column::Int(b) => Arc::new(b.finish()),
                Column::Float(b) => Arc::new(b.finish()),
                Column::Bool(b) => Arc::new(b.finish()),
                Column::Text(b) => Arc::new(b.finish()),
                Column::Date(b) => Arc::new(b.finish()),
            }
        });
        RecordBatch::try_new(self.schema.clone(), arrays.collect())
            .map_err(|e| GenerateError::Size(e.to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_dates_are_written_as_they_read() {
        for value in [0.0, 0.5, 0.05, 1.0, 12.34, 999.99, 0.1 + 0.2, -1.5, 1e20, 1.0 / 3.0, 100.0] {
            let mut buffer = vec![];
            put_float(&mut buffer, value);
            let text = String::from_utf8_lossy(&buffer).into_owned();
            assert_eq!(text.parse::<f64>(), Ok(value), "{text}");
        }
        for days in [0, 10_957, 19_000, 11_016, -1] {
            let mut buffer = vec![];
            put_date(&mut buffer, days);
            assert_eq!(String::from_utf8_lossy(&buffer), date(days).to_string());
        }
    }
}
