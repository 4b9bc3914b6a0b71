//! Functions of times and durations.

use chrono::{Datelike, Months};
use graphodrome_graph::{Code, Decimal, Duration, GraphError, Value};
use graphodrome_language::ast::BinaryOperator;

use super::signature::{Function, exact, wrong};

/// A part of a temporal value, as EXTRACT has it.
pub(super) fn field_of(value: &Value, field: &str) -> Option<Value> {
    use chrono::Timelike;
    let date = match value {
        Value::Date(d) => Some(*d),
        Value::LocalDateTime(t) => Some(t.date()),
        Value::ZonedDateTime(t) => Some(t.date_naive()),
        _ => None,
    };
    let time = match value {
        Value::LocalTime(t) | Value::ZonedTime(t, _) => Some(*t),
        Value::LocalDateTime(t) => Some(t.time()),
        Value::ZonedDateTime(t) => Some(t.time()),
        _ => None,
    };
    let seconds = |whole: i64, nanoseconds: i128| {
        let exact = Decimal::of(whole as i128 * 1_000_000_000 + nanoseconds, 9)?;
        Some(match exact.to_whole() {
            Some(whole) => Value::Int(whole),
            None => Value::Decimal(exact.normalize()),
        })
    };
    if let Value::Duration(d) = value {
        let rest = i128::from(d.nanoseconds);
        let unit = |size: i128, count: i128| Value::Int((rest / size % count) as i64);
        return match field {
            "YEAR" => Some(Value::Int((d.months / 12).into())),
            "MONTH" => Some(Value::Int((d.months % 12).into())),
            "DAY" => Some(Value::Int((rest / 86_400_000_000_000) as i64)),
            "HOUR" => Some(unit(3_600_000_000_000, 24)),
            "MINUTE" => Some(unit(60_000_000_000, 60)),
            "SECOND" => seconds(0, rest % 60_000_000_000),
            _ => None,
        };
    }
    match field {
        "YEAR" => date.map(|d| Value::Int(d.year().into())),
        "QUARTER" => date.map(|d| Value::Int(i64::from(d.month0() / 3) + 1)),
        "MONTH" => date.map(|d| Value::Int(d.month().into())),
        "DAY" => date.map(|d| Value::Int(d.day().into())),
        "HOUR" => time.map(|t| Value::Int(t.hour().into())),
        "MINUTE" => time.map(|t| Value::Int(t.minute().into())),
        "SECOND" => time.and_then(|t| seconds(t.second().into(), t.nanosecond().into())),
        _ => None,
    }
}

/// `DATE({year: 2026, month: 2, day: 28})`; a month or day that is not given is the first.
pub(super) fn date_of(record: &Value) -> Result<Value, GraphError> {
    let Value::Record(fields) = record else { return Err(wrong(Function::Date, record, "a RECORD")) };
    let (mut year, mut month, mut day) = (None, 1, 1);
    for (name, value) in fields.iter() {
        let Value::Int(number) = value else { return Err(wrong(Function::Date, value, "whole numbers")) };
        let place = match &**name {
            "year" => year.insert(*number),
            "month" => {
                month = *number;
                continue;
            }
            "day" => {
                day = *number;
                continue;
            }
            _ => {
                return Err(GraphError::new(Code("22G05"), format!("a date has no field {name}"))
                    .hint("its fields are year, month and day"));
            }
        };
        *place = *number;
    }
    let found = year.zip(u32::try_from(month).ok()).zip(u32::try_from(day).ok());
    let date = found.and_then(|((y, m), d)| chrono::NaiveDate::from_ymd_opt(i32::try_from(y).ok()?, m, d));
    date.map(Value::Date).ok_or_else(|| {
        GraphError::new(Code::INVALID_DATE_TIME, format!("there is no such day: {}", record.excerpt()))
    })
}

/// A value of the query's moment.
pub(super) fn moment(function: Function, now: chrono::DateTime<chrono::FixedOffset>) -> Value {
    match function {
        Function::CurrentDate | Function::Date => Value::Date(now.date_naive()),
        Function::CurrentTime | Function::ZonedTime => {
            Value::ZonedTime(now.time(), now.offset().local_minus_utc())
        }
        Function::LocalTime => Value::LocalTime(now.time()),
        Function::LocalTimestamp | Function::LocalDateTime => Value::LocalDateTime(now.naive_local()),
        _ => Value::ZonedDateTime(now),
    }
}

