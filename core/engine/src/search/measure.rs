//! Measures minimised by shortest paths. Their sums do not depend on the order of additions, so remaining distances
//! can be computed from the end.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::sync::Arc;

use graphodrome_graph::{Code, Column, Dense, Element, Ints, RadixHeap, Value};
use graphodrome_language::Diagnostic;
use hashbrown::HashSet;

use crate::evaluate::Evaluator;
use crate::expression::{Expr, Kind};
use crate::outcome::Outcome;
use crate::quick;
use crate::row::Row;
use crate::search::cost::{BadWeight, Cost};
use crate::search::cursor::Cursor;
use crate::search::queue::Queue;

/// The weight of an edge: an expression on the input row and the search's variables, of which it reads that of
/// its edge alone.
#[derive(Clone, Debug)]
pub(crate) struct EdgeWeight {
    pub expression: Expr,
    /// Which of the search's variables the edge is.
    pub local: usize,
}

pub(crate) trait Measure {
    type Sum: Copy + Ord + std::fmt::Debug + Send;
    type Queue<T: Copy + Ord + Send>: Queue<Self::Sum, T> + Send;
    const ZERO: Self::Sum;
    /// Sums are what SUM has of the same numbers.
    const EXACT: bool;
    /// Every edge costs the same: what is reached first is reached in the cheapest way.
    const LEVELS: bool;

    /// What an edge costs; `None` where it cannot be taken.
    fn of_edge(&mut self, edge: u32, cursor: &mut Cursor<'_>) -> Outcome<Option<Self::Sum>>;

    fn add(&mut self, a: Self::Sum, b: Self::Sum) -> Outcome<Self::Sum>;

    /// The sum as a value, of floats perhaps rounded.
    fn value(&self, sum: Self::Sum) -> Value;

    /// What so many hops cost, where every edge costs the same.
    fn of_hops(hops: u32) -> Self::Sum;

    /// A whole sum, where sums are whole.
    fn of_whole(_: u64) -> Option<Self::Sum> {
        None
    }

    /// So many of 2^-`bits`, rounded down: what a distance bound says is left.
    fn at_least(ticks: u64, bits: i32) -> Self::Sum;

    /// It met a weight that it cannot add: what was found is worth nothing, and another measure must be taken.
    fn gave_up(&self) -> bool {
        false
    }

    /// Edges that have no weight.
    fn impassable(&self) -> usize {
        0
    }
}

pub(crate) struct Hops;

impl Measure for Hops {
    type Sum = u32;
    type Queue<T: Copy + Ord + Send> = BinaryHeap<Reverse<(u32, T)>>;
    const ZERO: u32 = 0;
    const EXACT: bool = true;
    const LEVELS: bool = true;

    fn of_edge(&mut self, _: u32, _: &mut Cursor<'_>) -> Outcome<Option<u32>> {
        Ok(Some(1))
    }

    fn add(&mut self, a: u32, b: u32) -> Outcome<u32> {
        Ok(a.saturating_add(b))
    }

    fn value(&self, sum: u32) -> Value {
        Value::Int(sum.into())
    }

    fn of_hops(hops: u32) -> u32 {
        hops
    }

    /// A bound is over weights, and says nothing of hops.
    fn at_least(_: u64, _: i32) -> u32 {
        0
    }
}

/// Whole numbers of edges, by table: its first edge, and its column.
type Columns = Vec<(Dense, Option<Ints>)>;

/// Sums of whole numbers from 0 up, which most weights are.
pub(crate) struct WholeWeights {
    weight: Arc<EdgeWeight>,
    impassable: HashSet<u32>,
    gave_up: bool,
    locals: Vec<Value>,
    /// Where the weight is one property, the columns of the edges that were not changed, once they were looked up.
    columns: Option<Option<Columns>>,
}

/// The columns of a weight that is a property, and a whole number wherever it is not null.
fn columns(weight: &EdgeWeight, cursor: &Cursor<'_>) -> Option<Columns> {
    let scope = &cursor.context.scope;
    let Kind::EdgeProperty(slot, reader) = &weight.expression.kind else { return None };
    if *slot != cursor.batch.columns.len() + weight.local || !scope.typed_reads {
        return None;
    }
    let of = |(first, column): (Dense, Option<&Column>)| match column {
        None => Some((first, None)),
        Some(Column::Int(numbers)) => Some((first, Some(numbers.clone()))),
        Some(_) => None,
    };
    scope.edge_columns(reader).into_iter().map(of).collect()
}

/// Whether the weight is a property that is a whole number wherever it is not null.
pub(super) fn always_whole(weight: &EdgeWeight, cursor: &Cursor<'_>) -> bool {
    cursor.context.scope.elements_are_base(Element::Edge) && columns(weight, cursor).is_some()
}

fn locals(weight: &EdgeWeight) -> Vec<Value> {
    vec![Value::Null; weight.local + 1]
}

impl WholeWeights {
    pub fn new(weight: Arc<EdgeWeight>) -> WholeWeights {
        let locals = locals(&weight);
        WholeWeights { locals, weight, impassable: HashSet::new(), gave_up: false, columns: None }
    }

    /// The number of an edge in its column, or null; `None` where it has to be read otherwise.
    #[inline]
    fn in_column(&mut self, edge: u32, cursor: &Cursor<'_>) -> Option<Option<i64>> {
        let columns = self.columns.get_or_insert_with(|| columns(&self.weight, cursor)).as_ref()?;
        if !cursor.context.scope.edge_is_base(edge) {
            return None;
        }
        let table = match columns.len() {
            1 => 0,
            _ => columns.partition_point(|(first, _)| *first <= edge).checked_sub(1)?,
        };
        let (first, numbers) = columns.get(table)?;
        let Some(numbers) = numbers else { return Some(None) };
        let row = (edge - first) as usize;
        Some((!numbers.is_null(row)).then(|| numbers.value(row)))
    }
}

impl Measure for WholeWeights {
    type Sum = u64;
    type Queue<T: Copy + Ord + Send> = RadixHeap<T>;
    const ZERO: u64 = 0;
    const EXACT: bool = true;
    const LEVELS: bool = false;

