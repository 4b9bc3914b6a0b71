//! DeleteElements: deletes the nodes and edges named, each once however often it comes.

use std::sync::Arc;

use graphodrome_graph::Value;
use graphodrome_language::{Diagnostic, Span};

use crate::batch::Batch;
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::operators::drain;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct DeleteElements {
    pub targets: Vec<Expr>,
    pub detach: bool,
    pub span: Span,
    pub shown: String,
}

impl OperatorPlan for DeleteElements {
    fn name(&self) -> &'static str {
        "DeleteElements"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let detach = if self.detach { "detach " } else { "" };
        vec![("elements", format!("{detach}{}", self.shown))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(DeleteElementsRun { spec: self, input: inputs.remove(0), done: false })
    }
}

struct DeleteElementsRun {
    spec: Arc<DeleteElements>,
    input: Input,
    done: bool,
}

impl Operator for DeleteElementsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if std::mem::replace(&mut self.done, true) {
            return Ok(None);
        }
        let Some(batch) = drain(&mut self.input, context)? else { return Ok(None) };
        let mut elements = vec![];
        for row in 0..batch.len {
            context.work(1)?;
            for target in &self.spec.targets {
                let counters = &mut context.metrics[context.current].counters;
                let mut evaluator = Evaluator { scope: &context.scope, counters };
                match evaluator.value(target, Row { batch: &batch, row, locals: &[] })? {
                    Value::List(items) => elements.extend(items.iter().map(|v| (v.clone(), target.span))),
                    value => elements.push((value, target.span)),
                }
            }
        }
        // Edges first, so that a node whose edges are named too needs no DETACH.
        elements.sort_by_key(|(value, _)| matches!(value, Value::Node(_)));
        for (value, span) in elements {
            let before = (
                context.transaction().snapshot().node_count(),
                context.transaction().snapshot().edge_count(),
            );
            match value {
                Value::Edge(e) => context.transaction().delete_edge(e),
                Value::Node(n) => context.transaction().delete_node(n, self.spec.detach),
                Value::Null => {}
                other => {
                    return Err(Diagnostic::error(
                        graphodrome_graph::Code::WRONG_TYPE,
                        span,
                        format!(
                            "only nodes and edges can be deleted, found {} {}",
                            other.type_name(),
                            other.excerpt()
                        ),
                    ));
                }
            }
            let snapshot = context.transaction().snapshot();
            let after = (snapshot.node_count(), snapshot.edge_count());
            context.changed.nodes_deleted += before.0 - after.0;
            context.changed.edges_deleted += before.1 - after.1;
        }
        context.settle(self.spec.span)?;
        Ok((batch.len > 0).then_some(batch))
    }
}
