//! Aggregates in expressions: which work over rows, and their values for no rows.

use std::sync::Arc;

use graphodrome_graph::Value;
use graphodrome_language::ast::*;
use graphodrome_language::read_by_element;

use crate::plan::Schema;

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

/// Whether an aggregate goes over rows: one over a group variable works within the row.
pub(super) fn has_row_aggregate(e: &Expression, schema: &Schema) -> bool {
    let mut found = vec![];
    collect_aggregates(e, schema, &mut found);
    !found.is_empty()
}

pub(super) fn collect_aggregates<'e>(e: &'e Expression, schema: &Schema, found: &mut Vec<&'e Expression>) {
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
