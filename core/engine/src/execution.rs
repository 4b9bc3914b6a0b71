//! From text to results: parse, check, plan, run.

use std::sync::Arc;
use std::time::{Duration, Instant};

use graphodrome_graph::{Change, Code, Element, Snapshot, Value};
use graphodrome_language::ast::Query;
use graphodrome_language::{Diagnostic, Diagnostics, Known, Severity, check_query};
use serde::{Deserialize, Serialize};

use crate::Parameters;
use crate::batch::Batch;
use crate::compile::{Looked, PlanParameters};
use crate::context::{Changed, Context};
use crate::cut_off::cut_off;
use crate::findings::{Finding, findings};
use crate::known_list::ListTable;
use crate::limits::Limits;
use crate::plan::{ColumnInfo, Operator, PlanNode};
use crate::planner::{LabelCounts, Planner};
use crate::profile::PlanTree;
use crate::rules::{Rule, Rules};
use crate::scope::Scope;
use crate::stack::on_large_stack;

/// What a snapshot knows by name: labels and properties in use or declared.
pub fn known_names(snapshot: &Snapshot) -> Known {
    let mut node_labels: Vec<Arc<str>> =
        snapshot.node_label_counts().iter().flat_map(|(set, _)| set.iter().cloned()).collect();
    let mut edge_labels: Vec<Arc<str>> =
        snapshot.edge_label_counts().iter().flat_map(|(set, _)| set.iter().cloned()).collect();
    if let Some(graph_type) = &snapshot.graph_type {
        node_labels.extend(graph_type.nodes.iter().flat_map(|t| t.labels.iter().cloned()));
        edge_labels.extend(graph_type.edges.iter().flat_map(|t| t.labels.iter().cloned()));
    }
    for labels in [&mut node_labels, &mut edge_labels] {
        labels.sort();
        labels.dedup();
    }
    let directions = edge_directions(snapshot);
    let only = |wanted: (bool, bool)| {
        directions.iter().filter(|(_, d)| **d == wanted).map(|(label, _)| label.clone()).collect()
    };
    Known {
        undirected: only((false, true)),
        directed: only((true, false)),
        procedures: crate::procedures::procedures(),
        graph_type: snapshot.graph_type.clone(),
        node_labels,
        edge_labels,
        node_properties: snapshot.property_names(Element::Node),
        edge_properties: snapshot.property_names(Element::Edge),
    }
}

/// By label whether there are directed edges, and undirected ones; of a closed graph whether there may be.
fn edge_directions(snapshot: &Snapshot) -> std::collections::BTreeMap<Arc<str>, (bool, bool)> {
    let mut found = std::collections::BTreeMap::<Arc<str>, (bool, bool)>::new();
    let mut see = |labels: &graphodrome_graph::LabelSet, directed: bool| {
        for label in labels.iter() {
            let known = found.entry(label.clone()).or_default();
            known.0 |= directed;
            known.1 |= !directed;
        }
    };
    if let Some(graph_type) = &snapshot.graph_type {
        graph_type.edges.iter().for_each(|t| see(&t.labels, t.directed));
        return found;
    }
    snapshot.base.edges.iter().for_each(|table| see(&table.labels, table.directed));
    let above = snapshot.overlay_edge_numbers();
    if above.len() > MOST_LOOKED_AT {
        // Too many to say anything of them for a warning.
        return Default::default();
    }
    above.iter().for_each(|&edge| see(&snapshot.edge_labels(edge), snapshot.edge_directed(edge)));
    found
}

/// Edges above the base that are looked at for a warning.
const MOST_LOOKED_AT: usize = 1000;

/// What planning asks of a version, whatever the query.
pub(crate) struct Facts {
    known: Known,
    counts: LabelCounts,
}

impl Facts {
    pub fn of(snapshot: &Snapshot) -> Facts {
        Facts { known: known_names(snapshot), counts: LabelCounts::of(snapshot) }
    }
}

/// A planned query, ready to run on the snapshot it was planned for (or a later one on the same base).
pub struct Prepared {
    root: PlanNode,
    operators: usize,
    /// Parameters that the plan reads, in its own order.
    parameters: Vec<Arc<str>>,
    /// Values that the plan was made for: with others it may be a bad one, or a wrong one.
    looked: Vec<Looked>,
    /// Those of them that only estimates looked at.
    estimated: Vec<Arc<str>>,
    pub columns: Option<Vec<ColumnInfo>>,
    /// Those that the plan was made by.
    pub rules: Rules,
    pub changes: bool,
    pub warnings: Vec<Diagnostic>,
    pub check_time: Duration,
    pub plan_time: Duration,
}

/// Checks and plans a query for these parameters.
pub fn prepare(
    query: &Query, text: &str, snapshot: &Snapshot, parameters: &Parameters,
) -> Result<Prepared, Diagnostics> {
    prepare_by(query, text, snapshot, parameters, Rules::all())
}

