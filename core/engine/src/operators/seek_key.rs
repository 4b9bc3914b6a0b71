//! SeekKey: for each row the node with the key values given, found in the key's index; of several keys the nodes of each.

use std::sync::Arc;

use graphodrome_graph::{NodeTest, Value};

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::evaluate::{Evaluator, holds};
use crate::expression::Expr;
use crate::lookup::seek;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct SeekKey {
    pub pattern: String,
    pub key_name: String,
    /// Keys over the same properties.
    pub keys: Vec<usize>,
    /// One per property of the keys, on the input row.
    pub values: Vec<Expr>,
    pub test: NodeTest,
    /// On the input row with the node in the next slot.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
}

impl OperatorPlan for SeekKey {
    fn name(&self) -> &'static str {
        "SeekKey"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details =
            vec![("pattern", self.pattern.clone()), ("index", format!("by key {}", self.key_name))];
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn row_facts(&self, inputs: &[PlanNode]) -> RowFacts {
        match self.keys[..] {
            [_] => inputs[0].facts,
            _ => RowFacts::default(),
        }
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(SeekKeyRun { spec: self, input: inputs.remove(0) })
    }
}

struct SeekKeyRun {
    spec: Arc<SeekKey>,
    input: Input,
}

impl Operator for SeekKeyRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let mut rows = vec![];
            let mut nodes = vec![];
            for row in 0..batch.len {
                context.work(1)?;
                let at = Row { batch: &batch, row, locals: &[] };
                let counters = &mut context.metrics[context.current].counters;
                let mut values = Vec::with_capacity(self.spec.values.len());
                for value in &self.spec.values {
                    values.push(Evaluator { scope: &context.scope, counters }.value(value, at)?);
                }
                let span = self.spec.values.first().map(|e| e.span).unwrap_or_default();
                let first = nodes.len();
                for key in &self.spec.keys {
                    counters.index_probes += 1;
                    let Some(node) = seek(&context.scope, *key, &values, span)? else { continue };
                    // A node with several labels may be found by the key of each.
                    if nodes[first..].contains(&node) || !context.scope.node_passes(node, &self.spec.test) {
                        continue;
                    }
                    let locals = [Value::Node(node)];
                    let at = Row { locals: &locals, ..at };
                    let mut passes = true;
                    for condition in &self.spec.conditions {
                        passes = passes && holds(condition, at, &context.scope, counters)?;
                    }
                    if passes {
                        rows.push(row as u32);
                        nodes.push(node);
                    }
                }
            }
            if !rows.is_empty() {
                let mut out = batch.gather(&rows);
                out.columns.push(Vector::Nodes(nodes));
                return Ok(Some(out));
            }
        }
        Ok(None)
    }
}
