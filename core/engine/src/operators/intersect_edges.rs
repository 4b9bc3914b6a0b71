//! IntersectEdges: a node that several bound nodes have an edge with, found by going through their sorted
//! neighbours together: what closes a ring without making its open paths first.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Dense, PlainRows, Snapshot, Value};
use hashbrown::HashMap;

use crate::batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector};
use crate::context::Context;
use crate::counters::Counters;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::of_node::OfNode;
use crate::operators::EdgeCheck;
use crate::operators::IntersectEdges;
use crate::operators::common_counts::CommonCounts;
use crate::operators::sorted::{run, seek};
use crate::outcome::Outcome;
use crate::plan::{Counting, Input, Operator, OperatorPlan};
use crate::quick::{Place, PlainComparison, Which};
use crate::row::Row;
use crate::scope::Scope;

impl OperatorPlan for IntersectEdges {
    fn name(&self) -> &'static str {
        "IntersectEdges"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("pattern", self.pattern.clone())];
        details.push(("method", format!("common neighbours of {} nodes", self.arms.len())));
        if self.counting.is_some() {
            details.push(("rows", "counted, not made".into()));
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
        Some(Arc::new(IntersectEdges { counting: Some(counting), ..self.clone() }))
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(IntersectEdgesRun {
            closing: ClosingEdges::new(self),
            input: inputs.remove(0),
            batch: None,
            row: 0,
        })
    }
}

struct IntersectEdgesRun {
    closing: ClosingEdges,
    input: Input,
    batch: Option<Batch>,
    row: usize,
}

/// What finds or counts the nodes for rows.
pub(super) struct ClosingEdges {
    spec: Arc<IntersectEdges>,
    common: CommonCounts,
    made: MadeLists,
}

/// The edges of a node in the order of their other ends.
enum List<'a> {
    /// From this entry of the rows on.
    Rows(&'a [Dense], PlainRows<'a>, usize),
    Made(Arc<MadeList>),
}

impl List<'_> {
    fn others(&self) -> &[Dense] {
        match self {
            List::Rows(others, ..) => others,
            List::Made(list) => &list.others,
        }
    }

    fn edge(&self, at: usize) -> Dense {
        match self {
            List::Rows(_, rows, begin) => rows.edge(begin + at),
            List::Made(list) => list.edges[at],
        }
    }
}

/// A list that was put together of several rows, or of changed ones.
struct MadeList {
    others: Vec<Dense>,
    edges: Vec<Dense>,
}

/// So many entries of lists that were made are kept, for the next rows with the same nodes.
const MADE_ENTRIES: usize = 4 << 20;

/// Lists that were made, by arm and node.
#[derive(Default)]
struct MadeLists {
    lists: HashMap<(usize, Dense), Arc<MadeList>>,
    entries: usize,
}

impl MadeLists {
    fn of(
        &mut self, (arm, edge): (usize, &EdgeCheck), node: Dense, context: &mut Context,
    ) -> Outcome<Arc<MadeList>> {
        if let Some(list) = self.lists.get(&(arm, node)) {
            return Ok(list.clone());
        }
        let mut entries = vec![];
        let looked = context.scope.for_each_adjacent(node, edge.direction, &edge.test, |edge, other| {
            entries.push((other, edge));
            ControlFlow::Continue(())
        });
        context.work(looked)?;
        entries.sort_unstable();
        if self.entries + entries.len() > MADE_ENTRIES {
            self.lists.clear();
            context.release(self.entries * ENTRY_BYTES);
            self.entries = 0;
        }
        self.entries += entries.len();
        context.reserve(entries.len() * ENTRY_BYTES)?;
        let (others, edges) = entries.into_iter().unzip();
        let list = Arc::new(MadeList { others, edges });
        self.lists.insert((arm, node), list.clone());
        Ok(list)
    }
}

const ENTRY_BYTES: usize = 2 * size_of::<Dense>();

/// The conditions that read the new node and the row, and none of the new edges: asked once a node.
struct NodeTests<'a> {
    compared: Vec<(PlainComparison<'a>, &'a Expr)>,
    of_node: Vec<OfNode<'a>>,
    rest: Vec<&'a Expr>,
    /// Those that read a new edge.
    of_edges: Vec<&'a Expr>,
    arms: usize,
}

