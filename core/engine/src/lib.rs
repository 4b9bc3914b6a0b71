//! Checked statements to plans to batches: planning, path search, execution and profiles.
//!
//! Invariant: pure computation over snapshots. Nothing here knows sockets, files, SQL or an async
//! runtime; a query runs in the thread that pulls its batches.

mod alternatives;
mod answers;
mod batch;
mod budget;
mod by_table;
mod cache;
mod columnar;
mod compile;
mod context;
mod counters;
mod cut_off;
mod evaluate;
mod execution;
mod expression;
mod findings;
mod functions;
mod known_list;
mod limits;
mod listed;
mod lookup;
mod number_columns;
mod numbers;
mod of_node;
mod of_text;
mod operators;
mod outcome;
mod plain_texts;
mod plan;
mod planner;
mod procedures;
mod profile;
mod quick;
mod ranges;
mod row;
mod row_expression;
mod rules;
mod scope;
mod search;
mod shape;
mod stack;
mod template;
mod watch;

pub use batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector, value_bytes};
pub use budget::{MemoryPool, MemoryShare};
pub use cache::{Found, PlanCache};
pub use context::Changed;
pub use counters::{Counters, Hop, Metrics, Side};
pub use execution::{ChangedCounts, Execution, Prepared, Summary, known_names, prepare, prepare_by};
pub use findings::{Finding, parameter_findings};
pub use graphodrome_algorithms::Stopped;
pub use limits::Limits;
pub use numbers::{Cells, Numbers};
pub use outcome::{CancelToken, Code};
pub use plan::{ColumnInfo, ColumnKind};
pub use procedures::{
    ExternalCall, ExternalProcedure, MeasureRequest, Table, check_view, measure, measures, procedures,
    set_external,
};
pub use profile::{
    Actual, Alternative, Basis, Change, Comparison, Estimate, Figures, HopDifference, OperatorDifference,
    PLAN_FORMAT, PlanTree, TextOptions, Work, compare, folded_stacks, read_kept, render_comparison,
    render_hops, render_plan, render_profile, speedscope_profile,
};
pub use row_expression::{RowExpression, evaluate_constant};
pub use rules::{Rule, Rules, UnknownRule};
pub use template::{check_template, read_by_template};
pub use watch::{Seen, Watch};

/// Parameters of one request, by name without the `$`.
pub type Parameters = std::collections::BTreeMap<String, graphodrome_graph::Value>;
