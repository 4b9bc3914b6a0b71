//! Group: one row per distinct key with its aggregates; without keys, one row in any case.

use std::sync::Arc;

use graphodrome_graph::{Code, Value};
use graphodrome_language::ast::Aggregate;
use graphodrome_language::{Diagnostic, Span};
use hashbrown::HashSet;

use crate::batch::{Batch, Vector, value_bytes};
use crate::columnar::{self};
use crate::context::Context;
use crate::counters::Counters;
use crate::evaluate::Evaluator;
use crate::expression::{Expr, Kind};
use crate::numbers::{Cells, Numbers};
use crate::operators::Accumulator;
use crate::operators::group_keys::Groups;
use crate::operators::group_totals::{GroupPlaces, Totals};
use crate::outcome::{Outcome, located};
use crate::row::Row;

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
    /// The operator that makes the groups of parts of the rows, where one does.
    pub parts: Option<usize>,
}

impl Group {
    /// Whether groups of parts of the rows can be put together to those of all rows.
    pub fn is_of_parts(&self) -> bool {
        self.aggregates.iter().all(|a| Accumulator::is_of_parts(a.function, a.distinct))
    }
}

/// Groups that are being made.
pub(super) struct Grouping {
    pub spec: Arc<Group>,
    shares: Vec<Option<f64>>,
    node_bound: u32,
    /// Slots that together say how many rows a row stands for, where it is not one.
    weighed: Option<Vec<usize>>,
    /// First come, first out, each key as it came first.
    pub keys: Vec<Vector>,
    pub groups: Vec<Vec<Accumulator>>,
    totals: Vec<Totals>,
    /// Of aggregates over distinct values: which value each group has had.
    firsts: Vec<Option<Firsts>>,
    pub known: Option<Groups>,
    /// Bytes of the totals that are accounted for.
    held: usize,
    /// The slice of the rows in which each group came first, where the rows are shared out.
    pub slices: Vec<u64>,
    slice: u64,
}

impl Grouping {
    pub fn new(spec: Arc<Group>, context: &mut Context) -> Outcome<Grouping> {
        let mut shares = vec![];
        for aggregate in &spec.aggregates {
            shares.push(match &aggregate.share {
                None => None,
                Some(share) => Some(percentile_share(share, context)?),
            });
        }
        let weighed = spec.aggregates.iter().map(|a| &a.weights).max_by_key(|w| w.len());
        let mut grouping = Grouping {
            shares,
            node_bound: context.scope.node_bound(),
            weighed: weighed.filter(|weights| !weights.is_empty()).cloned(),
            keys: spec.key_vectors.clone(),
            groups: vec![],
            totals: spec.aggregates.iter().map(|_| Totals::default()).collect(),
            firsts: spec.aggregates.iter().map(|_| None).collect(),
            known: None,
            held: 0,
            slices: vec![],
            slice: context.slice,
            spec,
        };
        if grouping.spec.keys.is_empty() {
            grouping.begin_group();
        }
        Ok(grouping)
    }

    fn begin_group(&mut self) {
        self.groups.push(vec![]);
        self.slices.push(self.slice);
    }

    fn fresh(&self, place: usize) -> Accumulator {
        let spec = &self.spec.aggregates[place];
        Accumulator::new(spec.function, spec.distinct, self.node_bound).with_share(self.shares[place])
    }

    /// What was read once a node: for the keys, and for each aggregate over distinct values.
    pub fn read_once(&self) -> Vec<Option<&Groups>> {
        let firsts = self.firsts.iter().map(|firsts| firsts.as_ref().map(|firsts| &firsts.codes));
        std::iter::once(self.known.as_ref()).chain(firsts).collect()
    }

    /// The accumulators of a group, which has none as long as all it has is in arrays.
    pub fn accumulators(&mut self, group: usize) -> &mut [Accumulator] {
        if self.groups[group].is_empty() {
            self.groups[group] = (0..self.spec.aggregates.len()).map(|place| self.fresh(place)).collect();
        }
        &mut self.groups[group]
    }

