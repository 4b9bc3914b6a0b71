//! Parses text from outside (a CSV field, a CAST) into a typed value. Parsing is strict: a wrong text is an error
//! and never 0.

use chrono::{DateTime, FixedOffset, NaiveDate, NaiveDateTime, NaiveTime};

use crate::{Decimal, Duration, Value, ValueType, Zone};

/// Reads `text` as a value of `wanted`. The error is a reason that completes the sentence
/// "'...' is not a valid DATE: ...".
pub fn parse_text(wanted: &ValueType, text: &str) -> Result<Value, String> {
    let value = match wanted {
        ValueType::Any | ValueType::Text { .. } => Value::text(text),
        ValueType::Bool => match text {
            "true" | "TRUE" | "True" => Value::Bool(true),
            "false" | "FALSE" | "False" => Value::Bool(false),
            _ => return Err("write true or false".into()),
        },
        ValueType::Int(_) | ValueType::Uint(_) => Value::Int(parse_int(text)?),
        ValueType::Float(_) => Value::Float(parse_float(text)?),
        ValueType::Decimal { .. } => Value::Decimal(text.parse::<Decimal>().map_err(|e| e.to_string())?),
        ValueType::Bytes { .. } => Value::Bytes(parse_hex(text)?.into()),
        ValueType::Date => Value::Date(parse_date(text)?),
        ValueType::LocalTime => Value::LocalTime(parse_time(text)?),
        ValueType::ZonedTime => {
            let split = text.rfind(['+', '-', 'Z']).ok_or("the zone offset is missing")?;
            Value::ZonedTime(parse_time(&text[..split])?, parse_offset(&text[split..])?)
        }
        ValueType::LocalDateTime => Value::LocalDateTime(parse_date_time(text)?),
        ValueType::ZonedDateTime => Value::ZonedDateTime(parse_zoned(text)?),
        ValueType::Duration | ValueType::MonthDuration | ValueType::TimeDuration => {
            Value::Duration(parse_duration(text)?)
        }
        // The first that the text can be read as, in the order they are written.
        ValueType::OneOf(types) => {
            let read = types.iter().filter_map(|t| parse_text(t, text).ok().filter(|v| t.accepts(v)));
            read.into_iter().next().ok_or_else(|| format!("it is none of {wanted}"))?
        }
        ValueType::List(_) | ValueType::LimitedList { .. } | ValueType::Record | ValueType::Fields(_) => {
            return Err(format!("text cannot be read as {wanted}"));
        }
    };
    if wanted.accepts(&value) {
        Ok(value)
    } else {
        Err(match wanted {
            ValueType::Text { .. } => format!("its length is {} characters", text.chars().count()),
            _ => "it is out of range".into(),
        })
    }
}

/// A whole number of at most 18 digits, as most are: it cannot overflow. `None` where `text` is
/// anything else.
#[inline]
pub fn parse_whole(text: &str) -> Option<i64> {
    let digits = text.strip_prefix('-').unwrap_or(text).as_bytes();
    if digits.is_empty() || digits.len() > 18 {
        return None;
    }
    let mut number = 0i64;
    for byte in digits {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        number = number * 10 + digit as i64;
    }
    Some(if digits.len() < text.len() { -number } else { number })
}

/// A decimal number of at most 15 digits without an exponent, as most are: the digits and the power of ten
/// are exact, so that their quotient is the nearest number. `None` where `text` is anything else.
fn parse_short_float(text: &str) -> Option<f64> {
    const POWERS: [f64; 16] =
        [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15];
    let digits = text.strip_prefix('-').unwrap_or(text).as_bytes();
    let (mut number, mut count, mut point) = (0u64, 0, None);
    if digits.len() > 16 {
        return None;
    }
    for (at, byte) in digits.iter().enumerate() {
        let digit = byte.wrapping_sub(b'0');
        if digit <= 9 {
            number = number * 10 + digit as u64;
            count += 1;
        } else if *byte == b'.' && point.is_none() {
            point = Some(at);
        } else {
            return None;
        }
    }
    // A point stands between digits.
    let behind = point.map_or(0, |at| digits.len() - at - 1);
    if count == 0 || count > 15 || point.is_some() && (behind == 0 || behind == count) {
        return None;
    }
    let value = number as f64 / POWERS[behind];
    Some(if digits.len() < text.len() { -value } else { value })
}

