//! Plans and profiles as data with stable names, and as text that can be compared line by line.

use std::fmt::Write;

use serde::{Deserialize, Serialize};

use crate::context::{Counters, Hop, Metrics};
use crate::plan::PlanNode;

/// What the planner expects, and from which statistic.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Estimate {
    pub rows: f64,
    /// Adjacency entries and rows handled, this operator and its inputs together.
    pub cost: f64,
    pub source: String,
}

/// One operator of a plan. The actual figures are there when it is a profile.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlanTree {
    pub operator: String,
    /// What it works on: pattern, label, index, direction, method, condition.
    pub details: Vec<(String, String)>,
    pub estimate: Estimate,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub rejected: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub actual: Option<Actual>,
    pub inputs: Vec<PlanTree>,
}

/// What an operator did.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Actual {
    pub rows_in: u64,
    pub rows_out: u64,
    pub batches: u64,
    /// Microseconds of its own, and with its inputs.
    pub own_us: f64,
    pub total_us: f64,
    pub peak_bytes: u64,
    #[serde(flatten)]
    pub counters: Counters,
    /// Actual rows over estimated rows, where that is above 1; otherwise its reciprocal, negative.
    pub estimate_factor: f64,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub hops: Vec<Hop>,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub notes: Vec<String>,
}

impl PlanTree {
    pub(crate) fn new(node: &PlanNode, metrics: Option<&Metrics>, inputs: Vec<PlanTree>) -> PlanTree {
        let actual = metrics.map(|m| {
            let total_us = m.total.as_secs_f64() * 1e6;
            let below: f64 = inputs.iter().filter_map(|i| i.actual.as_ref()).map(|a| a.total_us).sum();
            let (rows, estimated) = ((m.rows_out as f64).max(1.0), node.estimate.rows.max(1.0));
            Actual {
                rows_in: m.rows_in,
                rows_out: m.rows_out,
                batches: m.batches,
                own_us: (total_us - below).max(0.0),
                total_us,
                peak_bytes: m.peak_bytes,
                counters: m.counters.clone(),
                estimate_factor: if rows >= estimated { rows / estimated } else { -estimated / rows },
                hops: m.hops.clone(),
                notes: m.notes.clone(),
            }
        });
        PlanTree {
            operator: node.plan.name().to_string(),
            details: node.plan.details().into_iter().map(|(k, v)| (k.to_string(), v)).collect(),
            estimate: node.estimate.clone(),
            rejected: node.rejected.clone(),
            actual,
            inputs,
        }
    }

    /// Every operator with its depth, root first.
    pub fn walk(&self) -> Vec<(usize, &PlanTree)> {
        let mut all = vec![(0, self)];
        for input in &self.inputs {
            all.extend(input.walk().into_iter().map(|(depth, tree)| (depth + 1, tree)));
        }
        all
    }

    fn summary(&self) -> String {
        self.details
            .iter()
            .filter(|(k, _)| k != "because")
            .map(|(_, v)| v.as_str())
            .collect::<Vec<_>>()
            .join("  ")
    }
}

/// A count in at most five characters or so: 950, 12.3k, 4.56M.
fn short(n: f64) -> String {
    match n {
        n if n < 10.0 && n.fract() != 0.0 => format!("{n:.1}"),
        n if n < 10_000.0 => format!("{n:.0}"),
        n if n < 1e6 => format!("{:.1}k", n / 1e3),
        n if n < 1e9 => format!("{:.2}M", n / 1e6),
        n => format!("{:.2}G", n / 1e9),
    }
}

fn microseconds(us: f64) -> String {
    if us < 1_000.0 {
        format!("{us:.0} us")
    } else if us < 1e6 {
        format!("{:.2} ms", us / 1e3)
    } else {
        format!("{:.2} s", us / 1e6)
    }
}

/// The tree as a table, one operator a line; `width` is the terminal's.
pub fn render_plan(tree: &PlanTree, width: usize) -> String {
    let mut rows: Vec<(String, String, Vec<String>)> = vec![];
    lines(tree, "", "", &mut rows);
    let profiled = tree.actual.is_some();
    let heads: &[&str] = if profiled {
        &["rows", "estimate", "own time", "share", "edges", "props"]
    } else {
        &["estimate", "cost"]
    };
    let mut widths: Vec<usize> = heads.iter().map(|h| h.len()).collect();
    for (_, _, figures) in &rows {
        for (w, figure) in widths.iter_mut().zip(figures) {
            *w = (*w).max(figure.chars().count());
        }
    }
    let figures_width: usize = widths.iter().map(|w| w + 2).sum();
    let name_width = rows.iter().map(|r| r.0.chars().count()).max().unwrap_or(0).max(8);
    let detail_width = width.saturating_sub(name_width + figures_width + 2).max(24);
    let longest = rows.iter().map(|r| r.1.chars().count()).max().unwrap_or(0).min(detail_width).max(4);
    let mut out = String::new();
    let _ = write!(out, "{:<name_width$}  {:<longest$}", "operator", "on");
    for (head, w) in heads.iter().zip(&widths) {
        let _ = write!(out, "  {head:>w$}");
    }
    out.push('\n');
    for (name, detail, figures) in rows {
        let _ = write!(out, "{name:<name_width$}  {:<longest$}", cut(&detail, longest));
        for (figure, w) in figures.iter().zip(&widths) {
            let _ = write!(out, "  {figure:>w$}");
        }
        while out.ends_with(' ') {
            out.pop();
        }
        out.push('\n');
    }
    for (_, operator) in tree.walk() {
        for rejected in &operator.rejected {
            let _ = writeln!(out, "{}: not taken: {rejected}", operator.operator);
        }
        for note in operator.actual.iter().flat_map(|a| &a.notes) {
            let _ = writeln!(out, "{}: {note}", operator.operator);
        }
    }
    out
}