    /// Adds what another grouping has in arrays; `places` has its groups as they are called here. What cannot be added so is
    /// left to its accumulators.
    pub fn absorb_totals(&mut self, other: &mut Grouping, places: &[u32]) {
        let groups = self.groups.len();
        for (own, totals) in self.totals.iter_mut().zip(&mut other.totals) {
            if own.absorb(totals, places, groups) {
                *totals = Totals::default();
            }
        }
    }

    pub fn add(&mut self, batch: &Batch, context: &mut Context) -> Outcome<()> {
        let spec = self.spec.clone();
        self.slice = context.slice;
        if spec.keys.is_empty() && count_columns(&spec, batch, self.accumulators(0)) {
            return match spec.aggregates.iter().any(|a| a.distinct) {
                true => context.reserve(4 * batch.len),
                false => Ok(()),
            };
        }
        let all = 0..batch.len as u32;
        let rows: Vec<u32> = match &self.weighed {
            None => all.collect(),
            // A row that stands for no row is in no group.
            Some(slots) => {
                let rows: Vec<u32> = all.collect();
                let weights = weights_of(batch, slots, &rows);
                rows.into_iter().zip(weights).filter(|(_, weight)| *weight > 0).map(|(row, _)| row).collect()
            }
        };
        let counters = &mut context.metrics[context.current].counters;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        let mut new_bytes = 0;
        let places = self.places(batch, &rows, &mut evaluator, &mut new_bytes)?;
        for (place, aggregate) in spec.aggregates.iter().enumerate() {
            let times: Option<Vec<usize>> =
                (!aggregate.weights.is_empty()).then(|| weights_of(batch, &aggregate.weights, &rows));
            let at = GroupPlaces { rows: &rows, groups: &places, times: times.as_deref() };
            self.aggregate((place, aggregate), batch, at, &mut evaluator, &mut new_bytes)?;
        }
        let total: usize = self.totals.iter().map(Totals::bytes).sum();
        new_bytes += total.saturating_sub(self.held);
        self.held = self.held.max(total);
        context.reserve(new_bytes)
    }

    /// The groups of rows that bring nothing but their keys.
    pub fn places_of(&mut self, batch: &Batch, rows: &[u32], context: &mut Context) -> Outcome<Vec<u32>> {
        let counters = &mut context.metrics[context.current].counters;
        let mut evaluator = Evaluator { scope: &context.scope, counters };
        let mut new_bytes = 0;
        let places = self.places(batch, rows, &mut evaluator, &mut new_bytes)?;
        context.reserve(new_bytes)?;
        Ok(places)
    }

    /// The groups of rows; new ones are begun in the order in which they come.
    fn places(
        &mut self, batch: &Batch, rows: &[u32], evaluator: &mut Evaluator<'_>, new_bytes: &mut usize,
    ) -> Outcome<Vec<u32>> {
        let spec = self.spec.clone();
        if spec.keys.is_empty() {
            return Ok(vec![0; rows.len()]);
        }
        let (known_nodes, bound) = (evaluator.scope.known_nodes, self.node_bound);
        let known = self.known.get_or_insert_with(|| Groups::new(&spec.keys, batch, known_nodes, bound));
        let places = known.of(&spec.keys, batch, rows, evaluator)?;
        *new_bytes += known.new_bytes();
        for (row, place) in rows.iter().zip(&places) {
            if *place as usize == self.groups.len() {
                let at = Row { batch, row: *row as usize, locals: &[] };
                // The group was found by them: what is read was counted there.
                let mut counted = Counters::default();
                let mut again = Evaluator { scope: evaluator.scope, counters: &mut counted };
                for (column, expression) in self.keys.iter_mut().zip(&spec.keys) {
                    let value = again.value(expression, at)?;
                    *new_bytes += value_bytes(&value);
                    column.push(value);
                }
                self.begin_group();
                *new_bytes += 96 + size_of::<Accumulator>() * spec.aggregates.len();
            }
        }
        Ok(places)
    }

