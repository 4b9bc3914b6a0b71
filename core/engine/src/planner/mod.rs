//! Planning: the clauses of a query in order, each on top of what came before.

mod changes;
mod estimate;
mod lookup;
mod order;
mod pattern;
mod program;
mod result;
mod searches;

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::{LabelSet, Snapshot};
use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, VariableKind, expression_variables, pattern_variables};

use crate::batch::Vector;
use crate::compile::{Compiler, Computed, PlanParameters, row_count};
use crate::context::Outcome;
use crate::evaluate::Scope;
use crate::expression::Expr;
use crate::operators::*;
use crate::plan::{ColumnInfo, OperatorPlan, PlanNode, Schema};
use crate::profile::Estimate;

pub(crate) struct Planner<'p> {
    scope: &'p Scope,
    parameters: &'p PlanParameters<'p>,
    text: &'p str,
    /// Counted once a version: estimates ask for them again and again.
    counts: &'p LabelCounts,
    next_id: usize,
    next_name: usize,
}

/// How many elements a version has, by label set.
pub(crate) struct LabelCounts {
    pub nodes: Vec<(LabelSet, u64)>,
    pub edges: Vec<(LabelSet, u64)>,
}

impl LabelCounts {
    pub fn of(snapshot: &Snapshot) -> LabelCounts {
        LabelCounts { nodes: snapshot.node_label_counts(), edges: snapshot.edge_label_counts() }
    }
}

pub(crate) struct Planned {
    pub root: PlanNode,
    /// `None` where the query has no result.
    pub columns: Option<Vec<ColumnInfo>>,
    pub changes: bool,
}

/// What the rest of a query makes of a MATCH's rows.
struct Use {
    /// Variables read later.
    needed: BTreeSet<Arc<str>>,
    /// Whether it matters how often a row comes.
    multiplicity: bool,
}

pub(crate) fn kind_vector(kind: VariableKind) -> Vector {
    match kind {
        VariableKind::Node => Vector::Nodes(vec![]),
        VariableKind::Edge => Vector::Edges(vec![]),
        _ => Vector::Values(vec![]),
    }
}

impl<'p> Planner<'p> {
    pub fn new(
        scope: &'p Scope, counts: &'p LabelCounts, parameters: &'p PlanParameters<'p>, text: &'p str,
    ) -> Self {
        Planner { scope, parameters, text, counts, next_id: 0, next_name: 0 }
    }

