//! HashJoin: rows of both sides whose key values are equal. The right side is kept in a hash table.

use std::sync::Arc;

use hashbrown::HashMap;

use graphodrome_graph::Value;

use crate::batch::Batch;
use crate::context::{Context, Outcome};
use crate::evaluate::{Evaluator, Row};
use crate::expression::Expr;
use crate::operators::drain;
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct HashJoin {
    pub left_keys: Vec<Expr>,
    pub right_keys: Vec<Expr>,
    pub shown: String,
}

impl OperatorPlan for HashJoin {
    fn name(&self) -> &'static str {
        "HashJoin"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("on", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let right = inputs.remove(1);
        Box::new(Run { spec: self, left: inputs.remove(0), right, kept: None })
    }
}

type RowsByKey = HashMap<Vec<Value>, Vec<u32>>;

struct Run {
    spec: Arc<HashJoin>,
    left: Input,
    right: Input,
    kept: Option<(Batch, RowsByKey)>,
}

fn key(
    expressions: &[Expr], batch: &Batch, row: usize, context: &mut Context,
) -> Outcome<Option<Vec<Value>>> {
    let counters = &mut context.metrics[context.current].counters;
    let mut evaluator = Evaluator { scope: &context.scope, counters };
    let mut values = Vec::with_capacity(expressions.len());
    for expression in expressions {
        let value = evaluator.value(expression, Row { batch, row, locals: &[] })?;
        if value.is_null() {
            return Ok(None);
        }
        values.push(value);
    }
    Ok(Some(values))
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.kept.is_none() {
            let Some(right) = drain(&mut self.right, context)? else { return Ok(None) };
            let mut table = RowsByKey::new();
            for row in 0..right.len {
                if let Some(values) = key(&self.spec.right_keys, &right, row, context)? {
                    table.entry(values).or_default().push(row as u32);
                }
            }
            context.reserve(64 * right.len)?;
            self.kept = Some((right, table));
        }
        let Some((right, table)) = &self.kept else { return Ok(None) };
        while let Some(batch) = self.left.next(context)? {
            let (mut lefts, mut rights) = (vec![], vec![]);
            for row in 0..batch.len {
                context.metrics[context.current].counters.index_probes += 1;
                let Some(values) = key(&self.spec.left_keys, &batch, row, context)? else { continue };
                for &other in table.get(&values).map_or(&[][..], Vec::as_slice) {
                    lefts.push(row as u32);
                    rights.push(other);
                }
                context.work(1)?;
            }
            if !lefts.is_empty() {
                let mut out = batch.gather(&lefts);
                out.columns.extend(right.gather(&rights).columns);
                return Ok(Some(out));
            }
        }
        Ok(None)
    }
}
