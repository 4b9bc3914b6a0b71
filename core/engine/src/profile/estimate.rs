//! Estimates of the planner, their sources, and rejected alternatives.

use serde::{Deserialize, Serialize};

/// What the planner expects, and from which statistic.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Estimate {
    pub rows: f64,
    /// Adjacency entries and rows handled, this operator and its inputs together.
    pub cost: f64,
    pub basis: Basis,
    pub source: String,
}

/// What an estimate of rows rests on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Basis {
    /// It cannot be otherwise, or not more: a key, a bound.
    Fact,
    /// Elements with these labels are counted.
    Count,
    /// Edges of a label between nodes of two labels are counted, and nodes that have any.
    Degrees,
    /// How a property's values are spread.
    Histogram,
    /// A few nodes that it was tried from.
    Sample,
    /// It follows from the inputs' estimates.
    Input,
    /// Nothing is known.
    #[default]
    Guess,
}

/// A way to do what an operator does, and why it was taken or not.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Alternative {
    pub method: String,
    /// Adjacency entries and rows handled, for each row of the input; `None` where it was not priced.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub cost: Option<f64>,
    pub chosen: bool,
    pub reason: String,
}

impl Alternative {
    pub(crate) fn chosen(method: impl Into<String>, cost: f64, reason: impl Into<String>) -> Alternative {
        Alternative { method: method.into(), cost: Some(cost), chosen: true, reason: reason.into() }
    }

    pub(crate) fn left(
        method: impl Into<String>, cost: Option<f64>, reason: impl Into<String>,
    ) -> Alternative {
        Alternative { method: method.into(), cost, chosen: false, reason: reason.into() }
    }
}
