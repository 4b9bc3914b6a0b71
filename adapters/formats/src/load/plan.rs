//! Load plan: the columns to read from each table and the elements they become.

use std::sync::{Arc, OnceLock};

use graphodrome_engine::{RowExpression, check_template};

use graphodrome_graph::{LabelSet, Value, ValueType};
use graphodrome_language::nearest;

use crate::load::LoadError;
use crate::load::sources::{Coding, Source, table_error};
use crate::mapping::{DateOrder, Existing, Field, MappingError, Same, TableFormat};

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
    pub fn is_typed(&self) -> bool {
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

/// The columns of a table while its rules are read.
pub(super) struct Columns<'t> {
    pub table: &'t str,
    pub(super) names: Vec<String>,
    /// Rows may have fields that are not known beforehand.
    pub(super) open: bool,
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

/// How null is written in the rows of a database's query.
pub const DATABASE_NULL: &str = "\\N";

/// What a column is called that has no name in the header.
pub(crate) fn unnamed(place: usize) -> String {
    format!("column {}", place + 1)
}
