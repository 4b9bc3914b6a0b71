//! CountWalks: how many ways of three edges join two bound nodes, counted from one of them without making
//! them: what closes a ring of five. For the node that stays the same for a while, the ways of two edges
//! to it are counted once; of the other node's edges each then adds the number at its end.
//!
//! No edge may be in a row twice. One that ends at a node that the row has not bound cannot be one of the
//! row's; so only where a way comes by a bound node is it made and looked at edge by edge.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Dense, PlainRows, Snapshot};

use crate::batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector};
use crate::context::Context;
use crate::operators::common_counts::KeptCounts;
use crate::operators::intersect_edges::ClosingEdges;
use crate::operators::merge_rows::taken_columns;
use crate::operators::sorted::run;
use crate::operators::{Arm, EdgeCheck, FollowEdges, IntersectEdges};
use crate::outcome::{CHECK_EVERY, Outcome};
use crate::plan::{Counting, Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct CountWalks {
    /// From one of the bound nodes to the first node of the way.
    step: FollowEdges,
    /// From there to the other bound node, on rows with the step's edge and node in their last slots.
    close: IntersectEdges,
    /// The arm of `close` at the node that the step comes to, and the one at the other bound node.
    through: usize,
    kept: usize,
    counting: Counting,
}

impl CountWalks {
    /// Both operators in one, where they allow it; `width` is how many slots the step's input has. The way
    /// is walked from the node that was bound later, as the other one changes less often.
    pub fn of(close: &IntersectEdges, step: &FollowEdges, width: usize) -> Option<CountWalks> {
        let counting = close.counting?;
        let through = close.arms.iter().position(|arm| arm.from == width + 1)?;
        let plain = close.conditions.is_empty() && step.conditions.is_empty() && step.once.is_none();
        if close.arms.len() != 2 || close.arms.iter().any(|arm| arm.once) || !plain || step.counting.is_some()
        {
            return None;
        }
        let kept = 1 - through;
        if close.arms[kept].from >= width {
            return None;
        }
        let (near, far) = (close.arms[kept].from, step.from);
        if near == far {
            return None;
        }
        let walks = CountWalks { step: step.clone(), close: close.clone(), through, kept, counting };
        Some(if near < far { walks } else { walks.turned_round(width) })
    }

    /// The same ways, walked from the other bound node.
    fn turned_round(self, width: usize) -> CountWalks {
        let (first, second, third) =
            (&self.step.edge, &self.close.arms[self.through].edge, &self.close.arms[self.kept].edge);
        let has = |edge: &EdgeCheck| edge.different_from.contains(&width);
        // The edge that is taken first has this slot; those after it must differ from it.
        let checked = |edge: &EdgeCheck, differs: bool| {
            let mut edge = edge.clone();
            edge.different_from.retain(|slot| *slot != width);
            edge.different_from.extend(differs.then_some(width));
            edge
        };
        let back = EdgeCheck { direction: second.direction.reversed(), ..checked(second, self.close.apart) };
        let arms = vec![
            Arm { from: width + 1, edge: back, once: false },
            Arm { from: self.step.from, edge: checked(first, has(third)), once: false },
        ];
        CountWalks {
            step: FollowEdges {
                from: self.close.arms[self.kept].from,
                edge: checked(third, false),
                node: self.close.node.clone(),
                ..self.step.clone()
            },
            close: IntersectEdges {
                arms,
                node: self.step.node.clone(),
                apart: has(second),
                ..self.close.clone()
            },
            through: 0,
            kept: 1,
            counting: self.counting,
        }
    }
}

impl OperatorPlan for CountWalks {
    fn name(&self) -> &'static str {
        "CountWalks"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![
            ("pattern", format!("{}, {}", self.step.pattern, self.close.pattern)),
            ("method", "ways of three edges between two nodes".into()),
            ("rows", "counted, not made".into()),
        ]
    }

    fn counting(&self) -> Option<Counting> {
        Some(self.counting)
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        let closing = ClosingEdges::new(Arc::new(self.close.clone()));
        let walks = Walks { spec: self, slice: 0, kept: KeptCounts::default(), spent: 0 };
        Box::new(CountWalksRun { walks, input: inputs.remove(0), closing })
    }
}

struct CountWalksRun {
    walks: Walks,
    input: Input,
    /// Counts the rows that are made.
    closing: ClosingEdges,
}

