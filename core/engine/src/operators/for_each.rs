//! ForEach: a row for each element of a list.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{Batch, Vector};
use crate::context::{Context, Outcome};
use crate::evaluate::{Evaluator, Row, wrong_type};
use crate::expression::Expr;
use crate::plan::{Input, Operator, OperatorPlan};

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
        Box::new(Run { spec: self, input: inputs.remove(0) })
    }
}

struct Run {
    spec: Arc<ForEach>,
    input: Input,
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let (mut rows, mut items, mut positions) = (vec![], vec![], vec![]);
            for row in 0..batch.len {
                let counters = &mut context.metrics[context.current].counters;
                let mut evaluator = Evaluator { scope: &context.scope, counters };
                let list = match evaluator.value(&self.spec.list, Row { batch: &batch, row, locals: &[] })? {
                    Value::List(list) => list,
                    Value::Null => continue,
                    other => {
                        return Err(wrong_type(
                            &other,
                            "what FOR goes through",
                            "a LIST",
                            self.spec.list.span,
                        ));
                    }
                };
                context.work(list.len() as u64)?;
                for (i, item) in list.iter().enumerate() {
                    rows.push(row as u32);
                    items.push(item.clone());
                    positions.push(Value::Int(i as i64 + self.spec.counter.unwrap_or(0)));
                }
            }
            if !rows.is_empty() {
                let mut out = batch.gather(&rows);
                out.columns.push(Vector::Values(items));
                if self.spec.counter.is_some() {
                    out.columns.push(Vector::Values(positions));
                }
                return Ok(Some(out));
            }
        }
        Ok(None)
    }
}
