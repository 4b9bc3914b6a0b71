//! InsertElements: new nodes and edges for every row. It takes all its rows first, so that it never
//! sees what it made itself.

use std::sync::Arc;

use graphodrome_graph::{LabelSet, NewEdge, NewNode, Value};
use graphodrome_language::{Diagnostic, Span};

use crate::batch::{Batch, Vector};
use crate::context::{Context, Outcome, located};
use crate::evaluate::{Evaluator, Row};
use crate::expression::Expr;
use crate::operators::drain;
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct InsertNodeSpec {
    pub labels: LabelSet,
    pub properties: Vec<(Arc<str>, Expr)>,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub(crate) struct InsertEdgeSpec {
    pub labels: LabelSet,
    pub properties: Vec<(Arc<str>, Expr)>,
    pub directed: bool,
    /// Slots of the ends, new nodes included.
    pub source: usize,
    pub target: usize,
    pub span: Span,
}

/// New nodes take the slots after the input's, in order; new edges those after them.
#[derive(Clone, Debug)]
pub(crate) struct InsertElements {
    pub nodes: Vec<InsertNodeSpec>,
    pub edges: Vec<InsertEdgeSpec>,
    pub span: Span,
}

impl OperatorPlan for InsertElements {
    fn name(&self) -> &'static str {
        "InsertElements"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let nodes = self.nodes.iter().map(|n| format!("(:{})", n.labels.join("&")));
        let edges = self.edges.iter().map(|e| format!("[:{}]", e.labels.join("&")));
        vec![("elements", nodes.chain(edges).collect::<Vec<_>>().join(", "))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { spec: self, input: inputs.remove(0), done: false })
    }
}

struct Run {
    spec: Arc<InsertElements>,
    input: Input,
    done: bool,
}

fn evaluate(
    properties: &[(Arc<str>, Expr)], batch: &Batch, row: usize, context: &mut Context,
) -> Outcome<Vec<(Arc<str>, Value)>> {
    let counters = &mut context.metrics[context.current].counters;
    let mut evaluator = Evaluator { scope: &context.scope, counters };
    properties
        .iter()
        .map(|(name, e)| Ok((name.clone(), evaluator.value(e, Row { batch, row, locals: &[] })?)))
        .collect()
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if std::mem::replace(&mut self.done, true) {
            return Ok(None);
        }
        let Some(mut batch) = drain(&mut self.input, context)? else { return Ok(None) };
        let spec = &self.spec;
        let mut nodes: Vec<Vec<u32>> = vec![Vec::with_capacity(batch.len); spec.nodes.len()];
        for row in 0..batch.len {
            context.work(1)?;
            for (node, made) in spec.nodes.iter().zip(&mut nodes) {
                let properties = evaluate(&node.properties, &batch, row, context)?;
                let new = NewNode { labels: node.labels.clone(), properties };
                made.push(context.transaction().insert_node(new).map_err(|e| located(e, node.span))?);
                context.changed.nodes_inserted += 1;
            }
        }
        batch.columns.extend(nodes.into_iter().map(Vector::Nodes));
        let mut edges: Vec<Vec<u32>> = vec![Vec::with_capacity(batch.len); spec.edges.len()];
        for row in 0..batch.len {
            context.work(1)?;
            for (edge, made) in spec.edges.iter().zip(&mut edges) {
                let properties = evaluate(&edge.properties, &batch, row, context)?;
                let end = |slot: usize| match batch.columns[slot].get(row) {
                    Value::Node(n) => Ok(n),
                    other => Err(Diagnostic::error(
                        graphodrome_graph::Code::WRONG_TYPE,
                        edge.span,
                        format!("an end of the new edge must be a node, found {}", other.type_name()),
                    )),
                };
                let new = NewEdge {
                    labels: edge.labels.clone(),
                    properties,
                    directed: edge.directed,
                    source: end(edge.source)?,
                    target: end(edge.target)?,
                };
                made.push(context.transaction().insert_edge(new).map_err(|e| located(e, edge.span))?);
                context.changed.edges_inserted += 1;
            }
        }
        batch.columns.extend(edges.into_iter().map(Vector::Edges));
        context.settle(spec.span)?;
        Ok((batch.len > 0).then_some(batch))
    }
}
