//! A condition throws away most of what a search has found: within the search it would have kept it from being found.

use super::{Look, Reason, times};
use crate::operators::{Compute, Filter, SearchPaths, ShortestPaths};
use crate::plan::PlanNode;

const FEWEST: u64 = 10_000;
/// What passes is no more than this share.
const SHARE: f64 = 0.1;

/// The search whose rows a filter gets, with nothing but computed values between them.
fn search_below(node: &PlanNode) -> Option<&PlanNode> {
    let mut below = node.inputs.first()?;
    while below.operator::<Compute>().is_some() {
        below = below.inputs.first()?;
    }
    let is_search = below.operator::<SearchPaths>().is_some() || below.operator::<ShortestPaths>().is_some();
    is_search.then_some(below)
}

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    let filter = look.node.operator::<Filter>()?;
    let actual = look.actual?;
    search_below(look.node)?;
    if actual.rows_in < FEWEST || actual.rows_out as f64 > actual.rows_in as f64 * SHARE {
        return None;
    }
    Reason::new(
        format!(
            "the search found {}, of which {} passed {}",
            times(actual.rows_in, "path"),
            times(actual.rows_out, "path"),
            filter.shown
        ),
        "what each edge or node must fulfil stands within the repetition, as in -[e:PIPE WHERE e.status = 'in use']->+, and keeps the search off; a bound on the length or on a sum is written as {1,8} or as a weight",
    )
}
