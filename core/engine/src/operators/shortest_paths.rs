//! ShortestPaths: for each pair of ends the shortest paths a search prefix asks for.

use std::sync::Arc;

use graphodrome_graph::UsableBound;
use graphodrome_language::ast::PathMode;

use crate::batch::Batch;
use crate::context::Context;
use crate::expression::Expr;
use crate::expression::Kind;
use crate::operators::search_paths::{mode_name, push_path, search_details};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::search::{
    Caps, Cursor, EdgeWeight, FoundPath, GuidedSearch, PathSource, Quota, Rows, SearchSpec, SumBound, Weight,
    paths_from, product_search,
};

#[derive(Clone, Debug)]
pub(crate) struct ShortestPaths {
    pub spec: SearchSpec,
    pub quota: Quota,
    pub weight: Option<PathWeight>,
    pub may: MayUse,
    /// The distance bound over its weight, by name, or why it cannot serve.
    pub bound: Option<Result<String, String>>,
    pub wanted: Wanted,
    /// Any path to an end serves that satisfies these conditions on the sum of its weights.
    pub within: Option<Arc<SumBound>>,
    /// A condition on what its paths are the least of, past which nothing need be looked for.
    pub stop: Option<Caps>,
}

/// What is read of a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wanted {
    Paths,
    /// How many edges it has; nothing that is bound along it.
    Lengths,
    /// Nothing but where it ends.
    Ends,
}

/// The weight of an edge.
#[derive(Clone, Debug)]
pub(crate) struct PathWeight {
    pub expression: Expr,
    /// Which of the program's variables the edge is.
    pub local: usize,
    /// It reads no other variable of the search.
    pub edge_alone: bool,
}

impl PathWeight {
    /// The property of the edge that it is, where it is nothing more.
    pub fn property(&self) -> Option<(&str, usize)> {
        match &self.expression.kind {
            Kind::EdgeProperty(slot, reader) if self.edge_alone => Some((&reader.name, *slot)),
            _ => None,
        }
    }
}

/// What the rules allow.
#[derive(Clone, Copy, Debug)]
pub(crate) struct MayUse {
    /// To begin at both ends.
    pub both_ends: bool,
    /// To leave the mode out where a walk is in it anyway.
    pub by_walk: bool,
    /// To follow what is left to the end.
    pub guide: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Method {
    /// By what is left at least.
    Towards,
    BothEnds,
    OneEnd,
    /// Path by path, guided by what is left.
    Guided,
    CheapestFirst,
}

impl ShortestPaths {
    pub fn method(&self) -> Method {
        if self.why_not_guided().is_some() {
            return Method::CheapestFirst;
        }
        match (self.any_walk(), self.spec.to) {
            (true, Some(_)) if matches!(self.bound, Some(Ok(_))) => Method::Towards,
            (true, Some(_)) if self.may.both_ends => Method::BothEnds,
            (true, _) => Method::OneEnd,
            (false, _) => Method::Guided,
        }
    }

    /// One path is wanted, and any cheapest walk between different nodes is one (rule `shortest-by-walk`).
    fn any_walk(&self) -> bool {
        self.quota == Quota::First(1) && (self.spec.mode == PathMode::Walk || self.may.by_walk)
    }

    /// Why all ways have to be kept apart by their states and variables.
    fn why_not_guided(&self) -> Option<&'static str> {
        let spec = &self.spec;
        if spec.step.is_none() || spec.program.ambiguous {
            return Some("what is repeated is more than one plain edge");
        }
        if spec.min > 1 {
            return Some("a path of fewer edges than asked for could come first");
        }
        if !spec.different_from.is_empty() {
            return Some("its edges must differ from others of the pattern");
        }
        match &self.weight {
            None if self.any_walk() => None,
            _ if !self.may.guide => Some("the rule guided-search is off"),
            Some(weight) if !weight.edge_alone => Some("the weight reads more than its edge"),
            Some(_) if spec.max.is_some() => Some("a dearer path may have fewer edges than the bound allows"),
            _ => None,
        }
    }

    /// Why a distance bound that is there does not serve.
    pub fn why_not_towards(&self) -> Option<&str> {
        match &self.bound {
            Some(Err(why)) => Some(why),
            Some(Ok(_)) if self.method() != Method::Towards => Some(match (self.any_walk(), self.spec.to) {
                (false, _) => "more than one path is asked for",
                (_, None) => "the end is not known",
                _ => "all ways have to be kept apart",
            }),
            _ => None,
        }
    }

