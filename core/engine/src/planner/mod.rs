//! Planning: the clauses of a query in order, each on top of what came before.

mod aggregates;
mod best_order;
mod builder;
mod caps;
mod changes;
mod clauses;
mod compose;
mod elements;
mod estimate;
mod existing;
mod folding;
mod group;
mod growth;
mod joins;
mod lengths;
mod lists;
mod lookup;
mod merge;
mod order;
mod pattern;
mod pattern_graph;
mod procedure;
mod program;
mod property_conditions;
mod repetition;
mod result;
mod ring;
mod sampling;
mod searches;
mod state;
mod steps;
mod told_by_node;
mod top;
mod triangles;
mod usage;

use std::sync::Arc;

use graphodrome_language::VariableKind;
use graphodrome_language::ast::*;

use crate::compile::{expression_kind, row_count};
use crate::operators::*;
use crate::outcome::Outcome;
use crate::plan::{PlanNode, Schema};
use crate::planner::clauses::{counting_rows, may_join, without_lets};
use crate::planner::existing::may_be_part;
use crate::planner::procedure::ProcedureCall;
use crate::planner::state::{Around, Planned, PlannedRows, Source};
use crate::planner::usage::{group_names, usage};
use crate::profile::{Basis, Estimate};
use crate::rules::Rule;

pub(crate) use state::{LabelCounts, Planner};

/// Whether grouping makes so much fewer rows of many that it is worth it to group parts of them first.
fn makes_few(group: &Group, node: &PlanNode, input: &PlanNode) -> bool {
    const FEWER: f64 = 4.0;
    group.is_of_parts() && (group.keys.is_empty() || node.estimate.rows * FEWER <= input.estimate.rows)
}

impl<'p> Planner<'p> {
    pub fn query(&mut self, query: &Query) -> Outcome<Planned> {
        let source = Source::Start;
        let (root, columns) = self.compose(query, &source, false)?;
        let changes = query.changes();
        // What a change reads it must see in order.
        let root = if changes || !self.may(Rule::ShareOut) { root } else { self.gathered(root) };
        Ok(Planned { root, columns, changes })
    }

    /// The plan with its costly parts on several threads.
    fn gathered(&mut self, mut node: PlanNode) -> PlanNode {
        let inputs = std::mem::take(&mut node.inputs);
        let inputs = match node.operator::<Order>().cloned() {
            Some(order) => inputs.into_iter().map(|input| self.top_part(&order, input)).collect(),
            None => inputs,
        };
        let gather = match &inputs[..] {
            [input] if !node.plan.side_by_side() => ShareOut::over(input),
            _ => None,
        };
        node.inputs = match (gather, &inputs[..]) {
            (Some(gather), [input]) => {
                let parts = match node.operator::<Group>() {
                    Some(group) if self.may(Rule::GroupParts) && makes_few(group, &node, input) => {
                        Some(group.clone())
                    }
                    _ => None,
                };
                let (gather, inputs) = match parts {
                    None => (gather, inputs),
                    Some(group) => {
                        let (schema, facts) = (input.schema.clone(), input.facts);
                        let estimate = Estimate { rows: 0.0, ..input.estimate.clone() };
                        let plan = GroupParts { group: Arc::new(group.clone()) };
                        let below = self.node(plan, inputs, schema, estimate);
                        node.plan = Arc::new(Group { parts: Some(below.id), ..group });
                        (gather.with_one_more(), vec![PlanNode { facts, ..below }])
                    }
                };
                let [input] = &inputs[..] else { return node };
                let (schema, facts) = (input.schema.clone(), input.facts);
                let estimate = Estimate { rows: gather.rows(input), ..input.estimate.clone() };
                let gathered = self.node(gather, inputs, schema, estimate);
                vec![PlanNode { facts, ..gathered }]
            }
            _ => inputs.into_iter().map(|input| self.gathered(input)).collect(),
        };
        node
    }

