//! MergeEnds: edges followed from many nodes at once, where only their ends are read later: a row an end, with how many rows
//! it stands for, added up in an array by node. Rows with an edge that the next step could take again stay apart.

use std::ops::Range;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use graphodrome_graph::{Dense, Value};
use graphodrome_language::Diagnostic;
use hashbrown::HashMap;

use crate::batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector};
use crate::budget::Held;
use crate::context::Context;
use crate::counters::Counters;
use crate::operators::FollowEdges;
use crate::operators::edges_by_value::{Asked, NodeHashes};
use crate::operators::follow_edges::{Conditions, conditions_of, follow};
use crate::operators::merge_rows::{Taken, elements};
use crate::operators::plain_edges::{Plain, Sink};
use crate::operators::share_out::other_threads;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};

/// Rows that are read before their edges are followed.
const ROWS_AT_ONCE: usize = 1 << 20;

/// Rows that a thread takes at a time.
const SLICE: usize = 256;

#[derive(Clone, Debug)]
pub(crate) struct MergeEnds {
    pub step: FollowEdges,
    /// Edges that the next step must not take again; slots are those of the rows that the step would make.
    pub taken: Vec<Taken>,
    /// The slot for how many rows a row stands for.
    pub weight: usize,
    /// The rows below stand for several already.
    pub weighed: bool,
    pub shown: String,
}

impl OperatorPlan for MergeEnds {
    fn name(&self) -> &'static str {
        "MergeEnds"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let own = self.step.details().into_iter();
        let by = ("by", format!("by {}", self.shown));
        let (pattern, rest): (Vec<_>, Vec<_>) = own.partition(|(key, _)| *key == "pattern");
        pattern.into_iter().chain([by]).chain(rest).collect()
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(MergeEndsRun {
            plan: self,
            input: inputs.remove(0),
            ends: vec![],
            width: 0,
            apart: vec![],
            held: vec![],
            began: None,
            next: None,
        })
    }
}

/// How often each node was come to.
type Arrivals = Vec<u64>;

/// Rows that stay apart: their place in the input, the edge and the node.
#[derive(Default)]
struct Apart {
    rows: Vec<u32>,
    edges: Vec<Dense>,
    nodes: Vec<Dense>,
}

/// An edge that the next step must not take again, in the rows that are read now.
#[derive(Default)]
struct TakenAgain<'b> {
    /// Where it is not known which edges they are: any may be one.
    unknown: bool,
    /// Those of the rows; `None` for the edge that is followed now.
    edges: Option<&'b [u32]>,
    at: Vec<&'b [u32]>,
    /// Also from the node that is come to.
    from_new: bool,
}

impl<'b> TakenAgain<'b> {
    fn of(taken: &Taken, batch: &'b Batch) -> TakenAgain<'b> {
        let width = batch.columns.len();
        let old = taken.at.iter().filter(|slot| **slot < width);
        let at: Option<Vec<&[u32]>> = old.map(|slot| elements(&batch.columns[*slot])).collect();
        let edges = batch.columns.get(taken.edge).map(elements);
        match (at, edges) {
            (None, _) | (_, Some(None)) => TakenAgain { unknown: true, ..TakenAgain::default() },
            (Some(at), edges) => TakenAgain {
                unknown: false,
                edges: edges.flatten(),
                at,
                from_new: taken.at.iter().any(|slot| *slot >= width),
            },
        }
    }

    #[inline]
    fn could_be(&self, row: usize, node: Dense) -> bool {
        let there = self.edges.is_none_or(|edges| edges[row] != NO_ELEMENT);
        self.unknown || there && (self.from_new || self.at.iter().any(|at| at[row] == node))
    }
}

/// Takes what is followed from a node for all rows at once that begin there.
struct Together<'a> {
    ends: &'a mut Arrivals,
    /// How many rows the rows stand for, and how many of them must not take an edge.
    weight: u64,
    without: HashMap<Dense, u64>,
}

