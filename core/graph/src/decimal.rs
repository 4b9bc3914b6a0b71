//! Exact decimal numbers of up to 38 digits: a whole coefficient and a scale, as SQL's DECIMAL has them.
//! Kept here because the libraries for it stop at 28 digits or allocate; intermediate results use the
//! 256-bit integers of `arrow-buffer`.
//!
//! Sums and products are exact where the result fits; otherwise fraction digits are rounded half to even
//! until it does, and a result whose whole part has more than 38 digits is out of range. Equality, order
//! and hash go by value: 1.0 is 1.00.

use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::str::FromStr;

use arrow_buffer::i256;

/// Digits of the coefficient.
pub const MAX_DIGITS: u32 = 38;

// Packed, so that a value of the language stays 24 bytes.
#[derive(Clone, Copy)]
#[repr(Rust, packed)]
pub struct Decimal {
    coefficient: i128,
    /// Digits after the point, at most [`MAX_DIGITS`].
    scale: u8,
}

/// Why a text is no decimal number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DecimalError {
    NotANumber,
    OutOfRange,
}

const fn powers() -> [i128; MAX_DIGITS as usize + 1] {
    let mut powers = [1i128; MAX_DIGITS as usize + 1];
    let mut i = 1;
    while i < powers.len() {
        powers[i] = powers[i - 1] * 10;
        i += 1;
    }
    powers
}

const POWERS: [i128; MAX_DIGITS as usize + 1] = powers();
const LIMIT: i128 = POWERS[MAX_DIGITS as usize];

fn power(digits: u32) -> i256 {
    match POWERS.get(digits as usize) {
        Some(power) => i256::from_i128(*power),
        None => i256::from_i128(10).wrapping_pow(digits),
    }
}

/// `n / d` rounded half to even; `d` is positive.
fn divide_rounded(n: i256, d: i256) -> i256 {
    let (quotient, rest) = n.wrapping_div_rem(d);
    let twice = rest.wrapping_abs().wrapping_add(rest.wrapping_abs());
    let up = match twice.cmp(&d) {
        Ordering::Less => false,
        Ordering::Greater => true,
        Ordering::Equal => quotient.as_i128() & 1 == 1,
    };
    match (up, n.is_negative()) {
        (false, _) => quotient,
        (true, false) => quotient.wrapping_add(i256::ONE),
        (true, true) => quotient.wrapping_sub(i256::ONE),
    }
}

impl Decimal {
    pub const ZERO: Decimal = Decimal { coefficient: 0, scale: 0 };

    /// `coefficient` divided by ten to the power of `scale`; `None` beyond 38 digits of either.
    pub fn of(coefficient: i128, scale: u32) -> Option<Decimal> {
        let fits = coefficient > -LIMIT && coefficient < LIMIT && scale <= MAX_DIGITS;
        fits.then_some(Decimal { coefficient, scale: scale as u8 })
    }

    /// A coefficient of any size, rounded to as many fraction digits as fit.
    fn rounded(coefficient: i256, scale: u32) -> Option<Decimal> {
        let digits = coefficient.wrapping_abs().checked_ilog10().map_or(1, |n| n + 1);
        let mut cut = scale.saturating_sub(MAX_DIGITS).max(digits.saturating_sub(MAX_DIGITS));
        loop {
            if cut > scale {
                return None;
            }
            let whole = if cut == 0 { coefficient } else { divide_rounded(coefficient, power(cut)) };
            if let Some(decimal) = whole.to_i128().and_then(|n| Decimal::of(n, scale - cut)) {
                return Some(decimal);
            }
            // Rounding carried into one digit more.
            cut += 1;
        }
    }

    pub fn coefficient(&self) -> i128 {
        self.coefficient
    }

    pub fn scale(&self) -> u32 {
        self.scale as u32
    }

    /// Digits of the coefficient, at least one.
    pub fn digits(&self) -> u32 {
        self.coefficient().unsigned_abs().checked_ilog10().map_or(1, |n| n + 1)
    }

    pub fn is_zero(&self) -> bool {
        self.coefficient() == 0
    }

    pub fn is_negative(&self) -> bool {
        self.coefficient() < 0
    }

    /// Without zeros at the end of the fraction.
    pub fn normalize(&self) -> Decimal {
        self.without_zeros(0)
    }

    /// Without zeros at the end of the fraction, which keeps so many digits.
    fn without_zeros(&self, least: u32) -> Decimal {
        let (mut coefficient, mut scale) = (self.coefficient(), self.scale());
        while scale > least && coefficient % 10 == 0 {
            coefficient /= 10;
            scale -= 1;
        }
        Decimal { coefficient, scale: scale as u8 }
    }

