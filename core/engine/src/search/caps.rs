//! Caps: conditions on accumulated values that a longer path cannot satisfy if a shorter one does not (rule
//! `capped-paths`): a sum of non-negative numbers, the number of edges, the greatest and the least number, a
//! product of shares, ordered values. A search abandons a path at the first edge that violates such a condition.
//! The condition itself is tested again in its place, so a cap only needs to detect certain violations.

use std::cmp::Ordering;
use std::sync::Arc;

use graphodrome_graph::{Decimal, EdgeTest, Extent, Value};
use graphodrome_language::ast::{Aggregate, BinaryOperator, Progression};

use crate::evaluate::{Evaluator, holds};
use crate::expression::{Expr, Kind, Piece};
use crate::functions::Function;
use crate::operators::follows;
use crate::outcome::Outcome;
use crate::quick;
use crate::row::Row;
use crate::scope::Scope;
use crate::search::Cursor;
use crate::search::extents::extent;

/// A float that was added up in another order than by SUM may be greater than its sum by no more than this share.
const ROUNDING: f64 = 1e-9;

/// What is folded along a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum CapStep {
    Sum,
    Count,
    Most,
    Least,
    Product,
    InOrder(Progression),
}

/// A number of each edge, folded from edge to edge.
#[derive(Clone, Debug)]
struct Along {
    step: CapStep,
    /// Which of the program's variables the edge is; `None`: every edge counts.
    local: Option<usize>,
    /// Of an edge: reads it at slot `slot`. `None` where edges are counted.
    argument: Option<(Expr, usize)>,
    /// A condition reads it.
    read: bool,
}

/// Conditions on what adds up along the paths of a search.
#[derive(Clone, Debug)]
pub(crate) struct Caps {
    along: Vec<Along>,
    /// On the input row, with what was folded in the slots behind it.
    conditions: Vec<Expr>,
    /// How many columns the input has.
    width: usize,
    /// They say all that the conditions ask of the path.
    whole: bool,
    /// Edges come from the right end of the path.
    reversed: bool,
}

/// What was folded so far.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct FoldedSoFar(Vec<Value>);

impl FoldedSoFar {
    /// The last value of one that is in order, null where there was none; `None` where nothing is known of it.
    pub fn last_value(&self) -> Option<Value> {
        match &self.0[..] {
            [Value::List(last)] => Some(last.first().cloned().unwrap_or(Value::Null)),
            _ => None,
        }
    }
}

/// Where an expression goes when what it reads of a path goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Trend {
    Same,
    Up,
    Down,
}

impl Trend {
    fn turned(self) -> Trend {
        match self {
            Trend::Same => Trend::Same,
            Trend::Up => Trend::Down,
            Trend::Down => Trend::Up,
        }
    }

    fn with(self, other: Trend) -> Option<Trend> {
        match (self, other) {
            (Trend::Same, trend) | (trend, Trend::Same) => Some(trend),
            (a, b) => (a == b).then_some(a),
        }
    }
}

/// Where the variables of a search stand on the rows of the conditions after it.
pub(crate) struct Places<'p> {
    /// Columns of the search's input.
    pub width: usize,
    /// Of its path.
    pub path: usize,
    /// The program's variables that are edges, by the slots of their lists.
    pub lists: &'p [(usize, usize)],
    /// Paths and their lengths, as they are put together, by their slots.
    pub computed: &'p [(usize, Kind)],
    /// Paths are made from their right end.
    pub reversed: bool,
}

impl Caps {
    /// What of these conditions may end a way.
    pub fn of(conditions: &[Expr], places: &Places<'_>) -> Option<Caps> {
        let (width, reversed) = (places.width, places.reversed);
        let mut caps = Caps { along: vec![], conditions: vec![], width, whole: true, reversed };
        for condition in conditions.iter().flat_map(conjuncts) {
            let known = caps.along.len();
            let mut taken = condition.clone();
            match caps.take_folds(&mut taken, places) {
                Some(()) if caps.along.len() > known => {
                    let sides = one_sided(taken);
                    caps.whole &= sides.len() == 1;
                    caps.conditions.extend(sides);
                }
                _ => {
                    caps.along.truncate(known);
                    let mut read = vec![];
                    condition.slots(&mut read);
                    caps.whole &= read.iter().all(|slot| *slot < places.width);
                }
            }
        }
        (!caps.conditions.is_empty()).then_some(caps)
    }

