//! Checking what a statement changes: new elements, SET, REMOVE.

use std::sync::Arc;

use graphodrome_graph::Element;

use crate::Diagnostic;
use crate::ast::*;
use crate::check::{Bound, Checker};
use crate::class::Class;
use crate::scope::VariableKind;

impl Checker<'_> {
    pub(crate) fn insert_path(&mut self, path: &InsertPath) {
        let mut elements = vec![(&path.first, Element::Node)];
        for (edge, node) in &path.steps {
            elements.push((&edge.element, Element::Edge));
            elements.push((node, Element::Node));
        }
        let mut bound = vec![];
        for (element, kind) in elements {
            if let Some(name) = &element.variable {
                let plain = element.labels.is_empty() && element.properties.is_empty();
                match self.scope.get(&name.text) {
                    Some(b) if kind == Element::Edge || !plain => {
                        let what = b.kind.describe();
                        self.found.push(
                            Diagnostic::syntax(
                                name.span,
                                format!("{} is bound already ({what}) and cannot be inserted", name.text),
                            )
                            .hint("a bound node stands in INSERT as its name alone: (n)"),
                        );
                    }
                    Some(b) if b.kind != VariableKind::Node => {
                        self.found.push(Diagnostic::syntax(
                            name.span,
                            format!("{} is {}, not a node", name.text, b.kind.describe()),
                        ));
                    }
                    Some(_) => {}
                    None => {
                        let kind =
                            if kind == Element::Node { VariableKind::Node } else { VariableKind::Edge };
                        bound.push((name.text.clone(), Bound::of(kind)));
                        self.scope.insert(name.text.clone(), Bound::of(kind));
                    }
                }
            }
            if let Some(graph_type) = self.known.graph_type.clone() {
                for label in &element.labels {
                    let known: Vec<&Arc<str>> = match kind {
                        Element::Node => graph_type.nodes.iter().flat_map(|t| t.labels.iter()).collect(),
                        Element::Edge => graph_type.edges.iter().flat_map(|t| t.labels.iter()).collect(),
                    };
                    if !known.contains(&&label.text) {
                        self.label(label, kind);
                    }
                }
            }
            element.properties.iter().for_each(|(_, value)| {
                self.expression(value, false);
            });
        }
    }

    pub(crate) fn set_item(&mut self, item: &SetItem) {
        match item {
            SetItem::Property { variable, property, value } => {
                let checked = self.known.graph_type.is_some();
                self.target(variable, checked.then_some(property));
                self.expression(value, false);
            }
            SetItem::All { variable, properties } => {
                self.target(variable, None);
                properties.iter().for_each(|(_, value)| {
                    self.expression(value, false);
                });
            }
            SetItem::Label { variable, label } => {
                self.target(variable, None);
                if self.known.graph_type.is_some() {
                    self.label_of(variable, label);
                }
            }
        }
    }

    pub(crate) fn remove_item(&mut self, item: &RemoveItem) {
        match item {
            RemoveItem::Property { variable, property } => self.target(variable, Some(property)),
            RemoveItem::Label { variable, label } => {
                self.target(variable, None);
                self.label_of(variable, label);
            }
        }
    }

    pub(crate) fn delete_target(&mut self, target: &Expression) {
        let class = self.expression(target, false);
        if !matches!(class, Class::Unknown | Class::Node | Class::Edge | Class::List) {
            self.found.push(
                Diagnostic::syntax(
                    target.span,
                    format!("only nodes and edges can be deleted, found {}", class.describe()),
                )
                .hint("NODES(p) and EDGES(p) are a path's, and FOR goes through them"),
            );
        }
    }

    pub(crate) fn label_of(&mut self, variable: &Name, label: &Name) {
        match self.scope.get(&variable.text).map(|b| b.kind) {
            Some(VariableKind::Node) => self.label(label, Element::Node),
            Some(VariableKind::Edge) => self.label(label, Element::Edge),
            _ => {}
        }
    }

    /// The variable of a SET or REMOVE: a node or an edge.
    pub(crate) fn target(&mut self, variable: &Name, property: Option<&Name>) {
        match self.scope.get(&variable.text).cloned() {
            None => self.unbound(variable),
            Some(Bound { kind: VariableKind::Node, labels, .. }) => {
                if let Some(property) = property {
                    self.property(property, Some(Element::Node), labels.as_ref());
                }
            }
            Some(Bound { kind: VariableKind::Edge, labels, .. }) => {
                if let Some(property) = property {
                    self.property(property, Some(Element::Edge), labels.as_ref());
                }
            }
            Some(Bound { kind: VariableKind::Value, .. }) => {}
            Some(bound) => self.found.push(Diagnostic::syntax(
                variable.span,
                format!(
                    "{} is {}; only a single node or edge can be changed",
                    variable.text,
                    bound.kind.describe()
                ),
            )),
        }
    }
}
