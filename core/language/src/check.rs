//! Checks a parsed query before planning: every variable is bound before it is read and has one type; labels and
//! properties exist (an error in a closed graph, a warning with the nearest known name in an open one); compared
//! values have comparable types; unbounded repetition ends.

mod changes;
mod expressions;
mod names;
mod patterns;
mod procedures;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use graphodrome_graph::{GraphType, LabelExpression};

use crate::ast::*;
use crate::class::Class;
use crate::procedure::Procedure;
use crate::scope::VariableKind;
use crate::{Diagnostic, Span, nearest};

/// What is known of the graph a query is about.
#[derive(Clone, Debug, Default)]
pub struct Known {
    pub graph_type: Option<Arc<GraphType>>,
    pub node_labels: Vec<Arc<str>>,
    pub edge_labels: Vec<Arc<str>>,
    pub node_properties: Vec<Arc<str>>,
    pub edge_properties: Vec<Arc<str>>,
    /// Labels of edges that are all undirected, and of edges that are all directed.
    pub undirected: Vec<Arc<str>>,
    pub directed: Vec<Arc<str>>,
    /// What can be called by name.
    pub procedures: Arc<[Procedure]>,
}

/// All errors and warnings, in the order of the text. `parameters` are the names of those given;
/// `None` where they are not known yet.
pub fn check_query(query: &Query, known: &Known, parameters: Option<&[Arc<str>]>) -> Vec<Diagnostic> {
    let mut introduced = BTreeSet::new();
    introduced_names(query, &mut introduced);
    let scope = BTreeMap::new();
    let mut checker = Checker { known, parameters, introduced, scope, outer: vec![], found: vec![] };
    checker.query(query, false);
    checker.found.sort_by_key(|d| d.span.start);
    checker.found
}

fn introduced_names(query: &Query, found: &mut BTreeSet<Arc<str>>) {
    for clause in query.linears().flat_map(|l| &l.clauses) {
        match clause {
            Clause::Insert { paths, .. } => paths.iter().for_each(|p| path_names(p, found)),
            Clause::Upsert { paths, items, .. } => {
                paths.iter().for_each(|p| path_names(p, found));
                items.iter().for_each(|i| item_names(i, found));
            }
            Clause::Set { items, .. } => items.iter().for_each(|i| item_names(i, found)),
            Clause::Call { query, .. } | Clause::Nested(query) => introduced_names(query, found),
            _ => {}
        }
    }
}

fn path_names(path: &InsertPath, found: &mut BTreeSet<Arc<str>>) {
    let elements = std::iter::once(&path.first).chain(path.steps.iter().flat_map(|(e, n)| [&e.element, n]));
    for element in elements {
        found.extend(element.labels.iter().map(|l| l.text.clone()));
        found.extend(element.properties.iter().map(|(name, _)| name.text.clone()));
    }
}

fn item_names(item: &SetItem, found: &mut BTreeSet<Arc<str>>) {
    match item {
        SetItem::Property { property, .. } => {
            found.insert(property.text.clone());
        }
        SetItem::All { properties, .. } => found.extend(properties.iter().map(|(name, _)| name.text.clone())),
        SetItem::Label { label, .. } => {
            found.insert(label.text.clone());
        }
    }
}

#[derive(Clone)]
pub(crate) struct Bound {
    pub kind: VariableKind,
    pub labels: Option<LabelExpression>,
    pub class: Class,
}

impl Bound {
    pub fn of(kind: VariableKind) -> Bound {
        let class = match kind {
            VariableKind::Node => Class::Node,
            VariableKind::Edge => Class::Edge,
            VariableKind::Path => Class::Path,
            VariableKind::NodeGroup | VariableKind::EdgeGroup | VariableKind::PathGroup => Class::List,
            VariableKind::Value => Class::Unknown,
        };
        Bound { kind, labels: None, class }
    }

    pub fn value(class: Class) -> Bound {
        Bound { kind: VariableKind::Value, labels: None, class }
    }
}

pub(crate) type Variables = BTreeMap<Arc<str>, Bound>;

/// The columns of a result.
type Columns = Vec<(Arc<str>, Bound)>;

pub(crate) struct Checker<'k> {
    pub known: &'k Known,
    parameters: Option<&'k [Arc<str>]>,
    /// Labels and properties that the query itself gives to elements: they are not unknown.
    introduced: BTreeSet<Arc<str>>,
    pub scope: Variables,
    /// Names of the queries around this one, which `*` leaves out.
    outer: Vec<Arc<str>>,
    pub found: Vec<Diagnostic>,
}

