//! Segments: a base's tables cut into record batches, each an Arrow IPC stream with LZ4 and a
//! checksum. Reverse adjacency, key indexes and statistics are derived when a graph is opened.

use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::builder::{
    BooleanBuilder, Date32Builder, Float64Builder, LargeStringBuilder, UInt32Builder,
};
use arrow_array::types::Int32Type;
use arrow_array::{
    Array, ArrayRef, BooleanArray, Int32Array, RecordBatch, RunArray, UInt32Array, UInt64Array,
};
use arrow_buffer::Buffer;
use arrow_ipc::CompressionType;
use arrow_ipc::reader::StreamDecoder;
use arrow_ipc::writer::{IpcWriteOptions, StreamWriter};
use arrow_schema::{Field, Schema};
use graphodrome_graph::{
    BaseParts, Change, Column, Dense, EdgePart, EdgeTable, ForwardBuilder, Ids, IntsBuilder, LabelSet,
    NodePart, NodeTable, Pick, StoredTables, Unit,
};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::StoreError;
use crate::stored_columns::{add_columns, damaged, read_column};

/// Rows of a segment: few enough that its columns, made or read, stay close to the processor.
const SEGMENT_ROWS: usize = if cfg!(test) { 8 } else { 1 << 17 };

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
    /// The tables' segments, nodes first, in the order in which [`Assembly`] wants them.
    pub fn table_segments(&self) -> Vec<i64> {
        self.nodes.iter().chain(&self.edges).flat_map(|t| t.segments.iter().copied()).collect()
    }

    /// All segments, the residue last.
    pub fn segment_ids(&self) -> Vec<i64> {
        self.table_segments().into_iter().chain(self.residue).collect()
    }

    /// Whether both are made of the same tables, whatever lies above them.
    pub fn same_tables(&self, other: &Layout) -> bool {
        self.nodes == other.nodes && self.edges == other.edges
    }

    /// The same tables with other numbers for their segments.
    pub fn renumbered(mut self, numbers: &BTreeMap<i64, i64>) -> Layout {
        let renumber = |id: &mut i64| *id = numbers.get(id).copied().unwrap_or(*id);
        self.nodes.iter_mut().chain(&mut self.edges).flat_map(|t| &mut t.segments).for_each(renumber);
        self.residue.iter_mut().for_each(renumber);
        self
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

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct TableLayout {
    pub labels: LabelSet,
    pub directed: bool,
    pub rows: usize,
    /// First id where the ids are a sequence; otherwise they are a column.
    pub first_id: Option<u64>,
    pub segments: Vec<i64>,
}

/// Tables cut into segments, which are made one by one.
pub(crate) struct Outline {
    tables: StoredTables,
    cuts: Vec<Cut>,
    /// The last segment, where there is one.
    residue: Option<Vec<u8>>,
}

struct Cut {
    table: usize,
    is_edge: bool,
    start: usize,
    rows: usize,
}

impl Outline {
    /// `residue` is what is changed of elements of other tables.
    pub fn new(tables: StoredTables, residue: &[Change]) -> Result<Outline, StoreError> {
        let mut cuts = vec![];
        let mut add = |table: usize, is_edge: bool, len: usize| {
            for start in (0..len).step_by(SEGMENT_ROWS) {
                cuts.push(Cut { table, is_edge, start, rows: SEGMENT_ROWS.min(len - start) });
            }
        };
        tables.nodes.iter().enumerate().for_each(|(t, table)| add(t, false, table.len));
        tables.edges.iter().enumerate().for_each(|(t, table)| add(t, true, table.forward.len()));
        let residue = match residue.is_empty() {
            true => None,
            false => Some(postcard::to_stdvec(residue).map_err(damaged)?),
        };
        Ok(Outline { tables, cuts, residue })
    }

    /// How many segments there are.
    pub fn len(&self) -> usize {
        self.cuts.len() + self.residue.is_some() as usize
    }

    /// A segment as it is stored: its bytes, and their checksum in the last four.
    pub fn segment(&self, place: usize) -> Result<Vec<u8>, StoreError> {
        let mut data = match (self.cuts.get(place), &self.residue) {
            (Some(cut), _) => to_bytes(&if cut.is_edge {
                edge_batch(&self.tables.edges[cut.table], cut.start, cut.rows)
            } else {
                node_batch(&self.tables.nodes[cut.table], cut.start, cut.rows)
            }?)?,
            (None, Some(residue)) => residue.clone(),
            (None, None) => return Err(damaged("there is no such segment")),
        };
        data.extend(crc32fast::hash(&data).to_be_bytes());
        Ok(data)
    }

    /// The tables with the ids of their segments, given in their order.
    pub fn layout(&self, ids: &[i64]) -> Layout {
        let named = |is_edge: bool, table: usize| -> Vec<i64> {
            let of_table = |(_, cut): &(&i64, &Cut)| cut.is_edge == is_edge && cut.table == table;
            ids.iter().zip(&self.cuts).filter(of_table).map(|(id, _)| *id).collect()
        };
        let first = |ids: &Ids| match ids {
            Ids::Sequence(start) => Some(*start),
            Ids::Listed(_) => None,
        };
        let nodes = self.tables.nodes.iter().enumerate().map(|(t, table)| TableLayout {
            labels: table.labels.clone(),
            directed: true,
            rows: table.len,
            first_id: first(&table.ids),
            segments: named(false, t),
        });
        let edges = self.tables.edges.iter().enumerate().map(|(t, table)| TableLayout {
            labels: table.labels.clone(),
            directed: table.directed,
            rows: table.forward.len(),
            first_id: first(&table.ids),
            segments: named(true, t),
        });
        let residue = self.residue.as_ref().and_then(|_| ids.last().copied());
        Layout { nodes: nodes.collect(), edges: edges.collect(), residue }
    }
}

/// The bytes of a segment, where its checksum is right.
pub(crate) fn checked(mut data: Vec<u8>) -> Result<Vec<u8>, StoreError> {
    let wrong = || damaged("a segment's checksum is wrong");
    let at = data.len().checked_sub(4).ok_or_else(wrong)?;
    let checksum = crc32fast::hash(&data[..at]).to_be_bytes();
    if data.split_off(at) != checksum {
        return Err(wrong());
    }
    Ok(data)
}

/// What a residue's segment holds.
pub(crate) fn read_residue(data: Vec<u8>) -> Result<Vec<Change>, StoreError> {
    postcard::from_bytes(&checked(data)?).map_err(damaged)
}

fn ids_array(ids: &Ids, start: usize, rows: usize) -> Option<ArrayRef> {
    match ids {
        Ids::Sequence(_) => None,
        Ids::Listed(_) => {
            Some(Arc::new(UInt64Array::from_iter_values((start..start + rows).map(|row| ids.get(row)))))
        }
    }
}

fn node_batch(table: &NodeTable, start: usize, rows: usize) -> Result<RecordBatch, StoreError> {
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

fn edge_batch(table: &EdgeTable, start: usize, rows: usize) -> Result<RecordBatch, StoreError> {
    // Sources in runs: each once, with where its edges end.
    let (mut sources, mut ends, mut owner) = (vec![], vec![], table.forward.owner(start));
    while ends.last().is_none_or(|end| (*end as usize) < rows) {
        let row = table.forward.row(owner);
        if !row.is_empty() {
            sources.push(owner);
            ends.push((row.end.min(start + rows) - start) as i32);
        }
        owner += 1;
    }
    let sources = RunArray::<Int32Type>::try_new(&Int32Array::from(ends), &UInt32Array::from(sources));
    let sources: ArrayRef = Arc::new(sources.map_err(damaged)?);
    let targets: ArrayRef =
        Arc::new(UInt32Array::from(table.forward.all_neighbours()[start..start + rows].to_vec()));
    let mut fields: Vec<(Field, ArrayRef)> = vec![];
    for (name, array) in [("#source", sources), ("#target", targets)] {
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

fn to_bytes(batch: &RecordBatch) -> Result<Vec<u8>, StoreError> {
    let options =
        IpcWriteOptions::default().try_with_compression(Some(CompressionType::LZ4_FRAME)).map_err(damaged)?;
    // About as much as there is before it is packed.
    let bytes = Vec::with_capacity(8 * batch.num_rows() * batch.num_columns());
    let mut writer = StreamWriter::try_new_with_options(bytes, &batch.schema(), options).map_err(damaged)?;
    writer.write(batch).map_err(damaged)?;
    writer.into_inner().map_err(damaged)
}

/// The rows of a table's segment, as they are kept.
pub(crate) struct Rows {
    count: usize,
    ids: Option<UInt64Array>,
    /// Sources of edges in runs, each with how many, and the targets.
    ends: Option<(Vec<(Dense, u32)>, UInt32Array)>,
    columns: Vec<(Arc<str>, Column)>,
}

/// The rows of a table's segment.
pub(crate) fn read_rows(data: Vec<u8>) -> Result<Rows, StoreError> {
    let mut buffer = Buffer::from_vec(checked(data)?);
    let mut decoder = StreamDecoder::new();
    while !buffer.is_empty() {
        if let Some(batch) = decoder.decode(&mut buffer).map_err(damaged)? {
            return rows_of(&batch);
        }
    }
    Err(damaged("a segment is empty"))
}

fn rows_of(batch: &RecordBatch) -> Result<Rows, StoreError> {
    let of_name = |name: &str| batch.column_by_name(name);
    let wrong = |name: &str| damaged(format!("a segment's {name} is not what it should be"));
    let ids = match of_name("#id").map(|column| column.as_any().downcast_ref::<UInt64Array>()) {
        Some(ids) => Some(ids.ok_or_else(|| wrong("#id"))?.clone()),
        None => None,
    };
    let ends = match (of_name("#source"), of_name("#target")) {
        (Some(sources), Some(targets)) => {
            let targets = targets.as_any().downcast_ref::<UInt32Array>().ok_or_else(|| wrong("#target"))?;
            Some((runs_of(sources).ok_or_else(|| wrong("#source"))?, targets.clone()))
        }
        _ => None,
    };
    let schema = batch.schema();
    let fields = schema.fields().iter().zip(batch.columns()).filter(|(f, _)| !f.name().starts_with('#'));
    let column = |(field, array): (&Arc<Field>, &ArrayRef)| {
        Ok((Arc::from(field.name().as_str()), read_column(array, field)?))
    };
    let columns = fields.map(column).collect::<Result<_, StoreError>>()?;
    Ok(Rows { count: batch.num_rows(), ids, ends, columns })
}

/// The sources of a segment's edges, in runs or, as older versions have them, one by one.
fn runs_of(column: &ArrayRef) -> Option<Vec<(Dense, u32)>> {
    let any = column.as_any();
    if let Some(each) = any.downcast_ref::<UInt32Array>() {
        let runs = each.values().chunk_by(|a, b| a == b);
        return Some(runs.map(|run| (run[0], run.len() as u32)).collect());
    }
    let runs = any.downcast_ref::<RunArray<Int32Type>>()?;
    let sources = runs.values().as_any().downcast_ref::<UInt32Array>()?;
    let mut begin = 0;
    let ended = runs.run_ends().values().iter().zip(sources.values()).map(|(end, source)| {
        let length = end - std::mem::replace(&mut begin, *end);
        Some((*source, u32::try_from(length).ok()?))
    });
    ended.collect()
}

/// Puts a base's parts together from the rows of its segments, which come in the order of the layout: each is
/// copied to its place and forgotten.
pub(crate) struct Assembly<'l> {
    /// The tables that are not whole yet, the next one last, and how many segments the next one lacks.
    left: Vec<(bool, &'l TableLayout)>,
    lacking: usize,
    current: TableParts,
    parts: BaseParts,
}

/// A table that is being put together.
#[derive(Default)]
struct TableParts {
    rows: usize,
    ids: Vec<u64>,
    forward: ForwardBuilder,
    columns: Vec<(Arc<str>, Growing)>,
}

/// A column that is being put together.
enum Growing {
    Int(IntsBuilder),
    Float(Float64Builder),
    Date(Date32Builder),
    Units(IntsBuilder, Unit),
    Bool(BooleanBuilder),
    Text(LargeStringBuilder),
    /// All with the same texts.
    Coded(UInt32Builder, Arc<[Arc<str>]>),
    /// Of another kind, or of several.
    Parts(Vec<Column>),
}

impl Growing {
    fn new(first: &Column, rows: usize) -> Growing {
        match first {
            Column::Int(a) => Growing::Int(IntsBuilder::with_capacity(rows, a.width())),
            Column::Float(_) => Growing::Float(Float64Builder::with_capacity(rows)),
            Column::Date(_) => Growing::Date(Date32Builder::with_capacity(rows)),
            Column::Bool(_) => Growing::Bool(BooleanBuilder::with_capacity(rows)),
            Column::Text(a) => {
                let each = a.value_data().len() / a.len().max(1) + 1;
                Growing::Text(LargeStringBuilder::with_capacity(rows, each * rows))
            }
            Column::Coded(_, texts) => Growing::Coded(UInt32Builder::with_capacity(rows), texts.clone()),
            Column::Units(a, unit) => Growing::Units(IntsBuilder::with_capacity(rows, a.width()), *unit),
            Column::Other(_) => Growing::Parts(vec![]),
        }
    }

    fn add(&mut self, part: Column) -> Result<(), StoreError> {
        match (&mut *self, part) {
            (Growing::Int(all), Column::Int(a)) => all.append(&a),
            (Growing::Float(all), Column::Float(a)) => all.append_array(&a),
            (Growing::Date(all), Column::Date(a)) => all.append_array(&a),
            (Growing::Units(all, unit), Column::Units(a, own)) if *unit == own => all.append(&a),
            (Growing::Bool(all), Column::Bool(a)) => all.append_array(&a),
            (Growing::Text(all), Column::Text(a)) => all.append_array(&a).map_err(damaged)?,
            (Growing::Coded(all, texts), Column::Coded(a, own)) if *texts == own => all.append_array(&a),
            (Growing::Parts(all), part) => all.push(part),
            // Values of several types, of which a segment has one alone.
            (_, part) => {
                let before = std::mem::replace(self, Growing::Parts(vec![])).finish();
                *self = Growing::Parts(vec![before, part]);
            }
        }
        Ok(())
    }

    fn finish(self) -> Column {
        match self {
            Growing::Int(all) => Column::Int(all.finish()),
            Growing::Float(mut all) => Column::Float(all.finish()),
            Growing::Date(mut all) => Column::Date(all.finish()),
            Growing::Units(all, unit) => Column::Units(all.finish(), unit),
            Growing::Bool(mut all) => Column::Bool(all.finish()),
            Growing::Text(mut all) => Column::Text(all.finish()),
            Growing::Coded(mut all, texts) => Column::Coded(all.finish(), texts),
            Growing::Parts(mut parts) if parts.len() == 1 => parts.remove(0),
            Growing::Parts(parts) => concatenated(&parts),
        }
    }
}

fn concatenated(parts: &[Column]) -> Column {
    let rows = |(part, column): (usize, &Column)| {
        (0..column.len()).map(move |row| Pick { part: part as u32, row: row as u32 })
    };
    let picks: Vec<Pick> = parts.iter().enumerate().flat_map(rows).collect();
    Column::gather(&parts.iter().collect::<Vec<_>>(), &picks)
}

impl<'l> Assembly<'l> {
    pub fn new(layout: &'l Layout) -> Assembly<'l> {
        let nodes = layout.nodes.iter().map(|table| (false, table));
        let mut left: Vec<_> = nodes.chain(layout.edges.iter().map(|table| (true, table))).collect();
        left.reverse();
        let lacking = left.last().map_or(0, |(_, table)| table.segments.len());
        Assembly { left, lacking, current: TableParts::default(), parts: BaseParts::default() }
    }

    /// Tables without segments have no rows.
    fn pass_whole(&mut self) -> Result<(), StoreError> {
        while self.lacking == 0
            && let Some((is_edge, table)) = self.left.pop()
        {
            let made = std::mem::take(&mut self.current);
            if made.rows != table.rows {
                return Err(damaged(format!("a table has {} rows instead of {}", made.rows, table.rows)));
            }
            let ids = match table.first_id {
                Some(first) => Ids::Sequence(first),
                None => Ids::from_vec(made.ids),
            };
            let columns = made.columns.into_iter().map(|(name, column)| (name, column.finish())).collect();
            let labels = table.labels.clone();
            match is_edge {
                false => self.parts.nodes.push(NodePart { labels, len: table.rows, ids, columns }),
                true => self.parts.edges.push(EdgePart {
                    labels,
                    directed: table.directed,
                    ids,
                    forward: made.forward.finish().ok_or_else(|| damaged("edges are not in order"))?,
                    columns,
                }),
            }
            self.lacking = self.left.last().map_or(0, |(_, table)| table.segments.len());
        }
        Ok(())
    }

    pub fn add(&mut self, rows: Rows) -> Result<(), StoreError> {
        self.pass_whole()?;
        let &(is_edge, table) = self.left.last().ok_or_else(|| damaged("there is a segment too many"))?;
        let made = &mut self.current;
        made.rows += rows.count;
        if table.first_id.is_none() {
            made.ids.extend_from_slice(rows.ids.ok_or_else(|| damaged("a segment has no ids"))?.values());
        }
        if made.rows == rows.count {
            let new = |(name, column): &(Arc<str>, Column)| (name.clone(), Growing::new(column, table.rows));
            made.columns = rows.columns.iter().map(new).collect();
            made.forward = ForwardBuilder::with_capacity(if is_edge { table.rows } else { 0 });
        }
        if !made.columns.iter().map(|c| &c.0).eq(rows.columns.iter().map(|c| &c.0)) {
            return Err(damaged("a segment has other columns"));
        }
        // Each into memory of its own, most of it fresh.
        let (forward, columns) = (&mut made.forward, &mut made.columns);
        let ends = || match (is_edge, rows.ends) {
            (false, _) => Ok(()),
            (true, Some((runs, targets))) => {
                runs.into_iter().for_each(|(source, edges)| forward.run(source, edges));
                forward.targets(targets.values());
                Ok(())
            }
            (true, None) => Err(damaged("a segment of edges has no ends")),
        };
        let columns = || {
            let parts = columns.par_iter_mut().zip(rows.columns);
            parts.map(|((_, column), (_, part))| column.add(part)).collect::<Result<(), StoreError>>()
        };
        let (ends, columns) = rayon::join(ends, columns);
        ends.and(columns)?;
        self.lacking -= 1;
        Ok(())
    }

    pub fn finish(mut self) -> Result<BaseParts, StoreError> {
        self.pass_whole()?;
        if self.left.is_empty() { Ok(self.parts) } else { Err(damaged("there is a segment missing")) }
    }
}

#[cfg(test)]
mod tests;