    /// The property over which a distance bound would serve, where there is none.
    pub fn would_go_towards(&self) -> Option<&str> {
        let serves = matches!(self.method(), Method::BothEnds | Method::OneEnd) && self.spec.to.is_some();
        let weight = self.weight.as_ref().filter(|_| serves && self.bound.is_none())?;
        Some(weight.property()?.0)
    }

    /// The bound as it serves the graph as it is now; why it does not goes into the notes.
    fn usable_bound(&self, cursor: &mut Cursor<'_>) -> Option<Arc<UsableBound>> {
        let (step, weight) = (self.spec.step.as_ref()?, self.weight.as_ref()?);
        let (property, _) = weight.property()?;
        let direction = self.spec.direction(step);
        match cursor.context.scope.bound_for(&step.test, direction, property)? {
            Ok(bound) => Some(Arc::new(bound)),
            Err(why) => {
                let notes = &mut cursor.context.metrics().notes;
                notes.push(format!("not towards the end by the distance bound {why}"));
                None
            }
        }
    }

    /// Why a search between two bound nodes does not begin at both, where it does not.
    pub fn why_one_end(&self) -> Option<&'static str> {
        self.spec.to?;
        match self.method() {
            Method::Towards | Method::BothEnds => None,
            Method::OneEnd => Some("the rule both-ends is off"),
            Method::Guided if self.quota == Quota::First(1) => Some("the rule shortest-by-walk is off"),
            Method::Guided => (self.weight.is_some()).then_some("more than one path is asked for"),
            Method::CheapestFirst => self.why_not_guided(),
        }
    }

    fn guided(&self) -> Option<GuidedSearch> {
        let step = self.spec.step.clone()?;
        if self.method() == Method::CheapestFirst {
            return None;
        }
        let weight = self.weight.as_ref().map(|weight| {
            Arc::new(EdgeWeight { expression: weight.expression.clone(), local: weight.local })
        });
        Some(GuidedSearch {
            step,
            min: self.spec.min,
            max: self.spec.max,
            backwards: self.spec.reversed,
            mode: self.spec.mode,
            quota: self.quota,
            weight,
            any_walk: self.any_walk(),
            both_ends: self.may.both_ends,
            bound: None,
            bare: self.wanted != Wanted::Paths,
            within: self.within.clone(),
            stop: None,
        })
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
        let how = match (self.method(), &self.weight) {
            (Method::Towards, _) => "least sum with what is left at least first",
            (Method::BothEnds, None) => "breadth first from both ends",
            (Method::BothEnds, Some(_)) => "least sum first from both ends",
            (Method::OneEnd, None) => "breadth first from one end",
            (Method::OneEnd, Some(_)) => "least sum first from one end",
            (Method::Guided, _) if self.spec.to.is_none() => "one by one from each end found",
            (Method::Guided, _) => "one by one, guided from the other end",
            (Method::CheapestFirst, Some(_)) => "least sum first",
            (Method::CheapestFirst, None) => "fewest hops first",
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
        let capped = if self.stop.is_some() { ", no further than what adds up allows" } else { "" };
        let bound = match (self.method(), &self.bound) {
            (Method::Towards, Some(Ok(bound))) => format!(", by the distance bound {bound}"),
            _ => String::new(),
        };
        search_details(&self.spec, &format!("{wanted}{mode}, {how}{bound}{capped}"))
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let guided = self.guided().map(Arc::new);
        let input = inputs.remove(0);
        Box::new(ShortestPathsRun {
            plan: self,
            guided,
            begun: false,
            input,
            batch: None,
            row: 0,
            paths: None,
        })
    }
}

struct ShortestPathsRun {
    plan: Arc<ShortestPaths>,
    guided: Option<Arc<GuidedSearch>>,
    begun: bool,
    input: Input,
    batch: Option<Batch>,
    row: usize,
    /// The paths of `row` that are still to come.
    paths: Option<Box<dyn PathSource>>,
}

