//! Plans, profiles and comparisons as text that can be compared line by line: never wider than asked for, long
//! conditions on lines of their own.

use std::fmt::Write;

use crate::counters::Hop;
use crate::findings::Finding;
use crate::profile::comparison::{Change, Comparison, Figures, HopDifference};
use crate::profile::estimate::{Alternative, Basis};
use crate::profile::tree::{Actual, PlanTree};

/// How a plan or a profile is written.
#[derive(Clone, Copy, Debug)]
pub struct TextOptions {
    /// Columns of a line; a name that is longer by itself is the only thing that passes it.
    pub width: usize,
    /// Every hop of a search, instead of those that say most.
    pub all_hops: bool,
    /// Every counter of every operator, and what each estimate rests on.
    pub verbose: bool,
}

impl Default for TextOptions {
    fn default() -> Self {
        TextOptions { width: WIDEST, all_hops: false, verbose: false }
    }
}

/// A plan is no wider, however wide the terminal.
const WIDEST: usize = 100;
/// What an operator works on has at least so many columns.
const NARROWEST: usize = 24;

/// A count in at most seven characters or so: 950, 12.3k, 4.56M, 3e14.
fn short(n: f64) -> String {
    match n {
        n if n >= 1e12 => format!("{n:.0e}"),
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

fn bytes(n: u64) -> String {
    match n {
        n if n < 10_000 => format!("{n} B"),
        n if n < 10 << 20 => format!("{:.1} KiB", n as f64 / 1024.0),
        n => format!("{:.1} MiB", n as f64 / (1 << 20) as f64),
    }
}

/// How many times off an estimate is, where that is worth a word.
fn off(actual: &Actual) -> Option<String> {
    let factor = actual.estimate_factor.abs();
    (factor >= 10.0).then(|| {
        format!("{}x {}", short(factor.round()), if actual.estimate_factor > 0.0 { "under" } else { "over" })
    })
}

/// Words on lines of at most `width` columns; a longer word is cut in pieces.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![];
    let mut line = String::new();
    for word in text.split(' ') {
        let mut word: Vec<char> = word.chars().collect();
        loop {
            let taken = line.chars().count();
            let needs = word.len() + if taken == 0 { 0 } else { taken + 1 };
            if needs <= width {
                if taken > 0 {
                    line.push(' ');
                }
                line.extend(word);
                break;
            }
            if taken > 0 {
                lines.push(std::mem::take(&mut line));
                continue;
            }
            line.extend(word.drain(..width.max(1)));
            lines.push(std::mem::take(&mut line));
        }
    }
    lines.push(line);
    lines
}

/// One line of the tree: its first column with rails, what it is about, its figures; and what goes before lines that
/// continue it.
struct Line {
    name: String,
    rails: String,
    on: String,
    figures: Vec<String>,
    more: Vec<String>,
}

/// A table with a first column of rails and names, a wrapped second one, and figures to the right.
fn table(heads: [&str; 2], figures: &[&str], lines: &[Line], width: usize) -> String {
    let widths: Vec<usize> = (0..figures.len())
        .map(|at| {
            let own = lines.iter().map(|l| l.figures.get(at).map_or(0, |f| f.chars().count()));
            own.max().unwrap_or(0).max(figures[at].chars().count())
        })
        .collect();
    let right: usize = widths.iter().map(|w| w + 2).sum();
    let left = lines.iter().map(|l| l.name.chars().count()).max().unwrap_or(0).max(heads[0].len());
    let room = width.saturating_sub(left + 2 + right);
    let longest = lines.iter().map(|l| l.on.chars().count()).max().unwrap_or(0);
    // Where a deep tree leaves too little room beside it, what an operator works on stands below its name.
    let beside = longest <= room || room >= NARROWEST;
    let middle = if beside { longest.min(room).max(heads[1].len()) } else { 0 };
    let mut out = String::new();
    let mut row = |name: &str, on: &str, figures: &mut dyn Iterator<Item = &str>| {
        let mut line = format!("{name:<left$}  {on:<middle$}");
        for (figure, w) in figures.zip(&widths) {
            let _ = write!(line, "  {figure:>w$}");
        }
        out.push_str(line.trim_end());
        out.push('\n');
    };
    row(heads[0], if beside { heads[1] } else { "" }, &mut figures.iter().copied());
    for line in lines {
        let mut pieces = if beside { wrapped(&line.on, middle) } else { vec![] }.into_iter();
        row(&line.name, &pieces.next().unwrap_or_default(), &mut line.figures.iter().map(String::as_str));
        for piece in pieces {
            row(&line.rails, &piece, &mut std::iter::empty());
        }
        let below = Some(&line.on).filter(|on| !beside && !on.is_empty());
        for more in below.into_iter().chain(&line.more) {
            let indent = format!("{}  ", line.rails);
            for piece in wrapped(more, width.saturating_sub(indent.chars().count()).max(NARROWEST)) {
                let whole = format!("{indent}{piece}");
                row(&whole, "", &mut std::iter::empty());
            }
        }
    }
    out
}

fn lines(tree: &PlanTree, first: &str, rest: &str, total: f64, verbose: bool, out: &mut Vec<Line>) {
    let figures = match &tree.actual {
        Some(a) => {
            let estimate = short(tree.estimate.rows);
            let count = |n: u64| if n == 0 { String::new() } else { short(n as f64) };
            vec![
                short(a.rows_out as f64),
                off(a).map_or(estimate.clone(), |off| format!("{estimate} ({off})")),
                microseconds(a.own_us),
                format!("{:.0} %", 100.0 * a.own_us / total),
                count(a.counters.edges_looked),
                count(a.counters.properties_read),
            ]
        }
        None => vec![short(tree.estimate.rows), short(tree.estimate.cost)],
    };
    let rails = format!("{rest}{}", if tree.inputs.is_empty() { "" } else { "│" });
    let more = if verbose { everything(tree) } else { vec![] };
    out.push(Line { name: format!("{first}{}", tree.operator), rails, on: tree.summary(), figures, more });
    for (i, input) in tree.inputs.iter().enumerate() {
        let last = i + 1 == tree.inputs.len();
        let (branch, below) = if last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
        lines(input, &format!("{rest}{branch}"), &format!("{rest}{below}"), total, verbose, out);
    }
}

fn basis(basis: Basis) -> &'static str {
    match basis {
        Basis::Fact => "a fact",
        Basis::Count => "counts",
        Basis::Degrees => "degrees",
        Basis::Histogram => "a histogram",
        Basis::Sample => "a sample",
        Basis::Input => "the inputs",
        Basis::Guess => "a guess",
    }
}

