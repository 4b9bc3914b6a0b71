//! Segments: a base's tables cut into record batches, each an Arrow IPC stream with LZ4 and a
//! checksum. Reverse adjacency, key indexes and statistics are derived when a graph is opened.

use std::io::Cursor;
use std::sync::Arc;

use arrow_array::types::UInt32Type;
use arrow_array::{
    Array, ArrayRef, BinaryArray, BooleanArray, Date32Array, DictionaryArray, Float64Array, Int64Array,
    LargeStringArray, RecordBatch, StringArray, UInt32Array, UInt64Array,
};
use arrow_ipc::CompressionType;
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::{IpcWriteOptions, StreamWriter};
use arrow_schema::{Field, Schema};
use graphodrome_graph::{
    Base, BaseParts, Change, Column, ColumnBuilder, EdgePart, GraphError, Ids, LabelSet, NodePart, Value,
};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::StoreError;

/// Rows of a segment: some MiB of ordinary columns.
const SEGMENT_ROWS: usize = 1 << 19;
/// Marks a column of values that have no Arrow type of their own here.
const ENCODED: &str = "graphodrome.encoded";

/// A manifest's layout: tables in order, each with its segments.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct Layout {
    pub nodes: Vec<TableLayout>,
    pub edges: Vec<TableLayout>,
    /// What is changed of these tables' elements, as log entries have it; absent where nothing is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub residue: Option<i64>,
}

impl Layout {
    pub fn name_segments(&mut self, ids: &[i64]) {
        for table in self.nodes.iter_mut().chain(&mut self.edges) {
            table.segments.iter_mut().for_each(|s| *s = ids[*s as usize]);
        }
        self.residue = self.residue.map(|place| ids[place as usize]);
    }

    /// All segments, nodes first, in the order in which [`decode`] wants them; the residue last.
    pub fn segment_ids(&self) -> Vec<i64> {
        let tables = self.nodes.iter().chain(&self.edges).flat_map(|t| t.segments.iter().copied());
        tables.chain(self.residue).collect()
    }

