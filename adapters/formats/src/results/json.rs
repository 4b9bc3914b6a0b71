//! Values as JSON. Elements are objects with labels, key and properties; temporal values are ISO 8601 texts;
//! decimals are texts, so that no digit is lost.

use graphodrome_graph::{Dense, Element, Snapshot, Value};
use serde_json::{Value as Json, json};

pub fn value_json(value: &Value, snapshot: &Snapshot) -> Json {
    match value {
        Value::Null => Json::Null,
        Value::Bool(b) => Json::Bool(*b),
        Value::Int(i) => json!(i),
        // JSON has no NaN and no infinity.
        Value::Float(f) if f.is_finite() => json!(f),
        Value::Node(n) => element_json(Element::Node, *n, snapshot),
        Value::Edge(e) => element_json(Element::Edge, *e, snapshot),
        Value::Path(path) => json!({
            "type": "path",
            "length": path.edges.len(),
            "nodes": path.nodes.iter().map(|n| element_json(Element::Node, *n, snapshot)).collect::<Vec<_>>(),
            "edges": path.edges.iter().map(|e| element_json(Element::Edge, *e, snapshot)).collect::<Vec<_>>(),
        }),
        Value::List(items) => Json::Array(items.iter().map(|v| value_json(v, snapshot)).collect()),
        Value::Record(fields) => {
            Json::Object(fields.iter().map(|(name, v)| (name.to_string(), value_json(v, snapshot))).collect())
        }
        other => Json::String(other.to_string()),
    }
}

pub fn element_json(element: Element, id: Dense, snapshot: &Snapshot) -> Json {
    let (labels, properties, own_id) = match element {
        Element::Node => {
            (snapshot.node_labels(id), snapshot.node_properties(id), format!("n{}", snapshot.node_id(id)))
        }
        Element::Edge => {
            (snapshot.edge_labels(id), snapshot.edge_properties(id), format!("e{}", snapshot.edge_id(id)))
        }
    };
    // The key's properties first: what a person knows the element by.
    let key: Vec<_> = snapshot
        .keys
        .iter()
        .find(|k| k.element == element && labels.contains(&k.label))
        .map(|k| k.properties.clone())
        .unwrap_or_default();
    let mut object = serde_json::Map::new();
    for name in &key {
        if let Some((_, value)) = properties.iter().find(|(n, _)| n == name) {
            object.insert(name.to_string(), value_json(value, snapshot));
        }
    }
    for (name, value) in properties.iter().filter(|(n, _)| !key.contains(n)) {
        object.insert(name.to_string(), value_json(value, snapshot));
    }
    let labels: Vec<&str> = labels.iter().map(|l| &**l).collect();
    let key: Vec<&str> = key.iter().map(|k| &**k).collect();
    match element {
        Element::Node => {
            json!({ "type": "node", "id": own_id, "labels": labels, "key": key, "properties": object })
        }
        Element::Edge => {
            let (source, target) = snapshot.edge_ends(id);
            json!({
                "type": "edge",
                "id": own_id,
                "labels": labels,
                "key": key,
                "directed": snapshot.edge_directed(id),
                "source": format!("n{}", snapshot.node_id(source)),
                "target": format!("n{}", snapshot.node_id(target)),
                "properties": object,
            })
        }
    }
}
