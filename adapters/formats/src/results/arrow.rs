//! Results as an Arrow IPC stream. A column's type is taken from the first batch; where a later value
//! does not fit, the result is refused with the column named, never coerced. Elements, lists and
//! records are JSON texts.

use std::sync::Arc;

use arrow_array::builder::{BooleanBuilder, Date32Builder, Float64Builder, Int64Builder, StringBuilder};
use arrow_array::{ArrayRef, RecordBatch};
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{DataType, Field, Schema};
use graphodrome_engine::{Batch, ColumnInfo};
use graphodrome_graph::{Snapshot, Value, ValueType};

use crate::results::json::value_json;

pub(crate) struct ArrowWriter {
    schema: Arc<Schema>,
    writer: Option<StreamWriter<Vec<u8>>>,
    failed: Option<String>,
}

fn data_type(batch: &Batch, column: usize) -> DataType {
    let vector = &batch.columns[column];
    let mut found = None;
    for row in 0..batch.len {
        let this = match vector.get(row) {
            Value::Null => continue,
            Value::Bool(_) => DataType::Boolean,
            Value::Int(_) => DataType::Int64,
            Value::Float(_) => DataType::Float64,
            Value::Date(_) => DataType::Date32,
            _ => DataType::Utf8,
        };
        match &found {
            None => found = Some(this),
            Some(known) if *known == this => {}
            Some(DataType::Int64 | DataType::Float64)
                if matches!(this, DataType::Int64 | DataType::Float64) =>
            {
                found = Some(DataType::Float64);
            }
            Some(_) => return DataType::Utf8,
        }
    }
    found.unwrap_or(DataType::Utf8)
}

impl ArrowWriter {
    pub fn new(columns: &[ColumnInfo], first: Option<(&Batch, &Snapshot)>) -> ArrowWriter {
        let fields: Vec<Field> = columns
            .iter()
            .enumerate()
            .map(|(i, c)| {
                Field::new(&c.name, first.map_or(DataType::Utf8, |(batch, _)| data_type(batch, i)), true)
            })
            .collect();
        let schema = Arc::new(Schema::new(fields));
        match StreamWriter::try_new(vec![], &schema) {
            Ok(writer) => ArrowWriter { schema, writer: Some(writer), failed: None },
            Err(error) => ArrowWriter { schema, writer: None, failed: Some(error.to_string()) },
        }
    }

    fn writer(&mut self) -> Result<&mut StreamWriter<Vec<u8>>, String> {
        let failed = self.failed.clone();
        self.writer.as_mut().ok_or_else(|| failed.unwrap_or_else(|| "the stream has ended".into()))
    }

    pub fn write(&mut self, batch: &Batch, snapshot: &Snapshot) -> Result<Vec<u8>, String> {
        let mut arrays: Vec<ArrayRef> = vec![];
        for (column, field) in self.schema.fields().iter().enumerate() {
            arrays.push(array(batch, column, field, snapshot)?);
        }
        let batch = RecordBatch::try_new(self.schema.clone(), arrays).map_err(|e| e.to_string())?;
        let writer = self.writer()?;
        writer.write(&batch).map_err(|e| e.to_string())?;
        Ok(std::mem::take(writer.get_mut()))
    }

    pub fn finish(&mut self) -> Result<Vec<u8>, String> {
        let writer = self.writer()?;
        writer.finish().map_err(|e| e.to_string())?;
        Ok(std::mem::take(writer.get_mut()))
    }
}

fn array(batch: &Batch, column: usize, field: &Field, snapshot: &Snapshot) -> Result<ArrayRef, String> {
    let values = (0..batch.len).map(|row| batch.columns[column].get(row));
    macro_rules! build {
        ($builder:expr, $($pattern:pat => $value:expr),+) => {{
            let mut builder = $builder;
            for value in values {
                match value {
                    Value::Null => builder.append_null(),
                    $($pattern => builder.append_value($value),)+
                    other => {
                        return Err(format!(
                            "column {} began as {} and has a {} further on; CAST it to one type",
                            field.name(), field.data_type(), other.type_name()
                        ));
                    }
                }
            }
            Ok(Arc::new(builder.finish()))
        }};
    }
    match field.data_type() {
        DataType::Boolean => build!(BooleanBuilder::new(), Value::Bool(b) => b),
        DataType::Int64 => build!(Int64Builder::new(), Value::Int(i) => i),
        DataType::Float64 => build!(Float64Builder::new(), Value::Float(f) => f, Value::Int(i) => i as f64),
        DataType::Date32 => build!(Date32Builder::new(), Value::Date(d) => ValueType::epoch_day(d)),
        _ => {
            let mut builder = StringBuilder::new();
            for value in values {
                match value {
                    Value::Null => builder.append_null(),
                    Value::Text(text) => builder.append_value(text),
                    value => match value_json(&value, snapshot) {
                        serde_json::Value::String(text) => builder.append_value(text),
                        json => builder.append_value(json.to_string()),
                    },
                }
            }
            Ok(Arc::new(builder.finish()))
        }
    }
}