/// `YEAR TO MONTH`: whole months; otherwise the exact time.
pub(super) fn duration_between(from: &Value, to: &Value, months: bool) -> Option<Value> {
    if months {
        let months = match (from, to) {
            (Value::Date(a), Value::Date(b)) => {
                whole_months(a.and_time(chrono::NaiveTime::MIN), b.and_time(chrono::NaiveTime::MIN))
            }
            (Value::LocalDateTime(a), Value::LocalDateTime(b)) => whole_months(*a, *b),
            (Value::ZonedDateTime(a), Value::ZonedDateTime(b)) => whole_months(a.naive_utc(), b.naive_utc()),
            _ => return None,
        };
        return Some(Value::Duration(Duration { months, nanoseconds: 0 }));
    }
    let nanoseconds = match (from, to) {
        (Value::Date(a), Value::Date(b)) => (*b - *a).num_nanoseconds()?,
        (Value::LocalDateTime(a), Value::LocalDateTime(b)) => (*b - *a).num_nanoseconds()?,
        (Value::ZonedDateTime(a), Value::ZonedDateTime(b)) => (*b - *a).num_nanoseconds()?,
        (Value::LocalTime(a), Value::LocalTime(b)) => (*b - *a).num_nanoseconds()?,
        (Value::ZonedTime(a, za), Value::ZonedTime(b, zb)) => {
            let apart = chrono::Duration::seconds((*za - *zb) as i64);
            (*b - *a + apart).num_nanoseconds()?
        }
        _ => return None,
    };
    Some(Value::Duration(Duration { months: 0, nanoseconds }))
}

/// The most months that, added to the earlier of the two, do not go beyond the later.
fn whole_months(from: chrono::NaiveDateTime, to: chrono::NaiveDateTime) -> i32 {
    let (early, late, sign) = if from <= to { (from, to, 1) } else { (to, from, -1) };
    let mut months = (late.year() - early.year()) * 12 + late.month() as i32 - early.month() as i32;
    while months > 0 && early.checked_add_months(Months::new(months as u32)).is_none_or(|t| t > late) {
        months -= 1;
    }
    sign * months
}

