//! Time zones: displacements from UTC, and regions of the IANA time zone database with their changes between
//! standard and summer time.

use std::fmt;

use chrono::{DateTime, FixedOffset, LocalResult, NaiveDateTime, TimeZone, Utc};
use chrono_tz::Tz;

#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Zone {
    Displacement(FixedOffset),
    Region(Tz),
}

impl Default for Zone {
    fn default() -> Zone {
        Zone::Region(Tz::UTC)
    }
}

impl Zone {
    /// `+01:00`, `-0530`, `Z`, or the name of a region such as `Europe/London`.
    pub fn parse(text: &str) -> Option<Zone> {
        let text = text.trim();
        if text.eq_ignore_ascii_case("z") {
            return Some(Zone::default());
        }
        let sign = match text.chars().next()? {
            '+' => 1,
            '-' => -1,
            _ => return text.parse().ok().map(Zone::Region),
        };
        let digits: String = text[1..].chars().filter(|c| *c != ':').collect();
        if digits.len() != 4 || !digits.bytes().all(|b| b.is_ascii_digit()) {
            return None;
        }
        let (hours, minutes): (i32, i32) = (digits[..2].parse().ok()?, digits[2..].parse().ok()?);
        let fits = hours <= 14 && minutes < 60;
        let seconds = sign * (hours * 3600 + minutes * 60);
        fits.then(|| FixedOffset::east_opt(seconds).map(Zone::Displacement)).flatten()
    }

    /// A moment as this zone's clocks show it.
    pub fn at(&self, moment: DateTime<Utc>) -> DateTime<FixedOffset> {
        match self {
            Zone::Displacement(offset) => moment.with_timezone(offset),
            Zone::Region(region) => moment.with_timezone(region).fixed_offset(),
        }
    }

    /// The moment at which this zone's clocks show a time. Where they never do, since they went forward over it,
    /// or twice, since they went back, there is no guess.
    pub fn moment_of(&self, time: NaiveDateTime) -> Result<DateTime<FixedOffset>, String> {
        let found = match self {
            Zone::Displacement(offset) => offset.from_local_datetime(&time),
            Zone::Region(region) => match region.from_local_datetime(&time) {
                LocalResult::Single(moment) => LocalResult::Single(moment.fixed_offset()),
                LocalResult::Ambiguous(a, b) => LocalResult::Ambiguous(a.fixed_offset(), b.fixed_offset()),
                LocalResult::None => LocalResult::None,
            },
        };
        match found {
            LocalResult::Single(moment) => Ok(moment),
            LocalResult::None => Err(format!("clocks in {self} never show {time}: they go forward over it")),
            LocalResult::Ambiguous(first, second) => Err(format!(
                "clocks in {self} show {time} twice: say which with {} or {}",
                first.offset(),
                second.offset()
            )),
        }
    }
}

impl fmt::Display for Zone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Zone::Displacement(offset) => offset.fmt(f),
            Zone::Region(region) => region.name().fmt(f),
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;

    fn time(text: &str) -> NaiveDateTime {
        NaiveDateTime::parse_from_str(text, "%Y-%m-%dT%H:%M").unwrap()
    }

    #[test]
    fn zones_are_displacements_or_regions() {
        for (text, shown) in
            [("+01:00", "+01:00"), ("-0530", "-05:30"), ("z", "UTC"), ("Europe/London", "Europe/London")]
        {
            assert_eq!(Zone::parse(text).unwrap().to_string(), shown);
        }
        for text in ["", "+1", "+15:00", "+01:60", "Mars/Base", "+ab:cd"] {
            assert_eq!(Zone::parse(text), None, "{text}");
        }
    }

    #[test]
    fn a_regions_clocks_change() {
        let london = Zone::parse("Europe/London").unwrap();
        let shown = |text: &str| london.moment_of(time(text)).map(|t| t.to_rfc3339());
        assert_eq!(shown("2024-03-30T12:00").unwrap(), "2024-03-30T12:00:00+00:00");
        assert_eq!(shown("2024-03-31T12:00").unwrap(), "2024-03-31T12:00:00+01:00");
        assert!(shown("2024-03-31T01:30").unwrap_err().contains("go forward"));
        assert!(shown("2024-10-27T01:30").unwrap_err().contains("+01:00 or +00:00"));
    }
}
