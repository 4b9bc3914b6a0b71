//! What a path costs so far: hops, or the sum of its weights. Whole numbers and decimals are added exactly,
//! so that a tie is one and the cheaper of two long ways is taken; only floats are rounded.

use std::cmp::Ordering;

use graphodrome_graph::{Decimal, Value};

#[derive(Clone, Copy, Debug)]
pub(crate) struct Cost {
    exact: Decimal,
    float: f64,
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
    pub const ZERO: Cost = Cost { exact: Decimal::ZERO, float: 0.0 };

    /// One hop more.
    pub fn hop(self) -> Cost {
        let exact = self.exact.checked_add(Decimal::from(1)).unwrap_or(self.exact);
        Cost { exact, ..self }
    }

    pub fn plus(self, weight: &Value) -> Result<Cost, BadWeight> {
        let exact = match weight {
            Value::Null => return Err(BadWeight::Null),
            Value::Int(i) if *i >= 0 => Decimal::from(*i),
            Value::Decimal(d) if !d.is_negative() => *d,
            Value::Float(f) if *f >= 0.0 => {
                let float = self.float + f;
                return if float.is_finite() { Ok(Cost { float, ..self }) } else { Err(BadWeight::TooLarge) };
            }
            _ => return Err(BadWeight::Wrong),
        };
        Ok(Cost { exact: self.exact.checked_add(exact).ok_or(BadWeight::TooLarge)?, ..self })
    }

    fn total(&self) -> f64 {
        self.exact.to_f64() + self.float
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
    /// By the exact parts where nothing else is there. With floats by the rounded totals, and among equal ones
    /// by the exact parts: rounding keeps the order, so that this is one order for all costs.
    fn cmp(&self, other: &Cost) -> Ordering {
        if self.float == 0.0 && other.float == 0.0 {
            return self.exact.cmp(&other.exact);
        }
        self.total().total_cmp(&other.total()).then_with(|| self.exact.cmp(&other.exact))
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
}
