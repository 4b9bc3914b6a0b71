//! Labels, properties and variables: existence, and suggestions for unknown names.

use std::sync::Arc;

use graphodrome_graph::{Code, Element, LabelExpression, Value, ValueType};

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
        let types = self.property_types(name, element, labels);
        types.iter().map(Class::of_type).reduce(Class::or).unwrap_or(Class::Unknown)
    }

    /// A literal that is compared for equality with a property: a DECIMAL is equal to a float of exactly its value, and
    /// there is none of most.
    pub(super) fn float_equality(
        &mut self, literal: &Expression, name: &str, element: Element, labels: Option<&LabelExpression>,
    ) {
        let ExpressionKind::Literal(Value::Decimal(wanted)) = &literal.kind else { return };
        let types = self.property_types(name, element, labels);
        let floats = !types.is_empty() && types.iter().all(|t| matches!(t, ValueType::Float(_)));
        if floats && !Value::Float(wanted.to_f64()).order(&Value::Decimal(*wanted)).is_eq() {
            let text = format!("{name} holds floats, and none is exactly {wanted}: this is never true");
            let found = Diagnostic::warning(Code::DATA, literal.span, text);
            self.found.push(
                found.hint(format!("write {wanted}e0 for the float that is nearest, or ask for a range")),
            );
        }
    }

    /// The types that a property may have.
    fn property_types(
        &self, name: &str, element: Element, labels: Option<&LabelExpression>,
    ) -> Vec<ValueType> {
        let Some(graph_type) = &self.known.graph_type else { return vec![] };
        let fits = |set: &graphodrome_graph::LabelSet| labels.is_none_or(|l| l.matches(set));
        let properties: Vec<_> = match element {
            Element::Node => {
                graph_type.nodes.iter().filter(|t| fits(&t.labels)).map(|t| &t.properties).collect()
            }
            Element::Edge => {
                graph_type.edges.iter().filter(|t| fits(&t.labels)).map(|t| &t.properties).collect()
            }
        };
        let named = properties.into_iter().flatten().filter(|p| *p.name == *name);
        named.map(|p| p.value_type.clone()).collect()
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

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use crate::ast::Statement;
    use crate::{Known, Severity, check_query, parse, parse_graph_type};

    fn warnings(text: &str) -> Vec<String> {
        let graph_type =
            parse_graph_type("{ (A :A { f FLOAT64, d DECIMAL(9, 3) }), (A)-[:R { f FLOAT32 }]->(A) }")
                .unwrap();
        let (node_labels, edge_labels) = (vec!["A".into()], vec!["R".into()]);
        let known =
            Known { graph_type: Some(graph_type.into()), node_labels, edge_labels, ..Known::default() };
        let statements = parse(text).unwrap();
        let [Statement::Query(query)] = &statements[..] else { panic!("{text}") };
        let found = check_query(query, &known, None);
        assert!(found.iter().all(|d| d.severity == Severity::Warning), "{text}: {found:?}");
        found.into_iter().map(|d| format!("{} {}", d.message, d.hint.unwrap_or_default())).collect()
    }

    #[test]
    fn a_float_that_can_never_be_equal_is_told() {
        for text in [
            "MATCH (a:A {f: 155.2}) RETURN a",
            "MATCH (a:A) WHERE a.f = 155.2 RETURN a",
            "MATCH (a:A) WHERE 155.2 = a.f RETURN a",
            "MATCH (a:A)-[r:R {f: 0.1}]->() RETURN r",
        ] {
            let said = warnings(text);
            assert_eq!(said.len(), 1, "{text}: {said:?}");
            assert!(said[0].contains("never true") && said[0].contains("e0 for the float"), "{said:?}");
        }
        for text in [
            "MATCH (a:A {f: 155.25}) RETURN a",
            "MATCH (a:A {f: 155.2e0}) RETURN a",
            "MATCH (a:A {f: 155}) RETURN a",
            "MATCH (a:A {d: 155.2}) RETURN a",
            "MATCH (a:A) WHERE a.f > 155.2 RETURN a",
        ] {
            assert_eq!(warnings(text), Vec::<String>::new(), "{text}");
        }
    }
}
