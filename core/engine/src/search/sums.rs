//! Values accumulated along paths and over them: exact numbers or numbers of one type, numbers of paths, and both
//! for many nodes at once. Independent of graphs.

use graphodrome_graph::Value;

use crate::expression::Expr;

/// What becomes of a path's edges.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Inner {
    Sum,
    Product,
}

/// What becomes of the paths to one end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Outer {
    Sum,
    Least,
    Greatest,
}

/// A number for each edge, folded along paths and over them.
#[derive(Clone, Debug)]
pub(crate) struct Fold {
    pub inner: Inner,
    pub outer: Outer,
    /// Of an edge: reads it at slot `local`.
    pub argument: Expr,
    pub local: usize,
}

/// Whole numbers are added exactly, floats as floats; what mixes them, or has a null, is left to the paths themselves.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Number {
    Whole(i128),
    Float(f64),
}

impl Number {
    pub(super) fn of(value: &Value) -> Option<Number> {
        match value {
            Value::Int(n) => Some(Number::Whole(i128::from(*n))),
            Value::Float(f) if f.is_finite() => Some(Number::Float(*f)),
            _ => None,
        }
    }

    pub(super) fn plus(self, other: Number) -> Option<Number> {
        match (self, other) {
            (Number::Whole(a), Number::Whole(b)) => a.checked_add(b).map(Number::Whole),
            (Number::Float(a), Number::Float(b)) => Some(Number::Float(a + b)),
            _ => None,
        }
    }

    pub(super) fn times(self, other: Number) -> Option<Number> {
        match (self, other) {
            (Number::Whole(a), Number::Whole(b)) => a.checked_mul(b).map(Number::Whole),
            (Number::Float(a), Number::Float(b)) => Some(Number::Float(a * b)),
            _ => None,
        }
    }

    /// So many paths, as a number of this kind.
    pub(super) fn count(self, paths: u128) -> Option<Number> {
        match self {
            // Nobody knows how many there are.
            _ if paths == u128::MAX => None,
            Number::Whole(_) => i128::try_from(paths).ok().map(Number::Whole),
            Number::Float(_) => Some(Number::Float(paths as f64)),
        }
    }

    pub(super) fn is_less(self, other: Number) -> bool {
        match (self, other) {
            (Number::Whole(a), Number::Whole(b)) => a < b,
            (Number::Float(a), Number::Float(b)) => a < b,
            _ => false,
        }
    }

    pub(super) fn value(self) -> Option<Value> {
        match self {
            Number::Whole(n) => i64::try_from(n).ok().map(Value::Int),
            Number::Float(f) => Some(Value::Float(f)),
        }
    }
}

/// What is folded of all paths.
#[derive(Clone, Debug)]
pub(crate) struct Folds {
    pub all: Vec<Fold>,
    /// How many paths there are is read too, and not only what adds up along them.
    pub counted: bool,
}

impl Folds {
    /// The folds of a path without an edge.
    pub(super) fn none(&self) -> Vec<Option<Number>> {
        vec![None; self.all.len()]
    }

    /// More paths; past the greatest number no more are counted where nobody asks.
    pub(super) fn more(&self, a: u128, b: u128) -> Option<u128> {
        match self.counted {
            true => a.checked_add(b),
            false => Some(a.saturating_add(b)),
        }
    }
}

/// Paths to a node: how many, and each fold over those that have an edge.
#[derive(Clone, Debug, Default)]
pub(super) struct Sums {
    pub paths: u128,
    pub folds: Vec<Option<Number>>,
}

/// The sums of many nodes, one after the other.
pub(super) struct SumTable<'f> {
    pub folds: &'f Folds,
    pub paths: Vec<u128>,
    numbers: Vec<Option<Number>>,
}

