//! RETURN: computing, grouping, distinctness, order and page.

use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::expression_variables;

use crate::compile::expression_kind;
use crate::compile::{Compiler, Computed};
use crate::operators::{AttachRow, Compute, Distinct, Filter, Order, ReturnRows, SortSpec};
use crate::outcome::Outcome;
use crate::plan::{ColumnInfo, PlanNode, Schema};
use crate::planner::aggregates::has_row_aggregate;
use crate::planner::state::Planner;
use crate::planner::state::{Around, Projected, column_kind};
use crate::profile::{Basis, Estimate};
use crate::rules::Rule;

impl Planner<'_> {
    /// Expressions as columns after what is there; slots below `outer` are no part of `*`.
    pub(super) fn items(
        &mut self, input: PlanNode, items: &[ReturnItem], outer: usize,
    ) -> Outcome<Projected> {
        let items = if items.is_empty() { all_variables(&input.schema, outer) } else { items.to_vec() };
        let expressions: Vec<&Expression> = items.iter().map(|i| &i.expression).collect();
        let (node, computed) = self.subqueries(input, &expressions)?;
        let before = node.schema.clone();
        self.project(node, &before, &items, &computed, false)
    }

    /// Computes items from what is in the first slots, those of `before`; `node` may have more.
    pub(super) fn project(
        &mut self, node: PlanNode, before: &Schema, items: &[ReturnItem], computed: &Computed, grouped: bool,
    ) -> Outcome<Projected> {
        let mut schema = node.schema.clone();
        let (mut expressions, mut slots, mut columns) = (vec![], vec![], vec![]);
        for item in items {
            let compiler = Compiler { grouped, ..self.compiler(before, computed) };
            let compiled = compiler.expression(&item.expression)?;
            let kind = expression_kind(&compiled, before);
            columns.push(ColumnInfo { name: item.name.to_string(), kind: column_kind(kind) });
            // An item's name hides a variable of the same name from here on.
            slots.push(schema.push(item.name.clone(), kind));
            expressions.push(compiled);
        }
        let estimate = node.estimate.clone();
        let shown = items.iter().map(|i| i.name.to_string()).collect::<Vec<_>>().join(", ");
        let node = match expressions.is_empty() {
            true => node,
            false => self.node(Compute { expressions, shown: shown.clone() }, vec![node], schema, estimate),
        };
        Ok(Projected { node, slots, columns, shown })
    }

    pub(super) fn result(&mut self, input: PlanNode, result: &Return, around: &Around) -> Outcome<Projected> {
        let items = match result.items.is_empty() {
            true => all_variables(&input.schema, around.outer),
            false => result.items.clone(),
        };
        let distinct_rows;
        let result = match self.may(Rule::KeysAlone) && groups_by_its_items(result, &items, &input.schema) {
            true => {
                distinct_rows = Return { distinct: true, group_by: None, ..result.clone() };
                &distinct_rows
            }
            false => result,
        };
        let projected = self.result_of(input, result, &items, around)?;
        // From here on a name is what the item was.
        let (known, found) = (std::mem::take(&mut self.known), std::mem::take(&mut self.found));
        for item in &items {
            let ExpressionKind::Variable(name) = &item.expression.kind else { continue };
            if let Some(of) = known.get(name) {
                self.known.insert(item.name.clone(), of.clone());
            }
            if let Some(node) = found.get(name) {
                self.found.insert(item.name.clone(), *node);
            }
        }
        Ok(projected)
    }

    fn result_of(
        &mut self, input: PlanNode, result: &Return, items: &[ReturnItem], around: &Around,
    ) -> Outcome<Projected> {
        let is_aggregate = |e: &Expression| has_row_aggregate(e, &input.schema);
        let grouped = result.group_by.is_some()
            || result.having.is_some()
            || items.iter().any(|i| is_aggregate(&i.expression))
            || result.page.order.iter().any(|k| is_aggregate(&k.expression));
        let outer = Schema { variables: input.schema.variables[..around.outer].to_vec() };
        let input_schema = input.schema.clone();
        let (mut node, mut computed) = if grouped {
            let (node, computed) = self.group(input, result, items)?;
            self.beside_outer(node, computed, outer)
        } else {
            let keys = result.page.order.iter().map(|k| &k.expression);
            let expressions: Vec<&Expression> = items.iter().map(|i| &i.expression).chain(keys).collect();
            self.subqueries(input, &expressions)?
        };
        if let Some(having) = &result.having {
            let (with, more) = self.subqueries(node, &[having])?;
            computed.extend(more);
            let compiled =
                self.compiler(&with.schema, &computed).expression(&renamed(having, items, &input_schema))?;
            let schema = with.schema.clone();
            let estimate = Estimate { rows: (with.estimate.rows * 0.4).max(1.0), ..with.estimate.clone() };
            let shown = self.shown(having);
            node = self.node(Filter { conditions: vec![compiled], shown }, vec![with], schema, estimate);
        }
        if grouped {
            let left: Vec<&Expression> = items
                .iter()
                .map(|i| &i.expression)
                .filter(|e| !computed.iter().any(|(known, _)| *known == e.kind))
                .collect();
            let (with, more) = self.subqueries(node, &left)?;
            computed.extend(more);
            node = with;
        }
        let mut apart = false;
        if result.distinct && !grouped && result.having.is_none() {
            (node, apart) = self.distinct_beforehand(node, result, items, &computed);
        }
        let bounds = self.bounds(&result.page)?;
        let before = node.schema.clone();
        let first_rows = bounds.1.is_some() && !result.page.order.is_empty();
        let may_wait = first_rows && !grouped && !result.distinct && self.may(Rule::LateItems);
        let is_late: Vec<bool> =
            items.iter().map(|item| may_wait && !is_ordered_by(item, &result.page)).collect();
        let taken = |wanted: bool| -> Vec<ReturnItem> {
            items.iter().zip(&is_late).filter(|(_, late)| **late == wanted).map(|(i, _)| i.clone()).collect()
        };
        let (sooner, later) = (taken(false), taken(true));
        let Projected { mut node, slots, columns, shown } =
            self.project(node, &before, &sooner, &computed, grouped)?;
        let schema = node.schema.clone();
        if result.distinct && !apart {
            let merges = !grouped && computed.is_empty() && reads_its_items(&result.page, items);
            node = self.made_distinct(node, (&slots, &shown), &sooner, merges);
        }
        if !result.page.order.is_empty() {
            // An expression that repeats an item word for word is that item.
            let mut known = computed.clone();
            for (item, slot) in sooner.iter().zip(&slots) {
                known.push((item.expression.kind.clone(), *slot));
            }
            let within = seen_within(&schema, &before, result.distinct);
            node = self.order(node, (&result.page.order, &within), &schema, &known, bounds)?;
        }
        node = self.cut(node, bounds);
        let mut projected = Projected { node, slots, columns, shown };
        if !later.is_empty() {
            // The later items see what the earlier ones saw, and no more: not the columns made since.
            let mut seen = projected.node.schema.clone();
            (before.len()..seen.len()).for_each(|slot| seen.rename(slot, "#unseen"));
            let rest = self.project(projected.node, &seen, &later, &computed, false)?;
            let mut slots = [projected.slots.into_iter(), rest.slots.into_iter()];
            let mut columns = [projected.columns.into_iter(), rest.columns.into_iter()];
            let next = |late: &bool| Some((slots[*late as usize].next()?, columns[*late as usize].next()?));
            let (slots, columns) = is_late.iter().filter_map(next).unzip();
            let shown = items.iter().map(|i| i.name.to_string()).collect::<Vec<_>>().join(", ");
            projected = Projected { node: rest.node, slots, columns, shown };
        }
        let Projected { node, slots, columns, shown } = projected;
        let schema = node.schema.clone();
        let estimate = node.estimate.clone();
        let mut final_schema = Schema::default();
        for slot in &slots {
            let variable = &schema.variables[*slot];
            final_schema.push(variable.name.clone(), variable.kind);
        }
        let all = (0..slots.len()).collect();
        let plan = ReturnRows { slots: Some(slots), shown: shown.clone() };
        let node = self.node(plan, vec![node], final_schema, estimate);
        Ok(Projected { node, slots: all, columns, shown })
    }

    /// Rows of which DISTINCT keeps each once, made so before their items are; and whether they are distinct then.
    fn distinct_beforehand(
        &mut self, node: PlanNode, result: &Return, items: &[ReturnItem], computed: &Computed,
    ) -> (PlanNode, bool) {
        let (mut node, mut apart) = (node, false);
        if self.may(Rule::TrianglesOnce) {
            let keys: Vec<&Expression> = result.page.order.iter().map(|k| &k.expression).collect();
            (node, apart) = self.triangles_once(node, items, &keys);
        }
        match !apart && computed.is_empty() && reads_its_items(&result.page, items) {
            true => self.distinct_by_node(node, items),
            false => (node, apart),
        }
    }

    /// Each row once, by the items' slots; `merges` says that nothing else is read of the rows from here on.
    fn made_distinct(
        &mut self, mut node: PlanNode, (slots, shown): (&[usize], &str), items: &[ReturnItem], merges: bool,
    ) -> PlanNode {
        if merges {
            node = self.merged_for_distinct(node);
        }
        let keys: Vec<&Expression> = items.iter().map(|item| &item.expression).collect();
        let (rows, basis, source) = match self.distinct_rows(node.estimate.rows, &keys) {
            Some(rows) => (rows, Basis::Histogram, "the distinct values of its columns"),
            None => (node.estimate.rows * 0.5, Basis::Guess, "a guess of half"),
        };
        let cost = node.estimate.cost + node.estimate.rows;
        let estimate = Estimate { rows: rows.max(1.0), cost, basis, source: source.into() };
        let plan = Distinct { slots: slots.to_vec(), shown: shown.into() };
        let schema = node.schema.clone();
        self.node(plan, vec![node], schema, estimate)
    }

    /// The rows around a query within another one are the same for all of its groups.
    fn beside_outer(
        &mut self, node: PlanNode, mut computed: Computed, outer: Schema,
    ) -> (PlanNode, Computed) {
        if outer.len() == 0 {
            return (node, computed);
        }
        computed.iter_mut().for_each(|(_, slot)| *slot += outer.len());
        let mut schema = outer;
        for variable in &node.schema.variables {
            schema.push(variable.name.clone(), variable.kind);
        }
        let estimate = node.estimate.clone();
        (self.node(AttachRow, vec![node], schema, estimate), computed)
    }

    pub(super) fn order(
        &mut self, input: PlanNode, (order, within): (&[SortKey], &Schema), schema: &Schema,
        computed: &Computed, (offset, limit): (usize, Option<usize>),
    ) -> Outcome<PlanNode> {
        let mut with_keys = schema.clone();
        let mut expressions = vec![];
        let mut keys = vec![];
        let mut shown = vec![];
        for key in order {
            // A bare name is looked up as a name first: the items' names come last in the schema.
            let bare = matches!(key.expression.kind, ExpressionKind::Variable(_));
            let none = vec![];
            let (seen, known) = if bare { (schema, &none) } else { (within, computed) };
            let compiled = self.compiler(seen, known).expression(&key.expression)?;
            let name = self.hidden("sort");
            let slot = with_keys.push(name, expression_kind(&compiled, schema));
            expressions.push(compiled);
            let nulls_first = key.nulls_first.unwrap_or(key.descending);
            keys.push(SortSpec { slot, descending: key.descending, nulls_first });
            let direction = if key.descending { " descending" } else { "" };
            shown.push(format!("{}{direction}", self.shown(&key.expression)));
        }
        let estimate = input.estimate.clone();
        let shown = shown.join(", ");
        let node = self.node(
            Compute { expressions, shown: shown.clone() },
            vec![input],
            with_keys.clone(),
            estimate,
        );
        let first = limit.filter(|_| self.may(Rule::TopRows)).map(|limit| limit.saturating_add(offset));
        let rows = node.estimate.rows;
        let estimate = Estimate {
            rows: first.map_or(rows, |f| rows.min(f as f64)),
            cost: node.estimate.cost + rows * rows.max(2.0).log2(),
            basis: node.estimate.basis,
            source: node.estimate.source.clone(),
        };
        Ok(self.node(Order { keys, first, shown }, vec![node], with_keys, estimate))
    }
}

