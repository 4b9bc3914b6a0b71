//! A column while its values go by: each is looked at once, and what all of them are is known at the end.

use std::collections::BTreeMap;
use std::hash::BuildHasher;

use chrono::NaiveDate;
use graphodrome_graph::{ValueType, parse_text};
use hashbrown::{DefaultHashBuilder, HashMap, HashSet};

use super::column::{ColumnProfile, SeenKind};
use crate::mapping::DateOrder;

/// Texts that often stand for "no value".
const NULL_WORDS: [&str; 9] = ["null", "n/a", "na", "none", "nil", "-", "--", "?", "unknown"];

/// A column while its values go by.
#[derive(Default)]
pub(super) struct Watching {
    pub rows: u64,
    pub empty: u64,
    values: HashSet<u64>,
    capped: bool,
    words: BTreeMap<String, u64>,
    filled: u64,
    wholes: u64,
    leading_zero: bool,
    decimals: u64,
    digits: u32,
    scale: u32,
    scales: HashSet<u32>,
    exponents: bool,
    bools: u64,
    yes_no: u64,
    dates: u64,
    local: u64,
    zoned: u64,
    /// 31.12.2024, 12/31/2024: which of the first two numbers was over 12.
    slashed: u64,
    first_over_12: bool,
    second_over_12: bool,
    /// One of them is no date in either order, or its year has two digits.
    no_date: bool,
    too_large: bool,
    examples: Vec<String>,
    /// Hashes of the sampled values, to their numbers.
    codes: HashMap<u64, u32>,
}

fn is_date(text: &str) -> bool {
    text.len() == 10 && text.as_bytes()[4] == b'-' && text.parse::<NaiveDate>().is_ok()
}

/// The first two of three numbers with dots, slashes or dashes between them, the third a year.
fn slashed(text: &str) -> Option<(u32, u32, u32)> {
    let separator = ['/', '.', '-'].into_iter().find(|s| text.matches(*s).count() == 2)?;
    let parts: Vec<u32> = text.split(separator).filter_map(|p| p.parse().ok()).collect();
    match parts[..] {
        [a, b, year] if a <= 31 && b <= 31 && (year > 99 || text.len() <= 8) => Some((a, b, year)),
        _ => None,
    }
}

