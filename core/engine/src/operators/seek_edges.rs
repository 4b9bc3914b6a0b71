//! SeekEdges: for each row the edges that a key or an index finds, with both of their ends.

use std::sync::Arc;

use graphodrome_graph::{NodeTest, Value};

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::lookup::Lookup;
use crate::operators::EdgeCheck;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

/// The left node, the edge and the right node take the slots after the input's.
#[derive(Clone, Debug)]
pub(crate) struct SeekEdges {
    pub pattern: String,
    /// The key's or index's name, and what is looked for.
    pub shown: String,
    pub lookup: Lookup,
    pub edge: EdgeCheck,
    pub left: NodeTest,
    pub right: NodeTest,
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
}

impl OperatorPlan for SeekEdges {
    fn name(&self) -> &'static str {
        "SeekEdges"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("pattern", self.pattern.clone()), ("index", self.shown.clone())];
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(SeekEdgesRun { spec: self, input: inputs.remove(0) })
    }
}

struct SeekEdgesRun {
    spec: Arc<SeekEdges>,
    input: Input,
}

impl SeekEdges {
    /// The ways in which an edge fits the pattern: its ends as left and right.
    fn ways(&self, context: &Context, edge: u32) -> Vec<(u32, u32)> {
        let snapshot = &context.scope;
        let labels = snapshot.edge_labels(edge);
        if !self.edge.test.expression.as_ref().is_none_or(|e| e.matches(&labels)) {
            return vec![];
        }
        let (from, to) = snapshot.edge_ends(edge);
        let direction = self.edge.direction;
        let (along, against) = if snapshot.edge_directed(edge) {
            (direction.takes_out(), direction.takes_in())
        } else {
            (direction.takes_undirected(), direction.takes_undirected())
        };
        let mut ways = vec![];
        if along {
            ways.push((from, to));
        }
        // A loop fits in one way, however it is gone through.
        if against && (from != to || !along) {
            ways.push((to, from));
        }
        ways.retain(|(l, r)| snapshot.node_passes(*l, &self.left) && snapshot.node_passes(*r, &self.right));
        ways
    }
}

impl Operator for SeekEdgesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let (mut rows, mut lefts, mut edges, mut rights) = (vec![], vec![], vec![], vec![]);
            for row in 0..batch.len {
                let mut found = vec![];
                let at = Row { batch: &batch, row, locals: &[] };
                self.spec.lookup.run(context, at, &mut found)?;
                context.work(1 + found.len() as u64)?;
                for edge in found {
                    if !self.spec.edge.is_different(edge, &batch, row) {
                        continue;
                    }
                    for (left, right) in self.spec.ways(context, edge) {
                        let locals = [Value::Node(left), Value::Edge(edge), Value::Node(right)];
                        let at = Row { locals: &locals, ..at };
                        let counters = &mut context.metrics[context.current].counters;
                        let mut passes = true;
                        for condition in &self.spec.conditions {
                            passes = passes && holds(condition, at, &context.scope, counters)?;
                        }
                        if passes {
                            rows.push(row as u32);
                            lefts.push(left);
                            edges.push(edge);
                            rights.push(right);
                        }
                    }
                }
            }
            if !rows.is_empty() {
                let mut out = batch.gather(&rows);
                out.columns.extend([Vector::Nodes(lefts), Vector::Edges(edges), Vector::Nodes(rights)]);
                return Ok(Some(out));
            }
        }
        Ok(None)
    }
}
