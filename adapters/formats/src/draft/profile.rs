//! Looking at tables: what their columns hold. Every value is looked at once; rows are kept only as a
//! sample, for what columns say about each other.

use std::collections::BTreeSet;
use std::sync::Arc;

use hashbrown::{DefaultHashBuilder, HashSet};

use super::column::{ColumnProfile, SeenKind};
use super::watching::Watching;
use super::{ColumnKind, Declared, DraftError, DraftTable};
use crate::load::{LoadError, Source, columnar_rows, csv_header, plain_source, unnamed};
use crate::mapping::{DateOrder, TableFormat};

/// Distinct values of a column counted exactly up to here.
const MOST_DISTINCT: usize = 4_000_000;
/// Of all columns of a table together.
const MOST_TOGETHER: usize = 32_000_000;
/// Rows kept to compare columns with each other.
const SAMPLE_ROWS: u64 = 50_000;
/// A table with more columns is no table a person would draft from.
const MOST_COLUMNS: usize = 1_000;

#[derive(Debug)]
pub(crate) struct TableProfile {
    pub file: String,
    /// The file's name without folder and suffix.
    pub stem: String,
    pub delimiter: Option<char>,
    pub declared: Option<Declared>,
    /// Of its dates that are no ISO dates.
    pub date_order: Option<DateOrder>,
    /// Words that mean no value in this table.
    pub null_words: Vec<String>,
    pub rows: u64,
    /// Rows with another number of fields than the header has.
    pub ragged: u64,
    pub columns: Vec<ColumnProfile>,
    /// Per column the values of the sampled rows as numbers; 0 is null.
    pub sample: Vec<Vec<u32>>,
    /// Not all rows are in the sample.
    pub sampled: bool,
}

impl TableProfile {
    pub fn place_of(&self, column: &str) -> Option<usize> {
        self.columns.iter().position(|c| c.name == column)
    }

    /// Whether the sampled rows differ in these columns taken together.
    pub fn differs_by(&self, columns: &[usize]) -> bool {
        let rows = self.sample.first().map_or(0, Vec::len);
        let mut seen = HashSet::with_capacity(rows);
        (0..rows).all(|row| seen.insert(columns.iter().map(|&c| self.sample[c][row]).collect::<Vec<u32>>()))
    }

    /// The file without its folders.
    pub fn short(&self) -> &str {
        self.file.rsplit(['/', '\\']).next().unwrap_or(&self.file)
    }
}

/// A field of a JSON line as the text of a table.
fn text_of(field: Option<&serde_json::Value>) -> Option<String> {
    match field {
        None | Some(serde_json::Value::Null) => None,
        Some(serde_json::Value::String(text)) => Some(text.clone()),
        Some(other) => Some(other.to_string()),
    }
}

/// The columns of a table while its rows go by.
struct WatchedTable<'s> {
    state: &'s DefaultHashBuilder,
    names: Vec<String>,
    watching: Vec<Watching>,
    sample: Vec<Vec<u32>>,
    /// One row in so many is in the sample.
    stride: u64,
    rows: u64,
    ragged: u64,
}

