//! Checking the rules of a mapping: what a row's nodes and edges are made of, and the keys they refer by.

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_graph::{
    EdgeType, Element, Endpoint, GraphType, KeyDefinition, LabelSet, PropertyType, Snapshot, ValueType,
    label_set,
};
use graphodrome_language::{nearest, parse_value_type};

use crate::load::LoadError;
use crate::load::plan::{
    Columns, EdgePlan, Input, KeySpace, NodePlan, PropertyPlan, ReferencePlan, mapping_error,
};
use crate::mapping::{EdgeRule, Field, Mapping, NodeRule, Reference};

/// Types of the properties of everything that has these labels.
pub(super) fn declared_nodes(snapshot: &Snapshot, labels: &LabelSet) -> Option<Vec<PropertyType>> {
    let graph_type = snapshot.graph_type.as_ref()?;
    let mut found: Vec<PropertyType> = vec![];
    for t in graph_type.nodes.iter().filter(|t| labels.iter().all(|l| t.labels.contains(l))) {
        for property in &t.properties {
            if !found.iter().any(|p| p.name == property.name) {
                found.push(property.clone());
            }
        }
    }
    Some(found)
}

/// Every property that some node type has: none of them need be given.
fn all_declared(snapshot: &Snapshot) -> Option<Vec<PropertyType>> {
    let graph_type = snapshot.graph_type.as_ref()?;
    Some(optional_properties(graph_type.nodes.iter().flat_map(|t| &t.properties)))
}

fn all_declared_edges(snapshot: &Snapshot) -> Option<Vec<PropertyType>> {
    let graph_type = snapshot.graph_type.as_ref()?;
    Some(optional_properties(graph_type.edges.iter().flat_map(|t| &t.properties)))
}

/// Each name once, of any type where types differ: what an element must have is known with its labels.
fn optional_properties<'t>(properties: impl Iterator<Item = &'t PropertyType>) -> Vec<PropertyType> {
    let mut found: Vec<PropertyType> = vec![];
    for property in properties {
        match found.iter_mut().find(|p| p.name == property.name) {
            Some(known) if known.value_type == property.value_type => {}
            Some(known) => known.value_type = ValueType::Any,
            None => found.push(PropertyType { not_null: false, default: None, ..property.clone() }),
        }
    }
    found
}

fn properties_plan(
    shown: &str, given: &BTreeMap<String, Field>, types: &BTreeMap<String, String>,
    declared: Option<Vec<PropertyType>>, columns: &mut Columns<'_>, untyped: &ValueType,
) -> Result<Vec<PropertyPlan>, LoadError> {
    let table = columns.table;
    for name in types.keys() {
        if !given.contains_key(name) {
            return Err(mapping_error(format!(
                "table {table}, {shown}: types names {name}, which is not among its properties"
            )));
        }
    }
    let mut plans = vec![];
    for (name, field) in given {
        if name.starts_with('#') {
            return Err(mapping_error(format!(
                "table {table}, {shown}: a property's name cannot begin with #: {name}"
            )));
        }
        let own = types
            .get(name)
            .map(|text| {
                parse_value_type(text)
                    .map_err(|e| mapping_error(format!("table {table}, {shown}, {name}: {e}")))
            })
            .transpose()?;
        let known = declared.as_ref().map(|d| d.iter().find(|p| *p.name == **name));
        let (value_type, not_null, default) = match (known, own) {
            (Some(None), _) => {
                let names: Vec<&str> = declared.iter().flatten().map(|p| &*p.name).collect();
                let hint = match nearest(name, names.iter().copied()) {
                    Some(near) => format!("did you mean {near}?"),
                    None => format!("it has {}", names.join(", ")),
                };
                return Err(mapping_error(format!(
                    "table {table}, {shown}: the graph type has no property {name}; {hint}"
                )));
            }
            (Some(Some(p)), _) => (p.value_type.clone(), p.not_null, p.default.clone()),
            (None, Some(own)) => (own, false, None),
            (None, None) => (untyped.clone(), false, None),
        };
        plans.push(PropertyPlan {
            name: name.as_str().into(),
            input: columns.input(field)?,
            value_type,
            not_null,
            default,
            date_order: None,
        });
    }
    for missing in declared.iter().flatten().filter(|p| !given.contains_key(&*p.name)) {
        if missing.default.is_some() {
            plans.push(PropertyPlan {
                name: missing.name.clone(),
                input: Input::Nothing,
                value_type: missing.value_type.clone(),
                not_null: missing.not_null,
                default: missing.default.clone(),
                date_order: None,
            });
        } else if missing.not_null {
            return Err(mapping_error(format!(
                "table {table}, {shown}: the property {} must not be null, but the rule gives no column for it",
                missing.name
            )));
        }
    }
    Ok(plans)
}

