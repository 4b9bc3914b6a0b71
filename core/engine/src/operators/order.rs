//! Order: all rows sorted. TopRows: only the first of them, without keeping the rest.

use std::cmp::Ordering;
use std::sync::Arc;

use crate::batch::{BATCH_ROWS, Batch};
use crate::context::{Context, Outcome};
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct SortSpec {
    pub slot: usize,
    pub descending: bool,
    pub nulls_first: bool,
}

#[derive(Clone, Debug)]
pub(crate) struct Order {
    pub keys: Vec<SortSpec>,
    /// With a number: TopRows.
    pub first: Option<usize>,
    pub shown: String,
}

impl OperatorPlan for Order {
    fn name(&self) -> &'static str {
        if self.first.is_some() { "TopRows" } else { "Order" }
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("by", format!("by {}", self.shown))];
        if let Some(first) = self.first {
            details.push(("rows", format!("first {first}")));
        }
        details
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { spec: self, input: inputs.remove(0), sorted: None })
    }
}

struct Run {
    spec: Arc<Order>,
    input: Input,
    /// The rows and which of them come next, last first.
    sorted: Option<(Batch, Vec<u32>)>,
}

impl Run {
    fn sort(&mut self, context: &mut Context) -> Outcome<(Batch, Vec<u32>)> {
        let mut all = Batch::default();
        let mut held = 0;
        while let Some(batch) = self.input.next(context)? {
            let bytes = batch.bytes();
            context.reserve(bytes)?;
            held += bytes;
            all.append(batch);
            if let Some(first) = self.spec.first
                && all.len > first.max(BATCH_ROWS).saturating_mul(4)
            {
                all = all.gather(&self.order(&all, Some(first), context)?);
                context.release(held);
                held = all.bytes();
                context.reserve(held)?;
            }
        }
        context.check()?;
        let mut order = self.order(&all, self.spec.first, context)?;
        order.reverse();
        Ok((all, order))
    }

    /// Row numbers in order; ties keep the order they came in.
    fn order(&self, batch: &Batch, first: Option<usize>, context: &mut Context) -> Outcome<Vec<u32>> {
        let own = batch.len * (8 + self.spec.keys.len() * size_of::<graphodrome_graph::Value>());
        context.hold(own)?;
        let keys: Vec<Vec<graphodrome_graph::Value>> = self
            .spec
            .keys
            .iter()
            .map(|key| (0..batch.len).map(|row| batch.columns[key.slot].get(row)).collect())
            .collect();
        let compare = |a: &u32, b: &u32| {
            for (key, values) in self.spec.keys.iter().zip(&keys) {
                let (x, y) = (&values[*a as usize], &values[*b as usize]);
                let order = match (x.is_null(), y.is_null()) {
                    (true, true) => Ordering::Equal,
                    (true, false) if key.nulls_first => Ordering::Less,
                    (true, false) => Ordering::Greater,
                    (false, true) if key.nulls_first => Ordering::Greater,
                    (false, true) => Ordering::Less,
                    _ if key.descending => y.order(x),
                    _ => x.order(y),
                };
                if order != Ordering::Equal {
                    return order;
                }
            }
            a.cmp(b)
        };
        let mut rows: Vec<u32> = (0..batch.len as u32).collect();
        if let Some(first) = first
            && first < rows.len()
        {
            if first == 0 {
                context.release(own);
                return Ok(vec![]);
            }
            rows.select_nth_unstable_by(first - 1, compare);
            rows.truncate(first);
        }
        let sorted = sorted(rows, compare, context);
        context.release(own);
        sorted
    }
}

/// Rows sorted without a loop that cannot be left.
const RUN: usize = 1 << 15;

/// Sorts in runs that are merged two by two, asking in between whether to go on.
fn sorted(
    mut rows: Vec<u32>, compare: impl Fn(&u32, &u32) -> Ordering, context: &mut Context,
) -> Outcome<Vec<u32>> {
    for run in rows.chunks_mut(RUN) {
        context.check()?;
        run.sort_unstable_by(&compare);
    }
    let (mut width, mut merged) = (RUN, Vec::with_capacity(rows.len()));
    while width < rows.len() {
        merged.clear();
        for pair in rows.chunks(2 * width) {
            let (mut left, mut right) = pair.split_at(width.min(pair.len()));
            while let (Some(a), Some(b)) = (left.first(), right.first()) {
                context.work(1)?;
                let side = if compare(a, b).is_le() { &mut left } else { &mut right };
                merged.push(side[0]);
                *side = &side[1..];
            }
            merged.extend_from_slice(left);
            merged.extend_from_slice(right);
        }
        std::mem::swap(&mut rows, &mut merged);
        width *= 2;
    }
    Ok(rows)
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.sorted.is_none() {
            self.sorted = Some(self.sort(context)?);
        }
        let Some((batch, left)) = &mut self.sorted else { return Ok(None) };
        if left.is_empty() {
            return Ok(None);
        }
        let mut rows = left.split_off(left.len().saturating_sub(BATCH_ROWS));
        rows.reverse();
        Ok(Some(batch.gather(&rows)))
    }
}
