//! Views of a graph: parts of it that measures look at by name.

use std::sync::Arc;

use graphodrome_engine::check_view;
use graphodrome_graph::ViewDefinition;
use graphodrome_language::ast::{CreateView, Name};
use graphodrome_language::{Diagnostic, nearest};

use super::QueryRequest;
use super::named::{at, graph_named};
use crate::problem::Problem;
use crate::state::App;
use crate::who;

/// Keeps a view; what it names must be there.
pub(super) async fn create(
    app: &Arc<App>, new: CreateView, request: &QueryRequest,
) -> Result<String, Problem> {
    let name = &new.name.text;
    let graph = graph_named(app, new.graph.as_ref(), request)?;
    let turn = graph.turn().await?.by(&who::with(&format!("create view {name}")));
    let snapshot = turn.snapshot();
    let text = |part: &Option<Name>| part.as_ref().map(|part| part.text.clone());
    let view = Arc::new(ViewDefinition {
        name: name.clone(),
        nodes: text(&new.nodes),
        edges: text(&new.edges),
        weight: text(&new.weight),
    });
    let mut created = snapshot.schema().created();
    let known = created.views.iter().position(|known| known.name == *name);
    if let Some(known) = known {
        if new.if_not_exists || *created.views[known] == *view {
            return Ok(format!("view {name} already exists"));
        }
        if !new.or_replace {
            let message = format!("there is already a view {name}");
            let error = Diagnostic::syntax(new.name.span, message);
            return Err(at(request, &new.name, error).hint("CREATE OR REPLACE GRAPH VIEW makes it anew"));
        }
    }
    let warnings = check_view(&snapshot, &view, new.span)
        .map_err(|error| Problem::from_diagnostic(error, &request.text))?;
    match known {
        Some(known) => created.views[known] = view,
        None => created.views.push(view),
    }
    drop(snapshot);
    turn.change_lookups(created, app.go_on()).await?;
    let warned = warnings.iter().map(|warning| format!("; {}", warning.message));
    let what = if known.is_some() { "replaced" } else { "created" };
    Ok(format!("view {name} {what}{}", warned.collect::<String>()))
}

pub(super) async fn remove(
    app: &Arc<App>, graph: Option<&Name>, name: &Name, if_exists: bool, request: &QueryRequest,
) -> Result<String, Problem> {
    let graph = graph_named(app, graph, request)?;
    let turn = graph.turn().await?.by(&who::with(&format!("drop view {}", name.text)));
    let mut created = turn.snapshot().schema().created();
    let before = created.views.len();
    let near = nearest(&name.text, created.views.iter().map(|view| &*view.name)).map(str::to_string);
    created.views.retain(|view| view.name != name.text);
    if created.views.len() < before {
        turn.change_lookups(created, app.go_on()).await?;
        return Ok(format!("view {} dropped", name.text));
    }
    if if_exists {
        return Ok(format!("there is no view {}", name.text));
    }
    let error = Diagnostic::unknown(name.span, format!("there is no view {}", name.text));
    Err(at(request, name, error.maybe_hint(near.map(|near| format!("did you mean {near}?")))))
}
