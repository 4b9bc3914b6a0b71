//! EXISTS of one edge between nodes of a pattern, or of one repeated edge, as a part of that pattern (rule
//! `exists-in-pattern`).

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_language::VariableKind;
use graphodrome_language::ast::*;

use crate::plan::Schema;
use crate::planner::elements::show_edge;
use crate::planner::pattern_graph::{PatternGraph, PatternStep, StepKind};
use crate::planner::state::{Planner, has_subquery};
use crate::rules::Rule;

/// Two named nodes and the edge between them, of which nothing but labels and a direction is asked, or which is repeated.
struct Existing {
    from: Arc<str>,
    edge: EdgePattern,
    quantifier: Option<Quantifier>,
    to: Arc<str>,
    path: PathPattern,
}

fn existing(condition: &Expression) -> Option<Existing> {
    let ExpressionKind::Exists(query) = &condition.kind else { return None };
    let [Clause::Match { optional: false, pattern, .. }] = &query.only()?.clauses[..] else { return None };
    let [path] = &pattern.paths[..] else { return None };
    let plain_path = path.search == PathSearch::All
        && path.variable.is_none()
        && matches!(path.mode, None | Some(PathMode::Walk | PathMode::Trail));
    let [PathElement::Node(from), PathElement::Edge(edge, quantifier), PathElement::Node(to)] =
        &path.term.elements[..]
    else {
        return None;
    };
    // What is reached by two edges or more only is not told by ends that are reached at all.
    if quantifier.as_ref().is_some_and(|q| q.min > 1 || q.optional || q.max == Some(0) || pattern.repeatable)
    {
        return None;
    }
    let asks_more = |filter: &ElementFilter| !filter.properties.is_empty() || filter.condition.is_some();
    let name = |node: &'_ NodePattern| node.filter.labels.is_none() && !asks_more(&node.filter);
    let plain = plain_path
        && pattern.condition.is_none()
        && name(from)
        && name(to)
        && !asks_more(&edge.filter)
        && edge.filter.variable.is_none();
    let (a, b) = (from.filter.variable.as_ref()?, to.filter.variable.as_ref()?);
    (plain && a.text != b.text).then(|| Existing {
        from: a.text.clone(),
        edge: edge.clone(),
        quantifier: *quantifier,
        to: b.text.clone(),
        path: path.clone(),
    })
}

/// Whether its subqueries, if it has any, only ask for edges that a pattern may take.
pub(super) fn may_be_part(condition: &Expression) -> bool {
    condition.conjuncts().into_iter().all(|c| !has_subquery(c) || existing(c).is_some())
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
        // Where ends are not found each once, a row would come as often as there are paths.
        let repeated = self.may(Rule::RepeatedEdge) && self.may(Rule::DistinctEnds);
        let mut taken = vec![];
        for condition in std::mem::take(&mut graph.conditions) {
            match existing(&condition.expression) {
                Some(found)
                    if is_node(graph, &found.from)
                        && is_node(graph, &found.to)
                        && (repeated || found.quantifier.is_none()) =>
                {
                    taken.push(found);
                }
                _ => graph.conditions.push(condition),
            }
        }
        for Existing { from, edge, quantifier, to, path } in taken {
            // Its own MATCH, whose edges need not differ from others.
            graph.repeatables.push(true);
            let clause = graph.repeatables.len() - 1;
            let needs = BTreeSet::from([from.clone(), to.clone()]);
            let ends = (graph.node(from, None), graph.node(to, None));
            match quantifier {
                None => {
                    let kind = StepKind::Edge {
                        name: self.hidden("edge"),
                        direction: edge.direction,
                        labels: edge.filter.labels.as_ref().map(|l| l.0.clone()),
                    };
                    let (shown, (from, to)) = (show_edge(&edge, None), ends);
                    graph.steps.push(PatternStep { from, to, kind, shown, needs, clause, once: true });
                }
                Some(_) => {
                    // From either end: each other end comes once.
                    let elements = vec![path.term.elements[1].clone()];
                    let step = self.search_step(ends, elements, &path, PathMode::Trail, false, graph);
                    graph.steps[step].clause = clause;
                    graph.steps[step].once = true;
                }
            }
        }
    }
}
