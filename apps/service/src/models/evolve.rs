//! Changing a graph's model: what would change, what stands in the way, and doing it.

use std::sync::Arc;

use graphodrome_engine::check_view;
use graphodrome_graph::{
    Base, Code, Created, Difference, Element, Finding, GraphError, GraphType, Renaming, Schema, Snapshot,
    kept_lookups, migrate, rename_elements, violations,
};
use graphodrome_language::ast::{Rename, Statement};
use graphodrome_language::{Diagnostic, Span, has_name, parse};
use graphodrome_records::JobState;
use graphodrome_store::{Contents, GoOn};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

use crate::models::findings::{ModelFinding, model_finding};
use crate::models::form::texts;
use crate::problem::Problem;
use crate::state::App;
use crate::who;

/// A text with one CREATE GRAPH TYPE, and the renamings before it.
pub struct NewModel {
    pub graph_type: GraphType,
    pub renamings: Vec<Renaming>,
}

fn renaming(rename: &Rename) -> Renaming {
    Renaming {
        element: rename.element,
        label: rename.label.as_ref().map(|l| l.text.clone()),
        from: rename.from.text.clone(),
        to: rename.to.text.clone(),
    }
}

/// The graph type a text declares; with a graph's name also the renamings of that graph's.
pub fn declared(text: &str, graph: Option<&str>) -> Result<NewModel, Problem> {
    let statements = parse(text).map_err(|e| Problem::from_query(&e, text))?;
    let mut renamings = vec![];
    let mut graph_type = None;
    for statement in statements {
        match statement {
            Statement::CreateGraphType { definition, name, .. } => {
                if graph_type.is_some() {
                    let error = Diagnostic::syntax(name.span, "the model has two graph types");
                    return Err(Problem::from_diagnostic(error, text));
                }
                graph_type = Some(*definition);
            }
            Statement::Rename(rename) if graph.is_some() => {
                if graph != Some(&*rename.graph.text) {
                    let message = format!("the renaming is of the graph {}", rename.graph.text);
                    let error = Diagnostic::syntax(rename.graph.span, message);
                    return Err(Problem::from_diagnostic(error, text)
                        .hint(format!("the model is applied to {}", graph.unwrap_or_default())));
                }
                renamings.push(renaming(&rename));
            }
            _ => {}
        }
    }
    let graph_type = graph_type.ok_or_else(|| {
        Problem::bad_request("the model has no CREATE GRAPH TYPE").hint("model show -g GRAPH prints one")
    })?;
    Ok(NewModel { graph_type, renamings })
}

#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct ModelDifference {
    /// `node`, `edge` or `view`.
    pub element: String,
    pub labels: Vec<String>,
    pub property: Option<String>,
    pub message: String,
    /// Elements, or values of the property, that are there no more afterwards.
    pub lost: u64,
    /// What finds them before.
    pub query: Option<String>,
}

/// What a new model would change, and what stands in its way.
#[derive(Serialize, ToSchema)]
pub struct ModelDiff {
    pub graph: String,
    pub version: u64,
    pub differences: Vec<ModelDifference>,
    /// What in the graph breaks the new model: it cannot be applied before that is mended.
    pub obstacles: Vec<ModelFinding>,
    /// Elements and values that are lost: it is only applied where that is said to be meant.
    pub lost: u64,
    /// Whether the elements themselves change, so that the graph gets a new version.
    pub changes_elements: bool,
}

impl From<Difference> for ModelDifference {
    fn from(difference: Difference) -> Self {
        ModelDifference {
            element: difference.element.to_string(),
            labels: texts(difference.labels.iter()),
            property: difference.property.map(|p| p.to_string()),
            message: difference.message,
            lost: difference.lost,
            query: difference.query,
        }
    }
}

/// A new model worked out against a graph.
pub struct Prepared {
    pub diff: ModelDiff,
    pub graph_type: GraphType,
    pub created: Created,
    /// The elements as they become, without keys and indexes; `None` where they stay as they are.
    pub base: Option<Arc<Base>>,
}

