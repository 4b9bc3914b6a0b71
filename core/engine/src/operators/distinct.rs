//! Distinct: each row once, by the columns named; nulls are the same.

use std::sync::Arc;

use hashbrown::HashSet;

use graphodrome_graph::{Unit, Value};

use crate::batch::{Batch, NO_ELEMENT, Vector, value_bytes};
use crate::context::Context;
use crate::numbers::Cells;
use crate::operators::group_keys::whole_number;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct Distinct {
    pub slots: Vec<usize>,
    pub shown: String,
}

impl OperatorPlan for Distinct {
    fn name(&self) -> &'static str {
        "Distinct"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("by", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let packed = SeenRows { alone: self.slots.len() == 1, ..SeenRows::default() };
        Box::new(DistinctRun { plan: self, input: inputs.remove(0), seen: HashSet::new(), packed })
    }
}

/// Columns of a row that is packed.
const MOST_CELLS: usize = 4;

/// A row of elements, whole numbers, days and nulls: a tag a cell says which.
#[derive(Clone, Copy, Default, PartialEq, Eq, Hash)]
struct Packed {
    tags: [u8; MOST_CELLS],
    cells: [i64; MOST_CELLS],
}

const NODE: u8 = 1;
const EDGE: u8 = 2;
const WHOLE: u8 = 3;
const DAY: u8 = 4;
const LOCAL_TIME: u8 = 5;
const LOCAL_DATETIME: u8 = 6;
const ZONED_DATETIME: u8 = 7;

/// A multiple of a unit. Decimals are told by their whole numbers, as other types have equal values.
fn pack_unit(unit: Unit, number: i64) -> Option<(u8, i64)> {
    match unit {
        Unit::Decimal { .. } => whole_number(&unit.value(number)).map(|whole| (WHOLE, whole)),
        Unit::LocalTime => Some((LOCAL_TIME, number)),
        Unit::LocalDateTime => Some((LOCAL_DATETIME, number)),
        Unit::ZonedDateTime { .. } => Some((ZONED_DATETIME, number)),
    }
}

/// A cell packed, the same for all values that are equal; `None` where a value has another form.
fn pack(column: &Vector, row: usize) -> Option<(u8, i64)> {
    let element = |tag: u8, id: u32| if id == NO_ELEMENT { (0, 0) } else { (tag, id.into()) };
    match column {
        Vector::Nodes(nodes) => Some(element(NODE, nodes[row])),
        Vector::Edges(edges) => Some(element(EDGE, edges[row])),
        Vector::Numbers(numbers) if numbers.is_null(row) => Some((0, 0)),
        Vector::Numbers(numbers) => match &numbers.cells {
            Cells::Ints(ints) => Some((WHOLE, ints[row])),
            Cells::Days(days) => Some((DAY, days[row].into())),
            Cells::Units(numbers, unit) => pack_unit(*unit, numbers[row]),
            Cells::Floats(floats) => whole_number(&Value::Float(floats[row])).map(|whole| (WHOLE, whole)),
        },
        Vector::Values(values) => match &values[row] {
            Value::Null => Some((0, 0)),
            Value::Node(node) => Some((NODE, (*node).into())),
            Value::Edge(edge) => Some((EDGE, (*edge).into())),
            date @ Value::Date(_) => date.days().map(|days| (DAY, days.into())),
            other => match Unit::of(other) {
                Some((unit, number)) => pack_unit(unit, number),
                None => whole_number(other).map(|whole| (WHOLE, whole)),
            },
        },
    }
}

/// Rows that are hashed before elements are marked: a query that runs once for each row of another has few, and they are
/// not worth a bit for every element.
const FEW: usize = 256;

/// A row of one element: whether it is a node (0) or an edge (1), and its number.
fn element_of(packed: &Packed) -> Option<(usize, u32)> {
    let kind = [NODE, EDGE].iter().position(|tag| packed.tags == [*tag, 0, 0, 0])?;
    Some((kind, packed.cells[0] as u32))
}

/// Elements that were there before, a bit each.
#[derive(Default)]
struct MarkedValues(Vec<u64>);

