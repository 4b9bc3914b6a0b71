//! Checking a mapping against its tables and the graph before a row is read: every column, property
//! and key it names must exist.

use std::collections::{BTreeMap, HashSet};
use std::sync::{Arc, OnceLock};

use graphodrome_engine::{RowExpression, check_template};

use graphodrome_graph::{LabelSet, Snapshot, Value, ValueType, label_set};
use graphodrome_language::nearest;

use crate::load::columnar;
use crate::load::rules::{declared_nodes, edge_plan, node_plan};
use crate::load::sources::{Coding, Opened, Source, open, table_error};
use crate::load::{LoadError, Progress};
use crate::mapping::{
    DateOrder, Existing, Field, Mapping, MappingError, Missing, Reference, RejectLimit, Same, TableFormat,
    TableMapping, fits_pattern,
};

pub(crate) struct TablePlan {
    pub name: String,
    /// The file's bytes.
    pub source: Arc<Source>,
    /// How they become text; plain where they are the text.
    pub coding: Coding,
    /// The text, once it has been read, where it is not the file's bytes.
    pub text: OnceLock<Arc<Source>>,
    /// How much the text may be.
    pub limit: u64,
    pub format: TableFormat,
    pub delimiter: u8,
    pub quote: u8,
    /// Whether a field in quotes can be null.
    pub quoted_null: bool,
    pub null: Vec<String>,
    /// Columns by position for CSV and columnar files; for JSON Lines the fields the rules name.
    pub columns: Vec<String>,
    /// Where the rows begin in the text.
    pub body: usize,
    pub filter: Option<Computed>,
    pub nodes: Vec<NodePlan>,
    pub edges: Vec<EdgePlan>,
}

impl TablePlan {
    /// The text of rows; empty before it has been decoded.
    pub fn text(&self) -> &[u8] {
        match self.text.get() {
            Some(text) => text.bytes(),
            None if self.coding.is_plain() => self.source.bytes(),
            None => &[],
        }
    }

    /// Whether rows are numbered instead of having lines of their own.
    pub fn is_columnar(&self) -> bool {
        matches!(self.format, TableFormat::Parquet | TableFormat::Arrow)
    }

    /// Whether values have types of their own in the source.
    fn is_typed(&self) -> bool {
        self.is_columnar() || self.format == TableFormat::Jsonl
    }
}

/// An expression with the places of the columns it reads.
#[derive(Clone, Debug)]
pub(crate) struct Computed {
    pub expression: RowExpression,
    pub columns: Vec<usize>,
}

/// Where a value comes from.
#[derive(Clone, Debug)]
pub(crate) enum Input {
    Column(usize),
    /// The items of a list, by what separates them.
    Split(usize, String),
    /// A date or a time as a pattern writes it.
    Pattern(usize, String),
    Computed(Arc<Computed>),
    Constant(Value),
    /// The rule does not give it: it has its default.
    Nothing,
}

impl Input {
    /// The column to name when the value is no good.
    pub fn column(&self) -> Option<usize> {
        match self {
            Input::Column(column) | Input::Split(column, _) | Input::Pattern(column, _) => Some(*column),
            Input::Computed(computed) => computed.columns.first().copied(),
            Input::Constant(_) | Input::Nothing => None,
        }
    }
}

/// A property, where it comes from, its type.
#[derive(Clone, Debug)]
pub(crate) struct PropertyPlan {
    pub name: Arc<str>,
    pub input: Input,
    pub value_type: ValueType,
    pub not_null: bool,
    pub default: Option<Value>,
    /// For dates that are no ISO dates.
    pub date_order: Option<DateOrder>,
}

impl PropertyPlan {
    /// The id by which other rows of a load refer to a node's: read like a property, not stored.
    pub fn of_id(input: Input) -> PropertyPlan {
        let (value_type, name) = (ValueType::Any, ID.into());
        PropertyPlan { name, input, value_type, not_null: false, default: None, date_order: None }
    }

    pub fn is_id(&self) -> bool {
        &*self.name == ID
    }
}

/// Name of the property and of the label that stand for ids; no graph has them, since `#` cannot begin a
/// name that a mapping gives.
const ID: &str = "#id";

/// A column of labels, and what separates them.
#[derive(Clone, Debug)]
pub(crate) struct LabelSource {
    pub column: usize,
    pub split: Option<String>,
}

