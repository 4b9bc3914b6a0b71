//! The properties of one element.

use std::sync::Arc;

use crate::Value;

/// Properties sorted by name, nulls left out.
pub type Properties = Arc<[(Arc<str>, Value)]>;

pub(crate) fn get_property(properties: &Properties, name: &str) -> Value {
    match properties.binary_search_by(|(n, _)| (**n).cmp(name)) {
        Ok(i) => properties[i].1.clone(),
        Err(_) => Value::Null,
    }
}
