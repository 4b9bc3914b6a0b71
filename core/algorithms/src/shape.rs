//! One number for a whole graph: assortativity, and bounds of its diameter.

use crate::{Arcs, Ask, Distances, Steps, Stopped, Subgraph, weak_components};

/// The correlation of the degrees at both ends of edges, read both ways, from -1 to 1; `None` where all degrees are
/// alike or there is no edge.
///
/// Source: M. E. J. Newman, Assortative mixing in networks, 2002. O(m).
pub fn assortativity(graph: &Subgraph) -> Option<f64> {
    let rows = graph.rows(Arcs::Both);
    let (mut products, mut sums, mut squares) = (0.0, 0.0, 0.0);
    let m = graph.edge_count() as f64;
    for edge in 0..graph.edge_count() {
        let (a, b) = graph.ends(edge);
        // A loop is two ends of one edge.
        let loops = |node: u32| rows.of_node(node as usize).iter().filter(|o| **o == node).count();
        let degree = |node: u32| (rows.degree(node as usize) + loops(node)) as f64;
        let (a, b) = (degree(a), degree(b));
        products += a * b;
        sums += (a + b) / 2.0;
        squares += (a * a + b * b) / 2.0;
    }
    let mean = sums / m;
    let spread = squares / m - mean * mean;
    (m > 0.0 && spread > 1e-12).then(|| (products / m - mean * mean) / spread)
}

/// Bounds of the diameter of the largest weak component, read both ways: (at least, at most); equal where it is
/// known. By hops, or by weights where the graph has them.
///
/// Source: P. Crescenzi, R. Grossi, M. Habib, L. Lanzi, A. Marino, On computing the diameter of real-world
/// undirected graphs, 2013: a double sweep, then searches from the nodes farthest from its middle, `searches` at
/// most. O(m) a search.
pub fn diameter_bounds(graph: &Subgraph, searches: usize, ask: Ask<'_>) -> Result<(f64, f64), Stopped> {
    let n = graph.node_count();
    if n == 0 {
        return Ok((0.0, 0.0));
    }
    let (component, count) = weak_components(graph, ask)?;
    let mut sizes = vec![0u32; count];
    component.iter().for_each(|c| sizes[*c as usize] += 1);
    let largest = (0..count).max_by_key(|c| (sizes[*c], std::cmp::Reverse(*c))).unwrap_or(0) as u32;
    let rows = graph.rows(Arcs::Both);
    let within = (0..n as u32).filter(|node| component[*node as usize] == largest);
    let first =
        within.max_by_key(|node| (rows.degree(*node as usize), std::cmp::Reverse(*node))).unwrap_or(0);
    let mut steps = Steps::new(ask);
    let mut found = Distances::for_nodes(n);
    let mut farthest = |from: u32, found: &mut Distances| -> Result<(u32, f64), Stopped> {
        found.search(graph, Arcs::Both, from, &mut steps)?;
        let far = |node: u32| found.to[node as usize];
        let last = found.reached.iter().copied().fold(from, |a, b| if far(b) > far(a) { b } else { a });
        Ok((last, far(last)))
    };
    let (a, _) = farthest(first, &mut found)?;
    let (b, mut least) = farthest(a, &mut found)?;
    // The middle: as far from the one as from the other.
    let from_a = found.to.clone();
    let (_, there) = farthest(b, &mut found)?;
    least = least.max(there);
    let away = |node: u32| from_a[node as usize].max(found.to[node as usize]);
    let middle =
        found.reached.iter().copied().reduce(|x, y| if away(y) < away(x) { y } else { x }).unwrap_or(a);
    let (_, height) = farthest(middle, &mut found)?;
    least = least.max(height);
    let mut by_distance: Vec<(f64, u32)> =
        found.reached.iter().map(|n| (found.to[*n as usize], *n)).collect();
    by_distance.sort_unstable_by(|x, y| y.0.total_cmp(&x.0).then(x.1.cmp(&y.1)));
    let mut most = 2.0 * height;
    for &(distance, node) in by_distance.iter().take(searches) {
        // Two nodes no farther from the middle are no farther from each other than twice that.
        most = most.min(2.0 * distance).max(least);
        if most <= least {
            return Ok((least, least));
        }
        let (_, far) = farthest(node, &mut found)?;
        least = least.max(far);
    }
    match by_distance.get(searches) {
        Some((distance, _)) => Ok((least, most.min(2.0 * distance).max(least))),
        None => Ok((least, least)),
    }
}
