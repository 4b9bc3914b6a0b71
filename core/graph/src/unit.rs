//! Values that are whole multiples of a unit: decimals of the same scale, and points in time in nanoseconds.
//! Columns of such values hold whole numbers.

use chrono::{DateTime, FixedOffset, NaiveDateTime, NaiveTime, Timelike};

use crate::{Decimal, Value};

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Unit {
    /// Ten to the power of minus `scale`.
    Decimal { scale: u8 },
    /// Nanoseconds since midnight.
    LocalTime,
    /// Nanoseconds since 1970-01-01T00:00:00.
    LocalDateTime,
    /// Nanoseconds since 1970-01-01T00:00:00Z; the offset is in seconds east of it.
    ZonedDateTime { offset: i32 },
}

const NANOSECONDS: i64 = 1_000_000_000;

/// `None` for leap seconds, which have the number of the next second, and beyond the years 1678 to 2261.
fn nanoseconds(time: NaiveDateTime) -> Option<i64> {
    if i64::from(time.nanosecond()) >= NANOSECONDS {
        return None;
    }
    time.and_utc().timestamp_nanos_opt()
}

fn moment(nanoseconds: i64) -> NaiveDateTime {
    DateTime::from_timestamp_nanos(nanoseconds).naive_utc()
}

impl Unit {
    /// The unit of a value and how many of it the value is; `None` if there is no such unit, or too many of it.
    #[inline]
    pub fn of(value: &Value) -> Option<(Unit, i64)> {
        Some(match value {
            Value::Decimal(decimal) => {
                let number = i64::try_from(decimal.coefficient()).ok()?;
                (Unit::Decimal { scale: decimal.scale() as u8 }, number)
            }
            Value::LocalTime(time) if i64::from(time.nanosecond()) < NANOSECONDS => {
                let seconds = i64::from(time.num_seconds_from_midnight());
                (Unit::LocalTime, seconds * NANOSECONDS + i64::from(time.nanosecond()))
            }
            Value::LocalDateTime(time) => (Unit::LocalDateTime, nanoseconds(*time)?),
            Value::ZonedDateTime(time) => {
                let offset = time.offset().local_minus_utc();
                (Unit::ZonedDateTime { offset }, nanoseconds(time.naive_utc())?)
            }
            _ => return None,
        })
    }

    /// The value that is `number` times the unit.
    pub fn value(self, number: i64) -> Value {
        match self {
            Unit::Decimal { scale } => {
                Decimal::of(number.into(), scale.into()).map_or(Value::Null, Value::Decimal)
            }
            Unit::LocalTime => {
                let (seconds, rest) = (number.div_euclid(NANOSECONDS), number.rem_euclid(NANOSECONDS));
                NaiveTime::from_num_seconds_from_midnight_opt(seconds as u32, rest as u32)
                    .map_or(Value::Null, Value::LocalTime)
            }
            Unit::LocalDateTime => Value::LocalDateTime(moment(number)),
            Unit::ZonedDateTime { offset } => match FixedOffset::east_opt(offset) {
                Some(offset) => Value::ZonedDateTime(moment(number).and_utc().with_timezone(&offset)),
                None => Value::Null,
            },
        }
    }

    /// Whether values compare as their numbers do.
    #[inline]
    pub fn compares_with(self, other: Unit) -> bool {
        match (self, other) {
            (Unit::ZonedDateTime { .. }, Unit::ZonedDateTime { .. }) => true,
            _ => self == other,
        }
    }

    /// How many of this unit `value` is, if values of the unit compare with it as numbers do; null stays null.
    pub fn count(self, value: &Value) -> Option<Option<i64>> {
        let scaled = |number: i64, by: u8| {
            10i64.checked_pow(by.into()).and_then(|factor| number.checked_mul(factor)).map(Some)
        };
        match (self, value) {
            (_, Value::Null) => Some(None),
            (Unit::Decimal { scale }, Value::Int(number)) => scaled(*number, scale),
            _ => {
                let (unit, number) = Unit::of(value)?;
                match (self, unit) {
                    (Unit::Decimal { scale }, Unit::Decimal { scale: of_value }) => {
                        scaled(number, scale.checked_sub(of_value)?)
                    }
                    _ => self.compares_with(unit).then_some(Some(number)),
                }
            }
        }
    }
}

