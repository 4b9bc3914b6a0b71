//! The rule triangles-once: DISTINCT rows of the nodes of a ring.

use std::sync::Arc;

use graphodrome_graph::{Element, KeyDefinition, LabelExpression};
use graphodrome_language::ast::{Expression, ExpressionKind, ReturnItem};
use graphodrome_language::expression_variables;

use crate::operators::{FollowEdges, IntersectEdges, ListTriangles, NODES, ScanNodes};
use crate::plan::PlanNode;
use crate::planner::state::Planner;
use crate::profile::Estimate;

impl Planner<'_> {
    /// Where DISTINCT rows are read off the three nodes of a ring alone, each three nodes once; and whether the rows are
    /// distinct then by themselves.
    pub(super) fn triangles_once(
        &self, node: PlanNode, items: &[ReturnItem], keys: &[&Expression],
    ) -> (PlanNode, bool) {
        let (Some(close), [step]) = (node.operator::<IntersectEdges>(), &node.inputs[..]) else {
            return (node, false);
        };
        let (Some(follow), [scan]) = (step.operator::<FollowEdges>(), &step.inputs[..]) else {
            return (node, false);
        };
        let Some(all) = scan.operator::<ScanNodes>() else { return (node, false) };
        let Some(listed) = ListTriangles::of(close, follow, all) else { return (node, false) };
        let schema = &node.schema;
        let is_node = |name: &Arc<str>| schema.slot(name).is_some_and(|slot| NODES.contains(&slot));
        let expressions = items.iter().map(|item| &item.expression).chain(keys.iter().copied());
        let is_item = |name: &Arc<str>| items.iter().any(|item| item.name == *name);
        let of_nodes = |e: &Expression| expression_variables(e).iter().all(|v| is_node(v) || is_item(v));
        if !expressions.into_iter().all(of_nodes) {
            return (node, false);
        }
        let key = listed.told_by().filter(|property| {
            let of = |key: &&Arc<KeyDefinition>| {
                let labels = Some(&LabelExpression::Name(key.label.clone()));
                all.test.expression.as_ref() == labels && *key.properties == [property.name.clone()]
            };
            self.scope.keys.iter().filter(|k| k.element == Element::Node).any(|k| of(&k))
        });
        let told = |item: &ReturnItem| match &item.expression.kind {
            ExpressionKind::Variable(name) => schema.slot(name),
            ExpressionKind::Property(owner, name) if key.is_some_and(|key| key.name == name.text) => {
                let ExpressionKind::Variable(name) = &owner.kind else { return None };
                schema.slot(name)
            }
            _ => None,
        };
        let found: Vec<usize> = items.iter().filter_map(told).collect();
        let apart = NODES.iter().all(|slot| found.contains(slot));
        let cost = scan.estimate.cost + 10.0 * step.estimate.rows + node.estimate.rows;
        let estimate = Estimate { cost, ..node.estimate.clone() };
        let mut node = PlanNode { plan: Arc::new(listed), estimate, alternatives: vec![], ..node };
        node.inputs = node.inputs.remove(0).inputs;
        (node, apart)
    }
}
