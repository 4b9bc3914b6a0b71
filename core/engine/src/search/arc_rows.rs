//! Arcs in rows, by the nodes at their ends: what ways between two nodes are counted over. Knows nothing of graphs.

use std::ops::Range;

/// An arc as it lies in a row: the node, the other node, the edge, and whether that may be taken the other way too.
pub(super) type Entry = (u32, u32, u32, bool);

/// Arcs by the node at one of their ends, in the order of those at the other.
#[derive(Default)]
pub(super) struct ArcRows {
    pub starts: Vec<u32>,
    pub others: Vec<u32>,
    /// How many arcs an entry stands for.
    pub times: Vec<u32>,
    /// Of entries that stand for one arc.
    pub edges: Vec<u32>,
    pub back: Vec<bool>,
}

impl ArcRows {
    /// Of sorted entries; arcs between the same two nodes become one where edges are not told apart.
    pub fn new(nodes: usize, entries: &[Entry], merged: bool) -> ArcRows {
        let mut rows = ArcRows { starts: vec![0; nodes + 1], ..ArcRows::default() };
        let mut before = None;
        for &(node, other, edge, back) in entries {
            if merged && before == Some((node, other)) {
                rows.times.last_mut().into_iter().for_each(|times| *times += 1);
                continue;
            }
            before = Some((node, other));
            rows.starts[node as usize + 1] += 1;
            rows.others.push(other);
            rows.times.push(1);
            if !merged {
                rows.edges.push(edge);
                rows.back.push(back);
            }
        }
        for node in 0..nodes {
            rows.starts[node + 1] += rows.starts[node];
        }
        rows
    }

    pub fn of(&self, node: u32) -> Range<usize> {
        self.starts[node as usize] as usize..self.starts[node as usize + 1] as usize
    }

    /// The other node of each entry, and how many arcs it stands for.
    pub fn entries(&self, node: u32) -> impl Iterator<Item = (u32, u64)> + '_ {
        self.of(node).map(|i| (self.others[i], u64::from(self.times[i])))
    }

    pub fn between(&self, node: u32, other: u32) -> Range<usize> {
        let row = self.of(node);
        let others = &self.others[row.clone()];
        let first = row.start + others.partition_point(|o| *o < other);
        let more = self.others[first..row.end].iter().take_while(|o| **o == other).count();
        first..first + more
    }

    pub fn count(&self, node: u32, other: u32) -> u64 {
        self.between(node, other).map(|i| u64::from(self.times[i])).sum()
    }

    /// By node, how many walks of this many edges lead along the rows from it, about.
    pub fn walks(&self, from: u32, edges: usize) -> f64 {
        let mut here = vec![0f64; self.starts.len() - 1];
        here[from as usize] = 1.0;
        for _ in 0..edges {
            let mut next = vec![0f64; here.len()];
            for node in (0..here.len()).filter(|node| here[*node] > 0.0) {
                let entries = self.entries(node as u32);
                entries.for_each(|(other, times)| next[other as usize] += here[node] * times as f64);
            }
            here = next;
        }
        here.iter().sum()
    }

    /// How many arcs of each node may be taken twice, one after the other: loops, and where there is a way back.
    pub fn again(&self, nodes: usize, counts: impl Fn(u32, bool) -> bool) -> Vec<u64> {
        let of = |node: u32| self.of(node).filter(|i| counts(self.others[*i], self.back[*i])).count() as u64;
        (0..nodes as u32).map(of).collect()
    }
}
