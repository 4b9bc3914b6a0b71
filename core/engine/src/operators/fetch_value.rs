//! FetchValue: the value of a subquery's only row, for each outer row; null if it has no row.

use std::sync::Arc;

use graphodrome_graph::Code;
use graphodrome_language::{Diagnostic, Span};

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::expression::Expr;
use crate::operators::inner_rows::all_rows;
use crate::operators::per_row::{constant, runs};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode};

#[derive(Clone, Debug)]
pub(crate) struct FetchValue {
    pub inner: Arc<PlanNode>,
    pub row_slot: Option<usize>,
    pub invariant: bool,
    /// Slot of the value in the inner rows.
    pub added: usize,
    /// The value where there is no row; null unless given.
    pub otherwise: Option<Expr>,
    /// An empty vector of its kind.
    pub vector: Vector,
    pub shown: String,
    pub span: Span,
}

impl OperatorPlan for FetchValue {
    fn name(&self) -> &'static str {
        "FetchValue"
    }

    fn side_by_side(&self) -> bool {
        // What is the same for all rows is asked once, not once a thread.
        !self.invariant
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("query", self.shown.clone()), ("runs", runs(self.row_slot, self.invariant))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(FetchValueRun { spec: self, input: inputs.remove(0), kept: None })
    }

    fn correlated(&self) -> Option<&Arc<PlanNode>> {
        Some(&self.inner)
    }
}

struct FetchValueRun {
    spec: Arc<FetchValue>,
    input: Input,
    kept: Option<Vec<Batch>>,
}

impl Operator for FetchValueRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(mut batch) = self.input.next(context)? else { return Ok(None) };
        let spec = &self.spec;
        let found = all_rows(&spec.inner, spec.row_slot, spec.invariant, &mut self.kept, &batch, context)?;
        let mut column = spec.vector.empty_like();
        let mut next = 0;
        for outer in 0..batch.len as u32 {
            let first = next;
            while next < found.pairs.len() && found.pairs[next].0 == outer {
                next += 1;
            }
            match next - first {
                0 => match &spec.otherwise {
                    None => column.push_null(),
                    Some(e) => column.push(constant(e, context)?),
                },
                1 => {
                    let (_, b, row) = found.pairs[first];
                    column.push(found.batches[b as usize].columns[spec.added].get(row as usize));
                }
                rows => {
                    let text = format!("VALUE {{ ... }} must have at most one row, and this has {rows}");
                    return Err(Diagnostic::error(Code("21000"), spec.span, text)
                        .hint("aggregate, or end it with ORDER BY and LIMIT 1"));
                }
            }
        }
        found.release(context);
        batch.columns.push(column);
        Ok(Some(batch))
    }
}
