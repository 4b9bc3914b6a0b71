//! Nodes of a label are gone through for those of one value, and nothing finds them by it.

use graphodrome_graph::{Element, LabelExpression, quoted};

use super::{Look, Reason, compared, times};
use crate::operators::ScanNodes;

/// Fewer nodes are gone through as fast as they are looked up.
const FEWEST: u64 = 200;
/// An index is worth it where it leaves no more than this share.
const SHARE: f64 = 0.2;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    let scan = look.node.operator::<ScanNodes>()?;
    let Some(LabelExpression::Name(label)) = &scan.test.expression else { return None };
    let (property, equal) = scan.conditions.iter().find_map(|c| compared(c, 0))?;
    let known = look.snapshot.keys.iter().chain(&look.snapshot.indexes).any(|k| {
        k.element == Element::Node
            && k.label == *label
            && k.properties.first().is_some_and(|p| **p == *property)
    });
    let counts = look.snapshot.node_label_counts();
    let nodes: u64 = counts.iter().filter(|(set, _)| set.contains(label)).map(|(_, n)| n).sum();
    if known || nodes < FEWEST {
        return None;
    }
    let all = format!("{} {label}", times(nodes, "node"));
    let message = match look.actual {
        Some(actual) if actual.rows_out as f64 > nodes as f64 * SHARE => return None,
        Some(actual) => {
            format!("{all} were gone through for {} by {property}", times(actual.rows_out, "row"))
        }
        None => format!("{all} are gone through for those by {property}"),
    };
    let name = format!("{}_{property}", label.to_lowercase());
    let pattern = format!("(:{} {{{}}})", quoted(label), quoted(&property));
    Some(Reason {
        message,
        advice: match equal {
            true => format!("create an index over {property}, or a key where it tells {label} nodes apart"),
            false => format!("create an index over {property}"),
        },
        statement: Some(format!("CREATE INDEX {} OVER {pattern}", quoted(&name))),
    })
}