/// What the columns have no room for.
fn everything(tree: &PlanTree) -> Vec<String> {
    let estimate = &tree.estimate;
    let mut out = vec![format!(
        "estimate: {} rows, cost {}, from {} ({})",
        short(estimate.rows),
        short(estimate.cost),
        basis(estimate.basis),
        estimate.source
    )];
    if let Some(a) = &tree.actual {
        out.push(format!(
            "did: {} rows in, {} out in {} batches; {} edges looked at, {} properties read, {} index probes; {} with its inputs; at most {} held",
            a.rows_in,
            a.rows_out,
            a.batches,
            a.counters.edges_looked,
            a.counters.properties_read,
            a.counters.index_probes,
            microseconds(a.total_us),
            bytes(a.peak_bytes)
        ));
    }
    out
}

fn tree_text(tree: &PlanTree, options: &TextOptions) -> String {
    let mut all = vec![];
    lines(tree, "", "", tree.own_time(), options.verbose, &mut all);
    let figures: &[&str] = match tree.actual {
        Some(_) => &["rows", "estimate", "own time", "share", "edges", "props"],
        None => &["estimate", "cost"],
    };
    table(["operator", "on"], figures, &all, options.width.min(WIDEST))
}

/// A plan: its operators, why it is this one, and what there is to change.
pub fn render_plan(tree: &PlanTree, findings: &[Finding], options: &TextOptions) -> String {
    let mut out = tree_text(tree, options);
    section(&mut out, "Why this way", choices(tree, options.width));
    section(&mut out, "What to change", actions(findings, options.width));
    out
}

/// A profile: where the time went, why this way, what to change; then all operators and the hops of searches.
pub fn render_profile(tree: &PlanTree, findings: &[Finding], options: &TextOptions) -> String {
    let mut out = String::new();
    section(&mut out, "Where the time went", spenders(tree, options.width));
    section(&mut out, "Why this way", choices(tree, options.width));
    let mut act = actions(findings, options.width);
    if act.is_empty() {
        act.push("  no findings".into());
    }
    section(&mut out, "What to change", act);
    out.push('\n');
    out.push_str(&tree_text(tree, options));
    for (_, operator) in tree.walk() {
        for note in operator.actual.iter().flat_map(|a| &a.notes) {
            for line in paragraph(&format!("{}: {note}", operator.operator), "", options.width) {
                let _ = writeln!(out, "{line}");
            }
        }
    }
    out.push_str(&render_hops(tree, options.all_hops));
    out
}

fn section(out: &mut String, head: &str, lines: Vec<String>) {
    if lines.is_empty() {
        return;
    }
    if !out.is_empty() {
        out.push('\n');
    }
    let _ = writeln!(out, "{head}");
    for line in lines {
        let _ = writeln!(out, "{line}");
    }
}

