//! The edges at a node, one by one or for many nodes at once: the base's rows with what the overlay
//! changed.

use std::ops::ControlFlow;

use crate::overlay::Role;
use crate::{Adjacency, Dense, Direction, EdgeTest, LabelSet, NodeTest, Snapshot};

/// Rows found before the first of them is read.
const TOGETHER: usize = 64;

/// The rows of one edge table in one direction: all that a test takes at a node the overlay has not touched.
#[derive(Clone, Copy)]
pub struct PlainRows<'a> {
    pub side: &'a Adjacency,
    /// The same edges by their other ends.
    pub opposite: &'a Adjacency,
    /// The table's place in the base, and the number of its first edge.
    pub table: usize,
    pub first: Dense,
}

impl PlainRows<'_> {
    /// The edge at an entry of `side`.
    #[inline]
    pub fn edge(&self, entry: usize) -> Dense {
        self.first + self.side.position(entry)
    }
}

/// Rows that hold some of the edges that pass.
pub struct PlainPart<'a> {
    pub side: &'a Adjacency,
    /// The table's place in the base, and the number of its first edge.
    pub table: usize,
    pub first: Dense,
    /// Loops are in other rows too, and count there.
    pub without_loops: bool,
}

impl PlainPart<'_> {
    /// The edge at an entry of the rows.
    #[inline]
    pub fn edge(&self, entry: usize) -> Dense {
        self.first + self.side.position(entry)
    }
}

/// Which nodes pass a test, for those who ask for very many.
pub struct Passing<'a> {
    snapshot: &'a Snapshot,
    test: &'a NodeTest,
    all: bool,
    /// Where only the nodes from the first number on, so many of them, pass.
    one_range: Option<(Dense, Dense)>,
}

impl Passing<'_> {
    /// Whether none needs to be asked.
    pub fn all(&self) -> bool {
        self.all
    }

    #[inline]
    pub fn has(&self, node: Dense) -> bool {
        match self.one_range {
            _ if self.all => true,
            Some((first, len)) => node.wrapping_sub(first) < len,
            None => self.snapshot.node_passes(node, self.test),
        }
    }
}

impl Snapshot {
    /// Which nodes pass.
    pub fn passing<'a>(&'a self, test: &'a NodeTest) -> Passing<'a> {
        let all = self.all_pass(test);
        let one_range = if all { None } else { self.one_range(test) };
        Passing { snapshot: self, test, all, one_range }
    }

    /// The first number of the nodes that pass and how many there are, where they follow each other.
    fn one_range(&self, test: &NodeTest) -> Option<(Dense, Dense)> {
        let mut ranges = self.base_ranges(test).into_iter();
        let first = ranges.next().filter(|_| self.overlay.nodes.is_empty())?;
        let range =
            ranges.try_fold(first, |all, next| (all.end == next.start).then_some(all.start..next.end))?;
        Some((range.start, range.end - range.start))
    }

