//! Load mappings: which source tables there are, and which nodes and edges each row becomes. TOML, read
//! strictly: an unknown field is an error with its place. docs/load-mapping.schema.json says the same in
//! JSON Schema.

mod forms;

use std::collections::BTreeMap;
use std::fmt;

use serde::de::{self, MapAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

pub use forms::{Compression, DateOrder, Encoding, Part, RejectLimit, TableFormat};

#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Mapping {
    /// Graph to load into, where the request does not name one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub graph: Option<String>,
    /// Texts that stand for null, where a table does not name its own.
    #[serde(default = "default_null")]
    pub null: Vec<String>,
    /// More rejects than this, and nothing is published.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reject_limit: Option<RejectLimit>,
    #[serde(rename = "table", default)]
    pub tables: Vec<TableMapping>,
}

fn default_null() -> Vec<String> {
    vec![String::new()]
}

#[derive(Clone, Debug, Default, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct TableMapping {
    /// A file, relative to the mapping; with `*` or `?` every file of such a name. `-` is standard input,
    /// `served:PATH` a file of the folder that the service serves, `http://...` an address it may fetch. With a
    /// query only the table's name.
    pub file: String,
    /// By the file's suffix, where it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub format: Option<TableFormat>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<char>,
    /// The character around fields that hold a delimiter; `"` where it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quote: Option<char>,
    /// `false`: a field in quotes is never null, so that `""` is an empty text where an empty field is null.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quoted_null: Option<bool>,
    #[serde(default, skip_serializing_if = "is_default")]
    pub encoding: Encoding,
    /// Of a GraphML, N-Quads or N-Triples file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<Part>,
    /// The environment variable with the URL of the PostgreSQL database that the rows come from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    /// A query or the name of a table there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// How dates are written that are no ISO dates: 31.12.2024 or 12/31/2024.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub date_order: Option<DateOrder>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub null: Option<Vec<String>>,
    /// An expression over the columns: rows for which it does not hold become nothing.
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
    #[serde(rename = "node", default, skip_serializing_if = "Vec::is_empty")]
    pub nodes: Vec<NodeRule>,
    #[serde(rename = "edge", default, skip_serializing_if = "Vec::is_empty")]
    pub edges: Vec<EdgeRule>,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct NodeRule {
    #[serde(default)]
    pub labels: Vec<String>,
    /// A column whose text is one more label.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label_from: Option<String>,
    /// What separates several labels in that column.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label_split: Option<String>,
    /// Properties that identify the node; in a closed graph the declared key, where not given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub key: Vec<String>,
    /// A value by which rows of this load refer to the node; it is not stored.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub id: Option<Field>,
    /// Property to where its value comes from.
    #[serde(default)]
    pub properties: BTreeMap<String, Field>,
    /// Property to value type, where no graph type says it. STRING where neither does.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub types: BTreeMap<String, String>,
    /// What to do with a row whose key a node has already, with other values.
    #[serde(default, skip_serializing_if = "is_default")]
    pub existing: Existing,
    /// A row whose key is null makes no node, instead of being rejected.
    #[serde(default, skip_serializing_if = "is_default")]
    pub optional: bool,
    /// An expression over the columns: other rows make no node.
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
}

#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct EdgeRule {
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub label: String,
    /// A column whose text is the label (or one more).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label_from: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label_split: Option<String>,
    #[serde(default, skip_serializing_if = "is_default")]
    pub undirected: bool,
    pub source: Reference,
    pub target: Reference,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub properties: BTreeMap<String, Field>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub types: BTreeMap<String, String>,
    /// Which edges without a key are one edge.
    #[serde(default, skip_serializing_if = "is_default")]
    pub same: Same,
    /// What to do with a row whose edge already exists, with other properties.
    #[serde(default, skip_serializing_if = "is_default")]
    pub existing: Existing,
    /// A row in which a reference is null makes no edge, instead of being rejected.
    #[serde(default, skip_serializing_if = "is_default")]
    pub optional: bool,
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub filter: Option<String>,
}

