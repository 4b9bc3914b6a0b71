//! Sums and products whose result does not depend on the order of the values, as far as it is exact: whole
//! numbers and decimals are added without overflow on the way, floats without rounding, and the types are put
//! together at the end.

use graphodrome_graph::{Code, Decimal, DecimalSum, Duration, GraphError, Value};

use crate::operators::exact_sum::FloatSum;
use crate::operators::values::{not_a_number, out_of_range};

#[derive(Clone, Debug, Default)]
pub(crate) struct RunningSum {
    ints: i128,
    decimals: Option<DecimalSum>,
    floats: Option<FloatSum>,
    /// Months and nanoseconds.
    durations: Option<(i128, i128)>,
    numbers: bool,
}

impl RunningSum {
    /// Adds whole numbers that were added up elsewhere.
    pub fn add_whole(&mut self, sum: i128) -> Result<(), GraphError> {
        self.ints = self.ints.checked_add(sum).ok_or_else(out_of_range)?;
        self.check_kinds(&Value::Int(0))
    }

    /// Adds decimals of one scale whose coefficients were added up elsewhere.
    pub fn add_decimals(&mut self, coefficient: i128, scale: u8) -> Result<(), GraphError> {
        let sum = Decimal::of(coefficient, scale.into()).ok_or_else(out_of_range)?;
        self.decimals.get_or_insert_default().add(sum).ok_or_else(out_of_range)?;
        self.check_kinds(&Value::Decimal(sum))
    }

    /// Adds floats that were added up elsewhere.
    pub fn add_floats(&mut self, sum: &FloatSum) -> Result<(), GraphError> {
        self.floats.get_or_insert_default().merge(sum);
        self.check_kinds(&Value::Float(0.0))
    }

    /// Adds what was added up elsewhere.
    pub fn merge(&mut self, other: &RunningSum) -> Result<(), GraphError> {
        self.ints = self.ints.checked_add(other.ints).ok_or_else(out_of_range)?;
        if let Some(decimals) = &other.decimals {
            self.decimals.get_or_insert_default().merge(decimals).ok_or_else(out_of_range)?;
        }
        if let Some(floats) = &other.floats {
            self.floats.get_or_insert_default().merge(floats);
        }
        if let Some((months, nanoseconds)) = other.durations {
            let own = self.durations.get_or_insert_default();
            *own = (own.0 + months, own.1 + nanoseconds);
        }
        self.numbers |= other.numbers;
        if self.numbers && self.durations.is_some() {
            return Err(GraphError::new(Code::WRONG_TYPE, "numbers and durations cannot be added"));
        }
        Ok(())
    }

    /// Adds a value so many times.
    pub fn add_times(&mut self, value: &Value, times: u64) -> Result<(), GraphError> {
        match value {
            Value::Int(i) => {
                let all = i128::from(*i) * i128::from(times);
                self.ints = self.ints.checked_add(all).ok_or_else(out_of_range)?;
            }
            Value::Decimal(d) => {
                let times = Decimal::of(i128::from(times), 0).ok_or_else(out_of_range)?;
                let all = d.checked_mul(times).ok_or_else(out_of_range)?;
                self.decimals.get_or_insert_default().add(all).ok_or_else(out_of_range)?;
            }
            Value::Float(f) => self.floats.get_or_insert_default().add_times(*f, times),
            _ => return (0..times).try_for_each(|_| self.add(value)),
        }
        self.check_kinds(value)
    }

    pub fn add(&mut self, value: &Value) -> Result<(), GraphError> {
        match value {
            Value::Int(i) => self.ints += i128::from(*i),
            Value::Decimal(d) => {
                let sum = self.decimals.get_or_insert_default();
                sum.add(*d).ok_or_else(out_of_range)?;
            }
            Value::Float(f) => self.floats.get_or_insert_default().add(*f),
            Value::Duration(d) => {
                let (months, nanoseconds) = self.durations.get_or_insert_default();
                *months += i128::from(d.months);
                *nanoseconds += i128::from(d.nanoseconds);
            }
            other => return Err(not_a_number(other)),
        }
        self.check_kinds(value)
    }

    /// Numbers and durations have no sum.
    fn check_kinds(&mut self, value: &Value) -> Result<(), GraphError> {
        self.numbers |= value.is_number();
        if self.numbers && self.durations.is_some() {
            return Err(GraphError::new(
                Code::WRONG_TYPE,
                format!("numbers and durations cannot be added: found {}", value.excerpt()),
            ));
        }
        Ok(())
    }

    /// Whole numbers and decimals together.
    fn exact(&self) -> Result<Decimal, GraphError> {
        let mut sum = self.decimals.clone().unwrap_or_default();
        let ints = Decimal::of(self.ints, 0).ok_or_else(out_of_range)?;
        sum.add(ints).and_then(|()| sum.finish()).ok_or_else(out_of_range)
    }

    fn float(&self) -> Result<f64, GraphError> {
        let mut floats = self.floats.clone().unwrap_or_default();
        if self.decimals.is_some() {
            floats.add(self.exact()?.to_f64());
        } else {
            floats.add(self.ints as f64);
        }
        floats.total()
    }

    pub fn finish(&self) -> Result<Value, GraphError> {
        if let Some((months, nanoseconds)) = self.durations {
            return duration(months, nanoseconds);
        }
        if self.floats.is_some() {
            return Ok(Value::Float(self.float()?));
        }
        if self.decimals.is_some() {
            return Ok(Value::Decimal(self.exact()?));
        }
        Ok(Value::Int(i64::try_from(self.ints).map_err(|_| out_of_range())?))
    }