struct Walks {
    spec: Arc<CountWalks>,
    slice: u64,
    kept: KeptCounts,
    /// About how many entries rows have looked at without the ways to the kept node.
    spent: u64,
}

/// First steps that are made: rows of the input with an edge and a node each.
#[derive(Default)]
struct Steps {
    rows: Vec<u32>,
    edges: Vec<Dense>,
    nodes: Vec<Dense>,
}

impl Steps {
    fn push(&mut self, row: usize, edge: Dense, node: Dense) {
        self.rows.push(row as u32);
        self.edges.push(edge);
        self.nodes.push(node);
    }
}

/// A batch whose rows need not all be made.
struct WalkView<'a> {
    step: PlainRows<'a>,
    through: PlainRows<'a>,
    kept: PlainRows<'a>,
    /// All bound nodes.
    nodes: Vec<&'a [Dense]>,
    /// Edges that the step's and the last one must differ from.
    taken: [Vec<&'a [Dense]>; 2],
    /// Whether every node may be the first of the way, and no node's edges have changed.
    ask_nodes: bool,
    ask_changes: bool,
}

impl<'a> WalkView<'a> {
    fn of(spec: &CountWalks, batch: &'a Batch, snapshot: &'a Snapshot) -> Option<WalkView<'a>> {
        if !snapshot.all_pass(&spec.close.node.test) {
            return None;
        }
        let mut nodes = vec![];
        for column in &batch.columns {
            match column {
                Vector::Nodes(column) => nodes.push(&column[..]),
                Vector::Edges(_) => {}
                Vector::Values(_) | Vector::Numbers(_) => return None,
            }
        }
        let rows = |edge: &EdgeCheck| snapshot.plain_rows(edge.direction, &edge.test);
        // The step's own edge has no column yet.
        let taken = |edge: &EdgeCheck| {
            let slots: Vec<usize> =
                edge.different_from.iter().copied().filter(|slot| *slot < batch.columns.len()).collect();
            taken_columns(&slots, batch)
        };
        let kept = &spec.close.arms[spec.kept].edge;
        Some(WalkView {
            step: rows(&spec.step.edge)?,
            through: rows(&spec.close.arms[spec.through].edge)?,
            kept: rows(kept)?,
            nodes,
            taken: [taken(&spec.step.edge), taken(kept)],
            ask_nodes: !snapshot.all_pass(&spec.step.node.test),
            ask_changes: !snapshot.is_unchanged(),
        })
    }

    /// Whether a way may have an edge twice, or one of the row's, though its first node is not bound.
    fn is_special(&self, row: usize, (far, near): (Dense, Dense), kept: &KeptCounts) -> bool {
        // The first and the last edge may be one where both ends are one node.
        far == near
            || self.nodes.iter().any(|nodes| {
                let bound = nodes[row];
                if kept.edges.get(bound) == 0 {
                    return false;
                }
                // Back over the first edge.
                let back = bound == far && std::ptr::eq(self.step.side, self.through.opposite);
                let is_taken = |edge: Dense| self.taken[1].iter().any(|taken| taken[row] == edge);
                let entries = self.kept.side.row(near);
                back || entries
                    .clone()
                    .zip(self.kept.side.entries(entries))
                    .any(|(entry, other)| *other == bound && is_taken(self.kept.edge(entry)))
            })
    }
}

