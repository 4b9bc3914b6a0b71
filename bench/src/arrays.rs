//! Plain searches over arrays, without a service, a language or a plan: the limit that the engine's searches are set beside.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// Rows of neighbours with weights, in arrays.
#[derive(Clone)]
pub struct Rows {
    pub starts: Vec<u32>,
    pub to: Vec<(u32, u32)>,
}

impl Rows {
    pub fn of(nodes: u32, arcs: impl Iterator<Item = (u32, u32, u32)> + Clone) -> Rows {
        let mut starts = vec![0u32; nodes as usize + 1];
        arcs.clone().for_each(|(a, ..)| starts[a as usize + 1] += 1);
        (0..nodes as usize).for_each(|i| starts[i + 1] += starts[i]);
        let (mut next, mut to) = (starts.clone(), vec![(0, 0); starts[nodes as usize] as usize]);
        for (a, b, weight) in arcs {
            to[next[a as usize] as usize] = (b, weight);
            next[a as usize] += 1;
        }
        Rows { starts, to }
    }

    pub fn row(&self, node: u32) -> &[(u32, u32)] {
        &self.to[self.starts[node as usize] as usize..self.starts[node as usize + 1] as usize]
    }

    pub fn nodes(&self) -> usize {
        self.starts.len() - 1
    }
}

/// What a search over arrays remembers from one to the next: which nodes it has seen, by the number of the search.
pub struct Marks {
    pub seen: Vec<u32>,
    pub search: u32,
}

impl Marks {
    pub fn of(nodes: usize) -> Marks {
        Marks { seen: vec![0; nodes], search: 0 }
    }

    pub fn first(&mut self, node: u32) -> bool {
        std::mem::replace(&mut self.seen[node as usize], self.search) != self.search
    }
}

/// How many nodes are reached in 1 to `hops` steps; `back` says whether the first may be among them: over edges that go both ways
/// it is not, within fewer steps than a ring has.
pub fn within((rows, back): (&Rows, bool), from: u32, hops: u32, marks: &mut Marks) -> i64 {
    marks.search += 1;
    if !back {
        marks.first(from);
    }
    let (mut newest, mut next, mut found) = (vec![from], vec![], 0);
    for _ in 0..hops {
        for node in newest.drain(..) {
            for (other, _) in rows.row(node) {
                if marks.first(*other) {
                    found += 1;
                    next.push(*other);
                }
            }
        }
        std::mem::swap(&mut newest, &mut next);
    }
    found
}

/// The least sum of weights between two nodes, by a binary heap; -1 where there is no way.
pub fn cheapest(rows: &Rows, (from, to): (u32, u32)) -> i64 {
    let mut known = vec![u64::MAX; rows.nodes()];
    let mut heap = BinaryHeap::from([Reverse((0u64, from))]);
    known[from as usize] = 0;
    while let Some(Reverse((sum, node))) = heap.pop() {
        if node == to {
            return sum as i64;
        }
        if sum > known[node as usize] {
            continue;
        }
        for (other, weight) in rows.row(node) {
            let sum = sum + u64::from(*weight);
            if sum < known[*other as usize] {
                known[*other as usize] = sum;
                heap.push(Reverse((sum, *other)));
            }
        }
    }
    -1
}

/// How many other nodes lie within a sum of weights.
pub fn near(rows: &Rows, from: u32, most: u64) -> i64 {
    let mut known = vec![u64::MAX; rows.nodes()];
    let mut heap = BinaryHeap::from([Reverse((0u64, from))]);
    known[from as usize] = 0;
    let mut found = -1;
    while let Some(Reverse((sum, node))) = heap.pop() {
        if sum > known[node as usize] {
            continue;
        }
        found += 1;
        for (other, weight) in rows.row(node) {
            let sum = sum + u64::from(*weight);
            if sum <= most && sum < known[*other as usize] {
                known[*other as usize] = sum;
                heap.push(Reverse((sum, *other)));
            }
        }
    }
    found
}

/// Walks of so many steps: how many nodes they end at.
pub fn walks(rows: &Rows, from: u32, steps: u32) -> i64 {
    let mut counts = vec![0u64; rows.nodes()];
    counts[from as usize] = 1;
    let mut newest = vec![from];
    for _ in 0..steps {
        let mut next_counts = vec![0u64; rows.nodes()];
        let mut next = vec![];
        for node in &newest {
            let count = counts[*node as usize];
            for (other, _) in rows.row(*node) {
                if next_counts[*other as usize] == 0 {
                    next.push(*other);
                }
                next_counts[*other as usize] += count;
            }
        }
        (counts, newest) = (next_counts, next);
    }
    newest.len() as i64
}

/// What an edge passes on, out of its weight.
pub fn share(weight: u32) -> f64 {
    f64::from(weight) / 250.0
}

/// Sums of products over all ways out of node 0, in the order of the nodes.
pub fn passed_on(rows: &Rows) -> f64 {
    let mut sums = vec![0.0; rows.nodes()];
    sums[0] = 1.0;
    for node in 0..rows.nodes() {
        let sum = sums[node];
        if sum > 0.0 {
            for (other, weight) in rows.row(node as u32) {
                sums[*other as usize] += sum * share(*weight);
            }
        }
    }
    sums[1..].iter().sum()
}

/// Ways back to the first node that take no other node twice, made one by one.
pub fn rings(out: &Rows, way: &mut Vec<u32>, length: usize) -> i64 {
    let here = way[way.len() - 1];
    let mut found = 0;
    for &(next, _) in out.row(here) {
        if way.len() == length {
            found += i64::from(next == way[0]);
        } else if !way.contains(&next) {
            way.push(next);
            found += rings(out, way, length);
            way.pop();
        }
    }
    found
}
