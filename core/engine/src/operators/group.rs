//! The operator that groups rows.

use std::sync::Arc;

use crate::batch::{BATCH_ROWS, Batch};
use crate::context::Context;
use crate::operators::group_parts;
use crate::operators::grouping::{Group, Grouping};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};

impl OperatorPlan for Group {
    fn name(&self) -> &'static str {
        "Group"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let method = self.parts.map(|_| ("method", "puts the groups of parts together".to_string()));
        std::iter::once(("by", self.shown.clone())).chain(method).collect()
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(GroupRun { spec: self, input: inputs.remove(0), result: None, sent: 0 })
    }
}

struct GroupRun {
    spec: Arc<Group>,
    input: Input,
    result: Option<Batch>,
    sent: usize,
}

impl GroupRun {
    fn group(&mut self, context: &mut Context) -> Outcome<Batch> {
        if let Some(parts) = self.spec.parts {
            // They hand no rows on.
            while self.input.next(context)?.is_some() {}
            return group_parts::put_together(&self.spec, parts, context)?.finish();
        }
        let mut grouping = Grouping::new(self.spec.clone(), context)?;
        while let Some(batch) = self.input.next(context)? {
            context.work(batch.len as u64)?;
            grouping.add(&batch, context)?;
        }
        grouping.finish()
    }
}

impl Operator for GroupRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.result.is_none() {
            self.result = Some(self.group(context)?);
        }
        let Some(result) = &mut self.result else { return Ok(None) };
        if self.sent == result.len {
            return Ok(None);
        }
        if self.sent == 0 && result.len <= BATCH_ROWS {
            self.sent = result.len;
            let columns = std::mem::take(&mut result.columns);
            return Ok(Some(Batch { len: result.len, columns }));
        }
        let end = result.len.min(self.sent + BATCH_ROWS);
        let rows: Vec<u32> = (self.sent as u32..end as u32).collect();
        self.sent = end;
        Ok(Some(result.gather(&rows)))
    }
}
