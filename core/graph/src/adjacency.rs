//! Adjacency in compressed sparse rows: for each node in a range, its neighbours sorted by id.

use crate::Dense;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
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
    pub fn forward(sources: &[Dense], targets: Vec<Dense>) -> Adjacency {
        debug_assert_eq!(sources.len(), targets.len());
        debug_assert!(sources.is_sorted());
        let (first, offsets) = match (sources.first(), sources.last()) {
            (Some(&first), Some(&last)) => {
                let mut offsets = vec![0u32; (last - first) as usize + 2];
                for source in sources {
                    offsets[(source - first) as usize + 1] += 1;
                }
                accumulate(&mut offsets);
                (first, offsets)
            }
            _ => (0, vec![0]),
        };
        Adjacency { first, offsets, neighbours: targets, positions: vec![] }
    }

    /// The same edges by their targets: a counting sort of the forward rows, so that the sources in
    /// each row come out sorted.
    pub fn reversed(&self) -> Adjacency {
        let (Some(&low), Some(&high)) = (self.neighbours.iter().min(), self.neighbours.iter().max()) else {
            return Adjacency { offsets: vec![0], ..Adjacency::default() };
        };
        let mut offsets = vec![0u32; (high - low) as usize + 2];
        for target in &self.neighbours {
            offsets[(target - low) as usize + 1] += 1;
        }
        accumulate(&mut offsets);
        let mut neighbours = vec![0; self.neighbours.len()];
        let mut positions = vec![0; self.neighbours.len()];
        // Two halves of the targets, filled side by side: each reads all edges and writes its own.
        let middle =
            offsets.partition_point(|&o| (o as usize) < self.neighbours.len() / 2).min(offsets.len() - 1);
        let cut = offsets[middle] as usize;
        let (left_neighbours, right_neighbours) = neighbours.split_at_mut(cut);
        let (left_positions, right_positions) = positions.split_at_mut(cut);
        rayon::join(
            || self.fill_reverse(low, &offsets, 0..middle, left_neighbours, left_positions),
            || self.fill_reverse(low, &offsets, middle..offsets.len() - 1, right_neighbours, right_positions),
        );
        Adjacency { first: low, offsets, neighbours, positions }
    }

    /// Fills the reverse rows of the targets `low + rows`; the slices hold just these rows.
    fn fill_reverse(
        &self, low: Dense, offsets: &[u32], rows: std::ops::Range<usize>, neighbours: &mut [Dense],
        positions: &mut [u32],
    ) {
        let start = offsets[rows.start];
        let mut next: Vec<u32> = offsets[rows.clone()].iter().map(|o| o - start).collect();
        for row in 0..self.offsets.len() - 1 {
            let source = self.first + row as u32;
            for position in self.offsets[row]..self.offsets[row + 1] {
                let target = (self.neighbours[position as usize] - low) as usize;
                if rows.contains(&target) {
                    let slot = &mut next[target - rows.start];
                    neighbours[*slot as usize] = source;
                    positions[*slot as usize] = position;
                    *slot += 1;
                }
            }
        }
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

fn accumulate(offsets: &mut [u32]) {
    let mut sum = 0;
    for offset in offsets {
        sum += *offset;
        *offset = sum;
    }
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
            let sources: Vec<u32> = edges.iter().map(|e| e.0).collect();
            let forward = Adjacency::forward(&sources, edges.iter().map(|e| e.1).collect());
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
}
