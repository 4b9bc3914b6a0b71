//! GraphML and DOT.

use std::borrow::Cow;
use std::io::Write;
use std::sync::Arc;

use graphodrome_graph::{Value, ValueKind};

use crate::export::survey::{Seen, Survey};
use crate::export::tables::plain;
use crate::export::{Export, ExportError};

/// What GraphML calls a type.
fn kind_of(seen: &Seen) -> &'static str {
    match seen.only() {
        Some(ValueKind::Bool) => "boolean",
        Some(ValueKind::Int) => "long",
        Some(ValueKind::Float) => "double",
        _ => "string",
    }
}

pub(super) fn graphml_losses(survey: &Survey) -> Vec<String> {
    let mut losses = vec![];
    let plain = [ValueKind::Bool, ValueKind::Int, ValueKind::Float, ValueKind::Text];
    let odd = |seen: &Seen| seen.only().is_some_and(|kind| !plain.contains(&kind));
    if let Some(names) = survey.named(odd) {
        losses.push(format!("GraphML knows boolean, long, double and string: written as string: {names}"));
    }
    if let Some(names) = survey.named(|seen| seen.only().is_none()) {
        losses.push(format!("values of several types are written as string: {names}"));
    }
    if let Some(names) = survey.named(|seen| seen.control_characters) {
        losses.push(format!("control characters, which XML cannot hold, are written as \u{fffd}: {names}"));
    }
    if survey.labels_with(';') {
        losses.push("labels that hold a ; cannot be told from several".into());
    }
    losses
}

fn escaped(text: &str) -> Cow<'_, str> {
    let odd = |c: char| c < ' ' && !matches!(c, '\t' | '\n' | '\r') || matches!(c, '\u{fffe}' | '\u{ffff}');
    let text: Cow<'_, str> = match text.contains(odd) {
        true => Cow::Owned(text.replace(odd, "\u{fffd}")),
        false => Cow::Borrowed(text),
    };
    match quick_xml::escape::escape(&*text) {
        Cow::Borrowed(_) if !text.contains('\r') => text,
        escaped => Cow::Owned(escaped.replace('\r', "&#13;")),
    }
}

/// Name of the data that holds an element's labels.
const LABELS: &str = "@labels";

