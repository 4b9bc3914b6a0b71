//! Numbers of a few characters, read all characters at once: as one word, with zeroes before them.

use std::ops::Range;

const ZEROES: u64 = 0x3030_3030_3030_3030;

/// The characters as a word, the last one in its highest byte; `None` where there are none, more than eight, or
/// less than eight bytes up to their end.
#[inline]
fn word(bytes: &[u8], at: &Range<usize>) -> Option<u64> {
    let length = at.len();
    if length == 0 || length > 8 {
        return None;
    }
    let word = u64::from_le_bytes(bytes.get(at.end.checked_sub(8)?..at.end)?.try_into().ok()?);
    let before = 8 * (8 - length as u32);
    Some(word >> before << before | ZEROES & ((1u64 << before) - 1))
}

/// The number that eight digits are.
#[inline]
fn eight_digits(word: u64) -> Option<u64> {
    const HIGH: u64 = 0xF0F0_F0F0_F0F0_F0F0;
    // A digit's high half is 3, also with 6 added to it.
    if word & HIGH | (word.wrapping_add(0x0606_0606_0606_0606) & HIGH) >> 4 != 0x3333_3333_3333_3333 {
        return None;
    }
    // Pairs, then fours, then all.
    let pairs = (word - ZEROES).wrapping_mul(10).wrapping_add((word - ZEROES) >> 8);
    let fours = |pairs: u64, factors: u64| (pairs & 0x0000_00FF_0000_00FF).wrapping_mul(factors);
    let number =
        fours(pairs, 0x000F_4240_0000_0064).wrapping_add(fours(pairs >> 16, 0x0000_2710_0000_0001)) >> 32;
    Some(number)
}

/// A whole number of up to eight digits.
#[inline]
pub(super) fn short_whole(bytes: &[u8], at: &Range<usize>) -> Option<i64> {
    eight_digits(word(bytes, at)?).map(|number| number as i64)
}

/// A number of up to seven digits with a point between them, or of up to eight without one. Digits and power of
/// ten are exact, so that their quotient is the nearest number.
#[inline]
pub(super) fn short_float(bytes: &[u8], at: &Range<usize>) -> Option<f64> {
    const POWERS: [f64; 8] = [1e7, 1e6, 1e5, 1e4, 1e3, 1e2, 1e1, 1e0];
    let word = word(bytes, at)?;
    // The lowest byte that is a point: nothing below it borrows.
    let points = word ^ 0x2E2E_2E2E_2E2E_2E2E;
    let found = points.wrapping_sub(0x0101_0101_0101_0101) & !points & 0x8080_8080_8080_8080;
    if found == 0 {
        return eight_digits(word).map(|number| number as f64);
    }
    let place = found.trailing_zeros() / 8;
    // A point stands between digits.
    if place as usize + at.len() <= 8 || place == 7 {
        return None;
    }
    // What stands before the point moves to its place.
    let below = (1u64 << (8 * place)) - 1;
    let digits = (word & below) << 8 | word & !(below << 8 | 0xFF) | 0x30;
    eight_digits(digits).map(|number| number as f64 / POWERS[place as usize])
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use proptest::prelude::*;

    #[test]
    fn short_numbers_are_read_as_one_by_one() {
        for text in ["0", "7", "42", "00123", "1234567", "12345678", "99999999"] {
            // Whatever stands before it.
            for before in ["", "x", "9", "123456789,", ",,,,,,,,"] {
                let all = format!("{before}{text}");
                let found = short_whole(all.as_bytes(), &(before.len()..all.len()));
                let wanted = (all.len() >= 8).then(|| text.parse().unwrap());
                assert_eq!(found, wanted, "{before} {text}");
            }
        }
        for text in ["", "-1", "+1", "1.5", "12345:78", "1234/678", "123456789", "1 2", "\u{00b2}1"] {
            let all = format!("01234567{text}");
            assert_eq!(short_whole(all.as_bytes(), &(8..all.len())), None, "{text}");
        }
    }

    #[test]
    fn a_point_stands_between_digits_once() {
        for text in ["", ".", ".5", "5.", "1..5", "1.2.3", "-1.5", "1e5", "1,5", "1234567.8", "NaN", "1.5 "] {
            let all = format!("0123.567{text}");
            assert_eq!(short_float(all.as_bytes(), &(8..all.len())), None, "{text}");
        }
    }

    proptest! {
        #[test]
        fn short_floats_are_the_nearest_numbers(
            before in ".{8,12}", whole in 0u32..10_000_000, places in 0usize..7, cut in 1usize..9,
        ) {
            let mut text = whole.to_string();
            if places > 0 {
                text = format!("{whole:0width$}", width = places + 1);
                text.insert(text.len() - places, '.');
            }
            text.truncate(cut);
            let all = format!("{before}{text}");
            let found = short_float(all.as_bytes(), &(before.len()..all.len()));
            let wanted = if text.ends_with('.') { None } else { Some(text.parse::<f64>().unwrap()) };
            prop_assert_eq!(found.map(f64::to_bits), wanted.map(f64::to_bits), "{}", text);
        }
    }
}
