//! The fast path for CSV: rows without quotes are split at delimiters and their fields parsed directly into typed
//! columns, several rows at a time and column by column. If a row does not fit, its group is read again row by row,
//! and the thorough reader reports the error.

use std::ops::Range;

use graphodrome_graph::{ColumnBuilder, Value, ValueType, parse_day, parse_text, parse_whole};

use crate::load::building::{BuildingRule, ChunkRead, Counting};
use crate::load::fields::{Fields, Row};
use crate::load::marks::Marks;
use crate::load::plan::{Input, TablePlan};
use crate::load::short::{short_float, short_whole};
use crate::load::{LoadError, Progress};

/// Rows that are read at once.
const ROWS: usize = 256;

/// The chunk as text, where it has no quote, no NUL, no line end but `\n` and `\r\n`, and is UTF-8.
pub(super) fn plain_text(bytes: &[u8], quote: u8) -> Option<&str> {
    let lone_return = |at: usize| bytes.get(at + 1) != Some(&b'\n');
    // Places are told in 32 bits.
    if bytes.len() > u32::MAX as usize
        || memchr::memchr2(quote, 0, bytes).is_some()
        || memchr::memchr_iter(b'\r', bytes).any(lone_return)
    {
        return None;
    }
    std::str::from_utf8(bytes).ok()
}

pub(super) enum CellKind<'p> {
    Whole,
    Float,
    Date,
    Text,
    Other(&'p ValueType),
}

pub(super) enum Place {
    Property(usize),
    From(usize),
    To(usize),
}

/// Where a field goes.
pub(super) struct Target<'p> {
    pub column: usize,
    rule: usize,
    place: Place,
    pub kind: CellKind<'p>,
    pub nullable: bool,
}

impl Target<'_> {
    pub fn builder<'b>(&self, rules: &'b mut [BuildingRule]) -> &'b mut ColumnBuilder {
        let rule = &mut rules[self.rule];
        match self.place {
            Place::Property(i) => &mut rule.columns[i],
            Place::From(i) => &mut rule.from[i],
            Place::To(i) => &mut rule.to[i],
        }
    }

    /// False where the field is not what it should be.
    #[inline]
    fn push(&self, text: &str, rules: &mut [BuildingRule]) -> bool {
        let builder = self.builder(rules);
        if text.is_empty() {
            if self.nullable {
                builder.push_null();
            }
            return self.nullable;
        }
        match self.kind {
            CellKind::Whole => match parse_whole(text) {
                Some(number) => builder.push_int(number),
                None => return false,
            },
            CellKind::Text => builder.push_text(text),
            CellKind::Float => return builder.push_read(&ValueType::Float(64), text),
            CellKind::Date => return builder.push_read(&ValueType::Date, text),
            CellKind::Other(wanted) => return builder.push_read(wanted, text),
        }
        true
    }

    /// The field of many rows; false where one is not what it should be.
    fn push_all(&self, rows: &FieldPlaces<'_>, rules: &mut [BuildingRule], scratch: &mut Scratch) -> bool {
        let builder = self.builder(rules);
        let Scratch { ints, floats, days, valid } = scratch;
        let bytes = rows.text.as_bytes();
        match self.kind {
            CellKind::Whole => {
                let read = |at: Range<usize>| short_whole(bytes, &at).or_else(|| parse_whole(&rows.text[at]));
                let Some(valid) = self.read_all(rows, ints, valid, read) else { return false };
                builder.extend_ints(ints, valid);
            }
            CellKind::Float => {
                let slow = |text: &str| match parse_text(&ValueType::Float(64), text) {
                    Ok(Value::Float(number)) => Some(number),
                    _ => None,
                };
                let read = |at: Range<usize>| short_float(bytes, &at).or_else(|| slow(&rows.text[at]));
                let Some(valid) = self.read_all(rows, floats, valid, read) else { return false };
                builder.extend_floats(floats, valid);
            }
            CellKind::Date => {
                let read = |at: Range<usize>| parse_day(bytes.get(at)?);
                let Some(valid) = self.read_all(rows, days, valid, read) else { return false };
                builder.extend_days(days, valid);
            }
            CellKind::Text | CellKind::Other(_) => {
                return (0..rows.len()).all(|row| self.push(rows.field(row, self.column), rules));
            }
        }
        true
    }

    /// The values of many texts, and where one is null which are not; `None` where one is neither.
    #[inline]
    fn read_all<'s, T: Copy + Default>(
        &self, rows: &FieldPlaces<'_>, values: &mut Vec<T>, valid: &'s mut Vec<bool>,
        read: impl Fn(Range<usize>) -> Option<T>,
    ) -> Option<Option<&'s [bool]>> {
        values.clear();
        values.resize(rows.len(), T::default());
        valid.clear();
        for (row, value) in values.iter_mut().enumerate() {
            let at = rows.place(row, self.column);
            match read(at.clone()) {
                Some(read) => *value = read,
                None if self.nullable && at.is_empty() => {
                    valid.resize(rows.len(), true);
                    valid[row] = false;
                }
                None => return None,
            }
        }
        Some((!valid.is_empty()).then_some(valid))
    }
}

