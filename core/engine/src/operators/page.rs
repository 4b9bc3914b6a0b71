//! Page: leaves out the first rows and stops after some.

use std::sync::Arc;

use crate::batch::Batch;
use crate::context::Context;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct Page {
    pub offset: usize,
    pub limit: Option<usize>,
}

impl OperatorPlan for Page {
    fn name(&self) -> &'static str {
        "Page"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut shown = vec![];
        if self.offset > 0 {
            shown.push(("offset", format!("offset {}", self.offset)));
        }
        if let Some(limit) = self.limit {
            shown.push(("limit", format!("limit {limit}")));
        }
        shown
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(PageRun { skip: self.offset, left: self.limit, input: inputs.remove(0) })
    }
}

struct PageRun {
    skip: usize,
    left: Option<usize>,
    input: Input,
}

impl Operator for PageRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while self.left != Some(0) {
            let Some(batch) = self.input.next(context)? else { return Ok(None) };
            let start = self.skip.min(batch.len);
            self.skip -= start;
            let end = self.left.map_or(batch.len, |left| batch.len.min(start + left));
            if start == end {
                continue;
            }
            if let Some(left) = &mut self.left {
                *left -= end - start;
            }
            if start == 0 && end == batch.len {
                return Ok(Some(batch));
            }
            let rows: Vec<u32> = (start as u32..end as u32).collect();
            return Ok(Some(batch.gather(&rows)));
        }
        Ok(None)
    }
}