impl WatchedTable<'_> {
    /// Watches these columns.
    fn begin(&mut self, names: Vec<String>) -> Result<(), String> {
        check_names(&names)?;
        self.grow(names.len());
        self.names = names;
        Ok(())
    }

    fn grow(&mut self, columns: usize) {
        self.watching.resize_with(columns, Watching::default);
        self.sample.resize(columns, vec![]);
    }

    fn see<'v>(&mut self, values: impl Iterator<Item = Option<&'v str>>) {
        let sampled = self.rows.is_multiple_of(self.stride) && self.rows / self.stride < 2 * SAMPLE_ROWS;
        let most = MOST_DISTINCT.min(MOST_TOGETHER / self.watching.len().max(1));
        for ((value, watching), sample) in values.zip(&mut self.watching).zip(&mut self.sample) {
            watching.see(value, self.state, most, sampled.then_some(sample));
        }
        self.rows += 1;
    }

    fn read_csv(&mut self, file: &str, bytes: &[u8], delimiter: u8) -> Result<(), String> {
        let (columns, body) = csv_header(file, bytes, delimiter, b'"').map_err(reason)?;
        self.begin(columns)?;
        let mut reader = csv::ReaderBuilder::new()
            .has_headers(false)
            .flexible(true)
            .delimiter(delimiter)
            .from_reader(&bytes[body..]);
        let mut record = csv::ByteRecord::new();
        while reader.read_byte_record(&mut record).map_err(|e| e.to_string())? {
            // A row of another length says nothing of the columns; a load will refuse it.
            if record.len() != self.names.len() {
                self.ragged += 1;
                continue;
            }
            self.see(record.iter().map(|f| std::str::from_utf8(f).ok()));
        }
        Ok(())
    }

    fn read_json_lines(&mut self, bytes: &[u8]) -> Result<(), String> {
        let lines = bytes.split(|b| *b == b'\n').filter(|line| !line.trim_ascii().is_empty());
        for (number, line) in lines.enumerate() {
            let object: serde_json::Map<String, serde_json::Value> = serde_json::from_slice(line)
                .map_err(|e| format!("line {} is not a JSON object: {e}", number + 1))?;
            for name in object.keys() {
                if !self.names.contains(name) {
                    self.names.push(name.clone());
                    check_names(&self.names)?;
                    // The rows before had no such field.
                    let mut late = Watching::default();
                    let sampled_before = self.sample.first().map_or(0, Vec::len);
                    (0..number).for_each(|_| late.see(None, self.state, 0, None));
                    self.watching.push(late);
                    self.sample.push(vec![0; sampled_before]);
                }
            }
            let texts: Vec<Option<String>> =
                self.names.iter().map(|name| text_of(object.get(name))).collect();
            self.see(texts.iter().map(Option::as_deref));
        }
        Ok(())
    }

    fn read_columnar(&mut self, file: &str, format: TableFormat, source: &Arc<Source>) -> Result<(), String> {
        let names = columnar_rows(file, format, source, &mut |columns, values| {
            if self.watching.is_empty() {
                self.grow(columns);
            }
            self.see(values.iter().map(Option::as_deref));
        });
        self.begin(names.map_err(reason)?)
    }
}

/// Looks at one table, which may unpack to `limit` bytes.
pub(crate) fn profile(
    table: &DraftTable, limit: u64, state: &DefaultHashBuilder,
) -> Result<TableProfile, DraftError> {
    let failed = |message: String| DraftError { table: table.file.clone(), message };
    if table.source.bytes().is_empty() {
        return Err(failed("the file is empty".into()));
    }
    let (format, source) =
        plain_source(&table.file, table.format, &table.source, limit).map_err(|e| failed(reason(e)))?;
    let bytes = source.bytes();
    let head = &bytes[..bytes.len().min(64 << 10)];
    if !matches!(format, TableFormat::Parquet | TableFormat::Arrow) && head.contains(&0) {
        return Err(failed("it has NUL bytes: this is no text table".into()));
    }
    let delimiter = match format {
        TableFormat::Tsv => b'\t',
        TableFormat::Csv => delimiter_of(head),
        _ => b',',
    };
    // About as many rows as the sample takes, evenly over the table.
    let lines = memchr::memchr_iter(b'\n', head).count().max(1);
    let guess = bytes.len() as u64 / (head.len() as u64 / lines as u64).max(1);
    let stride = (guess / SAMPLE_ROWS).max(1);
    let (names, watching, sample) = (vec![], vec![], vec![]);
    let mut seen = WatchedTable { state, names, watching, sample, stride, rows: 0, ragged: 0 };
    match format {
        TableFormat::Csv | TableFormat::Tsv => seen.read_csv(&table.file, bytes, delimiter),
        TableFormat::Jsonl => seen.read_json_lines(bytes),
        TableFormat::Parquet | TableFormat::Arrow => seen.read_columnar(&table.file, format, &source),
        // Neither comes out of `plain_source`.
        TableFormat::Json | TableFormat::GraphMl | TableFormat::NQuads => Ok(()),
    }
    .map_err(failed)?;
    let WatchedTable { names, watching, sample, rows, ragged, .. } = seen;
    if ragged > rows {
        return Err(failed(format!(
            "{ragged} of {} rows have another number of fields than the first line, which has {}: it seems to be no header",
            rows + ragged,
            names.len()
        )));
    }
    if rows == 0 {
        return Err(failed("there is a header and no row".into()));
    }
    let mut columns: Vec<ColumnProfile> =
        names.into_iter().zip(watching).map(|(name, seen)| finished(name, seen, table)).collect();
    let null_words = agree_on_nulls(&mut columns, table);
    let date_order = agree_on_dates(&mut columns);
    let text = matches!(format, TableFormat::Csv | TableFormat::Tsv);
    for (place, column) in columns.iter_mut().enumerate() {
        if text && column.name == unnamed(place) && column.remark.is_none() {
            column.remark = Some("the header does not name it; a mapping calls it by its place".into());
        }
    }
    let stem = table.file.rsplit(['/', '\\']).next().unwrap_or(&table.file);
    let stem = stem.split('.').next().unwrap_or(stem).to_string();
    Ok(TableProfile {
        file: table.file.clone(),
        stem,
        delimiter: (format == TableFormat::Csv && delimiter != b',').then_some(delimiter as char),
        rows,
        ragged,
        sampled: sample.first().is_some_and(|s| (s.len() as u64) < rows),
        columns,
        null_words,
        date_order,
        declared: table.declared.clone(),
        sample,
    })
}

