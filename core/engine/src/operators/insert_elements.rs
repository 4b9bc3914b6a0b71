//! InsertElements: new nodes and edges for every row; for an UPSERT only if its key finds none. It reads all its
//! rows first, so it never sees its own elements.

use std::sync::Arc;

use graphodrome_graph::{Code, LabelSet, NewEdge, NewNode, Value};
use graphodrome_language::{Diagnostic, Span};

use crate::batch::{Batch, Vector};
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::operators::drain;
use crate::outcome::{Outcome, located};
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct InsertNodeSpec {
    pub labels: LabelSet,
    pub properties: Vec<(Arc<str>, Expr)>,
    pub find: Option<FindSpec>,
    pub span: Span,
}

/// How an UPSERT finds the element that already exists.
#[derive(Clone, Debug)]
pub(crate) struct FindSpec {
    pub key: usize,
    /// For each property of the key its place among those given.
    pub order: Vec<usize>,
}

#[derive(Clone, Debug)]
pub(crate) struct InsertEdgeSpec {
    pub labels: LabelSet,
    pub properties: Vec<(Arc<str>, Expr)>,
    pub find: Option<FindSpec>,
    pub directed: bool,
    /// Slots of the ends, new nodes included.
    pub source: usize,
    pub target: usize,
    pub span: Span,
}

/// New nodes take the slots after the input's, in order; new edges those after them.
#[derive(Clone, Debug)]
pub(crate) struct InsertElements {
    pub nodes: Vec<InsertNodeSpec>,
    pub edges: Vec<InsertEdgeSpec>,
    /// Whether the statement is an UPSERT.
    pub finds: bool,
    /// Whether what is made is checked here; otherwise a SET that belongs to it follows.
    pub settles: bool,
    pub span: Span,
}

impl OperatorPlan for InsertElements {
    fn name(&self) -> &'static str {
        if self.finds { "UpsertElements" } else { "InsertElements" }
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let nodes = self.nodes.iter().map(|n| format!("(:{})", n.labels.join("&")));
        let edges = self.edges.iter().map(|e| format!("[:{}]", e.labels.join("&")));
        vec![("elements", nodes.chain(edges).collect::<Vec<_>>().join(", "))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(InsertElementsRun { spec: self, input: inputs.remove(0), done: false })
    }
}

struct InsertElementsRun {
    spec: Arc<InsertElements>,
    input: Input,
    done: bool,
}

fn evaluate(
    properties: &[(Arc<str>, Expr)], batch: &Batch, row: usize, context: &mut Context,
) -> Outcome<Vec<(Arc<str>, Value)>> {
    let counters = &mut context.metrics[context.current].counters;
    let mut evaluator = Evaluator { scope: &context.scope, counters };
    properties
        .iter()
        .map(|(name, e)| Ok((name.clone(), evaluator.value(e, Row { batch, row, locals: &[] })?)))
        .collect()
}

/// The element with the key values among these properties, if there is one.
fn find(
    spec: &Option<FindSpec>, properties: &[(Arc<str>, Value)], span: Span, context: &mut Context,
) -> Outcome<Option<u32>> {
    let Some(FindSpec { key, order }) = spec else { return Ok(None) };
    let values: Vec<Value> = order.iter().map(|&place| properties[place].1.clone()).collect();
    if let Some(null) = values.iter().position(Value::is_null) {
        return Err(Diagnostic::error(
            Code::NULL_NOT_ALLOWED,
            span,
            format!("the key property {} is null; UPSERT finds by its value", properties[order[null]].0),
        ));
    }
    context.metrics[context.current].counters.index_probes += 1;
    Ok(context.transaction().find_by_key(*key, &values))
}

impl InsertNodeSpec {
    fn make(&self, batch: &Batch, row: usize, context: &mut Context) -> Outcome<u32> {
        let properties = evaluate(&self.properties, batch, row, context)?;
        if let Some(found) = find(&self.find, &properties, self.span, context)? {
            let labels = context.transaction().snapshot().node_labels(found);
            return match self.labels.iter().find(|l| !labels.contains(l)) {
                None => Ok(found),
                Some(missing) => Err(lacks_label("node", missing, &labels, self.span)),
            };
        }
        let new = NewNode { labels: self.labels.clone(), properties };
        context.changed.nodes_inserted += 1;
        context.transaction().insert_node(new).map_err(|e| located(e, self.span))
    }
}

fn lacks_label(what: &str, missing: &str, labels: &LabelSet, span: Span) -> Diagnostic {
    let message = format!("the {what} with this key is :{}, without the label {missing}", labels.join("&"));
    Diagnostic::error(Code::KEY_VIOLATION, span, message)
        .hint(format!("write the labels it has, or add the label with SET: SET x:{missing}"))
}

impl InsertEdgeSpec {
    fn make(&self, batch: &Batch, row: usize, context: &mut Context) -> Outcome<u32> {
        let properties = evaluate(&self.properties, batch, row, context)?;
        let end = |slot: usize| match batch.columns[slot].get(row) {
            Value::Node(n) => Ok(n),
            other => Err(Diagnostic::error(
                Code::WRONG_TYPE,
                self.span,
                format!("an end of the new edge must be a node, found {}", other.type_name()),
            )),
        };
        let (source, target) = (end(self.source)?, end(self.target)?);
        if let Some(found) = find(&self.find, &properties, self.span, context)? {
            let snapshot = context.transaction().snapshot();
            let (from, to) = snapshot.edge_ends(found);
            let directed = snapshot.edge_directed(found);
            let same = (from, to) == (source, target) || (!directed && (to, from) == (source, target));
            if !same || directed != self.directed {
                let message =
                    format!("the edge :{} with this key connects other nodes", self.labels.join("&"));
                return Err(Diagnostic::error(Code::KEY_VIOLATION, self.span, message)
                    .hint("an edge keeps its ends: delete it and insert another"));
            }
            let labels = snapshot.edge_labels(found);
            return match self.labels.iter().find(|l| !labels.contains(l)) {
                None => Ok(found),
                Some(missing) => Err(lacks_label("edge", missing, &labels, self.span)),
            };
        }
        let labels = self.labels.clone();
        let new = NewEdge { labels, properties, directed: self.directed, source, target };
        context.changed.edges_inserted += 1;
        context.transaction().insert_edge(new).map_err(|e| located(e, self.span))
    }
}

impl Operator for InsertElementsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if std::mem::replace(&mut self.done, true) {
            return Ok(None);
        }
        let Some(mut batch) = drain(&mut self.input, context)? else { return Ok(None) };
        let spec = &self.spec;
        let mut nodes: Vec<Vec<u32>> = vec![Vec::with_capacity(batch.len); spec.nodes.len()];
        for row in 0..batch.len {
            context.work(1)?;
            for (node, made) in spec.nodes.iter().zip(&mut nodes) {
                made.push(node.make(&batch, row, context)?);
            }
        }
        batch.columns.extend(nodes.into_iter().map(Vector::Nodes));
        let mut edges: Vec<Vec<u32>> = vec![Vec::with_capacity(batch.len); spec.edges.len()];
        for row in 0..batch.len {
            context.work(1)?;
            for (edge, made) in spec.edges.iter().zip(&mut edges) {
                made.push(edge.make(&batch, row, context)?);
            }
        }
        batch.columns.extend(edges.into_iter().map(Vector::Edges));
        if spec.settles {
            context.settle(spec.span)?;
        } else {
            context.see_changes();
        }
        Ok((batch.len > 0).then_some(batch))
    }
}