impl<'a> NodeTests<'a> {
    fn of(spec: &'a IntersectEdges, batch: &'a Batch, scope: &'a Scope) -> NodeTests<'a> {
        let (width, arms) = (batch.columns.len(), spec.arms.len());
        let mut tests = NodeTests { compared: vec![], of_node: vec![], rest: vec![], of_edges: vec![], arms };
        let mut new = vec![Which::Edge; arms];
        new.push(Which::Node);
        for condition in &spec.conditions {
            let mut slots = vec![];
            condition.slots(&mut slots);
            if slots.iter().any(|slot| (width..width + arms).contains(slot)) {
                tests.of_edges.push(condition);
            } else if let Some(comparison) = PlainComparison::of(condition, batch, &new, scope) {
                tests.compared.push((comparison, condition));
            } else if let Some(condition) = OfNode::of(condition, width + arms, scope) {
                tests.of_node.push(condition);
            } else {
                tests.rest.push(condition);
            }
        }
        tests
    }

    fn pass(
        &self, (batch, row): (&Batch, usize), node: Dense, scope: &Scope, counters: &mut Counters,
    ) -> Outcome<bool> {
        let mut locals: Option<Vec<Value>> = None;
        let made = |locals: &mut Option<Vec<Value>>| -> Vec<Value> {
            let arms = self.arms;
            locals
                .get_or_insert_with(|| {
                    let mut all = vec![Value::Null; arms];
                    all.push(Value::Node(node));
                    all
                })
                .clone()
        };
        for (comparison, condition) in &self.compared {
            counters.properties_read += comparison.reads;
            let passes = match comparison.get(Place { row, edge: NO_ELEMENT, node }) {
                Some(passes) => passes,
                None => holds(condition, Row { batch, row, locals: &made(&mut locals) }, scope, counters)?,
            };
            if !passes {
                return Ok(false);
            }
        }
        for condition in &self.of_node {
            if !condition.holds(node, Row { batch, row, locals: &made(&mut locals) }, scope, counters)? {
                return Ok(false);
            }
        }
        for condition in &self.rest {
            if !holds(condition, Row { batch, row, locals: &made(&mut locals) }, scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

/// The node's list where it lies in the base in that order.
fn plain_list<'a>(snapshot: &'a Snapshot, node: Dense, edge: &EdgeCheck) -> Option<List<'a>> {
    if !snapshot.untouched(node) {
        return None;
    }
    let rows = snapshot.plain_rows(edge.direction, &edge.test)?;
    let row = rows.side.row(node);
    let begin = row.start;
    Some(List::Rows(rows.side.entries(row), rows, begin))
}

/// What was found, row by row.
struct MetRows {
    rows: Vec<u32>,
    edges: Vec<Vec<Dense>>,
    nodes: Vec<Dense>,
}

impl MetRows {
    fn new(arms: usize) -> MetRows {
        MetRows { rows: vec![], edges: vec![vec![]; arms], nodes: vec![] }
    }
}

impl ClosingEdges {
    pub fn new(spec: Arc<IntersectEdges>) -> ClosingEdges {
        ClosingEdges { spec, common: CommonCounts::default(), made: MadeLists::default() }
    }

    /// Goes through one row; returns how many there are.
    fn intersect(
        &mut self, (batch, row): (&Batch, usize), (tests, scope): (&NodeTests<'_>, &Scope),
        found: &mut MetRows, context: &mut Context,
    ) -> Outcome<u64> {
        let spec = self.spec.clone();
        let mut froms = Vec::with_capacity(spec.arms.len());
        for arm in &spec.arms {
            match &batch.columns[arm.from] {
                Vector::Nodes(nodes) if nodes[row] != NO_ELEMENT => froms.push(nodes[row]),
                _ => return Ok(0),
            }
        }
        let snapshot = &scope.snapshot;
        let mut lists: Vec<List<'_>> = Vec::with_capacity(spec.arms.len());
        for (i, (arm, from)) in spec.arms.iter().zip(&froms).enumerate() {
            lists.push(match plain_list(snapshot, *from, &arm.edge) {
                Some(list) => list,
                None => List::Made(self.made.of((i, &arm.edge), *from, context)?),
            });
        }
        let others: Vec<&[Dense]> = lists.iter().map(List::others).collect();
        let shortest = (0..lists.len()).min_by_key(|i| others[*i].len()).unwrap_or(0);
        let mut places = vec![0; lists.len()];
        let mut runs = vec![0; lists.len()];
        let mut count = 0u64;
        let mut looked = 0u64;
        let mut counters = Counters::default();
        let distinct_froms = (0..froms.len()).all(|i| !froms[..i].contains(&froms[i]));
        let lead = others[shortest];
        'candidates: while places[shortest] < lead.len() {
            let node = lead[places[shortest]];
            let at = places[shortest];
            let whole = run(lead, at, node);
            runs[shortest] = if spec.arms[shortest].once { 1 } else { whole };
            places[shortest] = at + whole;
            looked += 1;
            for (i, others) in others.iter().enumerate().filter(|(i, _)| *i != shortest) {
                places[i] = seek(others, places[i], node);
                looked += 1;
                if places[i] == others.len() {
                    break 'candidates;
                }
                if others[places[i]] != node {
                    continue 'candidates;
                }
                runs[i] = if spec.arms[i].once { 1 } else { run(others, places[i], node) };
            }
            if !snapshot.node_passes(node, &spec.node.test)
                || !tests.pass((batch, row), node, scope, &mut counters)?
            {
                continue;
            }
            let plain = tests.of_edges.is_empty() && distinct_froms && !froms.contains(&node);
            let known = spec.arms.iter().all(|arm| arm.edge.different_from.is_empty());
            // Edges between other nodes are other edges.
            if spec.counting.is_some() && plain && (known || self.ends_differ(batch, row, node)) {
                count += runs.iter().map(|n| *n as u64).product::<u64>();
                continue;
            }
            // Every choice of one edge an arm.
            let begins: Vec<usize> =
                (0..lists.len()).map(|i| if i == shortest { at } else { places[i] }).collect();
            let mut choice = vec![0; lists.len()];
            loop {
                let edges: Vec<Dense> =
                    (0..lists.len()).map(|i| lists[i].edge(begins[i] + choice[i])).collect();
                if self.takes((batch, row), node, &edges, &tests.of_edges, scope, &mut counters)? {
                    count += 1;
                    if spec.counting.is_none() {
                        found.rows.push(row as u32);
                        found.nodes.push(node);
                        found.edges.iter_mut().zip(&edges).for_each(|(column, edge)| column.push(*edge));
                    }
                }
                let Some(next) = (0..choice.len()).find(|i| choice[*i] + 1 < runs[*i]) else { break };
                choice[next] += 1;
                choice[..next].fill(0);
            }
        }
        let total = context.counters();
        total.edges_looked += looked;
        total.properties_read += counters.properties_read;
        context.work(looked + 1)?;
        Ok(count)
    }

    /// How many there are for each row of a batch.
    pub fn count(&mut self, batch: &Batch, context: &mut Context) -> Outcome<Vec<u64>> {
        let mut found = MetRows::new(0);
        let known = self.common.rows(&self.spec, batch, context)?;
        let mut counts = Vec::with_capacity(batch.len);
        let (spec, scope) = (self.spec.clone(), context.scope.clone());
        let tests = NodeTests::of(&spec, batch, &scope);
        for row in 0..batch.len {
            counts.push(match known.as_ref().and_then(|known| known[row]) {
                Some(count) => count,
                None => self.intersect((batch, row), (&tests, &scope), &mut found, context)?,
            });
        }
        Ok(counts)
    }

    /// Whether the edges that the arms must differ from cannot end at `node`.
    fn ends_differ(&self, batch: &Batch, row: usize, node: Dense) -> bool {
        // An edge bound before joins bound nodes, and the new ones join `node`, which is none of them.
        batch.columns.iter().all(|column| match column {
            Vector::Nodes(nodes) => nodes[row] != node,
            Vector::Edges(_) => true,
            Vector::Values(values) => !matches!(&values[row], Value::Path(_) | Value::List(_)),
            Vector::Numbers(_) => true,
        })
    }

    fn takes(
        &self, (batch, row): (&Batch, usize), node: Dense, edges: &[Dense], conditions: &[&Expr],
        scope: &Scope, counters: &mut Counters,
    ) -> Outcome<bool> {
        let spec = &self.spec;
        let fresh = spec.arms.iter().zip(edges).all(|(arm, edge)| arm.edge.is_different(*edge, batch, row));
        if !fresh || spec.apart && (0..edges.len()).any(|i| edges[..i].contains(&edges[i])) {
            return Ok(false);
        }
        if conditions.is_empty() {
            return Ok(true);
        }
        let locals: Vec<Value> = edges.iter().map(|e| Value::Edge(*e)).chain([Value::Node(node)]).collect();
        for condition in conditions {
            if !holds(condition, Row { batch, row, locals: &locals }, scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

impl Operator for IntersectEdgesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let arms = self.closing.spec.arms.len();
        if let Some(counting) = self.closing.spec.counting {
            let Some(batch) = self.input.next(context)? else { return Ok(None) };
            let counts = self.closing.count(&batch, context)?;
            return Ok(Some(counting.batch(batch, counts, context)));
        }
        let mut found = MetRows::new(arms);
        loop {
            if self.batch.as_ref().is_none_or(|b| self.row >= b.len) {
                if !found.rows.is_empty() {
                    break;
                }
                self.batch = self.input.next(context)?;
                self.row = 0;
                if self.batch.is_none() {
                    return Ok(None);
                }
            }
            let Some(batch) = &self.batch else { return Ok(None) };
            let (spec, scope) = (self.closing.spec.clone(), context.scope.clone());
            let tests = NodeTests::of(&spec, batch, &scope);
            while self.row < batch.len && found.rows.len() < BATCH_ROWS {
                let at = (batch, self.row);
                self.row += 1;
                self.closing.intersect(at, (&tests, &scope), &mut found, context)?;
            }
            if found.rows.len() >= BATCH_ROWS {
                break;
            }
        }
        let Some(batch) = &self.batch else { return Ok(None) };
        let mut out = batch.gather(&found.rows);
        out.columns.extend(found.edges.into_iter().map(Vector::Edges));
        out.columns.push(Vector::Nodes(found.nodes));
        Ok(Some(out))
    }
}
