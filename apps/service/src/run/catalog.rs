//! Statements about graphs, graph types, keys, indexes, views and distance bounds.

use std::sync::Arc;

use graphodrome_graph::{Created, Element, GraphType, KeyDefinition, Snapshot, observed_type, same_place};
use graphodrome_language::ast::{CreateLookup, GraphSource, Name, Statement, TypeSource};
use graphodrome_language::{Diagnostic, nearest};
use graphodrome_store::{NewGraph, OpenMode};

use super::building::{build, in_the_way};
use super::named::{at, graph_named};
use super::{QueryRequest, bounds, views};
use crate::models::evolve;
use crate::problem::Problem;
use crate::state::App;
use crate::who;

/// Does what a catalog statement says, and says so in a line.
pub(super) async fn statement(
    app: &Arc<App>, statement: Statement, request: &QueryRequest,
) -> Result<String, Problem> {
    let mode = |or_replace: bool, if_not_exists: bool| match (or_replace, if_not_exists) {
        (true, _) => OpenMode::Replace,
        (_, true) => OpenMode::KeepExisting,
        _ => OpenMode::Fail,
    };
    let created = |made: bool, what: &str, name: &Name| {
        let name = &name.text;
        if made { format!("{what} {name} created") } else { format!("{what} {name} already exists") }
    };
    let dropped = |made: bool, what: &str, name: &Name| {
        let name = &name.text;
        if made { format!("{what} {name} dropped") } else { format!("there is no {what} {name}") }
    };
    Ok(match statement {
        Statement::CreateGraphType { name, or_replace, if_not_exists, definition } => {
            let made = app.catalog.create_graph_type(&definition, mode(or_replace, if_not_exists)).await?;
            created(made, "graph type", &name)
        }
        Statement::CopyGraphType { name, or_replace, if_not_exists, source } => {
            let definition = copied_type(app, &name, source, request).await?;
            let made = app.catalog.create_graph_type(&definition, mode(or_replace, if_not_exists)).await?;
            created(made, "graph type", &name)
        }
        Statement::DropGraphType { name, if_exists } => {
            dropped(app.catalog.drop_graph_type(&name.text, if_exists).await?, "graph type", &name)
        }
        Statement::CreateGraph { name, or_replace, if_not_exists, source, copy_of } => {
            let new = new_graph(app, &name, source, copy_of, request)?;
            let made = app.catalog.create_graph(&name.text, new, mode(or_replace, if_not_exists)).await?;
            created(made, "graph", &name)
        }
        Statement::DropGraph { name, if_exists } => {
            dropped(app.catalog.drop_graph(&name.text, if_exists).await?, "graph", &name)
        }
        Statement::CreateLookup(new) => create_lookup(app, new, request).await?,
        Statement::DropLookup { graph, unique, name, if_exists } => {
            let what = if unique { "key" } else { "index" };
            let graph = graph_named(app, graph.as_ref(), request)?;
            let turn = graph.turn().await?.by(&who::with(&format!("drop {what} {}", name.text)));
            let snapshot = turn.snapshot();
            let mut lookups = snapshot.schema().created();
            let list = if unique { &mut lookups.keys } else { &mut lookups.indexes };
            let before = list.len();
            list.retain(|known| known.name != name.text);
            if list.len() < before {
                turn.change_lookups(lookups, app.go_on()).await?;
                return Ok(dropped(true, what, &name));
            }
            let of_type = unique && snapshot.keys.iter().any(|k| k.name == name.text);
            if of_type {
                let message = format!("the key {} is declared in the graph type", name.text);
                return Err(at(request, &name, Diagnostic::syntax(name.span, message))
                    .hint("take it out of the type with graphodrome model apply"));
            }
            if !if_exists {
                let near = nearest(&name.text, list.iter().map(|k| &*k.name));
                let error = Diagnostic::unknown(name.span, format!("there is no {what} {}", name.text));
                return Err(at(request, &name, error.maybe_hint(near.map(|n| format!("did you mean {n}?")))));
            }
            dropped(false, what, &name)
        }
        Statement::CreateView(new) => views::create(app, new, request).await?,
        Statement::DropView { graph, name, if_exists } => {
            views::remove(app, graph.as_ref(), &name, if_exists, request).await?
        }
        Statement::CreateBound(new) => bounds::create(app, new, request).await?,
        Statement::DropBound { graph, name, if_exists } => {
            bounds::remove(app, graph.as_ref(), &name, if_exists, request).await?
        }
        Statement::Rename(rename) => evolve::rename(app, rename, &request.text).await?,
        Statement::Query(_) | Statement::Session(_) | Statement::Transaction(_) => String::new(),
    })
}

fn refuse_itself(name: &Name, source: &Name, request: &QueryRequest) -> Result<(), Problem> {
    if name.text != source.text {
        return Ok(());
    }
    let message = format!("{} cannot be made like itself", name.text);
    Err(at(request, source, Diagnostic::syntax(source.span, message)).hint("name another as the one to copy"))
}

async fn copied_type(
    app: &Arc<App>, name: &Name, source: TypeSource, request: &QueryRequest,
) -> Result<GraphType, Problem> {
    let found = match source {
        TypeSource::CopyOf(of) => {
            refuse_itself(name, &of, request)?;
            app.catalog.graph_type(&of.text).await?
        }
        TypeSource::Like(graph) => {
            let snapshot = app.graph(&graph.text)?.snapshot();
            match &snapshot.graph_type {
                Some(declared) => GraphType::clone(declared),
                None => {
                    let (go_on, name) = (app.go_on(), name.text.clone());
                    let look = move || observed_type(&snapshot, &name, &*go_on);
                    tokio::task::spawn_blocking(look).await?.map_err(Problem::from_graph)?
                }
            }
        }
    };
    Ok(GraphType { name: name.text.clone(), ..found })
}