/// Works a new model out against a snapshot; nothing is changed.
pub fn prepare(
    graph: &str, snapshot: &Snapshot, new: NewModel, go_on: &GoOn,
) -> Result<Prepared, GraphError> {
    let NewModel { graph_type, renamings } = new;
    refuse_in_views(snapshot, &renamings)?;
    let migration = migrate(snapshot, &graph_type, &renamings)?;
    go_on()?;
    let mut created = snapshot.schema().created();
    for renaming in &renamings {
        created = renaming.of_created(&created);
    }
    let (created, gone) = kept_lookups(&created, &graph_type);
    let mut differences: Vec<ModelDifference> =
        migration.differences.into_iter().map(ModelDifference::from).collect();
    differences.extend(gone.into_iter().map(|key| ModelDifference {
        element: key.element.to_string(),
        labels: vec![key.label.to_string()],
        property: None,
        message: format!("{} over {key} is dropped with what it is over", key.name),
        lost: 0,
        query: None,
    }));
    // What stands in the way is looked for in the elements as they would be.
    let changes_elements = migration.parts.is_some();
    let after = match migration.parts {
        None => snapshot.clone(),
        Some(parts) => {
            let bare = Schema { graph_type: Some(Arc::new(graph_type.clone())), ..Schema::default() };
            let base = Arc::new(Base::build(parts, &bare)?);
            let mut after = Snapshot::new(base, bare, snapshot.version);
            // Elements are shown by their keys, which nothing is looked up by yet.
            after.keys = graph_type.keys();
            after
        }
    };
    differences.extend(created.views.iter().filter_map(|view| {
        let error = check_view(&after, view, Span::default()).err()?;
        Some(ModelDifference {
            element: "view".into(),
            labels: vec![],
            property: None,
            message: format!("the view {} stays, and cannot be read: {}", view.name, error.message),
            lost: 0,
            query: None,
        })
    }));
    let mut found = violations(&after, &graph_type, &**go_on)?;
    // A query in new words finds nothing in a graph that still has the old ones.
    let renamed = |finding: &Finding| {
        let mut words = finding.labels.iter().chain(&finding.property);
        words.any(|word| renamings.iter().any(|r| r.to == *word))
    };
    found.iter_mut().filter(|f| renamed(f)).for_each(|f| f.query = None);
    let diff = ModelDiff {
        graph: graph.to_string(),
        version: snapshot.version,
        lost: differences.iter().map(|d| d.lost).sum(),
        differences,
        obstacles: found.into_iter().map(|finding| model_finding(&after, finding)).collect(),
        changes_elements,
    };
    Ok(Prepared { diff, graph_type, created, base: changes_elements.then(|| after.base.clone()) })
}

/// A new model to apply.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelApplication {
    /// A text with a CREATE GRAPH TYPE; ALTER GRAPH ... RENAME statements before it are followed first.
    pub model: String,
    /// Whether elements and values that the new model has no place for may be lost.
    #[serde(default)]
    pub lose_data: bool,
    /// Apply it only if the graph is still at this version: the one a diff was looked at.
    #[serde(default)]
    pub version: Option<u64>,
}

#[derive(Serialize, ToSchema)]
pub struct ModelApplied {
    pub graph: String,
    pub version: u64,
    pub differences: Vec<ModelDifference>,
}

fn conflict(detail: String) -> Problem {
    Problem::new(axum::http::StatusCode::CONFLICT, detail)
}

/// Applies a new model, in one transaction or not at all.
pub async fn apply(app: &Arc<App>, name: &str, request: ModelApplication) -> Result<ModelApplied, Problem> {
    let graph = app.graph(name)?;
    let new = declared(&request.model, Some(name))?;
    let turn = graph.turn().await?.by(&who::with("apply"));
    let snapshot = turn.snapshot();
    if let Some(wanted) = request.version
        && wanted != snapshot.version
    {
        return Err(conflict(format!("{name} is at version {}, not at {wanted}", snapshot.version))
            .hint("look at the difference again"));
    }
    let job = app.start_job("model", name, &format!("apply {}", new.graph_type.name)).await?;
    job.progress.enter("building");
    let go_on = job.go_on(app);
    let (looking, graph_name) = (go_on.clone(), name.to_string());
    let work = tokio::task::spawn_blocking(move || prepare(&graph_name, &snapshot, new, &looking));
    let outcome = async {
        let Prepared { diff, graph_type, created, base } =
            work.await?.map_err(|e| model_error(e, &request.model))?;
        if let Some(first) = diff.obstacles.first() {
            let total: u64 = diff.obstacles.iter().map(|o| o.count).sum();
            let mut problem = conflict(format!("the graph breaks the new model: {}", first.message));
            problem.code = Some(Code::GRAPH_TYPE_VIOLATION.0.into());
            return Err(problem.hint(format!(
                "{total} in all; graphodrome model diff lists them with queries that find them"
            )));
        }
        if diff.lost > 0 && !request.lose_data {
            let lost: Vec<&str> =
                diff.differences.iter().filter(|d| d.lost > 0).map(|d| d.message.as_str()).collect();
            return Err(conflict(format!(
                "{} elements and values would be lost: {}",
                diff.lost,
                lost.join("; ")
            ))
            .hint("save them with model apply --save FOLDER, and say that it is meant with --lose-data"));
        }
        job.progress.enter("writing");
        let snapshot =
            app.catalog.change_type(turn, graph_type, created, base.map(Contents::Base), go_on).await?;
        Ok(ModelApplied { graph: name.to_string(), version: snapshot.version, differences: diff.differences })
    };
    let outcome = outcome.await;
    let (state, detail) = match &outcome {
        Ok(applied) => (
            JobState::Done,
            json!({ "changed": true, "version": applied.version, "differences": applied.differences }),
        ),
        Err(_) if job.progress.is_cancelled() => {
            (JobState::Cancelled, json!({ "error": "cancelled; nothing was changed" }))
        }
        Err(problem) => (JobState::Failed, json!({ "error": problem.detail })),
    };
    job.finish(app, state, detail).await;
    outcome
}

