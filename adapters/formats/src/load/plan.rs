//! Checking a mapping against its tables and the graph before a row is read: every column, property
//! and key it names must exist.

use std::collections::BTreeMap;
use std::sync::Arc;

use graphodrome_graph::{
    EdgeType, Element, Endpoint, GraphType, KeyDefinition, LabelSet, PropertyType, Snapshot, Value,
    ValueType, label_set,
};
use graphodrome_language::{nearest, parse_value_type};

use crate::load::parquet;
use crate::load::{LoadError, Source};
use crate::mapping::{DateOrder, EdgeRule, Mapping, MappingError, NodeRule, Reference, Same, TableFormat};

pub(crate) struct TablePlan {
    pub name: String,
    pub source: Arc<Source>,
    pub format: TableFormat,
    pub delimiter: u8,
    pub null: Vec<String>,
    /// Columns by position for CSV; for JSON Lines the fields the rules name.
    pub columns: Vec<String>,
    /// Where the rows begin.
    pub body: usize,
    pub nodes: Vec<NodePlan>,
    pub edges: Vec<EdgePlan>,
}

/// A property, the column it comes from, its type.
#[derive(Clone, Debug)]
pub(crate) struct PropertyPlan {
    pub name: Arc<str>,
    pub column: usize,
    pub value_type: ValueType,
    pub not_null: bool,
    pub default: Option<Value>,
    /// For dates that are no ISO dates.
    pub date_order: Option<DateOrder>,
}

/// The column of a property that the rule does not give and that has a default.
pub(crate) const NO_COLUMN: usize = usize::MAX;

pub(crate) struct NodePlan {
    pub shown: String,
    pub labels: LabelSet,
    pub label_from: Option<usize>,
    pub properties: Vec<PropertyPlan>,
    /// The space its key is unique in, and the places of the key's properties.
    pub key: Option<(KeySpace, Vec<usize>)>,
    pub optional: bool,
}

pub(crate) struct EdgePlan {
    pub shown: String,
    pub label: LabelSet,
    pub directed: bool,
    pub from: ReferencePlan,
    pub to: ReferencePlan,
    pub properties: Vec<PropertyPlan>,
    /// Places of the declared key's properties.
    pub key: Option<(usize, Vec<usize>)>,
    pub keep_same: bool,
    pub optional: bool,
}

/// Nodes with a label, identified by properties.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct KeySpace {
    pub label: Arc<str>,
    pub properties: Vec<Arc<str>>,
}

pub(crate) struct ReferencePlan {
    /// Tried in order.
    pub spaces: Vec<KeySpace>,
    /// Columns of the key, in the order of the spaces' properties (by name).
    pub columns: Vec<(usize, ValueType)>,
}

fn mapping_error(message: String) -> LoadError {
    LoadError::Mapping(MappingError::new(message))
}

pub(crate) fn plan(
    mapping: &Mapping, sources: &BTreeMap<String, Arc<Source>>, snapshot: &Snapshot,
) -> Result<Vec<TablePlan>, LoadError> {
    let mut plans = vec![];
    for table in &mapping.tables {
        let source = sources.get(&table.file).ok_or_else(|| LoadError::Table {
            table: table.file.clone(),
            message: "the file was not given".into(),
        })?;
        let format = table.format()?;
        let delimiter = match (table.delimiter, format) {
            (Some(c), _) if c.is_ascii() => c as u8,
            (Some(c), _) => {
                return Err(mapping_error(format!(
                    "table {}: the delimiter {c:?} is not an ASCII character",
                    table.file
                )));
            }
            (None, TableFormat::Tsv) => b'\t',
            _ => b',',
        };
        let (mut columns, body) = match format {
            TableFormat::Jsonl => (vec![], 0),
            TableFormat::Parquet => (parquet::columns(&table.file, source)?, 0),
            _ => header(&table.file, source.bytes(), delimiter)?,
        };
        let mut at = |column: &str| -> Result<usize, LoadError> {
            if let Some(place) = columns.iter().position(|c| c == column) {
                return Ok(place);
            }
            if format == TableFormat::Jsonl {
                columns.push(column.to_string());
                return Ok(columns.len() - 1);
            }
            let near = nearest(column, columns.iter().map(String::as_str));
            let hint = match near {
                Some(near) => format!("; did you mean {near}?"),
                None => format!("; it has {}", columns.join(", ")),
            };
            Err(LoadError::Table {
                table: table.file.clone(),
                message: format!("there is no column {column}{hint}"),
            })
        };
        let mut nodes = vec![];
        for rule in &table.nodes {
            nodes.push(node_plan(&table.file, rule, snapshot, &mut at)?);
        }
        let mut edges = vec![];
        for rule in &table.edges {
            edges.push(edge_plan(&table.file, rule, mapping, snapshot, &mut at)?);
        }
        let of_nodes = nodes.iter_mut().flat_map(|n: &mut NodePlan| &mut n.properties);
        let of_edges = edges.iter_mut().flat_map(|e: &mut EdgePlan| &mut e.properties);
        of_nodes
            .chain(of_edges)
            .filter(|p| p.value_type == ValueType::Date)
            .for_each(|p| p.date_order = table.date_order);
        plans.push(TablePlan {
            name: table.file.clone(),
            source: source.clone(),
            format,
            delimiter,
            null: table.null.clone().unwrap_or_else(|| mapping.null.clone()),
            columns,
            body,
            nodes,
            edges,
        });
    }
    Ok(plans)
}

/// What a column is called that has no name in the header.
pub(crate) fn unnamed(place: usize) -> String {
    format!("column {}", place + 1)
}

