//! MergeRows: rows that agree in all that is read of them later become one, with how many it stands for.

use std::sync::Arc;

use graphodrome_graph::{Direction, Value};
use hashbrown::HashMap;

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::context::Context;
use crate::operators::EdgeCheck;
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};
use crate::search::NodeNumbers;

/// After so many rows it is looked at whether merging is worth it.
const LOOK_AFTER: usize = 1 << 16;
/// It is where no more than this share of the rows stay.
const WORTH: f64 = 0.75;

/// So many rows are merged before those that stay go on.
const MOST_KEPT: usize = 1 << 18;

/// More columns than that tell too many rows apart.
pub(crate) const MOST_COLUMNS: usize = 4;

/// An edge that the next step must not take again, with the nodes from which it could: where the step begins at
/// another one the edge does not matter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Taken {
    pub edge: usize,
    pub at: Vec<usize>,
}

impl Taken {
    /// The edge that `before` has bound in slot `edge`, for a step of this direction.
    pub fn by(before: &EdgeCheck, (from, edge): (usize, usize), direction: Direction) -> Taken {
        let new = edge + 1;
        let known = before.direction;
        let (sources, targets) = match (known.takes_out(), known.takes_in(), known.takes_undirected()) {
            (true, false, false) => (vec![from], vec![new]),
            (false, true, false) => (vec![new], vec![from]),
            _ => (vec![from, new], vec![from, new]),
        };
        let mut at = vec![];
        if direction.takes_out() {
            at.extend(sources);
        }
        if direction.takes_in() {
            at.extend(targets);
        }
        if direction.takes_undirected() && known.takes_undirected() {
            at.extend([from, new]);
        }
        at.sort_unstable();
        at.dedup();
        Taken { edge, at }
    }

    pub fn slots(&self) -> impl Iterator<Item = usize> + '_ {
        self.at.iter().copied().chain([self.edge])
    }
}

/// Columns of a taken edge, and of the nodes from which it could be taken again.
pub(crate) struct TakenColumns<'b> {
    edges: &'b [u32],
    at: Vec<&'b [u32]>,
}

impl<'b> TakenColumns<'b> {
    /// `None` where they are no columns of elements.
    pub fn of(taken: &[Taken], batch: &'b Batch) -> Option<Vec<TakenColumns<'b>>> {
        let of = |slot: usize| elements(&batch.columns[slot]);
        taken
            .iter()
            .map(|t| {
                Some(TakenColumns {
                    edges: of(t.edge)?,
                    at: t.at.iter().map(|s| of(*s)).collect::<Option<_>>()?,
                })
            })
            .collect()
    }

    /// The row's edge.
    pub fn edge(&self, row: usize) -> u32 {
        self.edges[row]
    }

    /// Whether a step that begins at `node` could take the row's edge again.
    #[inline]
    pub fn could_be(&self, node: u32, row: usize) -> bool {
        self.edges[row] != NO_ELEMENT && self.at.iter().any(|at| at[row] == node)
    }
}

#[derive(Clone, Debug)]
pub(crate) struct MergeRows {
    /// Slots of nodes that are read later.
    pub kept: Vec<usize>,
    /// Slot of the node that the next step begins at.
    pub from: usize,
    pub taken: Vec<Taken>,
    /// The slot for how many rows a row stands for, of a column that nobody reads any more.
    pub weight: usize,
    /// The rows below stand for several already.
    pub weighed: bool,
    pub shown: String,
}

impl OperatorPlan for MergeRows {
    fn name(&self) -> &'static str {
        "MergeRows"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![("by", self.shown.clone())]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(MergeRowsRun {
            plan: self,
            input: inputs.remove(0),
            kept: KeptRows::default(),
            ready: vec![],
            looked: 0,
            stays: 0,
            plain: false,
            ended: false,
        })
    }
}

/// The rows that stay, in the order in which they came first, and what each stands for.
#[derive(Default)]
struct KeptRows {
    batches: Vec<Batch>,
    weights: Vec<u64>,
    nodes: Option<NodeNumbers>,
    /// Of rows by a node: which row is that of the node's number.
    places: Vec<usize>,
    several: HashMap<u128, usize>,
    bytes: usize,
}

struct MergeRowsRun {
    plan: Arc<MergeRows>,
    input: Input,
    kept: KeptRows,
    /// Batches that go on, the next one last.
    ready: Vec<Batch>,
    looked: usize,
    stays: usize,
    /// Too few rows agree: they go on as they are.
    plain: bool,
    ended: bool,
}

pub(super) fn elements(column: &Vector) -> Option<&[u32]> {
    match column {
        Vector::Nodes(elements) | Vector::Edges(elements) => Some(elements),
        Vector::Values(_) | Vector::Numbers(_) => None,
    }
}

