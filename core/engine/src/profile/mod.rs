//! Plans and profiles as data with stable names, from which all output is rendered.

mod comparison;
mod estimate;
mod folded;
mod of_plan;
mod text;
mod tree;

use serde::Deserialize;

pub use comparison::{Change, Comparison, Figures, HopDifference, OperatorDifference, Work, compare};
pub use estimate::{Alternative, Basis, Estimate};
pub use folded::{folded_stacks, speedscope_profile};
pub(crate) use of_plan::in_words;
pub use text::{TextOptions, render_comparison, render_hops, render_plan, render_profile};
pub use tree::{Actual, PlanTree};

/// The version of the format of plans and profiles as data; docs/plan.schema.json describes it.
pub const PLAN_FORMAT: u32 = 1;

/// Reads a kept plan or profile, however deep: operators lie in each other, and there may be hundreds.
pub fn read_kept(text: &str) -> serde_json::Result<serde_json::Value> {
    crate::stack::on_large_stack(|| {
        let mut reader = serde_json::Deserializer::from_str(text);
        reader.disable_recursion_limit();
        let read = serde_json::Value::deserialize(&mut reader)?;
        reader.end()?;
        Ok(read)
    })
}

#[cfg(test)]
mod tests {
    use super::tree::nth_largest;
    use super::*;
    use crate::counters::{Counters, Hop};

    fn search(hops: u32) -> PlanTree {
        let hop = |hop: u32| Hop { hop, edges_looked: u64::from(hop % 7), ..Hop::default() };
        let actual = Actual {
            rows_in: 1,
            rows_out: 1,
            batches: 1,
            own_us: 1.0,
            total_us: 1.0,
            peak_bytes: 0,
            counters: Counters::default(),
            estimate_factor: 1.0,
            hops: (1..=hops).map(hop).collect(),
            notes: vec![],
        };
        PlanTree {
            operator: "Reach".into(),
            details: vec![],
            estimate: Estimate::default(),
            alternatives: vec![],
            actual: Some(actual),
            inputs: vec![],
        }
    }

    #[test]
    fn of_very_many_hops_those_with_the_most_edges_are_kept_in_their_order() {
        let kept = PlanTree { inputs: vec![search(70)], ..search(3) }.with_fewer_hops(15);
        let hops = |tree: &PlanTree| -> Vec<(u32, u64)> {
            tree.actual.iter().flat_map(|a| &a.hops).map(|h| (h.hop, h.edges_looked)).collect()
        };
        assert_eq!(hops(&kept), [(1, 1), (2, 2), (3, 3)]);
        let below = hops(&kept.inputs[0]);
        assert_eq!(below.len(), 15);
        assert!(below.is_sorted() && below.iter().all(|(_, edges)| *edges >= 5), "{below:?}");
        let notes = kept.inputs[0].actual.as_ref().map(|a| a.notes.len());
        assert_eq!(notes, Some(1));
        assert_eq!(nth_largest([3, 9, 5].into_iter(), 2), 5);
        assert_eq!(nth_largest([3].into_iter(), 2), 3);
        assert_eq!(nth_largest([].into_iter(), 2), 0);
    }

    #[test]
    fn what_is_kept_is_read_however_deep() {
        let mut tree = search(0);
        for _ in 0..1500 {
            tree = PlanTree { inputs: vec![tree], ..search(0) };
        }
        let text = crate::stack::on_large_stack(|| serde_json::to_string(&tree).unwrap_or_default());
        assert!(read_kept(&text).is_ok_and(|read| read["operator"] == "Reach"));
        assert!(read_kept("{\"a\": 1} more").is_err());
        assert_eq!(tree.walk().last().map(|(depth, _)| *depth), Some(1500));
    }
}
