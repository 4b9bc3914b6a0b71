//! Choosing how a quantified or searched part of a pattern is run: enumeration, distinct ends only, or
//! shortest paths; from which end; and what of it is wanted outside.

use std::sync::Arc;

use graphodrome_graph::{Direction, Element};
use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, VariableKind, expression_variables};

use crate::expression::{Expr, Kind};
use crate::functions::Function;
use crate::operators::shortest_paths::{MayUse, Method, PathWeight, Wanted};
use crate::operators::*;
use crate::outcome::Outcome;
use crate::plan::{PlanNode, Schema};
use crate::planner::builder::{Builder, slot_of, takes_part};
use crate::planner::elements::{reversed, show_node};
use crate::planner::growth::Growth;
use crate::planner::pattern_graph::{
    NamedPath, PathPiece, PatternStep, SearchStep, SearchVariable, StepKind,
};
use crate::planner::state::Planner;
use crate::profile::{Alternative, Basis, Estimate};
use crate::rules::Rule;
use crate::search::{OutputKind, OutputVariable, Quota, SearchSpec};

/// Where `condition` says no more than that the node in slot `end` is not another bound node: that
/// node's slot.
fn other_node(condition: &Expr, end: usize, schema: &Schema) -> Option<usize> {
    let (a, b) = match &condition.kind {
        Kind::Binary(BinaryOperator::NotEqual, a, b) => (&**a, &**b),
        Kind::Call(Function::AllDifferent, both) => match &both[..] {
            [a, b] => (a, b),
            _ => return None,
        },
        Kind::Not(inner) => match &inner.kind {
            Kind::Binary(BinaryOperator::Equal, a, b) => (&**a, &**b),
            Kind::Call(Function::Same, both) => match &both[..] {
                [a, b] => (a, b),
                _ => return None,
            },
            _ => return None,
        },
        _ => return None,
    };
    let (Kind::Slot(a), Kind::Slot(b)) = (&a.kind, &b.kind) else { return None };
    let other = match (*a == end, *b == end) {
        (true, false) => *b,
        (false, true) => *a,
        _ => return None,
    };
    (schema.variables[other].kind == VariableKind::Node).then_some(other)
}

/// Whether edges of this direction are all walked from source to target; `None` where some go both ways.
fn one_way(direction: Direction) -> Option<bool> {
    match direction {
        Direction::Out => Some(true),
        Direction::In => Some(false),
        _ => None,
    }
}

/// Whether an edge of the pattern leaves the end of a repetition, or enters its start, where all edges of the
/// repetition go one way. A way from the one to the other that takes no node twice takes no such edge, so that
/// there is always one beside it.
fn lies_beyond(repeated: &PatternStep, out: bool, beside: &PatternStep) -> bool {
    let StepKind::Edge { direction, .. } = &beside.kind else { return false };
    let Some(along) = one_way(*direction) else { return false };
    let (source, target) = if along { (beside.from, beside.to) } else { (beside.to, beside.from) };
    let (start, end) = if out { (repeated.from, repeated.to) } else { (repeated.to, repeated.from) };
    source == end || target == start
}

/// A distance bound that says less of what paths cost is not followed.
const LEADING_SHARE: f64 = 0.7;

/// What is to be expected of a search, by each way to run it.
struct Prospect {
    /// Ends of a row, each once; and whether one that is bound is among them.
    distinct: f64,
    bound_end: f64,
    /// Edges looked at for each end once.
    one_end: f64,
    both_ends: f64,
    /// Paths of a row, and edges looked at for all of them.
    fan_out: f64,
    looked: f64,
    basis: Basis,
    tried: &'static str,
}

impl Prospect {
    fn estimate(&self, input: &PlanNode, result: f64, cost: f64, source: String) -> Estimate {
        let Estimate { rows, cost: before, .. } = &input.estimate;
        Estimate { rows: (rows * result).max(0.1), cost: before + rows * cost, basis: self.basis, source }
    }

