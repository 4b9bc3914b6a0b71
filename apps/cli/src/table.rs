//! Results as tables for people: numbers to the right, long values folded, elements as their label,
//! key and chosen properties, never as a dump.

use comfy_table::{Cell, CellAlignment, ContentArrangement, LineStyle, Table, TableStyle};
use graphodrome_client::QueryResult;
use serde_json::Value;

/// Characters of a cell before it is folded.
const FOLD: usize = 60;

/// One line under the heads, none between the rows: more rows on a screen.
const STYLE: TableStyle = TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─'));

pub fn plain(heads: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_style(STYLE).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(heads.iter().map(Cell::new).collect::<Vec<_>>());
    table
}

/// Cuts in the middle, where a text is longer than `most`: both ends stay readable.
pub fn fold(text: &str, most: usize) -> String {
    let count = text.chars().count();
    if count <= most {
        return text.replace('\n', "⏎");
    }
    let head = most * 2 / 3;
    let tail = most - head - 1;
    let start: String = text.chars().take(head).collect();
    let end: String = text.chars().skip(count - tail).collect();
    format!("{start}…{end}").replace('\n', "⏎")
}

fn names(value: &Value) -> Vec<&str> {
    value.as_array().into_iter().flatten().filter_map(|l| l.as_str()).collect()
}

/// `Site&Tank T-004 (name Upper Mere Tank)`.
fn element(value: &Value, show: &[String]) -> String {
    let labels = names(&value["labels"]);
    let key = names(&value["key"]);
    let properties = &value["properties"];
    let mut out = if labels.is_empty() { "(no label)".to_string() } else { labels.join("&") };
    let known: Vec<String> = key.iter().map(|k| cell(&properties[*k], show)).collect();
    if known.is_empty() {
        out.push_str(&format!(" {}", value["id"].as_str().unwrap_or("")));
    } else {
        out.push_str(&format!(" {}", known.join("/")));
    }
    let chosen: Vec<&str> =
        if show.is_empty() { vec!["name"] } else { show.iter().map(String::as_str).collect() };
    let more: Vec<String> = chosen
        .into_iter()
        .filter(|p| !key.contains(p) && !properties[*p].is_null())
        .map(|p| format!("{p} {}", cell(&properties[p], show)))
        .collect();
    if !more.is_empty() {
        out.push_str(&format!(" ({})", more.join(", ")));
    }
    out
}

/// The key of a node alone, for paths.
fn short(value: &Value) -> String {
    let known: Vec<String> =
        names(&value["key"]).iter().map(|k| cell(&value["properties"][*k], &[])).collect();
    if known.is_empty() { value["id"].as_str().unwrap_or("?").to_string() } else { known.join("/") }
}

fn path(value: &Value) -> String {
    let empty = vec![];
    let nodes = value["nodes"].as_array().unwrap_or(&empty);
    let edges = value["edges"].as_array().unwrap_or(&empty);
    let mut out = nodes.first().map(short).unwrap_or_default();
    for (i, edge) in edges.iter().enumerate() {
        let label = names(&edge["labels"]).join("&");
        let forward = edge["source"] == nodes[i]["id"];
        let arrow = match (edge["directed"].as_bool(), forward) {
            (Some(false), _) => format!(" ~{label}~ "),
            (_, true) => format!(" -{label}-> "),
            (_, false) => format!(" <-{label}- "),
        };
        out.push_str(&arrow);
        out.push_str(&nodes.get(i + 1).map(short).unwrap_or_default());
    }
    format!("{out}  [{} hops]", edges.len())
}

pub fn cell(value: &Value, show: &[String]) -> String {
    match value {
        Value::Null => "null".into(),
        Value::String(text) => text.clone(),
        Value::Bool(b) => if *b { "TRUE" } else { "FALSE" }.into(),
        Value::Array(items) => {
            let shown: Vec<String> = items.iter().map(|v| cell(v, show)).collect();
            format!("[{}]", shown.join(", "))
        }
        Value::Object(fields) => match fields.get("type").and_then(|t| t.as_str()) {
            Some("node" | "edge") if fields.contains_key("labels") => element(value, show),
            Some("path") if fields.contains_key("nodes") => path(value),
            _ => {
                let shown: Vec<String> =
                    fields.iter().map(|(k, v)| format!("{k}: {}", cell(v, show))).collect();
                format!("{{{}}}", shown.join(", "))
            }
        },
        Value::Number(number) => match number.as_f64().filter(|_| number.is_f64()) {
            // Twelve digits: enough to read, without the last bits' noise. Other formats have all.
            Some(f) if f != 0.0 && (1e-6..1e12).contains(&f.abs()) => {
                let digits = (11 - f.abs().log10().floor() as i32).clamp(1, 17) as usize;
                let text = format!("{f:.digits$}");
                let trimmed = text.trim_end_matches('0');
                if trimmed.ends_with('.') { format!("{trimmed}0") } else { trimmed.to_string() }
            }
            _ => number.to_string(),
        },
    }
}

/// The whole result with its footer.
pub fn result(result: &QueryResult, show: &[String], width: usize) -> String {
    let summary = &result.summary;
    // What a statement of the session answers is a sentence, not a table.
    if let ([column], [row]) = (&result.columns[..], &result.rows[..])
        && let [Value::String(sentence)] = &row[..]
        && column.name == "done"
        && summary["execute_us"].is_null()
    {
        return format!("{sentence}\n");
    }
    let mut footer = vec![];
    let changed = &summary["changed"];
    for (field, thing, done) in [
        ("nodes_inserted", "node", "inserted"),
        ("edges_inserted", "edge", "inserted"),
        ("nodes_deleted", "node", "deleted"),
        ("edges_deleted", "edge", "deleted"),
        ("properties_set", "property", "set"),
        ("labels_changed", "label", "changed"),
    ] {
        if let Some(n) = changed[field].as_u64().filter(|n| *n > 0) {
            let things = match thing {
                _ if n == 1 => thing,
                "property" => "properties",
                other => &format!("{other}s"),
            };
            footer.push(format!("{n} {things} {done}"));
        }
    }
    let mut out = String::new();
    if !result.columns.is_empty() {
        let heads: Vec<&str> = result.columns.iter().map(|c| c.name.as_str()).collect();
        let mut table = plain(&heads);
        table.set_width(width.min(u16::MAX as usize) as u16);
        let most = if result.columns.len() == 1 { (width.saturating_sub(4)).max(FOLD) } else { FOLD };
        for row in &result.rows {
            table.add_row(row.iter().map(|v| {
                let shown = Cell::new(fold(&cell(v, show), most));
                if v.is_number() { shown.set_alignment(CellAlignment::Right) } else { shown }
            }));
        }
        for (i, column) in result.columns.iter().enumerate() {
            let numeric = column.kind == "value"
                && !result.rows.is_empty()
                && result.rows.iter().all(|r| r[i].is_number());
            if let (true, Some(column)) = (numeric, table.column_mut(i)) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        out.push_str(&table.to_string());
        out.push('\n');
        let rows = result.rows.len();
        footer.insert(0, format!("{rows} row{}", if rows == 1 { "" } else { "s" }));
    } else if footer.is_empty() {
        footer.push("done".into());
    }
    if summary["truncated"].as_bool() == Some(true) {
        footer.push("more were left out".into());
    }
    if let Some(us) = summary["execute_us"].as_f64() {
        footer.push(format!("{:.2} ms", us / 1e3));
    }
    out.push_str(&footer.join(", "));
    out.push('\n');
    out
}
