//! Compute: adds columns of computed values; a bare variable is copied in its own form.

use std::sync::Arc;

use crate::batch::{Batch, Vector, value_bytes};
use crate::columnar;
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::{Expr, Kind};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct Compute {
    pub expressions: Vec<Expr>,
    pub shown: String,
}

impl OperatorPlan for Compute {
    fn name(&self) -> &'static str {
        "Compute"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("values", self.shown.clone())]
    }

    fn row_facts(&self, inputs: &[PlanNode]) -> RowFacts {
        inputs[0].facts
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ComputeRun { plan: self, input: inputs.remove(0) })
    }
}

struct ComputeRun {
    plan: Arc<Compute>,
    input: Input,
}

impl Operator for ComputeRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(mut batch) = self.input.next(context)? else { return Ok(None) };
        let mut added = Vec::with_capacity(self.plan.expressions.len());
        for expression in &self.plan.expressions {
            added.push(evaluate_column(expression, &batch, context)?);
        }
        batch.columns.extend(added);
        let left = context.budget.left();
        if batch.bytes_up_to(left) > left {
            return Err(context.budget.too_much());
        }
        Ok(Some(batch))
    }
}

pub(crate) fn evaluate_column(expression: &Expr, batch: &Batch, context: &mut Context) -> Outcome<Vector> {
    if let Kind::Slot(slot) = expression.kind {
        return Ok(batch.columns[slot].clone());
    }
    context.work(batch.len as u64)?;
    if let Some(found) = columnar::column(expression, batch, &context.scope) {
        context.metrics[context.current].counters.properties_read += found.reads;
        return Ok(Vector::Numbers(found.numbers));
    }
    let counters = &mut context.metrics[context.current].counters;
    let mut evaluator = Evaluator { scope: &context.scope, counters };
    let mut values = Vec::with_capacity(batch.len);
    let (mut bytes, left) = (0, evaluator.scope.budget.left());
    for row in 0..batch.len {
        let value = evaluator.value(expression, Row { batch, row, locals: &[] })?;
        bytes += value_bytes(&value);
        if bytes > left {
            return Err(evaluator.scope.budget.too_much());
        }
        values.push(value);
    }
    Ok(Vector::Values(values))
}
