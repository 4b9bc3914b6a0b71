//! Clauses that are planned as others that say the same: values named by LET in the place of their names, and patterns that
//! follow each other as one.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_language::ast::*;
use graphodrome_language::{VariableKind, clause_variables, expression_variables, pattern_variables};

use crate::plan::Schema;
use crate::planner::state::has_subquery;

/// Patterns with more elements than that, put together, would be ordered less well than one after the other.
const MOST_ELEMENTS: usize = 19;

/// Puts expressions in the place of variables; `None` for a name means that it stays. `false`, and nothing to be used, where a
/// part has names of its own.
pub(super) fn replace(e: &mut Expression, with: &dyn Fn(&Arc<str>) -> Option<ExpressionKind>) -> bool {
    match &e.kind {
        ExpressionKind::Variable(name) => {
            if let Some(kind) = with(name) {
                e.kind = kind;
            }
            true
        }
        ExpressionKind::Exists(_) | ExpressionKind::Subquery(_) | ExpressionKind::Let(..) => false,
        _ => {
            let mut all = true;
            e.each_part_mut(&mut |part| all &= replace(part, with));
            all
        }
    }
}

/// The clauses with counts of paths, which are never null where a MATCH names them, as counts of rows; `None` where there
/// are none.
pub(super) fn counting_rows(clauses: &[Clause]) -> Option<Vec<Clause>> {
    let (Clause::Return(last), before) = clauses.split_last()? else { return None };
    let mut paths: BTreeSet<&Arc<str>> = BTreeSet::new();
    for clause in before {
        if let Clause::Match { optional: false, pattern, .. } = clause {
            paths.extend(
                pattern.paths.iter().filter_map(|path| path.variable.as_ref()).map(|name| &name.text),
            );
        }
    }
    fn count_rows(e: &mut Expression, paths: &BTreeSet<&Arc<str>>, some: &mut bool) {
        if let ExpressionKind::Aggregate { function: Aggregate::Count, distinct: false, argument, .. } =
            &e.kind
            && matches!(&argument.kind, ExpressionKind::Variable(name) if paths.contains(name))
        {
            e.kind = ExpressionKind::CountAll;
            *some = true;
            return;
        }
        e.each_part_mut(&mut |part| count_rows(part, paths, some));
    }
    if paths.is_empty() {
        return None;
    }
    let mut result = last.clone();
    let mut some = false;
    let mut count = |e: &mut Expression| count_rows(e, &paths, &mut some);
    result.items.iter_mut().for_each(|item| count(&mut item.expression));
    result.having.iter_mut().for_each(&mut count);
    result.page.order.iter_mut().for_each(|key| count(&mut key.expression));
    some.then(|| before.iter().cloned().chain([Clause::Return(result)]).collect())
}

/// The clauses with what LET names written where it is read; `None` where there is nothing to write so.
pub(super) fn without_lets(clauses: &[Clause], schema: &Schema) -> Option<Vec<Clause>> {
    let first = clauses.iter().position(|clause| matches!(clause, Clause::Let(_)))?;
    let simple = |clause: &Clause| match clause {
        Clause::Let(items) => items.iter().all(|(_, e)| !has_subquery(e)),
        Clause::Filter(condition) => !has_subquery(condition),
        _ => false,
    };
    let (Clause::Return(last), between) = clauses[first..].split_last()? else { return None };
    if !between.iter().all(simple) || last.items.is_empty() {
        return None;
    }
    let mut elements: BTreeSet<Arc<str>> = BTreeSet::new();
    let is_element = |kind: VariableKind| matches!(kind, VariableKind::Node | VariableKind::Edge);
    elements.extend(schema.variables.iter().filter(|v| is_element(v.kind)).map(|v| v.name.clone()));
    for clause in &clauses[..first] {
        if let Clause::Match { pattern, .. } = clause {
            let variables = pattern_variables(pattern).into_iter().filter(|(_, kind)| is_element(*kind));
            elements.extend(variables.map(|(name, _)| name.text));
        }
    }
    let mut out = clauses[..first].to_vec();
    let mut left = clauses[first..].to_vec();
    let mut some = false;
    while !left.is_empty() {
        let clause = left.remove(0);
        let Clause::Let(mut items) = clause else {
            out.push(clause);
            continue;
        };
        // One after the other: the next may read the one before.
        let (name, value) = items.remove(0);
        if !items.is_empty() {
            left.insert(0, Clause::Let(items));
        }
        match in_place(&name.text, &value, &left, &elements) {
            Some(rest) => {
                left = rest;
                some = true;
            }
            None => out.push(Clause::Let(vec![(name, value)])),
        }
    }
    some.then_some(out)
}

