//! FollowEdges: from a bound node along one edge to a new node.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Dense, Passing, PlainPart, Value, WholeNumbers};

use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::context::Context;
use crate::counters::Counters;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::of_node::OfNode;
use crate::operators::EdgeCheck;
use crate::operators::NodeCheck;
use crate::operators::merge_rows::{Taken, TakenColumns, taken_columns};
use crate::outcome::{CHECK_EVERY, Outcome};
use crate::plan::{Counting, Input, Operator, OperatorPlan};
use crate::quick::{Place, PlainComparison, Which};
use crate::ranges::{PropertyRange, edge_range};
use crate::row::Row;
use crate::scope::Scope;

#[derive(Clone, Debug)]
pub(crate) struct FollowEdges {
    pub pattern: String,
    pub from: usize,
    pub edge: EdgeCheck,
    pub node: NodeCheck,
    /// On the input row with the edge and the node in the next two slots.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
    /// Only how many there are.
    pub counting: Option<Counting>,
    /// That depends on the node alone, unless one of these edges of the row could be taken again from there.
    pub remembers: Option<Vec<Taken>>,
    /// At most one for all rows with the same number in this slot: a semi-join.
    pub once: Option<usize>,
}

impl OperatorPlan for FollowEdges {
    fn name(&self) -> &'static str {
        "FollowEdges"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("pattern", self.pattern.clone())];
        match (self.counting, &self.remembers) {
            (Some(_), Some(_)) => details.push(("rows", "counted once a node, not made".into())),
            (Some(_), None) => details.push(("rows", "counted, not made".into())),
            (None, _) => {}
        }
        if self.once.is_some() {
            details.push(("rows", "the first of each outer row".into()));
        }
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn counting(&self) -> Option<Counting> {
        self.counting
    }

    fn counted(&self, counting: Counting) -> Option<Arc<dyn OperatorPlan>> {
        Some(Arc::new(FollowEdges { counting: Some(counting), ..self.clone() }))
    }

    fn once(&self, row: usize) -> Option<Arc<dyn OperatorPlan>> {
        Some(Arc::new(FollowEdges { once: Some(row), ..self.clone() }))
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let input = inputs.remove(0);
        Box::new(FollowEdgesRun { spec: self, input, batch: None, row: 0, entries: vec![], given: vec![] })
    }
}

struct FollowEdgesRun {
    spec: Arc<FollowEdges>,
    input: Input,
    batch: Option<Batch>,
    row: usize,
    /// Entries of the row that is read now, reused.
    entries: Vec<usize>,
    /// Which outer rows have one, where each gets one at most.
    given: Vec<bool>,
}

/// What takes the edges that are found.
pub(super) trait Sink {
    /// The input's row, the edge and the node it leads to.
    fn push(&mut self, row: usize, edge: Dense, node: Dense);

    /// Whether numbers are enough.
    fn counts(&self) -> bool {
        false
    }

    /// Adds to what is counted for the row that is read now.
    fn add(&mut self, _more: u64) {}

    /// Whether one is enough of each row.
    fn once(&self) -> bool {
        false
    }
}

/// What was found: rows of the input with an edge and a node each, or only how many there are.
#[derive(Default)]
struct FollowedRows {
    /// How many there are for each row, where that is all that is asked.
    counts: Option<Vec<u64>>,
    /// One is enough of each row.
    once: bool,
    rows: Vec<u32>,
    edges: Vec<Dense>,
    nodes: Vec<Dense>,
}

impl Sink for FollowedRows {
    fn counts(&self) -> bool {
        self.counts.is_some()
    }

    fn once(&self) -> bool {
        self.once
    }

    fn add(&mut self, more: u64) {
        if let Some(count) = self.counts.as_mut().and_then(|counts| counts.last_mut()) {
            *count += more;
        }
    }

    #[inline]
    fn push(&mut self, row: usize, edge: Dense, node: Dense) {
        if self.counts.is_some() {
            return self.add(1);
        }
        self.rows.push(row as u32);
        self.edges.push(edge);
        self.nodes.push(node);
    }
}

/// Plain rows of some of the operator's edges, with the conditions that are ranges of their columns.
struct PartOfRow<'a> {
    rows: PlainPart<'a>,
    ranges: Vec<(WholeNumbers<'a>, i64, i64)>,
}

