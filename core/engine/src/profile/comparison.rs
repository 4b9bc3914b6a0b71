//! Comparison of two profiles or plans: operators aligned by what they do, with differences in plan shape, rows,
//! work and time kept apart. Work is exact and repeatable, times are not.

use serde::{Deserialize, Serialize};

use crate::counters::{Hop, Side};
use crate::profile::tree::PlanTree;

/// What an operator is in the second plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Change {
    /// The same operator on the same.
    Same,
    /// It stands in the other's place, and does it another way or on something else.
    Changed,
    /// Only the first plan has it.
    Removed,
    /// Only the second plan has it.
    Added,
}

/// What is exact: it is the same whenever the same plan runs on the same version.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Work {
    pub rows_out: u64,
    pub edges_looked: u64,
    pub properties_read: u64,
    pub index_probes: u64,
}

impl Work {
    fn add(&mut self, other: Work) {
        self.rows_out += other.rows_out;
        self.edges_looked += other.edges_looked;
        self.properties_read += other.properties_read;
        self.index_probes += other.index_probes;
    }

    /// Each counter by its name.
    pub fn counters(&self) -> [(&'static str, u64); 4] {
        [
            ("rows", self.rows_out),
            ("edges looked at", self.edges_looked),
            ("properties read", self.properties_read),
            ("index probes", self.index_probes),
        ]
    }
}

/// An operator in one of the two.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Figures {
    pub estimated_rows: f64,
    /// Of a plan there are none.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub work: Option<Work>,
    pub own_us: f64,
    pub peak_bytes: u64,
}

/// A hop that differs in its work.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct HopDifference {
    pub hop: u32,
    pub side: Side,
    /// Frontier and edges looked at; zero where a plan has no such hop.
    pub before: (u64, u64),
    pub after: (u64, u64),
}

/// An operator of either plan, or of both.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OperatorDifference {
    /// How deep it is in the second plan; in the first, where it is only there.
    pub depth: usize,
    pub change: Change,
    /// As the second plan has it; as the first, where it is only there.
    pub operator: String,
    pub on: String,
    /// What stood in its place, where it changed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub instead_of: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub before: Option<Figures>,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub after: Option<Figures>,
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub hops: Vec<HopDifference>,
}

/// Two plans or profiles side by side.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Comparison {
    /// Both have the same operators on the same things in the same order.
    pub same_plan: bool,
    /// Every operator did exactly the same work; of plans, nothing was done.
    pub same_work: bool,
    pub estimated_cost: (f64, f64),
    /// Of all operators together.
    pub work: (Work, Work),
    pub own_us: (f64, f64),
    pub operators: Vec<OperatorDifference>,
}

/// Sets two plans or profiles beside each other.
pub fn compare(before: &PlanTree, after: &PlanTree) -> Comparison {
    let (first, second) = (before.walk(), after.walk());
    let pairs = aligned(&first, &second);
    let operators: Vec<OperatorDifference> = pairs.into_iter().map(|(a, b)| difference(a, b)).collect();
    let same_work = |o: &OperatorDifference| {
        o.before.as_ref().and_then(|f| f.work) == o.after.as_ref().and_then(|f| f.work)
    };
    let sums = |all: &[(usize, &PlanTree)]| {
        let mut work = Work::default();
        all.iter().filter_map(|(_, t)| figures(t).work).for_each(|w| work.add(w));
        // The rows of a plan are its result's.
        work.rows_out = all.first().and_then(|(_, t)| t.actual.as_ref()).map_or(0, |a| a.rows_out);
        let own: f64 = all.iter().filter_map(|(_, t)| t.actual.as_ref()).map(|a| a.own_us).sum();
        (work, own)
    };
    let (one, other) = (sums(&first), sums(&second));
    Comparison {
        same_plan: operators.iter().all(|o| o.change == Change::Same),
        same_work: operators.iter().all(same_work),
        estimated_cost: (before.estimate.cost, after.estimate.cost),
        work: (one.0, other.0),
        own_us: (one.1, other.1),
        operators,
    }
}

type Placed<'t> = (usize, &'t PlanTree);

/// The same operator on the same.
const SAME: u32 = 8;

/// How much two operators are about the same: none at all, or more the better.
fn likeness(a: &PlanTree, b: &PlanTree) -> u32 {
    let same_about = match (a.details.first(), b.details.first()) {
        (Some((_, of_a)), Some((_, of_b))) => of_a == of_b,
        _ => false,
    };
    match (a.operator == b.operator, a.details == b.details, same_about) {
        (true, true, _) => SAME,
        (true, false, true) => 6,
        // A scan that has become a lookup is about the same part of the pattern.
        (false, _, true) => 4,
        (true, false, false) => 3,
        (false, _, false) => 0,
    }
}

/// Operators of one plan and of the other, side by side.
type Pair<'t> = (Option<Placed<'t>>, Option<Placed<'t>>);

/// Operators of one plan times those of the other that are compared each with each.
const MOST_PAIRS: usize = 4 << 20;

