//! Path search. A quantified part of a pattern becomes a [`Program`] (an automaton over nodes and edges); a single
//! repeated edge also becomes a [`Step`], for which there are breadth-first searches with plain visited sets.

mod arc_rows;
mod asked;
mod between;
mod both_ends;
mod breadth;
mod caps;
mod closing;
mod cost;
mod cursor;
mod deviations;
mod enumerate;
mod extents;
mod folding;
mod guide;
mod guided;
mod hop_table;
mod in_order;
mod least_sums;
mod measure;
mod product;
mod program;
mod queue;
mod spread;
mod step;
mod sums;
mod towards;
mod visited;
mod weighted;
mod within;

pub(crate) use asked::PathSource;
pub(crate) use asked::{FoundPath, GuidedSearch, Quota, SumBound};
pub(crate) use between::{Between, count_between, may_be_counted};
pub(crate) use both_ends::meet_in_the_middle;
pub(crate) use breadth::{cycle_exists, goes_both_ways, reach};
pub(crate) use caps::{Caps, Places};
pub(crate) use cursor::Cursor;
pub(crate) use enumerate::{EndGuide, Enumerator};
pub(crate) use extents::extent;
pub(crate) use folding::{Folded, fold_paths, too_many};
pub(crate) use in_order::{EndsInOrder, ends_in_order, may_go_in_order};
pub(crate) use measure::{EdgeWeight, Hops};
pub(crate) use product::{Weight, product_search};
pub(crate) use program::{Event, Mark, OutputKind, OutputVariable, Program, State, alike};
pub(crate) use spread::Spread;
pub(crate) use step::Step;
pub(crate) use sums::{Fold, Folds, Inner, Outer};
pub(crate) use visited::{NodeNumbers, NodeSet};
pub(crate) use weighted::paths_from;
pub(crate) use within::closes_alike;

use std::sync::Arc;

use graphodrome_graph::{Direction, NodeTest, Value};
use graphodrome_language::ast::PathMode;

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::outcome::Outcome;
use crate::row::Row;

/// What SearchPaths, Reach and ShortestPaths have in common.
#[derive(Clone, Debug)]
pub(crate) struct SearchSpec {
    pub pattern: String,
    /// Slot of the node it begins at.
    pub from: usize,
    /// Slot of the node it must end at, where that is bound.
    pub to: Option<usize>,
    pub program: Arc<Program>,
    /// The same search as one repeated edge, where it is that.
    pub step: Option<Arc<Step>>,
    pub min: u32,
    pub max: Option<u32>,
    /// The pattern is walked from its right end to its left.
    pub reversed: bool,
    pub target: NodeTest,
    /// Slots of nodes that the end must not be.
    pub differs_from: Vec<usize>,
    /// On the input row with the end node in the next slot.
    pub target_conditions: Vec<Expr>,
    pub mode: PathMode,
    /// No edge comes twice, whatever the mode says of nodes.
    pub trails: bool,
    /// Slots of edges bound in the same MATCH that may not come again.
    pub different_from: Vec<usize>,
    pub outputs: Vec<OutputVariable>,
}

/// Takes `node` out of a list that has it at most once.
pub(crate) fn remove(nodes: &mut Vec<u32>, node: u32) {
    if let Some(place) = nodes.iter().position(|&known| known == node) {
        nodes.remove(place);
    }
}