    /// Puts slots in the places of what is folded; `None` where the condition reads something else of the path.
    fn take_folds(&mut self, e: &mut Expr, places: &Places<'_>) -> Option<()> {
        if let Some((along, more)) = along(e, places) {
            let slot = Kind::Slot(self.width + self.along.len());
            self.along.push(along);
            e.kind = match more {
                0 => slot,
                _ => {
                    let of = |kind| Box::new(Expr { kind, span: e.span });
                    Kind::Binary(BinaryOperator::Add, of(slot), of(Kind::Constant(Value::Int(more))))
                }
            };
            return Some(());
        }
        match &mut e.kind {
            Kind::Constant(_) | Kind::Parameter(_) => Some(()),
            Kind::Slot(slot) | Kind::NodeProperty(slot, _) | Kind::EdgeProperty(slot, _) => {
                (*slot < self.width).then_some(())
            }
            Kind::Negate(a) | Kind::Not(a) => self.take_folds(a, places),
            Kind::Binary(_, a, b) => {
                self.take_folds(a, places)?;
                self.take_folds(b, places)
            }
            Kind::Between(a, b, c, _) => [a, b, c].into_iter().try_for_each(|e| self.take_folds(e, places)),
            Kind::Call(Function::Round | Function::Floor | Function::Ceil | Function::Coalesce, all) => {
                all.iter_mut().try_for_each(|e| self.take_folds(e, places))
            }
            _ => None,
        }
    }

    /// Those that hold for a graph at a version and a request: whether numbers are negative, and what parameters are, is
    /// known only then. `None` where there is none.
    pub fn that_hold(&self, tests: &[(Option<usize>, EdgeTest)], scope: &Scope) -> Option<Arc<Caps>> {
        let trends: Vec<Option<Trend>> = self.along.iter().map(|along| along.trend(tests, scope)).collect();
        let sums = |along: &Along| matches!(along.step, CapStep::Sum | CapStep::Count);
        let from_zero: Vec<bool> = self.along.iter().map(sums).collect();
        let known = Trends { folds: &trends, from_zero: &from_zero, width: self.width, scope };
        let mut caps = self.clone();
        caps.conditions.retain(|condition| known.stays_false(condition, false));
        caps.whole &= caps.conditions.len() == self.conditions.len();
        let mut read = vec![];
        caps.conditions.iter().for_each(|condition| condition.slots(&mut read));
        for (i, along) in caps.along.iter_mut().enumerate() {
            along.read = read.contains(&(self.width + i));
        }
        (!caps.conditions.is_empty()).then(|| Arc::new(caps))
    }

    /// Before the first edge.
    pub fn none(&self) -> FoldedSoFar {
        let count = |along: &Along| match along.step {
            CapStep::Count => Value::Int(0),
            // The last value.
            CapStep::InOrder(_) => Value::list(vec![]),
            _ => Value::Null,
        };
        FoldedSoFar(self.along.iter().map(count).collect())
    }

    /// With an edge more, which was bound to one of the program's variables; `None` where no longer path satisfies the
    /// conditions.
    pub fn and(
        &self, before: &FoldedSoFar, (edge, local): (u32, Option<usize>), cursor: &mut Cursor<'_>,
    ) -> Outcome<Option<FoldedSoFar>> {
        let mut folded = before.clone();
        for (along, value) in self.along.iter().zip(&mut folded.0) {
            if along.read && (along.local.is_none() || along.local == local) {
                let more = along.of_edge(edge, self.width, cursor)?;
                let before = std::mem::replace(value, Value::Null);
                *value = match along.step {
                    CapStep::InOrder(run) => in_order(before, more, run, self.reversed),
                    step => step.and(before, more),
                };
            }
        }
        Ok(self.may_hold(&folded, cursor)?.then_some(folded))
    }