impl<'a> PartOfRow<'a> {
    fn of(rows: PlainPart<'a>, of_edge: &[PropertyRange<'_>], scope: &'a Scope) -> Option<PartOfRow<'a>> {
        let range = |range: &PropertyRange<'_>| {
            let column = scope.edge_column(rows.table, range.reader)?;
            let numbers = if range.days { column.day_numbers()? } else { column.whole_numbers()? };
            (numbers.furthest() <= range.furthest).then_some((numbers, range.low, range.high))
        };
        let ranges = of_edge.iter().map(range).collect::<Option<_>>()?;
        Some(PartOfRow { rows, ranges })
    }

    /// The entries of a row with what is in all ranges.
    fn select(&self, row: std::ops::Range<usize>, entries: &mut Vec<usize>, counters: &mut Counters) {
        entries.clear();
        let side = self.rows.side;
        let Some(((numbers, low, high), more)) = self.ranges.split_first() else { return };
        counters.properties_read += row.len() as u64;
        match side.is_forward() {
            true => numbers.select(row, *low, *high, entries),
            false => numbers.select_at(side.positions(row.clone()), row.start, (*low, *high), entries),
        }
        for (numbers, low, high) in more {
            counters.properties_read += entries.len() as u64;
            entries.retain(|&entry| numbers.within(side.position(entry) as usize, *low, *high));
        }
    }
}

/// The plain rows of the operator's edges, and what is asked of each edge.
pub(super) struct Plain<'a> {
    scope: &'a Scope,
    parts: Vec<PartOfRow<'a>>,
    /// Other comparisons of whole numbers, each with what it is read from.
    compared: Vec<(PlainComparison<'a>, &'a Expr)>,
    /// Conditions on the new node alone.
    of_node: Vec<OfNode<'a>>,
    /// The other conditions.
    rest: Vec<&'a Expr>,
    /// Edges that the new ones must differ from.
    taken: Vec<&'a [Dense]>,
    passing: Passing<'a>,
}

