//! Looking at tables: what their columns hold. Every value is looked at once; rows are kept only as a
//! sample, for what columns say about each other.

use std::collections::{BTreeMap, BTreeSet};
use std::hash::BuildHasher;

use chrono::NaiveDate;
use graphodrome_graph::{ValueType, parse_text};
use hashbrown::{DefaultHashBuilder, HashMap, HashSet};

use super::{ColumnKind, Declared, DraftError, DraftTable};
use crate::load::{LoadError, columnar_rows, csv_header, plain_source, unnamed};
use crate::mapping::{DateOrder, TableFormat};

/// Distinct values of a column counted exactly up to here.
const MOST_DISTINCT: usize = 4_000_000;
/// Of all columns of a table together.
const MOST_TOGETHER: usize = 32_000_000;
/// Rows kept to compare columns with each other.
const SAMPLE_ROWS: u64 = 50_000;
/// A table with more columns is no table a person would draft from.
const MOST_COLUMNS: usize = 1_000;

/// Texts that often stand for "no value".
const NULL_WORDS: [&str; 9] = ["null", "n/a", "na", "none", "nil", "-", "--", "?", "unknown"];

/// What all values of a column are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Whole,
    /// Digits after the point, at most.
    Decimal {
        digits: u32,
        scale: u32,
        fixed: bool,
    },
    Bool,
    Date,
    LocalDateTime,
    ZonedDateTime,
    Text,
    /// No value at all.
    Nothing,
}

#[derive(Debug)]
pub(crate) struct ColumnProfile {
    pub name: String,
    pub rows: u64,
    pub nulls: u64,
    /// Hashes of the distinct values.
    pub values: HashSet<u64>,
    /// There are more distinct values than were counted.
    pub capped: bool,
    pub kind: Kind,
    /// Words that stand for null here.
    pub null_words: Vec<String>,
    /// Words that may stand for null, and how often each comes.
    words: BTreeMap<String, u64>,
    /// Of dates that are no ISO dates.
    pub date_order: Option<DateOrder>,
    /// What a person should know of the choice of type.
    pub remark: Option<String>,
    pub examples: Vec<String>,
}

impl ColumnProfile {
    pub fn filled(&self) -> u64 {
        self.rows - self.nulls
    }

    pub fn distinct(&self) -> u64 {
        self.values.len() as u64
    }

    pub fn is_unique(&self) -> bool {
        self.rows > 0 && self.nulls == 0 && !self.capped && self.distinct() == self.rows
    }

    /// Whether its values could name something: not measures, not dates.
    pub fn can_identify(&self) -> bool {
        matches!(self.kind, Kind::Text | Kind::Whole)
    }
}

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

/// A column while its values go by.
#[derive(Default)]
struct Watching {
    rows: u64,
    empty: u64,
    values: HashSet<u64>,
    capped: bool,
    words: BTreeMap<String, u64>,
    filled: u64,
    wholes: u64,
    leading_zero: bool,
    decimals: u64,
    digits: u32,
    scale: u32,
    scales: HashSet<u32>,
    exponents: bool,
    bools: u64,
    yes_no: u64,
    dates: u64,
    local: u64,
    zoned: u64,
    /// 31.12.2024, 12/31/2024: which of the first two numbers was over 12.
    slashed: u64,
    first_over_12: bool,
    second_over_12: bool,
    /// One of them is no date in either order, or its year has two digits.
    no_date: bool,
    too_large: bool,
    examples: Vec<String>,
    /// Hashes of the sampled values, to their numbers.
    codes: HashMap<u64, u32>,
}

fn is_date(text: &str) -> bool {
    text.len() == 10 && text.as_bytes()[4] == b'-' && text.parse::<NaiveDate>().is_ok()
}

/// The first two of three numbers with dots, slashes or dashes between them, the third a year.
fn slashed(text: &str) -> Option<(u32, u32, u32)> {
    let separator = ['/', '.', '-'].into_iter().find(|s| text.matches(*s).count() == 2)?;
    let parts: Vec<u32> = text.split(separator).filter_map(|p| p.parse().ok()).collect();
    match parts[..] {
        [a, b, year] if a <= 31 && b <= 31 && (year > 99 || text.len() <= 8) => Some((a, b, year)),
        _ => None,
    }
}

