//! Rejected rows for repair: one file for each table, with the reasons in its first columns, and a mapping for
//! these files.

use std::collections::BTreeMap;

use graphodrome_formats::{Encoding, Mapping, TableAccount, TableFormat, TableMapping, fits_pattern};
use graphodrome_records::Reject;
use serde_json::json;

/// What is put before a row of a table of text.
const COLUMNS: [&str; 4] = ["reject_line", "reject_column", "reject_value", "reject_reason"];
/// What is put into an object.
const FIELD: &str = "@reject";

/// A file of rejects of one table.
pub(crate) struct RepairTable {
    /// Name of the file: the table's, where that is one, without compression.
    pub file: String,
    pub mapping: TableMapping,
    header: Option<String>,
}

/// The mapping's tables that a load read, with the names of the files in which their rejects come back.
pub(crate) fn tables(mapping: &Mapping, account: &[TableAccount]) -> BTreeMap<String, Vec<RepairTable>> {
    let mut found: BTreeMap<String, Vec<RepairTable>> = BTreeMap::new();
    for table in &mapping.tables {
        let of_table =
            |name: &str| name == table.file || (table.is_pattern() && fits_pattern(name, &table.file));
        for read in account.iter().filter(|a| of_table(&a.table)) {
            let format = match read.header {
                Some(_) => table.format().unwrap_or(TableFormat::Csv),
                None => TableFormat::Jsonl,
            };
            let suffix = match format {
                TableFormat::Tsv => "tsv",
                TableFormat::Csv => "csv",
                _ => "jsonl",
            };
            let part = table.part.map_or("", |part| match part {
                graphodrome_formats::Part::Nodes => "_nodes",
                graphodrome_formats::Part::Edges => "_edges",
            });
            let file = format!("{}{part}.{suffix}", stem(&read.table));
            let null = match table.query {
                Some(_) => Some(vec![graphodrome_formats::DATABASE_NULL.to_string()]),
                None => table.null.clone(),
            };
            let own = TableMapping {
                file: file.clone(),
                format: Some(format),
                encoding: Encoding::Utf8,
                part: None,
                database: None,
                query: None,
                null,
                ..table.clone()
            };
            let made = RepairTable { file, mapping: own, header: read.header.clone() };
            found.entry(read.table.clone()).or_default().push(made);
        }
    }
    found
}

/// A name that is a path of its own: no scheme, no way out of a folder, no suffixes.
pub fn stem(name: &str) -> String {
    let name = name.rsplit_once("://").map_or(name, |(_, rest)| rest);
    let name = name.strip_prefix("served:").unwrap_or(name);
    let parts = name.split('/').filter(|part| !matches!(*part, "" | "." | ".."));
    let plain = |part: &str| -> String {
        part.chars().map(|c| if c.is_alphanumeric() || "-_.".contains(c) { c } else { '_' }).collect()
    };
    let mut path: Vec<String> = parts.map(plain).collect();
    if let Some(last) = path.last_mut() {
        for suffix in [
            ".gz", ".zst", ".csv", ".tsv", ".tab", ".jsonl", ".ndjson", ".json", ".parquet", ".arrow",
            ".arrows", ".feather", ".graphml", ".nq", ".nt",
        ] {
            if let Some(head) = last.strip_suffix(suffix) {
                *last = head.to_string();
            }
        }
    }
    match path.join("/") {
        empty if empty.is_empty() || empty == "-" => "rows".into(),
        path => path,
    }
}

/// The mapping that loads the files of rejects.
pub(crate) fn mapping(mapping: &Mapping, account: &[TableAccount], rejected: &[String]) -> String {
    let tables = tables(mapping, account);
    let tables = tables.into_iter().filter(|(name, _)| rejected.contains(name)).flat_map(|(_, made)| made);
    let own =
        Mapping { tables: tables.map(|made| made.mapping).collect(), reject_limit: None, ..mapping.clone() };
    let remark = "# Loads the rows that were rejected, once they are repaired. Columns that begin with reject_\n# say what was wrong; they are not loaded.\n";
    format!("{remark}{}", own.to_toml())
}

/// A field too many, so that a row whose bytes could not be kept as they were is refused until somebody has
/// looked at it.
const DAMAGED: &str = "some bytes were no text: repair the row and take this field away";

/// Whether something else stands for bytes that were no text.
fn is_damaged(record: &str) -> bool {
    record.contains(['\u{fffd}', '\u{2400}'])
}

/// The rejected rows of one table, each once, as a file that can be loaded.
pub(crate) fn rows(table: &RepairTable, rejects: &[Reject]) -> String {
    // Rules of one table may refuse one row each for its own reason.
    let mut by_line: BTreeMap<u64, Vec<&Reject>> = BTreeMap::new();
    for reject in rejects {
        by_line.entry(reject.line).or_default().push(reject);
    }
    let joined = |of: &[&Reject], text: &dyn Fn(&Reject) -> String| {
        let mut texts: Vec<String> = of.iter().map(|r| text(r)).filter(|t| !t.is_empty()).collect();
        texts.dedup();
        texts.join("; ")
    };
    let mut out = String::new();
    let delimiter = table.mapping.delimiter.unwrap_or(match table.mapping.format {
        Some(TableFormat::Tsv) => '\t',
        _ => ',',
    });
    let quote = table.mapping.quote.unwrap_or('"');
    let quoted = |text: &str| {
        let needs = text.contains([delimiter, quote, '\n', '\r']);
        if !needs {
            return text.to_string();
        }
        let doubled = text.replace(quote, &format!("{quote}{quote}"));
        format!("{quote}{doubled}{quote}")
    };
    let separator = delimiter.to_string();
    if let Some(header) = &table.header {
        out.push_str(&format!("{}{separator}{header}\r\n", COLUMNS.join(&separator)));
    }
    for (line, of) in by_line {
        let column = joined(&of, &|r| r.column.clone().unwrap_or_default());
        let value = joined(&of, &|r| r.value.clone().unwrap_or_default());
        let reason = joined(&of, &|r| r.reason.clone());
        let record = of.first().map_or("", |r| r.record.as_str());
        if table.header.is_some() {
            let damaged =
                if is_damaged(record) { format!("{separator}{}", quoted(DAMAGED)) } else { String::new() };
            let fields = [line.to_string(), quoted(&column), quoted(&value), quoted(&reason)];
            out.push_str(&format!("{}{separator}{record}{damaged}\r\n", fields.join(&separator)));
            continue;
        }
        let mut why = json!({ "line": line, "column": column, "value": value, "reason": reason });
        let object = match serde_json::from_str::<serde_json::Value>(record) {
            Ok(serde_json::Value::Object(mut fields)) if !is_damaged(record) => {
                fields.insert(FIELD.into(), why);
                serde_json::Value::Object(fields)
            }
            _ => {
                why["record"] = json!(record);
                json!({ FIELD: why })
            }
        };
        out.push_str(&format!("{object}\n"));
    }
    out
}