    /// This layout's tables and those of a level on top of them.
    pub fn with_level(&self, level: Layout) -> Layout {
        Layout {
            nodes: self.nodes.iter().cloned().chain(level.nodes).collect(),
            edges: self.edges.iter().cloned().chain(level.edges).collect(),
            residue: level.residue,
        }
    }
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct TableLayout {
    pub labels: LabelSet,
    pub directed: bool,
    pub rows: usize,
    /// First id where the ids are a sequence; otherwise they are a column.
    pub first_id: Option<u64>,
    pub segments: Vec<i64>,
}

/// A segment to be written.
pub(crate) struct Segment {
    pub data: Vec<u8>,
    pub checksum: i64,
}

fn damaged(what: impl std::fmt::Display) -> StoreError {
    StoreError::Damaged(what.to_string())
}

/// Cuts a base's tables, from the given node and edge table on, into segments. The layout names them by
/// their place in the list until [`Layout::name_segments`] gives them their ids.
pub(crate) fn encode(
    base: &Base, (first_node, first_edge): (usize, usize),
    go_on: &(dyn Fn() -> Result<(), GraphError> + Sync),
) -> Result<(Layout, Vec<Segment>), StoreError> {
    struct Cut {
        table: usize,
        is_edge: bool,
        start: usize,
        rows: usize,
    }
    let mut cuts = vec![];
    let mut add = |table: usize, is_edge: bool, len: usize| {
        for start in (0..len).step_by(SEGMENT_ROWS) {
            cuts.push(Cut { table, is_edge, start, rows: SEGMENT_ROWS.min(len - start) });
        }
    };
    base.nodes.iter().enumerate().skip(first_node).for_each(|(t, table)| add(t, false, table.len));
    base.edges.iter().enumerate().skip(first_edge).for_each(|(t, table)| add(t, true, table.len));
    let segments: Vec<Segment> = cuts
        .par_iter()
        .map(|cut| {
            go_on()?;
            let batch = if cut.is_edge {
                edge_batch(base, cut.table, cut.start, cut.rows)
            } else {
                node_batch(base, cut.table, cut.start, cut.rows)
            }?;
            let data = to_bytes(&batch)?;
            let checksum = crc32fast::hash(&data) as i64;
            Ok(Segment { data, checksum })
        })
        .collect::<Result<_, StoreError>>()?;
    let names = |is_edge: bool, table: usize| -> Vec<i64> {
        let of_table = |(_, cut): &(usize, &Cut)| cut.is_edge == is_edge && cut.table == table;
        cuts.iter().enumerate().filter(of_table).map(|(place, _)| place as i64).collect()
    };
    let first = |ids: &Ids| match ids {
        Ids::Sequence(start) => Some(*start),
        Ids::Listed(_) => None,
    };
    let layout = Layout {
        nodes: (first_node..base.nodes.len())
            .map(|t| TableLayout {
                labels: base.nodes[t].labels.clone(),
                directed: true,
                rows: base.nodes[t].len,
                first_id: first(&base.nodes[t].ids),
                segments: names(false, t),
            })
            .collect(),
        edges: (first_edge..base.edges.len())
            .map(|t| TableLayout {
                labels: base.edges[t].labels.clone(),
                directed: base.edges[t].directed,
                rows: base.edges[t].len,
                first_id: first(&base.edges[t].ids),
                segments: names(true, t),
            })
            .collect(),
        residue: None,
    };
    Ok((layout, segments))
}

/// Adds what is changed of a base's elements to its segments.
pub(crate) fn add_residue(
    layout: &mut Layout, segments: &mut Vec<Segment>, residue: &[Change],
) -> Result<(), StoreError> {
    if !residue.is_empty() {
        let data = postcard::to_stdvec(residue).map_err(damaged)?;
        layout.residue = Some(segments.len() as i64);
        segments.push(Segment { checksum: crc32fast::hash(&data) as i64, data });
    }
    Ok(())
}

/// The residue out of the segments of a layout, whose last it is.
pub(crate) fn read_residue(
    layout: &Layout, data: &mut Vec<(Vec<u8>, i64)>,
) -> Result<Vec<Change>, StoreError> {
    if layout.residue.is_none() {
        return Ok(vec![]);
    }
    let (bytes, checksum) = data.pop().ok_or_else(|| damaged("the residue is missing"))?;
    if crc32fast::hash(&bytes) as i64 != checksum {
        return Err(damaged("a segment's checksum is wrong"));
    }
    postcard::from_bytes(&bytes).map_err(damaged)
}

fn ids_array(ids: &Ids, start: usize, rows: usize) -> Option<ArrayRef> {
    match ids {
        Ids::Sequence(_) => None,
        Ids::Listed(_) => {
            Some(Arc::new(UInt64Array::from_iter_values((start..start + rows).map(|row| ids.get(row)))))
        }
    }
}

fn node_batch(base: &Base, table: usize, start: usize, rows: usize) -> Result<RecordBatch, StoreError> {
    let table = &base.nodes[table];
    let mut fields: Vec<(Field, ArrayRef)> = vec![];
    if let Some(ids) = ids_array(&table.ids, start, rows) {
        fields.push((Field::new("#id", ids.data_type().clone(), false), ids));
    }
    add_columns(&mut fields, &table.columns, start, rows)?;
    if fields.is_empty() {
        // A table without properties still has rows.
        let rows: ArrayRef = Arc::new(BooleanArray::from(vec![true; rows]));
        fields.push((Field::new("#row", rows.data_type().clone(), false), rows));
    }
    record_batch(fields)
}

fn edge_batch(base: &Base, table: usize, start: usize, rows: usize) -> Result<RecordBatch, StoreError> {
    let table = &base.edges[table];
    let mut sources = Vec::with_capacity(rows);
    let mut owner = table.forward.owner(start);
    for entry in start..start + rows {
        while table.forward.row(owner).end <= entry {
            owner += 1;
        }
        sources.push(owner);
    }
    let targets = table.forward.all_neighbours()[start..start + rows].to_vec();
    let mut fields: Vec<(Field, ArrayRef)> = vec![];
    for (name, ends) in [("#source", sources), ("#target", targets)] {
        let array: ArrayRef = Arc::new(UInt32Array::from(ends));
        fields.push((Field::new(name, array.data_type().clone(), false), array));
    }
    if let Some(ids) = ids_array(&table.ids, start, rows) {
        fields.push((Field::new("#id", ids.data_type().clone(), false), ids));
    }
    add_columns(&mut fields, &table.columns, start, rows)?;
    record_batch(fields)
}

fn record_batch(fields: Vec<(Field, ArrayRef)>) -> Result<RecordBatch, StoreError> {
    let (fields, arrays): (Vec<Field>, Vec<ArrayRef>) = fields.into_iter().unzip();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).map_err(damaged)
}