impl MergeRowsRun {
    /// How many rows a row stood for before.
    fn weight(&self, batch: &Batch, row: usize) -> u64 {
        match self.plan.weighed.then(|| batch.columns[self.plan.weight].get(row)) {
            Some(Value::Int(n)) => n as u64,
            _ => 1,
        }
    }

    /// The batch with these weights.
    fn weighed(&self, mut batch: Batch, weights: &[u64]) -> Batch {
        let column = weights.iter().map(|n| *n as i64).collect();
        batch.columns[self.plan.weight] = Vector::ints(column);
        batch
    }

    fn merge(&mut self, batch: Batch, context: &mut Context) -> Outcome<()> {
        let plan = self.plan.clone();
        let columns: Option<Vec<&[u32]>> = plan.kept.iter().map(|s| elements(&batch.columns[*s])).collect();
        let from = elements(&batch.columns[plan.from]);
        let taken = TakenColumns::of(&plan.taken, &batch);
        let (Some(columns), Some(from), Some(taken)) = (columns, from, taken) else {
            let weights: Vec<u64> = (0..batch.len).map(|row| self.weight(&batch, row)).collect();
            let out = self.weighed(batch, &weights);
            self.flush(context);
            self.ready.insert(0, out);
            return Ok(());
        };
        let mut new: Vec<u32> = vec![];
        let mut apart: Vec<usize> = vec![];
        for row in 0..batch.len {
            let weight = self.weight(&batch, row);
            let next = self.kept.weights.len();
            let could_be_taken = taken.iter().any(|taken| taken.could_be(from[row], row));
            let place = match (&columns[..], could_be_taken) {
                (_, true) => {
                    apart.push(new.len());
                    next
                }
                ([nodes], false) if nodes[row] != NO_ELEMENT => {
                    let bound = context.scope.node_bound();
                    let numbers = self.kept.nodes.get_or_insert_with(|| NodeNumbers::new(bound));
                    let (number, is_new) = numbers.number(nodes[row]);
                    if is_new {
                        self.kept.places.push(next);
                    }
                    self.kept.places[number as usize]
                }
                (columns, false) => {
                    let key = columns.iter().fold(0u128, |key, column| key << 32 | u128::from(column[row]));
                    *self.kept.several.entry(key).or_insert(next)
                }
            };
            if place == next {
                new.push(row as u32);
                self.kept.weights.push(weight);
            } else {
                let known = &mut self.kept.weights[place];
                *known = known.saturating_add(weight);
            }
        }
        self.looked += batch.len;
        self.stays += new.len();
        context.work(batch.len as u64)?;
        if !new.is_empty() {
            let mut out = batch.gather(&new);
            // An edge that the next step could not take anyway is forgotten.
            for taken in &plan.taken {
                if let Vector::Edges(edges) = &mut out.columns[taken.edge] {
                    let mut rows_apart = apart.iter().peekable();
                    for (row, edge) in edges.iter_mut().enumerate() {
                        if rows_apart.next_if(|apart| **apart == row).is_none() {
                            *edge = NO_ELEMENT;
                        }
                    }
                }
            }
            let bytes = new.len() * (out.columns.len() * 8 + 48);
            context.reserve(bytes)?;
            self.kept.bytes += bytes;
            self.kept.batches.push(out);
        }
        if self.kept.weights.len() >= MOST_KEPT {
            self.flush(context);
        }
        if self.looked >= LOOK_AFTER && !self.plain && self.stays as f64 > WORTH * self.looked as f64 {
            self.plain = true;
            self.flush(context);
        }
        Ok(())
    }

    /// Lets the rows that stay go on.
    fn flush(&mut self, context: &mut Context) {
        let kept = std::mem::take(&mut self.kept);
        context.release(kept.bytes);
        let mut first = 0;
        let mut out = vec![];
        for batch in kept.batches {
            let weights = &kept.weights[first..first + batch.len];
            first += batch.len;
            out.push(self.weighed(batch, weights));
        }
        out.reverse();
        out.append(&mut self.ready);
        // What was ready before comes before.
        self.ready = out;
    }
}

impl Operator for MergeRowsRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        loop {
            if let Some(batch) = self.ready.pop() {
                return Ok(Some(batch));
            }
            if self.ended {
                return Ok(None);
            }
            let Some(batch) = self.input.next(context)? else {
                self.ended = true;
                self.flush(context);
                continue;
            };
            if self.plain {
                let weights: Vec<u64> = (0..batch.len).map(|row| self.weight(&batch, row)).collect();
                return Ok(Some(self.weighed(batch, &weights)));
            }
            self.merge(batch, context)?;
        }
    }
}

/// The columns of edges in these slots.
pub(super) fn taken_columns<'b>(slots: &[usize], batch: &'b Batch) -> Vec<&'b [u32]> {
    let edges = |slot: &usize| match &batch.columns[*slot] {
        Vector::Edges(edges) => Some(&edges[..]),
        _ => None,
    };
    slots.iter().filter_map(edges).collect()
}