    /// Rounded half to even to `scale` fraction digits; a number with fewer stays as it is.
    pub fn round(&self, scale: u32) -> Decimal {
        if self.scale() <= scale {
            return *self;
        }
        let cut = POWERS[(self.scale() - scale) as usize];
        let whole = divide_rounded(i256::from_i128(self.coefficient()), i256::from_i128(cut));
        Decimal { coefficient: whole.as_i128(), scale: scale as u8 }
    }

    /// With exactly `scale` fraction digits: rounded, or with zeros added; `None` where it does not fit.
    pub fn rescale(&self, scale: u32) -> Option<Decimal> {
        if self.scale() >= scale {
            return Some(self.round(scale));
        }
        let factor = POWERS.get((scale - self.scale()) as usize)?;
        Decimal::of(self.coefficient().checked_mul(*factor)?, scale)
    }

    pub fn floor(&self) -> Decimal {
        let whole = self.coefficient().div_euclid(POWERS[self.scale() as usize]);
        Decimal { coefficient: whole, scale: 0 }
    }

    pub fn ceil(&self) -> Decimal {
        -(-*self).floor()
    }

    pub fn trunc(&self) -> Decimal {
        Decimal { coefficient: self.coefficient() / POWERS[self.scale() as usize], scale: 0 }
    }

    pub fn abs(&self) -> Decimal {
        Decimal { coefficient: self.coefficient().abs(), scale: self.scale }
    }

    pub fn is_whole(&self) -> bool {
        self.coefficient() % POWERS[self.scale() as usize] == 0
    }

    /// The whole number that it is; `None` where it has a fraction or is out of range.
    pub fn to_whole(&self) -> Option<i64> {
        let power = POWERS[self.scale() as usize];
        if self.coefficient() % power != 0 {
            return None;
        }
        i64::try_from(self.coefficient() / power).ok()
    }

    /// The nearest FLOAT64.
    pub fn to_f64(&self) -> f64 {
        const EXACT: u128 = 1 << 53;
        if self.coefficient().unsigned_abs() <= EXACT && self.scale <= 22 {
            // Both are exact, so that the quotient is rounded once.
            return self.coefficient() as f64 / POWERS[self.scale() as usize] as f64;
        }
        format!("{}e-{}", self.coefficient(), self.scale()).parse().unwrap_or(f64::NAN)
    }

    /// A FLOAT64 rounded half to even to `scale` fraction digits; `None` where it does not fit.
    pub fn from_f64(value: f64, scale: u32) -> Option<Decimal> {
        if !value.is_finite() {
            return None;
        }
        // The formatting of the standard library is exact.
        format!("{value:.0$}", scale as usize).parse().ok()
    }

    fn aligned(&self, other: &Decimal) -> (i256, i256, u32) {
        let scale = self.scale().max(other.scale());
        let widened = |d: &Decimal| i256::from_i128(d.coefficient()).wrapping_mul(power(scale - d.scale()));
        (widened(self), widened(other), scale)
    }

    pub fn checked_add(self, other: Decimal) -> Option<Decimal> {
        if self.scale == other.scale
            && let Some(sum) = self.coefficient().checked_add(other.coefficient())
            && let Some(sum) = Decimal::of(sum, self.scale())
        {
            return Some(sum);
        }
        let (a, b, scale) = self.aligned(&other);
        Decimal::rounded(a.wrapping_add(b), scale)
    }

    pub fn checked_sub(self, other: Decimal) -> Option<Decimal> {
        self.checked_add(-other)
    }

    pub fn checked_mul(self, other: Decimal) -> Option<Decimal> {
        let product = i256::from_i128(self.coefficient()).wrapping_mul(i256::from_i128(other.coefficient()));
        Decimal::rounded(product, self.scale() + other.scale())
    }

    /// The quotient to 38 digits, without zeros beyond the dividend's digits at its end; `None` for a division by zero as well.
    pub fn checked_div(self, other: Decimal) -> Option<Decimal> {
        if other.is_zero() {
            return None;
        }
        // As many digits as fit beyond what the divisor takes away.
        let more = (MAX_DIGITS + other.digits()).saturating_sub(self.digits());
        let room = more.min(76 - self.digits());
        let divisor = i256::from_i128(other.coefficient());
        let dividend = i256::from_i128(self.coefficient()).wrapping_mul(power(room));
        let (dividend, divisor) = match other.is_negative() {
            true => (dividend.wrapping_neg(), divisor.wrapping_neg()),
            false => (dividend, divisor),
        };
        let quotient = divide_rounded(dividend, divisor);
        let scale = i64::from(self.scale() + room) - i64::from(other.scale());
        if scale < 0 {
            let factor = u32::try_from(-scale).ok().filter(|n| *n <= MAX_DIGITS)?;
            let whole = quotient.to_i128()?.checked_mul(POWERS[factor as usize])?;
            return Decimal::of(whole, 0);
        }
        let least = self.scale().saturating_sub(other.scale());
        Some(Decimal::rounded(quotient, scale as u32)?.without_zeros(least))
    }

