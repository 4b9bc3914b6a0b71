//! A graph type as JSON, and back to text.

use std::sync::Arc;

use graphodrome_graph::{
    Cardinality, EdgeType, GraphType, LabelSet, NodeType, PropertyType, Snapshot, quoted,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ModelProperty {
    pub name: String,
    #[serde(rename = "type")]
    pub value_type: String,
    #[serde(default)]
    pub not_null: bool,
    /// As a literal of the language.
    #[serde(default)]
    pub default: Option<String>,
}

#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ModelNodeType {
    #[serde(default)]
    pub name: Option<String>,
    pub labels: Vec<String>,
    /// The labels its key holds for.
    #[serde(default)]
    pub key_labels: Vec<String>,
    #[serde(default)]
    pub properties: Vec<ModelProperty>,
    #[serde(default)]
    pub key: Vec<String>,
    /// Nodes with exactly these labels.
    #[serde(default)]
    pub count: u64,
}

#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ModelEdgeType {
    #[serde(default)]
    pub name: Option<String>,
    pub labels: Vec<String>,
    pub directed: bool,
    /// Label sets of which the source has at least one whole.
    pub source: Vec<Vec<String>>,
    pub target: Vec<Vec<String>>,
    #[serde(default)]
    pub properties: Vec<ModelProperty>,
    #[serde(default)]
    pub key: Vec<String>,
    /// Edges with exactly these labels, whatever their ends.
    #[serde(default)]
    pub count: u64,
}

/// A graph's model.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct ModelAnswer {
    pub graph: String,
    pub version: u64,
    /// Whether the graph type is declared; otherwise it says what is in the graph now.
    pub closed: bool,
    /// The graph type as text of the language.
    pub text: String,
    #[serde(flatten)]
    pub types: ModelTypes,
    /// Keys and indexes that were created on their own, as statements.
    pub lookups: Vec<String>,
}

/// A graph type as JSON; GET /v1/schemas/graph-type has its JSON Schema.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelTypes {
    pub name: String,
    pub node_types: Vec<ModelNodeType>,
    #[serde(default)]
    pub edge_types: Vec<ModelEdgeType>,
    #[serde(default)]
    pub cardinalities: Vec<ModelCardinality>,
}

/// How many edges with a label a node may be an end of.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ModelCardinality {
    /// The nodes with at least these labels.
    pub labels: Vec<String>,
    pub edge_label: String,
    pub most: u32,
}

pub(crate) fn texts<'t>(names: impl IntoIterator<Item = &'t Arc<str>>) -> Vec<String> {
    names.into_iter().map(|n| n.to_string()).collect()
}

fn properties(types: &[PropertyType]) -> Vec<ModelProperty> {
    types
        .iter()
        .map(|p| ModelProperty {
            name: p.name.to_string(),
            value_type: p.value_type.to_string(),
            not_null: p.not_null,
            default: p.default.as_ref().map(|d| d.literal()),
        })
        .collect()
}

/// A graph type as JSON; with a snapshot, how many elements are of each type.
pub fn types(graph_type: &GraphType, snapshot: Option<&Snapshot>) -> ModelTypes {
    let (nodes, edges) = snapshot.map(|s| (s.node_label_counts(), s.edge_label_counts())).unwrap_or_default();
    let count = |counts: &[(LabelSet, u64)], labels: &LabelSet| {
        counts.iter().find(|(known, _)| known == labels).map_or(0, |(_, n)| *n)
    };
    let node = |t: &NodeType| ModelNodeType {
        name: t.name.as_ref().map(|n| n.to_string()),
        labels: texts(t.labels.iter()),
        key_labels: texts(t.key_labels.iter()),
        properties: properties(&t.properties),
        key: texts(&t.key),
        count: count(&nodes, &t.labels),
    };
    let edge = |t: &EdgeType| ModelEdgeType {
        name: t.name.as_ref().map(|n| n.to_string()),
        labels: texts(t.labels.iter()),
        directed: t.directed,
        source: t.source.0.iter().map(|set| texts(set.iter())).collect(),
        target: t.target.0.iter().map(|set| texts(set.iter())).collect(),
        properties: properties(&t.properties),
        key: texts(&t.key),
        count: count(&edges, &t.labels),
    };
    let cardinality = |c: &Cardinality| ModelCardinality {
        labels: texts(c.node.iter()),
        edge_label: c.edge.to_string(),
        most: c.most,
    };
    ModelTypes {
        name: graph_type.name.to_string(),
        node_types: graph_type.nodes.iter().map(node).collect(),
        edge_types: graph_type.edges.iter().map(edge).collect(),
        cardinalities: graph_type.cardinalities.iter().map(cardinality).collect(),
    }
}

pub fn answer(graph: &str, snapshot: &Snapshot, graph_type: &GraphType) -> ModelAnswer {
    ModelAnswer {
        graph: graph.to_string(),
        version: snapshot.version,
        closed: snapshot.graph_type.is_some(),
        text: format!("{graph_type};"),
        types: types(graph_type, Some(snapshot)),
        lookups: snapshot.schema().statements(),
    }
}

fn property_texts(properties: &[ModelProperty]) -> String {
    if properties.is_empty() {
        return String::new();
    }
    let text = |p: &ModelProperty| {
        let null = if p.not_null { " NOT NULL" } else { "" };
        let default = p.default.as_ref().map(|d| format!(" DEFAULT {d}")).unwrap_or_default();
        format!("{} {}{null}{default}", quoted(&p.name), p.value_type)
    };
    format!(" {{ {} }}", properties.iter().map(text).collect::<Vec<_>>().join(", "))
}

fn names(names: &[String], between: &str) -> String {
    names.iter().map(|n| quoted(n)).collect::<Vec<_>>().join(between)
}

impl ModelTypes {
    /// The graph type as text of the language: as it was given, right or wrong.
    pub fn text(&self) -> String {
        let key = |key: &[String]| match key {
            [] => String::new(),
            key => format!(" KEY ({})", names(key, ", ")),
        };
        let named =
            |name: &Option<String>| name.as_ref().map(|n| format!("{} ", quoted(n))).unwrap_or_default();
        let mut lines = vec![];
        for t in &self.node_types {
            let implied: Vec<String> =
                t.labels.iter().filter(|l| !t.key_labels.contains(l)).cloned().collect();
            let labels = if t.key_labels.is_empty() || implied.is_empty() {
                names(&t.labels, "&")
            } else {
                format!("{} => :{}", names(&t.key_labels, "&"), names(&implied, "&"))
            };
            let (name, rest) = (named(&t.name), property_texts(&t.properties));
            lines.push(format!("  ({name}:{labels}{rest}{})", key(&t.key)));
        }
        for t in &self.edge_types {
            let end = |sets: &[Vec<String>]| {
                sets.iter().map(|set| format!(":{}", names(set, "&"))).collect::<Vec<_>>().join("|")
            };
            let (open, close) = if t.directed { ("-[", "]->") } else { ("~[", "]~") };
            let filler = format!(
                "{}:{}{}{}",
                named(&t.name),
                names(&t.labels, "&"),
                property_texts(&t.properties),
                key(&t.key)
            );
            lines.push(format!("  ({}){open}{filler}{close}({})", end(&t.source), end(&t.target)));
        }
        for c in &self.cardinalities {
            lines.push(format!(
                "  EACH :{} HAS AT MOST {} {}",
                names(&c.labels, "&"),
                c.most,
                quoted(&c.edge_label)
            ));
        }
        format!("CREATE GRAPH TYPE {} AS {{\n{}\n}};", quoted(&self.name), lines.join(",\n"))
    }
}
