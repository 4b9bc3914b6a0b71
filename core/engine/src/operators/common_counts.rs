//! Counts common neighbours of two nodes for rows in which one node stays the same: its neighbours are marked once
//! and, if it stays longer, its two-edge walks are counted once.

use std::ops::Range;

use graphodrome_graph::{Dense, PlainRows, Snapshot};

use crate::batch::{Batch, NO_ELEMENT, Vector};
use crate::context::Context;
use crate::operators::merge_rows::taken_columns;
use crate::operators::sorted::{run, seek};
use crate::operators::{Arm, IntersectEdges};
use crate::outcome::{CHECK_EVERY, Outcome};

/// A list this many times longer than another is looked up in rather than gone through.
const MUCH_LONGER: usize = 24;

/// Entries gone through in the time in which one is counted towards a way.
const WAYS_FACTOR: u64 = 3;

/// The largest number that is kept in a byte; it stands for all from there on.
const MANY: u8 = u8::MAX;

/// Counts for rows whose arm has the same node for a while.
#[derive(Default)]
pub(super) struct CommonCounts {
    slice: u64,
    /// The arm whose node stays the same.
    arm: Option<usize>,
    kept: KeptCounts,
    /// Entries that rows have looked at without the ways.
    spent: u64,
}

/// What is counted for a node that stays the same.
#[derive(Default)]
pub(super) struct KeptCounts {
    pub node: Option<Dense>,
    /// Edges between it and each node.
    pub edges: Marks,
    /// Its neighbours, once each, in order.
    nodes: Vec<Dense>,
    /// Ways of two edges from each node through a neighbour to it, where they are known.
    pub ways: Marks,
    pub ways_known: bool,
    /// Entries that counting the ways would look at.
    pub ways_cost: u64,
    /// Bytes that are accounted for.
    held: usize,
}

/// Numbers by node, nearly all of them 0.
#[derive(Default)]
pub(super) struct Marks {
    counts: Vec<u32>,
    /// The same up to [`MANY`] of what was marked: small enough to stay close to the processor. Empty where
    /// nothing ever was.
    few: Vec<u8>,
    nodes: Vec<Dense>,
}

impl Marks {
    pub fn clear(&mut self, bound: u32) {
        // Fresh zeroes cost nothing until they are looked at.
        if self.counts.len() != bound as usize {
            self.counts = vec![0; bound as usize];
            self.few = vec![];
            self.nodes.clear();
        } else if self.nodes.len() > bound as usize / 8 {
            self.counts.fill(0);
            self.few.fill(0);
            self.nodes.clear();
        }
        for node in self.nodes.drain(..) {
            self.counts[node as usize] = 0;
            if let Some(few) = self.few.get_mut(node as usize) {
                *few = 0;
            }
        }
    }

    pub fn bytes(&self) -> usize {
        4 * (self.counts.len() + self.nodes.len()) + self.few.len()
    }

    /// One more for a node whose number is summed.
    #[inline]
    pub fn mark(&mut self, node: Dense) {
        if self.few.is_empty() {
            self.few = vec![0; self.counts.len()];
        }
        self.add(node, 1);
        self.few[node as usize] = self.few[node as usize].saturating_add(1);
    }

    /// The numbers of all these together; they must have been marked.
    #[inline]
    pub fn sum(&self, nodes: &[Dense]) -> u64 {
        let mut sum = 0;
        for &node in nodes {
            let few = self.few.get(node as usize).copied().unwrap_or(0);
            sum += few as u64;
            if few == MANY {
                sum += self.counts[node as usize] as u64 - MANY as u64;
            }
        }
        sum
    }

    #[inline]
    pub fn get(&self, node: Dense) -> u64 {
        self.counts.get(node as usize).map_or(0, |count| *count as u64)
    }

    /// `false` where the number is too large.
    #[inline]
    fn add(&mut self, node: Dense, number: u32) -> bool {
        let place = &mut self.counts[node as usize];
        if *place == 0 {
            self.nodes.push(node);
        }
        let (sum, too_large) = place.overflowing_add(number);
        *place = sum;
        !too_large
    }
}

