//! GraphML as JSON Lines: a row a node (`@id` and its data) or a row an edge (`@id`, `@source`,
//! `@target`, `@directed` and its data). Data come under their `attr.name`, with the type of their key
//! and its default. Nested graphs are read as one; hyperedges are refused.

use std::collections::HashMap;
use std::io::Write;

use quick_xml::events::{BytesStart, Event};
use quick_xml::reader::Reader;
use serde_json::{Map, Value, json};

use crate::load::Progress;
use crate::mapping::Part;

/// Elements between two questions whether to go on.
const ASK_EVERY: u64 = 1 << 14;

struct Key {
    name: String,
    kind: String,
    of: String,
    default: Option<String>,
}

/// Where the texts that come next belong.
enum Reading {
    Nothing,
    Default(String),
    Data(String),
}

struct State<'w, W> {
    part: Part,
    out: &'w mut W,
    keys: HashMap<String, Key>,
    edge_default: bool,
    /// The row being put together; nested graphs have a node open around others.
    open: Vec<Option<Map<String, Value>>>,
    reading: Reading,
    text: String,
}

pub(super) fn rows<W: Write>(
    bytes: &[u8], part: Part, out: &mut W, progress: &Progress,
) -> Result<(), String> {
    let text =
        std::str::from_utf8(bytes).map_err(|e| format!("no valid UTF-8: {e}; declare the encoding"))?;
    let mut reader = Reader::from_str(text);
    reader.config_mut().expand_empty_elements = true;
    let mut state = State {
        part,
        out,
        keys: HashMap::new(),
        edge_default: false,
        open: vec![],
        reading: Reading::Nothing,
        text: String::new(),
    };
    let (mut seen, mut is_graphml) = (0u64, false);
    loop {
        let place = reader.buffer_position() as usize;
        let line = || bytes[..place.min(bytes.len())].iter().filter(|b| **b == b'\n').count() + 1;
        let event = reader.read_event().map_err(|e| format!("line {}: no valid XML: {e}", line()))?;
        seen += 1;
        if seen.is_multiple_of(ASK_EVERY) {
            progress.check().map_err(|e| e.to_string())?;
        }
        let step = match event {
            Event::Start(start) => {
                is_graphml |= start.local_name().as_ref() == "graphml";
                state.start(&start)
            }
            Event::End(end) => state.end(end.local_name().as_ref()),
            Event::Text(text) => {
                state.text.push_str(&text);
                Ok(())
            }
            Event::CData(data) => {
                state.text.push_str(&data);
                Ok(())
            }
            Event::GeneralRef(reference) => state.reference(&reference),
            Event::Eof => break,
            _ => Ok(()),
        };
        step.map_err(|message| format!("line {}: {message}", line()))?;
    }
    if !is_graphml {
        return Err("the file has no element <graphml>".into());
    }
    if !state.open.is_empty() {
        return Err("the file ends within a node or an edge: it may be cut off".into());
    }
    Ok(())
}

fn attribute(start: &BytesStart<'_>, name: &str) -> Result<Option<String>, String> {
    let found = start.try_get_attribute(name).map_err(|e| e.to_string())?;
    found
        .map(|a| a.normalized_value(quick_xml::XmlVersion::Implicit1_0).map(|v| v.into_owned()))
        .transpose()
        .map_err(|e| e.to_string())
}

fn wanted(start: &BytesStart<'_>, name: &str, element: &str) -> Result<String, String> {
    attribute(start, name)?.ok_or_else(|| format!("a <{element}> has no {name}"))
}

