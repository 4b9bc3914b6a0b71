//! FoldPaths: one row for each end of a quantified part instead of one for each path, with the number of paths in
//! the path's slot and the folded values in the slot of the edges. If this is impossible without enumerating the
//! paths, they are enumerated.

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
use crate::search::{
    Between, Cursor, Fold, Folded, Folds, SearchSpec, Step, count_between, fold_paths, too_many,
};

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
    /// Paths between two nodes may be counted from their beginnings.
    pub between: bool,
    /// A row for each length; a list of the length and the number of paths stands in the path's slot.
    pub by_length: bool,
}

/// Up to this length paths are counted from their beginnings, without a look at whether there is a cycle.
const SHORT: u32 = 6;

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
        let short = self.by_length || spec.max.is_some_and(|max| max <= SHORT);
        let method = match (self.between && short, self.by_length) {
            (true, false) => "counted: the last three edges of all with one beginning together",
            (true, true) => {
                "counted by their lengths: the last three edges of all with one beginning together"
            }
            _ => "a row an end",
        };
        search_details(spec, method)
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let input = inputs.remove(0);
        let (ready, beginnings) = (vec![], 0);
        Box::new(FoldPathsRun { plan: self, input, batch: None, row: 0, ready, enumerated: None, beginnings })
    }
}

struct FoldPathsRun {
    plan: Arc<FoldPaths>,
    input: Input,
    batch: Option<Arc<Batch>>,
    row: usize,
    /// Ends of `row` that are left to be given, with what stands in the path's slot and the values of folds.
    ready: Vec<(u32, Value, Vec<Value>)>,
    /// The paths of `row`, where they are made.
    enumerated: Option<Box<dyn Operator>>,
    /// How many beginnings of paths were made.
    beginnings: u64,
}

/// One row, given once: what the paths of a row are searched from.
pub(super) struct Once(pub Option<Batch>);

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

impl FoldPathsRun {
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
        let bound = target.filter(|_| plan.between);
        if let Some(end) = bound.filter(|_| plan.by_length || spec.max.is_some_and(|max| max <= SHORT)) {
            return self.count_to((start, end), step, &mut cursor);
        }
        match fold_paths(spec, step, &folds, start, &mut cursor)? {
            Folded::Ends(ends) => {
                for (end, paths, values) in ends {
                    if target.is_none_or(|t| t == end) && spec.is_target(end, &mut cursor)? {
                        self.ready.push((end, Value::Int(paths), values));
                    }
                }
                if self.ready.is_empty() {
                    self.row += 1;
                }
            }
            Folded::Enumerate(_) if bound.is_some() => {
                return self.count_to((start, bound.unwrap_or(start)), step, &mut cursor);
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

    /// Counts the row's paths between two nodes.
    fn count_to(&mut self, (start, end): (u32, u32), step: &Step, cursor: &mut Cursor<'_>) -> Outcome<()> {
        let plan = self.plan.clone();
        let counted = count_between(plan.spec(), step, (start, end), cursor)?;
        let Between { by_length, beginnings } = counted.unwrap_or_default();
        self.beginnings += beginnings;
        let int = |paths: i128| match i64::try_from(paths) {
            Err(_) if plan.counted => Err(too_many(&[])),
            paths => Ok(paths.unwrap_or(i64::MAX)),
        };
        if !plan.spec().is_target(end, cursor)? {
            self.row += 1;
            return Ok(());
        }
        if !plan.by_length {
            let paths = by_length.iter().fold(0i128, |all, more| all.saturating_add(*more));
            if paths > 0 {
                self.ready.push((end, Value::Int(int(paths)?), vec![]));
            }
        } else {
            // The last one is given first.
            for (length, paths) in by_length.into_iter().enumerate().rev().filter(|(_, paths)| *paths > 0) {
                let both = vec![Value::Int(length as i64), Value::Int(int(paths)?)];
                self.ready.push((end, Value::list(both), vec![]));
            }
        }
        if self.ready.is_empty() {
            self.row += 1;
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

impl Operator for FoldPathsRun {
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
            while let Some((end, of_path, values)) = self.ready.pop() {
                found.rows.push(self.row as u32);
                found.ends.push(end);
                found.counts.push(of_path);
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
                    let beginnings = std::mem::take(&mut self.beginnings);
                    if beginnings > 0 {
                        context.metrics().notes.push(format!("beginnings made: {beginnings}"));
                    }
                    return Ok(None);
                }
            }
            if let Some(batch) = self.batch.clone() {
                self.begin(&batch, context)?;
            }
        }
    }
}
