//! A profile as folded stacks: a line for each operator, the operators from the result down to it with semicolons
//! between them, and the microseconds of its own. What draws flame graphs reads this.

use std::fmt::Write;

use crate::profile::PlanTree;

/// The stacks of a profile; the hops of a search are frames below it.
pub fn folded_stacks(tree: &PlanTree) -> String {
    let mut out = String::new();
    stacks(tree, "", &mut out);
    out
}

/// Characters of what an operator works on that are shown.
const LONGEST: usize = 80;

/// A frame has no semicolon and no line end in it.
fn frame(tree: &PlanTree) -> String {
    let on: String = tree.summary().split_whitespace().collect::<Vec<_>>().join(" ");
    let on: String = on.chars().take(LONGEST).map(|c| if c == ';' { ',' } else { c }).collect();
    if on.is_empty() { tree.operator.clone() } else { format!("{} {on}", tree.operator) }
}

fn stacks(tree: &PlanTree, above: &str, out: &mut String) {
    let Some(actual) = &tree.actual else { return };
    let own = if above.is_empty() { frame(tree) } else { format!("{above};{}", frame(tree)) };
    let in_hops: f64 = actual.hops.iter().map(|hop| hop.time_us).sum();
    // Hops of several threads may add up to more than the operator's time.
    let scale = if in_hops > actual.own_us { actual.own_us / in_hops.max(1e-9) } else { 1.0 };
    for hop in &actual.hops {
        line(&format!("{own};hop {} {}", hop.hop, hop.side.as_str()), hop.time_us * scale, out);
    }
    line(&own, actual.own_us - in_hops * scale, out);
    tree.inputs.iter().for_each(|input| stacks(input, &own, out));
}

fn line(stack: &str, us: f64, out: &mut String) {
    let us = us.round();
    if us > 0.0 {
        let _ = writeln!(out, "{stack} {us}");
    }
}
