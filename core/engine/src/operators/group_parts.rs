//! GroupParts: below a Group whose rows are shared out, every thread makes the groups of the rows that it has. The Group
//! puts them together, in the order in which their first rows come.

use std::sync::{Arc, Mutex, PoisonError};

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::expression::{Expr, Kind};
use crate::operators::Group;
use crate::operators::group_keys::Groups;
use crate::operators::grouping::Grouping;
use crate::outcome::{Outcome, located};
use crate::plan::{Input, Operator, OperatorPlan};
use crate::search::NodeSet;

#[derive(Clone, Debug)]
pub(crate) struct GroupParts {
    pub group: Arc<Group>,
}

/// The groups of one thread.
type PartGroups = Arc<Mutex<Option<Grouping>>>;

/// Those of all threads.
type Parts = Mutex<Vec<PartGroups>>;

impl OperatorPlan for GroupParts {
    fn name(&self) -> &'static str {
        "GroupParts"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("by", self.group.shown.clone())]
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(GroupPartsRun { group: self.group.clone(), input: inputs.remove(0), part: None })
    }
}

struct GroupPartsRun {
    group: Arc<Group>,
    input: Input,
    part: Option<PartGroups>,
}

impl Operator for GroupPartsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            context.work(batch.len as u64)?;
            let part = match &self.part {
                Some(part) => part,
                None => {
                    let part = Arc::new(Mutex::new(Some(Grouping::new(self.group.clone(), context)?)));
                    let parts = context.put_together::<Parts>(context.current);
                    parts.lock().unwrap_or_else(PoisonError::into_inner).push(part.clone());
                    self.part.insert(part)
                }
            };
            if let Some(grouping) = &mut *part.lock().unwrap_or_else(PoisonError::into_inner) {
                grouping.add(&batch, context)?;
            }
        }
        Ok(None)
    }
}

/// The groups of all threads that ran the operator `parts`.
pub(super) fn put_together(group: &Arc<Group>, parts: usize, context: &mut Context) -> Outcome<Grouping> {
    let all = context.put_together::<Parts>(parts);
    let all = std::mem::take(&mut *all.lock().unwrap_or_else(PoisonError::into_inner));
    let taken = |part: PartGroups| part.lock().unwrap_or_else(PoisonError::into_inner).take();
    let mut all: Vec<Grouping> = all.into_iter().filter_map(taken).collect();
    if all.len() < 2 {
        return match all.pop() {
            Some(only) => Ok(only),
            None => Grouping::new(group.clone(), context),
        };
    }
    forget_reads(&all, parts, context);
    // Groups by the slice in which they came first; those of one slice were made by one thread, in their order.
    let mut order: Vec<(u64, u32, u32)> = vec![];
    for (part, grouping) in all.iter().enumerate() {
        order.extend(grouping.slices.iter().zip(0..).map(|(slice, place)| (*slice, part as u32, place)));
    }
    order.sort_unstable();
    context.reserve(order.len() * size_of::<(u64, u32, u32)>())?;
    let keys = keys_in(&all, &order);
    let key = |(slot, key): (usize, &Expr)| Expr { kind: Kind::Slot(slot), span: key.span };
    let by_slot = Group {
        keys: group.keys.iter().enumerate().map(key).collect(),
        key_vectors: keys.columns.iter().map(Vector::empty_like).collect(),
        ..(**group).clone()
    };
    let mut together = Grouping::new(Arc::new(by_slot), context)?;
    let rows: Vec<u32> = (0..order.len() as u32).collect();
    let places = together.places_of(&keys, &rows, context)?;
    // Where each part's groups are now.
    let mut now: Vec<Vec<u32>> = all.iter().map(|grouping| vec![0; grouping.groups.len()]).collect();
    for ((_, part, at), place) in order.iter().zip(&places) {
        now[*part as usize][*at as usize] = *place;
    }
    for (grouping, now) in all.iter_mut().zip(&now) {
        together.absorb_totals(grouping, now);
        grouping.settle()?;
    }
    let mut left: Vec<_> = all.into_iter().map(|grouping| grouping.groups).collect();
    for ((_, part, at), place) in order.into_iter().zip(places) {
        context.work(1)?;
        let accumulators = std::mem::take(&mut left[part as usize][at as usize]);
        if accumulators.is_empty() {
            continue;
        }
        let own = together.accumulators(place as usize);
        for ((own, other), spec) in own.iter_mut().zip(accumulators).zip(&group.aggregates) {
            let span = spec.argument.as_ref().map(|argument| argument.span).unwrap_or_default();
            own.merge(other).map_err(|e| located(e, span))?;
        }
    }
    Ok(together)
}

/// The keys of groups in this order.
fn keys_in(all: &[Grouping], order: &[(u64, u32, u32)]) -> Batch {
    let first = &all[0].keys;
    let column = |place: usize| {
        let mut column = first[place].empty_like();
        for (_, part, at) in order {
            column.push(all[*part as usize].keys[place].get(*at as usize));
        }
        column
    };
    Batch { len: order.len(), columns: (0..first.len()).map(column).collect() }
}

/// Each thread has read a key's properties, and those of distinct values, once a node: the profile counts them once altogether, as
/// one thread would.
fn forget_reads(all: &[Grouping], parts: usize, context: &mut Context) {
    let bound = context.scope.node_bound();
    let read: Vec<Vec<Option<&Groups>>> = all.iter().map(Grouping::read_once).collect();
    for of in 0..read.first().map_or(0, Vec::len) {
        let known = || read.iter().filter_map(|groups| groups[of]);
        for place in 0..known().map(|groups| groups.reads().count()).max().unwrap_or(0) {
            let mut seen = NodeSet::new(bound);
            let reads = known().filter_map(|groups| groups.reads().nth(place)).flatten();
            let again = |(node, reads): &(u32, u32)| match *node < bound && !seen.insert(*node) {
                true => u64::from(*reads),
                false => 0,
            };
            let again: u64 = reads.map(again).sum();
            context.metrics[parts].counters.properties_read -= again;
        }
    }
}
