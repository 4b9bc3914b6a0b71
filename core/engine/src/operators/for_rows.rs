//! ForRows: runs a query without a result for each row, for its changes; the rows pass unchanged.

use std::sync::Arc;

use crate::batch::Batch;
use crate::context::Context;
use crate::operators::inner_rows::{run_inner, single};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode};

#[derive(Clone, Debug)]
pub(crate) struct ForRows {
    pub inner: Arc<PlanNode>,
    pub shown: String,
}

impl OperatorPlan for ForRows {
    fn name(&self) -> &'static str {
        "ForRows"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("query", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ForRowsRun { spec: self, input: inputs.remove(0) })
    }

    fn correlated(&self) -> Option<&Arc<PlanNode>> {
        Some(&self.inner)
    }
}

struct ForRowsRun {
    spec: Arc<ForRows>,
    input: Input,
}

impl Operator for ForRowsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(batch) = self.input.next(context)? else { return Ok(None) };
        for row in 0..batch.len {
            context.work(1)?;
            run_inner(&self.spec.inner, single(&batch, row), context, &mut |_, _| Ok(true))?;
        }
        Ok(Some(batch))
    }
}
