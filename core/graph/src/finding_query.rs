//! Texts of the query language that find all elements of a kind: those a model check has found.

use std::sync::Arc;

use crate::quoting::quoted;
use crate::{Element, LabelSet, Value, ValueType};

/// The pattern that binds `x` to the elements with exactly these labels, and the condition that says so.
fn of_labels(element: Element, labels: &LabelSet) -> (String, String) {
    let expression = labels.iter().map(|l| quoted(l)).collect::<Vec<_>>().join("&");
    let expression = if labels.is_empty() { ":!%".to_string() } else { format!(":{expression}") };
    let pattern = match element {
        Element::Node => format!("(x{expression})"),
        Element::Edge => format!("()-[x{expression}]-()"),
    };
    let list: Vec<String> = labels.iter().map(|l| Value::text(l.clone()).literal()).collect();
    (pattern, format!("LABELS(x) = [{}]", list.join(", ")))
}

fn text(element: Element, labels: &LabelSet, condition: &str) -> String {
    let (pattern, exactly) = of_labels(element, labels);
    let more = if condition.is_empty() { String::new() } else { format!(" AND {condition}") };
    // An undirected look finds an edge from both of its ends.
    let distinct = if element == Element::Edge { "DISTINCT " } else { "" };
    format!("MATCH {pattern} WHERE {exactly}{more} RETURN {distinct}x")
}

/// The elements with exactly these labels; those that have a property.
pub(crate) fn elements_with(element: Element, labels: &LabelSet, property: Option<&Arc<str>>) -> String {
    let condition = property.map(|p| format!("x.{} IS NOT NULL", quoted(p))).unwrap_or_default();
    text(element, labels, &condition)
}

pub(crate) fn lacking(element: Element, labels: &LabelSet, properties: &[Arc<str>]) -> String {
    let nulls: Vec<String> = properties.iter().map(|p| format!("x.{} IS NULL", quoted(p))).collect();
    let nulls = nulls.join(" OR ");
    text(element, labels, &if properties.len() > 1 { format!("({nulls})") } else { nulls })
}

pub(crate) fn of_other_type(
    element: Element, labels: &LabelSet, property: &str, wanted: &ValueType,
) -> String {
    let p = quoted(property);
    text(element, labels, &format!("x.{p} IS NOT NULL AND x.{p} IS NOT TYPED {wanted}"))
}

/// The elements whose key another has too.
pub(crate) fn repeated_key(element: Element, label: &str, properties: &[Arc<str>]) -> String {
    let label = quoted(label);
    let pattern = |name: &str| match element {
        Element::Node => format!("({name}:{label})"),
        Element::Edge => format!("()-[{name}:{label}]-()"),
    };
    let same: Vec<String> = properties.iter().map(|p| format!("x.{0} = y.{0}", quoted(p))).collect();
    format!(
        "MATCH {}, {} WHERE {} AND x <> y RETURN DISTINCT x",
        pattern("x"),
        pattern("y"),
        same.join(" AND ")
    )
}

/// The edges between nodes with these labels.
pub(crate) fn between(labels: &LabelSet, directed: bool, ends: (&LabelSet, &LabelSet)) -> String {
    let set = |labels: &LabelSet| labels.iter().map(|l| quoted(l)).collect::<Vec<_>>().join("&");
    let list = |name: &str, labels: &LabelSet| {
        let texts: Vec<String> = labels.iter().map(|l| Value::text(l.clone()).literal()).collect();
        format!("LABELS({name}) = [{}]", texts.join(", "))
    };
    let node = |name: &str, labels: &LabelSet| match labels.is_empty() {
        true => format!("({name}:!%)"),
        false => format!("({name}:{})", set(labels)),
    };
    let edge = if labels.is_empty() { "x:!%".to_string() } else { format!("x:{}", set(labels)) };
    let edge = if directed { format!("-[{edge}]->") } else { format!("~[{edge}]~") };
    format!(
        "MATCH {}{edge}{} WHERE {} AND {} AND {} RETURN DISTINCT x",
        node("a", ends.0),
        node("b", ends.1),
        list("a", ends.0),
        list("x", labels),
        list("b", ends.1)
    )
}

/// Nodes with more edges than they may have.
pub(crate) fn too_many(node: &LabelSet, edge: &str, most: u32) -> String {
    let labels = node.iter().map(|l| quoted(l)).collect::<Vec<_>>().join("&");
    let edge = quoted(edge);
    if most < 4 {
        // One edge more than it may have, each another within one MATCH.
        let more: Vec<String> = (0..=most).map(|_| format!("(x:{labels})-[:{edge}]-()")).collect();
        return format!("MATCH {} RETURN DISTINCT x", more.join(", "));
    }
    format!("MATCH (x:{labels})-[e:{edge}]-() RETURN x, COUNT(DISTINCT e) AS edges ORDER BY edges DESC")
}

/// Nodes that no edge with a label begins or ends at.
pub(crate) fn without_edges(labels: &LabelSet) -> String {
    let condition = "NOT EXISTS { MATCH (x)-[]-() }";
    text(Element::Node, labels, condition)
}
