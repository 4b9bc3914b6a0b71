//! Edges read from plain rows of the base, with each condition tested in the cheapest way.

use graphodrome_graph::{Dense, Passing, PlainPart, Value, WholeNumbers};

use crate::batch::{Batch, Vector};
use crate::budget::Budget;
use crate::counters::Counters;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::of_node::OfNode;
use crate::of_text::OfText;
use crate::operators::merge_rows::taken_columns;
use crate::operators::{EdgeCheck, NodeCheck};
use crate::outcome::Outcome;
use crate::quick::{Place, PlainComparison, Which};
use crate::ranges::{PropertyRange, edge_ranges};
use crate::row::Row;
use crate::scope::Scope;

/// An entry of a plain row: the part of the edges that it is of, the edge, and the node it leads to.
#[derive(Clone, Copy, Debug)]
pub(super) struct Entry {
    pub part: u32,
    pub edge: Dense,
    pub node: Dense,
}

/// What is asked of the edges: of an edge, of the node that it leads to, and of both with the row.
#[derive(Clone, Copy)]
pub(super) struct AskedOfEdges<'a> {
    pub edge: &'a EdgeCheck,
    pub node: &'a NodeCheck,
    /// On the input row with the edge and the node in the next two slots.
    pub conditions: &'a [Expr],
}

/// What takes the edges that are found.
pub(super) trait Sink {
    /// The input's row, the edge and the node it leads to.
    fn push(&mut self, row: usize, edge: Dense, node: Dense);

    /// Whether numbers are enough.
    fn counts(&self) -> bool {
        false
    }

    /// Adds to what is counted for the row that is read now.
    fn add(&mut self, _more: u64) {}

    /// Whether one is enough of each row.
    fn once(&self) -> bool {
        false
    }
}

/// Plain rows of some of the operator's edges, with the conditions that are ranges of their columns.
struct PartOfRow<'a> {
    rows: PlainPart<'a>,
    ranges: Vec<(WholeNumbers<'a>, i64, i64)>,
}

impl<'a> PartOfRow<'a> {
    /// The range of its column that satisfies a condition, where there is such.
    fn range(&self, range: &PropertyRange<'_>, scope: &'a Scope) -> Option<(WholeNumbers<'a>, i64, i64)> {
        range.within(scope.edge_column(self.rows.table, range.reader)?)
    }

    /// The entries of a row with what is in all ranges.
    fn select(&self, row: std::ops::Range<usize>, entries: &mut Vec<usize>, counters: &mut Counters) {
        entries.clear();
        let side = self.rows.side;
        let Some(((numbers, low, high), more)) = self.ranges.split_first() else { return };
        counters.properties_read += row.len() as u64;
        match side.is_forward() {
            true => numbers.select(row, *low, *high, entries),
            false => numbers.select_at(side.positions(row.clone()), row.start, (*low, *high), entries),
        }
        for (numbers, low, high) in more {
            counters.properties_read += entries.len() as u64;
            entries.retain(|&entry| numbers.within(side.position(entry) as usize, *low, *high));
        }
    }
}

enum QuickCondition<'a> {
    /// A comparison of whole numbers, with what it is read from.
    Compared(PlainComparison<'a>, &'a Expr),
    /// On a text of the new edge.
    OfText(OfText<'a>),
}

/// The plain rows of the operator's edges, and what is asked of each edge.
pub(super) struct Plain<'a> {
    scope: &'a Scope,
    edge: &'a EdgeCheck,
    conditions: &'a [Expr],
    parts: Vec<PartOfRow<'a>>,
    /// Conditions that are quick to ask, in their order.
    quick: Vec<QuickCondition<'a>>,
    /// Conditions on the new node alone.
    of_node: Vec<OfNode<'a>>,
    /// The other conditions.
    rest: Vec<&'a Expr>,
    /// Edges that the new ones must differ from.
    taken: Vec<&'a [Dense]>,
    passing: Passing<'a>,
}