/// The days from 1970-01-01 to a date written as 2024-05-31, from the year 1 on. `None` where `text` is no such
/// date.
#[inline]
pub fn parse_day(text: &[u8]) -> Option<i32> {
    let &[y0, y1, y2, y3, b'-', m0, m1, b'-', d0, d1] = text else { return None };
    let mut wrong = false;
    let mut number = |digits: &[u8]| {
        digits.iter().fold(0u32, |number, byte| {
            let digit = byte.wrapping_sub(b'0');
            wrong |= digit > 9;
            number * 10 + digit as u32
        })
    };
    let (year, month, day) = (number(&[y0, y1, y2, y3]), number(&[m0, m1]), number(&[d0, d1]));
    let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let length = match month {
        2 => 28 + leap as u32,
        4 | 6 | 9 | 11 => 30,
        1..=12 => 31,
        _ => 0,
    };
    if wrong || year == 0 || day == 0 || day > length {
        return None;
    }
    // Years that begin in March have their extra day at the end.
    let (year, month) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    let before = 365 * year + year / 4 - year / 100 + year / 400;
    Some((before + (153 * month + 2) / 5 + day - 1) as i32 - 719_468)
}

fn parse_int(text: &str) -> Result<i64, String> {
    if let Some(number) = parse_whole(text) {
        return Ok(number);
    }
    use std::num::IntErrorKind::{NegOverflow, PosOverflow};
    text.parse::<i64>().map_err(|e| match e.kind() {
        PosOverflow | NegOverflow => "it is out of range".into(),
        _ => "it is not a whole number".into(),
    })
}

