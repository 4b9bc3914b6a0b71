//! Running the plan of a query within another one: once for a batch of outer rows, or once a row.

use graphodrome_graph::Value;

use crate::batch::Batch;
use crate::context::Context;
use crate::outcome::Outcome;
use crate::plan::PlanNode;

/// Rows of an inner query, with the outer rows they are for.
#[derive(Default)]
pub(crate) struct FoundRows {
    pub batches: Vec<Batch>,
    /// Outer row, batch, row in it; in the order of the outer rows.
    pub pairs: Vec<(u32, u32, u32)>,
}

impl FoundRows {
    /// Gives back the memory that its rows were counted for.
    pub fn release(&self, context: &mut Context) {
        let held: usize = self.batches.iter().map(Batch::bytes).sum();
        context.release(held);
    }
}

/// Runs `inner` with `outer` as its argument, and calls `visit` with each batch of its rows, until that
/// says that it is enough.
pub(crate) fn run_inner(
    inner: &PlanNode, outer: Batch, context: &mut Context,
    visit: &mut dyn FnMut(Batch, &mut Context) -> Outcome<bool>,
) -> Outcome<()> {
    let mut running = inner.open();
    // The argument is there while the inner plan runs, and only then: what is above may run between two
    // of our batches.
    context.arguments.push(outer);
    let result = loop {
        match running.next(context) {
            Ok(Some(rows)) => {
                // What takes the rows is no part of the inner plan.
                match visit(rows, context) {
                    Ok(true) => {}
                    Ok(false) => break Ok(()),
                    Err(error) => break Err(error),
                }
            }
            Ok(None) => break Ok(()),
            Err(error) => break Err(error),
        }
    };
    context.arguments.pop();
    result
}

/// One row of a batch as a batch.
pub(crate) fn single(batch: &Batch, row: usize) -> Batch {
    batch.gather(&[row as u32])
}

/// All rows of `inner` for the rows of `batch`. With a row slot it runs once, without once a row, and with
/// `invariant` once for all rows there will ever be, which `kept` remembers.
pub(crate) fn all_rows(
    inner: &PlanNode, row_slot: Option<usize>, invariant: bool, kept: &mut Option<Vec<Batch>>, batch: &Batch,
    context: &mut Context,
) -> Outcome<FoundRows> {
    let mut found = FoundRows::default();
    let collect = |outer: Batch, context: &mut Context, batches: &mut Vec<Batch>| {
        run_inner(inner, outer, context, &mut |rows, context| {
            context.reserve(rows.bytes())?;
            batches.push(rows);
            Ok(true)
        })
    };
    if let Some(slot) = row_slot {
        collect(batch.clone(), context, &mut found.batches)?;
        for (b, rows) in found.batches.iter().enumerate() {
            for row in 0..rows.len {
                if let Value::Int(outer) = rows.columns[slot].get(row) {
                    found.pairs.push((outer as u32, b as u32, row as u32));
                }
            }
        }
        found.pairs.sort_by_key(|p| p.0);
        return Ok(found);
    }
    if invariant {
        if kept.is_none() {
            let mut batches = vec![];
            collect(single(batch, 0), context, &mut batches)?;
            *kept = Some(batches);
        }
        let batches = kept.as_deref().unwrap_or_default();
        for outer in 0..batch.len as u32 {
            for (b, rows) in batches.iter().enumerate() {
                context.work(rows.len as u64)?;
                found.pairs.extend((0..rows.len as u32).map(|row| (outer, b as u32, row)));
            }
        }
        found.batches = batches.to_vec();
        let bytes: usize = found.batches.iter().map(Batch::bytes).sum();
        context.reserve(bytes)?;
        return Ok(found);
    }
    for outer in 0..batch.len {
        context.work(1)?;
        let from = found.batches.len();
        collect(single(batch, outer), context, &mut found.batches)?;
        for (b, rows) in found.batches.iter().enumerate().skip(from) {
            found.pairs.extend((0..rows.len as u32).map(|row| (outer as u32, b as u32, row)));
        }
    }
    Ok(found)
}
