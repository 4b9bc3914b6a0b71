//! INSERT, UPSERT, SET, REMOVE and DELETE.

use std::sync::Arc;

use graphodrome_graph::{Direction, Element, KeyDefinition, label_set};
use graphodrome_language::ast::*;
use graphodrome_language::{Diagnostic, Span, VariableKind};

use crate::expression::Expr;
use crate::operators::{
    ChangeSpec, DeleteElements, FindSpec, InsertEdgeSpec, InsertElements, InsertNodeSpec, PropertyChange,
    SetProperties,
};
use crate::outcome::Outcome;
use crate::plan::{PlanNode, Schema};
use crate::planner::state::Planner;

/// The expressions of a changing statement.
pub(super) fn expressions(clause: &Clause) -> Vec<&Expression> {
    fn set<'c>(item: &'c SetItem, found: &mut Vec<&'c Expression>) {
        match item {
            SetItem::Property { value, .. } => found.push(value),
            SetItem::All { properties, .. } => found.extend(properties.iter().map(|(_, e)| e)),
            SetItem::Label { .. } => {}
        }
    }
    let mut found = vec![];
    if let Clause::Insert { paths, .. } | Clause::Upsert { paths, .. } = clause {
        for path in paths {
            let elements =
                std::iter::once(&path.first).chain(path.steps.iter().flat_map(|(e, n)| [&e.element, n]));
            found.extend(elements.flat_map(|e| e.properties.iter().map(|(_, value)| value)));
        }
    }
    if let Clause::Set { items, .. } | Clause::Upsert { items, .. } = clause {
        items.iter().for_each(|item| set(item, &mut found));
    }
    if let Clause::Delete { targets, .. } = clause {
        found.extend(targets);
    }
    found
}

