//! ShareOut: runs the operators below it on several threads, each on slices of their input rows. Results are
//! emitted in the order of a single thread, and the work is the same, so neither depends on the number of threads.

use std::collections::{BTreeSet, VecDeque};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::Instant;

use graphodrome_language::Diagnostic;

use crate::batch::Batch;
use crate::context::Context;
use crate::outcome::Outcome;
use crate::plan::{Counting, Input, Operator, OperatorPlan, PlanNode, metered};

/// Rows of a slice: fewer where each is expected to cost much, a slice about so much.
const SLICE_ROWS: f64 = 128.0;
const FEWEST_ROWS: f64 = 4.0;
const SLICE_COST: f64 = 20_000.0;

/// Batches that a thread makes of a slice before it asks what is most urgent.
const TURN: usize = 16;

/// Batches that are made before those that are ready are taken.
const MOST_READY: usize = 32;

/// What a chain of operators must be expected to cost, so that it is worth it.
const LEAST_COST: f64 = 2_000.0;

/// Stack of a thread for queries: expressions may be deep.
const STACK_BYTES: usize = 16 << 20;

/// Threads for queries, apart from those that load and fold: a query must not wait behind a load.
pub(crate) fn threads() -> Option<&'static rayon::ThreadPool> {
    static POOL: OnceLock<Option<rayon::ThreadPool>> = OnceLock::new();
    let make = || {
        let count = std::thread::available_parallelism().map_or(1, |n| n.get());
        let named =
            rayon::ThreadPoolBuilder::new().stack_size(STACK_BYTES).thread_name(|i| format!("query-{i}"));
        // Without threads of its own a query runs on the caller's.
        if count > 1 { named.num_threads(count).build().ok() } else { None }
    };
    POOL.get_or_init(make).as_ref()
}

/// The same for an operator that would use them by itself: not from one of them, which may hold what the others wait for.
pub(super) fn other_threads() -> Option<&'static rayon::ThreadPool> {
    if rayon::current_thread_index().is_some() { None } else { threads() }
}

#[derive(Clone, Debug)]
pub(crate) struct ShareOut {
    /// How many operators below run side by side.
    depth: usize,
    /// Rows of a slice.
    slice: usize,
}

impl ShareOut {
    /// With one more operator on top of those that run side by side.
    pub fn with_one_more(self) -> ShareOut {
        ShareOut { depth: self.depth + 1, ..self }
    }

    /// For as many operators from `node` down as are worth running side by side.
    pub fn over(node: &PlanNode) -> Option<ShareOut> {
        let (mut depth, mut found, mut at) = (0, None, node);
        while let (true, [input]) = (at.plan.side_by_side(), &at.inputs[..]) {
            depth += 1;
            let own = node.estimate.cost - input.estimate.cost;
            let each = own / input.estimate.rows.max(1.0);
            let slice = (SLICE_COST / each.max(1.0)).clamp(FEWEST_ROWS, SLICE_ROWS).floor();
            // As far down as there are rows to share out.
            if own >= LEAST_COST && 2.0 * input.estimate.rows >= slice {
                found = Some(ShareOut { depth, slice: slice as usize });
            }
            at = input;
        }
        found
    }

    /// How many rows it hands on.
    pub fn rows(&self, node: &PlanNode) -> f64 {
        let below = || node.inputs[0].estimate.rows;
        match node.plan.counting() {
            None => node.estimate.rows,
            Some(Counting::Each) => below(),
            Some(Counting::Together) => (below() / self.slice as f64).ceil(),
        }
    }
}

impl OperatorPlan for ShareOut {
    fn name(&self) -> &'static str {
        "ShareOut"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let operators = if self.depth == 1 { "operator" } else { "operators" };
        vec![("method", format!("the {} {operators} below on several threads", self.depth))]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        // Opened without its plan it hands on what it gets.
        inputs.remove(0)
    }

    fn open_at(&self, node: &PlanNode) -> Option<Box<dyn Operator>> {
        let (mut chain, mut at) = (vec![], &node.inputs[0]);
        for _ in 0..self.depth {
            chain.push((at.id, at.plan.clone()));
            at = &at.inputs[0];
        }
        Some(Box::new(ShareOutRun {
            id: node.id,
            slice_rows: self.slice,
            lowest: chain[self.depth - 1].0,
            chain,
            source: at.open(),
            rest: None,
            ended: false,
            slices: 0,
            spread: false,
            active: VecDeque::new(),
            before: 0,
            waiting: BTreeSet::new(),
            failed: false,
            idle: vec![],
            began: None,
        }))
    }
}

