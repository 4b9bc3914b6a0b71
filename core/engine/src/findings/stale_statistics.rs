//! Much has changed since the statistics were taken that the plan rests on.

use super::{Look, Reason, times};

const FEWEST: u64 = 1_000;
/// One of so many elements.
const SHARE: u64 = 10;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    if !look.is_root {
        return None;
    }
    let changed = look.snapshot.overlay_len() as u64;
    let all = look.snapshot.node_count() + look.snapshot.edge_count();
    if changed < FEWEST || changed * SHARE < all {
        return None;
    }
    Reason::new(
        format!(
            "{} of {} changed since the statistics were taken: counts by label are right, shares of values and degrees may not be",
            times(changed, "element"),
            times(all, "element"),
        ),
        "graphodrome model analyze -g GRAPH takes them anew; much more of change does so by itself",
    )
}
