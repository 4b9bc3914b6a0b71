//! Elements for a given graph type, to try a model before there is data. Every element conforms; keys are unique
//! and cardinalities hold.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use graphodrome_graph::{EdgeType, GraphType, NodeType, PropertyType, ValueType};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::sink::{Cell, Kind, Output, Sink};
use crate::write::text;
use crate::{GenerateError, Made};

/// How degrees, or values, are spread.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Spread {
    #[default]
    Even,
    /// Few have much: the share of the first falls with the rank.
    Skewed,
}

/// How large a graph of a type is to be.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Nodes altogether, spread evenly over the types that `counts` does not name.
    pub nodes: u64,
    /// Edges a node, for edge types that `counts` does not name.
    pub degree: f64,
    /// Elements of the types with these labels.
    pub counts: BTreeMap<String, u64>,
    pub degrees: Spread,
    pub values: Spread,
    /// Share of properties that are null where they may be.
    pub nulls: f64,
    pub seed: u64,
}

/// How often an edge is drawn again where a cardinality does not let it be.
const TRIES: usize = 20;
/// Different values that a property without a key has, at most.
const VALUES: u64 = 10_000;

/// The nodes of one type.
struct OfType<'t> {
    node_type: &'t NodeType,
    /// Rows are numbered from here on over all types.
    first: u64,
    count: u64,
}

pub fn graph_of_model(
    graph_type: &GraphType, model: &str, wanted: &Wanted, output: Output, folder: &Path,
) -> Result<Made, GenerateError> {
    let mut random = ChaCha8Rng::seed_from_u64(wanted.seed);
    check_counts(graph_type, wanted)?;
    let mut made = Made::default();
    let mut mapping = format!("graph = {:?}\n", &*graph_type.name);
    let named: u64 = graph_type.nodes.iter().filter_map(|t| count_of(wanted, &t.labels)).sum();
    let unnamed = graph_type.nodes.iter().filter(|t| count_of(wanted, &t.labels).is_none()).count() as u64;
    let each = wanted.nodes.saturating_sub(named).checked_div(unnamed).unwrap_or(0).max(1);
    let mut nodes: Vec<OfType<'_>> = vec![];
    let mut first = 1;
    for node_type in &graph_type.nodes {
        let count = count_of(wanted, &node_type.labels).unwrap_or(each);
        let table = file_name("node", &node_type.labels);
        let key = keys_of(graph_type, node_type);
        let columns: Vec<(&str, Kind)> = std::iter::once(("row_id", Kind::Int))
            .chain(node_type.properties.iter().map(|p| (&*p.name, kind_of(&p.value_type))))
            .collect();
        let mut out = Sink::create(folder, &table, &columns, output)?;
        for number in 0..count {
            let mut cells = vec![MadeValue::Int((first + number) as i64)];
            for property in &node_type.properties {
                cells.push(value(property, key.contains(&property.name), number, wanted, &mut random)?);
            }
            out.row(&cells.iter().map(MadeValue::cell).collect::<Vec<_>>())?;
        }
        out.finish(&mut made)?;
        mapping.push_str(&node_rule(&output.file(&table), node_type));
        nodes.push(OfType { node_type, first, count });
        first += count;
    }
    let total = first - 1;
    // Edges that a node has of those that a cardinality counts.
    let mut degrees: Vec<BTreeMap<u64, u32>> = vec![BTreeMap::new(); graph_type.cardinalities.len()];
    for (place, edge_type) in graph_type.edges.iter().enumerate() {
        let sources: Vec<&OfType<'_>> = fitting(&nodes, |labels| edge_type.source.accepts(labels));
        let targets: Vec<&OfType<'_>> = fitting(&nodes, |labels| edge_type.target.accepts(labels));
        let count = count_of(wanted, &edge_type.labels)
            .unwrap_or((total as f64 * wanted.degree / graph_type.edges.len().max(1) as f64) as u64);
        let table = format!("{}_{}", file_name("edge", &edge_type.labels), place + 1);
        let columns: Vec<(&str, Kind)> = [("from_row", Kind::Int), ("to_row", Kind::Int)]
            .into_iter()
            .chain(edge_type.properties.iter().map(|p| (&*p.name, kind_of(&p.value_type))))
            .collect();
        let mut out = Sink::create(folder, &table, &columns, output)?;
        let bounds: Vec<usize> = (0..graph_type.cardinalities.len())
            .filter(|&c| edge_type.labels.contains(&graph_type.cardinalities[c].edge))
            .collect();
        for number in 0..count {
            let mut drawn = None;
            for _ in 0..TRIES {
                let (from, to) = (pick(&sources, wanted, &mut random), pick(&targets, wanted, &mut random));
                let (Some(from), Some(to)) = (from, to) else { break };
                let full = bounds.iter().any(|&c| {
                    let rule = &graph_type.cardinalities[c];
                    let at = |node: u64| degrees[c].get(&node).copied().unwrap_or(0);
                    let over = |node: u64| rule.applies_to(labels_of(&nodes, node)) && at(node) >= rule.most;
                    over(from) || over(to)
                });
                if !full {
                    drawn = Some((from, to));
                    break;
                }
            }
            let Some((from, to)) = drawn else { continue };
            for &c in &bounds {
                *degrees[c].entry(from).or_default() += 1;
                if from != to {
                    *degrees[c].entry(to).or_default() += 1;
                }
            }
            let mut cells = vec![MadeValue::Int(from as i64), MadeValue::Int(to as i64)];
            for property in &edge_type.properties {
                let in_key = edge_type.key.contains(&property.name);
                cells.push(value(property, in_key, number, wanted, &mut random)?);
            }
            out.row(&cells.iter().map(MadeValue::cell).collect::<Vec<_>>())?;
        }
        out.finish(&mut made)?;
        mapping.push_str(&edge_rule(&output.file(&table), edge_type));
    }
    text(&folder.join("model.gql"), model)?;
    text(&folder.join("load.toml"), &mapping)?;
    made.files += 2;
    Ok(made)
}

