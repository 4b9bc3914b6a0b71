//! Distinct: each row once, by the columns named; nulls are the same.

use std::sync::Arc;

use hashbrown::HashSet;

use graphodrome_graph::Value;

use crate::batch::{Batch, value_bytes};
use crate::context::{Context, Outcome};
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct Distinct {
    pub slots: Vec<usize>,
    pub shown: String,
}

impl OperatorPlan for Distinct {
    fn name(&self) -> &'static str {
        "Distinct"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("by", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { plan: self, input: inputs.remove(0), seen: HashSet::new() })
    }
}

struct Run {
    plan: Arc<Distinct>,
    input: Input,
    seen: HashSet<Vec<Value>>,
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let mut kept = vec![];
            for row in 0..batch.len {
                let key: Vec<Value> = self.plan.slots.iter().map(|&s| batch.columns[s].get(row)).collect();
                let bytes: usize = key.iter().map(value_bytes).sum();
                if self.seen.insert(key) {
                    context.reserve(bytes + 32)?;
                    kept.push(row as u32);
                }
            }
            context.work(batch.len as u64)?;
            if !kept.is_empty() {
                return Ok(Some(batch.gather(&kept)));
            }
        }
        Ok(None)
    }
}