    /// The rest of a division, with the sign of the dividend; `None` for a division by zero.
    pub fn checked_rem(self, other: Decimal) -> Option<Decimal> {
        if other.is_zero() {
            return None;
        }
        let (a, b, scale) = self.aligned(&other);
        Decimal::rounded(a.wrapping_rem(b), scale)
    }

    /// The order of this number and a FLOAT64 by value, without rounding either; `None` for NaN.
    pub fn compare_float(&self, float: f64) -> Option<Ordering> {
        let nearest = self.to_f64();
        let order = nearest.partial_cmp(&float)?;
        // Rounding keeps the order: only where the nearest is that very number the digits decide.
        if order != Ordering::Equal {
            return Some(order);
        }
        let bits = float.to_bits();
        let exponent = ((bits >> 52) & 0x7ff) as i32;
        let fraction = (bits & ((1 << 52) - 1)) as i128;
        let (mantissa, exponent) =
            if exponent == 0 { (fraction, -1074) } else { (fraction | 1 << 52, exponent - 1075) };
        let mantissa = if float < 0.0 { -mantissa } else { mantissa };
        // coefficient / 10^scale against mantissa * 2^exponent, multiplied out.
        let (mut left, mut right) = (i256::from_i128(self.coefficient()), i256::from_i128(mantissa));
        let two = |n: i32| i256::from_i128(2).checked_pow(n as u32);
        if exponent >= 0 {
            right = right.checked_mul(two(exponent)?.checked_mul(power(self.scale()))?)?;
        } else {
            right = right.wrapping_mul(power(self.scale()));
            // The mantissa's zeros at its end are powers of two that need no multiplication.
            match two(-exponent).and_then(|factor| left.checked_mul(factor)) {
                Some(product) => left = product,
                None => return Some(self.compare_digits(float)),
            }
        }
        Some(left.cmp(&right))
    }

    /// The order by all digits of the float, of which there may be a thousand.
    fn compare_digits(&self, float: f64) -> Ordering {
        let (own, other) = (self.abs().to_string(), format!("{:.1100}", float.abs()));
        let split = |text: &str| {
            let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
            (whole.trim_start_matches('0').to_string(), fraction.trim_end_matches('0').to_string())
        };
        let ((a, x), (b, y)) = (split(&own), split(&other));
        let order = a.len().cmp(&b.len()).then(a.cmp(&b)).then(x.cmp(&y));
        if self.is_negative() { order.reverse() } else { order }
    }

    /// Reads digits with an optional point, and with an exponent where `exponent` allows one.
    fn read(text: &str, exponent: bool) -> Result<Decimal, DecimalError> {
        let (body, power_of_ten) = match text.find(['e', 'E']).filter(|_| exponent) {
            Some(at) => {
                let power: i32 = text[at + 1..].parse().map_err(|_| DecimalError::NotANumber)?;
                (&text[..at], power)
            }
            None => (text, 0),
        };
        let (negative, digits) = match body.as_bytes().first() {
            Some(b'-') => (true, &body[1..]),
            Some(b'+') => (false, &body[1..]),
            _ => (false, body),
        };
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
        let all_digits = |text: &str| text.bytes().all(|b| b.is_ascii_digit());
        if whole.is_empty() && fraction.is_empty() || !all_digits(whole) || !all_digits(fraction) {
            return Err(DecimalError::NotANumber);
        }
        let mut coefficient = 0i128;
        for digit in whole.bytes().chain(fraction.bytes()) {
            if coefficient >= LIMIT / 10 {
                return Err(DecimalError::OutOfRange);
            }
            coefficient = coefficient * 10 + i128::from(digit - b'0');
        }
        if negative {
            coefficient = -coefficient;
        }
        let scale = fraction.len() as i64 - i64::from(power_of_ten);
        let decimal = if scale < 0 {
            let factor = POWERS.get(usize::try_from(-scale).unwrap_or(usize::MAX));
            let whole = match (coefficient, factor) {
                (0, _) => Some(0),
                (n, Some(factor)) => n.checked_mul(*factor),
                (_, None) => None,
            };
            whole.and_then(|n| Decimal::of(n, 0))
        } else {
            u32::try_from(scale).ok().and_then(|scale| Decimal::of(coefficient, scale))
        };
        decimal.ok_or(DecimalError::OutOfRange)
    }

