//! SeekIndex: for each row the nodes that an index finds: by the values of its first properties, a range
//! of the next, or both.

use std::sync::Arc;

use graphodrome_graph::{NodeTest, Value};

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::context::Context;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::lookup::Lookup;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct SeekIndex {
    pub pattern: String,
    /// The index's name, and what is looked for.
    pub index_name: String,
    pub lookup: Lookup,
    pub test: NodeTest,
    /// On the input row with the node in the next slot.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
}

impl OperatorPlan for SeekIndex {
    fn name(&self) -> &'static str {
        "SeekIndex"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details =
            vec![("pattern", self.pattern.clone()), ("index", format!("by index {}", self.index_name))];
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(SeekIndexRun { spec: self, input: inputs.remove(0), batch: None, row: 0, found: vec![] })
    }
}

struct SeekIndexRun {
    spec: Arc<SeekIndex>,
    input: Input,
    batch: Option<Batch>,
    /// The next row to search for; what is left in `found` is for the row before it.
    row: usize,
    found: Vec<u32>,
}

impl Operator for SeekIndexRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            let batch = match self.batch.take() {
                Some(batch) => batch,
                None => match self.input.next(context)? {
                    Some(batch) => {
                        self.row = 0;
                        batch
                    }
                    None => return Ok(None),
                },
            };
            let (mut rows, mut nodes) = (vec![], vec![]);
            while nodes.len() < BATCH_ROWS {
                let Some(node) = self.found.pop() else {
                    if self.row == batch.len {
                        break;
                    }
                    let at = Row { batch: &batch, row: self.row, locals: &[] };
                    self.spec.lookup.run(context, at, &mut self.found)?;
                    self.row += 1;
                    context.work(1)?;
                    continue;
                };
                context.work(1)?;
                if !context.scope.node_passes(node, &self.spec.test) {
                    continue;
                }
                let locals = [Value::Node(node)];
                let at = Row { batch: &batch, row: self.row - 1, locals: &locals };
                let counters = &mut context.metrics[context.current].counters;
                let mut passes = true;
                for condition in &self.spec.conditions {
                    passes = passes && holds(condition, at, &context.scope, counters)?;
                }
                if passes {
                    rows.push(self.row as u32 - 1);
                    nodes.push(node);
                }
            }
            let out = (!rows.is_empty()).then(|| {
                let mut out = batch.gather(&rows);
                out.columns.push(Vector::Nodes(nodes));
                out
            });
            if self.row < batch.len || !self.found.is_empty() {
                self.batch = Some(batch);
            }
            if let Some(out) = out {
                return Ok(Some(out));
            }
        }
    }
}
