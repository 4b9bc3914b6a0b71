//! The summary of a finished run, written field by field, because the overhead matters for short queries.

use graphodrome_engine::{ChangedCounts, Summary};
use graphodrome_language::Diagnostic;
use serde::Serialize;

use super::{Phases, Run};
use crate::problem::QueryError;

/// What a finished run says of itself.
pub struct Facts {
    pub summary: Summary,
    pub version: u64,
    pub truncated: bool,
    pub phases: Phases,
}

impl Run {
    /// The fields that follow the rows of a JSON result.
    pub(super) fn epilogue(&self, facts: &Facts, warnings: [&[Diagnostic]; 2], out: &mut Vec<u8>) {
        out.extend(b",\"summary\":");
        facts.write(&self.graph.name, out);
        let warnings: Vec<QueryError> =
            warnings.into_iter().flatten().map(|warning| QueryError::new(warning, &self.text)).collect();
        json(b",\"warnings\":", &warnings, out);
    }
}

fn json<T: Serialize + ?Sized>(before: &[u8], value: &T, out: &mut Vec<u8>) {
    out.extend(before);
    // Nothing of what is written here can fail to be JSON, and memory takes what is written to it.
    let _ = serde_json::to_writer(out, value);
}

impl Facts {
    pub fn write(&self, graph: &str, out: &mut Vec<u8>) {
        let Facts { summary, version, truncated, phases } = self;
        let &Summary { rows, changed, execute_us, first_row_us } = summary;
        json(b"{\"rows\":", &rows, out);
        match changed == ChangedCounts::default() {
            true => out.extend(
                b",\"changed\":{\"nodes_inserted\":0,\"edges_inserted\":0,\"nodes_deleted\":0,\"edges_deleted\":0,\
                  \"properties_set\":0,\"labels_changed\":0}",
            ),
            false => json(b",\"changed\":", &changed, out),
        }
        json(b",\"execute_us\":", &execute_us, out);
        json(b",\"first_row_us\":", &first_row_us, out);
        json(b",\"graph\":", graph, out);
        json(b",\"version\":", version, out);
        json(b",\"truncated\":", truncated, out);
        let Phases { parse, check, plan, wait, plan_cached } = phases;
        match [*parse, *check, *plan] == [0.0; 3] {
            true => out.extend(b",\"parse_us\":0.0,\"check_us\":0.0,\"plan_us\":0.0"),
            false => {
                json(b",\"parse_us\":", parse, out);
                json(b",\"check_us\":", check, out);
                json(b",\"plan_us\":", plan, out);
            }
        }
        json(b",\"wait_us\":", wait, out);
        json(b",\"plan_cached\":", plan_cached, out);
        out.push(b'}');
    }
}
