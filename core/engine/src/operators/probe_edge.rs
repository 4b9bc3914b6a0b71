//! ProbeEdge: edges between two bound nodes, looked for from the end with the lower degree.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Direction, Value};

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::context::{Context, Counters, Outcome};
use crate::evaluate::{Row, holds};
use crate::expression::Expr;
use crate::operators::EdgeCheck;
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct ProbeEdge {
    pub pattern: String,
    pub from: usize,
    pub to: usize,
    pub edge: EdgeCheck,
    /// On the input row with the edge in the next slot.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
}

impl OperatorPlan for ProbeEdge {
    fn name(&self) -> &'static str {
        "ProbeEdge"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("pattern", self.pattern.clone())];
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { spec: self, input: inputs.remove(0) })
    }
}

struct Run {
    spec: Arc<ProbeEdge>,
    input: Input,
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let (mut rows, mut edges) = (vec![], vec![]);
            let spec = &self.spec;
            let (Vector::Nodes(froms), Vector::Nodes(tos)) =
                (&batch.columns[spec.from], &batch.columns[spec.to])
            else {
                continue;
            };
            for row in 0..batch.len {
                let (from, to) = (froms[row], tos[row]);
                if from == NO_ELEMENT || to == NO_ELEMENT {
                    continue;
                }
                let snapshot = &context.scope;
                let mut counters = Counters::default();
                let mut failure = None;
                let (near, far, direction) = cheaper_end(context, spec, from, to);
                let looked = snapshot.for_each_adjacent(near, direction, &spec.edge.test, |edge, other| {
                    if other != far || !spec.edge.is_different(edge, &batch, row) {
                        return ControlFlow::Continue(());
                    }
                    let locals = [Value::Edge(edge)];
                    let at = Row { batch: &batch, row, locals: &locals };
                    for condition in &spec.conditions {
                        match holds(condition, at, snapshot, &mut counters) {
                            Ok(true) => {}
                            Ok(false) => return ControlFlow::Continue(()),
                            Err(error) => {
                                failure = Some(error);
                                return ControlFlow::Break(());
                            }
                        }
                    }
                    rows.push(row as u32);
                    edges.push(edge);
                    ControlFlow::Continue(())
                });
                if let Some(error) = failure {
                    return Err(error);
                }
                let total = context.counters();
                total.edges_looked += looked;
                total.properties_read += counters.properties_read;
                total.index_probes += 1;
                context.work(looked + 1)?;
            }
            if !rows.is_empty() {
                let mut out = batch.gather(&rows);
                out.columns.push(Vector::Edges(edges));
                return Ok(Some(out));
            }
        }
        Ok(None)
    }
}

/// Row lengths in the base tell which end has less to look at.
fn cheaper_end(context: &Context, spec: &ProbeEdge, from: u32, to: u32) -> (u32, u32, Direction) {
    let base = &context.scope.base;
    let degree = |node: u32, direction: Direction| -> usize {
        let mut sum = 0;
        for &t in &spec.edge.test.tables {
            let table = &base.edges[t];
            let both = !table.directed;
            if both || direction.takes_out() {
                sum += table.forward.row(node).len();
            }
            if both || direction.takes_in() {
                sum += table.reverse.row(node).len();
            }
        }
        sum
    };
    let direction = spec.edge.direction;
    if degree(from, direction) <= degree(to, direction.reversed()) {
        (from, to, direction)
    } else {
        (to, from, direction.reversed())
    }
}
