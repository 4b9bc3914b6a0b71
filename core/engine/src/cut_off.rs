//! Report for a query that hit a limit: its search, the progress, and texts that would do less work.

use graphodrome_language::Diagnostic;
use graphodrome_language::ast::PathMode;

use crate::counters::{Hop, Metrics, Side};
use crate::operators::{FoldPaths, Reach, ReachInOrder, ReachWithin, SearchPaths, ShortestPaths};
use crate::outcome::Code;
use crate::plan::PlanNode;
use crate::search::SearchSpec;

/// The longest length that is proposed where every path is made: deeper hops say nothing of how many paths are shorter.
const SHORT: u32 = 10;

/// A bound that is proposed leaves this part of the edges looked at, or less.
const PART: u64 = 10;

/// What a search gives.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Gives {
    EveryPath,
    Shortest,
    /// How many there are, or what adds up along them.
    Counts,
    Ends,
}

struct CutOff<'p> {
    name: &'static str,
    spec: &'p SearchSpec,
    gives: Gives,
    metrics: &'p Metrics,
}

fn search_of(node: &PlanNode) -> Option<(&SearchSpec, Gives)> {
    let paths = node.operator::<SearchPaths>().map(|plan| (&plan.spec, Gives::EveryPath));
    let shortest = || node.operator::<ShortestPaths>().map(|plan| (&plan.spec, Gives::Shortest));
    let counts = || node.operator::<FoldPaths>().map(|plan| (&plan.search.spec, Gives::Counts));
    let ends = || {
        let within = || node.operator::<ReachWithin>().map(|plan| &plan.search.spec);
        let in_order = || node.operator::<ReachInOrder>().map(|plan| &plan.search.spec);
        let spec = node.operator::<Reach>().map(|plan| &plan.spec).or_else(within).or_else(in_order);
        spec.map(|spec| (spec, Gives::Ends))
    };
    paths.or_else(shortest).or_else(counts).or_else(ends)
}

/// The search that looked at the most edges.
fn widest<'p>(node: &'p PlanNode, metrics: &'p [Metrics], found: &mut Option<CutOff<'p>>) {
    if let Some((spec, gives)) = search_of(node)
        && let Some(own) = metrics.get(node.id).filter(|own| !own.hops.is_empty())
        && found.as_ref().is_none_or(|most| own.counters.edges_looked > most.metrics.counters.edges_looked)
    {
        *found = Some(CutOff { name: node.plan.name(), spec, gives, metrics: own });
    }
    let within = node.plan.correlated().map(|inner| &**inner);
    node.inputs.iter().chain(within).for_each(|input| widest(input, metrics, found));
}

