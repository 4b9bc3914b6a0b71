//! ShortestPaths: for each pair of ends the shortest paths a search prefix asks for.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_language::ast::PathMode;

use crate::batch::Batch;
use crate::context::{Context, Outcome};
use crate::expression::Expr;
use crate::operators::search_paths::{mode_name, push_path, search_details};
use crate::plan::{Input, Operator, OperatorPlan};
use crate::search::{
    Found, Quota, Rows, SearchSpec, Weight, breadth_first, cycle_exists, goes_both_ways, meet_in_the_middle,
    product_search,
};

#[derive(Clone, Debug)]
pub(crate) struct ShortestPaths {
    pub spec: SearchSpec,
    pub quota: Quota,
    /// The weight of an edge, and which of the program's variables the edge is.
    pub weight: Option<(Expr, usize)>,
    /// It may begin at both ends.
    pub both_ends: bool,
    /// Its mode may be left out where a walk is in it anyway.
    pub by_walk: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Method {
    BothEnds,
    OneEnd,
    CheapestFirst,
}

impl ShortestPaths {
    /// One repeated edge with at most one hop required can be searched with plain visited sets: its
    /// shortest walks are trails and, but for a closed one, acyclic.
    pub fn method(&self) -> Method {
        let plain = self.spec.step.is_some()
            && self.spec.min <= 1
            && self.quota == Quota::First(1)
            && self.weight.is_none()
            && (self.spec.mode == PathMode::Walk || self.walks_do());
        match (plain, self.spec.to) {
            (true, Some(_)) if self.both_ends => Method::BothEnds,
            (true, _) => Method::OneEnd,
            (false, _) => Method::CheapestFirst,
        }
    }

    /// Why a search between two bound nodes does not begin at both, where it does not.
    pub fn why_one_end(&self) -> Option<&'static str> {
        self.spec.to?;
        Some(match self.method() {
            Method::BothEnds => return None,
            _ if !self.both_ends => "the rule both-ends is off",
            _ if self.weight.is_some() => "paths are compared by their weights",
            _ if self.quota != Quota::First(1) => "more than one path is asked for",
            _ if self.spec.step.is_none() => "what is repeated is more than one plain edge",
            _ if self.spec.min > 1 => "a path of fewer edges than asked for could meet first",
            _ => "the rule shortest-by-walk is off",
        })
    }

    /// Whether the paths to other nodes than the start may be searched for as walks, though a mode is asked
    /// for (rule `shortest-by-walk`).
    fn walks_do(&self) -> bool {
        let least = match self.quota {
            Quota::First(1) => true,
            // With weights of zero all cheapest walks are more than all cheapest trails.
            Quota::Groups(1) => self.weight.is_none(),
            _ => false,
        };
        self.by_walk
            && self.spec.mode != PathMode::Walk
            && self.spec.step.is_some()
            && self.spec.min <= 1
            && least
    }
}

impl OperatorPlan for ShortestPaths {
    fn name(&self) -> &'static str {
        "ShortestPaths"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let how = match self.method() {
            Method::BothEnds => "breadth first from both ends",
            Method::OneEnd => "breadth first from one end",
            Method::CheapestFirst if self.weight.is_some() => "least sum first",
            Method::CheapestFirst => "fewest hops first",
        };
        let wanted = match self.quota {
            Quota::First(1) => "any shortest".to_string(),
            Quota::First(k) => format!("the {k} shortest"),
            Quota::Groups(1) => "all shortest".to_string(),
            Quota::Groups(k) => format!("all of the {k} shortest lengths"),
        };
        let mode = if self.spec.mode == PathMode::Walk {
            String::new()
        } else {
            format!(" of {}", mode_name(self.spec.mode))
        };
        search_details(&self.spec, &format!("{wanted}{mode}, {how}"))
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { plan: self, input: inputs.remove(0) })
    }
}

struct Run {
    plan: Arc<ShortestPaths>,
    input: Input,
}

impl Run {
    fn search(&self, batch: &Batch, row: usize, found: &mut Rows, context: &mut Context) -> Outcome<()> {
        let spec = &self.plan.spec;
        let Some(start) = spec.start(batch, row) else { return Ok(()) };
        let Ok(target) = spec.bound_end(batch, row) else { return Ok(()) };
        if !self.plan.walks_do() {
            return self.search_for(spec, start, target, batch, row, found, context);
        }
        let as_walks = SearchSpec { mode: PathMode::Walk, ..spec.clone() };
        // From a node to itself the shortest path is the one without edges; and a shortest walk back to its
        // start takes no other node twice, so that it is simple.
        if spec.min == 0 || spec.mode == PathMode::Simple {
            return self.search_for(&as_walks, start, target, batch, row, found, context);
        }
        if target != Some(start) {
            let before = found.len();
            self.search_for(&as_walks, start, target, batch, row, found, context)?;
            // A walk back to the start is searched for again, in its mode.
            found.keep_from(before, |end, _| end != start);
        }
        if target.is_none_or(|t| t == start) {
            self.search_closed(start, batch, row, found, context)?;
        }
        Ok(())
    }

