//! CountTriangles: how many rings of three edges there are, without making one of their edges' rows: for a
//! pattern of three nodes alike with an edge between each two.
//!
//! Nodes are ranked by their degrees. Every ring of three different nodes has one that ranks lowest, and is
//! counted from there: that node's edges to higher ones are few, also where the others have very many. So
//! the work grows with the edges times the degrees among the dense part of the graph, not with the squares
//! of the largest degrees. Rings in which a node comes twice have a loop in them and are counted from it.
//!
//! Nodes whose edges have changed since the base are left out of this, and rings with one of them are counted from
//! it, along its edges as they are now.

use std::ops::ControlFlow;
use std::sync::Arc;

use graphodrome_graph::{Adjacency, Dense, Direction, EdgeTest, NodeTest, PlainRows, Snapshot};
use hashbrown::HashMap;

use crate::batch::{Batch, NO_ELEMENT};
use crate::context::Context;
use crate::expression::Expr;
use crate::operators::common_counts::Marks;
use crate::operators::rings_both_ways::{BothWays, Edges, Told, classes};
use crate::operators::sorted::{run, seek};
use crate::operators::{FollowEdges, IntersectEdges, ScanNodes};
use crate::outcome::{CHECK_EVERY, Outcome};
use crate::plan::{Counting, Input, Operator, OperatorPlan};

#[derive(Clone, Debug)]
pub(crate) struct CountTriangles {
    /// The way of one scanned node after another, for graphs with many changes or with edges in several tables.
    step: FollowEdges,
    close: IntersectEdges,
    /// From the first node to the second, from there to the third, and back to the first.
    edges: [(Direction, EdgeTest); 3],
    /// All three are followed both ways and are alike.
    both_ways: bool,
    /// What the nodes must be to each other.
    told: Told,
    counting: Counting,
}

/// The edges of a ring that these three operators make, whether all are followed both ways and are alike, and what its nodes
/// are to each other.
type RingEdges = ([(Direction, EdgeTest); 3], bool, Told);

pub(super) fn ring(close: &IntersectEdges, step: &FollowEdges, scan: &ScanNodes) -> Option<RingEdges> {
    // Slots: the scanned node, the edge, the second node.
    let through = close.arms.iter().position(|arm| arm.from == 2)?;
    let back = close.arms.iter().position(|arm| arm.from == 0)?;
    let each = close.arms.iter().all(|arm| !arm.once);
    let alone = each && step.once.is_none() && step.counting.is_none() && step.from == 0;
    if close.arms.len() != 2 || !scan.conditions.is_empty() || !alone || !step.edge.different_from.is_empty()
    {
        return None;
    }
    let (through, back) = (&close.arms[through].edge, &close.arms[back].edge);
    let different = [&through.different_from[..], &back.different_from[..]];
    let apart = close.apart && different == [[1]; 2];
    // Edges between different nodes are different without being told so.
    let free = !close.apart && different.iter().all(|slots| slots.is_empty());
    if !(apart || free) || scan.test != step.node.test || scan.test != close.node.test {
        return None;
    }
    let edges = [
        (step.edge.direction, step.edge.test.clone()),
        (through.direction, through.test.clone()),
        (back.direction.reversed(), back.test.clone()),
    ];
    let is_alike = |(direction, test): &(Direction, EdgeTest)| {
        *direction == edges[0].0 && test.tables == edges[0].1.tables && direction.reversed() == *direction
    };
    let conditions: Vec<&Expr> = step.conditions.iter().chain(&close.conditions).collect();
    // The edges to the third node are in the slots before it.
    let told = Told::of(&conditions, [0, 2, 5])?;
    if free && !told.all_different() {
        return None;
    }
    let both_ways = edges.iter().all(is_alike);
    Some((edges, both_ways, told))
}

impl CountTriangles {
    /// The three operators in one, where they allow it.
    pub fn of(close: &IntersectEdges, step: &FollowEdges, scan: &ScanNodes) -> Option<CountTriangles> {
        let Some(counting @ Counting::Together) = close.counting else { return None };
        let (edges, both_ways, told) = ring(close, step, scan)?;
        Some(CountTriangles { step: step.clone(), close: close.clone(), edges, both_ways, told, counting })
    }
}

/// The conditions of both operators, as a plan shows them.
pub(super) fn shown(step: &FollowEdges, close: &IntersectEdges) -> Option<String> {
    let all: Vec<&str> =
        step.shown_conditions.iter().chain(&close.shown_conditions).map(String::as_str).collect();
    (!all.is_empty()).then(|| format!("where {}", all.join(" AND ")))
}

