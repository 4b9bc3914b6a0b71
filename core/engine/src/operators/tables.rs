//! Rows that are read more than once, or by what does not begin with them: WithTable keeps them for the
//! branches of a query, ReadTable reads them there; AfterAll lets a statement without a result finish
//! before the next one; AttachRow sets the one outer row beside each row.

use std::sync::Arc;

use crate::batch::Batch;
use crate::context::Context;
use crate::operators::drain;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct WithTable {
    pub table: usize,
}

impl OperatorPlan for WithTable {
    fn name(&self) -> &'static str {
        "WithTable"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("table", format!("keeps the rows of its first input as table {}", self.table + 1))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let rest = inputs.remove(1);
        Box::new(WithTableRun { table: self.table, source: Some(inputs.remove(0)), rest })
    }
}

struct WithTableRun {
    table: usize,
    source: Option<Input>,
    rest: Input,
}

impl Operator for WithTableRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if let Some(mut source) = self.source.take() {
            let rows = drain(&mut source, context)?.unwrap_or_default();
            context.keep_table(self.table, rows);
        }
        self.rest.next(context)
    }
}

#[derive(Clone, Debug)]
pub(crate) struct ReadTable {
    pub table: usize,
}

impl OperatorPlan for ReadTable {
    fn name(&self) -> &'static str {
        "ReadTable"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("table", format!("table {}", self.table + 1))]
    }

    fn open(self: Arc<Self>, _: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ReadTableRun { table: self.table, done: false })
    }
}

struct ReadTableRun {
    table: usize,
    done: bool,
}

impl Operator for ReadTableRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if std::mem::replace(&mut self.done, true) {
            return Ok(None);
        }
        let rows = context.table(self.table);
        Ok((rows.len > 0).then(|| (*rows).clone()))
    }
}

#[derive(Clone, Debug)]
pub(crate) struct AfterAll;

impl OperatorPlan for AfterAll {
    fn name(&self) -> &'static str {
        "AfterAll"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("waits", "for the first input to end".into())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let then = inputs.remove(1);
        Box::new(AfterAllRun { first: Some(inputs.remove(0)), then })
    }
}

struct AfterAllRun {
    first: Option<Input>,
    then: Input,
}

impl Operator for AfterAllRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if let Some(mut first) = self.first.take() {
            while first.next(context)?.is_some() {}
        }
        self.then.next(context)
    }
}

#[derive(Clone, Debug)]
pub(crate) struct AttachRow;

impl OperatorPlan for AttachRow {
    fn name(&self) -> &'static str {
        "AttachRow"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("row", "the outer row, before each row".into())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(AttachRowRun { input: inputs.remove(0) })
    }
}

struct AttachRowRun {
    input: Input,
}

impl Operator for AttachRowRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(batch) = self.input.next(context)? else { return Ok(None) };
        let Some(outer) = context.arguments.last() else { return Ok(Some(batch)) };
        let mut out = outer.gather(&vec![0; batch.len]);
        out.columns.extend(batch.columns);
        Ok(Some(out))
    }
}
