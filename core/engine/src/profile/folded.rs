//! A profile as stacks, for what draws flame graphs: the operators from the result down to each with the microseconds of its
//! own. As folded stacks, a line for each with semicolons between; or as a JSON file that Speedscope opens.

use std::collections::HashMap;
use std::fmt::Write;

use serde_json::{Value as Json, json};

use crate::profile::tree::PlanTree;

/// The stacks of a profile; the hops of a search are frames below it.
pub fn folded_stacks(tree: &PlanTree) -> String {
    let mut out = String::new();
    for (frames, us) in stacks(tree) {
        let _ = writeln!(out, "{} {us}", frames.join(";"));
    }
    out
}

/// A profile of samples in Speedscope's file format (<https://www.speedscope.app/file-format-schema.json>): a stack is a
/// sample whose weight is its microseconds.
pub fn speedscope_profile(tree: &PlanTree, name: &str) -> Json {
    let mut numbers: HashMap<String, usize> = HashMap::new();
    let mut frames = vec![];
    let (mut samples, mut weights) = (vec![], vec![]);
    for (stack, us) in stacks(tree) {
        let number = |frame: String| {
            *numbers.entry(frame).or_insert_with_key(|frame| {
                frames.push(json!({ "name": frame }));
                frames.len() - 1
            })
        };
        samples.push(stack.into_iter().map(number).collect::<Vec<usize>>());
        weights.push(us);
    }
    let total: u64 = weights.iter().sum();
    json!({
        "$schema": "https://www.speedscope.app/file-format-schema.json",
        "name": name,
        "exporter": concat!("graphodrome ", env!("CARGO_PKG_VERSION")),
        "shared": { "frames": frames },
        "profiles": [{
            "type": "sampled", "name": name, "unit": "microseconds",
            "startValue": 0, "endValue": total, "samples": samples, "weights": weights,
        }],
    })
}

/// Characters of what an operator works on that are shown.
const LONGEST: usize = 80;

/// A frame has no semicolon and no line end in it.
fn frame(tree: &PlanTree) -> String {
    let on: String = tree.summary().split_whitespace().collect::<Vec<_>>().join(" ");
    let on: String = on.chars().take(LONGEST).map(|c| if c == ';' { ',' } else { c }).collect();
    if on.is_empty() { tree.operator.clone() } else { format!("{} {on}", tree.operator) }
}

/// Frames from the result down, and the microseconds of the last one's own: those of some length.
fn stacks(tree: &PlanTree) -> Vec<(Vec<String>, u64)> {
    let mut out = vec![];
    walk(tree, &[], &mut out);
    out
}

fn walk(tree: &PlanTree, above: &[String], out: &mut Vec<(Vec<String>, u64)>) {
    let Some(actual) = &tree.actual else { return };
    let own = [above, &[frame(tree)]].concat();
    let in_hops: f64 = actual.hops.iter().map(|hop| hop.time_us).sum();
    // Hops of several threads may add up to more than the operator's time.
    let scale = if in_hops > actual.own_us { actual.own_us / in_hops.max(1e-9) } else { 1.0 };
    let mut put = |stack: Vec<String>, us: f64| {
        let us = us.round() as u64;
        if us > 0 {
            out.push((stack, us));
        }
    };
    for hop in &actual.hops {
        put([&own[..], &[format!("hop {} {}", hop.hop, hop.side.as_str())]].concat(), hop.time_us * scale);
    }
    put(own.clone(), actual.own_us - in_hops * scale);
    tree.inputs.iter().for_each(|input| walk(input, &own, out));
}
