//! The plan is another one for other values of a parameter: a range's share of the elements decides how it begins.

use graphodrome_graph::Snapshot;
use graphodrome_language::ast::Query;

use crate::Parameters;
use crate::execution::{Prepared, prepare_blind};
use crate::findings::Finding;

/// Plans the query once more without looking at values of parameters, and tells where that makes another plan.
pub fn parameter_findings(
    prepared: &Prepared, query: &Query, text: &str, snapshot: &Snapshot, parameters: &Parameters,
) -> Vec<Finding> {
    let looked = prepared.estimated_by();
    if looked.is_empty() {
        return vec![];
    }
    let Ok(blind) = prepare_blind(query, text, snapshot, parameters, prepared.rules) else { return vec![] };
    let shape = |prepared: &Prepared| -> Vec<(String, String)> {
        let tree = prepared.plan();
        let operators = tree.walk().into_iter();
        operators
            .filter(|(_, o)| !matches!(o.operator.as_str(), "ShareOut" | "OneRow"))
            .map(|(_, o)| (o.operator.clone(), o.summary()))
            .collect()
    };
    let (with, without) = (shape(prepared), shape(&blind));
    // From the leaves on the first operator that is another one.
    let place = with.iter().rev().zip(without.iter().rev()).position(|(a, b)| a != b);
    let Some(place) = place.or((with.len() != without.len()).then_some(with.len().min(without.len()))) else {
        return vec![];
    };
    let name = |all: &[(String, String)]| {
        all.iter()
            .rev()
            .nth(place)
            .map_or("nothing".into(), |(o, on)| format!("{o} {on}").trim_end().to_string())
    };
    let values: Vec<String> =
        looked.iter().map(|(name, value)| format!("${name} = {}", value.excerpt())).collect();
    let operator = with.iter().rev().nth(place).map_or(String::new(), |(o, _)| o.clone());
    vec![Finding {
        rule: "parameter-plan".into(),
        operator,
        message: format!(
            "the plan is for {} alone: for a value of which nothing is known it has {} where it has {} now",
            values.join(", "),
            name(&without),
            name(&with),
        ),
        advice: "plan and profile it with the values that matter (-p name=value): each has a plan of its own, which compare shows side by side".into(),
        statement: None,
    }]
}