/// What the numbers of a column count.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Measure {
    /// Nothing: they are the values.
    Whole,
    /// Days since 1970-01-01.
    Day,
    Unit(Unit),
}

impl Measure {
    /// [`Unit::count`] of any measure.
    pub fn count(self, value: &Value) -> Option<Option<i64>> {
        match (self, value) {
            (_, Value::Null) => Some(None),
            (Measure::Whole, Value::Int(number)) => Some(Some(*number)),
            (Measure::Day, date) => date.days().map(|days| Some(days.into())),
            (Measure::Unit(unit), value) => unit.count(value),
            _ => None,
        }
    }

    /// Whether values compare as their numbers do.
    pub fn compares_with(self, other: Measure) -> bool {
        match (self, other) {
            (Measure::Unit(a), Measure::Unit(b)) => a.compares_with(b),
            _ => self == other,
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use chrono::NaiveDate;
    use proptest::prelude::*;

    fn units() -> impl Strategy<Value = Unit> {
        prop_oneof![
            (0u8..19).prop_map(|scale| Unit::Decimal { scale }),
            Just(Unit::LocalDateTime),
            (-64_800i32..64_800).prop_map(|offset| Unit::ZonedDateTime { offset }),
        ]
    }

    proptest! {
        #[test]
        fn numbers_and_values_are_each_others_inverse(unit in units(), number in any::<i64>()) {
            prop_assert_eq!(Unit::of(&unit.value(number)), Some((unit, number)));
        }

        #[test]
        fn times_of_day_are_too(number in 0..86_400 * NANOSECONDS) {
            prop_assert_eq!(Unit::of(&Unit::LocalTime.value(number)), Some((Unit::LocalTime, number)));
        }

        #[test]
        fn values_compare_as_their_counts(unit in units(), number in -900i64..900, scale in 0u32..4, other in -900i64..900) {
            let value = match unit {
                Unit::Decimal { .. } => Value::Decimal(Decimal::of(other.into(), scale).unwrap()),
                _ => unit.value(other),
            };
            if let Some(Some(count)) = unit.count(&value) {
                let expected = unit.value(number).compare(&value).unwrap();
                prop_assert_eq!(Some(number.cmp(&count)), expected);
            }
        }
    }

    #[test]
    fn leap_seconds_and_far_years_have_no_number() {
        let second = NaiveTime::from_hms_nano_opt(23, 59, 59, 1_500_000_000).unwrap();
        let day = NaiveDate::from_ymd_opt(2016, 12, 31).unwrap();
        assert_eq!(Unit::of(&Value::LocalTime(second)), None);
        assert_eq!(Unit::of(&Value::LocalDateTime(day.and_time(second))), None);
        let far = NaiveDate::from_ymd_opt(2300, 1, 1).unwrap().and_time(NaiveTime::MIN);
        assert_eq!(Unit::of(&Value::LocalDateTime(far)), None);
        assert_eq!(Unit::of(&Value::Decimal("12345678901234567890".parse().unwrap())), None);
    }

    #[test]
    fn counts_are_exact_or_absent() {
        let cents = Unit::Decimal { scale: 2 };
        assert_eq!(cents.count(&Value::Int(3)), Some(Some(300)));
        assert_eq!(cents.count(&Value::Decimal("0.5".parse().unwrap())), Some(Some(50)));
        assert_eq!(cents.count(&Value::Decimal("0.005".parse().unwrap())), None);
        assert_eq!(cents.count(&Value::Int(i64::MAX)), None);
        assert_eq!(cents.count(&Value::Float(0.5)), None);
        assert_eq!(cents.count(&Value::Null), Some(None));
        assert_eq!(Unit::LocalDateTime.count(&Unit::ZonedDateTime { offset: 0 }.value(0)), None);
        assert_eq!(
            Unit::ZonedDateTime { offset: 3600 }.count(&Unit::ZonedDateTime { offset: 0 }.value(7)),
            Some(Some(7))
        );
    }
}