/// Adding and subtracting durations; `None` where the operands are of other kinds.
pub(crate) fn temporal_arithmetic(
    operator: BinaryOperator, a: &Value, b: &Value,
) -> Option<Result<Value, GraphError>> {
    let out_of_range = || GraphError::new(Code("22008"), "the result is out of the calendar's range");
    let (value, duration) = match (operator, a, b) {
        (BinaryOperator::Add | BinaryOperator::Subtract, Value::Duration(x), Value::Duration(y)) => {
            let (months, nanoseconds) = if operator == BinaryOperator::Add {
                (x.months.checked_add(y.months), x.nanoseconds.checked_add(y.nanoseconds))
            } else {
                (x.months.checked_sub(y.months), x.nanoseconds.checked_sub(y.nanoseconds))
            };
            let both = months.zip(nanoseconds).ok_or_else(out_of_range);
            return Some(both.map(|(months, nanoseconds)| Value::Duration(Duration { months, nanoseconds })));
        }
        (BinaryOperator::Multiply, Value::Duration(d), number)
        | (BinaryOperator::Multiply, number, Value::Duration(d))
        | (BinaryOperator::Divide, Value::Duration(d), number) => {
            return scaled(*d, number, operator == BinaryOperator::Divide);
        }
        (BinaryOperator::Subtract, Value::Date(_), Value::Date(_))
        | (BinaryOperator::Subtract, Value::LocalDateTime(_), Value::LocalDateTime(_))
        | (BinaryOperator::Subtract, Value::ZonedDateTime(_), Value::ZonedDateTime(_))
        | (BinaryOperator::Subtract, Value::LocalTime(_), Value::LocalTime(_))
        | (BinaryOperator::Subtract, Value::ZonedTime(..), Value::ZonedTime(..)) => {
            return Some(duration_between(b, a, false).ok_or_else(out_of_range));
        }
        (BinaryOperator::Add, value, Value::Duration(d))
        | (BinaryOperator::Add, Value::Duration(d), value) => (value, *d),
        (BinaryOperator::Subtract, value, Value::Duration(d)) => {
            (value, Duration { months: d.months.checked_neg()?, nanoseconds: d.nanoseconds.checked_neg()? })
        }
        _ => return None,
    };
    if duration.months != 0 && matches!(value, Value::LocalTime(_) | Value::ZonedTime(..)) {
        return Some(Err(GraphError::new(Code::WRONG_TYPE, "a time of day has no months to add to")));
    }
    let exact = chrono::Duration::nanoseconds(duration.nanoseconds);
    let shifted = match value {
        Value::Date(date) => {
            let months = Months::new(duration.months.unsigned_abs());
            let moved = if duration.months >= 0 {
                date.checked_add_months(months)
            } else {
                date.checked_sub_months(months)
            };
            moved
                .and_then(|d| d.checked_add_signed(exact))
                .filter(|d| d.year().abs() < 100_000)
                .map(Value::Date)
        }
        Value::LocalDateTime(t) => {
            let months = Months::new(duration.months.unsigned_abs());
            let moved = if duration.months >= 0 {
                t.checked_add_months(months)
            } else {
                t.checked_sub_months(months)
            };
            moved.and_then(|t| t.checked_add_signed(exact)).map(Value::LocalDateTime)
        }
        Value::ZonedDateTime(t) => {
            let months = Months::new(duration.months.unsigned_abs());
            let moved = if duration.months >= 0 {
                t.checked_add_months(months)
            } else {
                t.checked_sub_months(months)
            };
            moved.and_then(|t| t.checked_add_signed(exact)).map(Value::ZonedDateTime)
        }
        Value::LocalTime(t) => Some(Value::LocalTime(t.overflowing_add_signed(exact).0)),
        Value::ZonedTime(t, offset) => Some(Value::ZonedTime(t.overflowing_add_signed(exact).0, *offset)),
        _ => return None,
    };
    Some(shifted.ok_or_else(out_of_range))
}

/// A duration times a number, or divided by it. A part of a month has no fixed length, so that months must
/// come out whole; nanoseconds are rounded.
fn scaled(d: Duration, number: &Value, divide: bool) -> Option<Result<Value, GraphError>> {
    if !number.is_number() {
        return None;
    }
    let Some(factor) = exact(number).or_else(|| Decimal::from_f64(number.as_f64()?, 18)) else {
        return Some(Err(GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range")));
    };
    if divide && factor.is_zero() {
        return Some(Err(GraphError::new(Code::DIVISION_BY_ZERO, "division by zero")));
    }
    let times = |n: i64| {
        let n = Decimal::from(n);
        let scaled = if divide { n.checked_div(factor) } else { n.checked_mul(factor) };
        scaled.ok_or_else(|| GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range"))
    };
    let whole = |d: Decimal| {
        d.to_whole().ok_or_else(|| GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range"))
    };
    let scale = || {
        let months = times(d.months.into())?;
        if !months.is_whole() {
            let text = format!("{} months are not a whole number of them", months.normalize());
            return Err(GraphError::new(Code::DATA, text)
                .hint("a part of a month has no fixed length; divide durations of days and time"));
        }
        let out_of_range = |_| GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range");
        let months = i32::try_from(whole(months)?).map_err(out_of_range)?;
        Ok(Value::Duration(Duration { months, nanoseconds: whole(times(d.nanoseconds)?.round(0))? }))
    };
    Some(scale())
}

/// A duration without its sign; where its parts have two, it has no absolute value.
pub(super) fn absolute(d: Duration) -> Result<Value, GraphError> {
    let out_of_range = || GraphError::new(Code::DURATION_OVERFLOW, "the duration is out of range");
    if d.months < 0 && d.nanoseconds > 0 || d.months > 0 && d.nanoseconds < 0 {
        return Err(GraphError::new(
            Code::DATA,
            format!("{d} has parts of both signs and no absolute value"),
        ));
    }
    let months = d.months.checked_abs().ok_or_else(out_of_range)?;
    let nanoseconds = d.nanoseconds.checked_abs().ok_or_else(out_of_range)?;
    Ok(Value::Duration(Duration { months, nanoseconds }))
}
