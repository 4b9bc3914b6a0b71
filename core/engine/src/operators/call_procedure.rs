//! CallProcedure: the rows that a measure gives, for each row from below.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use graphodrome_algorithms::Stopped;
use graphodrome_graph::{Code, Snapshot, Value};
use graphodrome_language::{Diagnostic, Span};

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::context::Context;
use crate::evaluate::Evaluator;
use crate::expression::Expr;
use crate::operators::share_out;
use crate::outcome::{Code as Limit, Outcome};
use crate::plan::{Input, Operator, OperatorPlan};
use crate::procedures::{
    self, Call, Entry, ExternalCall, ExternalProcedure, Given, Part, PartRequest, RunMeasure, Table, kept,
};
use crate::row::Row;

#[derive(Clone, Debug)]
pub(crate) struct CallProcedure {
    pub entry: Arc<Entry>,
    /// The record of arguments.
    pub given: Option<Expr>,
    /// The procedure's columns that are wanted, in their order.
    pub columns: Vec<usize>,
    /// A row of nulls where it gives none.
    pub optional: bool,
    pub shown: String,
    pub span: Span,
}

impl OperatorPlan for CallProcedure {
    fn name(&self) -> &'static str {
        "CallProcedure"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("call", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(CallProcedureRun { spec: self, input: inputs.remove(0), at: None, part: None, held: 0 })
    }
}

/// So that what is asked for can be added up.
const MORE_THAN_ANY_LIMIT: usize = 1 << 48;

struct CallProcedureRun {
    spec: Arc<CallProcedure>,
    input: Input,
    /// The batch that is gone through, the row, and that row's result with how many of its rows were given out.
    at: Option<(Arc<Batch>, usize, Option<Open>)>,
    /// The part that was looked at last, and of which version.
    part: Option<(PartRequest, Arc<Snapshot>, Arc<Part>)>,
    /// Bytes of the part that the query holds: none where it was kept from before.
    held: usize,
}

struct Open {
    columns: Table,
    rows: usize,
    given: usize,
    bytes: usize,
}

impl CallProcedureRun {
    fn fill(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            let Some((batch, row, open)) = &mut self.at else { return Ok(None) };
            if let Some(result) = open {
                if result.given < result.rows {
                    let end = result.rows.min(result.given + BATCH_ROWS);
                    let rows: Vec<u32> = (result.given as u32..end as u32).collect();
                    let mut out = batch.gather(&vec![*row as u32; rows.len()]);
                    out.columns.extend(result.columns.iter().map(|c| c.gather(&rows)));
                    result.given = end;
                    return Ok(Some(out));
                }
                context.release(result.bytes);
                *open = None;
                *row += 1;
            }
            if *row >= batch.len {
                self.at = None;
                return Ok(None);
            }
            let (batch, row) = (batch.clone(), *row);
            let result = self.result(&batch, row, context)?;
            if let Some((.., open)) = &mut self.at {
                *open = Some(result);
            }
        }
    }

    fn result(&mut self, batch: &Batch, row: usize, context: &mut Context) -> Outcome<Open> {
        let spec = self.spec.clone();
        let entry = &spec.entry;
        let value = match &spec.given {
            None => Value::Null,
            Some(expr) => {
                let counters = &mut context.metrics[context.current].counters;
                Evaluator { scope: &context.scope, counters }.value(expr, Row { batch, row, locals: &[] })?
            }
        };
        let given = Given::read(value, &entry.procedure, spec.span)?;
        // A measure of a whole graph is not brief, whatever its size.
        if context.limits.brief.is_some() {
            return Err(Diagnostic::error(
                graphodrome_graph::Code(Limit::NOT_BRIEF),
                spec.span,
                "a measure is not brief",
            ));
        }
        let weights = if entry.procedure.argument("capacity").is_some() { "capacity" } else { "weight" };
        let snapshot = context.scope.snapshot.clone();
        let request = PartRequest::of(&given, weights, &snapshot, spec.span)?;
        let same = |(known, of, _): &(PartRequest, Arc<Snapshot>, Arc<Part>)| {
            *known == request && Arc::ptr_eq(of, &snapshot)
        };
        if !self.part.as_ref().is_some_and(same) {
            self.part = None;
            context.release(std::mem::take(&mut self.held));
            let part = match kept::find(&snapshot, &request) {
                Some(part) => {
                    context.metrics().notes.push("the view was kept from before".into());
                    part
                }
                None => {
                    let part = Part::read(&request, spec.span, context)?;
                    self.held = part.bytes;
                    kept::keep(&snapshot, &request, part)
                }
            };
            if part.without_weight > 0 {
                let text = format!("{} edges have no weight and were left out", part.without_weight);
                context.warnings.push(Diagnostic::warning(Code::DATA, spec.span, text));
            }
            self.part = Some((request, snapshot, part));
        }
        let Some((.., part)) = &self.part else { return Ok(Open::empty()) };
        let (n, m) = (part.graph.node_count(), part.graph.edge_count());
        context.counters().edges_looked += m as u64;
        let held = n * entry.holds.node + m * entry.holds.edge;
        context.reserve(held)?;
        let mut table = match &entry.run {
            procedures::Run::Measure(measure) => run(entry, *measure, part, &given, context, spec.span)?,
            procedures::Run::External(external) => {
                run_external(&**external, part, given, context, spec.span)?
            }
        };
        context.release(held);
        let mut columns: Table = spec.columns.iter().map(|at| table[*at].empty_like()).collect();
        for (place, at) in spec.columns.iter().enumerate() {
            // Each column is taken once: yields have different names but may name one column twice.
            columns[place] = match spec.columns[place + 1..].contains(at) {
                true => table[*at].clone(),
                false => std::mem::replace(&mut table[*at], Vector::Values(vec![])),
            };
        }
        let mut rows = columns.first().map_or(0, Vector::len);
        if rows == 0 && spec.optional {
            columns.iter_mut().for_each(Vector::push_null);
            rows = 1;
        }
        let bytes = columns.iter().map(Vector::bytes).sum();
        context.reserve(bytes)?;
        Ok(Open { columns, rows, given: 0, bytes })
    }
}

