//! Patterns: what their variables are, inside and outside repetitions, and what their conditions see.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use graphodrome_graph::{Direction, Element, LabelExpression};

use crate::Diagnostic;
use crate::ast::*;
use crate::check::{Bound, Checker};
use crate::scope::{VariableKind, conditional_variables, pattern_variables, term_variables};

impl Checker<'_> {
    pub(super) fn pattern(&mut self, pattern: &GraphPattern) {
        let before = self.scope.clone();
        self.bind_pattern(pattern);
        for path in &pattern.paths {
            let guarded = !pattern.repeatable
                || path.search != PathSearch::All
                || path.mode.is_some_and(|m| m != PathMode::Walk);
            self.term(&path.term, guarded);
            if let Some(weight) = &path.weight {
                let outer = self.scope.clone();
                self.open_groups(&path.term, VariableKind::single);
                self.expression(weight, false);
                self.scope = outer;
            }
        }
        if let Some(condition) = &pattern.condition {
            self.condition(condition);
        }
        if let Some(names) = &pattern.yields {
            let bound: BTreeSet<Arc<str>> =
                pattern_variables(pattern).into_iter().map(|(name, _)| name.text).collect();
            for name in names.iter().filter(|n| !bound.contains(&n.text)) {
                self.found.push(Diagnostic::unknown(
                    name.span,
                    format!("the pattern binds no variable {}", name.text),
                ));
            }
            self.scope.retain(|name, _| {
                before.contains_key(name) || names.iter().any(|n| n.text == *name) || !bound.contains(name)
            });
        }
    }

    /// Binds a pattern's variables, each always the same kind.
    fn bind_pattern(&mut self, pattern: &GraphPattern) {
        let labels = labels_in(pattern);
        // Where a name stands: elements in two alternatives of one path are one variable.
        let mut here: Vec<(Arc<str>, usize)> = vec![];
        let conditional: BTreeSet<Arc<str>> =
            pattern.paths.iter().flat_map(|p| conditional_variables(&p.term)).collect();
        for (path_number, path) in pattern.paths.iter().enumerate() {
            let own = path.variable.iter().map(|n| (n.clone(), VariableKind::Path));
            let alternatives =
                path.term.elements.iter().any(|e| !matches!(e, PathElement::Node(_) | PathElement::Edge(..)));
            for (name, kind) in own.chain(term_variables(&path.term)) {
                let bound = Bound { labels: labels.get(&name.text).cloned(), ..Bound::of(kind) };
                let seen = here.iter().any(|(n, _)| *n == name.text);
                let in_this_path = here.iter().any(|(n, p)| *n == name.text && *p == path_number);
                match self.scope.get_mut(&name.text) {
                    None => {
                        self.scope.insert(name.text.clone(), bound);
                    }
                    Some(before) if before.kind != kind => {
                        let message = format!(
                            "{} is {} and cannot be {} too",
                            name.text,
                            before.kind.describe(),
                            kind.describe()
                        );
                        self.found.push(Diagnostic::syntax(name.span, message).hint("choose another name"));
                    }
                    // The same list in two alternatives of a path.
                    Some(_) if kind.is_group() && in_this_path && alternatives => {}
                    Some(_) if !matches!(kind, VariableKind::Node | VariableKind::Edge) => {
                        let message = format!("{} is bound already and is {}", name.text, kind.describe());
                        self.found.push(Diagnostic::syntax(name.span, message).hint("choose another name"));
                    }
                    Some(_) if conditional.contains(&name.text) && !(in_this_path && alternatives) => {
                        self.found.push(
                            Diagnostic::syntax(
                                name.span,
                                format!("{} may be left unbound and cannot join two patterns", name.text),
                            )
                            .hint("use two names and compare them in WHERE"),
                        );
                    }
                    Some(before) => {
                        if before.labels.is_none() {
                            before.labels = bound.labels;
                        }
                        if kind == VariableKind::Edge && seen && !pattern.repeatable && !alternatives {
                            self.found.push(Diagnostic::warning(
                                graphodrome_graph::Code::SYNTAX,
                                name.span,
                                format!("the edge {} stands twice in one MATCH, which takes no edge twice: nothing can match", name.text),
                            ));
                        }
                    }
                }
                here.push((name.text, path_number));
            }
        }
    }

    fn term(&mut self, term: &PathTerm, guarded: bool) {
        for element in &term.elements {
            match element {
                PathElement::Node(node) => self.filter(&node.filter, Element::Node),
                PathElement::Edge(edge, quantifier) => {
                    self.edge_direction(edge);
                    self.quantifier(quantifier, guarded);
                    let outer = quantifier.map(|_| self.scope.clone());
                    if let (Some(name), true) = (&edge.filter.variable, outer.is_some()) {
                        let labels = edge.filter.labels.as_ref().map(|l| l.0.clone());
                        self.scope
                            .insert(name.text.clone(), Bound { labels, ..Bound::of(VariableKind::Edge) });
                    }
                    self.filter(&edge.filter, Element::Edge);
                    if let Some(outer) = outer {
                        self.scope = outer;
                    }
                }
                PathElement::Group(group) => {
                    self.quantifier(
                        &group.quantifier,
                        guarded || group.mode.is_some_and(|m| m != PathMode::Walk),
                    );
                    let outer = self.scope.clone();
                    if group.quantifier.is_some() {
                        // What an inner quantifier binds is a list here too.
                        self.open_groups(&group.term, |kind| kind);
                    }
                    if let Some(name) = &group.variable {
                        self.scope.insert(name.text.clone(), Bound::of(VariableKind::Path));
                    }
                    self.term(&group.term, guarded || group.mode.is_some_and(|m| m != PathMode::Walk));
                    if let Some(condition) = &group.condition {
                        self.condition(condition);
                    }
                    self.scope = outer;
                }
                PathElement::Alternatives(alternatives) => {
                    alternatives.branches.iter().for_each(|b| self.term(b, guarded));
                }
            }
        }
    }

    /// Inside a quantifier its variables are what `seen` makes of them.
    fn open_groups(&mut self, term: &PathTerm, seen: impl Fn(VariableKind) -> VariableKind) {
        let labels = term_labels(term);
        for (name, kind) in term_variables(term) {
            let labels = labels.get(&name.text).cloned();
            self.scope.insert(name.text, Bound { labels, ..Bound::of(seen(kind)) });
        }
    }

    /// A warning where no edge with the label has such a direction.
    fn edge_direction(&mut self, edge: &EdgePattern) {
        let Some((LabelExpression::Name(label), _)) = &edge.filter.labels else { return };
        let (known, what, write) = match edge.direction {
            Direction::Out | Direction::In | Direction::OutOrIn => {
                (&self.known.undirected, "undirected", format!("~[:{label}]~ follows undirected edges"))
            }
            Direction::Undirected => {
                (&self.known.directed, "directed", format!("-[:{label}]-> follows directed edges"))
            }
            _ => return,
        };
        if known.contains(label) {
            let text = format!("all edges with the label {label} are {what}: nothing can match");
            let warning = Diagnostic::warning(graphodrome_graph::Code::SYNTAX, edge.span, text);
            self.found.push(warning.hint(write));
        }
    }

    fn quantifier(&mut self, quantifier: &Option<Quantifier>, guarded: bool) {
        if let Some(q) = quantifier
            && q.max.is_none()
            && !guarded
        {
            self.found.push(
                Diagnostic::syntax(q.span, "with REPEATABLE ELEMENTS an open repetition could go on for ever")
                    .hint("give an upper bound {1,5}, a path mode (TRAIL, ACYCLIC, SIMPLE) or a search (ANY, ANY SHORTEST, ALL SHORTEST)"),
            );
        }
    }

    fn filter(&mut self, filter: &ElementFilter, element: Element) {
        if let Some((_, names)) = &filter.labels {
            names.iter().for_each(|name| self.label(name, element));
        }
        let labels = filter.labels.as_ref().map(|l| &l.0);
        for (property, value) in &filter.properties {
            self.property(property, Some(element), labels);
            let class = self.expression(value, false);
            self.float_equality(value, &property.text, element, labels);
            let held = self.property_class(&property.text, element, labels);
            self.comparable(held, class, property.span.to(value.span));
        }
        if let Some(condition) = &filter.condition {
            self.condition(condition);
        }
    }
}

/// The first label expression of each variable in a pattern.
fn labels_in(pattern: &GraphPattern) -> BTreeMap<Arc<str>, LabelExpression> {
    let mut found = BTreeMap::new();
    for path in &pattern.paths {
        for (name, labels) in term_labels(&path.term) {
            found.entry(name).or_insert(labels);
        }
    }
    found
}

fn term_labels(term: &PathTerm) -> BTreeMap<Arc<str>, LabelExpression> {
    let mut found = BTreeMap::new();
    let mut add = |filter: &ElementFilter| {
        if let (Some(name), Some((labels, _))) = (&filter.variable, &filter.labels) {
            found.entry(name.text.clone()).or_insert_with(|| labels.clone());
        }
    };
    let mut inner = vec![];
    for element in &term.elements {
        match element {
            PathElement::Node(node) => add(&node.filter),
            PathElement::Edge(edge, _) => add(&edge.filter),
            PathElement::Group(group) => inner.push(term_labels(&group.term)),
            PathElement::Alternatives(a) => inner.extend(a.branches.iter().map(term_labels)),
        }
    }
    for map in inner {
        for (name, labels) in map {
            found.entry(name).or_insert(labels);
        }
    }
    found
}
