//! Grouping: the keys of the groups, the aggregates of their rows, and how the rows below may be fewer.

use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, VariableKind, expression_variables};

use crate::compile::Computed;
use crate::compile::expression_kind;
use crate::expression::{Expr, Kind};
use crate::operators::{
    AggregateSpec, CountTriangles, CountWalks, FollowEdges, Group, IntersectEdges, ScanNodes,
};
use crate::outcome::Outcome;
use crate::plan::{Counting, PlanNode, Schema};
use crate::planner::aggregates::*;
use crate::planner::merge::{count_rows, is_weighed, remember_counts, takes_weights};
use crate::planner::state::Projected;
use crate::planner::state::{Planner, kind_vector};
use crate::profile::{Basis, Estimate};
use crate::rules::{Rule, Rules};

impl Planner<'_> {
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
    pub(super) fn group(
        &mut self, input: PlanNode, result: &Return, items: &[ReturnItem],
    ) -> Outcome<(PlanNode, Computed)> {
        let mut within: Vec<&Expression> =
            (items.iter().map(|i| &i.expression)).filter(|e| !has_row_aggregate(e, &input.schema)).collect();
        for item in items {
            collect_aggregates(&item.expression, &input.schema, &mut within);
        }
        let (input, subqueries) = self.subqueries(input, &within)?;
        let named = group_keys(result, items, &input.schema)?;
        let estimate = self.groups(&input, &named);
        let mut shown = match named.iter().map(|(_, name)| name.to_string()).collect::<Vec<_>>().join(", ") {
            names if names.is_empty() => "all rows".into(),
            names => format!("by {names}"),
        };
        let keys = self.keys_by_node(&input, named.clone());
        if keys != named {
            let names: Vec<&str> = keys.iter().map(|(_, name)| &**name).collect();
            shown = format!("{shown}, told apart by {}", names.join(", "));
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
            // A name that is another item's, too, is that item once the items are there.
            let is_others = |item: &ReturnItem| item.name == name && item.expression.kind != *kind;
            let is_items = public && items.iter().any(is_others);
            let slot = schema.push(name, variable);
            if !is_items {
                computed.push((kind.clone(), slot));
            }
            key_expressions.push(compiled);
            key_vectors.push(kind_vector(variable));
        }
        let mut specs = vec![];
        for aggregate in asked_aggregates(result, items, &input.schema) {
            if computed.iter().any(|(known, _)| *known == aggregate.kind) {
                continue;
            }
            specs.push(self.aggregate(aggregate, &input, &subqueries)?);
            let name = self.hidden("aggregate");
            computed.push((aggregate.kind.clone(), schema.push(name, VariableKind::Value)));
        }
        let input = self.fewer_rows(input, &key_expressions, &mut specs);
        let plan = Group { keys: key_expressions, key_vectors, aggregates: specs, shown, parts: None };
        Ok((self.node(plan, vec![input], schema, estimate), computed))
    }

    /// One aggregate of rows.
    fn aggregate(
        &self, aggregate: &Expression, input: &PlanNode, subqueries: &Computed,
    ) -> Outcome<AggregateSpec> {
        let ExpressionKind::Aggregate { function, distinct, argument, second } = &aggregate.kind else {
            let function = Aggregate::Count;
            return Ok(AggregateSpec {
                function,
                distinct: false,
                share: None,
                argument: None,
                weights: vec![],
            });
        };
        let share = self.percentile_share(second.as_deref())?;
        let argument = self.compiler(&input.schema, subqueries).expression(argument)?;
        // What comes once anyway need not be told apart again.
        let once = input.facts.distinct_nodes;
        let distinct = *distinct && !matches!(argument.kind, Kind::Slot(slot) if once == Some(slot));
        Ok(AggregateSpec { function: *function, distinct, share, argument: Some(argument), weights: vec![] })
    }

    /// How many groups there are about.
    fn groups(&self, input: &PlanNode, keys: &[GroupKey]) -> Estimate {
        let rows = input.estimate.rows;
        let cost = input.estimate.cost + rows;
        let of_keys: Vec<Expression> = (keys.iter())
            .map(|(kind, _)| Expression { kind: kind.clone(), span: Default::default() })
            .collect();
        let (rows, basis, source) = match self.distinct_rows(rows, &of_keys.iter().collect::<Vec<_>>()) {
            _ if keys.is_empty() => (1.0, Basis::Fact, "one row"),
            Some(rows) => (rows, Basis::Histogram, "the distinct values of its keys"),
            None => (rows.sqrt(), Basis::Guess, "a guess: the square root of the input's rows"),
        };
        Estimate { rows: rows.max(1.0), cost, basis, source: source.into() }
    }

    /// The input with fewer rows for the same groups: folded, counted or merged, where the aggregates allow it.
    fn fewer_rows(&mut self, input: PlanNode, keys: &[Expr], specs: &mut [AggregateSpec]) -> PlanNode {
        if self.may(Rule::CountOfBound) {
            count_rows(&input, self.scope.graph_type.as_deref(), specs);
        }
        let (input, is_folded) = self.folded(input, keys, specs);
        let input = match self.may(Rule::CountedRows) && !is_folded {
            true => counted(input, keys, specs, self.rules),
            false => input,
        };
        // What a row of a folded search stands for is not to be merged again.
        let mut input = if is_folded { input } else { self.merged(input, keys, specs) };
        if self.may(Rule::KnownCounts) {
            remember_counts(&mut input);
        }
        input
    }
}

