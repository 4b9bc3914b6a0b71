//! Checking a parsed query before it is planned: every variable is bound where it is read and always
//! the same kind of thing; labels and properties exist (an error in a closed graph, a warning with the
//! nearest known name in an open one); unbounded repetition ends.

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_graph::{Element, GraphType, LabelExpression};

use crate::ast::*;
use crate::scope::{VariableKind, pattern_variables, term_variables};
use crate::{Diagnostic, Severity, nearest};

/// What is known of the graph a query is about.
#[derive(Clone, Debug, Default)]
pub struct Known {
    pub graph_type: Option<Arc<GraphType>>,
    pub node_labels: Vec<Arc<str>>,
    pub edge_labels: Vec<Arc<str>>,
    pub node_properties: Vec<Arc<str>>,
    pub edge_properties: Vec<Arc<str>>,
}

/// All errors and warnings, in the order of the text. `parameters` are the names of those given;
/// `None` where they are not known yet.
pub fn check_query(query: &Query, known: &Known, parameters: Option<&[Arc<str>]>) -> Vec<Diagnostic> {
    let mut checker = Checker { known, parameters, scope: BTreeMap::new(), found: vec![] };
    checker.query(query);
    checker.found.sort_by_key(|d| d.span.start);
    checker.found
}

#[derive(Clone)]
pub(crate) struct Bound {
    pub kind: VariableKind,
    pub labels: Option<LabelExpression>,
}

pub(crate) struct Checker<'k> {
    pub known: &'k Known,
    parameters: Option<&'k [Arc<str>]>,
    pub scope: BTreeMap<Arc<str>, Bound>,
    pub found: Vec<Diagnostic>,
}