    /// As `12.5e3`.
    pub fn from_scientific(text: &str) -> Result<Decimal, DecimalError> {
        Decimal::read(text, true)
    }
}

/// A sum of decimals that is rounded, if at all, at its end.
#[derive(Clone, Debug)]
pub struct DecimalSum {
    coefficient: i256,
    scale: u32,
}

impl Default for DecimalSum {
    fn default() -> DecimalSum {
        DecimalSum { coefficient: i256::ZERO, scale: 0 }
    }
}

impl DecimalSum {
    /// `None` where the sum is out of range.
    pub fn add(&mut self, d: Decimal) -> Option<()> {
        let scale = self.scale.max(d.scale());
        let before = self.coefficient.checked_mul(power(scale - self.scale))?;
        let added = i256::from_i128(d.coefficient()).wrapping_mul(power(scale - d.scale()));
        self.coefficient = before.checked_add(added)?;
        self.scale = scale;
        Some(())
    }

    /// Adds what was added up elsewhere; `None` where the sum is out of range.
    pub fn merge(&mut self, other: &DecimalSum) -> Option<()> {
        let scale = self.scale.max(other.scale);
        let before = self.coefficient.checked_mul(power(scale - self.scale))?;
        let added = other.coefficient.checked_mul(power(scale - other.scale))?;
        self.coefficient = before.checked_add(added)?;
        self.scale = scale;
        Some(())
    }

    pub fn finish(&self) -> Option<Decimal> {
        Decimal::rounded(self.coefficient, self.scale)
    }
}

impl FromStr for Decimal {
    type Err = DecimalError;

    /// Digits with an optional sign and point, exactly: more than 38 digits are an error.
    fn from_str(text: &str) -> Result<Decimal, DecimalError> {
        Decimal::read(text, false)
    }
}

impl fmt::Display for DecimalError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            DecimalError::NotANumber => "it is not a decimal number",
            DecimalError::OutOfRange => "it has more than 38 digits",
        })
    }
}

impl std::error::Error for DecimalError {}

impl From<i64> for Decimal {
    fn from(number: i64) -> Decimal {
        Decimal { coefficient: number.into(), scale: 0 }
    }
}

impl std::ops::Neg for Decimal {
    type Output = Decimal;

    fn neg(self) -> Decimal {
        Decimal { coefficient: -self.coefficient(), scale: self.scale }
    }
}

impl PartialEq for Decimal {
    fn eq(&self, other: &Decimal) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Decimal {}

impl PartialOrd for Decimal {
    fn partial_cmp(&self, other: &Decimal) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Decimal {
    fn cmp(&self, other: &Decimal) -> Ordering {
        if self.scale == other.scale {
            return self.coefficient().cmp(&other.coefficient());
        }
        let (a, b, _) = self.aligned(other);
        a.cmp(&b)
    }
}

impl Hash for Decimal {
    fn hash<H: Hasher>(&self, state: &mut H) {
        let d = self.normalize();
        (d.coefficient(), d.scale()).hash(state);
    }
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let digits = self.coefficient().unsigned_abs().to_string();
        let scale = self.scale() as usize;
        let sign = if self.is_negative() { "-" } else { "" };
        if scale == 0 {
            return write!(f, "{sign}{digits}");
        }
        let padded = format!("{digits:0>width$}", width = scale + 1);
        let (whole, fraction) = padded.split_at(padded.len() - scale);
        write!(f, "{sign}{whole}.{fraction}")
    }
}

impl fmt::Debug for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

// As text: the compact format of the log cannot ask what comes next.
impl serde::Serialize for Decimal {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> serde::Deserialize<'de> for Decimal {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Decimal, D::Error> {
        let text = std::borrow::Cow::<'de, str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use proptest::prelude::*;

    fn d(text: &str) -> Decimal {
        text.parse().unwrap()
    }

