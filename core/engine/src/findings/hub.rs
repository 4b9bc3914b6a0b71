//! One hop of a search did most of its work, at a node with very many edges.

use super::{Look, Reason, times};
use crate::profile::in_words;

const FEWEST: u64 = 2_000;
const SHARE: f64 = 0.4;
const LEAST_DEGREE: u64 = 100;
/// How many times the mean of its hop's other nodes.
const MEANS: f64 = 10.0;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    let actual = look.actual?;
    let hops = &actual.hops;
    let all: u64 = hops.iter().map(|h| h.edges_looked).sum();
    let widest = hops.iter().max_by_key(|h| h.edges_looked)?;
    let share = widest.edges_looked as f64 / all.max(1) as f64;
    // A hub is one node with a good part of its hop's edges; hops of several searches are added up.
    let searches = actual.searches.max(1);
    // And one that has far more of them than the others.
    let others = widest.edges_looked.saturating_sub(widest.largest_degree) as f64;
    let mean = others / (widest.frontier as f64 - 1.0).max(1.0);
    let stands_out = widest.largest_degree >= LEAST_DEGREE && widest.largest_degree as f64 >= mean * MEANS;
    let is_hub =
        stands_out && widest.largest_degree * 4 * searches >= widest.edges_looked && widest.frontier > 1;
    if all < FEWEST || hops.len() < 2 || share < SHARE || !is_hub {
        return None;
    }
    Reason::new(
        format!(
            "hop {} looked at {} of {} ({:.0} %): {} has {}",
            widest.hop,
            widest.edges_looked,
            times(all, "edge"),
            share * 100.0,
            in_words(widest.largest, look.snapshot),
            times(widest.largest_degree, "edge")
        ),
        "stay off such nodes with a condition on the edge or its ends within the repetition, name fewer edge labels, or bound the hops",
    )
}
