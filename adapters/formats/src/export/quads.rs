//! N-Quads: a node is `BASEnode/ID` with its labels as types and its properties as literals. An edge is a triple
//! with its label as predicate; if it has properties, is undirected or has parallel edges, it is also a statement
//! resource `BASEedge/ID`. The mapping of docs/loading.md reads it again.

use std::io::Write;
use std::ops::ControlFlow;

use graphodrome_graph::{Dense, Value, ValueKind};

use crate::export::survey::{Seen, Survey};
use crate::export::tables::plain;
use crate::export::{Export, ExportError};

const RDF: &str = "http://www.w3.org/1999/02/22-rdf-syntax-ns#";
const XSD: &str = "http://www.w3.org/2001/XMLSchema#";

/// A name as part of an IRI.
pub(super) fn encoded(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for byte in name.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_' | b'.' => out.push(byte as char),
            byte => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}

pub(super) fn losses(survey: &Survey) -> Vec<String> {
    let mut losses = vec![];
    let structured =
        |seen: &Seen| seen.kinds.contains(&ValueKind::List) || seen.kinds.contains(&ValueKind::Record);
    if let Some(names) = survey.named(structured) {
        losses.push(format!("lists and records are written as literals of the type rdf:JSON: {names}"));
    }
    if survey.edges.keys().any(|(labels, _)| labels.len() > 1) {
        losses.push("an edge with several labels is written as one triple a label".into());
    }
    if survey.edges.keys().any(|(_, directed)| !directed) {
        losses.push("triples have a direction: undirected edges are statements with undirected true".into());
    }
    losses
}

fn literal(value: &Value) -> (String, Option<String>) {
    let of = |name: &str| Some(format!("{XSD}{name}"));
    let data_type = match value {
        Value::Bool(_) => of("boolean"),
        Value::Int(_) => of("integer"),
        Value::Float(_) => of("double"),
        Value::Decimal(_) => of("decimal"),
        Value::Bytes(_) => of("hexBinary"),
        Value::Date(_) => of("date"),
        Value::LocalTime(_) | Value::ZonedTime(..) => of("time"),
        Value::LocalDateTime(_) | Value::ZonedDateTime(_) => of("dateTime"),
        Value::Duration(_) => of("duration"),
        Value::List(_) | Value::Record(_) => Some(format!("{RDF}JSON")),
        _ => None,
    };
    let text = match value {
        Value::Float(f) if f.is_infinite() => if *f > 0.0 { "INF" } else { "-INF" }.to_string(),
        value => plain(value),
    };
    (text, data_type)
}

fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if c < ' ' || c == '\u{7f}' => out.push_str(&format!("\\u{:04X}", c as u32)),
            c => out.push(c),
        }
    }
    out
}

pub(super) fn write(export: &Export<'_>, out: &mut dyn Write) -> Result<(), ExportError> {
    let (snapshot, base) = (export.snapshot, &export.base);
    let node = |id: Dense| format!("<{base}node/{}>", snapshot.node_id(id));
    let name = |kind: &str, name: &str| format!("<{base}{kind}/{}>", encoded(name));
    let properties = |out: &mut dyn Write,
                      subject: &str,
                      properties: &graphodrome_graph::Properties|
     -> Result<(), ExportError> {
        for (property, value) in properties.iter() {
            let (text, data_type) = literal(value);
            let data_type = data_type.map(|t| format!("^^<{t}>")).unwrap_or_default();
            writeln!(out, "{subject} {} \"{}\"{data_type} .", name("property", property), escaped(&text))?;
        }
        Ok(())
    };
    export.nodes(|id| {
        let subject = node(id);
        for label in snapshot.node_labels(id).iter() {
            writeln!(out, "{subject} <{RDF}type> {} .", name("label", label))?;
        }
        properties(&mut *out, &subject, &snapshot.node_properties(id))
    })?;
    export.edges(|id| {
        let ends = snapshot.edge_ends(id);
        let (labels, directed) = (snapshot.edge_labels(id), snapshot.edge_directed(id));
        let (source, target) = (node(ends.0), node(ends.1));
        let of_edge = snapshot.edge_properties(id);
        let mut parallel = 0;
        let several = |_| {
            parallel += 1;
            if parallel > 1 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        };
        snapshot.for_each_between(ends, &labels, directed, several);
        let described = !of_edge.is_empty() || !directed || parallel > 1;
        for label in labels.iter() {
            let predicate = name("label", label);
            writeln!(out, "{source} {predicate} {target} .")?;
            if described {
                let statement = format!("<{base}edge/{}>", snapshot.edge_id(id));
                writeln!(out, "{statement} <{RDF}type> <{RDF}Statement> .")?;
                writeln!(out, "{statement} <{RDF}subject> {source} .")?;
                writeln!(out, "{statement} <{RDF}predicate> {predicate} .")?;
                writeln!(out, "{statement} <{RDF}object> {target} .")?;
                if !directed {
                    let undirected = name("property", "undirected");
                    writeln!(out, "{statement} {undirected} \"true\"^^<{XSD}boolean> .")?;
                }
                properties(&mut *out, &statement, &of_edge)?;
            }
        }
        Ok(())
    })
}
