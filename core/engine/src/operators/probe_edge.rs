//! ProbeEdge: edges between two bound nodes, looked for from the end with the lower degree.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::context::Context;
use crate::counters::Counters;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::operators::EdgeCheck;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct ProbeEdge {
    pub pattern: String,
    pub from: usize,
    pub to: usize,
    pub edge: EdgeCheck,
    /// The first edge that is found is enough.
    pub once: bool,
    /// On the input row with the edge in the next slot.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
}

impl OperatorPlan for ProbeEdge {
    fn name(&self) -> &'static str {
        "ProbeEdge"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("pattern", self.pattern.clone())];
        if self.once {
            details.push(("rows", "the first edge of each row".into()));
        }
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ProbeEdgeRun { spec: self, input: inputs.remove(0) })
    }
}

struct ProbeEdgeRun {
    spec: Arc<ProbeEdge>,
    input: Input,
}

impl Operator for ProbeEdgeRun {
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
                let (direction, test) = (spec.edge.direction, &spec.edge.test);
                let looked = snapshot.for_each_joining((from, to), direction, test, |edge| {
                    if !spec.edge.is_different(edge, &batch, row) {
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
                    if spec.once { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
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
