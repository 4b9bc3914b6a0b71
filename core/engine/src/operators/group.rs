//! Group: one row per distinct key with its aggregates; without keys, one row in any case.

use std::sync::Arc;

use graphodrome_graph::{Code, Value};
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::Aggregate;

use crate::batch::{BATCH_ROWS, Batch, Vector, value_bytes};
use crate::columnar;
use crate::context::{Context, Outcome, located};
use crate::evaluate::{Evaluator, Row};
use crate::expression::{Expr, Kind};
use crate::operators::Accumulator;
use crate::operators::group_keys::Groups;
use crate::operators::group_totals::{Places, Totals};
use crate::plan::{Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct AggregateSpec {
    pub function: Aggregate,
    pub distinct: bool,
    /// Of a percentile.
    pub share: Option<Expr>,
    /// `None` for `COUNT(*)`.
    pub argument: Option<Expr>,
    /// Slots whose numbers together say how many rows a row stands for.
    pub weights: Vec<usize>,
}

#[derive(Clone, Debug)]
pub(crate) struct Group {
    pub keys: Vec<Expr>,
    /// An empty vector of the right kind per key.
    pub key_vectors: Vec<Vector>,
    pub aggregates: Vec<AggregateSpec>,
    pub shown: String,
}

impl OperatorPlan for Group {
    fn name(&self) -> &'static str {
        "Group"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("by", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { spec: self, input: inputs.remove(0), result: None, sent: 0 })
    }
}

struct Run {
    spec: Arc<Group>,
    input: Input,
    result: Option<Batch>,
    sent: usize,
}

impl Run {
    fn group(&mut self, context: &mut Context) -> Outcome<Batch> {
        let bound = context.scope.node_bound();
        let mut shares = vec![];
        for aggregate in &self.spec.aggregates {
            shares.push(match &aggregate.share {
                None => None,
                Some(share) => Some(percentile_share(share, context)?),
            });
        }
        let fresh = |spec: &Group| -> Vec<Accumulator> {
            let all = spec.aggregates.iter().zip(&shares);
            all.map(|(a, share)| Accumulator::new(a.function, a.distinct, bound).with_share(*share)).collect()
        };
        let mut groups: Vec<Vec<Accumulator>> = vec![];
        let mut totals: Vec<Totals> = self.spec.aggregates.iter().map(|_| Totals::default()).collect();
        let mut known: Option<Groups> = None;
        // First come, first out, each key as it came first.
        let mut keys = self.spec.key_vectors.clone();
        let weighed = self.spec.aggregates.iter().map(|a| &a.weights).max_by_key(|w| w.len());
        let weighed = weighed.filter(|weights| !weights.is_empty()).cloned();
        if self.spec.keys.is_empty() {
            groups.push(fresh(&self.spec));
        }
        let mut held = 0;
        while let Some(batch) = self.input.next(context)? {
            context.work(batch.len as u64)?;
            let mut new_bytes = 0;
            if self.spec.keys.is_empty() && count_columns(&self.spec, &batch, &mut groups[0]) {
                if self.spec.aggregates.iter().any(|a| a.distinct) {
                    context.reserve(4 * batch.len)?;
                }
                continue;
            }
            // A row that stands for no row is in no group.
            let rows: Vec<u32> = match &weighed {
                None => (0..batch.len as u32).collect(),
                Some(slots) => {
                    (0..batch.len as u32).filter(|row| weight(&batch, slots, *row as usize) > 0).collect()
                }
            };
            let counters = &mut context.metrics[context.current].counters;
            let mut evaluator = Evaluator { scope: &context.scope, counters };
            let places = if self.spec.keys.is_empty() {
                vec![0; rows.len()]
            } else {
                let scope = evaluator.scope;
                let known = known
                    .get_or_insert_with(|| Groups::new(&self.spec.keys, &batch, scope.known_nodes, bound));
                let places = known.of(&self.spec.keys, &batch, &rows, &mut evaluator)?;
                new_bytes += known.new_bytes();
                for (row, place) in rows.iter().zip(&places) {
                    // New groups come in their order.
                    if *place as usize == groups.len() {
                        let at = Row { batch: &batch, row: *row as usize, locals: &[] };
                        for (column, expression) in keys.iter_mut().zip(&self.spec.keys) {
                            let value = evaluator.value(expression, at)?;
                            new_bytes += value_bytes(&value);
                            column.push(value);
                        }
                        groups.push(fresh(&self.spec));
                        new_bytes += 96 + size_of::<Accumulator>() * self.spec.aggregates.len();
                    }
                }
                places
            };
            for (place, spec) in self.spec.aggregates.iter().enumerate() {
                let times: Option<Vec<usize>> = match spec.weights.is_empty() {
                    true => None,
                    false => {
                        Some(rows.iter().map(|row| weight(&batch, &spec.weights, *row as usize)).collect())
                    }
                };
                let at = Places { rows: &rows, groups: &places, times: times.as_deref() };
                let Some(argument) = &spec.argument else {
                    totals[place].count(at, groups.len());
                    continue;
                };
                if !spec.distinct
                    && let Some(found) = columnar::column(argument, &batch, evaluator.scope)
                    && totals[place].add(spec.function, &found.numbers, at, groups.len())
                {
                    evaluator.counters.properties_read += found.reads;
                    continue;
                }
                for (i, (row, group)) in rows.iter().zip(&places).enumerate() {
                    let at = Row { batch: &batch, row: *row as usize, locals: &[] };
                    let value = evaluator.value(argument, at)?;
                    if spec.distinct || spec.function.keeps_values() {
                        new_bytes += value_bytes(&value) + 2 * size_of::<Value>();
                    }
                    let times = times.as_ref().map_or(1, |times| times[i]);
                    let accumulator = &mut groups[*group as usize][place];
                    accumulator.add_times(value, times).map_err(|e| located(e, argument.span))?;
                }
            }
            let total: usize = totals.iter().map(Totals::bytes).sum();
            new_bytes += total.saturating_sub(held);
            held = held.max(total);
            context.reserve(new_bytes)?;
        }
        for (group, accumulators) in groups.iter_mut().enumerate() {
            for ((accumulator, totals), spec) in
                accumulators.iter_mut().zip(&totals).zip(&self.spec.aggregates)
            {
                let span = spec.argument.as_ref().map(|argument| argument.span).unwrap_or_default();
                totals.put(group, accumulator).map_err(|e| located(e, span))?;
            }
        }
        let len = groups.len();
        let mut results: Vec<Vec<Value>> =
            self.spec.aggregates.iter().map(|_| Vec::with_capacity(len)).collect();
        for group in groups {
            for ((column, accumulator), spec) in results.iter_mut().zip(group).zip(&self.spec.aggregates) {
                let place = spec.argument.as_ref().map(|argument| argument.span).unwrap_or_default();
                column.push(accumulator.finish().map_err(|e| located(e, place))?);
            }
        }
        let mut columns = keys;
        columns.extend(results.into_iter().map(Vector::Values));
        Ok(Batch { len, columns })
    }
}

