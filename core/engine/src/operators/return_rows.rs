//! ReturnRows: the columns of the result, in order. Without columns (FINISH, or a change without a
//! result) it drains its input.

use std::sync::Arc;

use crate::batch::Batch;
use crate::context::Context;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};

#[derive(Clone, Debug)]
pub(crate) struct ReturnRows {
    pub slots: Option<Vec<usize>>,
    pub shown: String,
}

impl OperatorPlan for ReturnRows {
    fn name(&self) -> &'static str {
        "ReturnRows"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("columns", self.shown.clone())]
    }

    fn row_facts(&self, inputs: &[PlanNode]) -> RowFacts {
        RowFacts { at_most_one: inputs[0].facts.at_most_one, ..RowFacts::default() }
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ReturnRowsRun { plan: self, input: inputs.remove(0) })
    }
}

struct ReturnRowsRun {
    plan: Arc<ReturnRows>,
    input: Input,
}

impl Operator for ReturnRowsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(slots) = &self.plan.slots else {
            while self.input.next(context)?.is_some() {}
            return Ok(None);
        };
        let Some(batch) = self.input.next(context)? else { return Ok(None) };
        let columns = slots.iter().map(|&slot| batch.columns[slot].clone()).collect();
        Ok(Some(Batch { len: batch.len, columns }))
    }
}
