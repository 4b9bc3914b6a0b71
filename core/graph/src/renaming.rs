//! Other names for labels and properties: in a graph type, in keys and indexes.

use std::sync::Arc;

use crate::{
    Code, Created, Element, Endpoint, GraphError, GraphType, KeyDefinition, LabelSet, PropertyType, label_set,
};

/// Another name for a label, or for a property of the elements with a label.
#[derive(Clone, Debug, PartialEq)]
pub struct Renaming {
    pub element: Element,
    /// The label whose property it is; without it the label itself is renamed.
    pub label: Option<Arc<str>>,
    pub from: Arc<str>,
    pub to: Arc<str>,
}

impl Renaming {
    pub(crate) fn labels(&self, element: Element, labels: &LabelSet) -> LabelSet {
        if self.label.is_some() || self.element != element || !labels.contains(&self.from) {
            return labels.clone();
        }
        label_set(labels.iter().map(|l| if *l == self.from { self.to.clone() } else { l.clone() }))
    }

    /// The property's name among the elements with these labels.
    pub(crate) fn property(&self, element: Element, labels: &LabelSet, name: &Arc<str>) -> Arc<str> {
        let here = self.element == element && self.label.as_ref().is_some_and(|l| labels.contains(l));
        if here && *name == self.from { self.to.clone() } else { name.clone() }
    }

    fn key(&self, key: &KeyDefinition) -> KeyDefinition {
        let labels = label_set([key.label.clone()]);
        KeyDefinition {
            label: self.labels(key.element, &labels).first().cloned().unwrap_or_else(|| key.label.clone()),
            properties: key.properties.iter().map(|p| self.property(key.element, &labels, p)).collect(),
            ..key.clone()
        }
    }

    /// The type with the new name; an error where there is nothing of the old one, or something of the new.
    pub fn of_type(&self, graph_type: &GraphType) -> Result<GraphType, GraphError> {
        let sets: Vec<(&LabelSet, &Vec<PropertyType>)> = match self.element {
            Element::Node => graph_type.nodes.iter().map(|t| (&t.labels, &t.properties)).collect(),
            Element::Edge => graph_type.edges.iter().map(|t| (&t.labels, &t.properties)).collect(),
        };
        let unknown = |what: String| Err(GraphError::new(Code::UNKNOWN_REFERENCE, what));
        let taken = |what: String| Err(GraphError::new(Code::SYNTAX, what));
        match &self.label {
            None => {
                if !sets.iter().any(|(labels, _)| labels.contains(&self.from)) {
                    return unknown(format!("no {} type has the label {}", self.element, self.from));
                }
                if sets.iter().any(|(labels, _)| labels.contains(&self.to)) {
                    return taken(format!(
                        "there are {} types with the label {} already",
                        self.element, self.to
                    ));
                }
            }
            Some(label) => {
                let mut of_label = sets.iter().filter(|(labels, _)| labels.contains(label)).peekable();
                if of_label.peek().is_none() {
                    return unknown(format!("no {} type has the label {label}", self.element));
                }
                let types: Vec<_> = of_label.collect();
                let has = |name: &Arc<str>| types.iter().any(|(_, all)| all.iter().any(|p| p.name == *name));
                if !has(&self.from) {
                    return unknown(format!(
                        "no {} type :{label} has the property {}",
                        self.element, self.from
                    ));
                }
                if has(&self.to) {
                    return taken(format!(
                        "the {} type :{label} has the property {} already",
                        self.element, self.to
                    ));
                }
            }
        }
        let properties = |element: Element, labels: &LabelSet, types: &[PropertyType]| -> Vec<PropertyType> {
            let renamed = |p: &PropertyType| PropertyType {
                name: self.property(element, labels, &p.name),
                ..p.clone()
            };
            types.iter().map(renamed).collect()
        };
        let names = |element: Element, labels: &LabelSet, names: &[Arc<str>]| -> Vec<Arc<str>> {
            names.iter().map(|n| self.property(element, labels, n)).collect()
        };
        let end =
            |end: &Endpoint| Endpoint(end.0.iter().map(|set| self.labels(Element::Node, set)).collect());
        let mut new = graph_type.clone();
        for (new, old) in new.nodes.iter_mut().zip(&graph_type.nodes) {
            new.properties = properties(Element::Node, &old.labels, &old.properties);
            new.key = names(Element::Node, &old.labels, &old.key);
            new.labels = self.labels(Element::Node, &old.labels);
            new.key_labels = self.labels(Element::Node, &old.key_labels);
        }
        for (new, old) in new.edges.iter_mut().zip(&graph_type.edges) {
            new.properties = properties(Element::Edge, &old.labels, &old.properties);
            new.key = names(Element::Edge, &old.labels, &old.key);
            new.labels = self.labels(Element::Edge, &old.labels);
            (new.source, new.target) = (end(&old.source), end(&old.target));
        }
        for cardinality in &mut new.cardinalities {
            cardinality.node = self.labels(Element::Node, &cardinality.node);
            let edge = label_set([cardinality.edge.clone()]);
            cardinality.edge = self.labels(Element::Edge, &edge)[0].clone();
        }
        Ok(new)
    }

    pub fn of_created(&self, created: &Created) -> Created {
        let renamed = |keys: &[Arc<KeyDefinition>]| keys.iter().map(|k| Arc::new(self.key(k))).collect();
        Created {
            keys: renamed(&created.keys),
            indexes: renamed(&created.indexes),
            views: created.views.clone(),
            bounds: created.bounds.clone(),
        }
    }
}
