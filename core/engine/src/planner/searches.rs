//! Choosing how a quantified or searched part of a pattern is run: enumeration, distinct ends only, or
//! shortest paths; from which end; and what of it is wanted outside.

use std::sync::Arc;

use graphodrome_graph::{Direction, Element};
use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, VariableKind, expression_variables};

use crate::context::Outcome;
use crate::expression::{Expr, Kind};
use crate::functions::Function;
use crate::operators::shortest_paths::{MayUse, Method, PathWeight};
use crate::operators::*;
use crate::plan::{PlanNode, Schema};
use crate::planner::Planner;
use crate::planner::order::{Builder, slot_of, takes_part};
use crate::planner::pattern::{PathPiece, PatternStep, SearchStep, StepKind, show_node};
use crate::planner::program::reversed;
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

        // The end node's conditions are tested where it is found.
        let mut target_schema = input.schema.clone();
        target_schema.push(far_node.name.clone(), VariableKind::Node);
        let mut target_conditions =
            if to.is_none() { self.take_conditions(&target_schema, b)?.0 } else { vec![] };
        let end = target_schema.len() - 1;
        let mut differs_from = vec![];
        target_conditions.retain(|condition| match other_node(condition, end, &target_schema) {
            Some(other) => {
                differs_from.push(other);
                false
            }
            None => true,
        });

        let wanted = |name: &Arc<str>| {
            b.usage.needed.contains(name)
                || b.usage.needed.contains("*")
                || b.graph.conditions.iter().any(|c| !c.done && c.variables.contains(name))
        };
        let variables: Vec<_> = search.variables.iter().filter(|v| wanted(&v.outside)).cloned().collect();
        let outputs: Vec<OutputVariable> = variables
            .iter()
            .filter_map(|v| {
                let local = compiled.locals.iter().position(|(known, _)| *known == v.inside)?;
                Some(OutputVariable { local, kind: compiled.locals[local].1, group: v.kind.is_group() })
            })
            .collect();
        let in_path = b.graph.paths.iter().any(|p| {
            let here = p.pieces.iter().any(|piece| matches!(piece, PathPiece::Step(s) if *s == step));
            here && wanted(&p.name)
        });
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
        let shown = format!(
            "{}{}{}",
            show_node(&b.graph.nodes[pattern.from]),
            pattern.shown,
            show_node(&b.graph.nodes[pattern.to])
        );
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
            trails: !b.graph.repeatable && search.search == PathSearch::All,
            different_from: different_from.clone(),
            outputs,
        };
        let rows = input.estimate.rows;
        let mut schema = input.schema.clone();
        if to.is_none() {
            schema.push(far_node.name.clone(), VariableKind::Node);
        }
        let everything = self.node_total(&self.labels_of(&far_node)).max(1.0);
        // For each end once, and for every path.
        let (distinct, one_end) = match growth {
            Some(growth) => (growth.ends * passing, growth.looked_for_ends),
            None => (fan_out.min(everything), looked.min(self.edge_total(&None).max(1.0))),
        };
        let (fan_out, looked) = match growth {
            Some(growth) => (growth.paths * passing, growth.looked_for_paths),
            None => (fan_out, looked),
        };
        let both_ends = 2.0 * one_end.sqrt();
        let bound_end = (distinct / everything).clamp(0.01, 1.0);
        let (basis, tried) = match growth {
            Some(growth) if growth.tried => (Basis::Sample, "tried from a few nodes"),
            Some(_) => (Basis::Sample, "tried from a few nodes as far as a few thousand edges go"),
            None => (Basis::Degrees, "from mean degrees"),
        };
        // How many paths there are to an end does not matter: nobody looks, or one is asked for.
        let ends_only = match search.search {
            PathSearch::All => {
                let endless = spec.mode == PathMode::Walk && spec.max.is_none();
                !b.usage.multiplicity && !endless && (b.graph.repeatable || !shared)
            }
            PathSearch::Any | PathSearch::AnyShortest | PathSearch::Shortest(1) => weight.is_none(),
            _ => !b.usage.multiplicity && weight.is_none(),
        };
        let reachable = self.may(Rule::DistinctEnds)
            && ends_only
            && spec.step.is_some()
            && spec.min <= 1
            && spec.outputs.is_empty()
            && !in_path
            && spec.different_from.is_empty() | !has_edge_search
            && matches!(spec.mode, PathMode::Trail | PathMode::Walk);
        if !reachable {
            schema.push(search.path.clone(), VariableKind::Path);
        }
        for variable in &variables {
            schema.push(variable.outside.clone(), variable.kind);
        }
        if reachable {
            let trails_only = spec.mode == PathMode::Trail;
            let end_once = self.may(Rule::EndOnce);
            let (cost, result) = if to.is_some() { (both_ends, bound_end) } else { (one_end, distinct) };
            let estimate = Estimate {
                rows: (rows * result).max(0.1),
                cost: input.estimate.cost + rows * cost,
                basis,
                source: format!("{one_end:.0} edges from one end, {tried}"),
            };
            let spec_max = spec.max;
            let mut node = self.node(Reach { spec, trails_only, end_once }, vec![input], schema, estimate);
            node.alternatives.push(Alternative::chosen(
                if to.is_some() { "each node once, from both ends" } else { "each node once" },
                cost,
                "nobody asks how many paths there are to an end, or which",
            ));
            node.alternatives.push(Alternative::left(
                "every path",
                spec_max.map(|_| looked),
                "an end is reached as often as there are paths to it",
            ));
            return Ok(node);
        }
        if has_edge_search {
            let quota = match search.search {
                PathSearch::AllShortest => Quota::Groups(1),
                PathSearch::ShortestGroups(k) => Quota::Groups(k),
                PathSearch::Shortest(k) => Quota::First(k),
                _ => Quota::First(1),
            };
            let may = MayUse {
                both_ends: self.may(Rule::BothEnds),
                by_walk: self.may(Rule::ShortestByWalk),
                guide: self.may(Rule::GuidedSearch),
            };
            let bare = self.may(Rule::DistinctEnds) && !in_path && spec.outputs.is_empty();
            let plan = ShortestPaths { spec, quota, weight, may, bare };
            let (cost, alternatives) = match plan.method() {
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
            let of_quota = match quota {
                // As many as there are, up to what is asked for.
                Quota::First(k) => (k as f64).min((fan_out / distinct.max(1e-9)).max(1.0)),
                Quota::Groups(_) => 1.0,
            };
            let result = of_quota * if to.is_some() { bound_end } else { distinct };
            let estimate = Estimate {
                rows: (rows * result).max(0.1),
                cost: input.estimate.cost + rows * cost,
                basis,
                source: format!("{one_end:.0} edges from one end, {tried}"),
            };
            let mut node = self.node(plan, vec![input], schema, estimate);
            node.alternatives.extend(alternatives);
            return Ok(node);
        }
        let result = match growth {
            Some(growth) if near == far && growth.tried => growth.rings,
            Some(growth) if near == far => growth.rings.max(growth.paths / everything),
            _ if to.is_some() => fan_out / everything,
            _ => fan_out,
        };
        let estimate = Estimate {
            rows: (rows * result).max(0.1),
            cost: input.estimate.cost + rows * looked,
            basis,
            source: format!("{looked:.0} edges a row, {tried}"),
        };
        let guided = self.may(Rule::GuidedSearch);
        Ok(self.node(SearchPaths { spec, guided }, vec![input], schema, estimate))
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