/// How a row names a node: a label (or several, tried in order) and key property to column; or the id
/// that a node rule of this load gave it.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Reference {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub key: BTreeMap<String, Field>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub id: Option<Field>,
    /// What to do where there is no such node.
    #[serde(default, skip_serializing_if = "is_default")]
    pub missing: Missing,
}

/// Where a value comes from: a column (written as its name alone, or with how it is to be read), an
/// expression over columns, or a constant.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Field {
    pub column: Option<String>,
    pub expr: Option<String>,
    pub value: Option<toml::Value>,
    /// What separates the items of a list.
    pub split: Option<String>,
    /// How a date or a time is written, such as DD.MM.YYYY.
    pub pattern: Option<String>,
}

impl Field {
    pub fn column(name: impl Into<String>) -> Field {
        Field { column: Some(name.into()), ..Field::default() }
    }

    fn check(&self) -> Result<(), &'static str> {
        let given = [self.column.is_some(), self.expr.is_some(), self.value.is_some()];
        if given.iter().filter(|g| **g).count() != 1 {
            return Err("a field needs one of column, expr and value");
        }
        if self.column.is_none() && (self.split.is_some() || self.pattern.is_some()) {
            return Err("split and pattern go with a column");
        }
        if self.split.as_deref() == Some("") {
            return Err("split needs a text that is not empty");
        }
        Ok(())
    }
}

#[derive(Deserialize, Serialize, Default)]
#[serde(deny_unknown_fields)]
struct FieldParts {
    #[serde(skip_serializing_if = "Option::is_none")]
    column: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    expr: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    value: Option<toml::Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    split: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pattern: Option<String>,
}

impl Serialize for Field {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Field { column: Some(column), split: None, pattern: None, .. } => {
                serializer.serialize_str(column)
            }
            Field { column, expr, value, split, pattern } => FieldParts {
                column: column.clone(),
                expr: expr.clone(),
                value: value.clone(),
                split: split.clone(),
                pattern: pattern.clone(),
            }
            .serialize(serializer),
        }
    }
}

impl<'de> Deserialize<'de> for Field {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct FieldVisitor;
        impl<'de> Visitor<'de> for FieldVisitor {
            type Value = Field;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a column's name, or { column, split, pattern }, { expr } or { value }")
            }

            fn visit_str<E: de::Error>(self, name: &str) -> Result<Field, E> {
                Ok(Field::column(name))
            }

            fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<Field, A::Error> {
                let parts = FieldParts::deserialize(de::value::MapAccessDeserializer::new(map))?;
                let FieldParts { column, expr, value, split, pattern } = parts;
                let field = Field { column, expr, value, split, pattern };
                field.check().map_err(de::Error::custom)?;
                Ok(field)
            }
        }
        deserializer.deserialize_any(FieldVisitor)
    }
}

/// What becomes of a row whose element already exists. A row that agrees with it changes nothing,
/// whichever is chosen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Existing {
    /// The row is a reject.
    #[default]
    Reject,
    /// The element stays as it is.
    Keep,
    /// The values that the row gives replace the element's; nulls change nothing.
    Update,
    /// The element's properties become the row's: those that it does not give are removed.
    Replace,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Missing {
    /// The row is a reject.
    #[default]
    Reject,
    /// A node with the reference's first label and its key.
    Create,
}

/// Which edges without a key are one and the same.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Same {
    /// Those with the same ends, label and properties; others with the same ends are parallel.
    #[default]
    IdenticalOnce,
    /// Those with the same ends and label.
    SameEndsOnce,
    /// Each row is one edge of its own: rows that are the same are parallel edges. As many as the graph has already
    /// are found there, so that a load that is run again makes nothing.
    OnePerRow,
    /// None: every row is a new edge, whatever the graph has.
    KeepParallel,
}

#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[error("{message}")]
pub struct MappingError {
    pub message: String,
    pub line: Option<usize>,
    pub column: Option<usize>,
}

