//! IntersectEdges: a node that several bound nodes have an edge with, found by going through their sorted
//! neighbours together: what closes a ring without making its open paths first.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Adjacency, Dense, Snapshot, Value};

use crate::batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector};
use crate::context::{Context, Counters, Outcome};
use crate::evaluate::{Row, holds};
use crate::expression::Expr;
use crate::operators::{EdgeCheck, NodeCheck};
use crate::plan::{Input, Operator, OperatorPlan};

/// An edge between a bound node and the one that is looked for.
#[derive(Clone, Debug)]
pub(crate) struct Arm {
    /// Slot of the bound node.
    pub from: usize,
    pub edge: EdgeCheck,
}

#[derive(Clone, Debug)]
pub(crate) struct IntersectEdges {
    pub pattern: String,
    pub arms: Vec<Arm>,
    pub node: NodeCheck,
    /// No edge may stand for two of the arms.
    pub apart: bool,
    /// On the input row with the arms' edges and the node in the next slots.
    pub conditions: Vec<Expr>,
    pub shown_conditions: Vec<String>,
    /// Only how many there are for each row, as its last column.
    pub count: bool,
}

impl OperatorPlan for IntersectEdges {
    fn name(&self) -> &'static str {
        "IntersectEdges"
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        let mut details = vec![("pattern", self.pattern.clone())];
        details.push(("method", format!("common neighbours of {} nodes", self.arms.len())));
        if self.count {
            details.push(("rows", "counted, not made".into()));
        }
        if !self.shown_conditions.is_empty() {
            details.push(("where", format!("where {}", self.shown_conditions.join(" AND "))));
        }
        details
    }

    fn counted(&self) -> Option<Arc<dyn OperatorPlan>> {
        Some(Arc::new(IntersectEdges { count: true, ..self.clone() }))
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(Run { spec: self, input: inputs.remove(0), batch: None, row: 0, marked: Marked::default() })
    }
}

struct Run {
    spec: Arc<IntersectEdges>,
    input: Input,
    batch: Option<Batch>,
    row: usize,
    marked: Marked,
}

/// The neighbours of one node by their numbers: how many edges it has with each.
#[derive(Default)]
struct Marked {
    of: Option<(usize, Dense)>,
    counts: Vec<u32>,
    nodes: Vec<Dense>,
}

impl Marked {
    fn mark(&mut self, arm: usize, node: Dense, neighbours: &[Dense], bound: u32) {
        if self.of == Some((arm, node)) {
            return;
        }
        for node in self.nodes.drain(..) {
            self.counts[node as usize] = 0;
        }
        self.counts.resize(bound as usize, 0);
        for &neighbour in neighbours {
            self.counts[neighbour as usize] += 1;
        }
        self.nodes.extend_from_slice(neighbours);
        self.of = Some((arm, node));
    }
}

/// A list this many times longer than another is looked up in rather than gone through.
const MUCH_LONGER: usize = 16;

/// The neighbours of a node in their order.
enum List<'a> {
    Rows { side: &'a Adjacency, begin: usize, neighbours: &'a [Dense], first: Dense },
    Made(Vec<(Dense, Dense)>),
}

impl List<'_> {
    fn len(&self) -> usize {
        match self {
            List::Rows { neighbours, .. } => neighbours.len(),
            List::Made(entries) => entries.len(),
        }
    }

    #[inline]
    fn other(&self, at: usize) -> Dense {
        match self {
            List::Rows { neighbours, .. } => neighbours[at],
            List::Made(entries) => entries[at].0,
        }
    }

    fn edge(&self, at: usize) -> Dense {
        match self {
            List::Rows { side, begin, first, .. } => first + side.position(begin + at),
            List::Made(entries) => entries[at].1,
        }
    }

    /// The first place from `at` on whose node is `wanted` or beyond: in growing steps, then by halves.
    #[inline]
    fn seek(&self, at: usize, wanted: Dense) -> usize {
        let len = self.len();
        let (mut low, mut step) = (at, 1);
        while low + step <= len && self.other(low + step - 1) < wanted {
            low += step;
            step *= 2;
        }
        let high = len.min(low + step);
        let (mut low, mut high) = (low, high);
        while low < high {
            let middle = (low + high) / 2;
            if self.other(middle) < wanted {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        low
    }

    /// How many entries from `at` on are of this node.
    fn run(&self, at: usize, node: Dense) -> usize {
        let len = self.len();
        let mut end = at;
        while end < len && self.other(end) == node {
            end += 1;
        }
        end - at
    }
}

fn list<'a>(snapshot: &'a Snapshot, node: Dense, edge: &EdgeCheck) -> List<'a> {
    if let [table] = edge.test.tables[..]
        && snapshot.untouched(node)
        && let Some((forward, reverse)) = snapshot.base.edges[table].sides(edge.direction)
        && let Some(side) = match (forward, reverse) {
            (Some(side), None) | (None, Some(side)) => Some(side),
            _ => None,
        }
    {
        let row = side.row(node);
        let first = snapshot.base.edges[table].first;
        return List::Rows { side, begin: row.start, neighbours: side.entries(row), first };
    }
    let mut entries = vec![];
    snapshot.for_each_adjacent(node, edge.direction, &edge.test, |edge, other| {
        entries.push((other, edge));
        ControlFlow::Continue(())
    });
    entries.sort_unstable();
    List::Made(entries)
}

