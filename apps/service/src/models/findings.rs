//! Findings about a graph: violations of its model and suspicious data.

use graphodrome_graph::{Dense, Element, Finding, Snapshot};
use serde::Serialize;
use utoipa::ToSchema;

use crate::models::form::texts;

#[derive(Serialize, ToSchema)]
pub struct ModelFinding {
    /// `node` or `edge`.
    pub element: String,
    pub labels: Vec<String>,
    pub property: Option<String>,
    pub message: String,
    /// A query that finds all of them.
    pub query: Option<String>,
    pub count: u64,
    /// The first few, as label and key.
    pub examples: Vec<String>,
}

/// An element as a person knows it: its labels and its key, or all of its properties where it has none.
fn shown(snapshot: &Snapshot, element: Element, id: Dense) -> String {
    let (labels, properties) = match element {
        Element::Node => (snapshot.node_labels(id), snapshot.node_properties(id)),
        Element::Edge => (snapshot.edge_labels(id), snapshot.edge_properties(id)),
    };
    let key = snapshot.keys.iter().find(|k| k.element == element && labels.contains(&k.label));
    let told = properties.iter().filter(|(name, _)| key.is_none_or(|k| k.properties.contains(name)));
    let pairs: Vec<String> = told.take(3).map(|(n, v)| format!("{n}: {}", v.excerpt())).collect();
    format!(":{} {{{}}}", labels.join("&"), pairs.join(", "))
}

/// Something that breaks a model.
pub fn model_finding(snapshot: &Snapshot, finding: Finding) -> ModelFinding {
    let message = format!("{} :{}: {}", finding.element, finding.labels.join("&"), finding.message);
    ModelFinding { message, ..soft_finding(snapshot, finding) }
}

pub fn soft_finding(snapshot: &Snapshot, finding: Finding) -> ModelFinding {
    let Finding { element, labels, property, message, query, count, examples } = finding;
    ModelFinding {
        message,
        element: element.to_string(),
        labels: texts(labels.iter()),
        property: property.map(|p| p.to_string()),
        query,
        count,
        examples: examples.into_iter().map(|id| shown(snapshot, element, id)).collect(),
    }
}
