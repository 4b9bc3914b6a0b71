//! Rows stored as JSON.

use graphodrome_graph::GraphType;

use crate::StoreError;

pub(crate) fn parsed_type(definition: serde_json::Value) -> Result<GraphType, StoreError> {
    serde_json::from_value(definition).map_err(|e| StoreError::Damaged(e.to_string()))
}

pub(crate) fn to_json(value: &impl serde::Serialize) -> Result<serde_json::Value, StoreError> {
    serde_json::to_value(value).map_err(|e| StoreError::Damaged(e.to_string()))
}
