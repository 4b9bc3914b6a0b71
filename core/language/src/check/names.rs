//! Labels, properties and variables: whether they are there, and what was probably meant.

use std::sync::Arc;

use graphodrome_graph::{Element, LabelExpression};

use crate::ast::*;
use crate::check::Checker;
use crate::class::Class;
use crate::{Diagnostic, Severity, nearest};

impl Checker<'_> {
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
            if self.introduced.contains(&name.text) {
                return;
            }
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

    /// What a property of elements with these labels holds, where the graph's type says so.
    pub(super) fn property_class(
        &self, name: &str, element: Element, labels: Option<&LabelExpression>,
    ) -> Class {
        let Some(graph_type) = &self.known.graph_type else { return Class::Unknown };
        let fits = |set: &graphodrome_graph::LabelSet| labels.is_none_or(|l| l.matches(set));
        let properties: Vec<_> = match element {
            Element::Node => {
                graph_type.nodes.iter().filter(|t| fits(&t.labels)).map(|t| &t.properties).collect()
            }
            Element::Edge => {
                graph_type.edges.iter().filter(|t| fits(&t.labels)).map(|t| &t.properties).collect()
            }
        };
        let classes = properties.into_iter().flatten().filter(|p| *p.name == *name);
        classes.map(|p| Class::of_type(&p.value_type)).reduce(Class::or).unwrap_or(Class::Unknown)
    }

    pub(crate) fn unbound(&mut self, name: &Name) {
        // A name in double quotes was probably meant as a text.
        let in_quotes = (name.span.end - name.span.start) as usize == name.text.len() + 2;
        let text = in_quotes
            .then(|| format!("double quotes make a name; a text stands in single ones: '{}'", name.text));
        let hint = text
            .or_else(|| {
                nearest(&name.text, self.scope.keys().map(|k| &**k)).map(|n| format!("did you mean {n}?"))
            })
            .or_else(|| {
                let names: Vec<&str> = self.scope.keys().map(|k| &**k).collect();
                (!names.is_empty() && names.len() <= 12).then(|| format!("bound here: {}", names.join(", ")))
            });
        self.found.push(
            Diagnostic::unknown(name.span, format!("there is no variable {}", name.text)).maybe_hint(hint),
        );
    }
}
