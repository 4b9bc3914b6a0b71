//! Batches: what operators pass to each other. Elements are numbers, values are fetched late.

use graphodrome_graph::{Dense, Value};

use crate::budget::bytes_up_to;
use crate::numbers::{Cells, Numbers};

/// Rows an operator aims at per batch.
pub const BATCH_ROWS: usize = 1024;

/// Stands for null in a column of nodes or edges.
pub const NO_ELEMENT: Dense = Dense::MAX;

#[derive(Clone, Debug)]
pub enum Vector {
    Nodes(Vec<Dense>),
    Edges(Vec<Dense>),
    Values(Vec<Value>),
    /// Numbers or days, all of one type or null.
    Numbers(Numbers),
}

impl Vector {
    pub fn len(&self) -> usize {
        match self {
            Vector::Nodes(v) | Vector::Edges(v) => v.len(),
            Vector::Values(v) => v.len(),
            Vector::Numbers(v) => v.cells.len(),
        }
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    pub fn get(&self, row: usize) -> Value {
        match self {
            Vector::Nodes(v) if v[row] == NO_ELEMENT => Value::Null,
            Vector::Nodes(v) => Value::Node(v[row]),
            Vector::Edges(v) if v[row] == NO_ELEMENT => Value::Null,
            Vector::Edges(v) => Value::Edge(v[row]),
            Vector::Values(v) => v[row].clone(),
            Vector::Numbers(v) => v.get(row),
        }
    }

    pub fn gather(&self, rows: &[u32]) -> Vector {
        match self {
            Vector::Nodes(v) => Vector::Nodes(rows.iter().map(|&r| v[r as usize]).collect()),
            Vector::Edges(v) => Vector::Edges(rows.iter().map(|&r| v[r as usize]).collect()),
            Vector::Values(v) => Vector::Values(rows.iter().map(|&r| v[r as usize].clone()).collect()),
            Vector::Numbers(v) => Vector::Numbers(v.gather(rows)),
        }
    }

    /// Values as a column of one type, where all are whole numbers.
    pub fn of_values(values: Vec<Value>) -> Vector {
        let int = |value: &Value| match value {
            Value::Int(int) => Some(*int),
            _ => None,
        };
        match values.iter().map(int).collect::<Option<Vec<i64>>>() {
            Some(ints) if !ints.is_empty() => Vector::ints(ints),
            _ => Vector::Values(values),
        }
    }

    pub fn ints(ints: Vec<i64>) -> Vector {
        Vector::Numbers(Numbers { cells: Cells::Ints(ints), nulls: vec![] })
    }

    /// An empty vector of the same kind.
    pub fn empty_like(&self) -> Vector {
        match self {
            Vector::Nodes(_) => Vector::Nodes(vec![]),
            Vector::Edges(_) => Vector::Edges(vec![]),
            Vector::Values(_) | Vector::Numbers(_) => Vector::Values(vec![]),
        }
    }

    pub fn push_null(&mut self) {
        match self {
            Vector::Nodes(v) | Vector::Edges(v) => v.push(NO_ELEMENT),
            Vector::Values(v) => v.push(Value::Null),
            Vector::Numbers(_) => self.push(Value::Null),
        }
    }

    /// Adds a value; an element goes into a column of its kind as its number.
    pub fn push(&mut self, value: Value) {
        if let Vector::Numbers(numbers) = self {
            // Values one by one are of any type.
            let mut values: Vec<Value> = (0..numbers.cells.len()).map(|row| numbers.get(row)).collect();
            values.push(value);
            *self = Vector::Values(values);
            return;
        }
        match (self, value) {
            (Vector::Nodes(v), Value::Node(n)) | (Vector::Edges(v), Value::Edge(n)) => v.push(n),
            (Vector::Values(v), value) => v.push(value),
            (vector, _) => vector.push_null(),
        }
    }

    pub fn append(&mut self, other: Vector) {
        match (self, other) {
            (Vector::Nodes(a), Vector::Nodes(b)) | (Vector::Edges(a), Vector::Edges(b)) => a.extend(b),
            (Vector::Values(a), Vector::Values(b)) => a.extend(b),
            (a @ Vector::Values(_), b @ Vector::Numbers(_)) if a.is_empty() => *a = b,
            (Vector::Numbers(a), Vector::Numbers(b)) if a.is_like(&b) => a.append(&b),
            (a, b) => (0..b.len()).for_each(|row| a.push(b.get(row))),
        }
    }

    /// Bytes held, for the memory budget.
    pub fn bytes(&self) -> usize {
        match self {
            Vector::Nodes(v) | Vector::Edges(v) => v.len() * 4,
            Vector::Values(v) => v.iter().map(value_bytes).sum(),
            Vector::Numbers(v) => v.bytes(),
        }
    }

    /// [`Self::bytes`], counted no further than `most`.
    pub(crate) fn bytes_up_to(&self, most: usize) -> usize {
        let Vector::Values(values) = self else { return self.bytes() };
        let mut bytes = 0;
        for value in values {
            bytes += bytes_up_to(value, most - bytes);
            if bytes > most {
                break;
            }
        }
        bytes
    }
}

/// Bytes of a value with what it owns, for the memory budget.
#[inline]
pub fn value_bytes(value: &Value) -> usize {
    match value {
        Value::List(_) | Value::Record(_) => bytes_up_to(value, MOST_COUNTED),
        Value::Text(t) => size_of::<Value>() + t.len(),
        Value::Bytes(b) => size_of::<Value>() + b.len(),
        Value::Path(p) => size_of::<Value>() + 4 * (p.nodes.len() + p.edges.len()),
        _ => size_of::<Value>(),
    }
}

/// Bytes of one value that are counted: more than any query may hold.
const MOST_COUNTED: usize = 64 << 30;

#[derive(Clone, Debug, Default)]
pub struct Batch {
    pub len: usize,
    pub columns: Vec<Vector>,
}

impl Batch {
    /// One row without columns: what a query begins with.
    pub fn unit() -> Batch {
        Batch { len: 1, columns: vec![] }
    }

    pub fn gather(&self, rows: &[u32]) -> Batch {
        Batch { len: rows.len(), columns: self.columns.iter().map(|c| c.gather(rows)).collect() }
    }

    /// The node in a slot: [`NO_ELEMENT`] where there is none.
    pub fn node(&self, slot: usize, row: usize) -> Dense {
        match &self.columns[slot] {
            Vector::Nodes(nodes) => nodes[row],
            _ => NO_ELEMENT,
        }
    }

    pub fn append(&mut self, other: Batch) {
        if self.columns.is_empty() && self.len == 0 {
            *self = other;
            return;
        }
        self.len += other.len;
        for (a, b) in self.columns.iter_mut().zip(other.columns) {
            a.append(b);
        }
    }

    pub fn bytes(&self) -> usize {
        self.columns.iter().map(Vector::bytes).sum()
    }

    /// [`Self::bytes`], counted no further than `most`.
    pub(crate) fn bytes_up_to(&self, most: usize) -> usize {
        let mut bytes = 0;
        for column in &self.columns {
            bytes += column.bytes_up_to(most.saturating_sub(bytes));
            if bytes > most {
                break;
            }
        }
        bytes
    }
}
