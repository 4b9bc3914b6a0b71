//! Merges rows below an aggregation that need only be counted or summed.

use std::collections::BTreeSet;
use std::sync::Arc;

use graphodrome_graph::{
    Direction, GraphType, LabelExpression, LabelSet, NodeTest, PropertyReader, PropertyType,
};
use graphodrome_language::VariableKind;
use graphodrome_language::ast::Aggregate;

use crate::expression::{Expr, Kind};
use crate::operators::merge_rows::{MOST_COLUMNS, MergeRows, Taken};
use crate::operators::*;
use crate::plan::{Counting, PlanNode};
use crate::planner::state::Planner;
use crate::profile::{Basis, Estimate};
use crate::rules::Rule;

/// Fewer rows are not worth it.
const LEAST_ROWS: f64 = 30.0;

/// Fewer rows than that are merged by a table of those that there are.
const MANY_ROWS: f64 = 1000.0;

/// Whether an aggregate can be told how many rows a row stands for, or does not care.
pub(super) fn takes_weights(spec: &AggregateSpec) -> bool {
    spec.distinct || matches!(spec.function, Aggregate::Min | Aggregate::Max) || is_weighed(spec)
}

/// Whether how often a value comes matters to it.
pub(super) fn is_weighed(spec: &AggregateSpec) -> bool {
    !spec.distinct && matches!(spec.function, Aggregate::Count | Aggregate::Sum | Aggregate::Avg)
}

/// What binds a slot, and which labels it asks for.
pub(super) enum Bound<'n> {
    Node(Option<&'n LabelExpression>),
    Edge(Option<&'n LabelExpression>),
    Path,
}

/// The test of the ends that a search finds.
fn found_ends(node: &PlanNode) -> Option<&NodeTest> {
    let spec = match (node.operator::<SearchPaths>(), node.operator::<ShortestPaths>()) {
        (Some(search), _) => &search.spec,
        (_, Some(search)) => &search.spec,
        _ => &node.operator::<Reach>()?.spec,
    };
    spec.to.is_none().then_some(&spec.target)
}

fn is_join(node: &PlanNode) -> bool {
    node.operator::<HashJoin>().is_some()
        || node.operator::<RangeJoin>().is_some()
        || node.operator::<CrossJoin>().is_some()
}

/// Of a node, edge or path that the pattern right below has bound, so that it is not null, what it must be.
pub(super) fn bound(node: &PlanNode, slot: usize) -> Option<Bound<'_>> {
    let below = match &node.inputs[..] {
        [left, right] if is_join(node) => {
            let width = left.schema.len();
            return if slot < width { bound(left, slot) } else { bound(right, slot - width) };
        }
        [] if slot == 0 && node.operator::<SeekKey>().is_some() => return Some(Bound::Node(None)),
        [] => {
            let scan = node.operator::<ScanNodes>().filter(|_| slot == 0)?;
            return Some(Bound::Node(scan.test.expression.as_ref()));
        }
        [below] => below,
        _ => return None,
    };
    let beyond = slot.checked_sub(below.schema.len());
    if let Some(step) = node.operator::<FollowEdges>() {
        return match beyond {
            Some(0) => Some(Bound::Edge(step.edge.test.expression.as_ref())),
            Some(_) => Some(Bound::Node(step.node.test.expression.as_ref())),
            None => bound(below, slot),
        };
    }
    if let Some(step) = node.operator::<IntersectEdges>() {
        return match beyond {
            Some(arm) if arm < step.arms.len() => {
                Some(Bound::Edge(step.arms[arm].edge.test.expression.as_ref()))
            }
            Some(_) => Some(Bound::Node(step.node.test.expression.as_ref())),
            None => bound(below, slot),
        };
    }
    if let Some(step) = node.operator::<ProbeEdge>() {
        return match beyond {
            Some(_) => Some(Bound::Edge(step.edge.test.expression.as_ref())),
            None => bound(below, slot),
        };
    }
    if node.operator::<SeekKey>().is_some() && beyond.is_some() {
        return Some(Bound::Node(None));
    }
    if let Some(test) = found_ends(node) {
        return match beyond {
            Some(0) => Some(Bound::Node(test.expression.as_ref())),
            Some(_) => None,
            None => bound(below, slot),
        };
    }
    if let Some(compute) = node.operator::<Compute>() {
        return match beyond {
            Some(at) => matches!(compute.expressions[at].kind, Kind::Path(_)).then_some(Bound::Path),
            None => bound(below, slot),
        };
    }
    let passes_on = node.operator::<Filter>().is_some() || node.operator::<MergeRows>().is_some();
    if passes_on { bound(below, slot) } else { None }
}