    /// Paths of a row; `ring` is what is known where they lead back to their start.
    fn paths(&self, ring: Option<Growth>, is_bound: bool, everything: f64) -> f64 {
        match ring {
            Some(growth) if growth.tried => growth.rings,
            Some(growth) => growth.rings.max(growth.paths / everything),
            None if is_bound => self.fan_out / everything,
            None => self.fan_out,
        }
    }

    fn of_one_end(&self) -> String {
        format!("{:.0} edges from one end, {}", self.one_end, self.tried)
    }
}

fn quota(search: PathSearch) -> Quota {
    match search {
        PathSearch::AllShortest => Quota::Groups(1),
        PathSearch::ShortestGroups(k) => Quota::Groups(k),
        PathSearch::Shortest(k) => Quota::First(k),
        _ => Quota::First(1),
    }
}

/// Whether one path to an end serves as well as all: nobody asks how many there are, and what the search binds is read by
/// one condition alone.
fn any_path_serves(spec: &SearchSpec, variables: &[SearchVariable], b: &Builder<'_>) -> bool {
    let read_once = |name: &Arc<str>| {
        let readers = b.graph.conditions.iter().filter(|c| c.variables.contains(name)).count();
        readers == 1 && !b.usage.needed.contains(name) && !b.usage.needed.contains("*")
    };
    let trails = spec.mode != PathMode::Walk || spec.trails;
    !b.usage.multiplicity && trails && variables.iter().all(|v| read_once(&v.outside))
}

/// The variables of a search that are read of it.
fn wanted_variables(search: &SearchStep, b: &Builder<'_>) -> Vec<SearchVariable> {
    let wanted = |name: &Arc<str>| {
        b.usage.needed.contains(name)
            || b.usage.needed.contains("*")
            || b.graph.conditions.iter().any(|c| !c.done && c.variables.contains(name))
    };
    search.variables.iter().filter(|v| wanted(&v.outside)).cloned().collect()
}

fn outputs_of(variables: &[SearchVariable], locals: &[(Arc<str>, OutputKind)]) -> Vec<OutputVariable> {
    let output = |v: &SearchVariable| {
        let local = locals.iter().position(|(known, _)| *known == v.inside)?;
        Some(OutputVariable { local, kind: locals[local].1, group: v.kind.is_group() })
    };
    variables.iter().filter_map(output).collect()
}

/// Whether it does not matter how many paths there are to an end: nobody looks, or one is asked for. `apart` says
/// that no other step of the pattern may take the same edges.
fn ends_are_all(
    search: &SearchStep, spec: &SearchSpec, (pattern, apart): (&PatternStep, bool), b: &Builder<'_>,
) -> bool {
    match search.search {
        PathSearch::All => {
            let endless = spec.mode == PathMode::Walk && spec.max.is_none();
            (pattern.once || !b.usage.multiplicity) && !endless && apart
        }
        PathSearch::Any | PathSearch::AnyShortest | PathSearch::Shortest(1) => true,
        _ => !b.usage.multiplicity,
    }
}