fn check_counts(graph_type: &GraphType, wanted: &Wanted) -> Result<(), GenerateError> {
    let labels = || {
        let nodes = graph_type.nodes.iter().flat_map(|t| t.labels.iter());
        nodes.chain(graph_type.edges.iter().flat_map(|t| t.labels.iter()))
    };
    for name in wanted.counts.keys() {
        if !labels().any(|l| **l == **name) {
            let known: Vec<String> = labels().map(|l| l.to_string()).collect();
            return Err(GenerateError::Size(format!(
                "the graph type has no label {name}; it has {}",
                known.join(", ")
            )));
        }
    }
    if graph_type.nodes.is_empty() {
        return Err(GenerateError::Size("the graph type has no node type".into()));
    }
    Ok(())
}

fn count_of(wanted: &Wanted, labels: &[Arc<str>]) -> Option<u64> {
    labels.iter().find_map(|label| wanted.counts.get(&**label)).copied()
}

fn file_name(what: &str, labels: &[Arc<str>]) -> String {
    let plain = |label: &Arc<str>| -> String {
        label.chars().map(|c| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '_' }).collect()
    };
    let labels: Vec<String> = labels.iter().map(plain).collect();
    format!("tables/{what}_{}", labels.join("_"))
}

fn fitting<'n, 't>(
    nodes: &'n [OfType<'t>], accepts: impl Fn(&graphodrome_graph::LabelSet) -> bool,
) -> Vec<&'n OfType<'t>> {
    nodes.iter().filter(|n| n.count > 0 && accepts(&n.node_type.labels)).collect()
}

