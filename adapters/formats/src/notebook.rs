//! Notebooks: texts and queries with what came of them, in the order in which they are read; as Markdown and as a
//! notebook file (nbformat 4.5).

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use serde_json::{Map, Value, json};

/// Cells of a notebook, rows that one of them keeps, and bytes of its drawing.
const MOST_CELLS: usize = 1000;
const MOST_ROWS: usize = 1000;
const LARGEST_DRAWING: usize = 2 << 20;

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Notebook {
    pub cells: Vec<Cell>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Cell {
    pub kind: NotebookCellKind,
    /// Markdown, or a query.
    pub text: String,
    /// What was typed for each parameter of a query.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    pub parameters: Map<String, Value>,
    #[serde(default)]
    pub view: CellView,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<CellResult>,
    /// The drawing of its result: SVG.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drawing: Option<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum NotebookCellKind {
    Text,
    Query,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum CellView {
    #[default]
    Table,
    Drawing,
    Chart,
}

/// What came of a query when it was last run.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CellResult {
    pub graph: String,
    pub version: u64,
    /// RFC 3339.
    pub at: String,
    /// Of the whole result; fewer may be kept.
    pub row_count: u64,
    pub columns: Vec<CellColumn>,
    /// As the service wrote them, digit for digit.
    pub rows: Vec<Vec<Box<RawValue>>>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CellColumn {
    pub name: String,
    /// node, edge, path or value.
    pub kind: String,
}

/// A value as a line of text: elements by label and key, never a dump.
fn readable(value: &Value) -> String {
    let text = |v: &Value| v.as_str().map_or_else(|| v.to_string(), str::to_string);
    let name = |element: &Map<String, Value>| {
        let list = |field: &str| element.get(field).and_then(Value::as_array).into_iter().flatten();
        let labels: Vec<String> = list("labels").map(text).collect();
        let property = |name: &Value| element.get("properties")?.get(name.as_str()?).map(text);
        let key: Vec<String> = list("key").filter_map(property).collect();
        let key = match key.is_empty() {
            true => element.get("id").map(text).unwrap_or_default(),
            false => key.join("/"),
        };
        format!("{} {key}", labels.join("&"))
    };
    match value {
        Value::Array(items) => {
            format!("[{}]", items.iter().map(readable).collect::<Vec<_>>().join(", "))
        }
        Value::Object(fields) => match fields.get("type").and_then(Value::as_str) {
            Some("node" | "edge") if fields.contains_key("labels") => name(fields),
            Some("path") => {
                let nodes = fields.get("nodes").and_then(Value::as_array).into_iter().flatten();
                nodes.filter_map(Value::as_object).map(name).collect::<Vec<_>>().join(" → ")
            }
            _ => {
                let each = |(name, v): (&String, &Value)| format!("{name}: {}", readable(v));
                format!("{{{}}}", fields.iter().map(each).collect::<Vec<_>>().join(", "))
            }
        },
        other => text(other),
    }
}

fn cell_text(raw: &RawValue) -> String {
    match serde_json::from_str(raw.get()) {
        Ok(Value::Number(_)) | Err(_) => raw.get().to_string(),
        Ok(value) => readable(&value),
    }
}

impl CellResult {
    /// What it is of: `3 rows of averley, version 12, 2026-05-31 10:00:00`.
    fn heading(&self) -> String {
        let at = self.at.get(..19).unwrap_or(&self.at).replace('T', " ");
        let rows = if self.row_count == 1 { "row" } else { "rows" };
        let kept = match self.rows.len() as u64 == self.row_count {
            true => String::new(),
            false => format!(", of which the first {} are kept", self.rows.len()),
        };
        format!("{} {rows} of {}, version {}, {at}{kept}", self.row_count, self.graph, self.version)
    }

    fn markdown(&self) -> String {
        if self.columns.is_empty() {
            return String::new();
        }
        let cell = |text: &str| {
            let text: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
            text.replace('\\', "\\\\").replace('|', "\\|").replace('<', "&lt;")
        };
        let line = |cells: Vec<String>| format!("| {} |\n", cells.join(" | "));
        let mut out = line(self.columns.iter().map(|c| cell(&c.name)).collect());
        out.push_str(&line(self.columns.iter().map(|_| "---".to_string()).collect()));
        for row in &self.rows {
            out.push_str(&line(row.iter().map(|raw| cell(&cell_text(raw))).collect()));
        }
        out
    }

    /// In columns of equal width.
    fn plain(&self) -> String {
        let rows: Vec<Vec<String>> = std::iter::once(self.columns.iter().map(|c| c.name.clone()).collect())
            .chain(self.rows.iter().map(|row| row.iter().map(|raw| cell_text(raw)).collect()))
            .collect();
        let width = |column: usize| {
            rows.iter().filter_map(|row| row.get(column)).map(|c| c.chars().count()).max().unwrap_or(0)
        };
        let widths: Vec<usize> = (0..self.columns.len()).map(width).collect();
        let line = |row: &Vec<String>| {
            let cells = row.iter().zip(&widths).map(|(text, width)| format!("{text:width$}"));
            format!("{}\n", cells.collect::<Vec<_>>().join("  ").trim_end())
        };
        rows.iter().map(line).collect()
    }
}

/// A fence that is longer than every run of backticks in the text.
fn fence(text: &str) -> String {
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or(0);
    "`".repeat(3.max(longest + 1))
}

/// Lines with their ends, as a notebook file has them.
fn source(text: &str) -> Vec<&str> {
    text.split_inclusive('\n').collect()
}

impl Notebook {
    /// What is wrong with it, if anything.
    pub fn check(&self) -> Result<(), String> {
        if self.cells.len() > MOST_CELLS {
            return Err(format!(
                "a notebook has at most {MOST_CELLS} cells, this one has {}",
                self.cells.len()
            ));
        }
        for (i, cell) in self.cells.iter().enumerate() {
            let place = i + 1;
            if cell.drawing.as_ref().is_some_and(|d| d.len() > LARGEST_DRAWING) {
                return Err(format!(
                    "the drawing of cell {place} is larger than {} MiB",
                    LARGEST_DRAWING >> 20
                ));
            }
            let Some(result) = &cell.result else { continue };
            if result.rows.len() > MOST_ROWS {
                let text =
                    format!("cell {place} has {} rows; a notebook keeps {MOST_ROWS}", result.rows.len());
                return Err(text);
            }
            if let Some(row) = result.rows.iter().position(|row| row.len() != result.columns.len()) {
                let columns = result.columns.len();
                return Err(format!(
                    "row {} of cell {place} has not {columns} values, one a column",
                    row + 1
                ));
            }
        }
        Ok(())
    }

    pub fn to_markdown(&self) -> String {
        let mut out = String::new();
        for cell in &self.cells {
            if !out.is_empty() {
                out.push('\n');
            }
            let text = cell.text.trim_end();
            if cell.kind == NotebookCellKind::Text {
                out.push_str(text);
                out.push('\n');
                continue;
            }
            let fence = fence(text);
            out.push_str(&format!("{fence}gql\n{text}\n{fence}\n"));
            for (name, value) in &cell.parameters {
                out.push_str(&format!("\n`${name}` = {}\n", readable(value)));
            }
            if let Some(result) = &cell.result {
                out.push_str(&format!("\n{}\n*{}*\n", result.markdown(), result.heading()));
            }
        }
        out
    }

    /// A notebook file: JSON by the format that notebook programs share.
    pub fn to_ipynb(&self) -> Value {
        let mut runs = 0;
        let cell = |(i, cell): (usize, &Cell)| {
            let id = format!("cell-{}", i + 1);
            if cell.kind == NotebookCellKind::Text {
                return json!({ "id": id, "cell_type": "markdown", "metadata": {}, "source": source(&cell.text) });
            }
            let count = cell.result.as_ref().map(|_| {
                runs += 1;
                runs
            });
            let output = cell.result.as_ref().map(|result| {
                let mut data = json!({
                    "text/markdown": source(&result.markdown()), "text/plain": source(&result.plain())
                });
                if let (CellView::Drawing, Some(drawing)) = (cell.view, &cell.drawing) {
                    data["image/svg+xml"] = json!(source(drawing));
                }
                let about = json!({ "of": result.heading() });
                json!({ "output_type": "execute_result", "execution_count": count, "metadata": about, "data": data })
            });
            let metadata = match cell.parameters.is_empty() {
                true => json!({}),
                false => json!({ "parameters": cell.parameters }),
            };
            json!({
                "id": id, "cell_type": "code", "metadata": metadata, "execution_count": count,
                "source": source(&cell.text), "outputs": output.into_iter().collect::<Vec<_>>()
            })
        };
        let cells: Vec<Value> = self.cells.iter().enumerate().map(cell).collect();
        json!({
            "nbformat": 4,
            "nbformat_minor": 5,
            "metadata": {
                "kernelspec": { "name": "gql", "display_name": "GQL", "language": "gql" },
                "language_info": { "name": "gql", "file_extension": ".gql", "mimetype": "text/plain" }
            },
            "cells": cells
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn example() -> Notebook {
        let cells = json!([
            { "kind": "text", "text": "# Sites\n\nWhere they are." },
            {
                "kind": "query", "text": "MATCH (s:Site) RETURN s, s.name AS name", "view": "drawing",
                "parameters": { "level": "120" }, "drawing": "<svg/>",
                "result": {
                    "graph": "averley", "version": 12, "at": "2026-05-31T10:00:00Z", "row_count": 3,
                    "columns": [{ "name": "s", "kind": "node" }, { "name": "name", "kind": "value" }],
                    "rows": [
                        [{ "type": "node", "id": "n1", "labels": ["Site"], "key": ["code"], "properties": { "code": "S-1" } },
                         "North | South"],
                        [null, 0]
                    ]
                }
            }
        ]);
        let text =
            json!({ "cells": cells }).to_string().replace(",0]", ",12345678901234567890.123456789012345678]");
        serde_json::from_str(&text).expect("a notebook")
    }

    #[test]
    fn what_is_kept_is_what_was_given() {
        let notebook = example();
        notebook.check().expect("well formed");
        let again = serde_json::to_string(&notebook).expect("written");
        assert!(again.contains("12345678901234567890.123456789012345678"), "{again}");
    }

    #[test]
    fn markdown_has_texts_queries_and_rows() {
        let text = example().to_markdown();
        assert_eq!(
            text,
            "# Sites\n\nWhere they are.\n\n```gql\nMATCH (s:Site) RETURN s, s.name AS name\n```\n\n\
             `$level` = 120\n\n| s | name |\n| --- | --- |\n| Site S-1 | North \\| South |\n\
             | null | 12345678901234567890.123456789012345678 |\n\n\
             *3 rows of averley, version 12, 2026-05-31 10:00:00, of which the first 2 are kept*\n"
        );
    }

    #[test]
    fn a_notebook_file_has_what_its_format_asks_for() {
        let file = example().to_ipynb();
        assert_eq!((&file["nbformat"], &file["nbformat_minor"]), (&json!(4), &json!(5)));
        let [text, query] = &file["cells"].as_array().expect("cells")[..] else { panic!("{file}") };
        assert_eq!(text["source"], json!(["# Sites\n", "\n", "Where they are."]));
        assert_eq!((&query["cell_type"], &query["execution_count"]), (&json!("code"), &json!(1)));
        let data = &query["outputs"][0]["data"];
        assert_eq!(data["image/svg+xml"], json!(["<svg/>"]));
        assert_eq!(data["text/plain"][0], json!("s         name\n"));
        assert_eq!(query["metadata"]["parameters"]["level"], json!("120"));
    }

    #[test]
    fn more_than_a_notebook_holds_is_refused() {
        let mut notebook = example();
        let row = notebook.cells[1].result.as_ref().expect("a result").rows[0].clone();
        let result = notebook.cells[1].result.as_mut().expect("a result");
        result.rows = vec![row; MOST_ROWS + 1];
        assert!(notebook.check().expect_err("too many").contains("cell 2 has 1001 rows"));
        let result = notebook.cells[1].result.as_mut().expect("a result");
        result.rows.truncate(2);
        result.rows[1].pop();
        assert!(notebook.check().expect_err("a short row").contains("row 2 of cell 2"));
    }

    #[test]
    fn a_fence_is_longer_than_what_it_holds() {
        assert_eq!((fence("a"), fence("a ```` b")), ("```".into(), "`````".into()));
    }
}