impl Open {
    fn empty() -> Open {
        Open { columns: vec![], rows: 0, given: 0, bytes: 0 }
    }
}

fn run_external(
    external: &dyn ExternalProcedure, part: &Arc<Part>, given: Given, context: &Context, span: Span,
) -> Outcome<Table> {
    let call = Arc::new(ExternalCall::new(part.clone(), given, context));
    let result = match share_out::threads() {
        Some(pool) => pool.install(|| external.run(call.clone())),
        None => external.run(call.clone()),
    };
    result.map_err(|stopped| {
        let text = match stopped {
            Stopped::NoAnswer(text) => text,
            Stopped::Asked => match call.stopped_by().or_else(|| context.budget.check().err()) {
                Some(why) => return why,
                None => "it was stopped".into(),
            },
        };
        Diagnostic::error(Code::DATA, span, format!("{}: {text}", external.procedure().name))
    })
}

fn run(
    entry: &Entry, measure: RunMeasure, part: &Part, given: &Given, context: &Context, span: Span,
) -> Outcome<Table> {
    let budget = &context.budget;
    // What stopped it, where that is not found by asking again.
    let stopped_by: Mutex<Option<Diagnostic>> = Mutex::default();
    let held = AtomicUsize::new(0);
    let ask = |_: f64| budget.check().map_err(|_| Stopped::Asked);
    let hold = |bytes: usize| {
        let bytes = bytes.min(MORE_THAN_ANY_LIMIT);
        held.fetch_add(bytes, Ordering::Relaxed);
        budget.hold(bytes).map_err(|why| {
            *stopped_by.lock().unwrap_or_else(PoisonError::into_inner) = Some(why);
            Stopped::Asked
        })
    };
    let number = |node| part.number(node);
    let call = Call { graph: &part.graph, given, number: &number, ask: &ask, hold: &hold };
    let result = match share_out::threads() {
        Some(pool) => pool.install(|| measure(&call)),
        None => measure(&call),
    };
    budget.release(held.into_inner());
    let stopped_by = stopped_by.into_inner().unwrap_or_else(PoisonError::into_inner);
    result.map_err(|stopped| match stopped {
        Stopped::NoAnswer(text) => {
            Diagnostic::error(Code::DATA, span, format!("{}: {text}", entry.procedure.name))
        }
        Stopped::Asked => match stopped_by.or_else(|| budget.check().err()) {
            Some(why) => why,
            None => {
                Diagnostic::error(graphodrome_graph::Code(Limit::CANCELLED), span, "the query was cancelled")
            }
        },
    })
}

impl Operator for CallProcedureRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            if let Some(rows) = self.fill(context)? {
                return Ok(Some(rows));
            }
            match self.input.next(context)? {
                Some(batch) => self.at = Some((Arc::new(batch), 0, None)),
                None => return Ok(None),
            }
        }
    }
}