    /// The clauses of a linear query on top of `input`. `rows`: how often a row comes matters to what is
    /// made of the result.
    fn clauses(&mut self, input: PlanNode, clauses: &[Clause], around: &Around) -> Outcome<PlannedRows> {
        let written = match self.may(Rule::LetInPlace) {
            true => without_lets(clauses, &input.schema),
            false => None,
        };
        let clauses = written.as_deref().unwrap_or(clauses);
        let counting = if self.may(Rule::CountOfBound) { counting_rows(clauses) } else { None };
        let clauses = counting.as_deref().unwrap_or(clauses);
        let mut node = input;
        let mut columns = None;
        let mut left = clauses;
        let groups = group_names(&node.schema, clauses);
        while let Some((clause, rest)) = left.split_first() {
            left = rest;
            node = match clause {
                Clause::Match { optional: true, pattern, .. } => {
                    let usage = usage(rest, &groups, around);
                    self.optional_match(node, std::slice::from_ref(pattern), usage)?
                }
                Clause::Match { pattern, .. } => {
                    let (patterns, rest) = self.patterns_at(pattern, rest);
                    left = rest;
                    self.graph_pattern(node, &patterns, usage(rest, &groups, around))?
                }
                Clause::Optional { clauses, .. } => {
                    self.optional_block(node, clauses, usage(rest, &groups, around))?
                }
                Clause::Call { optional, imports, query, span } => {
                    self.call(node, *optional, imports.as_deref(), query, *span)?
                }
                Clause::CallProcedure { optional, name, arguments, yields, span } => {
                    let call = ProcedureCall { optional: *optional, name, arguments, yields, span: *span };
                    self.call_procedure(node, &call)?
                }
                Clause::Nested(query) => {
                    let result = self.nested(node, query, around)?;
                    columns = result.columns;
                    result.node
                }
                Clause::Filter(condition) => self.filter(node, condition.conjuncts())?,
                Clause::Let(items) => self.let_statement(node, items)?,
                Clause::For { variable, list, counter } => {
                    self.for_statement(node, variable, list, counter)?
                }
                Clause::Insert { .. }
                | Clause::Upsert { .. }
                | Clause::Set { .. }
                | Clause::Remove { .. }
                | Clause::Delete { .. } => {
                    let (with, computed) = self.subqueries(node, &changes::expressions(clause))?;
                    self.current = computed;
                    let planned = self.changing(with, clause);
                    self.current.clear();
                    planned?
                }
                Clause::Page(page) => self.page(node, page)?,
                Clause::Return(result) => {
                    let projected = self.result(node, result, around)?;
                    columns = Some(projected.columns);
                    projected.node
                }
                Clause::Finish => self.no_result(node),
            };
        }
        Ok(PlannedRows { node, columns })
    }

