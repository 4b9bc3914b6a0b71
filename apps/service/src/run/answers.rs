//! Answers of plans and profiles.

use graphodrome_engine::{Execution, Finding, PLAN_FORMAT, PlanTree, Prepared};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::QueryError;

/// How a profile is kept.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Keep {
    /// By which it is found besides its number: the newest of several. A run with a name is never pruned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
}

/// A plan: nothing is executed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanAnswer {
    /// The version of this form: `/v1/schemas/plan` describes it.
    pub format: u32,
    pub graph: String,
    pub version: u64,
    pub parse_us: f64,
    pub check_us: f64,
    pub plan_us: f64,
    /// What was supposed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<String>,
    /// The operators, from the result down to where rows come from.
    #[schema(value_type = Object)]
    pub plan: PlanTree,
    /// What gives reason to change something: `rule`, `operator`, `message`, `advice`, and in `statement` one that does it.
    #[schema(value_type = Vec<Object>)]
    #[serde(default)]
    pub findings: Vec<Finding>,
    pub warnings: Vec<QueryError>,
}

/// How long several runs of a query took, in microseconds.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Timing {
    pub runs: u32,
    /// The first: what it reads may not be in the processor's caches yet.
    pub first_us: f64,
    pub median_us: f64,
    pub least_us: f64,
    pub most_us: f64,
    /// Half of the runs lie between these two.
    pub quartiles_us: (f64, f64),
}

impl Timing {
    /// Of runs in their order; `None` of a single one.
    pub fn of(times: &[f64]) -> Option<Timing> {
        let (first, rest) = times.split_first()?;
        if rest.is_empty() {
            return None;
        }
        let mut sorted = times.to_vec();
        sorted.sort_by(f64::total_cmp);
        let at = |share: f64| sorted[((sorted.len() - 1) as f64 * share).round() as usize];
        Some(Timing {
            runs: times.len() as u32,
            first_us: *first,
            median_us: at(0.5),
            least_us: at(0.0),
            most_us: at(1.0),
            quartiles_us: (at(0.25), at(0.75)),
        })
    }
}

/// A profile: the query was run and its rows were counted, not sent.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProfileAnswer {
    /// The version of this form: `/v1/schemas/plan` describes it.
    pub format: u32,
    pub graph: String,
    pub version: u64,
    pub parse_us: f64,
    pub check_us: f64,
    pub plan_us: f64,
    pub wait_us: f64,
    pub execute_us: f64,
    pub first_row_us: f64,
    pub rows: u64,
    /// Of several runs: the operators are those of the last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timing: Option<Timing>,
    /// What was supposed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<String>,
    /// The query changes the graph: it was run to its end, and nothing of it was kept.
    #[serde(default)]
    pub rolled_back: bool,
    /// The number under which it is kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<i64>,
    /// The operators with what they did.
    #[schema(value_type = Object)]
    pub plan: PlanTree,
    /// What gives reason to change something: `rule`, `operator`, `message`, `advice`, and in `statement` one that does it.
    #[schema(value_type = Vec<Object>)]
    #[serde(default)]
    pub findings: Vec<Finding>,
    pub warnings: Vec<QueryError>,
    /// Why it ended early: the operators have what was done until then.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub error: Option<QueryError>,
}

impl ProfileAnswer {
    /// Of a run that has ended, well or not.
    pub(super) fn of(
        graph: &str, text: &str, phases: &Phases, prepared: &Prepared, execution: &Execution<'_>,
        error: Option<QueryError>,
    ) -> ProfileAnswer {
        let summary = execution.summary();
        let warnings = prepared.warnings.iter().chain(execution.warnings());
        ProfileAnswer {
            format: PLAN_FORMAT,
            graph: graph.into(),
            version: execution.snapshot().version,
            parse_us: phases.parse,
            check_us: phases.check,
            plan_us: phases.plan,
            wait_us: phases.wait,
            execute_us: summary.execute_us,
            first_row_us: summary.first_row_us,
            rows: summary.rows,
            timing: None,
            with: vec![],
            rolled_back: prepared.changes,
            run: None,
            plan: execution.profile(),
            findings: execution.findings(),
            warnings: warnings.map(|w| QueryError::new(w, text)).collect(),
            error,
        }
    }

    /// Adjacency entries that its operators looked at.
    pub fn edges_looked(&self) -> u64 {
        let looked = |tree: &PlanTree| tree.actual.as_ref().map_or(0, |a| a.counters.edges_looked);
        self.plan.walk().iter().map(|(_, tree)| looked(tree)).sum()
    }
}

/// Phases of a query, in microseconds.
#[derive(Clone, Debug, Default)]
pub struct Phases {
    pub parse: f64,
    pub check: f64,
    pub plan: f64,
    pub wait: f64,
    /// The plan was made for an earlier request: parsing, checking and planning fell away.
    pub plan_cached: bool,
}
