//! The part of a graph that a measure looks at: nodes numbered from 0, edges with their ends and weights, and
//! rows of neighbours each way, made when they are first asked for.

use std::sync::OnceLock;

use graphodrome_graph::Dense;

/// How an edge is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reading {
    /// From its source to its target.
    Along,
    /// From its target to its source.
    Against,
    /// Both ways.
    BothWays,
}

/// Which rows of a subgraph.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Arcs {
    /// To the nodes that edges lead to, as they are read.
    Out,
    /// To the nodes that edges come from.
    In,
    /// To all neighbours, however edges are read.
    Both,
}

/// Neighbours in compressed sparse rows, sorted by neighbour and edge.
#[derive(Clone, Debug, Default)]
pub struct Rows {
    starts: Vec<u32>,
    neighbours: Vec<u32>,
    edges: Vec<u32>,
}

impl Rows {
    fn of(nodes: usize, arcs: impl Iterator<Item = (u32, u32, u32)> + Clone) -> Rows {
        let mut starts = vec![0u32; nodes + 1];
        arcs.clone().for_each(|(from, ..)| starts[from as usize + 1] += 1);
        for i in 0..nodes {
            starts[i + 1] += starts[i];
        }
        let mut next = starts.clone();
        let total = starts[nodes] as usize;
        let (mut neighbours, mut edges) = (vec![0; total], vec![0; total]);
        for (from, to, edge) in arcs {
            let at = &mut next[from as usize];
            neighbours[*at as usize] = to;
            edges[*at as usize] = edge;
            *at += 1;
        }
        let mut rows = Rows { starts, neighbours, edges };
        rows.sort();
        rows
    }

    fn sort(&mut self) {
        let mut row: Vec<(u32, u32)> = vec![];
        for i in 0..self.starts.len() - 1 {
            let range = self.starts[i] as usize..self.starts[i + 1] as usize;
            if self.neighbours[range.clone()].is_sorted() {
                continue;
            }
            row.clear();
            row.extend(range.clone().map(|at| (self.neighbours[at], self.edges[at])));
            row.sort_unstable();
            for (at, (neighbour, edge)) in range.zip(&row) {
                self.neighbours[at] = *neighbour;
                self.edges[at] = *edge;
            }
        }
    }

    #[inline]
    pub fn of_node(&self, node: usize) -> &[u32] {
        &self.neighbours[self.starts[node] as usize..self.starts[node + 1] as usize]
    }

    /// The edges that lead to [`Self::of_node`], in the same order.
    #[inline]
    pub fn edges_of(&self, node: usize) -> &[u32] {
        &self.edges[self.starts[node] as usize..self.starts[node + 1] as usize]
    }

    #[inline]
    pub fn degree(&self, node: usize) -> usize {
        (self.starts[node + 1] - self.starts[node]) as usize
    }

    pub fn len(&self) -> usize {
        self.neighbours.len()
    }

    /// Where each node's row begins, and at the end how long all are together.
    pub fn starts(&self) -> &[u32] {
        &self.starts
    }

    /// The rows one after the other: neighbours, and the edges that lead to them.
    pub fn all(&self) -> (&[u32], &[u32]) {
        (&self.neighbours, &self.edges)
    }

    pub fn is_empty(&self) -> bool {
        self.neighbours.is_empty()
    }
}

#[derive(Debug, Default)]
pub struct Subgraph {
    /// By the subgraph's own numbers, the numbers that the graph has.
    nodes: Vec<Dense>,
    edges: Vec<Dense>,
    /// From where to where each edge is read; both ways where `both_ways` says so.
    ends: Vec<(u32, u32)>,
    both_ways: Vec<bool>,
    weights: Option<Vec<f64>>,
    out: OnceLock<Rows>,
    into: OnceLock<Rows>,
    both: OnceLock<Rows>,
}

impl Subgraph {
    pub fn new(nodes: Vec<Dense>) -> Subgraph {
        Subgraph { nodes, ..Subgraph::default() }
    }

    /// Of `nodes` nodes and edges read from the first end to the second: for tests and benchmarks.
    pub fn of_ends(nodes: usize, ends: &[(u32, u32)], both_ways: bool, weights: Option<&[f64]>) -> Subgraph {
        let mut made = Subgraph::new((0..nodes as Dense).collect());
        for (i, &(a, b)) in ends.iter().enumerate() {
            let reading = if both_ways { Reading::BothWays } else { Reading::Along };
            made.push(i as Dense, (a, b), reading, weights.map(|w| w[i]));
        }
        made
    }

    /// Adds an edge between two of its nodes, by their own numbers. Either every edge has a weight or none.
    pub fn push(&mut self, edge: Dense, (source, target): (u32, u32), reading: Reading, weight: Option<f64>) {
        self.edges.push(edge);
        self.ends.push(if reading == Reading::Against { (target, source) } else { (source, target) });
        self.both_ways.push(reading == Reading::BothWays);
        if let Some(weight) = weight {
            self.weights.get_or_insert_default().push(weight);
        }
    }

    pub fn node_count(&self) -> usize {
        self.nodes.len()
    }

    pub fn edge_count(&self) -> usize {
        self.edges.len()
    }

    pub fn node(&self, own: usize) -> Dense {
        self.nodes[own]
    }

    pub fn nodes(&self) -> &[Dense] {
        &self.nodes
    }

    pub fn edges(&self) -> &[Dense] {
        &self.edges
    }

    pub fn edge(&self, own: usize) -> Dense {
        self.edges[own]
    }

    pub fn ends(&self, edge: usize) -> (u32, u32) {
        self.ends[edge]
    }

    pub fn is_both_ways(&self, edge: usize) -> bool {
        self.both_ways[edge]
    }

    /// An edge's weight; 1 without weights.
    #[inline]
    pub fn weight(&self, edge: usize) -> f64 {
        self.weights.as_ref().map_or(1.0, |w| w[edge])
    }

    pub fn has_weights(&self) -> bool {
        self.weights.is_some()
    }

    pub fn rows(&self, arcs: Arcs) -> &Rows {
        let n = self.nodes.len();
        match arcs {
            Arcs::Out => self.out.get_or_init(|| Rows::of(n, self.arcs(false))),
            Arcs::In => self.into.get_or_init(|| Rows::of(n, self.arcs(true))),
            Arcs::Both => self.both.get_or_init(|| {
                let there = self.ends.iter().enumerate().map(|(e, &(a, b))| (a, b, e as u32));
                let back = self.ends.iter().enumerate().filter(|(_, (a, b))| a != b);
                Rows::of(n, there.chain(back.map(|(e, &(a, b))| (b, a, e as u32))))
            }),
        }
    }

    /// (from, to, edge) as edges are read; `turned` from their ends.
    fn arcs(&self, turned: bool) -> impl Iterator<Item = (u32, u32, u32)> + Clone {
        let turn = move |(a, b, e): (u32, u32, u32)| if turned { (b, a, e) } else { (a, b, e) };
        let there = self.ends.iter().enumerate().map(|(e, &(a, b))| (a, b, e as u32));
        let back = self.ends.iter().zip(&self.both_ways).enumerate();
        let back = back.filter(|(_, ((a, b), both))| **both && a != b);
        there.chain(back.map(|(e, ((a, b), _))| (*b, *a, e as u32))).map(turn)
    }

    /// Bytes that a subgraph of so many nodes and edges holds with all of its rows.
    pub fn bytes(nodes: usize, edges: usize) -> usize {
        nodes * (4 + 3 * 4) + edges * (4 + 8 + 1 + 8 + 3 * 2 * 8)
    }
}
