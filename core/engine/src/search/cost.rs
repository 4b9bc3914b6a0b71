//! Cost of a path so far: hops, or the sum of its weights, added so that the result does not depend on the order.
//! Ties are exact, and the cheaper of two long paths is chosen from whichever end a search begins.

use std::cmp::Ordering;

use graphodrome_graph::{Decimal, Value};

/// Floats are added as multiples of 2^-80, of which all floats from 2^-28 to 2^40 are: their sums are exact and
/// do not depend on their order. What lies below is rounded to such a multiple.
const BINARY_PLACES: i32 = 80;
/// Greater floats are added as floats.
const LARGEST_BINARY: f64 = (1u64 << 40) as f64;

#[derive(Clone, Copy, Debug)]
pub(crate) struct Cost {
    exact: Decimal,
    /// In units of 2^-80.
    binary: i128,
    /// What is too large for these.
    rough: f64,
}

/// Why a weight cannot be added.
pub(crate) enum BadWeight {
    /// The edge has none, and cannot be taken.
    Null,
    /// It is no number from 0 up.
    Wrong,
    /// The sum is out of range.
    TooLarge,
}

impl Cost {
    pub const ZERO: Cost = Cost { exact: Decimal::ZERO, binary: 0, rough: 0.0 };

    /// So many of 2^-`bits`, less what comparing with other kinds of numbers may round off.
    pub fn at_least(ticks: u64, bits: i32) -> Cost {
        let number = (ticks - (ticks >> 40)) as f64 * 2f64.powi(-bits) * (1.0 - 1e-15);
        Cost::of(&Value::Float(number)).unwrap_or(Cost::ZERO)
    }

    /// One hop more.
    pub fn hop(self) -> Cost {
        let exact = self.exact.checked_add(Decimal::from(1)).unwrap_or(self.exact);
        Cost { exact, ..self }
    }

    pub fn of(weight: &Value) -> Result<Cost, BadWeight> {
        match weight {
            Value::Null => Err(BadWeight::Null),
            Value::Int(i) if *i >= 0 => Ok(Cost { exact: Decimal::from(*i), ..Cost::ZERO }),
            Value::Decimal(d) if !d.is_negative() => Ok(Cost { exact: *d, ..Cost::ZERO }),
            Value::Float(f) if f.is_infinite() && *f > 0.0 => Err(BadWeight::TooLarge),
            Value::Float(f) if *f >= LARGEST_BINARY => Ok(Cost { rough: *f, ..Cost::ZERO }),
            Value::Float(f) if *f >= 0.0 => {
                Ok(Cost { binary: (f * 2f64.powi(BINARY_PLACES)) as i128, ..Cost::ZERO })
            }
            _ => Err(BadWeight::Wrong),
        }
    }

    pub fn plus(self, weight: &Value) -> Result<Cost, BadWeight> {
        self.and(Cost::of(weight)?).ok_or(BadWeight::TooLarge)
    }

    /// Both together; `None` where that is out of range.
    pub fn and(self, other: Cost) -> Option<Cost> {
        let exact = self.exact.checked_add(other.exact)?;
        let rough = self.rough + other.rough;
        if !rough.is_finite() {
            return None;
        }
        Some(Cost { exact, binary: self.binary.checked_add(other.binary)?, rough })
    }

    /// All of it in units of 2^-80, where that is exact.
    fn in_units(&self) -> Option<i128> {
        if self.exact.is_zero() && self.rough == 0.0 {
            return Some(self.binary);
        }
        if self.exact.scale() != 0 || self.rough != 0.0 || self.exact.coefficient() >= 1 << 46 {
            return None;
        }
        (self.exact.coefficient() << BINARY_PLACES).checked_add(self.binary)
    }

