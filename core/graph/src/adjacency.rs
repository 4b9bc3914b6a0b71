//! Adjacency in compressed sparse rows: for each node in a range, its neighbours sorted by id.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::Dense;
use crate::buckets::{Buckets, accumulate};

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Direction {
    /// Along the edge: source to destination.
    Out,
    /// Against it.
    In,
    /// Undirected edges only.
    Undirected,
    /// Directed edges either way.
    OutOrIn,
    /// Out of the node or undirected.
    OutOrUndirected,
    /// Into the node or undirected.
    InOrUndirected,
    /// Any edge, any way.
    Any,
}

impl Direction {
    pub fn takes_out(self) -> bool {
        matches!(self, Direction::Out | Direction::OutOrIn | Direction::OutOrUndirected | Direction::Any)
    }

    pub fn takes_in(self) -> bool {
        matches!(self, Direction::In | Direction::OutOrIn | Direction::InOrUndirected | Direction::Any)
    }

    pub fn takes_undirected(self) -> bool {
        matches!(
            self,
            Direction::Undirected | Direction::OutOrUndirected | Direction::InOrUndirected | Direction::Any
        )
    }

    /// What stands before and behind an edge of a pattern.
    pub fn brackets(self) -> (&'static str, &'static str) {
        match self {
            Direction::Out => ("-[", "]->"),
            Direction::In => ("<-[", "]-"),
            Direction::Undirected => ("~[", "]~"),
            Direction::OutOrIn => ("<-[", "]->"),
            Direction::OutOrUndirected => ("~[", "]~>"),
            Direction::InOrUndirected => ("<~[", "]~"),
            Direction::Any => ("-[", "]-"),
        }
    }

    /// Whether it takes every edge, each way, that `other` takes.
    pub fn covers(self, other: Direction) -> bool {
        (self.takes_out() || !other.takes_out())
            && (self.takes_in() || !other.takes_in())
            && (self.takes_undirected() || !other.takes_undirected())
    }

    pub fn reversed(self) -> Direction {
        match self {
            Direction::Out => Direction::In,
            Direction::In => Direction::Out,
            Direction::OutOrUndirected => Direction::InOrUndirected,
            Direction::InOrUndirected => Direction::OutOrUndirected,
            other => other,
        }
    }
}

/// Edges that are spread at once.
const PIECE: usize = if cfg!(test) { 16 } else { 1 << 18 };

/// One direction of one edge table. Rows exist for the nodes `first .. first + rows` only: outside
/// that range every row is empty.
#[derive(Clone, Debug, Default)]
pub struct Adjacency {
    first: Dense,
    offsets: Vec<u32>,
    neighbours: Vec<Dense>,
    /// Forward position of each entry; empty in the forward direction, where it is the entry itself.
    positions: Vec<u32>,
}

impl Adjacency {
    /// Forward rows from `(source, target)` pairs that are already sorted.
    pub fn forward(edges: impl IntoIterator<Item = (Dense, Dense)>) -> Adjacency {
        let edges = edges.into_iter();
        let mut rows = ForwardBuilder::with_capacity(edges.size_hint().0);
        for (source, target) in edges {
            rows.run(source, 1);
            rows.targets(&[target]);
        }
        rows.rows()
    }

    /// [`Self::forward`] of a list, by several threads.
    pub fn of_ends(edges: &[(Dense, Dense)]) -> Adjacency {
        debug_assert!(edges.is_sorted_by_key(|edge| edge.0));
        let rows = || {
            let mut rows = ForwardBuilder::default();
            edges.chunk_by(|a, b| a.0 == b.0).for_each(|run| rows.run(run[0].0, run.len() as u32));
            rows
        };
        let targets = || edges.par_iter().with_min_len(1 << 16).map(|edge| edge.1).collect();
        let (mut rows, neighbours) = rayon::join(rows, targets);
        rows.neighbours = neighbours;
        rows.rows()
    }

    /// Source and target of each edge, in their order.
    pub fn pairs(&self) -> impl Iterator<Item = (Dense, Dense)> {
        self.owners().flat_map(|node| self.neighbours(node).iter().map(move |neighbour| (node, *neighbour)))
    }