/// Whether the graph's type says of every element that the slot may hold that it has the property.
pub(super) fn always_there(bound: &Bound<'_>, property: &str, graph_type: &GraphType) -> bool {
    let has = |properties: &[PropertyType]| properties.iter().any(|p| *p.name == *property && p.not_null);
    let fits = |labels: Option<&LabelExpression>, of: &LabelSet| labels.is_none_or(|l| l.matches(of));
    match bound {
        Bound::Node(labels) => {
            graph_type.nodes.iter().filter(|t| fits(*labels, &t.labels)).all(|t| has(&t.properties))
        }
        Bound::Path => false,
        Bound::Edge(labels) => {
            graph_type.edges.iter().filter(|t| fits(*labels, &t.labels)).all(|t| has(&t.properties))
        }
    }
}

/// Counts of what is bound become counts of rows, also of its properties that are never null.
pub(super) fn count_rows(input: &PlanNode, graph_type: Option<&GraphType>, specs: &mut [AggregateSpec]) {
    for spec in specs {
        if spec.function != Aggregate::Count || spec.distinct {
            continue;
        }
        let there = |slot: usize, reader: &PropertyReader| match (bound(input, slot), graph_type) {
            (Some(bound), Some(graph_type)) => always_there(&bound, &reader.name, graph_type),
            _ => false,
        };
        let never_null = match spec.argument.as_ref().map(|argument| &argument.kind) {
            Some(Kind::Slot(slot)) => bound(input, *slot).is_some(),
            Some(Kind::NodeProperty(slot, reader) | Kind::EdgeProperty(slot, reader)) => there(*slot, reader),
            _ => false,
        };
        if never_null {
            spec.argument = None;
        }
    }
}

/// What is known of the rows above an operator.
struct Above {
    /// The slots that are read.
    read: BTreeSet<usize>,
    /// Where the weight stands, once something was merged.
    weight: Option<usize>,
}