    /// The mean of so many values: of decimals a DECIMAL, of other numbers a FLOAT64.
    pub fn mean(&self, count: u64) -> Result<Value, GraphError> {
        let parts = i128::from(count);
        if let Some((months, nanoseconds)) = self.durations {
            if months % parts != 0 {
                let text =
                    format!("the mean of {months} months over {count} durations is not a whole number");
                return Err(GraphError::new(Code::DATA, text).hint("a part of a month has no fixed length"));
            }
            let mean =
                Decimal::of(nanoseconds, 0).zip(Decimal::of(parts, 0)).and_then(|(a, b)| a.checked_div(b));
            return duration(months / parts, mean.ok_or_else(out_of_range)?.round(0).coefficient());
        }
        if self.floats.is_none() && self.decimals.is_some() {
            let count = Decimal::of(parts, 0).ok_or_else(out_of_range)?;
            return Ok(Value::Decimal(self.exact()?.checked_div(count).ok_or_else(out_of_range)?));
        }
        Ok(Value::Float(self.float()? / count as f64))
    }
}

fn duration(months: i128, nanoseconds: i128) -> Result<Value, GraphError> {
    let out_of_range = |_| GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range");
    let months = i32::try_from(months).map_err(out_of_range)?;
    let nanoseconds = i64::try_from(nanoseconds).map_err(out_of_range)?;
    Ok(Value::Duration(Duration { months, nanoseconds }))
}

/// A product by types: a zero anywhere makes up for what would be too large without it.
#[derive(Clone, Debug)]
pub(crate) struct Product {
    /// `None` once they are out of range.
    ints: Option<i128>,
    decimals: Option<Decimal>,
    has_decimals: bool,
    floats: Option<f64>,
    /// The same as floats, for a result that is one.
    rest: f64,
    zero: bool,
}

impl Default for Product {
    fn default() -> Product {
        let one = Decimal::from(1);
        Product {
            ints: Some(1),
            decimals: Some(one),
            has_decimals: false,
            floats: None,
            rest: 1.0,
            zero: false,
        }
    }
}

impl Product {
    pub fn multiply(&mut self, value: &Value) -> Result<(), GraphError> {
        match value {
            Value::Int(i) => {
                self.ints = self.ints.and_then(|n| n.checked_mul((*i).into()));
                self.zero |= *i == 0;
                self.rest *= *i as f64;
            }
            Value::Decimal(d) => {
                self.has_decimals = true;
                self.decimals = self.decimals.and_then(|n| n.checked_mul(*d));
                self.zero |= d.is_zero();
                self.rest *= d.to_f64();
            }
            Value::Float(f) => *self.floats.get_or_insert(1.0) *= f,
            other => return Err(not_a_number(other)),
        }
        Ok(())
    }

    pub fn finish(&self) -> Result<Value, GraphError> {
        if let Some(floats) = self.floats {
            let product = floats * self.rest;
            let overflow = product.is_infinite() && floats.is_finite();
            return if overflow { Err(out_of_range()) } else { Ok(Value::Float(product)) };
        }
        if self.zero {
            return Ok(if self.has_decimals { Value::Decimal(Decimal::ZERO) } else { Value::Int(0) });
        }
        let ints = self.ints.ok_or_else(out_of_range)?;
        if !self.has_decimals {
            return Ok(Value::Int(i64::try_from(ints).map_err(|_| out_of_range())?));
        }
        let product = Decimal::of(ints, 0).zip(self.decimals).and_then(|(a, b)| a.checked_mul(b));
        Ok(Value::Decimal(product.ok_or_else(out_of_range)?))
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use proptest::prelude::*;

    fn sum(values: &[Value]) -> Result<Value, GraphError> {
        let mut sum = RunningSum::default();
        values.iter().try_for_each(|v| sum.add(v))?;
        sum.finish()
    }

    #[test]
    fn sums_overflow_only_where_the_result_does() {
        let (max, one) = (Value::Int(i64::MAX), Value::Int(1));
        assert_eq!(sum(&[max.clone(), one.clone(), Value::Int(-1)]), Ok(max.clone()));
        assert_eq!(sum(&[max.clone(), one]).unwrap_err().code, Code::NUMBER_OUT_OF_RANGE);
        let mut mean = RunningSum::default();
        mean.add(&max).unwrap();
        mean.add(&max).unwrap();
        assert_eq!(mean.mean(2), Ok(Value::Float(i64::MAX as f64)));
        let text = sum(&[Value::Float(f64::MAX), Value::Float(f64::MAX)]);
        assert_eq!(text.unwrap_err().code, Code::NUMBER_OUT_OF_RANGE);
        assert_eq!(sum(&[Value::Float(f64::INFINITY), Value::Float(1.0)]), Ok(Value::Float(f64::INFINITY)));
        assert!(sum(&[Value::Int(1), Value::Duration(Duration { months: 1, nanoseconds: 0 })]).is_err());
    }

    #[test]
    fn a_zero_makes_up_for_what_is_too_large() {
        let mut product = Product::default();
        for n in [i64::MAX, i64::MAX, i64::MAX, 0] {
            product.multiply(&Value::Int(n)).unwrap();
        }
        assert_eq!(product.finish(), Ok(Value::Int(0)));
    }

    proptest! {
        #[test]
        fn the_order_of_exact_values_does_not_matter(values in prop::collection::vec((any::<i64>(), 0u32..5, any::<bool>()), 0..20), at in 0usize..20) {
            let mut values: Vec<Value> = values
                .into_iter()
                .map(|(n, scale, whole)| match whole {
                    true => Value::Int(n),
                    false => Value::Decimal(Decimal::of(n.into(), scale).unwrap()),
                })
                .collect();
            let before = sum(&values);
            let len = values.len().max(1);
            let at = (at % len).min(values.len());
            values.rotate_left(at);
            values.reverse();
            prop_assert_eq!(before, sum(&values));
        }
    }
}
