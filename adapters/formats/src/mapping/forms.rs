//! Options of a mapping: formats, compression, encodings, parts of dates, and limits on rejects.

use std::fmt;

use chrono::NaiveDate;
use serde::de::{self, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// How many rejects a load may have: a count, or a share of the rows such as "1%".
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum RejectLimit {
    Count(u64),
    /// 0 to 1, of every rule's rows taken together.
    Share(f64),
}

impl RejectLimit {
    pub fn allows(self, rejects: u64, rows: u64) -> bool {
        match self {
            RejectLimit::Count(most) => rejects <= most,
            RejectLimit::Share(share) => rejects as f64 <= rows as f64 * share,
        }
    }
}

impl fmt::Display for RejectLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RejectLimit::Count(most) => write!(f, "{most}"),
            // Without the noise of the division: 0.1% is not 0.1000000001%.
            RejectLimit::Share(share) => write!(f, "{}%", (share * 1e8).round() / 1e6),
        }
    }
}

impl Serialize for RejectLimit {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            RejectLimit::Count(most) => serializer.serialize_u64(*most),
            share => serializer.serialize_str(&share.to_string()),
        }
    }
}

impl<'de> Deserialize<'de> for RejectLimit {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Limit;
        impl Visitor<'_> for Limit {
            type Value = RejectLimit;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a number of rejects, or a share of the rows such as \"1%\"")
            }

            fn visit_u64<E: de::Error>(self, most: u64) -> Result<RejectLimit, E> {
                Ok(RejectLimit::Count(most))
            }

            fn visit_i64<E: de::Error>(self, most: i64) -> Result<RejectLimit, E> {
                let most = u64::try_from(most);
                most.map(RejectLimit::Count).map_err(|_| E::custom("a number of rejects is not negative"))
            }

            fn visit_str<E: de::Error>(self, text: &str) -> Result<RejectLimit, E> {
                let share = text.strip_suffix('%').and_then(|t| t.trim().parse::<f64>().ok());
                match share {
                    Some(percent) if (0.0..=100.0).contains(&percent) => {
                        Ok(RejectLimit::Share(percent / 100.0))
                    }
                    _ => Err(E::invalid_value(de::Unexpected::Str(text), &self)),
                }
            }
        }
        deserializer.deserialize_any(Limit)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum TableFormat {
    Csv,
    Tsv,
    /// JSON Lines: an object a line.
    Jsonl,
    /// One array of objects.
    Json,
    Parquet,
    /// Arrow IPC, file or stream.
    Arrow,
    GraphMl,
    /// N-Quads, and N-Triples, which are N-Quads without a fourth term.
    NQuads,
}

impl TableFormat {
    pub const NAMES: &'static str = "csv, tsv, jsonl, json, parquet, arrow, graphml, nquads";

    /// By a file's suffix, a compression's left out.
    pub fn of_name(name: &str) -> Option<TableFormat> {
        let name = Compression::strip(name);
        match name.rsplit('.').next()?.to_ascii_lowercase().as_str() {
            "csv" => Some(TableFormat::Csv),
            "tsv" | "tab" => Some(TableFormat::Tsv),
            "jsonl" | "ndjson" => Some(TableFormat::Jsonl),
            "json" => Some(TableFormat::Json),
            "parquet" => Some(TableFormat::Parquet),
            "arrow" | "arrows" | "feather" => Some(TableFormat::Arrow),
            "graphml" => Some(TableFormat::GraphMl),
            "nq" | "nt" => Some(TableFormat::NQuads),
            _ => None,
        }
    }

    /// Whether a file of it holds nodes and edges apart, so that a table says which it reads.
    pub fn has_parts(self) -> bool {
        matches!(self, TableFormat::GraphMl | TableFormat::NQuads)
    }
}

/// Compression of a file, known by its suffix.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Compression {
    None,
    Gzip,
    Zstandard,
}

impl Compression {
    pub fn of_name(name: &str) -> Compression {
        match name.rsplit('.').next() {
            Some(suffix) if suffix.eq_ignore_ascii_case("gz") => Compression::Gzip,
            Some(suffix) if suffix.eq_ignore_ascii_case("zst") => Compression::Zstandard,
            _ => Compression::None,
        }
    }

    fn strip(name: &str) -> &str {
        match Compression::of_name(name) {
            Compression::None => name,
            _ => name.rsplit_once('.').map_or(name, |(head, _)| head),
        }
    }
}

/// How a text file's bytes stand for characters.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Encoding {
    #[default]
    #[serde(rename = "utf-8")]
    Utf8,
    /// The byte order by the mark at the beginning; little-endian without one.
    #[serde(rename = "utf-16")]
    Utf16,
    #[serde(rename = "utf-16le")]
    Utf16Le,
    #[serde(rename = "utf-16be")]
    Utf16Be,
    #[serde(rename = "windows-1252")]
    Windows1252,
}

/// Which elements of a file that holds both a table reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Part {
    Nodes,
    Edges,
}

/// Which of a date's first two numbers is the day. The third is the year, in four digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum DateOrder {
    DayFirst,
    MonthFirst,
}

impl DateOrder {
    pub fn name(self) -> &'static str {
        match self {
            DateOrder::DayFirst => "day-first",
            DateOrder::MonthFirst => "month-first",
        }
    }

    /// The date, where the text is written so.
    pub fn read(self, text: &str) -> Option<NaiveDate> {
        let separator = ['.', '/', '-'].into_iter().find(|s| text.matches(*s).count() == 2)?;
        let mut parts = text.split(separator);
        let (first, second, year) = (parts.next()?, parts.next()?, parts.next()?);
        let plain = |part: &str, most: usize| {
            (1..=most).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_digit())
        };
        if !plain(first, 2) || !plain(second, 2) || year.len() != 4 || !plain(year, 4) {
            return None;
        }
        let (first, second): (u32, u32) = (first.parse().ok()?, second.parse().ok()?);
        let (day, month) = if self == DateOrder::DayFirst { (first, second) } else { (second, first) };
        NaiveDate::from_ymd_opt(year.parse().ok()?, month, day)
    }
}