/// Room for the values of one field of many rows.
#[derive(Default)]
struct Scratch {
    ints: Vec<i64>,
    floats: Vec<f64>,
    days: Vec<i32>,
    /// Empty where all are.
    valid: Vec<bool>,
}

/// Where all fields of a table go; `None` where its rules ask for more than reading fields.
pub(super) fn targets(plan: &TablePlan) -> Option<Vec<Target<'_>>> {
    if !matches!(&plan.null[..], [one] if one.is_empty()) {
        return None;
    }
    let kind = |value_type| match value_type {
        &ValueType::Int(64) => CellKind::Whole,
        &ValueType::Float(64) => CellKind::Float,
        &ValueType::Date => CellKind::Date,
        ValueType::Text { min: 0, max: None } => CellKind::Text,
        // What has no type is a text here; in a columnar file it has its own.
        ValueType::Any if !plan.is_columnar() => CellKind::Text,
        other => CellKind::Other(other),
    };
    let nodes_plain = plan.nodes.iter().all(|n| n.label_from.is_none() && n.filter.is_none());
    let edges_plain = plan.edges.iter().all(|e| e.label_from.is_none() && e.filter.is_none());
    if plan.filter.is_some() || !nodes_plain || !edges_plain {
        return None;
    }
    let mut targets = vec![];
    for (rule, node) in plan.nodes.iter().enumerate().filter(|(_, n)| n.created_by.is_none()) {
        for (i, property) in node.properties.iter().enumerate() {
            let in_key = node.key.as_ref().is_some_and(|(_, places)| places.contains(&i));
            let nullable = !property.not_null && !in_key && !property.is_id();
            let (column, place) = (property.input.plain_column()?, Place::Property(i));
            targets.push(Target { column, rule, place, kind: kind(&property.value_type), nullable });
        }
    }
    for (place, edge) in plan.edges.iter().enumerate() {
        let rule = plan.nodes.len() + place;
        for (i, (input, value_type)) in edge.from.columns.iter().enumerate() {
            let (column, kind, place) = (input.plain_column()?, kind(value_type), Place::From(i));
            targets.push(Target { column, rule, place, kind, nullable: false });
        }
        for (i, (input, value_type)) in edge.to.columns.iter().enumerate() {
            let (column, kind, place) = (input.plain_column()?, kind(value_type), Place::To(i));
            targets.push(Target { column, rule, place, kind, nullable: false });
        }
        for (i, property) in edge.properties.iter().enumerate() {
            let (column, place) = (property.input.plain_column()?, Place::Property(i));
            let nullable = !property.not_null;
            targets.push(Target { column, rule, place, kind: kind(&property.value_type), nullable });
        }
    }
    let created = plan.nodes.iter().filter(|n| n.created_by.is_none());
    let mut properties =
        created.flat_map(|n| &n.properties).chain(plan.edges.iter().flat_map(|e| &e.properties));
    let simple = properties.all(|p| p.default.is_none() && p.date_order.is_none());
    simple.then_some(targets)
}

impl Input {
    /// The column whose text is the value.
    fn plain_column(&self) -> Option<usize> {
        match self {
            Input::Column(column) => Some(*column),
            _ => None,
        }
    }
}

/// Where the fields of rows are that follow each other.
struct FieldPlaces<'t> {
    text: &'t str,
    /// Fields of a row.
    width: usize,
    begins: Vec<u32>,
    /// The ends of all fields, row by row.
    ends: Vec<u32>,
}

impl<'t> FieldPlaces<'t> {
    /// Room for another row, without its end.
    fn full(&self) -> bool {
        self.begins.len() == ROWS
    }

    fn len(&self) -> usize {
        self.begins.len()
    }