    fn of_edge(&mut self, edge: u32, cursor: &mut Cursor<'_>) -> Outcome<Option<u64>> {
        let known = self.in_column(edge, cursor);
        let context = &mut *cursor.context;
        let counters = &mut context.metrics[context.current].counters;
        let number = match known {
            Some(number) => {
                counters.properties_read += 1;
                number
            }
            None => {
                self.locals[self.weight.local] = Value::Edge(edge);
                let row = Row { batch: cursor.batch, row: cursor.row, locals: &self.locals };
                match quick::number(&self.weight.expression, row, &context.scope, counters) {
                    Some(number) => number,
                    // Of an edge that is new, or was changed.
                    None => match (Evaluator { scope: &context.scope, counters })
                        .value(&self.weight.expression, row)?
                    {
                        Value::Int(number) => Some(number),
                        Value::Null => None,
                        // Below zero, as what is no whole number.
                        _ => Some(-1),
                    },
                }
            }
        };
        match number {
            Some(weight) if weight >= 0 => Ok(Some(weight as u64)),
            None => {
                self.impassable.insert(edge);
                Ok(None)
            }
            Some(_) => {
                self.gave_up = true;
                Ok(None)
            }
        }
    }

    fn add(&mut self, a: u64, b: u64) -> Outcome<u64> {
        Ok(a.checked_add(b).unwrap_or_else(|| {
            self.gave_up = true;
            u64::MAX
        }))
    }

    fn value(&self, sum: u64) -> Value {
        i64::try_from(sum).map_or(Value::Float(sum as f64), Value::Int)
    }

    fn of_hops(hops: u32) -> u64 {
        hops.into()
    }

    fn of_whole(sum: u64) -> Option<u64> {
        Some(sum)
    }

    fn at_least(ticks: u64, bits: i32) -> u64 {
        match u32::try_from(bits) {
            Ok(bits) => ticks.checked_shr(bits).unwrap_or(0),
            Err(_) => ticks.saturating_mul(1u64.checked_shl(bits.unsigned_abs()).unwrap_or(u64::MAX)),
        }
    }

    fn gave_up(&self) -> bool {
        self.gave_up
    }

    fn impassable(&self) -> usize {
        self.impassable.len()
    }
}

/// Sums of any numbers.
pub(crate) struct AnyWeights {
    weight: Arc<EdgeWeight>,
    impassable: HashSet<u32>,
    locals: Vec<Value>,
}

impl AnyWeights {
    pub fn new(weight: Arc<EdgeWeight>) -> AnyWeights {
        AnyWeights { locals: locals(&weight), weight, impassable: HashSet::new() }
    }
}

pub(crate) fn bad_weight(bad: BadWeight, value: &Value, expression: &Expr) -> Diagnostic {
    match bad {
        BadWeight::TooLarge => Diagnostic::error(
            Code::NUMBER_OUT_OF_RANGE,
            expression.span,
            "the sum of the weights is out of range",
        ),
        BadWeight::Null | BadWeight::Wrong => {
            let found = format!("{} {}", value.type_name(), value.excerpt());
            let text = format!("a weight must be a number from 0 up, found {found}");
            Diagnostic::error(Code::DATA, expression.span, text)
        }
    }
}

/// All cheapest walks are without end where edges of weight zero lead in a circle.
pub(crate) fn endless(expression: Option<&Expr>) -> Diagnostic {
    let text = "edges of weight zero lead in a circle: there are cheapest walks without end";
    Diagnostic::error(Code::DATA, expression.map(|e| e.span).unwrap_or_default(), text)
        .hint("write TRAIL or ACYCLIC after the prefix")
}

impl Measure for AnyWeights {
    type Sum = Cost;
    type Queue<T: Copy + Ord + Send> = BinaryHeap<Reverse<(Cost, T)>>;
    const ZERO: Cost = Cost::ZERO;
    const EXACT: bool = false;
    const LEVELS: bool = false;

    fn of_edge(&mut self, edge: u32, cursor: &mut Cursor<'_>) -> Outcome<Option<Cost>> {
        self.locals[self.weight.local] = Value::Edge(edge);
        let row = Row { batch: cursor.batch, row: cursor.row, locals: &self.locals };
        let context = &mut *cursor.context;
        let counters = &mut context.metrics[context.current].counters;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        let value = evaluator.value(&self.weight.expression, row)?;
        match Cost::of(&value) {
            Ok(cost) => Ok(Some(cost)),
            Err(BadWeight::Null) => {
                self.impassable.insert(edge);
                Ok(None)
            }
            Err(bad) => Err(bad_weight(bad, &value, &self.weight.expression)),
        }
    }

    fn add(&mut self, a: Cost, b: Cost) -> Outcome<Cost> {
        a.and(b).ok_or_else(|| bad_weight(BadWeight::TooLarge, &Value::Null, &self.weight.expression))
    }

    fn value(&self, sum: Cost) -> Value {
        sum.value()
    }

    fn of_hops(hops: u32) -> Cost {
        Cost::of(&Value::Int(hops.into())).unwrap_or(Cost::ZERO)
    }

    fn at_least(ticks: u64, bits: i32) -> Cost {
        Cost::at_least(ticks, bits)
    }

    fn impassable(&self) -> usize {
        self.impassable.len()
    }
}