impl SearchSpec {
    /// Whether `node` may be the end of a path of this row.
    pub fn is_target(&self, node: u32, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let Cursor { batch, row, context } = cursor;
        let (batch, row) = (*batch, *row);
        if !context.scope.node_passes(node, &self.target) || self.is_excluded(node, batch, row) {
            return Ok(false);
        }
        let locals = [Value::Node(node)];
        let at = Row { batch, row, locals: &locals };
        for condition in &self.target_conditions {
            let counters = &mut context.metrics[context.current].counters;
            if !holds(condition, at, &context.scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn is_excluded(&self, node: u32, batch: &Batch, row: usize) -> bool {
        // Whether a node differs from null is unknown, which is as good as no.
        self.differs_from.iter().any(|&slot| match &batch.columns[slot] {
            Vector::Nodes(others) => others[row] == node || others[row] == crate::NO_ELEMENT,
            _ => false,
        })
    }

    /// Those of `ends`, all different, that may be the end of a path of this row.
    pub fn keep_targets(&self, ends: &mut Vec<u32>, cursor: &mut Cursor<'_>) -> Outcome<()> {
        let (batch, row) = (cursor.batch, cursor.row);
        if self.target_conditions.is_empty() && cursor.context.scope.all_pass(&self.target) {
            for &slot in &self.differs_from {
                match &batch.columns[slot] {
                    Vector::Nodes(others) if others[row] == crate::NO_ELEMENT => ends.clear(),
                    Vector::Nodes(others) => remove(ends, others[row]),
                    _ => {}
                }
            }
            return Ok(());
        }
        let mut failure = None;
        ends.retain(|&end| match self.is_target(end, cursor) {
            _ if failure.is_some() => false,
            Ok(kept) => kept,
            Err(error) => {
                failure = Some(error);
                false
            }
        });
        failure.map_or(Ok(()), Err)
    }

    /// The direction in which the search goes along edges.
    pub fn direction(&self, step: &Step) -> Direction {
        if self.reversed { step.direction.reversed() } else { step.direction }
    }

    /// The bound end of the row, if the pattern has one; `Err(())` where it is null.
    pub fn bound_end(&self, batch: &Batch, row: usize) -> Result<Option<u32>, ()> {
        match self.to.map(|slot| batch.columns[slot].get(row)) {
            None => Ok(None),
            Some(Value::Node(n)) => Ok(Some(n)),
            Some(_) => Err(()),
        }
    }

    pub fn start(&self, batch: &Batch, row: usize) -> Option<u32> {
        match &batch.columns[self.from] {
            Vector::Nodes(nodes) if nodes[row] != crate::NO_ELEMENT => Some(nodes[row]),
            _ => None,
        }
    }
}

/// Long paths go on in smaller batches.
const BATCH_ELEMENTS: usize = 1 << 19;

/// Collects the rows of a search: the input row, the end (where it was not bound), the path and the
/// variables.
pub(crate) struct Rows {
    pub rows: Vec<u32>,
    pub ends: Vec<u32>,
    pub paths: Vec<Value>,
    pub variables: Vec<Vec<Value>>,
    /// How many elements the paths have together.
    pub elements: usize,
}

impl Rows {
    pub fn new(outputs: usize) -> Rows {
        Rows { rows: vec![], ends: vec![], paths: vec![], variables: vec![vec![]; outputs], elements: 0 }
    }

    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// A path of which only the number of its edges is wanted.
    pub fn push_length(&mut self, row: usize, end: u32, edges: u32) {
        self.rows.push(row as u32);
        self.ends.push(end);
        self.paths.push(Value::Int(i64::from(edges)));
    }

    /// As many as should go on together.
    pub fn is_full(&self) -> bool {
        self.rows.len() >= BATCH_ROWS || self.elements >= BATCH_ELEMENTS
    }

    /// Without paths (where none was pushed at all) there is no column of them.
    pub fn into_batch(self, input: &Batch, with_end: bool, outputs: &[OutputVariable]) -> Batch {
        let mut out = input.gather(&self.rows);
        if with_end {
            out.columns.push(Vector::Nodes(self.ends));
        }
        if self.paths.len() == self.rows.len() {
            out.columns.push(Vector::Values(self.paths));
        }
        for (values, output) in self.variables.into_iter().zip(outputs) {
            let mut vector = output.vector();
            values.into_iter().for_each(|v| vector.push(v));
            out.columns.push(vector);
        }
        out
    }
}
