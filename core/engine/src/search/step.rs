//! A step: one edge that a search repeats, with what must hold of it and the nodes at its ends.

use std::ops::ControlFlow;

use graphodrome_graph::{Direction, EdgeTest, NodeTest, Value};

use crate::context::Context;
use crate::counters::Counters;
use crate::evaluate::holds;
use crate::expression::Expr;
use crate::outcome::Outcome;
use crate::row::Row;
use crate::search::cursor::Cursor;
use crate::search::program::Event;

#[derive(Clone, Debug)]
pub(crate) struct Step {
    pub test: EdgeTest,
    /// As the pattern is written, from left to right.
    pub direction: Direction,
    /// Of the node before and after the edge, as written; `None` where any node will do.
    pub before: Option<NodeTest>,
    pub after: Option<NodeTest>,
    /// On the input row with the node before, the edge and the node after in the next three slots.
    pub conditions: Vec<Expr>,
    /// Which of the program's locals are the node before, the edge and the node after.
    pub locals: [Option<usize>; 3],
}

/// What one expansion did.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Expanded {
    pub looked: u64,
    pub failed: u64,
    /// Adjacency entries of the node that had the most, and which it is.
    pub largest: (u64, u32),
}

impl Step {
    /// Calls `visit(edge, other)` for each edge that may be taken from `node`; `backwards` walks the
    /// pattern from its right end.
    #[inline]
    pub fn expand(
        &self, node: u32, backwards: bool, cursor: &mut Cursor<'_>,
        mut visit: impl FnMut(u32, u32) -> ControlFlow<()>,
    ) -> Outcome<Expanded> {
        let direction = if backwards { self.direction.reversed() } else { self.direction };
        let (near, far) = if backwards { (&self.after, &self.before) } else { (&self.before, &self.after) };
        let context = &mut *cursor.context;
        let snapshot = &context.scope;
        if near.as_ref().is_some_and(|test| !snapshot.node_passes(node, test)) {
            return Ok(Expanded::default());
        }
        let mut failed = 0;
        if self.conditions.is_empty() && far.is_none() {
            let looked = snapshot.for_each_adjacent(node, direction, &self.test, visit);
            let counters = &mut context.metrics[context.current].counters;
            counters.edges_looked += looked;
            context.work(looked)?;
            return Ok(Expanded { looked, failed, largest: (looked, node) });
        }
        let mut counters = Counters::default();
        let mut failure = None;
        let looked = snapshot.for_each_adjacent(node, direction, &self.test, |edge, other| {
            if far.as_ref().is_some_and(|test| !snapshot.node_passes(other, test)) {
                failed += 1;
                return ControlFlow::Continue(());
            }
            let (before, after) = if backwards { (other, node) } else { (node, other) };
            let locals = [Value::Node(before), Value::Edge(edge), Value::Node(after)];
            let at = Row { batch: cursor.batch, row: cursor.row, locals: &locals };
            for condition in &self.conditions {
                match holds(condition, at, snapshot, &mut counters) {
                    Ok(true) => {}
                    Ok(false) => {
                        failed += 1;
                        return ControlFlow::Continue(());
                    }
                    Err(error) => {
                        failure = Some(error);
                        return ControlFlow::Break(());
                    }
                }
            }
            visit(edge, other)
        });
        if let Some(error) = failure {
            return Err(error);
        }
        let total = &mut context.metrics[context.current].counters;
        total.edges_looked += looked;
        total.properties_read += counters.properties_read;
        context.work(looked)?;
        Ok(Expanded { looked, failed, largest: (looked, node) })
    }

    /// Appends the other ends of the edges that may be taken from `nodes`, as often as there are such
    /// edges. For steps without conditions.
    pub fn expand_all(
        &self, nodes: &[u32], backwards: bool, context: &mut Context, others: &mut Vec<u32>,
    ) -> Outcome<Expanded> {
        debug_assert!(self.conditions.is_empty());
        let direction = if backwards { self.direction.reversed() } else { self.direction };
        let (near, far) = if backwards { (&self.after, &self.before) } else { (&self.before, &self.after) };
        let scope = &context.scope;
        let (looked, largest) = match near {
            None => scope.gather_adjacent(nodes, direction, &self.test, others),
            Some(test) => {
                let nodes: Vec<u32> = nodes.iter().copied().filter(|&n| scope.node_passes(n, test)).collect();
                scope.gather_adjacent(&nodes, direction, &self.test, others)
            }
        };
        if let Some(test) = far {
            others.retain(|&other| scope.node_passes(other, test));
        }
        let failed = if far.is_some() { looked.saturating_sub(others.len() as u64) } else { 0 };
        context.counters().edges_looked += looked;
        context.work(looked)?;
        Ok(Expanded { looked, failed, largest })
    }

    /// What the program would have bound along a path that this step repeated.
    pub fn events(&self, nodes: &[u32], edges: &[u32]) -> Vec<Event> {
        let mut events = vec![];
        for (i, edge) in edges.iter().enumerate() {
            let bound = [Value::Node(nodes[i]), Value::Edge(*edge), Value::Node(nodes[i + 1])];
            for (local, value) in self.locals.iter().zip(bound) {
                if let Some(local) = local {
                    events.push(Event::Bound(*local, value, i as u32));
                }
            }
        }
        events
    }
}
