//! Measures as their definitions say, without any thought of speed.

use graphodrome_algorithms::{Likeness, Subgraph};

/// A graph as a list of arcs, and one of edges.
pub struct Plain {
    pub nodes: usize,
    /// (from, to, weight); an edge that is read both ways is two, but a loop.
    arcs: Vec<(usize, usize, f64)>,
    edges: Vec<(usize, usize, f64)>,
    both_ways: bool,
}

/// Nodes that are alike by `same`, numbered by their first.
pub fn grouped(nodes: usize, same: impl Fn(usize, usize) -> bool) -> (Vec<u32>, usize) {
    let mut numbers: Vec<u32> = vec![];
    let mut count = 0;
    for node in 0..nodes {
        let known = (0..node).find(|other| same(*other, node));
        numbers.push(known.map_or(count, |other| numbers[other]));
        count += u32::from(known.is_none());
    }
    (numbers, count as usize)
}

impl Plain {
    pub fn of(graph: &Subgraph) -> Plain {
        let (mut arcs, mut edges) = (vec![], vec![]);
        for e in 0..graph.edge_count() {
            let ((a, b), weight) = (graph.ends(e), graph.weight(e));
            let (a, b) = (a as usize, b as usize);
            edges.push((a, b, weight));
            arcs.push((a, b, weight));
            if graph.is_both_ways(e) && a != b {
                arcs.push((b, a, weight));
            }
        }
        let both_ways = graph.edge_count() > 0 && (0..graph.edge_count()).all(|e| graph.is_both_ways(e));
        Plain { nodes: graph.node_count(), arcs, edges, both_ways }
    }

    pub fn has_arc(&self, a: usize, b: usize) -> bool {
        self.arcs.iter().any(|(x, y, _)| (*x, *y) == (a, b))
    }

    pub fn page_rank_step(&self, scores: &[f64], damping: f64, begin: &[u32]) -> Vec<f64> {
        let leaving = |node: usize| self.arcs.iter().filter(|a| a.0 == node).map(|a| a.2).sum::<f64>();
        let beginning = |node: usize| match begin.len() {
            0 => 1.0 / self.nodes as f64,
            len => begin.iter().filter(|b| **b as usize == node).count() as f64 / len as f64,
        };
        let stuck: f64 = (0..self.nodes).filter(|n| leaving(*n) == 0.0).map(|n| scores[n]).sum();
        let arriving = |node: usize| -> f64 {
            self.arcs.iter().filter(|a| a.1 == node).map(|(a, _, w)| scores[*a] * w / leaving(*a)).sum()
        };
        let of =
            |node| damping * (arriving(node) + stuck * beginning(node)) + (1.0 - damping) * beginning(node);
        (0..self.nodes).map(of).collect()
    }

    /// Walks of at most `longest` edges.
    pub fn katz(&self, alpha: f64, longest: usize) -> Vec<f64> {
        let (mut ways, mut sums) = (vec![1.0; self.nodes], vec![1.0; self.nodes]);
        for _ in 0..longest {
            let mut next = vec![0.0; self.nodes];
            self.arcs.iter().for_each(|(a, b, w)| next[*b] += alpha * w * ways[*a]);
            sums.iter_mut().zip(&next).for_each(|(sum, way)| *sum += way);
            ways = next;
        }
        sums
    }

    /// The adjacency matrix plus one, times a vector.
    pub fn shifted_product(&self, scores: &[f64]) -> Vec<f64> {
        let mut product = scores.to_vec();
        self.arcs.iter().for_each(|(a, b, w)| product[*b] += w * scores[*a]);
        product
    }

    pub fn distances_from(&self, from: usize) -> Vec<f64> {
        let mut far = vec![f64::INFINITY; self.nodes];
        far[from] = 0.0;
        for _ in 0..self.nodes {
            for (a, b, w) in &self.arcs {
                far[*b] = far[*b].min(far[*a] + w);
            }
        }
        far
    }

    /// All shortest paths between two nodes, as nodes and with parallel edges told apart.
    fn shortest(&self, from: usize, to: usize) -> Vec<Vec<usize>> {
        let far = self.distances_from(from);
        if far[to].is_infinite() {
            return vec![];
        }
        let mut paths = vec![vec![to]];
        let mut done = vec![];
        while let Some(path) = paths.pop() {
            let last = *path.last().unwrap();
            if last == from {
                done.push(path);
                continue;
            }
            for (a, b, w) in &self.arcs {
                if *b == last && a != b && far[*a] + w == far[last] {
                    paths.push(path.iter().copied().chain([*a]).collect());
                }
            }
        }
        done
    }

    pub fn betweenness(&self) -> Vec<f64> {
        let mut scores = vec![0.0; self.nodes];
        for (from, to) in
            (0..self.nodes).flat_map(|a| (0..self.nodes).map(move |b| (a, b))).filter(|(a, b)| a != b)
        {
            let paths = self.shortest(from, to);
            for path in &paths {
                for node in &path[1..path.len() - 1] {
                    scores[*node] += 1.0 / paths.len() as f64;
                }
            }
        }
        if self.both_ways {
            scores.iter_mut().for_each(|s| *s /= 2.0);
        }
        scores
    }

    fn neighbours(&self, a: usize, b: usize) -> bool {
        a != b && self.edges.iter().any(|(x, y, _)| (*x, *y) == (a, b) || (*x, *y) == (b, a))
    }