impl Watching {
    /// `most` distinct values are counted exactly.
    fn see(
        &mut self, value: Option<&str>, state: &DefaultHashBuilder, most: usize,
        sample: Option<&mut Vec<u32>>,
    ) {
        self.rows += 1;
        let Some(text) = value.filter(|text| !text.is_empty()) else {
            self.empty += 1;
            if let Some(sample) = sample {
                sample.push(0);
            }
            return;
        };
        let hash = state.hash_one(text);
        if let Some(sample) = sample {
            let next = self.codes.len() as u32 + 1;
            sample.push(*self.codes.entry(hash).or_insert(next));
        }
        if self.values.len() < most {
            if self.values.insert(hash) && self.examples.len() < 3 {
                self.examples.push(text.chars().take(40).collect());
            }
        } else {
            self.capped = true;
        }
        let word = !text.as_bytes()[0].is_ascii_digit() && text.len() <= 7;
        if word && NULL_WORDS.contains(&text.to_lowercase().as_str()) {
            *self.words.entry(text.to_string()).or_default() += 1;
            return;
        }
        self.filled += 1;
        let bytes = text.as_bytes();
        let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
        if !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) {
            self.wholes += 1;
            self.leading_zero |= digits.len() > 1 && digits.starts_with('0');
            self.too_large |= text.parse::<i64>().is_err();
            self.digits = self.digits.max(digits.len() as u32);
        } else if let Some((whole, fraction)) = digits.split_once('.')
            && [whole, fraction].iter().all(|part| part.bytes().all(|b| b.is_ascii_digit()))
            && !(whole.is_empty() || fraction.is_empty())
        {
            self.decimals += 1;
            self.leading_zero |= whole.len() > 1 && whole.starts_with('0');
            self.digits = self.digits.max(whole.len() as u32);
            self.scale = self.scale.max(fraction.len() as u32);
            self.scales.insert(fraction.len() as u32);
        } else if bytes[0].is_ascii_digit() || bytes[0] == b'-' {
            if text.bytes().all(|b| matches!(b, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E'))
                && text.parse::<f64>().is_ok_and(f64::is_finite)
            {
                self.decimals += 1;
                self.exponents = true;
            } else if is_date(text) {
                self.dates += 1;
            } else if let Some((first, second, year)) = slashed(text) {
                self.slashed += 1;
                let order = if first > 12 { DateOrder::DayFirst } else { DateOrder::MonthFirst };
                self.no_date |= year < 1000 || order.read(text).is_none();
                self.first_over_12 |= first > 12;
                self.second_over_12 |= second > 12;
            } else if parse_text(&ValueType::ZonedDateTime, text).is_ok() {
                self.zoned += 1;
            } else if parse_text(&ValueType::LocalDateTime, text).is_ok() {
                self.local += 1;
            }
        } else {
            match text {
                "true" | "false" | "TRUE" | "FALSE" | "True" | "False" => self.bools += 1,
                "yes" | "no" | "Yes" | "No" | "YES" | "NO" | "Y" | "N" | "y" | "n" => self.yes_no += 1,
                _ => {}
            }
        }
    }

    /// The order of dates such as 31.12.2024, where one of them decides it for all.
    fn order(&self) -> Option<DateOrder> {
        if self.slashed != self.filled || self.no_date {
            return None;
        }
        match (self.first_over_12, self.second_over_12) {
            (true, false) => Some(DateOrder::DayFirst),
            (false, true) => Some(DateOrder::MonthFirst),
            _ => None,
        }
    }

    fn finish(self, name: String) -> ColumnProfile {
        let mut remark = None;
        let mut date_order = None;
        let filled = self.filled;
        let kind = if filled == 0 {
            Kind::Nothing
        } else if self.wholes == filled && !self.leading_zero && !self.too_large {
            Kind::Whole
        } else if self.wholes + self.decimals == filled && !self.leading_zero && !self.too_large {
            let fixed = self.wholes == 0 && self.scales.len() == 1 && self.scale == 2 && !self.exponents;
            Kind::Decimal { digits: self.digits + self.scale, scale: self.scale, fixed }
        } else if self.bools == filled {
            Kind::Bool
        } else if self.dates == filled {
            Kind::Date
        } else if let Some(order) = self.order() {
            date_order = Some(order);
            Kind::Date
        } else if self.local == filled {
            Kind::LocalDateTime
        } else if self.zoned == filled {
            Kind::ZonedDateTime
        } else {
            Kind::Text
        };
        if kind == Kind::Text {
            if self.wholes + self.decimals == filled && self.leading_zero {
                remark = Some("numbers with leading zeros: kept as text".to_string());
            } else if self.wholes == filled && self.too_large {
                remark = Some("whole numbers too large for INT64: kept as text".into());
            } else if self.slashed == filled {
                remark = Some(match (self.first_over_12, self.second_over_12) {
                    (true, true) => "dates of which some can only be day first and some only month first: kept as text".into(),
                    (false, false) if !self.no_date => "dates that could be day first or month first: nothing here decides it, so they are kept as text. Which is it? Write date_order = \"day-first\" or \"month-first\" under the table, and DATE in the model".into(),
                    _ => "dates with years of two digits: kept as text, write them as YYYY-MM-DD to load them as DATE".into(),
                });
            } else if self.yes_no == filled {
                remark = Some("yes and no: kept as text; BOOL takes true and false".into());
            }
        }
        let typed = !matches!(kind, Kind::Text | Kind::Nothing);
        let words: u64 = self.words.values().sum();
        let null_words: Vec<String> = if typed { self.words.keys().cloned().collect() } else { vec![] };
        let nulls = self.empty + if typed { words } else { 0 };
        if kind == Kind::Text && words > 0 && remark.is_none() {
            let shown: Vec<&str> = self.words.keys().map(String::as_str).collect();
            remark =
                Some(format!("{words} rows say {}: add it to null if that means no value", shown.join(", ")));
        }
        let kind = if kind == Kind::Nothing && words > 0 { Kind::Text } else { kind };
        ColumnProfile {
            name,
            rows: self.rows,
            nulls,
            values: self.values,
            capped: self.capped,
            kind,
            null_words,
            words: self.words,
            date_order,
            remark,
            examples: self.examples,
        }
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
    let mut names: Vec<String> = vec![];
    let mut watching: Vec<Watching> = vec![];
    let mut sample: Vec<Vec<u32>> = vec![];
    // About as many rows as the sample takes, evenly over the table.
    let lines = memchr::memchr_iter(b'\n', head).count().max(1);
    let guess = bytes.len() as u64 / (head.len() as u64 / lines as u64).max(1);
    let stride = (guess / SAMPLE_ROWS).max(1);
    let mut rows = 0u64;
    let mut ragged = 0u64;
    let mut see =
        |fields: &[(usize, Option<&str>)], watching: &mut Vec<Watching>, sample: &mut Vec<Vec<u32>>| {
            let sampled = rows.is_multiple_of(stride) && rows / stride < 2 * SAMPLE_ROWS;
            let most = MOST_DISTINCT.min(MOST_TOGETHER / watching.len().max(1));
            for (column, value) in fields {
                let sample = sampled.then(|| &mut sample[*column]);
                watching[*column].see(*value, state, most, sample);
            }
            rows += 1;
        };
    match format {
        TableFormat::Csv | TableFormat::Tsv => {
            let (columns, body) =
                csv_header(&table.file, bytes, delimiter, b'"').map_err(|e| failed(reason(e)))?;
            check_names(&columns).map_err(failed)?;
            watching.resize_with(columns.len(), Watching::default);
            sample.resize(columns.len(), vec![]);
            names = columns;
            let mut reader = csv::ReaderBuilder::new()
                .has_headers(false)
                .flexible(true)
                .delimiter(delimiter)
                .from_reader(&bytes[body..]);
            let mut record = csv::ByteRecord::new();
            let mut fields: Vec<(usize, Option<&str>)>;
            while reader.read_byte_record(&mut record).map_err(|e| failed(e.to_string()))? {
                // A row of another length says nothing of the columns; a load will refuse it.
                if record.len() != names.len() {
                    ragged += 1;
                    continue;
                }
                fields = record.iter().map(|f| std::str::from_utf8(f).ok()).enumerate().collect();
                see(&fields, &mut watching, &mut sample);
            }
        }
        TableFormat::Jsonl => {
            let lines = bytes.split(|b| *b == b'\n').filter(|line| !line.trim_ascii().is_empty());
            for (number, line) in lines.enumerate() {
                let object: serde_json::Map<String, serde_json::Value> = serde_json::from_slice(line)
                    .map_err(|e| failed(format!("line {} is not a JSON object: {e}", number + 1)))?;
                for name in object.keys() {
                    if !names.contains(name) {
                        names.push(name.clone());
                        check_names(&names).map_err(failed)?;
                        // The rows before had no such field.
                        let mut late = Watching::default();
                        let sampled_before = sample.first().map_or(0, Vec::len);
                        (0..number).for_each(|_| late.see(None, state, 0, None));
                        watching.push(late);
                        sample.push(vec![0; sampled_before]);
                    }
                }
                let texts: Vec<Option<String>> = names.iter().map(|name| text_of(object.get(name))).collect();
                let fields: Vec<(usize, Option<&str>)> =
                    texts.iter().map(Option::as_deref).enumerate().collect();
                see(&fields, &mut watching, &mut sample);
            }
        }
        // Neither comes out of `plain_source`.
        TableFormat::Json | TableFormat::GraphMl | TableFormat::NQuads => {}
        TableFormat::Parquet | TableFormat::Arrow => {
            names = columnar_rows(&table.file, format, &source, &mut |columns, values| {
                if watching.is_empty() {
                    watching.resize_with(columns, Watching::default);
                    sample.resize(columns, vec![]);
                }
                let fields: Vec<(usize, Option<&str>)> =
                    values.iter().map(Option::as_deref).enumerate().collect();
                see(&fields, &mut watching, &mut sample);
            })
            .map_err(|e| failed(reason(e)))?;
            check_names(&names).map_err(failed)?;
            watching.resize_with(names.len(), Watching::default);
            sample.resize(names.len(), vec![]);
        }
    }
    let mut columns: Vec<ColumnProfile> =
        names.into_iter().zip(watching).map(|(name, seen)| finished(name, seen, table)).collect();
    // A word that means null in one column of a table means it in all of them.
    let null_words: BTreeSet<String> = columns.iter().flat_map(|c| c.null_words.clone()).collect();
    for column in &mut columns {
        let declared = table.declared.as_ref().is_some_and(|d| d.kinds.contains_key(&column.name));
        if column.kind == Kind::Text && !declared {
            let meant = column.words.iter().filter(|(word, _)| null_words.contains(*word));
            let nulls: u64 = meant.map(|(_, count)| count).sum();
            column.nulls += nulls;
            if nulls > 0 {
                column.remark = None;
            }
        }
    }
    // A table has one order: that of its first column with one.
    let date_order = columns.iter().find_map(|c| c.date_order);
    for column in columns.iter_mut().filter(|c| c.date_order.is_some() && c.date_order != date_order) {
        column.kind = Kind::Text;
        column.remark = Some("dates in another order than the table's other dates: kept as text".into());
    }
    let text = matches!(format, TableFormat::Csv | TableFormat::Tsv);
    for (place, column) in columns.iter_mut().enumerate() {
        if text && column.name == unnamed(place) && column.remark.is_none() {
            column.remark = Some("the header does not name it; a mapping calls it by its place".into());
        }
    }
    let stem = table.file.rsplit(['/', '\\']).next().unwrap_or(&table.file);
    let stem = stem.split('.').next().unwrap_or(stem).to_string();
    if ragged > rows {
        return Err(failed(format!(
            "{ragged} of {} rows have another number of fields than the first line, which has {}: it seems to be no header",
            rows + ragged,
            columns.len()
        )));
    }
    if rows == 0 {
        return Err(failed("there is a header and no row".into()));
    }
    Ok(TableProfile {
        file: table.file.clone(),
        stem,
        delimiter: (format == TableFormat::Csv && delimiter != b',').then_some(delimiter as char),
        rows,
        ragged,
        sampled: sample.first().is_some_and(|s| (s.len() as u64) < rows),
        columns,
        null_words: null_words.into_iter().collect(),
        date_order,
        declared: table.declared.clone(),
        sample,
    })
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
        if column.kind != Kind::Nothing || rows > empty {
            column.kind = match kind {
                ColumnKind::Whole => Kind::Whole,
                ColumnKind::Float => Kind::Decimal { digits: 0, scale: 0, fixed: false },
                ColumnKind::Decimal { digits, scale } => Kind::Decimal { digits, scale, fixed: true },
                ColumnKind::Bool => Kind::Bool,
                ColumnKind::Date => Kind::Date,
                ColumnKind::LocalDateTime => Kind::LocalDateTime,
                ColumnKind::ZonedDateTime => Kind::ZonedDateTime,
                ColumnKind::Text => Kind::Text,
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