pub(crate) struct NodePlan {
    pub shown: String,
    pub labels: LabelSet,
    pub label_from: Option<LabelSource>,
    /// Where the rule gives an id, the last of them.
    pub properties: Vec<PropertyPlan>,
    /// The space its key is unique in, and the places of the key's properties.
    pub key: Option<(KeySpace, Vec<usize>)>,
    pub has_id: bool,
    pub existing: Existing,
    pub optional: bool,
    pub filter: Option<Computed>,
    /// For nodes made because the edges of this rule refer to them: the rule's place.
    pub created_by: Option<usize>,
}

pub(crate) struct EdgePlan {
    pub shown: String,
    pub label: LabelSet,
    pub label_from: Option<LabelSource>,
    pub directed: bool,
    pub from: ReferencePlan,
    pub to: ReferencePlan,
    pub properties: Vec<PropertyPlan>,
    /// The declared key's number and the places of its properties.
    pub key: Option<(usize, Vec<usize>)>,
    pub same: Same,
    pub existing: Existing,
    pub optional: bool,
    pub filter: Option<Computed>,
}

/// Nodes with a label, identified by properties.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct KeySpace {
    pub label: Arc<str>,
    pub properties: Vec<Arc<str>>,
}

impl KeySpace {
    /// Of the ids that the rows of one load give.
    pub fn ids() -> KeySpace {
        KeySpace { label: ID.into(), properties: vec![ID.into()] }
    }

    pub fn is_ids(&self) -> bool {
        &*self.label == ID
    }
}

pub(crate) struct ReferencePlan {
    /// Tried in order.
    pub spaces: Vec<KeySpace>,
    /// The key, in the order of the spaces' properties (by name).
    pub columns: Vec<(Input, ValueType)>,
    /// The node rule of the table that makes nodes that are missing.
    pub create: Option<usize>,
}

pub(super) fn mapping_error(message: String) -> LoadError {
    LoadError::Mapping(MappingError::new(message))
}

/// A table's mapping, the name of its file, and that file.
type NamedTable<'m> = (&'m TableMapping, &'m str, &'m Arc<Source>);

/// The tables of a mapping with their sources: each file that fits a pattern is a table of its own.
fn tables<'m>(
    mapping: &'m Mapping, sources: &'m BTreeMap<String, Arc<Source>>,
) -> Result<Vec<NamedTable<'m>>, LoadError> {
    let mut found = vec![];
    for table in &mapping.tables {
        if table.is_pattern() {
            let fitting = sources.iter().filter(|(name, _)| fits_pattern(name, &table.file));
            let before = found.len();
            found.extend(fitting.map(|(name, source)| (table, name.as_str(), source)));
            if found.len() == before {
                return Err(table_error(&table.file, "no file has a name that fits"));
            }
            continue;
        }
        let source = sources.get(&table.file);
        let source = source.ok_or_else(|| table_error(&table.file, "the file was not given"))?;
        found.push((table, table.file.as_str(), source));
    }
    Ok(found)
}

pub(crate) fn plan(
    mapping: &Mapping, sources: &BTreeMap<String, Arc<Source>>, snapshot: &Snapshot, limit: u64,
    progress: &Progress,
) -> Result<Vec<TablePlan>, LoadError> {
    if let Some(RejectLimit::Share(share)) = mapping.reject_limit
        && !(0.0..=1.0).contains(&share)
    {
        return Err(mapping_error(format!("the reject limit {share} is no share")));
    }
    let mut plans = vec![];
    for (table, name, source) in tables(mapping, sources)? {
        let opened = open(table, name, source, limit, progress)?;
        plans.push(table_plan(mapping, table, name, opened, snapshot, limit)?);
    }
    Ok(plans)
}

fn ascii(table: &str, what: &str, given: Option<char>, usual: u8) -> Result<u8, LoadError> {
    match given {
        None => Ok(usual),
        Some(c) if c.is_ascii() && !matches!(c, '\n' | '\r') => Ok(c as u8),
        Some(c) => Err(mapping_error(format!("table {table}: the {what} {c:?} is not an ASCII character"))),
    }
}

/// The columns of a table while its rules are read.
pub(super) struct Columns<'t> {
    pub table: &'t str,
    names: Vec<String>,
    /// Rows may have fields that are not known beforehand.
    open: bool,
}