    pub fn cores(&self) -> Vec<u32> {
        let mut cores = vec![0; self.nodes];
        for k in 1..self.nodes as u32 {
            let mut left: Vec<usize> = (0..self.nodes).collect();
            loop {
                let inner =
                    |n: &usize| left.iter().filter(|o| self.neighbours(*n, **o)).count() >= k as usize;
                let kept: Vec<usize> = left.iter().copied().filter(inner).collect();
                if kept.len() == left.len() {
                    break;
                }
                left = kept;
            }
            left.iter().for_each(|n| cores[*n] = k);
        }
        cores
    }

    pub fn triangles(&self) -> (Vec<u64>, u64) {
        let (mut by_node, mut total) = (vec![0; self.nodes], 0);
        for a in 0..self.nodes {
            for b in a + 1..self.nodes {
                for c in b + 1..self.nodes {
                    if self.neighbours(a, b) && self.neighbours(b, c) && self.neighbours(a, c) {
                        [a, b, c].into_iter().for_each(|n| by_node[n] += 1);
                        total += 1;
                    }
                }
            }
        }
        (by_node, total)
    }

    /// Whether edges, read both ways, lead from one to the other without an edge or a node.
    pub fn connected(
        &self, a: usize, b: usize, without_edge: Option<usize>, without_node: Option<usize>,
    ) -> bool {
        let mut seen = vec![false; self.nodes];
        seen[a] = true;
        for _ in 0..self.nodes {
            for (e, (x, y, _)) in self.edges.iter().enumerate() {
                let gone = Some(e) == without_edge || Some(*x) == without_node || Some(*y) == without_node;
                if !gone && (seen[*x] || seen[*y]) {
                    seen[*x] = true;
                    seen[*y] = true;
                }
            }
        }
        seen[b]
    }

    pub fn reachable(&self, from: usize, to: usize, without: Option<usize>) -> bool {
        if Some(from) == without || Some(to) == without {
            return false;
        }
        let mut seen = vec![false; self.nodes];
        seen[from] = true;
        for _ in 0..self.nodes {
            for (a, b, _) in &self.arcs {
                seen[*b] |= seen[*a] && Some(*b) != without;
            }
        }
        seen[to]
    }

    /// By node the longest way to it; edges lead to greater numbers.
    pub fn longest(&self) -> Vec<f64> {
        let mut best = vec![0.0f64; self.nodes];
        for node in 0..self.nodes {
            for (a, _, w) in self.arcs.iter().filter(|(_, b, _)| *b == node) {
                best[node] = best[node].max(best[*a] + w);
            }
        }
        best
    }

    pub fn likeness(&self, likeness: Likeness, a: usize, b: usize) -> f64 {
        let row = |node: usize| -> Vec<f64> {
            (0..self.nodes)
                .map(|to| self.arcs.iter().filter(|(x, y, _)| (*x, *y) == (node, to)).map(|a| a.2).sum())
                .collect()
        };
        let (a, b) = (row(a), row(b));
        let many = |row: &[f64]| row.iter().filter(|w| **w > 0.0).count() as f64;
        let common = a.iter().zip(&b).filter(|(a, b)| **a > 0.0 && **b > 0.0).count() as f64;
        let product: f64 = a.iter().zip(&b).map(|(a, b)| a * b).sum();
        let length = |row: &[f64]| row.iter().map(|w| w * w).sum::<f64>().sqrt();
        let score = match likeness {
            Likeness::Jaccard => common / (many(&a) + many(&b) - common),
            Likeness::Overlap => common / many(&a).min(many(&b)),
            Likeness::Cosine => product / (length(&a) * length(&b)),
        };
        if score.is_finite() { score } else { 0.0 }
    }

    /// The greatest distance, read both ways, within the largest component; of equals the first.
    pub fn largest_diameter(&self) -> f64 {
        let both = self.edges.iter().flat_map(|(a, b, w)| [(*a, *b, *w), (*b, *a, *w)]);
        let plain =
            Plain { nodes: self.nodes, arcs: both.collect(), edges: self.edges.clone(), both_ways: true };
        let members = |node: usize| (0..self.nodes).filter(|n| self.connected(node, *n, None, None)).count();
        let first = (0..self.nodes).rev().max_by_key(|n| members(*n)).unwrap();
        (0..self.nodes)
            .filter(|n| self.connected(first, *n, None, None))
            .flat_map(|n| plain.distances_from(n).into_iter().filter(|d| d.is_finite()))
            .fold(0.0, f64::max)
    }

    /// The sum over pairs of nodes of one community of what is there less what is expected.
    pub fn modularity(&self, communities: &[u32]) -> f64 {
        let twice: f64 = 2.0 * self.edges.iter().map(|e| e.2).sum::<f64>();
        if twice == 0.0 {
            return 0.0;
        }
        let between = |i: usize, j: usize| -> f64 {
            let there = self.edges.iter().map(|(a, b, w)| {
                f64::from(u8::from((*a, *b) == (i, j))) * w + f64::from(u8::from((*b, *a) == (i, j))) * w
            });
            there.sum()
        };
        let degree = |i: usize| (0..self.nodes).map(|j| between(i, j)).sum::<f64>();
        let pairs = (0..self.nodes).flat_map(|i| (0..self.nodes).map(move |j| (i, j)));
        let same = pairs.filter(|(i, j)| communities[*i] == communities[*j]);
        same.map(|(i, j)| between(i, j) - degree(i) * degree(j) / twice).sum::<f64>() / twice
    }
}
