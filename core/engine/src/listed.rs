//! The hash table of an expression's list.

use graphodrome_graph::Value;

use crate::expression::{Expr, Kind};
use crate::known_list::{KnownList, ListTable};
use crate::scope::Scope;

/// Of a list that is written in the query, whose table the plan has, or that is a parameter; `None` where its values must be
/// compared one by one.
pub(crate) fn known_list<'l>(list: &Expr, table: &'l ListTable, scope: &'l Scope) -> Option<&'l KnownList> {
    if !scope.known_lists {
        return None;
    }
    match &list.kind {
        Kind::Constant(Value::List(items)) => table.of(items),
        Kind::Parameter(number) => match scope.parameters.get(*number)? {
            Value::List(items) => scope.listed.get(*number)?.of(items),
            _ => None,
        },
        _ => None,
    }
}
