//! Joins of two parts of a pattern that are planned apart: on equalities, on comparisons, or each row with each.

use graphodrome_language::ast::*;
use graphodrome_language::{Span, expression_variables};

use crate::expression::{Expr, Kind};
use crate::operators::*;
use crate::outcome::Outcome;
use crate::plan::{PlanNode, Schema};
use crate::planner::builder::*;
use crate::planner::pattern_graph::{Condition, StepKind};
use crate::planner::state::Planner;
use crate::profile::{Basis, Estimate};
use crate::rules::Rule;

/// Shares of the pairs that pass comparisons with a bound on one side, and on both: guesses.
const ABOVE_A_BOUND: f64 = 0.5;
const WITHIN_BOUNDS: f64 = 0.05;

/// Rows with equal values from which on it pays to order them by what else is compared.
const MANY_EQUAL: f64 = 1.5;

/// A comparison between an expression of one part and one of the other.
struct Compared<'e> {
    /// Of the part that is kept.
    kept: &'e Expression,
    operator: BinaryOperator,
    given: &'e Expression,
    span: Span,
    /// Which condition says so.
    condition: usize,
}

/// The comparisons that a join in order of values answers.
struct InOrder<'e> {
    kept: JoinSide,
    comparisons: Vec<Compared<'e>>,
    two_sided: bool,
}

fn turned(operator: BinaryOperator) -> Option<BinaryOperator> {
    use BinaryOperator::*;
    Some(match operator {
        Equal => Equal,
        Less => Greater,
        LessOrEqual => GreaterOrEqual,
        Greater => Less,
        GreaterOrEqual => LessOrEqual,
        _ => return None,
    })
}

fn is_upper(operator: BinaryOperator) -> bool {
    matches!(operator, BinaryOperator::Less | BinaryOperator::LessOrEqual)
}

/// The comparisons of a condition, each as operator and two sides.
fn comparisons(condition: &Expression) -> Vec<(BinaryOperator, &Expression, &Expression)> {
    match &condition.kind {
        ExpressionKind::Binary(operator, a, b) if turned(*operator).is_some() => vec![(*operator, a, b)],
        ExpressionKind::Between { operand, low, high, negated: false } => {
            vec![(BinaryOperator::GreaterOrEqual, operand, low), (BinaryOperator::LessOrEqual, operand, high)]
        }
        _ => vec![],
    }
}

fn reads_only(e: &Expression, schema: &Schema) -> bool {
    let variables = expression_variables(e);
    !variables.is_empty() && variables.iter().all(|v| schema.slot(v).is_some())
}

/// What waiting conditions say of values of `kept` by values of `given`.
fn across<'e>(conditions: &'e [Condition], kept: &Schema, given: &Schema) -> Vec<Compared<'e>> {
    let mut found = vec![];
    for (condition, stated) in conditions.iter().enumerate().filter(|(_, c)| c.waits()) {
        let span = stated.expression.span;
        for (operator, a, b) in comparisons(&stated.expression) {
            if reads_only(a, kept) && reads_only(b, given) {
                found.push(Compared { kept: a, operator, given: b, span, condition });
            } else if let Some(operator) = turned(operator)
                && reads_only(b, kept)
                && reads_only(a, given)
            {
                found.push(Compared { kept: b, operator, given: a, span, condition });
            }
        }
    }
    found
}

/// The equalities, and the comparisons of the one value that has the most bounds.
fn in_order<'e>(
    conditions: &'e [Condition], kept: JoinSide, sides: (&Schema, &Schema),
) -> Option<InOrder<'e>> {
    let (equal, ranges): (Vec<Compared<'e>>, Vec<Compared<'e>>) =
        across(conditions, sides.0, sides.1).into_iter().partition(|c| c.operator == BinaryOperator::Equal);
    let of = |value: &Expression| ranges.iter().filter(|c| c.kept == value).collect::<Vec<_>>();
    let sided = |value: &Expression| {
        let bounds = of(value);
        bounds.iter().any(|c| is_upper(c.operator)) && bounds.iter().any(|c| !is_upper(c.operator))
    };
    // The first written of those that are alike.
    let best = ranges.iter().rev().max_by_key(|c| (sided(c.kept), of(c.kept).len()))?.kept.clone();
    let two_sided = sided(&best);
    let of_best = ranges.into_iter().filter(|c| *c.kept == best);
    Some(InOrder { kept, comparisons: equal.into_iter().chain(of_best).collect(), two_sided })
}

