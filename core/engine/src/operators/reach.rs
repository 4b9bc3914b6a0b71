//! Reach: the ends of a repeated edge, each once, without the paths: taken where the query cannot tell
//! the difference from enumerating them.

use std::sync::{Arc, Mutex, PoisonError};

use crate::batch::{BATCH_ROWS, Batch};
use crate::context::Context;
use crate::counters::Side;
use crate::operators::search_paths::search_details;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan, PlanNode, RowFacts};
use crate::search::{
    Cursor, Hops, Rows, SearchSpec, Spread, cycle_exists, goes_both_ways, meet_in_the_middle, reach, remove,
};

#[derive(Clone, Debug)]
pub(crate) struct Reach {
    pub spec: SearchSpec,
    /// Where it may be known that a walk back over the same edge is no trail.
    pub trails_only: bool,
    /// Ends that many rows have may be looked from once.
    pub end_once: bool,
}

impl OperatorPlan for Reach {
    fn name(&self) -> &'static str {
        "Reach"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let method = if self.spec.to.is_some() {
            "whether there is a path, from both ends"
        } else {
            "distinct ends, breadth first"
        };
        search_details(&self.spec, method)
    }

    fn row_facts(&self, inputs: &[PlanNode]) -> RowFacts {
        // The end is the column after the input's.
        let one_search = inputs[0].facts.at_most_one && self.spec.to.is_none();
        RowFacts { at_most_one: false, distinct_nodes: one_search.then_some(inputs[0].schema.len()) }
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ReachRun {
            plan: self,
            input: inputs.remove(0),
            batch: None,
            row: 0,
            pending: vec![],
            given: 0,
        })
    }
}

struct ReachRun {
    plan: Arc<Reach>,
    input: Input,
    batch: Option<Batch>,
    row: usize,
    /// Ends of the current row, and how many of them were given out.
    pending: Vec<u32>,
    given: usize,
}

/// What leads to a node that many rows have for their end.
#[derive(Default)]
struct WaysTo {
    /// How often it was asked for.
    times: u32,
    spread: Option<Spread<Hops>>,
}

/// From the third row on with one end it is spread from there, as far as the rows need, instead of searching for each.
const TOGETHER_FROM: u32 = 3;

impl ReachRun {
    /// Whether the end can be reached from the start, by looking from the end of many rows once for all of them;
    /// `None` where there are not many yet, or the row itself says which edges may be taken.
    fn reaches_one(&self, (start, end): (u32, u32), cursor: &mut Cursor<'_>) -> Outcome<Option<bool>> {
        let spec = &self.plan.spec;
        let Some(step) = spec.step.as_ref().filter(|_| self.plan.end_once) else { return Ok(None) };
        let mut slots = vec![];
        step.conditions.iter().for_each(|c| c.slots(&mut slots));
        if slots.iter().any(|slot| *slot < cursor.batch.columns.len()) {
            return Ok(None);
        }
        let operator = Arc::as_ptr(&self.plan) as usize;
        let Some(known) = cursor.context.scope.answers.kept::<Mutex<WaysTo>>(operator, end) else {
            return Ok(None);
        };
        let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
        known.times += 1;
        if known.times < TOGETHER_FROM {
            return Ok(None);
        }
        let spread = known.spread.get_or_insert_with(|| {
            Spread::new(step.clone(), end, !spec.reversed, Side::To, spec.max, cursor)
        });
        if spread.known(start).is_some() {
            return Ok(Some(true));
        }
        spread.resume();
        let found = spread.find(start, &mut Hops, cursor)?;
        spread.report(cursor);
        Ok(Some(found.is_some()))
    }

    fn search(&mut self, batch: &Batch, context: &mut Context) -> Outcome<Vec<u32>> {
        let plan = self.plan.clone();
        let spec = &plan.spec;
        let (Some(step), Some(start)) = (&spec.step, spec.start(batch, self.row)) else { return Ok(vec![]) };
        let Ok(target) = spec.bound_end(batch, self.row) else { return Ok(vec![]) };
        context.metrics().searches += 1;
        let cursor = &mut Cursor { batch, row: self.row, context };
        let both_ways = self.plan.trails_only && goes_both_ways(step);
        if let Some(target) = target {
            if !spec.is_target(target, cursor)? {
                return Ok(vec![]);
            }
            let found = if target == start && spec.min == 0 {
                true
            } else if target != start
                && let Some(reaches) = self.reaches_one((start, target), cursor)?
            {
                reaches
            } else if target != start {
                meet_in_the_middle(step, (start, target), spec.reversed, spec.max, cursor)?.is_some()
            } else if both_ways {
                cycle_exists(step, start, spec.max, cursor)?
            } else {
                reach(step, start, (1, spec.max), spec.reversed, cursor)?.contains(&start)
            };
            return Ok(if found { vec![target] } else { vec![] });
        }
        let mut ends = reach(step, start, (spec.min, spec.max), spec.reversed, cursor)?;
        if both_ways && spec.min > 0 && !spec.is_target(start, cursor)? {
            remove(&mut ends, start);
        } else if both_ways && spec.min > 0 {
            // A walk to and fro led back to the start; only a cycle does so by a trail.
            let cycle = cycle_exists(step, start, spec.max, cursor)?;
            remove(&mut ends, start);
            if cycle {
                ends.push(start);
            }
        }
        spec.keep_targets(&mut ends, cursor)?;
        Ok(ends)
    }
}

impl Operator for ReachRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let mut found = Rows::new(0);
        loop {
            if self.given == self.pending.len() {
                if self.batch.as_ref().is_none_or(|b| self.row >= b.len) {
                    if found.len() > 0 {
                        break;
                    }
                    self.batch = self.input.next(context)?;
                    self.row = 0;
                    if self.batch.is_none() {
                        return Ok(None);
                    }
                }
                let Some(batch) = self.batch.take() else { return Ok(None) };
                let found = self.search(&batch, context);
                self.batch = Some(batch);
                self.pending = found?;
                self.given = 0;
                self.row += 1;
            }
            if self.given == 0 && found.len() == 0 && self.pending.len() <= BATCH_ROWS {
                found.ends = std::mem::take(&mut self.pending);
            } else {
                let end = self.pending.len().min(self.given + BATCH_ROWS - found.len());
                found.ends.extend_from_slice(&self.pending[self.given..end]);
                self.given = end;
            }
            found.rows.resize(found.ends.len(), self.row as u32 - 1);
            if found.len() >= BATCH_ROWS {
                break;
            }
        }
        let Some(batch) = &self.batch else { return Ok(None) };
        let spec = &self.plan.spec;
        Ok(Some(found.into_batch(batch, spec.to.is_none(), &spec.outputs)))
    }
}