impl<'a> Plain<'a> {
    pub fn of(spec: AskedOfEdges<'a>, scope: &'a Scope, batch: &'a Batch) -> Option<Plain<'a>> {
        let taken_in_values =
            spec.edge.different_from.iter().any(|slot| matches!(batch.columns[*slot], Vector::Values(_)));
        if taken_in_values {
            return None;
        }
        let parts = scope.plain_parts(spec.edge.direction, &spec.edge.test).into_iter();
        let mut parts: Vec<PartOfRow<'_>> = parts.map(|rows| PartOfRow { rows, ranges: vec![] }).collect();
        let (mut quick, mut of_node, mut rest) = (vec![], vec![], vec![]);
        for condition in spec.conditions {
            let ranges = edge_ranges(condition, batch.columns.len(), scope).unwrap_or_default();
            let of_part = |part: &PartOfRow<'a>| {
                ranges.iter().map(|range| part.range(range, scope)).collect::<Option<Vec<_>>>()
            };
            let of_parts = match ranges.is_empty() {
                true => None,
                false => parts.iter().map(of_part).collect::<Option<Vec<_>>>(),
            };
            if let Some(of_parts) = of_parts {
                parts.iter_mut().zip(of_parts).for_each(|(part, ranges)| part.ranges.extend(ranges));
                continue;
            }
            // Conditions are asked in their order.
            let new = [Which::Edge, Which::Node];
            let comparison = || PlainComparison::of(condition, batch, &new, scope);
            let of_text = || OfText::of(condition, batch.columns.len(), scope);
            if let Some(comparison) = comparison().filter(|_| rest.is_empty()) {
                quick.push(QuickCondition::Compared(comparison, condition));
            } else if let Some(condition) = of_text().filter(|_| rest.is_empty()) {
                quick.push(QuickCondition::OfText(condition));
            } else if let Some(condition) = OfNode::of(condition, batch.columns.len() + 1, scope) {
                of_node.push(condition);
            } else {
                rest.push(condition);
            }
        }
        let taken = taken_columns(&spec.edge.different_from, batch);
        let passing = scope.passing(&spec.node.test);
        let AskedOfEdges { edge, conditions, .. } = spec;
        Some(Plain { scope, edge, conditions, parts, quick, of_node, rest, taken, passing })
    }