impl Sink for Together<'_> {
    #[inline]
    fn push(&mut self, _: usize, edge: Dense, node: Dense) {
        let without = if self.without.is_empty() { 0 } else { self.without.get(&edge).copied().unwrap_or(0) };
        let known = &mut self.ends[node as usize];
        *known = known.saturating_add(self.weight - without);
    }
}

/// Takes what is followed from one row after the other.
struct Merging<'a> {
    ends: &'a mut Arrivals,
    apart: &'a mut Apart,
    taken: &'a [TakenAgain<'a>],
    /// How many rows the row that is read now stands for.
    weight: u64,
}

impl Sink for Merging<'_> {
    #[inline]
    fn push(&mut self, row: usize, edge: Dense, node: Dense) {
        if self.taken.iter().any(|taken| taken.could_be(row, node)) {
            self.apart.rows.push(row as u32);
            self.apart.edges.push(edge);
            self.apart.nodes.push(node);
            return;
        }
        let known = &mut self.ends[node as usize];
        *known = known.saturating_add(self.weight);
    }
}

/// What is the same for all rows of a batch.
struct Reading<'a> {
    plan: &'a MergeEnds,
    batch: &'a Batch,
    from: &'a [Dense],
    taken: Vec<TakenAgain<'a>>,
    /// Where rows that begin at one node are followed together.
    runs: Option<Runs>,
}

/// Rows by the node at which they begin.
struct Runs {
    order: Vec<u32>,
    /// Of the order, one a node.
    ranges: Vec<Range<u32>>,
    /// The step, which may take any edge.
    step: FollowEdges,
}

/// So many rows must begin where another one does.
const FEWEST_AGAIN: usize = 8;

