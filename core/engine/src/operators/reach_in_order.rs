//! ReachInOrder: ends of paths with ordered values, each found once, if neither the number of paths to an end nor
//! the paths are read. If values cannot be compared, all paths are enumerated.

use std::sync::Arc;

use crate::batch::Batch;
use crate::context::Context;
use crate::operators::fold_paths::Once;
use crate::operators::search_paths::{SearchPaths, push_path, search_details};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::search::{Caps, Cursor, EndsInOrder, FoundPath, Rows, ends_in_order, may_go_in_order};

#[derive(Clone, Debug)]
pub(crate) struct ReachInOrder {
    pub search: SearchPaths,
}

impl ReachInOrder {
    /// The search end by end, where its paths may be told by that.
    pub fn of(search: &SearchPaths) -> Option<ReachInOrder> {
        let spec = &search.spec;
        let one = search.caps.as_ref()?.is_in_order() && spec.outputs.len() == 1 && spec.step.is_some();
        let fits = one && search.any_serves && may_go_in_order(spec);
        fits.then(|| ReachInOrder { search: search.clone() })
    }
}

impl OperatorPlan for ReachInOrder {
    fn name(&self) -> &'static str {
        "ReachInOrder"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        search_details(&self.search.spec, "each end once, by the value that leaves the most room")
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let input = inputs.remove(0);
        Box::new(ReachInOrderRun {
            plan: self,
            input,
            caps: None,
            batch: None,
            row: 0,
            ready: None,
            every_path: None,
        })
    }
}

struct ReachInOrderRun {
    plan: Arc<ReachInOrder>,
    input: Input,
    caps: Option<Arc<Caps>>,
    batch: Option<Arc<Batch>>,
    row: usize,
    /// Ends of `row` that are left to be given.
    ready: Option<EndsInOrder>,
    /// All paths of `row`, where they are made.
    every_path: Option<Box<dyn Operator>>,
}

impl ReachInOrderRun {
    /// Begins with the row's ends.
    fn begin(&mut self, batch: &Batch, context: &mut Context) -> Outcome<()> {
        let plan = self.plan.clone();
        let spec = &plan.search.spec;
        if self.caps.is_none() {
            let caps = plan.search.caps.as_ref();
            self.caps = caps.and_then(|caps| caps.that_hold(&spec.program.edge_tests(), &context.scope));
        }
        let (Some(start), Ok(end)) = (spec.start(batch, self.row), spec.bound_end(batch, self.row)) else {
            return Ok(());
        };
        context.metrics().searches += 1;
        let mut cursor = Cursor { batch, row: self.row, context };
        let found = match (&self.caps, &spec.step) {
            (Some(caps), Some(step)) => ends_in_order(spec, step, caps, (start, end), &mut cursor)?,
            _ => None,
        };
        match found {
            Some(found) => self.ready = Some(found),
            None => {
                let note = "all paths were enumerated: values cannot be compared with each other";
                let notes = &mut context.metrics().notes;
                if !notes.iter().any(|known| known == note) {
                    notes.push(note.into());
                }
                let one = Once(Some(batch.gather(&[self.row as u32])));
                self.every_path = Some(Arc::new(plan.search.clone()).open(vec![Box::new(one)]));
            }
        }
        Ok(())
    }
}

impl Operator for ReachInOrderRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let plan = self.plan.clone();
        let spec = &plan.search.spec;
        let mut found = Rows::new(spec.outputs.len());
        loop {
            if let (Some(paths), 0) = (&mut self.every_path, found.len()) {
                match paths.next(context)? {
                    Some(batch) => return Ok(Some(batch)),
                    None => self.every_path = None,
                }
            }
            if let (Some(ready), Some(batch)) = (&mut self.ready, &self.batch) {
                let mut cursor = Cursor { batch, row: self.row, context };
                while !found.is_full()
                    && let Some(FoundPath { nodes, edges, .. }) = ready.next_path(&mut cursor)?
                {
                    let end = nodes.last().copied().unwrap_or(0);
                    let events = spec.step.as_ref().map_or(vec![], |step| step.events(&nodes, &edges));
                    let outputs = (&spec.outputs[..], spec.reversed);
                    push_path(&mut found, outputs, (self.row, end), nodes, edges, &events);
                }
            }
            if found.is_full() {
                break;
            }
            self.ready.take().into_iter().for_each(|ready| ready.finish(context));
            let over = self.batch.as_ref().is_none_or(|batch| self.row + 1 >= batch.len);
            if found.len() > 0 && (self.every_path.is_some() || over) {
                break;
            }
            if over {
                self.batch = self.input.next(context)?.map(Arc::new);
                self.row = 0;
            } else {
                self.row += 1;
            }
            let Some(batch) = self.batch.clone() else { return Ok(None) };
            self.begin(&batch, context)?;
        }
        let Some(batch) = &self.batch else { return Ok(None) };
        Ok(Some(found.into_batch(batch, spec.to.is_none(), &spec.outputs)))
    }
}
