//! TopPart: below a TopRows, keeps the rows of each batch that can be among the first ones. The first sort key is
//! computed for all rows, other columns only for the remaining ones.

use std::sync::Arc;

use graphodrome_graph::Value;

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::expression::{Expr, Kind};
use crate::operators::compute::evaluate_column;
use crate::operators::order::{Order, before, first_rows, may_be_first};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct TopPart {
    pub order: Arc<Order>,
    pub first: usize,
    /// Columns that are added to the rows, one after the other.
    pub expressions: Vec<Expr>,
    /// Which of them the first key needs.
    sooner: Vec<bool>,
    /// Slots of the input.
    width: usize,
    shown: String,
}

impl TopPart {
    /// For these columns on top of `width` slots. What could raise an error is computed of all rows: for one that is left out its
    /// error would be missed.
    pub fn over(order: &Order, expressions: Vec<Expr>, width: usize, shown: String) -> Option<TopPart> {
        let first = order.first?;
        let safe = |e: &Expr| {
            matches!(
                e.kind,
                Kind::Slot(_) | Kind::Constant(_) | Kind::NodeProperty(..) | Kind::EdgeProperty(..)
            )
        };
        let others = expressions.iter().enumerate().filter(|(_, e)| !safe(e)).map(|(place, _)| width + place);
        let mut wanted: Vec<usize> = others.chain([order.keys.first()?.slot]).collect();
        let mut sooner = vec![false; expressions.len()];
        while let Some(slot) = wanted.pop() {
            if let Some(place) = slot.checked_sub(width).filter(|place| !sooner[*place]) {
                sooner[place] = true;
                expressions[place].slots(&mut wanted);
            }
        }
        Some(TopPart { order: Arc::new(order.clone()), first, expressions, sooner, width, shown })
    }
}

impl OperatorPlan for TopPart {
    fn name(&self) -> &'static str {
        "TopPart"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("by", format!("by {}", self.order.shown))];
        details.push(("rows", format!("first {} of a batch", self.first)));
        if !self.shown.is_empty() {
            details.push(("values", self.shown.clone()));
        }
        details
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(TopPartRun { plan: self, input: inputs.remove(0), worst: None, slice: 0 })
    }
}

struct TopPartRun {
    plan: Arc<TopPart>,
    input: Input,
    /// A first key that as many rows as are wanted are no worse than, of the batches of one slice so far: the work for a
    /// slice does not depend on those before it.
    worst: Option<Value>,
    slice: u64,
}

impl TopPartRun {
    /// The rows that may be among the first by the first key alone, with all their columns.
    fn by_first_key(&mut self, mut batch: Batch, context: &mut Context) -> Outcome<Batch> {
        let plan = self.plan.clone();
        let key = &plan.order.keys[0];
        if std::mem::replace(&mut self.slice, context.slice) != context.slice {
            self.worst = None;
        }
        for (expression, sooner) in plan.expressions.iter().zip(&plan.sooner) {
            let column = match sooner {
                true => evaluate_column(expression, &batch, context)?,
                // Nothing that is computed now reads it.
                false => Vector::Nodes(vec![]),
            };
            batch.columns.push(column);
        }
        let column = &batch.columns[key.slot];
        let better = self.worst.as_ref().and_then(|worst| before(column, key, worst));
        let kept = match better {
            Some(rows) => {
                let among = column.gather(&rows);
                Some(match may_be_first(&among, key, plan.first) {
                    None => rows,
                    Some((places, worst)) => {
                        self.worst = Some(worst);
                        places.into_iter().map(|place| rows[place as usize]).collect()
                    }
                })
            }
            None => may_be_first(column, key, plan.first).map(|(rows, worst)| {
                self.worst = Some(worst);
                rows
            }),
        };
        let added = batch.columns.split_off(plan.width);
        if let Some(rows) = &kept {
            batch = batch.gather(rows);
        }
        for ((column, expression), sooner) in added.into_iter().zip(&plan.expressions).zip(&plan.sooner) {
            let column = match (sooner, &kept) {
                (true, None) => column,
                (true, Some(rows)) => column.gather(rows),
                (false, _) => evaluate_column(expression, &batch, context)?,
            };
            batch.columns.push(column);
        }
        Ok(batch)
    }
}

impl Operator for TopPartRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let batch = loop {
            let Some(batch) = self.input.next(context)? else { return Ok(None) };
            let batch = self.by_first_key(batch, context)?;
            if batch.len > 0 {
                break batch;
            }
        };
        let left = context.budget.left();
        if batch.bytes_up_to(left) > left {
            return Err(context.budget.too_much());
        }
        // In the order in which they came, which decides between equal ones.
        let rows = first_rows(&self.plan.order, &batch, self.plan.first, context)?;
        Ok(Some(match rows {
            None => batch,
            Some(rows) => batch.gather(&rows),
        }))
    }
}
