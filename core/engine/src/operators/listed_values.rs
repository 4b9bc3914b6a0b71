//! ListedValues: a row for each distinct value of a list that a property may equal.

use std::sync::Arc;

use graphodrome_graph::Value;
use hashbrown::HashSet;

use crate::batch::{BATCH_ROWS, Batch, Vector, value_bytes};
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::evaluate::arithmetic::wrong_type;
use crate::expression::Expr;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct ListedValues {
    pub list: Expr,
    pub shown: String,
}

impl OperatorPlan for ListedValues {
    fn name(&self) -> &'static str {
        "ListedValues"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("in", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ListedValuesRun { spec: self, input: inputs.remove(0), at: None, held: 0 })
    }
}

struct ListedValuesRun {
    spec: Arc<ListedValues>,
    input: Input,
    /// The batch, the row, and those of its values that are still to come, last first.
    at: Option<(Batch, usize, Option<Vec<Value>>)>,
    /// Bytes of these values.
    held: usize,
}

impl ListedValues {
    /// The row's values, each once; what is equal to nothing is left out.
    fn values_of(&self, batch: &Batch, row: usize, context: &mut Context) -> Outcome<Vec<Value>> {
        let counters = &mut context.metrics[context.current].counters;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        let items = match evaluator.value(&self.list, Row { batch, row, locals: &[] })? {
            Value::List(items) => items,
            Value::Null => return Ok(vec![]),
            other => return Err(wrong_type(&other, "the right side of IN", "a LIST", self.list.span)),
        };
        let mut seen: HashSet<&Value> = HashSet::new();
        let mut values = vec![];
        for item in items.iter().filter(|item| item.equals_itself()) {
            context.work(1)?;
            if seen.insert(item) {
                values.push(item.clone());
            }
        }
        values.reverse();
        Ok(values)
    }
}

impl ListedValuesRun {
    fn fill(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some((batch, row, open)) = &mut self.at else { return Ok(None) };
        let (mut rows, mut items) = (vec![], vec![]);
        while rows.len() < BATCH_ROWS && *row < batch.len {
            let values = match open {
                Some(values) => values,
                None => {
                    let values = self.spec.values_of(batch, *row, context)?;
                    context.release(std::mem::take(&mut self.held));
                    self.held = values.iter().map(value_bytes).sum();
                    context.reserve(self.held)?;
                    open.insert(values)
                }
            };
            let left = values.len().saturating_sub(BATCH_ROWS - rows.len());
            let taken = values.drain(left..).rev();
            items.extend(taken);
            rows.resize(items.len(), *row as u32);
            if values.is_empty() {
                *open = None;
                *row += 1;
            }
        }
        if rows.is_empty() {
            return Ok(None);
        }
        let mut out = batch.gather(&rows);
        out.columns.push(Vector::Values(items));
        Ok(Some(out))
    }
}

impl Operator for ListedValuesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            if let Some(rows) = self.fill(context)? {
                return Ok(Some(rows));
            }
            match self.input.next(context)? {
                Some(batch) => self.at = Some((batch, 0, None)),
                None => {
                    context.release(std::mem::take(&mut self.held));
                    return Ok(None);
                }
            }
        }
    }
}
