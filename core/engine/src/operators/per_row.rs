//! PerRow: a correlated part for each outer row; where it has no match, the row stays with nulls. It is
//! what OPTIONAL MATCH does. The part runs once per batch, its rows carrying their outer row's number.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{Batch, Vector};
use crate::context::{Context, Outcome};
use crate::plan::{Input, Operator, OperatorPlan, PlanNode};

#[derive(Clone, Debug)]
pub(crate) struct PerRow {
    pub inner: Arc<PlanNode>,
    pub row_slot: usize,
    /// Slots of the inner rows that are new, in order.
    pub added: Vec<usize>,
    /// An empty vector of the right kind per added slot.
    pub added_vectors: Vec<Vector>,
    pub shown: String,
}

impl OperatorPlan for PerRow {
    fn name(&self) -> &'static str {
        "PerRow"
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
    spec: Arc<PerRow>,
    input: Input,
}

impl Run {
    fn matches(&mut self, batch: &Batch, context: &mut Context) -> Outcome<Vec<Batch>> {
        let mut inner = self.spec.inner.open();
        let mut found = vec![];
        context.arguments.push(batch.clone());
        let result = loop {
            match inner.next(context) {
                Ok(Some(rows)) => {
                    if let Err(error) = context.reserve(rows.bytes()) {
                        break Err(error);
                    }
                    found.push(rows);
                }
                Ok(None) => break Ok(()),
                Err(error) => break Err(error),
            }
        };
        context.arguments.pop();
        result.map(|()| found)
    }
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(batch) = self.input.next(context)? else { return Ok(None) };
        let found = self.matches(&batch, context)?;
        // (outer row, batch, row in it), in the order of the outer rows.
        let mut pairs: Vec<(u32, u32, u32)> = vec![];
        for (b, rows) in found.iter().enumerate() {
            for row in 0..rows.len {
                if let Value::Int(outer) = rows.columns[self.spec.row_slot].get(row) {
                    pairs.push((outer as u32, b as u32, row as u32));
                }
            }
        }
        pairs.sort_by_key(|p| p.0);
        let mut outer_rows = vec![];
        let mut added = self.spec.added_vectors.clone();
        let mut next = 0;
        for outer in 0..batch.len as u32 {
            let before = next;
            while next < pairs.len() && pairs[next].0 == outer {
                let (_, b, row) = pairs[next];
                for (column, slot) in added.iter_mut().zip(&self.spec.added) {
                    column.push(found[b as usize].columns[*slot].get(row as usize));
                }
                outer_rows.push(outer);
                next += 1;
            }
            if next == before {
                added.iter_mut().for_each(Vector::push_null);
                outer_rows.push(outer);
            }
        }
        let held: usize = found.iter().map(Batch::bytes).sum();
        context.release(held);
        let mut out = batch.gather(&outer_rows);
        out.columns.extend(added);
        Ok(Some(out))
    }
}
