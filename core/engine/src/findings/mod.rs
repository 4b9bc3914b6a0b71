//! Findings: what a plan or a profile gives reason to change, with the evidence and what to do. A rule a file; each
//! looks at operators and their figures, never at texts.

mod any_direction;
mod cross_join;
mod estimate_off;
mod hub;
mod late_condition;
mod many_paths;
mod no_bound;
mod no_label;
mod no_lookup;
mod parameter_plan;
mod stale_statistics;
mod whole_elements;

use graphodrome_graph::{Snapshot, Value};
pub use parameter_plan::parameter_findings;
use serde::{Deserialize, Serialize};

use crate::counters::Metrics;
use crate::expression::{Expr, Kind};
use crate::plan::PlanNode;

/// Something to change, and why.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Finding {
    /// Its stable name.
    pub rule: String,
    /// The operator it is about, as the plan names it.
    pub operator: String,
    pub message: String,
    /// What to do, in words.
    pub advice: String,
    /// A statement that does it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub statement: Option<String>,
}

/// What a rule looks at.
pub(crate) struct Look<'a> {
    pub node: &'a PlanNode,
    /// What the operator did; `None` of a plan.
    pub actual: Option<&'a Metrics>,
    pub snapshot: &'a Snapshot,
    /// The uppermost operator.
    pub is_root: bool,
}

struct Reason {
    message: String,
    advice: String,
    statement: Option<String>,
}

impl Reason {
    fn new(message: String, advice: impl Into<String>) -> Option<Reason> {
        Some(Reason { message, advice: advice.into(), statement: None })
    }
}

type Finder = fn(&Look<'_>) -> Option<Reason>;

const FINDERS: &[(&str, Finder)] = &[
    ("no-lookup", no_lookup::find),
    ("no-label", no_label::find),
    ("cross-join", cross_join::find),
    ("many-paths", many_paths::find),
    ("late-condition", late_condition::find),
    ("hub", hub::find),
    ("no-bound", no_bound::find),
    ("any-direction", any_direction::find),
    ("whole-elements", whole_elements::find),
    ("estimate-off", estimate_off::find),
    ("stale-statistics", stale_statistics::find),
];

/// Findings about a plan, or with metrics about a profile: those higher in the tree first.
pub(crate) fn findings(root: &PlanNode, metrics: Option<&[Metrics]>, snapshot: &Snapshot) -> Vec<Finding> {
    let mut found = vec![];
    let mut left = vec![root];
    while let Some(node) = left.pop() {
        let actual = metrics.and_then(|all| all.get(node.id));
        let look = Look { node, actual, snapshot, is_root: std::ptr::eq(node, root) };
        for (name, finder) in FINDERS {
            if let Some(Reason { message, advice, statement }) = finder(&look) {
                let operator = node.plan.name().to_string();
                let finding = Finding { rule: (*name).into(), operator, message, advice, statement };
                if !found.contains(&finding) {
                    found.push(finding);
                }
            }
        }
        left.extend(node.inputs.iter().rev());
        left.extend(node.plan.correlated().map(|inner| &**inner));
    }
    found
}

/// The property of the element in `slot` that a condition compares with something else, and whether by equality.
fn compared(condition: &Expr, slot: usize) -> Option<(String, bool)> {
    use graphodrome_language::ast::BinaryOperator as Op;
    let property = |e: &Expr| match &e.kind {
        Kind::NodeProperty(of, reader) | Kind::EdgeProperty(of, reader) if *of == slot => {
            Some(reader.name.to_string())
        }
        _ => None,
    };
    let is_null = |e: &Expr| matches!(&e.kind, Kind::Constant(Value::Null));
    match &condition.kind {
        Kind::Binary(operator, a, b) if !is_null(a) && !is_null(b) => {
            let equal = matches!(operator, Op::Equal);
            let ordered = matches!(operator, Op::Less | Op::LessOrEqual | Op::Greater | Op::GreaterOrEqual);
            let one = property(a).or_else(|| property(b))?;
            (equal || ordered).then_some((one, equal))
        }
        Kind::In(a, _, false, _) => property(a).map(|p| (p, true)),
        Kind::Between(a, _, _, false) => property(a).map(|p| (p, false)),
        _ => None,
    }
}

fn times(n: u64, what: &str) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    if n == 1 { format!("{out} {what}") } else { format!("{out} {what}s") }
}
