//! Variables bound by patterns and read by expressions and queries.

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
    PathGroup,
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
            VariableKind::PathGroup => "a list of paths",
            VariableKind::Path => "a path",
            VariableKind::Value => "a value",
        }
    }

    /// As it is seen from outside a quantifier.
    pub(crate) fn grouped(self) -> VariableKind {
        match self {
            VariableKind::Node => VariableKind::NodeGroup,
            VariableKind::Edge => VariableKind::EdgeGroup,
            VariableKind::Path => VariableKind::PathGroup,
            other => other,
        }
    }

    /// As it is seen from within its quantifier.
    pub fn single(self) -> VariableKind {
        match self {
            VariableKind::NodeGroup => VariableKind::Node,
            VariableKind::EdgeGroup => VariableKind::Edge,
            VariableKind::PathGroup => VariableKind::Path,
            other => other,
        }
    }

    pub fn is_group(self) -> bool {
        self.single() != self
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
                let own = group.variable.iter().map(|n| (n.clone(), VariableKind::Path));
                for (name, kind) in own.chain(term_variables(&group.term)) {
                    found.push((name, if grouped { kind.grouped() } else { kind }));
                }
            }
            PathElement::Alternatives(alternatives) => {
                found.extend(alternatives.branches.iter().flat_map(term_variables));
            }
        }
    }
    found
}

/// Single variables that a match may leave unbound: under `?`, or not in every alternative.
pub fn conditional_variables(term: &PathTerm) -> BTreeSet<Arc<str>> {
    let mut found = BTreeSet::new();
    let names = |term: &PathTerm| -> BTreeSet<Arc<str>> {
        term_variables(term).into_iter().map(|(n, _)| n.text).collect()
    };
    for element in &term.elements {
        match element {
            PathElement::Node(_) => {}
            PathElement::Edge(edge, quantifier) => {
                if quantifier.is_some_and(|q| q.optional) {
                    found.extend(edge.filter.variable.iter().map(|n| n.text.clone()));
                }
            }
            PathElement::Group(group) => {
                if group.quantifier.is_some_and(|q| q.optional) {
                    found.extend(names(&group.term));
                    found.extend(group.variable.iter().map(|n| n.text.clone()));
                } else {
                    found.extend(conditional_variables(&group.term));
                }
            }
            PathElement::Alternatives(alternatives) => {
                let each: Vec<_> = alternatives.branches.iter().map(names).collect();
                for branch in &each {
                    found.extend(branch.iter().filter(|n| !each.iter().all(|b| b.contains(*n))).cloned());
                }
                alternatives.branches.iter().for_each(|b| found.extend(conditional_variables(b)));
            }
        }
    }
    found
}

/// Every variable the expression reads from outside itself; of a subquery's own some may be among them.
pub fn expression_variables(expression: &Expression) -> BTreeSet<Arc<str>> {
    let mut found = BTreeSet::new();
    collect(expression, &mut found);
    found
}

/// Every name that a clause reads, and of what it binds itself all that could be bound before it.
pub fn clause_variables(clause: &Clause) -> BTreeSet<Arc<str>> {
    let mut found = BTreeSet::new();
    collect_clause(clause, &mut found);
    found
}

/// Every name that a query reads or binds.
pub fn query_variables(query: &Query) -> BTreeSet<Arc<str>> {
    let mut found = BTreeSet::new();
    collect_query(query, &mut found);
    found
}

/// The names that an aggregate's argument reads otherwise than as a whole. Where one of them is bound under a
/// quantifier the aggregate goes along its elements within the row: `SUM(e.length_m)`, `COUNT(e)`. What takes the
/// list itself does not, so that `MAX(SIZE(e))` goes over rows.
pub fn read_by_element(argument: &Expression) -> BTreeSet<Arc<str>> {
    fn collect_of(e: &Expression, found: &mut BTreeSet<Arc<str>>) {
        let whole = |e: &Expression| matches!(e.kind, ExpressionKind::Variable(_));
        match &e.kind {
            ExpressionKind::Call { function, arguments }
                if ["SIZE", "CARDINALITY", "TRIM"]
                    .iter()
                    .any(|name| function.text.eq_ignore_ascii_case(name)) =>
            {
                arguments.iter().filter(|a| !whole(a)).for_each(|a| collect_of(a, found));
            }
            ExpressionKind::Index(list, place) if whole(list) => collect_of(place, found),
            ExpressionKind::In { operand, list, .. } if whole(list) => collect_of(operand, found),
            ExpressionKind::Variable(_)
            | ExpressionKind::Exists(_)
            | ExpressionKind::Subquery(_)
            | ExpressionKind::Let(..) => collect(e, found),
            _ => e.each_part(&mut |part| collect_of(part, found)),
        }
    }
    let mut found = BTreeSet::new();
    collect_of(argument, &mut found);
    found
}

