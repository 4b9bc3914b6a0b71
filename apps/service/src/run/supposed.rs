//! A graph with hypothetical keys, indexes and distance bounds: built for one request, invisible to others, and
//! dropped with it.

use std::sync::Arc;
use std::time::Instant;

use graphodrome_engine::{Code, Limits};
use graphodrome_graph::{Element, GraphError, KeyDefinition, Schema, Snapshot};
use graphodrome_language::ast::{CreateLookup, Statement};
use graphodrome_language::{Diagnostic, Diagnostics, Span, parse};

use super::bounds;
use super::catalog::definition_of;
use crate::problem::Problem;

/// Bytes that an element takes in a key or an index while it is built.
const BYTES_OF_ELEMENT: u64 = 16;

/// Or why what is supposed cannot be built.
fn within(bytes: u64, limits: &Limits) -> Result<(), String> {
    if bytes <= limits.memory_bytes {
        return Ok(());
    }
    Err(format!(
        "what is supposed needs some {} MiB, more than the query's {} MiB of memory",
        bytes >> 20,
        limits.memory_bytes >> 20
    ))
}

fn too_much(span: Span, text: String) -> Diagnostic {
    Diagnostic::error(graphodrome_graph::Code(Code::MEMORY_LIMIT), span, text)
}

/// The snapshot with what these statements create or drop. It is built within the query's time and memory.
pub(super) fn supposed(snapshot: &Snapshot, with: &[String], limits: &Limits) -> Result<Snapshot, Problem> {
    let mut created = snapshot.schema().created();
    let mut now = snapshot.clone();
    let mut bytes = 0u64;
    for text in with {
        let located = |d: Diagnostic| Problem::from_diagnostic(d, text);
        for statement in parse(text).map_err(|e: Diagnostics| Problem::from_query(&e, text))? {
            match statement {
                Statement::CreateLookup(CreateLookup { graph: Some(graph), .. })
                | Statement::DropLookup { graph: Some(graph), .. } => {
                    let other = "what is supposed is about the query's own graph";
                    return Err(located(Diagnostic::syntax(graph.span, other).hint("leave the graph out")));
                }
                Statement::CreateLookup(new) => {
                    let Some(definition) = definition_of(&now, &new).map_err(located)? else { continue };
                    let counts = match definition.element {
                        Element::Node => snapshot.node_label_counts(),
                        Element::Edge => snapshot.edge_label_counts(),
                    };
                    let own = counts.iter().filter(|(labels, _)| labels.contains(&definition.label));
                    bytes += own.map(|(_, n)| n * BYTES_OF_ELEMENT).sum::<u64>();
                    within(bytes, limits).map_err(|text| located(too_much(new.span, text)))?;
                    let list = if new.unique { &mut created.keys } else { &mut created.indexes };
                    list.push(definition.clone());
                    let list = if new.unique { &mut now.keys } else { &mut now.indexes };
                    list.push(definition);
                }
                Statement::DropLookup { unique, name, .. } => {
                    let list = if unique { &mut created.keys } else { &mut created.indexes };
                    let keep = |known: &Arc<KeyDefinition>| known.name != name.text;
                    let before = list.len();
                    list.retain(keep);
                    if list.len() == before {
                        let what = if unique { "key" } else { "index" };
                        let text = format!("no {what} {} was created", name.text);
                        return Err(located(Diagnostic::unknown(name.span, text)));
                    }
                    let list = if unique { &mut now.keys } else { &mut now.indexes };
                    list.retain(keep);
                }
                Statement::CreateBound(new) if new.graph.is_none() => {
                    bounds::check(&now, &new).map_err(located)?;
                    bytes += bounds::bytes_to_make(&new.source, snapshot);
                    within(bytes, limits).map_err(|text| located(too_much(new.span, text)))?;
                    let definition = Arc::new(bounds::definition_of(&new));
                    created.bounds.retain(|known| known.name != definition.name);
                    created.bounds.push(definition);
                }
                Statement::DropBound { graph: None, name, .. } => {
                    let before = created.bounds.len();
                    created.bounds.retain(|known| known.name != name.text);
                    if created.bounds.len() == before {
                        let text = format!("no distance bound {} was created", name.text);
                        return Err(located(Diagnostic::unknown(name.span, text)));
                    }
                }
                _ => {
                    return Err(Problem::bad_request(
                        "only keys, indexes and distance bounds can be supposed",
                    )
                    .hint("as in CREATE INDEX by_name OVER (:Person {name}), or DROP INDEX by_name"));
                }
            }
        }
    }
    let schema = Schema::new(snapshot.graph_type.clone(), created);
    let began = Instant::now();
    let ended = |code: &'static str, text: &str| GraphError::new(graphodrome_graph::Code(code), text);
    let go_on = || match limits.time {
        _ if limits.cancel.is_cancelled() => Err(ended(Code::CANCELLED, "the query was cancelled")),
        Some(time) if began.elapsed() > time => {
            Err(ended(Code::TIME_LIMIT, "what is supposed could not be built within the query's time"))
        }
        _ => Ok(()),
    };
    snapshot.with_schema(schema, &go_on).map_err(Problem::from_graph)
}
