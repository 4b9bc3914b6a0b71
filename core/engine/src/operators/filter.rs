//! Filter: the rows for which every condition is true.

use std::sync::Arc;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::columnar;
use crate::context::Context;
use crate::counters::Counters;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::number_columns::TRUE;
use crate::of_node::OfNode;
use crate::of_text::OfText;
use crate::outcome::{CHECK_EVERY, Outcome};
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
    Node(OfNode<'a>, &'a [u32]),
    Text(OfText<'a>, &'a [u32]),
    Row(&'a Expr),
}

impl<'a> Asked<'a> {
    fn of(condition: &'a Expr, batch: &'a Batch, scope: &'a Scope) -> Asked<'a> {
        let mut slots = vec![];
        condition.slots(&mut slots);
        let nodes = slots.first().and_then(|slot| match &batch.columns[*slot] {
            Vector::Nodes(nodes) => Some((*slot, nodes)),
            _ => None,
        });
        let of_node = nodes.and_then(|(slot, nodes)| Some((OfNode::of(condition, slot, scope)?, nodes)));
        if let Some((condition, nodes)) = of_node {
            return Asked::Node(condition, nodes);
        }
        let edges = slots.first().and_then(|slot| match &batch.columns[*slot] {
            Vector::Edges(edges) => Some((*slot, edges)),
            _ => None,
        });
        match edges.and_then(|(slot, edges)| Some((OfText::of(condition, slot, scope)?, edges))) {
            Some((condition, edges)) => Asked::Text(condition, edges),
            None => Asked::Row(condition),
        }
    }
}

struct FilterRun {
    plan: Arc<Filter>,
    input: Input,
}

/// The rows of a batch that pass all conditions, which are asked in their order: of all rows at once where they are of
/// columns of one type.
pub(super) fn passing_rows(conditions: &[&Expr], batch: &Batch, context: &mut Context) -> Outcome<Vec<u32>> {
    let scope = context.scope.clone();
    let mut kept: Vec<u32> = (0..batch.len as u32).collect();
    context.work(batch.len as u64)?;
    for condition in conditions {
        let asked = Asked::of(condition, batch, &scope);
        if let Asked::Row(condition) = asked {
            let mut reads = 0;
            if let Some(truths) = columnar::condition(condition, batch, &scope, &mut reads) {
                // Of rows that were left out before nothing counts, as where rows are asked one by one.
                context.counters().properties_read += reads / batch.len.max(1) as u64 * kept.len() as u64;
                kept.retain(|&row| truths[row as usize] == TRUE);
                continue;
            }
        }
        let mut passing = Vec::with_capacity(kept.len());
        let mut counted = Counters::default();
        for (place, &row) in kept.iter().enumerate() {
            if (place as u64).is_multiple_of(CHECK_EVERY) {
                context.check()?;
            }
            let at = Row { batch, row: row as usize, locals: &[] };
            let passes = match &asked {
                Asked::Node(condition, nodes) if nodes[row as usize] != NO_ELEMENT => {
                    condition.holds(nodes[row as usize], at, &scope, &mut counted)?
                }
                Asked::Node(condition, _) => holds(condition.condition(), at, &scope, &mut counted)?,
                Asked::Text(condition, edges) => {
                    condition.holds(edges[row as usize], at, &scope, &mut counted)?
                }
                Asked::Row(condition) => holds(condition, at, &scope, &mut counted)?,
            };
            if passes {
                passing.push(row);
            }
        }
        context.counters().properties_read += counted.properties_read;
        kept = passing;
    }
    Ok(kept)
}

impl Operator for FilterRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let plan = self.plan.clone();
        let conditions: Vec<&Expr> = plan.conditions.iter().collect();
        while let Some(batch) = self.input.next(context)? {
            let kept = passing_rows(&conditions, &batch, context)?;
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
