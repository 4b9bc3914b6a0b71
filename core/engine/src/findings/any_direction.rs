//! A repeated edge is followed both ways though every such edge has a direction.

use graphodrome_graph::Direction;

use super::{Look, Reason};
use crate::operators::{Reach, SearchPaths, ShortestPaths};
use crate::search::SearchSpec;

pub(super) fn spec<'a>(look: &'a Look<'_>) -> Option<&'a SearchSpec> {
    let node = look.node;
    node.operator::<SearchPaths>()
        .map(|o| &o.spec)
        .or_else(|| node.operator::<Reach>().map(|o| &o.spec))
        .or_else(|| node.operator::<ShortestPaths>().map(|o| &o.spec))
}

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    let step = spec(look)?.step.as_ref()?;
    let both = matches!(step.direction, Direction::Any | Direction::OutOrIn);
    let tables = &look.snapshot.base.edges;
    let directed = step.test.tables.iter().all(|t| tables[*t].directed);
    if !both || !directed || step.test.tables.is_empty() || !look.snapshot.is_unchanged() {
        return None;
    }
    Reason::new(
        "the search follows edges both ways, and every edge it takes has a direction".into(),
        "give the direction where you mean one, as in -[...]->: half the edges, and no way back over the way there",
    )
}