    /// A pattern, those that may be planned with it, and the clauses that are left.
    fn patterns_at<'q>(
        &self, pattern: &GraphPattern, rest: &'q [Clause],
    ) -> (Vec<GraphPattern>, &'q [Clause]) {
        // What is filtered right after a pattern is a condition of it.
        let with_its_filters =
            |pattern: &GraphPattern, rest: &'q [Clause]| match self.may(Rule::FilterIntoPattern) {
                true => with_filters(pattern, rest),
                false => (pattern.clone(), rest),
            };
        let (first, mut rest) = with_its_filters(pattern, rest);
        let mut patterns = vec![first];
        while let Some((Clause::Match { optional: false, pattern, .. }, after)) = rest.split_first() {
            let (next, after) = with_its_filters(pattern, after);
            if !self.may(Rule::JoinedPatterns) || !may_join(&patterns, &next) {
                break;
            }
            patterns.push(next);
            rest = after;
        }
        (patterns, rest)
    }

    fn changing(&mut self, node: PlanNode, clause: &Clause) -> Outcome<PlanNode> {
        match clause {
            Clause::Insert { paths, span } => self.insert(node, paths, None, *span),
            Clause::Upsert { paths, items, span } => self.upsert(node, paths, items, *span),
            Clause::Set { items, span } => self.set(node, items, *span),
            Clause::Remove { items, span } => self.remove(node, items, *span),
            Clause::Delete { detach, targets, span } => self.delete(node, *detach, targets, *span),
            _ => Ok(node),
        }
    }

    fn no_result(&mut self, input: PlanNode) -> PlanNode {
        let estimate = Estimate { rows: 0.0, ..input.estimate.clone() };
        self.node(
            ReturnRows { slots: None, shown: "no result".into() },
            vec![input],
            Schema::default(),
            estimate,
        )
    }

    /// Filters by conditions; those with EXISTS in them get their subqueries first.
    fn filter(&mut self, input: PlanNode, conditions: Vec<&Expression>) -> Outcome<PlanNode> {
        if conditions.is_empty() {
            return Ok(input);
        }
        let (mut node, computed) = self.subqueries(input, &conditions)?;
        let mut compiled = vec![];
        let mut share = 1.0;
        for condition in &conditions {
            compiled.push(self.compiler(&node.schema, &computed).expression(condition)?);
            share *= self.filter_share(condition);
        }
        self.cap_searches(&mut node, &compiled);
        let mut shown: Vec<String> = conditions.iter().map(|c| self.shown(c)).collect();
        self.settle_in_search(&mut node, &mut compiled, &mut shown);
        if compiled.is_empty() {
            return Ok(node);
        }
        let shown = shown.join(" AND ");
        let schema = node.schema.clone();
        let estimate = Estimate {
            rows: (node.estimate.rows * share).max(1.0),
            cost: node.estimate.cost + node.estimate.rows,
            basis: if conditions.iter().all(|c| self.is_counted(c)) {
                Basis::Histogram
            } else {
                Basis::Guess
            },
            source: format!("{:.3} % pass", share * 100.0),
        };
        Ok(self.node(Filter { conditions: compiled, shown }, vec![node], schema, estimate))
    }

    fn let_statement(&mut self, input: PlanNode, items: &[(Name, Expression)]) -> Outcome<PlanNode> {
        let mut node = input;
        for (name, value) in items {
            let (with, computed) = self.subqueries(node, &[value])?;
            let compiled = self.compiler(&with.schema, &computed).expression(value)?;
            let mut schema = with.schema.clone();
            let kind = expression_kind(&compiled, &schema);
            schema.push(name.text.clone(), kind);
            let estimate = with.estimate.clone();
            let shown = format!("{} = {}", name.text, self.shown(value));
            node = self.node(Compute { expressions: vec![compiled], shown }, vec![with], schema, estimate);
        }
        Ok(node)
    }

    fn for_statement(
        &mut self, input: PlanNode, variable: &Name, list: &Expression, counter: &Option<(Name, i64)>,
    ) -> Outcome<PlanNode> {
        let (input, computed) = self.subqueries(input, &[list])?;
        let compiled = self.compiler(&input.schema, &computed).expression(list)?;
        let mut schema = input.schema.clone();
        schema.push(variable.text.clone(), VariableKind::Value);
        if let Some((name, _)) = counter {
            schema.push(name.text.clone(), VariableKind::Value);
        }
        let estimate = Estimate {
            rows: input.estimate.rows * 10.0,
            cost: input.estimate.cost + input.estimate.rows * 10.0,
            basis: Basis::Guess,
            source: "a guess of 10 elements a list".into(),
        };
        let plan =
            ForEach { list: compiled, counter: counter.as_ref().map(|c| c.1), shown: self.shown(list) };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    fn page(&mut self, input: PlanNode, page: &Page) -> Outcome<PlanNode> {
        let mut node = input;
        let bounds = self.bounds(page)?;
        if !page.order.is_empty() {
            let keys: Vec<&Expression> = page.order.iter().map(|k| &k.expression).collect();
            let (with, computed) = self.subqueries(node, &keys)?;
            let schema = with.schema.clone();
            node = self.order(with, (&page.order, &schema), &schema, &computed, bounds)?;
        }
        Ok(self.cut(node, bounds))
    }

    /// OFFSET and LIMIT.
    fn bounds(&self, page: &Page) -> Outcome<(usize, Option<usize>)> {
        let schema = Schema::default();
        let count = |e: &Expression, what| row_count(&self.compile(e, &schema)?, what, self.parameters);
        let offset = page.offset.as_ref().map(|e| count(e, "OFFSET")).transpose()?;
        let limit = page.limit.as_ref().map(|e| count(e, "LIMIT")).transpose()?;
        Ok((offset.unwrap_or(0), limit))
    }

    fn cut(&mut self, input: PlanNode, (offset, limit): (usize, Option<usize>)) -> PlanNode {
        if offset == 0 && limit.is_none() {
            return input;
        }
        let left = (input.estimate.rows - offset as f64).max(0.0);
        let estimate = Estimate {
            rows: limit.map_or(left, |l| left.min(l as f64)),
            cost: input.estimate.cost,
            basis: Basis::Fact,
            source: "the bounds".into(),
        };
        let schema = input.schema.clone();
        self.node(PageRows { offset, limit }, vec![input], schema, estimate)
    }
}

/// The pattern with the conditions of the FILTERs that follow it, and the clauses after those.
fn with_filters<'q>(pattern: &GraphPattern, mut rest: &'q [Clause]) -> (GraphPattern, &'q [Clause]) {
    let mut pattern = pattern.clone();
    while let Some((Clause::Filter(condition), after)) = rest.split_first() {
        if !may_be_part(condition) || pattern.yields.is_some() {
            break;
        }
        rest = after;
        let span = condition.span;
        pattern.condition = Some(match pattern.condition.take() {
            None => condition.clone(),
            Some(before) => {
                let both = (Box::new(before), Box::new(condition.clone()));
                Expression { kind: ExpressionKind::Binary(BinaryOperator::And, both.0, both.1), span }
            }
        });
    }
    (pattern, rest)
}