pub(super) fn node_plan(
    rule: &NodeRule, snapshot: &Snapshot, columns: &mut Columns<'_>, untyped: &ValueType,
) -> Result<NodePlan, LoadError> {
    let table = columns.table;
    let labels = label_set(rule.labels.iter().map(String::as_str));
    let shown = match &rule.label_from {
        Some(column) if labels.is_empty() => format!("(:{{{column}}})"),
        _ => format!("(:{})", rule.labels.join("&")),
    };
    if labels.is_empty() && rule.label_from.is_none() {
        return Err(mapping_error(format!("table {table}: a node rule needs labels or label_from")));
    }
    // Which type a node is of that has its labels from a column, each row says.
    let declared = if labels.is_empty() { all_declared(snapshot) } else { declared_nodes(snapshot, &labels) };
    if let (Some(graph_type), Some([])) = (&snapshot.graph_type, declared.as_deref())
        && !graph_type.nodes.iter().any(|t| labels.iter().all(|l| t.labels.contains(l)))
    {
        let known = graph_type.nodes.iter().flat_map(|t| t.labels.iter().map(|l| &**l));
        let hint =
            nearest(&rule.labels[0], known).map(|n| format!("; did you mean {n}?")).unwrap_or_default();
        return Err(mapping_error(format!("table {table}: the graph type has no node type {shown}{hint}")));
    }
    let mut properties = properties_plan(&shown, &rule.properties, &rule.types, declared, columns, untyped)?;
    // The graph type's key; otherwise one that was created and is meant: named by the rule, or given whole.
    let of_type = snapshot.graph_type.as_ref().map(|t| t.keys()).unwrap_or_default();
    let is_meant = |key: &KeyDefinition| match rule.key.is_empty() {
        true => key.properties.iter().all(|p| properties.iter().any(|have| have.name == *p)),
        false => {
            key.properties.len() == rule.key.len()
                && key.properties.iter().all(|p| rule.key.iter().any(|k| **k == **p))
        }
    };
    let of_labels = |k: &&Arc<KeyDefinition>| k.element == Element::Node && labels.contains(&k.label);
    let mut keys = snapshot.keys.iter().filter(of_labels);
    let declared_key = keys.find(|k| of_type.contains(k) || is_meant(k));
    let space = match (declared_key, rule.key.is_empty()) {
        (Some(key), _) => Some(KeySpace { label: key.label.clone(), properties: key.properties.clone() }),
        (None, false) => Some(KeySpace {
            label: rule
                .labels
                .first()
                .ok_or_else(|| mapping_error(format!("table {table}: a node rule with a key needs a label")))?
                .as_str()
                .into(),
            properties: rule.key.iter().map(|k| k.as_str().into()).collect(),
        }),
        (None, true) => None,
    };
    let key = match space {
        None => None,
        Some(mut space) => {
            // By name, as references have them.
            space.properties.sort();
            let places = space.properties.iter().map(|p| {
                properties.iter().position(|have| have.name == *p).ok_or_else(|| {
                    mapping_error(format!(
                        "table {table}, {shown}: its key needs the property {p}, which the rule does not give"
                    ))
                })
            });
            let places: Vec<usize> = places.collect::<Result<_, _>>()?;
            Some((space, places))
        }
    };
    let mut key = key;
    if let Some(field) = &rule.id {
        properties.push(PropertyPlan::of_id(columns.input(field)?));
        key = key.or_else(|| Some((KeySpace::ids(), vec![properties.len() - 1])));
    }
    Ok(NodePlan {
        label_from: columns.labels(rule.label_from.as_ref(), rule.label_split.as_ref())?,
        filter: columns.filter(rule.filter.as_ref())?,
        shown,
        labels,
        properties,
        key,
        has_id: rule.id.is_some(),
        existing: rule.existing,
        optional: rule.optional,
        created_by: None,
    })
}

