//! Reading a block of text: CSV with its quotes, and JSON lines.

use crate::load::building::{ChunkRead, Counting};
use crate::load::fields::{Fields, Row};
use crate::load::plain::plain_text;
use crate::load::plan::TablePlan;
use crate::load::rows::{Finished, MAX_ROW};
use crate::load::sources::{encoding_hint, table_error};
use crate::load::{LoadError, Progress, RejectKind};
use crate::mapping::TableFormat;

impl ChunkRead {
    /// Reads a block of rows that begins at `start` in the text; `None` where a row of it never ends.
    pub(super) fn of_text(
        plan: &TablePlan, block: &[u8], start: usize, progress: &Progress,
    ) -> Result<Option<Finished>, LoadError> {
        let mut chunk = ChunkRead::new(plan, likely_rows(block));
        let ends = match plan.format {
            TableFormat::Jsonl => chunk.read_json(plan, block, start, progress)?,
            _ => chunk.read_csv(plan, block, start, progress)?,
        };
        if ends { chunk.finish(progress).map(Some) } else { Ok(None) }
    }

    fn read_csv(
        &mut self, plan: &TablePlan, block: &[u8], start: usize, progress: &Progress,
    ) -> Result<bool, LoadError> {
        if let Some(text) = plain_text(block, plan.quote) {
            self.read_plain(plan, text, start, progress)?;
            return Ok(true);
        }
        let mut reader = csv::ReaderBuilder::new()
            .has_headers(false)
            .flexible(true)
            .delimiter(plan.delimiter)
            .quote(plan.quote)
            .from_reader(block);
        let mut record = csv::ByteRecord::new();
        let failed = |e: csv::Error| table_error(&plan.name, e.to_string());
        let mut counting = Counting::new(progress);
        // The usual case, without going through a list for every field.
        let only_empty = matches!(&plan.null[..], [one] if one.is_empty());
        let not_utf8 = std::sync::OnceLock::new();
        while reader.read_byte_record(&mut record).map_err(failed)? {
            let begin = record.position().map_or(0, |p| p.byte() as usize);
            let written = &block[begin..(reader.position().byte() as usize).max(begin)];
            let offset = (start + begin) as u64;
            self.rows += 1;
            counting.at(self.rows)?;
            if record.as_slice().len() > MAX_ROW {
                return Ok(false);
            }
            if record.len() != plan.columns.len() {
                self.reject_fields(plan, offset, record.len());
                continue;
            }
            let is_null =
                |text: &str| if only_empty { text.is_empty() } else { plan.null.iter().any(|n| n == text) };
            let field = |column: usize| match record.get(column).map(std::str::from_utf8) {
                Some(Ok(text))
                    if is_null(text) && (plan.quoted_null || !in_quotes(plan, written, column)) =>
                {
                    Fields::Null
                }
                Some(Ok(text)) => Fields::Text(text),
                Some(Err(_)) => Fields::Bad(not_utf8.get_or_init(|| encoding_hint(block))),
                None => Fields::Null,
            };
            let raw = |column: usize| record.get(column).map(|b| String::from_utf8_lossy(b).into_owned());
            self.row(plan, offset, &Row { field: &field, raw: &raw, null: &plan.null });
        }
        counting.end(self.rows);
        Ok(true)
    }

    fn read_json(
        &mut self, plan: &TablePlan, block: &[u8], start: usize, progress: &Progress,
    ) -> Result<bool, LoadError> {
        let mut counting = Counting::new(progress);
        let mut at = 0;
        while at < block.len() {
            let line_end = memchr::memchr(b'\n', &block[at..]).map_or(block.len(), |i| at + i);
            let line = &block[at..line_end];
            let offset = (start + at) as u64;
            at = line_end + 1;
            let line = line.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(line);
            if line.iter().all(u8::is_ascii_whitespace) {
                continue;
            }
            self.rows += 1;
            counting.at(self.rows)?;
            let object = match serde_json::from_slice::<serde_json::Value>(line) {
                Ok(serde_json::Value::Object(object)) => object,
                Ok(_) => {
                    self.reject_row(plan, offset, RejectKind::Shape, "the line is not a JSON object");
                    continue;
                }
                Err(error) => {
                    let reason = format!("the line is not valid JSON: {error}");
                    self.reject_row(plan, offset, RejectKind::Shape, &reason);
                    continue;
                }
            };
            let value = |column: usize| plan.columns.get(column).and_then(|name| object.get(name));
            let field = |column: usize| match value(column) {
                None | Some(serde_json::Value::Null) => Fields::Null,
                Some(serde_json::Value::String(text)) if plan.null.iter().any(|n| n == text) => Fields::Null,
                Some(serde_json::Value::String(text)) => Fields::Text(text),
                Some(other) => Fields::Json(other),
            };
            let raw = |column: usize| {
                value(column).map(|v| match v {
                    serde_json::Value::String(text) => text.clone(),
                    other => other.to_string(),
                })
            };
            self.row(plan, offset, &Row { field: &field, raw: &raw, null: &plan.null });
        }
        counting.end(self.rows);
        Ok(true)
    }
}

/// A little more than the rows that a block most likely has, by those of its beginning.
fn likely_rows(block: &[u8]) -> usize {
    const BEGINNING: usize = 1 << 16;
    let beginning = &block[..block.len().min(BEGINNING)];
    let ends = memchr::memchr_iter(b'\n', beginning).count() + 1;
    match beginning.len() == block.len() {
        true => ends,
        false => (ends as f64 * 1.03 * block.len() as f64 / BEGINNING as f64) as usize,
    }
}

/// Whether a field of a row is written in quotes.
fn in_quotes(plan: &TablePlan, row: &[u8], column: usize) -> bool {
    let (mut at, mut quoted) = (0, false);
    for _ in 0..column {
        // A delimiter between quotes ends no field.
        let Some(end) = row[at..].iter().position(|&byte| {
            quoted ^= byte == plan.quote;
            byte == plan.delimiter && !quoted
        }) else {
            return false;
        };
        at += end + 1;
    }
    row.get(at) == Some(&plan.quote)
}
