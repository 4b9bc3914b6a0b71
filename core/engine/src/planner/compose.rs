//! Composed queries: parts joined by NEXT, UNION and similar conjunctions, CALL, and subqueries in expressions.
//!
//! A subquery runs in one of two ways. If each of its rows derives from one outer row (patterns, filters, values),
//! it runs once for each batch, and each row carries the number of its outer row. If it counts, orders or limits
//! rows, it runs once for each outer row.

use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::{
    Diagnostic, Span, VariableKind, clause_variables, pattern_variables, query_variables,
};

use crate::compile::Computed;
use crate::expression::Expr;
use crate::operators::*;
use crate::outcome::Outcome;
use crate::plan::{ColumnInfo, ColumnKind, PlanNode, Schema};
use crate::planner::aggregates::of_no_rows;
use crate::planner::state::column_kind;
use crate::planner::state::{
    Around, PlannedRows, Planner, Projected, Source, Use, find_subqueries, kind_vector,
};
use crate::planner::usage::{group_names, insensitive};
use crate::profile::{Basis, Estimate};
use crate::rules::Rule;

impl Planner<'_> {
    fn source(&mut self, source: &Source) -> PlanNode {
        match source {
            Source::Start => self.leaf(OneRow, Schema::default(), 1.0, "one row"),
            Source::Row(schema) => {
                self.leaf(OuterRows { numbered: false }, schema.clone(), 1.0, "the outer row")
            }
        }
    }

    /// A whole query; its result has the columns alone. `exists`: only whether it has rows is asked.
    pub(super) fn compose(
        &mut self, query: &Query, source: &Source, exists: bool,
    ) -> Outcome<(PlanNode, Option<Vec<ColumnInfo>>)> {
        let mut result: Option<(PlanNode, Option<Vec<ColumnInfo>>)> = None;
        for (i, part) in query.parts.iter().enumerate() {
            let exists = exists && i + 1 == query.parts.len();
            let before = match result.take() {
                None => None,
                Some((node, columns)) => Some(self.go_on(node, columns, part, source)?),
            };
            result = Some(self.composite(&part.composite, before, source, exists)?);
        }
        result.ok_or_else(|| Diagnostic::syntax(query.span, "the query has no clause"))
    }

    /// The rows of the statement before NEXT as what the next one begins with.
    fn go_on(
        &mut self, node: PlanNode, columns: Option<Vec<ColumnInfo>>, part: &Part, source: &Source,
    ) -> Outcome<PlanNode> {
        let mut node = node;
        if columns.is_none() {
            // A statement without a result leaves one row.
            let first = self.source(source);
            let schema = first.schema.clone();
            let estimate = first.estimate.clone();
            return Ok(self.node(AfterAll, vec![node, first], schema, estimate));
        }
        if let Some(yields) = &part.yields {
            let names: Vec<Arc<str>> = node.schema.variables.iter().map(|v| v.name.clone()).collect();
            for (slot, name) in names.iter().enumerate() {
                let called = yields.iter().find(|(column, _)| column.text == *name);
                node.schema.rename(slot, called.map_or("#unseen", |(_, name)| &name.text));
            }
        }
        if let Source::Row(outer) = source {
            // The rows around it are seen again, behind the columns.
            let mut schema = outer.clone();
            for variable in &node.schema.variables {
                schema.push(variable.name.clone(), variable.kind);
            }
            let estimate = node.estimate.clone();
            node = self.node(AttachRow, vec![node], schema, estimate);
        }
        Ok(node)
    }

    fn composite(
        &mut self, composite: &Composite, before: Option<PlanNode>, source: &Source, exists: bool,
    ) -> Outcome<(PlanNode, Option<Vec<ColumnInfo>>)> {
        if composite.others.is_empty() {
            let input = match before {
                Some(node) => node,
                None => self.source(source),
            };
            return self.linear(&composite.first, input, source, !exists, exists);
        }
        // Every branch begins with the same rows.
        let table = before.map(|node| {
            self.next_table += 1;
            (self.next_table - 1, node)
        });
        let shared = table.as_ref().map(|(id, node)| (*id, node.schema.clone(), node.estimate.rows));
        let begin = |planner: &mut Self| match &shared {
            None => planner.source(source),
            Some((id, schema, rows)) => {
                planner.leaf(ReadTable { table: *id }, schema.clone(), *rows, "the rows before")
            }
        };
        let sensitive = composite.others.iter().any(|(c, _)| {
            matches!(
                c,
                Conjunction::Union { all: true }
                    | Conjunction::Except { all: true }
                    | Conjunction::Intersect { all: true }
                    | Conjunction::Otherwise
            )
        });
        let is_set = !sensitive && self.may(Rule::DistinctParts);
        let part = |linear: &Linear| if is_set { distinct_rows(linear) } else { linear.clone() };
        let input = begin(self);
        let (mut node, mut columns) =
            self.linear(&part(&composite.first), input, source, sensitive, false)?;
        for (conjunction, linear) in &composite.others {
            let linear = &part(linear);
            let input = begin(self);
            let (right, others) = self.linear(linear, input, source, sensitive, false)?;
            let (Some(left_columns), Some(right_columns)) = (&mut columns, &others) else {
                return Err(
                    Diagnostic::syntax(linear.span, "both sides need a result").hint("end each with RETURN")
                );
            };
            // Columns belong together by their names.
            let mut order = vec![];
            let mut kinds = vec![];
            let mut schema = Schema::default();
            for (slot, column) in left_columns.iter_mut().enumerate() {
                let place = right_columns.iter().position(|c| c.name == column.name).ok_or_else(|| {
                    Diagnostic::syntax(linear.span, format!("this result has no column {}", column.name))
                })?;
                order.push(place);
                let mine = node.schema.variables[slot].kind;
                let same = mine == right.schema.variables[place].kind;
                let kind = if same { mine } else { VariableKind::Value };
                if !same {
                    column.kind = ColumnKind::Value;
                }
                kinds.push(kind_vector(kind));
                schema.push(node.schema.variables[slot].name.clone(), kind);
            }
            let (l, r) = (node.estimate.rows, right.estimate.rows);
            let estimate = Estimate {
                rows: match conjunction {
                    Conjunction::Union { .. } => l + r,
                    Conjunction::Intersect { .. } => l.min(r),
                    Conjunction::Except { .. } | Conjunction::Otherwise => l,
                },
                cost: node.estimate.cost + right.estimate.cost + l + r,
                basis: Basis::Input,
                source: "its two sides".into(),
            };
            let plan = Combine { conjunction: *conjunction, order, kinds };
            node = self.node(plan, vec![node, right], schema, estimate);
        }
        if let Some((id, source)) = table {
            let (schema, mut estimate) = (node.schema.clone(), node.estimate.clone());
            estimate.cost += source.estimate.cost;
            node = self.node(WithTable { table: id }, vec![source, node], schema, estimate);
        }
        Ok((node, columns))
    }

    fn linear(
        &mut self, linear: &Linear, input: PlanNode, source: &Source, multiplicity: bool, exists: bool,
    ) -> Outcome<(PlanNode, Option<Vec<ColumnInfo>>)> {
        let around = Around { outer: source.outer(), multiplicity, ..Around::default() };
        let PlannedRows { node, columns } = self.clauses(input, &linear.clauses, &around)?;
        let ended =
            matches!(linear.clauses.last(), Some(Clause::Return(_) | Clause::Finish | Clause::Nested(_)));
        let node = if ended || exists { node } else { self.no_result(node) };
        Ok((node, columns))
    }

    /// `{ query }` as what a linear query begins with: its columns are variables from there on.
    pub(super) fn nested(&mut self, input: PlanNode, query: &Query, around: &Around) -> Outcome<PlannedRows> {
        let fresh = input.schema.len() == 0 && around.outer == 0;
        if fresh {
            let (node, columns) = self.compose(query, &Source::Start, false)?;
            return Ok(PlannedRows { node, columns });
        }
        let before = input.schema.len();
        let node = self.call(input, false, None, query, query.span)?;
        let columns = node.schema.variables[before..]
            .iter()
            .map(|v| ColumnInfo { name: v.name.to_string(), kind: column_kind(v.kind) });
        let columns: Vec<ColumnInfo> = columns.collect();
        let slots: Vec<usize> = (before..node.schema.len()).collect();
        let mut schema = Schema::default();
        for &slot in &slots {
            schema.push(node.schema.variables[slot].name.clone(), node.schema.variables[slot].kind);
        }
        let estimate = node.estimate.clone();
        let shown = columns.iter().map(|c| c.name.clone()).collect::<Vec<_>>().join(", ");
        let node = self.node(ReturnRows { slots: Some(slots), shown }, vec![node], schema, estimate);
        Ok(PlannedRows { node, columns: Some(columns) })
    }

    /// A query for each row; its columns are added to the row.
    pub(super) fn call(
        &mut self, input: PlanNode, optional: bool, imports: Option<&[Name]>, query: &Query, span: Span,
    ) -> Outcome<PlanNode> {
        let mut seen = input.schema.clone();
        if let Some(names) = imports {
            for slot in 0..seen.len() {
                if !names.iter().any(|n| n.text == seen.variables[slot].name) {
                    seen.rename(slot, "#unseen");
                }
            }
        }
        let inner = self.within(&input, &seen, query, false)?;
        let shown = self.text_of(span);
        if inner.added.is_empty() {
            // It has no result: its changes are made, and the row goes on.
            let estimate = Estimate {
                rows: input.estimate.rows,
                cost: input.estimate.cost + input.estimate.rows * inner.node.estimate.cost,
                basis: Basis::Input,
                source: "the rows it is called for".into(),
            };
            let schema = input.schema.clone();
            let plan = ForRows { inner: Arc::new(inner.node), shown };
            return Ok(self.node(plan, vec![input], schema, estimate));
        }
        let mut schema = input.schema.clone();
        let mut added_vectors = vec![];
        for &slot in &inner.added {
            let variable = &inner.node.schema.variables[slot];
            schema.push(variable.name.clone(), variable.kind);
            added_vectors.push(kind_vector(variable.kind));
        }
        let per_row = if inner.row_slot.is_some() { 1.0 } else { input.estimate.rows };
        let estimate = Estimate {
            rows: (inner.node.estimate.rows * per_row).max(if optional { input.estimate.rows } else { 0.1 }),
            cost: input.estimate.cost + inner.node.estimate.cost * per_row,
            basis: inner.node.estimate.basis,
            source: inner.node.estimate.source.clone(),
        };
        let plan = PerRow {
            inner: Arc::new(inner.node),
            row_slot: inner.row_slot,
            invariant: inner.invariant,
            added: inner.added,
            added_vectors,
            otherwise: inner.otherwise,
            optional,
            shown,
        };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    /// A query that sees the rows of `outer`, their columns as `seen` names them.
    fn within(
        &mut self, outer: &PlanNode, seen: &Schema, query: &Query, exists: bool,
    ) -> Outcome<WithinClause> {
        // What it names itself is gone behind it.
        let (known, found) = (self.known.clone(), self.found.clone());
        let planned = self.plan_within(outer, seen, query, exists);
        (self.known, self.found) = (known, found);
        planned
    }

    fn plan_within(
        &mut self, outer: &PlanNode, seen: &Schema, query: &Query, exists: bool,
    ) -> Outcome<WithinClause> {
        let reads = query_variables(query);
        let correlated = seen.variables.iter().any(|v| reads.contains(&v.name)) || reads.contains("*");
        if correlated
            && let Some(clauses) = row_by_row(query, exists).filter(|_| self.may(Rule::SubqueryPerBatch))
        {
            return self.per_batch(outer, seen, clauses, exists);
        }
        if correlated
            && !exists
            && self.may(Rule::AggregatePerBatch)
            && let Some((clauses, result)) = aggregated_by_row(query)
            && let Some(within) = self.aggregated_per_batch(outer, seen, clauses, result)?
        {
            return Ok(within);
        }
        let source = if correlated { Source::Row(seen.clone()) } else { Source::Start };
        let (node, columns) = self.compose(query, &source, exists)?;
        let added = if columns.is_some() { (0..node.schema.len()).collect() } else { vec![] };
        let invariant = !correlated && !query.changes() && self.may(Rule::SubqueryOnce);
        Ok(WithinClause { node, row_slot: None, added, invariant, otherwise: None })
    }

    /// The outer rows of a batch with their numbers, which are in the slot behind their columns.
    fn numbered(&mut self, outer: &PlanNode, seen: &Schema) -> (PlanNode, usize) {
        let mut schema = seen.clone();
        let name = self.hidden("row");
        let row_slot = schema.push(name, VariableKind::Value);
        (self.leaf(OuterRows { numbered: true }, schema, outer.estimate.rows, "the outer rows"), row_slot)
    }

    /// A query of which each row goes back to one outer row, for many of them at once.
    fn per_batch(
        &mut self, outer: &PlanNode, seen: &Schema, clauses: &[Clause], exists: bool,
    ) -> Outcome<WithinClause> {
        let (argument, row_slot) = self.numbered(outer, seen);
        let before = argument.schema.len();
        let mut around = Around { multiplicity: !exists, outer: before, ..Around::default() };
        let (rest, items) = match clauses.split_last() {
            Some((Clause::Return(result), rest)) => (rest, Some(result)),
            _ => (clauses, None),
        };
        if let Some(result) = items {
            around.needed = clause_variables(&Clause::Return(result.clone()));
        }
        let rows = self.clauses(argument, rest, &around)?;
        let (node, added) = match items {
            Some(result) if !exists => {
                let projected = self.items(rows.node, &result.items, before)?;
                (projected.node, projected.slots)
            }
            _ => (rows.node, vec![]),
        };
        // Whether there is one is all that is asked.
        let node = match (exists, node.plan.once(row_slot)) {
            (true, Some(plan)) if self.may(Rule::ExistsOnce) => PlanNode { plan, ..node },
            _ => node,
        };
        Ok(WithinClause { node, row_slot: Some(row_slot), added, invariant: false, otherwise: None })
    }

    /// A query that has one row, of aggregates, for each outer row. `None` where its items say more than that.
    fn aggregated_per_batch(
        &mut self, outer: &PlanNode, seen: &Schema, clauses: &[Clause], result: &Return,
    ) -> Outcome<Option<WithinClause>> {
        let (argument, row_slot) = self.numbered(outer, seen);
        let around = Around {
            needed: clause_variables(&Clause::Return(result.clone())),
            multiplicity: !insensitive(result, &group_names(&argument.schema, clauses)),
            outer: argument.schema.len(),
        };
        let rows = self.clauses(argument, clauses, &around)?.node;
        let Some(nothing) = of_no_rows(&result.items, &rows.schema) else { return Ok(None) };
        let otherwise =
            nothing.iter().map(|e| self.compile(e, &Schema::default())).collect::<Outcome<_>>()?;
        let Projected { node, slots, .. } = self.group_by_outer_row(rows, row_slot, result)?;
        // The number is the one key.
        Ok(Some(WithinClause {
            node,
            row_slot: Some(0),
            added: slots,
            invariant: false,
            otherwise: Some(otherwise),
        }))
    }

    /// Computes every EXISTS and VALUE in the expressions as a column.
    pub(super) fn subqueries(
        &mut self, mut node: PlanNode, expressions: &[&Expression],
    ) -> Outcome<(PlanNode, Computed)> {
        let mut found = vec![];
        expressions.iter().for_each(|e| find_subqueries(e, &mut found));
        let mut computed: Computed = vec![];
        for e in found {
            if computed.iter().any(|(known, _)| *known == e.kind) {
                continue;
            }
            let shown = self.text_of(e.span);
            let (query, exists) = match &e.kind {
                ExpressionKind::Exists(query) => (query, true),
                ExpressionKind::Subquery(query) => (query, false),
                _ => continue,
            };
            let seen = node.schema.clone();
            let inner = self.within(&node, &seen, query, exists)?;
            let per_row = if inner.row_slot.is_some() { 1.0 } else { node.estimate.rows };
            let estimate = Estimate {
                rows: node.estimate.rows,
                cost: node.estimate.cost + inner.node.estimate.cost * per_row,
                basis: Basis::Fact,
                source: "one row for each of the input's".into(),
            };
            let mut schema = node.schema.clone();
            if exists {
                let name = self.hidden("exists");
                let slot = schema.push(name, VariableKind::Value);
                let WithinClause { node: inner, row_slot, invariant, .. } = inner;
                let plan = CheckExists { inner: Arc::new(inner), row_slot, invariant, shown };
                node = self.node(plan, vec![node], schema, estimate);
                computed.push((e.kind.clone(), slot));
                continue;
            }
            let [added] = inner.added[..] else {
                return Err(Diagnostic::syntax(e.span, "VALUE { ... } returns one column"));
            };
            let kind = inner.node.schema.variables[added].kind;
            let name = self.hidden("value");
            let slot = schema.push(name, kind);
            let plan = FetchValue {
                added,
                vector: kind_vector(kind),
                row_slot: inner.row_slot,
                invariant: inner.invariant,
                otherwise: inner.otherwise.map(|mut columns| columns.remove(0)),
                inner: Arc::new(inner.node),
                shown,
                span: e.span,
            };
            node = self.node(plan, vec![node], schema, estimate);
            computed.push((e.kind.clone(), slot));
        }
        Ok((node, computed))
    }

    /// Several MATCHes that are found together or not at all.
    pub(super) fn optional_block(
        &mut self, input: PlanNode, clauses: &[Clause], usage: Use,
    ) -> Outcome<PlanNode> {
        let mut schema = input.schema.clone();
        let numbered = self.may(Rule::SubqueryPerBatch);
        let name = self.hidden("row");
        let row_slot = numbered.then(|| schema.push(name, VariableKind::Value));
        let argument = self.leaf(OuterRows { numbered }, schema, input.estimate.rows, "the outer rows");
        let around = Around { needed: usage.needed, multiplicity: usage.multiplicity, outer: 0 };
        let inner = self.clauses(argument, clauses, &around)?.node;
        let names: Vec<Name> = clauses.iter().flat_map(matched_names).collect();
        Ok(self.optional(input, inner, row_slot, &names))
    }

    pub(super) fn optional_match(
        &mut self, input: PlanNode, patterns: &[GraphPattern], usage: Use,
    ) -> Outcome<PlanNode> {
        let clauses: Vec<Clause> = patterns
            .iter()
            .map(|p| Clause::Match { optional: false, pattern: p.clone(), span: Span::default() })
            .collect();
        self.optional_block(input, &clauses, usage)
    }

    fn optional(
        &mut self, input: PlanNode, inner: PlanNode, row_slot: Option<usize>, names: &[Name],
    ) -> PlanNode {
        let mut schema = input.schema.clone();
        let (mut added, mut added_vectors) = (vec![], vec![]);
        let mut taken: Vec<Arc<str>> = vec![];
        for name in names {
            if input.schema.slot(&name.text).is_some() || taken.contains(&name.text) {
                continue;
            }
            if let Some(slot) = inner.schema.slot(&name.text) {
                let kind = inner.schema.variables[slot].kind;
                schema.push(name.text.clone(), kind);
                added.push(slot);
                added_vectors.push(kind_vector(kind));
                taken.push(name.text.clone());
            }
        }
        let estimate = Estimate {
            rows: input.estimate.rows.max(inner.estimate.rows),
            cost: input.estimate.cost + inner.estimate.cost,
            basis: inner.estimate.basis,
            source: inner.estimate.source.clone(),
        };
        let plan = PerRow {
            inner: Arc::new(inner),
            row_slot,
            invariant: false,
            added,
            added_vectors,
            otherwise: None,
            optional: true,
            shown: "optional".into(),
        };
        self.node(plan, vec![input], schema, estimate)
    }
}