impl Planner<'_> {
    /// The input of a Group with its rows merged on the way, where that says the same and may be worth it.
    pub(super) fn merged(&mut self, input: PlanNode, keys: &[Expr], specs: &mut [AggregateSpec]) -> PlanNode {
        if !self.may(Rule::MergedRows) || !specs.iter().all(takes_weights) {
            return input;
        }
        let mut read = vec![];
        keys.iter().chain(specs.iter().filter_map(|s| s.argument.as_ref())).for_each(|e| e.slots(&mut read));
        let read: BTreeSet<usize> = read.into_iter().collect();
        let mut above = Above { read: read.clone(), weight: None };
        let node = self.merged_below(input, &mut above);
        let (mut node, weight) = self.merged_at_end(node, above.weight, &read);
        let Some(weight) = weight else { return node };
        // A count over a whole batch would leave out what its rows stand for.
        if node.plan.counting() == Some(Counting::Together)
            && let Some(each) = node.plan.counted(Counting::Each)
        {
            node.plan = each;
        }
        specs.iter_mut().filter(|s| is_weighed(s)).for_each(|s| s.weights.push(weight));
        node
    }

    /// The rows below a Distinct merged on the way: it does not tell how often each comes.
    pub(super) fn merged_for_distinct(&mut self, mut node: PlanNode) -> PlanNode {
        let Some(compute) = node.operator::<Compute>().cloned() else { return node };
        if !self.may(Rule::MergedRows) || node.inputs.len() != 1 {
            return node;
        }
        let below = node.inputs.remove(0);
        let below = self.merged(below, &compute.expressions, &mut []);
        node.estimate.cost = below.estimate.cost;
        node.estimate.rows = node.estimate.rows.min(below.estimate.rows);
        node.inputs.push(below);
        node
    }

    /// The rows below a Distinct by these slots merged on the way.
    pub(super) fn merged_by(&mut self, node: PlanNode, slots: &[usize]) -> PlanNode {
        let of = |slot: &usize| Expr { kind: Kind::Slot(*slot), span: Default::default() };
        self.merged(node, &slots.iter().map(of).collect::<Vec<_>>(), &mut [])
    }

    /// The rows that a step makes merged by the node that it leads to while they are found, where that is all that is kept and
    /// there are many.
    fn merges_ends(&self, merge: &MergeRows, below: &PlanNode) -> Option<MergeEnds> {
        let step = below.operator::<FollowEdges>()?;
        let end = below.schema.len() - 1;
        let alone = step.counting.is_none() && step.once.is_none() && merge.kept == [end];
        // Where each edge could be taken again nothing is merged.
        let apart = merge.taken.iter().any(|t| t.edge + 1 == end && t.at.contains(&end));
        let nodes = self.scope.node_count() as f64;
        let many = below.estimate.rows >= (nodes / 64.0).max(nodes.min(MANY_ROWS));
        (self.may(Rule::MergedEnds) && alone && !apart && many).then(|| MergeEnds {
            step: step.clone(),
            taken: merge.taken.clone(),
            weight: merge.weight,
            weighed: merge.weighed,
            shown: merge.shown.clone(),
        })
    }

    /// The rows of the last step merged by its end, where nothing else of them is read.
    fn merged_at_end(
        &mut self, mut node: PlanNode, weight: Option<usize>, read: &BTreeSet<usize>,
    ) -> (PlanNode, Option<usize>) {
        let Some(end) = node.schema.len().checked_sub(1) else { return (node, weight) };
        let free = (0..end).find(|slot| !read.contains(slot));
        let (Some(place), true) = (weight.or(free), read.iter().eq([&end])) else { return (node, weight) };
        let merge = MergeRows {
            kept: vec![end],
            from: end,
            taken: vec![],
            weight: place,
            weighed: weight.is_some(),
            shown: shown(&node.schema.variables[end].name),
        };
        let Some(ends) = self.merges_ends(&merge, &node) else { return (node, weight) };
        let mut schema = node.schema.clone();
        schema.variables[place].kind = VariableKind::Value;
        schema.rename(place, "#stands_for");
        let rows = node.estimate.rows.min(self.scope.node_count() as f64);
        let source = "at most the nodes that there are".into();
        let estimate = Estimate { rows, cost: node.estimate.cost, basis: Basis::Fact, source };
        let inputs = std::mem::take(&mut node.inputs);
        (self.node(ends, inputs, schema, estimate), Some(place))
    }

    fn merged_below(&mut self, mut node: PlanNode, above: &mut Above) -> PlanNode {
        let width = match &node.inputs[..] {
            [below] => below.schema.len(),
            _ => return node,
        };
        if let Some(filter) = node.operator::<Filter>() {
            let mut slots = vec![];
            filter.conditions.iter().for_each(|c| c.slots(&mut slots));
            above.read.extend(slots);
            let below = node.inputs.remove(0);
            node.inputs.push(self.merged_below(below, above));
            return node;
        }
        let Some(step) = node.operator::<FollowEdges>().cloned() else { return node };
        if step.once.is_some() {
            return node;
        }
        let mut slots = vec![step.from];
        step.conditions.iter().for_each(|c| c.slots(&mut slots));
        let mut kept: BTreeSet<usize> =
            above.read.iter().copied().chain(slots).filter(|slot| *slot < width).collect();
        let below = node.inputs.remove(0);
        let mut taken = vec![];
        for &edge in &step.edge.different_from {
            match taken_by(&below, edge, step.edge.direction) {
                Some(known) if !kept.contains(&edge) => taken.push(known),
                _ => {
                    kept.insert(edge);
                }
            }
        }
        // Below, what is looked at here must still be there.
        above.read = kept.iter().copied().chain(taken.iter().flat_map(Taken::slots)).collect();
        let mut below = self.merged_below(below, above);
        let rows = below.estimate.rows;
        // Edges hardly ever agree, and of values it is not known.
        let is_node = |slot: &usize| below.schema.variables[*slot].kind == VariableKind::Node;
        let free = |slot: &usize| !kept.contains(slot) && taken.iter().all(|t| t.edge != *slot);
        let weight = above.weight.or_else(|| (0..width).find(free));
        let follows = below.operator::<FollowEdges>().is_some() || below.operator::<Filter>().is_some();
        let worth = follows && rows >= LEAST_ROWS && kept.len() <= MOST_COLUMNS && kept.iter().all(is_node);
        let (Some(weight), true) = (weight, worth) else {
            node.inputs.push(below);
            return node;
        };
        let weighed = above.weight.is_some();
        above.weight = Some(weight);
        let names: Vec<String> = kept.iter().map(|s| shown(&below.schema.variables[*s].name)).collect();
        let merge = MergeRows {
            kept: kept.iter().copied().collect(),
            from: step.from,
            taken,
            weight,
            weighed,
            shown: names.join(", "),
        };
        let most = (self.scope.node_count() as f64).max(1.0).powi(kept.len() as i32);
        let left = rows.min(most);
        let mut schema = below.schema.clone();
        schema.variables[weight].kind = VariableKind::Value;
        schema.rename(weight, "#stands_for");
        let estimate = Estimate {
            rows: left,
            cost: below.estimate.cost + rows / 4.0,
            basis: Basis::Fact,
            source: "at most the nodes that there are".into(),
        };
        let own = (node.estimate.cost - below.estimate.cost).max(0.0);
        let before_rows = rows.max(1.0);
        below = match self.merges_ends(&merge, &below) {
            Some(ends) => {
                let inputs = std::mem::take(&mut below.inputs);
                self.node(ends, inputs, schema, estimate)
            }
            _ => self.node(merge, vec![below], schema, estimate),
        };
        node.estimate.cost = below.estimate.cost + own * left / before_rows;
        node.estimate.rows *= left / before_rows;
        if kept.len() == 1 {
            // Each node comes once, and each of its edges with it.
            node.estimate.rows = node.estimate.rows.min(2.0 * self.edge_total(&None).max(1.0));
        }
        node.inputs.push(below);
        node
    }
}