/// What the lowest operator of a lane reads: one slice at a time.
#[derive(Clone, Default)]
struct Inlet(Arc<Mutex<Option<Batch>>>);

impl Inlet {
    fn put(&self, slice: Batch) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(slice);
    }
}

impl Operator for Inlet {
    fn next(&mut self, _: &mut Context) -> Outcome<Option<Batch>> {
        Ok(self.0.lock().unwrap_or_else(PoisonError::into_inner).take())
    }
}

/// The operators once.
struct Lane {
    inlet: Inlet,
    top: Box<dyn Operator>,
    /// Once it runs beside others.
    context: Option<Context>,
}

/// A slice that is worked on, and what came of it.
struct Slice {
    /// Where no thread has it now; `None` too once it is done.
    lane: Option<Lane>,
    ready: VecDeque<Outcome<Batch>>,
    done: bool,
}

struct ShareOutRun {
    id: usize,
    slice_rows: usize,
    /// The operator that reads the slices.
    lowest: usize,
    /// From the top down.
    chain: Vec<(usize, Arc<dyn OperatorPlan>)>,
    source: Box<dyn Operator>,
    /// Rows of the source from this one on are not sliced yet.
    rest: Option<(Batch, usize)>,
    ended: bool,
    slices: u64,
    /// Whether other threads help.
    spread: bool,
    /// In the order of their slices; the first one's number is `before`.
    active: VecDeque<Slice>,
    before: usize,
    /// Numbers of those that are begun, and no thread has.
    waiting: BTreeSet<usize>,
    /// One has failed: what comes after it is not wanted any more.
    failed: bool,
    idle: Vec<Lane>,
    began: Option<Instant>,
}

impl ShareOutRun {
    fn lane(&self) -> Lane {
        let inlet = Inlet::default();
        let mut top: Box<dyn Operator> = Box::new(inlet.clone());
        for (id, plan) in self.chain.iter().rev() {
            top = metered(*id, plan.clone().open(vec![top]));
        }
        Lane { inlet, top, context: None }
    }

    /// The next rows of the source.
    fn slice(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        while self.rest.is_none() && !self.ended {
            let caller = std::mem::replace(&mut context.current, self.lowest);
            let batch = self.source.next(context);
            context.current = caller;
            match batch? {
                Some(batch) => self.rest = Some((batch, 0)),
                None => self.ended = true,
            }
        }
        let Some((batch, from)) = self.rest.take() else { return Ok(None) };
        self.slices += 1;
        let end = batch.len.min(from + self.slice_rows);
        if from == 0 && end == batch.len {
            return Ok(Some(batch));
        }
        let rows: Vec<u32> = (from as u32..end as u32).collect();
        let slice = batch.gather(&rows);
        if end < batch.len {
            self.rest = Some((batch, end));
        }
        Ok(Some(slice))
    }

    /// The next batch while no other thread helps; `None` where the slice that was begun is done.
    fn alone(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(Slice { lane: Some(lane), .. }) = self.active.front_mut() else { return Ok(None) };
        let batch = lane.top.next(context)?;
        if batch.is_none() {
            self.waiting.remove(&self.before);
            let ended = self.pop();
            self.idle.extend(ended.and_then(|slice| slice.lane));
        }
        Ok(batch)
    }

    /// Takes the first slice away.
    fn pop(&mut self) -> Option<Slice> {
        let slice = self.active.pop_front()?;
        self.before += 1;
        Some(slice)
    }

    /// Takes away the first slices that are done and have given nothing.
    fn pop_empty(&mut self) {
        while self.active.front().is_some_and(|slice| slice.done && slice.ready.is_empty()) {
            self.pop();
        }
    }

    /// Begins the next slice; `false` where there is none.
    fn begin(&mut self, context: &mut Context) -> Outcome<bool> {
        let Some(rows) = self.slice(context)? else { return Ok(false) };
        let mut lane = self.idle.pop().unwrap_or_else(|| self.lane());
        lane.inlet.put(rows);
        match &mut lane.context {
            Some(own) => own.slice = self.slices,
            None => context.slice = self.slices,
        }
        self.active.push_back(Slice { lane: Some(lane), ready: VecDeque::new(), done: false });
        self.waiting.insert(self.before + self.active.len() - 1);
        Ok(true)
    }