    pub fn query(&mut self, query: &Query) -> Outcome<Planned> {
        let mut node = self.leaf(Start, Schema::default(), 1.0, "one row");
        let mut columns = None;
        let mut changes = false;
        let mut finished = false;
        let mut left = &query.clauses[..];
        while let Some((clause, rest)) = left.split_first() {
            left = rest;
            node = match clause {
                Clause::Match { optional: true, pattern, .. } => {
                    self.optional_match(node, pattern, usage(rest))?
                }
                Clause::Match { pattern, .. } => {
                    // What is filtered right after a pattern is a condition of it.
                    let (pattern, rest) = with_filters(pattern, rest);
                    left = rest;
                    self.graph_pattern(node, &pattern, usage(rest))?
                }
                Clause::Filter(condition) => self.filter(node, condition.conjuncts())?,
                Clause::Let(items) => self.let_statement(node, items)?,
                Clause::For { variable, list, counter } => {
                    self.for_statement(node, variable, list, counter)?
                }
                Clause::Insert { paths, span } => {
                    changes = true;
                    self.insert(node, paths, None, *span)?
                }
                Clause::Upsert { paths, items, span } => {
                    changes = true;
                    self.upsert(node, paths, items, *span)?
                }
                Clause::Set { items, span } => {
                    changes = true;
                    self.set(node, items, *span)?
                }
                Clause::Remove { items, span } => {
                    changes = true;
                    self.remove(node, items, *span)?
                }
                Clause::Delete { detach, targets, span } => {
                    changes = true;
                    self.delete(node, *detach, targets, *span)?
                }
                Clause::Page(page) => self.page(node, page)?,
                Clause::Return(result) => {
                    let (planned, infos) = self.result(node, result)?;
                    columns = Some(infos);
                    finished = true;
                    planned
                }
                Clause::Finish => {
                    finished = true;
                    self.no_result(node)
                }
            };
        }
        if !finished {
            node = self.no_result(node);
        }
        Ok(Planned { root: node, columns, changes })
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

    pub(crate) fn node(
        &mut self, plan: impl OperatorPlan + 'static, inputs: Vec<PlanNode>, schema: Schema,
        estimate: Estimate,
    ) -> PlanNode {
        let id = self.next_id;
        self.next_id += 1;
        let facts = plan.row_facts(&inputs);
        PlanNode { id, plan: Arc::new(plan), inputs, schema, estimate, rejected: vec![], facts }
    }

    fn leaf(
        &mut self, plan: impl OperatorPlan + 'static, schema: Schema, rows: f64, source: &str,
    ) -> PlanNode {
        let estimate = Estimate { rows, cost: rows, source: source.into() };
        self.node(plan, vec![], schema, estimate)
    }

    /// A name no user can write.
    fn hidden(&mut self, what: &str) -> Arc<str> {
        self.next_name += 1;
        format!("#{what}{}", self.next_name).into()
    }

    fn compiler<'c>(&'c self, schema: &'c Schema, computed: &'c Computed) -> Compiler<'c> {
        Compiler { scope: self.scope, schema, parameters: self.parameters, computed }
    }

    fn compile(&self, expression: &Expression, schema: &Schema) -> Outcome<Expr> {
        self.compiler(schema, &vec![]).expression(expression)
    }

    /// A piece of the query's text, on one line.
    fn shown(&self, expression: &Expression) -> String {
        let (start, end) = (expression.span.start as usize, expression.span.end as usize);
        let text = self.text.get(start..end).unwrap_or("").split_whitespace().collect::<Vec<_>>().join(" ");
        if text.is_empty() { "(implied)".into() } else { text }
    }

    /// Filters by conditions; those with EXISTS in them get their subqueries first.
    fn filter(&mut self, input: PlanNode, conditions: Vec<&Expression>) -> Outcome<PlanNode> {
        if conditions.is_empty() {
            return Ok(input);
        }
        let (node, computed) = self.subqueries(input, &conditions)?;
        let mut compiled = vec![];
        let mut share = 1.0;
        for condition in &conditions {
            compiled.push(self.compiler(&node.schema, &computed).expression(condition)?);
            share *= 0.4;
        }
        let shown = conditions.iter().map(|c| self.shown(c)).collect::<Vec<_>>().join(" AND ");
        let schema = node.schema.clone();
        let estimate = Estimate {
            rows: (node.estimate.rows * share).max(1.0),
            cost: node.estimate.cost + node.estimate.rows,
            source: "a guess of 40 % a condition".into(),
        };
        Ok(self.node(Filter { conditions: compiled, shown }, vec![node], schema, estimate))
    }

    /// Computes every EXISTS in the expressions as a column.
    fn subqueries(
        &mut self, mut node: PlanNode, expressions: &[&Expression],
    ) -> Outcome<(PlanNode, Computed)> {
        let mut found = vec![];
        expressions.iter().for_each(|e| find_exists(e, &mut found));
        let mut computed: Computed = vec![];
        for (kind, pattern, shown) in found {
            if computed.iter().any(|(known, _)| *known == kind) {
                continue;
            }
            let shown = self.text.get(shown.start as usize..shown.end as usize).unwrap_or("").to_string();
            let (inner, row_slot) = self.correlated(&node, &pattern, false, BTreeSet::new())?;
            let mut schema = node.schema.clone();
            let name = self.hidden("exists");
            let slot = schema.push(name, VariableKind::Value);
            let estimate = Estimate {
                rows: node.estimate.rows,
                cost: node.estimate.cost + inner.estimate.cost,
                source: "one row for each of the input's".into(),
            };
            let inner = Arc::new(inner);
            node = self.node(CheckExists { inner, row_slot, shown }, vec![node], schema, estimate);
            computed.push((kind, slot));
        }
        Ok((node, computed))
    }

    /// A pattern that sees the rows of `outer`, and where its rows say which of them they are for.
    fn correlated(
        &mut self, outer: &PlanNode, pattern: &GraphPattern, multiplicity: bool, needed: BTreeSet<Arc<str>>,
    ) -> Outcome<(PlanNode, usize)> {
        let mut schema = outer.schema.clone();
        let name = self.hidden("row");
        let row_slot = schema.push(name, VariableKind::Value);
        let argument = self.leaf(Argument, schema, outer.estimate.rows, "the outer rows");
        let inner = self.graph_pattern(argument, pattern, Use { needed, multiplicity })?;
        Ok((inner, row_slot))
    }

    fn optional_match(&mut self, input: PlanNode, pattern: &GraphPattern, usage: Use) -> Outcome<PlanNode> {
        let Use { needed, multiplicity } = usage;
        let (inner, row_slot) = self.correlated(&input, pattern, multiplicity, needed)?;
        let mut schema = input.schema.clone();
        let (mut added, mut added_vectors) = (vec![], vec![]);
        let mut names: Vec<Arc<str>> = vec![];
        for (name, _) in pattern_variables(pattern) {
            if input.schema.slot(&name.text).is_some() || names.contains(&name.text) {
                continue;
            }
            if let Some(slot) = inner.schema.slot(&name.text) {
                let kind = inner.schema.variables[slot].kind;
                schema.push(name.text.clone(), kind);
                added.push(slot);
                added_vectors.push(kind_vector(kind));
                names.push(name.text);
            }
        }
        let estimate = Estimate {
            rows: input.estimate.rows.max(inner.estimate.rows),
            cost: input.estimate.cost + inner.estimate.cost,
            source: inner.estimate.source.clone(),
        };
        let plan =
            PerRow { inner: Arc::new(inner), row_slot, added, added_vectors, shown: "optional".into() };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    fn let_statement(&mut self, input: PlanNode, items: &[(Name, Expression)]) -> Outcome<PlanNode> {
        let mut node = input;
        for (name, value) in items {
            let (with, computed) = self.subqueries(node, &[value])?;
            let compiled = self.compiler(&with.schema, &computed).expression(value)?;
            let mut schema = with.schema.clone();
            let kind = result::expression_kind(&compiled, &schema);
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
        let compiled = self.compile(list, &input.schema)?;
        let mut schema = input.schema.clone();
        schema.push(variable.text.clone(), VariableKind::Value);
        if let Some((name, _)) = counter {
            schema.push(name.text.clone(), VariableKind::Value);
        }
        let estimate = Estimate {
            rows: input.estimate.rows * 10.0,
            cost: input.estimate.cost + input.estimate.rows * 10.0,
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
            let schema = node.schema.clone();
            node = self.order(node, &page.order, &schema, &vec![], bounds)?;
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
        if has_exists(condition) {
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

fn find_exists(e: &Expression, found: &mut Vec<(ExpressionKind, GraphPattern, graphodrome_language::Span)>) {
    if let ExpressionKind::Exists(pattern) = &e.kind {
        found.push((e.kind.clone(), (**pattern).clone(), e.span));
    }
    e.each_part(&mut |part| find_exists(part, found));
}

pub(crate) fn has_exists(e: &Expression) -> bool {
    let mut found = vec![];
    find_exists(e, &mut found);
    !found.is_empty()
}

/// What later clauses read of a MATCH, and whether they can tell how often a row comes.
fn usage(rest: &[Clause]) -> Use {
    let mut needed = BTreeSet::new();
    let mut multiplicity = true;
    let mut reads = |e: &Expression| needed.extend(expression_variables(e));
    for clause in rest {
        match clause {
            Clause::Match { pattern, .. } => {
                let exists = Expression {
                    kind: ExpressionKind::Exists(Box::new(pattern.clone())),
                    span: Default::default(),
                };
                reads(&exists);
            }
            Clause::Filter(e) => reads(e),
            Clause::Let(items) => items.iter().for_each(|(_, e)| reads(e)),
            Clause::For { list, .. } => reads(list),
            Clause::Insert { paths, .. } | Clause::Upsert { paths, .. } => {
                if let Clause::Upsert { items, .. } = clause {
                    items.iter().for_each(|item| read_by_set(item, &mut reads));
                }
                for path in paths {
                    let elements = std::iter::once(&path.first)
                        .chain(path.steps.iter().flat_map(|(e, n)| [&e.element, n]));
                    for element in elements {
                        element.properties.iter().for_each(|(_, e)| reads(e));
                    }
                }
            }
            Clause::Set { items, .. } => items.iter().for_each(|item| read_by_set(item, &mut reads)),
            Clause::Delete { targets, .. } => targets.iter().for_each(&mut reads),
            Clause::Remove { .. } | Clause::Finish => {}
            Clause::Page(page) => page.order.iter().for_each(|k| reads(&k.expression)),
            Clause::Return(result) => {
                result.items.iter().for_each(|i| reads(&i.expression));
                result.page.order.iter().for_each(|k| reads(&k.expression));
                multiplicity = !insensitive(result);
            }
        }
    }
    if let Some(Clause::Return(result)) = rest.last()
        && result.items.is_empty()
    {
        // RETURN * reads everything.
        needed.insert("*".into());
    }
    let plain = rest.iter().all(|c| {
        matches!(
            c,
            Clause::Match { .. }
                | Clause::Filter(_)
                | Clause::Let(_)
                | Clause::For { .. }
                | Clause::Return(_)
        )
    });
    Use { needed, multiplicity: multiplicity || !plain }
}

fn read_by_set(item: &SetItem, reads: &mut impl FnMut(&Expression)) {
    match item {
        SetItem::Property { value, .. } => reads(value),
        SetItem::All { properties, .. } => properties.iter().for_each(|(_, e)| reads(e)),
        SetItem::Label { .. } => {}
    }
}

/// Whether a result is the same however often each row comes.
fn insensitive(result: &Return) -> bool {
    fn only_insensitive(e: &Expression) -> bool {
        match &e.kind {
            ExpressionKind::CountAll => false,
            ExpressionKind::Aggregate { function, distinct, .. } => {
                *distinct || matches!(function, Aggregate::Min | Aggregate::Max)
            }
            _ => {
                let mut all = true;
                e.each_part(&mut |part| all &= only_insensitive(part));
                all
            }
        }
    }
    let aggregated =
        result.group_by.is_some() || result.items.iter().any(|i| i.expression.contains_aggregate());
    let items = result.items.iter().all(|i| only_insensitive(&i.expression));
    let order = result.page.order.iter().all(|k| only_insensitive(&k.expression));
    !result.items.is_empty() && (result.distinct || aggregated) && items && order
}

pub(crate) fn unsupported(span: graphodrome_language::Span, what: &str) -> Diagnostic {
    Diagnostic::syntax(span, format!("not supported yet: {what}"))
}