impl<W: Write> State<'_, W> {
    fn start(&mut self, start: &BytesStart<'_>) -> Result<(), String> {
        match start.local_name().as_ref() {
            "key" => {
                let id = wanted(start, "id", "key")?;
                let name = attribute(start, "attr.name")?.unwrap_or_else(|| id.clone());
                let kind = attribute(start, "attr.type")?.unwrap_or_else(|| "string".into());
                let of = attribute(start, "for")?.unwrap_or_else(|| "all".into());
                self.keys.insert(id.clone(), Key { name, kind, of, default: None });
                self.reading = Reading::Default(id);
            }
            "default" => self.text.clear(),
            "graph" => {
                self.edge_default = wanted(start, "edgedefault", "graph")? == "directed";
            }
            "node" => {
                let id = wanted(start, "id", "node")?;
                let row = (self.part == Part::Nodes).then(|| self.row("node", &[("@id", json!(id))]));
                self.open.push(row);
            }
            "edge" => {
                let (source, target) = (wanted(start, "source", "edge")?, wanted(start, "target", "edge")?);
                let directed = match attribute(start, "directed")?.as_deref() {
                    None => self.edge_default,
                    Some("true" | "1") => true,
                    Some("false" | "0") => false,
                    Some(other) => return Err(format!("directed is true or false, not {other}")),
                };
                let id = attribute(start, "id")?;
                let fixed = [
                    ("@id", json!(id)),
                    ("@source", json!(source)),
                    ("@target", json!(target)),
                    ("@directed", json!(directed)),
                ];
                let row = (self.part == Part::Edges).then(|| self.row("edge", &fixed));
                self.open.push(row);
            }
            "data" => {
                self.reading = Reading::Data(wanted(start, "key", "data")?);
                self.text.clear();
            }
            "hyperedge" => return Err("hyperedges are not read: turn each into a node with edges".into()),
            _ => {}
        }
        Ok(())
    }

    /// A row with what it has by itself and its keys' defaults.
    fn row(&self, of: &str, fixed: &[(&str, Value)]) -> Map<String, Value> {
        let mut row: Map<String, Value> = fixed.iter().map(|(n, v)| (n.to_string(), v.clone())).collect();
        for key in self.keys.values().filter(|k| k.of == of || k.of == "all") {
            if let Some(default) = &key.default {
                row.insert(key.name.clone(), typed(&key.kind, default));
            }
        }
        row
    }

    fn end(&mut self, element: &str) -> Result<(), String> {
        match element {
            "default" => {
                if let Reading::Default(id) = &self.reading
                    && let Some(key) = self.keys.get_mut(id)
                {
                    key.default = Some(std::mem::take(&mut self.text));
                }
            }
            "key" => self.reading = Reading::Nothing,
            "data" => {
                if let Reading::Data(id) = std::mem::replace(&mut self.reading, Reading::Nothing)
                    && let Some(row) = self.open.last_mut()
                {
                    let key = self.keys.get(&id);
                    let key = key.ok_or_else(|| format!("there is no <key> with the id {id}"))?;
                    if let Some(row) = row {
                        row.insert(key.name.clone(), typed(&key.kind, &self.text));
                    }
                }
            }
            "node" | "edge" => {
                if let Some(Some(row)) = self.open.pop() {
                    serde_json::to_writer(&mut *self.out, &Value::Object(row)).map_err(|e| e.to_string())?;
                    self.out.write_all(b"\n").map_err(super::cannot_keep)?;
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn reference(&mut self, reference: &quick_xml::events::BytesRef<'_>) -> Result<(), String> {
        if let Some(c) = reference.resolve_char_ref().map_err(|e| e.to_string())? {
            self.text.push(c);
            return Ok(());
        }
        let name: &str = reference;
        let known = quick_xml::escape::resolve_predefined_entity(name);
        // No entities of a document type: they could stand for more than the file holds.
        self.text.push_str(known.ok_or_else(|| format!("the entity &{name}; is not known"))?);
        Ok(())
    }
}

/// A text as its key's type; what is not of that type stays a text, which the load then refuses with
/// its place.
fn typed(kind: &str, text: &str) -> Value {
    let number = |text: &str| serde_json::from_str::<serde_json::Number>(text.trim()).ok().map(Value::Number);
    let value = match kind {
        "boolean" => match text.trim() {
            "true" | "1" => Some(Value::Bool(true)),
            "false" | "0" => Some(Value::Bool(false)),
            _ => None,
        },
        "int" | "long" => text.trim().parse::<i64>().ok().map(Value::from),
        "float" | "double" => number(text)
            .or_else(|| text.trim().parse::<f64>().ok().filter(|f| f.is_finite()).map(Value::from)),
        _ => None,
    };
    value.unwrap_or_else(|| Value::String(text.to_string()))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    const FILE: &str = r#"<?xml version="1.0"?>
<graphml xmlns="http://graphml.graphdrawing.org/xmlns">
  <key id="d0" for="node" attr.name="name" attr.type="string"/>
  <key id="d1" for="edge" attr.name="length" attr.type="double"><default>1.5</default></key>
  <graph id="G" edgedefault="undirected">
    <node id="a"><data key="d0">Bell &amp; Son &#228;</data></node>
    <node id="b"/>
    <edge source="a" target="b"/>
    <edge id="e" source="b" target="a" directed="true"><data key="d1">2</data></edge>
  </graph>
</graphml>"#;

    fn lines(text: &str, part: Part) -> Result<Vec<String>, String> {
        let mut out = vec![];
        rows(text.as_bytes(), part, &mut out, &Progress::default())?;
        Ok(String::from_utf8(out).unwrap().lines().map(str::to_string).collect())
    }

    #[test]
    fn nodes_and_edges_are_rows() {
        let nodes = lines(FILE, Part::Nodes).unwrap();
        assert_eq!(nodes, [r#"{"@id":"a","name":"Bell & Son ä"}"#, r#"{"@id":"b"}"#]);
        let edges = lines(FILE, Part::Edges).unwrap();
        assert_eq!(edges[0], r#"{"@id":null,"@source":"a","@target":"b","@directed":false,"length":1.5}"#);
        assert_eq!(edges[1], r#"{"@id":"e","@source":"b","@target":"a","@directed":true,"length":2}"#);
    }

    #[test]
    fn faults_have_their_line() {
        let unknown = FILE.replace("<data key=\"d0\">", "<data key=\"d9\">");
        assert!(lines(&unknown, Part::Nodes).unwrap_err().starts_with("line 6: there is no <key>"));
        let cut = &FILE[..FILE.len() - 100];
        assert!(lines(cut, Part::Edges).is_err());
        assert!(lines("<html></html>", Part::Edges).unwrap_err().contains("no element <graphml>"));
    }
}
