//! FoldPaths: a row for each end of a quantified part, instead of one for each path: how many paths there are, and what
//! adds up along them. The number of paths stands in the path's slot, what was folded in the slot of the edges. Where
//! that cannot be had without the paths, they are made, a row each.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::operators::search_paths::{SearchPaths, search_details};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;
use crate::search::{Cursor, Fold, Folded, Folds, SearchSpec, fold_paths};

/// A fold, and how it is had of a path that was made.
#[derive(Clone, Debug)]
pub(crate) struct Folding {
    pub fold: Fold,
    /// On the rows of the search: the value of one path.
    pub of_path: Expr,
    /// Which of the search's variables it is of.
    pub output: usize,
}

#[derive(Clone, Debug)]
pub(crate) struct FoldPaths {
    pub search: SearchPaths,
    pub foldings: Vec<Folding>,
    /// Something reads how many paths there are.
    pub counted: bool,
}

impl FoldPaths {
    fn spec(&self) -> &SearchSpec {
        &self.search.spec
    }

    /// Places among the folds of those of one variable.
    fn of_output(&self, output: usize) -> Vec<usize> {
        (0..self.foldings.len()).filter(|i| self.foldings[*i].output == output).collect()
    }

    /// What stands in the variable's slot: its only fold, or a list of all.
    fn slot_value(&self, output: usize, values: &[Value]) -> Value {
        match &self.of_output(output)[..] {
            [] => Value::Null,
            [one] => values[*one].clone(),
            several => Value::list(several.iter().map(|i| values[*i].clone()).collect()),
        }
    }
}

impl OperatorPlan for FoldPaths {
    fn name(&self) -> &'static str {
        "FoldPaths"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let spec = self.spec();
        search_details(spec, "a row an end")
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let below = inputs.remove(0);
        Box::new(Run { plan: self, input: below, batch: None, row: 0, ready: vec![], enumerated: None })
    }
}

struct Run {
    plan: Arc<FoldPaths>,
    input: Input,
    batch: Option<Arc<Batch>>,
    row: usize,
    /// Ends of `row` that are left to be given.
    ready: Vec<(u32, i64, Vec<Value>)>,
    /// The paths of `row`, where they are made.
    enumerated: Option<Box<dyn Operator>>,
}

/// One row, given once: what the paths of a row are searched from.
struct Once(Option<Batch>);

impl Operator for Once {
    fn next(&mut self, _: &mut Context) -> Outcome<Option<Batch>> {
        Ok(self.0.take())
    }
}

/// Rows for the ends that are found.
#[derive(Default)]
struct FoldedEnds {
    rows: Vec<u32>,
    ends: Vec<u32>,
    counts: Vec<Value>,
    outputs: Vec<Vec<Value>>,
}

impl Run {
    /// The next batch of paths that were made, with folded values in the places of what they bind.
    fn of_paths(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(running) = &mut self.enumerated else { return Ok(None) };
        let Some(mut batch) = running.next(context)? else {
            self.enumerated = None;
            self.row += 1;
            return Ok(None);
        };
        let outputs = self.plan.spec().outputs.len();
        let path = batch.columns.len() - outputs - 1;
        let mut folded: Vec<Vec<Value>> = vec![vec![]; batch.len];
        for (row, values) in folded.iter_mut().enumerate() {
            for folding in &self.plan.foldings {
                let counters = &mut context.metrics[context.current].counters;
                let mut evaluator = Evaluator { scope: &context.scope, counters };
                values.push(evaluator.value(&folding.of_path, Row { batch: &batch, row, locals: &[] })?);
            }
        }
        batch.columns[path] = Vector::Values(vec![Value::Int(1); batch.len]);
        for output in 0..outputs {
            let values = folded.iter().map(|values| self.plan.slot_value(output, values));
            batch.columns[path + 1 + output] = Vector::Values(values.collect());
        }
        Ok(Some(batch))
    }

    /// Begins with the row's paths.
    fn begin(&mut self, batch: &Batch, context: &mut Context) -> Outcome<()> {
        let plan = self.plan.clone();
        let spec = plan.spec();
        let (start, Ok(target)) = (spec.start(batch, self.row), spec.bound_end(batch, self.row)) else {
            self.row += 1;
            return Ok(());
        };
        let (Some(start), Some(step)) = (start, &spec.step) else {
            self.row += 1;
            return Ok(());
        };
        context.metrics().searches += 1;
        let all: Vec<Fold> = plan.foldings.iter().map(|f| f.fold.clone()).collect();
        let folds = Folds { all, counted: plan.counted };
        let mut cursor = Cursor { batch, row: self.row, context };
        match fold_paths(spec, step, &folds, start, &mut cursor)? {
            Folded::Ends(ends) => {
                for (end, paths, values) in ends {
                    if target.is_none_or(|t| t == end) && spec.is_target(end, &mut cursor)? {
                        self.ready.push((end, paths, values));
                    }
                }
                if self.ready.is_empty() {
                    self.row += 1;
                }
            }
            Folded::Enumerate(why) => {
                let note = format!("paths were made: {why}");
                let notes = &mut context.metrics().notes;
                if !notes.contains(&note) {
                    notes.push(note);
                }
                let one = Once(Some(batch.gather(&[self.row as u32])));
                self.enumerated = Some(Arc::new(plan.search.clone()).open(vec![Box::new(one)]));
            }
        }
        Ok(())
    }

    fn batch_of(&self, found: FoldedEnds) -> Option<Batch> {
        let batch = self.batch.as_ref()?;
        let mut out = batch.gather(&found.rows);
        if self.plan.spec().to.is_none() {
            out.columns.push(Vector::Nodes(found.ends));
        }
        out.columns.push(Vector::Values(found.counts));
        out.columns.extend(found.outputs.into_iter().map(Vector::Values));
        Some(out)
    }
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let outputs = self.plan.spec().outputs.len();
        let mut found = FoldedEnds { outputs: vec![vec![]; outputs], ..FoldedEnds::default() };
        loop {
            if self.enumerated.is_some() {
                if !found.rows.is_empty() {
                    return Ok(self.batch_of(found));
                }
                if let Some(batch) = self.of_paths(context)? {
                    return Ok(Some(batch));
                }
                continue;
            }
            while let Some((end, paths, values)) = self.ready.pop() {
                found.rows.push(self.row as u32);
                found.ends.push(end);
                found.counts.push(Value::Int(paths));
                for (output, column) in found.outputs.iter_mut().enumerate() {
                    column.push(self.plan.slot_value(output, &values));
                }
                if self.ready.is_empty() {
                    self.row += 1;
                }
                if found.rows.len() == BATCH_ROWS {
                    return Ok(self.batch_of(found));
                }
            }
            let over = self.batch.as_ref().is_none_or(|batch| self.row >= batch.len);
            if over {
                if !found.rows.is_empty() {
                    return Ok(self.batch_of(found));
                }
                self.batch = self.input.next(context)?.map(Arc::new);
                self.row = 0;
                if self.batch.is_none() {
                    return Ok(None);
                }
            }
            if let Some(batch) = self.batch.clone() {
                self.begin(&batch, context)?;
            }
        }
    }
}
