//! Rings of three edges that are followed both ways, counted without being made.
//!
//! Each edge is kept at that of its ends which ranks lower, by degree. A ring of three different nodes is found once, at its
//! lowest one: two of that node's edges whose other ends have an edge between them. The pattern finds it in each of its
//! six orders, or in as many of them as its conditions let through. Three different nodes have three different edges.

use std::cmp::Ordering;
use std::ops::ControlFlow;

use graphodrome_graph::{Dense, Direction, EdgeTest, NodeTest, PropertyReader, Snapshot, Value};
use graphodrome_language::ast::BinaryOperator;
use hashbrown::HashMap;

use crate::context::Context;
use crate::expression::{Expr, Kind};
use crate::functions::Function;
use crate::operators::common_counts::Marks;
use crate::operators::sorted::run;
use crate::outcome::Outcome;

/// What the conditions on the nodes of a ring say.
#[derive(Clone, Debug)]
pub(super) enum Told {
    /// Nothing: a node may come twice, where it has loops.
    Nothing,
    /// That no two are the same, and which of the six orders are let through.
    Apart { orders: Vec<OrderOfNodes> },
    /// The same of a value of each.
    ApartBy { value: By, orders: Vec<OrderOfNodes> },
}

/// The value of a node that tells it from others.
#[derive(Clone, Debug)]
pub(super) enum By {
    Property(PropertyReader),
    ElementId,
}

impl By {
    /// What an expression of one node reads, and of which slot.
    fn of(e: &Expr) -> Option<(By, usize)> {
        match &e.kind {
            Kind::NodeProperty(slot, reader) => Some((By::Property(reader.clone()), *slot)),
            Kind::Call(Function::ElementId, arguments) => match &arguments[..] {
                [Expr { kind: Kind::Slot(slot), .. }] => Some((By::ElementId, *slot)),
                _ => None,
            },
            _ => None,
        }
    }

    fn is(&self, other: &By) -> bool {
        match (self, other) {
            (By::Property(a), By::Property(b)) => a.name == b.name,
            (By::ElementId, By::ElementId) => true,
            _ => false,
        }
    }

    fn read(&self, node: Dense, snapshot: &Snapshot) -> Value {
        match self {
            By::Property(reader) => snapshot.read_node(node, reader),
            By::ElementId => Value::text(format!("n{}", snapshot.node_id(node))),
        }
    }
}

/// Which of the pattern's three nodes has the least value, the middle one, and the greatest.
pub(super) type OrderOfNodes = [usize; 3];

impl Told {
    /// Of conditions on these three slots; `None` where they say anything else.
    pub fn of(conditions: &[&Expr], slots: [usize; 3]) -> Option<Told> {
        if conditions.is_empty() {
            return Some(Told::Nothing);
        }
        let place = |slot: usize| slots.iter().position(|s| *s == slot);
        // Whether the first must come before the second.
        let mut before = [[false; 3]; 3];
        let mut apart = [[false; 3]; 3];
        let mut by: Option<By> = None;
        let mut elements = false;
        for condition in conditions {
            if let Kind::Call(Function::AllDifferent, nodes) = &condition.kind {
                elements = true;
                let node = |e: &Expr| match e.kind {
                    Kind::Slot(slot) => place(slot),
                    _ => None,
                };
                let nodes: Vec<usize> = nodes.iter().map(node).collect::<Option<_>>()?;
                for (i, &a) in nodes.iter().enumerate() {
                    // What comes twice is not different from itself.
                    let twice = nodes[..i].contains(&a);
                    if twice {
                        return None;
                    }
                    nodes[..i].iter().for_each(|&b| (apart[a][b], apart[b][a]) = (true, true));
                }
                continue;
            }
            let Kind::Binary(operator, a, b) = &condition.kind else { return None };
            let (a, b) = match (&a.kind, &b.kind) {
                (Kind::Slot(a), Kind::Slot(b)) if *operator == BinaryOperator::NotEqual => {
                    elements = true;
                    (place(*a)?, place(*b)?)
                }
                _ => {
                    let ((value, a), (other, b)) = (By::of(a)?, By::of(b)?);
                    if !value.is(&other) || by.as_ref().is_some_and(|by| !by.is(&value)) {
                        return None;
                    }
                    by = Some(value);
                    (place(a)?, place(b)?)
                }
            };
            match operator {
                BinaryOperator::Less => before[a][b] = true,
                BinaryOperator::Greater => before[b][a] = true,
                BinaryOperator::NotEqual => (apart[a][b], apart[b][a]) = (true, true),
                _ => return None,
            }
        }
        // Nodes that differ need not differ in a value.
        if elements && by.is_some() {
            return None;
        }
        // What comes before what comes before a third comes before it.
        for through in 0..3 {
            for a in 0..3 {
                for b in 0..3 {
                    before[a][b] |= before[a][through] && before[through][b];
                }
            }
        }
        let different = |a: usize, b: usize| before[a][b] || before[b][a] || apart[a][b];
        if !(different(0, 1) && different(1, 2) && different(0, 2)) {
            return None;
        }
        let orders = [[0, 1, 2], [0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0]];
        let fits = |order: &[usize; 3]| (0..3).all(|i| (i..3).all(|j| !before[order[j]][order[i]]));
        let orders = orders.into_iter().filter(fits).collect();
        Some(match by {
            None => Told::Apart { orders },
            Some(value) => Told::ApartBy { value, orders },
        })
    }