impl Columns<'_> {
    fn at(&mut self, column: &str) -> Result<usize, LoadError> {
        if let Some(place) = self.names.iter().position(|c| c == column) {
            return Ok(place);
        }
        if self.open {
            self.names.push(column.to_string());
            return Ok(self.names.len() - 1);
        }
        let hint = match nearest(column, self.names.iter().map(String::as_str)) {
            Some(near) => format!("; did you mean {near}?"),
            None => format!("; it has {}", self.names.join(", ")),
        };
        Err(table_error(self.table, format!("there is no column {column}{hint}")))
    }

    fn computed(&mut self, text: &str) -> Result<Computed, LoadError> {
        let expression = RowExpression::parse(text).map_err(|e| {
            let hint = e.hint.as_ref().map(|h| format!("; {h}")).unwrap_or_default();
            mapping_error(format!("table {}, expression \"{text}\": {}{hint}", self.table, e.message))
        })?;
        let columns = expression.columns().iter().map(|c| self.at(c)).collect::<Result<_, _>>()?;
        Ok(Computed { expression, columns })
    }

    pub fn filter(&mut self, text: Option<&String>) -> Result<Option<Computed>, LoadError> {
        text.map(|text| self.computed(text)).transpose()
    }

    pub fn input(&mut self, field: &Field) -> Result<Input, LoadError> {
        if let Some(text) = &field.expr {
            return Ok(Input::Computed(Arc::new(self.computed(text)?)));
        }
        if let Some(value) = &field.value {
            return constant(value).map(Input::Constant).ok_or_else(|| {
                mapping_error(format!("table {}: the value {value} is not read", self.table))
            });
        }
        let column = self.at(field.column.as_deref().unwrap_or_default())?;
        Ok(match (&field.split, &field.pattern) {
            (Some(split), _) => Input::Split(column, split.clone()),
            (None, Some(pattern)) => {
                check_template(pattern).map_err(|e| mapping_error(format!("table {}: {e}", self.table)))?;
                Input::Pattern(column, pattern.clone())
            }
            (None, None) => Input::Column(column),
        })
    }

    pub fn labels(
        &mut self, column: Option<&String>, split: Option<&String>,
    ) -> Result<Option<LabelSource>, LoadError> {
        column.map(|column| Ok(LabelSource { column: self.at(column)?, split: split.cloned() })).transpose()
    }
}

/// A mapping's constant. Dates and times are written as texts: the property's type says what they are.
fn constant(value: &toml::Value) -> Option<Value> {
    Some(match value {
        toml::Value::String(text) => Value::text(text.as_str()),
        toml::Value::Integer(i) => Value::Int(*i),
        toml::Value::Float(f) => Value::Float(*f),
        toml::Value::Boolean(b) => Value::Bool(*b),
        toml::Value::Datetime(d) => Value::text(d.to_string()),
        toml::Value::Array(items) => Value::list(items.iter().map(constant).collect::<Option<_>>()?),
        toml::Value::Table(_) => return None,
    })
}

fn table_plan(
    mapping: &Mapping, table: &TableMapping, name: &str, opened: Opened, snapshot: &Snapshot, limit: u64,
) -> Result<TablePlan, LoadError> {
    let Opened { format, source, coding, head } = opened;
    let delimiter =
        ascii(name, "delimiter", table.delimiter, if format == TableFormat::Tsv { b'\t' } else { b',' })?;
    let quote = ascii(name, "quote", table.quote, b'"')?;
    let (names, body) = match format {
        TableFormat::Jsonl => (vec![], 0),
        TableFormat::Parquet | TableFormat::Arrow => (columnar::columns(name, format, &source)?, 0),
        _ if coding.is_plain() => header(name, source.bytes(), delimiter, quote)?,
        _ => header(name, &head, delimiter, quote)?,
    };
    let null = match (&table.null, &table.query) {
        (Some(own), _) => own.clone(),
        // What rows of a database are written with: no text is taken for null.
        (None, Some(_)) => vec![DATABASE_NULL.into()],
        // JSON has a null of its own: an empty text is one.
        (None, None) if format == TableFormat::Jsonl => {
            mapping.null.iter().filter(|word| !word.is_empty()).cloned().collect()
        }
        (None, None) => mapping.null.clone(),
    };
    let mut plan = TablePlan {
        name: name.to_string(),
        source,
        coding,
        text: OnceLock::new(),
        limit,
        format,
        delimiter,
        quote,
        quoted_null: table.quoted_null.unwrap_or(true),
        null,
        columns: vec![],
        body,
        filter: None,
        nodes: vec![],
        edges: vec![],
    };
    let untyped = if plan.is_typed() { ValueType::Any } else { ValueType::TEXT };
    let mut columns = Columns { table: name, names, open: format == TableFormat::Jsonl };
    plan.filter = columns.filter(table.filter.as_ref())?;
    for rule in &table.nodes {
        plan.nodes.push(node_plan(rule, snapshot, &mut columns, &untyped)?);
    }
    for (place, rule) in table.edges.iter().enumerate() {
        let mut edge = edge_plan(rule, mapping, snapshot, &mut columns, &untyped)?;
        for (side, given) in [(&mut edge.from, &rule.from), (&mut edge.to, &rule.to)] {
            if given.missing == Missing::Create {
                side.create = Some(plan.nodes.len());
                plan.nodes.push(created_plan(name, &edge.shown, place, given, side, snapshot)?);
            }
        }
        plan.edges.push(edge);
    }
    plan.columns = columns.names;
    let of_nodes = plan.nodes.iter_mut().flat_map(|n| &mut n.properties);
    let of_edges = plan.edges.iter_mut().flat_map(|e| &mut e.properties);
    of_nodes
        .chain(of_edges)
        .filter(|p| p.value_type == ValueType::Date)
        .for_each(|p| p.date_order = table.date_order);
    Ok(plan)
}