impl Watching {
    /// `most` distinct values are counted exactly.
    pub fn see(
        &mut self, value: Option<&str>, state: &DefaultHashBuilder, most: usize,
        sample: Option<&mut Vec<u32>>,
    ) {
        self.rows += 1;
        let Some(text) = value.filter(|text| !text.is_empty()) else {
            self.empty += 1;
            if let Some(sample) = sample {
                sample.push(0);
            }
            return;
        };
        let hash = state.hash_one(text);
        if let Some(sample) = sample {
            let next = self.codes.len() as u32 + 1;
            sample.push(*self.codes.entry(hash).or_insert(next));
        }
        if self.values.len() < most {
            if self.values.insert(hash) && self.examples.len() < 3 {
                self.examples.push(text.chars().take(40).collect());
            }
        } else {
            self.capped = true;
        }
        let word = !text.as_bytes()[0].is_ascii_digit() && text.len() <= 7;
        if word && NULL_WORDS.contains(&text.to_lowercase().as_str()) {
            *self.words.entry(text.to_string()).or_default() += 1;
            return;
        }
        self.filled += 1;
        let bytes = text.as_bytes();
        let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
        if !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) {
            self.wholes += 1;
            self.leading_zero |= digits.len() > 1 && digits.starts_with('0');
            self.too_large |= text.parse::<i64>().is_err();
            self.digits = self.digits.max(digits.len() as u32);
        } else if let Some((whole, fraction)) = digits.split_once('.')
            && [whole, fraction].iter().all(|part| part.bytes().all(|b| b.is_ascii_digit()))
            && !(whole.is_empty() || fraction.is_empty())
        {
            self.decimals += 1;
            self.leading_zero |= whole.len() > 1 && whole.starts_with('0');
            self.digits = self.digits.max(whole.len() as u32);
            self.scale = self.scale.max(fraction.len() as u32);
            self.scales.insert(fraction.len() as u32);
        } else if bytes[0].is_ascii_digit() || bytes[0] == b'-' {
            if text.bytes().all(|b| matches!(b, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E'))
                && text.parse::<f64>().is_ok_and(f64::is_finite)
            {
                self.decimals += 1;
                self.exponents = true;
            } else if is_date(text) {
                self.dates += 1;
            } else if let Some((first, second, year)) = slashed(text) {
                self.slashed += 1;
                let order = if first > 12 { DateOrder::DayFirst } else { DateOrder::MonthFirst };
                self.no_date |= year < 1000 || order.read(text).is_none();
                self.first_over_12 |= first > 12;
                self.second_over_12 |= second > 12;
            } else if parse_text(&ValueType::ZonedDateTime, text).is_ok() {
                self.zoned += 1;
            } else if parse_text(&ValueType::LocalDateTime, text).is_ok() {
                self.local += 1;
            }
        } else {
            match text {
                "true" | "false" | "TRUE" | "FALSE" | "True" | "False" => self.bools += 1,
                "yes" | "no" | "Yes" | "No" | "YES" | "NO" | "Y" | "N" | "y" | "n" => self.yes_no += 1,
                _ => {}
            }
        }
    }

    /// The order of dates such as 31.12.2024, where one of them decides it for all.
    fn order(&self) -> Option<DateOrder> {
        if self.slashed != self.filled || self.no_date {
            return None;
        }
        match (self.first_over_12, self.second_over_12) {
            (true, false) => Some(DateOrder::DayFirst),
            (false, true) => Some(DateOrder::MonthFirst),
            _ => None,
        }
    }

    pub fn finish(self, name: String) -> ColumnProfile {
        let mut remark = None;
        let mut date_order = None;
        let filled = self.filled;
        let kind = if filled == 0 {
            SeenKind::Nothing
        } else if self.wholes == filled && !self.leading_zero && !self.too_large {
            SeenKind::Whole
        } else if self.wholes + self.decimals == filled && !self.leading_zero && !self.too_large {
            let fixed = self.wholes == 0 && self.scales.len() == 1 && self.scale == 2 && !self.exponents;
            SeenKind::Decimal { digits: self.digits + self.scale, scale: self.scale, fixed }
        } else if self.bools == filled {
            SeenKind::Bool
        } else if self.dates == filled {
            SeenKind::Date
        } else if let Some(order) = self.order() {
            date_order = Some(order);
            SeenKind::Date
        } else if self.local == filled {
            SeenKind::LocalDateTime
        } else if self.zoned == filled {
            SeenKind::ZonedDateTime
        } else {
            SeenKind::Text
        };
        if kind == SeenKind::Text {
            if self.wholes + self.decimals == filled && self.leading_zero {
                remark = Some("numbers with leading zeros: kept as text".to_string());
            } else if self.wholes == filled && self.too_large {
                remark = Some("whole numbers too large for INT64: kept as text".into());
            } else if self.slashed == filled {
                remark = Some(match (self.first_over_12, self.second_over_12) {
                    (true, true) => "dates of which some can only be day first and some only month first: kept as text".into(),
                    (false, false) if !self.no_date => "dates that could be day first or month first: nothing here decides it, so they are kept as text. Which is it? Write date_order = \"day-first\" or \"month-first\" under the table, and DATE in the model".into(),
                    _ => "dates with years of two digits: kept as text, write them as YYYY-MM-DD to load them as DATE".into(),
                });
            } else if self.yes_no == filled {
                remark = Some("yes and no: kept as text; BOOL takes true and false".into());
            }
        }
        let typed = !matches!(kind, SeenKind::Text | SeenKind::Nothing);
        let words: u64 = self.words.values().sum();
        let null_words: Vec<String> = if typed { self.words.keys().cloned().collect() } else { vec![] };
        let nulls = self.empty + if typed { words } else { 0 };
        if kind == SeenKind::Text && words > 0 && remark.is_none() {
            let shown: Vec<&str> = self.words.keys().map(String::as_str).collect();
            remark =
                Some(format!("{words} rows say {}: add it to null if that means no value", shown.join(", ")));
        }
        let kind = if kind == SeenKind::Nothing && words > 0 { SeenKind::Text } else { kind };
        ColumnProfile {
            name,
            rows: self.rows,
            nulls,
            values: self.values,
            capped: self.capped,
            kind,
            null_words,
            words: self.words,
            date_order,
            remark,
            examples: self.examples,
        }
    }
}
