//! RangeJoin: rows of one input with those of the other whose value lies within bounds that the row gives. One side is
//! kept in the order of its values.

use std::cmp::Ordering;
use std::sync::Arc;

use hashbrown::HashMap;

use graphodrome_graph::Value;
use graphodrome_language::Span;
use graphodrome_language::ast::BinaryOperator;

use crate::batch::{BATCH_ROWS, Batch, Vector, value_bytes};
use crate::context::Context;
use crate::evaluate::{Evaluator, compared};
use crate::expression::Expr;
use crate::operators::drain;
use crate::operators::hash_join::{JoinSide, Kinds};
use crate::operators::order::sorted;
use crate::outcome::{CHECK_EVERY, Outcome, located};
use crate::plan::{Counting, Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct RangeJoin {
    /// Of the side that is kept, which is ordered by them: first those that must be equal, then the one within bounds.
    pub values: Vec<Expr>,
    /// What they are compared with.
    pub comparisons: Vec<Comparison>,
    /// Which side is kept.
    pub kept: JoinSide,
    pub shown: String,
    pub counting: Option<Counting>,
    /// At most one row for all of the first side's with the same number in this slot.
    pub once: Option<usize>,
}

/// The value of this place compares so with what a row of the other side gives.
#[derive(Clone, Debug)]
pub(crate) struct Comparison {
    pub value: usize,
    pub operator: BinaryOperator,
    pub given: Expr,
    /// Where the query says so.
    pub span: Span,
}

impl OperatorPlan for RangeJoin {
    fn name(&self) -> &'static str {
        "RangeJoin"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let kept = self.kept.input();
        let mut details = vec![
            ("on", self.shown.clone()),
            ("method", format!("{kept} input in the order of its values, searched by halves")),
        ];
        if self.counting.is_some() {
            details.push(("rows", "counted, not made".into()));
        }
        if self.once.is_some() {
            details.push(("rows", "the first of each outer row".into()));
        }
        details
    }

    fn counting(&self) -> Option<Counting> {
        self.counting
    }

    fn counted(&self, counting: Counting) -> Option<Arc<dyn OperatorPlan>> {
        // What is counted is how many go with a row of the first side.
        let counts = self.kept == JoinSide::Right;
        counts.then(|| {
            Arc::new(RangeJoin { counting: Some(counting), ..self.clone() }) as Arc<dyn OperatorPlan>
        })
    }

    fn once(&self, row: usize) -> Option<Arc<dyn OperatorPlan>> {
        let of_first = self.kept == JoinSide::Right;
        of_first.then(|| Arc::new(RangeJoin { once: Some(row), ..self.clone() }) as Arc<dyn OperatorPlan>)
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let (right, left) = (inputs.remove(1), inputs.remove(0));
        let (input, kept_input) = match self.kept {
            JoinSide::Left => (right, left),
            JoinSide::Right => (left, right),
        };
        Box::new(RangeJoinRun { spec: self, input, kept_input, kept: None, reading: None, given: vec![] })
    }
}

/// The side that is kept.
struct Ordered {
    /// Those whose values can be ordered, least first.
    rows: Batch,
    /// By place, then by row. Behind the ordered rows come those with NaN: it lies within no bounds, but comparing it
    /// with a text is an error all the same.
    values: Vec<Vec<Value>>,
    /// Where the rows with equal values lie.
    stretches: Stretches,
    /// For each place, whether all its values can be compared with each other, and with which.
    kinds: Vec<Kinds>,
}

/// Rows whose values are equal in all places but the last, by those values.
#[derive(Default)]
struct Stretches {
    codes: HashMap<Vec<Value>, u32>,
    ends: Vec<usize>,
}

impl Stretches {
    /// The code of a row's values: the rows of one code lie together.
    fn code(&mut self, places: &[Vec<Value>], row: usize) -> u32 {
        if places.is_empty() {
            return 0;
        }
        let next = self.codes.len() as u32;
        *self.codes.entry(places.iter().map(|values| values[row].clone()).collect()).or_insert(next)
    }

    /// Learns where each stretch ends from the codes of the rows in their order. Returns the bytes held.
    fn end(&mut self, codes: impl Iterator<Item = u32>) -> usize {
        self.ends = vec![0; self.codes.len()];
        for (place, code) in codes.enumerate().filter(|_| !self.codes.is_empty()) {
            self.ends[code as usize] = place + 1;
        }
        let each = size_of::<Vec<Value>>() + size_of::<u32>() + size_of::<usize>();
        let of_values = self.codes.keys().next().map_or(0, Vec::len) * size_of::<Value>();
        self.codes.len() * (each + of_values)
    }

    /// From where to where the rows with these values lie, of so many rows.
    fn of(&self, values: &[Value], rows: usize) -> (usize, usize) {
        if values.is_empty() {
            return (0, rows);
        }
        let Some(&code) = self.codes.get(values) else { return (0, 0) };
        let code = code as usize;
        (if code == 0 { 0 } else { self.ends[code - 1] }, self.ends[code])
    }
}