fn labels_of<'n>(nodes: &'n [OfType<'_>], number: u64) -> &'n graphodrome_graph::LabelSet {
    let place = nodes.partition_point(|n| n.first <= number).max(1) - 1;
    &nodes[place].node_type.labels
}

/// A row's number out of those of some types.
fn pick(among: &[&OfType<'_>], wanted: &Wanted, random: &mut ChaCha8Rng) -> Option<u64> {
    let total: u64 = among.iter().map(|n| n.count).sum();
    if total == 0 {
        return None;
    }
    let place = match wanted.degrees {
        Spread::Even => random.random_range(0..total),
        // Chances fall with the square root of the rank.
        Spread::Skewed => ((random.random::<f64>().powi(2)) * total as f64) as u64,
    };
    let mut left = place.min(total - 1);
    for node in among {
        if left < node.count {
            return Some(node.first + left);
        }
        left -= node.count;
    }
    None
}

fn keys_of<'t>(graph_type: &'t GraphType, node_type: &'t NodeType) -> Vec<Arc<str>> {
    let keys = graph_type.keys();
    let own = keys.iter().filter(|k| node_type.labels.contains(&k.label));
    own.flat_map(|k| k.properties.iter().cloned()).collect()
}

fn kind_of(value_type: &ValueType) -> Kind {
    match value_type {
        ValueType::Int(_) | ValueType::Uint(_) => Kind::Int,
        ValueType::Float(_) => Kind::Float,
        ValueType::Bool => Kind::Bool,
        ValueType::Date => Kind::Date,
        _ => Kind::Text,
    }
}

/// A value that is made.
enum MadeValue {
    Null,
    Int(i64),
    Float(f64),
    Bool(bool),
    Text(String),
    Date(i32),
}

impl MadeValue {
    fn cell(&self) -> Cell<'_> {
        match self {
            MadeValue::Null => Cell::Null,
            MadeValue::Int(i) => Cell::Int(*i),
            MadeValue::Float(f) => Cell::Float(*f),
            MadeValue::Bool(b) => Cell::Bool(*b),
            MadeValue::Text(t) => Cell::Text(t),
            MadeValue::Date(d) => Cell::Date(*d),
        }
    }

    fn text(&self) -> String {
        match self {
            MadeValue::Null => "null".into(),
            MadeValue::Int(i) => i.to_string(),
            MadeValue::Float(f) => f.to_string(),
            MadeValue::Bool(b) => b.to_string(),
            MadeValue::Text(t) => t.clone(),
            MadeValue::Date(d) => date(*d).to_string(),
        }
    }
}

fn date(days: i32) -> chrono::NaiveDate {
    chrono::NaiveDate::default() + chrono::TimeDelta::days(i64::from(days))
}

/// The day of the first date that is made: 2000-01-01.
const FIRST_DAY: i32 = 10_957;

fn value(
    property: &PropertyType, in_key: bool, number: u64, wanted: &Wanted, random: &mut ChaCha8Rng,
) -> Result<MadeValue, GenerateError> {
    if !in_key && !property.not_null && random.random::<f64>() < wanted.nulls {
        return Ok(MadeValue::Null);
    }
    let place = match (in_key, wanted.values) {
        (true, _) => number,
        (false, Spread::Even) => random.random_range(0..VALUES),
        (false, Spread::Skewed) => (random.random::<f64>().powi(4) * VALUES as f64) as u64,
    };
    of_type(&property.value_type, place).ok_or_else(|| {
        GenerateError::Size(format!(
            "property {}: {} has fewer values than there are to be elements",
            property.name, property.value_type
        ))
    })
}

/// The value of a type at a place; other places have other values, unless the type has too few.
fn of_type(value_type: &ValueType, place: u64) -> Option<MadeValue> {
    let small = i64::try_from(place).ok()?;
    Some(match value_type {
        ValueType::Int(bits) if *bits < 64 && small >= 1 << (bits - 1) => return None,
        ValueType::Uint(bits) if *bits < 63 && small >= 1 << bits => return None,
        ValueType::Int(_) | ValueType::Uint(_) => MadeValue::Int(small),
        ValueType::Float(_) => MadeValue::Float(small as f64 / 4.0),
        ValueType::Bool => MadeValue::Bool(place % 2 == 1),
        ValueType::Decimal { precision, scale } => {
            let digits = small.to_string();
            if *precision > 0 && digits.len() > *precision as usize {
                return None;
            }
            let scale = *scale as usize;
            let padded = format!("{small:0>width$}", width = scale + 1);
            let (whole, part) = padded.split_at(padded.len() - scale);
            MadeValue::Text(if scale == 0 { whole.to_string() } else { format!("{whole}.{part}") })
        }
        ValueType::Text { min, max } => {
            let plain = format!("{}-{place}", WORDS[place as usize % WORDS.len()]);
            let short = match max {
                Some(max) if plain.len() > *max as usize => in_letters(place, *max as usize)?,
                _ => plain,
            };
            MadeValue::Text(format!("{short:_<width$}", width = *min as usize))
        }
        ValueType::Bytes { min, max } => {
            let bytes = place.to_be_bytes();
            let from = bytes.iter().position(|b| *b != 0).unwrap_or(7);
            let mut kept = bytes[from..].to_vec();
            if max.is_some_and(|max| kept.len() > max as usize) {
                return None;
            }
            while kept.len() < *min as usize {
                kept.push(0);
            }
            MadeValue::Text(kept.iter().map(|b| format!("{b:02x}")).collect())
        }
        ValueType::Date => MadeValue::Date(FIRST_DAY + i32::try_from(place % 1_000_000).ok()?),
        ValueType::LocalTime => MadeValue::Text(clock(place)),
        ValueType::ZonedTime => MadeValue::Text(format!("{}+00:00", clock(place))),
        ValueType::LocalDateTime => MadeValue::Text(moment(place)),
        ValueType::ZonedDateTime => MadeValue::Text(format!("{}Z", moment(place))),
        ValueType::Duration | ValueType::TimeDuration => MadeValue::Text(format!("PT{place}S")),
        ValueType::MonthDuration => MadeValue::Text(format!("P{place}M")),
        ValueType::List(item) => MadeValue::Text(list(item, place, None)?),
        ValueType::LimitedList { item, max, .. } => MadeValue::Text(list(item, place, *max)?),
        ValueType::Fields(fields) => {
            let fields = fields.iter().map(|f| Some((f.name.to_string(), json(&f.value_type, place)?)));
            MadeValue::Text(serde_json::Value::Object(fields.collect::<Option<_>>()?).to_string())
        }
        ValueType::Record => MadeValue::Text(serde_json::json!({ "number": place }).to_string()),
        ValueType::OneOf(types) => MadeValue::Text(of_type(types.first()?, place)?.text()),
        ValueType::Any => MadeValue::Text(format!("value-{place}")),
    })
}

