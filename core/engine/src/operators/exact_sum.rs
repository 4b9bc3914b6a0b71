//! Sums of floats that are rounded once, at the end: whatever the order of the values and however they are put
//! together in parts, the sum is the same to the last bit. Each value is added to the band of its exponent as a
//! whole number (after Neal 2015, "Fast exact summation using small and large superaccumulators").

use graphodrome_graph::GraphError;

use crate::operators::values::out_of_range;

/// Exponents of a band. A value takes up to 53 + 31 bits of one, so that 2^42 fit before any is carried over.
const BAND_BITS: u32 = 32;
const FRACTION_BITS: u32 = 52;
const EXPONENTS: u64 = 0x7ff;

/// A sum of floats: of every band that is not empty, a whole number of units of 2^(32 band - 1075).
#[derive(Clone, Debug, Default)]
pub(crate) struct FloatSum {
    /// The band that came first, which mostly is the only one.
    band: u32,
    units: i128,
    others: Vec<(u32, i128)>,
    /// The sum of infinities and NaN, where there was one.
    special: Option<f64>,
}

impl FloatSum {
    #[inline]
    pub fn add(&mut self, x: f64) {
        match parts(x) {
            Some((band, units)) => self.put(band, units),
            None => self.see_special(x),
        }
    }

    /// Adds a number so many times.
    pub fn add_times(&mut self, x: f64, times: u64) {
        if times == 0 {
            return;
        }
        let Some((band, units)) = parts(x) else { return self.see_special(x) };
        // 2^32 times a unit is one of the next band.
        let (low, high) = (times & 0xffff_ffff, times >> BAND_BITS);
        self.put(band, units * i128::from(low));
        self.put(band + 1, units * i128::from(high));
    }

    /// Adds what was added up elsewhere.
    pub fn merge(&mut self, other: &FloatSum) {
        self.put(other.band, other.units);
        other.others.iter().for_each(|(band, units)| self.put(*band, *units));
        if let Some(special) = other.special {
            self.see_special(special);
        }
    }

    /// Bytes beside its own size.
    pub fn bytes(&self) -> usize {
        self.others.capacity() * size_of::<(u32, i128)>()
    }

    #[cold]
    fn see_special(&mut self, x: f64) {
        self.special = Some(self.special.unwrap_or(0.0) + x);
    }

    #[inline]
    fn put(&mut self, band: u32, units: i128) {
        if units == 0 {
            return;
        }
        if self.units == 0 && self.others.is_empty() {
            self.band = band;
        }
        let own = match band == self.band {
            true => &mut self.units,
            false => other(&mut self.others, band),
        };
        match own.checked_add(units) {
            // The least has no opposite.
            Some(sum) if sum != i128::MIN => *own = sum,
            _ => self.put_both(band, units),
        }
    }

    /// Adds to a band that is full: both go on to the next one, but for what is below its unit.
    #[cold]
    fn put_both(&mut self, band: u32, units: i128) {
        let own = match band == self.band {
            true => &mut self.units,
            false => other(&mut self.others, band),
        };
        let low = (*own & 0xffff_ffff) + (units & 0xffff_ffff);
        let high = (*own >> BAND_BITS, units >> BAND_BITS);
        *own = low;
        self.put(band + 1, high.0);
        self.put(band + 1, high.1);
    }

    /// The nearest float, of two that are as near the one with an even last digit; an error where it is too large.
    pub fn total(&self) -> Result<f64, GraphError> {
        if let Some(special) = self.special {
            return Ok(special);
        }
        let mut bands = self.others.clone();
        bands.push((self.band, self.units));
        bands.sort_unstable();
        let negative = is_negative(&bands);
        if negative {
            bands.iter_mut().for_each(|(_, units)| *units = -*units);
        }
        let magnitude = rounded(&digits(&bands)).ok_or_else(out_of_range)?;
        Ok(if negative { -magnitude } else { magnitude })
    }
}

/// A band other than the first one.
fn other(others: &mut Vec<(u32, i128)>, band: u32) -> &mut i128 {
    let place = match others.iter().position(|(known, _)| *known == band) {
        Some(place) => place,
        None => {
            others.push((band, 0));
            others.len() - 1
        }
    };
    &mut others[place].1
}

