//! All nodes are gone through, whatever their label, for those of one value.

use super::{Look, Reason, compared, times};
use crate::operators::ScanNodes;

const FEWEST: u64 = 1_000;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    let scan = look.node.operator::<ScanNodes>()?;
    let nodes = look.snapshot.node_count();
    if scan.test.expression.is_some() || nodes < FEWEST {
        return None;
    }
    let (property, _) = scan.conditions.iter().find_map(|c| compared(c, 0))?;
    Reason::new(
        format!("all {} are gone through for those by {property}: no label says which", times(nodes, "node")),
        "name the label: keys and indexes are over labels, as in (:Label {property: value})",
    )
}