    /// As one number: exact where no float was added, and whole where it is, as sums of whole numbers are.
    pub fn value(&self) -> Value {
        if self.binary != 0 || self.rough != 0.0 {
            return Value::Float(self.total());
        }
        let whole = i64::try_from(self.exact.coefficient()).ok().filter(|_| self.exact.scale() == 0);
        whole.map_or(Value::Decimal(self.exact), Value::Int)
    }

    fn total(&self) -> f64 {
        let unit = 2f64.powi(-BINARY_PLACES);
        match self.in_units() {
            Some(units) => units as f64 * unit,
            None => self.exact.to_f64() + self.binary as f64 * unit + self.rough,
        }
    }
}

impl PartialEq for Cost {
    fn eq(&self, other: &Cost) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Cost {}

impl PartialOrd for Cost {
    fn partial_cmp(&self, other: &Cost) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Cost {
    /// By what was added exactly where that is one kind of number. Decimals with places beside floats are
    /// compared by their rounded totals, and among equal ones by their parts: rounding keeps the order, so that
    /// this is one order for all costs.
    fn cmp(&self, other: &Cost) -> Ordering {
        if [self, other].iter().all(|cost| cost.binary == 0 && cost.rough == 0.0) {
            return self.exact.cmp(&other.exact);
        }
        let units = (self.in_units(), other.in_units());
        if let (Some(a), Some(b)) = units {
            return a.cmp(&b);
        }
        self.total()
            .total_cmp(&other.total())
            .then_with(|| units.0.is_none().cmp(&units.1.is_none()))
            .then_with(|| (self.exact, self.binary).cmp(&(other.exact, other.binary)))
            .then_with(|| self.rough.total_cmp(&other.rough))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn decimals_and_whole_numbers_are_added_exactly() {
        let d = |text: &str| Value::Decimal(text.parse().expect("decimal"));
        let plus = |cost: Cost, value: &Value| cost.plus(value).ok().expect("a weight");
        let thrice = plus(plus(Cost::ZERO, &d("0.1")), &d("0.2"));
        assert_eq!(thrice, plus(Cost::ZERO, &d("0.3")));
        let near = plus(Cost::ZERO, &Value::Int(9_007_199_254_740_993));
        assert!(near > plus(plus(Cost::ZERO, &Value::Int(9_007_199_254_740_991)), &Value::Int(1)));
        assert!(plus(near, &Value::Float(4.0)) > near);
        assert!(matches!(Cost::ZERO.plus(&Value::Int(-1)), Err(BadWeight::Wrong)));
        assert!(matches!(Cost::ZERO.plus(&Value::Float(f64::NAN)), Err(BadWeight::Wrong)));
        assert!(matches!(Cost::ZERO.plus(&Value::Null), Err(BadWeight::Null)));
    }
    #[test]
    fn the_sum_of_floats_does_not_depend_on_their_order() {
        let sum = |weights: &[f64]| {
            weights.iter().fold(Cost::ZERO, |cost, w| cost.plus(&Value::Float(*w)).ok().expect("a weight"))
        };
        assert_eq!(sum(&[0.1, 0.2, 0.3]), sum(&[0.3, 0.2, 0.1]));
        assert_eq!(sum(&[1e9, 1e-3, 1e-3]), sum(&[1e-3, 1e-3, 1e9]));
        assert!(sum(&[1e9, 1e-7]) > sum(&[1e9]));
        assert!(sum(&[1e300, 1e300]) > sum(&[1e300]));
        // A whole number and a float are added as what they are worth.
        let whole = Cost::ZERO.plus(&Value::Int(2)).ok().expect("a weight");
        let both = whole.plus(&Value::Float(0.5)).ok().expect("a weight");
        assert_eq!(both, sum(&[1.25, 1.25]));
        let decimal =
            Cost::ZERO.plus(&Value::Decimal("0.25".parse().expect("decimal"))).ok().expect("a weight");
        assert!(decimal.and(sum(&[0.25])).expect("in range") < sum(&[0.75]));
    }
}
