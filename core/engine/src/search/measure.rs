//! Measures: what a shortest path is the least of. Their sums do not depend on the order in which they are added,
//! so that what is left of a way can be measured from its end.

use std::sync::Arc;

use graphodrome_graph::{Code, Value};
use graphodrome_language::Diagnostic;
use hashbrown::HashSet;

use crate::context::Outcome;
use crate::evaluate::{Evaluator, Row};
use crate::expression::Expr;
use crate::quick;
use crate::search::cost::{BadWeight, Cost};
use crate::search::cursor::Cursor;

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
    const ZERO: Self::Sum;
    /// Every edge costs the same: what is reached first is reached in the cheapest way.
    const LEVELS: bool;

    /// What an edge costs; `None` where it cannot be taken.
    fn of_edge(&mut self, edge: u32, cursor: &mut Cursor<'_>) -> Outcome<Option<Self::Sum>>;

    fn add(&mut self, a: Self::Sum, b: Self::Sum) -> Outcome<Self::Sum>;

    /// What so many hops cost, where every edge costs the same.
    fn of_hops(hops: u32) -> Self::Sum;

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
    const ZERO: u32 = 0;
    const LEVELS: bool = true;

    fn of_edge(&mut self, _: u32, _: &mut Cursor<'_>) -> Outcome<Option<u32>> {
        Ok(Some(1))
    }

    fn add(&mut self, a: u32, b: u32) -> Outcome<u32> {
        Ok(a.saturating_add(b))
    }

    fn of_hops(hops: u32) -> u32 {
        hops
    }
}

/// Sums of whole numbers from 0 up, which most weights are.
pub(crate) struct WholeWeights {
    weight: Arc<EdgeWeight>,
    impassable: HashSet<u32>,
    gave_up: bool,
    locals: Vec<Value>,
}

fn locals(weight: &EdgeWeight) -> Vec<Value> {
    vec![Value::Null; weight.local + 1]
}

impl WholeWeights {
    pub fn new(weight: Arc<EdgeWeight>) -> WholeWeights {
        WholeWeights { locals: locals(&weight), weight, impassable: HashSet::new(), gave_up: false }
    }
}

impl Measure for WholeWeights {
    type Sum = u64;
    const ZERO: u64 = 0;
    const LEVELS: bool = false;

    fn of_edge(&mut self, edge: u32, cursor: &mut Cursor<'_>) -> Outcome<Option<u64>> {
        self.locals[self.weight.local] = Value::Edge(edge);
        let row = Row { batch: cursor.batch, row: cursor.row, locals: &self.locals };
        let context = &mut *cursor.context;
        let counters = &mut context.metrics[context.current].counters;
        match quick::number(&self.weight.expression, row, &context.scope, counters) {
            Some(Some(weight)) if weight >= 0 => Ok(Some(weight as u64)),
            Some(None) => {
                self.impassable.insert(edge);
                Ok(None)
            }
            _ => {
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

    fn of_hops(hops: u32) -> u64 {
        hops.into()
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
    const ZERO: Cost = Cost::ZERO;
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

    fn of_hops(hops: u32) -> Cost {
        Cost::of(&Value::Int(hops.into())).unwrap_or(Cost::ZERO)
    }

    fn impassable(&self) -> usize {
        self.impassable.len()
    }
}