    /// Whether no two of the nodes are the same.
    pub fn all_different(&self) -> bool {
        !matches!(self, Told::Nothing)
    }

    fn orders(&self) -> u64 {
        match self {
            Told::Nothing => 6,
            Told::Apart { orders } | Told::ApartBy { orders, .. } => orders.len() as u64,
        }
    }
}

/// What the edges of a ring are, each of the three the same.
pub(super) struct Edges<'e> {
    pub direction: Direction,
    pub test: &'e EdgeTest,
    pub node: &'e NodeTest,
    pub told: &'e Told,
}

/// Each node's edges to those that rank higher, and its loops.
pub(super) struct BothWays {
    begins: Vec<u32>,
    others: Vec<Dense>,
    loops: HashMap<Dense, u64>,
    orders: u64,
    classes: Option<Vec<Option<u32>>>,
}

/// For each node a number in the order of the values, the same where they are equal; none for a node whose value is equal to
/// nothing and before nothing. `None` where they are not all of a kind that is put in one order: some of their comparisons
/// may be errors, or unknown.
pub(super) fn classes(
    by: &By, node: &NodeTest, snapshot: &Snapshot, context: &mut Context,
) -> Outcome<Option<Vec<Option<u32>>>> {
    // Numbers of all types are compared by value; of the other kinds each is compared with its own alone.
    let kind = |value: &Value| match value {
        Value::Int(_) | Value::Float(_) | Value::Decimal(_) => Some(0),
        Value::Text(_) => Some(1),
        Value::Bool(_) => Some(2),
        Value::Date(_) => Some(3),
        _ => None,
    };
    let mut values: Vec<(Value, Dense)> = vec![];
    let mut all = None;
    let (mut held, mut accounted) = (0, 0);
    for id in 0..snapshot.node_bound() {
        context.work(1)?;
        if !snapshot.node_exists(id) || !snapshot.node_passes(id, node) {
            continue;
        }
        context.counters().properties_read += 1;
        let value = match by.read(id, snapshot) {
            Value::Null => continue,
            Value::Float(f) if f.is_nan() => continue,
            value => value,
        };
        let own = kind(&value);
        if own.is_none() || *all.get_or_insert(own) != own {
            return Ok(None);
        }
        if let Value::Text(text) = &value {
            held += text.len();
        }
        values.push((value, id));
        let bytes = values.capacity() * size_of::<(Value, Dense)>() + held;
        if bytes > accounted {
            context.reserve(bytes - accounted)?;
            accounted = bytes;
        }
    }
    let order = |a: &Value, b: &Value| a.compare(b).ok().flatten().unwrap_or(Ordering::Equal);
    values.sort_by(|(a, _), (b, _)| order(a, b));
    let mut classes = vec![None; snapshot.node_bound() as usize];
    let mut class = 0;
    for (i, (value, id)) in values.iter().enumerate() {
        if i > 0 && order(&values[i - 1].0, value).is_ne() {
            class += 1;
        }
        classes[*id as usize] = Some(class);
    }
    context.release(accounted);
    Ok(Some(classes))
}

