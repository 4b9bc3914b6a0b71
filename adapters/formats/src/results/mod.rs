//! Results in open formats, batch by batch: JSON, NDJSON, CSV (RFC 4180), Arrow IPC stream.

mod arrow;
mod json;

use graphodrome_engine::{Batch, ColumnInfo};
use graphodrome_graph::{Snapshot, Value};

pub use json::{element_json, value_json};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ResultFormat {
    Json,
    Ndjson,
    Csv,
    Arrow,
}

impl ResultFormat {
    pub fn media_type(self) -> &'static str {
        match self {
            ResultFormat::Json => "application/json",
            ResultFormat::Ndjson => "application/x-ndjson",
            ResultFormat::Csv => "text/csv; charset=utf-8",
            ResultFormat::Arrow => "application/vnd.apache.arrow.stream",
        }
    }
}

/// Writes one result: a start, rows, an end with the summary where the format has a place for it.
pub struct ResultWriter<'c> {
    format: ResultFormat,
    columns: &'c [ColumnInfo],
    rows: u64,
    arrow: Option<arrow::ArrowWriter>,
}

/// Room for a small result.
const SMALL: usize = 512;

impl<'c> ResultWriter<'c> {
    pub fn new(format: ResultFormat, columns: &'c [ColumnInfo]) -> Self {
        ResultWriter { format, columns, rows: 0, arrow: None }
    }

    /// What a result begins with; the rest is appended to it.
    pub fn start(&mut self) -> Result<Vec<u8>, String> {
        let mut out = Vec::with_capacity(SMALL);
        match self.format {
            ResultFormat::Json => {
                out.extend(b"{\"columns\":");
                json_into(&mut out, &self.columns)?;
                out.extend(b",\"rows\":[");
            }
            ResultFormat::Csv => out.extend(csv_line(self.columns.iter().map(|c| Some(c.name.clone())))),
            ResultFormat::Ndjson | ResultFormat::Arrow => {}
        }
        Ok(out)
    }

    pub fn rows(&mut self, batch: &Batch, snapshot: &Snapshot, out: &mut Vec<u8>) -> Result<(), String> {
        match self.format {
            ResultFormat::Json => {
                for row in 0..batch.len {
                    if self.rows > 0 {
                        out.push(b',');
                    }
                    self.rows += 1;
                    out.push(b'[');
                    for (i, column) in batch.columns.iter().enumerate() {
                        if i > 0 {
                            out.push(b',');
                        }
                        match column.get(row) {
                            Value::Int(number) => json_into(out, &number)?,
                            Value::Text(text) => json_into(out, &*text)?,
                            value => json_into(out, &value_json(&value, snapshot))?,
                        }
                    }
                    out.push(b']');
                }
            }
            ResultFormat::Ndjson => {
                for row in 0..batch.len {
                    let mut object = serde_json::Map::new();
                    for (column, info) in batch.columns.iter().zip(self.columns) {
                        object.insert(info.name.clone(), value_json(&column.get(row), snapshot));
                    }
                    json_into(out, &object)?;
                    out.push(b'\n');
                }
            }
            ResultFormat::Csv => {
                for row in 0..batch.len {
                    out.extend(csv_line(batch.columns.iter().map(|c| csv_text(&c.get(row), snapshot))));
                }
            }
            ResultFormat::Arrow => {
                let writer = self
                    .arrow
                    .get_or_insert_with(|| arrow::ArrowWriter::new(self.columns, Some((batch, snapshot))));
                out.extend(writer.write(batch, snapshot)?);
            }
        }
        Ok(())
    }

    /// Whether the format has a place for an error behind rows.
    pub fn holds_an_error(&self) -> bool {
        matches!(self.format, ResultFormat::Json | ResultFormat::Ndjson)
    }

    /// Ends a result that failed after some of its rows: the problem document in the field `error` of the
    /// object, or of a line of its own.
    pub fn fail(&mut self, problem: &[u8], out: &mut Vec<u8>) {
        match self.format {
            ResultFormat::Json => {
                out.extend(b"],\"error\":");
                out.extend(problem);
                out.extend(b"}\n");
            }
            ResultFormat::Ndjson => {
                out.extend(b"{\"error\":");
                out.extend(problem);
                out.extend(b"}\n");
            }
            ResultFormat::Csv | ResultFormat::Arrow => {}
        }
    }

    /// `more` writes the fields that follow the rows of a JSON result, each after a comma.
    pub fn end(&mut self, more: impl FnOnce(&mut Vec<u8>), out: &mut Vec<u8>) -> Result<(), String> {
        match self.format {
            ResultFormat::Json => {
                out.push(b']');
                more(out);
                out.extend(b"}\n");
            }
            ResultFormat::Arrow => {
                let writer = self.arrow.get_or_insert_with(|| arrow::ArrowWriter::new(self.columns, None));
                out.extend(writer.finish()?);
            }
            ResultFormat::Csv | ResultFormat::Ndjson => {}
        }
        Ok(())
    }
}

fn json_into<T: serde::Serialize + ?Sized>(out: &mut Vec<u8>, value: &T) -> Result<(), String> {
    serde_json::to_writer(out, value).map_err(|e| e.to_string())
}

/// A line of fields (RFC 4180): null is nothing at all, an empty text is `""`.
fn csv_line(fields: impl Iterator<Item = Option<String>>) -> Vec<u8> {
    let mut line = vec![];
    for (i, field) in fields.enumerate() {
        if i > 0 {
            line.push(b',');
        }
        let Some(text) = field else { continue };
        let quoted = text.is_empty() || text.contains([',', '"', '\r', '\n']);
        match quoted {
            true => line.extend(format!("\"{}\"", text.replace('"', "\"\"")).bytes()),
            false => line.extend(text.bytes()),
        }
    }
    line.extend(b"\r\n");
    line
}

/// Plain text for plain values, JSON for elements, lists and records; null is no text.
fn csv_text(value: &Value, snapshot: &Snapshot) -> Option<String> {
    Some(match value {
        Value::Null => return None,
        Value::Bool(b) => b.to_string(),
        Value::Node(_) | Value::Edge(_) | Value::Path(_) | Value::List(_) | Value::Record(_) => {
            value_json(value, snapshot).to_string()
        }
        value => value.to_string(),
    })
}
