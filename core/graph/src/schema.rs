//! Schema of a graph: its type, keys, indexes, views and distance bounds.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::{BoundDefinition, GraphType, KeyDefinition, ViewDefinition};

#[derive(Clone, Debug, Default, PartialEq)]
pub struct Schema {
    pub graph_type: Option<Arc<GraphType>>,
    /// Those of the graph type first, then those created on their own.
    pub keys: Vec<Arc<KeyDefinition>>,
    pub indexes: Vec<Arc<KeyDefinition>>,
    pub views: Vec<Arc<ViewDefinition>>,
    pub bounds: Vec<Arc<BoundDefinition>>,
}

/// Keys, indexes, views and distance bounds that were created on their own.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Created {
    pub keys: Vec<Arc<KeyDefinition>>,
    pub indexes: Vec<Arc<KeyDefinition>>,
    #[serde(default)]
    pub views: Vec<Arc<ViewDefinition>>,
    #[serde(default)]
    pub bounds: Vec<Arc<BoundDefinition>>,
}

impl Schema {
    pub fn new(graph_type: Option<Arc<GraphType>>, created: Created) -> Schema {
        let mut keys = graph_type.as_ref().map(|t| t.keys()).unwrap_or_default();
        for key in created.keys.iter().cloned() {
            if !keys.iter().any(|known| same_place(known, &key)) {
                keys.push(key);
            }
        }
        let Created { indexes, views, bounds, .. } = created;
        Schema { graph_type, keys, indexes, views, bounds }
    }

    /// What is not of the graph type.
    pub fn created(&self) -> Created {
        let declared = self.graph_type.as_ref().map(|t| t.keys()).unwrap_or_default();
        Created {
            keys: self.keys.iter().filter(|k| !declared.contains(k)).cloned().collect(),
            indexes: self.indexes.clone(),
            views: self.views.clone(),
            bounds: self.bounds.clone(),
        }
    }

    /// The statements that create what is not of the graph type.
    pub fn statements(&self) -> Vec<String> {
        let created = self.created();
        let keys = created.keys.iter().map(|k| format!("CREATE KEY {} OVER {k}", k.name));
        let indexes = created.indexes.iter().map(|i| format!("CREATE INDEX {} OVER {i}", i.name));
        let views = created.views.iter().map(|view| view.to_string());
        let bounds = created.bounds.iter().map(|bound| bound.to_string());
        keys.chain(indexes).chain(views).chain(bounds).collect()
    }
}

/// Whether both are on the same properties of the same elements, whatever their names.
pub fn same_place(a: &KeyDefinition, b: &KeyDefinition) -> bool {
    a.element == b.element && a.label == b.label && a.properties == b.properties
}