/// The band of a finite float, and how many of its units it is.
#[inline]
fn parts(x: f64) -> Option<(u32, i128)> {
    let bits = x.to_bits();
    let exponent = bits >> FRACTION_BITS & EXPONENTS;
    if exponent == EXPONENTS {
        return None;
    }
    let fraction = bits & ((1 << FRACTION_BITS) - 1) | u64::from(exponent != 0) << FRACTION_BITS;
    // Those without a leading one have the exponent of the smallest that have it.
    let exponent = exponent.max(1) as u32;
    let units = i128::from(fraction) << (exponent % BAND_BITS);
    Some((exponent / BAND_BITS, if x.is_sign_negative() { -units } else { units }))
}

/// The sign of the sum of bands in their order: that of what is carried up to the last.
fn is_negative(bands: &[(u32, i128)]) -> bool {
    let (mut carry, mut at) = (0i128, 0);
    for (band, units) in bands {
        // Over bands that are empty; after four of them it is 0 or -1.
        carry = (at..*band).take(4).fold(carry, |carry, _| carry >> BAND_BITS);
        carry = added(carry, *units).1;
        at = band + 1;
    }
    carry < 0
}

/// The digit of a sum, and what is carried from it.
fn added(a: i128, b: i128) -> (u32, i128) {
    let low = (a & 0xffff_ffff) + (b & 0xffff_ffff);
    (low as u32, (a >> BAND_BITS) + (b >> BAND_BITS) + (low >> BAND_BITS))
}

/// A sum that is not negative in digits of 32 bits, the lowest first, in units of 2^-1075.
fn digits(bands: &[(u32, i128)]) -> Vec<u32> {
    let mut digits = vec![];
    let mut carry = 0i128;
    for (band, units) in bands {
        while (digits.len() as u32) < *band {
            digits.push(carry as u32);
            carry >>= BAND_BITS;
        }
        let (digit, over) = added(carry, *units);
        digits.push(digit);
        carry = over;
    }
    while carry > 0 {
        digits.push(carry as u32);
        carry >>= BAND_BITS;
    }
    digits
}

