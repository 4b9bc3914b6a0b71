//! Sums over paths without the paths: where an aggregation reads of a quantified part only its end, how many paths there
//! are and what adds up along them, a row an end is enough.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::Value;
use graphodrome_language::VariableKind;
use graphodrome_language::ast::{Aggregate, PathMode};

use crate::expression::{Expr, Kind};
use crate::operators::{AggregateSpec, Filter, FoldPaths, Folding, FollowEdges, SearchPaths};
use crate::plan::PlanNode;
use crate::planner::merge::{is_weighed, takes_weights};
use crate::planner::state::Planner;
use crate::rules::Rule;
use crate::search::{Fold, Inner, Outer, OutputKind};

/// The longest length from which on it is worth to look for cycles.
const SHORTEST_WORTH: u32 = 4;

/// What an aggregate makes of the edges of a path, and where that stands among the aggregates.
struct Wish {
    spec: usize,
    /// The slot of the edges.
    list: usize,
    fold: Fold,
    of_path: Expr,
}

struct Wishes {
    all: Vec<Wish>,
    /// Something else asks how many paths there are.
    counted: bool,
}

fn wish(place: usize, spec: &AggregateSpec) -> Option<Wish> {
    let outer = match spec.function {
        Aggregate::Sum if !spec.distinct => Outer::Sum,
        Aggregate::Min => Outer::Least,
        Aggregate::Max => Outer::Greatest,
        _ => return None,
    };
    let of_path = spec.argument.clone()?;
    let Kind::Fold { list, local, function, distinct: false, share: None, argument } = &of_path.kind else {
        return None;
    };
    let inner = match (function, outer) {
        (Aggregate::Sum, _) => Inner::Sum,
        // The least product is not the product of what is least, where numbers may be negative.
        (Aggregate::Product, Outer::Sum) => Inner::Product,
        _ => return None,
    };
    let fold = Fold { inner, outer, argument: (**argument).clone(), local: *local };
    Some(Wish { spec: place, list: *list, fold, of_path: of_path.clone() })
}

impl Planner<'_> {
    /// The input of a Group with a search folded, where that says the same; whether it is.
    pub(super) fn folded(
        &mut self, input: PlanNode, keys: &[Expr], specs: &mut [AggregateSpec],
    ) -> (PlanNode, bool) {
        if !self.may(Rule::FoldedPaths) {
            return (input, false);
        }
        let wishes: Vec<Wish> = specs.iter().enumerate().filter_map(|(i, s)| wish(i, s)).collect();
        let is_wish = |i: usize| wishes.iter().any(|w| w.spec == i);
        if !specs.iter().enumerate().all(|(i, s)| is_wish(i) || takes_weights(s)) {
            return (input, false);
        }
        let mut read = vec![];
        keys.iter().for_each(|key| key.slots(&mut read));
        let others = specs.iter().enumerate().filter(|(i, _)| !is_wish(*i));
        others.filter_map(|(_, s)| s.argument.as_ref()).for_each(|e| e.slots(&mut read));
        let mut input = input;
        let nodes = self.scope.node_count() as f64;
        // Whether anything but the wishes asks how many paths there are.
        let counted = specs.iter().enumerate().any(|(i, s)| is_weighed(s) && !is_wish(i));
        let wishes = Wishes { all: wishes, counted };
        let Some(path) = folded_below(&mut input, read.into_iter().collect(), &wishes, nodes) else {
            return (input, false);
        };
        for (i, spec) in specs.iter_mut().enumerate().filter(|(_, s)| is_weighed(s)) {
            if !wishes.all.iter().any(|w| w.spec == i) {
                spec.weights.push(path);
            }
        }
        let wishes = wishes.all;
        for (place, wish) in wishes.iter().enumerate() {
            let of_same: Vec<usize> = (0..wishes.len()).filter(|w| wishes[*w].list == wish.list).collect();
            let span = wish.of_path.span;
            let slot = Expr { kind: Kind::Slot(wish.list), span };
            let spec = &mut specs[wish.spec];
            spec.argument = Some(match of_same.len() {
                1 => slot,
                _ => {
                    let at = of_same.iter().position(|w| *w == place).unwrap_or(0) as i64;
                    let at = Expr { kind: Kind::Constant(Value::Int(at)), span };
                    Expr { kind: Kind::Index(Box::new(slot), Box::new(at)), span }
                }
            });
        }
        (input, true)
    }
}

/// Folds the search below, if nothing but the wishes reads of its paths; the slot with the number of paths.
fn folded_below(
    node: &mut PlanNode, mut read: BTreeSet<usize>, wishes: &Wishes, nodes: f64,
) -> Option<usize> {
    let mut slots = vec![];
    if let Some(filter) = node.operator::<Filter>() {
        filter.conditions.iter().for_each(|c| c.slots(&mut slots));
    } else if let Some(step) = node.operator::<FollowEdges>() {
        if step.counting.is_some() || step.once.is_some() {
            return None;
        }
        slots.push(step.from);
        slots.extend(&step.edge.different_from);
        step.conditions.iter().for_each(|c| c.slots(&mut slots));
    } else {
        return fold(node, &read, wishes, nodes);
    }
    read.extend(slots);
    let [below] = &mut node.inputs[..] else { return None };
    let path = folded_below(below, read, wishes, nodes)?;
    // What stands in the search's slots is no longer what it was.
    let width = below.schema.len();
    node.schema.variables[..width].clone_from_slice(&below.schema.variables);
    Some(path)
}

fn fold(node: &mut PlanNode, read: &BTreeSet<usize>, wishes: &Wishes, nodes: f64) -> Option<usize> {
    let search = node.operator::<SearchPaths>()?.clone();
    let spec = &search.spec;
    let [below] = &node.inputs[..] else { return None };
    let width = below.schema.len();
    let path = width + usize::from(spec.to.is_none());
    let beyond = path + 1 + spec.outputs.len();
    // Short paths are made as fast as it is found out that they need not be.
    let walks = spec.mode == PathMode::Walk && !spec.trails;
    let long = spec.max.is_none_or(|max| max >= if walks { 2 } else { SHORTEST_WORTH });
    if spec.step.is_none() || !long || read.iter().any(|slot| (path..beyond).contains(slot)) {
        return None;
    }
    let mut foldings = vec![];
    for wish in &wishes.all {
        let output = wish.list.checked_sub(path + 1).filter(|o| *o < spec.outputs.len())?;
        let of = &spec.outputs[output];
        let mut slots = vec![];
        wish.fold.argument.slots(&mut slots);
        let fits = slots.iter().all(|slot| *slot < width || *slot == wish.fold.local);
        if of.kind != OutputKind::Edge || !of.group || !fits || wish.fold.local < width {
            return None;
        }
        foldings.push(Folding { fold: wish.fold.clone(), of_path: wish.of_path.clone(), output });
    }
    // A row an end: no more ends than nodes.
    let most = (below.estimate.rows * nodes).max(1.0);
    node.plan = Arc::new(FoldPaths { search, foldings, counted: wishes.counted });
    node.estimate.rows = node.estimate.rows.min(most);
    for slot in path..beyond {
        node.schema.variables[slot].kind = VariableKind::Value;
    }
    node.schema.rename(path, "#paths");
    Some(path)
}