fn parse_float(text: &str) -> Result<f64, String> {
    if let Some(number) = parse_short_float(text) {
        return Ok(number);
    }
    // Rust also takes "inf", "nan" and "infinity"; from a table those are far likelier to be words.
    let numeric = text.bytes().all(|b| matches!(b, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E'));
    match text.parse::<f64>() {
        Ok(x) if numeric && x.is_finite() => Ok(x),
        Ok(_) if numeric => Err("it is out of range".into()),
        _ => Err("it is not a number".into()),
    }
}

fn parse_hex(text: &str) -> Result<Vec<u8>, String> {
    let digits = text.as_bytes();
    if !digits.len().is_multiple_of(2) || !digits.iter().all(u8::is_ascii_hexdigit) {
        return Err("write bytes as pairs of hexadecimal digits".into());
    }
    let digit = |b: u8| (b as char).to_digit(16).unwrap_or(0) as u8;
    Ok(digits.chunks(2).map(|pair| digit(pair[0]) << 4 | digit(pair[1])).collect())
}

/// `2024-05-31`; years beyond four digits have a sign, as ISO 8601 wants it: `+12024-05-31`.
fn parse_date(text: &str) -> Result<NaiveDate, String> {
    let shape = || "write it as year-month-day, as in 2024-05-31".to_string();
    let signed = text.starts_with(['+', '-']);
    let (before, day) = text.rsplit_once('-').ok_or_else(shape)?;
    let (year, month) = before.rsplit_once('-').ok_or_else(shape)?;
    let digits = |part: &str| part.bytes().all(|b| b.is_ascii_digit());
    let plain = if signed { &year[1.min(year.len())..] } else { year };
    let year_fits = if signed { (4..=6).contains(&plain.len()) } else { plain.len() == 4 };
    if !year_fits || month.len() != 2 || day.len() != 2 || !digits(plain) || !digits(month) || !digits(day) {
        return Err(shape());
    }
    let number = |part: &str| part.bytes().fold(0, |n, b| n * 10 + u32::from(b - b'0'));
    let year = number(plain) as i32 * if text.starts_with('-') { -1 } else { 1 };
    NaiveDate::from_ymd_opt(year, number(month), number(day)).ok_or_else(|| "there is no such day".into())
}

/// A minute has 60 seconds here: a leap second would be a moment of its own in comparisons and none in
/// differences.
fn without_leap_second<T: chrono::Timelike>(time: T) -> Result<T, String> {
    match time.nanosecond() < 1_000_000_000 {
        true => Ok(time),
        false => Err("a minute has the seconds 0 to 59".into()),
    }
}

fn parse_time(text: &str) -> Result<NaiveTime, String> {
    NaiveTime::parse_from_str(text, "%H:%M:%S%.f")
        .or_else(|_| NaiveTime::parse_from_str(text, "%H:%M"))
        .map_err(|_| "write it as 13:45:00".to_string())
        .and_then(without_leap_second)
}

fn parse_offset(text: &str) -> Result<i32, String> {
    let date_time = format!("2000-01-01T00:00:00{text}");
    DateTime::parse_from_rfc3339(&date_time)
        .map(|t| t.offset().local_minus_utc())
        .map_err(|_| "the zone offset must look like +01:00 or Z".into())
}

fn parse_date_time(text: &str) -> Result<NaiveDateTime, String> {
    let shape = || "write it as 2024-05-31T13:45:00".to_string();
    let (date, time) = text.split_once(['T', ' ']).ok_or_else(shape)?;
    let date = parse_date(date).map_err(|e| if e.starts_with("there") { e } else { shape() })?;
    let time = parse_time(time).map_err(|e| if e.starts_with("a minute") { e } else { shape() })?;
    Ok(date.and_time(time))
}

/// Up to the displacement a date and time, as they are read without one.
fn parse_with_displacement(text: &str) -> Option<Result<DateTime<FixedOffset>, String>> {
    let time = text.find(['T', ' '])?;
    let split = time + text[time..].find(['+', '-', 'Z', 'z'])?;
    let offset = FixedOffset::east_opt(parse_offset(&text[split..]).ok()?)?;
    let local = match parse_date_time(&text[..split]) {
        Ok(local) => local,
        Err(reason) if reason.starts_with("write") => return None,
        Err(reason) => return Some(Err(reason)),
    };
    let moment = local.and_local_timezone(offset).single();
    Some(moment.ok_or_else(|| "it is out of range".to_string()))
}

/// With a displacement, with a region in brackets (RFC 9557), or with both, which must agree.
fn parse_zoned(text: &str) -> Result<DateTime<FixedOffset>, String> {
    let Some((time, region)) = text.strip_suffix(']').and_then(|text| text.split_once('[')) else {
        let shape =
            "write it as 2024-05-31T13:45:00+01:00 or 2024-05-31T13:45:00[Europe/London]; the zone is needed";
        return parse_with_displacement(text).unwrap_or_else(|| Err(shape.into()));
    };
    let zone = Zone::parse(region).ok_or_else(|| format!("there is no time zone {region}"))?;
    if let Some(moment) = parse_with_displacement(time) {
        let moment = moment?;
        let there = zone.at(moment.to_utc());
        return match there.offset() == moment.offset() {
            true => Ok(moment),
            false => Err(format!("in {zone} the displacement was {} then", there.offset())),
        };
    }
    zone.moment_of(parse_date_time(time)?)
}

/// ISO 8601 duration: `P1Y2M3DT4H5M6.7S`, with a minus in front of all or of single parts.
fn parse_duration(text: &str) -> Result<Duration, String> {
    let bad = || "write it in ISO 8601, as in P1Y2M or P3DT12H".to_string();
    let too_long = || "it is out of range".to_string();
    let (sign, rest) = match text.strip_prefix('-') {
        Some(rest) => (-1i128, rest),
        None => (1, text),
    };
    let rest = rest.strip_prefix('P').ok_or_else(bad)?;
    let (date, time) = match rest.split_once('T') {
        Some((_, "")) => return Err(bad()),
        Some((date, time)) => (date, Some(time)),
        None => (rest, None),
    };
    if date.is_empty() && time.is_none() {
        return Err(bad());
    }
    let mut months = 0i128;
    let mut nanoseconds = 0i128;
    let fields = |text| duration_fields(text).ok_or_else(bad);
    let parts = fields(date)?
        .into_iter()
        .map(|f| (f, false))
        .chain(fields(time.unwrap_or(""))?.into_iter().map(|f| (f, true)));
    let mut last = 0;
    for ((number, unit), of_time) in parts {
        let (rank, per_unit) = match (unit, of_time) {
            ('Y', false) => (1, 12),
            ('M', false) => (2, 1),
            ('W', false) => (3, 7 * 86_400_000_000_000),
            ('D', false) => (4, 86_400_000_000_000),
            ('H', true) => (5, 3_600_000_000_000),
            ('M', true) => (6, 60_000_000_000),
            ('S', true) => (7, 1_000_000_000),
            _ => return Err(bad()),
        };
        // Each unit once, the largest first.
        if rank <= last {
            return Err(bad());
        }
        last = rank;
        let value: Decimal = number.parse().map_err(|_| bad())?;
        if rank <= 4 && !value.is_whole() {
            return Err(bad());
        }
        let part = Decimal::of(per_unit, 0).and_then(|unit| value.checked_mul(unit)).ok_or_else(too_long)?;
        let part = part.trunc().coefficient();
        let sum = if rank <= 2 { &mut months } else { &mut nanoseconds };
        *sum = sum.checked_add(part).ok_or_else(too_long)?;
    }
    Ok(Duration {
        months: i32::try_from(months * sign).map_err(|_| too_long())?,
        nanoseconds: i64::try_from(nanoseconds * sign).map_err(|_| too_long())?,
    })
}

fn duration_fields(text: &str) -> Option<Vec<(&str, char)>> {
    let mut fields = vec![];
    let mut start = 0;
    for (i, c) in text.char_indices() {
        if c.is_ascii_alphabetic() {
            fields.push((&text[start..i], c));
            start = i + 1;
        } else if !(c.is_ascii_digit() || c == '.' || c == '-' && i == start) {
            return None;
        }
    }
    (start == text.len()).then_some(fields)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    #[test]
    fn wrong_texts_are_refused_with_a_reason() {
        let cases = [
            (ValueType::Int(64), "seven", "it is not a whole number"),
            (ValueType::Int(64), "", "it is not a whole number"),
            (ValueType::Int(16), "40000", "it is out of range"),
            (ValueType::Int(64), "99999999999999999999", "it is out of range"),
            (ValueType::Float(64), "nan", "it is not a number"),
            (ValueType::Float(64), "1e999", "it is out of range"),
            (ValueType::Date, "2023-02-30", "there is no such day"),
            (ValueType::Date, "30/02/2023", "write it as year-month-day, as in 2024-05-31"),
            (ValueType::Bool, "yes", "write true or false"),
        ];
        for (wanted, text, reason) in cases {
            assert_eq!(parse_text(&wanted, text), Err(reason.to_string()), "{wanted} {text:?}");
        }
    }

    #[test]
    fn short_numbers_and_days_are_read_as_the_thorough_way_does() {
        for text in ["0", "-0", "12.5", "-3.25", "0.1", "999999999999999", "123456789.012345", "00.10", "1.0"]
        {
            let number = parse_short_float(text).unwrap();
            assert_eq!(number.to_bits(), text.parse::<f64>().unwrap().to_bits(), "{text}");
        }
        for text in ["", "-", ".", "5.", ".5", "1e3", "1.2.3", "+1", "1234567890123456", "0x1", " 1", "--1"] {
            assert_eq!(parse_short_float(text), None, "{text}");
        }
        let mut date = NaiveDate::from_ymd_opt(1, 1, 1).unwrap();
        while date < NaiveDate::from_ymd_opt(2500, 1, 1).unwrap() {
            assert_eq!(
                parse_day(date.format("%Y-%m-%d").to_string().as_bytes()),
                Some(ValueType::epoch_day(date)),
                "{date}"
            );
            date = date.succ_opt().unwrap();
        }
        for text in [
            "2023-02-29",
            "2023-00-10",
            "2023-13-01",
            "2023-04-31",
            "0000-01-01",
            "2023-1-01",
            "2023-01-0a",
            "20230101",
        ] {
            assert_eq!(parse_day(text.as_bytes()), None, "{text}");
        }
    }

    #[test]
    fn every_temporal_value_reads_back_what_it_prints() {
        let cases = [
            (ValueType::Date, "2024-02-29"),
            (ValueType::LocalTime, "13:45:10.500"),
            (ValueType::LocalDateTime, "2024-05-31T13:45:00"),
            (ValueType::ZonedDateTime, "2024-05-31T13:45:00+01:00"),
            (ValueType::ZonedTime, "13:45:00+02:00"),
            (ValueType::Duration, "P1Y2M"),
            (ValueType::Duration, "P3DT12H30M"),
            (ValueType::Duration, "-P1Y2M3DT4H5M6.7S"),
            (ValueType::Duration, "P1M-2DT-0.5S"),
            (ValueType::Duration, "-P106751DT23H47M16.854775808S"),
            (ValueType::Date, "+12024-02-29"),
            (ValueType::Date, "-0044-03-15"),
            (ValueType::LocalDateTime, "+12024-05-31T13:45:00"),
            (ValueType::ZonedDateTime, "+12024-05-31T13:45:00+01:00"),
        ];
        for (wanted, text) in cases {
            let value = parse_text(&wanted, text).unwrap_or_else(|e| panic!("{text}: {e}"));
            assert_eq!(value.to_string(), text);
        }
    }

    #[test]
    fn seconds_of_a_minute_and_parts_of_a_duration_are_checked() {
        for (wanted, text) in [
            (ValueType::LocalTime, "23:59:60"),
            (ValueType::ZonedTime, "23:59:60Z"),
            (ValueType::LocalDateTime, "2016-12-31T23:59:60"),
            (ValueType::ZonedDateTime, "2016-12-31T23:59:60Z"),
        ] {
            assert_eq!(parse_text(&wanted, text), Err("a minute has the seconds 0 to 59".into()), "{text}");
        }
        for wrong in ["P", "PT", "P1", "P1D1D", "P1H", "PT1D", "P1.5D", "P--1D", "1D", "P1DT", "P1M1Y"] {
            assert!(parse_text(&ValueType::Duration, wrong).is_err(), "{wrong}");
        }
    }
}
