//! Sums over paths without the paths: where an aggregation reads of a quantified part only its end, how many paths there
//! are and what adds up along them, a row an end is enough.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::Value;
use graphodrome_language::VariableKind;
use graphodrome_language::ast::{Aggregate, BinaryOperator, PathMode};

use crate::expression::{Expr, Kind, Piece};
use crate::operators::{AggregateSpec, Compute, Filter, FoldPaths, Folding, FollowEdges, SearchPaths};
use crate::plan::PlanNode;
use crate::planner::merge::{is_weighed, takes_weights};
use crate::planner::state::Planner;
use crate::profile::Alternative;
use crate::rules::Rule;
use crate::search::{Fold, Inner, Outer, OutputKind, may_be_counted};

/// The longest length from which on paths between two nodes are counted from their beginnings.
const SHORTEST_COUNTED: u32 = 3;

/// The longest length for which they are counted length by length.
const LONGEST_BY_LENGTH: u32 = 8;

/// From so many paths to each end on it is worth it to count short trails without making them.
const MANY_TO_AN_END: f64 = 4.0;

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
    may: May,
}

/// Which rules may be used.
#[derive(Clone, Copy)]
struct May {
    fold: bool,
    between: bool,
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
        let may = May { fold: self.may(Rule::FoldedPaths), between: self.may(Rule::PathsBetween) };
        if !may.fold && !may.between {
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
        let mut all_read = read.clone();
        wishes.iter().for_each(|wish| wish.of_path.slots(&mut all_read));
        let mut input = without_unread_paths(input, &all_read);
        let nodes = self.scope.node_count() as f64;
        // Whether anything but the wishes asks how many paths there are.
        let counted = specs.iter().enumerate().any(|(i, s)| is_weighed(s) && !is_wish(i));
        let wishes = Wishes { all: wishes, counted, may };
        let read: BTreeSet<usize> = read.into_iter().collect();
        let by_length = self.counted_by_length(&mut input, &read, &wishes);
        let Some(path) = by_length.or_else(|| folded_below(&mut input, read, &wishes, nodes)) else {
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

impl Planner<'_> {
    /// Where of paths between two nodes only their lengths are read, right above: a row a length; the slot with the number
    /// of paths.
    fn counted_by_length(
        &mut self, input: &mut PlanNode, read: &BTreeSet<usize>, wishes: &Wishes,
    ) -> Option<usize> {
        let compute = input.operator::<Compute>()?;
        let [Expr { kind: Kind::Length(pieces), span }] = &compute.expressions[..] else { return None };
        let (span, shown) = (*span, compute.shown.clone());
        let mut edges = 0;
        let mut paths = vec![];
        for piece in pieces {
            match piece {
                Piece::Node(_) => {}
                Piece::Edge(_) => edges += 1,
                Piece::Path(slot) => paths.push(*slot),
            }
        }
        let [path] = paths[..] else { return None };
        let [below] = &mut input.inputs[..] else { return None };
        let search = below.operator::<SearchPaths>()?.clone();
        let spec = &search.spec;
        let beyond = path + 1 + spec.outputs.len();
        let here = path + 1 + spec.outputs.len() == below.schema.len();
        let fits = wishes.may.between
            && wishes.all.is_empty()
            && here
            && spec.max.is_some_and(|max| max <= LONGEST_BY_LENGTH)
            && may_be_counted(spec)
            && search.caps.is_none()
            && !read.iter().any(|slot| (path..beyond).contains(slot));
        if !fits {
            return None;
        }
        let made = below.estimate.cost - below.inputs.first()?.estimate.cost;
        let counted = wishes.counted;
        below.plan =
            Arc::new(FoldPaths { search, foldings: vec![], counted, between: true, by_length: true });
        below.schema.variables[path].kind = VariableKind::Value;
        counted_from_beginnings(below, made);
        let constant = |n: i64| Expr { kind: Kind::Constant(Value::Int(n)), span };
        let part = |at: i64| {
            let slot = Expr { kind: Kind::Slot(path), span };
            Expr { kind: Kind::Index(Box::new(slot), Box::new(constant(at))), span }
        };
        let plus = |a: Expr, b: Expr| Kind::Binary(BinaryOperator::Add, Box::new(a), Box::new(b));
        let length = Expr { kind: plus(part(0), constant(edges)), span };
        let mut schema = input.schema.clone();
        schema.variables[..below.schema.len()].clone_from_slice(&below.schema.variables);
        let slot = schema.push("#paths", VariableKind::Value);
        input.schema = schema;
        input.plan = Arc::new(Compute { expressions: vec![length, part(1)], shown });
        Some(slot)
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

/// The input without the paths put together right above it that nothing reads.
fn without_unread_paths(mut input: PlanNode, read: &[usize]) -> PlanNode {
    loop {
        let unread = input.operator::<Compute>().is_some_and(|compute| {
            let width = input.schema.len() - compute.expressions.len();
            let put_together = |e: &Expr| matches!(e.kind, Kind::Path(_) | Kind::Length(_));
            compute.expressions.iter().all(put_together) && !read.iter().any(|slot| *slot >= width)
        });
        match input.inputs.pop() {
            Some(below) if unread => input = below,
            below => {
                input.inputs.extend(below);
                return input;
            }
        }
    }
}

/// Says of a search that its paths are counted.
fn counted_from_beginnings(node: &mut PlanNode, every_path: f64) {
    let why = "the paths between the two nodes are not read";
    node.alternatives.push(Alternative::chosen("counted from their beginnings", every_path, why));
    node.alternatives.push(Alternative::left(
        "every path",
        Some(every_path),
        "the last three edges of each are made",
    ));
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
    let between = wishes.may.between && wishes.all.is_empty() && may_be_counted(spec);
    // Trails of two and three edges follow from the walks, which is worth it where many lead to the same ends.
    let trails = spec.trails || spec.mode == PathMode::Trail;
    let meet = node.estimate.rows >= MANY_TO_AN_END * below.estimate.rows * search.ends.max(1.0);
    let shortest = match (walks, between) {
        (true, _) => 2,
        (_, true) => SHORTEST_COUNTED,
        _ if trails && wishes.all.is_empty() && meet => 2,
        _ => SHORTEST_WORTH,
    };
    let long = spec.max.is_none_or(|max| max >= shortest);
    if !(wishes.may.fold || between)
        || search.caps.is_some()
        || spec.step.is_none()
        || !long
        || read.iter().any(|slot| (path..beyond).contains(slot))
    {
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
    // A row an end, each once: no more ends than nodes.
    let most = (below.estimate.rows * search.ends.min(nodes)).max(0.1);
    let made = node.estimate.cost - below.estimate.cost;
    let plan = FoldPaths { search, foldings, counted: wishes.counted, between, by_length: false };
    node.plan = Arc::new(plan);
    if between {
        counted_from_beginnings(node, made);
    }
    node.estimate.rows = node.estimate.rows.min(most);
    for slot in path..beyond {
        node.schema.variables[slot].kind = VariableKind::Value;
    }
    node.schema.rename(path, "#paths");
    Some(path)
}
