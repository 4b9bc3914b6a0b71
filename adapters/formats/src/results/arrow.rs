//! Results as an Arrow IPC stream with Arrow's own types: nodes, edges and paths are structs, lists are
//! lists. A column's type is taken from the first batch; where a later value does not fit, the result is
//! refused with the column named, never coerced. Values of several kinds in one column are JSON texts.

mod arrays;
mod shape;

use std::sync::Arc;

use arrays::array;
use arrow_array::{ArrayRef, RecordBatch};
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{Field, Schema};
use graphodrome_engine::{Batch, ColumnInfo};
use graphodrome_graph::{Snapshot, Value};
use shape::ArrowShape;

pub(crate) struct ArrowWriter {
    schema: Arc<Schema>,
    shapes: Vec<ArrowShape>,
    writer: Option<StreamWriter<Vec<u8>>>,
    failed: Option<String>,
}

impl ArrowWriter {
    pub fn new(columns: &[ColumnInfo], first: Option<(&Batch, &Snapshot)>) -> ArrowWriter {
        let shapes: Vec<ArrowShape> = (0..columns.len())
            .map(|i| match first {
                None => ArrowShape::Unknown,
                Some((batch, snapshot)) => {
                    let values: Vec<Value> = (0..batch.len).map(|row| batch.columns[i].get(row)).collect();
                    ArrowShape::of_all(values.iter(), snapshot)
                }
            })
            .collect();
        let fields: Vec<Field> =
            columns.iter().zip(&shapes).map(|(c, s)| Field::new(&c.name, s.data_type(), true)).collect();
        let schema = Arc::new(Schema::new(fields));
        match StreamWriter::try_new(vec![], &schema) {
            Ok(writer) => ArrowWriter { schema, shapes, writer: Some(writer), failed: None },
            Err(error) => ArrowWriter { schema, shapes, writer: None, failed: Some(error.to_string()) },
        }
    }

    fn writer(&mut self) -> Result<&mut StreamWriter<Vec<u8>>, String> {
        let failed = self.failed.clone();
        self.writer.as_mut().ok_or_else(|| failed.unwrap_or_else(|| "the stream has ended".into()))
    }

    pub fn write(&mut self, batch: &Batch, snapshot: &Snapshot) -> Result<Vec<u8>, String> {
        let mut arrays: Vec<ArrayRef> = vec![];
        for (i, (shape, field)) in self.shapes.iter().zip(self.schema.fields()).enumerate() {
            let values: Vec<Value> = (0..batch.len).map(|row| batch.columns[i].get(row)).collect();
            let made = array(&values, shape, snapshot).map_err(|reason| {
                format!(
                    "column {} began as {} and {reason}; CAST it to one type",
                    field.name(),
                    field.data_type()
                )
            })?;
            arrays.push(made);
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

#[cfg(test)]
mod tests {
    use super::shape::list_field;
    use super::*;
    use arrow_array::Array;
    use arrow_schema::DataType;

    #[test]
    fn values_become_arrow_types_and_lose_nothing() {
        let snapshot = Snapshot::empty(None).expect("empty");
        let cases = [
            (vec![Value::Int(i64::MAX), Value::Null], DataType::Int64),
            (vec![Value::Int(1), Value::Float(0.5)], DataType::Float64),
            (
                vec![
                    Value::Decimal("1.5".parse().expect("decimal")),
                    Value::Decimal("2.125".parse().expect("decimal")),
                ],
                DataType::Decimal128(38, 3),
            ),
            (vec![Value::Int(1), Value::text("a")], DataType::Utf8),
            (
                vec![Value::list(vec![Value::Int(1), Value::Null])],
                DataType::List(list_field(DataType::Int64)),
            ),
        ];
        for (values, wanted) in cases {
            let shape = ArrowShape::of_all(values.iter(), &snapshot);
            assert_eq!(shape.data_type(), wanted);
            let made = array(&values, &shape, &snapshot).expect("array");
            assert_eq!(made.len(), values.len());
            assert_eq!(made.data_type(), &wanted);
        }
        // What comes later and does not fit is refused.
        assert!(array(&[Value::text("x")], &ArrowShape::Int, &snapshot).is_err());
        assert!(
            array(&[Value::Decimal("0.25".parse().expect("decimal"))], &ArrowShape::Decimal(1), &snapshot)
                .is_err()
        );
    }
}
