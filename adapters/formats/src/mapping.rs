//! Load mappings: which source tables there are, and which node or edge each row becomes. TOML, read
//! strictly: an unknown field is an error with its place.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Mapping {
    /// Graph to load into, where the request does not name one.
    pub graph: Option<String>,
    /// Texts that stand for null, where a table does not name its own.
    #[serde(default = "default_null")]
    pub null: Vec<String>,
    /// More rejects than this, and nothing is published.
    pub reject_limit: Option<u64>,
    #[serde(rename = "table", default)]
    pub tables: Vec<TableMapping>,
}

fn default_null() -> Vec<String> {
    vec![String::new()]
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum TableFormat {
    Csv,
    Tsv,
    /// JSON Lines: an object a line.
    Jsonl,
    Parquet,
}

/// Which of a date's first two numbers is the day. The third is the year, in four digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum DateOrder {
    DayFirst,
    MonthFirst,
}

impl DateOrder {
    pub fn name(self) -> &'static str {
        match self {
            DateOrder::DayFirst => "day-first",
            DateOrder::MonthFirst => "month-first",
        }
    }

    /// The date, where the text is written so.
    pub fn read(self, text: &str) -> Option<NaiveDate> {
        let separator = ['.', '/', '-'].into_iter().find(|s| text.matches(*s).count() == 2)?;
        let mut parts = text.split(separator);
        let (first, second, year) = (parts.next()?, parts.next()?, parts.next()?);
        let plain = |part: &str, most: usize| {
            (1..=most).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_digit())
        };
        if !plain(first, 2) || !plain(second, 2) || year.len() != 4 || !plain(year, 4) {
            return None;
        }
        let (first, second): (u32, u32) = (first.parse().ok()?, second.parse().ok()?);
        let (day, month) = if self == DateOrder::DayFirst { (first, second) } else { (second, first) };
        NaiveDate::from_ymd_opt(year.parse().ok()?, month, day)
    }
}

#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct TableMapping {
    /// File, relative to the mapping.
    pub file: String,
    /// By the file's suffix, where it is not given.
    pub format: Option<TableFormat>,
    pub delimiter: Option<char>,
    /// How dates are written that are no ISO dates: 31.12.2024 or 12/31/2024.
    pub date_order: Option<DateOrder>,
    pub null: Option<Vec<String>>,
    #[serde(rename = "node", default)]
    pub nodes: Vec<NodeRule>,
    #[serde(rename = "edge", default)]
    pub edges: Vec<EdgeRule>,
}

#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct NodeRule {
    pub labels: Vec<String>,
    /// A column whose text is one more label.
    pub label_from: Option<String>,
    /// Properties that identify the node; in a closed graph the declared key, where not given.
    #[serde(default)]
    pub key: Vec<String>,
    /// Property to column.
    pub properties: BTreeMap<String, String>,
    /// Property to value type, where no graph type says it. STRING where neither does.
    #[serde(default)]
    pub types: BTreeMap<String, String>,
    /// A row whose key is null makes no node, instead of being rejected.
    #[serde(default)]
    pub optional: bool,
}

#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct EdgeRule {
    pub label: String,
    #[serde(default)]
    pub undirected: bool,
    pub from: Reference,
    pub to: Reference,
    #[serde(default)]
    pub properties: BTreeMap<String, String>,
    #[serde(default)]
    pub types: BTreeMap<String, String>,
    /// What to do with an edge that has the same ends, label and properties as another.
    #[serde(default)]
    pub same: Same,
    /// A row in which a reference is null makes no edge, instead of being rejected.
    #[serde(default)]
    pub optional: bool,
}

/// How a row names a node: a label (or several, tried in order) and key property to column.
#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Reference {
    pub labels: Vec<String>,
    pub key: BTreeMap<String, String>,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Same {
    /// It is a duplicate.
    #[default]
    Once,
    /// It is a parallel edge.
    Keep,
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
        if mapping.tables.is_empty() {
            return Err(MappingError::new("the mapping has no table: add [[table]] with a file"));
        }
        for table in &mapping.tables {
            if table.nodes.is_empty() && table.edges.is_empty() {
                return Err(MappingError::new(format!(
                    "table {} becomes nothing: add [[table.node]] or [[table.edge]]",
                    table.file
                )));
            }
            table.format()?;
        }
        Ok(mapping)
    }

    /// The files it names, each once.
    pub fn files(&self) -> Vec<&str> {
        let mut files: Vec<&str> = self.tables.iter().map(|t| t.file.as_str()).collect();
        files.sort_unstable();
        files.dedup();
        files
    }
}

impl TableMapping {
    pub fn format(&self) -> Result<TableFormat, MappingError> {
        if let Some(format) = self.format {
            return Ok(format);
        }
        match self.file.rsplit('.').next() {
            Some("csv") => Ok(TableFormat::Csv),
            Some("tsv" | "tab") => Ok(TableFormat::Tsv),
            Some("jsonl" | "ndjson") => Ok(TableFormat::Jsonl),
            Some("parquet") => Ok(TableFormat::Parquet),
            _ => Err(MappingError::new(format!(
                "the format of {} is not clear from its name: add format = \"csv\", \"tsv\", \"jsonl\" or \"parquet\"",
                self.file
            ))),
        }
    }
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
}