    #[test]
    fn arithmetic_is_exact_to_38_digits_and_rounds_fractions_beyond() {
        assert_eq!(d("0.1").checked_add(d("0.2")).unwrap().to_string(), "0.3");
        assert_eq!(d("1.10").checked_add(d("2")).unwrap().to_string(), "3.10");
        assert_eq!(d("99999999999999999999999999999999999999").checked_add(d("1")), None);
        assert_eq!(d("1").checked_div(d("3")).unwrap().to_string(), format!("0.{}", "3".repeat(38)));
        assert_eq!(d("12.50").checked_div(d("5")).unwrap().to_string(), "2.50");
        assert_eq!(d("-1").checked_div(d("8")).unwrap().to_string(), "-0.125");
        assert_eq!(d("1").checked_div(d("0")), None);
        assert_eq!(d("1.5").checked_mul(d("-1.5")).unwrap().to_string(), "-2.25");
        assert_eq!(d("0.3").checked_rem(d("0.1")).unwrap(), Decimal::ZERO);
        assert_eq!(d("-7.5").checked_rem(d("2")).unwrap().to_string(), "-1.5");
        let long = d("1.2345678901234567890123456789012345678");
        assert_eq!(long.checked_mul(long).unwrap().digits(), 38);
    }

    #[test]
    fn rounding_goes_half_to_even() {
        for (text, scale, rounded) in
            [("2.5", 0, "2"), ("3.5", 0, "4"), ("-2.5", 0, "-2"), ("2.345", 2, "2.34"), ("2.3451", 2, "2.35")]
        {
            assert_eq!(d(text).round(scale).to_string(), rounded, "{text}");
        }
        assert_eq!((d("-1.5").floor().to_string(), d("-1.5").ceil().to_string()), ("-2".into(), "-1".into()));
        assert_eq!(Decimal::from_f64(0.1, 3).unwrap().to_string(), "0.100");
        assert_eq!(Decimal::from_f64(f64::MAX, 0), None);
    }

    #[test]
    fn texts_are_read_exactly_or_refused() {
        assert_eq!(d("-0.50").to_string(), "-0.50");
        assert_eq!(Decimal::from_scientific("1.5e3").unwrap().to_string(), "1500");
        assert_eq!(Decimal::from_scientific("15e-3").unwrap().to_string(), "0.015");
        for wrong in ["", ".", "-", "1.2.3", "1e5", "0x1", "1 ", "١"] {
            assert_eq!(wrong.parse::<Decimal>(), Err(DecimalError::NotANumber), "{wrong}");
        }
        assert_eq!("1".repeat(39).parse::<Decimal>(), Err(DecimalError::OutOfRange));
        assert_eq!(size_of::<crate::Value>(), 24);
    }

    #[test]
    fn a_decimal_and_a_float_are_compared_by_value() {
        assert_eq!(d("0.1").compare_float(0.1), Some(Ordering::Less), "0.1f is a little more than 0.1");
        assert_eq!(d("0.5").compare_float(0.5), Some(Ordering::Equal));
        assert_eq!(d("9007199254740993").compare_float(9007199254740992.0), Some(Ordering::Greater));
        assert_eq!(d("0").compare_float(5e-324), Some(Ordering::Less));
        assert_eq!(d("0").compare_float(-0.0), Some(Ordering::Equal));
        assert_eq!(d("1").compare_float(f64::NAN), None);
        assert_eq!(d("1").compare_float(f64::INFINITY), Some(Ordering::Less));
    }

    proptest! {
        #[test]
        fn the_nearest_float_keeps_the_order(a in any::<i64>(), s in 0u32..30, f in any::<f64>()) {
            let decimal = Decimal::of(a.into(), s).unwrap();
            let exact = decimal.compare_float(f);
            prop_assert_eq!(exact.is_none(), f.is_nan());
            if let Some(order) = exact {
                let digits = decimal.compare_digits(f);
                if (decimal.is_negative() == (f < 0.0)) && f != 0.0 && a != 0 && f.is_finite() {
                    prop_assert_eq!(order, digits);
                }
            }
        }

        #[test]
        fn sums_and_products_agree_with_whole_numbers(a in -1_000_000_000i64..1_000_000_000, b in -1_000_000_000i64..1_000_000_000, s in 0u32..6, t in 0u32..6) {
            let (x, y) = (Decimal::of(a.into(), s).unwrap(), Decimal::of(b.into(), t).unwrap());
            let product = x.checked_mul(y).unwrap();
            prop_assert_eq!(product, Decimal::of(a as i128 * b as i128, s + t).unwrap());
            let widest = s.max(t);
            let sum = a as i128 * POWERS[(widest - s) as usize] + b as i128 * POWERS[(widest - t) as usize];
            prop_assert_eq!(x.checked_add(y).unwrap(), Decimal::of(sum, widest).unwrap());
            prop_assert_eq!(x.to_string().parse::<Decimal>().unwrap(), x);
            if b != 0 {
                let back = x.checked_div(y).unwrap().checked_mul(y).unwrap();
                let apart = back.checked_sub(x).unwrap().abs();
                prop_assert!(apart < d("0.00000000000000000001"), "{} {}", back, x);
            }
        }
    }
}
