//! EXISTS of one edge between nodes of a pattern as an edge of that pattern (rule `exists-in-pattern`).

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_language::VariableKind;
use graphodrome_language::ast::*;

use crate::plan::Schema;
use crate::planner::Planner;
use crate::planner::elements::show_edge;
use crate::planner::pattern::{PatternGraph, PatternStep, StepKind};
use crate::rules::Rule;

/// The two named nodes and the edge between them, of which nothing but labels and a direction is asked.
fn one_edge(condition: &Expression) -> Option<(&Arc<str>, &EdgePattern, &Arc<str>)> {
    let ExpressionKind::Exists(query) = &condition.kind else { return None };
    let [Clause::Match { optional: false, pattern, .. }] = &query.only()?.clauses[..] else { return None };
    let [path] = &pattern.paths[..] else { return None };
    let plain_path = path.search == PathSearch::All
        && path.variable.is_none()
        && matches!(path.mode, None | Some(PathMode::Walk | PathMode::Trail));
    let [PathElement::Node(from), PathElement::Edge(edge, None), PathElement::Node(to)] =
        &path.term.elements[..]
    else {
        return None;
    };
    let asks_more = |filter: &ElementFilter| !filter.properties.is_empty() || filter.condition.is_some();
    let name = |node: &'_ NodePattern| node.filter.labels.is_none() && !asks_more(&node.filter);
    let plain = plain_path
        && pattern.condition.is_none()
        && name(from)
        && name(to)
        && !asks_more(&edge.filter)
        && edge.filter.variable.is_none();
    let (a, b) = (from.filter.variable.as_ref()?, to.filter.variable.as_ref()?);
    (plain && a.text != b.text).then_some((&a.text, edge, &b.text))
}

impl Planner<'_> {
    /// Takes the conditions that only ask for an edge between two nodes that the pattern or the rows before it have.
    pub(super) fn existing_edges(&mut self, graph: &mut PatternGraph, bound: &Schema) {
        // Edges that are looked for one after the other to nodes of their own are not told apart.
        if !self.may(Rule::ExistsInPattern) || !self.may(Rule::ProbeEdge) {
            return;
        }
        let is_node = |graph: &PatternGraph, name: &Arc<str>| {
            let before = bound.slot(name).map(|slot| bound.variables[slot].kind);
            before.map_or(graph.nodes.iter().any(|n| n.name == *name), |kind| kind == VariableKind::Node)
        };
        let mut taken = vec![];
        for condition in std::mem::take(&mut graph.conditions) {
            match one_edge(&condition.expression) {
                Some((a, edge, b)) if is_node(graph, a) && is_node(graph, b) => {
                    taken.push((a.clone(), edge.clone(), b.clone()));
                }
                _ => graph.conditions.push(condition),
            }
        }
        for (from, edge, to) in taken {
            // Its own MATCH, whose edge need not differ from others.
            graph.repeatables.push(true);
            let kind = StepKind::Edge {
                name: self.hidden("edge"),
                direction: edge.direction,
                labels: edge.filter.labels.as_ref().map(|l| l.0.clone()),
            };
            let clause = graph.repeatables.len() - 1;
            let needs = BTreeSet::from([from.clone(), to.clone()]);
            let shown = show_edge(&edge, None);
            let (from, to) = (graph.node(from, None), graph.node(to, None));
            graph.steps.push(PatternStep { from, to, kind, shown, needs, clause, once: true });
        }
    }
}