    /// The slice that is to be worked on next, with its lane: the first that is not done and no thread has.
    fn urgent(&mut self, context: &mut Context) -> Outcome<Option<(usize, Lane)>> {
        if self.waiting.is_empty() && (self.failed || !self.begin(context)?) {
            return Ok(None);
        }
        let Some(place) = self.waiting.pop_first() else { return Ok(None) };
        let Some(mut lane) = self.active[place - self.before].lane.take() else { return Ok(None) };
        if lane.context.is_none() {
            let mut own = context.beside();
            own.slice = self.slices;
            lane.context = Some(own);
        }
        Ok(Some((place, lane)))
    }

    /// Lets every thread work until enough is ready, or all is done.
    fn round(&mut self, pool: &rayon::ThreadPool, context: &mut Context) -> Outcome<()> {
        let shared = Mutex::new(SharedInput { made: 0, failure: None, run: self, context });
        let lock = || shared.lock().unwrap_or_else(PoisonError::into_inner);
        pool.broadcast(|_| {
            loop {
                let taken = {
                    let mut shared = lock();
                    let SharedInput { made, failure, run, context } = &mut *shared;
                    if *made >= MOST_READY || failure.is_some() {
                        return;
                    }
                    match run.urgent(context) {
                        Ok(taken) => taken,
                        Err(error) => {
                            *failure = Some(error);
                            None
                        }
                    }
                };
                let Some((place, mut lane)) = taken else { return };
                let (mut ready, mut done) = (vec![], false);
                if let Some(own) = &mut lane.context {
                    while !done && ready.len() < TURN {
                        let made = lane.top.next(own);
                        match made.and_then(|batch| {
                            own.hold(batch.as_ref().map_or(0, Batch::bytes)).map(|()| batch)
                        }) {
                            Ok(Some(batch)) => ready.push(Ok(batch)),
                            Ok(None) => done = true,
                            Err(error) => {
                                ready.push(Err(error));
                                done = true;
                            }
                        }
                    }
                }
                let mut shared = lock();
                let SharedInput { made, failure: _, run, context } = &mut *shared;
                *made += ready.len();
                if let Some(own) = &mut lane.context {
                    context.absorb(own);
                }
                run.failed |= ready.iter().any(Result::is_err);
                let slice = &mut run.active[place - run.before];
                slice.ready.extend(ready);
                slice.done = done;
                if done {
                    run.idle.push(lane);
                    run.pop_empty();
                } else {
                    slice.lane = Some(lane);
                    run.waiting.insert(place);
                }
            }
        });
        let failure = shared.into_inner().unwrap_or_else(PoisonError::into_inner).failure;
        failure.map_or(Ok(()), Err)
    }
}

/// What the threads of a round take turns with.
struct SharedInput<'a> {
    /// Batches.
    made: usize,
    failure: Option<Diagnostic>,
    run: &'a mut ShareOutRun,
    context: &'a mut Context,
}

impl Operator for ShareOutRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let began = *self.began.get_or_insert_with(Instant::now);
        while !self.spread {
            let long = began.elapsed() >= context.limits.spread_after;
            let pool = if long && context.limits.brief.is_none() { threads() } else { None };
            if let Some(pool) = pool {
                self.spread = true;
                let note = format!("ran on {} threads", pool.current_num_threads());
                context.metrics[self.id].notes.push(note);
            } else if let Some(batch) = self.alone(context)? {
                return Ok(Some(batch));
            } else if !self.begin(context)? {
                return Ok(None);
            }
        }
        let Some(pool) = threads() else { return Ok(None) };
        loop {
            match self.active.front_mut() {
                Some(slice) => {
                    if let Some(ready) = slice.ready.pop_front() {
                        let batch = ready?;
                        context.release(batch.bytes());
                        return Ok(Some(batch));
                    }
                    if slice.done {
                        self.pop();
                        continue;
                    }
                }
                None if self.ended && self.rest.is_none() => return Ok(None),
                None => {}
            }
            context.check()?;
            self.round(pool, context)?;
        }
    }
}