impl BothWays {
    /// `None` where they cannot be counted so.
    pub fn of(edges: &Edges<'_>, snapshot: &Snapshot, context: &mut Context) -> Outcome<Option<BothWays>> {
        let bound = snapshot.node_bound() as usize;
        context.reserve(16 * bound)?;
        let classes = match edges.told {
            Told::ApartBy { value, .. } => match classes(value, edges.node, snapshot, context)? {
                Some(classes) => Some(classes),
                None => return Ok(None),
            },
            _ => None,
        };
        // A ring has no edge between nodes that must differ and do not.
        let joins = |a: Dense, b: Dense| match &classes {
            None => true,
            Some(of) => matches!((of[a as usize], of[b as usize]), (Some(a), Some(b)) if a != b),
        };
        let all = snapshot.all_pass(edges.node);
        let passes = |node: Dense| all || snapshot.node_passes(node, edges.node);
        let mut degrees = vec![0u32; bound];
        let mut loops = HashMap::new();
        for node in 0..bound as Dense {
            if !snapshot.node_exists(node) || !passes(node) {
                continue;
            }
            let mut own_loops = 0;
            let degree = &mut degrees[node as usize];
            let looked = snapshot.for_each_adjacent(node, edges.direction, edges.test, |_, other| {
                if other == node {
                    own_loops += 1;
                } else if joins(node, other) {
                    *degree += 1;
                }
                ControlFlow::Continue(())
            });
            if own_loops > 0 {
                loops.insert(node, own_loops);
            }
            context.counters().edges_looked += looked;
            context.work(looked + 1)?;
        }
        let is_higher = |one: Dense, than: Dense| {
            let (a, b) = (degrees[one as usize], degrees[than as usize]);
            a > b || a == b && one > than
        };
        let mut made = BothWays {
            begins: Vec::with_capacity(bound + 1),
            others: vec![],
            loops,
            orders: edges.told.orders(),
            classes: None,
        };
        let mut accounted = 0;
        for node in 0..bound as Dense {
            let begin = made.others.len();
            made.begins.push(begin as u32);
            if degrees[node as usize] == 0 {
                continue;
            }
            let others = &mut made.others;
            let looked = snapshot.for_each_adjacent(node, edges.direction, edges.test, |_, other| {
                // One that is not in the pattern has no degree, and ranks lower.
                if other != node && is_higher(other, node) && joins(node, other) {
                    others.push(other);
                }
                ControlFlow::Continue(())
            });
            others[begin..].sort_unstable();
            context.counters().edges_looked += looked;
            context.work(looked + 1)?;
            let bytes = 4 * others.capacity();
            if bytes > accounted {
                context.reserve(bytes - accounted)?;
                accounted = bytes;
            }
        }
        made.begins.push(made.others.len() as u32);
        made.classes = classes;
        Ok(Some(made))
    }

    fn higher(&self, node: Dense) -> &[Dense] {
        &self.others[self.begins[node as usize] as usize..self.begins[node as usize + 1] as usize]
    }

    /// Rings of three different nodes of which this one ranks lowest.
    pub fn rings_of(&self, node: Dense, marks: &mut Marks, looked: &mut u64) -> u64 {
        if !self.begin(node, marks) {
            return 0;
        }
        let own = self.higher(node);
        let (mut count, mut at) = (0u64, 0);
        while let Some(&second) = own.get(at) {
            let times = run(own, at, second);
            at += times;
            let thirds = self.higher(second);
            *looked += thirds.len() as u64;
            count = count.wrapping_add(times as u64 * marks.sum(thirds));
        }
        count.wrapping_mul(self.orders)
    }

    /// Whether there may be rings of which this node ranks lowest; marks what [`Self::next_rings`] asks for then.
    pub fn begin(&self, node: Dense, marks: &mut Marks) -> bool {
        let own = self.higher(node);
        if own.len() >= 2 {
            marks.clear(self.begins.len() as u32 - 1);
            own.iter().for_each(|other| marks.mark(*other));
        }
        own.len() >= 2
    }

    /// Calls `visit` with the three nodes of each ring of which this one ranks lowest and which has the node at this place of
    /// its edges in the middle: once however many edges there are, in the order of their values where those tell them
    /// apart. The next place, and the edges looked at; `None` behind the last.
    pub fn next_rings(
        &self, node: Dense, at: usize, marks: &Marks, mut visit: impl FnMut([Dense; 3]),
    ) -> Option<(usize, usize)> {
        let own = self.higher(node);
        let second = *own.get(at)?;
        let thirds = self.higher(second);
        let mut next = 0;
        while let Some(&third) = thirds.get(next) {
            next += run(thirds, next, third);
            if marks.get(third) > 0 {
                let mut ring = [node, second, third];
                if let Some(classes) = &self.classes {
                    ring.sort_unstable_by_key(|node| classes[*node as usize]);
                }
                visit(ring);
            }
        }
        Some((at + run(own, at, second), thirds.len()))
    }

    /// Rings in which this node comes twice or three times, over its loops.
    pub fn over_loops(&self, node: Dense, edges: &Edges<'_>, snapshot: &Snapshot, looked: &mut u64) -> u64 {
        let Some(&loops) = self.loops.get(&node) else { return 0 };
        if !matches!(edges.told, Told::Nothing) {
            return 0;
        }
        let mut others = vec![];
        *looked += snapshot.for_each_adjacent(node, edges.direction, edges.test, |_, other| {
            if other != node && snapshot.node_passes(other, edges.node) {
                others.push(other);
            }
            ControlFlow::Continue(())
        });
        others.sort_unstable();
        let (mut pairs, mut at) = (0u64, 0);
        while let Some(&other) = others.get(at) {
            let times = run(&others, at, other);
            at += times;
            // There by one edge, back by another.
            pairs += times as u64 * (times as u64 - 1);
        }
        // The loop is the first, the second or the third edge of the ring; or all three are loops.
        3 * loops * pairs + loops * (loops - 1) * loops.saturating_sub(2)
    }
}