fn add_columns(
    fields: &mut Vec<(Field, ArrayRef)>, columns: &[(Arc<str>, Column)], start: usize, rows: usize,
) -> Result<(), StoreError> {
    for (name, column) in columns {
        let (array, encoded): (ArrayRef, bool) = match column {
            Column::Bool(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Int(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Float(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Date(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Text(a) => (Arc::new(a.slice(start, rows)), false),
            Column::Coded(codes, texts) => {
                (Arc::new(Column::dictionary(&codes.slice(start, rows), texts)), false)
            }
            Column::Other(values) => {
                let mut encoded: Vec<Option<Vec<u8>>> = Vec::with_capacity(rows);
                for value in &values[start..start + rows] {
                    encoded.push(match value {
                        Value::Null => None,
                        value => Some(postcard::to_stdvec(value).map_err(damaged)?),
                    });
                }
                (Arc::new(BinaryArray::from_iter(encoded)), true)
            }
        };
        let mut field = Field::new(&**name, array.data_type().clone(), true);
        if encoded {
            field = field.with_metadata(std::collections::HashMap::from([(
                ENCODED.to_string(),
                "postcard".to_string(),
            )]));
        }
        fields.push((field, array));
    }
    Ok(())
}

fn to_bytes(batch: &RecordBatch) -> Result<Vec<u8>, StoreError> {
    let options =
        IpcWriteOptions::default().try_with_compression(Some(CompressionType::LZ4_FRAME)).map_err(damaged)?;
    let mut writer = StreamWriter::try_new_with_options(vec![], &batch.schema(), options).map_err(damaged)?;
    writer.write(batch).map_err(damaged)?;
    writer.into_inner().map_err(damaged)
}

fn from_bytes(data: &[u8]) -> Result<RecordBatch, StoreError> {
    let mut reader = StreamReader::try_new(Cursor::new(data), None).map_err(damaged)?;
    reader.next().ok_or_else(|| damaged("a segment is empty"))?.map_err(damaged)
}

/// Puts a base's parts together from its segments, given in the order of the layout.
pub(crate) fn decode(layout: &Layout, data: &[(Vec<u8>, i64)]) -> Result<BaseParts, StoreError> {
    let batches: Vec<RecordBatch> = data
        .par_iter()
        .map(|(bytes, checksum)| {
            if crc32fast::hash(bytes) as i64 != *checksum {
                return Err(damaged("a segment's checksum is wrong"));
            }
            from_bytes(bytes)
        })
        .collect::<Result<_, _>>()?;
    let mut batches = batches.into_iter();
    let mut take =
        |table: &TableLayout| -> Vec<RecordBatch> { batches.by_ref().take(table.segments.len()).collect() };
    let mut parts = BaseParts::default();
    for table in &layout.nodes {
        let batches = take(table);
        check_rows(table, &batches)?;
        parts.nodes.push(NodePart {
            labels: table.labels.clone(),
            len: table.rows,
            ids: read_ids(table, &batches)?,
            columns: read_columns(&batches)?,
        });
    }
    for table in &layout.edges {
        let batches = take(table);
        check_rows(table, &batches)?;
        parts.edges.push(EdgePart {
            labels: table.labels.clone(),
            directed: table.directed,
            ids: read_ids(table, &batches)?,
            sources: read_ends(&batches, "#source")?,
            targets: read_ends(&batches, "#target")?,
            columns: read_columns(&batches)?,
        });
    }
    Ok(parts)
}

fn check_rows(table: &TableLayout, batches: &[RecordBatch]) -> Result<(), StoreError> {
    let rows: usize = batches.iter().map(RecordBatch::num_rows).sum();
    if rows == table.rows {
        Ok(())
    } else {
        Err(damaged(format!("a table has {rows} rows instead of {}", table.rows)))
    }
}

fn read_ids(table: &TableLayout, batches: &[RecordBatch]) -> Result<Ids, StoreError> {
    if let Some(first) = table.first_id {
        return Ok(Ids::Sequence(first));
    }
    let mut ids = Vec::with_capacity(table.rows);
    for batch in batches {
        let column = batch.column_by_name("#id").and_then(|c| c.as_any().downcast_ref::<UInt64Array>());
        ids.extend_from_slice(column.ok_or_else(|| damaged("a segment has no ids"))?.values());
    }
    Ok(Ids::from_vec(ids))
}

fn read_ends(batches: &[RecordBatch], name: &str) -> Result<Vec<u32>, StoreError> {
    let mut ends = vec![];
    for batch in batches {
        let column = batch.column_by_name(name).and_then(|c| c.as_any().downcast_ref::<UInt32Array>());
        ends.extend_from_slice(column.ok_or_else(|| damaged(format!("a segment has no {name}")))?.values());
    }
    Ok(ends)
}

fn read_columns(batches: &[RecordBatch]) -> Result<Vec<(Arc<str>, Column)>, StoreError> {
    let Some(first) = batches.first() else { return Ok(vec![]) };
    let schema = first.schema();
    let mut columns = vec![];
    for field in schema.fields().iter().filter(|f| !f.name().starts_with('#')) {
        let mut parts = vec![];
        for batch in batches {
            let array =
                batch.column_by_name(field.name()).ok_or_else(|| damaged("a segment lacks a column"))?;
            parts.push(read_column(array, field.metadata().contains_key(ENCODED))?);
        }
        let column = if parts.len() == 1 { parts.remove(0) } else { concatenate(&parts) };
        columns.push((Arc::from(field.name().as_str()), column));
    }
    Ok(columns)
}

fn concatenate(parts: &[Column]) -> Column {
    macro_rules! of_kind {
        ($variant:ident) => {{
            let arrays: Option<Vec<&dyn Array>> = parts
                .iter()
                .map(|part| match part {
                    Column::$variant(array) => Some(array as &dyn Array),
                    _ => None,
                })
                .collect();
            // Whole buffers behind one another.
            if let Some(Ok(joined)) = arrays.map(|arrays| arrow_select::concat::concat(&arrays))
                && let Some(array) = joined.as_any().downcast_ref()
            {
                return Column::$variant(Clone::clone(array));
            }
        }};
    }
    match parts.first() {
        Some(Column::Int(_)) => of_kind!(Int),
        Some(Column::Float(_)) => of_kind!(Float),
        Some(Column::Date(_)) => of_kind!(Date),
        Some(Column::Bool(_)) => of_kind!(Bool),
        Some(Column::Text(_)) => of_kind!(Text),
        _ => {}
    }
    let picks: Vec<graphodrome_graph::Pick> = parts
        .iter()
        .enumerate()
        .flat_map(|(part, column)| {
            (0..column.len()).map(move |row| graphodrome_graph::Pick { part: part as u32, row: row as u32 })
        })
        .collect();
    Column::gather(&parts.iter().collect::<Vec<_>>(), &picks)
}

fn read_column(array: &ArrayRef, encoded: bool) -> Result<Column, StoreError> {
    let any = array.as_any();
    if encoded {
        let bytes =
            any.downcast_ref::<BinaryArray>().ok_or_else(|| damaged("an encoded column is no binary"))?;
        let mut builder = ColumnBuilder::with_capacity(bytes.len());
        for row in 0..bytes.len() {
            builder.push(if bytes.is_null(row) {
                Value::Null
            } else {
                postcard::from_bytes(bytes.value(row)).map_err(damaged)?
            });
        }
        return Ok(builder.finish());
    }
    if let Some(a) = any.downcast_ref::<BooleanArray>() {
        return Ok(Column::Bool(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<Int64Array>() {
        return Ok(Column::Int(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<Float64Array>() {
        return Ok(Column::Float(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<Date32Array>() {
        return Ok(Column::Date(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<LargeStringArray>() {
        return Ok(Column::Text(a.clone()));
    }
    if let Some(a) = any.downcast_ref::<DictionaryArray<UInt32Type>>() {
        let texts = a
            .values()
            .as_any()
            .downcast_ref::<StringArray>()
            .ok_or_else(|| damaged("a dictionary of no texts"))?;
        let texts: Vec<Arc<str>> = (0..texts.len()).map(|i| Arc::from(texts.value(i))).collect();
        return Ok(Column::Coded(a.keys().clone(), texts.into()));
    }
    Err(damaged(format!("a column of the type {}", array.data_type())))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, ValueType, label_set, parse_text};

    /// A value of every type that can be stored.
    fn values() -> Vec<Value> {
        let parse = |wanted: ValueType, text: &str| parse_text(&wanted, text).unwrap();
        vec![
            Value::Null,
            Value::Bool(true),
            Value::Int(i64::MIN),
            Value::Float(-0.5),
            parse(ValueType::Decimal { precision: 10, scale: 2 }, "12.50"),
            Value::text("Älder"),
            parse(ValueType::Bytes { min: 0, max: None }, "00ff"),
            parse(ValueType::Date, "1899-12-31"),
            parse(ValueType::LocalTime, "13:45:10.5"),
            parse(ValueType::ZonedTime, "13:45:10+02:00"),
            parse(ValueType::LocalDateTime, "2024-05-31T13:45:10"),
            parse(ValueType::ZonedDateTime, "2024-05-31T13:45:10+01:00"),
            parse(ValueType::Duration, "P1Y2M3DT4H"),
            Value::list(vec![Value::Int(1), Value::text("x"), Value::Null]),
            Value::Record(vec![("a".into(), Value::Int(1))].into()),
        ]
    }

    fn graph() -> Snapshot {
        let mut t = Transaction::new(Snapshot::empty(None).unwrap());
        let mut last = None;
        for value in values() {
            for label in ["A", "B"] {
                let properties = vec![
                    ("mixed".into(), value.clone()),
                    (format!("p{}", value.type_name()).as_str().into(), value.clone()),
                ];
                let node = t.insert_node(NewNode { labels: label_set([label]), properties }).unwrap();
                if let Some(source) = last.replace(node) {
                    let properties = vec![("mixed".into(), value.clone())];
                    let directed = label == "A";
                    t.insert_edge(NewEdge {
                        labels: label_set(["E"]),
                        properties,
                        directed,
                        source,
                        target: node,
                    })
                    .unwrap();
                }
            }
        }
        t.finish().unwrap().0
    }

    fn shown(snapshot: &Snapshot) -> Vec<String> {
        let nodes = (0..snapshot.node_bound())
            .map(|n| format!("{} {:?}", snapshot.node_id(n), snapshot.node_properties(n)));
        let edges = (0..snapshot.edge_bound()).map(|e| {
            let (a, b) = snapshot.edge_ends(e);
            let ends = (snapshot.node_id(a), snapshot.node_id(b));
            format!(
                "{} {ends:?} {:?} {:?}",
                snapshot.edge_id(e),
                snapshot.edge_directed(e),
                snapshot.edge_properties(e)
            )
        });
        let mut all: Vec<String> = nodes.chain(edges).collect();
        all.sort();
        all
    }

    #[test]
    fn every_type_survives_segments_and_the_log() {
        let before = graph();
        let base = Base::build(before.fold(), &Default::default()).unwrap();
        let (layout, segments) = encode(&base, (0, 0), &|| Ok(())).unwrap();
        let data: Vec<(Vec<u8>, i64)> = segments.into_iter().map(|s| (s.data, s.checksum)).collect();
        let read = Base::build(decode(&layout, &data).unwrap(), &Default::default()).unwrap();
        assert_eq!(shown(&Snapshot::new(Arc::new(read), Default::default(), 1)), shown(&before));

        let mut t = Transaction::new(Snapshot::empty(None).unwrap());
        for value in values() {
            t.insert_node(NewNode { labels: label_set(["A"]), properties: vec![("p".into(), value)] })
                .unwrap();
        }
        let (after, changes) = t.finish().unwrap();
        let bytes = crate::graph_handle::encode_changes(&changes).unwrap();
        let replayed: Vec<graphodrome_graph::Change> = postcard::from_bytes(&bytes).unwrap();
        let again = Snapshot::empty(None).unwrap().replay(&replayed).unwrap();
        assert_eq!(shown(&again), shown(&after));
    }

    #[test]
    fn a_flipped_bit_is_found() {
        let base = Base::build(graph().fold(), &Default::default()).unwrap();
        let (layout, segments) = encode(&base, (0, 0), &|| Ok(())).unwrap();
        let mut data: Vec<(Vec<u8>, i64)> = segments.into_iter().map(|s| (s.data, s.checksum)).collect();
        let middle = data[0].0.len() / 2;
        data[0].0[middle] ^= 1;
        assert!(matches!(decode(&layout, &data), Err(StoreError::Damaged(_))));
    }
}