impl Checker<'_> {
    fn query(&mut self, query: &Query) {
        let Some(last) = query.clauses.last() else {
            self.found.push(Diagnostic::syntax(query.span, "the query has no clause"));
            return;
        };
        for clause in &query.clauses {
            self.clause(clause);
        }
        let changes = query.clauses.iter().any(|c| {
            matches!(
                c,
                Clause::Insert { .. }
                    | Clause::Upsert { .. }
                    | Clause::Set { .. }
                    | Clause::Remove { .. }
                    | Clause::Delete { .. }
            )
        });
        if !changes && !matches!(last, Clause::Return(_) | Clause::Finish) {
            let end = crate::Span { start: query.span.end, end: query.span.end };
            self.found.push(
                Diagnostic::syntax(end, "the query has no result")
                    .hint("end it with RETURN ..., or with FINISH for none"),
            );
        }
    }

    fn clause(&mut self, clause: &Clause) {
        match clause {
            Clause::Match { pattern, .. } => self.pattern(pattern),
            Clause::Filter(condition) => self.expression(condition, false),
            Clause::Let(items) => {
                for (name, value) in items {
                    self.expression(value, false);
                    self.bind_new(name);
                }
            }
            Clause::For { variable, list, counter } => {
                self.expression(list, false);
                self.bind_new(variable);
                if let Some((name, _)) = counter {
                    self.bind_new(name);
                }
            }
            Clause::Insert { paths, .. } => paths.iter().for_each(|p| self.insert_path(p)),
            Clause::Upsert { paths, items, .. } => {
                paths.iter().for_each(|p| self.insert_path(p));
                items.iter().for_each(|i| self.set_item(i));
            }
            Clause::Set { items, .. } => items.iter().for_each(|i| self.set_item(i)),
            Clause::Remove { items, .. } => {
                for item in items {
                    match item {
                        RemoveItem::Property { variable, property } => self.target(variable, Some(property)),
                        RemoveItem::Label { variable, label } => {
                            self.target(variable, None);
                            self.label_of(variable, label);
                        }
                    }
                }
            }
            Clause::Delete { targets, .. } => {
                for target in targets {
                    self.expression(target, false);
                    if let ExpressionKind::Variable(name) = &target.kind
                        && self.scope.get(name).is_some_and(|b| b.kind == VariableKind::Path)
                    {
                        self.found.push(Diagnostic::syntax(
                            target.span,
                            format!("{name} is a path; only nodes and edges can be deleted"),
                        ));
                    }
                }
            }
            Clause::Page(page) => self.page(page, &[], false),
            Clause::Return(result) => self.result(result),
            Clause::Finish => {}
        }
    }

    fn bind_new(&mut self, name: &Name) {
        if self.scope.contains_key(&name.text) {
            self.found.push(
                Diagnostic::syntax(name.span, format!("{} is bound already", name.text))
                    .hint("choose another name"),
            );
        }
        self.scope.insert(name.text.clone(), Bound { kind: VariableKind::Value, labels: None });
    }

    fn pattern(&mut self, pattern: &GraphPattern) {
        self.bind_pattern(pattern);
        for path in &pattern.paths {
            let guarded = !pattern.repeatable
                || path.search != PathSearch::All
                || path.mode.is_some_and(|m| m != PathMode::Walk);
            self.term(&path.term, guarded);
            if path.mode == Some(PathMode::Walk) && !pattern.repeatable && path.search == PathSearch::All {
                // Within one MATCH no edge comes twice, so that WALK is a trail here.
                continue;
            }
            if let Some(weight) = &path.weight {
                self.weight(path, weight);
            }
        }
        if let Some(condition) = &pattern.condition {
            self.expression(condition, false);
        }
    }

    fn weight(&mut self, path: &PathPattern, weight: &Expression) {
        let outer = self.scope.clone();
        self.open_groups(&path.term);
        self.expression(weight, false);
        self.scope = outer;
    }

    /// Binds a pattern's variables, each always the same kind.
    fn bind_pattern(&mut self, pattern: &GraphPattern) {
        let labels = labels_in(pattern);
        let mut here: Vec<Arc<str>> = vec![];
        for (name, kind) in pattern_variables(pattern) {
            let labelled = labels.get(&name.text).cloned();
            match self.scope.get_mut(&name.text) {
                None => {
                    self.scope.insert(name.text.clone(), Bound { kind, labels: labelled });
                }
                Some(bound)
                    if bound.kind != kind || !matches!(kind, VariableKind::Node | VariableKind::Edge) =>
                {
                    let message = if bound.kind == kind {
                        format!("{} is bound already and is {}", name.text, kind.describe())
                    } else {
                        format!(
                            "{} is {} and cannot be {} too",
                            name.text,
                            bound.kind.describe(),
                            kind.describe()
                        )
                    };
                    self.found.push(Diagnostic::syntax(name.span, message).hint("choose another name"));
                }
                Some(bound) => {
                    if bound.labels.is_none() {
                        bound.labels = labelled;
                    }
                    if kind == VariableKind::Edge && here.contains(&name.text) {
                        self.found.push(Diagnostic::warning(
                            graphodrome_graph::Code::SYNTAX,
                            name.span,
                            format!("the edge {} stands twice in one MATCH, which takes no edge twice: nothing can match", name.text),
                        ));
                    }
                }
            }
            here.push(name.text);
        }
    }

    fn term(&mut self, term: &PathTerm, guarded: bool) {
        for element in &term.elements {
            match element {
                PathElement::Node(node) => self.filter(&node.filter, Element::Node),
                PathElement::Edge(edge, quantifier) => {
                    self.quantifier(quantifier, guarded);
                    let outer = quantifier.map(|_| self.scope.clone());
                    if let (Some(name), true) = (&edge.filter.variable, outer.is_some()) {
                        let labels = edge.filter.labels.as_ref().map(|l| l.0.clone());
                        self.scope.insert(name.text.clone(), Bound { kind: VariableKind::Edge, labels });
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
                    self.open_groups(&group.term);
                    self.term(&group.term, guarded);
                    if let Some(condition) = &group.condition {
                        self.expression(condition, false);
                    }
                    self.scope = outer;
                }
            }
        }
    }

    /// Inside a quantifier its variables are single.
    fn open_groups(&mut self, term: &PathTerm) {
        let labels = term_labels(term);
        let single = |kind| match kind {
            VariableKind::NodeGroup => VariableKind::Node,
            VariableKind::EdgeGroup => VariableKind::Edge,
            other => other,
        };
        for (name, kind) in term_variables(term) {
            let labels = labels.get(&name.text).cloned();
            self.scope.insert(name.text, Bound { kind: single(kind), labels });
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
            self.expression(value, false);
        }
        if let Some(condition) = &filter.condition {
            self.expression(condition, false);
        }
    }

    pub(crate) fn label(&mut self, name: &Name, element: Element) {
        let (known, others) = match element {
            Element::Node => (&self.known.node_labels, &self.known.edge_labels),
            Element::Edge => (&self.known.edge_labels, &self.known.node_labels),
        };
        if known.contains(&name.text) {
            return;
        }
        let message = format!("there is no {element} label {} in this graph", name.text);
        let hint = if others.contains(&name.text) {
            let other = if element == Element::Node { "edges" } else { "nodes" };
            Some(format!("{} is a label of {other}", name.text))
        } else {
            nearest(&name.text, known.iter().map(|l| &**l)).map(|n| format!("did you mean {n}?"))
        };
        self.unknown(name, message, hint);
    }

    /// An error where the graph type says so, a warning where the graph is open.
    fn unknown(&mut self, name: &Name, message: String, hint: Option<String>) {
        let mut diagnostic = Diagnostic::unknown(name.span, message).maybe_hint(hint);
        if self.known.graph_type.is_none() {
            diagnostic.severity = Severity::Warning;
        }
        self.found.push(diagnostic);
    }

    pub(crate) fn property(
        &mut self, name: &Name, element: Option<Element>, labels: Option<&LabelExpression>,
    ) {
        let matching = |element: Element| -> Vec<Arc<str>> {
            let Some(graph_type) = &self.known.graph_type else {
                return match element {
                    Element::Node => self.known.node_properties.clone(),
                    Element::Edge => self.known.edge_properties.clone(),
                };
            };
            let fits = |set: &graphodrome_graph::LabelSet| labels.is_none_or(|l| l.matches(set));
            let types: Vec<_> = match element {
                Element::Node => {
                    graph_type.nodes.iter().filter(|t| fits(&t.labels)).map(|t| &t.properties).collect()
                }
                Element::Edge => {
                    graph_type.edges.iter().filter(|t| fits(&t.labels)).map(|t| &t.properties).collect()
                }
            };
            types.into_iter().flatten().map(|p| p.name.clone()).collect()
        };
        let known = match element {
            Some(element) => matching(element),
            None => [matching(Element::Node), matching(Element::Edge)].concat(),
        };
        // With a label that nothing has, that error is the one to show.
        if known.contains(&name.text)
            || (labels.is_some() && known.is_empty() && self.known.graph_type.is_some())
        {
            return;
        }
        let of = match (element, labels) {
            (Some(element), Some(labels)) => format!("{element} {labels}"),
            (Some(element), None) => format!("any {element}"),
            (None, _) => "any element".into(),
        };
        let mut distinct = known.clone();
        distinct.sort();
        distinct.dedup();
        let near = nearest(&name.text, distinct.iter().map(|p| &**p));
        let hint = match near {
            Some(n) => Some(format!("did you mean {n}?")),
            None if !distinct.is_empty() && distinct.len() <= 12 => {
                Some(format!("it has {}", distinct.join(", ")))
            }
            None => None,
        };
        self.unknown(name, format!("there is no property {} on {of}", name.text), hint);
    }

    pub(crate) fn unbound(&mut self, name: &Name) {
        let hint = nearest(&name.text, self.scope.keys().map(|k| &**k))
            .map(|n| format!("did you mean {n}?"))
            .or_else(|| {
                let names: Vec<&str> = self.scope.keys().map(|k| &**k).collect();
                (!names.is_empty() && names.len() <= 12).then(|| format!("bound here: {}", names.join(", ")))
            });
        self.found.push(
            Diagnostic::unknown(name.span, format!("there is no variable {}", name.text)).maybe_hint(hint),
        );
    }

    pub(crate) fn expression(&mut self, expression: &Expression, in_aggregate: bool) {
        match &expression.kind {
            ExpressionKind::Variable(name) => {
                if !self.scope.contains_key(name) {
                    self.unbound(&Name { text: name.clone(), span: expression.span });
                }
            }
            ExpressionKind::Parameter(name) => {
                if let Some(given) = self.parameters
                    && !given.contains(name)
                {
                    let hint =
                        nearest(name, given.iter().map(|g| &**g)).map(|n| format!("did you mean ${n}?"));
                    self.found.push(
                        Diagnostic::unknown(expression.span, format!("the parameter ${name} has no value"))
                            .maybe_hint(hint.or_else(|| Some(format!("give it with -p {name}=...")))),
                    );
                }
            }
            ExpressionKind::Property(operand, property) => {
                self.expression(operand, in_aggregate);
                let ExpressionKind::Variable(name) = &operand.kind else { return };
                let Some(bound) = self.scope.get(name).cloned() else { return };
                match bound.kind {
                    VariableKind::Node => self.property(property, Some(Element::Node), bound.labels.as_ref()),
                    VariableKind::Edge => self.property(property, Some(Element::Edge), bound.labels.as_ref()),
                    VariableKind::NodeGroup | VariableKind::EdgeGroup if in_aggregate => {
                        let element = if bound.kind == VariableKind::NodeGroup { Element::Node } else { Element::Edge };
                        self.property(property, Some(element), bound.labels.as_ref());
                    }
                    VariableKind::NodeGroup | VariableKind::EdgeGroup => self.found.push(
                        Diagnostic::syntax(
                            expression.span,
                            format!("{name} is {} (it is bound under a quantifier) and has no properties of its own", bound.kind.describe()),
                        )
                        .hint(format!("aggregate over it, as in SUM({name}.{0}) or COLLECT_LIST({name}.{0})", property.text)),
                    ),
                    VariableKind::Path => self.found.push(
                        Diagnostic::syntax(expression.span, format!("{name} is a path and has no properties"))
                            .hint(format!("PATH_LENGTH({name}), NODES({name}) and EDGES({name}) take it apart")),
                    ),
                    VariableKind::Value => {}
                }
            }
            ExpressionKind::Aggregate { argument, .. } => {
                // Over a group variable it works within the row, and another may go over the rows.
                let within_row = !argument.contains_aggregate()
                    && crate::expression_variables(argument).iter().any(|name| {
                        let kind = self.scope.get(name).map(|bound| bound.kind);
                        matches!(kind, Some(VariableKind::NodeGroup | VariableKind::EdgeGroup))
                    });
                if in_aggregate && !within_row {
                    self.found.push(
                        Diagnostic::syntax(expression.span, "an aggregate cannot stand inside another")
                            .hint("compute the inner one first"),
                    );
                }
                self.expression(argument, true);
            }
            ExpressionKind::Exists(pattern) => {
                let outer = self.scope.clone();
                self.pattern(pattern);
                self.scope = outer;
            }
            ExpressionKind::IsLabeled { operand, names, .. } => {
                self.expression(operand, in_aggregate);
                if let ExpressionKind::Variable(name) = &operand.kind {
                    let variable = Name { text: name.clone(), span: operand.span };
                    names.iter().for_each(|label| self.label_of(&variable, label));
                }
            }
            _ => {
                let mut parts = vec![];
                expression.each_part(&mut |part| parts.push(part));
                parts.into_iter().for_each(|part| self.expression(part, in_aggregate));
            }
        }
    }

    fn page(&mut self, page: &Page, names: &[Arc<str>], only_names: bool) {
        for key in &page.order {
            let outer = self.scope.clone();
            if only_names {
                self.scope.clear();
            }
            for name in names {
                self.scope.entry(name.clone()).or_insert(Bound { kind: VariableKind::Value, labels: None });
            }
            // An item may be repeated word for word.
            let before = self.found.len();
            self.expression(&key.expression, false);
            if only_names && self.found.len() > before {
                self.scope = outer.clone();
                self.found.truncate(before);
                self.expression(&key.expression, false);
            }
            self.scope = outer;
        }
        for bound in [&page.offset, &page.limit].into_iter().flatten() {
            if !matches!(bound.kind, ExpressionKind::Literal(_) | ExpressionKind::Parameter(_)) {
                self.found
                    .push(Diagnostic::syntax(bound.span, "LIMIT and OFFSET take a number or a parameter"));
            }
            self.expression(bound, false);
        }
    }

    fn result(&mut self, result: &Return) {
        if result.items.is_empty() && self.scope.is_empty() {
            self.found.push(Diagnostic::syntax(result.span, "RETURN * has no variable to return"));
        }
        let mut names: Vec<Arc<str>> = vec![];
        for item in &result.items {
            self.expression(&item.expression, false);
            if names.contains(&item.name) {
                self.found.push(
                    Diagnostic::syntax(item.expression.span, format!("two columns are named {}", item.name))
                        .hint("name one of them with AS"),
                );
            }
            names.push(item.name.clone());
        }
        if let Some(keys) = &result.group_by {
            for key in keys {
                if !self.scope.contains_key(&key.text) && !names.contains(&key.text) {
                    self.unbound(key);
                }
            }
        }
        self.page(&result.page, &names, result.distinct);
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
        }
    }
    for map in inner {
        for (name, labels) in map {
            found.entry(name).or_insert(labels);
        }
    }
    found
}
