//! Label sets and label expressions.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

/// A sorted set of label names without repeats.
pub type LabelSet = Arc<[Arc<str>]>;

/// Builds a [`LabelSet`] from names in any order.
pub fn label_set<I, S>(names: I) -> LabelSet
where
    I: IntoIterator<Item = S>,
    S: Into<Arc<str>>,
{
    let mut names: Vec<Arc<str>> = names.into_iter().map(Into::into).collect();
    names.sort();
    names.dedup();
    names.into()
}

/// A label expression of a pattern (ISO/IEC 39075, 16.8): `A & (B | !C)`, `%` for any label.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum LabelExpression {
    Any,
    Name(Arc<str>),
    Not(Box<LabelExpression>),
    And(Box<LabelExpression>, Box<LabelExpression>),
    Or(Box<LabelExpression>, Box<LabelExpression>),
}

impl LabelExpression {
    pub fn matches(&self, labels: &[Arc<str>]) -> bool {
        match self {
            LabelExpression::Any => !labels.is_empty(),
            LabelExpression::Name(name) => labels.binary_search(name).is_ok(),
            LabelExpression::Not(inner) => !inner.matches(labels),
            LabelExpression::And(a, b) => a.matches(labels) && b.matches(labels),
            LabelExpression::Or(a, b) => a.matches(labels) || b.matches(labels),
        }
    }

    /// Every label named, in order of appearance.
    pub fn names(&self) -> Vec<Arc<str>> {
        match self {
            LabelExpression::Any => vec![],
            LabelExpression::Name(name) => vec![name.clone()],
            LabelExpression::Not(inner) => inner.names(),
            LabelExpression::And(a, b) | LabelExpression::Or(a, b) => {
                let mut names = a.names();
                names.extend(b.names());
                names
            }
        }
    }

    /// Labels that every matching element is sure to have.
    pub fn required(&self) -> Vec<Arc<str>> {
        match self {
            LabelExpression::Name(name) => vec![name.clone()],
            LabelExpression::And(a, b) => {
                let mut names = a.required();
                names.extend(b.required());
                names
            }
            _ => vec![],
        }
    }
}

impl fmt::Display for LabelExpression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            LabelExpression::Any => f.write_str("%"),
            LabelExpression::Name(name) => f.write_str(name),
            LabelExpression::Not(inner) => write!(f, "!{inner}"),
            LabelExpression::And(a, b) => write!(f, "{a}&{b}"),
            LabelExpression::Or(a, b) => write!(f, "({a}|{b})"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_expression_matches_as_written() {
        let name = |n: &str| Box::new(LabelExpression::Name(n.into()));
        let site_not_tank = LabelExpression::And(name("Site"), Box::new(LabelExpression::Not(name("Tank"))));
        assert!(site_not_tank.matches(&label_set(["Works", "Site"])));
        assert!(!site_not_tank.matches(&label_set(["Tank", "Site"])));
        assert!(!LabelExpression::Any.matches(&[]));
        assert_eq!(site_not_tank.to_string(), "Site&!Tank");
        assert_eq!(site_not_tank.required(), vec![Arc::from("Site")]);
    }
}