    /// The same edges by their targets, the sources in each row sorted. The targets of consecutive edges
    /// lie far apart, so edges are first spread over buckets of neighbouring targets and then put into
    /// rows bucket by bucket, each of which fits the processor's cache.
    pub fn reversed(&self) -> Adjacency {
        let pieces: Vec<&[Dense]> = self.neighbours.chunks(PIECE).collect();
        let Some(buckets) = Buckets::new(&pieces, |target| *target) else {
            return Adjacency { offsets: vec![0], ..Adjacency::default() };
        };
        let (low, high) = (buckets.low, buckets.high);
        let spread = self.spread(&buckets);
        let mut offsets = vec![0u32; (high - low) as usize + 2];
        let mut neighbours = vec![0; self.neighbours.len()];
        let mut positions = vec![0; self.neighbours.len()];
        let mut parts = vec![];
        let mut left = (&mut offsets[..], &mut neighbours[..], &mut positions[..]);
        for bucket in 0..buckets.len() {
            let edges = buckets.items(bucket);
            let (rows, own_neighbours, own_positions);
            (rows, left.0) = left.0.split_at_mut(left.0.len().min(1 << buckets.shift));
            (own_neighbours, left.1) = left.1.split_at_mut(edges.len());
            (own_positions, left.2) = left.2.split_at_mut(edges.len());
            parts.push((bucket, &spread[edges], rows, own_neighbours, own_positions));
        }
        parts.into_par_iter().for_each(|(bucket, edges, rows, neighbours, positions)| {
            let first = low + ((bucket as u32) << buckets.shift);
            // Each row's length one place further on, so that their sums say where the rows begin.
            let mut next = vec![0u32; rows.len() + 1];
            for edge in edges {
                next[(edge.target - first) as usize + 1] += 1;
            }
            accumulate(&mut next);
            for (row, start) in rows.iter_mut().zip(&next) {
                *row = buckets.starts[bucket] + start;
            }
            for edge in edges {
                let slot = &mut next[(edge.target - first) as usize];
                neighbours[*slot as usize] = edge.source;
                positions[*slot as usize] = edge.position;
                *slot += 1;
            }
        });
        // The last offset is where the last row ends; it may lie beyond the last bucket's rows.
        if let Some(end) = offsets.last_mut() {
            *end = self.neighbours.len() as u32;
        }
        Adjacency { first: low, offsets, neighbours, positions }
    }

    /// The edges in the order of their targets' buckets, within one in their own order.
    fn spread(&self, buckets: &Buckets) -> Vec<Spread> {
        buckets.spread(|piece, spreader| {
            let mut position = piece * PIECE;
            let end = self.neighbours.len().min(position + PIECE);
            let mut row = self.offsets.partition_point(|offset| *offset as usize <= position) - 1;
            while position < end {
                let source = self.first + row as u32;
                let row_end = end.min(self.offsets[row + 1] as usize);
                for at in position..row_end {
                    let target = self.neighbours[at];
                    let position = at as u32;
                    spreader.put(buckets.of(target), Spread { target, source, position });
                }
                position = row_end;
                row += 1;
            }
        })
    }

    pub fn len(&self) -> usize {
        self.neighbours.len()
    }

    pub fn is_empty(&self) -> bool {
        self.neighbours.is_empty()
    }

    /// Where the row of `node` begins and ends.
    #[inline]
    pub fn row(&self, node: Dense) -> std::ops::Range<usize> {
        let row = node.wrapping_sub(self.first) as usize;
        if row + 1 < self.offsets.len() {
            self.offsets[row] as usize..self.offsets[row + 1] as usize
        } else {
            0..0
        }
    }

    #[inline]
    pub fn neighbours(&self, node: Dense) -> &[Dense] {
        &self.neighbours[self.row(node)]
    }

    #[inline]
    pub fn entries(&self, row: std::ops::Range<usize>) -> &[Dense] {
        &self.neighbours[row]
    }

    #[inline]
    pub fn neighbour(&self, entry: usize) -> Dense {
        self.neighbours[entry]
    }

    /// Forward position of the edge at `entry`.
    #[inline]
    pub fn position(&self, entry: usize) -> u32 {
        if self.positions.is_empty() { entry as u32 } else { self.positions[entry] }
    }

    /// Forward positions of the edges at entries that follow each other; only where they are not the entries.
    #[inline]
    pub fn positions(&self, entries: std::ops::Range<usize>) -> &[u32] {
        &self.positions[entries]
    }

    /// Whether an entry's place is its edge's.
    #[inline]
    pub fn is_forward(&self) -> bool {
        self.positions.is_empty()
    }

    /// The node whose row holds `entry`.
    pub fn owner(&self, entry: usize) -> Dense {
        self.first + (self.offsets.partition_point(|&o| o as usize <= entry) - 1) as u32
    }

    /// The nodes that may have a row that is not empty.
    pub fn owners(&self) -> std::ops::Range<Dense> {
        self.first..self.first + (self.offsets.len() - 1) as u32
    }

    pub fn all_neighbours(&self) -> &[Dense] {
        &self.neighbours
    }

