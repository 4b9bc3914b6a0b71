//! Whole elements are returned, with all of their properties, many times.

use graphodrome_language::VariableKind;

use super::{Look, Reason, times};
use crate::operators::ReturnRows;

const FEWEST: u64 = 20_000;
/// Fewer properties than that are as good as one.
const PROPERTIES: usize = 4;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    look.node.operator::<ReturnRows>()?;
    let rows = look.actual?.rows_out;
    if rows < FEWEST {
        return None;
    }
    let whole = |kind: VariableKind| matches!(kind, VariableKind::Node | VariableKind::Edge);
    let named: Vec<&str> =
        look.node.schema.visible().filter(|(_, v)| whole(v.kind)).map(|(_, v)| &*v.name).collect();
    let base = &look.snapshot.base;
    let columns =
        base.nodes.iter().map(|t| t.columns.len()).chain(base.edges.iter().map(|t| t.columns.len()));
    let most = columns.max().unwrap_or(0);
    if named.is_empty() || most < PROPERTIES {
        return None;
    }
    Reason::new(
        format!("{} with {} whole: up to {most} properties each", times(rows, "row"), named.join(", ")),
        "return the properties that you need, as in RETURN n.code, n.name: they are read and sent alone",
    )
}
