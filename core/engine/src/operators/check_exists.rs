//! CheckExists: for each row whether a correlated pattern has a match, as a column of booleans. The
//! pattern runs once per batch, its rows carrying the number of the row they are for.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{Batch, Vector};
use crate::context::{Context, Outcome};
use crate::plan::{Input, Operator, OperatorPlan, PlanNode};

#[derive(Clone, Debug)]
pub(crate) struct CheckExists {
    pub inner: Arc<PlanNode>,
    /// Slot of the row number in the inner plan's rows.
    pub row_slot: usize,
    pub shown: String,
}

impl OperatorPlan for CheckExists {
    fn name(&self) -> &'static str {
        "CheckExists"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("pattern", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { spec: self, input: inputs.remove(0) })
    }

    fn correlated(&self) -> Option<&Arc<PlanNode>> {
        Some(&self.inner)
    }
}

struct Run {
    spec: Arc<CheckExists>,
    input: Input,
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(mut batch) = self.input.next(context)? else { return Ok(None) };
        let mut found = vec![false; batch.len];
        let mut missing = batch.len;
        let mut inner = self.spec.inner.open();
        // The argument is there while the inner plan runs, and only then: what is above may run
        // between two of our batches.
        context.arguments.push(batch.clone());
        let mut failure = None;
        while missing > 0 {
            match inner.next(context) {
                Ok(Some(rows)) => {
                    for row in 0..rows.len {
                        if let Value::Int(outer) = rows.columns[self.spec.row_slot].get(row)
                            && !std::mem::replace(&mut found[outer as usize], true)
                        {
                            missing -= 1;
                        }
                    }
                }
                Ok(None) => break,
                Err(error) => {
                    failure = Some(error);
                    break;
                }
            }
        }
        context.arguments.pop();
        if let Some(error) = failure {
            return Err(error);
        }
        batch.columns.push(Vector::Values(found.into_iter().map(Value::Bool).collect()));
        Ok(Some(batch))
    }
}