impl OperatorPlan for CountTriangles {
    fn name(&self) -> &'static str {
        "CountTriangles"
    }

    fn side_by_side(&self) -> bool {
        true
    }

    fn details(&self) -> Vec<(&'static str, String)> {
        vec![
            ("pattern", format!("{}, {}", self.step.pattern, self.close.pattern)),
            ("method", "each ring from its node of the lowest degree".into()),
            ("rows", "counted, not made".into()),
        ]
        .into_iter()
        .chain(shown(&self.step, &self.close).map(|shown| ("where", shown)))
        .collect()
    }

    fn counting(&self) -> Option<Counting> {
        Some(self.counting)
    }

    fn open(self: Arc<Self>, mut inputs: Vec<Input>) -> Box<dyn Operator> {
        Box::new(CountTrianglesRun {
            spec: self,
            input: Some(inputs.remove(0)),
            rows_made: None,
            marks: Marks::default(),
            held: 0,
        })
    }
}

struct CountTrianglesRun {
    spec: Arc<CountTriangles>,
    input: Option<Input>,
    /// The operators that make rows, where those have the input.
    rows_made: Option<Box<dyn Operator>>,
    marks: Marks,
    /// Bytes of the marks that are accounted for.
    held: usize,
}

/// One node's part in a ring: which it is of the three that the pattern names, when it ranks lowest. `near`
/// are the edges to the next one, `far` those from there to the third, `back` those from the third.
#[derive(Clone, Copy)]
struct Role<'a> {
    near: PlainRows<'a>,
    far: PlainRows<'a>,
    back: PlainRows<'a>,
}

impl<'a> Role<'a> {
    fn sides(&self) -> [*const Adjacency; 3] {
        [self.near.side, self.far.side, self.back.side]
    }

    /// All three; `None` where edges are not rows of one table and direction each.
    fn all(edges: &[(Direction, EdgeTest); 3], snapshot: &'a Snapshot) -> Option<[Role<'a>; 3]> {
        let rows = |i: usize| snapshot.plain_rows(edges[i].0, &edges[i].1);
        let rows = [rows(0)?, rows(1)?, rows(2)?];
        Some([0, 1, 2].map(|i| Role { near: rows[i], far: rows[(i + 1) % 3], back: rows[(i + 2) % 3] }))
    }
}

/// Entries to nodes that rank higher, by node.
struct Higher {
    begins: Vec<u32>,
    nodes: Vec<Dense>,
}

/// What is known of all nodes before rings are counted.
struct Ranks {
    /// 0 where the node cannot be in a ring; ranks are told apart by the nodes' numbers where degrees are
    /// equal.
    degrees: Vec<u32>,
    /// Of each role that differs from those before it: where it is `None`, its rings are those of the first.
    higher: Vec<Option<Higher>>,
    /// The nodes that are left out, in order.
    changed: Vec<Dense>,
    /// The nodes' values, where those tell them apart.
    classes: Option<Vec<Option<u32>>>,
    /// Not all values can be put in one order.
    unordered: bool,
}

/// One in so many nodes may have other edges than the base's: rings with more of them are counted the other way.
const CHANGED_SHARE: usize = 16;

impl Ranks {
    /// Whether counting by ranks is worth it.
    fn serve(&self) -> bool {
        !self.unordered && self.changed.len() * CHANGED_SHARE <= self.degrees.len().max(CHANGED_SHARE)
    }

    /// Whether these nodes, in the places of the pattern, are what they must be to each other.
    fn let_through(&self, told: &Told, nodes: [Dense; 3]) -> bool {
        let [a, b, c] = nodes;
        if told.all_different() && (a == b || b == c || a == c) {
            return false;
        }
        let (Told::ApartBy { orders, .. }, Some(classes)) = (told, &self.classes) else { return true };
        let [Some(a), Some(b), Some(c)] = nodes.map(|node| classes[node as usize]) else { return false };
        let mut places = [(a, 0), (b, 1), (c, 2)];
        places.sort_unstable();
        let apart = places[0].0 < places[1].0 && places[1].0 < places[2].0;
        apart && orders.contains(&places.map(|(_, place)| place))
    }

    fn is_changed(&self, node: Dense) -> bool {
        !self.changed.is_empty() && self.changed.binary_search(&node).is_ok()
    }

