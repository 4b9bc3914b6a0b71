//! Filter: the rows for which every condition is true.

use std::sync::Arc;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::context::Context;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::of_node::OfNode;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};
use crate::row::Row;
use crate::scope::Scope;

#[derive(Clone, Debug)]
pub(crate) struct Filter {
    pub conditions: Vec<Expr>,
    pub shown: String,
}

impl OperatorPlan for Filter {
    fn name(&self) -> &'static str {
        "Filter"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("where", self.shown.clone())]
    }

    fn row_facts(&self, inputs: &[PlanNode]) -> RowFacts {
        inputs[0].facts
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(FilterRun { plan: self, input: inputs.remove(0) })
    }
}

/// A condition, with the column of the node where it looks at one alone.
enum Asked<'a> {
    OfNode(OfNode<'a>, &'a [u32]),
    OfRow(&'a Expr),
}

impl<'a> Asked<'a> {
    fn of(condition: &'a Expr, batch: &'a Batch, scope: &Scope) -> Asked<'a> {
        let mut slots = vec![];
        condition.slots(&mut slots);
        let nodes = slots.first().and_then(|slot| match &batch.columns[*slot] {
            Vector::Nodes(nodes) => Some((*slot, nodes)),
            _ => None,
        });
        match nodes.and_then(|(slot, nodes)| Some((OfNode::of(condition, slot, scope)?, nodes))) {
            Some((condition, nodes)) => Asked::OfNode(condition, nodes),
            None => Asked::OfRow(condition),
        }
    }
}

struct FilterRun {
    plan: Arc<Filter>,
    input: Input,
}

impl Operator for FilterRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let mut kept = Vec::with_capacity(batch.len);
            let asked: Vec<Asked<'_>> =
                self.plan.conditions.iter().map(|c| Asked::of(c, &batch, &context.scope)).collect();
            'rows: for row in 0..batch.len {
                context.work(1)?;
                let at = Row { batch: &batch, row, locals: &[] };
                let counters = &mut context.metrics[context.current].counters;
                for condition in &asked {
                    let passes = match condition {
                        Asked::OfNode(condition, nodes) if nodes[row] != NO_ELEMENT => {
                            condition.holds(nodes[row], at, &context.scope, counters)?
                        }
                        Asked::OfNode(condition, _) => {
                            holds(condition.condition(), at, &context.scope, counters)?
                        }
                        Asked::OfRow(condition) => holds(condition, at, &context.scope, counters)?,
                    };
                    if !passes {
                        continue 'rows;
                    }
                }
                kept.push(row as u32);
            }
            if kept.len() == batch.len {
                return Ok(Some(batch));
            }
            if !kept.is_empty() {
                return Ok(Some(batch.gather(&kept)));
            }
        }
        Ok(None)
    }
}