    /// The rows that together hold every edge which passes, for nodes of which [`Self::untouched`] is true.
    pub fn plain_parts(&self, direction: Direction, test: &EdgeTest) -> Vec<PlainPart<'_>> {
        let mut parts = vec![];
        for &t in &test.tables {
            let table = &self.base.edges[t];
            let Some((forward, reverse)) = table.sides(direction) else { continue };
            let mut part = |side, without_loops| {
                parts.push(PlainPart { side, table: t, first: table.first, without_loops });
            };
            if let Some(forward) = forward {
                part(forward, false);
            }
            if let Some(reverse) = reverse {
                part(reverse, forward.is_some());
            }
        }
        parts
    }

    /// The rows that hold every edge which passes, for nodes of which [`Self::untouched`] is true; `None`
    /// where they are of several tables or of both directions.
    pub fn plain_rows(&self, direction: Direction, test: &EdgeTest) -> Option<PlainRows<'_>> {
        let [t] = test.tables[..] else { return None };
        let table = &self.base.edges[t];
        let (side, opposite) = match table.sides(direction)? {
            (Some(forward), None) => (forward, table.reverse()),
            (None, Some(reverse)) => (reverse, &*table.forward),
            _ => return None,
        };
        Some(PlainRows { side, opposite, table: t, first: table.first })
    }

    /// Calls `visit(edge, other end)` for each edge at `node` that passes, until it breaks. A loop is
    /// visited once. Returns the adjacency entries looked at.
    #[inline]
    pub fn for_each_adjacent(
        &self, node: Dense, direction: Direction, test: &EdgeTest,
        mut visit: impl FnMut(Dense, Dense) -> ControlFlow<()>,
    ) -> u64 {
        let mut looked = 0u64;
        let touched = self.overlay.touched.has(node);
        for &t in &test.tables {
            let table = &self.base.edges[t];
            let (out, into) = if table.directed {
                (direction.takes_out(), direction.takes_in())
            } else {
                (direction.takes_undirected(), direction.takes_undirected())
            };
            if out {
                for entry in table.forward.row(node) {
                    looked += 1;
                    let edge = table.first + entry as Dense;
                    if touched && !self.base_edge_shows(edge, t) {
                        continue;
                    }
                    if visit(edge, table.forward.neighbour(entry)).is_break() {
                        return looked;
                    }
                }
            }
            if into {
                for entry in table.reverse().row(node) {
                    looked += 1;
                    let other = table.reverse().neighbour(entry);
                    if out && other == node {
                        continue;
                    }
                    let edge = table.first + table.reverse().position(entry);
                    if touched && !self.base_edge_shows(edge, t) {
                        continue;
                    }
                    if visit(edge, other).is_break() {
                        return looked;
                    }
                }
            }
        }
        if touched && let Some(added) = self.overlay.adjacency.get(&node) {
            for entry in added.iter() {
                looked += 1;
                let takes = match entry.role {
                    Role::Source => direction.takes_out(),
                    // A loop was shown from its source already.
                    Role::Target => direction.takes_in() && !(direction.takes_out() && entry.other == node),
                    Role::Undirected => direction.takes_undirected(),
                };
                let labelled = test.expression.as_ref().is_none_or(|e| e.matches(&entry.labels));
                if takes && labelled && visit(entry.edge, entry.other).is_break() {
                    return looked;
                }
            }
        }
        looked
    }

    /// Appends the other ends of the edges at `nodes` that pass, as often as there are such edges:
    /// [`Self::for_each_adjacent`] for many nodes, with the rows found first and read then, so that
    /// the processor waits for their memory together. Returns the adjacency entries looked at, and
    /// those of the node that had the most, with the node.
    pub fn gather_adjacent(
        &self, nodes: &[Dense], direction: Direction, test: &EdgeTest, others: &mut Vec<Dense>,
    ) -> (u64, (u64, Dense)) {
        let (mut looked, mut largest) = (0, (0, 0));
        let tables = test.tables.iter().map(|&t| &self.base.edges[t]);
        let sides: Vec<_> = tables.filter_map(|table| table.sides(direction)).collect();
        let mut left = nodes;
        while let Some(&first) = left.first() {
            if !self.untouched(first) {
                let degree = self.for_each_adjacent(first, direction, test, |_, other| {
                    others.push(other);
                    ControlFlow::Continue(())
                });
                looked += degree;
                largest = larger(largest, (degree, first));
                left = &left[1..];
                continue;
            }
            let of_base = left.iter().take(TOGETHER).take_while(|node| self.untouched(**node)).count();
            let (together, rest) = left.split_at(of_base);
            let mut degrees = [0u64; TOGETHER];
            for (forward, reverse) in &sides {
                gather_rows(together, *forward, *reverse, &mut degrees, others);
            }
            looked += degrees.iter().sum::<u64>();
            for (&degree, &node) in degrees.iter().zip(together) {
                largest = larger(largest, (degree, node));
            }
            left = rest;
        }
        (looked, largest)
    }

    /// The edges from `a` to `b`, or undirected ones between them, that have exactly these labels, until one is enough.
    pub fn for_each_between(
        &self, (a, b): (Dense, Dense), labels: &LabelSet, directed: bool,
        mut visit: impl FnMut(Dense) -> ControlFlow<()>,
    ) {
        let orders: &[(Dense, Dense)] = if directed || a == b { &[(a, b)] } else { &[(a, b), (b, a)] };
        let tables = self.base.edges.iter().enumerate();
        for (t, table) in tables.filter(|(_, t)| t.directed == directed && t.labels == *labels) {
            for &(from, to) in orders {
                let row = table.forward.row(from);
                let neighbours = table.forward.entries(row.clone());
                let first = neighbours.partition_point(|&n| n < to);
                for (place, _) in neighbours[first..].iter().enumerate().take_while(|(_, n)| **n == to) {
                    let edge = table.first + (row.start + first + place) as Dense;
                    let shows = self.overlay.is_empty() || self.base_edge_shows(edge, t);
                    if shows && visit(edge).is_break() {
                        return;
                    }
                }
            }
        }
        for entry in self.overlay.adjacency.get(&a).into_iter().flat_map(|list| list.iter()) {
            let role = if directed { Role::Source } else { Role::Undirected };
            let is_one = entry.other == b && entry.role == role && entry.labels == *labels;
            if is_one && visit(entry.edge).is_break() {
                return;
            }
        }
    }

    /// Calls `visit(edge)` for each edge that passes and may be walked from `a` to `b` in this direction:
    /// by halves in the shorter of their rows. Returns the adjacency entries looked at.
    pub fn for_each_joining(
        &self, (a, b): (Dense, Dense), direction: Direction, test: &EdgeTest,
        mut visit: impl FnMut(Dense) -> ControlFlow<()>,
    ) -> u64 {
        if !(self.untouched(a) && self.untouched(b)) {
            return self.for_each_adjacent(a, direction, test, |edge, other| {
                if other == b { visit(edge) } else { ControlFlow::Continue(()) }
            });
        }
        let mut looked = 0;
        for &t in &test.tables {
            let table = &self.base.edges[t];
            let Some((out, into)) = table.sides(direction) else { continue };
            // An undirected edge, or one in either direction, may stand in both; a loop only once.
            for (side, first) in [(out, true), (into, false)] {
                let Some(side) = side else { continue };
                if !first && out.is_some() && a == b {
                    continue;
                }
                // The same edges stand in the other side's row of `b`.
                let other =
                    if std::ptr::eq(side, &*table.forward) { table.reverse() } else { &*table.forward };
                let (mine, theirs) = (side.row(a), other.row(b));
                let (rows, row, wanted) =
                    if mine.len() <= theirs.len() { (side, mine, b) } else { (other, theirs, a) };
                let neighbours = rows.entries(row.clone());
                let begin = neighbours.partition_point(|&n| n < wanted);
                looked += 1;
                for (i, _) in neighbours[begin..].iter().enumerate().take_while(|(_, n)| **n == wanted) {
                    looked += 1;
                    if visit(table.first + rows.position(row.start + begin + i)).is_break() {
                        return looked;
                    }
                }
            }
        }
        looked
    }

    /// The nodes whose edges are other ones than the base's rows show, in order: where edges are new, gone, or have
    /// other labels. What else is changed of a node or its edges is no matter here.
    pub fn nodes_with_other_edges(&self) -> Vec<Dense> {
        let mut nodes: Vec<Dense> = self.overlay.adjacency.keys().copied().collect();
        for (&edge, _) in self.overlay.edges.range(..self.base.edge_count()) {
            let table = self.base.edge_table(edge);
            if !self.base_edge_shows(edge, table) {
                let of_table = &self.base.edges[table];
                let ends = of_table.ends((edge - of_table.first) as usize);
                nodes.extend([ends.0, ends.1]);
            }
        }
        nodes.sort_unstable();
        nodes.dedup();
        nodes
    }

    /// Whether the base's rows still show `edge` rightly: not deleted, same labels.
    fn base_edge_shows(&self, edge: Dense, table: usize) -> bool {
        match self.edge_record(edge) {
            None => true,
            Some(None) => false,
            Some(Some(record)) => record.labels == self.base.edges[table].labels,
        }
    }

    /// Calls `visit(edge, (source, target), directed)` for every edge that passes, until it breaks.
    pub fn for_each_edge(
        &self, test: &EdgeTest, mut visit: impl FnMut(Dense, (Dense, Dense), bool) -> ControlFlow<()>,
    ) {
        for &t in &test.tables {
            let table = &self.base.edges[t];
            for source in table.forward.owners() {
                for entry in table.forward.row(source) {
                    let edge = table.first + entry as Dense;
                    // A changed one is among those of the overlay.
                    if self.edge_is_base(edge)
                        && visit(edge, (source, table.forward.neighbour(entry)), table.directed).is_break()
                    {
                        return;
                    }
                }
            }
        }
        let mut above: Vec<_> =
            self.overlay.edges.iter().filter_map(|(id, record)| Some((*id, record.as_ref()?))).collect();
        above.sort_unstable_by_key(|(id, _)| *id);
        for (edge, record) in above {
            let passes = test.expression.as_ref().is_none_or(|e| e.matches(&record.labels));
            if passes && visit(edge, (record.source, record.target), record.directed).is_break() {
                return;
            }
        }
    }

    /// Sorted neighbours straight from the base where the overlay has not touched `node`: for tight
    /// loops. `None` where [`Self::for_each_adjacent`] must be asked.
    #[inline]
    pub fn base_neighbours(&self, node: Dense, table: usize, forward: bool) -> Option<&[Dense]> {
        if self.overlay.touched.has(node) {
            return None;
        }
        let table = &self.base.edges[table];
        Some(if forward { table.forward.neighbours(node) } else { table.reverse().neighbours(node) })
    }

    /// How many adjacency entries `node` has that pass, without looking at each where the base knows.
    pub fn degree(&self, node: Dense, direction: Direction, test: &EdgeTest) -> u64 {
        let mut degree = 0;
        self.for_each_adjacent(node, direction, test, |_, _| {
            degree += 1;
            ControlFlow::Continue(())
        });
        degree
    }
}