    #[inline]
    fn place(&self, row: usize, column: usize) -> Range<usize> {
        let first = row * self.width;
        let begin = if column == 0 { self.begins[row] } else { self.ends[first + column - 1] + 1 };
        begin as usize..self.ends[first + column] as usize
    }

    fn field(&self, row: usize, column: usize) -> &'t str {
        &self.text[self.place(row, column)]
    }

    fn clear(&mut self) {
        self.begins.clear();
        self.ends.clear();
    }
}

impl ChunkRead {
    pub(super) fn read_plain(
        &mut self, plan: &TablePlan, text: &str, start: usize, progress: &Progress,
    ) -> Result<(), LoadError> {
        let targets = targets(plan);
        let bytes = text.as_bytes();
        let width = plan.columns.len();
        let returns = memchr::memchr(b'\r', bytes).is_some();
        let mut rows = FieldPlaces {
            text,
            width,
            begins: Vec::with_capacity(ROWS),
            ends: Vec::with_capacity(ROWS * width),
        };
        let mut scratch = Scratch::default();
        let mut counting = Counting::new(progress);
        let mut begin = 0;
        let mut fields = 0;
        let ends = Marks::new(bytes, plan.delimiter, b'\n');
        let open = (bytes.last() != Some(&b'\n')).then_some(bytes.len());
        for end in ends.chain(open) {
            fields += 1;
            let row_ends = end == bytes.len() || bytes[end] == b'\n';
            if !row_ends {
                rows.ends.push(end as u32);
                continue;
            }
            // A line end may be of two characters.
            let cut = if returns && end > begin && bytes[end - 1] == b'\r' { end - 1 } else { end };
            rows.ends.push(cut as u32);
            let blank = fields == 1 && cut == begin;
            if fields == width && !blank {
                rows.begins.push(begin as u32);
                self.rows += 1;
                counting.at(self.rows)?;
            } else {
                rows.ends.truncate(rows.begins.len() * width);
            }
            if rows.full() || fields != width {
                self.take_rows(plan, targets.as_deref(), &mut rows, start, &mut scratch);
            }
            if fields != width && !blank {
                self.rows += 1;
                counting.at(self.rows)?;
                self.reject_fields(plan, (start + begin) as u64, fields);
            }
            begin = end + 1;
            fields = 0;
        }
        self.take_rows(plan, targets.as_deref(), &mut rows, start, &mut scratch);
        counting.end(self.rows);
        Ok(())
    }

    fn take_rows(
        &mut self, plan: &TablePlan, targets: Option<&[Target<'_>]>, rows: &mut FieldPlaces<'_>,
        start: usize, scratch: &mut Scratch,
    ) {
        let all = targets.is_some_and(|targets| {
            targets.iter().all(|target| target.push_all(rows, &mut self.rules, scratch))
        });
        let offset = |row: usize| start as u64 + rows.begins[row] as u64;
        if all {
            self.of_rows(plan).for_each(|rule| rule.offsets.extend((0..rows.len()).map(offset)));
        } else {
            if targets.is_some() {
                self.rules.iter_mut().for_each(BuildingRule::take_back);
            }
            for row in 0..rows.len() {
                self.take_row(plan, targets, rows, row, offset(row));
            }
        }
        rows.clear();
    }

    fn take_row(
        &mut self, plan: &TablePlan, targets: Option<&[Target<'_>]>, rows: &FieldPlaces<'_>, row: usize,
        offset: u64,
    ) {
        if let Some(targets) = targets {
            if targets.iter().all(|target| target.push(rows.field(row, target.column), &mut self.rules)) {
                return self.of_rows(plan).for_each(|rule| rule.offsets.push(offset));
            }
            self.rules.iter_mut().for_each(BuildingRule::take_back);
        }
        let known: Range<usize> = 0..rows.width;
        let field = |column: usize| match known.contains(&column).then(|| rows.field(row, column)) {
            Some(text) if !plan.null.iter().any(|null| null == text) => Fields::Text(text),
            _ => Fields::Null,
        };
        let raw = |column: usize| known.contains(&column).then(|| rows.field(row, column).to_string());
        self.row(plan, offset, &Row { field: &field, raw: &raw, null: &plan.null });
    }
}

impl BuildingRule {
    /// Forgets the fields of a row that was not finished.
    fn take_back(&mut self) {
        let rows = self.offsets.len();
        let columns = self.columns.iter_mut().chain(&mut self.from).chain(&mut self.to);
        columns.for_each(|column| column.truncate(rows));
    }
}