    fn of(
        roles: &[Role<'_>; 3], (test, told): (&NodeTest, &Told), snapshot: &Snapshot, context: &mut Context,
    ) -> Outcome<Ranks> {
        let bound = snapshot.node_bound();
        context.reserve(4 * bound as usize)?;
        let asked = !snapshot.all_pass(test);
        let degree = |node: Dense| {
            if asked && !snapshot.node_passes(node, test) {
                return 0;
            }
            roles.iter().map(|r| r.near.side.row(node).len() + r.near.opposite.row(node).len()).sum::<usize>()
                as u32
        };
        let changed = snapshot.nodes_with_other_edges();
        let (mut own_classes, mut unordered) = (None, false);
        if let Told::ApartBy { value, .. } = told {
            context.reserve(size_of::<Option<u32>>() * bound as usize)?;
            own_classes = classes(value, test, snapshot, context)?;
            unordered = own_classes.is_none();
        }
        let degrees = (0..bound).map(degree).collect();
        let mut ranks = Ranks { degrees, higher: vec![], changed, classes: own_classes, unordered };
        if !ranks.serve() {
            return Ok(ranks);
        }
        for &node in &ranks.changed {
            ranks.degrees[node as usize] = 0;
        }
        for (i, role) in roles.iter().enumerate() {
            let known = roles[..i].iter().any(|before| before.sides() == role.sides());
            let higher = match known {
                true => None,
                false => Some(ranks.higher(role.back, bound, context)?),
            };
            ranks.higher.push(higher);
        }
        Ok(ranks)
    }

    #[inline]
    fn is_higher(&self, one: Dense, than: Dense) -> bool {
        let (a, b) = (self.degrees[one as usize], self.degrees[than as usize]);
        a > b || a == b && one > than
    }

    /// Each node's entries against the rows' direction that lead to higher nodes.
    fn higher(&self, back: PlainRows<'_>, bound: Dense, context: &mut Context) -> Outcome<Higher> {
        let mut higher = Higher { begins: Vec::with_capacity(bound as usize + 1), nodes: vec![] };
        let mut accounted = 4 * bound as usize;
        context.reserve(accounted)?;
        for node in 0..bound {
            higher.begins.push(higher.nodes.len() as u32);
            if self.degrees[node as usize] == 0 {
                continue;
            }
            let entries = back.opposite.neighbours(node);
            context.counters().edges_looked += entries.len() as u64;
            context.work(entries.len() as u64)?;
            let passing = entries.iter().filter(|other| self.degrees[**other as usize] > 0);
            higher.nodes.extend(passing.filter(|other| self.is_higher(**other, node)));
            let bytes = 4 * (bound as usize + higher.nodes.capacity());
            if bytes > accounted {
                context.reserve(bytes - accounted)?;
                accounted = bytes;
            }
        }
        higher.begins.push(higher.nodes.len() as u32);
        Ok(higher)
    }
}

impl Higher {
    fn of(&self, node: Dense) -> &[Dense] {
        &self.nodes[self.begins[node as usize] as usize..self.begins[node as usize + 1] as usize]
    }
}

/// Rings of three different nodes in which `node` comes after the one that ranks lowest. `weigh` says of the lowest
/// and those that may be third how many rings there are.
fn after_lowest(
    role: &Role<'_>, node: Dense, (ranks, higher): (&Ranks, &Higher), marks: &mut Marks, looked: &mut u64,
    weigh: impl Fn(&Marks, Dense, &[Dense]) -> u64,
) -> u64 {
    let lowest = role.near.opposite.neighbours(node);
    *looked += lowest.len() as u64;
    let is_lower = |other: &Dense| ranks.degrees[*other as usize] > 0 && ranks.is_higher(node, *other);
    let (mut count, mut marked, mut at) = (0, false, 0);
    while let Some(&first) = lowest.get(at) {
        let times = run(lowest, at, first);
        at += times;
        if !is_lower(&first) {
            continue;
        }
        let thirds = higher.of(first);
        if thirds.is_empty() {
            continue;
        }
        if !std::mem::replace(&mut marked, true) {
            marks.clear(ranks.degrees.len() as u32);
            let entries = role.far.side.neighbours(node);
            *looked += entries.len() as u64;
            // A loop is no edge to a third node.
            for third in entries.iter().filter(|third| **third != node) {
                marks.mark(*third);
            }
        }
        *looked += thirds.len() as u64;
        count += times as u64 * weigh(marks, first, thirds);
    }
    count
}

/// Rings that go over a loop at `node`.
fn with_loops(roles: &[Role<'_>; 3], node: Dense, ranks: &Ranks, looked: &mut u64) -> u64 {
    let loops = [0, 1, 2].map(|i| {
        let entries = roles[i].near.side.neighbours(node);
        run(entries, entries.partition_point(|other| *other < node), node) as u64
    });
    if loops == [0; 3] {
        return 0;
    }
    let mut count = 0;
    for (i, role) in roles.iter().enumerate().filter(|(i, _)| loops[*i] > 0) {
        // The loop stands for this role's edge; the other two lead to another node and back.
        let (there, back) = (role.far.side.neighbours(node), role.back.opposite.neighbours(node));
        let same = std::ptr::eq(role.far.side, role.back.opposite);
        let (mut pairs, mut at, mut other_at) = (0, 0, 0);
        while at < there.len() && other_at < back.len() {
            let other = there[at];
            other_at = seek(back, other_at, other);
            let (times, backs) = (run(there, at, other) as u64, run(back, other_at, other) as u64);
            *looked += 1 + times + backs;
            if backs > 0 && other != node && ranks.degrees[other as usize] > 0 {
                // The way there and the way back may not be one edge.
                pairs += times * backs - if same { times } else { 0 };
            }
            at = match back.get(other_at) {
                Some(next) if *next > other => seek(there, at, *next),
                Some(_) => at + times as usize,
                None => there.len(),
            };
        }
        count += loops[i] * pairs;
    }
    // Three loops at this node, no two of them the same.
    let tables = [0, 1, 2].map(|i| roles[i].near.table);
    let mut three = 1;
    for i in 0..3 {
        let taken = tables[..i].iter().filter(|table| **table == tables[i]).count() as u64;
        three *= loops[i].saturating_sub(taken);
    }
    count + three
}

/// Rings with a node that is left out of the ranks, wherever it stands in the pattern: those in which no earlier node
/// of the pattern is left out too, which are counted from that one.
fn around_changed(
    edges: &[(Direction, EdgeTest); 3], node: Dense, (test, told): (&NodeTest, &Told), ranks: &Ranks,
    context: &mut Context,
) -> Outcome<u64> {
    let snapshot = context.scope.snapshot.clone();
    let go_on = ControlFlow::<()>::Continue(());
    let mut count = 0u64;
    for place in 0..3 {
        let [near, far, back] = [0, 1, 2].map(|i| &edges[(place + i) % 3]);
        // The next node comes before this one in the pattern where this is the last, the third where it is not the first.
        let takes_next = |other: Dense| place < 2 || !ranks.is_changed(other);
        let takes_third = |other: Dense| place < 1 || !ranks.is_changed(other);
        let mut closing: HashMap<Dense, Vec<Dense>> = HashMap::new();
        let mut looked = snapshot.for_each_adjacent(node, back.0.reversed(), &back.1, |edge, third| {
            if takes_third(third) && snapshot.node_passes(third, test) {
                closing.entry(third).or_default().push(edge);
            }
            go_on
        });
        let mut nexts = vec![];
        looked += snapshot.for_each_adjacent(node, near.0, &near.1, |edge, next| {
            if takes_next(next) && snapshot.node_passes(next, test) {
                nexts.push((edge, next));
            }
            go_on
        });
        if closing.is_empty() {
            nexts.clear();
        }
        for (first, next) in nexts {
            let of_next = snapshot.for_each_adjacent(next, far.0, &far.1, |second, third| {
                let mut nodes = [0; 3];
                [nodes[place], nodes[(place + 1) % 3], nodes[(place + 2) % 3]] = [node, next, third];
                if first != second
                    && let Some(closing) = closing.get(&third)
                    && ranks.let_through(told, nodes)
                {
                    count += closing.iter().filter(|third| ![first, second].contains(third)).count() as u64;
                }
                go_on
            });
            context.work(of_next)?;
            looked += of_next;
        }
        context.counters().edges_looked += looked;
    }
    Ok(count)
}

impl CountTrianglesRun {
    fn count(
        &mut self, roles: &[Role<'_>; 3], ranks: &Ranks, batch: &Batch, context: &mut Context,
    ) -> Outcome<u64> {
        // Roles that are the same have the same rings, turned.
        let times: Vec<u64> = roles
            .iter()
            .map(|role| roles.iter().filter(|other| other.sides() == role.sides()).count() as u64)
            .collect();
        let spec = self.spec.clone();
        let told = &spec.told;
        let (mut total, mut since_check) = (0u64, 0);
        for row in 0..batch.len {
            let node = batch.node(0, row);
            if node == NO_ELEMENT {
                continue;
            }
            if ranks.degrees[node as usize] == 0 {
                if ranks.is_changed(node) {
                    let asked = (&spec.close.node.test, told);
                    let around = around_changed(&spec.edges, node, asked, ranks, context)?;
                    total = total.wrapping_add(around);
                }
                continue;
            }
            let mut looked = 0;
            for (i, (role, times)) in roles.iter().zip(&times).enumerate() {
                let Some(higher) = &ranks.higher[i] else { continue };
                let known = (ranks, higher);
                let marks = &mut self.marks;
                let found = if ranks.classes.is_none() {
                    times
                        * after_lowest(role, node, known, marks, &mut looked, |marks, _, thirds| {
                            marks.sum(thirds)
                        })
                } else {
                    // The lowest one stands in this role's place, or in that of one that is the same.
                    let places: Vec<usize> = (0..3).filter(|j| roles[*j].sides() == role.sides()).collect();
                    let ways = |first, third| {
                        let stand = |place: &&usize| {
                            let mut nodes = [0; 3];
                            [nodes[**place], nodes[(**place + 1) % 3], nodes[(**place + 2) % 3]] =
                                [first, node, third];
                            ranks.let_through(told, nodes)
                        };
                        places.iter().filter(stand).count() as u64
                    };
                    after_lowest(role, node, known, marks, &mut looked, |marks, first, thirds| {
                        thirds
                            .iter()
                            .map(|third| match marks.get(*third) {
                                0 => 0,
                                edges => edges * ways(first, *third),
                            })
                            .sum()
                    })
                };
                total = total.wrapping_add(found);
            }
            if !told.all_different() {
                total = total.wrapping_add(with_loops(roles, node, ranks, &mut looked));
            }
            context.counters().edges_looked += looked;
            since_check += looked + 1;
            if since_check >= CHECK_EVERY {
                since_check = 0;
                context.check()?;
            }
        }
        self.account(context)?;
        Ok(total)
    }
}

impl CountTrianglesRun {
    /// The next nodes' rings, whose edges are followed both ways.
    fn both_ways(
        &mut self, known: &BothWays, edges: &Edges<'_>, snapshot: &Snapshot, context: &mut Context,
    ) -> Outcome<Option<Batch>> {
        let Some(input) = &mut self.input else { return Ok(None) };
        let Some(batch) = input.next(context)? else { return Ok(None) };
        let mut total = 0u64;
        for row in 0..batch.len {
            let node = batch.node(0, row);
            if node == NO_ELEMENT {
                continue;
            }
            let mut looked = 0;
            total = total.wrapping_add(known.rings_of(node, &mut self.marks, &mut looked));
            total = total.wrapping_add(known.over_loops(node, edges, snapshot, &mut looked));
            context.counters().edges_looked += looked;
            context.work(looked + 1)?;
        }
        self.account(context)?;
        Ok(Some(self.spec.counting.batch(batch, vec![total], context)))
    }

    fn account(&mut self, context: &mut Context) -> Outcome<()> {
        let bytes = self.marks.bytes();
        if bytes > self.held {
            context.reserve(bytes - self.held)?;
            self.held = bytes;
        }
        Ok(())
    }
}

impl Operator for CountTrianglesRun {
    fn next(&mut self, context: &mut Context) -> Outcome<Option<Batch>> {
        let snapshot = context.scope.snapshot.clone();
        let spec = self.spec.clone();
        if self.rows_made.is_none() && spec.both_ways {
            let (direction, test) = &spec.edges[0];
            let edges = Edges { direction: *direction, test, node: &spec.close.node.test, told: &spec.told };
            let known = context.made_once(|context| BothWays::of(&edges, &snapshot, context))?;
            if let Some(known) = &*known {
                return self.both_ways(known, &edges, &snapshot, context);
            }
        }
        let mut by_rank = None;
        if self.rows_made.is_none()
            && !spec.both_ways
            && let Some(roles) = Role::all(&spec.edges, &snapshot)
        {
            let asked = (&spec.close.node.test, &spec.told);
            let ranks = context.made_once(|context| Ranks::of(&roles, asked, &snapshot, context))?;
            by_rank = ranks.serve().then_some((roles, ranks));
        }
        let Some((roles, ranks)) = by_rank else {
            let input = self.input.take();
            let rows = self.rows_made.get_or_insert_with(|| {
                let steps = Arc::new(spec.step.clone()).open(input.into_iter().collect());
                Arc::new(spec.close.clone()).open(vec![steps])
            });
            let Some(mut batch) = rows.next(context)? else { return Ok(None) };
            // The scanned node and the number, as where they are counted here.
            let counts = batch.columns.pop();
            batch.columns.truncate(1);
            batch.columns.extend(counts);
            return Ok(Some(batch));
        };
        let Some(input) = &mut self.input else { return Ok(None) };
        let Some(batch) = input.next(context)? else { return Ok(None) };
        let total = self.count(&roles, &ranks, &batch, context)?;
        Ok(Some(self.spec.counting.batch(batch, vec![total], context)))
    }
}
