//! Putting a pattern in order: where to start, which step next, which operator for each. The start is
//! chosen by playing each one through with estimates; from there on the step that multiplies the rows
//! least comes first.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::{Element, LabelExpression};
use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, Span, VariableKind};

use crate::compile::length_name;
use crate::expression::{Expr, Kind, Piece};
use crate::operators::*;
use crate::outcome::Outcome;
use crate::plan::{PlanNode, Schema};
use crate::planner::builder::*;
use crate::planner::elements::show_node;
use crate::planner::lookup::Start;
use crate::planner::pattern_graph::{Condition, PathPiece, PatternNode, PatternStep, StepKind};
use crate::planner::state::{Planner, Use};
use crate::profile::{Alternative, Basis, Estimate};
use crate::rules::Rule;

/// Searches between two given nodes that are started rather than one from each start to all ends.
const FEW_PAIRS: f64 = 8.0;

/// The same where a search to all ends lists every shortest path to each of them before it can drop any.
const FEW_PAIRS_OF_MANY_PATHS: f64 = 1024.0;

/// Other starts that a plan shows.
const STARTS_SHOWN: usize = 4;

fn start_at(node: &PatternNode) -> String {
    format!("start at {}", show_node(node))
}

/// What there was to choose from besides, and that this was chosen.
fn choose_among(node: &mut PlanNode, starts: Vec<Alternative>) {
    let others = std::mem::replace(&mut node.alternatives, starts);
    node.alternatives.extend(others);
    if !node.alternatives.is_empty() && node.alternatives.iter().all(|a| !a.chosen) {
        let cost = node.estimate.cost;
        node.alternatives
            .insert(0, Alternative::chosen("every node", cost, "nothing leaves out enough of them"));
    }
}

