//! Looking things up in rows of neighbours, which are sorted.

use graphodrome_graph::Dense;

/// The first place from `at` on whose node is `wanted` or beyond: in growing steps, then by halves.
#[inline]
pub(crate) fn seek(others: &[Dense], at: usize, wanted: Dense) -> usize {
    let (mut low, mut step) = (at, 1);
    while low + step <= others.len() && others[low + step - 1] < wanted {
        low += step;
        step *= 2;
    }
    let high = others.len().min(low + step);
    low + others[low..high].partition_point(|other| *other < wanted)
}

/// How many entries from `at` on are of this node.
#[inline]
pub(super) fn run(others: &[Dense], at: usize, node: Dense) -> usize {
    others[at..].iter().take_while(|other| **other == node).count()
}