impl ShortestPathsRun {
    /// Begins the search of the row, where it has both ends.
    fn begin(&mut self, cursor: &mut Cursor<'_>) -> Outcome<()> {
        let spec = &self.plan.spec;
        if !std::mem::replace(&mut self.begun, true)
            && let Some(search) = self.guided.take()
        {
            let mut search = GuidedSearch::clone(&search);
            let caps = self.plan.stop.as_ref();
            search.stop =
                caps.and_then(|caps| caps.that_hold(&spec.program.edge_tests(), &cursor.context.scope));
            if self.plan.method() == Method::Towards {
                search.bound = self.plan.usable_bound(cursor);
            }
            self.guided = Some(Arc::new(search));
        }
        let Some(start) = spec.start(cursor.batch, cursor.row) else { return Ok(()) };
        let Ok(target) = spec.bound_end(cursor.batch, cursor.row) else { return Ok(()) };
        if let Some(target) = target
            && !spec.is_target(target, cursor)?
        {
            return Ok(());
        }
        cursor.context.metrics().searches += 1;
        if let Some(search) = &self.guided {
            self.paths = Some(paths_from(search, start, target));
        }
        Ok(())
    }

    /// Adds paths of the row until it has no more or `found` is full.
    fn fill(&mut self, found: &mut Rows, cursor: &mut Cursor<'_>) -> Outcome<()> {
        let spec = &self.plan.spec;
        let Some(paths) = &mut self.paths else {
            if self.guided.is_none() {
                self.cheapest(found, cursor)?;
            }
            return Ok(());
        };
        paths.resume();
        while !found.is_full() {
            let Some(FoundPath { mut nodes, mut edges, hops }) = paths.next(spec, cursor)? else {
                paths.report(cursor);
                self.paths = None;
                return Ok(());
            };
            let end = nodes.last().copied().unwrap_or_default();
            if self.plan.wanted == Wanted::Lengths {
                found.push_length(cursor.row, end, hops.unwrap_or(edges.len() as u32));
                continue;
            }
            // What is bound is read in the order the pattern is written.
            if spec.reversed {
                nodes.reverse();
                edges.reverse();
            }
            let events = match &spec.step {
                Some(step) if !spec.outputs.is_empty() => step.events(&nodes, &edges),
                _ => vec![],
            };
            push_path(found, (&spec.outputs, false), (cursor.row, end), nodes, edges, &events);
        }
        paths.report(cursor);
        Ok(())
    }

    fn cheapest(&self, found: &mut Rows, cursor: &mut Cursor<'_>) -> Outcome<()> {
        let spec = &self.plan.spec;
        let Some(start) = spec.start(cursor.batch, cursor.row) else { return Ok(()) };
        let Ok(target) = spec.bound_end(cursor.batch, cursor.row) else { return Ok(()) };
        let weight = self.plan.weight.as_ref().map(|weight| Weight {
            expression: &weight.expression,
            local: weight.local,
            edge_alone: weight.edge_alone,
        });
        for path in product_search(spec, self.plan.quota, weight, (start, target), cursor)? {
            let end = path.nodes.last().copied().unwrap_or(start);
            if self.plan.wanted == Wanted::Lengths {
                found.push_length(cursor.row, end, path.edges.len() as u32);
                continue;
            }
            let ends = (cursor.row, end);
            push_path(found, (&spec.outputs, spec.reversed), ends, path.nodes, path.edges, &path.events);
        }
        Ok(())
    }
}

impl Operator for ShortestPathsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            let batch = match self.batch.take() {
                Some(batch) => batch,
                None => match self.input.next(context)? {
                    Some(batch) => batch,
                    None => return Ok(None),
                },
            };
            let mut found = Rows::new(self.plan.spec.outputs.len());
            while self.row < batch.len && !found.is_full() {
                let mut cursor = Cursor { batch: &batch, row: self.row, context };
                if self.paths.is_none() {
                    self.begin(&mut cursor)?;
                }
                self.fill(&mut found, &mut cursor)?;
                self.row += self.paths.is_none() as usize;
            }
            let out = (found.len() > 0)
                .then(|| found.into_batch(&batch, self.plan.spec.to.is_none(), &self.plan.spec.outputs));
            if self.row < batch.len {
                self.batch = Some(batch);
            } else {
                self.row = 0;
            }
            if out.is_some() {
                return Ok(out);
            }
        }
    }
}