/// Invented words that texts begin with.
const WORDS: [&str; 12] = [
    "amber", "birch", "cedar", "delta", "ember", "fjord", "grove", "heron", "islet", "jetty", "knoll",
    "larch",
];

/// A number in letters, for short texts.
fn in_letters(mut place: u64, most: usize) -> Option<String> {
    let mut letters = String::new();
    loop {
        letters.insert(0, (b'a' + (place % 26) as u8) as char);
        place /= 26;
        if place == 0 {
            break;
        }
    }
    (letters.len() <= most).then_some(letters)
}

fn clock(place: u64) -> String {
    let second = place % 86_400;
    format!("{:02}:{:02}:{:02}", second / 3600, second / 60 % 60, second % 60)
}

fn moment(place: u64) -> String {
    let day = FIRST_DAY + (place / 86_400 % 1_000_000) as i32;
    format!("{}T{}", date(day), clock(place))
}

fn json(value_type: &ValueType, place: u64) -> Option<serde_json::Value> {
    Some(match of_type(value_type, place)? {
        MadeValue::Null => serde_json::Value::Null,
        MadeValue::Int(i) => i.into(),
        MadeValue::Float(f) => f.into(),
        MadeValue::Bool(b) => b.into(),
        MadeValue::Date(d) => date(d).to_string().into(),
        MadeValue::Text(text) => match value_type {
            ValueType::List(_) | ValueType::LimitedList { .. } | ValueType::Fields(_) | ValueType::Record => {
                serde_json::from_str(&text).ok()?
            }
            _ => text.into(),
        },
    })
}

fn list(item: &ValueType, place: u64, max: Option<u32>) -> Option<String> {
    let length = (place % 3 + 1).min(max.map_or(u64::MAX, u64::from));
    let items: Option<Vec<serde_json::Value>> = (0..length).map(|i| json(item, place + i)).collect();
    Some(serde_json::Value::Array(items?).to_string())
}

fn quoted(names: &[Arc<str>]) -> String {
    let names: Vec<String> = names.iter().map(|n| format!("{:?}", &**n)).collect();
    names.join(", ")
}

fn properties(of: &[PropertyType]) -> String {
    let pairs: Vec<String> = of.iter().map(|p| format!("{0:?} = {0:?}", &*p.name)).collect();
    if pairs.is_empty() {
        "properties = {}".into()
    } else {
        format!("properties = {{ {} }}", pairs.join(", "))
    }
}

fn node_rule(file: &str, node_type: &NodeType) -> String {
    format!(
        "\n[[table]]\nfile = {file:?}\n[[table.node]]\nlabels = [{}]\nid = \"row_id\"\n{}\n",
        quoted(&node_type.labels),
        properties(&node_type.properties)
    )
}

fn edge_rule(file: &str, edge_type: &EdgeType) -> String {
    let label = format!("label = {:?}", edge_type.labels.first().map_or("", |l| &**l));
    let undirected = if edge_type.directed { "" } else { "undirected = true\n" };
    format!(
        "\n[[table]]\nfile = {file:?}\n[[table.edge]]\n{label}\n{undirected}source = {{ id = \"from_row\" }}\ntarget = {{ id = \"to_row\" }}\n{}\n",
        properties(&edge_type.properties)
    )
}