impl MarkedValues {
    /// Whether it was not there yet; it is from now on.
    #[inline]
    fn first(&mut self, element: u32) -> bool {
        let (word, bit) = (element as usize / 64, 1 << (element % 64));
        if word >= self.0.len() {
            self.0.resize((word + 1).max(self.0.len() * 2), 0);
        }
        let before = self.0[word];
        self.0[word] |= bit;
        before & bit == 0
    }

    fn bytes(&self) -> usize {
        self.0.len() * 8
    }
}

/// Packed rows that were there before.
#[derive(Default)]
struct SeenRows {
    /// Whether a row is one cell.
    alone: bool,
    packed: HashSet<Packed>,
    /// Of rows that are one node, or one edge.
    marks: [MarkedValues; 2],
}

impl SeenRows {
    /// Whether a packed row is new, and the bytes that it takes.
    fn is_first(&mut self, packed: Packed) -> (bool, usize) {
        let marks = match element_of(&packed).filter(|_| self.alone) {
            Some((kind, element)) if self.packed.len() >= FEW => Some((&mut self.marks[kind], element)),
            _ => None,
        };
        let Some((marks, element)) = marks else {
            let first = self.packed.insert(packed);
            // From here on elements are marked, those among the first few too.
            if first && self.packed.len() == FEW && self.alone {
                for (kind, element) in self.packed.iter().filter_map(element_of) {
                    self.marks[kind].first(element);
                }
                let marked = self.marks.iter().map(MarkedValues::bytes).sum::<usize>();
                return (true, size_of::<Packed>() + 8 + marked);
            }
            return (first, if first { size_of::<Packed>() + 8 } else { 0 });
        };
        let before = marks.bytes();
        let first = marks.first(element);
        (first, marks.bytes() - before)
    }
}

struct DistinctRun {
    plan: Arc<Distinct>,
    input: Input,
    seen: HashSet<Vec<Value>>,
    packed: SeenRows,
}

impl DistinctRun {
    fn pack(&self, batch: &Batch, row: usize) -> Option<Packed> {
        let slots = &self.plan.slots;
        if slots.len() > MOST_CELLS {
            return None;
        }
        let mut packed = Packed::default();
        for (place, slot) in slots.iter().enumerate() {
            (packed.tags[place], packed.cells[place]) = pack(&batch.columns[*slot], row)?;
        }
        Some(packed)
    }
}

impl Operator for DistinctRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let mut kept = vec![];
            let mut new_bytes = 0;
            let typed = context.scope.typed_reads;
            for row in 0..batch.len {
                if let Some(packed) = typed.then(|| self.pack(&batch, row)).flatten() {
                    let (first, bytes) = self.packed.is_first(packed);
                    new_bytes += bytes;
                    if first {
                        kept.push(row as u32);
                    }
                    continue;
                }
                let key: Vec<Value> = self.plan.slots.iter().map(|&s| batch.columns[s].get(row)).collect();
                let bytes: usize = key.iter().map(value_bytes).sum();
                if self.seen.insert(key) {
                    new_bytes += bytes + 32;
                    kept.push(row as u32);
                }
            }
            context.reserve(new_bytes)?;
            context.work(batch.len as u64)?;
            if !kept.is_empty() {
                return Ok(Some(batch.gather(&kept)));
            }
        }
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Nodes among nulls and numbers, beyond the few that are hashed: each is new once.
    #[test]
    fn elements_are_new_once_whether_hashed_or_marked() {
        let mut seen = SeenRows { alone: true, ..SeenRows::default() };
        let mut known = std::collections::BTreeSet::new();
        for n in 0..3_000u32 {
            let (tag, cell) =
                [(NODE, n * 7 % 907), (EDGE, n * 11 % 701), (WHOLE, n % 50), (0, 0)][(n % 4) as usize];
            let mut row = Packed::default();
            (row.tags[0], row.cells[0]) = (tag, i64::from(cell));
            assert_eq!(seen.is_first(row).0, known.insert((tag, cell)), "{n}: {tag} {cell}");
        }
        assert!(known.len() > 2 * FEW);
    }
}
