//! PerRow: a query for each outer row, whose columns are added to it: CALL, and OPTIONAL, where a row
//! without a match stays with nulls.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::operators::inner_rows::all_rows;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct PerRow {
    pub inner: Arc<PlanNode>,
    /// Where the inner rows say which outer row they are for; without it the inner plan runs once a row.
    pub row_slot: Option<usize>,
    /// The inner plan does not look at the outer row.
    pub invariant: bool,
    /// Slots of the inner rows that are new, in order.
    pub added: Vec<usize>,
    /// An empty vector of the right kind per added slot.
    pub added_vectors: Vec<Vector>,
    /// What the new columns are for a row without inner rows, where the query has a row even then.
    pub otherwise: Option<Vec<Expr>>,
    /// A row without inner rows stays.
    pub optional: bool,
    pub shown: String,
}

/// An expression that reads no row.
pub(crate) fn constant(e: &Expr, context: &mut Context) -> Outcome<Value> {
    let counters = &mut context.metrics[context.current].counters;
    let mut evaluator = Evaluator { scope: &context.scope, counters };
    evaluator.value(e, Row { batch: &Batch::default(), row: 0, locals: &[] })
}

/// How an inner plan is run, for display.
pub(crate) fn runs(row_slot: Option<usize>, invariant: bool) -> String {
    match (row_slot, invariant) {
        (Some(_), _) => "once a batch".into(),
        (None, true) => "once".into(),
        (None, false) => "once a row".into(),
    }
}

impl OperatorPlan for PerRow {
    fn name(&self) -> &'static str {
        "PerRow"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("pattern", self.shown.clone()), ("runs", runs(self.row_slot, self.invariant))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(PerRowRun { spec: self, input: inputs.remove(0), kept: None })
    }

    fn correlated(&self) -> Option<&Arc<PlanNode>> {
        Some(&self.inner)
    }
}

struct PerRowRun {
    spec: Arc<PerRow>,
    input: Input,
    kept: Option<Vec<Batch>>,
}

impl Operator for PerRowRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let spec = &self.spec;
            let found =
                all_rows(&spec.inner, spec.row_slot, spec.invariant, &mut self.kept, &batch, context)?;
            let mut outer_rows = vec![];
            let mut added = spec.added_vectors.clone();
            let mut next = 0;
            for outer in 0..batch.len as u32 {
                let before = next;
                while next < found.pairs.len() && found.pairs[next].0 == outer {
                    let (_, b, row) = found.pairs[next];
                    for (column, slot) in added.iter_mut().zip(&spec.added) {
                        column.push(found.batches[b as usize].columns[*slot].get(row as usize));
                    }
                    outer_rows.push(outer);
                    next += 1;
                }
                if next == before
                    && let Some(values) = &spec.otherwise
                {
                    for (column, e) in added.iter_mut().zip(values) {
                        column.push(constant(e, context)?);
                    }
                    outer_rows.push(outer);
                } else if next == before && spec.optional {
                    added.iter_mut().for_each(Vector::push_null);
                    outer_rows.push(outer);
                }
            }
            found.release(context);
            if outer_rows.is_empty() {
                continue;
            }
            let mut out = batch.gather(&outer_rows);
            out.columns.extend(added);
            return Ok(Some(out));
        }
        Ok(None)
    }
}
