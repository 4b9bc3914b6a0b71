//! Conditions that look at one node alone, with the answers that are known.

use std::sync::Arc;

use graphodrome_graph::Dense;

use crate::answers::NodeAnswers;
use crate::counters::Counters;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::outcome::Outcome;
use crate::row::Row;
use crate::scope::Scope;

/// A condition with its answers.
pub(crate) struct OfNode<'e> {
    condition: &'e Expr,
    answers: Arc<NodeAnswers>,
}

impl<'e> OfNode<'e> {
    /// Where the condition reads nothing but the node in `slot`, and what is the same for the whole query.
    pub fn of(condition: &'e Expr, slot: usize, scope: &Scope) -> Option<OfNode<'e>> {
        if !scope.known_nodes {
            return None;
        }
        let mut slots = vec![];
        condition.slots(&mut slots);
        if slots.is_empty() || slots.iter().any(|read| *read != slot) {
            return None;
        }
        Some(OfNode { condition, answers: scope.answers.of(condition, scope.node_bound()) })
    }

    pub fn condition(&self) -> &'e Expr {
        self.condition
    }

    /// Whether `node` passes, which is in the condition's slot of `row`.
    #[inline]
    pub fn holds(&self, node: Dense, row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Outcome<bool> {
        if let Some(passes) = self.answers.get(node) {
            return Ok(passes);
        }
        let passes = holds(self.condition, row, scope, counters)?;
        self.answers.put(node, passes, &scope.budget);
        Ok(passes)
    }
}
