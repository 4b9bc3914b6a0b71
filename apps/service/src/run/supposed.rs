//! A graph as it would be with other keys and indexes: built for one request, seen by nobody else, and forgotten with
//! it.

use std::sync::Arc;

use graphodrome_graph::{GraphError, KeyDefinition, Schema, Snapshot};
use graphodrome_language::ast::{CreateLookup, Statement};
use graphodrome_language::{Diagnostic, Diagnostics, parse};

use super::catalog::definition_of;
use crate::problem::Problem;

/// The snapshot with what these statements create or drop.
pub(super) fn supposed(
    snapshot: &Snapshot, with: &[String], go_on: &(dyn Fn() -> Result<(), GraphError> + Sync),
) -> Result<Snapshot, Problem> {
    let mut created = snapshot.schema().created();
    let mut now = snapshot.clone();
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
                _ => {
                    return Err(Problem::bad_request("only keys and indexes can be supposed")
                        .hint("as in CREATE INDEX by_name OVER (:Person {name}), or DROP INDEX by_name"));
                }
            }
        }
    }
    let schema = Schema::new(snapshot.graph_type.clone(), created);
    snapshot.with_schema(schema, go_on).map_err(Problem::from_graph)
}
