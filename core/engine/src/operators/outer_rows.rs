//! OneRow and OuterRows: the leaves of plans. `OneRow` is one row without columns; `OuterRows` is the outer rows of
//! a correlated part, with row numbers if there are several.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};

#[derive(Debug)]
pub(crate) struct OneRow;

impl OperatorPlan for OneRow {
    fn name(&self) -> &'static str {
        "OneRow"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![]
    }

    fn row_facts(&self, _: &[PlanNode]) -> RowFacts {
        RowFacts { at_most_one: true, distinct_nodes: None }
    }

    fn open(self: Arc<Self>, _: Vec<Input>) -> Box<dyn Operator> {
        Box::new(OneRowRun { done: false })
    }
}

struct OneRowRun {
    done: bool,
}

impl Operator for OneRowRun {
    fn next(&mut self, _: &mut Context) -> Outcome<Option<Batch>> {
        Ok((!std::mem::replace(&mut self.done, true)).then(Batch::unit))
    }
}

#[derive(Debug)]
pub(crate) struct OuterRows {
    /// Its last column is the number of the row.
    pub numbered: bool,
}

impl OperatorPlan for OuterRows {
    fn name(&self) -> &'static str {
        "OuterRows"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("rows", "the outer rows".into())]
    }

    fn open(self: Arc<Self>, _: Vec<Input>) -> Box<dyn Operator> {
        Box::new(OuterRowsRun { numbered: self.numbered, done: false })
    }
}

struct OuterRowsRun {
    numbered: bool,
    done: bool,
}

impl Operator for OuterRowsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if std::mem::replace(&mut self.done, true) {
            return Ok(None);
        }
        let Some(mut batch) = context.arguments.last().cloned() else { return Ok(None) };
        if self.numbered {
            let rows = (0..batch.len as i64).map(Value::Int).collect();
            batch.columns.push(Vector::Values(rows));
        }
        Ok((batch.len > 0).then_some(batch))
    }
}
