//! Group: one row per distinct key with its aggregates; without keys, one row in any case.

use std::sync::Arc;

use hashbrown::HashMap;

use graphodrome_graph::{Code, Value};
use graphodrome_language::Diagnostic;
use graphodrome_language::ast::Aggregate;

use crate::batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector, value_bytes};
use crate::context::{Context, Outcome, located};
use crate::evaluate::{Evaluator, Row};
use crate::expression::{Expr, Kind};
use crate::operators::Accumulator;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::quick::{self, Lack, Number, Place};

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
        let mut places: HashMap<Vec<Value>, usize> = HashMap::new();
        // A single key that is a whole number, which most are that are grouped by many.
        let mut numbered: HashMap<i64, usize> = HashMap::new();
        let single = self.spec.keys.len() == 1;
        let mut groups: Vec<Vec<Accumulator>> = vec![];
        // First come, first out, each key as it came first.
        let mut keys = self.spec.key_vectors.clone();
        // Where rows are only counted, their numbers by group, which become accumulators at the end.
        let counts_rows = |a: &AggregateSpec| {
            a.function == Aggregate::Count && a.argument.is_none() && a.weights.is_empty()
        };
        let only_counts = single && self.spec.aggregates.iter().all(counts_rows);
        let weighed = self.spec.aggregates.iter().map(|a| &a.weights).max_by_key(|w| w.len());
        let mut counts: Vec<usize> = vec![];
        if self.spec.keys.is_empty() {
            places.insert(vec![], 0);
            groups.push(fresh(&self.spec));
        }
        while let Some(batch) = self.input.next(context)? {
            context.work(batch.len as u64)?;
            let mut new_bytes = 0;
            if self.spec.keys.is_empty() && count_columns(&self.spec, &batch, &mut groups[0]) {
                if self.spec.aggregates.iter().any(|a| a.distinct) {
                    context.reserve(4 * batch.len)?;
                }
                continue;
            }
            let counters = &mut context.metrics[context.current].counters;
            let mut evaluator = Evaluator { scope: &context.scope, counters };
            let key = self.spec.keys.first().filter(|_| single);
            let key_number = key.and_then(|key| Number::of(key, &batch, &[], evaluator.scope));
            for row in 0..batch.len {
                // A row that stands for no row is in no group.
                if weighed.is_some_and(|slots| weight(&batch, slots, row) == 0) {
                    continue;
                }
                let at = Row { batch: &batch, row, locals: &[] };
                let read = evaluator.counters.properties_read;
                let number = match (&key_number, key) {
                    (Some(number), _) => {
                        evaluator.counters.properties_read += number.reads();
                        match number.get(Place { row, edge: NO_ELEMENT, node: NO_ELEMENT }) {
                            Ok(number) => Some(Some(number)),
                            Err(Lack::Null) => Some(None),
                            Err(Lack::Unknown) => None,
                        }
                    }
                    (None, Some(key)) => quick::number(key, at, evaluator.scope, evaluator.counters),
                    (None, None) => None,
                };
                let own = 96 + size_of::<Accumulator>() * self.spec.aggregates.len();
                let place = if self.spec.keys.is_empty() {
                    0
                } else if let Some(Some(number)) = number {
                    *numbered.entry(number).or_insert_with(|| {
                        new_bytes += own;
                        keys[0].push(Value::Int(number));
                        groups.push(fresh(&self.spec));
                        groups.len() - 1
                    })
                } else {
                    // What the short way read is read again.
                    evaluator.counters.properties_read = read;
                    let mut key = Vec::with_capacity(self.spec.keys.len());
                    for expression in &self.spec.keys {
                        key.push(evaluator.value(expression, at)?);
                    }
                    // 1 and 1.0 are one group.
                    let whole = if single { whole_number(&key[0]) } else { None };
                    let known = match whole {
                        Some(whole) => numbered.get(&whole),
                        None => places.get(&key),
                    };
                    match known {
                        Some(place) => *place,
                        None => {
                            let place = groups.len();
                            new_bytes += own + key.iter().map(value_bytes).sum::<usize>();
                            groups.push(fresh(&self.spec));
                            keys.iter_mut().zip(&key).for_each(|(column, value)| column.push(value.clone()));
                            match whole {
                                Some(whole) => numbered.insert(whole, place),
                                None => places.insert(key, place),
                            };
                            place
                        }
                    }
                };
                if only_counts {
                    counts.resize(groups.len(), 0);
                    counts[place] += 1;
                    continue;
                }
                for (spec, accumulator) in self.spec.aggregates.iter().zip(&mut groups[place]) {
                    match &spec.argument {
                        None => accumulator.add_rows(weight(&batch, &spec.weights, row)),
                        Some(argument) => {
                            let value = evaluator.value(argument, at)?;
                            if spec.distinct || spec.function.keeps_values() {
                                new_bytes += value_bytes(&value) + 2 * size_of::<Value>();
                            }
                            let times = weight(&batch, &spec.weights, row);
                            accumulator.add_times(value, times).map_err(|e| located(e, argument.span))?;
                        }
                    }
                }
            }
            context.reserve(new_bytes)?;
        }
        for (group, rows) in groups.iter_mut().zip(counts) {
            group.iter_mut().for_each(|accumulator| accumulator.add_rows(rows));
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

/// The INT64 that a number equals.
fn whole_number(value: &Value) -> Option<i64> {
    match value {
        Value::Int(i) => Some(*i),
        Value::Float(f) if f.trunc() == *f && f.abs() <= 9_223_372_036_854_775_808.0 => {
            // Beyond the range a cast saturates, to a number that is another one.
            let whole = *f as i64;
            (Value::Int(whole) == *value).then_some(whole)
        }
        Value::Decimal(d) => d.to_whole(),
        _ => None,
    }
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
