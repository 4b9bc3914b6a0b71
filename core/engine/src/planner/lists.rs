//! Conditions that list the values of a property: each value becomes a row, for a key or an index to look it up.

use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::{VariableKind, expression_variables};

use crate::operators::ListedValues;
use crate::outcome::Outcome;
use crate::plan::{PlanNode, Schema};
use crate::planner::builder::Builder;
use crate::planner::pattern_graph::variable;
use crate::planner::property_conditions::key_list;
use crate::planner::state::Planner;
use crate::profile::{Basis, Estimate};
use crate::rules::Rule;

impl Planner<'_> {
    /// The waiting condition that lists values of a property, from what `schema` has.
    pub(super) fn listed(
        &self, name: &Arc<str>, property: &str, schema: &Schema, b: &Builder<'_>,
    ) -> Option<usize> {
        if !self.may(Rule::ListedKeys) {
            return None;
        }
        b.graph.conditions.iter().position(|c| {
            c.waits()
                && key_list(&c.expression, name, property)
                    .is_some_and(|list| expression_variables(list).iter().all(|v| schema.slot(v).is_some()))
        })
    }

    /// How many combinations of the values that conditions list there may be.
    pub(super) fn combinations(&self, conditions: &[usize], b: &Builder<'_>) -> f64 {
        let values = |c: &usize| match &b.graph.conditions[*c].expression.kind {
            ExpressionKind::In { list, .. } => self.list_length(list),
            _ => 1.0,
        };
        conditions.iter().map(values).product()
    }

    /// A row for each value of the lists among the conditions, which from then on compare with that value.
    pub(super) fn spread_lists(
        &mut self, mut input: PlanNode, conditions: &[usize], b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        for &c in conditions {
            let condition = &mut b.graph.conditions[c];
            let ExpressionKind::In { operand, list, .. } = &condition.expression.kind else { continue };
            let (operand, list, span) = (operand.clone(), list.clone(), condition.expression.span);
            let name = self.hidden("listed");
            let value = Box::new(variable(&name, span));
            let kind = ExpressionKind::Binary(BinaryOperator::Equal, operand, value);
            condition.expression = Expression { kind, span };
            condition.variables.insert(name.clone());
            let plan = ListedValues { list: self.compile(&list, &input.schema)?, shown: self.shown(&list) };
            let mut schema = input.schema.clone();
            schema.push(name, VariableKind::Value);
            let length = self.list_length(&list);
            let estimate = Estimate {
                rows: input.estimate.rows * length,
                cost: input.estimate.cost + input.estimate.rows * length,
                basis: Basis::Fact,
                source: format!("{length:.0} values"),
            };
            input = self.node(plan, vec![input], schema, estimate);
        }
        Ok(input)
    }
}
