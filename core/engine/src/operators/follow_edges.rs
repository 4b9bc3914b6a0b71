//! FollowEdges: from a bound node along one edge to a new node.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Dense, Direction, EdgeTest, NodeTest, Value};

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::context::{Context, Counters, Outcome};
use crate::evaluate::{Row, holds};
use crate::expression::Expr;
use crate::plan::{Input, Operator, OperatorPlan};

/// What an edge of a pattern must be: labels, conditions, and no edge that the same MATCH took already.
#[derive(Clone, Debug)]
pub(crate) struct EdgeCheck {
    pub test: EdgeTest,
    pub direction: Direction,
    /// Slots of edges, paths or lists of edges bound in the same MATCH.
    pub different_from: Vec<usize>,
}

#[derive(Clone, Debug)]
pub(crate) struct NodeCheck {
    pub test: NodeTest,
}

impl EdgeCheck {
    /// Whether the row has not taken `edge` yet.
    pub fn is_different(&self, edge: Dense, batch: &Batch, row: usize) -> bool {
        self.different_from.iter().all(|&slot| match &batch.columns[slot] {
            Vector::Edges(edges) => edges[row] != edge,
            Vector::Nodes(_) => true,
            Vector::Values(values) => match &values[row] {
                Value::Path(path) => !path.edges.contains(&edge),
                Value::List(items) => !items.contains(&Value::Edge(edge)),
                _ => true,
            },
        })
    }
}

#[derive(Clone, Debug)]
pub(crate) struct FollowEdges {
    pub pattern: String,
    pub from: usize,
    pub edge: EdgeCheck,
    pub node: NodeCheck,
    /// On the input row with the edge and the node in the next two slots.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
}

impl OperatorPlan for FollowEdges {
    fn name(&self) -> &'static str {
        "FollowEdges"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("pattern", self.pattern.clone())];
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { spec: self, input: inputs.remove(0), batch: None, row: 0 })
    }
}

struct Run {
    spec: Arc<FollowEdges>,
    input: Input,
    batch: Option<Batch>,
    row: usize,
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let (mut rows, mut edges, mut nodes) = (vec![], vec![], vec![]);
        loop {
            if self.batch.as_ref().is_none_or(|b| self.row >= b.len) {
                if !rows.is_empty() {
                    break;
                }
                self.batch = self.input.next(context)?;
                self.row = 0;
                if self.batch.is_none() {
                    return Ok(None);
                }
            }
            let Some(batch) = &self.batch else { return Ok(None) };
            let row = self.row;
            self.row += 1;
            let Vector::Nodes(from) = &batch.columns[self.spec.from] else { continue };
            let from = from[row];
            if from == crate::NO_ELEMENT {
                continue;
            }
            let snapshot = &context.scope;
            let mut counters = Counters::default();
            let mut failure = None;
            let spec = &self.spec;
            let looked =
                snapshot.for_each_adjacent(from, spec.edge.direction, &spec.edge.test, |edge, other| {
                    if !spec.edge.is_different(edge, batch, row)
                        || !snapshot.node_passes(other, &spec.node.test)
                    {
                        return ControlFlow::Continue(());
                    }
                    if !spec.conditions.is_empty() {
                        let locals = [Value::Edge(edge), Value::Node(other)];
                        let at = Row { batch, row, locals: &locals };
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
                    }
                    rows.push(row as u32);
                    edges.push(edge);
                    nodes.push(other);
                    ControlFlow::Continue(())
                });
            if let Some(error) = failure {
                return Err(error);
            }
            let total = context.counters();
            total.edges_looked += looked;
            total.properties_read += counters.properties_read;
            context.work(looked + 1)?;
            if rows.len() >= BATCH_ROWS {
                break;
            }
        }
        let Some(batch) = &self.batch else { return Ok(None) };
        let mut out = batch.gather(&rows);
        out.columns.push(Vector::Edges(edges));
        out.columns.push(Vector::Nodes(nodes));
        Ok(Some(out))
    }
}
