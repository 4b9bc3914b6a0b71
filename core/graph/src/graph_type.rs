//! Graph types: the allowed elements of a closed graph, and the check of elements against them.
//!
//! Two decisions where the standard leaves room. An endpoint names label sets: a node with at least those labels
//! fits, so an edge type to `Site` accepts every kind of site. A `KEY` applies to the node type's key label set
//! (the labels before `=>`, otherwise all): its values are unique among all nodes with the first of those labels.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::counted::counted;
use crate::properties::Properties;
use crate::quoting::quoted;
use crate::{Code, GraphError, LabelSet, Value, ValueType};

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Element {
    Node,
    Edge,
}

impl fmt::Display for Element {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Element::Node => "node",
            Element::Edge => "edge",
        })
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PropertyType {
    pub name: Arc<str>,
    pub value_type: ValueType,
    pub not_null: bool,
    pub default: Option<Value>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NodeType {
    pub name: Option<Arc<str>>,
    pub labels: LabelSet,
    /// Labels that name the type's kind; a subset of `labels`.
    pub key_labels: LabelSet,
    pub properties: Vec<PropertyType>,
    pub key: Vec<Arc<str>>,
}

/// Label sets of which a node must have at least one whole.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Endpoint(pub Vec<LabelSet>);

impl Endpoint {
    pub fn accepts(&self, labels: &LabelSet) -> bool {
        self.0.iter().any(|wanted| wanted.iter().all(|l| labels.binary_search(l).is_ok()))
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct EdgeType {
    pub name: Option<Arc<str>>,
    pub labels: LabelSet,
    pub directed: bool,
    pub source: Endpoint,
    pub target: Endpoint,
    pub properties: Vec<PropertyType>,
    pub key: Vec<Arc<str>>,
}

impl EdgeType {
    /// Whether an edge with these labels between nodes with those can be of this type.
    pub fn takes(&self, labels: &LabelSet, directed: bool, ends: (&LabelSet, &LabelSet)) -> bool {
        let forward = self.source.accepts(ends.0) && self.target.accepts(ends.1);
        let backward = !directed && self.source.accepts(ends.1) && self.target.accepts(ends.0);
        self.labels == *labels && self.directed == directed && (forward || backward)
    }
}

/// `EACH Sensor HAS AT MOST 1 WATCHES`: how many edges with a label a node may be an end of.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cardinality {
    /// Holds for the nodes that have at least these labels.
    pub node: LabelSet,
    pub edge: Arc<str>,
    pub most: u32,
}

impl Cardinality {
    pub fn applies_to(&self, labels: &LabelSet) -> bool {
        self.node.iter().all(|l| labels.binary_search(l).is_ok())
    }

    /// What is said where a node has, or would have, more.
    pub fn exceeded(&self) -> String {
        format!("more than {} :{} at one node, but {self}", counted(self.most.into(), "edge"), self.edge)
    }
}

impl fmt::Display for Cardinality {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "EACH {} HAS AT MOST {} {}", show_labels(&self.node), self.most, quoted(&self.edge))
    }
}

/// A key (the values of `properties` are unique among the elements with `label` that have them all) or
/// an index (the elements with `label` in the order of those values).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeyDefinition {
    pub name: Arc<str>,
    pub element: Element,
    pub label: Arc<str>,
    pub properties: Vec<Arc<str>>,
}

impl fmt::Display for KeyDefinition {
    /// What it is over, as a pattern: `(:Site {code})`, `-[:PIPE {code}]->`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (before, after) = if self.element == Element::Node { ("(", ")") } else { ("-[", "]->") };
        write!(f, "{before}:{} {{{}}}{after}", quoted(&self.label), names(&self.properties))
    }
}

impl KeyDefinition {
    /// The error for values that another element has already.
    pub fn taken(&self, values: &[Value]) -> GraphError {
        let pairs: Vec<String> =
            self.properties.iter().zip(values).map(|(p, v)| format!("{p} = {}", v.excerpt())).collect();
        GraphError::new(
            Code::KEY_VIOLATION,
            format!("there is already a {} :{} with {}", self.element, self.label, pairs.join(", ")),
        )
    }
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct GraphType {
    pub name: Arc<str>,
    pub nodes: Vec<NodeType>,
    pub edges: Vec<EdgeType>,
    #[serde(default)]
    pub cardinalities: Vec<Cardinality>,
}

/// Why an element does not conform: shown as an error, counted by a load.
#[derive(Clone, Debug, PartialEq)]
pub struct Violation {
    pub property: Option<Arc<str>>,
    pub message: String,
    pub hint: Option<String>,
    /// The property has no value; otherwise it has one that it must not have.
    pub is_missing: bool,
}

impl Violation {
    pub fn into_error(self, element: &str) -> GraphError {
        let mut error = GraphError::new(Code::GRAPH_TYPE_VIOLATION, format!("{element}: {}", self.message));
        error.hint = self.hint;
        error
    }
}

/// Labels as the language writes them.
fn joined<'l>(labels: impl IntoIterator<Item = &'l Arc<str>>) -> String {
    labels.into_iter().map(|l| quoted(l)).collect::<Vec<_>>().join("&")
}

