//! Nodes with the same neighbours.

use rayon::prelude::*;

use crate::{Arcs, Ask, Steps, Stopped, Subgraph};

/// How alike two sets of neighbours are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Likeness {
    /// Common neighbours of all neighbours.
    Jaccard,
    /// Common neighbours of the fewer neighbours.
    Overlap,
    /// The cosine of the angle between rows of weights.
    Cosine,
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Pair {
    pub a: u32,
    pub b: u32,
    pub score: f64,
    /// Neighbours that both have.
    pub common: u32,
}

/// For each node the `most` others that are most alike by the nodes that edges lead to, those with a score of
/// `least` and more and above 0; best first, of equals the lower number.
///
/// Source: P. Jaccard, 1901; D. Szymkiewicz, 1934; G. Salton, 1983. Pairs are found over their common neighbours:
/// the sum over nodes of the squares of the edges that come in; 12 bytes a node and thread.
pub fn similar(
    graph: &Subgraph, likeness: Likeness, most: usize, least: f64, ask: Ask<'_>,
) -> Result<Vec<Pair>, Stopped> {
    let n = graph.node_count();
    graph.rows(Arcs::In);
    let out = graph.rows(Arcs::Out);
    // Parallel edges count once, their weights together.
    let rows: Vec<Vec<(u32, f64)>> = (0..n)
        .into_par_iter()
        .map(|node| {
            let mut row: Vec<(u32, f64)> = vec![];
            for (&other, &edge) in out.of_node(node).iter().zip(out.edges_of(node)) {
                let weight = graph.weight(edge as usize);
                match row.last_mut() {
                    Some(last) if last.0 == other => last.1 += weight,
                    _ => row.push((other, weight)),
                }
            }
            row
        })
        .collect();
    let mut into: Vec<Vec<(u32, f64)>> = vec![vec![]; n];
    for (node, row) in rows.iter().enumerate() {
        row.iter().for_each(|(other, weight)| into[*other as usize].push((node as u32, *weight)));
    }
    let lengths: Vec<f64> =
        rows.iter().map(|row| row.iter().map(|(_, w)| w * w).sum::<f64>().sqrt()).collect();
    let of_one = |(common, sums): &mut (Vec<u32>, Vec<f64>), node: usize| -> Result<Vec<Pair>, Stopped> {
        let mut steps = Steps::new(ask);
        steps.done = node as f64 / n as f64;
        if node.is_multiple_of(64) {
            ask(steps.done)?;
        }
        let mut seen: Vec<u32> = vec![];
        for &(through, weight) in &rows[node] {
            let others = &into[through as usize];
            steps.step(others.len() + 1)?;
            for &(other, theirs) in others {
                if other as usize != node {
                    if common[other as usize] == 0 {
                        seen.push(other);
                    }
                    common[other as usize] += 1;
                    sums[other as usize] += weight * theirs;
                }
            }
        }
        let mut found: Vec<Pair> = vec![];
        for other in seen {
            let at = other as usize;
            let (both, sum) = (std::mem::take(&mut common[at]), std::mem::take(&mut sums[at]));
            let (a, b) = (rows[node].len() as f64, rows[at].len() as f64);
            let score = match likeness {
                Likeness::Jaccard => f64::from(both) / (a + b - f64::from(both)),
                Likeness::Overlap => f64::from(both) / a.min(b),
                Likeness::Cosine => sum / (lengths[node] * lengths[at]),
            };
            if score >= least && score > 0.0 {
                found.push(Pair { a: node as u32, b: other, score, common: both });
            }
        }
        found.sort_unstable_by(|x, y| y.score.total_cmp(&x.score).then(x.b.cmp(&y.b)));
        found.truncate(most);
        Ok(found)
    };
    let found: Vec<Vec<Pair>> = (0..n)
        .into_par_iter()
        .map_init(|| (vec![0u32; n], vec![0.0; n]), of_one)
        .collect::<Result<_, _>>()?;
    Ok(found.into_iter().flatten().collect())
}