    /// Whether none of the conditions is certainly false.
    fn may_hold(&self, folded: &FoldedSoFar, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let locals: Vec<Value> =
            self.along.iter().zip(&folded.0).map(|(along, value)| along.step.certain(value)).collect();
        let at = Row { batch: cursor.batch, row: cursor.row, locals: &locals };
        for condition in &self.conditions {
            let context = &mut *cursor.context;
            let counters = &mut context.metrics[context.current].counters;
            // What cannot be compared is an error where the condition is tested, of a path that comes to its end.
            let value = Evaluator { scope: &context.scope, counters }.value(condition, at);
            if matches!(value, Ok(Value::Bool(false))) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// These and others of the same search.
    pub fn with(mut self, other: Caps) -> Caps {
        let more = self.along.len();
        let width = self.width;
        self.whole &= other.whole;
        self.along.extend(other.along);
        self.conditions.extend(other.conditions.into_iter().map(|mut condition| {
            condition.move_slots(width, more);
            condition
        }));
        self
    }

    /// How many columns the input has.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Where a sum over the edges is all that the conditions read of a path: what is added, and the slot that it reads its edge from.
    pub fn one_sum(&self) -> Option<(&Expr, usize)> {
        match &self.along[..] {
            [Along { step: CapStep::Sum, argument: Some((argument, slot)), .. }] if self.whole => {
                Some((argument, *slot))
            }
            _ => None,
        }
    }

    /// Whether all that they ask of a path is that values of its edges follow each other in an order.
    pub fn is_in_order(&self) -> bool {
        let one = matches!(&self.along[..], [Along { step: CapStep::InOrder(_), .. }]);
        let alone =
            matches!(&self.conditions[..], [Expr { kind: Kind::Slot(slot), .. }] if *slot == self.width);
        self.whole && one && alone
    }

    /// Whether that order falls, along the way that a search goes.
    pub fn falls(&self) -> bool {
        matches!(&self.along[..], [Along { step: CapStep::InOrder(progression), .. }] if progression.falling)
    }

    /// Whether all that is folded is the number of a path's edges.
    pub fn is_count(&self) -> bool {
        matches!(&self.along[..], [Along { step: CapStep::Count, .. }])
    }

    /// Whether all that is folded is the sum of one property of the edges.
    pub fn is_sum_of(&self, name: &str) -> bool {
        match &self.along[..] {
            [Along { step: CapStep::Sum, argument: Some((argument, slot)), .. }] => {
                matches!(&argument.kind, Kind::EdgeProperty(s, reader) if s == slot && *reader.name == *name)
            }
            _ => false,
        }
    }

    /// Whether an exact sum satisfies the conditions.
    pub fn sum_holds(&self, sum: Value, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        let at = Row { batch: cursor.batch, row: cursor.row, locals: &[sum] };
        for condition in &self.conditions {
            let context = &mut *cursor.context;
            let counters = &mut context.metrics[context.current].counters;
            if !holds(condition, at, &context.scope, counters)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Whether the sum of a path ([`Self::one_sum`]) leaves it a chance.
    pub fn sum_may_hold(&self, sum: Value, cursor: &mut Cursor<'_>) -> Outcome<bool> {
        self.may_hold(&FoldedSoFar(vec![sum]), cursor)
    }
}

/// The conditions that must all hold.
fn conjuncts(e: &Expr) -> Vec<&Expr> {
    match &e.kind {
        Kind::Binary(BinaryOperator::And, a, b) => [conjuncts(a), conjuncts(b)].concat(),
        _ => vec![e],
    }
}

/// The condition, or two of which each is a bound to one side.
fn one_sided(e: Expr) -> Vec<Expr> {
    let span = e.span;
    let of = |operator, a: &Expr, b: &Expr| Expr {
        kind: Kind::Binary(operator, Box::new(a.clone()), Box::new(b.clone())),
        span,
    };
    let (at_least, at_most) = (BinaryOperator::GreaterOrEqual, BinaryOperator::LessOrEqual);
    match &e.kind {
        Kind::Between(x, low, high, false) => vec![of(at_least, x, low), of(at_most, x, high)],
        Kind::Binary(BinaryOperator::Equal, a, b) => vec![of(at_least, a, b), of(at_most, a, b)],
        _ => vec![e],
    }
}

/// What the expression folds of the path, and what comes on top of it, where it reads the path in such a way alone.
fn along(e: &Expr, places: &Places<'_>) -> Option<(Along, i64)> {
    let local_of = |list: usize| places.lists.iter().find(|(slot, _)| *slot == list).map(|(_, local)| *local);
    let counted = |local| Along { step: CapStep::Count, local, argument: None, read: true };
    // Edges that other pieces of a path have may come on top of those that are named.
    let length = |pieces: &[Piece]| {
        let through = pieces.iter().any(|piece| matches!(piece, Piece::Path(slot) if *slot == places.path));
        let named = pieces.iter().filter(|piece| matches!(piece, Piece::Edge(_))).count();
        through.then(|| (counted(None), named as i64))
    };
    let computed =
        |slot: usize| places.computed.iter().find(|(place, _)| *place == slot).map(|(_, kind)| kind);
    match &e.kind {
        Kind::Slot(slot) => match computed(*slot) {
            Some(Kind::Length(pieces)) => length(pieces),
            _ => None,
        },
        Kind::Call(function @ (Function::PathLength | Function::Cardinality), arguments) => {
            let [Expr { kind: Kind::Slot(slot), .. }] = &arguments[..] else { return None };
            match (function, computed(*slot)) {
                (Function::PathLength, Some(Kind::Path(pieces))) => length(pieces),
                (Function::Cardinality, _) => local_of(*slot).map(|local| (counted(Some(local)), 0)),
                _ => None,
            }
        }
        Kind::Fold { list, local, function, distinct, share: None, argument } => {
            let step = match function {
                Aggregate::Sum if !distinct => CapStep::Sum,
                Aggregate::Max => CapStep::Most,
                Aggregate::Min => CapStep::Least,
                Aggregate::Product if !distinct => CapStep::Product,
                Aggregate::InOrder(run) if places.reversed => CapStep::InOrder(run.turned()),
                Aggregate::InOrder(run) => CapStep::InOrder(*run),
                _ => return None,
            };
            let mut slots = vec![];
            argument.slots(&mut slots);
            let fits = slots.iter().all(|slot| *slot < places.width || slot == local);
            let argument = Some(((**argument).clone(), *local));
            let along = Along { step, local: Some(local_of(*list)?), argument, read: true };
            fits.then_some((along, 0))
        }
        _ => None,
    }
}

impl CapStep {
    fn and(self, before: Value, more: Value) -> Value {
        match (before, more, self) {
            (Value::Int(n), _, CapStep::Count) => Value::Int(n.saturating_add(1)),
            (before, Value::Null, _) => before,
            (Value::Null, more, _) => more,
            (a, b, CapStep::Sum) => sum(&a, &b),
            (a, b, CapStep::Product) => product(&a, &b),
            (a, b, CapStep::Most) => of_both(a, b, Ordering::Greater),
            (a, b, _) => of_both(a, b, Ordering::Less),
        }
    }

    /// A value that what is folded is certainly past, or equal to.
    fn certain(self, value: &Value) -> Value {
        match (self, value) {
            // One that cannot be compared is an error where the condition is tested.
            (CapStep::InOrder(_), value) => match value {
                Value::Bool(false) => Value::Bool(false),
                _ => Value::Null,
            },
            (_, Value::Float(f)) if !f.is_finite() => Value::Null,
            // Nearer to zero than any order of adding makes it.
            (CapStep::Sum, Value::Float(f)) => Value::Float(f * (1.0 - ROUNDING)),
            // Products of shares fall, others rise: the condition on either is tested a little late.
            (CapStep::Product, Value::Float(f)) if *f <= 1.0 => {
                Value::Float(f * (1.0 + ROUNDING) + f64::MIN_POSITIVE)
            }
            (CapStep::Product, Value::Float(f)) => Value::Float(f * (1.0 - ROUNDING)),
            // Of other numbers to come the quotient may be one that is not cut off.
            (CapStep::Least | CapStep::Product, Value::Int(n)) if *n > 0 => Value::Decimal(Decimal::from(*n)),
            (CapStep::Most, Value::Int(n)) if *n < 0 => Value::Decimal(Decimal::from(*n)),
            _ => value.clone(),
        }
    }
}

/// The last value, as a list, or false: after one edge more.
fn in_order(before: Value, more: Value, run: Progression, reversed: bool) -> Value {
    let Value::List(last) = &before else { return before };
    let mut last = last.first().cloned().unwrap_or(Value::Null);
    let more = match more {
        Value::List(items) if reversed => Value::list(items.iter().rev().cloned().collect()),
        more => more,
    };
    match follows(&more, &mut last, run) {
        Ok(true) => Value::list(vec![last]),
        Ok(false) => Value::Bool(false),
        // Nothing is known of it.
        Err(_) => Value::Null,
    }
}

/// The sum; null, of which nothing is known, where it is too large.
fn sum(a: &Value, b: &Value) -> Value {
    let exact = |value: &Value| match value {
        Value::Int(n) => Some(Decimal::from(*n)),
        Value::Decimal(d) => Some(*d),
        _ => None,
    };
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => a.checked_add(*b).map_or(Value::Null, Value::Int),
        _ => match (exact(a), exact(b)) {
            (Some(a), Some(b)) => a.checked_add(b).map_or(Value::Null, Value::Decimal),
            _ => rough(a, b, |a, b| a + b),
        },
    }
}

/// As for sums; rounded where it is no whole number.
fn product(a: &Value, b: &Value) -> Value {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => a.checked_mul(*b).map_or(Value::Null, Value::Int),
        _ => rough(a, b, |a, b| a * b),
    }
}

fn rough(a: &Value, b: &Value, of: fn(f64, f64) -> f64) -> Value {
    match (a.as_f64(), b.as_f64()) {
        (Some(a), Some(b)) => Value::Float(of(a, b)),
        _ => Value::Null,
    }
}

fn of_both(a: Value, b: Value, wanted: Ordering) -> Value {
    match b.compare(&a) {
        Ok(Some(ordering)) if ordering == wanted => b,
        Ok(Some(_)) => a,
        _ => Value::Null,
    }
}

impl Along {
    fn of_edge(&self, edge: u32, width: usize, cursor: &mut Cursor<'_>) -> Outcome<Value> {
        let Some((argument, slot)) = &self.argument else { return Ok(Value::Null) };
        let mut locals = vec![Value::Null; slot - width + 1];
        locals[slot - width] = Value::Edge(edge);
        let at = Row { batch: cursor.batch, row: cursor.row, locals: &locals };
        let context = &mut *cursor.context;
        let counters = &mut context.metrics[context.current].counters;
        if let Some(number) = quick::number(argument, at, &context.scope, counters) {
            return Ok(number.map_or(Value::Null, Value::Int));
        }
        Evaluator { scope: &context.scope, counters }.value(argument, at)
    }

    /// Where it goes from edge to edge, if to one side alone.
    fn trend(&self, tests: &[(Option<usize>, EdgeTest)], scope: &Scope) -> Option<Trend> {
        let Some((argument, slot)) = &self.argument else { return Some(Trend::Up) };
        let mut all = Extent::NONE;
        match self.step {
            CapStep::Most => return Some(Trend::Up),
            // From true to false.
            CapStep::Least | CapStep::InOrder(_) => return Some(Trend::Down),
            _ => {}
        }
        for (_, test) in tests.iter().filter(|(local, _)| *local == self.local) {
            all = all.and(extent(argument, *slot, test, scope)?);
        }
        match self.step {
            CapStep::Sum if all.least >= 0.0 => Some(Trend::Up),
            CapStep::Sum if all.greatest <= 0.0 => Some(Trend::Down),
            CapStep::Product if all.least >= 0.0 && all.greatest <= 1.0 => Some(Trend::Down),
            CapStep::Product if all.least >= 1.0 => Some(Trend::Up),
            _ => None,
        }
    }
}

/// Where expressions go while a path grows.
struct Trends<'t> {
    folds: &'t [Option<Trend>],
    /// Which of them begin at zero, where there is a number at all.
    from_zero: &'t [bool],
    width: usize,
    scope: &'t Scope,
}

impl Trends<'_> {
    /// Whether the condition, or its opposite, stays false once it is.
    fn stays_false(&self, e: &Expr, opposite: bool) -> bool {
        use BinaryOperator::*;
        match &e.kind {
            Kind::Not(a) => self.stays_false(a, !opposite),
            Kind::Slot(slot) if *slot >= self.width => {
                !opposite && self.folds[slot - self.width] == Some(Trend::Down)
            }
            Kind::Binary(And | Or, a, b) => self.stays_false(a, opposite) && self.stays_false(b, opposite),
            Kind::Binary(operator @ (Less | LessOrEqual | Greater | GreaterOrEqual), a, b) => {
                let (Some(a), Some(b)) = (self.of(a), self.of(b)) else { return false };
                let upper = matches!(operator, Less | LessOrEqual) != opposite;
                // What must stay below another may only rise.
                match a.with(b.turned()) {
                    Some(Trend::Same) => true,
                    Some(Trend::Up) => upper,
                    Some(Trend::Down) => !upper,
                    None => false,
                }
            }
            _ => false,
        }
    }