pub(crate) fn show_labels(labels: &LabelSet) -> String {
    if labels.is_empty() { "(no label)".into() } else { format!(":{}", joined(labels.iter())) }
}

impl GraphType {
    pub fn node_type(&self, labels: &LabelSet) -> Option<&NodeType> {
        self.nodes.iter().find(|t| t.labels == *labels)
    }

    /// The first type that an edge between nodes with these labels can be of.
    pub fn edge_type(
        &self, labels: &LabelSet, directed: bool, ends: (&LabelSet, &LabelSet),
    ) -> Option<&EdgeType> {
        self.edges.iter().find(|t| t.takes(labels, directed, ends))
    }

    pub fn check_node(&self, labels: &LabelSet, properties: &Properties) -> Result<(), Violation> {
        match self.node_type(labels) {
            Some(node_type) => check_properties(&node_type.properties, properties),
            None => Err(self.no_node_type(labels)),
        }
    }

    pub fn no_node_type(&self, labels: &LabelSet) -> Violation {
        let known: Vec<String> = self.nodes.iter().map(|t| show_labels(&t.labels)).collect();
        Violation {
            property: None,
            message: format!("no node type has exactly the labels {}", show_labels(labels)),
            hint: Some(format!("the graph type has {}", known.join(", "))),
            is_missing: false,
        }
    }

    pub fn check_edge(
        &self, labels: &LabelSet, directed: bool, ends: (&LabelSet, &LabelSet), properties: &Properties,
    ) -> Result<(), Violation> {
        // It is enough to conform to one of them; otherwise the first says what is wrong.
        let mut first = None;
        for edge_type in self.edges.iter().filter(|t| t.takes(labels, directed, ends)) {
            match check_properties(&edge_type.properties, properties) {
                Ok(()) => return Ok(()),
                Err(violation) => first = first.or(Some(violation)),
            }
        }
        Err(first.unwrap_or_else(|| self.no_edge_type(labels, directed, ends)))
    }

    pub fn no_edge_type(&self, labels: &LabelSet, directed: bool, ends: (&LabelSet, &LabelSet)) -> Violation {
        let shape = |from: &str, to: &str, directed: bool| {
            let (open, close) = if directed { ("-[", "]->") } else { ("~[", "]~") };
            format!("({from}){open}{}{close}({to})", show_labels(labels))
        };
        let same: Vec<String> = self
            .edges
            .iter()
            .filter(|t| t.labels == *labels)
            .map(|t| shape(&t.source.to_string(), &t.target.to_string(), t.directed))
            .collect();
        let reversed = directed && self.edge_type(labels, true, (ends.1, ends.0)).is_some();
        let hint = if reversed {
            "the other direction would conform: swap the two ends".into()
        } else if same.is_empty() {
            let mut known: Vec<String> = self.edges.iter().map(|t| show_labels(&t.labels)).collect();
            known.dedup();
            format!("the graph type has edges {}", known.join(", "))
        } else {
            format!("the graph type has {}", same.join(", "))
        };
        let wanted = shape(&show_labels(ends.0), &show_labels(ends.1), directed);
        Violation {
            property: None,
            message: format!("no edge type allows {wanted}"),
            hint: Some(hint),
            is_missing: false,
        }
    }

    /// All keys the types declare, without repeats.
    pub fn keys(&self) -> Vec<Arc<KeyDefinition>> {
        let nodes = self.nodes.iter().map(|t| (Element::Node, &t.key_labels, &t.key));
        let edges = self.edges.iter().map(|t| (Element::Edge, &t.labels, &t.key));
        let mut keys: Vec<Arc<KeyDefinition>> = vec![];
        for (element, labels, properties) in nodes.chain(edges) {
            let (Some(label), false) = (labels.first(), properties.is_empty()) else { continue };
            let known =
                keys.iter().any(|k| k.element == element && k.label == *label && k.properties == *properties);
            if !known {
                keys.push(Arc::new(KeyDefinition {
                    name: format!("{}_{}", label, properties.join("_")).into(),
                    element,
                    label: label.clone(),
                    properties: properties.clone(),
                }));
            }
        }
        keys
    }

    pub fn property_names(&self, element: Element) -> Vec<Arc<str>> {
        let lists: Vec<&Vec<PropertyType>> = match element {
            Element::Node => self.nodes.iter().map(|t| &t.properties).collect(),
            Element::Edge => self.edges.iter().map(|t| &t.properties).collect(),
        };
        lists.into_iter().flatten().map(|p| p.name.clone()).collect()
    }