impl<'a> Reading<'a> {
    fn of(plan: &'a MergeEnds, batch: &'a Batch, node_bound: usize) -> Option<Reading<'a>> {
        let from = elements(&batch.columns[plan.step.from])?;
        let taken = plan.taken.iter().map(|taken| TakenAgain::of(taken, batch)).collect();
        let mut reading = Reading { plan, batch, from, taken, runs: None };
        reading.runs = reading.in_runs(node_bound);
        Some(reading)
    }

    /// The rows by the node at which they begin, where many begin at one node and nothing but taken edges tells them apart.
    fn in_runs(&self, node_bound: usize) -> Option<Runs> {
        let mut slots = vec![];
        self.plan.step.conditions.iter().for_each(|c| c.slots(&mut slots));
        let different = &self.plan.step.edge.different_from;
        let known = |slot: &usize| matches!(self.batch.columns[*slot], Vector::Edges(_));
        let alike = slots.iter().all(|slot| *slot >= self.batch.columns.len());
        // Sorting them takes a look at every node.
        let few = self.batch.len < FEWEST_AGAIN.max(node_bound / 64);
        let one_by_one = few || !self.plan.taken.is_empty() || different.is_empty();
        if one_by_one || !alike || !different.iter().all(known) {
            return None;
        }
        // Where the rows of each node begin; what begins nowhere is left out.
        let place = |node: Dense| if node == NO_ELEMENT { None } else { Some(node as usize) };
        let mut next = vec![0u32; node_bound + 1];
        self.from.iter().filter_map(|node| place(*node)).for_each(|node| next[node + 1] += 1);
        (0..node_bound).for_each(|node| next[node + 1] += next[node]);
        let starts = next.clone();
        let mut order = vec![0u32; next[node_bound] as usize];
        for (row, node) in self.from.iter().enumerate() {
            if let Some(node) = place(*node) {
                order[next[node] as usize] = row as u32;
                next[node] += 1;
            }
        }
        let ranges = starts.windows(2).filter(|pair| pair[0] < pair[1]);
        let ranges: Vec<Range<u32>> = ranges.map(|pair| pair[0]..pair[1]).collect();
        if order.len() - ranges.len() < FEWEST_AGAIN {
            return None;
        }
        let mut step = self.plan.step.clone();
        step.edge.different_from = vec![];
        Some(Runs { order, ranges, step })
    }

    /// How many pieces there are to share out.
    fn len(&self) -> usize {
        self.runs.as_ref().map_or(self.batch.len, |runs| runs.ranges.len())
    }

    /// Follows the edges of some runs of rows, each run's once.
    fn read_runs(&self, numbers: Range<usize>, ends: &mut Arrivals, context: &mut Context) -> Outcome<()> {
        let Some(Runs { order, ranges, step }) = &self.runs else { return Ok(()) };
        let mut counters = Counters::default();
        let scope = context.scope.clone();
        let plain = Plain::of(step.asked(), &scope, self.batch);
        let conditions: Conditions<'_> = conditions_of(step, self.batch, &scope);
        let different = &self.plan.step.edge.different_from;
        let taken: Vec<&[u32]> =
            different.iter().filter_map(|slot| elements(&self.batch.columns[*slot])).collect();
        let mut alone = vec![];
        let mut sink = Together { ends, weight: 0, without: HashMap::new() };
        let mut entries = vec![];
        for range in &ranges[numbers] {
            let rows = &order[range.start as usize..range.end as usize];
            let (first, from) = (rows[0] as usize, self.from[rows[0] as usize]);
            sink.weight = rows.iter().fold(0u64, |all, row| all.saturating_add(self.weight(*row as usize)));
            // Of what is too many to count nothing can be taken away.
            if rows.len() == 1 || sink.weight == u64::MAX {
                alone.extend_from_slice(rows);
                continue;
            }
            sink.without.clear();
            for &row in rows {
                let edges = taken.iter().map(|edges| edges[row as usize]);
                for (place, edge) in edges.clone().enumerate() {
                    if edge != NO_ELEMENT && !edges.clone().take(place).any(|before| before == edge) {
                        *sink.without.entry(edge).or_default() += self.weight(row as usize);
                    }
                }
            }
            let looked = match &plain {
                Some(plain) if scope.untouched(from) => {
                    plain.follow((self.batch, first), from, &mut entries, &mut sink, &mut counters)?
                }
                _ => {
                    follow((step, &conditions), (self.batch, first), from, &mut sink, &scope, &mut counters)?
                }
            };
            counters.edges_looked += looked;
            context.work(looked + rows.len() as u64)?;
        }
        let total = context.counters();
        total.edges_looked += counters.edges_looked;
        total.properties_read += counters.properties_read;
        let rows = alone.into_iter().map(|row| row as usize);
        self.read_rows(rows, (sink.ends, &mut Apart::default()), context)
    }

    fn weight(&self, row: usize) -> u64 {
        match self.plan.weighed.then(|| self.batch.columns[self.plan.weight].get(row)) {
            Some(Value::Int(n)) => n as u64,
            _ => 1,
        }
    }

    /// Follows the edges of some rows.
    fn read(
        &self, rows: Range<usize>, (ends, apart): (&mut Arrivals, &mut Apart), context: &mut Context,
    ) -> Outcome<()> {
        match self.runs {
            Some(_) => self.read_runs(rows, ends, context),
            None => self.read_rows(rows, (ends, apart), context),
        }
    }

    /// Follows the edges of rows one by one.
    fn read_rows(
        &self, rows: impl Iterator<Item = usize>, (ends, apart): (&mut Arrivals, &mut Apart),
        context: &mut Context,
    ) -> Outcome<()> {
        let spec = &self.plan.step;
        let mut counters = Counters::default();
        let scope = context.scope.clone();
        let plain = Plain::of(spec.asked(), &scope, self.batch);
        let conditions: Conditions<'_> = conditions_of(spec, self.batch, &scope);
        let mut sink = Merging { ends, apart, taken: &self.taken, weight: 1 };
        let mut entries = vec![];
        let mut hashes = NodeHashes::of(spec.hashed, &spec.conditions, self.batch.columns.len());
        let operator = std::ptr::from_ref(spec) as usize;
        for row in rows {
            let from = self.from[row];
            if from == NO_ELEMENT {
                continue;
            }
            sink.weight = self.weight(row);
            let looked = match &plain {
                Some(plain) if scope.untouched(from) => {
                    let asked = Asked { operator, batch: self.batch, row, scope: &scope };
                    let at = (self.batch, row);
                    match hashes.find(&asked, from, plain, &mut counters)? {
                        Some(found) => plain.follow_some(at, from, found, &mut sink, &mut counters)?,
                        None => plain.follow(at, from, &mut entries, &mut sink, &mut counters)?,
                    }
                }
                _ => {
                    let at = (spec, &conditions);
                    follow(at, (self.batch, row), from, &mut sink, &scope, &mut counters)?
                }
            };
            counters.edges_looked += looked;
            context.work(looked + 1)?;
        }
        let total = context.counters();
        total.edges_looked += counters.edges_looked;
        total.properties_read += counters.properties_read;
        Ok(())
    }
}