/// What was found, row by row.
struct Found {
    rows: Vec<u32>,
    edges: Vec<Vec<Dense>>,
    nodes: Vec<Dense>,
}

impl Run {
    /// Goes through one row; returns how many there are.
    fn intersect(&self, batch: &Batch, row: usize, found: &mut Found, context: &mut Context) -> Outcome<u64> {
        let spec = &self.spec;
        let mut froms = Vec::with_capacity(spec.arms.len());
        for arm in &spec.arms {
            match &batch.columns[arm.from] {
                Vector::Nodes(nodes) if nodes[row] != NO_ELEMENT => froms.push(nodes[row]),
                _ => return Ok(0),
            }
        }
        let snapshot = &context.scope.snapshot;
        let lists: Vec<List<'_>> =
            spec.arms.iter().zip(&froms).map(|(arm, from)| list(snapshot, *from, &arm.edge)).collect();
        let shortest = (0..lists.len()).min_by_key(|i| lists[*i].len()).unwrap_or(0);
        let mut places = vec![0; lists.len()];
        let mut runs = vec![0; lists.len()];
        let mut count = 0u64;
        let mut looked = 0u64;
        let mut counters = Counters::default();
        let distinct_froms = (0..froms.len()).all(|i| !froms[..i].contains(&froms[i]));
        let lead = &lists[shortest];
        'candidates: while places[shortest] < lead.len() {
            let node = lead.other(places[shortest]);
            let at = places[shortest];
            runs[shortest] = lead.run(at, node);
            places[shortest] = at + runs[shortest];
            looked += 1;
            for (i, list) in lists.iter().enumerate().filter(|(i, _)| *i != shortest) {
                places[i] = list.seek(places[i], node);
                looked += 1;
                if places[i] == list.len() {
                    break 'candidates;
                }
                if list.other(places[i]) != node {
                    continue 'candidates;
                }
                runs[i] = list.run(places[i], node);
            }
            if !snapshot.node_passes(node, &spec.node.test) {
                continue;
            }
            let plain = spec.conditions.is_empty() && distinct_froms && !froms.contains(&node);
            let known = spec.arms.iter().all(|arm| arm.edge.different_from.is_empty());
            // Edges between other nodes are other edges.
            if spec.count && plain && (known || self.ends_differ(batch, row, node)) {
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
                if self.takes(batch, row, node, &edges, context, &mut counters)? {
                    count += 1;
                    if !spec.count {
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

    /// The number of a row's common neighbours where two nodes have the plain rows of one table and nothing
    /// else is asked: one node's neighbours are marked as long as its rows follow each other. `None` where
    /// the full way must be gone.
    fn count_plain(&mut self, batch: &Batch, row: usize, context: &mut Context) -> Outcome<Option<u64>> {
        let spec = &self.spec;
        let ([first, second], true) = (&spec.arms[..], spec.conditions.is_empty()) else { return Ok(None) };
        let snapshot = &context.scope.snapshot;
        if !snapshot.all_pass(&spec.node.test) {
            return Ok(None);
        }
        let node = |arm: &Arm, row: usize| match &batch.columns[arm.from] {
            Vector::Nodes(nodes) if nodes[row] != NO_ELEMENT => Some(nodes[row]),
            _ => None,
        };
        let (Some(a), Some(b)) = (node(first, row), node(second, row)) else { return Ok(Some(0)) };
        if a == b || batch.columns.iter().any(|c| matches!(c, Vector::Values(_))) {
            return Ok(None);
        }
        let follows = |arm: &Arm, own: Dense| {
            row > 0 && node(arm, row - 1) == Some(own)
                || row + 1 < batch.len && node(arm, row + 1) == Some(own)
        };
        let kept = if follows(second, b) {
            1
        } else if follows(first, a) {
            0
        } else {
            return Ok(None);
        };
        let (kept_node, other_node) = if kept == 0 { (a, b) } else { (b, a) };
        let (kept_arm, other_arm) = (&spec.arms[kept], &spec.arms[1 - kept]);
        let List::Rows { neighbours: mine, .. } = list(snapshot, kept_node, &kept_arm.edge) else {
            return Ok(None);
        };
        let List::Rows { neighbours: others, .. } = list(snapshot, other_node, &other_arm.edge) else {
            return Ok(None);
        };
        if others.len() > MUCH_LONGER * mine.len() {
            return Ok(None);
        }
        self.marked.mark(kept, kept_node, mine, snapshot.node_bound());
        // Where an end could be a bound node, edges may be the same: these are told apart one by one.
        let bound: Vec<Dense> = batch
            .columns
            .iter()
            .filter_map(|c| match c {
                Vector::Nodes(nodes) => Some(nodes[row]),
                _ => None,
            })
            .collect();
        if spec.apart
            && bound.iter().any(|n| {
                self.marked.counts.get(*n as usize).is_some_and(|c| *c > 0) && others.binary_search(n).is_ok()
            })
        {
            return Ok(None);
        }
        let counts = &self.marked.counts;
        let count: u64 = others.iter().map(|n| counts[*n as usize] as u64).sum();
        let looked = others.len() as u64;
        context.counters().edges_looked += looked;
        context.work(looked + 1)?;
        Ok(Some(count))
    }

    /// Whether the edges that the arms must differ from cannot end at `node`.
    fn ends_differ(&self, batch: &Batch, row: usize, node: Dense) -> bool {
        // An edge bound before joins bound nodes, and the new ones join `node`, which is none of them.
        batch.columns.iter().all(|column| match column {
            Vector::Nodes(nodes) => nodes[row] != node,
            Vector::Edges(_) => true,
            Vector::Values(values) => !matches!(&values[row], Value::Path(_) | Value::List(_)),
        })
    }

    fn takes(
        &self, batch: &Batch, row: usize, node: Dense, edges: &[Dense], context: &Context,
        counters: &mut Counters,
    ) -> Outcome<bool> {
        let spec = &self.spec;
        let fresh = spec.arms.iter().zip(edges).all(|(arm, edge)| arm.edge.is_different(*edge, batch, row));
        if !fresh || spec.apart && (0..edges.len()).any(|i| edges[..i].contains(&edges[i])) {
            return Ok(false);
        }
        if spec.conditions.is_empty() {
            return Ok(true);
        }
        let locals: Vec<Value> = edges.iter().map(|e| Value::Edge(*e)).chain([Value::Node(node)]).collect();
        for condition in &spec.conditions {
            if !holds(condition, Row { batch, row, locals: &locals }, &context.scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

impl Operator for Run {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let arms = self.spec.arms.len();
        if self.spec.count {
            let Some(mut batch) = self.input.next(context)? else { return Ok(None) };
            let mut found = Found { rows: vec![], edges: vec![vec![]; arms], nodes: vec![] };
            let mut counts = Vec::with_capacity(batch.len);
            let mut total = 0u64;
            for row in 0..batch.len {
                let count = match self.count_plain(&batch, row, context)? {
                    Some(count) => count,
                    None => self.intersect(&batch, row, &mut found, context)?,
                };
                total += count;
                counts.push(Value::Int(count as i64));
            }
            // The profile says how many rows there are, not how many stand for them: those are added later.
            let rows_out = &mut context.metrics().rows_out;
            *rows_out = rows_out.wrapping_add(total).wrapping_sub(batch.len as u64);
            batch.columns.push(Vector::Values(counts));
            return Ok(Some(batch));
        }
        let mut found = Found { rows: vec![], edges: vec![vec![]; arms], nodes: vec![] };
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
            let row = self.row;
            self.row += 1;
            self.intersect(batch, row, &mut found, context)?;
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