/// Whether the order of a page needs the item. Where only the first rows are wanted, others are read of those alone.
fn is_ordered_by(item: &ReturnItem, page: &Page) -> bool {
    page.order.iter().any(|key| {
        key.expression.kind == item.expression.kind
            || expression_variables(&key.expression).contains(&item.name)
    })
}

/// What an expression of ORDER BY sees: a name is a variable's before it is an item's. Of DISTINCT rows there are items
/// alone.
fn seen_within(with_items: &Schema, variables: &Schema, distinct: bool) -> Schema {
    let mut seen = with_items.clone();
    for slot in variables.len()..seen.len() {
        if !distinct && variables.slot(&with_items.variables[slot].name).is_some() {
            seen.rename(slot, "#unseen");
        }
    }
    seen
}

/// Whether it groups by all of its items and nothing else, and asks nothing of the groups. A name is a variable's before it
/// is an item's.
fn groups_by_its_items(result: &Return, items: &[ReturnItem], schema: &Schema) -> bool {
    let Some(names) = &result.group_by else { return false };
    let is_of = |item: &ReturnItem, name: &Name| match schema.slot(&name.text) {
        Some(_) => matches!(&item.expression.kind, ExpressionKind::Variable(v) if *v == name.text),
        None => item.named && item.name == name.text,
    };
    let plain = |e: &Expression| !e.contains_aggregate();
    result.having.is_none()
        && !items.is_empty()
        && items.iter().all(|item| plain(&item.expression) && names.iter().any(|name| is_of(item, name)))
        && names.iter().all(|name| items.iter().any(|item| is_of(item, name)))
        && result.page.order.iter().all(|key| plain(&key.expression))
}

