//! The operators of one step of a pattern: an edge followed, several that meet, an edge between bound nodes, a search.

use std::sync::Arc;

use graphodrome_graph::LabelExpression;
use graphodrome_language::ast::BinaryOperator;
use graphodrome_language::{Span, VariableKind};

use crate::expression::{Expr, Kind};
use crate::operators::*;
use crate::outcome::Outcome;
use crate::plan::{PlanNode, Schema};
use crate::planner::builder::{Builder, edge_labels, slot_of, takes_part};
use crate::planner::elements::show_node;
use crate::planner::pattern_graph::{PatternStep, StepKind};
use crate::planner::state::Planner;
use crate::profile::{Basis, Estimate};
use crate::rules::Rule;

/// An edge of a pattern as it is walked: from which of its ends to which.
struct WayOn<'s> {
    step: usize,
    pattern: &'s PatternStep,
    name: &'s Arc<str>,
    near: usize,
    far: usize,
    from_right: bool,
}

impl Planner<'_> {
    pub(super) fn step(
        &mut self, input: PlanNode, step: usize, from_right: bool, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        b.done[step] = true;
        let pattern = b.graph.steps[step].clone();
        let different_from = self.different_from(step, &input.schema, b);
        match &pattern.kind {
            StepKind::Edge { name, direction, labels } => {
                let (near, far) =
                    if from_right { (pattern.to, pattern.from) } else { (pattern.from, pattern.to) };
                let closing = self.closing_steps(step, far, &input.schema, b);
                if !closing.is_empty() {
                    return self.intersect(input, step, closing, far, b);
                }
                let direction = if from_right { direction.reversed() } else { *direction };
                let edge =
                    EdgeCheck { test: self.scope.edge_test(labels.as_ref()), direction, different_from };
                self.edge_step(
                    input,
                    &WayOn { step, pattern: &pattern, name, near, far, from_right },
                    edge,
                    b,
                )
            }
            StepKind::Search(search) => {
                let search = (**search).clone();
                self.search_operator(input, step, &search, from_right, different_from, b)
            }
        }
    }

    /// Other edges that join the node a step leads to with nodes that are bound.
    pub(super) fn closing_steps(
        &self, step: usize, far: usize, schema: &Schema, b: &Builder<'_>,
    ) -> Vec<usize> {
        let bound = |n: usize| schema.slot(&b.graph.nodes[n].name).is_some();
        if bound(far) || !self.may(Rule::CommonNeighbours) {
            return vec![];
        }
        let joining: Vec<usize> = (0..b.graph.steps.len())
            .filter(|&i| {
                let other = &b.graph.steps[i];
                let joins = other.to == far && bound(other.from) || other.from == far && bound(other.to);
                i != step && !b.done[i] && joins && matches!(other.kind, StepKind::Edge { .. })
            })
            .collect();
        // Of edges that meet all are different, or none need be.
        let Some(&first) = joining.first() else { return vec![] };
        let apart = b.graph.apart(step, first);
        let mut alike = vec![step];
        for other in joining {
            if alike.iter().all(|known| b.graph.apart(*known, other) == apart) {
                alike.push(other);
            }
        }
        alike.split_off(1)
    }

    /// A node that several bound ones have an edge with.
    fn intersect(
        &mut self, input: PlanNode, step: usize, closing: Vec<usize>, far: usize, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        let far_node = b.graph.nodes[far].clone();
        let mut schema = input.schema.clone();
        let (mut arms, mut shown) = (vec![], vec![]);
        let rows = input.estimate.rows;
        let (mut factor, mut looked) = (1.0, f64::MAX);
        let apart = b.graph.apart(step, closing[0]);
        for (i, step) in std::iter::once(step).chain(closing).enumerate() {
            let pattern = b.graph.steps[step].clone();
            let StepKind::Edge { name, direction, labels } = &pattern.kind else { continue };
            let from_right = pattern.from == far;
            let near = if from_right { pattern.to } else { pattern.from };
            b.done[step] = true;
            let different_from = self.different_from(step, &input.schema, b);
            let direction = if from_right { direction.reversed() } else { *direction };
            let edge = EdgeCheck { test: self.scope.edge_test(labels.as_ref()), direction, different_from };
            arms.push(Arm {
                from: slot_of(&input.schema, &b.graph.nodes[near].name)?,
                edge,
                once: pattern.once,
            });
            schema.push(name.clone(), VariableKind::Edge);
            let (fan_out, entries) = self.fan_out(&pattern, from_right, &b.graph.nodes, &b.graph.conditions);
            factor *= if i == 0 { fan_out } else { self.closing(&pattern, b) };
            looked = entries.min(looked);
            let (left, right) =
                (show_node(&b.graph.nodes[pattern.from]), show_node(&b.graph.nodes[pattern.to]));
            shown.push(format!("{left}{}{right}", pattern.shown));
        }
        schema.push(far_node.name.clone(), VariableKind::Node);
        let (conditions, shown_conditions, _) = self.take_conditions(&schema, b)?;
        let estimate = Estimate {
            rows: (rows * factor).max(0.1),
            cost: input.estimate.cost + rows * (looked + 1.0),
            basis: Basis::Degrees,
            source: format!(
                "{looked:.1} neighbours of the node with fewest, from the counts of label triples"
            ),
        };
        let plan = IntersectEdges {
            pattern: shown.join(", "),
            arms,
            node: NodeCheck { test: self.scope.node_test(far_node.labels.as_ref()) },
            apart,
            conditions,
            shown_conditions,
            counting: None,
        };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    fn edge_step(
        &mut self, input: PlanNode, way: &WayOn<'_>, edge: EdgeCheck, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        let WayOn { step, pattern, name, near, far, from_right } = *way;
        let (near_node, far_node) = (b.graph.nodes[near].clone(), b.graph.nodes[far].clone());
        let from = slot_of(&input.schema, &near_node.name)?;
        let bound = input.schema.slot(&far_node.name);
        let (fan_out, looked) = self.fan_out(pattern, from_right, &b.graph.nodes, &b.graph.conditions);
        // How it came to the node says more of its edges than the mean of all nodes.
        let led_here = (0..b.done.len()).find(|&i| {
            let before = &b.graph.steps[i];
            let other = matches!(&before.kind, StepKind::Edge { name: of_before, .. } if of_before != name);
            b.done[i] && other && (before.from == near) != (before.to == near)
        });
        let degree = led_here.and_then(|i| {
            self.met_by(&b.graph.steps[i], (pattern, from_right), near, !b.graph.apart(i, step))
        });
        let own = self.found.get(&near_node.name).copied();
        let own = own.and_then(|node| self.degree_of(node, (pattern, from_right)));
        let (fan_out, looked, basis) = match (own, degree) {
            (Some(own), _) if looked > 0.0 => {
                (fan_out * own / looked, own, "those of the node that the key finds")
            }
            (None, Some(met)) if looked > 0.0 => (fan_out * met / looked, met, "how often such edges meet"),
            _ => (fan_out, looked, "the counts of label triples"),
        };
        let closing = self.closing(pattern, b);
        let mut schema = input.schema.clone();
        schema.push(name.clone(), VariableKind::Edge);
        let rows = input.estimate.rows;
        let (left, right) = (show_node(&b.graph.nodes[pattern.from]), show_node(&b.graph.nodes[pattern.to]));
        let shown = format!("{left}{}{right}", pattern.shown);
        let source = format!("{fan_out:.2} edges a node, from {basis}");
        if let Some(to) = bound
            && !self.may(Rule::ProbeEdge)
        {
            // To a node of its own, which must be the bound one.
            let end = schema.push(self.hidden("end"), VariableKind::Node);
            let estimate = Estimate {
                rows: rows * fan_out,
                cost: input.estimate.cost + rows * looked,
                basis: Basis::Degrees,
                source,
            };
            let plan = FollowEdges {
                pattern: shown,
                from,
                edge,
                node: NodeCheck { test: self.scope.node_test(None) },
                conditions: vec![],
                shown_conditions: vec![],
                remembers: None,
                counting: None,
                once: None,
                hashed: false,
            };
            let followed = self.node(plan, vec![input], schema.clone(), estimate.clone());
            let slot = |slot| Box::new(Expr { kind: Kind::Slot(slot), span: Span::default() });
            let kind = Kind::Binary(BinaryOperator::Equal, slot(end), slot(to));
            let same = Expr { kind, span: Span::default() };
            let plan = Filter { conditions: vec![same], shown: "the same node".into() };
            return Ok(self.node(plan, vec![followed], schema, estimate));
        }
        if let Some(to) = bound {
            let (conditions, shown_conditions, _) = self.take_conditions(&schema, b)?;
            let estimate = Estimate {
                rows: (rows * closing).max(0.1),
                cost: input.estimate.cost + rows * looked.clamp(1.0, 8.0),
                basis: Basis::Degrees,
                source,
            };
            let once = pattern.once;
            let plan = ProbeEdge { pattern: shown, from, to, edge, once, conditions, shown_conditions };
            return Ok(self.node(plan, vec![input], schema, estimate));
        }
        schema.push(far_node.name.clone(), VariableKind::Node);
        let (conditions, shown_conditions, _) = self.take_conditions(&schema, b)?;
        let estimate = Estimate {
            rows: (rows * fan_out).max(0.1),
            cost: input.estimate.cost + rows * (looked + fan_out),
            basis: Basis::Degrees,
            source,
        };
        let hashed =
            self.may(Rule::HashedEdges) && ComparedValues::of(&conditions, input.schema.len()).is_some();
        let plan = FollowEdges {
            pattern: if from_right { format!("{shown}  from the right") } else { shown },
            from,
            edge,
            node: NodeCheck { test: self.scope.node_test(far_node.labels.as_ref()) },
            conditions,
            shown_conditions,
            remembers: None,
            counting: None,
            once: None,
            hashed,
        };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    /// Slots of edges and paths that this step's edges must differ from: those of the same MATCH that
    /// some edge could be in too.
    pub(super) fn different_from(&self, step: usize, schema: &Schema, b: &Builder<'_>) -> Vec<usize> {
        if !takes_part(&b.graph.steps[step]) {
            return vec![];
        }
        (0..b.graph.steps.len())
            .filter(|&other| {
                other != step
                    && b.done[other]
                    && b.graph.apart(step, other)
                    && takes_part(&b.graph.steps[other])
                    && self.overlap(step, other, b)
            })
            .filter_map(|other| match &b.graph.steps[other].kind {
                StepKind::Edge { name, .. } => schema.slot(name),
                StepKind::Search(search) => schema.slot(&search.path),
            })
            .collect()
    }

    /// Whether one edge could be in both steps.
    pub(super) fn overlap(&self, a: usize, b: usize, builder: &Builder<'_>) -> bool {
        let (left, right) = (edge_labels(&builder.graph.steps[a]), edge_labels(&builder.graph.steps[b]));
        self.counts.edges.iter().any(|(set, _)| {
            let fits = |labels: &[Option<LabelExpression>]| {
                labels.iter().any(|l| l.as_ref().is_none_or(|l| l.matches(set)))
            };
            fits(&left) && fits(&right)
        })
    }
}
