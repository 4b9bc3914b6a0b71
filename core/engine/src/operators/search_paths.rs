//! SearchPaths: every path of a quantified part of a pattern, one row each.

use std::sync::Arc;

use graphodrome_graph::{PathValue, Value};
use graphodrome_language::ast::PathMode;

use crate::batch::Batch;
use crate::context::Context;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::search::{Caps, Cursor, EndGuide, Enumerator, Event, OutputVariable, Rows, SearchSpec};

#[derive(Clone, Debug)]
pub(crate) struct SearchPaths {
    pub spec: SearchSpec,
    /// What does not get to a bound end within the longest length may be left out.
    pub guided: bool,
    /// Conditions on whole paths past which a way is given up.
    pub caps: Option<Caps>,
    /// Where nobody asks how many paths there are, nor which: the one condition that reads the only variable.
    pub any_serves: bool,
    /// How many ends a row is expected to have, each once.
    pub ends: f64,
}

pub(crate) fn bounds(min: u32, max: Option<u32>) -> String {
    match max {
        Some(max) if max == min => format!("{min} hops"),
        Some(max) => format!("{min} to {max} hops"),
        None => format!("{min} or more hops"),
    }
}

pub(crate) fn mode_name(mode: PathMode) -> &'static str {
    match mode {
        PathMode::Walk => "walks",
        PathMode::Trail => "trails",
        PathMode::Simple => "simple paths",
        PathMode::Acyclic => "acyclic paths",
    }
}

pub(crate) fn search_details(spec: &SearchSpec, method: &str) -> Vec<(&'static str, String)> {
    let mut details = vec![("pattern", spec.pattern.clone()), ("method", method.to_string())];
    if spec.step.is_some() {
        details.push(("bounds", bounds(spec.min, spec.max)));
    }
    if spec.reversed {
        details.push(("side", "from its right end".into()));
    }
    details
}

impl OperatorPlan for SearchPaths {
    fn name(&self) -> &'static str {
        "SearchPaths"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let ends = if self.spec.to.is_some() { ", both ends bound" } else { "" };
        let capped = if self.caps.is_some() { ", no further than what adds up allows" } else { "" };
        search_details(&self.spec, &format!("all {}, depth first{ends}{capped}", mode_name(self.spec.mode)))
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let spec = &self.spec;
        let enumerator =
            Enumerator::new(spec.program.clone(), spec.mode, spec.trails, spec.different_from.clone());
        let input = inputs.remove(0);
        Box::new(SearchPathsRun {
            plan: self,
            enumerator,
            input,
            begun: false,
            batch: None,
            row: 0,
            running: false,
        })
    }
}

struct SearchPathsRun {
    plan: Arc<SearchPaths>,
    enumerator: Enumerator,
    input: Input,
    begun: bool,
    batch: Option<Batch>,
    row: usize,
    /// The enumerator is in the middle of `row`.
    running: bool,
}

impl Operator for SearchPathsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if !std::mem::replace(&mut self.begun, true)
            && let Some(caps) = &self.plan.caps
        {
            let tests = self.plan.spec.program.edge_tests();
            let caps = caps.that_hold(&tests, &context.scope);
            if caps.is_none() {
                let note = "no path was given up early: what adds up along it may come back below its bound";
                context.metrics().notes.push(note.into());
            }
            self.enumerator.give_up_past(caps);
        }
        self.enumerator.resume();
        let mut found = Rows::new(self.plan.spec.outputs.len());
        loop {
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
            let Some(batch) = &self.batch else { return Ok(None) };
            let spec = &self.plan.spec;
            let (start, Ok(target)) = (spec.start(batch, self.row), spec.bound_end(batch, self.row)) else {
                self.row += 1;
                continue;
            };
            let Some(start) = start else {
                self.row += 1;
                continue;
            };
            if !self.running {
                let mut cursor = Cursor { batch, row: self.row, context };
                let guide = match (target, &spec.step, spec.max) {
                    (Some(end), Some(step), Some(max)) if self.plan.guided => {
                        Some(EndGuide::to(end, step, spec.reversed, max, &cursor))
                    }
                    _ => None,
                };
                self.enumerator.start(start, guide, &mut cursor);
                self.running = true;
                context.metrics().searches += 1;
            }
            let mut cursor = Cursor { batch, row: self.row, context };
            while !found.is_full() {
                let next = self.enumerator.next(&mut cursor);
                // Of one that was cut off a profile says how far it got.
                if !matches!(next, Ok(Some(_))) {
                    self.enumerator.report(&mut cursor);
                }
                let Some(end) = next? else {
                    self.running = false;
                    self.row += 1;
                    break;
                };
                if target.is_some_and(|t| t != end) || !spec.is_target(end, &mut cursor)? {
                    continue;
                }
                push_path(
                    &mut found,
                    (&spec.outputs, spec.reversed),
                    (self.row, end),
                    self.enumerator.nodes.clone(),
                    self.enumerator.edges.clone(),
                    &self.enumerator.events,
                );
            }
            if found.is_full() {
                self.enumerator.report(&mut cursor);
                break;
            }
        }
        let Some(batch) = &self.batch else { return Ok(None) };
        Ok(Some(found.into_batch(batch, self.plan.spec.to.is_none(), &self.plan.spec.outputs)))
    }
}

/// Adds one path to the rows, turned round where the pattern was walked from its right end.
pub(crate) fn push_path(
    rows: &mut Rows, (outputs, reversed): (&[OutputVariable], bool), (row, end): (usize, u32),
    mut nodes: Vec<u32>, mut edges: Vec<u32>, events: &[Event],
) {
    rows.elements += nodes.len() + edges.len();
    rows.rows.push(row as u32);
    rows.ends.push(end);
    for (values, output) in rows.variables.iter_mut().zip(outputs) {
        values.push(output.value(events, reversed));
    }
    if reversed {
        nodes.reverse();
        edges.reverse();
    }
    rows.paths.push(Value::Path(Arc::new(PathValue { nodes, edges })));
}