/// How null is written in the rows of a database's query.
pub const DATABASE_NULL: &str = "\\N";

/// The rule of the nodes that a reference makes where they are missing.
fn created_plan(
    table: &str, edge: &str, place: usize, given: &Reference, side: &ReferencePlan, snapshot: &Snapshot,
) -> Result<NodePlan, LoadError> {
    let space = side.spaces[0].clone();
    if space.is_ids() {
        return Err(mapping_error(format!(
            "table {table}, {edge}: a node cannot be created from an id alone; give the reference labels and a key"
        )));
    }
    let labels = label_set([&*space.label]);
    let shown = format!("(:{}) for {edge}", space.label);
    let declared = declared_nodes(snapshot, &labels);
    let mut properties = vec![];
    for (name, (_, value_type)) in given.key.keys().zip(&side.columns) {
        properties.push(PropertyPlan {
            name: name.as_str().into(),
            input: Input::Nothing,
            value_type: value_type.clone(),
            not_null: true,
            default: None,
            date_order: None,
        });
    }
    for missing in declared.iter().flatten().filter(|p| !given.key.contains_key(&*p.name)) {
        match &missing.default {
            Some(default) => properties.push(PropertyPlan {
                name: missing.name.clone(),
                input: Input::Nothing,
                value_type: missing.value_type.clone(),
                not_null: missing.not_null,
                default: Some(default.clone()),
                date_order: None,
            }),
            None if missing.not_null => {
                return Err(mapping_error(format!(
                    "table {table}, {shown}: such a node cannot be created from its key alone: {} must not be null",
                    missing.name
                )));
            }
            None => {}
        }
    }
    Ok(NodePlan {
        shown,
        labels,
        label_from: None,
        key: Some((space, (0..side.columns.len()).collect())),
        properties,
        has_id: false,
        existing: Existing::Keep,
        optional: false,
        filter: None,
        created_by: Some(place),
    })
}

/// What a column is called that has no name in the header.
pub(crate) fn unnamed(place: usize) -> String {
    format!("column {}", place + 1)
}

/// The columns of a CSV table, and where its rows begin.
pub(crate) fn header(
    table: &str, bytes: &[u8], delimiter: u8, quote: u8,
) -> Result<(Vec<String>, usize), LoadError> {
    let failed = |message: &str| LoadError::Table { table: table.into(), message: message.into() };
    let start = if bytes.starts_with(b"\xEF\xBB\xBF") { 3 } else { 0 };
    let mut reader = csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .delimiter(delimiter)
        .quote(quote)
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
    let mut known = HashSet::new();
    for column in &columns {
        if column.contains('\0') {
            let shown = column.replace('\0', "\\u0000");
            return Err(failed(&format!("the header has the character U+0000 in the column {shown}")));
        }
        if !known.insert(column) {
            return Err(failed(&format!("the header has the column {column} twice")));
        }
    }
    Ok((columns, start + reader.position().byte() as usize))
}
