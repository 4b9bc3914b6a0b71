//! CrossJoin: every row of the left with every row of the right. The right side is kept.

use std::sync::Arc;

use crate::batch::{BATCH_ROWS, Batch};
use crate::context::Context;
use crate::operators::drain;
use crate::outcome::Outcome;
use crate::plan::{Counting, Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct CrossJoin {
    pub counting: Option<Counting>,
}

impl OperatorPlan for CrossJoin {
    fn name(&self) -> &'static str {
        "CrossJoin"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("because", "no pattern connects the two sides".into())];
        if self.counting.is_some() {
            details.push(("rows", "counted, not made".into()));
        }
        details
    }

    fn counting(&self) -> Option<Counting> {
        self.counting
    }

    fn counted(&self, counting: Counting) -> Option<Arc<dyn OperatorPlan>> {
        Some(Arc::new(CrossJoin { counting: Some(counting) }))
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let right = inputs.remove(1);
        Box::new(CrossJoinRun {
            counting: self.counting,
            left: inputs.remove(0),
            right,
            kept: None,
            batch: None,
            at: 0,
        })
    }
}

struct CrossJoinRun {
    counting: Option<Counting>,
    left: Input,
    right: Input,
    kept: Option<Batch>,
    batch: Option<Batch>,
    /// Next pair: left row * right rows + right row.
    at: usize,
}

impl Operator for CrossJoinRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            if self.batch.is_none() {
                self.batch = self.left.next(context)?;
                self.at = 0;
            }
            let Some(left) = &self.batch else { return Ok(None) };
            if self.kept.is_none() {
                match drain(&mut self.right, context)? {
                    Some(right) => self.kept = Some(right),
                    None => return Ok(None),
                }
            }
            let Some(right) = &self.kept else { return Ok(None) };
            if let Some(counting) = self.counting {
                let counts = vec![right.len as u64; left.len];
                let batch = self.batch.take().unwrap_or_default();
                return Ok(Some(counting.batch(batch, counts, context)));
            }
            let total = left.len * right.len;
            if self.at == total {
                self.batch = None;
                continue;
            }
            let end = total.min(self.at + BATCH_ROWS);
            context.work((end - self.at) as u64)?;
            let lefts: Vec<u32> = (self.at..end).map(|pair| (pair / right.len) as u32).collect();
            let rights: Vec<u32> = (self.at..end).map(|pair| (pair % right.len) as u32).collect();
            self.at = end;
            let mut out = left.gather(&lefts);
            out.columns.extend(right.gather(&rights).columns);
            return Ok(Some(out));
        }
    }
}
