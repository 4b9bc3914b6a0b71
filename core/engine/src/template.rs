//! Datetime templates (ISO/IEC 9075-2, 9.46): `DD.MM.YYYY HH24:MI:SS` reads a text written so.

use chrono::{NaiveDate, NaiveDateTime};

const MONTHS: [&str; 12] =
    ["JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC"];

/// Elements, the longer before those they begin with.
const ELEMENTS: [(&str, Element); 13] = [
    ("YYYY", Element::Year),
    ("RR", Element::ShortYear),
    ("MONTH", Element::MonthName),
    ("MON", Element::MonthName),
    ("MM", Element::Month),
    ("MI", Element::Minute),
    ("DD", Element::Day),
    ("HH24", Element::Hour),
    ("HH12", Element::HalfDayHour),
    ("SS", Element::Second),
    ("FF", Element::Fraction),
    ("AM", Element::HalfDay),
    ("PM", Element::HalfDay),
];

#[derive(Clone, Copy, Debug, PartialEq)]
enum Element {
    Year,
    ShortYear,
    Month,
    MonthName,
    Day,
    Hour,
    HalfDayHour,
    Minute,
    Second,
    Fraction,
    HalfDay,
    Literal(char),
}

fn elements(template: &str) -> Result<Vec<Element>, String> {
    let mut found = vec![];
    let mut rest = template;
    'next: while let Some(first) = rest.chars().next() {
        for (text, element) in ELEMENTS {
            if rest.get(..text.len()).is_some_and(|head| head.eq_ignore_ascii_case(text)) {
                found.push(element);
                rest = &rest[text.len()..];
                continue 'next;
            }
        }
        if first.is_alphanumeric() && first != 'T' && first != 't' {
            return Err(format!(
                "the pattern '{template}' has '{first}', which stands for nothing; it knows YYYY, RR, MM, MON, DD, HH24, HH12, MI, SS, FF, AM"
            ));
        }
        found.push(Element::Literal(first));
        rest = &rest[first.len_utf8()..];
    }
    Ok(found)
}

/// The number at the front of `rest`, of at most `most` digits.
fn number(rest: &mut &str, most: usize) -> Option<u32> {
    let digits = rest.bytes().take(most).take_while(u8::is_ascii_digit).count();
    let (head, tail) = rest.split_at(digits);
    *rest = tail;
    head.parse().ok()
}

/// Reads `text` as the template says; parts that the template lacks are the first of January and midnight.
pub fn read_by_template(text: &str, template: &str) -> Result<NaiveDateTime, String> {
    let elements = elements(template)?;
    let wrong = || format!("'{text}' is not written as {template}");
    let (mut year, mut month, mut day) = (None, 1, 1);
    let (mut hour, mut minute, mut second, mut nanosecond) = (0, 0, 0, 0);
    let mut afternoon = None;
    let mut rest = text.trim();
    for element in elements {
        match element {
            Element::Year => {
                let before = rest.len();
                year = Some(number(&mut rest, 4).filter(|_| before - rest.len() == 4).ok_or_else(wrong)?);
            }
            // Nearest to the present century: 69 is 1969, 68 is 2068, as most systems have it.
            Element::ShortYear => {
                let short = number(&mut rest, 2).ok_or_else(wrong)?;
                year = Some(if short < 69 { 2000 + short } else { 1900 + short });
            }
            Element::Month => month = number(&mut rest, 2).ok_or_else(wrong)?,
            Element::MonthName => {
                let length = rest.bytes().take_while(u8::is_ascii_alphabetic).count();
                let (head, tail) = rest.split_at(length);
                let named = |name: &str| head.len() >= 3 && head[..3].eq_ignore_ascii_case(name);
                month = MONTHS.iter().position(|name| named(name)).ok_or_else(wrong)? as u32 + 1;
                rest = tail;
            }
            Element::Day => day = number(&mut rest, 2).ok_or_else(wrong)?,
            Element::Hour => hour = number(&mut rest, 2).ok_or_else(wrong)?,
            Element::HalfDayHour => {
                hour = number(&mut rest, 2).filter(|h| (1..=12).contains(h)).ok_or_else(wrong)? % 12;
                afternoon = afternoon.or(Some(false));
            }
            Element::Minute => minute = number(&mut rest, 2).ok_or_else(wrong)?,
            Element::Second => second = number(&mut rest, 2).ok_or_else(wrong)?,
            Element::Fraction => {
                let before = rest.len();
                let value = number(&mut rest, 9).ok_or_else(wrong)?;
                nanosecond = value * 10u32.pow(9 - (before - rest.len()) as u32);
            }
            Element::HalfDay => {
                let half = rest.get(..2).ok_or_else(wrong)?;
                afternoon = Some(match () {
                    () if half.eq_ignore_ascii_case("pm") => true,
                    () if half.eq_ignore_ascii_case("am") => false,
                    () => return Err(wrong()),
                });
                rest = &rest[2..];
            }
            Element::Literal(c) => rest = rest.strip_prefix(c).ok_or_else(wrong)?,
        }
    }
    if !rest.is_empty() {
        return Err(wrong());
    }
    if afternoon == Some(true) {
        hour += 12;
    }
    let year = year.ok_or_else(|| format!("the pattern '{template}' has no year"))?;
    NaiveDate::from_ymd_opt(year as i32, month, day)
        .and_then(|date| date.and_hms_nano_opt(hour, minute, second, nanosecond))
        .ok_or_else(|| format!("'{text}' is no date that exists"))
}

/// An error where no text can be read so.
pub fn check_template(template: &str) -> Result<(), String> {
    let elements = elements(template)?;
    let has_year = elements.iter().any(|e| matches!(e, Element::Year | Element::ShortYear));
    if has_year { Ok(()) } else { Err(format!("the pattern '{template}' has no year")) }
}
