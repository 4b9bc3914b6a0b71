//! Which variables a pattern binds and which an expression reads.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::ast::*;

/// What a variable stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum VariableKind {
    Node,
    Edge,
    /// Bound under a quantifier: a list outside.
    NodeGroup,
    EdgeGroup,
    Path,
    Value,
}

impl VariableKind {
    pub fn describe(self) -> &'static str {
        match self {
            VariableKind::Node => "a node",
            VariableKind::Edge => "an edge",
            VariableKind::NodeGroup => "a list of nodes",
            VariableKind::EdgeGroup => "a list of edges",
            VariableKind::Path => "a path",
            VariableKind::Value => "a value",
        }
    }

    pub(crate) fn grouped(self) -> VariableKind {
        match self {
            VariableKind::Node => VariableKind::NodeGroup,
            VariableKind::Edge => VariableKind::EdgeGroup,
            other => other,
        }
    }
}

/// Variables of a graph pattern in order of appearance; a name may come more than once.
pub fn pattern_variables(pattern: &GraphPattern) -> Vec<(Name, VariableKind)> {
    let mut found = vec![];
    for path in &pattern.paths {
        if let Some(name) = &path.variable {
            found.push((name.clone(), VariableKind::Path));
        }
        found.extend(term_variables(&path.term));
    }
    found
}

/// Variables of a path term, seen from outside it: those under a quantifier are groups.
pub fn term_variables(term: &PathTerm) -> Vec<(Name, VariableKind)> {
    let mut found = vec![];
    for element in &term.elements {
        match element {
            PathElement::Node(node) => {
                found.extend(node.filter.variable.iter().map(|n| (n.clone(), VariableKind::Node)));
            }
            PathElement::Edge(edge, quantifier) => {
                let kind = VariableKind::Edge;
                let kind = if quantifier.is_some_and(|q| !q.optional) { kind.grouped() } else { kind };
                found.extend(edge.filter.variable.iter().map(|n| (n.clone(), kind)));
            }
            PathElement::Group(group) => {
                let grouped = group.quantifier.is_some_and(|q| !q.optional);
                for (name, kind) in term_variables(&group.term) {
                    found.push((name, if grouped { kind.grouped() } else { kind }));
                }
            }
        }
    }
    found
}

/// Every variable the expression reads from outside itself.
pub fn expression_variables(expression: &Expression) -> BTreeSet<Arc<str>> {
    let mut found = BTreeSet::new();
    collect(expression, &mut found);
    found
}

fn collect(expression: &Expression, found: &mut BTreeSet<Arc<str>>) {
    match &expression.kind {
        ExpressionKind::Variable(name) => {
            found.insert(name.clone());
        }
        ExpressionKind::Exists(pattern) => {
            // Its own variables may name outer ones too; the planner tells which are bound already.
            found.extend(pattern_variables(pattern).into_iter().map(|(name, _)| name.text));
            pattern_expressions(pattern, &mut |e| collect(e, found));
        }
        _ => expression.each_part(&mut |part| collect(part, found)),
    }
}

/// Calls `visit` for every expression in a pattern.
pub(crate) fn pattern_expressions<'p>(pattern: &'p GraphPattern, visit: &mut dyn FnMut(&'p Expression)) {
    for path in &pattern.paths {
        path.weight.iter().for_each(&mut *visit);
        term_expressions(&path.term, visit);
    }
    pattern.condition.iter().for_each(visit);
}

fn term_expressions<'p>(term: &'p PathTerm, visit: &mut dyn FnMut(&'p Expression)) {
    let filter = |f: &'p ElementFilter, visit: &mut dyn FnMut(&'p Expression)| {
        f.properties.iter().for_each(|(_, e)| visit(e));
        f.condition.iter().for_each(visit);
    };
    for element in &term.elements {
        match element {
            PathElement::Node(node) => filter(&node.filter, visit),
            PathElement::Edge(edge, _) => filter(&edge.filter, visit),
            PathElement::Group(group) => {
                term_expressions(&group.term, visit);
                group.condition.iter().for_each(&mut *visit);
            }
        }
    }
}
