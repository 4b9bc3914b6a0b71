//! Many paths are made where few rows come out at the end.

use super::{Look, Reason, times};
use crate::operators::SearchPaths;

const FEWEST: u64 = 50_000;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    let search = look.node.operator::<SearchPaths>()?;
    let paths = match look.actual {
        Some(actual) => actual.rows_out,
        None if search.spec.max.is_none() && look.node.estimate.rows >= FEWEST as f64 => {
            look.node.estimate.rows as u64
        }
        None => return None,
    };
    if paths < FEWEST {
        return None;
    }
    let word = if look.actual.is_some() { "were made" } else { "may have to be made" };
    Reason::new(
        format!("{} {word} one by one", times(paths, "path")),
        "where only ends matter RETURN DISTINCT them; where one way to each is enough write ANY SHORTEST; where paths are counted or what adds up along them is, group by the ends alone",
    )
}
