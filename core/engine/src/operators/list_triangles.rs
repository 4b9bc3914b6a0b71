//! ListTriangles: the rings of three different nodes whose edges are followed both ways, each three nodes once in each order
//! that the conditions let through, however many edges there are between two of them.

use std::sync::Arc;

use graphodrome_graph::{Dense, Direction, EdgeTest, PropertyReader};

use crate::batch::{BATCH_ROWS, Batch, NO_ELEMENT, Vector};
use crate::context::Context;
use crate::operators::common_counts::Marks;
use crate::operators::count_triangles::{ring, shown};
use crate::operators::rings_both_ways::{BothWays, By, Edges, OrderOfNodes, Told};
use crate::operators::{Distinct, FollowEdges, IntersectEdges, ScanNodes};
use crate::outcome::Outcome;
use crate::plan::{Input, Operator, OperatorPlan};

/// Slots of the pattern's three nodes, and of its edges, which are not told.
pub(crate) const NODES: [usize; 3] = [0, 2, 5];
const WIDTH: usize = 6;

#[derive(Clone, Debug)]
pub(crate) struct ListTriangles {
    step: FollowEdges,
    close: IntersectEdges,
    edge: (Direction, EdgeTest),
    told: Told,
}

impl ListTriangles {
    /// The three operators in one, for those who look at the nodes alone and not at how often they come.
    pub fn of(close: &IntersectEdges, step: &FollowEdges, scan: &ScanNodes) -> Option<ListTriangles> {
        if close.counting.is_some() {
            return None;
        }
        let ([edge, ..], both_ways, told) = ring(close, step, scan)?;
        if !both_ways || !told.all_different() {
            return None;
        }
        Some(ListTriangles { step: step.clone(), close: close.clone(), edge, told })
    }

    /// The property whose values are different in each row's nodes, and not null.
    pub fn told_by(&self) -> Option<&PropertyReader> {
        match &self.told {
            Told::ApartBy { value: By::Property(property), .. } => Some(property),
            _ => None,
        }
    }

    fn orders(&self) -> &[OrderOfNodes] {
        match &self.told {
            Told::Nothing => &[],
            Told::Apart { orders } | Told::ApartBy { orders, .. } => orders,
        }
    }
}

impl OperatorPlan for ListTriangles {
    fn name(&self) -> &'static str {
        "ListTriangles"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![
            ("pattern", format!("{}, {}", self.step.pattern, self.close.pattern)),
            ("method", "each ring from its node of the lowest degree, once".into()),
            ("where", shown(&self.step, &self.close).unwrap_or_default()),
        ]
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(ListTrianglesRun {
            spec: self,
            input: Some(inputs.remove(0)),
            rows_made: None,
            marks: Marks::default(),
            held: 0,
            nodes: None,
            open: None,
            found: Default::default(),
        })
    }
}

struct ListTrianglesRun {
    spec: Arc<ListTriangles>,
    input: Option<Input>,
    /// The operators that make every row, where values cannot be put in an order.
    rows_made: Option<Box<dyn Operator>>,
    marks: Marks,
    held: usize,
    /// The nodes whose rings are listed, and the next of them.
    nodes: Option<(Batch, usize)>,
    /// The node whose rings are being listed, and the next of its edges.
    open: Option<(Dense, usize)>,
    found: [Vec<Dense>; 3],
}

impl ListTrianglesRun {
    fn next_node(&mut self, context: &mut Context) -> Outcome<Option<Dense>> {
        loop {
            if let Some((batch, row)) = &mut self.nodes
                && *row < batch.len
            {
                *row += 1;
                return Ok(Some(batch.node(0, *row - 1)).filter(|node| *node != NO_ELEMENT));
            }
            let Some(input) = &mut self.input else { return Ok(None) };
            let Some(batch) = input.next(context)? else { return Ok(None) };
            self.nodes = Some((batch, 0));
        }
    }

    fn batch(&mut self) -> Batch {
        let found = std::mem::take(&mut self.found);
        let len = found[0].len();
        let mut columns: Vec<Vector> = (0..WIDTH).map(|_| Vector::Edges(vec![NO_ELEMENT; len])).collect();
        for (nodes, slot) in found.into_iter().zip(NODES) {
            columns[slot] = Vector::Nodes(nodes);
        }
        Batch { len, columns }
    }
}

impl Operator for ListTrianglesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let snapshot = context.scope.snapshot.clone();
        let spec = self.spec.clone();
        let (direction, test) = &spec.edge;
        let edges = Edges { direction: *direction, test, node: &spec.close.node.test, told: &spec.told };
        let known = context.made_once(|context| BothWays::of(&edges, &snapshot, context))?;
        let Some(known) = &*known else {
            let input = self.input.take();
            let rows = self.rows_made.get_or_insert_with(|| {
                let steps = Arc::new(spec.step.clone()).open(input.into_iter().collect());
                let rows = Arc::new(spec.close.clone()).open(vec![steps]);
                // Nobody looks above for rows that come twice.
                Arc::new(Distinct { slots: NODES.to_vec(), shown: String::new() }).open(vec![rows])
            });
            return rows.next(context);
        };
        while self.found[0].len() < BATCH_ROWS {
            let Some((node, at)) = self.open else {
                match self.next_node(context)? {
                    None => break,
                    Some(node) => self.open = known.begin(node, &mut self.marks).then_some((node, 0)),
                }
                continue;
            };
            let found = &mut self.found;
            let next = known.next_rings(node, at, &self.marks, |ring| {
                for order in spec.orders() {
                    for (rank, place) in order.iter().enumerate() {
                        found[*place].push(ring[rank]);
                    }
                }
            });
            self.open = next.map(|(at, _)| (node, at));
            let looked = next.map_or(0, |(_, looked)| looked as u64);
            context.counters().edges_looked += looked;
            context.work(looked + 1)?;
            let bytes = self.marks.bytes() + 12 * self.found[0].capacity();
            if bytes > self.held {
                context.reserve(bytes - self.held)?;
                self.held = bytes;
            }
        }
        if self.found[0].is_empty() {
            return Ok(None);
        }
        Ok(Some(self.batch()))
    }
}