pub(super) fn edge_plan(
    rule: &EdgeRule, mapping: &Mapping, snapshot: &Snapshot, columns: &mut Columns<'_>, untyped: &ValueType,
) -> Result<EdgePlan, LoadError> {
    let table = columns.table;
    let shown_label = match (&rule.label_from, rule.label.as_str()) {
        (Some(column), "") => format!("{{{column}}}"),
        (None, "") => {
            return Err(mapping_error(format!("table {table}: an edge rule needs a label or label_from")));
        }
        (_, label) => label.to_string(),
    };
    let label = label_set(Some(rule.label.as_str()).filter(|l| !l.is_empty()));
    let shown = if rule.undirected { format!("~[:{shown_label}]~") } else { format!("-[:{shown_label}]->") };
    let declared: Option<Vec<PropertyType>> = match snapshot.graph_type.as_deref() {
        None => None,
        Some(_) if rule.label_from.is_some() => all_declared_edges(snapshot),
        Some(graph_type) => Some(declared_edges(table, rule, graph_type, &label)?),
    };
    let properties = properties_plan(&shown, &rule.properties, &rule.types, declared, columns, untyped)?;
    let key = snapshot
        .keys
        .iter()
        .enumerate()
        .filter(|(_, k)| k.element == Element::Edge && label.contains(&k.label))
        // Edges that lack a property of a key have no such key.
        .find_map(|(key, definition)| {
            let place = |p: &Arc<str>| properties.iter().position(|have| have.name == *p);
            Some((key, definition.properties.iter().map(place).collect::<Option<Vec<usize>>>()?))
        });
    Ok(EdgePlan {
        from: reference_plan(&shown, &rule.source, mapping, snapshot, columns)?,
        to: reference_plan(&shown, &rule.target, mapping, snapshot, columns)?,
        label_from: columns.labels(rule.label_from.as_ref(), rule.label_split.as_ref())?,
        filter: columns.filter(rule.filter.as_ref())?,
        shown,
        label,
        directed: !rule.undirected,
        properties,
        key,
        same: rule.same,
        existing: rule.existing,
        optional: rule.optional,
    })
}

fn declared_edges(
    table: &str, rule: &EdgeRule, graph_type: &GraphType, label: &LabelSet,
) -> Result<Vec<PropertyType>, LoadError> {
    let matching: Vec<&EdgeType> = graph_type.edges.iter().filter(|t| t.labels == *label).collect();
    if matching.is_empty() {
        let near = nearest(&rule.label, graph_type.edges.iter().flat_map(|t| t.labels.iter().map(|l| &**l)));
        let hint = near.map(|n| format!("; did you mean {n}?")).unwrap_or_default();
        return Err(mapping_error(format!(
            "table {table}: the graph type has no edge type :{}{hint}",
            rule.label
        )));
    }
    if matching.iter().all(|t| t.directed == rule.undirected) {
        let kind = if rule.undirected { "directed" } else { "undirected" };
        return Err(mapping_error(format!(
            "table {table}: edges :{} are {kind} in the graph type",
            rule.label
        )));
    }
    // Of several types with this label, those whose ends the references can be.
    let can_be = |reference: &Reference, end: &Endpoint| {
        let nodes = graph_type.nodes.iter();
        let mut named =
            nodes.filter(|t| reference.labels.iter().any(|l| t.labels.iter().any(|own| **own == **l)));
        named.any(|t| end.accepts(&t.labels))
    };
    let fits = |t: &&EdgeType| {
        let forward = can_be(&rule.source, &t.source) && can_be(&rule.target, &t.target);
        forward || (!t.directed && can_be(&rule.source, &t.target) && can_be(&rule.target, &t.source))
    };
    let fitting: Vec<&EdgeType> = matching.iter().copied().filter(fits).collect();
    // Where none fits, every row will say so.
    let matching = if fitting.is_empty() { matching } else { fitting };
    let mut found: Vec<PropertyType> = vec![];
    for property in matching.iter().flat_map(|t| &t.properties) {
        if !found.iter().any(|p| p.name == property.name) {
            found.push(property.clone());
        }
    }
    Ok(found)
}