impl Checker<'_> {
    /// The columns of the query's result. The scope is that of the rows it begins with, and is left as
    /// it was. `exists`: only whether there are rows is asked, so that it needs no result.
    fn query(&mut self, query: &Query, exists: bool) -> Option<Columns> {
        let around = self.scope.clone();
        let mut columns: Option<Columns> = None;
        for (i, part) in query.parts.iter().enumerate() {
            if i > 0 {
                self.scope = around.clone();
                self.go_on(columns.take(), part.yields.as_deref());
            }
            columns = self.composite(&part.composite, exists);
        }
        self.scope = around;
        columns
    }

    /// A query within another one.
    pub(crate) fn inner_query(&mut self, query: &Query, exists: bool) -> Option<Columns> {
        let names = self.scope.keys().cloned().collect();
        let outer = std::mem::replace(&mut self.outer, names);
        let columns = self.query(query, exists);
        self.outer = outer;
        columns
    }

    /// Takes the columns of the statement before NEXT into the scope.
    fn go_on(&mut self, columns: Option<Columns>, yields: Option<&[(Name, Name)]>) {
        let columns = columns.unwrap_or_default();
        let Some(yields) = yields else {
            for (name, bound) in columns {
                self.scope.insert(name, bound);
            }
            return;
        };
        for (column, name) in yields {
            match columns.iter().find(|(known, _)| *known == column.text) {
                Some((_, bound)) => {
                    self.scope.insert(name.text.clone(), bound.clone());
                }
                None => {
                    let near = nearest(&column.text, columns.iter().map(|(n, _)| &**n));
                    self.found.push(
                        Diagnostic::unknown(column.span, format!("the result has no column {}", column.text))
                            .maybe_hint(near.map(|n| format!("did you mean {n}?"))),
                    );
                    self.scope.insert(name.text.clone(), Bound::value(Class::Unknown));
                }
            }
        }
    }

    fn composite(&mut self, composite: &Composite, exists: bool) -> Option<Columns> {
        let before = self.scope.clone();
        let columns = self.linear(&composite.first, exists);
        for (_, linear) in &composite.others {
            self.scope = before.clone();
            let others = self.linear(linear, exists);
            let names = |columns: &Option<Columns>| {
                let mut names: Vec<Arc<str>> = columns.iter().flatten().map(|(n, _)| n.clone()).collect();
                names.sort();
                names
            };
            let (ours, theirs) = (names(&columns), names(&others));
            if ours != theirs {
                let shown =
                    |names: &[Arc<str>]| if names.is_empty() { "none".into() } else { names.join(", ") };
                self.found.push(
                    Diagnostic::syntax(
                        linear.span,
                        format!(
                            "the two results have different columns: {} and {}",
                            shown(&ours),
                            shown(&theirs)
                        ),
                    )
                    .hint("name the columns alike with AS"),
                );
            }
        }
        self.scope = before;
        columns
    }

    fn linear(&mut self, linear: &Linear, exists: bool) -> Option<Columns> {
        let Some(last) = linear.clauses.last() else {
            self.found.push(Diagnostic::syntax(linear.span, "the query has no clause"));
            return None;
        };
        let mut columns = None;
        for clause in &linear.clauses {
            columns = self.clause(clause, exists);
        }
        let changes = linear.clauses.iter().any(Clause::changes);
        if !exists && !changes && !matches!(last, Clause::Return(_) | Clause::Finish | Clause::Nested(_)) {
            let end = Span { start: linear.span.end, end: linear.span.end };
            self.found.push(
                Diagnostic::syntax(end, "the query has no result")
                    .hint("end it with RETURN ..., or with FINISH for none"),
            );
        }
        columns
    }

    /// The columns of the clause that is a result.
    fn clause(&mut self, clause: &Clause, exists: bool) -> Option<Columns> {
        match clause {
            Clause::Match { pattern, .. } => self.pattern(pattern),
            Clause::Optional { clauses, .. } => clauses.iter().for_each(|c| {
                self.clause(c, exists);
            }),
            Clause::Call { imports, query, span, .. } => {
                let around = self.scope.clone();
                if let Some(names) = imports {
                    names.iter().filter(|n| !around.contains_key(&n.text)).for_each(|n| self.unbound(n));
                    self.scope.retain(|name, _| names.iter().any(|n| n.text == *name));
                }
                let columns = self.inner_query(query, false);
                self.scope = around;
                for (name, bound) in columns.into_iter().flatten() {
                    self.bind(&Name { text: name, span: *span }, bound);
                }
            }
            Clause::CallProcedure { name, arguments, yields, span, .. } => {
                self.procedure(name, arguments, yields.as_deref(), *span);
            }
            Clause::Nested(query) => {
                let columns = self.inner_query(query, exists);
                for (name, bound) in columns.iter().flatten() {
                    self.scope.insert(name.clone(), bound.clone());
                }
                return columns;
            }
            Clause::Filter(condition) => self.condition(condition),
            Clause::Let(items) => {
                for (name, value) in items {
                    let bound = self.bound_of(value);
                    self.bind(name, bound);
                }
            }
            Clause::For { variable, list, counter } => {
                let class = self.expression(list, false);
                self.want(list, class, Class::List, "what FOR goes through");
                self.bind(variable, Bound::value(Class::Unknown));
                if let Some((name, _)) = counter {
                    self.bind(name, Bound::value(Class::Number));
                }
            }
            Clause::Insert { paths, .. } => paths.iter().for_each(|p| self.insert_path(p)),
            Clause::Upsert { paths, items, .. } => {
                paths.iter().for_each(|p| self.insert_path(p));
                items.iter().for_each(|i| self.set_item(i));
            }
            Clause::Set { items, .. } => items.iter().for_each(|i| self.set_item(i)),
            Clause::Remove { items, .. } => items.iter().for_each(|i| self.remove_item(i)),
            Clause::Delete { targets, .. } => targets.iter().for_each(|t| self.delete_target(t)),
            Clause::Page(page) => self.page(page, &[], false),
            Clause::Return(result) => return Some(self.result(result)),
            Clause::Finish => {}
        }
        None
    }

    /// What a variable is that is given this value.
    fn bound_of(&mut self, value: &Expression) -> Bound {
        let class = self.expression(value, false);
        match &value.kind {
            ExpressionKind::Variable(name) => {
                self.scope.get(name).cloned().unwrap_or(Bound::value(Class::Unknown))
            }
            _ => Bound::value(class),
        }
    }

    fn bind(&mut self, name: &Name, bound: Bound) {
        if self.scope.contains_key(&name.text) {
            self.found.push(
                Diagnostic::syntax(name.span, format!("{} is bound already", name.text))
                    .hint("choose another name"),
            );
        }
        self.scope.insert(name.text.clone(), bound);
    }

    fn page(&mut self, page: &Page, names: &[Arc<str>], only_names: bool) {
        for key in &page.order {
            let outer = self.scope.clone();
            if only_names {
                self.scope.clear();
            }
            for name in names {
                self.scope.entry(name.clone()).or_insert(Bound::value(Class::Unknown));
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

    fn result(&mut self, result: &Return) -> Columns {
        let all = || -> Columns {
            let outer = |name: &Arc<str>| self.outer.contains(name);
            self.scope.iter().filter(|(n, _)| !outer(n)).map(|(n, b)| (n.clone(), b.clone())).collect()
        };
        let mut columns: Columns = if result.items.is_empty() { all() } else { vec![] };
        if result.items.is_empty() && columns.is_empty() {
            self.found.push(Diagnostic::syntax(result.span, "RETURN * has no variable to return"));
        }
        for item in &result.items {
            let bound = self.bound_of(&item.expression);
            if columns.iter().any(|(name, _)| *name == item.name) {
                self.found.push(
                    Diagnostic::syntax(item.expression.span, format!("two columns are named {}", item.name))
                        .hint("name one of them with AS"),
                );
            }
            columns.push((item.name.clone(), bound));
        }
        let names: Vec<Arc<str>> = columns.iter().map(|(n, _)| n.clone()).collect();
        if let Some(keys) = &result.group_by {
            for key in keys {
                if !self.scope.contains_key(&key.text) && !names.contains(&key.text) {
                    self.unbound(key);
                }
            }
        }
        if let Some(having) = &result.having {
            let outer = self.scope.clone();
            for (name, bound) in &columns {
                self.scope.entry(name.clone()).or_insert(bound.clone());
            }
            self.condition(having);
            self.scope = outer;
        }
        self.page(&result.page, &names, result.distinct);
        columns
    }
}
