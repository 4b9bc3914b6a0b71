//! What a graph has beside its elements: its type, its keys, its indexes, its views.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::{GraphType, KeyDefinition, ViewDefinition};

#[derive(Clone, Debug, Default, PartialEq)]
pub struct Schema {
    pub graph_type: Option<Arc<GraphType>>,
    /// Those of the graph type first, then those created on their own.
    pub keys: Vec<Arc<KeyDefinition>>,
    pub indexes: Vec<Arc<KeyDefinition>>,
    pub views: Vec<Arc<ViewDefinition>>,
}

/// Keys, indexes and views that were created on their own.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Created {
    pub keys: Vec<Arc<KeyDefinition>>,
    pub indexes: Vec<Arc<KeyDefinition>>,
    #[serde(default)]
    pub views: Vec<Arc<ViewDefinition>>,
}

impl Schema {
    pub fn new(graph_type: Option<Arc<GraphType>>, created: Created) -> Schema {
        let mut keys = graph_type.as_ref().map(|t| t.keys()).unwrap_or_default();
        for key in created.keys {
            if !keys.iter().any(|known| same_place(known, &key)) {
                keys.push(key);
            }
        }
        Schema { graph_type, keys, indexes: created.indexes, views: created.views }
    }

    /// What is not of the graph type.
    pub fn created(&self) -> Created {
        let declared = self.graph_type.as_ref().map(|t| t.keys()).unwrap_or_default();
        Created {
            keys: self.keys.iter().filter(|k| !declared.contains(k)).cloned().collect(),
            indexes: self.indexes.clone(),
            views: self.views.clone(),
        }
    }

    /// The statements that create what is not of the graph type.
    pub fn statements(&self) -> Vec<String> {
        let created = self.created();
        let keys = created.keys.iter().map(|k| format!("CREATE KEY {} OVER {k}", k.name));
        let indexes = created.indexes.iter().map(|i| format!("CREATE INDEX {} OVER {i}", i.name));
        keys.chain(indexes).chain(created.views.iter().map(|view| view.to_string())).collect()
    }
}

/// Whether both are on the same properties of the same elements, whatever their names.
pub fn same_place(a: &KeyDefinition, b: &KeyDefinition) -> bool {
    a.element == b.element && a.label == b.label && a.properties == b.properties
}