impl Planner<'_> {
    pub(super) fn search_operator(
        &mut self, input: PlanNode, step: usize, search: &SearchStep, from_right: bool,
        different_from: Vec<usize>, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        let pattern = b.graph.steps[step].clone();
        let (near, far) = if from_right { (pattern.to, pattern.from) } else { (pattern.from, pattern.to) };
        let (near_node, far_node) = (b.graph.nodes[near].clone(), b.graph.nodes[far].clone());
        let from = slot_of(&input.schema, &near_node.name)?;
        let to = input.schema.slot(&far_node.name);
        let elements = if from_right { reversed(&search.elements) } else { search.elements.clone() };
        let compiled = self.search_program(&elements, &input.schema, from_right, search.ambiguous)?;
        let as_step = match self.may(Rule::RepeatedEdge) {
            true => self.search_as_step(&search.elements, &compiled.locals, &input.schema)?,
            false => None,
        };
        let (fan_out, looked) = self.fan_out(&pattern, from_right, &b.graph.nodes, &b.graph.conditions);
        let growth = self.growth_of(&pattern, from_right, &b.graph.nodes);
        let passing = self.share(&far_node.name, &far_node.labels, &b.graph.conditions, Element::Node);

        let (target_conditions, differs_from) = match to {
            None => self.end_conditions(&input.schema, &far_node.name, b)?,
            Some(_) => (vec![], vec![]),
        };
        let variables = wanted_variables(search, b);
        let outputs = outputs_of(&variables, &compiled.locals);
        let read = self.read_of_paths(step, b);
        let (min, max) = as_step.as_ref().map_or((0, None), |(_, min, max)| (*min, *max));
        let one_way = as_step.as_ref().filter(|_| min == 0).and_then(|(step, ..)| one_way(step.direction));
        let shared = (0..b.graph.steps.len()).any(|other| {
            let beside = &b.graph.steps[other];
            other != step
                && takes_part(beside)
                && self.overlap(step, other, b)
                && !one_way.is_some_and(|out| lies_beyond(&pattern, out, beside))
        });
        let weight = self.weight(search, &compiled.schema, &compiled.locals, input.schema.len())?;
        let ends = [pattern.from, pattern.to].map(|end| show_node(&b.graph.nodes[end]));
        let shown = format!("{}{}{}", ends[0], pattern.shown, ends[1]);
        let has_edge_search = search.search != PathSearch::All;
        let spec = SearchSpec {
            pattern: shown,
            from,
            to,
            program: Arc::new(compiled.program),
            step: as_step.map(|(step, ..)| Arc::new(step)),
            min,
            max,
            reversed: from_right,
            target: self.scope.node_test(if to.is_none() { far_node.labels.as_ref() } else { None }),
            target_conditions,
            differs_from,
            mode: search.mode,
            trails: !b.graph.is_repeatable(step) && search.search == PathSearch::All,
            different_from: different_from.clone(),
            outputs,
        };
        let mut schema = input.schema.clone();
        if to.is_none() {
            schema.push(far_node.name.clone(), VariableKind::Node);
        }
        let everything = self.node_total(&self.labels_of(&far_node)).max(1.0);
        let prospect = self.prospect(growth, (fan_out, looked), passing, everything);
        let apart = b.graph.is_repeatable(step) || !shared;
        let ends_only = ends_are_all(search, &spec, (&pattern, apart), b)
            && (search.search == PathSearch::All || weight.is_none());
        let reachable = self.may(Rule::DistinctEnds)
            && ends_only
            && spec.step.is_some()
            && spec.min <= 1
            && spec.outputs.is_empty()
            && read == Wanted::Ends
            && spec.different_from.is_empty() | !has_edge_search
            && matches!(spec.mode, PathMode::Trail | PathMode::Walk);
        if !reachable {
            schema.push(search.path.clone(), VariableKind::Path);
        }
        for variable in &variables {
            schema.push(variable.outside.clone(), variable.kind);
        }
        if reachable {
            return Ok(self.reach(input, spec, schema, &prospect));
        }
        if has_edge_search {
            let may_leave_out = read == Wanted::Lengths || self.may(Rule::DistinctEnds);
            let wanted = if spec.outputs.is_empty() && may_leave_out { read } else { Wanted::Paths };
            let (quota, may) = (quota(search.search), self.may_use());
            let bound = self.bound_for(&spec, weight.as_ref());
            let plan = ShortestPaths { quota, weight, may, bound, wanted, spec, within: None, stop: None };
            return Ok(self.shortest(input, plan, schema, &prospect));
        }
        let result = prospect.paths(growth.filter(|_| near == far), to.is_some(), everything);
        let source = format!("{:.0} edges a row, {}", prospect.looked, prospect.tried);
        let estimate = prospect.estimate(&input, result, prospect.looked, source);
        let guided = self.may(Rule::GuidedSearch);
        let any_serves = apart && read == Wanted::Ends && any_path_serves(&spec, &variables, b);
        let ends = if spec.to.is_some() { prospect.bound_end } else { prospect.distinct };
        let plan = SearchPaths { spec, guided, caps: None, any_serves, ends };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    /// What the named paths that go through a step need of it.
    fn read_of_paths(&self, step: usize, b: &Builder<'_>) -> Wanted {
        let is_read = |name: &Arc<str>| {
            b.usage.needed.contains(name)
                || b.usage.needed.contains("*")
                || b.graph.conditions.iter().any(|c| !c.done && c.variables.contains(name))
        };
        let through = |p: &&NamedPath| {
            let here = p.pieces.iter().any(|piece| matches!(piece, PathPiece::Step(s) if *s == step));
            here && is_read(&p.name)
        };
        let paths: Vec<&NamedPath> = b.graph.paths.iter().filter(through).collect();
        if paths.is_empty() {
            return Wanted::Ends;
        }
        let lengths = paths.iter().all(|p| b.graph.lengths.contains(&p.name));
        if lengths { Wanted::Lengths } else { Wanted::Paths }
    }

    /// The conditions on an end that the search finds, tested where it is found; and the bound nodes that it must not be.
    fn end_conditions(
        &mut self, outside: &Schema, end: &Arc<str>, b: &mut Builder<'_>,
    ) -> Outcome<(Vec<Expr>, Vec<usize>)> {
        let mut schema = outside.clone();
        let end = schema.push(end.clone(), VariableKind::Node);
        let mut conditions = self.take_conditions(&schema, b)?.0;
        let mut differs_from = vec![];
        conditions.retain(|condition| match other_node(condition, end, &schema) {
            Some(other) => {
                differs_from.push(other);
                false
            }
            None => true,
        });
        Ok((conditions, differs_from))
    }

    fn prospect(
        &self, growth: Option<Growth>, (fan_out, looked): (f64, f64), passing: f64, everything: f64,
    ) -> Prospect {
        // For each end once, and for every path.
        let (distinct, one_end) = match growth {
            Some(growth) => (growth.ends * passing, growth.looked_for_ends),
            None => (fan_out.min(everything), looked.min(self.edge_total(&None).max(1.0))),
        };
        let (fan_out, looked) = match growth {
            Some(growth) => (growth.paths * passing, growth.looked_for_paths),
            None => (fan_out, looked),
        };
        let (basis, tried) = match growth {
            Some(growth) if growth.tried => (Basis::Sample, "tried from a few nodes"),
            Some(_) => (Basis::Sample, "tried from a few nodes as far as a few thousand edges go"),
            None => (Basis::Degrees, "from mean degrees"),
        };
        let bound_end = (distinct / everything).clamp(0.01, 1.0);
        Prospect {
            distinct,
            bound_end,
            one_end,
            both_ends: 2.0 * one_end.sqrt(),
            fan_out,
            looked,
            basis,
            tried,
        }
    }

    fn may_use(&self) -> MayUse {
        MayUse {
            both_ends: self.may(Rule::BothEnds),
            by_walk: self.may(Rule::ShortestByWalk),
            guide: self.may(Rule::GuidedSearch),
        }
    }

    /// The distance bound over the weight of a search, or why it cannot serve; `None` where there is none.
    fn bound_for(&self, spec: &SearchSpec, weight: Option<&PathWeight>) -> Option<Result<String, String>> {
        let (property, _) = weight?.property()?;
        let step = spec.step.as_ref()?;
        let known = self.scope.known_bound(&step.test, spec.direction(step), property)?;
        if !self.may(Rule::DistanceBounds) {
            return Some(Err("the rule distance-bounds is off".into()));
        }
        Some(known.and_then(|bound| match bound.share() {
            Some(share) if share < LEADING_SHARE => Err(format!(
                "the bound {} says {:.0} % of what paths cost, too little to lead to the end",
                bound.definition.name,
                share * 100.0
            )),
            _ => Ok(bound.definition.name.to_string()),
        }))
    }

    /// Each end once.
    fn reach(&mut self, input: PlanNode, spec: SearchSpec, schema: Schema, prospect: &Prospect) -> PlanNode {
        let trails_only = spec.mode == PathMode::Trail;
        let end_once = self.may(Rule::EndOnce);
        let (is_bound, has_longest) = (spec.to.is_some(), spec.max.is_some());
        let (cost, result) = match is_bound {
            true => (prospect.both_ends, prospect.bound_end),
            false => (prospect.one_end, prospect.distinct),
        };
        let estimate = prospect.estimate(&input, result, cost, prospect.of_one_end());
        let mut node = self.node(Reach { spec, trails_only, end_once }, vec![input], schema, estimate);
        node.alternatives.push(Alternative::chosen(
            if is_bound { "each node once, from both ends" } else { "each node once" },
            cost,
            "neither the number of paths to an end nor the paths are read",
        ));
        node.alternatives.push(Alternative::left(
            "every path",
            has_longest.then_some(prospect.looked),
            "each path to an end would be enumerated",
        ));
        node
    }

    /// Shortest and cheapest paths, from both ends where they may be.
    fn shortest(
        &mut self, input: PlanNode, plan: ShortestPaths, schema: Schema, prospect: &Prospect,
    ) -> PlanNode {
        let Prospect { one_end, both_ends, .. } = *prospect;
        let (cost, mut alternatives) = match plan.method() {
            Method::Towards => {
                let why = "what is left is known from below";
                let chosen = Alternative::chosen("towards the end by a distance bound", both_ends / 4.0, why);
                let both = Alternative::left("from both ends", Some(both_ends), "a wider search");
                (both_ends / 4.0, vec![chosen, both])
            }
            Method::BothEnds => {
                let chosen = Alternative::chosen("from both ends", both_ends, "both ends are known");
                let one = Alternative::left("from one end", Some(one_end), "a wider search");
                (both_ends, vec![chosen, one])
            }
            _ => match plan.why_one_end() {
                Some(why) => {
                    let chosen = Alternative::chosen("from one end", one_end, "it serves always");
                    (one_end, vec![chosen, Alternative::left("from both ends", Some(both_ends), why)])
                }
                None => (one_end, vec![]),
            },
        };
        if let Some(why) = plan.why_not_towards() {
            alternatives.push(Alternative::left("towards the end by a distance bound", None, why));
        }
        let of_quota = match plan.quota {
            // As many as there are, up to what is asked for.
            Quota::First(k) => (k as f64).min((prospect.fan_out / prospect.distinct.max(1e-9)).max(1.0)),
            Quota::Groups(_) => 1.0,
        };
        let ends = if plan.spec.to.is_some() { prospect.bound_end } else { prospect.distinct };
        let estimate = prospect.estimate(&input, of_quota * ends, cost, prospect.of_one_end());
        let mut node = self.node(plan, vec![input], schema, estimate);
        node.alternatives.extend(alternatives);
        node
    }

    /// The weight of a shortest search. `outside` is what its input binds.
    fn weight(
        &self, search: &SearchStep, schema: &Schema, locals: &[(Arc<str>, OutputKind)], outside: usize,
    ) -> Outcome<Option<PathWeight>> {
        let Some(weight) = &search.weight else { return Ok(None) };
        let edges: Vec<usize> = expression_variables(weight)
            .iter()
            .filter_map(|name| {
                locals.iter().position(|(known, kind)| known == name && *kind == OutputKind::Edge)
            })
            .collect();
        let [local] = edges[..] else {
            return Err(Diagnostic::syntax(
                weight.span,
                "the weight must read exactly one edge variable of its path",
            )
            .hint("as in SHORTEST 1 BY e.length_m (a)-[e:PIPE]->+(b)"));
        };
        let expression = self.compile(weight, schema)?;
        let mut slots = vec![];
        expression.slots(&mut slots);
        let edge_alone = slots.iter().all(|slot| *slot < outside || *slot == outside + local);
        Ok(Some(PathWeight { expression, local, edge_alone }))
    }
}