    /// Adds what the rows have to an aggregate: the whole column at once where it is of one type.
    fn aggregate(
        &mut self, (place, spec): (usize, &AggregateSpec), batch: &Batch, at: GroupPlaces<'_>,
        evaluator: &mut Evaluator<'_>, new_bytes: &mut usize,
    ) -> Outcome<()> {
        let totals = &mut self.totals[place];
        let Some(argument) = &spec.argument else {
            totals.count(at, self.groups.len());
            return Ok(());
        };
        if !spec.distinct
            && let Some(found) = columnar::column(argument, batch, evaluator.scope)
            && totals.add(spec.function, &found.numbers, at, self.groups.len())
        {
            evaluator.counters.properties_read += found.reads;
            return Ok(());
        }
        if let (true, Aggregate::Count, Some(nodes)) =
            (spec.distinct, spec.function, nodes_of(argument, batch))
        {
            for (row, group) in at.rows.iter().zip(at.groups) {
                let accumulator = &mut self.accumulators(*group as usize)[place];
                *new_bytes += accumulator.count_nodes(&nodes[*row as usize..=*row as usize]);
            }
            return Ok(());
        }
        if spec.distinct {
            let (known_nodes, bound) = (evaluator.scope.known_nodes, self.node_bound);
            let new = || Firsts::new(argument, batch, known_nodes, bound);
            let firsts = self.firsts[place].get_or_insert_with(new);
            let found = firsts.of(argument, batch, at, evaluator)?;
            *new_bytes += firsts.new_bytes(found.len());
            // What is read was counted when its code was found.
            let mut counted = Counters::default();
            let mut again = Evaluator { scope: evaluator.scope, counters: &mut counted };
            for (row, group) in found {
                let value = again.value(argument, Row { batch, row: row as usize, locals: &[] })?;
                *new_bytes += value_bytes(&value) + 2 * size_of::<Value>();
                let accumulator = &mut self.accumulators(group as usize)[place];
                accumulator.add_times(value, 1).map_err(|e| located(e, argument.span))?;
            }
            return Ok(());
        }
        for (i, (row, group)) in at.rows.iter().zip(at.groups).enumerate() {
            let row = Row { batch, row: *row as usize, locals: &[] };
            let value = evaluator.value(argument, row)?;
            if spec.function.keeps_values() {
                *new_bytes += value_bytes(&value) + 2 * size_of::<Value>();
            }
            let times = at.times.map_or(1, |times| times[i]);
            let accumulator = &mut self.accumulators(*group as usize)[place];
            accumulator.add_times(value, times).map_err(|e| located(e, argument.span))?;
        }
        Ok(())
    }

    /// Puts what is in arrays into the accumulators.
    pub fn settle(&mut self) -> Outcome<()> {
        for place in 0..self.spec.aggregates.len() {
            let mut totals = std::mem::take(&mut self.totals[place]);
            if totals.is_empty() {
                continue;
            }
            totals.arrange(self.groups.len());
            let at = self.place_of(place);
            for group in 0..self.groups.len() {
                totals.put(group, &mut self.accumulators(group)[place]).map_err(|e| located(e, at))?;
            }
        }
        Ok(())
    }

    fn place_of(&self, aggregate: usize) -> Span {
        self.spec.aggregates[aggregate].argument.as_ref().map(|argument| argument.span).unwrap_or_default()
    }

    pub fn finish(mut self) -> Outcome<Batch> {
        let len = self.groups.len();
        self.totals.iter_mut().for_each(|totals| totals.arrange(len));
        let mut results: Vec<Vec<Value>> =
            self.spec.aggregates.iter().map(|_| Vec::with_capacity(len)).collect();
        for group in 0..len {
            let mut accumulators = std::mem::take(&mut self.groups[group]).into_iter();
            for (place, column) in results.iter_mut().enumerate() {
                let mut accumulator = accumulators.next().unwrap_or_else(|| self.fresh(place));
                let at = self.place_of(place);
                self.totals[place].put(group, &mut accumulator).map_err(|e| located(e, at))?;
                column.push(accumulator.finish().map_err(|e| located(e, at))?);
            }
        }
        let mut columns = self.keys;
        columns.extend(results.into_iter().map(Vector::of_values));
        Ok(Batch { len, columns })
    }
}

