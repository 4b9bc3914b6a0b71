//! Conditions on what adds up along a path, told to the search that makes the path (rules `capped-paths` and
//! `capped-ends`).

use std::sync::Arc;

use graphodrome_language::ast::BinaryOperator;

use crate::expression::{Expr, Kind};
use crate::operators::shortest_paths::ShortestPaths;
use crate::operators::{Compute, Filter, FollowEdges, ReachInOrder, ReachWithin, SearchPaths};
use crate::plan::{OperatorPlan, PlanNode};
use crate::planner::state::Planner;
use crate::profile::{Alternative, Estimate};
use crate::rules::Rule;
use crate::search::{Caps, OutputKind, Places, SearchSpec};

impl Planner<'_> {
    /// Tells the searches below what these conditions say of their paths. The conditions stay.
    pub(super) fn cap_searches(&self, node: &mut PlanNode, conditions: &[Expr]) {
        if self.may(Rule::CappedPaths) {
            self.cap_below(node, conditions, &mut vec![]);
        }
    }

    /// Takes those conditions away that the search right below tests itself, as nothing else reads its paths.
    pub(super) fn settle_in_search(
        &self, node: &mut PlanNode, conditions: &mut Vec<Expr>, shown: &mut Vec<String>,
    ) {
        let ([below], Some(search)) = (&node.inputs[..], node.operator::<ReachWithin>()) else { return };
        let mut search = search.clone();
        let (width, mut place) = (below.schema.len(), 0);
        let reads_paths = |condition: &Expr| {
            let mut read = vec![];
            condition.slots(&mut read);
            read.iter().any(|slot| *slot >= width)
        };
        let whole =
            caps_of(&search.search.spec, node, conditions, &[]).is_some_and(|c| c.one_sum().is_some());
        if !whole || conditions.iter().filter(|c| reads_paths(c)).count() != 1 {
            return;
        }
        while place < conditions.len() {
            if reads_paths(&conditions[place]) && !is_and(&conditions[place]) {
                search.settled.push(conditions.remove(place));
                search.shown.push(shown.remove(place));
            } else {
                place += 1;
            }
        }
        node.plan = Arc::new(search);
    }

    fn cap_below(&self, node: &mut PlanNode, conditions: &[Expr], computed: &mut Vec<(usize, Kind)>) {
        if let Some(search) = node.operator::<SearchPaths>() {
            let mut search = search.clone();
            self.cap(&mut search, node, conditions, computed);
        }
        if let Some(search) = node.operator::<ShortestPaths>() {
            let mut search = search.clone();
            if search.stop.is_none() {
                search.stop = stop(&search, node, conditions, computed);
            }
            node.plan = Arc::new(search);
        }
        let width = node.inputs.first().map_or(0, |below| below.schema.len());
        if let Some(compute) = node.operator::<Compute>() {
            let kinds = compute.expressions.iter().map(|e| e.kind.clone());
            computed.extend(kinds.enumerate().map(|(i, kind)| (width + i, kind)));
        }
        // Slots stay what they are, and each row comes of one row below.
        let passes = node.operator::<Filter>().is_some()
            || node.operator::<Compute>().is_some()
            || node.operator::<FollowEdges>().is_some()
            || node.operator::<SearchPaths>().is_some()
            || node.operator::<ShortestPaths>().is_some()
            || node.operator::<ReachInOrder>().is_some()
            || node.operator::<ReachWithin>().is_some();
        if let ([below], true) = (&mut node.inputs[..], passes) {
            self.cap_below(below, conditions, computed);
        }
    }

    fn cap(
        &self, search: &mut SearchPaths, node: &mut PlanNode, conditions: &[Expr], computed: &[(usize, Kind)],
    ) {
        let Some(caps) = caps_of(&search.spec, node, conditions, computed) else { return };
        search.caps = Some(match search.caps.take() {
            Some(known) => known.with(caps),
            None => caps,
        });
        let (plan, why): (Arc<dyn OperatorPlan>, _) =
            match (ReachWithin::of(search), ReachInOrder::of(search)) {
                _ if !self.may(Rule::CappedEnds) => (Arc::new(search.clone()), None),
                (Some(within), _) => {
                    (Arc::new(within), Some("the least sum to an end decides whether it qualifies"))
                }
                (None, Some(in_order)) => (
                    Arc::new(in_order),
                    Some("the path that leaves the most room reaches every end that any other path reaches"),
                ),
                (None, None) => (Arc::new(search.clone()), None),
            };
        node.plan = plan;
        if let (Some(why), [below]) = (why, &node.inputs[..]) {
            let every_path = node.estimate.cost;
            let before = &below.estimate;
            // Each end once, and about as many edges looked at as there are ends.
            let rows = (before.rows * search.ends).max(0.1).min(node.estimate.rows);
            let cost = (before.cost + rows.max(before.rows)).min(every_path);
            node.estimate = Estimate { rows, cost, ..node.estimate.clone() };
            let every = "neither the number of paths to an end nor the paths are read";
            node.alternatives = vec![
                Alternative::chosen("each end once", cost, why),
                Alternative::left("every path", Some(every_path), every),
            ];
        }
    }
}

fn is_and(condition: &Expr) -> bool {
    matches!(condition.kind, Kind::Binary(BinaryOperator::And, ..))
}

fn caps_of(
    spec: &SearchSpec, node: &PlanNode, conditions: &[Expr], computed: &[(usize, Kind)],
) -> Option<Caps> {
    let [below] = &node.inputs[..] else { return None };
    let width = below.schema.len();
    let path = width + usize::from(spec.to.is_none());
    let edges = spec.outputs.iter().enumerate().filter(|(_, o)| o.kind == OutputKind::Edge && o.group);
    let lists: Vec<(usize, usize)> = edges.map(|(i, output)| (path + 1 + i, output.local)).collect();
    Caps::of(conditions, &Places { width, path, lists: &lists, computed, reversed: spec.reversed })
}

/// A condition on what the search's paths are the least of.
fn stop(
    search: &ShortestPaths, node: &PlanNode, conditions: &[Expr], computed: &[(usize, Kind)],
) -> Option<Caps> {
    let weight = match &search.weight {
        None => None,
        Some(weight) => match &weight.expression.kind {
            Kind::EdgeProperty(_, reader) => Some(&reader.name),
            _ => return None,
        },
    };
    let all =
        conditions.iter().filter_map(|c| caps_of(&search.spec, node, std::slice::from_ref(c), computed));
    all.into_iter().find(|caps| match weight {
        None => caps.is_count(),
        Some(name) => caps.is_sum_of(name),
    })
}