/// The nearest float to a number in units of 2^-1075; `None` where it is too large.
fn rounded(digits: &[u32]) -> Option<f64> {
    let Some(last) = digits.iter().rposition(|digit| *digit != 0) else { return Some(0.0) };
    let length = 32 * last as u32 + (32 - digits[last].leading_zeros());
    // Every float is an even number of these units.
    let dropped = length.saturating_sub(FRACTION_BITS + 1).max(1);
    if dropped >= EXPONENTS as u32 {
        return None;
    }
    let bit = |at: u32| digits[(at / 32) as usize] >> (at % 32) & 1;
    let mut kept = (dropped..length).rev().fold(0u64, |kept, at| kept << 1 | u64::from(bit(at)));
    let half = bit(dropped - 1) == 1;
    let more = half && (0..dropped - 1).any(|at| bit(at) == 1);
    if half && (more || kept & 1 == 1) {
        kept += 1;
    }
    // The leading one is the exponent's lowest bit, so that what is carried into it is right.
    let result = f64::from_bits((u64::from(dropped - 1) << FRACTION_BITS) + kept);
    result.is_finite().then_some(result)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use proptest::prelude::*;

    fn sum(values: &[f64]) -> FloatSum {
        let mut sum = FloatSum::default();
        values.iter().for_each(|x| sum.add(*x));
        sum
    }

    /// Shewchuk's growing expansion (1997), whose parts do not overlap, and its sum rounded half to even.
    fn expansion(values: &[f64]) -> f64 {
        let mut parts: Vec<f64> = vec![];
        for &value in values {
            let (mut x, mut kept) = (value, vec![]);
            for &part in &parts {
                let (a, b) = if x.abs() < part.abs() { (part, x) } else { (x, part) };
                let high = a + b;
                let low = b - (high - a);
                if low != 0.0 {
                    kept.push(low);
                }
                x = high;
            }
            kept.push(x);
            parts = kept;
        }
        let Some(mut high) = parts.pop() else { return 0.0 };
        let mut low = 0.0;
        while let Some(part) = parts.pop() {
            let x = high;
            high = x + part;
            low = part - (high - x);
            if low != 0.0 {
                break;
            }
        }
        // Half way between two floats the next part says which is nearer.
        if let Some(next) = parts.last()
            && (low < 0.0 && *next < 0.0 || low > 0.0 && *next > 0.0)
        {
            let twice = low * 2.0;
            let further = high + twice;
            if twice == further - high {
                high = further;
            }
        }
        high
    }

    #[test]
    fn sums_are_rounded_once() {
        assert_eq!(sum(&[]).total(), Ok(0.0));
        assert_eq!(sum(&[0.1; 10]).total(), Ok(1.0));
        assert_eq!(sum(&[1e100, 1.0, -1e100]).total(), Ok(1.0));
        assert_eq!(sum(&[f64::MAX, f64::MAX, -f64::MAX]).total(), Ok(f64::MAX));
        assert!(sum(&[f64::MAX, f64::MAX]).total().is_err());
        assert_eq!(sum(&[f64::MAX, f64::MAX.next_down() - f64::MAX]).total(), Ok(f64::MAX.next_down()));
        // Just below and at half of the last digit above the greatest.
        let half = 2f64.powi(970);
        assert!(sum(&[f64::MAX, half]).total().is_err());
        assert_eq!(sum(&[f64::MAX, half.next_down()]).total(), Ok(f64::MAX));
        let least = f64::from_bits(1);
        assert_eq!(sum(&[least, least, -least]).total(), Ok(least));
        assert_eq!(sum(&[f64::MIN_POSITIVE, -least]).total(), Ok(f64::MIN_POSITIVE - least));
        assert_eq!(sum(&[-1.0, 2f64.powi(-80)]).total(), Ok(-1.0));
        assert_eq!(sum(&[-2f64.powi(-80), 1.0]).total(), Ok(1.0));
        assert_eq!(sum(&[1.0, -1.0]).total(), Ok(0.0));
        assert_eq!(sum(&[f64::INFINITY, 1.0]).total(), Ok(f64::INFINITY));
        assert!(sum(&[f64::INFINITY, f64::NEG_INFINITY]).total().unwrap().is_nan());
    }

    #[test]
    fn what_is_added_very_often_is_carried_over() {
        for x in [0.1, -3.5e300, 5e-324, -1.75] {
            let mut often = FloatSum::default();
            often.add_times(x, u64::MAX);
            often.add_times(-x, u64::MAX - 3);
            assert_eq!(often.total(), sum(&[x, x, x]).total(), "{x}");
        }
        let mut full = FloatSum::default();
        for _ in 0..5 {
            full.units = i128::MAX / 2;
            full.band = 40;
            full.add_times(f64::from_bits((40 * 32) << 52), 1 << 40);
        }
        assert!(full.total().unwrap() > 0.0);
    }

    proptest! {
        #[test]
        fn it_is_what_an_expansion_comes_to(
            values in prop::collection::vec(prop_oneof![
                (-1e300f64..1e300), (-1.0f64..1.0), (-1e-300f64..1e-300),
                prop::num::f64::NORMAL.prop_map(|x| x / 1e30), prop::num::f64::SUBNORMAL,
            ], 0..12)
        ) {
            // Beside its opposite each but the last vanishes.
            let opposites: Vec<f64> = values.iter().skip(1).map(|x| -x).collect();
            prop_assert_eq!(sum(&values).total().unwrap().to_bits() << 1, expansion(&values).to_bits() << 1);
            let all: Vec<f64> = values.iter().copied().chain(opposites).collect();
            let first = values.first().copied().unwrap_or(0.0);
            prop_assert_eq!(sum(&all).total().unwrap(), first);
        }

        #[test]
        fn neither_order_nor_parts_matter(
            values in prop::collection::vec(any::<f64>().prop_filter("finite", |x| x.is_finite()), 0..20),
            times in prop::collection::vec(0u64..1000, 20), cut in 0usize..20,
        ) {
            let mut whole = FloatSum::default();
            let mut one_by_one = FloatSum::default();
            for (x, n) in values.iter().zip(&times) {
                whole.add_times(x / 1e6, *n);
                (0..*n).for_each(|_| one_by_one.add(x / 1e6));
            }
            let (mut left, mut right) = (FloatSum::default(), FloatSum::default());
            for (place, (x, n)) in values.iter().zip(&times).enumerate().rev() {
                if place < cut { left.add_times(x / 1e6, *n) } else { right.add_times(x / 1e6, *n) }
            }
            right.merge(&left);
            prop_assert_eq!(whole.total(), one_by_one.total());
            prop_assert_eq!(whole.total(), right.total());
        }
    }
}