    /// The trails that end where they began; no such path is acyclic.
    fn search_closed(
        &self, start: u32, batch: &Batch, row: usize, found: &mut Rows, context: &mut Context,
    ) -> Outcome<()> {
        let spec = &self.plan.spec;
        let Some(step) = &spec.step else { return Ok(()) };
        // Where no trail returns none has to be looked for.
        if spec.mode == PathMode::Acyclic
            || !spec.is_target(start, batch, row, context)?
            || !cycle_exists(step, start, spec.max, batch, row, context)?
        {
            return Ok(());
        }
        // Over edges that go one way a shortest walk back is a cycle.
        let mode = if goes_both_ways(step) { spec.mode } else { PathMode::Walk };
        let spec = SearchSpec { mode, ..spec.clone() };
        self.cheapest(&spec, start, Some(start), batch, row, found, context)
    }

    #[allow(clippy::too_many_arguments)] // A search's spec, ends and row belong together.
    fn search_for(
        &self, spec: &SearchSpec, start: u32, target: Option<u32>, batch: &Batch, row: usize,
        found: &mut Rows, context: &mut Context,
    ) -> Outcome<()> {
        if let Some(target) = target
            && !spec.is_target(target, batch, row, context)?
        {
            return Ok(());
        }
        context.metrics().searches += 1;
        match (self.plan.method(), &spec.step) {
            (Method::BothEnds | Method::OneEnd, Some(step)) => {
                // What is bound is read in the order the pattern is written.
                let push = |path: Found, rows: &mut Rows| {
                    let end = path.nodes.last().copied().unwrap_or(start);
                    let (mut nodes, mut edges) = (path.nodes, path.edges);
                    if spec.reversed {
                        nodes.reverse();
                        edges.reverse();
                    }
                    let events = step.events(&nodes, &edges);
                    push_path(rows, (&spec.outputs, false), (row, end), nodes, edges, &events);
                };
                match target {
                    Some(target) if target != start => {
                        let path = meet_in_the_middle(
                            step,
                            start,
                            target,
                            spec.max,
                            spec.reversed,
                            batch,
                            row,
                            context,
                        )?;
                        if let Some(path) = path {
                            push(path, found);
                        }
                    }
                    target => {
                        let bounds = (spec.min, spec.max);
                        breadth_first(
                            step,
                            start,
                            bounds,
                            spec.reversed,
                            batch,
                            row,
                            context,
                            &mut |path, context| {
                                let end = path.nodes.last().copied().unwrap_or(start);
                                if target.is_some_and(|t| t != end)
                                    || !spec.is_target(end, batch, row, context)?
                                {
                                    return Ok(ControlFlow::Continue(()));
                                }
                                push(path, found);
                                Ok(if target.is_some() {
                                    ControlFlow::Break(())
                                } else {
                                    ControlFlow::Continue(())
                                })
                            },
                        )?;
                    }
                }
            }
            _ => self.cheapest(spec, start, target, batch, row, found, context)?,
        }
        Ok(())
    }

    #[allow(clippy::too_many_arguments)] // A search's spec, ends and row belong together.
    fn cheapest(
        &self, spec: &SearchSpec, start: u32, target: Option<u32>, batch: &Batch, row: usize,
        found: &mut Rows, context: &mut Context,
    ) -> Outcome<()> {
        let weight = self.plan.weight.as_ref().map(|(expression, local)| {
            let mut slots = vec![];
            expression.slots(&mut slots);
            let width = batch.columns.len();
            let edge_alone = slots.iter().all(|slot| *slot < width || *slot == width + local);
            Weight { expression, local: *local, edge_alone }
        });
        let results = product_search(spec, self.plan.quota, weight, start, target, batch, row, context)?;
        for path in results {
            let end = path.nodes.last().copied().unwrap_or(start);
            push_path(
                found,
                (&spec.outputs, spec.reversed),
                (row, end),
                path.nodes,
                path.edges,
                &path.events,
            );
        }
        Ok(())
    }
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while let Some(batch) = self.input.next(context)? {
            let mut found = Rows::new(self.plan.spec.outputs.len());
            for row in 0..batch.len {
                self.search(&batch, row, &mut found, context)?;
            }
            if found.len() > 0 {
                return Ok(Some(found.into_batch(
                    &batch,
                    self.plan.spec.to.is_none(),
                    &self.plan.spec.outputs,
                )));
            }
        }
        Ok(None)
    }
}
