use graphodrome_engine::{ChangedCounts, Summary};
use graphodrome_service::parts::{Facts, Phases};
use serde_json::json;

#[test]
fn every_fact_is_there_whatever_it_is() {
    let nothing = ChangedCounts::default();
    let something = ChangedCounts { edges_deleted: 3, ..nothing };
    for (changed, parse) in [(nothing, 0.0), (something, 12.5)] {
        let summary = Summary { rows: 7, changed, execute_us: 1.25, first_row_us: 0.5 };
        let phases = Phases { parse, check: 0.0, plan: parse, wait: 3.0, plan_cached: parse == 0.0 };
        let mut out = vec![];
        Facts { summary, version: 9, truncated: true, phases }.write("a \"b\"", &mut out);
        let read: serde_json::Value = serde_json::from_slice(&out).unwrap();
        let wanted = json!({
            "rows": 7, "changed": changed, "execute_us": 1.25, "first_row_us": 0.5, "graph": "a \"b\"", "version": 9,
            "truncated": true, "parse_us": parse, "check_us": 0.0, "plan_us": parse, "wait_us": 3.0,
            "plan_cached": parse == 0.0,
        });
        assert_eq!(read, wanted);
    }
}