fn collect(expression: &Expression, found: &mut BTreeSet<Arc<str>>) {
    match &expression.kind {
        ExpressionKind::Variable(name) => {
            found.insert(name.clone());
        }
        ExpressionKind::Exists(query) | ExpressionKind::Subquery(query) => collect_query(query, found),
        ExpressionKind::Let(bindings, body) => {
            let mut inner = BTreeSet::new();
            collect(body, &mut inner);
            for (name, value) in bindings.iter().rev() {
                inner.remove(&name.text);
                collect(value, &mut inner);
            }
            found.extend(inner);
        }
        _ => expression.each_part(&mut |part| collect(part, found)),
    }
}

fn collect_query(query: &Query, found: &mut BTreeSet<Arc<str>>) {
    for linear in query.linears() {
        linear.clauses.iter().for_each(|c| collect_clause(c, found));
    }
}

fn collect_clause(clause: &Clause, found: &mut BTreeSet<Arc<str>>) {
    match clause {
        Clause::Match { pattern, .. } => {
            found.extend(pattern_variables(pattern).into_iter().map(|(name, _)| name.text));
            pattern_expressions(pattern, &mut |e| collect(e, found));
        }
        Clause::Optional { clauses, .. } => clauses.iter().for_each(|c| collect_clause(c, found)),
        Clause::Call { imports: Some(names), .. } => found.extend(names.iter().map(|n| n.text.clone())),
        Clause::Call { query, .. } | Clause::Nested(query) => collect_query(query, found),
        Clause::CallProcedure { arguments, .. } => arguments.iter().for_each(|e| collect(e, found)),
        Clause::Filter(e) => collect(e, found),
        Clause::Let(items) => items.iter().for_each(|(_, e)| collect(e, found)),
        Clause::For { list, .. } => collect(list, found),
        Clause::Insert { paths, .. } => collect_inserted(paths, found),
        Clause::Upsert { paths, items, .. } => {
            collect_inserted(paths, found);
            items.iter().for_each(|item| collect_set(item, found));
        }
        Clause::Set { items, .. } => items.iter().for_each(|item| collect_set(item, found)),
        Clause::Remove { items, .. } => {
            for item in items {
                let (RemoveItem::Property { variable, .. } | RemoveItem::Label { variable, .. }) = item;
                found.insert(variable.text.clone());
            }
        }
        Clause::Delete { targets, .. } => targets.iter().for_each(|e| collect(e, found)),
        Clause::Page(page) => page.order.iter().for_each(|k| collect(&k.expression, found)),
        Clause::Return(result) => {
            if result.items.is_empty() {
                // RETURN * reads everything.
                found.insert("*".into());
            }
            result.items.iter().for_each(|i| collect(&i.expression, found));
            result.having.iter().for_each(|e| collect(e, found));
            result.page.order.iter().for_each(|k| collect(&k.expression, found));
            for name in result.group_by.iter().flatten() {
                found.insert(name.text.clone());
            }
        }
        Clause::Finish => {}
    }
}

fn collect_inserted(paths: &[InsertPath], found: &mut BTreeSet<Arc<str>>) {
    for path in paths {
        let elements =
            std::iter::once(&path.first).chain(path.steps.iter().flat_map(|(e, n)| [&e.element, n]));
        for element in elements {
            found.extend(element.variable.iter().map(|n| n.text.clone()));
            element.properties.iter().for_each(|(_, e)| collect(e, found));
        }
    }
}