impl MappingError {
    pub fn new(message: impl Into<String>) -> Self {
        MappingError { message: message.into(), line: None, column: None }
    }
}

impl Mapping {
    pub fn parse(text: &str) -> Result<Mapping, MappingError> {
        let mapping: Mapping = toml::from_str(text).map_err(|e| {
            let before = &text[..e.span().map_or(0, |s| s.start.min(text.len()))];
            let place = e.span().map(|_| {
                let line_start = before.rfind('\n').map_or(0, |i| i + 1);
                (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
            });
            MappingError {
                message: format!("the mapping is not valid: {}", e.message()),
                line: place.map(|p| p.0),
                column: place.map(|p| p.1),
            }
        })?;
        if text.contains("\\u0000") || text.contains("\\U00000000") {
            return Err(MappingError::new("a mapping may not hold the character U+0000"));
        }
        mapping.check()?;
        Ok(mapping)
    }

    fn check(&self) -> Result<(), MappingError> {
        if self.tables.is_empty() {
            return Err(MappingError::new("the mapping has no table: add [[table]] with a file"));
        }
        for table in &self.tables {
            if table.nodes.is_empty() && table.edges.is_empty() {
                return Err(MappingError::new(format!(
                    "table {} becomes nothing: add [[table.node]] or [[table.edge]]",
                    table.file
                )));
            }
            let format = table.format()?;
            if table.part.is_none() && format.has_parts() {
                return Err(MappingError::new(format!(
                    "table {} holds nodes and edges: say which it reads with part = \"nodes\" or part = \"edges\"",
                    table.file
                )));
            }
            if table.database.is_some() != table.query.is_some() {
                return Err(MappingError::new(format!(
                    "table {}: database (the name of an environment variable) and query go together",
                    table.file
                )));
            }
        }
        Ok(())
    }

    /// The files it names, each once.
    pub fn files(&self) -> Vec<&str> {
        let mut files: Vec<&str> = self.tables.iter().map(|t| t.file.as_str()).collect();
        files.sort_unstable();
        files.dedup();
        files
    }

    /// As a person would write it: what belongs to a rule on the rule's lines.
    pub fn to_toml(&self) -> String {
        // Every field is one that TOML can hold.
        let text = toml::to_string(self).unwrap_or_default();
        let Ok(mut document) = text.parse::<toml_edit::DocumentMut>() else { return text };
        let tables = document.get_mut("table").and_then(|t| t.as_array_of_tables_mut());
        for table in tables.into_iter().flat_map(|t| t.iter_mut()) {
            for kind in ["node", "edge"] {
                let rules = table.get_mut(kind).and_then(|r| r.as_array_of_tables_mut());
                for rule in rules.into_iter().flat_map(|r| r.iter_mut()) {
                    for (_, item) in rule.iter_mut().filter(|(_, item)| item.is_table()) {
                        let inner = std::mem::take(item).into_table().unwrap_or_default();
                        *item = inline(inner).into();
                    }
                    rule.fmt();
                }
            }
        }
        document.to_string()
    }
}

/// A table and those in it on one line.
fn inline(table: toml_edit::Table) -> toml_edit::Value {
    let mut made = toml_edit::InlineTable::new();
    for (name, item) in table {
        let value = match item.into_table() {
            Ok(inner) => Some(inline(inner)),
            Err(other) => other.into_value().ok(),
        };
        if let Some(value) = value {
            made.insert(&name, value);
        }
    }
    made.into()
}

impl TableMapping {
    pub fn format(&self) -> Result<TableFormat, MappingError> {
        if let Some(format) = self.format {
            return Ok(format);
        }
        if self.query.is_some() {
            return Ok(TableFormat::Csv);
        }
        TableFormat::of_name(&self.file).ok_or_else(|| {
            MappingError::new(format!(
                "the format of {} is not clear from its name: add format with one of {}",
                self.file,
                TableFormat::NAMES
            ))
        })
    }

