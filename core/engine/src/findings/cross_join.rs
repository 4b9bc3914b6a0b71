//! Two parts of a pattern that nothing joins.

use super::{Look, Reason, times};
use crate::operators::CrossJoin;

const FEWEST: f64 = 1_000.0;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    look.node.operator::<CrossJoin>()?;
    let one = look.node.inputs.iter().any(|input| input.facts.at_most_one || input.estimate.rows <= 1.0);
    let rows = look.actual.map_or(look.node.estimate.rows, |actual| actual.rows_out as f64);
    if one || rows < FEWEST {
        return None;
    }
    let word = if look.actual.is_some() { "gave" } else { "is expected to give" };
    Reason::new(
        format!(
            "nothing joins two parts of the query: each row of one with each of the other {word} {}",
            times(rows as u64, "row")
        ),
        "share a variable between the two patterns, put an edge between them, or join them by an equality or a comparison in WHERE",
    )
}