    pub fn bytes(&self) -> usize {
        4 * (self.offsets.len() + self.neighbours.len() + self.positions.len())
    }
}

/// Forward rows that are made from runs of edges with one source, in the order of the sources, and from all
/// their targets in the same order.
#[derive(Debug, Default)]
pub struct ForwardBuilder {
    first: Option<Dense>,
    /// Where each row before the last one's ends, and how many edges there are.
    offsets: Vec<u32>,
    edges: u32,
    neighbours: Vec<Dense>,
    /// Sources came out of order, or too many edges.
    broken: bool,
}

impl ForwardBuilder {
    pub fn with_capacity(edges: usize) -> ForwardBuilder {
        ForwardBuilder { neighbours: Vec::with_capacity(edges), ..ForwardBuilder::default() }
    }

    /// The next `edges` edges go out of `source`.
    #[inline]
    pub fn run(&mut self, source: Dense, edges: u32) {
        let first = *self.first.get_or_insert(source);
        match source.checked_sub(first).map(|row| row as usize + 1) {
            Some(rows) if rows >= self.offsets.len() => {
                // Rows between are empty.
                while self.offsets.len() < rows {
                    self.offsets.push(self.edges);
                }
            }
            _ => self.broken = true,
        }
        match self.edges.checked_add(edges) {
            Some(edges) => self.edges = edges,
            None => self.broken = true,
        }
    }

    pub fn targets(&mut self, targets: &[Dense]) {
        self.neighbours.extend_from_slice(targets);
    }

    pub fn len(&self) -> usize {
        self.neighbours.len()
    }

    pub fn is_empty(&self) -> bool {
        self.neighbours.is_empty()
    }

    /// `None` where sources came out of order, or there are not as many targets as edges.
    pub fn finish(self) -> Option<Adjacency> {
        let whole = !self.broken && self.edges as usize == self.neighbours.len();
        whole.then(|| self.rows())
    }

    /// Of edges that are known to be in order. More than a graph holds still count as what they are, so that they
    /// are refused.
    fn rows(mut self) -> Adjacency {
        self.offsets.push(self.edges);
        Adjacency {
            first: self.first.unwrap_or(0),
            offsets: self.offsets,
            neighbours: self.neighbours,
            positions: vec![],
        }
    }
}

/// An edge on its way into the reverse rows.
#[derive(Clone, Copy, Default)]
struct Spread {
    target: Dense,
    source: Dense,
    position: u32,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn both_directions_hold_exactly_the_edges(
            mut edges in prop::collection::vec((3u32..20, 0u32..25), 0..80),
        ) {
            edges.sort();
            let forward = Adjacency::forward(edges.iter().copied());
            prop_assert!(forward.pairs().eq(edges.iter().copied()));
            prop_assert!(Adjacency::of_ends(&edges).pairs().eq(edges.iter().copied()));
            let reverse = forward.reversed();
            for node in 0..30 {
                let out: Vec<u32> = edges.iter().filter(|e| e.0 == node).map(|e| e.1).collect();
                prop_assert_eq!(forward.neighbours(node), &out[..]);
                let into: Vec<u32> = edges.iter().filter(|e| e.1 == node).map(|e| e.0).collect();
                prop_assert_eq!(reverse.neighbours(node), &into[..]);
                for entry in reverse.row(node) {
                    let position = reverse.position(entry) as usize;
                    prop_assert_eq!(edges[position], (reverse.neighbour(entry), node));
                }
            }
            for (position, edge) in edges.iter().enumerate() {
                prop_assert_eq!(forward.owner(position), edge.0);
            }
        }
    }

    #[test]
    fn runs_out_of_order_or_without_their_targets_make_no_rows() {
        let made = |runs: &[(u32, u32)], targets: usize| {
            let mut rows = ForwardBuilder::default();
            runs.iter().for_each(|&(source, edges)| rows.run(source, edges));
            rows.targets(&vec![9; targets]);
            rows.finish()
        };
        // A source may come back in the next run, as where a segment ends within its row.
        let rows = made(&[(3, 2), (3, 1), (6, 1)], 4).expect("in order");
        assert_eq!([3, 4, 5, 6, 7].map(|node| rows.row(node)), [0..3, 3..3, 3..3, 3..4, 0..0]);
        assert!(made(&[], 0).is_some_and(|rows| rows.is_empty()));
        for (runs, targets) in [(&[(3, 2), (2, 1)][..], 3), (&[(3, 2), (5, 1), (4, 1)], 4), (&[(3, 2)], 1)] {
            assert!(made(runs, targets).is_none(), "{runs:?} {targets}");
        }
        assert!(made(&[(1, u32::MAX), (2, 1)], 0).is_none());
    }
}
