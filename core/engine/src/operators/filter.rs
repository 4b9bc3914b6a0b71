//! Filter: the rows for which every condition is true.

use std::sync::Arc;

use crate::batch::Batch;
use crate::context::{Context, Outcome};
use crate::evaluate::{Row, holds};
use crate::expression::Expr;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};

#[derive(Clone, Debug)]
pub(crate) struct Filter {
    pub conditions: Vec<Expr>,
    pub shown: String,
}

impl OperatorPlan for Filter {
    fn name(&self) -> &'static str {
        "Filter"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("where", self.shown.clone())]
    }

    fn row_facts(&self, inputs: &[PlanNode]) -> RowFacts {
        inputs[0].facts
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { plan: self, input: inputs.remove(0) })
    }
}

struct Run {
    plan: Arc<Filter>,
    input: Input,
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let mut kept = Vec::with_capacity(batch.len);
            'rows: for row in 0..batch.len {
                context.work(1)?;
                let at = Row { batch: &batch, row, locals: &[] };
                let counters = &mut context.metrics[context.current].counters;
                for condition in &self.plan.conditions {
                    if !holds(condition, at, &context.scope, counters)? {
                        continue 'rows;
                    }
                }
                kept.push(row as u32);
            }
            if kept.len() == batch.len {
                return Ok(Some(batch));
            }
            if !kept.is_empty() {
                return Ok(Some(batch.gather(&kept)));
            }
        }
        Ok(None)
    }
}