impl<'a> Plain<'a> {
    pub fn of(spec: &'a FollowEdges, scope: &'a Scope, batch: &'a Batch) -> Option<Plain<'a>> {
        let taken_in_values =
            spec.edge.different_from.iter().any(|slot| matches!(batch.columns[*slot], Vector::Values(_)));
        if taken_in_values {
            return None;
        }
        let range = |condition: &'a Expr| edge_range(condition, batch.columns.len(), scope);
        let ranges: Vec<PropertyRange<'_>> = spec.conditions.iter().filter_map(range).collect();
        let parts = |ranges: &[PropertyRange<'_>]| -> Option<Vec<PartOfRow<'a>>> {
            let parts = scope.plain_parts(spec.edge.direction, &spec.edge.test).into_iter();
            parts.map(|part| PartOfRow::of(part, ranges, scope)).collect()
        };
        // Where a table has no whole numbers for a range, all conditions are asked one by one.
        let (parts, has_ranges) = match parts(&ranges) {
            Some(parts) => (parts, true),
            None => (parts(&[])?, false),
        };
        let (mut compared, mut of_node, mut rest) = (vec![], vec![], vec![]);
        for condition in &spec.conditions {
            if has_ranges && range(condition).is_some() {
                continue;
            }
            // Conditions are asked in their order.
            let new = [Which::Edge, Which::Node];
            let comparison =
                || PlainComparison::of(condition, batch, &new, scope).filter(|_| rest.is_empty());
            if let Some(comparison) = comparison() {
                compared.push((comparison, condition));
            } else if let Some(condition) = OfNode::of(condition, batch.columns.len() + 1, scope) {
                of_node.push(condition);
            } else {
                rest.push(condition);
            }
        }
        let taken = taken_columns(&spec.edge.different_from, batch);
        let passing = scope.passing(&spec.node.test);
        Some(Plain { scope, parts, compared, of_node, rest, taken, passing })
    }

    /// Reads one row; returns the entries looked at.
    pub fn follow<S: Sink>(
        &self, at: (&Batch, usize), from: Dense, entries: &mut Vec<usize>, found: &mut S,
        counters: &mut Counters,
    ) -> Outcome<u64> {
        let asks = self.compared.len() + self.of_node.len() + self.rest.len() > 0;
        let (mut looked, mut more) = (0, 0);
        for part in &self.parts {
            let (rows, side) = (&part.rows, part.rows.side);
            let row = side.row(from);
            let whole = part.ranges.is_empty();
            let all = self.passing.all() && self.taken.is_empty() && !rows.without_loops;
            if found.counts() && !asks && whole && all {
                more += row.len() as u64;
                continue;
            }
            looked += row.len() as u64;
            part.select(row.clone(), entries, counters);
            let selected = if whole { row.len() } else { entries.len() };
            let entry_of = |i: usize| if whole { row.start + i } else { entries[i] };
            for i in 0..selected {
                let entry = entry_of(i);
                let (edge, node) = (rows.edge(entry), side.neighbour(entry));
                if !all {
                    let taken = self.taken.iter().any(|taken| taken[at.1] == edge);
                    if taken || !self.passing.has(node) || rows.without_loops && node == from {
                        continue;
                    }
                }
                if asks && !self.holds(at, (edge, node), counters)? {
                    continue;
                }
                if found.counts() {
                    more += 1;
                    continue;
                }
                found.push(at.1, edge, node);
                if found.once() {
                    let left = if whole { row.len() - i - 1 } else { 0 };
                    return Ok(looked - left as u64);
                }
            }
        }
        if found.counts() {
            found.add(more);
        }
        Ok(looked)
    }

    /// Whether an edge and the node it leads to pass what is left to ask.
    #[inline]
    fn holds(
        &self, (batch, row): (&Batch, usize), (edge, node): (Dense, Dense), counters: &mut Counters,
    ) -> Outcome<bool> {
        for (comparison, condition) in &self.compared {
            counters.properties_read += comparison.reads;
            let holds = match comparison.get(Place { row, edge, node }) {
                Some(holds) => holds,
                None => {
                    let locals = [Value::Edge(edge), Value::Node(node)];
                    holds(condition, Row { batch, row, locals: &locals }, self.scope, counters)?
                }
            };
            if !holds {
                return Ok(false);
            }
        }
        for condition in &self.of_node {
            let locals = [Value::Edge(edge), Value::Node(node)];
            if !condition.holds(node, Row { batch, row, locals: &locals }, self.scope, counters)? {
                return Ok(false);
            }
        }
        if !self.rest.is_empty() {
            let locals = [Value::Edge(edge), Value::Node(node)];
            return all_hold(&self.rest, Row { batch, row, locals: &locals }, self.scope, counters);
        }
        Ok(true)
    }
}

fn all_hold(conditions: &[&Expr], row: Row<'_>, scope: &Scope, counters: &mut Counters) -> Outcome<bool> {
    for condition in conditions {
        if !holds(condition, row, scope, counters)? {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Conditions on the new node alone, and the others.
pub(super) type Conditions<'e> = (Vec<OfNode<'e>>, Vec<&'e Expr>);

pub(super) fn conditions_of<'e>(spec: &'e FollowEdges, batch: &Batch, scope: &Scope) -> Conditions<'e> {
    let (mut of_node, mut rest) = (vec![], vec![]);
    for condition in &spec.conditions {
        match OfNode::of(condition, batch.columns.len() + 1, scope) {
            Some(condition) => of_node.push(condition),
            None => rest.push(condition),
        }
    }
    (of_node, rest)
}

/// Reads one row edge by edge; returns the entries looked at.
pub(super) fn follow<S: Sink>(
    (spec, conditions): (&FollowEdges, &Conditions<'_>), (batch, row): (&Batch, usize), from: Dense,
    found: &mut S, scope: &Scope, counters: &mut Counters,
) -> Outcome<u64> {
    let mut failure = None;
    let (of_node, rest) = conditions;
    let pass = |locals: &[Value], other, counters: &mut Counters| -> Outcome<bool> {
        let at = Row { batch, row, locals };
        if !all_hold(rest, at, scope, counters)? {
            return Ok(false);
        }
        for condition in of_node {
            if !condition.holds(other, at, scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    };
    let looked = scope.for_each_adjacent(from, spec.edge.direction, &spec.edge.test, |edge, other| {
        if !spec.edge.is_different(edge, batch, row) || !scope.node_passes(other, &spec.node.test) {
            return ControlFlow::Continue(());
        }
        if !spec.conditions.is_empty() {
            let locals = [Value::Edge(edge), Value::Node(other)];
            match pass(&locals, other, counters) {
                Ok(true) => {}
                Ok(false) => return ControlFlow::Continue(()),
                Err(error) => {
                    failure = Some(error);
                    return ControlFlow::Break(());
                }
            }
        }
        found.push(row, edge, other);
        if found.once() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    failure.map_or(Ok(looked), Err)
}

impl FollowEdgesRun {
    /// Reads rows of the batch until there are enough, or no more.
    fn fill(&mut self, found: &mut FollowedRows, context: &mut Context) -> Outcome<()> {
        let Some(batch) = &self.batch else { return Ok(()) };
        let spec = &*self.spec;
        let Vector::Nodes(from) = &batch.columns[spec.from] else {
            self.row = batch.len;
            found.counts.iter_mut().for_each(|counts| counts.resize(batch.len, 0));
            return Ok(());
        };
        let scope = &context.scope;
        let plain = Plain::of(spec, scope, batch);
        let conditions = conditions_of(spec, batch, scope);
        let taken = spec.remembers.as_ref().and_then(|taken| TakenColumns::of(taken, batch));
        let counts = taken.as_ref().map(|_| scope.answers.counts_of(&self.spec, scope.node_bound()));
        let (mut counters, mut since_check) = (Counters::default(), 0);
        while self.row < batch.len && found.rows.len() < BATCH_ROWS {
            let row = self.row;
            self.row += 1;
            let from = from[row];
            if let Some(counts) = &mut found.counts {
                counts.push(0);
            }
            if from == crate::NO_ELEMENT {
                continue;
            }
            let outer = match spec.once.map(|slot| batch.columns[slot].get(row)) {
                Some(Value::Int(outer)) => Some(outer as usize),
                _ => None,
            };
            if outer.is_some_and(|outer| self.given.get(outer) == Some(&true)) {
                continue;
            }
            let known = match (&counts, &taken) {
                (Some(counts), Some(taken)) if taken.iter().all(|t| !t.could_be(from, row)) => Some(counts),
                _ => None,
            };
            if let Some(count) = known.and_then(|counts| counts.get(from)) {
                found.add(count);
                since_check += 1;
                continue;
            }
            let before = found.rows.len();
            let looked = match &plain {
                Some(plain) if scope.untouched(from) => {
                    plain.follow((batch, row), from, &mut self.entries, found, &mut counters)?
                }
                _ => follow((spec, &conditions), (batch, row), from, found, scope, &mut counters)?,
            };
            if let (Some(counts), Some(count)) = (known, found.counts.as_ref().and_then(|c| c.last())) {
                counts.put(from, *count, &scope.budget);
            }
            if let (Some(outer), true) = (outer, found.rows.len() > before) {
                self.given.resize(self.given.len().max(outer + 1), false);
                self.given[outer] = true;
            }
            counters.edges_looked += looked;
            since_check += looked + 1;
            if since_check >= CHECK_EVERY {
                since_check = 0;
                context.check()?;
            }
        }
        let total = context.counters();
        total.edges_looked += counters.edges_looked;
        total.properties_read += counters.properties_read;
        Ok(())
    }
}

impl Operator for FollowEdgesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if let Some(counting) = self.spec.counting {
            self.batch = self.input.next(context)?;
            self.row = 0;
            let mut found = FollowedRows { counts: Some(vec![]), ..FollowedRows::default() };
            self.fill(&mut found, context)?;
            let counts = found.counts.unwrap_or_default();
            return Ok(self.batch.take().map(|batch| counting.batch(batch, counts, context)));
        }
        let mut found = FollowedRows { once: self.spec.once.is_some(), ..FollowedRows::default() };
        while found.rows.is_empty() {
            if self.batch.as_ref().is_none_or(|b| self.row >= b.len) {
                self.batch = self.input.next(context)?;
                self.row = 0;
                if self.batch.is_none() {
                    return Ok(None);
                }
            }
            self.fill(&mut found, context)?;
        }
        let Some(batch) = &self.batch else { return Ok(None) };
        let mut out = batch.gather(&found.rows);
        out.columns.push(Vector::Edges(found.edges));
        out.columns.push(Vector::Nodes(found.nodes));
        Ok(Some(out))
    }
}