impl Planner<'_> {
    pub(super) fn graph_pattern(
        &mut self, input: PlanNode, patterns: &[GraphPattern], usage: Use,
    ) -> Outcome<PlanNode> {
        let before = input.schema.clone();
        let mut graph = self.pattern_graph(patterns, &input.schema, &usage)?;
        // Nodes that are bound already keep their labels as conditions.
        for i in 0..graph.nodes.len() {
            let node = graph.nodes[i].clone();
            if input.schema.slot(&node.name).is_some()
                && let Some(labels) = node.labels
            {
                graph.add_condition(is_labeled(&node.name, labels));
                graph.nodes[i].labels = None;
            }
        }
        // Edges that are bound already are compared with new ones.
        for i in 0..graph.steps.len() {
            if let StepKind::Edge { name, .. } = &graph.steps[i].kind
                && input.schema.slot(name).is_some()
            {
                let new = self.hidden("edge");
                graph.add_condition(crate::planner::pattern::same(name, &new));
                if let StepKind::Edge { name, .. } = &mut graph.steps[i].kind {
                    *name = new;
                }
            }
        }
        for step in &mut graph.steps {
            if let StepKind::Search(search) = &mut step.kind {
                let named = search.variables.iter().map(|v| &v.outside).chain([&search.path]);
                let wanted = |name: &Arc<str>| usage.needed.contains(name) || usage.needed.contains("*");
                search.ends_only = (step.once || !usage.multiplicity) && !named.into_iter().any(wanted);
            }
        }
        self.remember(&graph);
        let done = vec![false; graph.steps.len()];
        let costs = self.step_costs(&graph);
        let outer = input.schema.len();
        let mut builder = Builder { graph: &mut graph, usage: &usage, outer, done, order: vec![], costs };
        let mut node = self.connect(input, &mut builder, patterns[0].paths[0].span)?;
        let left: Vec<Expression> = builder
            .graph
            .conditions
            .iter_mut()
            .filter(|c| !c.done)
            .map(|c| {
                c.done = true;
                c.expression.clone()
            })
            .collect();
        // Paths before the conditions that may read them.
        let paths = std::mem::take(&mut graph.paths);
        for path in paths {
            let mut pieces = vec![];
            for piece in &path.pieces {
                let slot = |name: &str| node.schema.slot(name).unwrap_or(0);
                pieces.push(match piece {
                    PathPiece::Node(i) => Piece::Node(slot(&graph.nodes[*i].name)),
                    PathPiece::Step(i) => match &graph.steps[*i].kind {
                        StepKind::Edge { name, .. } => Piece::Edge(slot(name)),
                        StepKind::Search(search) => Piece::Path(slot(&search.path)),
                    },
                });
            }
            let mut schema = node.schema.clone();
            let length = graph.lengths.contains(&path.name);
            match length {
                true => schema.push(length_name(&path.name), VariableKind::Value),
                false => schema.push(path.name.clone(), VariableKind::Path),
            };
            let kind = if length { Kind::Length(pieces) } else { Kind::Path(pieces) };
            let expressions = vec![Expr { kind, span: Default::default() }];
            let estimate = node.estimate.clone();
            let shown = format!("{} = {}", path.name, if length { "length of the path" } else { "path" });
            node = self.node(Compute { expressions, shown }, vec![node], schema, estimate);
        }
        let mut node = self.filter(node, left.iter().collect())?;
        for pattern in patterns {
            let Some(names) = &pattern.yields else { continue };
            for (name, _) in graphodrome_language::pattern_variables(pattern) {
                let given = names.iter().any(|n| n.text == name.text) || before.slot(&name.text).is_some();
                if let (false, Some(slot)) = (given, node.schema.slot(&name.text)) {
                    node.schema.rename(slot, "#unseen");
                }
            }
        }
        Ok(node)
    }

    /// Plans all steps and nodes on top of `input`.
    fn connect(&mut self, input: PlanNode, b: &mut Builder<'_>, pattern_span: Span) -> Outcome<PlanNode> {
        let mut node = self.ready_conditions(input, b)?;
        loop {
            node = if let Some((step, from_right)) = self.next_step(&node.schema, b) {
                self.take_step(node, step, from_right, b)?
            } else {
                let unbound: Vec<usize> = (0..b.graph.nodes.len())
                    .filter(|&i| node.schema.slot(&b.graph.nodes[i].name).is_none())
                    .collect();
                if unbound.is_empty() {
                    break;
                }
                self.begin_at_one(node, &unbound, b)?
            };
            node = self.ready_conditions(node, b)?;
        }
        let Some(step) = b.done.iter().position(|done| !done) else { return Ok(node) };
        let shown = b.graph.steps[step].shown.clone();
        Err(Diagnostic::syntax(
            pattern_span,
            format!("not supported: in {shown} a condition inside a repetition reads what is bound after it (feature G051)"),
        )
        .hint("write the condition in WHERE after the pattern"))
    }

    /// A step at a bound end, or what had better be found before it.
    fn take_step(
        &mut self, node: PlanNode, step: usize, from_right: bool, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        let pattern = &b.graph.steps[step];
        let far = if from_right { pattern.from } else { pattern.to };
        let is_search = matches!(pattern.kind, StepKind::Search(_));
        if node.schema.slot(&b.graph.nodes[far].name).is_none() {
            // A search between two nodes that are known goes from both of them.
            if is_search && let Start::Seek(keys, conditions) = self.start(far, &node.schema, b) {
                return self.seek(node, far, &keys, &conditions, b);
            }
            if self.few_ends(step, from_right, node.estimate.rows, b) {
                let ends = self.scan(far, b)?;
                let ends = self.ready_conditions(ends, b)?;
                return self.join(node, ends, b);
            }
        }
        self.step(node, step, from_right, b)
    }

    /// Finds a node that no step leads to, or an edge with both of its ends.
    fn begin_at_one(&mut self, node: PlanNode, unbound: &[usize], b: &mut Builder<'_>) -> Outcome<PlanNode> {
        // A node that a key finds for each row.
        for &i in unbound {
            if let Start::Seek(keys, conditions) = self.start(i, &node.schema, b) {
                return self.seek(node, i, &keys, &conditions, b);
            }
        }
        let is_first = node.plan.name() == "OneRow";
        let (start, mut starts, cost) = self.cheapest_start(unbound, is_first, b);
        // An edge that a key or an index finds, with both of its ends.
        if let Some(found) = self.edge_lookup(&node.schema, b) {
            if found.rows <= cost {
                return self.seek_edges(node, found, b);
            }
            let method = format!("edges by {}", found.name);
            starts.push(Alternative::left(method, Some(found.rows), "it finds too many of them"));
        }
        // Nodes that an index finds for each row, where there are few.
        match self.start(start, &node.schema, b) {
            Start::Search(found) if !is_first => return self.search_index(node, start, &found, b),
            // The list is one of the row: without the row there is none.
            Start::Listed(keys, conditions, _)
                if !is_first && matches!(self.start(start, &Schema::default(), b), Start::Scan) =>
            {
                return self.seek(node, start, &keys, &conditions, b);
            }
            _ => {}
        }
        let mut other = self.scan(start, b)?;
        choose_among(&mut other, starts);
        if is_first {
            return Ok(other);
        }
        // Another part: on its own, then joined.
        let mut other = self.ready_conditions(other, b)?;
        while let Some((step, from_right)) = self.next_step_within(&other.schema, &node.schema, b) {
            other = self.step(other, step, from_right, b)?;
            other = self.ready_conditions(other, b)?;
        }
        self.join(node, other, b)
    }

    /// Where to begin, what else there was to begin at, and what it costs.
    fn cheapest_start(
        &self, unbound: &[usize], is_first: bool, b: &mut Builder<'_>,
    ) -> (usize, Vec<Alternative>, f64) {
        let (start, mut starts, cost) = self.best_start(unbound, b);
        if !is_first || !self.may(Rule::PatternOrder) {
            return (start, starts, cost);
        }
        let Some((order, least)) = self.best_order(unbound, b) else { return (start, starts, cost) };
        let start = order[0];
        let name = start_at(&b.graph.nodes[start]);
        starts.retain(|a| a.method != name);
        starts.iter_mut().for_each(|a| {
            a.chosen = false;
            a.reason = "this order of nodes costs more".into();
        });
        if !starts.is_empty() {
            starts.insert(0, Alternative::chosen(name, least, "the cheapest order of all nodes"));
        }
        b.order = order;
        (start, starts, least)
    }

    /// Whether a search's other end is worth finding first: its own conditions leave few nodes, which cost less to
    /// find than the search from one end looks at.
    fn few_ends(&self, step: usize, from_right: bool, rows: f64, b: &Builder<'_>) -> bool {
        let pattern = &b.graph.steps[step];
        let far = if from_right { pattern.from } else { pattern.to };
        let name = &b.graph.nodes[far].name;
        let own =
            |c: &Condition| c.waits() && !c.variables.is_empty() && c.variables.iter().all(|v| **v == **name);
        let StepKind::Search(search) = &pattern.kind else { return false };
        if !self.may(Rule::EndFirst) || !b.graph.conditions.iter().any(own) {
            return false;
        }
        let few = match search.search {
            PathSearch::AllShortest | PathSearch::ShortestGroups(_) => FEW_PAIRS_OF_MANY_PATHS,
            PathSearch::Shortest(k) if k > 1 => FEW_PAIRS_OF_MANY_PATHS,
            _ => FEW_PAIRS,
        };
        let (ends, cost) = self.start_cost(far, b);
        let looked = b.costs[step].of(from_right).1.min(self.edge_total(&None));
        rows * ends <= few && cost < rows * looked
    }

    /// Filters by every waiting condition whose variables are all there.
    fn ready_conditions(&mut self, node: PlanNode, b: &mut Builder<'_>) -> Outcome<PlanNode> {
        let mut ready = vec![];
        if !self.may(Rule::EarlyConditions) {
            return Ok(node);
        }
        for condition in b.graph.conditions.iter_mut().filter(|c| c.waits()) {
            if !condition.variables.is_empty()
                && condition.variables.iter().all(|v| node.schema.slot(v).is_some())
            {
                condition.done = true;
                ready.push(condition.expression.clone());
            }
        }
        self.filter(node, ready.iter().collect())
    }

    /// Takes the waiting conditions that need nothing beyond `schema` and compiles them.
    pub(super) fn take_conditions(
        &self, schema: &Schema, b: &mut Builder<'_>,
    ) -> Outcome<(Vec<Expr>, Vec<String>, f64)> {
        let (mut compiled, mut shown, mut share) = (vec![], vec![], 1.0);
        if !self.may(Rule::EarlyConditions) {
            return Ok((compiled, shown, share));
        }
        for condition in b.graph.conditions.iter_mut().filter(|c| c.waits()) {
            if !condition.variables.is_empty() && condition.variables.iter().all(|v| schema.slot(v).is_some())
            {
                compiled.push(self.compile(&condition.expression, schema)?);
                shown.push(self.shown(&condition.expression));
                condition.done = true;
                share *= 0.4;
            }
        }
        shown.retain(|s| s != "(implied)");
        Ok((compiled, shown, share))
    }

    fn scan(&mut self, node: usize, b: &mut Builder<'_>) -> Outcome<PlanNode> {
        let pattern = b.graph.nodes[node].clone();
        let by_key = match self.start(node, &Schema::default(), b) {
            Start::Seek(keys, conditions) | Start::Listed(keys, conditions, _) => Some((keys, conditions)),
            _ => None,
        };
        if let Some((keys, conditions)) = by_key {
            let start = self.leaf(crate::operators::OneRow, Schema::default(), 1.0, "one row");
            return self.seek(start, node, &keys, &conditions, b);
        }
        if let Start::Search(found) = self.start(node, &Schema::default(), b) {
            let start = self.leaf(crate::operators::OneRow, Schema::default(), 1.0, "one row");
            return self.search_index(start, node, &found, b);
        }
        let left_out = self.index_left_out(node, b);
        let total = self.node_total(&pattern.labels);
        let share = self.share(&pattern.name, &pattern.labels, &b.graph.conditions, Element::Node);
        let mut schema = Schema::default();
        schema.push(pattern.name.clone(), VariableKind::Node);
        let (conditions, shown_conditions, _) = self.take_conditions(&schema, b)?;
        let labels = pattern.labels.as_ref().map_or("all labels".to_string(), |l| l.to_string());
        let estimate = Estimate {
            rows: (total * share).max(1.0),
            cost: total,
            basis: Basis::Count,
            source: format!("{total:.0} nodes with {labels}, {:.3} % pass", share * 100.0),
        };
        let plan = ScanNodes {
            pattern: show_node(&pattern),
            test: self.scope.node_test(pattern.labels.as_ref()),
            conditions,
            shown_conditions,
        };
        let mut node = self.node(plan, vec![], schema, estimate);
        node.alternatives.extend(left_out);
        Ok(node)
    }

    /// The start whose whole way costs least, what there was to choose from, and what it costs.
    fn best_start(&self, candidates: &[usize], b: &Builder<'_>) -> (usize, Vec<Alternative>, f64) {
        if !self.may(Rule::PatternOrder) {
            return (candidates[0], vec![], f64::MAX);
        }
        let mut costs: Vec<(f64, usize)> = candidates.iter().map(|&i| (self.play_through(i, b), i)).collect();
        costs.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        let (least, best) = costs[0];
        let named = |i: usize| show_node(&b.graph.nodes[i]) != "()";
        let mut starts = vec![];
        for &(cost, node) in costs[1..].iter().filter(|(_, i)| named(*i)).take(STARTS_SHOWN) {
            let reason = match (cost == least, format!("{cost:.0}") == format!("{least:.0}")) {
                (true, _) => "it costs the same and is written later",
                (_, true) => "it costs hardly more",
                _ => "its complete order costs more",
            };
            starts.push(Alternative::left(start_at(&b.graph.nodes[node]), Some(cost), reason));
        }
        if !starts.is_empty() {
            let chosen =
                Alternative::chosen(start_at(&b.graph.nodes[best]), least, "its complete order costs least");
            starts.insert(0, chosen);
        }
        (best, starts, least)
    }

    /// What it costs to start at `start` and take the cheapest step each time.
    fn play_through(&self, start: usize, b: &Builder<'_>) -> f64 {
        let (mut rows, mut cost) = self.start_cost(start, b);
        let mut bound = BTreeSet::from([start]);
        let mut done = b.done.clone();
        loop {
            let mut best: Option<(f64, f64, usize)> = None;
            for (i, step) in b.graph.steps.iter().enumerate().filter(|(i, _)| !done[*i]) {
                let (from, to) = (bound.contains(&step.from), bound.contains(&step.to));
                let closes_only = step.once && matches!(step.kind, StepKind::Edge { .. });
                if !from && !to || closes_only && !(from && to) {
                    continue;
                }
                let (factor, looked) = b.costs[i].of(!from);
                let factor = if from && to { b.costs[i].closing } else { factor };
                if best.is_none_or(|(f, ..)| factor < f) {
                    best = Some((factor, looked, i));
                }
            }
            let Some((factor, looked, i)) = best else { return cost };
            cost += rows * looked.max(0.1);
            rows *= factor;
            cost += rows;
            done[i] = true;
            bound.insert(b.graph.steps[i].from);
            bound.insert(b.graph.steps[i].to);
        }
    }

    /// Rows per row of a step between two bound nodes.
    pub(super) fn closing(&self, step: &PatternStep, b: &Builder<'_>) -> f64 {
        let (factor, _) = self.fan_out(step, false, &b.graph.nodes, &[]);
        factor / self.node_total(&self.labels_of(&b.graph.nodes[step.to])).max(1.0)
    }

    fn next_step(&self, schema: &Schema, b: &Builder<'_>) -> Option<(usize, bool)> {
        self.next_step_within(schema, &Schema::default(), b)
    }

    /// The cheapest step with an end in `schema`, and whether it is taken from its right end. Steps to
    /// nodes of `elsewhere` wait for the join.
    fn next_step_within(
        &self, schema: &Schema, elsewhere: &Schema, b: &Builder<'_>,
    ) -> Option<(usize, bool)> {
        let mut best: Option<((usize, f64), usize, bool)> = None;
        for (i, step) in b.graph.steps.iter().enumerate().filter(|(i, _)| !b.done[*i]) {
            let name = |n: usize| &b.graph.nodes[n].name;
            if elsewhere.slot(name(step.from)).is_some() || elsewhere.slot(name(step.to)).is_some() {
                continue;
            }
            if step.needs.iter().any(|name| schema.slot(name).is_none()) {
                continue;
            }
            let from = schema.slot(name(step.from)).is_some();
            let to = schema.slot(name(step.to)).is_some();
            let (forward, backward) = b.costs[i].ways();
            if !(from && forward || to && backward) {
                continue;
            }
            if !self.may(Rule::PatternOrder) {
                return Some((i, !(from && forward)));
            }
            let from_right = if from && to && forward && backward {
                // From the end with fewer edges to look at.
                let (forward, backward) = (b.costs[i].of(false).1, b.costs[i].of(true).1);
                matches!(step.kind, StepKind::Search(_)) && backward < forward
            } else {
                !(from && forward)
            };
            let factor = if from && to { b.costs[i].closing } else { b.costs[i].of(from_right).0 };
            // What closes a ring comes first, then what the order says.
            let far = if from_right { step.from } else { step.to };
            let rank = match from && to {
                true => 0,
                false => b.order.iter().position(|n| *n == far).map_or(usize::MAX, |place| place + 1),
            };
            if best.is_none_or(|(known, ..)| (rank, factor) < known) {
                best = Some(((rank, factor), i, from_right));
            }
        }
        best.map(|(_, i, from_right)| (i, from_right))
    }
}

fn is_labeled(name: &Arc<str>, labels: LabelExpression) -> Expression {
    let operand = Expression { kind: ExpressionKind::Variable(name.clone()), span: Default::default() };
    let kind =
        ExpressionKind::IsLabeled { operand: Box::new(operand), labels, names: vec![], negated: false };
    Expression { kind, span: Default::default() }
}