/// A name as a user knows it.
fn shown(name: &Arc<str>) -> String {
    if name.starts_with('#') { "an unnamed node".into() } else { name.to_string() }
}

/// An edge that a step below has bound, for a later step of this direction.
fn taken_by(node: &PlanNode, edge: usize, direction: Direction) -> Option<Taken> {
    let [below] = &node.inputs[..] else { return None };
    match node.operator::<FollowEdges>() {
        Some(step) if below.schema.len() == edge => Some(Taken::by(&step.edge, (step.from, edge), direction)),
        _ if edge < below.schema.len() => taken_by(below, edge, direction),
        _ => None,
    }
}

/// The edges of the rows below that a counting step could come to again; `None` where what it counts depends on
/// more than these and the node it begins at.
fn counted_by_node(step: &FollowEdges, below: &PlanNode) -> Option<Vec<Taken>> {
    let mut slots = vec![];
    step.conditions.iter().for_each(|c| c.slots(&mut slots));
    if step.once.is_some() || slots.iter().any(|slot| *slot < below.schema.len()) {
        return None;
    }
    step.edge.different_from.iter().map(|edge| taken_by(below, *edge, step.edge.direction)).collect()
}

/// A step that counts remembers what it counted, where that depends on the node alone.
pub(super) fn remember_counts(node: &mut PlanNode) {
    if let (Some(step), [below]) = (node.operator::<FollowEdges>(), &node.inputs[..])
        && step.counting.is_some()
        && let Some(taken) = counted_by_node(step, below)
    {
        node.plan = Arc::new(FollowEdges { remembers: Some(taken), ..step.clone() });
    }
}