impl Walks {
    /// Counts the ways of a row whose first nodes are not bound, and notes the other first steps.
    fn row(
        &mut self, view: &WalkView<'_>, batch: &Batch, row: usize, steps: &mut Steps, looked: &mut u64,
        snapshot: &Snapshot,
    ) -> u64 {
        let spec = self.spec.clone();
        let (far, near) = (batch.node(spec.step.from, row), batch.node(spec.close.arms[spec.kept].from, row));
        if far == NO_ELEMENT || near == NO_ELEMENT {
            return 0;
        }
        let range = view.step.side.row(far);
        let firsts = view.step.side.entries(range.clone());
        let mut ready = snapshot.untouched(far) && snapshot.untouched(near);
        if ready {
            if self.kept.node != Some(near) {
                *looked += self.kept.mark(view.kept, view.through, near, snapshot.node_bound());
                self.spent = 0;
            }
            if !self.kept.ways_known {
                // Each first node's edges and the near one's would be gone through together.
                self.spent += firsts.len() as u64 * (view.kept.side.row(near).len() as u64 + 1);
                if self.spent >= self.kept.ways_cost {
                    *looked += self.kept.count_ways(view.through);
                }
            }
            ready = self.kept.ways_known && !view.is_special(row, (far, near), &self.kept);
        }
        if !ready {
            return self.make(batch, row, far, steps, looked, snapshot);
        }
        *looked += firsts.len() as u64;
        let mut count = 0;
        let step = |entry: usize, steps: &mut Steps| {
            let edge = view.step.edge(range.start + entry);
            if !view.taken[0].iter().any(|taken| taken[row] == edge) {
                steps.push(row, edge, firsts[entry]);
            }
        };
        let passes = |node: Dense| !view.ask_nodes || snapshot.node_passes(node, &spec.step.node.test);
        let changed = |node: Dense| view.ask_changes && !snapshot.untouched(node);
        if view.ask_nodes || view.ask_changes {
            for (entry, node) in firsts.iter().enumerate().filter(|(_, node)| passes(**node)) {
                match changed(*node) {
                    true => step(entry, steps),
                    false => count += self.kept.ways.get(*node),
                }
            }
        } else {
            for node in firsts {
                count += self.kept.ways.get(*node);
            }
        }
        for (i, nodes) in view.nodes.iter().enumerate() {
            let bound = nodes[row];
            let seen = view.nodes[..i].iter().any(|before| before[row] == bound);
            if seen || bound == NO_ELEMENT || changed(bound) || !passes(bound) {
                continue;
            }
            let begin = firsts.partition_point(|node| *node < bound);
            for entry in begin..begin + run(firsts, begin, bound) {
                count -= self.kept.ways.get(bound);
                step(entry, steps);
            }
        }
        count
    }

    /// Makes all first steps of a row.
    fn make(
        &self, batch: &Batch, row: usize, far: Dense, steps: &mut Steps, looked: &mut u64,
        snapshot: &Snapshot,
    ) -> u64 {
        let FollowEdges { edge, node, .. } = &self.spec.step;
        *looked += snapshot.for_each_adjacent(far, edge.direction, &edge.test, |found, other| {
            if edge.is_different(found, batch, row) && snapshot.node_passes(other, &node.test) {
                steps.push(row, found, other);
            }
            ControlFlow::Continue(())
        });
        0
    }

    fn count(
        &mut self, batch: &Batch, closing: &mut ClosingEdges, context: &mut Context,
    ) -> Outcome<Vec<u64>> {
        // The work for a slice of rows does not depend on the slices that were worked on before it.
        if std::mem::replace(&mut self.slice, context.slice) != context.slice {
            self.kept.node = None;
        }
        let snapshot = context.scope.snapshot.clone();
        let view = WalkView::of(&self.spec, batch, &snapshot);
        let mut counts = Vec::with_capacity(batch.len);
        let mut steps = Steps::default();
        let mut since_check = 0;
        for row in 0..batch.len {
            let mut looked = 0;
            counts.push(match &view {
                Some(view) => self.row(view, batch, row, &mut steps, &mut looked, &snapshot),
                None => match batch.node(self.spec.step.from, row) {
                    NO_ELEMENT => 0,
                    far => self.make(batch, row, far, &mut steps, &mut looked, &snapshot),
                },
            });
            context.counters().edges_looked += looked;
            since_check += looked + 1;
            if since_check >= CHECK_EVERY {
                since_check = 0;
                context.check()?;
            }
            if steps.rows.len() >= BATCH_ROWS {
                close(batch, std::mem::take(&mut steps), closing, &mut counts, context)?;
            }
        }
        close(batch, steps, closing, &mut counts, context)?;
        self.kept.account(context)?;
        Ok(counts)
    }
}

/// Adds the ways that go on from the steps that were made.
fn close(
    batch: &Batch, steps: Steps, closing: &mut ClosingEdges, counts: &mut [u64], context: &mut Context,
) -> Outcome<()> {
    if steps.rows.is_empty() {
        return Ok(());
    }
    let mut made = batch.gather(&steps.rows);
    made.columns.push(Vector::Edges(steps.edges));
    made.columns.push(Vector::Nodes(steps.nodes));
    for (row, more) in steps.rows.iter().zip(closing.count(&made, context)?) {
        counts[*row as usize] += more;
    }
    Ok(())
}

impl Operator for CountWalksRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let Some(batch) = self.input.next(context)? else { return Ok(None) };
        let counts = self.walks.count(&batch, &mut self.closing, context)?;
        Ok(Some(self.walks.spec.counting.batch(batch, counts, context)))
    }
}