/// What is grouped by, and what it is called.
type GroupKey = (ExpressionKind, Arc<str>);

/// The keys of the groups: those that GROUP BY names, or the items without aggregates.
fn group_keys(result: &Return, items: &[ReturnItem], schema: &Schema) -> Outcome<Vec<GroupKey>> {
    let mut keys: Vec<GroupKey> = vec![];
    let mut add_key = |kind: &ExpressionKind, name: &Arc<str>| {
        if !keys.iter().any(|(known, _)| known == kind) {
            keys.push((kind.clone(), name.clone()));
        }
    };
    let names = result.group_by.as_deref();
    for name in names.unwrap_or_default() {
        // A name of an item, or a variable.
        match items.iter().find(|i| i.named && i.name == name.text) {
            Some(item) if schema.slot(&name.text).is_none() => add_key(&item.expression.kind, &item.name),
            _ => add_key(&ExpressionKind::Variable(name.text.clone()), &name.text),
        }
    }
    for item in items.iter().filter(|i| !has_row_aggregate(&i.expression, schema)) {
        let is_grouped_by = |names: &[Name]| {
            let reads = expression_variables(&item.expression);
            names.iter().any(|n| n.text == item.name)
                || reads.iter().all(|v| names.iter().any(|n| n.text == *v))
        };
        if !names.is_none_or(is_grouped_by) {
            return Err(Diagnostic::unknown(
                item.expression.span,
                format!("{} is neither grouped by nor aggregated", item.name),
            )
            .hint("add it to GROUP BY, or put it into an aggregate"));
        }
        add_key(&item.expression.kind, &item.name);
    }
    Ok(keys)
}

/// The aggregates over rows that a result asks for, in its items, its order and its HAVING.
fn asked_aggregates<'e>(result: &'e Return, items: &'e [ReturnItem], schema: &Schema) -> Vec<&'e Expression> {
    let mut found = vec![];
    let items = items.iter().map(|item| &item.expression);
    let keys = result.page.order.iter().map(|key| &key.expression);
    items.chain(keys).chain(&result.having).for_each(|e| collect_aggregates(e, schema, &mut found));
    found
}

/// Where rows are only counted, an operator that can count them instead of making them.
fn counted(input: PlanNode, keys: &[Expr], specs: &mut [AggregateSpec], rules: Rules) -> PlanNode {
    let only_counts = specs.iter().all(|s| s.function == Aggregate::Count && s.argument.is_none());
    let counting = if keys.is_empty() && only_counts { Counting::Together } else { Counting::Each };
    // Nothing but weights says that a row stands for none.
    let weighs = specs.iter().all(takes_weights) && specs.iter().any(is_weighed);
    let (Some(plan), [below, ..], true) = (input.plan.counted(counting), &input.inputs[..], weighs) else {
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