/// An operator and what it works on.
fn named(tree: &PlanTree) -> String {
    format!("{} {}", tree.operator, tree.summary()).trim_end().to_string()
}

fn paragraph(text: &str, indent: &str, width: usize) -> Vec<String> {
    let room = width.min(WIDEST).saturating_sub(indent.len()).max(NARROWEST);
    wrapped(text, room).into_iter().map(|line| format!("{indent}{line}")).collect()
}

/// Operators that are shown as those that took the time.
const SPENDERS: usize = 3;

/// The operators that took most of the time, with what they did.
fn spenders(tree: &PlanTree, width: usize) -> Vec<String> {
    let total = tree.own_time();
    let mut all: Vec<(&PlanTree, &Actual)> =
        tree.walk().into_iter().filter_map(|(_, t)| t.actual.as_ref().map(|a| (t, a))).collect();
    all.sort_by(|a, b| b.1.own_us.total_cmp(&a.1.own_us));
    let mut out = vec![];
    for (place, (operator, actual)) in all.into_iter().take(SPENDERS).enumerate() {
        let share = 100.0 * actual.own_us / total;
        if place > 0 && share < 5.0 {
            break;
        }
        let mut did = vec![];
        if actual.counters.edges_looked > 0 {
            did.push(format!("{} edges looked at", short(actual.counters.edges_looked as f64)));
        }
        if actual.counters.properties_read > 0 {
            did.push(format!("{} properties read", short(actual.counters.properties_read as f64)));
        }
        did.push(format!("{} rows", short(actual.rows_out as f64)));
        if let Some(widest) =
            actual.hops.iter().max_by_key(|h| h.edges_looked).filter(|_| actual.hops.len() > 1)
        {
            let mut word = format!(
                "hop {} of {} alone {:.0} % of the edges",
                widest.hop,
                actual.hops.len(),
                100.0 * widest.edges_looked as f64 / (actual.counters.edges_looked as f64).max(1.0)
            );
            if let Some(node) = &widest.largest_node {
                let _ = write!(word, " (largest degree {}: {node})", short(widest.largest_degree as f64));
            }
            did.push(word);
        }
        let head = format!("{share:>5.0} %  {:>9}  ", microseconds(actual.own_us));
        let text = format!("{}: {}", named(operator), did.join(", "));
        let indent = " ".repeat(head.chars().count());
        let room = width.min(WIDEST).saturating_sub(indent.len()).max(NARROWEST);
        for (at, line) in wrapped(&text, room).into_iter().enumerate() {
            out.push(format!("{}{line}", if at == 0 { &head } else { &indent }));
        }
    }
    out
}

/// Where there was a choice: what was taken, and what was not.
fn choices(tree: &PlanTree, width: usize) -> Vec<String> {
    let mut out = vec![];
    for (_, operator) in tree.walk() {
        if operator.alternatives.is_empty() {
            continue;
        }
        let word = |a: &Alternative| {
            let cost = a.cost.map_or(String::new(), |cost| format!(" (cost {})", short(cost)));
            let taken = if a.chosen { "" } else { "not " };
            format!("{taken}{}{cost}: {}", a.method, a.reason)
        };
        out.extend(paragraph(&named(operator), "  ", width));
        for alternative in &operator.alternatives {
            out.extend(paragraph(&word(alternative), "    ", width));
        }
    }
    out
}

fn actions(findings: &[Finding], width: usize) -> Vec<String> {
    let mut out = vec![];
    for finding in findings {
        out.extend(paragraph(&format!("{} ({})", finding.message, finding.rule), "  ", width));
        out.extend(paragraph(&finding.advice, "    ", width));
        // A statement is to be copied: it stays whole.
        out.extend(finding.statement.iter().map(|statement| format!("    {statement}")));
    }
    out
}

/// So many hops are shown whole.
const TELLING: usize = 8;

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

/// The hops of every search: those that say most, or all.
pub fn render_hops(tree: &PlanTree, all: bool) -> String {
    let mut out = String::new();
    for (_, operator) in tree.walk() {
        let Some(actual) = &operator.actual else { continue };
        if actual.hops.is_empty() {
            continue;
        }
        out.push('\n');
        for line in paragraph(&named(operator), "", WIDEST) {
            let _ = writeln!(out, "{line}");
        }
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
        let largest = actual.hops.iter().max_by_key(|h| h.largest_degree);
        if let Some((hop, node)) = largest.and_then(|h| h.largest_node.as_ref().map(|node| (h, node))) {
            let _ =
                writeln!(out, "  the largest degree, {}, has {node} (hop {})", hop.largest_degree, hop.hop);
        }
        if shown.len() < actual.hops.len() {
            let _ =
                writeln!(out, "  {} of {} hops; --hops all shows the others", shown.len(), actual.hops.len());
        }
    }
    out
}