/// An error of working out a model: of a renaming, mostly.
fn model_error(error: GraphError, text: &str) -> Problem {
    let mut diagnostic = Diagnostic::error(error.code, Default::default(), error.message);
    if let Some(hint) = error.hint {
        diagnostic = diagnostic.hint(hint);
    }
    Problem::from_diagnostic(diagnostic, text)
}

/// `ALTER GRAPH g RENAME ...` by itself.
pub async fn rename(app: &Arc<App>, rename: Rename, text: &str) -> Result<String, Problem> {
    let graph = app.graph(&rename.graph.text)?;
    let turn = graph.turn().await?.by(&who::with("rename"));
    let snapshot = turn.snapshot();
    let step = renaming(&rename);
    let error = |e: GraphError| Problem::from_diagnostic(Diagnostic::from_graph(e, rename.span), text);
    refuse_in_views(&snapshot, std::slice::from_ref(&step)).map_err(error)?;
    let created = step.of_created(&snapshot.schema().created());
    let graph_type = match &snapshot.graph_type {
        Some(old) => Some(step.of_type(old).map_err(error)?),
        None => None,
    };
    if graph_type.is_none() {
        in_use(&snapshot, &step).map_err(error)?;
    }
    let parts =
        tokio::task::spawn_blocking(move || rename_elements(&snapshot, std::slice::from_ref(&step))).await?;
    match (graph_type, parts) {
        (Some(graph_type), parts) => {
            let contents = parts.map(Contents::Parts);
            app.catalog.change_type(turn, graph_type, created, contents, app.go_on()).await?;
        }
        (None, Some(parts)) => {
            app.catalog.change_open(turn, created, parts).await?;
        }
        (None, None) => {}
    }
    let what = match &rename.label {
        None => format!("{} label {}", rename.element, rename.from.text),
        Some(label) => format!("property {} of {} :{}", rename.from.text, rename.element, label.text),
    };
    Ok(format!("{what} renamed to {}", rename.to.text))
}

/// A view is a text, and a bound may read a property under any label: what they name is not renamed under them.
fn refuse_in_views(snapshot: &Snapshot, renamings: &[Renaming]) -> Result<(), GraphError> {
    let views = snapshot.views.iter().map(|view| (("view", "GRAPH VIEW"), &view.name, view.to_string()));
    let bounds = snapshot.bounds.iter();
    let bounds = bounds.map(|bound| (("distance bound", "DISTANCE BOUND"), &bound.name, bound.to_string()));
    for ((what, statement), name, text) in views.chain(bounds) {
        if let Some(step) = renamings.iter().find(|step| has_name(&text, &step.from)) {
            let message = format!("the {what} {name} names {}", step.from);
            return Err(GraphError::new(Code::SYNTAX, message)
                .hint(format!("DROP {statement} {name}, rename, and create it again: {text}")));
        }
    }
    Ok(())
}

/// In an open graph: something must have the old name, and nothing the new one.
fn in_use(snapshot: &Snapshot, step: &Renaming) -> Result<(), GraphError> {
    let counts = match step.element {
        Element::Node => snapshot.node_label_counts(),
        Element::Edge => snapshot.edge_label_counts(),
    };
    let labels = |label: &Arc<str>| counts.iter().any(|(set, _)| set.contains(label));
    let label = step.label.as_ref().unwrap_or(&step.from);
    if !labels(label) {
        let message = format!("no {} has the label {label}", step.element);
        return Err(GraphError::new(Code::UNKNOWN_REFERENCE, message));
    }
    if step.label.is_none() && labels(&step.to) {
        let message = format!("there are {}s with the label {} already", step.element, step.to);
        return Err(GraphError::new(Code::SYNTAX, message));
    }
    let properties = snapshot.property_names(step.element);
    if step.label.is_some() && !properties.contains(&step.from) {
        let message = format!("no {} has the property {}", step.element, step.from);
        return Err(GraphError::new(Code::UNKNOWN_REFERENCE, message));
    }
    if step.label.is_some() && properties.contains(&step.to) {
        let of_label = |labels: &graphodrome_graph::LabelSet| labels.contains(label);
        let taken = match step.element {
            Element::Node => (0..snapshot.node_bound()).filter(|&n| snapshot.node_exists(n)).any(|n| {
                of_label(&snapshot.node_labels(n))
                    && snapshot.node_properties(n).iter().any(|(p, _)| *p == step.to)
            }),
            Element::Edge => (0..snapshot.edge_bound()).filter(|&e| snapshot.edge_exists(e)).any(|e| {
                of_label(&snapshot.edge_labels(e))
                    && snapshot.edge_properties(e).iter().any(|(p, _)| *p == step.to)
            }),
        };
        if taken {
            let message = format!("some {}s :{label} have the property {} already", step.element, step.to);
            return Err(GraphError::new(Code::SYNTAX, message));
        }
    }
    Ok(())
}