impl CutOff<'_> {
    /// How far it got.
    fn reached(&self) -> String {
        let hops = &self.metrics.hops;
        let deepest = |side: Side| hops.iter().filter(|h| h.side == side).max_by_key(|h| h.hop);
        let mut sides = vec![];
        for (side, end) in [(Side::From, ""), (Side::To, " from the end")] {
            if let Some(Hop { hop, frontier, .. }) = deepest(side) {
                sides.push(format!("hop {hop}{end} with {frontier} nodes to go on from"));
            }
        }
        let counted = match self.gives {
            Gives::Counts => "rows",
            Gives::Ends => "ends",
            Gives::EveryPath | Gives::Shortest => "paths",
        };
        format!(
            "{} of {} was at {}: {} edges looked at, {} {counted} given",
            self.name,
            self.spec.pattern,
            sides.join(" and "),
            self.metrics.counters.edges_looked,
            self.metrics.rows_out
        )
    }

    /// The pattern with other bounds, where it is one repeated edge.
    fn with_bounds(&self, most: u32) -> Option<String> {
        let SearchSpec { pattern, min, max, .. } = self.spec;
        self.spec.step.as_ref()?;
        let written = match (min, max) {
            (0, None) => "*".to_string(),
            (1, None) => "+".into(),
            (min, None) => format!("{{{min},}}"),
            (min, Some(max)) if min == max => format!("{{{min}}}"),
            (min, Some(max)) => format!("{{{min},{max}}}"),
        };
        let at = pattern.rfind(&format!("{written}("))?;
        let least = (*min).min(most);
        let (before, after) = (&pattern[..at], &pattern[at + written.len()..]);
        Some(format!("{before}{{{least},{most}}}{after}"))
    }

    /// The longest length that leaves a small part of the edges, and the part in per cent.
    fn bound(&self) -> Option<(u32, f64)> {
        let hops = &self.metrics.hops;
        let all: u64 = hops.iter().map(|h| h.edges_looked).sum();
        let last = hops.iter().map(|h| h.hop).max()?;
        let within =
            |most: u32| -> u64 { hops.iter().filter(|h| h.hop <= most).map(|h| h.edges_looked).sum() };
        let most = (1..last).rev().find(|most| within(*most) <= all / PART).unwrap_or(1);
        let allowed = most >= self.spec.min && self.spec.max.is_none_or(|max| most < max) && most < last;
        allowed.then(|| (most, 100.0 * within(most) as f64 / all.max(1) as f64))
    }

    /// Texts in the place of the pattern's, with what they ask for, the cheapest first.
    fn less(&self) -> Vec<String> {
        let pattern = match self.spec.mode {
            PathMode::Acyclic => format!("ACYCLIC {}", self.spec.pattern),
            PathMode::Simple => format!("SIMPLE {}", self.spec.pattern),
            _ => self.spec.pattern.clone(),
        };
        let mut less = vec![];
        let bound = self.bound().and_then(|(most, part)| {
            if matches!(self.gives, Gives::EveryPath | Gives::Counts) {
                let most = most.min(SHORT.max(self.spec.min));
                return Some(format!("paths of at most {most} edges, {}", self.with_bounds(most)?));
            }
            let text = self.with_bounds(most)?;
            Some(format!(
                "paths of at most {most} edges, {text}, for which {part:.1} % of these edges were looked at"
            ))
        });
        if self.gives == Gives::EveryPath {
            less.push(format!("one path to each end in place of all, ANY SHORTEST {pattern}"));
            less.extend(bound);
            if !matches!(self.spec.mode, PathMode::Acyclic | PathMode::Simple) {
                less.push(format!("paths that take no node twice, ACYCLIC {pattern}"));
            }
            return less;
        }
        less.extend(bound);
        if self.gives == Gives::Counts {
            return less;
        }
        if self.spec.to.is_none() {
            less.push("an end that a key finds, so that the search can go from both ends".into());
        }
        if let Some(widest) = self.metrics.hops.iter().max_by_key(|h| h.largest_degree)
            && widest.largest_degree * PART > widest.edges_looked
        {
            let degree = widest.largest_degree;
            less.push(format!(
                "a way around the node with {degree} edges that hop {} went through: a condition on the edge or its end, as in -[e WHERE ...]->",
                widest.hop
            ));
        }
        less
    }
}

/// The error with how far the widest search got, and ways to ask for less, where a limit ended one.
pub(crate) fn cut_off(error: Diagnostic, root: &PlanNode, metrics: &[Metrics]) -> Diagnostic {
    if error.code != Code::TIME_LIMIT && error.code != Code::MEMORY_LIMIT {
        return error;
    }
    let mut found = None;
    widest(root, metrics, &mut found);
    let Some(search) = found else { return error };
    let message = format!("{}; {}", error.message, search.reached());
    let less = search.less();
    let hint = match (less.is_empty(), &error.hint) {
        (true, hint) => hint.clone(),
        (false, _) if error.code == Code::TIME_LIMIT => {
            Some(format!("ask for less: {}; or for more time", less.join("; or ")))
        }
        // There may be too little memory for reasons that are not the query's own.
        (false, hint) => {
            let other = hint.iter().map(|hint| format!("; or {hint}")).collect::<String>();
            Some(format!("ask for less: {}{other}", less.join("; or ")))
        }
    };
    Diagnostic { message, ..error }.maybe_hint(hint)
}
