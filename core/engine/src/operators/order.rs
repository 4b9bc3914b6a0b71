//! Order: all rows sorted. TopRows: only the first of them, without keeping the rest.

use std::cmp::Ordering;
use std::sync::Arc;

use graphodrome_graph::{Unit, Value};

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::context::Context;
use crate::numbers::{Cells, Numbers};
use crate::outcome::Outcome;
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
        Box::new(OrderRun { spec: self, input: inputs.remove(0), sorted: None })
    }
}

struct OrderRun {
    spec: Arc<Order>,
    input: Input,
    /// The rows and which of them come next, last first.
    sorted: Option<(Batch, Vec<u32>)>,
}

impl OrderRun {
    fn sort(&mut self, context: &mut Context) -> Outcome<(Batch, Vec<u32>)> {
        let mut all = Batch::default();
        let mut held = 0;
        // The first key of the last of the first rows, once there are enough of them.
        let mut worst: Option<Value> = None;
        while let Some(batch) = self.input.next(context)? {
            let batch = match &worst {
                None => batch,
                Some(worst) => {
                    // What comes later comes after the worst of the first rows where it is equal to it.
                    let key = &self.spec.keys[0];
                    match before(&batch.columns[key.slot], key, worst) {
                        Some(rows) if rows.len() < batch.len => batch.gather(&rows),
                        _ => batch,
                    }
                }
            };
            let bytes = batch.bytes();
            context.reserve(bytes)?;
            held += bytes;
            all.append(batch);
            if let Some(first) = self.spec.first
                && all.len > first.max(BATCH_ROWS).saturating_mul(4)
            {
                all = all.gather(&self.spec.order(&all, Some(first), context)?);
                context.release(held);
                held = all.bytes();
                context.reserve(held)?;
                let last = all.len.checked_sub(1).filter(|_| all.len == first);
                worst = last.map(|last| all.columns[self.spec.keys[0].slot].get(last));
            }
        }
        context.check()?;
        let mut order = self.spec.order(&all, self.spec.first, context)?;
        order.reverse();
        Ok((all, order))
    }
}

impl Order {
    /// Row numbers in order; ties keep the order they came in.
    fn order(&self, batch: &Batch, first: Option<usize>, context: &mut Context) -> Outcome<Vec<u32>> {
        if batch.len == 0 {
            return Ok(vec![]);
        }
        let own = batch.len * (8 + self.keys.len() * size_of::<Value>());
        context.hold(own)?;
        let keys: Vec<(&SortSpec, Keys<'_>)> =
            self.keys.iter().map(|key| (key, Keys::of(&batch.columns[key.slot]))).collect();
        let compare = |a: &u32, b: &u32| {
            for (key, values) in &keys {
                let order = values.order(key, *a as usize, *b as usize);
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

/// A key of all rows.
enum Keys<'b> {
    Numbers(&'b Numbers),
    Values(Vec<Value>),
}

impl<'b> Keys<'b> {
    fn of(column: &'b Vector) -> Keys<'b> {
        match column {
            Vector::Numbers(numbers) => Keys::Numbers(numbers),
            other => Keys::Values((0..other.len()).map(|row| other.get(row)).collect()),
        }
    }

    #[inline]
    fn order(&self, key: &SortSpec, a: usize, b: usize) -> Ordering {
        let nulls = match self {
            Keys::Numbers(numbers) => (numbers.is_null(a), numbers.is_null(b)),
            Keys::Values(values) => (values[a].is_null(), values[b].is_null()),
        };
        match nulls {
            (true, true) => return Ordering::Equal,
            (true, false) if key.nulls_first => return Ordering::Less,
            (true, false) => return Ordering::Greater,
            (false, true) if key.nulls_first => return Ordering::Greater,
            (false, true) => return Ordering::Less,
            (false, false) => {}
        }
        let (a, b) = if key.descending { (b, a) } else { (a, b) };
        match self {
            Keys::Numbers(Numbers { cells: Cells::Ints(ints), .. }) => ints[a].cmp(&ints[b]),
            Keys::Numbers(Numbers { cells: Cells::Days(days), .. }) => days[a].cmp(&days[b]),
            Keys::Numbers(Numbers { cells: Cells::Units(numbers, _), .. }) => numbers[a].cmp(&numbers[b]),
            Keys::Numbers(Numbers { cells: Cells::Floats(floats), .. }) => {
                Value::Float(floats[a]).order(&Value::Float(floats[b]))
            }
            Keys::Values(values) => values[a].order(&values[b]),
        }
    }
}

/// The rows that may come before a row whose key is this one, or that are equal to it in it; `None` for all of them.
pub(super) fn before(column: &Vector, key: &SortSpec, worst: &Value) -> Option<Vec<u32>> {
    let Vector::Numbers(numbers) = column else { return None };
    // Nulls are few: whether one comes before is asked later.
    let kept = |passes: &dyn Fn(usize) -> bool| -> Option<Vec<u32>> {
        let rows = 0..column.len();
        Some(rows.filter(|row| numbers.is_null(*row) || passes(*row)).map(|row| row as u32).collect())
    };
    match (&numbers.cells, worst) {
        (Cells::Ints(ints), Value::Int(worst)) if key.descending => kept(&|row| ints[row] >= *worst),
        (Cells::Ints(ints), Value::Int(worst)) => kept(&|row| ints[row] <= *worst),
        (Cells::Days(days), Value::Date(_)) => {
            let worst = worst.days()?;
            match key.descending {
                true => kept(&|row| days[row] >= worst),
                false => kept(&|row| days[row] <= worst),
            }
        }
        (Cells::Units(numbers, unit), worst) => {
            let (_, worst) = Unit::of(worst).filter(|(own, _)| own == unit)?;
            match key.descending {
                true => kept(&|row| numbers[row] >= worst),
                false => kept(&|row| numbers[row] <= worst),
            }
        }
        (Cells::Floats(floats), Value::Float(worst)) if key.descending => {
            kept(&|row| floats[row].partial_cmp(worst) != Some(Ordering::Less))
        }
        (Cells::Floats(floats), Value::Float(worst)) => {
            kept(&|row| floats[row].partial_cmp(worst) != Some(Ordering::Greater))
        }
        _ => None,
    }
}

/// The rows whose first key lets them be among so many first ones, in their order, and the key of the last of these. Rows that
/// are equal in it are all kept: later keys decide. `None` for all of them.
pub(super) fn may_be_first(column: &Vector, key: &SortSpec, first: usize) -> Option<(Vec<u32>, Value)> {
    if first == 0 || column.len() <= first {
        return None;
    }
    let keys = Keys::of(column);
    let mut rows: Vec<u32> = (0..column.len() as u32).collect();
    let order = |a: &u32, b: &u32| keys.order(key, *a as usize, *b as usize);
    let worst = *rows.select_nth_unstable_by(first - 1, order).1;
    let kept = (0..column.len() as u32).filter(|row| order(row, &worst).is_le());
    Some((kept.collect(), column.get(worst as usize)))
}

/// The rows that are the first ones by all keys, in the order in which they came; `None` for all of them.
pub(super) fn first_rows(
    order: &Order, batch: &Batch, first: usize, context: &mut Context,
) -> Outcome<Option<Vec<u32>>> {
    if batch.len <= first {
        return Ok(None);
    }
    let mut rows = order.order(batch, Some(first), context)?;
    rows.sort_unstable();
    Ok(Some(rows))
}

/// Rows sorted without a loop that cannot be left.
const RUN: usize = 1 << 15;

/// Sorts in runs that are merged two by two, asking in between whether to go on.
pub(super) fn sorted(
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

impl Operator for OrderRun {
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