/// Whether the value is the property of an element.
fn is_property(e: &Expression, elements: &BTreeSet<Arc<str>>) -> bool {
    let ExpressionKind::Property(owner, _) = &e.kind else { return false };
    matches!(&owner.kind, ExpressionKind::Variable(name) if elements.contains(name))
}

/// Whether it is computed of properties and what is given, without more than a few steps.
fn is_computed(e: &Expression, elements: &BTreeSet<Arc<str>>) -> bool {
    use BinaryOperator::{Add, Multiply, Subtract};
    match &e.kind {
        ExpressionKind::Literal(_) | ExpressionKind::Parameter(_) => true,
        ExpressionKind::Binary(Add | Subtract | Multiply, a, b) => {
            is_computed(a, elements) && is_computed(b, elements)
        }
        _ => is_property(e, elements),
    }
}

/// The clauses with the value in the place of the name.
fn in_place(
    name: &Arc<str>, value: &Expression, rest: &[Clause], elements: &BTreeSet<Arc<str>>,
) -> Option<Vec<Clause>> {
    // A property has no error; a computation may have one, and is asked for where the next clause reads it.
    let asked = rest.first().is_some_and(|clause| clause_variables(clause).contains(name));
    let reads_nothing = expression_variables(value).is_empty();
    let may_be = is_property(value, elements) || asked && is_computed(value, elements);
    if reads_nothing || !may_be {
        return None;
    }
    let with = |read: &Arc<str>| (read == name).then(|| value.kind.clone());
    let put = |e: &mut Expression| replace(e, &with);
    let mut rest = rest.to_vec();
    for clause in &mut rest {
        let whole = match clause {
            Clause::Filter(condition) => put(condition),
            Clause::Let(items) => items.iter_mut().all(|(other, e)| other.text != *name && put(e)),
            Clause::Return(result) => in_result(result, name, &put)?,
            _ => false,
        };
        if !whole {
            return None;
        }
    }
    Some(rest)
}

fn in_result(result: &mut Return, name: &Arc<str>, put: &dyn Fn(&mut Expression) -> bool) -> Option<bool> {
    let is_it = |e: &Expression| matches!(&e.kind, ExpressionKind::Variable(read) if read == name);
    // An item of that name is what its name means after it: the variable itself, or nothing is done.
    let as_item = result.items.iter().find(|item| item.name == *name);
    if as_item.is_some_and(|item| !is_it(&item.expression)) {
        return None;
    }
    let is_item = as_item.is_some();
    if !is_item && result.group_by.iter().flatten().any(|key| key.text == *name) {
        return None;
    }
    let mut whole = true;
    for item in &mut result.items {
        item.named |= is_it(&item.expression);
        whole &= put(&mut item.expression);
    }
    for e in result.having.iter_mut().chain(result.page.order.iter_mut().map(|key| &mut key.expression)) {
        let plain = is_item && !e.contains_aggregate();
        if expression_variables(e).contains(name) && !plain {
            whole &= put(e);
        }
    }
    Some(whole)
}

/// Whether two patterns, the one right after the other, may be planned as one.
pub(super) fn may_join(first: &[GraphPattern], next: &GraphPattern) -> bool {
    let plain = |pattern: &GraphPattern| {
        let simple = |element: &PathElement| match element {
            PathElement::Node(_) => true,
            PathElement::Edge(_, quantifier) => quantifier.is_none(),
            PathElement::Group(_) | PathElement::Alternatives(_) => false,
        };
        let path = |path: &PathPattern| {
            let walks = matches!(path.mode, None | Some(PathMode::Walk));
            walks && path.search == PathSearch::All && path.term.elements.iter().all(simple)
        };
        // A name that is new within a subquery must not come to be one of the next pattern.
        let condition = pattern.condition.as_ref().is_none_or(|condition| !has_subquery(condition));
        pattern.yields.is_none() && condition && pattern.paths.iter().all(path)
    };
    let others = |pattern: &GraphPattern| -> BTreeSet<Arc<str>> {
        let variables = pattern_variables(pattern).into_iter();
        variables.filter(|(_, kind)| *kind != VariableKind::Node).map(|(name, _)| name.text).collect()
    };
    let elements =
        |pattern: &GraphPattern| -> usize { pattern.paths.iter().map(|path| path.term.elements.len()).sum() };
    let nodes = |pattern: &GraphPattern| -> BTreeSet<Arc<str>> {
        let variables = pattern_variables(pattern).into_iter();
        variables.filter(|(_, kind)| *kind == VariableKind::Node).map(|(name, _)| name.text).collect()
    };
    let all: usize = first.iter().chain([next]).map(elements).sum();
    plain(next)
        && first.iter().all(|pattern| plain(pattern) && others(pattern).is_disjoint(&others(next)))
        && first.iter().any(|pattern| !nodes(pattern).is_disjoint(&nodes(next)))
        && all <= MOST_ELEMENTS
}
