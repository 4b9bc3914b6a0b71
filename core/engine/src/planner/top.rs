//! The first rows of an order, batch by batch below (rule `top-parts`).

use crate::batch::BATCH_ROWS;
use crate::operators::{Compute, Order, TopPart};
use crate::plan::PlanNode;
use crate::planner::state::Planner;
use crate::profile::Estimate;
use crate::rules::Rule;

/// The first ones must be so much fewer than the rows of a batch, and these so many.
const FEWER: usize = 4;
const ROWS_WORTH: f64 = 4.0 * BATCH_ROWS as f64;

impl Planner<'_> {
    /// The input of an order, with only those of its rows that can be among the first, where that is worth it.
    pub(super) fn top_part(&mut self, order: &Order, input: PlanNode) -> PlanNode {
        let few = order.first.is_some_and(|first| first.saturating_mul(FEWER) <= BATCH_ROWS);
        if !few || input.estimate.rows < ROWS_WORTH || !self.may(Rule::TopParts) {
            return input;
        }
        // What is computed for the order, from the lowest up.
        let (mut expressions, mut shown, mut at) = (vec![], vec![], &input);
        while let (Some(compute), [below]) = (at.operator::<Compute>(), &at.inputs[..]) {
            expressions.splice(0..0, compute.expressions.iter().cloned());
            shown.insert(0, compute.shown.clone());
            at = below;
        }
        let width = at.schema.len();
        let Some(plan) = TopPart::over(order, expressions, width, shown.join(", ")) else { return input };
        let most = (input.estimate.rows / BATCH_ROWS as f64).ceil() * order.first.unwrap_or(0) as f64;
        let rows = input.estimate.rows.min(most);
        let estimate = Estimate { rows, ..input.estimate.clone() };
        let schema = input.schema.clone();
        let mut below = input;
        while below.operator::<Compute>().is_some() {
            let Some(next) = below.inputs.pop() else { break };
            below = next;
        }
        self.node(plan, vec![below], schema, estimate)
    }
}
