//! SetProperties and RemoveProperties: changes of properties and labels for every row. All values are
//! computed before anything is changed.

use std::sync::Arc;

use graphodrome_graph::{Code, Value, label_set};
use graphodrome_language::{Diagnostic, Span};
use hashbrown::HashMap;

use crate::batch::Batch;
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::operators::drain;
use crate::outcome::{Outcome, located};
use crate::plan::{Input, Operator, OperatorPlan};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) enum PropertyChange {
    Set(Arc<str>, Expr),
    /// Replaces all properties.
    SetAll(Vec<(Arc<str>, Expr)>),
    AddLabel(Arc<str>),
    Remove(Arc<str>),
    RemoveLabel(Arc<str>),
}

#[derive(Clone, Debug)]
pub(crate) struct ChangeSpec {
    pub slot: usize,
    pub name: Arc<str>,
    pub change: PropertyChange,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub(crate) struct SetProperties {
    pub changes: Vec<ChangeSpec>,
    pub removes: bool,
    pub span: Span,
}

impl OperatorPlan for SetProperties {
    fn name(&self) -> &'static str {
        if self.removes { "RemoveProperties" } else { "SetProperties" }
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let shown: Vec<String> = self
            .changes
            .iter()
            .map(|c| match &c.change {
                PropertyChange::Set(p, _) | PropertyChange::Remove(p) => format!("{}.{p}", c.name),
                PropertyChange::SetAll(_) => format!("{} = {{...}}", c.name),
                PropertyChange::AddLabel(l) | PropertyChange::RemoveLabel(l) => format!("{}:{l}", c.name),
            })
            .collect();
        vec![("changes", shown.join(", "))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(SetPropertiesRun { spec: self, input: inputs.remove(0), done: false })
    }
}

struct SetPropertiesRun {
    spec: Arc<SetProperties>,
    input: Input,
    done: bool,
}

/// A change with its value: what to do to one element.
enum Ready {
    Set(Arc<str>, Value),
    SetAll(Properties),
    AddLabel(Arc<str>),
    RemoveLabel(Arc<str>),
}

impl Operator for SetPropertiesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if std::mem::replace(&mut self.done, true) {
            return Ok(None);
        }
        let Some(batch) = drain(&mut self.input, context)? else { return Ok(None) };
        let mut ready: Vec<(Value, Ready, &ChangeSpec)> = vec![];
        for row in 0..batch.len {
            context.work(1)?;
            for spec in &self.spec.changes {
                let element = batch.columns[spec.slot].get(row);
                if element.is_null() {
                    continue;
                }
                let counters = &mut context.metrics[context.current].counters;
                let mut evaluator = Evaluator { scope: &context.scope, counters };
                let at = Row { batch: &batch, row, locals: &[] };
                let change = match &spec.change {
                    PropertyChange::Set(name, e) => Ready::Set(name.clone(), evaluator.value(e, at)?),
                    PropertyChange::Remove(name) => Ready::Set(name.clone(), Value::Null),
                    PropertyChange::SetAll(pairs) => Ready::SetAll(
                        pairs
                            .iter()
                            .map(|(name, e)| Ok((name.clone(), evaluator.value(e, at)?)))
                            .collect::<Outcome<_>>()?,
                    ),
                    PropertyChange::AddLabel(label) => Ready::AddLabel(label.clone()),
                    PropertyChange::RemoveLabel(label) => Ready::RemoveLabel(label.clone()),
                };
                ready.push((element, change, spec));
            }
        }
        one_value_each(&ready, context)?;
        for (element, change, spec) in ready {
            context.work(1)?;
            apply(element, change, spec, context)?;
        }
        context.settle(self.spec.span)?;
        Ok((batch.len > 0).then_some(batch))
    }
}

/// Names of properties and the values they are given.
type Properties = Vec<(Arc<str>, Value)>;

/// One statement gives a property of an element one value, however often it comes.
fn one_value_each(ready: &[(Value, Ready, &ChangeSpec)], context: &mut Context) -> Outcome<()> {
    if ready.len() < 2 {
        return Ok(());
    }
    context.reserve(ready.len() * 64)?;
    let mut given: HashMap<(bool, u32, &str), &Value> = HashMap::with_capacity(ready.len());
    let mut all: HashMap<(bool, u32), &Properties> = HashMap::new();
    for (element, change, spec) in ready {
        let element = match element {
            Value::Node(n) => (true, *n),
            Value::Edge(e) => (false, *e),
            _ => continue,
        };
        let twice = match change {
            Ready::Set(name, value) => {
                let before = given.insert((element.0, element.1, name), value);
                before
                    .filter(|before| *before != value)
                    .map(|before| (&**name, before.excerpt(), value.excerpt()))
            }
            Ready::SetAll(pairs) => {
                let before = all.insert(element, pairs);
                let differs = before.is_some_and(|before| before != pairs);
                differs.then(|| ("*", "one record".into(), "another".into()))
            }
            Ready::AddLabel(_) | Ready::RemoveLabel(_) => None,
        };
        if let Some((property, one, other)) = twice {
            let text = format!("{}.{property} of one element is given {one} and {other}", spec.name);
            return Err(Diagnostic::error(Code::MULTIPLE_ASSIGNMENTS, spec.span, text)
                .hint("aggregate the rows first, so that each element comes once"));
        }
        context.work(1)?;
    }
    context.release(ready.len() * 64);
    Ok(())
}

fn apply(element: Value, change: Ready, spec: &ChangeSpec, context: &mut Context) -> Outcome<()> {
    // Not kept: what a snapshot shares with the transaction would be copied when that changes it.
    let current = context.transaction().snapshot();
    let (labels, properties) = match element {
        Value::Node(n) if current.node_exists(n) => (current.node_labels(n), current.node_properties(n)),
        Value::Edge(e) if current.edge_exists(e) => (current.edge_labels(e), current.edge_properties(e)),
        Value::Node(_) | Value::Edge(_) => {
            return Err(Diagnostic::error(
                graphodrome_graph::Code::DATA,
                spec.span,
                format!("{} has been deleted", spec.name),
            ));
        }
        other => {
            return Err(Diagnostic::error(
                graphodrome_graph::Code::WRONG_TYPE,
                spec.span,
                format!("{} must be a node or an edge, found {}", spec.name, other.type_name()),
            ));
        }
    };
    let mut properties: Vec<(Arc<str>, Value)> = properties.to_vec();
    let mut labels = labels;
    match change {
        Ready::Set(name, value) => {
            properties.retain(|(n, _)| *n != name);
            properties.push((name, value));
            context.changed.properties_set += 1;
        }
        Ready::SetAll(pairs) => {
            context.changed.properties_set += pairs.len() as u64;
            properties = pairs;
        }
        Ready::AddLabel(label) => {
            labels = label_set(labels.iter().cloned().chain([label]));
            context.changed.labels_changed += 1;
        }
        Ready::RemoveLabel(label) => {
            labels = label_set(labels.iter().filter(|l| **l != label).cloned());
            context.changed.labels_changed += 1;
        }
    }
    let transaction = context.transaction();
    match element {
        Value::Node(n) => transaction.change_node(n, labels, properties),
        Value::Edge(e) => transaction.change_edge(e, labels, properties),
        _ => Ok(()),
    }
    .map_err(|e| located(e, spec.span))
}
