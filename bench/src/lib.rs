//! Measuring: medians of several runs, and a table.

use std::time::Instant;

/// Middle of the samples.
pub fn median(mut samples: Vec<f64>) -> f64 {
    samples.sort_by(f64::total_cmp);
    samples.get(samples.len() / 2).copied().unwrap_or(f64::NAN)
}

/// Milliseconds that `work` takes.
pub fn milliseconds<T>(work: impl FnOnce() -> T) -> (f64, T) {
    let started = Instant::now();
    let result = work();
    (started.elapsed().as_secs_f64() * 1e3, result)
}

/// A line of the printed table.
pub struct Line {
    pub figure: String,
    pub ours: String,
    pub theirs: String,
    pub ratio: f64,
    pub target: String,
}

/// The table as Markdown.
pub fn table(lines: &[Line]) -> String {
    let mut out =
        String::from("| figure | Graphodrome | PostgreSQL | ratio | target |\n|---|---:|---:|---:|---:|\n");
    for line in lines {
        let met = if line.target.is_empty() { String::new() } else { format!("{} x", line.target) };
        out.push_str(&format!(
            "| {} | {} | {} | {:.1} x | {met} |\n",
            line.figure, line.ours, line.theirs, line.ratio
        ));
    }
    out
}

/// A duration in the unit that suits it.
pub fn shown(ms: f64) -> String {
    if ms < 1.0 {
        format!("{:.1} us", ms * 1e3)
    } else if ms < 1e3 {
        format!("{ms:.2} ms")
    } else {
        format!("{:.2} s", ms / 1e3)
    }
}