/// Whether the order of a page reads nothing but items, by their names.
fn reads_its_items(page: &Page, items: &[ReturnItem]) -> bool {
    let is_item = |name: &Arc<str>| items.iter().any(|item| item.name == *name);
    page.order.iter().all(|key| expression_variables(&key.expression).iter().all(is_item))
}

/// The expression with the names of items replaced by the items, but for those that are variables'.
fn renamed(e: &Expression, items: &[ReturnItem], variables: &Schema) -> Expression {
    let mut out = e.clone();
    let named: Vec<&ReturnItem> =
        items.iter().filter(|i| i.named && variables.slot(&i.name).is_none()).collect();
    rename(&mut out, &named);
    out
}

fn rename(e: &mut Expression, items: &[&ReturnItem]) {
    if let ExpressionKind::Variable(name) = &e.kind
        && let Some(item) = items.iter().find(|i| i.name == *name)
    {
        e.kind = item.expression.kind.clone();
        return;
    }
    // An aggregate reads the rows, which know nothing of the items.
    if !matches!(e.kind, ExpressionKind::Aggregate { .. }) {
        e.each_part_mut(&mut |part| rename(part, items));
    }
}

fn all_variables(schema: &Schema, outer: usize) -> Vec<ReturnItem> {
    schema
        .visible()
        .filter(|(slot, _)| *slot >= outer)
        .map(|(_, v)| ReturnItem {
            expression: Expression {
                kind: ExpressionKind::Variable(v.name.clone()),
                span: Default::default(),
            },
            name: v.name.clone(),
            named: true,
        })
        .collect()
}