/// A query within another: its plan, the slots of its columns, and how it goes with the outer rows.
struct WithinClause {
    node: PlanNode,
    /// Where its rows say which outer row of the batch they are for; without it runs once a row.
    row_slot: Option<usize>,
    added: Vec<usize>,
    /// It does not look at the outer rows: once is enough.
    invariant: bool,
    /// What its columns are for an outer row without a row of it, where it has one for each.
    otherwise: Option<Vec<Expr>>,
}

/// The same with its rows made distinct, where that is not another result: one that is cut has other rows then.
fn distinct_rows(linear: &Linear) -> Linear {
    let mut linear = linear.clone();
    if let Some(Clause::Return(result)) = linear.clauses.last_mut() {
        let plain = result.items.iter().all(|item| !item.expression.contains_aggregate());
        let grouped = result.group_by.is_some() || result.having.is_some();
        let Page { order, offset, limit } = &result.page;
        result.distinct |= plain && !grouped && order.is_empty() && offset.is_none() && limit.is_none();
    }
    linear
}

fn matched_names(clause: &Clause) -> Vec<Name> {
    match clause {
        Clause::Match { pattern, .. } => pattern_variables(pattern).into_iter().map(|(n, _)| n).collect(),
        Clause::Optional { clauses, .. } => clauses.iter().flat_map(matched_names).collect(),
        _ => vec![],
    }
}