/// [`prepare`] by these rules alone.
pub fn prepare_by(
    query: &Query, text: &str, snapshot: &Snapshot, parameters: &Parameters, rules: Rules,
) -> Result<Prepared, Diagnostics> {
    prepare_with(&Facts::of(snapshot), query, text, snapshot, parameters, rules)
}

pub(crate) fn prepare_with(
    facts: &Facts, query: &Query, text: &str, snapshot: &Snapshot, parameters: &Parameters, rules: Rules,
) -> Result<Prepared, Diagnostics> {
    on_large_stack(|| prepare_here(facts, query, text, snapshot, &PlanParameters::new(parameters), rules))
}

/// [`prepare_by`] with estimates that look at no values of parameters.
pub(crate) fn prepare_blind(
    query: &Query, text: &str, snapshot: &Snapshot, parameters: &Parameters, rules: Rules,
) -> Result<Prepared, Diagnostics> {
    let facts = Facts::of(snapshot);
    on_large_stack(|| prepare_here(&facts, query, text, snapshot, &PlanParameters::blind(parameters), rules))
}

fn prepare_here(
    facts: &Facts, query: &Query, text: &str, snapshot: &Snapshot, slots: &PlanParameters<'_>, rules: Rules,
) -> Result<Prepared, Diagnostics> {
    let started = Instant::now();
    let names = slots.names();
    let (errors, warnings): (Vec<_>, Vec<_>) = check_query(query, &facts.known, Some(&names))
        .into_iter()
        .partition(|d| d.severity == Severity::Error);
    if !errors.is_empty() {
        return Err(Diagnostics(errors));
    }
    let checked = Instant::now();
    let scope = Scope::without_parameters(snapshot.clone());
    let planned = Planner::new(&scope, &facts.counts, slots, text, rules).query(query)?;
    let (parameters, looked, estimated) = slots.taken();
    Ok(Prepared {
        operators: planned.root.operator_count(),
        root: planned.root,
        parameters,
        looked,
        estimated,
        columns: planned.columns,
        rules,
        changes: planned.changes,
        warnings,
        check_time: checked - started,
        plan_time: checked.elapsed(),
    })
}

impl Prepared {
    pub fn plan(&self) -> PlanTree {
        self.root.tree(None)
    }

    /// What the plan gives reason to change.
    pub fn findings(&self, snapshot: &Snapshot) -> Vec<Finding> {
        findings(&self.root, None, snapshot)
    }

    /// The parameters, with their values, that decided how many rows were expected.
    pub(crate) fn estimated_by(&self) -> Vec<&Looked> {
        self.looked.iter().filter(|(name, _)| self.estimated.contains(name)).collect()
    }

    /// What it is estimated to cost, in rows and adjacency entries.
    pub fn cost(&self) -> f64 {
        self.root.estimate.cost
    }

    /// Whether the plan was made for the value of one of these parameters, and serves that alone.
    pub(crate) fn depends_on(&self, parameters: &[(String, Value)]) -> bool {
        self.looked.iter().any(|(looked, _)| parameters.iter().any(|(name, _)| **looked == **name))
    }

    /// Whether the plan serves a request with these parameters as well.
    pub fn serves(&self, parameters: &Parameters) -> bool {
        self.parameters.iter().all(|name| parameters.contains_key(&**name))
            && self
                .looked
                .iter()
                .all(|(name, value)| parameters.get(&**name).is_some_and(|given| given.order(value).is_eq()))
    }

    /// Runs it. A parameter that the plan reads and the request lacks is null; [`Self::serves`] says
    /// whether there is one.
    pub fn run(
        &self, snapshot: impl Into<Arc<Snapshot>>, parameters: &Parameters, limits: Limits,
    ) -> Execution<'_> {
        let given = |name: &Arc<str>| parameters.get(&**name).cloned().unwrap_or(Value::Null);
        let now = limits.zone.at(chrono::Utc::now());
        let snapshot = snapshot.into();
        let parameters: Arc<[Value]> = self.parameters.iter().map(given).collect();
        let listed = parameters.iter().map(|_| ListTable::default()).collect();
        let typed_reads = self.rules.has(Rule::TypedReads);
        let budget = Arc::new(limits.budget());
        if let Some(watch) = limits.watch.as_ref().filter(|_| limits.brief.is_none()) {
            watch.begin(|| self.root.operator_names(), &budget);
        }
        let known_nodes = self.rules.has(Rule::KnownNodes);
        let known_texts = self.rules.has(Rule::KnownTexts);
        let known_lists = self.rules.has(Rule::KnownLists);
        let answers = Arc::default();
        let scope = Scope {
            snapshot,
            parameters,
            now,
            typed_reads,
            known_nodes,
            known_texts,
            known_lists,
            listed,
            answers,
            budget,
        };
        let context = Context::new(scope, limits, self.operators);
        Execution { prepared: self, root: self.root.open(), context, rows: 0, first_row: None, done: false }
    }
}