fn new_graph(
    app: &App, name: &Name, source: GraphSource, copy_of: Option<Name>, request: &QueryRequest,
) -> Result<NewGraph, Problem> {
    let mut new = NewGraph::default();
    match source {
        GraphSource::Any => {}
        GraphSource::Typed(of) => new.type_name = Some(of.text.to_string()),
        GraphSource::Inline(own) => new.own = Some(*own),
        GraphSource::Like(other) => {
            refuse_itself(name, &other, request)?;
            let snapshot = app.graph(&other.text)?.snapshot();
            new.own = snapshot.graph_type.as_deref().cloned();
            new.created = snapshot.schema().created();
        }
    }
    if let Some(of) = copy_of {
        refuse_itself(name, &of, request)?;
        new.copy_of = Some(app.graph(&of.text)?.snapshot());
    }
    Ok(new)
}

/// Whether the graph can have this key or index at all.
fn check_lookup(snapshot: &Snapshot, new: &CreateLookup) -> Result<(), Diagnostic> {
    let Some(graph_type) = &snapshot.graph_type else { return Ok(()) };
    // Properties of every type with the label; all of them must have each.
    let types: Vec<Vec<&Arc<str>>> = match new.element {
        Element::Node => (graph_type.nodes.iter())
            .filter(|t| t.labels.contains(&new.label.text))
            .map(|t| t.properties.iter().map(|p| &p.name).collect())
            .collect(),
        Element::Edge => (graph_type.edges.iter())
            .filter(|t| t.labels.contains(&new.label.text))
            .map(|t| t.properties.iter().map(|p| &p.name).collect())
            .collect(),
    };
    if types.is_empty() {
        let known: Vec<&Arc<str>> = match new.element {
            Element::Node => graph_type.nodes.iter().flat_map(|t| t.labels.iter()).collect(),
            Element::Edge => graph_type.edges.iter().flat_map(|t| t.labels.iter()).collect(),
        };
        let near = nearest(&new.label.text, known.into_iter().map(|l| &**l));
        let message = format!("no {} type has the label {}", new.element, new.label.text);
        return Err(Diagnostic::unknown(new.label.span, message)
            .maybe_hint(near.map(|n| format!("did you mean {n}?"))));
    }
    for property in &new.properties {
        if !types.iter().any(|names| names.contains(&&property.text)) {
            let near = nearest(&property.text, types.iter().flatten().map(|n| &***n));
            let message =
                format!("no {} type :{} has the property {}", new.element, new.label.text, property.text);
            return Err(Diagnostic::unknown(property.span, message)
                .maybe_hint(near.map(|n| format!("did you mean {n}?"))));
        }
    }
    Ok(())
}

/// The key or index that a statement wants; `None` where it already exists and that is no error.
pub(super) fn definition_of(
    snapshot: &Snapshot, new: &CreateLookup,
) -> Result<Option<Arc<KeyDefinition>>, Diagnostic> {
    let definition = Arc::new(KeyDefinition {
        name: new.name.text.clone(),
        element: new.element,
        label: new.label.text.clone(),
        properties: new.properties.iter().map(|p| p.text.clone()).collect(),
    });
    let all = snapshot.keys.iter().chain(&snapshot.indexes);
    if let Some(known) = all.into_iter().find(|k| k.name == new.name.text) {
        let same = same_place(known, &definition) && new.unique == snapshot.keys.contains(known);
        if new.if_not_exists && same {
            return Ok(None);
        }
        let message = format!("there is already a key or an index {}, over {known}", new.name.text);
        return Err(Diagnostic::syntax(new.name.span, message));
    }
    let list = if new.unique { &snapshot.keys } else { &snapshot.indexes };
    if let Some(known) = list.iter().find(|k| same_place(k, &definition)) {
        let what = if new.unique { "key" } else { "index" };
        let message = format!("the {what} {} is over {known} already", known.name);
        return Err(Diagnostic::syntax(new.name.span, message));
    }
    check_lookup(snapshot, new)?;
    Ok(Some(definition))
}

/// Builds a key or an index on what is there; a job of its own, so that it can be seen and cancelled.
async fn create_lookup(app: &Arc<App>, new: CreateLookup, request: &QueryRequest) -> Result<String, Problem> {
    let what = if new.unique { "key" } else { "index" };
    let graph = graph_named(app, new.graph.as_ref(), request)?;
    let turn = graph.turn().await?.by(&who::with(&format!("create {what} {}", new.name.text)));
    let snapshot = turn.snapshot();
    let located = |e: Diagnostic| Problem::from_diagnostic(e, &request.text);
    let Some(definition) = definition_of(&snapshot, &new).map_err(located)? else {
        return Ok(format!("{what} {} already exists", new.name.text));
    };
    let mut lookups: Created = snapshot.schema().created();
    if new.unique { &mut lookups.keys } else { &mut lookups.indexes }.push(definition.clone());
    let elements = match new.element {
        Element::Node => snapshot.node_count(),
        Element::Edge => snapshot.edge_count(),
    };
    drop(snapshot);
    let title = format!("{} {} on {definition}", what, new.name.text);
    let job = app.start_job(what, &graph.name, &title).await?;
    build(app, turn, job, lookups, elements).await.map_err(|error| in_the_way(error, new.span, request))?;
    Ok(format!("{what} {} created", new.name.text))
}