/// Pairs in the order of both plans, so that what is alike stands side by side: the alignment of the greatest sum
/// (Needleman and Wunsch, 1970), between what both begin and end with. What is too much for it stands one by one.
fn aligned<'t>(first: &[Placed<'t>], second: &[Placed<'t>]) -> Vec<Pair<'t>> {
    let same = |(a, b): &(&Placed<'t>, &Placed<'t>)| likeness(a.1, b.1) == SAME;
    let both = |(a, b): (&Placed<'t>, &Placed<'t>)| (Some(*a), Some(*b));
    let begin = first.iter().zip(second).take_while(same).count();
    let (one, other) = (&first[begin..], &second[begin..]);
    let end = one.iter().rev().zip(other.iter().rev()).take_while(same).count();
    let (one, last_of_one) = one.split_at(one.len() - end);
    let (other, last_of_other) = other.split_at(other.len() - end);
    let mut pairs: Vec<Pair<'t>> = first[..begin].iter().zip(second).map(both).collect();
    if one.len().saturating_mul(other.len()) > MOST_PAIRS {
        pairs.extend(one.iter().map(|a| (Some(*a), None)));
        pairs.extend(other.iter().map(|b| (None, Some(*b))));
    } else {
        pairs.extend(best_pairs(one, other));
    }
    pairs.extend(last_of_one.iter().zip(last_of_other).map(both));
    pairs
}

fn best_pairs<'t>(first: &[Placed<'t>], second: &[Placed<'t>]) -> Vec<Pair<'t>> {
    let (n, m) = (first.len(), second.len());
    let mut best = vec![vec![0u32; m + 1]; n + 1];
    for i in (0..n).rev() {
        for j in (0..m).rev() {
            let alike = likeness(first[i].1, second[j].1);
            let pair = if alike > 0 { alike + best[i + 1][j + 1] } else { 0 };
            best[i][j] = pair.max(best[i + 1][j]).max(best[i][j + 1]);
        }
    }
    let (mut i, mut j) = (0, 0);
    let mut pairs = vec![];
    while i < n || j < m {
        let alike = if i < n && j < m { likeness(first[i].1, second[j].1) } else { 0 };
        if alike > 0 && best[i][j] == alike + best[i + 1][j + 1] {
            pairs.push((Some(first[i]), Some(second[j])));
            (i, j) = (i + 1, j + 1);
        } else if i < n && (j == m || best[i][j] == best[i + 1][j]) {
            pairs.push((Some(first[i]), None));
            i += 1;
        } else {
            pairs.push((None, Some(second[j])));
            j += 1;
        }
    }
    pairs
}

fn figures(tree: &PlanTree) -> Figures {
    let work = tree.actual.as_ref().map(|a| Work {
        rows_out: a.rows_out,
        edges_looked: a.counters.edges_looked,
        properties_read: a.counters.properties_read,
        index_probes: a.counters.index_probes,
    });
    Figures {
        estimated_rows: tree.estimate.rows,
        work,
        own_us: tree.actual.as_ref().map_or(0.0, |a| a.own_us),
        peak_bytes: tree.actual.as_ref().map_or(0, |a| a.peak_bytes),
    }
}

fn difference(before: Option<Placed<'_>>, after: Option<Placed<'_>>) -> OperatorDifference {
    let change = match (before, after) {
        (Some((_, a)), Some((_, b))) if a.operator == b.operator && a.details == b.details => Change::Same,
        (Some(_), Some(_)) => Change::Changed,
        (Some(_), None) => Change::Removed,
        (None, _) => Change::Added,
    };
    let (depth, operator, on) = match after.or(before) {
        Some((depth, tree)) => (depth, tree.operator.clone(), tree.summary()),
        None => (0, String::new(), String::new()),
    };
    let instead_of = before
        .filter(|_| change == Change::Changed)
        .map(|(_, tree)| format!("{} {}", tree.operator, tree.summary()).trim_end().to_string());
    OperatorDifference {
        depth,
        change,
        operator,
        on,
        instead_of,
        before: before.map(|(_, tree)| figures(tree)),
        after: after.map(|(_, tree)| figures(tree)),
        hops: hop_differences(hops_of(before), hops_of(after)),
    }
}

fn hops_of(tree: Option<Placed<'_>>) -> &[Hop] {
    match tree {
        Some((_, PlanTree { actual: Some(actual), .. })) => &actual.hops,
        _ => &[],
    }
}

fn hop_differences(before: &[Hop], after: &[Hop]) -> Vec<HopDifference> {
    if before.is_empty() || after.is_empty() {
        return vec![];
    }
    let find = |hops: &[Hop], hop: &Hop| {
        let found = hops.iter().find(|h| h.hop == hop.hop && h.side == hop.side);
        found.map_or((0, 0), |h| (h.frontier, h.edges_looked))
    };
    let only_before = before.iter().filter(|b| !after.iter().any(|a| a.hop == b.hop && a.side == b.side));
    let mut all: Vec<&Hop> = after.iter().chain(only_before).collect();
    all.sort_by_key(|hop| (hop.side.as_str(), hop.hop));
    let all = all.into_iter().map(|hop| HopDifference {
        hop: hop.hop,
        side: hop.side,
        before: find(before, hop),
        after: find(after, hop),
    });
    all.filter(|hop| hop.before != hop.after).collect()
}
