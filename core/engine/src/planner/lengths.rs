//! Paths of which only the length is read (rule `lengths-alone`): which they are, and the shortest one that says as much as all.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::Value;
use graphodrome_language::ast::*;
use graphodrome_language::{clause_variables, expression_variables, term_expressions, term_variables};

use crate::compile::length_of;
use crate::planner::pattern_graph::PatternGraph;
use crate::planner::state::{Planner, Use};
use crate::rules::Rule;

/// The expression without its path lengths: what it reads of a path beside them it still reads.
fn without_lengths(e: &Expression) -> Expression {
    fn take(e: &mut Expression) {
        match length_of(e) {
            Some(_) => e.kind = ExpressionKind::Literal(Value::Null),
            None => e.each_part_mut(&mut take),
        }
    }
    let mut e = e.clone();
    take(&mut e);
    e
}

/// Variables of an expression that are read otherwise than for their lengths.
fn read_whole(e: &Expression) -> BTreeSet<Arc<str>> {
    expression_variables(&without_lengths(e))
}

/// Of the variables that these clauses read, those of which they read PATH_LENGTH alone.
pub(super) fn lengths_alone(
    clauses: &[Clause], needed: &BTreeSet<Arc<str>>, outside: &BTreeSet<Arc<str>>,
) -> BTreeSet<Arc<str>> {
    let mut whole = outside.clone();
    for clause in clauses {
        let mut clause = clause.clone();
        let mut take = |e: &mut Expression| *e = without_lengths(e);
        match &mut clause {
            Clause::Filter(condition) => take(condition),
            Clause::Let(items) => items.iter_mut().for_each(|(_, e)| take(e)),
            Clause::Return(result) => {
                result.items.iter_mut().for_each(|item| take(&mut item.expression));
                result.having.iter_mut().for_each(&mut take);
                result.page.order.iter_mut().for_each(|key| take(&mut key.expression));
            }
            _ => {}
        }
        whole.extend(clause_variables(&clause));
    }
    match whole.contains("*") {
        true => BTreeSet::new(),
        false => needed.difference(&whole).cloned().collect(),
    }
}

impl Planner<'_> {
    /// ANY SHORTEST in place of ALL SHORTEST, where one path says as much as all of its length.
    pub(super) fn one_of_equals(
        &self, path: &PathPattern, pattern: &GraphPattern, usage: &Use,
    ) -> Option<PathPattern> {
        let all = path.search == PathSearch::AllShortest && path.weight.is_none();
        if !all || usage.multiplicity || !self.may(Rule::LengthsAlone) {
            return None;
        }
        let mut read: BTreeSet<Arc<str>> = pattern.condition.iter().flat_map(read_whole).collect();
        read.extend(usage.needed.difference(&usage.lengths).cloned());
        let nodes = |element: &PathElement| matches!(element, PathElement::Node(_));
        let elements = &path.term.elements;
        let inner = elements.get(1..elements.len().saturating_sub(1)).unwrap_or_default().to_vec();
        let plain = elements.first().is_some_and(nodes) && elements.last().is_some_and(nodes);
        let inside = term_variables(&PathTerm { elements: inner }).into_iter().map(|(name, _)| name.text);
        let names: Vec<Arc<str>> = inside.chain(path.variable.iter().map(|name| name.text.clone())).collect();
        let mut named = BTreeSet::new();
        // What the path's own elements ask for is asked of every path before one is chosen.
        for other in pattern.paths.iter().filter(|other| !std::ptr::eq(*other, path)) {
            term_expressions(&other.term, &mut |e| named.extend(expression_variables(e)));
            named.extend(other.weight.iter().flat_map(expression_variables));
        }
        let is_read = |name: &Arc<str>| read.contains(name) || named.contains(name) || read.contains("*");
        if !plain || names.iter().any(is_read) {
            return None;
        }
        Some(PathPattern { search: PathSearch::AnyShortest, ..path.clone() })
    }

    /// Paths of which only the length is read, by the pattern's conditions and by what comes after it.
    pub(super) fn lengths_of(&self, graph: &PatternGraph, usage: &Use) -> BTreeSet<Arc<str>> {
        if !self.may(Rule::LengthsAlone) {
            return BTreeSet::new();
        }
        let conditions = graph.conditions.iter().map(|condition| &condition.expression);
        let mut whole: BTreeSet<Arc<str>> = conditions.flat_map(read_whole).collect();
        whole.extend(graph.steps.iter().flat_map(|step| step.needs.iter().cloned()));
        let lengths = graph.paths.iter().map(|path| &path.name).filter(|name| usage.lengths.contains(*name));
        lengths.filter(|name| !whole.contains(*name)).cloned().collect()
    }
}