    /// Gives `properties` their defaults and spells numbers as the declared types want them.
    pub fn complete(types: &[PropertyType], properties: &mut Vec<(Arc<str>, Value)>) {
        for declared in types {
            match properties.iter_mut().find(|(name, _)| *name == declared.name) {
                Some((_, value)) => {
                    let given = std::mem::replace(value, Value::Null);
                    *value = declared.value_type.assign(given);
                }
                None => {
                    if let Some(default) = &declared.default {
                        properties.push((declared.name.clone(), default.clone()));
                    }
                }
            }
        }
    }
}

fn check_properties(types: &[PropertyType], properties: &Properties) -> Result<(), Violation> {
    for (name, value) in properties.iter() {
        let Some(declared) = types.iter().find(|t| t.name == *name) else {
            let known: Vec<&str> = types.iter().map(|t| &*t.name).collect();
            return Err(Violation {
                property: Some(name.clone()),
                message: format!(
                    "property {name} is not in its type (given: {} {})",
                    value.type_name(),
                    value.excerpt()
                ),
                hint: Some(if known.is_empty() {
                    "the type has no properties".into()
                } else {
                    format!("the type has {}", known.join(", "))
                }),
                is_missing: false,
            });
        };
        if !declared.value_type.accepts(value) {
            return Err(Violation {
                property: Some(name.clone()),
                message: format!(
                    "property {name}: expected {}, given {} {}",
                    declared.value_type,
                    value.type_name(),
                    value.excerpt()
                ),
                hint: None,
                is_missing: false,
            });
        }
    }
    for declared in types.iter().filter(|t| t.not_null) {
        if !properties.iter().any(|(name, _)| *name == declared.name) {
            return Err(Violation {
                property: Some(declared.name.clone()),
                message: format!(
                    "property {}: expected {} NOT NULL, given null",
                    declared.name, declared.value_type
                ),
                hint: None,
                is_missing: true,
            });
        }
    }
    Ok(())
}

impl fmt::Display for Endpoint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sets: Vec<String> = self.0.iter().map(|s| format!(":{}", joined(s.iter()))).collect();
        f.write_str(&sets.join("|"))
    }
}

fn write_properties(f: &mut fmt::Formatter<'_>, types: &[PropertyType]) -> fmt::Result {
    if types.is_empty() {
        return Ok(());
    }
    let shown: Vec<String> = types
        .iter()
        .map(|t| {
            let null = if t.not_null { " NOT NULL" } else { "" };
            let default = t.default.as_ref().map(|d| format!(" DEFAULT {}", d.literal())).unwrap_or_default();
            format!("{} {}{null}{default}", quoted(&t.name), t.value_type)
        })
        .collect();
    write!(f, " {{ {} }}", shown.join(", "))
}

fn names(names: &[Arc<str>]) -> String {
    names.iter().map(|n| quoted(n)).collect::<Vec<_>>().join(", ")
}

fn write_key(f: &mut fmt::Formatter<'_>, key: &[Arc<str>]) -> fmt::Result {
    if key.is_empty() { Ok(()) } else { write!(f, " KEY ({})", names(key)) }
}

/// The type as the language's own text, which reads back to the same type.
impl fmt::Display for GraphType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "CREATE GRAPH TYPE {} AS {{", quoted(&self.name))?;
        let total = self.nodes.len() + self.edges.len() + self.cardinalities.len();
        let mut line = 0;
        let mut end = |f: &mut fmt::Formatter<'_>| {
            line += 1;
            writeln!(f, "{}", if line < total { "," } else { "" })
        };
        for t in &self.nodes {
            f.write_str("  (")?;
            if let Some(name) = &t.name {
                write!(f, "{} ", quoted(name))?;
            }
            if t.key_labels == t.labels {
                write!(f, ":{}", joined(t.labels.iter()))?;
            } else {
                let implied = t.labels.iter().filter(|l| !t.key_labels.contains(l));
                write!(f, ":{} => :{}", joined(t.key_labels.iter()), joined(implied))?;
            }
            write_properties(f, &t.properties)?;
            write_key(f, &t.key)?;
            f.write_str(")")?;
            end(f)?;
        }
        for t in &self.edges {
            let (open, close) = if t.directed { ("-[", "]->") } else { ("~[", "]~") };
            write!(f, "  ({}){open}", t.source)?;
            if let Some(name) = &t.name {
                write!(f, "{} ", quoted(name))?;
            }
            write!(f, ":{}", joined(t.labels.iter()))?;
            write_properties(f, &t.properties)?;
            write_key(f, &t.key)?;
            write!(f, "{close}({})", t.target)?;
            end(f)?;
        }
        for cardinality in &self.cardinalities {
            write!(f, "  {cardinality}")?;
            end(f)?;
        }
        f.write_str("}")
    }
}
