//! Finding: the search for a cheapest path between two nodes covered much of the graph, and no distance bound
//! exists.

use graphodrome_graph::{BoundDefinition, BoundSource, Direction, LANDMARKS, LabelExpression};

use super::{Look, Reason, times};
use crate::operators::ShortestPaths;

/// A search that looks at fewer edges is short.
const FEWEST: u64 = 10_000;

pub(super) fn find(look: &Look<'_>) -> Option<Reason> {
    let (search, actual) = (look.node.operator::<ShortestPaths>()?, look.actual?);
    let property = search.would_go_towards()?;
    let step = search.spec.step.as_ref()?;
    let edges = actual.counters.edges_looked / actual.searches.max(1);
    if edges < FEWEST {
        return None;
    }
    let labels = names(step.test.expression.as_ref())?;
    let direction = match search.spec.direction(step) {
        Direction::In => Direction::Out,
        Direction::InOrUndirected => Direction::OutOrUndirected,
        other => other,
    };
    let name = labels.iter().map(|label| label.to_lowercase()).collect::<Vec<_>>().join("_");
    let bound = BoundDefinition {
        name: format!("{name}{}{property}", if name.is_empty() { "" } else { "_" }).into(),
        labels,
        direction,
        property: property.into(),
        source: BoundSource::Landmarks(LANDMARKS),
    };
    Some(Reason {
        message: format!(
            "{} were looked at for a path, and nothing says how far its end is",
            times(edges, "edge")
        ),
        advice: "create a distance bound over the weight, so that searches go towards their ends".into(),
        statement: Some(bound.to_string()),
    })
}

/// The labels of which an edge has one; `None` where the expression says anything else.
fn names(expression: Option<&LabelExpression>) -> Option<Vec<std::sync::Arc<str>>> {
    match expression {
        None => Some(vec![]),
        Some(LabelExpression::Name(label)) => Some(vec![label.clone()]),
        Some(LabelExpression::Or(a, b)) => Some([names(Some(a))?, names(Some(b))?].concat()),
        Some(_) => None,
    }
}