fn cut(text: &str, width: usize) -> String {
    if text.chars().count() <= width {
        return text.to_string();
    }
    let mut short: String = text.chars().take(width.saturating_sub(1)).collect();
    short.push('…');
    short
}

fn lines(tree: &PlanTree, first: &str, rest: &str, rows: &mut Vec<(String, String, Vec<String>)>) {
    let figures = match &tree.actual {
        Some(a) => {
            let factor = match a.estimate_factor {
                f if f >= 10.0 => format!("{} ({f:.0}x under)", short(tree.estimate.rows)),
                f if f <= -10.0 => format!("{} ({:.0}x over)", short(tree.estimate.rows), -f),
                _ => short(tree.estimate.rows),
            };
            let count = |n: u64| if n == 0 { String::new() } else { short(n as f64) };
            vec![
                short(a.rows_out as f64),
                factor,
                microseconds(a.own_us),
                String::new(),
                count(a.counters.edges_looked),
                count(a.counters.properties_read),
            ]
        }
        None => vec![short(tree.estimate.rows), short(tree.estimate.cost)],
    };
    rows.push((format!("{first}{}", tree.operator), tree.summary(), figures));
    let start = rows.len() - 1;
    for (i, input) in tree.inputs.iter().enumerate() {
        let last = i + 1 == tree.inputs.len();
        let (branch, below) = if last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
        lines(input, &format!("{rest}{branch}"), &format!("{rest}{below}"), rows);
    }
    if start == 0 && tree.actual.is_some() {
        // Shares need the whole tree's time.
        let all = tree.walk();
        let total: f64 = all.iter().filter_map(|(_, t)| t.actual.as_ref()).map(|a| a.own_us).sum();
        for ((_, t), row) in all.iter().zip(rows.iter_mut()) {
            let own = t.actual.as_ref().map_or(0.0, |a| a.own_us);
            row.2[3] = format!("{:.0} %", 100.0 * own / total.max(1e-9));
        }
    }
}

/// The hop tables of every search in the tree.
/// The hops that say most: the first two, the last, and those with the widest frontier, the most edges, the longest time
/// and the node of the largest degree.
fn telling(hops: &[Hop]) -> Vec<&Hop> {
    if hops.len() <= TELLING {
        return hops.iter().collect();
    }
    let most = |by: fn(&Hop) -> f64| {
        (0..hops.len()).max_by(|a, b| by(&hops[*a]).total_cmp(&by(&hops[*b])).then(b.cmp(a))).unwrap_or(0)
    };
    let mut kept = vec![0, 1, hops.len() - 1];
    kept.push(most(|h| h.frontier as f64));
    kept.push(most(|h| h.edges_looked as f64));
    kept.push(most(|h| h.time_us));
    kept.push(most(|h| h.largest_degree as f64));
    kept.sort_unstable();
    kept.dedup();
    kept.into_iter().map(|at| &hops[at]).collect()
}

/// So many hops are shown whole.
const TELLING: usize = 8;

/// The hops of every search: those that say most, or all.
pub fn render_hops(tree: &PlanTree, all: bool) -> String {
    let mut out = String::new();
    for (_, operator) in tree.walk() {
        let Some(actual) = &operator.actual else { continue };
        if actual.hops.is_empty() {
            continue;
        }
        let _ = writeln!(out, "\n{}  {}", operator.operator, operator.summary());
        let heads =
            ["hop", "side", "frontier", "edges", "failed", "reached", "known", "largest degree", "time"];
        let mut rows: Vec<Vec<String>> = vec![heads.iter().map(|h| h.to_string()).collect()];
        let shown = if all { actual.hops.iter().collect() } else { telling(&actual.hops) };
        for hop in &shown {
            rows.push(vec![
                hop.hop.to_string(),
                hop.side.as_str().to_string(),
                hop.frontier.to_string(),
                hop.edges_looked.to_string(),
                hop.failed.to_string(),
                hop.reached.to_string(),
                hop.known.to_string(),
                hop.largest_degree.to_string(),
                microseconds(hop.time_us),
            ]);
        }
        let widths: Vec<usize> =
            (0..heads.len()).map(|c| rows.iter().map(|r| r[c].chars().count()).max().unwrap_or(0)).collect();
        for row in rows {
            let cells: Vec<String> = row.iter().zip(&widths).map(|(cell, w)| format!("{cell:>w$}")).collect();
            let _ = writeln!(out, "  {}", cells.join("  "));
        }
        if shown.len() < actual.hops.len() {
            let _ =
                writeln!(out, "  {} of {} hops; --hops all shows the others", shown.len(), actual.hops.len());
        }
    }
    out
}