pub(super) fn graphml(export: &Export<'_>, out: &mut dyn Write) -> Result<(), ExportError> {
    writeln!(out, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>")?;
    writeln!(
        out,
        "<graphml xmlns=\"http://graphml.graphdrawing.org/xmlns\" xmlns:xsi=\"http://www.w3.org/2001/XMLSchema-instance\" xsi:schemaLocation=\"http://graphml.graphdrawing.org/xmlns http://graphml.graphdrawing.org/xmlns/1.0/graphml.xsd\">"
    )?;
    let keys = |properties: crate::export::survey::Properties,
                prefix: &str|
     -> Vec<(Arc<str>, String, &'static str)> {
        let numbered = properties.into_iter().enumerate();
        numbered.map(|(i, (name, seen))| (name, format!("{prefix}{i}"), kind_of(&seen))).collect()
    };
    let node_keys = keys(export.survey.node_properties(), "n");
    let edge_keys = keys(export.survey.edge_properties(), "e");
    for (of, prefix, keys) in [("node", "nl", &node_keys), ("edge", "el", &edge_keys)] {
        writeln!(out, "  <key id=\"{prefix}\" for=\"{of}\" attr.name=\"{LABELS}\" attr.type=\"string\"/>")?;
        for (name, id, kind) in keys {
            let name = escaped(name);
            writeln!(out, "  <key id=\"{id}\" for=\"{of}\" attr.name=\"{name}\" attr.type=\"{kind}\"/>")?;
        }
    }
    writeln!(out, "  <graph id=\"{}\" edgedefault=\"directed\">", escaped(&export.graph))?;
    let data = |out: &mut dyn Write,
                properties: &graphodrome_graph::Properties,
                keys: &[(Arc<str>, String, &'static str)]|
     -> Result<(), ExportError> {
        for (name, value) in properties.iter() {
            let Some((_, id, kind)) = keys.iter().find(|(n, ..)| n == name) else { continue };
            let text = match (value, *kind) {
                (Value::Float(f), "double") if f.is_nan() => "NaN".into(),
                (Value::Float(f), "double") if f.is_infinite() => {
                    if *f > 0.0 {
                        "INF".into()
                    } else {
                        "-INF".into()
                    }
                }
                (value, _) => plain(value),
            };
            write!(out, "<data key=\"{id}\">{}</data>", escaped(&text))?;
        }
        Ok(())
    };
    let snapshot = export.snapshot;
    export.nodes(|id| {
        let labels = snapshot.node_labels(id).join(";");
        write!(
            out,
            "    <node id=\"n{}\"><data key=\"nl\">{}</data>",
            snapshot.node_id(id),
            escaped(&labels)
        )?;
        data(&mut *out, &snapshot.node_properties(id), &node_keys)?;
        Ok(writeln!(out, "</node>")?)
    })?;
    export.edges(|id| {
        let (a, b) = snapshot.edge_ends(id);
        let directed = if snapshot.edge_directed(id) { "" } else { " directed=\"false\"" };
        let (own, a, b) = (snapshot.edge_id(id), snapshot.node_id(a), snapshot.node_id(b));
        write!(out, "    <edge id=\"e{own}\" source=\"n{a}\" target=\"n{b}\"{directed}>")?;
        write!(out, "<data key=\"el\">{}</data>", escaped(&snapshot.edge_labels(id).join(";")))?;
        data(&mut *out, &snapshot.edge_properties(id), &edge_keys)?;
        Ok(writeln!(out, "</edge>")?)
    })?;
    Ok(writeln!(out, "  </graph>\n</graphml>")?)
}

pub(super) fn dot_losses() -> Vec<String> {
    vec!["DOT has no types: every value is written as a text".into()]
}

fn quoted(text: &str) -> String {
    let escaped = text.replace('\\', "\\\\").replace('"', "\\\"").replace('\r', "").replace('\n', "\\n");
    format!("\"{}\"", escaped.replace('\0', ""))
}

pub(super) fn dot(export: &Export<'_>, out: &mut dyn Write) -> Result<(), ExportError> {
    let snapshot = export.snapshot;
    writeln!(out, "digraph {} {{", quoted(&export.graph))?;
    writeln!(out, "  node [shape=box];")?;
    export.nodes(|id| {
        let labels = snapshot.node_labels(id);
        let properties = snapshot.node_properties(id);
        let key = snapshot.keys.iter().find(|k| labels.contains(&k.label));
        let of_key = |name: &Arc<str>| properties.iter().find(|(n, _)| n == name).map(|(_, v)| plain(v));
        let mut caption = vec![labels.join("&")];
        caption.extend(key.into_iter().flat_map(|k| k.properties.iter().filter_map(of_key)));
        write!(out, "  n{} [label={}", snapshot.node_id(id), quoted(&caption.join("\n")))?;
        for (name, value) in properties.iter() {
            write!(out, ", {}={}", quoted(&format!("p_{name}")), quoted(&plain(value)))?;
        }
        Ok(writeln!(out, "];")?)
    })?;
    export.edges(|id| {
        let (a, b) = snapshot.edge_ends(id);
        let labels = snapshot.edge_labels(id).join("&");
        write!(out, "  n{} -> n{} [label={}", snapshot.node_id(a), snapshot.node_id(b), quoted(&labels))?;
        if !snapshot.edge_directed(id) {
            write!(out, ", dir=none")?;
        }
        for (name, value) in snapshot.edge_properties(id).iter() {
            write!(out, ", {}={}", quoted(&format!("p_{name}")), quoted(&plain(value)))?;
        }
        Ok(writeln!(out, "];")?)
    })?;
    Ok(writeln!(out, "}}")?)
}
