//! The planner expected far fewer or far more rows than there were.

use super::{Look, Reason, times};

const FACTOR: f64 = 10.0;
const FEWEST: f64 = 1_000.0;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    let actual = look.actual?;
    let (rows, expected) = ((actual.rows_out as f64).max(1.0), look.node.estimate.rows.max(1.0));
    let factor = (rows / expected).max(expected / rows);
    // What rests on a wrong estimate below says nothing new.
    let below =
        look.node.inputs.len() == 1 && look.node.inputs[0].estimate.rows >= look.node.estimate.rows * 0.9;
    if factor < FACTOR || rows.max(expected) < FEWEST || below {
        return None;
    }
    Reason::new(
        format!(
            "{} came where {} were expected ({})",
            times(rows as u64, "row"),
            times(expected as u64, "row"),
            look.node.estimate.source
        ),
        "compare with another order: --rules-off pattern-order plans the pattern as it is written",
    )
}
