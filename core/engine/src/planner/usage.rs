//! Needs of later clauses: the variables of a MATCH that they read, and whether row multiplicity matters.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::{clause_variables, expression_variables, pattern_variables, read_by_element};

use crate::plan::Schema;
use crate::planner::lengths::lengths_alone;
use crate::planner::state::{Around, Use};

/// What later clauses read of a MATCH, and whether they can tell how often a row comes.
pub(super) fn usage(rest: &[Clause], groups: &GroupNames, around: &Around) -> Use {
    let mut needed = around.needed.clone();
    for clause in rest {
        needed.extend(clause_variables(clause));
    }
    let multiplicity = match rest.last() {
        Some(Clause::Return(result)) => {
            !insensitive(result, groups) && (around.multiplicity || !gives_every_row(result))
        }
        _ => around.multiplicity,
    };
    let plain = rest.iter().all(|c| {
        matches!(
            c,
            Clause::Match { .. }
                | Clause::Optional { .. }
                | Clause::Filter(_)
                | Clause::Let(_)
                | Clause::For { .. }
                | Clause::Return(_)
        )
    });
    let lengths = lengths_alone(rest, &needed, &around.needed);
    let counted = match rest {
        [Clause::Return(result)] => aggregated(result) && !insensitive(result, groups),
        _ => false,
    };
    Use { needed, multiplicity: multiplicity || !plain, counted, lengths }
}

fn aggregated(result: &Return) -> bool {
    result.group_by.is_some()
        || result.having.is_some()
        || result.items.iter().any(|i| i.expression.contains_aggregate())
        || result.page.order.iter().any(|k| k.expression.contains_aggregate())
}

/// Whether a result has each of its rows as often as the row before it comes.
fn gives_every_row(result: &Return) -> bool {
    let whole = result.page.limit.is_none() && result.page.offset.is_none();
    !aggregated(result) && whole && !result.items.is_empty()
}

/// Names of variables that may be lists bound under a quantifier.
pub(super) type GroupNames = BTreeSet<Arc<str>>;

/// Those that stand in the schema, that the clauses bind, and that are made of such.
pub(super) fn group_names(schema: &Schema, clauses: &[Clause]) -> GroupNames {
    fn bound(clauses: &[Clause], groups: &mut GroupNames) {
        for clause in clauses {
            match clause {
                Clause::Match { pattern, .. } => {
                    let variables = pattern_variables(pattern).into_iter();
                    groups.extend(variables.filter(|(_, kind)| kind.is_group()).map(|(name, _)| name.text));
                }
                Clause::Optional { clauses, .. } => bound(clauses, groups),
                Clause::Let(items) => {
                    for (name, value) in items {
                        if expression_variables(value).iter().any(|v| groups.contains(v)) {
                            groups.insert(name.text.clone());
                        }
                    }
                }
                _ => {}
            }
        }
    }
    let variables = schema.variables.iter().filter(|v| v.kind.is_group());
    let mut groups = variables.map(|v| v.name.clone()).collect();
    bound(clauses, &mut groups);
    groups
}

/// Whether a result is the same however often each row comes. An aggregate over a group variable works within the row:
/// with no other the result has every row.
pub(super) fn insensitive(result: &Return, groups: &GroupNames) -> bool {
    let within_row = |argument: &Expression| {
        !argument.contains_aggregate() && read_by_element(argument).iter().any(|v| groups.contains(v))
    };
    fn aggregates<'e>(e: &'e Expression, found: &mut Vec<&'e Expression>) {
        match &e.kind {
            ExpressionKind::CountAll | ExpressionKind::Aggregate { .. } => found.push(e),
            _ => e.each_part(&mut |part| aggregates(part, found)),
        }
    }
    let mut found = vec![];
    result.items.iter().for_each(|i| aggregates(&i.expression, &mut found));
    let among_items = found.len();
    result.page.order.iter().for_each(|k| aggregates(&k.expression, &mut found));
    result.having.iter().for_each(|having| aggregates(having, &mut found));
    let of_rows = |e: &Expression| match &e.kind {
        ExpressionKind::Aggregate { argument, .. } => !within_row(argument),
        _ => true,
    };
    let only_once = |e: &Expression| match &e.kind {
        ExpressionKind::Aggregate { function, distinct, .. } => {
            *distinct || matches!(function, Aggregate::Min | Aggregate::Max)
        }
        _ => false,
    };
    let aggregated = result.group_by.is_some()
        || result.having.is_some()
        || found[..among_items].iter().any(|e| of_rows(e));
    let insensitive = found.iter().all(|e| !of_rows(e) || only_once(e));
    !result.items.is_empty() && (result.distinct || aggregated) && insensitive
}