impl Ordered {
    fn of(rows: Batch, expressions: &[Expr], context: &mut Context) -> Outcome<Ordered> {
        context.work(rows.len as u64)?;
        context.reserve(3 * rows.len * size_of::<u32>())?;
        let values = expressions
            .iter()
            .map(|expression| given_values(expression, &rows, context))
            .collect::<Outcome<Vec<Vec<Value>>>>()?;
        let mut kinds = vec![];
        for values in &values {
            context.reserve(values.iter().map(value_bytes).sum())?;
            let mut of_place = Kinds::None;
            values.iter().filter(|value| !value.is_null()).for_each(|value| of_place.see(value));
            kinds.push(of_place);
        }
        let (mut order, mut unordered, mut stretches) = (vec![], vec![], Stretches::default());
        for row in 0..rows.len {
            let is_nan = |v: &Value| matches!(v, Value::Float(float) if float.is_nan());
            if values.iter().any(|values| values[row].is_null()) {
                continue;
            }
            match values.iter().any(|values| is_nan(&values[row])) {
                true => unordered.push(row as u32),
                false => order.push(row as u32),
            }
        }
        // Values that cannot all be compared are not looked for by their order.
        if !kinds.iter().any(|kinds| matches!(kinds, Kinds::Several))
            && let [equal @ .., ordered] = &values[..]
        {
            let mut codes = vec![0; rows.len];
            for &row in &order {
                context.work(1)?;
                codes[row as usize] = stretches.code(equal, row as usize);
            }
            let by_code = |a: &u32, b: &u32| {
                let (x, y) = (*a as usize, *b as usize);
                let by_value = || compare(&ordered[x], &ordered[y]);
                codes[x].cmp(&codes[y]).then_with(by_value).then(a.cmp(b))
            };
            order = sorted(order, by_code, context)?;
            context.reserve(stretches.end(order.iter().map(|&row| codes[row as usize])))?;
        }
        // For a while there are two copies of the rows.
        let bytes = rows.bytes();
        context.reserve(bytes)?;
        let rows = rows.gather(&order);
        context.release(bytes);
        order.extend(unordered);
        let values = values
            .into_iter()
            .map(|values| order.iter().map(|&row| values[row as usize].clone()).collect())
            .collect();
        Ok(Ordered { rows, values, kinds, stretches })
    }

    /// The rows that pass all comparisons: a stretch of them, or, where not all values can be compared with what is
    /// given, those found one by one, so that what is an error without order is one.
    fn passing(&self, given: &[Value], comparisons: &[Comparison], context: &mut Context) -> Outcome<Places> {
        use BinaryOperator::*;
        context.work(comparisons.len() as u64)?;
        if given.iter().any(Value::is_null) {
            return Ok(Places::Stretch(0, 0));
        }
        if comparisons.iter().zip(given).any(|(c, value)| !self.kinds[c.value].take(value)) {
            return self.one_by_one(given, comparisons, context);
        }
        if !given.iter().all(Value::equals_itself) {
            return Ok(Places::Stretch(0, 0));
        }
        // Equalities come first.
        let equal = comparisons.iter().filter(|c| c.operator == Equal).count();
        let (mut from, mut to) = self.stretches.of(&given[..equal], self.rows.len);
        for (value, comparison) in given.iter().zip(comparisons).skip(equal) {
            let stretch = &self.values[comparison.value][from..to];
            let below = |or_equal: bool| {
                stretch.partition_point(|v| match compare(v, value) {
                    Ordering::Less => true,
                    Ordering::Equal => or_equal,
                    Ordering::Greater => false,
                })
            };
            (from, to) = match comparison.operator {
                Less => (from, from + below(false)),
                LessOrEqual => (from, from + below(true)),
                Greater => (from + below(true), to),
                _ => (from + below(false), to),
            };
        }
        Ok(Places::Stretch(from, to))
    }

    fn one_by_one(
        &self, given: &[Value], comparisons: &[Comparison], context: &mut Context,
    ) -> Outcome<Places> {
        let mut found = vec![];
        let rows = self.values.first().map_or(0, Vec::len);
        'rows: for row in 0..rows {
            context.work(1)?;
            for (given, c) in given.iter().zip(comparisons) {
                let passes = compared(c.operator, &self.values[c.value][row], given);
                if passes.map_err(|e| located(e, c.span))? != Some(true) {
                    continue 'rows;
                }
            }
            found.push(row as u32);
        }
        Ok(Places::Some(found))
    }
}

fn given_values(expression: &Expr, batch: &Batch, context: &mut Context) -> Outcome<Vec<Value>> {
    let mut values = Vec::with_capacity(batch.len);
    for row in 0..batch.len {
        if (row as u64).is_multiple_of(CHECK_EVERY) {
            context.check()?;
        }
        let counters = &mut context.metrics[context.current].counters;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        values.push(evaluator.value(expression, Row { batch, row, locals: &[] })?);
    }
    Ok(values)
}