fn reference_plan(
    shown: &str, reference: &Reference, mapping: &Mapping, snapshot: &Snapshot, columns: &mut Columns<'_>,
) -> Result<ReferencePlan, LoadError> {
    let table = columns.table;
    if let Some(field) = &reference.id {
        if !reference.key.is_empty() {
            return Err(mapping_error(format!(
                "table {table}, {shown}: a reference has a key or an id, not both"
            )));
        }
        let gives_ids = mapping.tables.iter().flat_map(|t| &t.nodes).any(|n| n.id.is_some());
        if !gives_ids {
            return Err(mapping_error(format!(
                "table {table}, {shown}: no node rule gives an id to refer to: add id = \"...\" to it"
            )));
        }
        let column = (columns.input(field)?, ValueType::Any);
        return Ok(ReferencePlan { spaces: vec![KeySpace::ids()], columns: vec![column], create: None });
    }
    let properties: Vec<Arc<str>> = reference.key.keys().map(|k| k.as_str().into()).collect();
    if properties.is_empty() || reference.labels.is_empty() {
        return Err(mapping_error(format!("table {table}, {shown}: a reference needs labels and a key")));
    }
    let mut spaces = vec![];
    let mut types: Vec<Option<ValueType>> = vec![None; properties.len()];
    for label in &reference.labels {
        let label: Arc<str> = label.as_str().into();
        let key = snapshot.keys.iter().find(|k| k.element == Element::Node && k.label == label);
        if let Some(key) = key {
            let mut declared = key.properties.clone();
            declared.sort();
            if declared != properties {
                return Err(mapping_error(format!(
                    "table {table}, {shown}: the key of {label} is ({}), not ({})",
                    key.properties.join(", "),
                    properties.join(", ")
                )));
            }
        }
        let set = label_set([&*label]);
        for (place, property) in properties.iter().enumerate() {
            let declared =
                declared_nodes(snapshot, &set).and_then(|d| d.into_iter().find(|p| p.name == *property));
            let found = match declared {
                Some(p) => Some(p.value_type),
                None => mapping
                    .tables
                    .iter()
                    .flat_map(|t| &t.nodes)
                    .filter(|n| n.labels.iter().any(|l| **l == *label))
                    .find_map(|n| n.types.get(&**property))
                    .and_then(|text| parse_value_type(text).ok())
                    .or_else(|| existing_type(snapshot, &label, property)),
            };
            if types[place].is_none() {
                types[place] = found;
            }
        }
        spaces.push(KeySpace { label, properties: properties.clone() });
    }
    let mut fields = vec![];
    for (field, value_type) in reference.key.values().zip(types) {
        fields.push((columns.input(field)?, value_type.unwrap_or(ValueType::TEXT)));
    }
    Ok(ReferencePlan { spaces, columns: fields, create: None })
}

/// The type of a property that nodes of an open graph have already.
fn existing_type(snapshot: &Snapshot, label: &Arc<str>, property: &str) -> Option<ValueType> {
    let table =
        snapshot.base.nodes.iter().find(|t| t.labels.contains(label) && t.column(property).is_some())?;
    let column = table.column(property)?;
    (0..column.len().min(100)).map(|row| column.value(row)).find(|v| !v.is_null()).map(|v| ValueType::of(&v))
}