fn larger(largest: (u64, Dense), other: (u64, Dense)) -> (u64, Dense) {
    if other.0 > largest.0 { other } else { largest }
}

/// [`Snapshot::gather_adjacent`] of one table.
fn gather_rows(
    nodes: &[Dense], forward: Option<&Adjacency>, reverse: Option<&Adjacency>, degrees: &mut [u64],
    others: &mut Vec<Dense>,
) {
    let mut found = [(0, 0, 0, 0); TOGETHER];
    for (rows, &node) in found.iter_mut().zip(nodes) {
        let (out, into) = (forward.map(|side| side.row(node)), reverse.map(|side| side.row(node)));
        let (out, into) = (out.unwrap_or_default(), into.unwrap_or_default());
        *rows = (out.start, out.end, into.start, into.end);
    }
    for (((out, out_end, into, into_end), &node), total) in found.into_iter().zip(nodes).zip(degrees) {
        let degree = (out_end - out) + (into_end - into);
        others.reserve(degree);
        if let Some(side) = forward {
            others.extend_from_slice(side.entries(out..out_end));
        }
        if let Some(side) = reverse {
            let start = others.len();
            others.extend_from_slice(side.entries(into..into_end));
            // A loop was shown from its source already.
            if forward.is_some() && others[start..].contains(&node) {
                let kept: Vec<Dense> = others.drain(start..).filter(|&o| o != node).collect();
                others.extend(kept);
            }
        }
        *total += degree as u64;
    }
}