    /// Whether the name stands for every file that fits it.
    pub fn is_pattern(&self) -> bool {
        self.query.is_none() && is_pattern(&self.file)
    }
}

/// Whether a name has a `*` or a `?`.
pub fn is_pattern(name: &str) -> bool {
    !name.starts_with("http://") && !name.starts_with("https://") && name.contains(['*', '?'])
}

/// Whether a file's name fits a pattern in which `*` stands for any characters and `?` for one, neither
/// for a `/`.
pub fn fits_pattern(name: &str, pattern: &str) -> bool {
    let (name, pattern): (Vec<char>, Vec<char>) = (name.chars().collect(), pattern.chars().collect());
    let (mut n, mut p) = (0, 0);
    // Where the last star began, and what it has taken so far.
    let mut star: Option<(usize, usize)> = None;
    while n < name.len() {
        match pattern.get(p) {
            Some('*') => {
                star = Some((p, n));
                p += 1;
            }
            Some('?') if name[n] != '/' => (n, p) = (n + 1, p + 1),
            Some(c) if *c == name[n] => (n, p) = (n + 1, p + 1),
            _ => match star {
                Some((at, taken)) if name[taken] != '/' => {
                    star = Some((at, taken + 1));
                    (n, p) = (taken + 1, at + 1);
                }
                _ => return false,
            },
        }
    }
    pattern[p..].iter().all(|c| *c == '*')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_unknown_field_is_named_with_its_place() {
        let text =
            "[[table]]\nfile = \"a.csv\"\n[[table.node]]\nlabels = [\"A\"]\nproperties = {}\nlables = []\n";
        let error = Mapping::parse(text).expect_err("unknown field");
        assert!(error.message.contains("lables"), "{error}");
        assert_eq!(error.line, Some(6));
    }

    #[test]
    fn a_table_that_becomes_nothing_is_refused() {
        let error = Mapping::parse("[[table]]\nfile = \"a.csv\"\n").expect_err("no rules");
        assert!(error.message.contains("becomes nothing"), "{error}");
    }

    #[test]
    fn fields_and_limits_are_read_and_written_again() {
        let text = r#"
reject_limit = "0.5%"
[[table]]
file = "a_*.csv.gz"
encoding = "windows-1252"
where = "state <> 'gone'"
[[table.node]]
labels = ["A"]
existing = "update"
id = "row"
properties = { code = { expr = "TRIM(code)" }, tags = { column = "tags", split = ";" }, n = { value = 3 } }
[[table.edge]]
label = "R"
same = "keep-parallel"
source = { labels = ["A"], key = { code = "code" }, missing = "create" }
target = { id = "other" }
"#;
        let mapping = Mapping::parse(text).expect("valid");
        assert_eq!(mapping.reject_limit, Some(RejectLimit::Share(0.005)));
        assert_eq!(mapping.tables[0].format(), Ok(TableFormat::Csv));
        let again = Mapping::parse(&mapping.to_toml()).expect("what it writes");
        assert_eq!(again.to_toml(), mapping.to_toml());
        assert_eq!(again.tables[0].nodes[0].properties["n"].value, Some(toml::Value::Integer(3)));
    }

    #[test]
    fn a_field_without_a_source_is_refused() {
        for field in ["{ split = \";\" }", "{ column = \"a\", expr = \"b\" }", "{ colum = \"a\" }", "3"] {
            let text = format!(
                "[[table]]\nfile = \"a.csv\"\n[[table.node]]\nlabels = [\"A\"]\nproperties = {{ x = {field} }}\n"
            );
            assert_eq!(Mapping::parse(&text).expect_err(field).line, Some(5), "{field}");
        }
    }

    #[test]
    fn patterns_stay_within_a_folder() {
        assert!(fits_pattern("tables/pipes_1.csv", "tables/pipes_*.csv"));
        assert!(fits_pattern("a.csv", "?.csv"));
        assert!(!fits_pattern("tables/old/pipes_1.csv", "tables/*.csv"));
        assert!(!fits_pattern("pipes.csv.gz", "*.csv"));
        assert!(fits_pattern("xaab", "*ab"));
    }
}
