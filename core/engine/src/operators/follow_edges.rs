//! FollowEdges: from a bound node along one edge to a new node.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Dense, Value};

use crate::answers::NodeCounts;
use crate::batch::{BATCH_ROWS, Batch, Vector};
use crate::context::Context;
use crate::counters::Counters;
use crate::expression::Expr;
use crate::of_node::OfNode;
use crate::operators::EdgeCheck;
use crate::operators::NodeCheck;
use crate::operators::edges_by_value::{Asked, NodeHashes};
use crate::operators::filter::passing_rows;
use crate::operators::merge_rows::{Taken, TakenColumns};
use crate::operators::plain_edges::{AskedOfEdges, Plain, Sink, all_hold};
use crate::outcome::{CHECK_EVERY, Outcome};
use crate::plan::{Counting, Input, Operator, OperatorPlan};
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
    /// Whether the edges of busy nodes may be hashed by the values that conditions compare with the row.
    pub hashed: bool,
}

impl FollowEdges {
    pub(super) fn asked(&self) -> AskedOfEdges<'_> {
        AskedOfEdges { edge: &self.edge, node: &self.node, conditions: &self.conditions }
    }
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
        if self.hashed {
            details.push(("hashed", "hash tables of edges at busy nodes".into()));
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
        Box::new(FollowEdgesRun {
            spec: self,
            input,
            batch: None,
            row: 0,
            entries: vec![],
            given: vec![],
            hashes: None,
        })
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
    /// Made for the first batch.
    hashes: Option<NodeHashes>,
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

/// How many edges there are from a node but for those that the row has taken.
fn count_untaken(
    (free, counts): (&Plain<'_>, &NodeCounts), taken: &[Dense], (at, from): ((&Batch, usize), Dense),
    entries: &mut Vec<usize>, counters: &mut Counters,
) -> Outcome<u64> {
    let all = match counts.get(from) {
        Some(all) => all,
        None => {
            let mut alone = FollowedRows { counts: Some(vec![0]), ..FollowedRows::default() };
            let looked = free.follow(at, from, entries, &mut alone, counters)?;
            counters.edges_looked += looked;
            let all = alone.counts.and_then(|counts| counts.last().copied()).unwrap_or(0);
            counts.put(from, all, free.budget());
            all
        }
    };
    let mut found_again = 0;
    for (place, edge) in taken.iter().enumerate() {
        let is_first = !taken[..place].contains(edge);
        found_again += u64::from(is_first && free.finds(from, *edge, at, counters)?);
    }
    Ok(all - found_again.min(all))
}

impl FollowEdgesRun {
    /// Reads rows of the batch until there are enough, or no more.
    ///
    /// Returns the places of conditions that are to be asked of what is found.
    fn fill(&mut self, found: &mut FollowedRows, context: &mut Context) -> Outcome<Vec<usize>> {
        let Some(batch) = &self.batch else { return Ok(vec![]) };
        let spec = &*self.spec;
        let hashes = self
            .hashes
            .get_or_insert_with(|| NodeHashes::of(spec.hashed, &spec.conditions, batch.columns.len()));
        let Vector::Nodes(from) = &batch.columns[spec.from] else {
            self.row = batch.len;
            found.counts.iter_mut().for_each(|counts| counts.resize(batch.len, 0));
            return Ok(vec![]);
        };
        let scope = &context.scope;
        let mut plain = Plain::of(spec.asked(), scope, batch);
        let mut late = vec![];
        if let Some(plain) = plain.as_mut().filter(|_| !found.counts() && !found.once && scope.typed_reads) {
            let rest = plain.take_rest();
            late = (0..spec.conditions.len())
                .filter(|&place| rest.iter().any(|rest| std::ptr::eq(*rest, &spec.conditions[place])))
                .collect();
        }
        let conditions = conditions_of(spec, batch, scope);
        let taken = spec.remembers.as_ref().and_then(|taken| TakenColumns::of(taken, batch));
        // The same step, whatever edges the row has taken.
        let unrestricted = EdgeCheck { different_from: vec![], ..spec.edge.clone() };
        let free = match &taken {
            Some(_) => Plain::of(AskedOfEdges { edge: &unrestricted, ..spec.asked() }, scope, batch),
            None => None,
        };
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
            let could_be = |t: &&TakenColumns<'_>| t.could_be(from, row);
            if let (Some(counts), Some(taken), Some(free)) = (&counts, &taken, &free)
                && scope.untouched(from)
                && taken.iter().any(|t| could_be(&t))
            {
                let edges: Vec<Dense> = taken.iter().filter(could_be).map(|t| t.edge(row)).collect();
                let at = ((batch, row), from);
                found.add(count_untaken((free, counts), &edges, at, &mut self.entries, &mut counters)?);
                since_check += 1 + edges.len() as u64;
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
                    let operator = std::ptr::from_ref(spec) as usize;
                    let asked = Asked { operator, batch, row, scope };
                    match hashes.find(&asked, from, plain, &mut counters)? {
                        Some(entries) => {
                            plain.follow_some((batch, row), from, entries, found, &mut counters)?
                        }
                        None => plain.follow((batch, row), from, &mut self.entries, found, &mut counters)?,
                    }
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
        Ok(late)
    }
}

impl FollowEdgesRun {
    /// How many edges each row of the batch has, counted from rows that are found and asked many at once; `None` where no
    /// condition would be asked edge by edge.
    fn counts_by_rows(&mut self, context: &mut Context) -> Outcome<Option<Vec<u64>>> {
        let Some(batch) = &self.batch else { return Ok(None) };
        let is_asked_by_edge = Plain::of(self.spec.asked(), &context.scope, batch)
            .is_some_and(|plain| context.scope.typed_reads && plain.has_rest());
        if !is_asked_by_edge || self.spec.remembers.is_some() || self.spec.once.is_some() {
            return Ok(None);
        }
        let mut counts = vec![0; batch.len];
        while self.batch.as_ref().is_some_and(|batch| self.row < batch.len) {
            let mut found = FollowedRows::default();
            let late = self.fill(&mut found, context)?;
            let Some(batch) = &self.batch else { break };
            let rows = found.rows.clone();
            let kept = passing_rows(&self.late(&late), &found.batch(batch), context)?;
            kept.iter().for_each(|&kept| counts[rows[kept as usize] as usize] += 1);
        }
        Ok(Some(counts))
    }

    /// The conditions at these places.
    fn late(&self, places: &[usize]) -> Vec<&Expr> {
        places.iter().map(|place| &self.spec.conditions[*place]).collect()
    }
}

impl FollowedRows {
    /// The rows that were found, of the input's batch.
    fn batch(self, input: &Batch) -> Batch {
        let mut out = input.gather(&self.rows);
        out.columns.push(Vector::Edges(self.edges));
        out.columns.push(Vector::Nodes(self.nodes));
        out
    }
}

impl Operator for FollowEdgesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        if let Some(counting) = self.spec.counting {
            self.batch = self.input.next(context)?;
            self.row = 0;
            let counts = match self.counts_by_rows(context)? {
                Some(counts) => counts,
                None => {
                    let mut found = FollowedRows { counts: Some(vec![]), ..FollowedRows::default() };
                    self.fill(&mut found, context)?;
                    found.counts.unwrap_or_default()
                }
            };
            return Ok(self.batch.take().map(|batch| counting.batch(batch, counts, context)));
        }
        loop {
            let mut found = FollowedRows { once: self.spec.once.is_some(), ..FollowedRows::default() };
            let mut late = vec![];
            while found.rows.is_empty() {
                if self.batch.as_ref().is_none_or(|b| self.row >= b.len) {
                    self.batch = self.input.next(context)?;
                    self.row = 0;
                    if self.batch.is_none() {
                        return Ok(None);
                    }
                }
                late = self.fill(&mut found, context)?;
            }
            let Some(batch) = &self.batch else { return Ok(None) };
            let out = found.batch(batch);
            if late.is_empty() {
                return Ok(Some(out));
            }
            let kept = passing_rows(&self.late(&late), &out, context)?;
            if kept.len() == out.len {
                return Ok(Some(out));
            }
            if !kept.is_empty() {
                return Ok(Some(out.gather(&kept)));
            }
        }
    }
}
