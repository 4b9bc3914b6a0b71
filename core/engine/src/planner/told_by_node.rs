//! The rule told-by-node: values of an element that its key tells apart stand for the element itself.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::{Element, GraphType, KeyDefinition, LabelExpression};
use graphodrome_language::VariableKind;
use graphodrome_language::ast::{Expression, ExpressionKind, ReturnItem};
use graphodrome_language::expression_variables;

use crate::operators::Distinct;
use crate::plan::{PlanNode, Schema};
use crate::planner::merge::{Bound, always_there, bound};
use crate::planner::state::{Planner, find_subqueries};
use crate::profile::{Basis, Estimate};
use crate::rules::Rule;

/// The variable whose property an expression reads, and the property.
fn property(e: &ExpressionKind) -> Option<(&Arc<str>, &Arc<str>)> {
    let ExpressionKind::Property(owner, name) = e else { return None };
    let ExpressionKind::Variable(variable) = &owner.kind else { return None };
    Some((variable, &name.text))
}

/// Whether it follows from the one variable.
fn follows(kind: &ExpressionKind, variable: &Arc<str>) -> bool {
    let e = Expression { kind: kind.clone(), span: Default::default() };
    let mut subqueries = vec![];
    find_subqueries(&e, &mut subqueries);
    let reads = expression_variables(&e);
    subqueries.is_empty() && !e.contains_aggregate() && reads.len() == 1 && reads.contains(variable)
}

/// Whether no two nodes that `bound` may be have the same value of each property of the key, and none lacks one.
fn tells_apart(key: &KeyDefinition, bound: &Bound<'_>, graph_type: &GraphType) -> bool {
    let Bound::Node(labels) = bound else { return false };
    let fits = |labels: Option<&LabelExpression>, of: &_| labels.is_none_or(|l| l.matches(of));
    let has_label =
        graph_type.nodes.iter().filter(|t| fits(*labels, &t.labels)).all(|t| t.labels.contains(&key.label));
    has_label && key.properties.iter().all(|p| always_there(bound, p, graph_type))
}

impl Planner<'_> {
    /// The nodes and edges that these expressions tell apart among the rows: those that are among them, and those whose
    /// key is.
    fn told_by(&self, input: &PlanNode, expressions: &[&ExpressionKind]) -> BTreeSet<Arc<str>> {
        let mut told = BTreeSet::new();
        let kind = |name: &Arc<str>| input.schema.slot(name).map(|slot| input.schema.variables[slot].kind);
        for e in expressions {
            let ExpressionKind::Variable(name) = e else { continue };
            if matches!(kind(name), Some(VariableKind::Node | VariableKind::Edge)) {
                told.insert(name.clone());
            }
        }
        let Some(graph_type) = self.scope.graph_type.as_deref() else { return told };
        let read: Vec<(&Arc<str>, &Arc<str>)> = expressions.iter().filter_map(|e| property(e)).collect();
        let keys: Vec<_> = self.scope.keys.iter().filter(|key| key.element == Element::Node).collect();
        for (name, _) in &read {
            let Some(slot) = input.schema.slot(name).filter(|_| !told.contains(*name)) else { continue };
            if input.schema.variables[slot].kind != VariableKind::Node {
                continue;
            }
            let Some(bound) = bound(input, slot) else { continue };
            let is_read = |property: &Arc<str>| read.contains(&(name, property));
            if keys
                .iter()
                .any(|key| key.properties.iter().all(is_read) && tells_apart(key, &bound, graph_type))
            {
                told.insert((*name).clone());
            }
        }
        told
    }

    /// The keys of a group with the element in place of what follows from it.
    pub(super) fn keys_by_node(
        &self, input: &PlanNode, keys: Vec<(ExpressionKind, Arc<str>)>,
    ) -> Vec<(ExpressionKind, Arc<str>)> {
        if !self.may(Rule::ToldByNode) {
            return keys;
        }
        let expressions: Vec<&ExpressionKind> = keys.iter().map(|(kind, _)| kind).collect();
        let told = self.told_by(input, &expressions);
        let mut left: Vec<(ExpressionKind, Arc<str>)> = vec![];
        for (kind, name) in keys {
            let (kind, name) = match told.iter().find(|variable| follows(&kind, variable)) {
                Some(variable) => (ExpressionKind::Variable(variable.clone()), variable.clone()),
                None => (kind, name),
            };
            if !left.iter().any(|(known, _)| *known == kind) {
                left.push((kind, name));
            }
        }
        left
    }

    /// Rows of which DISTINCT keeps nothing but what follows from nodes and edges that it tells apart: each of these once,
    /// before anything of them is read. Says whether it is so.
    pub(super) fn distinct_by_node(&mut self, node: PlanNode, items: &[ReturnItem]) -> (PlanNode, bool) {
        if !self.may(Rule::ToldByNode)
            || items.iter().all(|i| matches!(i.expression.kind, ExpressionKind::Variable(_)))
        {
            return (node, false);
        }
        let expressions: Vec<&ExpressionKind> = items.iter().map(|item| &item.expression.kind).collect();
        let told = self.told_by(&node, &expressions);
        let is_told = |kind: &ExpressionKind| told.iter().any(|variable| follows(kind, variable));
        if !expressions.into_iter().all(is_told) {
            return (node, false);
        }
        let read: BTreeSet<&Arc<str>> =
            told.iter().filter(|v| items.iter().any(|i| follows(&i.expression.kind, v))).collect();
        let slot = |schema: &Schema, name: &Arc<str>| schema.slot(name);
        let slots: Vec<usize> = read.iter().filter_map(|name| slot(&node.schema, name)).collect();
        let node = self.merged_by(node, &slots);
        let nodes = (self.scope.node_count() as f64).max(1.0).powi(slots.len() as i32);
        let rows = (node.estimate.rows * 0.5).min(nodes).max(1.0);
        let cost = node.estimate.cost + node.estimate.rows;
        let estimate =
            Estimate { rows, cost, basis: Basis::Guess, source: "a guess of half, at most the nodes".into() };
        let shown = read.iter().map(|name| name.to_string()).collect::<Vec<_>>().join(", ");
        let schema = node.schema.clone();
        (self.node(Distinct { slots, shown }, vec![node], schema, estimate), true)
    }
}