struct MergeEndsRun {
    plan: Arc<MergeEnds>,
    input: Input,
    ends: Arrivals,
    /// Columns of the input.
    width: usize,
    /// Batches of rows that stay apart, in their order, with what they stand for.
    apart: Vec<Batch>,
    /// What the ends and the rows apart take.
    held: Vec<Held>,
    began: Option<Instant>,
    /// The node from which on ends are to be handed on, once all are there.
    next: Option<usize>,
}

/// What the threads of a round take turns with.
struct Shared<'a> {
    context: &'a mut Context,
    ends: Arrivals,
    apart: Vec<(usize, Apart)>,
    failure: Option<Diagnostic>,
}

impl MergeEndsRun {
    /// Reads the whole input.
    fn fill(&mut self, context: &mut Context) -> Outcome<()> {
        let bound = context.scope.node_bound() as usize;
        self.hold(bound * size_of::<u64>(), context)?;
        self.ends = vec![0; bound];
        let mut ended = false;
        while !ended {
            let (mut all, mut bytes) = (Batch::default(), 0);
            while all.len < ROWS_AT_ONCE {
                let Some(batch) = self.input.next(context)? else {
                    ended = true;
                    break;
                };
                context.hold(batch.bytes())?;
                bytes += batch.bytes();
                all.append(batch);
            }
            if all.len > 0 {
                self.round(&all, context)?;
            }
            context.release(bytes);
        }
        Ok(())
    }

