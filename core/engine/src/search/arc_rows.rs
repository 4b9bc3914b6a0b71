//! Arcs in rows, by the nodes at their ends: what ways between two nodes are counted over. Knows nothing of graphs.

use std::ops::Range;

/// An edge as it may be taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Passage {
    pub from: u32,
    pub to: u32,
    pub edge: u32,
}

impl Passage {
    fn turned(self) -> Passage {
        Passage { from: self.to, to: self.from, ..self }
    }
}

/// Is told how much was looked at, and may end it.
pub(super) type TellWork<'w, E> = &'w mut dyn FnMut(u64) -> Result<(), E>;

/// Bytes of an arc in rows both ways, and while they are made.
pub(super) const ARC_BYTES: usize = size_of::<Passage>() + size_of::<(u32, u32)>() + 2 * (3 * 4 + 1);

/// Arcs by the node at one of their ends, in the order of those at the other.
#[derive(Default)]
pub(super) struct ArcRows {
    starts: Vec<u32>,
    pub others: Vec<u32>,
    /// How many arcs an entry stands for.
    pub times: Vec<u32>,
    /// Of entries that stand for one arc.
    pub edges: Vec<u32>,
    /// Whether the edge may be taken the other way too.
    pub back: Vec<bool>,
}

impl ArcRows {
    /// Rows from the nodes, and rows to them. Arcs between the same two nodes become one entry where they are `merged`; with
    /// `both_ways` an edge may be among the arcs in both directions.
    pub fn both<E>(
        nodes: usize, arcs: &[Passage], merged: bool, both_ways: bool, work: TellWork<'_, E>,
    ) -> Result<(ArcRows, ArcRows), E> {
        let mut out = ArcRows::new(nodes, arcs.iter().copied(), merged, work)?;
        let mut into = ArcRows::new(nodes, arcs.iter().map(|arc| arc.turned()), merged, work)?;
        if both_ways && !merged {
            for node in 0..nodes as u32 {
                work((out.of(node).len() + into.of(node).len()) as u64)?;
                for i in out.of(node) {
                    let (other, edge) = (out.others[i], out.edges[i]);
                    out.back[i] = other != node && out.has(other, node, edge);
                }
                for i in into.of(node) {
                    let (other, edge) = (into.others[i], into.edges[i]);
                    into.back[i] = other != node && out.has(node, other, edge);
                }
            }
        }
        Ok((out, into))
    }

    fn new<E>(
        nodes: usize, arcs: impl Iterator<Item = Passage> + Clone, merged: bool, work: TellWork<'_, E>,
    ) -> Result<ArcRows, E> {
        let mut ends = vec![0u32; nodes + 1];
        arcs.clone().for_each(|arc| ends[arc.from as usize + 1] += 1);
        (0..nodes).for_each(|node| ends[node + 1] += ends[node]);
        let mut sorted = vec![(0u32, 0u32); ends[nodes] as usize];
        let mut next = ends.clone();
        for arc in arcs {
            let place = &mut next[arc.from as usize];
            sorted[*place as usize] = (arc.to, arc.edge);
            *place += 1;
        }
        let mut rows = ArcRows { starts: vec![0], ..ArcRows::default() };
        for node in 0..nodes {
            let row = &mut sorted[ends[node] as usize..ends[node + 1] as usize];
            work(row.len() as u64)?;
            row.sort_unstable();
            let first = rows.others.len();
            for &(other, edge) in row.iter() {
                if merged && rows.others[first..].last() == Some(&other) {
                    rows.times.last_mut().into_iter().for_each(|times| *times += 1);
                    continue;
                }
                rows.others.push(other);
                rows.times.push(1);
                if !merged {
                    rows.edges.push(edge);
                    rows.back.push(false);
                }
            }
            rows.starts.push(rows.others.len() as u32);
        }
        Ok(rows)
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

    /// Whether this edge leads from a node to another. Those between two nodes are in their order.
    fn has(&self, node: u32, other: u32, edge: u32) -> bool {
        self.edges[self.between(node, other)].binary_search(&edge).is_ok()
    }

    /// About how many walks of this many arcs lead along the rows from a node.
    pub fn walks<E>(&self, from: u32, arcs: usize, work: TellWork<'_, E>) -> Result<f64, E> {
        let mut here = vec![0f64; self.starts.len() - 1];
        here[from as usize] = 1.0;
        for _ in 0..arcs {
            work(self.others.len() as u64)?;
            let mut next = vec![0f64; here.len()];
            for node in (0..here.len()).filter(|node| here[*node] > 0.0) {
                let entries = self.entries(node as u32);
                entries.for_each(|(other, times)| next[other as usize] += here[node] * times as f64);
            }
            here = next;
        }
        Ok(here.iter().sum())
    }

    /// How many arcs of each node are like this: by the node, the node at the other end, and whether there is a way back.
    pub fn counts(&self, like: impl Fn(u32, u32, bool) -> bool) -> Vec<u64> {
        let of = |node: u32| self.of(node).filter(|i| like(node, self.others[*i], self.back[*i])).count();
        (0..self.starts.len() as u32 - 1).map(|node| of(node) as u64).collect()
    }
}
