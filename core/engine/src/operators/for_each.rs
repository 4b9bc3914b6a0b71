//! ForEach: a row for each element of a list.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::evaluate::arithmetic::wrong_type;
use crate::expression::Expr;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct ForEach {
    pub list: Expr,
    /// Number of the first element, where positions are wanted.
    pub counter: Option<i64>,
    pub shown: String,
}

impl OperatorPlan for ForEach {
    fn name(&self) -> &'static str {
        "ForEach"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("in", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ForEachRun { spec: self, input: inputs.remove(0), at: None })
    }
}

struct ForEachRun {
    spec: Arc<ForEach>,
    input: Input,
    /// The batch that is gone through, the row, and the list of it that is open.
    at: Option<(Batch, usize, Option<OpenList>)>,
}

/// A list and how many of its items were given out.
type OpenList = (Arc<[Value]>, usize);

impl ForEachRun {
    /// Rows for the next items, as many as a batch has at most.
    fn fill(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some((batch, row, open)) = &mut self.at else { return Ok(None) };
        let (mut rows, mut items, mut positions) = (vec![], vec![], vec![]);
        while rows.len() < BATCH_ROWS && *row < batch.len {
            let (list, from) = match open.take() {
                Some(open) => open,
                None => match self.spec.list_of(batch, *row, context)? {
                    Some(list) => (list, 0),
                    None => {
                        *row += 1;
                        continue;
                    }
                },
            };
            let end = list.len().min(from + BATCH_ROWS - rows.len());
            context.work((end - from) as u64 + 1)?;
            for (i, item) in list.iter().enumerate().take(end).skip(from) {
                rows.push(*row as u32);
                items.push(item.clone());
                positions.push(Value::Int(i as i64 + self.spec.counter.unwrap_or(0)));
            }
            match end < list.len() {
                true => *open = Some((list, end)),
                false => *row += 1,
            }
        }
        if rows.is_empty() {
            return Ok(None);
        }
        let mut out = batch.gather(&rows);
        out.columns.push(Vector::Values(items));
        if self.spec.counter.is_some() {
            out.columns.push(Vector::Values(positions));
        }
        Ok(Some(out))
    }
}

impl ForEach {
    /// The row's list; `None` where it is null.
    fn list_of(&self, batch: &Batch, row: usize, context: &mut Context) -> Outcome<Option<Arc<[Value]>>> {
        let counters = &mut context.metrics[context.current].counters;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        match evaluator.value(&self.list, Row { batch, row, locals: &[] })? {
            Value::List(list) => Ok(Some(list)),
            Value::Null => Ok(None),
            other => Err(wrong_type(&other, "what FOR goes through", "a LIST", self.list.span)),
        }
    }
}

impl Operator for ForEachRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            if let Some(rows) = self.fill(context)? {
                return Ok(Some(rows));
            }
            match self.input.next(context)? {
                Some(batch) => self.at = Some((batch, 0, None)),
                None => return Ok(None),
            }
        }
    }
}
