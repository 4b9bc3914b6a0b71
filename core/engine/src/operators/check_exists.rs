//! CheckExists: for each row whether a query has a row, as a column of booleans.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::operators::inner_rows::{run_inner, single};
use crate::operators::per_row::runs;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode};

#[derive(Clone, Debug)]
pub(crate) struct CheckExists {
    pub inner: Arc<PlanNode>,
    /// Slot of the row number in the inner plan's rows; without it the inner plan runs once a row.
    pub row_slot: Option<usize>,
    pub invariant: bool,
    pub shown: String,
}

impl OperatorPlan for CheckExists {
    fn name(&self) -> &'static str {
        "CheckExists"
    }

    fn side_by_side(&self) -> bool {
        // What is the same for all rows is asked once, not once a thread.
        !self.invariant
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("pattern", self.shown.clone()), ("runs", runs(self.row_slot, self.invariant))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(CheckExistsRun { spec: self, input: inputs.remove(0), kept: None })
    }

    fn correlated(&self) -> Option<&Arc<PlanNode>> {
        Some(&self.inner)
    }
}

struct CheckExistsRun {
    spec: Arc<CheckExists>,
    input: Input,
    /// The answer for all rows, where it is the same.
    kept: Option<bool>,
}

impl CheckExistsRun {
    /// Whether the inner plan has a row for this one.
    fn has_row(&self, outer: Batch, context: &mut Context) -> Outcome<bool> {
        let mut some = false;
        run_inner(&self.spec.inner, outer, context, &mut |_, _| {
            some = true;
            Ok(false)
        })?;
        Ok(some)
    }
}

impl Operator for CheckExistsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(mut batch) = self.input.next(context)? else { return Ok(None) };
        let mut found = vec![false; batch.len];
        if let Some(slot) = self.spec.row_slot {
            let mut missing = batch.len;
            run_inner(&self.spec.inner, batch.clone(), context, &mut |rows, _| {
                for row in 0..rows.len {
                    if let Value::Int(outer) = rows.columns[slot].get(row)
                        && !std::mem::replace(&mut found[outer as usize], true)
                    {
                        missing -= 1;
                    }
                }
                Ok(missing > 0)
            })?;
        } else if self.spec.invariant {
            if self.kept.is_none() {
                self.kept = Some(self.has_row(single(&batch, 0), context)?);
            }
            found.fill(self.kept == Some(true));
        } else {
            for (row, found) in found.iter_mut().enumerate() {
                context.work(1)?;
                *found = self.has_row(single(&batch, row), context)?;
            }
        }
        batch.columns.push(Vector::Values(found.into_iter().map(Value::Bool).collect()));
        Ok(Some(batch))
    }
}