/// The columns of a CSV table, and where its rows begin.
pub(crate) fn header(table: &str, bytes: &[u8], delimiter: u8) -> Result<(Vec<String>, usize), LoadError> {
    let failed = |message: &str| LoadError::Table { table: table.into(), message: message.into() };
    let start = if bytes.starts_with(b"\xEF\xBB\xBF") { 3 } else { 0 };
    let mut reader = csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .delimiter(delimiter)
        .from_reader(&bytes[start..]);
    let mut record = csv::StringRecord::new();
    let found =
        reader.read_record(&mut record).map_err(|e| failed(&format!("the header cannot be read: {e}")))?;
    if !found {
        return Err(failed("the file is empty; it needs a header line"));
    }
    // A column without a name is called by its place: "column 1".
    let name = |(place, name): (usize, &str)| match name.trim() {
        "" => unnamed(place),
        name => name.to_string(),
    };
    let columns: Vec<String> = record.iter().enumerate().map(name).collect();
    for (i, column) in columns.iter().enumerate() {
        if columns[..i].contains(column) {
            return Err(failed(&format!("the header has the column {column} twice")));
        }
    }
    Ok((columns, start + reader.position().byte() as usize))
}

/// Types of the properties of everything that has these labels.
fn declared_nodes(snapshot: &Snapshot, labels: &LabelSet) -> Option<Vec<PropertyType>> {
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

fn properties_plan(
    table: &str, shown: &str, given: &BTreeMap<String, String>, types: &BTreeMap<String, String>,
    declared: Option<Vec<PropertyType>>, at: &mut dyn FnMut(&str) -> Result<usize, LoadError>,
) -> Result<Vec<PropertyPlan>, LoadError> {
    for name in types.keys() {
        if !given.contains_key(name) {
            return Err(mapping_error(format!(
                "table {table}, {shown}: types names {name}, which is not among its properties"
            )));
        }
    }
    let mut plans = vec![];
    for (name, column) in given {
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
            (None, None) => (ValueType::TEXT, false, None),
        };
        plans.push(PropertyPlan {
            name: name.as_str().into(),
            column: at(column)?,
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
                column: NO_COLUMN,
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

fn node_plan(
    table: &str, rule: &NodeRule, snapshot: &Snapshot, at: &mut dyn FnMut(&str) -> Result<usize, LoadError>,
) -> Result<NodePlan, LoadError> {
    let labels = label_set(rule.labels.iter().map(String::as_str));
    let shown = format!("(:{})", rule.labels.join("&"));
    if labels.is_empty() {
        return Err(mapping_error(format!("table {table}: a node rule needs at least one label")));
    }
    let declared = declared_nodes(snapshot, &labels);
    if let (Some(graph_type), Some([])) = (&snapshot.graph_type, declared.as_deref())
        && !graph_type.nodes.iter().any(|t| labels.iter().all(|l| t.labels.contains(l)))
    {
        let known = graph_type.nodes.iter().flat_map(|t| t.labels.iter().map(|l| &**l));
        let hint =
            nearest(&rule.labels[0], known).map(|n| format!("; did you mean {n}?")).unwrap_or_default();
        return Err(mapping_error(format!("table {table}: the graph type has no node type {shown}{hint}")));
    }
    let properties = properties_plan(table, &shown, &rule.properties, &rule.types, declared, at)?;
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
            label: rule.labels[0].as_str().into(),
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
    let label_from = rule.label_from.as_deref().map(at).transpose()?;
    Ok(NodePlan { shown, labels, label_from, properties, key, optional: rule.optional })
}

fn edge_plan(
    table: &str, rule: &EdgeRule, mapping: &Mapping, snapshot: &Snapshot,
    at: &mut dyn FnMut(&str) -> Result<usize, LoadError>,
) -> Result<EdgePlan, LoadError> {
    let label = label_set([rule.label.as_str()]);
    let shown =
        if rule.undirected { format!("~[:{}]~", rule.label) } else { format!("-[:{}]->", rule.label) };
    let declared: Option<Vec<PropertyType>> = match snapshot.graph_type.as_deref() {
        None => None,
        Some(graph_type) => Some(declared_edges(table, rule, graph_type, &label)?),
    };
    let properties = properties_plan(table, &shown, &rule.properties, &rule.types, declared, at)?;
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
        from: reference_plan(table, &shown, &rule.from, mapping, snapshot, at)?,
        to: reference_plan(table, &shown, &rule.to, mapping, snapshot, at)?,
        shown,
        label,
        directed: !rule.undirected,
        properties,
        key,
        keep_same: rule.same == Same::Keep,
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
        let forward = can_be(&rule.from, &t.source) && can_be(&rule.to, &t.target);
        forward || (!t.directed && can_be(&rule.from, &t.target) && can_be(&rule.to, &t.source))
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
    table: &str, shown: &str, reference: &Reference, mapping: &Mapping, snapshot: &Snapshot,
    at: &mut dyn FnMut(&str) -> Result<usize, LoadError>,
) -> Result<ReferencePlan, LoadError> {
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
    let mut columns = vec![];
    for ((_, column), value_type) in reference.key.iter().zip(types) {
        columns.push((at(column)?, value_type.unwrap_or(ValueType::TEXT)));
    }
    Ok(ReferencePlan { spaces, columns })
}

/// The type of a property that nodes of an open graph have already.
fn existing_type(snapshot: &Snapshot, label: &Arc<str>, property: &str) -> Option<ValueType> {
    let table =
        snapshot.base.nodes.iter().find(|t| t.labels.contains(label) && t.column(property).is_some())?;
    let column = table.column(property)?;
    (0..column.len().min(100)).map(|row| column.value(row)).find(|v| !v.is_null()).map(|v| ValueType::of(&v))
}