impl Prepared {
    /// Runs it as a piece of a query that runs already: by its time, and its memory counted with it.
    pub(crate) fn run_within(&self, snapshot: Arc<Snapshot>, around: &Context) -> Execution<'_> {
        let scope = Scope {
            snapshot,
            parameters: [].into(),
            listed: [].into(),
            answers: Arc::default(),
            ..around.scope.clone()
        };
        // Who watches knows the operators of the query around it.
        let limits = Limits { watch: None, ..around.limits.clone() };
        let context = Context::new(scope, limits, self.operators);
        Execution { prepared: self, root: self.root.open(), context, rows: 0, first_row: None, done: false }
    }
}

/// A running query. Pull batches until there are none, then [`Self::finish`].
pub struct Execution<'p> {
    prepared: &'p Prepared,
    root: Box<dyn Operator>,
    context: Context,
    rows: u64,
    first_row: Option<Duration>,
    done: bool,
}

/// What a query did, next to its rows.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Summary {
    pub rows: u64,
    pub changed: ChangedCounts,
    pub execute_us: f64,
    pub first_row_us: f64,
}

pub type ChangedCounts = Changed;

impl Execution<'_> {
    /// The next rows of the result.
    pub fn next_batch(&mut self) -> Result<Option<Batch>, Diagnostic> {
        if self.done {
            return Ok(None);
        }
        match on_large_stack(|| self.root.next(&mut self.context)) {
            Ok(Some(batch)) => {
                if self.prepared.changes
                    && let Err(error) = self.still_there(&batch)
                {
                    self.done = true;
                    return Err(error);
                }
                // What is written of a value that shares its parts is as large as if it did not.
                let left = self.context.budget.left();
                if batch.bytes_up_to(left) > left {
                    self.done = true;
                    return Err(self.context.budget.too_much());
                }
                self.first_row.get_or_insert_with(|| self.context.budget.started.elapsed());
                self.rows += batch.len as u64;
                if let Some(watch) = &self.context.limits.watch {
                    watch.gave(batch.len as u64);
                }
                // A change may have more to do after its only row.
                self.done = self.prepared.root.facts.at_most_one && !self.prepared.changes;
                Ok(Some(batch))
            }
            Ok(None) => {
                self.done = true;
                Ok(None)
            }
            Err(error) => {
                self.done = true;
                Err(cut_off(error, &self.prepared.root, &self.context.metrics))
            }
        }
    }

    /// A result names no element that the query has deleted.
    fn still_there(&self, batch: &Batch) -> Result<(), Diagnostic> {
        let Changed { nodes_deleted, edges_deleted, .. } = self.context.changed;
        if nodes_deleted + edges_deleted == 0 {
            return Ok(());
        }
        let columns = self.prepared.columns.as_deref().unwrap_or_default();
        for (column, info) in batch.columns.iter().zip(columns) {
            if (0..batch.len).any(|row| self.names_deleted(&column.get(row))) {
                let text = format!("the column {} names an element that the query has deleted", info.name);
                return Err(Diagnostic::error(Code::REFERENT_DELETED, Default::default(), text)
                    .hint("return its properties from a part before the DELETE, joined by NEXT"));
            }
        }
        Ok(())
    }

    fn names_deleted(&self, value: &Value) -> bool {
        let snapshot = &self.context.scope;
        match value {
            Value::Node(n) => !snapshot.node_exists(*n),
            Value::Edge(e) => !snapshot.edge_exists(*e),
            Value::Path(path) => {
                path.nodes.iter().any(|n| !snapshot.node_exists(*n))
                    || path.edges.iter().any(|e| !snapshot.edge_exists(*e))
            }
            Value::List(items) => items.iter().any(|v| self.names_deleted(v)),
            Value::Record(fields) => fields.iter().any(|(_, v)| self.names_deleted(v)),
            _ => false,
        }
    }

    /// The snapshot that values of the result refer to.
    pub fn snapshot(&self) -> &Snapshot {
        &self.context.scope
    }

    pub fn warnings(&self) -> &[Diagnostic] {
        &self.context.warnings
    }

    /// Whether its operators took their times: a brief run's do not.
    pub fn has_profile(&self) -> bool {
        self.context.limits.brief.is_none()
    }

    pub fn profile(&self) -> PlanTree {
        self.prepared.root.tree(Some((&self.context.metrics, &self.context.scope)))
    }

    /// What the run gives reason to change.
    pub fn findings(&self) -> Vec<Finding> {
        findings(&self.prepared.root, Some(&self.context.metrics), &self.context.scope)
    }

    pub fn summary(&self) -> Summary {
        let elapsed = self.context.budget.started.elapsed();
        Summary {
            rows: self.rows,
            changed: self.context.changed,
            execute_us: elapsed.as_secs_f64() * 1e6,
            first_row_us: self.first_row.unwrap_or(elapsed).as_secs_f64() * 1e6,
        }
    }

    /// For a changing query: the new snapshot and the changes that lead to it, all checked.
    pub fn finish(self) -> Result<Option<(Snapshot, Vec<Change>)>, Diagnostic> {
        match self.context.transaction {
            None => Ok(None),
            Some(transaction) => {
                transaction.finish().map(Some).map_err(|e| Diagnostic::from_graph(e, Default::default()))
            }
        }
    }
}