    /// The conditions that would be asked edge by edge, to be asked of all rows that are found at once instead.
    pub fn take_rest(&mut self) -> Vec<&'a Expr> {
        std::mem::take(&mut self.rest)
    }

    /// Reads one row; returns the entries looked at.
    pub fn follow<S: Sink>(
        &self, at: (&Batch, usize), from: Dense, entries: &mut Vec<usize>, found: &mut S,
        counters: &mut Counters,
    ) -> Outcome<u64> {
        let asks = self.quick.len() + self.of_node.len() + self.rest.len() > 0;
        let (mut looked, mut more) = (0, 0);
        for part in &self.parts {
            let (rows, side) = (&part.rows, part.rows.side);
            let row = side.row(from);
            let whole = part.ranges.is_empty();
            let all = self.passing.all() && self.taken.is_empty() && !rows.without_loops;
            if found.counts() && !asks && whole && all {
                more += row.len() as u64;
                continue;
            }
            looked += row.len() as u64;
            part.select(row.clone(), entries, counters);
            let selected = if whole { row.len() } else { entries.len() };
            let entry_of = |i: usize| if whole { row.start + i } else { entries[i] };
            for i in 0..selected {
                let entry = entry_of(i);
                let (edge, node) = (rows.edge(entry), side.neighbour(entry));
                if !all {
                    let taken = self.taken.iter().any(|taken| taken[at.1] == edge);
                    if taken || !self.passing.has(node) || rows.without_loops && node == from {
                        continue;
                    }
                }
                if asks && !self.holds(at, (edge, node), counters)? {
                    continue;
                }
                if found.counts() {
                    more += 1;
                    continue;
                }
                found.push(at.1, edge, node);
                if found.once() {
                    let left = if whole { row.len() - i - 1 } else { 0 };
                    return Ok(looked - left as u64);
                }
            }
        }
        if found.counts() {
            found.add(more);
        }
        Ok(looked)
    }

    /// Whether some conditions would be asked edge by edge.
    pub fn has_rest(&self) -> bool {
        !self.rest.is_empty()
    }

    pub fn budget(&self) -> &Budget {
        &self.scope.budget
    }

    /// Whether an edge is among those that are found from a node.
    pub fn finds(
        &self, from: Dense, edge: Dense, at: (&Batch, usize), counters: &mut Counters,
    ) -> Outcome<bool> {
        let (source, target) = self.scope.edge_ends(edge);
        let direction = self.edge.direction;
        counters.edges_looked += 1;
        let other = match self.scope.edge_directed(edge) {
            true if direction.takes_out() && source == from => target,
            true if direction.takes_in() && target == from => source,
            false if direction.takes_undirected() && source == from => target,
            false if direction.takes_undirected() && target == from => source,
            _ => return Ok(false),
        };
        let labels = self.edge.test.expression.as_ref();
        let is_labeled = labels.is_none_or(|labels| labels.matches(&self.scope.edge_labels(edge)));
        if !is_labeled || !self.passing.has(other) {
            return Ok(false);
        }
        let conditions: Vec<&Expr> = self.conditions.iter().collect();
        let locals = [Value::Edge(edge), Value::Node(other)];
        all_hold(&conditions, Row { batch: at.0, row: at.1, locals: &locals }, self.scope, counters)
    }

    /// How many edges the node has.
    pub fn degree(&self, from: Dense) -> usize {
        self.parts.iter().map(|part| part.rows.side.row(from).len()).sum()
    }

    /// All entries of a node that lie in the ranges.
    pub fn entries_of(&self, from: Dense, counters: &mut Counters) -> Vec<Entry> {
        let mut all = vec![];
        let mut entries = vec![];
        for (place, part) in self.parts.iter().enumerate() {
            let row = part.rows.side.row(from);
            part.select(row.clone(), &mut entries, counters);
            if part.ranges.is_empty() {
                entries.extend(row);
            }
            all.extend(entries.iter().map(|&entry| Entry {
                part: place as u32,
                edge: part.rows.edge(entry),
                node: part.rows.side.neighbour(entry),
            }));
        }
        all
    }

    /// Reads some entries of a row.
    pub fn follow_some<S: Sink>(
        &self, at: (&Batch, usize), from: Dense, entries: &[Entry], found: &mut S, counters: &mut Counters,
    ) -> Outcome<u64> {
        for (place, &Entry { part, edge, node, .. }) in entries.iter().enumerate() {
            let is_loop = self.parts[part as usize].rows.without_loops && node == from;
            let taken = self.taken.iter().any(|taken| taken[at.1] == edge);
            if is_loop || taken || !self.passing.has(node) || !self.holds(at, (edge, node), counters)? {
                continue;
            }
            if found.counts() {
                found.add(1);
                continue;
            }
            found.push(at.1, edge, node);
            if found.once() {
                return Ok(place as u64 + 1);
            }
        }
        Ok(entries.len() as u64)
    }

    /// Whether an edge and the node it leads to pass what is left to ask.
    #[inline]
    fn holds(
        &self, (batch, row): (&Batch, usize), (edge, node): (Dense, Dense), counters: &mut Counters,
    ) -> Outcome<bool> {
        for condition in &self.quick {
            let locals = [Value::Edge(edge), Value::Node(node)];
            let at = Row { batch, row, locals: &locals };
            let holds = match condition {
                QuickCondition::Compared(comparison, condition) => {
                    counters.properties_read += comparison.reads;
                    match comparison.get(Place { row, edge, node }) {
                        Some(holds) => holds,
                        None => holds(condition, at, self.scope, counters)?,
                    }
                }
                QuickCondition::OfText(condition) => condition.holds(edge, at, self.scope, counters)?,
            };
            if !holds {
                return Ok(false);
            }
        }
        for condition in &self.of_node {
            let locals = [Value::Edge(edge), Value::Node(node)];
            if !condition.holds(node, Row { batch, row, locals: &locals }, self.scope, counters)? {
                return Ok(false);
            }
        }
        if !self.rest.is_empty() {
            let locals = [Value::Edge(edge), Value::Node(node)];
            return all_hold(&self.rest, Row { batch, row, locals: &locals }, self.scope, counters);
        }
        Ok(true)
    }
}

pub(super) fn all_hold(
    conditions: &[&Expr], row: Row<'_>, scope: &Scope, counters: &mut Counters,
) -> Outcome<bool> {
    for condition in conditions {
        if !holds(condition, row, scope, counters)? {
            return Ok(false);
        }
    }
    Ok(true)
}