/// Which values groups have had, by codes: what comes again is neither made nor added again.
struct Firsts {
    codes: Groups,
    seen: HashSet<(u32, u32)>,
}

impl Firsts {
    fn new(argument: &Expr, batch: &Batch, known_nodes: bool, node_bound: u32) -> Firsts {
        let codes = Groups::new(std::slice::from_ref(argument), batch, known_nodes, node_bound);
        Firsts { codes: codes.told_apart_as_written(), seen: HashSet::new() }
    }

    /// The rows whose value is the first of its kind in their group, with the groups.
    fn of(
        &mut self, argument: &Expr, batch: &Batch, at: GroupPlaces<'_>, evaluator: &mut Evaluator<'_>,
    ) -> Outcome<Vec<(u32, u32)>> {
        let codes = self.codes.of(std::slice::from_ref(argument), batch, at.rows, evaluator)?;
        let rows = at.rows.iter().zip(at.groups).zip(codes);
        Ok(rows
            .filter(|((_, group), code)| self.seen.insert((**group, *code)))
            .map(|((row, group), _)| (*row, *group))
            .collect())
    }

    fn new_bytes(&mut self, found: usize) -> usize {
        self.codes.new_bytes() + found * 16
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

/// How many rows each of the rows stands for.
fn weights_of(batch: &Batch, slots: &[usize], rows: &[u32]) -> Vec<usize> {
    let mut weights = vec![1usize; rows.len()];
    for slot in slots {
        match &batch.columns[*slot] {
            Vector::Numbers(Numbers { cells: Cells::Ints(ints), nulls }) if nulls.is_empty() => {
                for (weight, row) in weights.iter_mut().zip(rows) {
                    *weight = weight.saturating_mul(ints[*row as usize] as usize);
                }
            }
            _ => {
                for (known, row) in weights.iter_mut().zip(rows) {
                    *known = known.saturating_mul(weight(batch, &[*slot], *row as usize));
                }
            }
        }
    }
    weights
}

/// The column of nodes that an expression is.
fn nodes_of<'b>(argument: &Expr, batch: &'b Batch) -> Option<&'b [u32]> {
    let Kind::Slot(slot) = argument.kind else { return None };
    match batch.columns.get(slot) {
        Some(Vector::Nodes(nodes)) => Some(nodes),
        _ => None,
    }
}

/// Where every aggregate counts rows or nodes: the whole batch at once. `false` where it cannot be.
fn count_columns(spec: &Group, batch: &Batch, accumulators: &mut [Accumulator]) -> bool {
    let countable = |a: &AggregateSpec| {
        let as_nodes = |e: &Expr| nodes_of(e, batch).is_some() && a.weights.is_empty();
        a.function == Aggregate::Count && a.argument.as_ref().is_none_or(as_nodes)
    };
    // Where some are weighed a row may stand for none, which the others must not count.
    let weighed = spec.aggregates.iter().filter(|a| !a.weights.is_empty()).count();
    let alike = weighed == 0 || weighed == spec.aggregates.len();
    if !alike || !spec.aggregates.iter().all(countable) {
        return false;
    }
    for (aggregate, accumulator) in spec.aggregates.iter().zip(accumulators) {
        match aggregate.argument.as_ref().and_then(|argument| nodes_of(argument, batch)) {
            Some(nodes) => {
                accumulator.count_nodes(nodes);
            }
            None if aggregate.weights.is_empty() => accumulator.add_rows(batch.len),
            None => {
                (0..batch.len).for_each(|row| accumulator.add_rows(weight(batch, &aggregate.weights, row)))
            }
        }
    }
    true
}