impl Planner<'_> {
    /// Joins two parts: on the equalities and comparisons that connect them, or each row with each.
    pub(super) fn join(
        &mut self, mut left: PlanNode, mut right: PlanNode, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        // Rows are counted for each of the first part.
        let read_of = |schema: &Schema| schema.variables.iter().any(|v| b.usage.needed.contains(&v.name));
        if b.outer == 0 && b.usage.counted && read_of(&right.schema) && !read_of(&left.schema) {
            std::mem::swap(&mut left, &mut right);
        }
        let mut schema = left.schema.clone();
        for variable in &right.schema.variables {
            schema.push(variable.name.clone(), variable.kind);
        }
        let apart = self.apart(&left.schema, &right.schema, b);
        let joined = match self.range_join(&left, &right, b)? {
            Some((plan, estimate)) => self.node(plan, vec![left, right], schema.clone(), estimate),
            None => self.equal_join(left, right, schema.clone(), b)?,
        };
        if apart.is_empty() {
            return Ok(joined);
        }
        let estimate = joined.estimate.clone();
        let plan = Filter { conditions: apart, shown: "no edge twice".into() };
        Ok(self.node(plan, vec![joined], schema, estimate))
    }

    /// On equalities, or each row with each.
    fn equal_join(
        &mut self, left: PlanNode, right: PlanNode, schema: Schema, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        let conditions = &b.graph.conditions;
        let mut keys = across(conditions, &right.schema, &left.schema);
        keys.retain(|c| c.operator == BinaryOperator::Equal && self.may(Rule::HashJoin));
        let (l, r) = (left.estimate.rows, right.estimate.rows);
        let cost = left.estimate.cost + right.estimate.cost;
        if keys.is_empty() {
            let source = "every row with every row".into();
            let estimate = Estimate { rows: l * r, cost: cost + l * r, basis: Basis::Input, source };
            return Ok(self.node(CrossJoin { counting: None }, vec![left, right], schema, estimate));
        }
        let compiled = |side: &Schema, of: fn(&Compared<'_>) -> Expression| {
            keys.iter().map(|c| self.compile(&of(c), side)).collect::<Outcome<Vec<Expr>>>()
        };
        let left_keys = compiled(&left.schema, |c| c.given.clone())?;
        let right_keys = compiled(&right.schema, |c| c.kept.clone())?;
        let shown: Vec<String> =
            keys.iter().map(|c| self.shown(&conditions[c.condition].expression)).collect();
        let (rows, basis, source) = match self.values_of(&keys) {
            Some(values) => ((l * r / values).max(1.0), Basis::Histogram, "the distinct values of its keys"),
            None => (l.max(r), Basis::Guess, "as many as the larger side"),
        };
        let done: Vec<usize> = keys.iter().map(|c| c.condition).collect();
        done.into_iter().for_each(|condition| b.graph.conditions[condition].done = true);
        let estimate = Estimate { rows, cost: cost + l + r, basis, source: source.into() };
        let kept = if l < r { JoinSide::Left } else { JoinSide::Right };
        let plan = HashJoin { left_keys, right_keys, kept, counting: None, shown: shown.join(" AND ") };
        Ok(self.node(plan, vec![left, right], schema, estimate))
    }

    /// How many different values equal keys have, where that is known.
    fn values_of(&self, keys: &[Compared<'_>]) -> Option<f64> {
        let of_both = |c: &Compared<'_>| {
            let (a, b) = (self.distinct_values(c.given)?, self.distinct_values(c.kept)?);
            Some(a.max(b).max(1.0))
        };
        keys.iter().map(of_both).product()
    }

    /// In the order of a value that comparisons bound, where there is one.
    fn range_join(
        &mut self, left: &PlanNode, right: &PlanNode, b: &mut Builder<'_>,
    ) -> Outcome<Option<(RangeJoin, Estimate)>> {
        if !self.may(Rule::RangeJoin) {
            return Ok(None);
        }
        let conditions = &b.graph.conditions;
        let (l, r) = (left.estimate.rows, right.estimate.rows);
        let of_right = in_order(conditions, JoinSide::Right, (&right.schema, &left.schema));
        let of_left = in_order(conditions, JoinSide::Left, (&left.schema, &right.schema));
        let worth = |found: &InOrder<'_>| {
            // What is counted is counted for each row of the first part.
            let counts = b.usage.counted && found.kept == JoinSide::Right;
            let smaller = if l < r { JoinSide::Left } else { JoinSide::Right };
            (found.two_sided, counts, found.kept == smaller)
        };
        let Some(found) = of_right.into_iter().chain(of_left).max_by_key(worth) else { return Ok(None) };
        let ranges = found.comparisons.iter().filter(|c| c.operator != BinaryOperator::Equal).count();
        let (equal, _) = found.comparisons.split_at(found.comparisons.len() - ranges);
        let pairs = match (equal.is_empty(), self.values_of(equal)) {
            (true, _) => l * r,
            (false, Some(values)) => l * r / values,
            (false, None) => l.max(r),
        };
        let of_kept = if found.kept == JoinSide::Left { r } else { l };
        if !equal.is_empty() && self.may(Rule::HashJoin) && pairs / of_kept.max(1.0) < MANY_EQUAL {
            return Ok(None);
        }
        let (kept, given) = match found.kept {
            JoinSide::Left => (&left.schema, &right.schema),
            JoinSide::Right => (&right.schema, &left.schema),
        };
        let (mut values, mut compared) = (vec![], vec![]);
        for c in &found.comparisons {
            // The comparisons behind the equalities are all of one value.
            let value = values.len().min(equal.len());
            if value == values.len() {
                values.push(self.compile(c.kept, kept)?);
            }
            let given = self.compile(c.given, given)?;
            compared.push(Comparison { value, operator: c.operator, given, span: c.span });
        }
        let mut taken: Vec<usize> = found.comparisons.iter().map(|c| c.condition).collect();
        let shown: Vec<String> = {
            let mut shown = taken.clone();
            shown.dedup();
            shown.iter().map(|&place| self.shown(&conditions[place].expression)).collect()
        };
        let share = if found.two_sided { WITHIN_BOUNDS } else { ABOVE_A_BOUND };
        let rows = (pairs * share).max(1.0);
        let cost = left.estimate.cost + right.estimate.cost;
        let sorted = (l + r) * l.min(r).max(2.0).log2();
        let source = "a guess: a part of the pairs lies within the bounds".into();
        let estimate = Estimate { rows, cost: cost + sorted + rows, basis: Basis::Guess, source };
        let plan = RangeJoin {
            values,
            comparisons: compared,
            kept: found.kept,
            shown: shown.join(" AND "),
            counting: None,
            once: None,
        };
        // A condition of which only a part was taken is tested again.
        taken.retain(|&place| {
            let parts = comparisons(&conditions[place].expression).len();
            taken_times(&found.comparisons, place) == parts
        });
        taken.into_iter().for_each(|place| b.graph.conditions[place].done = true);
        Ok(Some((plan, estimate)))
    }

    /// Conditions that no edge is in both of two parts planned apart.
    fn apart(&self, left: &Schema, right: &Schema, b: &Builder<'_>) -> Vec<Expr> {
        let mut conditions = vec![];
        let place = |step: usize, schema: &Schema| match &b.graph.steps[step].kind {
            StepKind::Edge { name, .. } => schema.slot(name),
            StepKind::Search(search) => schema.slot(&search.path),
        };
        let taking: Vec<usize> =
            (0..b.graph.steps.len()).filter(|&s| b.done[s] && takes_part(&b.graph.steps[s])).collect();
        for &x in &taking {
            for &y in &taking {
                if let (Some(l), Some(r)) = (place(x, left), place(y, right))
                    && b.graph.apart(x, y)
                    && self.overlap(x, y, b)
                {
                    let kind = Kind::NoSharedEdge(l, left.len() + r);
                    conditions.push(Expr { kind, span: Default::default() });
                }
            }
        }
        conditions
    }
}

fn taken_times(comparisons: &[Compared<'_>], condition: usize) -> usize {
    comparisons.iter().filter(|c| c.condition == condition).count()
}
