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
pub struct ResultWriter {
    format: ResultFormat,
    columns: Vec<ColumnInfo>,
    rows: u64,
    arrow: Option<arrow::ArrowWriter>,
}

impl ResultWriter {
    pub fn new(format: ResultFormat, columns: Vec<ColumnInfo>) -> Self {
        ResultWriter { format, columns, rows: 0, arrow: None }
    }

    pub fn start(&mut self) -> Vec<u8> {
        match self.format {
            ResultFormat::Json => {
                let columns = serde_json::to_string(&self.columns).unwrap_or_default();
                format!("{{\"columns\":{columns},\"rows\":[").into_bytes()
            }
            ResultFormat::Csv => csv_line(self.columns.iter().map(|c| c.name.clone())),
            ResultFormat::Ndjson | ResultFormat::Arrow => vec![],
        }
    }

    pub fn rows(&mut self, batch: &Batch, snapshot: &Snapshot) -> Result<Vec<u8>, String> {
        let mut out = vec![];
        match self.format {
            ResultFormat::Json => {
                for row in 0..batch.len {
                    if self.rows > 0 {
                        out.push(b',');
                    }
                    self.rows += 1;
                    let cells: Vec<serde_json::Value> =
                        batch.columns.iter().map(|c| value_json(&c.get(row), snapshot)).collect();
                    serde_json::to_writer(&mut out, &cells).map_err(|e| e.to_string())?;
                }
            }
            ResultFormat::Ndjson => {
                for row in 0..batch.len {
                    let mut object = serde_json::Map::new();
                    for (column, info) in batch.columns.iter().zip(&self.columns) {
                        object.insert(info.name.clone(), value_json(&column.get(row), snapshot));
                    }
                    serde_json::to_writer(&mut out, &object).map_err(|e| e.to_string())?;
                    out.push(b'\n');
                }
            }
            ResultFormat::Csv => {
                for row in 0..batch.len {
                    out.extend(csv_line(batch.columns.iter().map(|c| csv_text(&c.get(row), snapshot))));
                }
            }
            ResultFormat::Arrow => {
                let columns = &self.columns;
                let writer = self
                    .arrow
                    .get_or_insert_with(|| arrow::ArrowWriter::new(columns, Some((batch, snapshot))));
                out = writer.write(batch, snapshot)?;
            }
        }
        Ok(out)
    }

    /// `more` are the fields that follow the rows of a JSON result: names with their JSON texts.
    pub fn end(&mut self, more: &[(&str, String)]) -> Result<Vec<u8>, String> {
        match self.format {
            ResultFormat::Json => {
                let mut out = b"]".to_vec();
                for (name, value) in more {
                    out.push(b',');
                    serde_json::to_writer(&mut out, name).map_err(|e| e.to_string())?;
                    out.push(b':');
                    out.extend(value.as_bytes());
                }
                out.extend(b"}\n");
                Ok(out)
            }
            ResultFormat::Arrow => {
                let columns = &self.columns;
                self.arrow.get_or_insert_with(|| arrow::ArrowWriter::new(columns, None)).finish()
            }
            ResultFormat::Csv | ResultFormat::Ndjson => Ok(vec![]),
        }
    }
}

fn csv_line(fields: impl Iterator<Item = String>) -> Vec<u8> {
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(vec![]);
    // Writing to memory does not fail.
    let _ = writer.write_record(fields);
    writer.into_inner().unwrap_or_default()
}

/// Plain text for plain values, JSON for elements, lists and records; null is an empty field.
fn csv_text(value: &Value, snapshot: &Snapshot) -> String {
    match value {
        Value::Null => String::new(),
        Value::Bool(b) => b.to_string(),
        Value::Node(_) | Value::Edge(_) | Value::Path(_) | Value::List(_) | Value::Record(_) => {
            value_json(value, snapshot).to_string()
        }
        value => value.to_string(),
    }
}
