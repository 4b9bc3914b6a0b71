//! Graphs that benches are run on, as lists of edges: the same ones each time.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// Source, target, weight; nodes are numbered from 0 on.
pub type Edges = Vec<(u32, u32, u32)>;

/// An edge between two of 2^scale nodes, drawn with a skew (R-MAT, 0.57, 0.19, 0.19).
pub fn r_mat(random: &mut ChaCha8Rng, scale: u32) -> (u32, u32) {
    let (mut a, mut b) = (0u32, 0u32);
    for _ in 0..scale {
        let draw = random.random::<f64>();
        let (down, right) = ((0.76..).contains(&draw), (0.57..0.76).contains(&draw) || draw >= 0.95);
        (a, b) = (a << 1 | u32::from(down), b << 1 | u32::from(right));
    }
    (a, b)
}

/// Sixteen such edges a node, with weights.
pub fn skewed(scale: u32) -> Edges {
    let mut random = ChaCha8Rng::seed_from_u64(7);
    let mut edge = || {
        let (a, b) = r_mat(&mut random, scale);
        (a, b, random.random_range(1..=100))
    };
    (0..16usize << scale).map(|_| edge()).collect()
}

/// A square of so many nodes a side; one edge of twenty is missing.
pub fn grid(side: u32) -> Edges {
    let mut random = ChaCha8Rng::seed_from_u64(3);
    let mut edges = vec![];
    for node in 0..side * side {
        let right = (node % side + 1 < side).then_some(node + 1);
        let below = (node / side + 1 < side).then_some(node + side);
        for other in right.into_iter().chain(below) {
            if random.random_range(0..20) > 0 {
                edges.push((node, other, random.random_range(10..=500)));
            }
        }
    }
    edges
}

/// A network without cycles: layers of so many nodes, each of which leads on to five of the next layer.
pub fn downhill(nodes: u32, layer: u32) -> Edges {
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let mut edges = vec![];
    for node in 0..nodes - layer {
        let next = (node / layer + 1) * layer;
        for _ in 0..5 {
            edges.push((node, next + random.random_range(0..layer), random.random_range(1..=100)));
        }
    }
    edges
}