/// A number before and after, and by how much it grew or shrank.
fn change(before: f64, after: f64, shown: impl Fn(f64) -> String) -> String {
    if before == after {
        return format!("{}, the same", shown(after));
    }
    let times = |factor: f64| if factor < 10.0 { format!("{factor:.1}") } else { format!("{factor:.0}") };
    let factor = match (before > 0.0 && after > 0.0, after > before) {
        (false, _) => String::new(),
        (true, true) => format!(" ({}x more)", times(after / before)),
        (true, false) => format!(" ({}x less)", times(before / after)),
    };
    format!("{} -> {}{factor}", shown(before), shown(after))
}

/// Hops of an operator that a comparison shows.
const DIFFERING: usize = 4;

/// The hops that differ most in the edges they looked at, in their order.
fn differing(hops: &[HopDifference]) -> Vec<&HopDifference> {
    let mut most: Vec<&HopDifference> = hops.iter().collect();
    most.sort_by_key(|hop| std::cmp::Reverse(hop.before.1.abs_diff(hop.after.1)));
    most.truncate(DIFFERING);
    most.sort_by_key(|hop| (hop.side.as_str(), hop.hop));
    most
}

/// Two plans or profiles side by side: what differs in plan, work and time, and the operators in a tree.
pub fn render_comparison(comparison: &Comparison, options: &TextOptions) -> String {
    let Comparison { work, own_us, estimated_cost, operators, .. } = comparison;
    let profiled =
        operators.iter().any(|o| [&o.before, &o.after].into_iter().flatten().any(|f| f.work.is_some()));
    let mut out = String::new();
    let _ = writeln!(out, "plan   {}", if comparison.same_plan { "the same" } else { "another" });
    if profiled {
        let whole = |n: f64| short(n);
        for (place, ((name, before), (_, after))) in
            work.0.counters().into_iter().zip(work.1.counters()).enumerate()
        {
            let head = if place == 0 { "work " } else { "     " };
            let _ = writeln!(out, "{head}  {name}: {}", change(before as f64, after as f64, whole));
        }
        let _ = writeln!(
            out,
            "time   {}; times differ from run to run",
            change(own_us.0, own_us.1, microseconds)
        );
    } else {
        let _ = writeln!(out, "cost   estimated: {}", change(estimated_cost.0, estimated_cost.1, short));
    }
    out.push('\n');
    let two = |a: Option<String>, b: Option<String>| match (a, b) {
        (Some(a), Some(b)) if a == b => a,
        (a, b) => format!("{} -> {}", a.unwrap_or("-".into()), b.unwrap_or("-".into())),
    };
    let mut all = vec![];
    for operator in operators {
        let sign = match operator.change {
            Change::Same => " ",
            Change::Changed => "~",
            Change::Removed => "-",
            Change::Added => "+",
        };
        let (before, after) = (operator.before.as_ref(), operator.after.as_ref());
        let pair = |of: &dyn Fn(&Figures) -> Option<String>| two(before.and_then(of), after.and_then(of));
        let figures = if profiled {
            vec![
                pair(&|f| f.work.map(|w| short(w.rows_out as f64))),
                pair(&|f| f.work.map(|w| short(w.edges_looked as f64))),
                pair(&|f| f.work.map(|w| short(w.properties_read as f64))),
                pair(&|f| Some(microseconds(f.own_us))),
            ]
        } else {
            vec![pair(&|f| Some(short(f.estimated_rows)))]
        };
        let indent = "  ".repeat(operator.depth);
        let mut more: Vec<String> =
            operator.instead_of.iter().map(|other| format!("instead of {other}")).collect();
        let hops = if options.all_hops { operator.hops.iter().collect() } else { differing(&operator.hops) };
        more.extend(hops.iter().map(|hop| {
            format!(
                "hop {} {}: frontier {} -> {}, edges {} -> {}",
                hop.hop,
                hop.side.as_str(),
                hop.before.0,
                hop.after.0,
                hop.before.1,
                hop.after.1
            )
        }));
        if operator.hops.len() > hops.len() {
            more.push(format!(
                "{} of {} hops that differ; --hops all shows the others",
                hops.len(),
                operator.hops.len()
            ));
        }
        let name = format!("{sign} {indent}{}", operator.operator);
        all.push(Line { name, rails: format!("  {indent}"), on: operator.on.clone(), figures, more });
    }
    let figures: &[&str] =
        if profiled { &["rows", "edges", "props", "own time"] } else { &["estimated rows"] };
    out.push_str(&table(["  operator", "on"], figures, &all, options.width.min(WIDEST)));
    out
}