/// The share of a percentile: a number from 0 to 1.
fn percentile_share(share: &Expr, context: &mut Context) -> Outcome<f64> {
    let unit = Batch::unit();
    let counters = &mut context.metrics[context.current].counters;
    let value = Evaluator { scope: &context.scope, counters }
        .value(share, Row { batch: &unit, row: 0, locals: &[] })?;
    value.as_f64().filter(|s| (0.0..=1.0).contains(s)).ok_or_else(|| {
        Diagnostic::error(
            Code::DATA,
            share.span,
            format!("the share of a percentile is a number from 0 to 1, found {}", value.excerpt()),
        )
    })
}

/// How many rows a row stands for.
fn weight(batch: &Batch, slots: &[usize], row: usize) -> usize {
    let number = |slot: &usize| match batch.columns[*slot].get(row) {
        Value::Int(n) => n as usize,
        _ => 0,
    };
    slots.iter().fold(1usize, |all, slot| all.saturating_mul(number(slot)))
}

/// Where every aggregate counts rows or nodes: the whole batch at once. `false` where it cannot be.
fn count_columns(spec: &Group, batch: &Batch, accumulators: &mut [Accumulator]) -> bool {
    let nodes = |argument: &Expr| match argument.kind {
        Kind::Slot(slot) => match batch.columns.get(slot) {
            Some(Vector::Nodes(nodes)) => Some(nodes),
            _ => None,
        },
        _ => None,
    };
    let countable = |a: &AggregateSpec| {
        let as_nodes = |e: &Expr| nodes(e).is_some() && a.weights.is_empty();
        a.function == Aggregate::Count && a.argument.as_ref().is_none_or(as_nodes)
    };
    if !spec.aggregates.iter().all(countable) {
        return false;
    }
    for (aggregate, accumulator) in spec.aggregates.iter().zip(accumulators) {
        match aggregate.argument.as_ref().and_then(nodes) {
            Some(nodes) => accumulator.count_nodes(nodes),
            None if aggregate.weights.is_empty() => accumulator.add_rows(batch.len),
            None => {
                (0..batch.len).for_each(|row| accumulator.add_rows(weight(batch, &aggregate.weights, row)))
            }
        }
    }
    true
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.result.is_none() {
            self.result = Some(self.group(context)?);
        }
        let Some(result) = &mut self.result else { return Ok(None) };
        if self.sent == result.len {
            return Ok(None);
        }
        if self.sent == 0 && result.len <= BATCH_ROWS {
            self.sent = result.len;
            let columns = std::mem::take(&mut result.columns);
            return Ok(Some(Batch { len: result.len, columns }));
        }
        let end = result.len.min(self.sent + BATCH_ROWS);
        let rows: Vec<u32> = (self.sent as u32..end as u32).collect();
        self.sent = end;
        Ok(Some(result.gather(&rows)))
    }
}