fn collect_set(item: &SetItem, found: &mut BTreeSet<Arc<str>>) {
    let (SetItem::Property { variable, .. }
    | SetItem::All { variable, .. }
    | SetItem::Label { variable, .. }) = item;
    found.insert(variable.text.clone());
    match item {
        SetItem::Property { value, .. } => collect(value, found),
        SetItem::All { properties, .. } => properties.iter().for_each(|(_, e)| collect(e, found)),
        SetItem::Label { .. } => {}
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

/// Calls `visit` for every condition and property value in a path term.
pub fn term_expressions<'p>(term: &'p PathTerm, visit: &mut dyn FnMut(&'p Expression)) {
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
            PathElement::Alternatives(alternatives) => {
                alternatives.branches.iter().for_each(|b| term_expressions(b, visit));
            }
        }
    }
}

/// The labels that decide whether an element can be part of a query's matches; `None` where an element of
/// any label can, or where something is asked that all edges of a node have a part in.
pub fn query_labels(query: &Query) -> Option<BTreeSet<Arc<str>>> {
    let mut found = Labels::default();
    found.query(query);
    let open =
        found.open.iter().any(|variable| variable.as_ref().is_none_or(|v| !found.labelled.contains(v)));
    (!open && !found.any).then_some(found.labels)
}

#[derive(Default)]
struct Labels {
    labels: BTreeSet<Arc<str>>,
    /// Variables that have a label somewhere.
    labelled: BTreeSet<Arc<str>>,
    /// Elements without one, by their variables.
    open: Vec<Option<Arc<str>>>,
    any: bool,
}

impl Labels {
    fn query(&mut self, query: &Query) {
        for linear in query.linears() {
            linear.clauses.iter().for_each(|c| self.clause(c));
        }
    }

    fn clause(&mut self, clause: &Clause) {
        match clause {
            Clause::Match { pattern, .. } => {
                pattern.paths.iter().for_each(|p| self.term(&p.term));
                pattern_expressions(pattern, &mut |e| self.expression(e));
            }
            Clause::Optional { clauses, .. } => clauses.iter().for_each(|c| self.clause(c)),
            Clause::Call { query, .. } | Clause::Nested(query) => self.query(query),
            Clause::Filter(e) => self.expression(e),
            Clause::Let(items) => items.iter().for_each(|(_, e)| self.expression(e)),
            Clause::For { list, .. } => self.expression(list),
            Clause::Page(page) => page.order.iter().for_each(|k| self.expression(&k.expression)),
            Clause::Return(result) => {
                result.items.iter().for_each(|i| self.expression(&i.expression));
                result.having.iter().for_each(|e| self.expression(e));
                result.page.order.iter().for_each(|k| self.expression(&k.expression));
            }
            Clause::Finish => {}
            _ => self.any = true,
        }
    }

    fn term(&mut self, term: &PathTerm) {
        for element in &term.elements {
            match element {
                PathElement::Node(node) => self.filter(&node.filter),
                PathElement::Edge(edge, _) => self.filter(&edge.filter),
                PathElement::Group(group) => self.term(&group.term),
                PathElement::Alternatives(a) => a.branches.iter().for_each(|b| self.term(b)),
            }
        }
    }

    fn filter(&mut self, filter: &ElementFilter) {
        let variable = filter.variable.as_ref().map(|n| n.text.clone());
        let Some((labels, _)) = &filter.labels else {
            self.open.push(variable);
            return;
        };
        self.label(labels);
        self.labelled.extend(variable);
    }

    fn label(&mut self, labels: &graphodrome_graph::LabelExpression) {
        use graphodrome_graph::LabelExpression::*;
        match labels {
            Name(name) => {
                self.labels.insert(name.clone());
            }
            And(a, b) | Or(a, b) => {
                self.label(a);
                self.label(b);
            }
            Not(_) | Any => self.any = true,
        }
    }

    fn expression(&mut self, e: &Expression) {
        match &e.kind {
            ExpressionKind::Exists(query) | ExpressionKind::Subquery(query) => self.query(query),
            ExpressionKind::Call { function, .. } if function.text.ends_with("DEGREE") => self.any = true,
            _ => e.each_part(&mut |part| self.expression(part)),
        }
    }
}
