//! RETURN: computing, grouping, distinctness, order and page.

use std::sync::Arc;

use graphodrome_graph::Value;
use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, VariableKind, expression_variables, read_by_element};

use crate::compile::{Compiler, Computed};
use crate::context::Outcome;
use crate::expression::{Expr, Kind};
use crate::operators::{
    AggregateSpec, AttachRow, Compute, CountTriangles, CountWalks, Distinct, Filter, FollowEdges, Group,
    IntersectEdges, Order, ReturnRows, ScanNodes, SortSpec,
};
use crate::plan::{ColumnInfo, Counting, PlanNode, Schema};
use crate::planner::compose::{Around, column_kind};
use crate::planner::merge::{count_rows, is_weighed, remember_counts, takes_weights};
use crate::planner::{Planner, kind_vector};
use crate::profile::{Basis, Estimate};
use crate::rules::{Rule, Rules};

/// What a compiled expression yields, as far as a column's form goes.
pub(crate) fn expression_kind(expr: &Expr, schema: &Schema) -> VariableKind {
    match &expr.kind {
        Kind::Slot(slot) => schema.variables.get(*slot).map_or(VariableKind::Value, |v| v.kind),
        Kind::Path(_) => VariableKind::Path,
        _ => VariableKind::Value,
    }
}

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
    fn project(
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
            let compiled = self.compiler(&with.schema, &computed).expression(&renamed(having, items))?;
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
        if result.distinct && !grouped && result.having.is_none() && self.may(Rule::TrianglesOnce) {
            let keys: Vec<&Expression> = result.page.order.iter().map(|k| &k.expression).collect();
            (node, apart) = self.triangles_once(node, items, &keys);
        }
        let bounds = self.bounds(&result.page)?;
        let before = node.schema.clone();
        // Where only the first rows are wanted, what their order does not need is read of those alone.
        let late = |item: &ReturnItem| {
            let needed = |key: &SortKey| {
                key.expression.kind == item.expression.kind
                    || expression_variables(&key.expression).contains(&item.name)
            };
            !result.page.order.iter().any(needed)
        };
        let first_rows = bounds.1.is_some() && !result.page.order.is_empty();
        let may_wait = first_rows && !grouped && !result.distinct && self.may(Rule::LateItems);
        let is_late: Vec<bool> = items.iter().map(|item| may_wait && late(item)).collect();
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
            node = self.order(node, &result.page.order, &schema, &known, bounds)?;
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
        &mut self, input: PlanNode, order: &[SortKey], schema: &Schema, computed: &Computed,
        (offset, limit): (usize, Option<usize>),
    ) -> Outcome<PlanNode> {
        let mut with_keys = schema.clone();
        let mut expressions = vec![];
        let mut keys = vec![];
        let mut shown = vec![];
        for key in order {
            // A bare name is looked up as a name first: the items' names come last in the schema.
            let bare = matches!(key.expression.kind, ExpressionKind::Variable(_));
            let none = vec![];
            let compiled =
                self.compiler(schema, if bare { &none } else { computed }).expression(&key.expression)?;
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

    /// A percentile's share: a number from 0 to 1 that is the same for all rows.
    fn percentile_share(&self, second: Option<&Expression>) -> Outcome<Option<Expr>> {
        second.map(|e| self.compile(e, &Schema::default())).transpose()
    }

    /// Aggregates of the rows of each outer row, whose number is in the slot: a row a number.
    pub(super) fn group_by_outer_row(
        &mut self, input: PlanNode, row_slot: usize, result: &Return,
    ) -> Outcome<Projected> {
        let text = input.schema.variables[row_slot].name.clone();
        let by = Return { group_by: Some(vec![Name { text, span: result.span }]), ..result.clone() };
        let (node, computed) = self.group(input, &by, &result.items)?;
        let before = node.schema.clone();
        self.project(node, &before, &result.items, &computed, true)
    }

    /// The Group operator: keys are the items without aggregates, aggregates each a column.
    fn group(
        &mut self, input: PlanNode, result: &Return, items: &[ReturnItem],
    ) -> Outcome<(PlanNode, Computed)> {
        let is_aggregate = |e: &Expression, schema: &Schema| has_row_aggregate(e, schema);
        let plain: Vec<&Expression> =
            items.iter().map(|i| &i.expression).filter(|e| !is_aggregate(e, &input.schema)).collect();
        let mut within = vec![];
        for item in items {
            collect_aggregates(&item.expression, &input.schema, &mut within);
        }
        let plain = [plain, within].concat();
        let (input, subqueries) = self.subqueries(input, &plain)?;
        let mut keys: Vec<(ExpressionKind, Arc<str>)> = vec![];
        let mut add_key = |kind: &ExpressionKind, name: &Arc<str>| {
            if !keys.iter().any(|(known, _)| known == kind) {
                keys.push((kind.clone(), name.clone()));
            }
        };
        if let Some(names) = &result.group_by {
            for name in names {
                // A name of an item, or a variable.
                match items.iter().find(|i| i.named && i.name == name.text) {
                    Some(item) if input.schema.slot(&name.text).is_none() => {
                        add_key(&item.expression.kind, &item.name)
                    }
                    _ => add_key(&ExpressionKind::Variable(name.text.clone()), &name.text),
                }
            }
            for item in items.iter().filter(|i| !is_aggregate(&i.expression, &input.schema)) {
                let named = names.iter().any(|n| n.text == item.name);
                let reads = expression_variables(&item.expression);
                if named || reads.iter().all(|v| names.iter().any(|n| n.text == *v)) {
                    add_key(&item.expression.kind, &item.name);
                } else {
                    return Err(Diagnostic::unknown(
                        item.expression.span,
                        format!("{} is neither grouped by nor aggregated", item.name),
                    )
                    .hint("add it to GROUP BY, or put it into an aggregate"));
                }
            }
        } else {
            for item in items.iter().filter(|i| !is_aggregate(&i.expression, &input.schema)) {
                add_key(&item.expression.kind, &item.name);
            }
        }
        let mut aggregates: Vec<&Expression> = vec![];
        for item in items {
            collect_aggregates(&item.expression, &input.schema, &mut aggregates);
        }
        for key in &result.page.order {
            collect_aggregates(&key.expression, &input.schema, &mut aggregates);
        }
        if let Some(having) = &result.having {
            collect_aggregates(having, &input.schema, &mut aggregates);
        }
        let mut schema = Schema::default();
        let mut computed: Computed = vec![];
        let (mut key_expressions, mut key_vectors) = (vec![], vec![]);
        for (kind, name) in &keys {
            let expression = Expression { kind: kind.clone(), span: Default::default() };
            let compiled = self.compiler(&input.schema, &subqueries).expression(&expression)?;
            let variable = expression_kind(&compiled, &input.schema);
            let public = matches!(kind, ExpressionKind::Variable(_));
            let name = if public { name.clone() } else { self.hidden("key") };
            computed.push((kind.clone(), schema.push(name, variable)));
            key_expressions.push(compiled);
            key_vectors.push(kind_vector(variable));
        }
        let mut specs = vec![];
        for aggregate in aggregates {
            if computed.iter().any(|(known, _)| *known == aggregate.kind) {
                continue;
            }
            specs.push(match &aggregate.kind {
                ExpressionKind::Aggregate { function, distinct, argument, second } => {
                    let share = self.percentile_share(second.as_deref())?;
                    let argument = self.compiler(&input.schema, &subqueries).expression(argument)?;
                    // What comes once anyway need not be told apart again.
                    let once = input.facts.distinct_nodes;
                    let distinct =
                        *distinct && !matches!(argument.kind, Kind::Slot(slot) if once == Some(slot));
                    AggregateSpec {
                        function: *function,
                        distinct,
                        share,
                        argument: Some(argument),
                        weights: vec![],
                    }
                }
                _ => AggregateSpec {
                    function: Aggregate::Count,
                    distinct: false,
                    share: None,
                    argument: None,
                    weights: vec![],
                },
            });
            let name = self.hidden("aggregate");
            computed.push((aggregate.kind.clone(), schema.push(name, VariableKind::Value)));
        }
        let shown = if keys.is_empty() {
            "all rows".to_string()
        } else {
            let names: Vec<String> = keys.iter().map(|(_, n)| n.to_string()).collect();
            format!("by {}", names.join(", "))
        };
        let rows = input.estimate.rows;
        let cost = input.estimate.cost + rows;
        let of_keys: Vec<Expression> = keys
            .iter()
            .map(|(kind, _)| Expression { kind: kind.clone(), span: Default::default() })
            .collect();
        let (rows, basis, source) = match self.distinct_rows(rows, &of_keys.iter().collect::<Vec<_>>()) {
            _ if keys.is_empty() => (1.0, Basis::Fact, "one row"),
            Some(rows) => (rows, Basis::Histogram, "the distinct values of its keys"),
            None => (rows.sqrt(), Basis::Guess, "a guess: the square root of the input's rows"),
        };
        let estimate = Estimate { rows: rows.max(1.0), cost, basis, source: source.into() };
        if self.may(Rule::CountOfBound) {
            count_rows(&input, self.scope.graph_type.as_deref(), &mut specs);
        }
        let (input, is_folded) = self.folded(input, &key_expressions, &mut specs);
        let input = match self.may(Rule::CountedRows) && !is_folded {
            true => counted(input, &key_expressions, &mut specs, self.rules),
            false => input,
        };
        // What a row of a folded search stands for is not to be merged again.
        let mut input = if is_folded { input } else { self.merged(input, &key_expressions, &mut specs) };
        if self.may(Rule::KnownCounts) {
            remember_counts(&mut input);
        }
        let plan = Group { keys: key_expressions, key_vectors, aggregates: specs, shown, parts: None };
        Ok((self.node(plan, vec![input], schema, estimate), computed))
    }
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

/// Where rows are only counted, an operator that can count them instead of making them.
fn counted(input: PlanNode, keys: &[Expr], specs: &mut [AggregateSpec], rules: Rules) -> PlanNode {
    let only_counts = specs.iter().all(|s| s.function == Aggregate::Count && s.argument.is_none());
    let counting = if keys.is_empty() && only_counts { Counting::Together } else { Counting::Each };
    // Nothing but weights says that a row stands for none.
    let weighs = specs.iter().all(takes_weights) && specs.iter().any(is_weighed);
    let (Some(plan), [below], true) = (input.plan.counted(counting), &input.inputs[..], weighs) else {
        return input;
    };
    let mut read = vec![];
    let arguments = specs.iter().filter_map(|spec| spec.argument.as_ref());
    keys.iter().chain(arguments).for_each(|key| key.slots(&mut read));
    let reads_beyond = |width: usize| read.iter().any(|slot| *slot >= width);
    if reads_beyond(below.schema.len()) {
        return input;
    }
    let mut node = PlanNode { plan, schema: below.schema.clone(), ..input };
    if rules.has(Rule::CountedWalks)
        && let [below] = &node.inputs[..]
        && let [first] = &below.inputs[..]
        && !reads_beyond(first.schema.len())
        && let (Some(close), Some(step)) =
            (node.operator::<IntersectEdges>(), below.operator::<FollowEdges>())
        && let Some(walks) = CountWalks::of(close, step, first.schema.len())
    {
        node.plan = Arc::new(walks);
        node.schema = first.schema.clone();
        // Each first step is looked at, and little else.
        node.estimate.cost = first.estimate.cost + below.estimate.rows;
        node.inputs = node.inputs.remove(0).inputs;
    }
    if rules.has(Rule::CountedTriangles)
        && let [step] = &node.inputs[..]
        && let [scan] = &step.inputs[..]
        && let (Some(close), Some(follow), Some(all)) =
            (node.operator::<IntersectEdges>(), step.operator::<FollowEdges>(), scan.operator::<ScanNodes>())
        && let Some(triangles) = CountTriangles::of(close, follow, all)
    {
        node.plan = Arc::new(triangles);
        node.schema = scan.schema.clone();
        // A few looks at each edge, and in dense parts more.
        node.estimate.cost = scan.estimate.cost + 10.0 * step.estimate.rows;
        node.inputs = node.inputs.remove(0).inputs;
    }
    let weight = node.schema.push("#count", VariableKind::Value);
    specs.iter_mut().filter(|s| is_weighed(s)).for_each(|s| s.weights.push(weight));
    node
}

/// What a result is made of: its rows, the slots of its columns, and these.
pub(super) struct Projected {
    pub node: PlanNode,
    pub slots: Vec<usize>,
    pub columns: Vec<ColumnInfo>,
    pub shown: String,
}

/// The expression with the names of items replaced by the items.
fn renamed(e: &Expression, items: &[ReturnItem]) -> Expression {
    let mut out = e.clone();
    rename(&mut out, items);
    out
}

fn rename(e: &mut Expression, items: &[ReturnItem]) {
    if let ExpressionKind::Variable(name) = &e.kind
        && let Some(item) = items.iter().find(|i| i.named && i.name == *name)
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

/// Whether an aggregate goes over rows: one over a group variable works within the row.
/// The items as they are where there are no rows; `None` where one of them says more than aggregates of rows.
pub(super) fn of_no_rows(items: &[ReturnItem], schema: &Schema) -> Option<Vec<Expression>> {
    fn settle(e: &mut Expression, schema: &Schema) -> bool {
        let value = match &e.kind {
            ExpressionKind::CountAll => Value::Int(0),
            ExpressionKind::Aggregate { function, second: None, .. } if has_row_aggregate(e, schema) => {
                match function {
                    Aggregate::Count => Value::Int(0),
                    Aggregate::CollectList => Value::List(Arc::from([])),
                    _ => Value::Null,
                }
            }
            ExpressionKind::Aggregate { .. }
            | ExpressionKind::Variable(_)
            | ExpressionKind::Exists(_)
            | ExpressionKind::Subquery(_) => return false,
            _ => {
                let mut all = true;
                e.each_part_mut(&mut |part| all &= settle(part, schema));
                return all;
            }
        };
        e.kind = ExpressionKind::Literal(value);
        true
    }
    let one = |item: &ReturnItem| {
        let mut e = item.expression.clone();
        (has_row_aggregate(&e, schema) && settle(&mut e, schema)).then_some(e)
    };
    items.iter().map(one).collect()
}

fn has_row_aggregate(e: &Expression, schema: &Schema) -> bool {
    let mut found = vec![];
    collect_aggregates(e, schema, &mut found);
    !found.is_empty()
}

fn collect_aggregates<'e>(e: &'e Expression, schema: &Schema, found: &mut Vec<&'e Expression>) {
    match &e.kind {
        ExpressionKind::CountAll => found.push(e),
        ExpressionKind::Aggregate { argument, .. } => {
            let over_group = read_by_element(argument)
                .iter()
                .any(|name| schema.slot(name).is_some_and(|slot| schema.variables[slot].kind.is_group()));
            if over_group && !argument.contains_aggregate() {
                return;
            }
            found.push(e);
        }
        _ => e.each_part(&mut |part| collect_aggregates(part, schema, found)),
    }
}