impl<'f> SumTable<'f> {
    pub(super) fn new(nodes: usize, folds: &'f Folds) -> SumTable<'f> {
        SumTable { folds, paths: vec![0; nodes], numbers: vec![None; nodes * folds.all.len()] }
    }

    pub(super) fn numbers_of(&self, node: usize) -> &[Option<Number>] {
        let width = self.folds.all.len();
        &self.numbers[node * width..(node + 1) * width]
    }

    pub(super) fn sums(&self, node: usize) -> Sums {
        Sums { paths: self.paths[node], folds: self.numbers_of(node).to_vec() }
    }

    /// Takes in other paths to a node; `None` where a number is out of range.
    #[inline]
    pub(super) fn add(&mut self, node: usize, paths: u128, folds: &[Option<Number>]) -> Option<()> {
        self.paths[node] = self.folds.more(self.paths[node], paths)?;
        let width = self.folds.all.len();
        let mine = &mut self.numbers[node * width..(node + 1) * width];
        add_folds(mine, folds, self.folds)
    }

    pub(super) fn clear(&mut self, node: usize) {
        self.paths[node] = 0;
        let width = self.folds.all.len();
        self.numbers[node * width..(node + 1) * width].fill(None);
    }
}

/// What is folded of other paths to the same node, taken in.
#[inline]
fn add_folds(all: &mut [Option<Number>], others: &[Option<Number>], folds: &Folds) -> Option<()> {
    for ((mine, theirs), fold) in all.iter_mut().zip(others).zip(&folds.all) {
        let Some(theirs) = *theirs else { continue };
        *mine = Some(match (*mine, fold.outer) {
            (None, _) => theirs,
            (Some(mine), Outer::Sum) => mine.plus(theirs)?,
            (Some(mine), Outer::Least) if theirs.is_less(mine) => theirs,
            (Some(mine), Outer::Greatest) if mine.is_less(theirs) => theirs,
            (Some(mine), _) => mine,
        });
    }
    Some(())
}

/// What is folded of each edge.
#[derive(Debug)]
pub(super) enum Values {
    Whole(Vec<i64>),
    Float(Vec<f64>),
}

impl Values {
    /// None of them is below zero.
    pub(super) fn only_grow(&self) -> bool {
        match self {
            Values::Whole(all) => all.iter().all(|n| *n >= 0),
            Values::Float(all) => all.iter().all(|f| *f >= 0.0),
        }
    }

    #[inline]
    pub(super) fn get(&self, arc: usize) -> Number {
        match self {
            Values::Whole(all) => Number::Whole(i128::from(all[arc])),
            Values::Float(all) => Number::Float(all[arc]),
        }
    }

    /// Whether more of one kind of number were taken in.
    pub(super) fn extend(&mut self, more: Values) -> bool {
        if matches!(self, Values::Whole(all) if all.is_empty()) {
            *self = more;
            return true;
        }
        match (self, more) {
            (Values::Whole(all), Values::Whole(more)) => all.extend(more),
            (Values::Float(all), Values::Float(more)) => all.extend(more),
            (_, Values::Whole(more)) => return more.is_empty(),
            (_, Values::Float(more)) => return more.is_empty(),
        }
        true
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use crate::expression::Kind;

    fn folds(outer: Outer, counted: bool) -> Folds {
        let argument = Expr { kind: Kind::Slot(0), span: Default::default() };
        Folds { all: vec![Fold { inner: Inner::Sum, outer, argument, local: 0 }], counted }
    }

    #[test]
    fn the_sums_of_a_node_are_its_own() {
        for (outer, wanted) in [(Outer::Sum, 9), (Outer::Least, 2), (Outer::Greatest, 7)] {
            let folds = folds(outer, true);
            let mut table = SumTable::new(3, &folds);
            for (node, n) in [(1, 7), (1, 2), (2, 5)] {
                table.add(node, 1, &[Some(Number::Whole(n))]).unwrap();
            }
            assert_eq!(table.paths, [0, 2, 1]);
            assert_eq!(table.numbers_of(0), [None]);
            assert_eq!(table.numbers_of(1), [Some(Number::Whole(wanted))]);
            table.clear(1);
            assert_eq!(table.sums(1).paths, 0);
            assert_eq!(table.numbers_of(2), [Some(Number::Whole(5))]);
        }
    }

    #[test]
    fn paths_past_all_numbers_are_an_error_only_where_they_are_counted() {
        for counted in [true, false] {
            let folds = folds(Outer::Greatest, counted);
            let mut table = SumTable::new(1, &folds);
            table.add(0, u128::MAX - 1, &[Some(Number::Whole(1))]).unwrap();
            assert_eq!(table.add(0, 9, &[Some(Number::Whole(3))]).is_some(), !counted);
            if !counted {
                assert_eq!(table.numbers_of(0), [Some(Number::Whole(3))]);
                // Nobody knows how many there are, so that nothing can be multiplied with it.
                assert_eq!(Number::Float(1.0).count(table.paths[0]), None);
            }
        }
    }

    #[test]
    fn values_stay_of_one_kind() {
        let mut values = Values::Whole(vec![]);
        assert!(values.extend(Values::Float(vec![0.5])));
        assert!(!values.extend(Values::Whole(vec![1])));
        assert!(values.extend(Values::Whole(vec![])));
        assert!(values.extend(Values::Float(vec![1.5])));
        assert_eq!([values.get(0), values.get(1)], [Number::Float(0.5), Number::Float(1.5)]);
    }
}