/// The clauses of a query in which each row goes back to one outer row.
fn row_by_row(query: &Query, exists: bool) -> Option<&[Clause]> {
    let linear = query.only()?;
    let simple = linear.clauses.iter().all(|clause| match clause {
        Clause::Return(result) => {
            let page = &result.page;
            !result.distinct
                && !result.items.is_empty()
                && result.group_by.is_none()
                && result.having.is_none()
                && page.limit.is_none()
                && page.offset.is_none()
                && (exists || page.order.is_empty())
                && !result.items.iter().any(|i| i.expression.contains_aggregate())
        }
        other => goes_back_to_one_row(other),
    });
    simple.then_some(&linear.clauses[..])
}

/// The clauses of a query that ends in aggregates of its rows and nothing else, and its result.
fn aggregated_by_row(query: &Query) -> Option<(&[Clause], &Return)> {
    let linear = query.only()?;
    let (Clause::Return(result), clauses) = linear.clauses.split_last()? else { return None };
    let simple = clauses.iter().all(goes_back_to_one_row);
    let Page { order, offset, limit } = &result.page;
    let whole = order.is_empty() && offset.is_none() && limit.is_none();
    let alone = !result.distinct && result.group_by.is_none() && result.having.is_none();
    (simple && whole && alone && !result.items.is_empty()).then_some((clauses, result))
}

fn goes_back_to_one_row(clause: &Clause) -> bool {
    matches!(
        clause,
        Clause::Match { .. }
            | Clause::Optional { .. }
            | Clause::Filter(_)
            | Clause::Let(_)
            | Clause::For { .. }
    )
}