fn compare(a: &Value, b: &Value) -> Ordering {
    a.compare(b).ok().flatten().unwrap_or(Ordering::Equal)
}

/// Rows of the kept side that go with one of the other.
enum Places {
    Stretch(usize, usize),
    Some(Vec<u32>),
}

impl Places {
    fn len(&self) -> usize {
        match self {
            Places::Stretch(from, to) => to - from,
            Places::Some(places) => places.len(),
        }
    }

    fn extend(&self, from: usize, to: usize, places: &mut Vec<u32>) {
        match self {
            Places::Stretch(first, _) => places.extend((first + from) as u32..(first + to) as u32),
            Places::Some(all) => places.extend(&all[from..to]),
        }
    }
}

/// A batch of the side that asks.
struct Reading {
    batch: Batch,
    /// What each comparison is with, by row.
    given: Vec<Vector>,
    row: usize,
    /// Of the row that is read now, and how many of them were yielded.
    places: Option<(Places, usize)>,
}

struct RangeJoinRun {
    spec: Arc<RangeJoin>,
    /// The side whose rows ask for theirs.
    input: Input,
    kept_input: Input,
    kept: Option<Ordered>,
    reading: Option<Reading>,
    /// Which outer rows have one, where each gets one at most.
    given: Vec<bool>,
}

impl RangeJoinRun {
    /// Whether the row that is read now is to have one more, where each outer row has one at most; then it has.
    fn has_one(&mut self, reading: &Reading, places: &Places) -> bool {
        let outer = self.spec.once.map(|slot| reading.batch.columns[slot].get(reading.row));
        let Some(Value::Int(outer)) = outer else { return false };
        let outer = outer as usize;
        self.given.resize(self.given.len().max(outer + 1), false);
        let has = &mut self.given[outer];
        std::mem::replace(has, *has || places.len() > 0)
    }

    /// The next batch of the asking side that is not read to its end.
    fn read(&mut self, context: &mut Context) -> Outcome<bool> {
        if self.reading.as_ref().is_some_and(|reading| reading.row < reading.batch.len) {
            return Ok(true);
        }
        self.reading = None;
        let Some(batch) = self.input.next(context)? else { return Ok(false) };
        if self.kept.is_none() {
            let Some(rows) = drain(&mut self.kept_input, context)? else { return Ok(false) };
            self.kept = Some(Ordered::of(rows, &self.spec.values, context)?);
        }
        let given = (self.spec.comparisons.iter())
            .map(|c| Ok(Vector::of_values(given_values(&c.given, &batch, context)?)))
            .collect::<Outcome<Vec<Vector>>>()?;
        self.reading = Some(Reading { batch, given, row: 0, places: None });
        Ok(true)
    }

    /// What goes with the row that is read now.
    fn places(&self, reading: &Reading, context: &mut Context) -> Outcome<Places> {
        let Some(kept) = &self.kept else { return Ok(Places::Some(vec![])) };
        let given: Vec<Value> = reading.given.iter().map(|values| values.get(reading.row)).collect();
        context.metrics[context.current].counters.index_probes += 1;
        kept.passing(&given, &self.spec.comparisons, context)
    }
}

impl Operator for RangeJoinRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while self.read(context)? {
            let Some(mut reading) = self.reading.take() else { break };
            if let Some(counting) = self.spec.counting {
                let mut counts = Vec::with_capacity(reading.batch.len);
                while reading.row < reading.batch.len {
                    counts.push(self.places(&reading, context)?.len() as u64);
                    reading.row += 1;
                }
                return Ok(Some(counting.batch(reading.batch, counts, context)));
            }
            let (mut asking, mut found) = (vec![], vec![]);
            while reading.row < reading.batch.len && asking.len() < BATCH_ROWS {
                let (places, done) = match reading.places.take() {
                    Some(begun) => begun,
                    None => (self.places(&reading, context)?, 0),
                };
                let most = match self.spec.once.is_some() {
                    true if self.has_one(&reading, &places) => 0,
                    true => places.len().min(1),
                    false => places.len(),
                };
                let end = most.min(done + BATCH_ROWS - asking.len());
                places.extend(done, end, &mut found);
                asking.resize(found.len(), reading.row as u32);
                match end == most {
                    true => reading.row += 1,
                    false => reading.places = Some((places, end)),
                }
            }
            context.work(asking.len() as u64)?;
            let out = match &self.kept {
                Some(kept) if !asking.is_empty() => {
                    let (mut out, mut other) = (reading.batch.gather(&asking), kept.rows.gather(&found));
                    if self.spec.kept == JoinSide::Left {
                        std::mem::swap(&mut out, &mut other);
                    }
                    out.columns.extend(other.columns);
                    Some(out)
                }
                _ => None,
            };
            self.reading = Some(reading);
            if out.is_some() {
                return Ok(out);
            }
        }
        Ok(None)
    }
}
