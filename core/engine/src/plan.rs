//! Plans: a tree of operators with their inputs, outputs and descriptions.

use std::any::Any;
use std::fmt::Debug;
use std::sync::Arc;
use std::time::Instant;

use graphodrome_language::VariableKind;
use serde::{Deserialize, Serialize};

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::outcome::Outcome;
use crate::profile::{Alternative, Estimate};

#[derive(Clone, Debug)]
pub(crate) struct Variable {
    pub name: Arc<str>,
    pub kind: VariableKind,
}

/// The columns of an operator's batches. Names that begin with `#` are the planner's own.
#[derive(Clone, Debug, Default)]
pub(crate) struct Schema {
    pub variables: Vec<Variable>,
}

impl Schema {
    pub fn slot(&self, name: &str) -> Option<usize> {
        self.variables.iter().rposition(|v| *v.name == *name)
    }

    pub fn push(&mut self, name: impl Into<Arc<str>>, kind: VariableKind) -> usize {
        self.variables.push(Variable { name: name.into(), kind });
        self.variables.len() - 1
    }

    pub fn rename(&mut self, slot: usize, name: &str) {
        self.variables[slot].name = name.into();
    }

    pub fn len(&self) -> usize {
        self.variables.len()
    }

    /// Variables a user named.
    pub fn visible(&self) -> impl Iterator<Item = (usize, &Variable)> {
        self.variables.iter().enumerate().filter(|(_, v)| !v.name.starts_with('#'))
    }
}

/// A column of a result.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ColumnInfo {
    pub name: String,
    pub kind: ColumnKind,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ColumnKind {
    Node,
    Edge,
    Path,
    Value,
}

/// A running operator.
pub(crate) trait Operator: Send {
    /// The next batch, never an empty one; `None` at the end.
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>>;
}

pub(crate) type Input = Box<dyn Operator>;

/// What an operator yields that counts its rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Counting {
    /// How many there are for each row of its input.
    Each,
    /// How many there are for each batch of its input, in one row: nothing else is read.
    Together,
}

impl Counting {
    /// The batch with these numbers of rows instead of the rows.
    pub fn batch(self, batch: Batch, counts: Vec<u64>, context: &mut Context) -> Batch {
        let total = counts.iter().fold(0u64, |a, b| a.wrapping_add(*b));
        let (mut out, counts) = match self {
            Counting::Each => (batch, counts),
            Counting::Together => (batch.gather(&[0]), vec![total]),
        };
        // The profile says how many rows there are, not how many stand for them: those are added later.
        let rows_out = &mut context.metrics().rows_out;
        *rows_out = rows_out.wrapping_add(total).wrapping_sub(out.len as u64);
        out.columns.push(Vector::ints(counts.into_iter().map(|n| n as i64).collect()));
        out
    }
}

/// An operator as planned.
pub(crate) trait OperatorPlan: Any + Debug + Send + Sync {
    fn name(&self) -> &'static str;
    /// What it works on, as (stable key, text).
    fn details(&self) -> Vec<(&'static str, String)>;
    /// What is certain of its rows; `inputs` are the operators below.
    fn row_facts(&self, _inputs: &[PlanNode]) -> RowFacts {
        RowFacts::default()
    }
    fn open(self: Arc<Self>, inputs: Vec<Input>) -> Box<dyn Operator>;
    /// The same operator yielding, instead of its rows, how many there are, as a last column behind those of
    /// its input; where it can.
    fn counted(&self, _counting: Counting) -> Option<Arc<dyn OperatorPlan>> {
        None
    }
    /// Whether, and how, it only counts.
    fn counting(&self) -> Option<Counting> {
        None
    }
    /// The same operator yielding at most one row for all of its input's with one number in slot `row`;
    /// where it can.
    fn once(&self, _row: usize) -> Option<Arc<dyn OperatorPlan>> {
        None
    }
    /// Whether it treats every row by itself, so that several of it can share the rows out.
    fn side_by_side(&self) -> bool {
        false
    }
    /// Opens itself with what is below, where it opens that in a way of its own.
    fn open_at(&self, _node: &PlanNode) -> Option<Box<dyn Operator>> {
        None
    }
    /// A correlated part that it runs by itself.
    fn correlated(&self) -> Option<&Arc<PlanNode>> {
        None
    }
}

#[derive(Debug)]
pub(crate) struct PlanNode {
    /// Index of its metrics.
    pub id: usize,
    pub plan: Arc<dyn OperatorPlan>,
    pub inputs: Vec<PlanNode>,
    pub schema: Schema,
    pub estimate: Estimate,
    /// Where there was a choice: the ways there were, with their estimated costs.
    pub alternatives: Vec<Alternative>,
    pub facts: RowFacts,
}

/// What is certain of an operator's rows, whatever the data.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct RowFacts {
    /// There is never more than one.
    pub at_most_one: bool,
    /// No two rows have the same node in this slot, and none has null.
    pub distinct_nodes: Option<usize>,
}

impl PlanNode {
    /// The operator, where it is one of this kind.
    pub fn operator<P: OperatorPlan>(&self) -> Option<&P> {
        (&*self.plan as &dyn Any).downcast_ref()
    }

    pub fn open(&self) -> Box<dyn Operator> {
        let opened = self.plan.open_at(self).unwrap_or_else(|| {
            self.plan.clone().open(self.inputs.iter().map(|input| input.open()).collect())
        });
        metered(self.id, opened)
    }

    /// What each operator is called, by its number.
    pub fn operator_names(&self) -> Vec<String> {
        let mut names = vec![String::new(); self.operator_count()];
        let mut left = vec![self];
        while let Some(node) = left.pop() {
            names[node.id] = node.plan.name().into();
            left.extend(&node.inputs);
            left.extend(node.plan.correlated().map(|inner| &**inner));
        }
        names
    }

    pub fn operator_count(&self) -> usize {
        let own = (self.id + 1).max(self.inputs.iter().map(PlanNode::operator_count).max().unwrap_or(0));
        own.max(self.plan.correlated().map_or(0, |inner| inner.operator_count()))
    }
}

/// An operator with its figures taken.
pub(crate) fn metered(id: usize, inner: Box<dyn Operator>) -> Box<dyn Operator> {
    Box::new(Metered { id, inner })
}

/// Counts rows, batches and time around an operator: two clock readings a batch.
struct Metered {
    id: usize,
    inner: Box<dyn Operator>,
}

/// Batches asked for between two looks at the clock in a brief run, whose times are not taken.
const ASKED_BETWEEN: u64 = 16;

impl Operator for Metered {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if context.limits.brief.is_some() {
            context.asked += 1;
            if context.asked.is_multiple_of(ASKED_BETWEEN) {
                context.check_at(Instant::now())?;
            }
            let caller = std::mem::replace(&mut context.current, self.id);
            let result = self.inner.next(context);
            context.current = caller;
            return result;
        }
        let started = Instant::now();
        context.check_at(started)?;
        let caller = std::mem::replace(&mut context.current, self.id);
        if let Some(watch) = &context.limits.watch {
            watch.at(self.id);
        }
        let result = self.inner.next(context);
        if let Some(watch) = &context.limits.watch {
            watch.at(caller);
        }
        let metrics = &mut context.metrics[self.id];
        metrics.total += started.elapsed();
        let rows = match &result {
            Ok(Some(batch)) => {
                metrics.batches += 1;
                metrics.rows_out = metrics.rows_out.wrapping_add(batch.len as u64);
                batch.len as u64
            }
            _ => 0,
        };
        context.current = caller;
        if caller != self.id {
            context.metrics[caller].rows_in += rows;
        }
        result
    }
}
