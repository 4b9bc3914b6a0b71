//! Values that are kept until the end: of one type side by side, as long as they are of one. The percentiles of numbers.

use std::cmp::Ordering;
use std::ops::Range;

use graphodrome_graph::Value;

use crate::operators::values::between_equals;

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Items {
    Values(Vec<Value>),
    Ints(Vec<i64>),
    Floats(Vec<f64>),
}

/// The order of floats among values: NaN is above every number, and of the zeros the one with a sign is the less.
pub(super) fn float_order(a: f64, b: f64) -> Ordering {
    match (a.is_nan(), b.is_nan()) {
        (false, false) => a.total_cmp(&b),
        (a, b) => a.cmp(&b),
    }
}

impl Items {
    pub fn len(&self) -> usize {
        match self {
            Items::Values(all) => all.len(),
            Items::Ints(all) => all.len(),
            Items::Floats(all) => all.len(),
        }
    }

    /// Some of them, in their order.
    pub fn part(&self, range: Range<usize>) -> Items {
        match self {
            Items::Values(all) => Items::Values(all[range].to_vec()),
            Items::Ints(all) => Items::Ints(all[range].to_vec()),
            Items::Floats(all) => Items::Floats(all[range].to_vec()),
        }
    }

    pub fn push(&mut self, value: Value) {
        match (&mut *self, value) {
            (Items::Ints(all), Value::Int(int)) => all.push(int),
            (Items::Floats(all), Value::Float(float)) => all.push(float),
            (Items::Values(all), value) => all.push(value),
            (_, value) => self.extend(Items::Values(vec![value])),
        }
    }

    pub fn extend(&mut self, more: Items) {
        match (&mut *self, more) {
            (Items::Ints(all), Items::Ints(more)) => all.extend(more),
            (Items::Floats(all), Items::Floats(more)) => all.extend(more),
            (Items::Values(all), Items::Values(more)) => all.extend(more),
            (all, more) if all.len() == 0 => *self = more,
            (all, more) => {
                let mut values = std::mem::replace(all, Items::Values(vec![])).into_values();
                values.extend(more.into_values());
                *self = Items::Values(values);
            }
        }
    }

    pub fn into_values(self) -> Vec<Value> {
        match self {
            Items::Values(all) => all,
            Items::Ints(all) => all.into_iter().map(Value::Int).collect(),
            Items::Floats(all) => all.into_iter().map(Value::Float).collect(),
        }
    }

    /// Bytes held, but for what values hold elsewhere.
    pub fn bytes(&self) -> usize {
        match self {
            Items::Values(all) => size_of::<Value>() * all.capacity(),
            Items::Ints(all) => 8 * all.capacity(),
            Items::Floats(all) => 8 * all.capacity(),
        }
    }

    /// Between the two values nearest to the share, or (discrete) the first value that has it. There is at least one.
    pub fn percentile(self, share: f64, discrete: bool) -> Value {
        match self {
            Items::Values(mut all) => {
                let order = |a: &Value, b: &Value| a.order(b).then_with(|| between_equals(a, b));
                let number = |value: &Value| value.as_f64().unwrap_or(f64::NAN);
                let [low, high, rest] = places(all.len(), share, discrete);
                let (low, high) = nearest(&mut all, low as usize, high as usize, order);
                match discrete {
                    true => low,
                    false => Value::Float(number(&low) + (number(&high) - number(&low)) * rest),
                }
            }
            Items::Ints(mut all) => {
                let [low, high, rest] = places(all.len(), share, discrete);
                let (low, high) = nearest(&mut all, low as usize, high as usize, i64::cmp);
                match discrete {
                    true => Value::Int(low),
                    false => Value::Float(low as f64 + (high as f64 - low as f64) * rest),
                }
            }
            Items::Floats(mut all) => {
                let [low, high, rest] = places(all.len(), share, discrete);
                let order = |a: &f64, b: &f64| float_order(*a, *b);
                let (low, high) = nearest(&mut all, low as usize, high as usize, order);
                Value::Float(if discrete { low } else { low + (high - low) * rest })
            }
        }
    }
}

/// The places of the two values between which the percentile lies, and how far it is from the first.
fn places(len: usize, share: f64, discrete: bool) -> [f64; 3] {
    if discrete {
        let place = (share * len as f64).ceil().clamp(1.0, len as f64) - 1.0;
        return [place, place, 0.0];
    }
    let at = share * (len - 1) as f64;
    [at.floor(), at.ceil(), at - at.floor()]
}

/// The values at these two places of the order, of which the second is the first or the next one.
fn nearest<T: Clone>(
    all: &mut [T], low: usize, high: usize, order: impl Fn(&T, &T) -> Ordering + Copy,
) -> (T, T) {
    let (_, first, after) = all.select_nth_unstable_by(low, order);
    let next = after.iter().min_by(|a, b| order(a, b)).filter(|_| high > low);
    (first.clone(), next.unwrap_or(first).clone())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use proptest::prelude::*;

    /// By sorting all of them.
    fn by_hand(values: &[Value], share: f64, discrete: bool) -> Value {
        let mut values = values.to_vec();
        values.sort_by(|a, b| a.order(b).then_with(|| between_equals(a, b)));
        let n = values.len();
        if discrete {
            return values[((share * n as f64).ceil() as usize).clamp(1, n) - 1].clone();
        }
        let at = share * (n - 1) as f64;
        let number = |i: usize| values[i].as_f64().unwrap();
        let (low, high) = (number(at.floor() as usize), number(at.ceil() as usize));
        Value::Float(low + (high - low) * (at - at.floor()))
    }

    fn same(a: &Value, b: &Value) -> bool {
        match (a, b) {
            (Value::Float(a), Value::Float(b)) => a.to_bits() == b.to_bits() || a.is_nan() && b.is_nan(),
            _ => a == b,
        }
    }

    proptest! {
        #[test]
        fn percentiles_are_those_of_the_sorted_values(
            ints in prop::collection::vec(-9i64..9, 1..40), kinds in prop::collection::vec(0..4, 40), share in 0f64..=1.0,
            mixed in any::<bool>(), discrete in any::<bool>()
        ) {
            let float = |n: i64| match n {
                7 => f64::NAN,
                8 => -0.0,
                -9 => f64::INFINITY,
                n => n as f64 / 4.0,
            };
            let of_kind = |(n, kind): (&i64, &i32)| match (mixed, kinds[0], kind) {
                (false, 0 | 1, _) | (true, _, 0 | 1) => Value::Int(*n),
                _ => Value::Float(float(*n)),
            };
            let values: Vec<Value> = ints.iter().zip(&kinds).map(of_kind).collect();
            let mut items = Items::Values(vec![]);
            // As columns bring them, and one by one.
            for (i, value) in values.iter().enumerate() {
                match value {
                    Value::Int(n) if i % 3 > 0 => items.extend(Items::Ints(vec![*n])),
                    Value::Float(f) if i % 3 > 0 => items.extend(Items::Floats(vec![*f])),
                    value => items.push(value.clone()),
                }
            }
            prop_assert_eq!(items.len(), values.len());
            let (found, wanted) = (items.percentile(share, discrete), by_hand(&values, share, discrete));
            prop_assert!(same(&found, &wanted), "{:?} of {:?}: {:?}, {:?}", share, values, found, wanted);
        }
    }
}
