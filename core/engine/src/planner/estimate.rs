//! Estimates from statistics: how many rows a node pattern yields, how many times a step multiplies
//! them, what share of them a condition leaves.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{
    ColumnStatistics, Dense, Direction, EdgeEnd, Element, LabelExpression, LabelSet, Value,
};
use graphodrome_language::ast::*;
use graphodrome_language::expression_variables;

use crate::planner::growth::{Growth, RepeatedEdge};
use crate::planner::pattern_graph::{Condition, PatternGraph, PatternNode, PatternStep, StepKind};
use crate::planner::state::Planner;

/// Values of a list that is not known before it runs.
const UNKNOWN_LENGTH: f64 = 10.0;

/// Shares for what no statistic knows.
const UNKNOWN_EQUAL: f64 = 0.1;
const UNKNOWN_CONDITION: f64 = 0.4;
/// Items of a list whose shares are looked up.
const ITEMS: usize = 64;
/// Edges of a known node that are counted for an estimate.
const MOST_COUNTED: usize = 10_000;

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
        self.known_share(condition, labels, element).unwrap_or(UNKNOWN_CONDITION).clamp(0.0, 1.0)
    }

    /// What share of the elements a condition on their properties leaves; `None` where no statistic says.
    fn known_share(
        &self, condition: &Expression, labels: &Option<LabelExpression>, element: Element,
    ) -> Option<f64> {
        let of = |condition: &Expression| self.known_share(condition, labels, element);
        match &condition.kind {
            ExpressionKind::Between { operand, low, high, negated } => {
                let side = |operator, bound: &Expression| {
                    let kind = ExpressionKind::Binary(operator, operand.clone(), Box::new(bound.clone()));
                    of(&Expression { kind, span: condition.span })
                };
                let low = side(BinaryOperator::GreaterOrEqual, low)?;
                let within = (low + side(BinaryOperator::LessOrEqual, high)? - 1.0).clamp(1e-4, 1.0);
                Some(if *negated { 1.0 - within } else { within })
            }
            ExpressionKind::Not(inner) => of(inner).map(|share| 1.0 - share),
            ExpressionKind::Binary(BinaryOperator::And, a, b) => Some(of(a)? * of(b)?),
            ExpressionKind::Binary(BinaryOperator::Or, a, b) => {
                let (a, b) = (of(a)?, of(b)?);
                Some(a + b - a * b)
            }
            ExpressionKind::IsNull { operand, negated } => {
                let ExpressionKind::Property(_, name) = &operand.kind else { return None };
                let nulls = self.over_columns(&name.text, labels, element, 1.0, |column| {
                    column.nulls as f64 / (column.rows as f64).max(1.0)
                });
                Some(if *negated { 1.0 - nulls } else { nulls })
            }
            ExpressionKind::In { operand, list, negated } => {
                let ExpressionKind::Property(_, name) = &operand.kind else { return None };
                let one = |value: Option<&Value>| self.equal_share(&name.text, value, labels, element);
                let within = match &list.kind {
                    ExpressionKind::List(items) => items.len() as f64 * one(None),
                    ExpressionKind::Literal(Value::List(items)) => {
                        // The first of a long list stand for all.
                        let some = items.iter().take(ITEMS);
                        let of_some: f64 = some.clone().map(|v| one(Some(v))).sum();
                        of_some * items.len() as f64 / some.len().max(1) as f64
                    }
                    ExpressionKind::Parameter(_) => self.list_length(list) * one(None),
                    _ => return None,
                };
                Some(if *negated { 1.0 - within.min(1.0) } else { within.min(1.0) })
            }
            ExpressionKind::Binary(operator, left, right) => {
                self.comparison_share(*operator, left, right, labels, element)
            }
            _ => None,
        }
    }

    /// How many values a list has.
    pub(super) fn list_length(&self, list: &Expression) -> f64 {
        let length = match &list.kind {
            ExpressionKind::List(items) => Some(items.len()),
            ExpressionKind::Literal(Value::List(items)) => Some(items.len()),
            ExpressionKind::Parameter(name) => match self.parameters.peek(name) {
                Some(Value::List(items)) => Some(items.len()),
                _ => None,
            },
            _ => None,
        };
        length.map_or(UNKNOWN_LENGTH, |length| length as f64)
    }

    /// The mean of what is known of a property's columns, by their rows; `without` where a table has none.
    fn over_columns(
        &self, property: &str, labels: &Option<LabelExpression>, element: Element, without: f64,
        of: impl Fn(&ColumnStatistics) -> f64,
    ) -> f64 {
        let statistics = &self.scope.base.statistics;
        let (mut rows, mut sum) = (0.0, 0.0);
        let mut see = |len: usize, column: Option<&ColumnStatistics>| {
            rows += len as f64;
            sum += column.map_or(without, &of) * len as f64;
        };
        match element {
            Element::Node => self.scope.base.nodes.iter().zip(&statistics.node_columns).for_each(|(t, c)| {
                if matches(labels, &t.labels) {
                    see(t.len, c.get(property));
                }
            }),
            Element::Edge => self.scope.base.edges.iter().zip(&statistics.edge_columns).for_each(|(t, c)| {
                if matches(labels, &t.labels) {
                    see(t.len, c.get(property));
                }
            }),
        }
        if rows == 0.0 { UNKNOWN_EQUAL } else { sum / rows }
    }

    /// What share of the elements has this value, or one that is not known.
    pub(super) fn equal_share(
        &self, property: &str, value: Option<&Value>, labels: &Option<LabelExpression>, element: Element,
    ) -> f64 {
        self.over_columns(property, labels, element, 0.0, |column| column.equal_share(value))
    }

    fn comparison_share(
        &self, operator: BinaryOperator, left: &Expression, right: &Expression,
        labels: &Option<LabelExpression>, element: Element,
    ) -> Option<f64> {
        use BinaryOperator::*;
        let (property, other, turned) = match (&left.kind, &right.kind) {
            (ExpressionKind::Property(_, name), _) => (name, right, false),
            (_, ExpressionKind::Property(_, name)) => (name, left, true),
            _ => return None,
        };
        let value: Option<Value> = match &other.kind {
            ExpressionKind::Literal(value) => Some(value.clone()),
            // How many rows equal a parameter's value is estimated for any value; where a range begins
            // matters.
            ExpressionKind::Parameter(name) if !matches!(operator, Equal | NotEqual) => {
                self.parameters.look_for_estimate(name)
            }
            _ => None,
        };
        let less = |turned: bool| {
            let value = value.as_ref()?;
            let over = self.over_columns(&property.text, labels, element, 0.0, |column| {
                let below = column.less_share(value);
                if turned { 1.0 - below - column.nulls as f64 / (column.rows as f64).max(1.0) } else { below }
            });
            Some(over.max(0.0))
        };
        match operator {
            Equal => Some(self.equal_share(&property.text, value.as_ref(), labels, element)),
            NotEqual => Some(1.0 - self.equal_share(&property.text, value.as_ref(), labels, element)),
            Less | LessOrEqual => less(turned),
            Greater | GreaterOrEqual => less(!turned),
            _ => None,
        }
    }

    /// A node's labels, or those it had where it was bound.
    pub(super) fn labels_of(&self, node: &PatternNode) -> Option<LabelExpression> {
        node.labels.clone().or_else(|| self.known.get(&node.name).and_then(|(_, labels)| labels.clone()))
    }

    /// Keeps in mind what a pattern's variables are.
    pub(super) fn remember(&mut self, graph: &PatternGraph) {
        for node in &graph.nodes {
            let known = self.known.entry(node.name.clone()).or_insert((Element::Node, None));
            known.1 = known.1.take().or_else(|| node.labels.clone());
        }
        for step in &graph.steps {
            if let StepKind::Edge { name, labels, .. } = &step.kind {
                self.known.insert(name.clone(), (Element::Edge, labels.clone()));
            }
        }
    }

    /// The variable that a condition is about alone, and what it is.
    fn about(&self, condition: &Expression) -> Option<&(Element, Option<LabelExpression>)> {
        let variables = expression_variables(condition);
        let mut variables = variables.iter();
        match (variables.next(), variables.next()) {
            (Some(one), None) => self.known.get(one),
            _ => None,
        }
    }

    /// What share of the rows a condition leaves.
    pub(super) fn filter_share(&self, condition: &Expression) -> f64 {
        let known = self.about(condition).and_then(|(element, l)| self.known_share(condition, l, *element));
        known.unwrap_or(UNKNOWN_CONDITION).clamp(0.0, 1.0)
    }

    /// Whether a statistic says what share that is.
    pub(super) fn is_counted(&self, condition: &Expression) -> bool {
        self.about(condition).is_some_and(|(element, l)| self.known_share(condition, l, *element).is_some())
    }

    /// How many different rows there are among so many, by how many values each of these has; `None` where that
    /// is not known. Rows are taken to be drawn evenly (Cardenas, 1975).
    pub(super) fn distinct_rows(&self, rows: f64, keys: &[&Expression]) -> Option<f64> {
        let mut values = 1.0;
        let mut seen: Vec<&ExpressionKind> = vec![];
        for key in keys.iter().filter(|key| !matches!(key.kind, ExpressionKind::Literal(_))) {
            if !seen.contains(&&key.kind) {
                values *= self.distinct_values(key)?.max(1.0);
                seen.push(&key.kind);
            }
        }
        let drawn = values * (1.0 - (-rows / values).exp());
        Some(drawn.min(rows).max(1.0))
    }

    /// How many values an expression has in the whole graph, where statistics tell.
    pub(super) fn distinct_values(&self, key: &Expression) -> Option<f64> {
        let of = |variable: &Arc<str>| self.known.get(variable);
        match &key.kind {
            ExpressionKind::Variable(name) => {
                let (element, labels) = of(name)?;
                Some(match element {
                    Element::Node => self.node_total(labels),
                    Element::Edge => self.edge_total(labels),
                })
            }
            ExpressionKind::Property(inner, name) => {
                let ExpressionKind::Variable(variable) = &inner.kind else { return None };
                let (element, labels) = of(variable)?;
                let statistics = &self.scope.base.statistics;
                let mut values = 0.0;
                let mut see = |column: Option<&ColumnStatistics>| {
                    values += column.map_or(0.0, |c| c.distinct as f64 + if c.nulls > 0 { 1.0 } else { 0.0 });
                };
                let base = &self.scope.base;
                match element {
                    Element::Node => base.nodes.iter().zip(&statistics.node_columns).for_each(|(t, c)| {
                        if matches(labels, &t.labels) {
                            see(c.get(&name.text));
                        }
                    }),
                    Element::Edge => base.edges.iter().zip(&statistics.edge_columns).for_each(|(t, c)| {
                        if matches(labels, &t.labels) {
                            see(c.get(&name.text));
                        }
                    }),
                }
                (values > 0.0).then_some(values)
            }
            _ => None,
        }
    }

    /// Edges of a step at a node that is known, up to so many.
    pub(super) fn degree_of(&self, node: Dense, (step, reversed): (&PatternStep, bool)) -> Option<f64> {
        let StepKind::Edge { direction, labels, .. } = &step.kind else { return None };
        let direction = if reversed { direction.reversed() } else { *direction };
        let test = self.scope.edge_test(labels.as_ref());
        let base = &self.scope.base;
        if direction != Direction::Out && !test.tables.iter().all(|&t| base.edges[t].has_reverse()) {
            return None;
        }
        let looks = self.looks.get();
        if looks < MOST_COUNTED {
            return None;
        }
        let mut left = MOST_COUNTED;
        let looked = self.scope.for_each_adjacent(node, direction, &test, |_, _| {
            left -= 1;
            if left == 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        self.looks.set(looks.saturating_sub(looked as usize));
        Some(looked as f64)
    }

    /// Edges of a step at a node to which an edge of another step has led: how many there are a row, by how often such
    /// edges meet. `None` where that was not counted.
    pub(super) fn met_by(
        &self, before: &PatternStep, (step, reversed): (&PatternStep, bool), near: usize, repeatable: bool,
    ) -> Option<f64> {
        let base = &self.scope.base;
        let meetings = &base.statistics.meetings;
        if meetings.is_empty() {
            return None;
        }
        // Ends that an edge of a step may have at a node which it leaves in this direction.
        let ends = |labels: &Option<LabelExpression>, direction: Direction| {
            let mut ends: Vec<EdgeEnd> = vec![];
            for (place, table) in base.edges.iter().enumerate().filter(|(_, t)| matches(labels, &t.labels)) {
                let undirected = !table.directed && direction.takes_undirected();
                if table.directed && direction.takes_out() || undirected {
                    ends.push((place, true));
                }
                if table.directed && direction.takes_in() || undirected {
                    ends.push((place, false));
                }
            }
            ends
        };
        let StepKind::Edge { direction: of_before, labels: labels_before, .. } = &before.kind else {
            return None;
        };
        let StepKind::Edge { direction, labels, .. } = &step.kind else { return None };
        // As the node sees them: away from it.
        let away = if before.from == near { *of_before } else { of_before.reversed() };
        let here = ends(labels_before, away);
        let on = ends(labels, if reversed { direction.reversed() } else { *direction });
        let came: f64 = here.iter().map(|(table, _)| base.edges[*table].len as f64).sum();
        if came == 0.0 {
            return None;
        }
        let mut met = 0.0;
        for a in &here {
            for b in &on {
                met += meetings.get(&(*a, *b)).copied().unwrap_or(0.0);
                if a == b && !repeatable {
                    // Not the edge itself.
                    met -= base.edges[a.0].len as f64;
                }
            }
        }
        Some((met / came).max(0.0))
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
                let (hit, looked) =
                    self.edges_per_node(&self.labels_of(near), labels, direction, &self.labels_of(far));
                let edge_share = self.share(name, labels, conditions, Element::Edge);
                (hit * edge_share * far_share, looked)
            }
            StepKind::Search(search) => {
                if let Some(growth) = self.growth_of(step, reversed, nodes) {
                    let (rows, looked) = match search.search {
                        PathSearch::All if !search.ends_only => (growth.paths, growth.looked_for_paths),
                        _ => (growth.ends, growth.looked_for_ends),
                    };
                    return (rows * far_share, looked);
                }
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

    /// What a search along one repeated edge leads to, tried out on the graph; `None` of other searches.
    pub(super) fn growth_of(
        &self, step: &PatternStep, reversed: bool, nodes: &[PatternNode],
    ) -> Option<Growth> {
        let StepKind::Search(search) = &step.kind else { return None };
        let [element] = &search.elements[..] else { return None };
        let (edge, quantifier) = match element {
            PathElement::Edge(edge, quantifier) => (edge, *quantifier),
            PathElement::Group(group) => (only_edge(&group.term)?, group.quantifier),
            _ => return None,
        };
        let (near, far) = if reversed { (step.to, step.from) } else { (step.from, step.to) };
        let labels = edge.filter.labels.as_ref().map(|l| l.0.clone());
        let condition = edge.filter.condition.iter();
        let share: f64 = condition.map(|c| self.condition_share(c, &labels, Element::Edge)).product::<f64>();
        let equal = edge.filter.properties.iter().map(|(name, value)| {
            let value = match &value.kind {
                ExpressionKind::Literal(value) => Some(value),
                _ => None,
            };
            self.equal_share(&name.text, value, &labels, Element::Edge)
        });
        self.growth(&RepeatedEdge {
            start: self.found.get(&nodes[near].name).copied(),
            near: self.labels_of(&nodes[near]),
            far: self.labels_of(&nodes[far]),
            share: share * equal.product::<f64>(),
            edge: labels,
            direction: if reversed { edge.direction.reversed() } else { edge.direction },
            min: quantifier.map_or(1, |q| q.min),
            max: quantifier.map_or(Some(1), |q| q.max),
        })
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
    pub(super) fn edges_per_node(
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

/// The only edge of a path term.
fn only_edge(term: &PathTerm) -> Option<&EdgePattern> {
    let mut edges = term.elements.iter().filter(|e| !matches!(e, PathElement::Node(_)));
    match (edges.next(), edges.next()) {
        (Some(PathElement::Edge(edge, None)), None) => Some(edge),
        _ => None,
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