/// A batch as it is counted.
struct View<'a> {
    /// The nodes of the arms, and the rows of their edges.
    ends: [&'a [Dense]; 2],
    rows: [PlainRows<'a>; 2],
    /// All bound nodes.
    nodes: Vec<&'a [Dense]>,
    /// Edges that the arms' must differ from.
    taken: [Vec<&'a [Dense]>; 2],
    apart: bool,
}

impl<'a> View<'a> {
    fn of(spec: &IntersectEdges, batch: &'a Batch, snapshot: &'a Snapshot) -> Option<View<'a>> {
        let [first, second] = &spec.arms[..] else { return None };
        if first.once || second.once || !spec.conditions.is_empty() || !snapshot.all_pass(&spec.node.test) {
            return None;
        }
        let mut nodes = vec![];
        for column in &batch.columns {
            match column {
                Vector::Nodes(column) => nodes.push(&column[..]),
                Vector::Edges(_) => {}
                Vector::Values(_) | Vector::Numbers(_) => return None,
            }
        }
        let ends = |arm: &Arm| match &batch.columns[arm.from] {
            Vector::Nodes(nodes) => Some(&nodes[..]),
            _ => None,
        };
        let rows = |arm: &Arm| snapshot.plain_rows(arm.edge.direction, &arm.edge.test);
        let taken = |arm: &Arm| taken_columns(&arm.edge.different_from, batch);
        Some(View {
            ends: [ends(first)?, ends(second)?],
            rows: [rows(first)?, rows(second)?],
            nodes,
            taken: [taken(first), taken(second)],
            apart: spec.apart,
        })
    }

    /// What a bound node that is a common neighbour adds: as if no edge could be in the row twice, and
    /// really.
    fn at(&self, bound: Dense, row: usize, kept: usize, (node, other): (Dense, Dense)) -> (u64, u64) {
        let between = |arm: usize, from: Dense| {
            let range = self.rows[arm].side.row(from);
            let entries = self.rows[arm].side.entries(range.clone());
            let begin = entries.partition_point(|n| *n < bound);
            range.start + begin..range.start + begin + run(entries, begin, bound)
        };
        let free = |arm: usize, entries: Range<usize>| -> Vec<Dense> {
            let edges = entries.map(|entry| self.rows[arm].edge(entry));
            edges.filter(|edge| self.taken[arm].iter().all(|taken| taken[row] != *edge)).collect()
        };
        let (to_kept, to_other) = (between(kept, node), between(1 - kept, other));
        let as_if = to_kept.len() as u64 * to_other.len() as u64;
        let (to_kept, to_other) = (free(kept, to_kept), free(1 - kept, to_other));
        let mut real = to_kept.len() as u64 * to_other.len() as u64;
        // Edges that join this node with two others are not the same; its loops are.
        if self.apart && node == other {
            real -= to_kept.iter().filter(|edge| to_other.contains(edge)).count() as u64;
        }
        (as_if, real)
    }
}

impl CommonCounts {
    /// The number of each row where the full way need not be gone; `None` where it must for all: only two
    /// nodes that have the rows of one table each, and of which nothing else is asked, are counted so.
    pub fn rows(
        &mut self, spec: &IntersectEdges, batch: &Batch, context: &mut Context,
    ) -> Outcome<Option<Vec<Option<u64>>>> {
        // The work for a slice of rows does not depend on the slices that were worked on before it.
        if std::mem::replace(&mut self.slice, context.slice) != context.slice {
            self.arm = None;
        }
        let snapshot = &context.scope.snapshot;
        let Some(view) = View::of(spec, batch, snapshot) else { return Ok(None) };
        let mut counts = Vec::with_capacity(batch.len);
        let (mut looked, mut since_check) = (0, 0);
        for row in 0..batch.len {
            let before = looked;
            counts.push(self.row(&view, row, snapshot, &mut looked));
            since_check += looked - before + 1;
            if since_check >= CHECK_EVERY {
                since_check = 0;
                context.check()?;
            }
        }
        context.counters().edges_looked += looked;
        self.kept.account(context)?;
        Ok(Some(counts))
    }

    fn row(&mut self, view: &View<'_>, row: usize, snapshot: &Snapshot, looked: &mut u64) -> Option<u64> {
        let ends = [view.ends[0][row], view.ends[1][row]];
        if ends.contains(&NO_ELEMENT) {
            return Some(0);
        }
        if !snapshot.untouched(ends[0]) || !snapshot.untouched(ends[1]) {
            return None;
        }
        let stays = |arm: usize| {
            let nodes = view.ends[arm];
            row > 0 && nodes[row - 1] == nodes[row] || nodes.get(row + 1) == Some(&nodes[row])
        };
        // The one that is marked already, or the one that the rows around have too.
        let kept = match self.arm {
            Some(arm) if self.kept.node == Some(ends[arm]) => arm,
            _ if stays(1) => 1,
            _ if stays(0) => 0,
            _ => return None,
        };
        let (node, other) = (ends[kept], ends[1 - kept]);
        let (mine, others) = (view.rows[kept], view.rows[1 - kept]);
        // At one node both arms would take the same edges.
        if node == other && std::ptr::eq(mine.side, others.side) {
            return None;
        }
        if (self.arm, self.kept.node) != (Some(kept), Some(node)) {
            *looked += self.kept.mark(mine, others, node, snapshot.node_bound());
            self.arm = Some(kept);
            self.spent = 0;
        }
        if !self.kept.ways_known && self.spent > WAYS_FACTOR.saturating_mul(self.kept.ways_cost) {
            *looked += self.kept.count_ways(others);
        }
        let mut count = if self.kept.ways_known {
            *looked += 1;
            self.kept.ways.get(other)
        } else {
            self.count_apart(others.side.neighbours(other), looked)
        };
        // Where a common neighbour is a bound node, an edge that the row has may be among those counted.
        let nodes = if count > 0 { &view.nodes[..] } else { &[] };
        for (i, nodes) in nodes.iter().enumerate() {
            let bound = nodes[row];
            // Null is a number beyond all: it has no edges.
            if self.kept.edges.get(bound) > 0 && view.nodes[..i].iter().all(|before| before[row] != bound) {
                let (as_if, real) = view.at(bound, row, kept, (node, other));
                count = count + real - as_if;
            }
        }
        Some(count)
    }

    /// The common neighbours, an edge each way, of the marked node and one with these neighbours.
    fn count_apart(&mut self, entries: &[Dense], looked: &mut u64) -> u64 {
        let KeptCounts { edges, nodes, .. } = &self.kept;
        if entries.len() <= MUCH_LONGER * nodes.len() {
            *looked += entries.len() as u64;
            self.spent += entries.len() as u64;
            return edges.sum(entries);
        }
        let (mut count, mut at) = (0, 0);
        for &node in nodes {
            at = seek(entries, at, node);
            let both = run(entries, at, node);
            count += edges.get(node) * both as u64;
            *looked += 1 + both as u64;
        }
        self.spent += (MUCH_LONGER * nodes.len()) as u64;
        count
    }
}

impl KeptCounts {
    /// Accounts for the memory it has taken.
    pub fn account(&mut self, context: &mut Context) -> Outcome<()> {
        let bytes = self.edges.bytes() + self.ways.bytes();
        if bytes > self.held {
            context.reserve(bytes - self.held)?;
            self.held = bytes;
        }
        Ok(())
    }

    /// Marks the neighbours of a node; returns the entries looked at.
    pub fn mark(&mut self, mine: PlainRows<'_>, others: PlainRows<'_>, node: Dense, bound: u32) -> u64 {
        let entries = mine.side.neighbours(node);
        self.edges.clear(bound);
        for &neighbour in entries {
            self.edges.mark(neighbour);
        }
        self.nodes.clear();
        self.nodes.extend_from_slice(&self.edges.nodes);
        self.node = Some(node);
        self.ways_known = false;
        self.ways_cost = self.nodes.iter().map(|n| others.opposite.row(*n).len() as u64 + 1).sum();
        entries.len() as u64
    }

    /// Counts the ways from every node that has some; returns the entries looked at. They stay unknown where a
    /// number is too large.
    pub fn count_ways(&mut self, others: PlainRows<'_>) -> u64 {
        self.ways.clear(self.edges.counts.len() as u32);
        let mut fits = true;
        for &node in &self.nodes {
            let edges = self.edges.get(node) as u32;
            for &from in others.opposite.neighbours(node) {
                fits &= self.ways.add(from, edges);
            }
        }
        self.ways_known = fits;
        if !fits {
            // Not again for this node.
            return std::mem::replace(&mut self.ways_cost, u64::MAX);
        }
        self.ways_cost
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_beyond_what_a_byte_holds_are_summed_and_forgotten() {
        let mut marks = Marks::default();
        for (round, times) in [254u32, 255, 256, 1000, 3].into_iter().enumerate() {
            marks.clear(100);
            (0..times).for_each(|_| marks.mark(7));
            marks.mark(99);
            assert_eq!(marks.sum(&[7, 99, 8, 7]), 2 * times as u64 + 1, "round {round}");
            assert_eq!((marks.get(7), marks.get(8)), (times as u64, 0));
        }
        marks.clear(100);
        assert_eq!(marks.sum(&[7, 99]), 0);
    }
}