/// A word that means null in one column of a table means it in all of them.
fn agree_on_nulls(columns: &mut [ColumnProfile], table: &DraftTable) -> Vec<String> {
    let null_words: BTreeSet<String> = columns.iter().flat_map(|c| c.null_words.clone()).collect();
    for column in columns {
        let declared = table.declared.as_ref().is_some_and(|d| d.kinds.contains_key(&column.name));
        if column.kind == SeenKind::Text && !declared {
            let meant = column.words.iter().filter(|(word, _)| null_words.contains(*word));
            let nulls: u64 = meant.map(|(_, count)| count).sum();
            column.nulls += nulls;
            if nulls > 0 {
                column.remark = None;
            }
        }
    }
    null_words.into_iter().collect()
}

/// A table has one order of dates: that of its first column with one.
fn agree_on_dates(columns: &mut [ColumnProfile]) -> Option<DateOrder> {
    let order = columns.iter().find_map(|c| c.date_order);
    for column in columns.iter_mut().filter(|c| c.date_order.is_some() && c.date_order != order) {
        column.kind = SeenKind::Text;
        column.remark = Some("dates in another order than the table's other dates: kept as text".into());
    }
    order
}

fn finished(name: String, seen: Watching, table: &DraftTable) -> ColumnProfile {
    let declared = table.declared.as_ref().and_then(|d| d.kinds.get(&name)).copied();
    let (rows, empty) = (seen.rows, seen.empty);
    let mut column = seen.finish(name);
    if let Some(kind) = declared {
        // A declared type has no words for null: only null is null.
        (column.rows, column.nulls) = (rows, empty);
        column.null_words.clear();
        column.remark = None;
        if column.kind != SeenKind::Nothing || rows > empty {
            column.kind = match kind {
                ColumnKind::Whole => SeenKind::Whole,
                ColumnKind::Float => SeenKind::Decimal { digits: 0, scale: 0, fixed: false },
                ColumnKind::Decimal { digits, scale } => SeenKind::Decimal { digits, scale, fixed: true },
                ColumnKind::Bool => SeenKind::Bool,
                ColumnKind::Date => SeenKind::Date,
                ColumnKind::LocalDateTime => SeenKind::LocalDateTime,
                ColumnKind::ZonedDateTime => SeenKind::ZonedDateTime,
                ColumnKind::Text => SeenKind::Text,
            };
        }
    }
    column
}

fn reason(error: LoadError) -> String {
    match error {
        LoadError::Table { message, .. } => message,
        other => other.to_string(),
    }
}

fn check_names(names: &[String]) -> Result<(), String> {
    if names.len() > MOST_COLUMNS {
        return Err(format!(
            "it has {} columns; a draft looks at tables of up to {MOST_COLUMNS}",
            names.len()
        ));
    }
    Ok(())
}

/// The delimiter that the header has most of.
fn delimiter_of(head: &[u8]) -> u8 {
    let header = head.split(|b| *b == b'\n').next().unwrap_or(head);
    let count = |delimiter: u8| header.iter().filter(|b| **b == delimiter).count();
    [b',', b';', b'\t', b'|'].into_iter().max_by_key(|d| (count(*d), (*d == b',') as usize)).unwrap_or(b',')
}
