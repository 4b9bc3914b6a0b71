//! ReachWithin: ends of paths within a bound on a sum, if neither the number of paths to an end nor the paths are
//! read: a cheapest path decides for each end. If an edge may reduce the sum, all paths are enumerated.

use std::sync::Arc;

use crate::batch::Batch;
use crate::context::Context;
use crate::expression::Expr;
use crate::operators::filter::Filter;
use crate::operators::search_paths::{SearchPaths, search_details};
use crate::operators::shortest_paths::{MayUse, PathWeight, ShortestPaths, Wanted};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::search::{Caps, Quota, SumBound, closes_alike, extent};

#[derive(Clone, Debug)]
pub(crate) struct ReachWithin {
    pub search: SearchPaths,
    /// The conditions on the sum, where they are tested here and nothing else reads the paths.
    pub settled: Vec<Expr>,
    pub shown: Vec<String>,
}

impl ReachWithin {
    /// The search by least sums, where its paths may be told by that.
    pub fn of(search: &SearchPaths) -> Option<ReachWithin> {
        let spec = &search.spec;
        let step = spec.step.as_ref()?;
        let one = search.caps.as_ref()?.one_sum().is_some() && spec.outputs.len() == 1;
        let plain = spec.min == 1 && spec.max.is_none() && spec.different_from.is_empty();
        let fits = one && plain && search.any_serves && closes_alike(step) && !spec.program.ambiguous;
        fits.then(|| ReachWithin { search: search.clone(), settled: vec![], shown: vec![] })
    }

    /// The search for the nearest ends, where it is known that sums only grow and all edges have a number.
    fn by_sums(&self, context: &Context) -> Option<ShortestPaths> {
        let spec = &self.search.spec;
        let tests = spec.program.edge_tests();
        let caps: Arc<Caps> = self.search.caps.as_ref()?.that_hold(&tests, &context.scope)?;
        let (argument, slot) = caps.one_sum()?;
        let test = &spec.step.as_ref()?.test;
        let numbers = extent(argument, slot, test, &context.scope)?;
        if numbers.nulls || numbers.least < 0.0 {
            return None;
        }
        let width = caps.width();
        let weight = PathWeight { expression: argument.clone(), local: slot - width, edge_alone: true };
        Some(ShortestPaths {
            spec: spec.clone(),
            quota: Quota::First(1),
            weight: Some(weight),
            may: MayUse { both_ends: false, by_walk: true, guide: true },
            bound: None,
            wanted: Wanted::Paths,
            within: Some(Arc::new(SumBound { caps: caps.clone(), settled: self.settled.clone() })),
            stop: None,
        })
    }
}

impl OperatorPlan for ReachWithin {
    fn name(&self) -> &'static str {
        "ReachWithin"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details =
            search_details(&self.search.spec, "each end once, least sum first, as far as the sum may go");
        if !self.shown.is_empty() {
            details.push(("where", format!("where {}", self.shown.join(" AND "))));
        }
        details
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ReachWithinRun { plan: self, input: inputs.pop(), search: None })
    }
}

struct ReachWithinRun {
    plan: Arc<ReachWithin>,
    /// Until it is known how to search.
    input: Option<Input>,
    search: Option<Box<dyn Operator>>,
}

impl Operator for ReachWithinRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if let Some(input) = self.input.take() {
            self.search = Some(match self.plan.by_sums(context) {
                Some(search) => Arc::new(search).open(vec![input]),
                None => {
                    let note = "all paths were made: an edge may take away from the sum, or has no number";
                    context.metrics().notes.push(note.into());
                    let paths = Arc::new(self.plan.search.clone()).open(vec![input]);
                    match self.plan.settled.is_empty() {
                        true => paths,
                        false => {
                            let conditions = self.plan.settled.clone();
                            let shown = self.plan.shown.join(" AND ");
                            Arc::new(Filter { conditions, shown }).open(vec![paths])
                        }
                    }
                }
            });
        }
        match &mut self.search {
            Some(search) => search.next(context),
            None => Ok(None),
        }
    }
}
