//! Distance bounds of a graph, by which searches for cheapest paths go towards their ends.

use std::sync::Arc;

use graphodrome_graph::{BoundDefinition, BoundSource, Element, Snapshot};
use graphodrome_language::ast::{CreateBound, Name};
use graphodrome_language::{Diagnostic, nearest};

use super::QueryRequest;
use super::building::{build, in_the_way};
use super::named::{at, graph_named};
use crate::problem::Problem;
use crate::state::App;
use crate::who;

/// What a statement wants.
pub(super) fn definition_of(new: &CreateBound) -> BoundDefinition {
    BoundDefinition {
        name: new.name.text.clone(),
        labels: new.labels.iter().map(|label| label.text.clone()).collect(),
        direction: new.direction,
        property: new.property.text.clone(),
        source: new.source.clone(),
    }
}

/// Bytes that it takes at most while it is made.
pub(super) fn bytes_to_make(source: &BoundSource, snapshot: &Snapshot) -> u64 {
    let each = match source {
        // From and to each, by landmark and by node; and what a search from one of them keeps.
        BoundSource::Landmarks(count) => 4 * 4 * u64::from(*count) + 6 * 8,
        BoundSource::Coordinates(names) => 8 * names.len() as u64,
    };
    // A weight for each edge.
    each * snapshot.node_count() + 4 * snapshot.edge_count()
}

/// Makes a bound, as a job of its own; what it names must be there.
pub(super) async fn create(
    app: &Arc<App>, new: CreateBound, request: &QueryRequest,
) -> Result<String, Problem> {
    let name = &new.name.text;
    let graph = graph_named(app, new.graph.as_ref(), request)?;
    let turn = graph.turn().await?.by(&who::with(&format!("create distance bound {name}")));
    let snapshot = turn.snapshot();
    let bound = Arc::new(definition_of(&new));
    let mut created = snapshot.schema().created();
    let known = created.bounds.iter().position(|known| known.name == *name);
    if let Some(known) = known {
        if new.if_not_exists || *created.bounds[known] == *bound {
            return Ok(format!("distance bound {name} already exists"));
        }
        if !new.or_replace {
            let message = format!("there is already a distance bound {name}");
            let error = Diagnostic::syntax(new.name.span, message);
            return Err(at(request, &new.name, error).hint("CREATE OR REPLACE DISTANCE BOUND makes it anew"));
        }
    }
    check(&snapshot, &new).map_err(|error| Problem::from_diagnostic(error, &request.text))?;
    match known {
        Some(known) => created.bounds[known] = bound.clone(),
        None => created.bounds.push(bound.clone()),
    }
    let edges = snapshot.edge_count();
    drop(snapshot);
    let title = format!("distance bound {name} over {}", bound.pattern());
    let job = app.start_job("distance bound", &graph.name, &title).await?;
    let made = build(app, turn, job, created, edges).await;
    let made = made.map_err(|error| in_the_way(error, new.span, request))?;
    let made = made.base.bounds.iter().find(|made| made.definition == bound);
    let mebibytes = made.map_or(0, |b| b.bytes()) as f64 / f64::from(1 << 20);
    let what = if known.is_some() { "replaced" } else { "created" };
    let share = made
        .and_then(|b| b.share())
        .map_or(String::new(), |share| format!("; it says {:.0} % of what paths cost", share * 100.0));
    Ok(format!("distance bound {name} {what}, {mebibytes:.1} MiB{share}"))
}

/// Labels and properties that nothing has are spelled wrong.
pub(super) fn check(snapshot: &Snapshot, new: &CreateBound) -> Result<(), Diagnostic> {
    let unknown = |name: &Name, what: &str, all: &[Arc<str>]| {
        let near = nearest(&name.text, all.iter().map(|known| &**known));
        let hint = near.map(|near| format!("did you mean {near}?"));
        Diagnostic::unknown(name.span, format!("{what} {}", name.text)).maybe_hint(hint)
    };
    let declared = snapshot.graph_type.iter().flat_map(|t| &t.edges).flat_map(|edge| edge.labels.to_vec());
    let used = snapshot.edge_label_counts().into_iter().flat_map(|(labels, _)| labels.to_vec());
    let labels: Vec<Arc<str>> = declared.chain(used).collect();
    if let Some(label) = new.labels.iter().find(|label| !labels.contains(&label.text)) {
        return Err(unknown(label, "no edge has the label", &labels));
    }
    let properties = snapshot.property_names(Element::Edge);
    if !properties.contains(&new.property.text) {
        return Err(unknown(&new.property, "no edge has a property", &properties));
    }
    if let BoundSource::Coordinates(names) = &new.source {
        let properties = snapshot.property_names(Element::Node);
        if let Some(name) = names.iter().find(|name| !properties.contains(name)) {
            let name = Name { text: name.clone(), span: new.span };
            return Err(unknown(&name, "no node has a property", &properties));
        }
    }
    Ok(())
}

pub(super) async fn remove(
    app: &Arc<App>, graph: Option<&Name>, name: &Name, if_exists: bool, request: &QueryRequest,
) -> Result<String, Problem> {
    let graph = graph_named(app, graph, request)?;
    let turn = graph.turn().await?.by(&who::with(&format!("drop distance bound {}", name.text)));
    let mut created = turn.snapshot().schema().created();
    let before = created.bounds.len();
    let near = nearest(&name.text, created.bounds.iter().map(|bound| &*bound.name)).map(str::to_string);
    created.bounds.retain(|bound| bound.name != name.text);
    if created.bounds.len() < before {
        turn.change_lookups(created, app.go_on()).await?;
        return Ok(format!("distance bound {} dropped", name.text));
    }
    if if_exists {
        return Ok(format!("there is no distance bound {}", name.text));
    }
    let error = Diagnostic::unknown(name.span, format!("there is no distance bound {}", name.text));
    Err(at(request, name, error.maybe_hint(near.map(|near| format!("did you mean {near}?")))))
}
