//! Estimates from statistics: how many rows a node pattern yields, how many times a step multiplies
//! them, what share of them a condition leaves.

use graphodrome_graph::{Direction, Element, LabelExpression, LabelSet, Value};
use graphodrome_language::ast::*;

use crate::planner::Planner;
use crate::planner::pattern::{Condition, PatternNode, PatternStep, StepKind};

/// Shares for what no statistic knows.
const UNKNOWN_EQUAL: f64 = 0.1;
const UNKNOWN_CONDITION: f64 = 0.4;

fn matches(labels: &Option<LabelExpression>, set: &LabelSet) -> bool {
    labels.as_ref().is_none_or(|l| l.matches(set))
}

impl Planner<'_> {
    /// Nodes with these labels.
    pub(super) fn node_total(&self, labels: &Option<LabelExpression>) -> f64 {
        self.counts.nodes.iter().filter(|(set, _)| matches(labels, set)).map(|(_, n)| *n as f64).sum()
    }

    pub(super) fn edge_total(&self, labels: &Option<LabelExpression>) -> f64 {
        self.counts.edges.iter().filter(|(set, _)| matches(labels, set)).map(|(_, n)| *n as f64).sum()
    }

    /// What share of the elements the conditions on `name` alone leave.
    pub(super) fn share(
        &self, name: &str, labels: &Option<LabelExpression>, conditions: &[Condition], element: Element,
    ) -> f64 {
        let mut share = 1.0;
        for condition in conditions.iter().filter(|c| !c.done) {
            let alone = condition.variables.iter().all(|v| **v == *name) && !condition.variables.is_empty();
            if alone {
                share *= self.condition_share(&condition.expression, labels, element);
            }
        }
        share
    }

    pub(super) fn condition_share(
        &self, condition: &Expression, labels: &Option<LabelExpression>, element: Element,
    ) -> f64 {
        if let ExpressionKind::Between { operand, low, high, negated } = &condition.kind {
            let side = |operator, bound: &Expression| {
                let kind = ExpressionKind::Binary(operator, operand.clone(), Box::new(bound.clone()));
                self.condition_share(&Expression { kind, span: condition.span }, labels, element)
            };
            let within =
                side(BinaryOperator::GreaterOrEqual, low) + side(BinaryOperator::LessOrEqual, high) - 1.0;
            let within = within.clamp(1e-4, 1.0);
            return if *negated { 1.0 - within } else { within };
        }
        let ExpressionKind::Binary(operator, left, right) = &condition.kind else { return UNKNOWN_CONDITION };
        let (property, other, turned) = match (&left.kind, &right.kind) {
            (ExpressionKind::Property(_, name), _) => (name, right, false),
            (_, ExpressionKind::Property(_, name)) => (name, left, true),
            _ => return UNKNOWN_CONDITION,
        };
        let value: Option<Value> = match &other.kind {
            ExpressionKind::Literal(value) => Some(value.clone()),
            // How many rows equal a parameter's value is estimated for any value; where a range begins
            // matters.
            ExpressionKind::Parameter(name)
                if !matches!(operator, BinaryOperator::Equal | BinaryOperator::NotEqual) =>
            {
                self.parameters.look(name)
            }
            _ => None,
        };
        let statistics = &self.scope.base.statistics;
        let (mut rows, mut left_over) = (0.0, 0.0);
        let tables: Vec<_> = match element {
            Element::Node => {
                let tables = self.scope.base.nodes.iter().zip(&statistics.node_columns);
                tables.filter(|(t, _)| matches(labels, &t.labels)).map(|(t, c)| (t.len, c)).collect()
            }
            Element::Edge => {
                let tables = self.scope.base.edges.iter().zip(&statistics.edge_columns);
                tables.filter(|(t, _)| matches(labels, &t.labels)).map(|(t, c)| (t.len, c)).collect()
            }
        };
        for (len, columns) in tables {
            rows += len as f64;
            let Some(column) = columns.get(&property.text) else { continue };
            let below = |value: &Value| column.less_share(value);
            let share = match (operator, &value) {
                (BinaryOperator::Equal, value) => column.equal_share(value.as_ref()),
                (BinaryOperator::NotEqual, value) => 1.0 - column.equal_share(value.as_ref()),
                (BinaryOperator::Less | BinaryOperator::LessOrEqual, Some(v)) if !turned => below(v),
                (BinaryOperator::Greater | BinaryOperator::GreaterOrEqual, Some(v)) if !turned => {
                    1.0 - below(v)
                }
                (BinaryOperator::Less | BinaryOperator::LessOrEqual, Some(v)) => 1.0 - below(v),
                (BinaryOperator::Greater | BinaryOperator::GreaterOrEqual, Some(v)) => below(v),
                _ => UNKNOWN_CONDITION,
            };
            left_over += share * len as f64;
        }
        if rows == 0.0 { UNKNOWN_EQUAL } else { left_over / rows }
    }

    /// Rows per row when `step` is taken from its `from` end (or, with `reversed`, its `to` end) to a
    /// node that is not bound yet, conditions included; and the adjacency entries looked at.
    pub(super) fn fan_out(
        &self, step: &PatternStep, reversed: bool, nodes: &[PatternNode], conditions: &[Condition],
    ) -> (f64, f64) {
        let (near, far) = if reversed {
            (&nodes[step.to], &nodes[step.from])
        } else {
            (&nodes[step.from], &nodes[step.to])
        };
        let far_share = self.share(&far.name, &far.labels, conditions, Element::Node);
        match &step.kind {
            StepKind::Edge { name, direction, labels } => {
                let direction = if reversed { direction.reversed() } else { *direction };
                let (hit, looked) = self.edges_per_node(&near.labels, labels, direction, &far.labels);
                let edge_share = self.share(name, labels, conditions, Element::Edge);
                (hit * edge_share * far_share, looked)
            }
            StepKind::Search(search) => {
                let any = None;
                let (mut rows, mut looked) = (1.0, 0.0);
                for element in &search.elements {
                    let (edge, quantifier) = match element {
                        PathElement::Edge(edge, q) => (Some(edge), *q),
                        PathElement::Group(group) => (first_edge(&group.term), group.quantifier),
                        PathElement::Alternatives(a) => (a.branches.iter().find_map(first_edge), None),
                        PathElement::Node(_) => continue,
                    };
                    let Some(edge) = edge else { continue };
                    let labels = edge.filter.labels.as_ref().map(|l| l.0.clone());
                    let direction = if reversed { edge.direction.reversed() } else { edge.direction };
                    let (degree, _) = self.edges_per_node(&near.labels, &labels, direction, &any);
                    let inner_degree = self.inner_degree(&labels, direction);
                    let inner = inner_degree.max(0.1);
                    let (min, max) = quantifier.map_or((1, Some(1)), |q| (q.min, q.max));
                    let last = max.unwrap_or(min.max(1) + 12).min(min + 12);
                    let everything = self.edge_total(&labels).max(1.0);
                    let mut level = degree.max(0.01);
                    let mut sum = if min == 0 { 1.0 } else { 0.0 };
                    for hop in 1..=last.max(1) {
                        looked += rows * level;
                        if hop >= min {
                            sum += level;
                        }
                        level *= inner;
                        if level > everything {
                            break;
                        }
                    }
                    rows *= sum.min(everything);
                }
                let share = match &far.labels {
                    Some(_) => self.node_total(&far.labels) / self.node_total(&None).max(1.0),
                    None => 1.0,
                };
                (rows * share * far_share, looked)
            }
        }
    }

    /// Edges that go on from a node which such an edge has led to.
    fn inner_degree(&self, edge: &Option<LabelExpression>, direction: Direction) -> f64 {
        let base = &self.scope.base;
        let mut ends = vec![false; base.nodes.len()];
        let mut onward = vec![0u64; base.nodes.len()];
        for triple in &base.statistics.triples {
            let table = &base.edges[triple.edge];
            if !matches(edge, &table.labels) {
                continue;
            }
            let undirected = !table.directed && direction.takes_undirected();
            if (table.directed && direction.takes_out()) || undirected {
                ends[triple.to] = true;
                onward[triple.from] += triple.count;
            }
            if (table.directed && direction.takes_in()) || undirected {
                ends[triple.from] = true;
                onward[triple.to] += triple.count;
            }
        }
        let of_ends = |i: &usize| ends[*i];
        let nodes: usize = (0..ends.len()).filter(of_ends).map(|i| base.nodes[i].len).sum();
        let edges: u64 = (0..ends.len()).filter(of_ends).map(|i| onward[i]).sum();
        if nodes == 0 {
            self.edge_total(edge) / self.node_total(&None).max(1.0)
        } else {
            edges as f64 / nodes as f64
        }
    }

    /// Edges at a node with labels `near`: those that lead to `far`, and all that are looked at.
    fn edges_per_node(
        &self, near: &Option<LabelExpression>, edge: &Option<LabelExpression>, direction: Direction,
        far: &Option<LabelExpression>,
    ) -> (f64, f64) {
        let base = &self.scope.base;
        let (mut hit, mut looked) = (0.0, 0.0);
        for triple in &base.statistics.triples {
            let table = &base.edges[triple.edge];
            if !matches(edge, &table.labels) {
                continue;
            }
            let from = &base.nodes[triple.from].labels;
            let to = &base.nodes[triple.to].labels;
            let undirected = !table.directed && direction.takes_undirected();
            if (table.directed && direction.takes_out() || undirected) && matches(near, from) {
                looked += triple.count as f64;
                if matches(far, to) {
                    hit += triple.count as f64;
                }
            }
            if (table.directed && direction.takes_in() || undirected) && matches(near, to) {
                looked += triple.count as f64;
                if matches(far, from) {
                    hit += triple.count as f64;
                }
            }
        }
        let nodes = self.node_total(near).max(1.0);
        // What commits added is in the totals but not in the triples.
        let seen: f64 = base.edge_count() as f64;
        let grown = if seen > 0.0 { (self.scope.edge_count() as f64 / seen).max(1.0) } else { 1.0 };
        if seen == 0.0 {
            let degree = self.edge_total(edge) / nodes;
            return (degree, degree);
        }
        (hit * grown / nodes, looked * grown / nodes)
    }
}

fn first_edge(term: &PathTerm) -> Option<&EdgePattern> {
    term.elements.iter().find_map(|e| match e {
        PathElement::Edge(edge, _) => Some(edge),
        PathElement::Group(group) => first_edge(&group.term),
        PathElement::Alternatives(a) => a.branches.iter().find_map(first_edge),
        PathElement::Node(_) => None,
    })
}