    /// Follows the edges of these rows, on one thread or, where they take long, on all.
    fn round(&mut self, batch: &Batch, context: &mut Context) -> Outcome<()> {
        let plan = self.plan.clone();
        self.width = batch.columns.len();
        // Where there are no nodes nothing is followed.
        let Some(reading) = Reading::of(&plan, batch, self.ends.len()) else { return Ok(()) };
        if let Some(runs) = &reading.runs {
            self.hold(4 * runs.order.len() + 8 * runs.ranges.len(), context)?;
        }
        let slice = |number: usize| number * SLICE..reading.len().min((number + 1) * SLICE);
        let slices = reading.len().div_ceil(SLICE);
        let mut done = 0;
        let mut pool = None;
        while done < slices && pool.is_none() {
            let mut apart = Apart::default();
            reading.read(slice(done), (&mut self.ends, &mut apart), context)?;
            self.keep(apart, &reading, context)?;
            done += 1;
            let long = self.began.is_some_and(|began| began.elapsed() >= context.limits.spread_after);
            pool = if long && context.limits.brief.is_none() { other_threads() } else { None };
        }
        let Some(pool) = pool else { return Ok(()) };
        if done == slices {
            return Ok(());
        }
        let note = format!("ran on {} threads", pool.current_num_threads());
        let notes = &mut context.metrics().notes;
        if !notes.contains(&note) {
            notes.push(note);
        }
        let bytes = self.ends.len() * size_of::<u64>();
        let next = AtomicUsize::new(done);
        let ends = std::mem::take(&mut self.ends);
        let shared = Mutex::new(Shared { context, ends, apart: vec![], failure: None });
        let lock = || shared.lock().unwrap_or_else(PoisonError::into_inner);
        pool.broadcast(|_| {
            let mut own = lock().context.beside();
            let mut found: Vec<(usize, Apart)> = vec![];
            let mut read = || -> Outcome<Arrivals> {
                own.hold(bytes)?;
                let mut ends: Arrivals = vec![0; bytes / size_of::<u64>()];
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    if number >= slices {
                        return Ok(ends);
                    }
                    let mut apart = Apart::default();
                    reading.read(slice(number), (&mut ends, &mut apart), &mut own)?;
                    if !apart.rows.is_empty() {
                        found.push((number, apart));
                    }
                }
            };
            let read = read();
            let mut shared = lock();
            match read {
                Ok(ends) => {
                    for (all, more) in shared.ends.iter_mut().zip(&ends) {
                        *all = all.saturating_add(*more);
                    }
                    own.release(bytes);
                }
                Err(error) => {
                    next.store(slices, Ordering::Relaxed);
                    shared.failure.get_or_insert(error);
                }
            }
            shared.context.absorb(&mut own);
            shared.apart.append(&mut found);
        });
        let Shared { context, ends, mut apart, failure } =
            shared.into_inner().unwrap_or_else(PoisonError::into_inner);
        if let Some(failure) = failure {
            return Err(failure);
        }
        self.ends = ends;
        apart.sort_by_key(|(number, _)| *number);
        for (_, apart) in apart {
            self.keep(apart, &reading, context)?;
        }
        Ok(())
    }

    /// Keeps rows that stay apart.
    fn keep(&mut self, apart: Apart, reading: &Reading<'_>, context: &mut Context) -> Outcome<()> {
        if apart.rows.is_empty() {
            return Ok(());
        }
        let weights = apart.rows.iter().map(|row| reading.weight(*row as usize) as i64).collect();
        let mut out = reading.batch.gather(&apart.rows);
        out.columns.push(Vector::Edges(apart.edges));
        out.columns.push(Vector::Nodes(apart.nodes));
        out.columns[self.plan.weight] = Vector::ints(weights);
        self.hold(out.bytes(), context)?;
        self.apart.push(out);
        Ok(())
    }

    /// Accounts for memory until the operator ends, which is before its rows do where no more are wanted.
    fn hold(&mut self, bytes: usize, context: &mut Context) -> Outcome<()> {
        context.reserve(bytes)?;
        self.held.push(Held::of(&context.scope.budget, bytes));
        Ok(())
    }

    /// The next nodes that were come to.
    fn ends_from(&mut self, first: usize) -> Option<Batch> {
        let (mut nodes, mut weights) = (vec![], vec![]);
        let mut at = first;
        while nodes.len() < BATCH_ROWS && at < self.ends.len() {
            if self.ends[at] > 0 {
                nodes.push(at as Dense);
                weights.push(self.ends[at] as i64);
            }
            at += 1;
        }
        self.next = Some(at);
        let len = nodes.len();
        if len == 0 {
            return None;
        }
        let none = || vec![NO_ELEMENT; len];
        // What nobody reads is nothing.
        let mut columns: Vec<Vector> = (0..self.width).map(|_| Vector::Nodes(none())).collect();
        columns.push(Vector::Edges(none()));
        columns.push(Vector::Nodes(nodes));
        for taken in &self.plan.taken {
            columns[taken.edge] = Vector::Edges(none());
        }
        columns[self.plan.weight] = Vector::ints(weights);
        Some(Batch { len, columns })
    }
}

impl Operator for MergeEndsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if self.next.is_none() {
            self.began = Some(Instant::now());
            self.fill(context)?;
            self.apart.reverse();
            self.next = Some(0);
        }
        if let Some(batch) = self.apart.pop() {
            return Ok(Some(batch));
        }
        let first = self.next.unwrap_or_default();
        let batch = self.ends_from(first);
        let last = self.next.unwrap_or(first);
        context.work((last - first) as u64 / 64)?;
        if batch.is_none() {
            self.ends = vec![];
            self.held.clear();
        }
        Ok(batch)
    }
}