impl Planner<'_> {
    fn pairs(&self, pairs: &[(Name, Expression)], schema: &Schema) -> Outcome<Vec<(Arc<str>, Expr)>> {
        let mut compiled: Vec<(Arc<str>, Expr)> = vec![];
        for (name, value) in pairs {
            if compiled.iter().any(|(n, _)| *n == name.text) {
                return Err(Diagnostic::syntax(name.span, format!("property {} is given twice", name.text)));
            }
            compiled.push((name.text.clone(), self.compile(value, schema)?));
        }
        Ok(compiled)
    }

    pub(super) fn upsert(
        &mut self, input: PlanNode, paths: &[InsertPath], items: &[SetItem], span: Span,
    ) -> Outcome<PlanNode> {
        let node = self.insert(input, paths, Some(items.is_empty()), span)?;
        if items.is_empty() { Ok(node) } else { self.set(node, items, span) }
    }

    /// The key by which an UPSERT finds an element: one of its labels' whose properties are just those
    /// given.
    fn find_by(&self, kind: Element, element: &InsertElement) -> Outcome<FindSpec> {
        let given: Vec<&Arc<str>> = element.properties.iter().map(|(name, _)| &name.text).collect();
        let labels: Vec<&str> = element.labels.iter().map(|l| &*l.text).collect();
        let of_labels: Vec<(usize, &Arc<KeyDefinition>)> = (self.scope.keys.iter().enumerate())
            .filter(|(_, k)| k.element == kind && labels.contains(&&*k.label))
            .collect();
        let fits = |k: &KeyDefinition| {
            k.properties.len() == given.len() && k.properties.iter().all(|p| given.contains(&p))
        };
        if let Some((key, definition)) = of_labels.iter().find(|(_, k)| fits(k)) {
            let place = |p: &Arc<str>| given.iter().position(|g| *g == p);
            return Ok(FindSpec {
                key: *key,
                order: definition.properties.iter().filter_map(place).collect(),
            });
        }
        let shown = labels.join("&");
        Err(match of_labels.first() {
            None if labels.is_empty() => {
                Diagnostic::syntax(element.span, format!("UPSERT finds {} by the key of its label", a(kind)))
                    .hint("write its label and the properties of the label's key")
            }
            None => Diagnostic::unknown(
                element.span,
                format!("UPSERT finds {} by a key, and there is no key on :{shown}", a(kind)),
            )
            .hint(match kind {
                Element::Node => {
                    format!(
                        "create one with CREATE KEY name OVER (:{} {{property}}), or use INSERT",
                        labels[0]
                    )
                }
                Element::Edge => {
                    format!(
                        "create one with CREATE KEY name OVER -[:{} {{property}}]->, or use INSERT",
                        labels[0]
                    )
                }
            }),
            Some((_, key)) => {
                let properties = key.properties.join(", ");
                Diagnostic::syntax(
                    element.span,
                    format!("UPSERT takes the properties of the key of :{}: {properties}", key.label),
                )
                .hint("give just those between the braces, and set the others with SET after it")
            }
        })
    }

    /// `finds` for an UPSERT, with whether no SET follows it.
    pub(super) fn insert(
        &mut self, input: PlanNode, paths: &[InsertPath], finds: Option<bool>, span: Span,
    ) -> Outcome<PlanNode> {
        let find = |planner: &Self, kind, element: &InsertElement| {
            finds.map(|_| planner.find_by(kind, element)).transpose()
        };
        let mut schema = input.schema.clone();
        let (mut nodes, mut edges) = (vec![], vec![]);
        // Nodes first: slots of all nodes must be known before the edges.
        let mut path_ends: Vec<Vec<usize>> = vec![];
        for path in paths {
            let mut slots = vec![];
            for element in std::iter::once(&path.first).chain(path.steps.iter().map(|(_, n)| n)) {
                let known = element.variable.as_ref().and_then(|n| schema.slot(&n.text));
                slots.push(match known {
                    Some(slot) => slot,
                    None => {
                        nodes.push(InsertNodeSpec {
                            labels: label_set(element.labels.iter().map(|l| l.text.clone())),
                            properties: self.pairs(&element.properties, &input.schema)?,
                            find: find(self, Element::Node, element)?,
                            span: element.span,
                        });
                        let name = match &element.variable {
                            Some(name) => name.text.clone(),
                            None => self.hidden("node"),
                        };
                        schema.push(name, VariableKind::Node)
                    }
                });
            }
            path_ends.push(slots);
        }
        let with_nodes = schema.clone();
        for (path, slots) in paths.iter().zip(&path_ends) {
            for (i, (edge, _)) in path.steps.iter().enumerate() {
                let (mut source, mut target) = (slots[i], slots[i + 1]);
                if edge.direction == Direction::In {
                    std::mem::swap(&mut source, &mut target);
                }
                edges.push(InsertEdgeSpec {
                    labels: label_set(edge.element.labels.iter().map(|l| l.text.clone())),
                    properties: self.pairs(&edge.element.properties, &with_nodes)?,
                    find: find(self, Element::Edge, &edge.element)?,
                    directed: edge.direction != Direction::Undirected,
                    source,
                    target,
                    span: edge.element.span,
                });
                let name = match &edge.element.variable {
                    Some(name) => name.text.clone(),
                    None => self.hidden("edge"),
                };
                schema.push(name, VariableKind::Edge);
            }
        }
        let estimate = input.estimate.clone();
        let plan =
            InsertElements { nodes, edges, finds: finds.is_some(), settles: finds.unwrap_or(true), span };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    fn target(&self, variable: &Name, schema: &Schema) -> Outcome<usize> {
        schema.slot(&variable.text).ok_or_else(|| {
            Diagnostic::unknown(variable.span, format!("there is no variable {} here", variable.text))
        })
    }

    pub(super) fn set(&mut self, input: PlanNode, items: &[SetItem], span: Span) -> Outcome<PlanNode> {
        let mut changes = vec![];
        for item in items {
            let (variable, change, span) = match item {
                SetItem::Property { variable, property, value } => {
                    let change =
                        PropertyChange::Set(property.text.clone(), self.compile(value, &input.schema)?);
                    (variable, change, variable.span.to(value.span))
                }
                SetItem::All { variable, properties } => {
                    (variable, PropertyChange::SetAll(self.pairs(properties, &input.schema)?), variable.span)
                }
                SetItem::Label { variable, label } => {
                    (variable, PropertyChange::AddLabel(label.text.clone()), variable.span.to(label.span))
                }
            };
            let slot = self.target(variable, &input.schema)?;
            changes.push(ChangeSpec { slot, name: variable.text.clone(), change, span });
        }
        self.change(input, changes, false, span)
    }

    pub(super) fn remove(&mut self, input: PlanNode, items: &[RemoveItem], span: Span) -> Outcome<PlanNode> {
        let mut changes = vec![];
        for item in items {
            let (variable, change, end) = match item {
                RemoveItem::Property { variable, property } => {
                    (variable, PropertyChange::Remove(property.text.clone()), property.span)
                }
                RemoveItem::Label { variable, label } => {
                    (variable, PropertyChange::RemoveLabel(label.text.clone()), label.span)
                }
            };
            let slot = self.target(variable, &input.schema)?;
            changes.push(ChangeSpec {
                slot,
                name: variable.text.clone(),
                change,
                span: variable.span.to(end),
            });
        }
        self.change(input, changes, true, span)
    }

    fn change(
        &mut self, input: PlanNode, changes: Vec<ChangeSpec>, removes: bool, span: Span,
    ) -> Outcome<PlanNode> {
        let schema = input.schema.clone();
        let estimate = input.estimate.clone();
        Ok(self.node(SetProperties { changes, removes, span }, vec![input], schema, estimate))
    }

    pub(super) fn delete(
        &mut self, input: PlanNode, detach: bool, targets: &[Expression], span: Span,
    ) -> Outcome<PlanNode> {
        let mut compiled = vec![];
        for target in targets {
            compiled.push(self.compile(target, &input.schema)?);
        }
        let shown = targets.iter().map(|t| self.shown(t)).collect::<Vec<_>>().join(", ");
        let schema = input.schema.clone();
        let estimate = input.estimate.clone();
        Ok(self.node(
            DeleteElements { targets: compiled, detach, span, shown },
            vec![input],
            schema,
            estimate,
        ))
    }
}

fn a(kind: Element) -> &'static str {
    if kind == Element::Node { "a node" } else { "an edge" }
}