    fn of(&self, e: &Expr) -> Option<Trend> {
        use BinaryOperator::*;
        match &e.kind {
            Kind::Slot(slot) if *slot >= self.width => self.folds[slot - self.width],
            Kind::Constant(_) | Kind::Parameter(_) | Kind::Slot(_) => Some(Trend::Same),
            Kind::NodeProperty(..) | Kind::EdgeProperty(..) => Some(Trend::Same),
            Kind::Negate(a) => self.of(a).map(Trend::turned),
            Kind::Binary(Add, a, b) => self.of(a)?.with(self.of(b)?),
            Kind::Binary(Subtract, a, b) => self.of(a)?.with(self.of(b)?.turned()),
            Kind::Binary(Multiply, a, b) => match (self.of(a)?, self.of(b)?) {
                (Trend::Same, Trend::Same) => Some(Trend::Same),
                (trend, Trend::Same) => self.is_positive(b).then_some(trend),
                (Trend::Same, trend) => self.is_positive(a).then_some(trend),
                _ => None,
            },
            Kind::Binary(Divide, a, b) => match (self.of(a)?, self.of(b)?) {
                (Trend::Same, Trend::Same) => Some(Trend::Same),
                (trend, Trend::Same) => self.is_positive(b).then_some(trend),
                _ => None,
            },
            Kind::Call(Function::Floor | Function::Ceil | Function::Round, all) => {
                let [first, rest @ ..] = &all[..] else { return None };
                let same = rest.iter().all(|e| self.of(e) == Some(Trend::Same));
                if same { self.of(first) } else { None }
            }
            // A sum of nothing is null.
            Kind::Call(Function::Coalesce, all) => match &all[..] {
                [Expr { kind: Kind::Slot(slot), .. }, zero]
                    if *slot >= self.width && self.from_zero[slot - self.width] && self.is_zero(zero) =>
                {
                    self.folds[slot - self.width]
                }
                _ => None,
            },
            _ => None,
        }
    }

    /// A number that is the same for all rows.
    fn number(&self, e: &Expr) -> Option<f64> {
        let value = match &e.kind {
            Kind::Constant(value) => Some(value),
            Kind::Parameter(n) => self.scope.parameters.get(*n),
            _ => None,
        };
        value.and_then(Value::as_f64)
    }

    fn is_positive(&self, e: &Expr) -> bool {
        self.number(e).is_some_and(|f| f > 0.0)
    }

    fn is_zero(&self, e: &Expr) -> bool {
        self.number(e) == Some(0.0)
    }
}
